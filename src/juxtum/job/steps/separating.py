"""The step that makes parts of one scan that holds several."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from juxtum.assemble.separating import Separated, separate
from juxtum.evaluate.fields import Name
from juxtum.job.steps.base import Outcomes, Source, StepModel, surface
from juxtum.progress import Progress


class Separate(StepModel):
    """Tell the parts in a scan apart; each has a name like a scan and is used like one."""

    kind: Literal["separate"] = "separate"
    scan: Name = "scan"
    parts: Annotated[int, Field(ge=2, le=1000)]
    name: Annotated[str, Field(min_length=1, max_length=60)] = "part"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return f"separate {self.parts} parts"

    @property
    def names(self) -> tuple[str, ...]:
        """What the parts are called, in rows as they lie.

        Examples
        --------
        >>> Separate(parts=2).names
        ('part 1', 'part 2')
        """
        return tuple(f"{self.name} {number}" for number in range(1, self.parts + 1))

    def reads(self) -> tuple[Source, ...]:
        """The scan after its cleaning."""
        return (surface(self.scan),)

    def run(self, outcomes: Outcomes, progress: Progress) -> Separated:
        """Tell them apart.

        Raises
        ------
        InputError
            When the scan holds fewer pieces than parts.
        """
        return separate(outcomes.whole(self.scan), self.parts, progress)
