"""What a job was given: files, each with the name that steps call it by and the part it plays."""

from __future__ import annotations

from enum import StrEnum

from pydantic import BaseModel, ConfigDict

from juxtum.evaluate.fields import Name
from juxtum.exchange.inputfile import InputFile

NOMINAL = "nominal"
SCAN = "scan"


class Role(StrEnum):
    """The part that an input plays."""

    NOMINAL = "nominal"
    SCAN = "scan"
    CLOUD = "cloud"
    TOUCHES = "touches"


class Input(BaseModel):
    """A file that was brought or captured.

    Parameters
    ----------
    name : str
        What steps call it by; no two inputs of a job have the same.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Name
    role: Role
    file: InputFile

    @property
    def is_nominal(self) -> bool:
        """Whether it is what the part should be; all else was measured."""
        return self.role is Role.NOMINAL

    @property
    def is_scan(self) -> bool:
        """Whether it shows a surface: a scan or a cloud."""
        return self.role in (Role.SCAN, Role.CLOUD)


def inputs_of(nominal: InputFile | None = None, scan: InputFile | None = None) -> tuple[Input, ...]:
    """Inputs of the usual job: a nominal, a scan, or both."""
    nominals = () if nominal is None else (Input(name=NOMINAL, role=Role.NOMINAL, file=nominal),)
    return nominals if scan is None else (*nominals, Input(name=SCAN, role=Role.SCAN, file=scan))


def free_name(role: Role, taken: tuple[str, ...]) -> str:
    """The name of a further input of a role.

    Examples
    --------
    >>> free_name(Role.SCAN, ())
    'scan'
    """
    used = set(taken)
    numbered = (f"{role} {number}" for number in range(2, len(used) + 3))
    return str(role) if str(role) not in used else next(name for name in numbered if name not in used)
