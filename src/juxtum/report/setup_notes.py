"""What the set-up sheet says in words: how the part lies, which targets must not be lost, what is coated and what is probed."""

from __future__ import annotations

import numpy as np

from juxtum.instruments.equipment import EquipmentKind
from juxtum.nominal import Nominal
from juxtum.plan.blind import Method
from juxtum.plan.planner import Planner
from juxtum.plan.resting import Rest, rest_of
from juxtum.plan.targets.assess import Assessment
from juxtum.plan.targets.linking import sighted
from juxtum.plan.targets.naming import face_words
from juxtum.plan.targets.targets import arrays
from juxtum.plan.targets.ties import tie_of
from juxtum.plan.targets.views import Stance, standing

MOST_NAMED = 4
MOST_LISTED = 12
LIGHT = 0.1
"""A part of less, kg, is weighed in grams."""


def setup_notes(planner: Planner, assessment: Assessment) -> tuple[str, ...]:
    """Sentences for whoever sticks, lays and scans."""
    notes = [_lays(planner), *_standing_on(planner, assessment)]
    notes += _not_to_lose(assessment.indispensable, len(planner.plan.targets))
    coated = tuple(face for face, _ in planner.plan.finishes)
    if planner.plan.coat != "none":
        where = _named(planner.nominal, coated) if coated else "all that is measured"
        notes.append(f"Coat ({planner.plan.coat}) before the targets are stuck: {where}.")
    probed = tuple(dict.fromkeys(f for spot in planner.blind() if spot.method is Method.PROBE for f in spot.faces))
    if probed:
        notes.append(f"To be probed, since scanning does not give it: {_named(planner.nominal, probed)}.")
    return tuple(notes)


def _not_to_lose(kept: tuple[int, ...], count: int) -> list[str]:
    """Which targets views hang together by; where those are many, nobody looks for one in a list."""
    if not kept:
        return []
    if len(kept) > MOST_LISTED:
        what = f"Of the {count} targets {len(kept)} must not be lost: each alone ties views to the others"
        return [f"{what}. If one falls off, stick another in its place before you scan on."]
    one = len(kept) == 1
    which = f"Must not be lost: target{'' if one else 's'} {', '.join(map(str, kept))}; without {'it' if one else 'one of them'}"
    return [f"{which} views no longer hang together, and part of the surface is missing."]


def _lays(planner: Planner) -> str:
    if planner.plan.stance is Stance.STANDS:
        return "The part stands free on stands, as it is drawn, Z up; it is not turned over."
    rests = [rest_of(planner.nominal, way.rotation) for way in standing(planner.nominal, planner.plan.stance)]
    first, second = (_resting_on(planner.nominal, rest) for rest in rests)
    stay = " The targets stay on for both." if planner.plan.targets else ""
    return f"Position 1: {first} down, Z up. Position 2: turned over about X, {second} down.{stay}{_weight(planner, rests)}"


def _weight(planner: Planner, rests: list[Rest]) -> str:
    """How heavy the part is, and how high the middle of its weight."""
    mass = planner.task.mass(planner.nominal)
    if not np.isfinite(mass):
        return ""
    heights = " and ".join(f"{rest.height:.0f}" for rest in rests)
    weight = f"{mass:.1f} kg" if mass >= LIGHT else f"{1000 * mass:.2g} g"
    return f" It has {weight}, the middle of its weight {heights} mm above the table."


def _standing_on(planner: Planner, assessment: Assessment) -> tuple[str, ...]:
    """Where equipment stands in each position."""
    gear = planner.ground().gear
    if gear is None:
        return ()
    notes = []
    for item, stand in zip(gear.items, gear.stands[0], strict=True):
        if item.is_under:
            along = "Y" if abs(float(stand.rotation[0, 0])) < 0.5 else "X"
            round_words = "" if item.kind is EquipmentKind.TURNTABLE else f", its long side along {along}"
            notes.append(
                f"The part stands on {item.name} ({len(item.targets)} targets), in its middle{round_words}; "
                "a finger's breadth off does not matter. It may not move on it while it is scanned."
            )
    blocks = [item.name for item in gear.items if not item.is_under]
    if blocks:
        notes.append(
            f"About the part, a hand's breadth off its corners: {', '.join(blocks)}. They stay where they are."
        )
    if planner.plan.joined == "by shape" and len(gear.turned) > 1:
        tie = tie_of(planner.ground(), sighted(planner.ground(), *arrays(())), assessment.linkage)
        joined = "the two positions are joined by its shape, so each is scanned from all sides"
        apart = f"{tie.words}, so the two positions are measured each by itself"
        notes.append(f"Nothing is stuck on the part: {joined if tie.holds else apart}.")
    return tuple(notes)


def _resting_on(nominal: Nominal, rest: Rest) -> str:
    """The face that carries the part, in words; and that it has to be held where it does not stand."""
    face = rest.faces[0] if rest.faces else 0
    words = f"the face {face_words(nominal, face)} (face {face})" if face else "its lowest points"
    return words if rest.stands else f"{words}, held, since it does not stand by itself,"


def _named(nominal: Nominal, faces: tuple[int, ...]) -> str:
    words = [f"{face_words(nominal, face)} (face {face})" for face in faces[:MOST_NAMED]]
    more = len(faces) - len(words)
    return "; ".join(words) + (f"; and {more} more" if more > 0 else "")
