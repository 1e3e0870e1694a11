"""What the set-up sheet says in words: how the part lies, which targets must not be lost, what is coated and what is probed."""

from __future__ import annotations

import numpy as np

from juxtum.instruments.equipment import EquipmentKind
from juxtum.nominal import Nominal
from juxtum.plan.blind import Method
from juxtum.plan.planner import Planner
from juxtum.plan.targets.naming import face_words
from juxtum.plan.targets.views import Stance

DOWN = 0.95
"""Cosine from which a face looks straight down."""
FLAT = 0.01
"""Of the part's height: so near to the lowest point a face carries it."""
MOST_NAMED = 4


def setup_notes(planner: Planner) -> tuple[str, ...]:
    """Sentences for whoever sticks, lays and scans."""
    notes = [_lays(planner), *_standing_on(planner)]
    kept = planner.assess().indispensable
    if kept:
        one = len(kept) == 1
        notes.append(
            f"Must not be lost: target{'' if one else 's'} {', '.join(map(str, kept))}; "
            f"without {'it' if one else 'one of them'} views no longer hang together, and part of the surface is missing."
        )
    coated = tuple(face for face, _ in planner.plan.finishes)
    if planner.plan.coat != "none":
        where = _named(planner.nominal, coated) if coated else "all that is measured"
        notes.append(f"Coat ({planner.plan.coat}) before the targets are stuck: {where}.")
    probed = tuple(dict.fromkeys(f for spot in planner.blind() if spot.method is Method.PROBE for f in spot.faces))
    if probed:
        notes.append(f"To be probed, since scanning does not give it: {_named(planner.nominal, probed)}.")
    return tuple(notes)


def _lays(planner: Planner) -> str:
    if planner.plan.stance is Stance.STANDS:
        return "The part stands free on stands, as it is drawn, Z up; it is not turned over."
    first, second = (_resting_on(planner.nominal, sign) for sign in (-1.0, 1.0))
    stay = " The targets stay on for both." if planner.plan.targets else ""
    return f"Lay 1: {first} down, Z up. Lay 2: turned over about X, {second} down.{stay}"


def _standing_on(planner: Planner) -> tuple[str, ...]:
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
                "a finger's breadth off does not matter. It may not move on it while one lay is scanned."
            )
    blocks = [item.name for item in gear.items if not item.is_under]
    if blocks:
        notes.append(
            f"About the part, a hand's breadth off its corners: {', '.join(blocks)}. They stay where they are."
        )
    if planner.plan.joined == "by shape" and len(gear.turned) > 1:
        notes.append(
            "Nothing is stuck on the part: the two lays are joined by its shape, so each is scanned from all sides."
        )
    return tuple(notes)


def _resting_on(nominal: Nominal, sign: float) -> str:
    """The face that carries the part when this side (-1 the lower, 1 the upper) lies down, in words."""
    samples, (low, high) = nominal.samples, nominal.mesh.bounds[:, 2]
    level = low if sign < 0 else high
    carries = sign * samples.mesh.triangle_normals[:, 2] > DOWN
    carries &= np.abs(samples.centres[:, 2] - level) < FLAT * max(high - low, 1e-9)
    if not carries.any():
        return "its lowest points" if sign < 0 else "its highest points"
    areas = np.bincount(samples.faces[carries], samples.mesh.triangle_areas[carries])
    face = int(np.argmax(areas)) + 1
    return f"the face {face_words(nominal, face)} (face {face})"


def _named(nominal: Nominal, faces: tuple[int, ...]) -> str:
    words = [f"{face_words(nominal, face)} (face {face})" for face in faces[:MOST_NAMED]]
    more = len(faces) - len(words)
    return "; ".join(words) + (f"; and {more} more" if more > 0 else "")
