"""What every kind of characteristic says of itself; ledger, plan, report and desk ask for nothing else."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Annotated, ClassVar, Self

from pydantic import BaseModel, ConfigDict, Field
from pydantic.fields import FieldInfo

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.decision import Verdict
from juxtum.evaluate.fields import Finite, Name, Numbers, Title
from juxtum.evaluate.given import Given
from juxtum.evaluate.quantity import Aim, Limits, Line, LineResult, Measured, SideMeasured, judged
from juxtum.evaluate.uncertainty import Budget
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import Fingerprint, FoundAgain

Strokes = tuple[tuple[tuple[float, float], ...], ...]
"""Lines of a symbol in a square from 0 to 1, y downwards."""
COMMON = frozenset({"kind", "id", "title", "faces", "least_seen", "lost", "features", "datums", "nominal"})
"""What a form asks for in ways of its own, or not at all."""
NOT_SHOWN = "the scan does not show it"


class Characteristic(BaseModel):
    """One line of the drawing; a kind adds its own limits, and how it is measured."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    id: Name
    title: Title
    faces: Numbers = ()
    least_seen: Annotated[Finite, Field(ge=0, le=1)] = 0.9
    """Share of its area that must have been seen before it is decided."""
    lost: Annotated[tuple[Fingerprint, ...], Field(max_length=10_000)] = ()
    """Faces that it had in an earlier nominal and that were not found in this one."""

    tag: ClassVar[str]
    """Its `kind` in documents."""
    name: ClassVar[str]
    """In the words of the standard."""
    short: ClassVar[str]
    """How a title begins."""
    method: ClassVar[str]
    """How it is measured, and by which standard: sentences."""
    symbol: ClassVar[Strokes]
    needs_faces: ClassVar[bool] = False

    @property
    @abstractmethod
    def limits(self) -> Limits:
        """What its value may be."""

    @property
    @abstractmethod
    def aim(self) -> Aim:
        """What planning has to know of it."""

    @abstractmethod
    def measure(self, given: Given) -> Measured:
        """What the scan says of it."""

    @property
    def zone(self) -> tuple[float, float] | None:
        """What deviations of its faces may be, mm, where the kind says that."""
        return None

    def check(self, nominal: Nominal) -> None:
        """See that it can be measured on its faces.

        Raises
        ------
        InputError
            Also when a face does not exist.
        """
        if self.lost:
            raise InputError(
                f"{self.lost[0].text} is not in the nominal any more",
                f"characteristic {self.id}",
                "Choose its faces anew",
            )
        for number in self.faces:
            nominal.face(number)

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Faces that have to be found again in another revision of the nominal."""
        return self.faces

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        return found.on_faces(self)

    @property
    def line(self) -> Line:
        """As the ledger has it."""
        return Line(self.id, self.title, self.name, self.limits, self.faces, self.least_seen, self.tag)

    def result(self, given: Given) -> LineResult:
        """What was measured, and the verdict; none where its faces do not serve, with the reason."""
        try:
            self.check(given.deviation.nominal)
        except InputError as problem:
            return judged(self.line, nothing_seen(("",), 0.0, problem.what), problem.what, ())
        shown = self.shown(given)
        foreign = () if shown is None else given.deviation.doubts_about(shown)
        doubts = (*foreign, *self._unsure(given.judgement), *self.half_seen(given))
        return judged(self.line, self.measure(given), given.judgement.objection, doubts)

    def shown(self, given: Given) -> tuple[int, ...] | None:
        """Faces of which the scan has to speak, all of them when empty; none where something else measured them."""
        return self.faces

    def half_seen(self, given: Given) -> tuple[str, ...]:
        """What else it rests on that was seen too little of."""
        return ()

    def _unsure(self, judgement: Judgement) -> tuple[str, ...]:
        """Faces cannot be told from each other while the scan may lie in another pose."""
        poses = judgement.alignment.alternatives
        if not self.faces or not poses:
            return ()
        return (
            f"not sure which way the scan lies: {len(poses) + 1} poses fit, and each has other surface on these faces",
        )

    @classmethod
    def own_fields(cls) -> dict[str, FieldInfo]:
        """Parameters that only this kind has, by name: what the form of an editor asks for besides the common ones."""
        return {name: field for name, field in cls.model_fields.items() if name not in COMMON and field.title}


def nothing_seen(sides: Sequence[str], area_seen: float, reason: str = NOT_SHOWN) -> Measured:
    """Of a characteristic that the scan does not show."""
    nothing = float("nan")
    unseen = tuple(
        SideMeasured(side, nothing, Budget(()), None, Verdict.NOT_DECIDED, nothing, reason) for side in sides
    )
    return Measured(unseen, 0, area_seen)
