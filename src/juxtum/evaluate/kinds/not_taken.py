"""A line of the drawing that could not be taken from it: it stays in the ledger until a person states it or lets it go."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Characteristic, Strokes, nothing_seen
from juxtum.evaluate.quantity import Aim, Limits, LineResult, Measured, judged

NEXT = "state it by hand or remove it"


class NotTaken(Characteristic):
    """What a drawing asks for in a way that is not read: without it a part could pass that nobody has measured in full.

    Examples
    --------
    >>> NotTaken(id="7", title="flatness of 3", why="its modifier is not known").limits
    Limits(lower=None, upper=None, nominal=0.0, unit='mm')
    """

    tag: ClassVar[str] = "not-taken"
    name: ClassVar[str] = "a line of the drawing that was not taken"
    short: ClassVar[str] = "Not taken"
    symbol: ClassVar[Strokes] = (((0.2, 0.2), (0.8, 0.8)), ((0.8, 0.2), (0.2, 0.8)))
    method: ClassVar[str] = (
        "Nothing is measured. It is not decided, so the part does not conform as a whole, until it is stated by hand or removed."
    )

    kind: Literal["not-taken"] = "not-taken"
    least_seen: Annotated[Finite, Field(ge=0, le=1)] = 0.0
    why: Annotated[str, Field(min_length=1, max_length=400)]
    """Why it could not be taken."""

    @property
    def limits(self) -> Limits:
        """None is known."""
        return Limits(None, None)

    @property
    def aim(self) -> Aim:
        """Nothing to plan for."""
        return Aim(self.id, self.title, float("inf"), self.faces)

    def shown(self, given: Given) -> tuple[int, ...] | None:
        """Nothing of the scan speaks of it."""
        return None

    def measure(self, given: Given) -> Measured:
        """Nothing, and why."""
        return nothing_seen(("",), 0.0, f"not taken from the drawing: {self.why}; {NEXT}")

    def result(self, given: Given) -> LineResult:
        """Not decided, whatever else forbids a verdict."""
        return judged(self.line, self.measure(given), "", ())
