"""Table: a structured-light head before its turntable, shot by shot."""

from __future__ import annotations

from collections.abc import Callable

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.resume import TURNED, check_device
from juxtum.capture.live.points import capture_memory
from juxtum.capture.live.snapshot import Snapshot, take_snapshot
from juxtum.capture.ways.turning import TurnRun, begin_turns
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.keeping import Keeper
from juxtum.desk.capturing.painting import skin_of
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.widgets import Facts, button, label, row
from juxtum.devices.kinds import DeviceKind
from juxtum.devices.link import ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.surface import EXPOSURES, USUAL
from juxtum.errors import Cancelled, JuxtumError
from juxtum.guide.facts import thousands
from juxtum.guide.next_actions import NextAction
from juxtum.job import Job
from juxtum.plan.planner import Planner
from juxtum.progress import Progress
from juxtum.scene.capture_layers import Skin
from juxtum.wording import percent


class TablePanel(CapturePanel):
    """The planned turns, taken one by one; what they cover grows on the part."""

    def build(self) -> None:
        """The next shot large, then what the last one gave."""
        self.run: TurnRun | None = None
        self.exposure = USUAL
        self._connection: Connection | None = None
        self._keeper: Keeper | None = None
        self._skin: Skin | None = None
        self._shown: Snapshot | None = None
        self._word = label("No shot yet", "large", wrap=True)
        self._word.setAccessibleName("Next shot")
        self.body.addWidget(self._word)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Last shot in words")
        self.body.addWidget(self._words)
        self._next = button("Shoot", self.shoot, "primary", tip="Turn the table to the next stop and shoot")
        self._all = button("Shoot the whole turn", self.shoot_all, tip="All that are left as the part lies now")
        self._back = button("Discard the last", self.discard_last, tip="To take it again, with other light")
        self.body.addLayout(row(self._next, self._all))
        self._dim = button("\u2212", lambda: self._light(-1), tip="Half the light")
        self._dim.setAccessibleName("Less light for the head")
        self._bright = button("+", lambda: self._light(1), tip="Twice the light")
        self._bright.setAccessibleName("More light for the head")
        self._level = label(f"light {USUAL}", "mono")
        self.body.addLayout(row(self._dim, self._level, self._bright, self._back))
        self._facts = Facts("Turns")
        self.body.addWidget(self._facts)
        self._use = button(
            "Create surface from shots",
            self.station.scanner.use_capture,
            tip="One surface of all shots, without the table",
        )
        self._anew = button(
            "Start anew", self.station.scanner.start_anew, tip="Takes the capture out of the job; can be undone"
        )
        self.body.addLayout(row(self._use, self._anew))
        self._show()

    # -- shooting ---------------------------------------------------------------------------------------------

    def shoot(self) -> None:
        """The next planned shot."""
        self._work(lambda run, connection, progress: run.shoot(connection.link))

    def shoot_all(self) -> None:
        """What is left of the turn as the part lies."""
        self._work(lambda run, connection, progress: run.shoot_all(connection.link, progress))

    def discard_last(self) -> None:
        """The last shot goes."""
        if self.run is not None:
            self._work(lambda run, connection, progress: run.discard_last())

    def _work(self, what: Callable[[TurnRun, Connection, Progress], object]) -> None:
        """Do something with the run on a worker; what it brought is kept and shown, even when it fails or is cancelled half way."""
        station = self.station
        planner, job = station.planner, station.derived.job
        if planner is None:
            return
        try:
            if station.driver is not None:
                raise DeviceError("the scanner is still connected", "turntable", "Disconnect it first")
            check_device(job.capture, TURNED)
            if self.run is None and job.capture is not None and job.capture.patches:
                # Its shots cannot be gone on with: the table may have been touched since.
                raise DeviceError(
                    "the job holds a capture already", "turntable", "Start a new capture first; that can be undone"
                )
        except DeviceError as problem:
            station.session.failed.emit(problem)
            return

        def work(progress: Progress) -> tuple[CaptureRecord | None, JuxtumError | None]:
            run, connection = self._ready(planner, job, progress.part(0, 0.4))
            made, trouble = list[CaptureRecord](), None
            keeper = self._keeper_for(job.id, made)
            try:
                ask(connection.link, Message("exposure", {"level": self.exposure}), "done")
                what(run, connection, progress.part(0.4, 1.0))
            except Cancelled:
                pass
            except JuxtumError as problem:
                trouble = problem
                if problem.where == "connection":
                    connection.close()
                    self._connection = None
            keeper.keep(run.session)
            self._shown = take_snapshot(run.session, None)
            return made[-1] if made else None, trouble

        station.session.compute(work, self._have)

    def _ready(self, planner: Planner, job: Job, progress: Progress) -> tuple[TurnRun, Connection]:
        """The turns, planned once, and the head, brought up where it is not there or was lost."""
        if self.run is None:
            self.run = begin_turns(planner, capture_memory(), progress)
            self._skin = skin_of(self.run.session)
        if self._connection is None:
            progress.phase("bringing up the head", 0.9)
            self._connection = self.station.link.hosting.for_kind(DeviceKind.HEAD, job, planner)()
        return self.run, self._connection

    def _keeper_for(self, job: str, made: list[CaptureRecord]) -> Keeper:
        if self._keeper is None:
            self._keeper = Keeper(self.station.session.files, job, TURNED, lambda _: None)
            self._keeper.seed = self.station.link.hosting.seed
        self._keeper.tell(made.append)
        return self._keeper

    def _have(self, made: object) -> None:
        assert isinstance(made, tuple)
        record, trouble = made
        if record is not None:
            self.station.link.keep_record(record)
        self._show()
        self.station.dress()
        self.station.show_next()
        if trouble is not None:
            self.station.session.failed.emit(trouble)

    def _light(self, step: int) -> None:
        self.exposure = min(max(self.exposure + step, EXPOSURES[0]), EXPOSURES[-1])
        self._level.setText(f"light {self.exposure}")

    # -- showing ----------------------------------------------------------------------------------------------

    def _show(self) -> None:
        run, shown = self.run, self._shown
        stop = run.next_stop if run is not None else None
        if run is None:
            self._word.setText("No shot yet")
            self._words.setText("The table turns the part before the head; each shot is laid onto those before it.")
            self._facts.show_facts([])
        else:
            self._word.setText(_headline(run))
            self._words.setText(_sentences(run))
            self._facts.show_facts(self._rows(run, shown))
        self._next.setText("It lies that way: shoot" if run is not None and run.turns_over else "Shoot")
        self._next.setEnabled(run is None or stop is not None)
        self._all.setEnabled((run is None or stop is not None) and not (run is not None and run.turns_over))
        self._back.setEnabled(run is not None and bool(run.facts))
        record = self.station.derived.job.capture
        has = record is not None and bool(record.patches)
        self._use.setEnabled(has)
        self._anew.setEnabled(has and self.station.driver is None if hasattr(self.station, "panels") else False)

    def _rows(self, run: TurnRun, shown: Snapshot | None) -> list[tuple[str, str]]:
        facts = [("shots", f"{len(run.facts)} of {len(run.stops)}")]
        if run.facts:
            last = run.facts[-1]
            facts += [
                ("points of the last", thousands(last.points)),
                ("its overlap with the others", percent(last.overlap, 0) if last.overlap else "\u2013"),
            ]
            facts += [("apart there, RMS", f"{1000 * last.rms:.0f} \u00b5m" if last.rms else "\u2013")]
        if shown is not None:
            facts += [
                ("covered once", f"{percent(shown.one_pass, 0)} of {percent(run.plan.coverage, 0)}"),
                ("covered densely", percent(shown.coverage, 0)),
            ]
        loose = [str(f.patch) for f in run.facts if f.words != "good"]
        return facts + ([("look at shots", ", ".join(loose[:6]))] if loose else [])

    def next_action(self) -> NextAction | None:
        """Shoot, turn over, shoot; then the scan of it."""
        run = self.run
        record = self.station.derived.job.capture
        if run is not None and run.next_stop is None:
            return NextAction("make the scan of them", "all planned shots are taken", "use capture", "Make it")
        if run is None and record is not None and record.patches:
            return NextAction(
                "start a new capture", "the job holds one; starting anew can be undone", "new capture", "Start anew"
            )
        if run is not None and run.turns_over:
            return NextAction(
                "lay the part the next way",
                "what lay below is not seen from this side",
                "shoot turn",
                "It lies that way",
            )
        return NextAction(
            "shoot the whole turn",
            "the table turns by itself; each shot is laid onto those before it",
            "shoot whole turn",
            "Shoot",
        )

    def follow(self) -> None:
        """Shots go with the capture that they belong to."""
        if self.run is not None and self.station.derived.job.capture is None and self.run.facts:
            # Started anew, or undone: the shots went with the capture.
            self.close_all()

    def show_job(self) -> None:
        """The job changed."""
        self._show()

    def dress(self) -> None:
        """What the shots cover, on the part."""
        if self._shown is not None and self._skin is not None and self.station.driver is None:
            self.station.view.put("nominal", None)
            self.station.view.put("ghost", self.station.derived.part_surface)
            self.station.coverage.skin = self._skin
            self.station.coverage.draw_anew(self._shown)
            self.station.hand.snapshot = self._shown

    def close_all(self) -> None:
        """Let the head go."""
        if self._connection is not None:
            self._connection.close()
        self.run, self._connection, self._shown, self._skin, self._keeper = None, None, None, None, None
        self._show()


def _headline(run: TurnRun) -> str:
    """What is to be done, large."""
    if run.next_stop is None:
        return "All are taken"
    return "Lay the part the next way" if run.turns_over else f"Shot {len(run.facts) + 1} of {len(run.stops)}"


def _sentences(run: TurnRun) -> str:
    """What became of the last shot, and how the part lies for the next."""
    said = [f"The last shot: {run.facts[-1].words}."] if run.facts else []
    stop = run.next_stop
    if stop is not None:
        said.append(f"Next: the part {_laid(run.plan.tilts[stop.position])}, turned by {stop.degrees:.0f}\u00b0.")
    return " ".join(said)


def _laid(tilt: tuple[float, float]) -> str:
    """How the part is laid on the table, in words."""
    words = [
        f"{abs(angle):.0f}\u00b0 {'forward' if angle > 0 else 'back'} about {axis}"
        for angle, axis in zip(tilt, "XY", strict=True)
        if angle
    ]
    return "tilted " + ", then ".join(words) if words else "as it stands"
