"""The bare window: it paints at once, the same frames in the same places as the panes that follow. What it does beyond that is
`shell.Shell`'s, which is loaded after the first paint."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module

from PySide6.QtCore import QSettings
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from sagen.desk.sizes import HEADER_HEIGHT, LEAST_SIZE, PANES, SIZE
from sagen.model.language import tr


class MainWindow(QMainWindow):
    """Header, three panes, and what Qt asks of a window. Everything else is asked of the shell, through this one."""

    def __init__(self, settings: QSettings):
        super().__init__()
        self.settings = settings
        self.shell = None
        self.setWindowTitle("Sagen")
        self.resize(*SIZE)
        self.setMinimumSize(*LEAST_SIZE)
        self.setAcceptDrops(True)
        geometry = settings.value("window/geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self._frame()

    def __getattr__(self, name: str):
        shell = self.__dict__.get("shell")
        if shell is None:
            raise AttributeError(tr("the window is bare yet: {name}", name=name))
        return getattr(shell, name)

    def fit_screen(self) -> None:
        """No larger than the screen that there is."""
        room = self.screen().availableSize()
        self.resize(min(self.width(), room.width()), min(self.height(), room.height()))

    def _frame(self) -> None:
        middle = QWidget()
        self.setCentralWidget(middle)
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(6, 6, 6, 6)
        outer.setSpacing(6)
        bar, row = QWidget(), QHBoxLayout()
        bar.setObjectName("bar")
        bar.setFixedHeight(HEADER_HEIGHT)
        row.setSpacing(6)
        for wide in PANES:
            pane = QWidget()
            pane.setObjectName("pane")
            row.addWidget(pane, wide)
        outer.addWidget(bar)
        outer.addLayout(row, 1)

    def fill(self, *, instruments: str = "") -> None:
        """Bring in panes and workspace; nothing is opened yet. `instruments` names what stands in on the bench."""
        make: Callable = import_module("sagen.desk.shell").Shell
        self.shell = make(self, self.settings, instruments)

    # Qt ------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        names = [url.toLocalFile() for url in event.mimeData().urls() if url.isLocalFile()]
        if names and self.shell is not None:
            self.shell.bring_in(names)

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        if self.shell is not None:
            self.shell.fit_panes()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Close once everything that is being written is: until then it says so, and closes by itself."""
        if self.shell is not None and not self.shell.may_close():
            event.ignore()
            return
        self.settings.setValue("window/geometry", self.saveGeometry())
        if self.shell is not None:
            self.shell.close_down()
        event.accept()
