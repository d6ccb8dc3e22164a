"""A folder whose new files come in by themselves: each once it is whole and at rest, and anew when it is written again."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from watchdog.events import FileSystemEvent, FileSystemEventHandler
from watchdog.observers import Observer

from sagen.files.wholeness import is_whole

#: s that a file has rested, in size and time, before it is taken; and, where it never looks whole, before it is taken all the
#: same, so that its reader can say what is wrong with it
REST_S, LONG_REST_S = 1.0, 8.0
LOOK_S = 0.25  #: between two looks at what is not at rest yet
ANYWAY_S = 2.0  #: between two looks where nothing was told: network drives tell nothing

Identity = tuple[int, int, int]  #: inode, bytes, ns of its last change


class _Told(FileSystemEventHandler):
    def __init__(self, moved: threading.Event):
        self._moved = moved

    def on_any_event(self, event: FileSystemEvent) -> None:
        self._moved.set()


class WatchedFolder:
    """Tells each file of some suffixes that appears or is written anew in a folder; what was there before is left alone.

    Parameters
    ----------
    came : callable
        called with the path, in a thread of the watch's own; it may not raise
    """

    def __init__(self, folder: Path, suffixes: frozenset[str], came: Callable[[Path], None]):
        self.folder, self.suffixes, self._came = Path(folder), suffixes, came
        self._taken: dict[str, Identity] = dict(self._listed())
        #: what is not at rest yet: its identity as seen last, since when, by the clock that nobody sets
        self._waiting: dict[str, tuple[Identity, float]] = {}
        self._moved, self._stop = threading.Event(), threading.Event()
        self._observer, self._seen_folder = None, None
        self._thread = threading.Thread(target=self._run, name="watching a folder", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Watch no more."""
        self._stop.set()
        self._moved.set()
        if threading.current_thread() is not self._thread:
            self._thread.join(5)

    def _run(self) -> None:
        try:
            while not self._stop.is_set():
                self._observe()
                self._look()
                self._moved.wait(LOOK_S if self._waiting else ANYWAY_S)
                self._moved.clear()
        finally:
            self._observe_no_more()

    def _observe(self) -> None:
        """Have the system tell of changes; anew, where the folder was removed and made again."""
        try:
            there = self.folder.stat().st_ino
        except OSError:
            there = None
        if there == self._seen_folder:
            return
        self._observe_no_more()
        self._seen_folder = there
        if there is not None:
            with suppress(OSError, RuntimeError):  # too many watches: looking now and then finds it, too
                observer = Observer()
                observer.schedule(_Told(self._moved), str(self.folder))
                observer.start()
                self._observer = observer

    def _observe_no_more(self) -> None:
        if self._observer is not None:
            self._observer.stop()
            self._observer.join(2)
            self._observer = None

    def _listed(self) -> list[tuple[str, Identity]]:
        found = []
        try:
            with os.scandir(self.folder) as rows:
                for row in rows:
                    if row.name.startswith(".") or os.path.splitext(row.name)[1].lower() not in self.suffixes:
                        continue
                    with suppress(OSError):
                        found.append((row.name, _identity(row.stat())))
        except OSError:
            pass  # gone for now
        return sorted(found)

    def _look(self) -> None:
        now = time.monotonic()
        listed = dict(self._listed())
        for name in [name for name in self._waiting if name not in listed]:
            del self._waiting[name]
        for name, identity in listed.items():
            if self._taken.get(name) == identity:
                self._waiting.pop(name, None)
                continue
            before, since = self._waiting.get(name, (None, now))
            if before != identity:
                self._waiting[name] = (identity, now)
            elif identity[1] and now - since >= REST_S and (now - since >= LONG_REST_S or self._whole(name, identity)):
                del self._waiting[name]
                self._taken[name] = identity
                self._came(self.folder / name)

    def _whole(self, name: str, identity: Identity) -> bool:
        """Whether a file is whole and was still the one that came to rest once that was read."""
        try:
            return is_whole(self.folder / name) and _identity(os.stat(self.folder / name)) == identity
        except OSError:
            return False


def _identity(told: os.stat_result) -> Identity:
    return told.st_ino, told.st_size, told.st_mtime_ns
