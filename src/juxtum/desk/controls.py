"""What floats over the stage and what it controls: layers, the section plane, the legend."""

from __future__ import annotations

from collections.abc import Callable

from juxtum.desk.action import Action
from juxtum.desk.derived import Derived
from juxtum.desk.legend import TOP, legend_width
from juxtum.desk.stage_view import StageView
from juxtum.desk.view_bar import SectionBar, ViewBar
from juxtum.scene.actors import Shown
from juxtum.scene.camera import View
from juxtum.wording import percent

NEXT_DATA = {Shown.SOLID: Shown.SEE_THROUGH, Shown.SEE_THROUGH: Shown.HIDDEN, Shown.HIDDEN: Shown.SOLID}
NEXT_NOMINAL = {Shown.HIDDEN: Shown.SEE_THROUGH, Shown.SEE_THROUGH: Shown.SOLID, Shown.SOLID: Shown.HIDDEN}


class StageControls:
    """The bars over the stage.

    Parameters
    ----------
    dress : callable
        Puts the layers on the stage again.
    """

    def __init__(self, view: StageView, dress: Callable[[], None], wanted: Callable[[str], None]) -> None:
        self._view, self._dress = view, dress
        self.nominal_shown, self.data_shown = Shown.HIDDEN, Shown.SOLID
        self.section_is_on = False
        tips = {action.id: action.tooltip for action in self.own_actions()}
        self.bar, self.section_bar = ViewBar(view, tips), SectionBar(view)
        self.bar.wanted.connect(wanted)
        self.section_bar.changed.connect(self.cut)
        self.place()

    def own_actions(self) -> tuple[Action, ...]:
        """Views, layers and the section plane."""
        view = self._view

        def look(place: View) -> Callable[[], None]:
            return lambda: view.look_from(place)

        def has_map() -> bool:
            return view.stage.has("map")

        return (
            Action("fit", "Zoom to fit", "View/1", view.fit, "F", "maximize", "Show everything"),
            Action("view corner", "From the corner", "View/2", look(View.CORNER), "0"),
            Action("view front", "Front", "View/2", look(View.FRONT), "1"),
            Action("view back", "Back", "View/2", look(View.BACK), "2"),
            Action("view left", "Left", "View/2", look(View.LEFT), "3"),
            Action("view right", "Right", "View/2", look(View.RIGHT), "4"),
            Action("view top", "Top", "View/2", look(View.TOP), "5"),
            Action("view below", "Below", "View/2", look(View.BELOW), "6"),
            Action(
                "section",
                "Section plane",
                "View/3",
                self.toggle_section,
                "X",
                "slice",
                "Look inside",
                checked=lambda: self.section_is_on,
            ),
            Action(
                "nominal", "Nominal: shown, see-through, hidden", "View/3", self.cycle_nominal, "N", "eye", "", has_map
            ),
            Action("data", "Scan: shown, see-through, hidden", "View/3", self.cycle_data, "M", "layers", "", has_map),
        )

    def place(self) -> None:
        """Upper left on the stage."""
        self.bar.adjustSize()
        self.bar.move(12, 12)
        self.section_bar.move(12, self.bar.height() + 20)
        beside = self.bar.x() + self.bar.width() + legend_width() < self._view.width()
        self._view.legend_top = TOP if beside else self.bar.height() + 2 * TOP
        self._view.update()

    def show_states(self) -> None:
        """What is on and what can be chosen."""
        self.bar.show_states(self.section_is_on, self.nominal_shown, self.data_shown, self._view.stage.has("map"))

    def toggle_section(self) -> None:
        """Look inside, or no more."""
        if self.section_is_on:
            self.clear_section()
        else:
            self.section_is_on = True
            self.section_bar.begin(self._view.stage.bounds)
            self.place()
        self.show_states()

    def clear_section(self) -> None:
        """The whole part again."""
        self.section_is_on = False
        self.section_bar.hide()
        self._view.set_section(None)

    def cut(self) -> None:
        """Cut where the section bar says."""
        if self.section_is_on:
            self._view.set_section(self.section_bar.plane(self._view.stage.eye.towards))

    def cycle_nominal(self) -> None:
        """Hidden, see-through, shown."""
        self.nominal_shown = NEXT_NOMINAL[self.nominal_shown]
        self._dress()
        self.show_states()

    def cycle_data(self) -> None:
        """Shown, see-through, hidden."""
        self.data_shown = NEXT_DATA[self.data_shown]
        self._dress()
        self.show_states()

    def show_legend(self, d: Derived) -> None:
        """The legend of the map in force, or none."""
        if d.area is None or d.scale is None or d.evaluation is None or self.data_shown is Shown.HIDDEN:
            self._view.set_legend(None, None)
            return
        note = f"not seen {percent(1 - d.evaluation.statistics.area_seen)}"
        self._view.set_legend(d.scale, d.area, note, d.map_unit, is_fixed=d.map_unit != "mm")
