"""What planning may count on: what the register says the shop has, or everything that ships."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.instruments.owned import NOTHING_KNOWN, Owned

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class PlanningShop:
    """Asks the desk's register; a person may want to compare what it does not hold too.

    Parameters
    ----------
    station : PlanStation
    """

    def __init__(self, station: PlanStation) -> None:
        self._station = station
        self.compares_all = False

    @property
    def owned(self) -> Owned:
        """What is counted on; nothing known while everything is compared."""
        return NOTHING_KNOWN if self.compares_all else self._station.desk.shop.owned

    def ask(self) -> None:
        """Look into the register, and plan with what it holds once that is known."""
        self._station.desk.shop.open(self._known)

    def _known(self) -> None:
        if self._station.is_here and self.owned != NOTHING_KNOWN:
            self._station.refresh()

    def compare_all(self, wanted: bool) -> None:
        """Compare what the register does not hold too, or only what it holds."""
        self.compares_all = wanted
        self._station.refresh()
