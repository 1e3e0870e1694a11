"""What a shop has of instruments and equipment, as far as planning asks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from juxtum.instruments.equipment import Equipment
from juxtum.instruments.models import InstrumentModel


@dataclass(frozen=True)
class Owned:
    """Ids of the instruments and of the equipment that a register holds; where it holds none, nothing is known.

    Examples
    --------
    >>> from juxtum.instruments.models import shipped_instruments
    >>> [m.id for m in Owned(instruments=("wh-3", "wb-1")).instruments_of(shipped_instruments())]
    ['wh-3', 'wb-1']
    """

    instruments: tuple[str, ...] = ()
    equipment: tuple[str, ...] = ()

    def instruments_of(self, models: Sequence[InstrumentModel]) -> tuple[InstrumentModel, ...]:
        """The models that the shop has; all of them where the register holds no instrument that is offered."""
        own = tuple(model for model in models if model.id in self.instruments)
        return own or tuple(models)

    def has(self, item: Equipment) -> bool:
        """Whether the shop has this equipment."""
        return item.id in self.equipment


NOTHING_KNOWN = Owned()
"""Of a shop without a register."""
