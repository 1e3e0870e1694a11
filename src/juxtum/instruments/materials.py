"""Materials of parts: what mass, soaking, the correction of temperature and the cabinet need to know of them."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.errors import InputError

METALS = "ASM Metals Reference Book, 3rd edition, tables of physical properties; rounded"
POLYMERS = "Osswald et al.: International Plastics Handbook, tables of properties; rounded"
STEEL_DENSITY = 7.85
"""g/cm3: what a cabinet can see through is stated for steel."""


@dataclass(frozen=True)
class Material:
    """A material as tables have it, about room temperature.

    Parameters
    ----------
    density : float
        g/cm3.
    expansion, expansion_u : float
        Coefficient of linear expansion and its standard uncertainty among makes, 1e-6 per kelvin.
    capacity : float
        Specific heat, J per kg and kelvin.
    source : str
    """

    name: str
    density: float
    expansion: float
    expansion_u: float
    capacity: float
    source: str


MATERIALS = {
    made.name: made
    for made in (
        Material("grey cast iron", 7.2, 10.5, 0.8, 490.0, METALS),
        Material("nodular cast iron", 7.1, 11.6, 0.6, 480.0, METALS),
        Material("carbon steel", 7.85, 11.7, 0.6, 480.0, METALS),
        Material("austenitic stainless steel", 7.95, 16.5, 0.7, 500.0, METALS),
        Material("wrought aluminium", 2.75, 23.3, 0.7, 900.0, METALS),
        Material("cast aluminium", 2.7, 21.5, 1.0, 930.0, METALS),
        Material("brass", 8.45, 19.5, 0.9, 380.0, METALS),
        Material("titanium alloy", 4.43, 8.9, 0.4, 540.0, METALS),
        Material("die-cast zinc", 6.65, 27.0, 1.0, 410.0, METALS),
        Material("polyamide", 1.13, 90.0, 15.0, 1700.0, POLYMERS),
        Material("glass-filled polyamide", 1.36, 35.0, 12.0, 1500.0, POLYMERS),
        Material("ABS", 1.05, 90.0, 10.0, 1400.0, POLYMERS),
        Material("polypropylene", 0.91, 120.0, 25.0, 1700.0, POLYMERS),
    )
}


def material_named(name: str) -> Material | None:
    """A material of the table; None when nobody chose one.

    Raises
    ------
    InputError
        When the table has none of this name.

    Examples
    --------
    >>> material_named("carbon steel").density
    7.85
    """
    if not name:
        return None
    if name not in MATERIALS:
        raise InputError(f"the table has no material '{name}'", "material", f"It has: {', '.join(MATERIALS)}")
    return MATERIALS[name]
