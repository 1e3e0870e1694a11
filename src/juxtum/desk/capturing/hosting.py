"""Starts stand-ins for the desk: as processes of their own, or within it where that is wanted."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

from juxtum.demo.bodies import body_for
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.session import Session
from juxtum.devices.body import Body
from juxtum.devices.kinds import DeviceKind, make_stand_in
from juxtum.devices.link import DeviceProcess, DirectLink, SocketLink, parse_address
from juxtum.devices.standin import StandIn
from juxtum.instruments.models import Kind
from juxtum.job import Job, save_job
from juxtum.plan.planner import Planner

Connect = Callable[[], Connection]
ANSWERS_WITHIN = 5.0
"""Seconds; nobody waits longer for a device that should be running."""


def scanner_of(planner: Planner) -> DeviceKind:
    """The kind of the plan's scanner."""
    return DeviceKind.TRACKED if planner.model.kind is Kind.TRACKED else DeviceKind.HANDHELD


class Hosting:
    """Knows how to bring a device up.

    Parameters
    ----------
    session : Session
        Its settings say `devices/within` when stand-ins shall run within the desk.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self.body: Body | None = None
        """What stands before a stand-in that runs within the desk: the truth of an exercise."""
        self.seed = 1
        self.address, self.token = str(session.settings.value("devices/address", "") or ""), ""
        """Of a scanner that is not a stand-in of this machine: where it listens, and what it wants to hear first."""

    @property
    def is_within(self) -> bool:
        """Whether stand-ins run within the desk."""
        return bool(self._session.settings.value("devices/within", False, type=bool))

    def for_scanner(self, job: Job, planner: Planner) -> Connect:
        """How to connect to the scanner of the plan: at its address, or a stand-in where none is given."""
        if self.address:
            host, port = parse_address(self.address)
            return lambda: Connection(SocketLink(port, self.token or None, ANSWERS_WITHIN, host))
        return self.for_kind(scanner_of(planner), job, planner)

    def use_address(self, address: str, token: str) -> None:
        """Where the scanner listens; nothing for a stand-in. The token is not written down."""
        self.address, self.token = address.strip(), token.strip()
        self._session.settings.setValue("devices/address", self.address)

    def for_kind(self, kind: DeviceKind, job: Job, planner: Planner) -> Connect:
        """How to connect to a device of a kind: of stand-ins to one before the part that the job's capture is of."""
        if job.capture is not None and job.capture.seed is not None:
            self.seed = job.capture.seed
        if self.is_within:
            return lambda: Connection(DirectLink(self.within(kind, job, planner)))
        folder, seed, files = self._place(), self.seed, self._session.files
        # Only what the stand-in needs: the part and where its targets are stuck.
        lean = job.with_scan(None).model_copy(update={"capture": None, "plan": planner.plan})

        def connect() -> Connection:
            path = folder / f"{kind}.juxtum"
            save_job(lean, path, files)
            process = DeviceProcess(kind.value, ["--part", str(path), "--seed", str(seed)])
            try:
                return Connection(process.connect(), process)
            except Exception:
                process.stop()
                raise

        return connect

    def within(
        self, kind: DeviceKind, job: Job, planner: Planner, change: Callable[[Body], Body] | None = None
    ) -> StandIn:
        """A stand-in within the desk, and the body before it."""
        body = body_for(job.nominal, planner.nominal, planner.plan, self.seed)
        self.body = change(body) if change is not None else body
        return make_stand_in(kind, self.body, planner, self.seed)

    def _place(self) -> Path:
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="juxtum-devices-")
        return Path(self._folder.name)

    def close(self) -> None:
        """Clean up."""
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
