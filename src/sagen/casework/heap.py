"""A heap of files on its way in: one after the other, and none lost on the way."""

from __future__ import annotations

from collections import deque
from pathlib import Path


class Heap:
    """The files that wait to be brought in. One is `current` from when it is read until it is kept, left or failed;
    only then the next one comes. When all are settled, `summary` says once what became of more than one."""

    def __init__(self):
        self.current: Path | None = None
        self._waiting: deque[Path] = deque()
        self._kept, self._left, self._failed = 0, 0, []
        self._writing = 0

    @property
    def busy(self) -> bool:
        """Whether a file is on the bench or still to come."""
        return self.current is not None or bool(self._waiting)

    def add(self, paths: list[Path]) -> None:
        """Put files at the end of the heap."""
        self._waiting.extend(paths)

    def next(self) -> Path | None:
        """The next file, made the current one; None while one is, or when none is left."""
        if self.current is not None or not self._waiting:
            return None
        self.current = self._waiting.popleft()
        return self.current

    def keeping(self) -> None:
        """The current file was answered and is being kept."""
        if self.current is not None:
            self.current, self._writing = None, self._writing + 1

    def kept(self) -> None:
        """A file that was being kept is."""
        self._writing, self._kept = max(self._writing - 1, 0), self._kept + 1

    def not_kept(self, name: str, why: str) -> None:
        """A file that was being kept could not be."""
        self._writing = max(self._writing - 1, 0)
        self._failed.append((name, why))

    def left(self) -> None:
        """The current file was left."""
        if self.current is not None:
            self.current, self._left = None, self._left + 1

    def failed(self, why: str) -> None:
        """The current file could not be read."""
        if self.current is not None:
            self._failed.append((self.current.name, why))
            self.current = None

    def summary(self) -> str | None:
        """Once all are settled: what became of them, where there were several; and the count starts anew."""
        if self.busy or self._writing:
            return None
        from sagen.casework.words import imports_summary

        kept, left, failed = self._kept, self._left, self._failed
        self._kept, self._left, self._failed = 0, 0, []
        return imports_summary(kept, left, failed) if kept + left + len(failed) > 1 else None
