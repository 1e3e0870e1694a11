"""Short, usual cautions of a plan; the site's rules, the maker's manual and licensed people come first."""

from __future__ import annotations

import math

from juxtum.instruments.models import Kind
from juxtum.plan.document import Plan
from juxtum.plan.resting import BY_HAND

DEFER = "Site rules and the maker's manual come first."


def cautions(plan: Plan, mass: float) -> tuple[str, ...]:
    """What to mind with this instrument, part and coat."""
    found = []
    instrument = plan.instrument
    if instrument.laser_class:
        optics = ", least of all through a loupe, a telescope or a camera" if "M" in instrument.laser_class else ""
        found.append(
            f"Laser class {instrument.laser_class}: do not look into the lines{optics}, mind reflections from bare metal."
        )
    if math.isfinite(mass) and mass > BY_HAND:
        found.append(
            f"The part weighs about {mass:.0f} kg: lift and turn it with tackle or help, slung about its middle of weight."
        )
    if plan.coat != "none":
        found.append(
            "Coating: only with the site's and the customer's leave; ventilate or wear a respirator, keep flames away, "
            "never on hot parts, protect the skin; see that it can be taken off again."
        )
    if instrument.kind is Kind.CABINET:
        found.append("X-rays: only licensed people run the cabinet.")
    if instrument.kind is Kind.TRACKED or instrument.chain(plan.chain).needs in ("bars", "tracker"):
        found.append("Tripods, bars and cables: mark them, so that nobody trips.")
    return (*found, DEFER)
