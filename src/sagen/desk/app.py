"""Starts the window: first the shell on the screen, then everything that takes longer."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from sagen.desk import theme
from sagen.desk.session import Session
from sagen.desk.window import MainWindow


def make_application() -> QApplication:
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Sagen")
    app.setOrganizationName("sagen")
    theme.load_fonts()
    return app


def make_window(settings: QSettings, *, demo: bool = False) -> MainWindow:
    """The shell, dressed in the remembered look; nothing is opened yet."""
    name = str(settings.value("look", "light"))
    theme.apply(QApplication.instance(), name if name in theme.LOOKS else "light")
    session = Session()
    session.demo = demo
    window = MainWindow(session, settings)
    session.setParent(window)
    return window


def demo_log(request):
    """The demo log is made anew in a passing folder, so that it never touches the user's own."""
    from sagen.demo import make_demo_log

    return make_demo_log(progress=request.tell)


def own_log(folder: Path | None = None) -> Callable:
    def make(_request):
        from sagen.store.log import JobLog, default_folder

        return JobLog(folder or default_folder(), os.environ.get("SAGEN_STORE"))

    return make


def run(*, demo: bool = False, files: list[str] | None = None) -> int:
    """Open the window and run until it is closed; answers the exit status."""
    app = make_application()
    settings = QSettings("sagen", "demo" if demo else "sagen")
    window = make_window(settings, demo=demo)
    window.show()
    if files:
        window.bring_in([str(Path(one).absolute()) for one in files])
    QTimer.singleShot(0, lambda: window.session.open_log(demo_log if demo else own_log()))
    return app.exec()
