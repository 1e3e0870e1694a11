"""Features made of measured ones, and the numbers of what lies between two; uncertainty carried through from the data of each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.associate.construct import WORDS, angle, apart, construct, nearest
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.drawn.propagation import of_length, spread_of
from juxtum.evaluate.features.taken import Base, MeasuredFeature, TakenFeature
from juxtum.evaluate.features.values import AXES, FeatureValue, Laid
from juxtum.evaluate.uncertainty import Sampling, measured_length
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Circle, Feature, Line, Plane
from juxtum.wording import listed

NOT_KNOWN = float("nan")


@dataclass(frozen=True)
class Recipe:
    """How a feature is made of others; see `juxtum.associate.construct`.

    Parameters
    ----------
    way : str
    amount : float
        Of an offset, mm.
    """

    way: str
    amount: float = 0.0


@dataclass(frozen=True, eq=False)
class _Parts:
    """Of what it is made: what was measured, and each part of those."""

    bases: tuple[Base, ...]
    makers: tuple[Callable[[Mapping[str, Feature]], Feature], ...]

    def of(self, features: Sequence[Feature]) -> list[Feature]:
        """The parts, where what was measured had been these features."""
        known = {base.label: feature for base, feature in zip(self.bases, features, strict=True)}
        return [make(known) for make in self.makers]

    def spread(self, value: Callable[[list[Feature]], float]) -> float:
        """Standard uncertainty of a number of the parts, by the data of what was measured."""
        covariances = [base.covariance for base in self.bases]
        return spread_of(lambda some: value(self.of(some)), [base.feature for base in self.bases], covariances)


def build_feature(deviation: Deviation, laid: Laid, recipe: Recipe, taken: Sequence[TakenFeature]) -> MeasuredFeature:
    """Make a feature of measured ones.

    Parameters
    ----------
    deviation : Deviation
        In the alignment in force.
    laid : tuple of Alignment and Chain
    taken : sequence of TakenFeature
        All of them measured.

    Raises
    ------
    JuxtumError
        Where there is no such feature.
    """
    parts = _parts_of(taken)
    features = parts.of([base.feature for base in parts.bases])
    made = construct(recipe.way, features, recipe.amount)
    measured = [one.measured for one in taken if one.measured is not None]
    count = min(one.count for one in measured)

    def make(known: Mapping[str, Feature]) -> Feature:
        return construct(recipe.way, [maker(known) for maker in parts.makers], recipe.amount)

    given = _Given(deviation, laid, parts, count)
    values = _between(given, features) if recipe.way == "between" else _place(given, recipe, made)
    origin = WORDS[recipe.way].format(listed([one.label for one in taken]), amount=recipe.amount)
    return MeasuredFeature(
        made.name, made, tuple(values), 0, 0, NOT_KNOWN, NOT_KNOWN, NOT_KNOWN, NOT_KNOWN, 0, np.empty(0, np.int64),
        np.empty(0, np.int64), np.empty(0), _notes(recipe, features), origin=origin, bases=parts.bases, make=make,
        ends=np.stack(nearest(*features)) if recipe.way == "between" else None,
    )  # fmt: skip


def _parts_of(taken: Sequence[TakenFeature]) -> _Parts:
    bases: dict[str, Base] = {}
    makers: list[Callable[[Mapping[str, Feature]], Feature]] = []
    for one in taken:
        made = one.measured
        assert made is not None
        if made.make is None:
            bases[one.label] = Base(one.label, made.feature, made.covariance)
            makers.append(_itself(one.label))
        else:
            # What was measured once counts once, however often it is used.
            bases |= {base.label: base for base in made.bases}
            makers.append(made.make)
    return _Parts(tuple(bases.values()), tuple(makers))


def _itself(label: str) -> Callable[[Mapping[str, Feature]], Feature]:
    return lambda known: known[label]


@dataclass(frozen=True, eq=False)
class _Given:
    deviation: Deviation
    laid: Laid
    parts: _Parts
    count: int

    def placed(self, value: float, spread: float, place: Floats, along: int) -> tuple[float, float]:
        """A coordinate with its expanded uncertainty, mm."""
        alignment, chain = self.laid
        frame = float(alignment.point_uncertainty(place[None], np.eye(3)[along][None])[0])
        length = measured_length(alignment, place, self.deviation.nominal.mesh.bounds)
        return value, chain.budget(length, Sampling(spread, self.count), frame).expanded


def _place(given: _Given, recipe: Recipe, made: Feature) -> list[FeatureValue]:
    """Where it lies, in the directions in which that means something."""

    def remade(features: list[Feature]) -> Feature:
        return construct(recipe.way, features, recipe.amount)

    values = []
    if isinstance(made, Circle):
        spread = given.parts.spread(lambda some: 2 * remade(some).sizes["radius"])
        budget = given.laid[1].budget(2 * made.radius, Sampling(spread, given.count), 0.0)
        values.append(FeatureValue("diameter", 2 * made.radius, budget.expanded))
    for name, along, read in _coordinates(made):
        spread = given.parts.spread(lambda some, read=read: read(remade(some)))  # type: ignore[misc]
        value, expanded = given.placed(read(made), spread, np.asarray(made.point), along)
        values.append(FeatureValue(name, value, expanded))
    return values


def _coordinates(made: Feature) -> list[tuple[str, int, Callable[[Feature], float]]]:
    """Name, axis and how to read it of each coordinate that means something."""
    if isinstance(made, Plane):
        along = int(np.argmax(np.abs(made.normal)))
        place = np.asarray(made.point)

        def cut(feature: Feature) -> float:
            assert isinstance(feature, Plane)
            return float(place[along] - (place - feature.point) @ feature.normal / feature.normal[along])

        return [(f"{AXES[along]} in its middle", along, cut)]
    if isinstance(made, Line):
        along = int(np.argmax(np.abs(made.axis)))
        round_place = float(np.round(made.point[along]))
        told = f"{round_place:g}".replace("-", "\u2212")

        def at(k: int) -> Callable[[Feature], float]:
            def read(feature: Feature) -> float:
                assert isinstance(feature, Line)
                way = (round_place - feature.point[along]) / feature.axis[along]
                return float(feature.point[k] + way * feature.axis[k])

            return read

        return [(f"{AXES[k]} at {AXES[along]} {told}", k, at(k)) for k in range(3) if k != along]
    return [(AXES[k], k, lambda feature, k=k: float(feature.point[k])) for k in range(3)]  # type: ignore[misc]


def _between(given: _Given, features: list[Feature]) -> list[FeatureValue]:
    """Distance and angle from one to the other, and the distance along each axis of the part."""
    one, two = features
    chain, distance = given.laid[1], apart(*features)
    spread = of_length(given.parts.spread(lambda some: apart(some[0], some[1])), distance)
    budget = chain.budget(max(distance, 1e-6), Sampling(spread, given.count), 0.0)
    values = [FeatureValue("distance", distance, budget.expanded)]
    turned = angle(one, two)
    if turned is not None:
        known = chain.instrument is not None
        expanded = 2 * given.parts.spread(lambda some: angle(some[0], some[1]) or 0.0) if known else NOT_KNOWN
        values.append(FeatureValue("angle", turned, expanded, "\u00b0"))

    def along(k: int) -> Callable[[list[Feature]], float]:
        def read(some: list[Feature]) -> float:
            first, second = nearest(some[0], some[1])
            return float(second[k] - first[k])

        return read

    for k in range(3):
        value, spread = along(k)(features), given.parts.spread(along(k))
        expanded = chain.budget(max(abs(value), 1e-6), Sampling(spread, given.count), 0.0).expanded
        values.append(FeatureValue(f"along {AXES[k]}", value, expanded))
    return values


def _notes(recipe: Recipe, features: list[Feature]) -> tuple[str, ...]:
    notes = []
    if recipe.way == "meet" and len(features) == 2 and not any(isinstance(f, Plane) for f in features):
        notes.append(f"the axes pass each other by {apart(*features):.3f} mm: the point lies midway")
    if recipe.way == "between" and any(isinstance(f, Plane) for f in features):
        notes.append("of a plane that is not quite parallel the distance is taken in the middle of what was seen")
    return tuple(notes)
