"""What a shop has of instruments and equipment, as far as planning asks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from juxtum.instruments.equipment import Equipment
from juxtum.instruments.models import InstrumentModel, Mode


@dataclass(frozen=True)
class Pace:
    """How long a shop's captures took, over what was estimated for them.

    Parameters
    ----------
    model, mode : str
        Id of the instrument and name of its mode.
    ratio : float
        Median of the captures that came to their end.
    captures : int
        How many those were.
    """

    model: str
    mode: str
    ratio: float
    captures: int

    @property
    def words(self) -> str:
        """For a list of facts."""
        return f"{self.ratio:.2f} of usual"


@dataclass(frozen=True)
class Owned:
    """Ids of the instruments and of the equipment that a register holds; where it holds none, nothing is known.

    Parameters
    ----------
    instruments, equipment : tuple of str
    paces : tuple of Pace
        How fast the shop's people scan, where their captures tell.
    documents : tuple of InstrumentModel
        The shop's own documents; they stand for those that ship under the same id.
    pieces : tuple of Equipment
        Likewise of equipment.

    Examples
    --------
    >>> from juxtum.instruments.models import shipped_instruments
    >>> [m.id for m in Owned(instruments=("wh-3", "wb-1")).instruments_of(shipped_instruments())]
    ['wh-3', 'wb-1']
    """

    instruments: tuple[str, ...] = ()
    equipment: tuple[str, ...] = ()
    paces: tuple[Pace, ...] = ()
    documents: tuple[InstrumentModel, ...] = ()
    pieces: tuple[Equipment, ...] = ()

    def pace(self, model: InstrumentModel, mode: Mode) -> Pace | None:
        """How fast the shop works in a mode of an instrument; None while its captures do not tell."""
        return next((p for p in self.paces if (p.model, p.mode) == (model.id, mode.name)), None)

    def paced(self, model: InstrumentModel) -> InstrumentModel:
        """An instrument as fast as the shop works with it: its modes take as much longer as the captures did."""
        if not any(p.model == model.id for p in self.paces):
            return model
        ratios = {p.mode: p.ratio for p in self.paces if p.model == model.id}
        modes = tuple(
            mode.model_copy(update={"rate": mode.rate / ratio, "speed": mode.speed / ratio})
            for mode, ratio in ((m, ratios.get(m.name, 1.0)) for m in model.modes)
        )
        return model.model_copy(update={"modes": modes})

    @property
    def without_a_list(self) -> Owned:
        """What is known of how the shop works, and its own documents, without what it has."""
        return replace(self, instruments=(), equipment=())

    def offered(self, models: Sequence[InstrumentModel]) -> tuple[InstrumentModel, ...]:
        """The shop's own documents, and of other models those of another id."""
        own = {model.id for model in self.documents}
        return (*self.documents, *(model for model in models if model.id not in own))

    def offered_equipment(self, pieces: Sequence[Equipment]) -> tuple[Equipment, ...]:
        """The shop's own documents of equipment, and of other pieces those of another id."""
        own = {piece.id for piece in self.pieces}
        return (*self.pieces, *(piece for piece in pieces if piece.id not in own))

    def instruments_of(self, models: Sequence[InstrumentModel]) -> tuple[InstrumentModel, ...]:
        """The models that the shop has; all of them where the register holds no instrument that is offered."""
        offered = self.offered(models)
        return tuple(model for model in offered if model.id in self.instruments) or offered

    def has(self, item: Equipment) -> bool:
        """Whether the shop has this equipment."""
        return item.id in self.equipment


NOTHING_KNOWN = Owned()
"""Of a shop without a register."""
