"""Picking what a scan has in common with another one."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from juxtum.desk.joining.pairing import Pairing
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, button, column, form, label, row
from juxtum.scene.dress import piece
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.derived import BroughtScan
    from juxtum.desk.desk import Desk


class PairPanel(QWidget):
    """Two scans side by side on the stage, and the places clicked on them.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    used = pyqtSignal(object)
    """The pairs that were picked: a `PickedPairs`."""

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        self._name = ""
        self.pairing: Pairing | None = None
        lines = column(self, 8)
        self._partner = Choice("Pick pairs with")
        self._pick = button("Pick pairs", self.pick, tip="Click the same place on both scans, three times or more")
        self._pick.setCheckable(True)
        lines.addLayout(form([("Pairs with", self._partner)]))
        self._use = button("Use the pairs", self._use_them)
        self._back = button("Take one back", self._take_back)
        lines.addLayout(row(self._pick, self._back, self._use))
        self._said = label("", "soft", wrap=True)
        self._said.setAccessibleName("Picked pairs")
        lines.addWidget(self._said)

    @property
    def _held(self) -> dict[str, BroughtScan]:
        return {brought.name: brought for brought in self._desk.session.derived.brought}

    def offer(self, name: str) -> None:
        """Offer to pick pairs on a scan; on none where the name is empty."""
        self._name = name
        others = [brought for brought in self._held.values() if brought.name != name]
        # Most likely with one that is tied.
        likely = [b.name for b in others if b.pose is not None] or [b.name for b in others] or [""]
        self._partner.show_options([(b.name, f"{b.name}: {b.file}") for b in others], likely[0])
        for widget in (self._partner, self._pick):
            widget.setEnabled(bool(name))
        self._use.setEnabled(self.pairing is not None and self.pairing.move()[0] is not None)
        self._back.setEnabled(self.pairing is not None)

    def pick(self) -> None:
        """Begin to pick pairs on the scan and its partner, or stop."""
        wanted = self._pick.isChecked()
        self.leave()
        first, second = self._held.get(self._partner.currentData() or ""), self._held.get(self._name)
        if not wanted or first is None or second is None:
            self._dress()
            return
        self._pick.setChecked(True)
        view = self._desk.view
        self.pairing = Pairing(first, second, self._desk.session.derived.upright, view.stage.eye.right)
        view.set_mode(Mode.PICK, "Click the same place on both scans; Esc ends")
        self._dress()
        view.fit()
        self._show()

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        if self.pairing is None:
            return False
        layers = self._layers(self.pairing)
        if hit.layer in layers:
            self.pairing.take(layers.index(hit.layer), hit.place)
            self._show()
        return True

    def _layers(self, pairing: Pairing) -> tuple[str, ...]:
        names = list(self._held)
        return tuple(piece(names.index(scan.name)) for scan in (pairing.first, pairing.second))

    def _take_back(self) -> None:
        if self.pairing is not None:
            self.pairing.take_back()
            self._show()

    def _show(self) -> None:
        pairing = self.pairing
        if pairing is None:
            return
        move, words = pairing.move()
        self._desk.view.set_pins(pairing.pins)
        self._said.setText(words)
        self._said.setVisible(True)
        self._back.setEnabled(True)
        self._use.setEnabled(move is not None)
        self._use.setText(f"Use {pairing.count} pairs" if pairing.count else "Use the pairs")
        # The second lies on the first as it would be joined, see-through, as soon as that is known.
        laid = None if move is None else pairing.placements[0] @ move
        self._desk.view.put("laid", pairing.second.surface if laid is not None else None, laid)

    def _use_them(self) -> None:
        if self.pairing is not None and self.pairing.move()[0] is not None:
            picked = self.pairing.step()
            self.leave()
            self.used.emit(picked)

    def dress(self) -> bool:
        """Put both scans on the stage; whether pairs are being picked."""
        if self.pairing is None:
            return False
        view, scans = self._desk.view, (self.pairing.first, self.pairing.second)
        view.put("scan", None)
        for layer, scan, place in zip(self._layers(self.pairing), scans, self.pairing.placements, strict=True):
            view.put(layer, scan.surface, place)
        return True

    def leave(self) -> None:
        """Let picks go."""
        self.pairing = None
        self._pick.setChecked(False)
        self._said.setText("")
        self._said.setVisible(False)
        self._use.setText("Use the pairs")
        self._use.setEnabled(False)
        self._back.setEnabled(False)
        self._desk.view.put("laid", None)
