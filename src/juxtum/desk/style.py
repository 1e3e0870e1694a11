"""The stylesheet, built from the look's tokens; no colour is written anywhere else."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QByteArray, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QApplication

from juxtum.look import BODY, FAMILY, HEADING, LARGE, LIGHT, MONO_FAMILY, SMALL, Look, asset


@dataclass
class Theme:
    """The look and text scale in force."""

    look: Look = LIGHT
    scale: float = 1.0

    def px(self, size: float) -> int:
        """A size in pixels at the text scale."""
        return max(1, round(size * self.scale))


THEME = Theme()


def colour(name: str) -> QColor:
    """A token as a colour."""
    return QColor(getattr(THEME.look, name))


def font(size: float = BODY, bold: bool = False, mono: bool = False) -> QFont:
    """A font of the shipped families at the text scale."""
    made = QFont(MONO_FAMILY if mono else FAMILY)
    made.setPixelSize(THEME.px(size))
    made.setBold(bold)
    return made


def load_fonts() -> None:
    """Make the shipped fonts known."""
    for file in sorted(asset("fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))


def icon(name: str, token: str = "ink") -> QIcon:
    """A shipped line icon in the colour of a token, grey when disabled."""
    made = QIcon()
    for mode, used in ((QIcon.Mode.Normal, token), (QIcon.Mode.Disabled, "rule")):
        made.addPixmap(_drawn(name, used), mode)
    return made


def _drawn(name: str, token: str, size: int = 40) -> QPixmap:
    text = (asset("icons") / f"{name}.svg").read_text("utf-8")
    text = text.replace("currentColor", getattr(THEME.look, token)).replace('stroke-width="2"', 'stroke-width="1.7"')
    pixmap = QPixmap(QSize(size, size))
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(text.encode())).render(painter)
    painter.end()
    return pixmap


def apply(application: QApplication) -> None:
    """Dress the application in the theme."""
    application.setStyle("Fusion")
    application.setFont(font())
    look = THEME.look
    roles = {
        QPalette.ColorRole.Window: look.paper, QPalette.ColorRole.Base: look.panel, QPalette.ColorRole.Text: look.ink,
        QPalette.ColorRole.WindowText: look.ink, QPalette.ColorRole.Button: look.panel, QPalette.ColorRole.ButtonText: look.ink,
        QPalette.ColorRole.Highlight: look.accent, QPalette.ColorRole.HighlightedText: look.on_accent,
        QPalette.ColorRole.ToolTipBase: look.ink, QPalette.ColorRole.ToolTipText: look.panel,
        QPalette.ColorRole.PlaceholderText: look.ink_soft, QPalette.ColorRole.AlternateBase: look.field,
    }  # fmt: skip
    palette = QPalette()
    for role, value in roles.items():
        palette.setColor(role, QColor(value))
    application.setPalette(palette)
    application.setStyleSheet(stylesheet())


def _arrow() -> str:
    """The drop-down arrow in the colour of the look, as a file, which is what a stylesheet can refer to."""
    from juxtum.folders import cache_folder

    path = cache_folder() / "look" / f"arrow-{THEME.look.name}.svg"
    path.parent.mkdir(exist_ok=True)
    text = (asset("icons") / "chevron-down.svg").read_text("utf-8").replace("currentColor", THEME.look.ink_soft)
    path.write_text(text, "utf-8")
    return path.as_posix()


def stylesheet() -> str:
    """All rules, with tokens and sizes filled in."""
    look = THEME.look
    sizes = {"body": BODY, "small": SMALL, "large": LARGE, "heading": HEADING, "part": 15}
    text = _RULES.replace("@arrow", _arrow())
    for name, value in sizes.items():
        text = text.replace(f"@{name}px", f"{THEME.px(value)}px")
    for name in (
        "accent_wash",
        "on_accent",
        "ink_soft",
        "not_conforming",
        "undecided",
        "conforms",
        "paper",
        "panel",
        "rule",
        "field",
        "ink",
        "accent",
    ):
        text = text.replace(f"@{name}", getattr(look, name))
    return text.replace("@words", FAMILY).replace("@mono", MONO_FAMILY)


_RULES = """
* { font-family: "@words"; font-size: @bodypx; color: @ink; outline: none; }
QMainWindow, QDialog { background: @paper; }
QToolTip { background: @ink; color: @panel; border: none; padding: 5px 8px; }
QToolTip QLabel { color: @panel; }
QMenuBar { background: @paper; border-bottom: 1px solid @rule; padding: 1px 6px; }
QMenuBar::item { padding: 4px 10px; background: transparent; color: @ink_soft; }
QMenuBar::item:selected { color: @ink; background: @field; border-radius: 4px; }
QMenu { background: @panel; border: 1px solid @rule; padding: 4px; }
QMenu::item { padding: 5px 28px 5px 10px; border-radius: 4px; }
QMenu::item:selected { background: @accent_wash; }
QMenu::item:disabled { color: @ink_soft; }
QMenu::separator { height: 1px; background: @rule; margin: 4px 8px; }
#strip { background: @panel; border-bottom: 1px solid @rule; }
#route { background: @paper; border-right: 1px solid @rule; }
#worksheet, #worksheetBody { background: @panel; }
#worksheet { border-left: 1px solid @rule; }
#statusStrip { background: @paper; border-top: 1px solid @rule; }
#statusStrip QLabel { color: @ink_soft; font-size: @smallpx; }
QLabel#title { font-size: @headingpx; font-weight: bold; }
QLabel#heading { font-weight: bold; }
QLabel#warning { color: @undecided; font-size: @smallpx; }
QLabel#soft, QLabel#fact { color: @ink_soft; font-size: @smallpx; }
QLabel#mono { font-family: "@mono"; }
QLabel#large { font-family: "@mono"; font-size: @largepx; font-weight: bold; }
QLabel#partName { font-weight: bold; font-size: @partpx; }
#next { background: @accent_wash; border-left: 3px solid @accent; border-radius: 4px; }
#next QLabel { background: transparent; }
#notice { background: @panel; border: 1px solid @not_conforming; border-radius: 6px; }
#notice[kind="news"] { border-color: @accent; }
#card { background: @paper; border: 1px solid @rule; border-radius: 6px; }
QPushButton { background: @panel; border: 1px solid @rule; border-radius: 5px; padding: 5px 11px; min-height: 18px; }
QPushButton:hover { border-color: @ink_soft; }
QPushButton:pressed { background: @field; }
QPushButton:disabled { color: @ink_soft; background: @paper; }
QPushButton:focus, QComboBox:focus, QLineEdit:focus, QToolButton:focus, QPlainTextEdit:focus { border: 2px solid @accent; }
QPushButton:focus { padding: 4px 10px; }
QPushButton#primary { background: @accent; border-color: @accent; color: @on_accent; font-weight: bold; }
QPushButton#primary:disabled { background: @rule; border-color: @rule; color: @ink_soft; }
QPushButton:checked { background: @accent_wash; border-color: @accent; }
QPushButton#plain { background: transparent; border: none; color: @accent; padding: 5px 4px; text-align: left; }
QPushButton#plain:focus { border: 2px solid @accent; padding: 3px 2px; }
QToolButton { background: transparent; border: 1px solid transparent; border-radius: 4px; padding: 4px 7px; }
QToolButton[tight="true"] { padding: 4px 2px; }
QToolButton:hover { background: @field; }
QToolButton:checked { color: @accent; font-weight: bold; background: @accent_wash; }
#stageBar { background: @panel; border: 1px solid @rule; border-radius: 6px; }
QLineEdit, QPlainTextEdit, QComboBox, QSpinBox { background: @paper; border: 1px solid @rule; border-radius: 4px; padding: 4px 7px; min-height: 18px; selection-background-color: @accent; selection-color: @on_accent; }
QLineEdit[bad="true"] { border-color: @not_conforming; }
QLineEdit#number { font-family: "@mono"; }
QComboBox::drop-down { border: none; width: 22px; }
QComboBox::down-arrow { image: url("@arrow"); width: 13px; height: 13px; }
QComboBox QAbstractItemView { background: @panel; border: 1px solid @rule; selection-background-color: @accent_wash; selection-color: @ink; }
QTableView { background: @panel; border: none; gridline-color: @rule; selection-background-color: @accent_wash; selection-color: @ink; }
QTableView::item { padding: 0 4px; border-bottom: 1px solid @field; }
QTableView::item:selected { background: @accent_wash; color: @ink; }
QHeaderView { background: @paper; }
QHeaderView::section { background: @paper; color: @ink_soft; font-size: @smallpx; border: none; border-bottom: 1px solid @rule; padding: 4px; }
QTableCornerButton::section { background: @paper; border: none; }
QListWidget { background: @panel; border: 1px solid @rule; border-radius: 4px; }
QListWidget::item { padding: 5px 8px; border-radius: 4px; }
QListWidget::item:selected { background: @accent_wash; color: @ink; }
QScrollArea { border: none; background: @panel; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: @rule; border-radius: 4px; min-height: 30px; margin: 1px; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle:horizontal { background: @rule; border-radius: 4px; min-width: 30px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QProgressBar { background: @field; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }
QProgressBar::chunk { background: @accent; border-radius: 3px; }
QSplitter::handle { background: @rule; }
QSplitter::handle:vertical { height: 1px; }
QSlider::groove:horizontal { height: 4px; background: @rule; border-radius: 2px; }
QSlider::handle:horizontal { width: 14px; height: 14px; margin: -5px 0; border-radius: 7px; background: @accent; }
#palette { background: @panel; border: 1px solid @accent; border-radius: 8px; }
#palette QLineEdit { font-size: @partpx; border: none; border-bottom: 1px solid @rule; border-radius: 0; background: @panel; }
#palette QListWidget { border: none; }
QCheckBox::indicator, QRadioButton::indicator { width: 14px; height: 14px; }
"""
