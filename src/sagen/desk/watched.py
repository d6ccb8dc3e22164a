"""The folders whose new files come to the open workspace by themselves: one for captures, one for photos."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QSettings, Qt, Signal

from sagen.casework.watching import WatchedFolder
from sagen.desk.window_actions import WATCHED
from sagen.files.format_registry import capture_suffixes
from sagen.files.photos import PHOTO_FILES
from sagen.model.language import tr

if TYPE_CHECKING:
    from sagen.desk.workspace import DeskWorkspace

SAID = {
    "captures": tr("New captures in {} come to the bench by themselves; Enter keeps one."),
    "photos": tr("New photos in {} go on the trail of the open job."),
}


class WatchedFolders(QObject):
    """The watches of the window; remembered in its settings."""

    said = Signal(str)
    _came = Signal(str, object)

    def __init__(self, workspace: DeskWorkspace, settings: QSettings, parent: QObject | None = None):
        super().__init__(parent)
        self._workspace, self._settings = workspace, settings
        self._watches: dict[str, WatchedFolder] = {}
        self._came.connect(self._bring, Qt.ConnectionType.QueuedConnection)

    def resume(self) -> None:
        """Watch what was watched the last time."""
        for what in WATCHED:
            name = str(self._settings.value(f"{what}/folder", ""))
            if name and Path(name).is_dir() and what not in self._watches:
                self._watch(what, name)

    def watch(self, what: str, name: str) -> None:
        """Watch a folder from now on; "": none."""
        self._settings.setValue(f"{what}/folder", name)
        self._watch(what, name)

    def _watch(self, what: str, name: str) -> None:
        if what in self._watches:
            self._watches.pop(what).stop()
        if name:
            photos = frozenset(PHOTO_FILES)
            suffixes = photos if what == "photos" else capture_suffixes()
            self._watches[what] = WatchedFolder(Path(name), suffixes, lambda path: self._came.emit(what, path))
            self.said.emit(SAID[what].format(name))

    def _bring(self, what: str, path: Path) -> None:
        if self._workspace.core is not None and what in self._watches:
            self._workspace.bring_in([path], by_itself=True)

    def stop(self) -> None:
        """Watch nothing any more."""
        for watch in self._watches.values():
            watch.stop()
        self._watches.clear()
