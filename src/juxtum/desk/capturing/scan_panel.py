"""Scan: dial, live numbers, patches, refinement."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QLineEdit

from juxtum.capture.live.patch import State
from juxtum.capture.live.snapshot import SIMULATED, PatchRow, Snapshot
from juxtum.desk.capturing.dial import StandOffDial
from juxtum.desk.capturing.floor import clock
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.capturing.patches import PatchList
from juxtum.desk.capturing.sieving import Keeping
from juxtum.desk.capturing.tracker import TrackerControls
from juxtum.desk.capturing.watching import WatchBox
from juxtum.desk.widgets import Facts, LengthField, button, combo, form, label, line, row
from juxtum.guide.facts import thousands
from juxtum.wording import percent

MOST_LETTERS = 24
"""Of a device's name, so that the numbers below it keep their place."""
SPEEDS = (("real time", 1.0), ("four times", 4.0), ("as fast as it goes", 1e6))


class ScanPanel(CapturePanel):
    """The scanner in the hand."""

    def build(self) -> None:
        """Dial on top, then what it says, then what can be done."""
        self._build_live()
        self._build_scanner()
        self._build_patches()
        self._build_refinement()
        self.watched = WatchBox(self.station.desk)
        self.body.addWidget(line())
        self.body.addWidget(self.watched)
        self._enable(None)

    def _build_live(self) -> None:
        s = self.station
        self.dial = StandOffDial()
        self.body.addWidget(self.dial)
        self._why = label("", "soft", wrap=True)
        self._why.setAccessibleName("State in words")
        self.body.addWidget(self._why)
        self._facts = Facts("Live")
        self.body.addWidget(self._facts)
        self._address = QLineEdit(s.link.hosting.address)
        self._address.setAccessibleName("Scanner address")
        self._address.setPlaceholderText("stand-in, simulated")
        self._address.setToolTip(
            "machine:port of a scanner that speaks Juxtum's protocol (docs/devices.md); empty for a stand-in"
        )
        self._token = QLineEdit()
        self._token.setAccessibleName("Scanner token")
        self._token.setEchoMode(QLineEdit.EchoMode.Password)
        self._token.setPlaceholderText("none")
        self._token.setToolTip("What the scanner wants to hear first; it is not written down")
        for field in (self._address, self._token):
            field.editingFinished.connect(self._set_address)
        self.body.addLayout(form([("Scanner at", self._address), ("Token", self._token)]))
        self._connect = button(
            "Connect the scanner", s.link.connect_device, tip="At its address, or a stand-in as a process of its own"
        )
        self._drop = button("Disconnect", s.scanner.disconnect_device, tip="What was captured stays in the job")
        self.body.addLayout(row(self._connect, self._drop))
        self._hold = button(
            "Hold the scanner", s.scanner.hold_scanner, tip="H: the pointer leads it, the wheel brings it nearer"
        )
        self._plan = button("Let the plan run", s.scanner.run_plan, tip="Follow the planned poses, then fill gaps")
        self._hold.setCheckable(True)
        self._plan.setCheckable(True)
        self.body.addLayout(row(self._hold, self._plan))

    def _set_address(self) -> None:
        self.station.link.hosting.use_address(self._address.text(), self._token.text())

    def _build_scanner(self) -> None:
        s = self.station
        self._speed = combo("Speed")
        for text, value in SPEEDS:
            self._speed.addItem(text, value)
        self._speed.activated.connect(self._choose_speed)
        self._mode = combo("Scanner mode")
        self._mode.activated.connect(lambda _: self._choose_mode())
        self.body.addLayout(form([("Mode", self._mode), ("Speed", self._speed)]))
        self._dim = button("\u2212", lambda: s.scanner.change_exposure(-1), tip="Comma: half the light")
        self._dim.setAccessibleName("Less light")
        self._bright = button("+", lambda: s.scanner.change_exposure(1), tip="Full stop: twice the light")
        self._bright.setAccessibleName("More light")
        self._light = label("light 5", "mono")
        self._pause = button("Pause", s.scanner.pause, tip="Space")
        self.body.addLayout(row(self._dim, self._light, self._bright, self._pause))
        self.keeping = Keeping(s.scanner.use_sieve)
        self.body.addWidget(self.keeping)
        self._sound = QCheckBox("Tone: distance, few targets, done")
        self._sound.setAccessibleName("Tone")
        self._sound.toggled.connect(self._switch_sound)
        self.body.addWidget(self._sound)

    def _build_patches(self) -> None:
        s = self.station
        self.body.addWidget(line())
        self.body.addWidget(label("Patches", "heading"))
        self.patches = PatchList()
        self.body.addWidget(self.patches)
        self._new = button("New patch", s.scanner.new_patch, tip="Ctrl+Return; the one that runs is kept")
        self._stop = button("Stop", s.scanner.stop_patch, tip="The patch is kept")
        self._discard = button("Discard", self._discard_chosen, tip="The chosen patch, or the last one")
        self.body.addLayout(row(self._new, self._stop, self._discard))
        self._against = button(
            "Hold against the plan",
            s.scanner.hold_against,
            tip="Hatched: promised and not captured; light: captured beyond the promise",
        )
        self._against.setCheckable(True)
        self.body.addLayout(row(self._against))
        self._promise = label("", "soft", wrap=True)
        self._promise.setAccessibleName("Promise")
        self.body.addWidget(self._promise)
        self._turn = button("Turn the part over", s.scanner.turn_over)
        self.body.addLayout(row(self._turn))
        self.tracker = TrackerControls(s)
        self.body.addWidget(self.tracker)

    def _build_refinement(self) -> None:
        s = self.station
        self.body.addWidget(line())
        self.body.addWidget(label("Finer in one place", "heading"))
        self._radius = LengthField("Radius", 12.0, "Of the zone that is scanned again")
        self._fine = LengthField("Fine spacing", 0.5, "Between points in the zone")
        self.body.addLayout(form([("Radius, mm", self._radius), ("Spacing, mm", self._fine)]))
        self._refine = button(
            "Pick a zone",
            lambda: s.scanner.refine(self._radius.value, self._fine.value),
            tip="Its coarse points are erased",
        )
        self._stick = button("Stick a target", s.scanner.stick_target, tip="In mid-scan: it is found and joined")
        self.body.addLayout(row(self._refine, self._stick))
        self.body.addWidget(line())
        self._use = button(
            "Create surface from patches", s.scanner.use_capture, "primary", tip="One surface of all patches"
        )
        self.body.addLayout(row(self._use))

    def show_job(self) -> None:
        """Modes of the plan's scanner; what the job holds."""
        planner = self.station.planner
        names = [m.name for m in planner.model.modes] if planner is not None else []
        if [self._mode.itemText(k) for k in range(self._mode.count())] != names:
            self._mode.clear()
            self._mode.addItems(names)
        record = self.station.derived.job.capture
        if self.station.driver is None:
            facts = []
            if record is not None:
                facts = [
                    ("patches", str(len(record.patches))),
                    ("points", thousands(record.points)),
                    ("covered", percent(record.coverage, 0)),
                ]
                facts += [("covered once", percent(record.one_pass, 0)), ("time", clock(record.seconds))]
            self._facts.show_facts(facts)
            kept = record.patches if record is not None else ()
            self.patches.show_patches(tuple(PatchRow.of_kept(patch) for patch in kept))
            self._why.setText(
                "Kept in the job; connect the scanner to go on." if record is not None else "Nothing is captured yet."
            )
            self._enable(None)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Everything that changes while it runs."""
        self.dial.show_snapshot(snapshot)
        self._why.setText(snapshot.why[:1].upper() + snapshot.why[1:] + "." if snapshot.why else "\u00a0")
        missing = snapshot.view.name if snapshot.view is not None else "nothing"
        self._facts.show_facts(
            [
                ("scanner", SIMULATED if snapshot.device.endswith(SIMULATED) else snapshot.device[:MOST_LETTERS]),
                ("targets in view", f"{snapshot.targets}, needs {snapshot.needed}"),
                ("light", f"{snapshot.exposure_words}"),
                ("points a second", thousands(round(snapshot.rate, -2).__int__())),
                ("covered", f"{percent(snapshot.coverage, 0)} of {percent(snapshot.goal, 0)}"),
                ("covered once", percent(snapshot.one_pass, 0)),
                ("missing next", missing),
                ("time", f"{clock(snapshot.seconds)} of about {clock(snapshot.expected_seconds)}"),
                ("points, memory", f"{thousands(snapshot.points_taken)}, {snapshot.memory / 1e6:.0f} MB"),
            ]
        )
        self._light.setText(f"light {snapshot.exposure}")
        if not self._mode.view().isVisible():  # type: ignore[union-attr]
            self._mode.setCurrentText(snapshot.mode.name)
        self._pause.setText("Go on" if snapshot.state is State.PAUSED else "Pause")
        self.patches.show_patches(snapshot.patches)
        self.keeping.show_snapshot(snapshot)
        self.tracker.show_snapshot(snapshot)
        self._enable(snapshot)

    def show_promise(self, words: str) -> None:
        """How the plan's promise came out; nothing while it is not held against the capture."""
        self._promise.setText(words)
        self._against.setChecked(bool(words))

    def dress(self) -> None:
        """The tracker, where one follows the scanner."""
        self.tracker.draw()

    def _enable(self, snapshot: Snapshot | None) -> None:
        live = snapshot is not None and snapshot.state is not State.GONE
        is_real = snapshot is not None and not snapshot.device.endswith(SIMULATED)
        driver = self.station.driver
        self._connect.setText(
            "Connect again" if snapshot is not None and snapshot.state is State.GONE else "Connect the scanner"
        )
        self._connect.setEnabled(driver is None or not live)
        for each in (
            self._drop,
            self._hold,
            self._dim,
            self._bright,
            self._pause,
            self._new,
            self._stop,
            self._turn,
            self._against,
            self._stick,
            self._mode,
        ):
            each.setEnabled(live)
        self._plan.setEnabled((driver is None or live) and not is_real)
        # A real scanner is in a hand: nothing here moves it.
        self._hold.setEnabled(live and not is_real)
        self._stick.setEnabled(live and not is_real)
        for field in (self._address, self._token):
            field.setEnabled(driver is None)
        if hasattr(self.station, "panels"):
            self.tracker.show_job(live=live)
        self._refine.setEnabled(live and snapshot is not None and snapshot.is_recognised)
        self._discard.setEnabled(bool(snapshot is not None and snapshot.patches))
        self._hold.setChecked(self.station.hand.is_holding if hasattr(self.station, "hand") else False)
        self._plan.setChecked(driver is not None and driver.runs_by_itself)
        record = self.station.derived.job.capture
        self._use.setEnabled(
            bool((record is not None and record.patches) or (snapshot is not None and snapshot.points_taken))
        )

    def _choose_speed(self) -> None:
        if self.station.driver is not None:
            self.station.driver.speed = self._speed.currentData()

    @property
    def speed(self) -> float:
        """Times real time."""
        return float(self._speed.currentData())

    def _choose_mode(self) -> None:
        if self.station.driver is not None:
            self.station.driver.use_mode(self._mode.currentText())

    def _switch_sound(self, on: bool) -> None:
        self.station.speaker.is_on = on
        if not on:
            self.station.speaker.silence()

    def _discard_chosen(self) -> None:
        number = self.patches.chosen
        if number is not None:
            self.station.scanner.discard(number)
