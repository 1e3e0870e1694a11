"""Whether the instrument may be trusted for this job: what was asked, what the logbook said, and an override."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field


class Policy(StrEnum):
    """What must be known of the instrument before verdicts are given."""

    NONE = "none"
    CERTIFICATE = "valid certificate"
    TODAY = "verified today"


class Tick(BaseModel):
    """Something that a person says is done: what, who and when; the two last are empty where nobody said."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    key: Annotated[str, Field(max_length=60)]
    by: Annotated[str, Field(max_length=200)] = ""
    at: datetime | None = None

    @property
    def words(self) -> str:
        """Who and when, as far as it is known."""
        return ", ".join(word for word in (self.by, f"{self.at:%H:%M}" if self.at is not None else "") if word)


class Readiness(BaseModel):
    """The policy and how it stood when it was last looked at; kept in the job, so that replays decide alike.

    Parameters
    ----------
    reason : why it is met or not.
    note, by : with a reason and a name a person takes responsibility, and verdicts are given all the same; the report prints both.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    policy: Policy = Policy.NONE
    is_met: bool = True
    reason: Annotated[str, Field(max_length=500)] = ""
    note: Annotated[str, Field(max_length=500)] = ""
    by: Annotated[str, Field(max_length=200)] = ""

    @property
    def objection(self) -> str:
        """Why verdicts are withheld; empty when they are given."""
        return "" if self.is_met or (self.note.strip() and self.by.strip()) else self.reason
