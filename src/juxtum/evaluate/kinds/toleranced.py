"""What characteristics of a drawing share: features by number, datums, a zone or a size, and how a value is judged."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import replace
from typing import Annotated, Any, ClassVar, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.errors import FitError, InputError
from juxtum.evaluate.decision import Verdict, decide
from juxtum.evaluate.drawn.by_touch import Behind, known, untouched
from juxtum.evaluate.drawn.frames import Frame, check_datum, frame_of
from juxtum.evaluate.drawn.references import Datum, Faces, Pattern, pattern_words, renumbered
from juxtum.evaluate.drawn.taken import Situation, Taken, situated, take
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Characteristic, nothing_seen
from juxtum.evaluate.kinds.found import Found, chosen_among
from juxtum.evaluate.quantity import Aim, Limits, Line, Measured, SideMeasured
from juxtum.evaluate.uncertainty import Budget, Contribution, LineOrigin, Sampling
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.features import Plane
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature
from juxtum.nominal.fingerprints import FoundAgain

TWO_THIRDS = 2 / 3
ALIKE = 2.0
"""Members of a pattern that differ by less than so many standard uncertainties may each be the worst."""
NO_TURN = "the datums hold no direction"


class Toleranced(Characteristic):
    """A characteristic of one feature, of two, or of a pattern of several alike, of which the worst counts."""

    features: Pattern = ()
    """As the drawing names them; from the faces where it names none."""
    datums: Annotated[tuple[Datum, ...], Field(max_length=6)] = ()
    """In their order; without any, the alignment in force counts."""
    least_seen: Annotated[Finite, Field(ge=0, le=1)] = TWO_THIRDS

    needs_faces: ClassVar[bool] = True
    pairs: ClassVar[bool] = False
    """Whether it is about two features."""
    has_sides: ClassVar[bool] = False
    """Whether two sides, the middle of which counts, are a feature as well."""
    is_of_any_surface: ClassVar[bool] = False
    """Whether its faces need not make one feature."""
    can_be_touched: ClassVar[bool] = True
    """Whether few touches of a probe may take the place of what the scan shows of its features."""
    needs_datum: ClassVar[bool] = False
    needs_axis: ClassVar[bool] = False
    """Whether one of its datums has to have an axis or a centre."""
    errors_count: ClassVar[float] = 1.0
    """How many times its value has the error of a length: twice where it is twice what lies off, the root of 2 where it is the difference of two."""
    offset_ways: ClassVar[tuple[int, int]] = (1, 1)
    """In how many ways across each other what is round, and what is flat, may lie off, where its value is the length of an offset."""
    worst_counts: ClassVar[bool] = True
    """Whether one place beyond its limits decides, however little else was seen."""
    unit: ClassVar[str] = "mm"
    side: ClassVar[str] = ""
    """What the one side is called that its value is on; its tag where nothing is said."""

    @model_validator(mode="before")
    @classmethod
    def _named_once(cls, values: Any) -> Any:
        """Faces follow from the features where these are named."""
        if isinstance(values, dict) and values.get("features") and not values.get("faces"):
            try:
                named = [face for member in values["features"] for feature in member for face in feature]
            except TypeError:
                return values
            values = values | {"faces": tuple(dict.fromkeys(named))}
        return values

    @property
    def members(self) -> tuple[tuple[Faces, ...], ...]:
        """Each of the pattern; of faces that nobody grouped, two are two features and all others one."""
        if self.features:
            return self.features
        if self.pairs:
            return (tuple((face,) for face in self.faces),)
        return ((self.faces,),)

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        made = super().on_faces(found)
        datums = [(datum, renumbered((datum.of,), found)) for datum in self.datums]
        kept = tuple(datum.model_copy(update={"of": of[0]}) for datum, of in datums if of)
        return made.model_copy(update={"features": renumbered(self.features, found), "datums": kept})

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Those of its datums as well."""
        return (*self.faces, *(face for datum in self.datums for feature in datum.of for face in feature))

    def check(self, nominal: Nominal) -> None:
        """See that its features are there and of a kind that it can be measured on.

        Raises
        ------
        InputError
        """
        super().check(nominal)
        if not self.faces:
            raise InputError("no face is named", f"characteristic {self.id}", "Name its faces")
        self.check_members()
        for member in () if self.is_of_any_surface else self.members:
            for faces in member:
                self.check_feature(common_feature(nominal, faces, f"characteristic {self.id}"), faces)
        self._check_datums(nominal)

    def _check_datums(self, nominal: Nominal) -> None:
        if self.needs_datum and not self.datums:
            raise InputError(f"{self.name} needs a datum", f"characteristic {self.id}", "Name one, such as A")
        for datum in self.datums:
            check_datum(nominal, datum)
        whole = [datum for datum in self.datums if not datum.targets]
        features = [common_feature(nominal, faces, f"datum {d.letter}") for d in whole for faces in d.of]
        if self.needs_axis and all(isinstance(feature, Plane) for feature in features):
            what = f"{self.name} needs a datum with an axis"
            raise InputError(what, f"characteristic {self.id}", "Name a cylinder, a cone or a sphere as datum")

    def check_members(self) -> None:
        """See that it names one feature, or two where it is about two.

        Raises
        ------
        InputError
        """
        allowed = (2,) if self.pairs else (1, 2) if self.has_sides else (1,)
        for member in self.members:
            if len(member) not in allowed:
                what = f"{self.name} is about {'two features' if self.pairs else 'one feature'}"
                how = "Name them as 14|22" if self.pairs else "Name one, as 14 or 14+15"
                raise InputError(what, f"characteristic {self.id}", how)

    def check_feature(self, feature: Any, faces: Faces) -> None:
        """See that a feature as drawn is of a kind that it can be measured on.

        Raises
        ------
        InputError
        """

    @property
    def line(self) -> Line:
        """As the ledger has it."""
        words = pattern_words(self.features) if self.features else ""
        letters = "|".join(datum.letter for datum in self.datums)
        least, worst = self.least_seen, self.worst_counts
        return Line(self.id, self.title, self.name, self.limits, self.faces, least, self.tag, words, letters, worst)

    @abstractmethod
    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The value of one of its pattern.

        Raises
        ------
        InputError
            When the scan shows too little of it, or it cannot be measured on its faces.
        """

    def measure(self, given: Given) -> Measured:
        """The worst of its pattern."""
        where = f"characteristic {self.id}"
        # Datums may have been touched all the same.
        own = given if self.can_be_touched else replace(given, touches=None)
        every_feature = [faces for member in self.members for faces in member]
        seen = min(own.seen(faces) for faces in every_feature)
        try:
            frame = self.framed(given, frame_of(given, self.datums, where))
            every = [self.found(given, member, frame) for member in self.members]
        except (InputError, FitError) as problem:
            words = problem.what if problem.where in ("", where) else f"{problem.where}: {problem.what}"
            return nothing_seen((self.side or self.tag,), seen, words)
        rooms = np.array([self._room(one) for one in every])
        worst = int(np.argmin(rooms))
        every[worst] = chosen_among(every, rooms, worst)
        better = np.subtract(rooms, rooms[worst], out=np.zeros(len(rooms)), where=np.isfinite(rooms))
        side = self._side(given, every[worst], self.members[worst], better)
        meaning = every[worst].meaning + (f"; the worst of {len(every)}" if len(every) > 1 else "")
        meaning += f"; datums {self.line.datums}" if self.datums else ""
        targeted = (datum for datum in self.datums if datum.targets)
        meaning += "".join(
            f", {datum.letter} at {len(datum.targets)} target{'s' * (len(datum.targets) > 1)}" for datum in targeted
        )
        meaning += self._touched_words(given, every[worst], self.members[worst])
        return Measured((side,), sum(map(own.count, every_feature)), seen, meaning, every[worst].allowed)

    def framed(self, given: Given, frame: Frame) -> Frame:
        """The frame in which its members are looked at: that of the datums, unless it may move as a whole."""
        return frame

    def shown(self, given: Given) -> Faces | None:
        """Faces of which the scan has to speak; none where a probe touched all of them."""
        if not self.can_be_touched:
            return self.faces
        return untouched(given, self.faces, [faces for member in self.members for faces in member]) or None

    def half_seen(self, given: Given) -> tuple[str, ...]:
        """Its datums are features as well."""
        whole = [datum for datum in self.datums if not datum.targets]
        shares = {datum.letter: min(given.seen(faces) for faces in datum.of) for datum in whole}
        return tuple(
            f"only {100 * share:.0f} % of datum {letter} was seen, and {100 * TWO_THIRDS:.0f} % must be"
            for letter, share in shares.items()
            if share < TWO_THIRDS
        )

    def _room(self, found: Found) -> float:
        return self.limits.room(found.value) + (found.allowed or 0.0)

    def _side(self, given: Given, found: Found, member: tuple[Faces, ...], better: Floats) -> SideMeasured:
        """How it is judged; `better` (M,) by how much more room others of its pattern have, and nothing for itself."""
        judgement, limits = given.judgement, self.limits
        behind = Behind.of(given, self._named(member))
        count = sum(given.count(faces) for faces in member)
        sampling = Sampling(found.standard, count, behind.freedom(found.freedom))
        budget = self.budget(known(given, behind.chain(judgement.chain)), found, sampling)
        if self.unit == "mm":
            # A shift turns nothing.
            budget = behind.placed(budget, is_framed=found.framed > 0)
        budget = budget.counted(self.errors_count, data=False)
        alike = int((better <= ALIKE * budget.standard).sum())
        budget = budget.of_offset(found.value, found.ways, max(alike, 1))
        upper = None if limits.upper is None else limits.upper + (found.allowed or 0.0)
        decision = decide(found.value, budget.usable, limits.lower, upper, judgement.rule, judgement.guard)
        probability = decision.probability if budget.is_known else float("nan")
        verdict, reason = (
            decision.verdict,
            decision.reason.replace(" mm ", " mm " if self.unit == "mm" else f"{self.unit} "),
        )
        if found.depends:
            verdict, reason = Verdict.NOT_DECIDED, found.depends
        return SideMeasured(
            self.side or self.tag, found.value, budget, frozen(found.place), verdict, probability, reason
        )

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """The uncertainty of a value."""
        made = given.judgement.chain.form_budget(found.length, sampling, self.faces[0])
        lines = (Contribution("datums", found.framed, origin=LineOrigin.DATA),) if found.framed else ()
        return replace(made, contributions=(*made.contributions, *lines))

    def _named(self, member: tuple[Faces, ...]) -> tuple[Faces, ...]:
        """What the value of a member rests on: its features, as far as touches may tell them, and its datums."""
        # Targets are read off the scan, whatever was touched beside them.
        whole = [datum for datum in self.datums if not datum.targets]
        return (*(member if self.can_be_touched else ()), *(faces for datum in whole for faces in datum.of))

    def _touched_words(self, given: Given, found: Found, member: tuple[Faces, ...]) -> str:
        """That it was touched, and what the scan says of the same."""
        touches = [one for faces in member if (one := given.touched(faces)) is not None]
        if not touches or not self.can_be_touched:
            return ""
        words = f"; by {sum(len(one.own) for one in touches)} touches of a probe"
        scanned = replace(given, touches=None)
        try:
            frame = self.framed(scanned, frame_of(scanned, self.datums, f"characteristic {self.id}"))
            return f"{words}, by the scan {self.found(scanned, member, frame).value:.3f}"
        except (InputError, FitError):
            return f"{words}, the scan shows too little of it"

    def take(self, given: Given, faces: Faces) -> Taken:
        """What the scan shows of a feature."""
        return take(given, faces, f"characteristic {self.id}")

    def situated(self, given: Given, member: tuple[Faces, ...]) -> Situation:
        """Where a feature lies, or the middle of two."""
        return situated(given, member, f"characteristic {self.id}")


class Zoned(Toleranced):
    """One with a zone of a width that its value may not exceed."""

    limit: Annotated[Finite, Field(gt=0)] = Field(0.1, title="Width of the zone")

    @property
    def limits(self) -> Limits:
        """At most the width of the zone."""
        return Limits(None, self.limit)

    @property
    def aim(self) -> Aim:
        """The width of its zone."""
        counts, ways = self.errors_count, self.offset_ways
        return Aim(self.id, self.title, self.limit, self.faces, within=not self.datums, counts=counts, ways=ways)
