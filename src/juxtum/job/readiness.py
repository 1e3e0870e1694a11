"""Whether the instrument may be trusted for this job: what was asked, what the logbook said, and an override."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field


class Policy(StrEnum):
    """What must be known of the instrument before verdicts are given."""

    NONE = "none"
    CERTIFICATE = "valid certificate"
    TODAY = "verified today"


class Readiness(BaseModel):
    """The policy and how it stood when it was last looked at; kept in the job, so that replays decide alike.

    Parameters
    ----------
    reason : why it is met or not.
    note : with a note a person takes responsibility, and verdicts are given all the same; the report prints it.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    policy: Policy = Policy.NONE
    is_met: bool = True
    reason: Annotated[str, Field(max_length=500)] = ""
    note: Annotated[str, Field(max_length=500)] = ""

    @property
    def objection(self) -> str:
        """Why verdicts are withheld; empty when they are given."""
        return "" if self.is_met or self.note.strip() else self.reason
