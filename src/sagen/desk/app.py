"""Starts the window: first the shell on the screen, then everything that takes longer."""

from __future__ import annotations

import os
import sys
from importlib import import_module

from PySide6.QtCore import QLibraryInfo, QLocale, QSettings, QTimer, QTranslator
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from sagen.desk.collector import Collector
from sagen.desk.frame import MainWindow
from sagen.desk.sizes import remembered_size
from sagen.desk.theme import theme
from sagen.model.language import spoken

STAND_IN = "stand-in"  #: the instruments of the demo


def make_application() -> QApplication:
    app = QApplication.instance() or QApplication(sys.argv[:1])
    # The interface thread waits this long for a busy worker to hand over at every step between Qt and Python.
    sys.setswitchinterval(0.0005)
    app.setApplicationName("Sagen")
    app.setOrganizationName("sagen")
    app.setDesktopFileName("sagen")
    _speak_as_the_program(app)
    app.setWindowIcon(QIcon(str(theme.HERE / "icons" / "sagen.svg")))
    return app


def _speak_as_the_program(app: QApplication) -> None:
    """Qt's own dialogs and menus, and how it reads figures, in the language of the program."""
    if spoken() == "en":
        return
    QLocale.setDefault(QLocale(spoken()))
    own = QTranslator(app)
    if own.load(f"qtbase_{spoken()}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
        app.installTranslator(own)


def make_shell(settings: QSettings) -> MainWindow:
    """The bare window in the remembered look."""
    app = QApplication.instance()
    theme.apply(app, theme.look_of(app, theme.wanted(settings)))
    return MainWindow(settings)


def make_window(settings: QSettings, *, demo: bool = False) -> MainWindow:
    """The window with its panes; no log is opened yet."""
    window = make_shell(settings)
    window.fill(instruments=bench_instruments(demo))
    return window


def bench_instruments(demo: bool) -> str:
    """The name of the instruments on the bench: in the demo the stand-in."""
    return STAND_IN if demo else ""


def demo_log(task):
    """The demo log is made anew in a passing folder, so that it never touches the user's own."""
    return import_module("sagen.casework.demo").make_demo_log(progress=task.tell)


def own_log(place=None):
    """Opens the log of a place, a folder or a URL; by default the user's own."""

    def make(_task):
        return import_module("sagen.store.opening").open_log(place)

    return make


def scale_to(settings: QSettings) -> None:
    """Text and controls as large as was chosen; Qt takes that up once, before there is an application."""
    size = remembered_size(settings)
    if size != 100 and "QT_SCALE_FACTOR" not in os.environ:
        os.environ["QT_SCALE_FACTOR"] = f"{size / 100:g}"


def run(*, demo: bool = False, files: list[str] | None = None, log: str | None = None) -> int:
    """Open the window and run until it is closed; answers the exit status. `log`: a folder or a URL, None for the user's own."""
    settings = QSettings("sagen", "demo" if demo else "sagen")
    scale_to(settings)
    app = make_application()
    one_window = import_module("sagen.desk.one_window")
    which = "demo" if demo else str(log or "own")
    if one_window.handed_on(which, files or []):
        return 0
    window = make_shell(settings)
    window.fit_screen()
    window.show()

    def fill() -> None:
        window.fill(instruments=bench_instruments(demo))
        one_window.OneWindow(which, window.take, window)
        import_module("sagen.casework.fault_log").start(window.workspace.said.emit)
        Collector(lambda: window.workspace.idle, window)
        if files:
            window.bring_in([os.path.abspath(file) for file in files])
        else:
            window.reopen_last()
        window.workspace.open_log(demo_log if demo else own_log(log))

    # After the first paint: a shell on the screen answers sooner than a full window that is not there yet.
    QTimer.singleShot(0, fill)
    return app.exec()
