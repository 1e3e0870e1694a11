"""Questions to the user: which file, which folder, which unit."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFileDialog, QRadioButton, QVBoxLayout, QWidget

from juxtum.desk.session import Session
from juxtum.desk.widgets import label
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.mesh_writing import WRITERS
from juxtum.exchange.meshes import MESH_SUFFIXES, POINT_SUFFIXES, MeshFile, read_mesh
from juxtum.job.inputs import core_size
from juxtum.job.store import SUFFIX
from juxtum.progress import Progress
from juxtum.units import Unit, guess_unit

NOMINAL_SUFFIXES = (*CAD_SUFFIXES, *MESH_SUFFIXES)
SCAN_SUFFIXES = (*MESH_SUFFIXES, *POINT_SUFFIXES)
MOST_ASKED = 8
"""Of more meshes nobody looks for the nominal in a list."""


class Asking:
    """File dialogs that remember the last folder, and the question for a unit."""

    def __init__(self, window: QWidget, session: Session) -> None:
        self._window, self._session = window, session

    @property
    def _folder(self) -> str:
        return str(self._session.settings.value("folder", str(Path.home())))

    def _remember(self, name: str) -> Path | None:
        if not name:
            return None
        path = Path(name)
        self._session.settings.setValue("folder", str(path if path.is_dir() else path.parent))
        return path

    def job(self) -> Path | None:
        """A job to open."""
        return self._remember(
            QFileDialog.getOpenFileName(self._window, "Open job", self._folder, f"Jobs (*{SUFFIX})")[0]
        )

    def target(self, suggestion: str) -> Path | None:
        """Where to save a job."""
        start = str(Path(self._folder) / suggestion)
        return self._remember(QFileDialog.getSaveFileName(self._window, "Save job", start, f"Jobs (*{SUFFIX})")[0])

    def procedure(self) -> Path | None:
        """Where to write a procedure."""
        start = str(Path(self._folder) / "procedure.json")
        return self._remember(
            QFileDialog.getSaveFileName(self._window, "Export procedure", start, "Procedures (*.json)")[0]
        )

    def nominal(self) -> Path | None:
        """A nominal."""
        kinds = " ".join(f"*{s}" for s in NOMINAL_SUFFIXES)
        return self._remember(
            QFileDialog.getOpenFileName(self._window, "Import CAD model", self._folder, f"Nominals ({kinds})")[0]
        )

    def scans(self) -> list[Path]:
        """One scan or several."""
        kinds = " ".join(f"*{s}" for s in SCAN_SUFFIXES)
        names = QFileDialog.getOpenFileNames(self._window, "Import scan", self._folder, f"Scans ({kinds})")[0]
        return [found for found in map(self._remember, names) if found is not None]

    def table(self, suggestion: str) -> Path | None:
        """Where to write a table."""
        start = str(Path(self._folder) / suggestion)
        return self._remember(QFileDialog.getSaveFileName(self._window, "Save table", start, "Tables (*.csv)")[0])

    def instrument(self) -> Path | None:
        """An instrument document."""
        return self._remember(
            QFileDialog.getOpenFileName(self._window, "Load instrument", self._folder, "Instruments (*.json)")[0]
        )

    def point_list(self) -> Path | None:
        """A list of points or targets."""
        return self._remember(
            QFileDialog.getOpenFileName(self._window, "Load a list", self._folder, "Lists (*.csv *.txt)")[0]
        )

    def drawing(self) -> Path | None:
        """A drawing's table."""
        return self._remember(
            QFileDialog.getOpenFileName(self._window, "Import drawing", self._folder, "Tables (*.csv *.xlsx)")[0]
        )

    def instrument_copy(self, suggestion: str) -> Path | None:
        """Where to write an instrument's document."""
        start = str(Path(self._folder) / suggestion)
        return self._remember(
            QFileDialog.getSaveFileName(self._window, "Save a copy of the instrument", start, "Instruments (*.json)")[0]
        )

    def cloud(self, suggestion: str) -> Path | None:
        """Where to write a cloud of points."""
        start = str(Path(self._folder) / suggestion)
        return self._remember(
            QFileDialog.getSaveFileName(self._window, "Save the cloud", start, "Point clouds (*.ply)")[0]
        )

    def section(self, suggestion: str) -> Path | None:
        """Where to write a section."""
        start = str(Path(self._folder) / suggestion)
        kinds = "Drawings for CAD (*.dxf);;Pictures (*.svg);;Tables (*.csv)"
        return self._remember(QFileDialog.getSaveFileName(self._window, "Export section", start, kinds)[0])

    def surface(self, suggestion: str) -> Path | None:
        """Where to hand out a surface."""
        start = str(Path(self._folder) / suggestion)
        kinds = ";;".join(f"{suffix[1:].upper()} (*{suffix})" for suffix in WRITERS)
        return self._remember(QFileDialog.getSaveFileName(self._window, "Export surface", start, kinds)[0])

    def folder(self) -> Path | None:
        """A folder for the report."""
        return self._remember(QFileDialog.getExistingDirectory(self._window, "Folder for the report", self._folder))


def look_at(path: Path, progress: Progress) -> MeshFile | None:
    """A mesh or list of points for the question of its unit; None for CAD, which names its own."""
    if path.suffix.lower() in CAD_SUFFIXES:
        return None
    progress.phase(f"looking at {path.name}")
    return read_mesh(path)


class UnitDialog(QDialog):
    """In which unit are the numbers of a file that names none?"""

    def __init__(self, parent: QWidget, name: str, file: MeshFile, reference: float) -> None:
        super().__init__(parent)
        self.setWindowTitle("Unit")
        self.setAccessibleName("Unit of the file")
        size = core_size(file.scan)
        guess = guess_unit(size, reference) if reference > 0 else Unit.MILLIMETRE
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 14)
        layout.addWidget(label(f"'{name}' names no unit.", "heading"))
        hint = (
            f"The nominal is {reference:.0f} mm across; this looks like {guess.plural}."
            if reference > 0
            else "In which unit are its numbers?"
        )
        layout.addWidget(label(hint, "soft", wrap=True))
        self._options: dict[Unit, QRadioButton] = {}
        for unit in Unit:
            option = QRadioButton(f"{unit.plural}: {size * unit.millimetres:.4g} mm across")
            option.setAccessibleName(unit.plural)
            option.setChecked(unit is guess)
            layout.addWidget(option)
            self._options[unit] = option
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)

    @property
    def unit(self) -> Unit:
        """The chosen unit."""
        return next(unit for unit, option in self._options.items() if option.isChecked())


class NominalDialog(QDialog):
    """Which of several meshes is the nominal, where the job has none?"""

    def __init__(self, parent: QWidget, paths: list[Path]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Nominal")
        self.setAccessibleName("Which file is the nominal")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 14)
        layout.addWidget(label("The job has no nominal yet. What are these?", "heading"))
        self._options: list[tuple[Path | None, QRadioButton]] = []
        meshes = [path for path in paths if path.suffix.lower() in NOMINAL_SUFFIXES]
        words: list[tuple[Path | None, str]] = [
            (None, f"All {len(paths)} are scans"),
            *((path, f"{path.name} is the nominal") for path in meshes[:MOST_ASKED]),
        ]
        for path, text in words:
            option = QRadioButton(text)
            option.setAccessibleName(text)
            option.setChecked(path is None)
            layout.addWidget(option)
            self._options.append((path, option))
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)

    @property
    def nominal(self) -> Path | None:
        """The chosen file; None when all are scans."""
        return next(path for path, option in self._options if option.isChecked())
