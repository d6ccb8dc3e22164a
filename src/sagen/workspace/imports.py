"""The queue of files and recordings on their way in: one after the other, and none lost on the way."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from pathlib import Path

from sagen.casework.words import imports_summary


@dataclass(frozen=True)
class Import:
    """One file, or one recording of the workspace's own."""

    path: Path
    recording: str = ""  #: the recording's identity; "" for a file
    by_itself: bool = False  #: a watched folder gave it


class ImportQueue:
    """What waits to be brought in. One is `current` from when it is read until it is kept, left or failed; only then the next
    one comes. When all are settled, `summary` says once what became of more than one."""

    def __init__(self):
        self.current: Import | None = None
        self._waiting: deque[Import] = deque()
        self._kept, self._left, self._failed = 0, 0, []
        self._writing = 0

    @property
    def busy(self) -> bool:
        """Whether one is on the bench or still to come."""
        return self.current is not None or bool(self._waiting)

    def holds(self, recording: str) -> bool:
        """Whether a recording is on the bench or waits to come there."""
        return any(coming.recording == recording for coming in (*self._waiting, *filter(None, (self.current,))))

    def add(self, imports: list[Import]) -> None:
        """Put some at the end of the queue."""
        self._waiting.extend(imports)

    def next(self) -> Import | None:
        """The next one, made the current one; None while one is, or when none is left."""
        if self.current is not None or not self._waiting:
            return None
        self.current = self._waiting.popleft()
        return self.current

    def keeping(self) -> None:
        """The current one was answered and is being kept."""
        if self.current is not None:
            self.current, self._writing = None, self._writing + 1

    def kept(self) -> None:
        """One that was being kept is."""
        self._writing, self._kept = max(self._writing - 1, 0), self._kept + 1

    def not_kept(self, name: str, why: str) -> None:
        """One that was being kept could not be."""
        self._writing = max(self._writing - 1, 0)
        self._failed.append((name, why))

    def left(self) -> None:
        """The current one was left."""
        if self.current is not None:
            self.current, self._left = None, self._left + 1

    def failed(self, why: str) -> None:
        """The current one could not be read, or there was no job for it."""
        if self.current is not None:
            self._failed.append((self.current.path.name, why))
            self.current = None

    def give_up(self) -> list[str]:
        """Let go of everything that is not answered yet; the names of the files, which then are where they were."""
        names = [
            coming.path.name for coming in (*filter(None, (self.current,)), *self._waiting) if not coming.recording
        ]
        self.current = None
        self._waiting.clear()
        return names

    def summary(self) -> str | None:
        """Once all are settled: what became of them, where there were several; and the count starts anew."""
        if self.busy or self._writing:
            return None
        kept, left, failed = self._kept, self._left, self._failed
        self._kept, self._left, self._failed = 0, 0, []
        return imports_summary(kept, left, failed) if kept + left + len(failed) > 1 else None
