"""The application: fonts, style, window, start with files or with what a crash left behind."""

from __future__ import annotations

import logging
import sys
import threading
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtWidgets import QApplication

from juxtum.desk import style
from juxtum.log import start_log


def make_application(arguments: list[str]) -> QApplication:
    """A dressed application."""
    application = QApplication(arguments)
    application.setApplicationName("Juxtum")
    application.setOrganizationName("juxtum")
    style.load_fonts()
    style.apply(application)
    return application


def run(files: list[Path], demo: bool = False) -> int:
    """Open the window and stay until it is closed."""
    start_log()
    # The worker computes in the same interpreter: it has to hand over more often than by default.
    sys.setswitchinterval(0.002)
    application = make_application(sys.argv[:1])
    from juxtum.desk.window import MainWindow

    window = MainWindow(QSettings())
    _catch_all(window)
    window.show()
    QTimer.singleShot(0, lambda: _begin(window, files, demo))
    return application.exec()


def _begin(window: object, files: list[Path], demo: bool) -> None:
    from juxtum.desk.window import MainWindow

    assert isinstance(window, MainWindow)
    left = window.session.recovery.left_behind()
    if files:
        window.bringing.bring(files)
    elif demo:
        window.bringing.open_demo()
        window.guide.start()
    elif left is not None:
        window.session.recover(left)


def _catch_all(window: object) -> None:
    """What nobody caught goes to the log and to the notice; the window stays."""
    from juxtum.desk.window import MainWindow

    assert isinstance(window, MainWindow)

    def hook(kind: type[BaseException], problem: BaseException, trace: TracebackType | None) -> None:
        logging.getLogger("juxtum").error("uncaught", exc_info=(kind, problem, trace))
        if isinstance(problem, Exception) and threading.current_thread() is threading.main_thread():
            window.notice.tell_failure(problem)

    sys.excepthook = hook
