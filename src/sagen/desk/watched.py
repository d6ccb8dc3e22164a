"""A folder whose new files come in by themselves."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

STEADY_MS = 700  #: a file that has not grown for so long is whole
MOST_LISTED = 5000


class WatchedFolder(QObject):
    """Tells each file of some suffixes that appears in a folder once it has stopped growing; what was there before is left
    alone."""

    came = Signal(object)  #: Path

    def __init__(self, folder: Path, suffixes: frozenset[str], parent: QObject | None = None):
        super().__init__(parent)
        self.folder, self.suffixes = folder, suffixes
        self._known = set(self._listed())
        self._growing: dict[Path, int] = {}
        self._watcher = QFileSystemWatcher([str(folder)], self)
        self._watcher.directoryChanged.connect(lambda _: self._look())
        self._timer = QTimer(self, interval=STEADY_MS)
        self._timer.timeout.connect(self._look)

    def _listed(self) -> list[Path]:
        try:
            found = [
                path
                for path in self.folder.iterdir()
                if path.suffix.lower() in self.suffixes and not path.name.startswith(".")
            ]
        except OSError:
            return []
        return sorted(found)[:MOST_LISTED]

    def _look(self) -> None:
        for path in self._listed():
            if path in self._known:
                continue
            try:
                size = path.stat().st_size
            except OSError:
                continue
            if size and self._growing.get(path) == size:
                self._known.add(path)
                self._growing.pop(path)
                self.came.emit(path)
            else:
                self._growing[path] = size
        if self._growing:
            self._timer.start()
        else:
            self._timer.stop()

    def stop(self) -> None:
        """Watch no more."""
        self._timer.stop()
        self._watcher.deleteLater()
