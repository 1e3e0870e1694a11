"""A file that a job rests on, known by its content."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, field_validator

from juxtum.units import Unit


class InputFile(BaseModel):
    """A file that the job rests on, known by its content.

    Parameters
    ----------
    name : str
        File name without folders.
    sha256 : str
        Of its content.
    unit : Unit, optional
        Chosen by the user where the file names none.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=255, pattern=r"^[^/\\\x00]+$")]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
    unit: Unit | None = None

    @field_validator("name")
    @classmethod
    def _no_folder(cls, name: str) -> str:
        if name in (".", ".."):
            raise ValueError("a file cannot be called that")
        return name
