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
        """What is counted on; of what the shop has nothing while everything is compared."""
        owned = self._station.desk.shop.owned
        return owned.without_a_list if self.compares_all else owned

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
