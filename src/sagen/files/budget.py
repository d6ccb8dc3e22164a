"""How much a reader may take, and whether it is still wanted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

from sagen.model.errors import CaptureFileError
from sagen.model.language import tr

#: bytes that a reader may fill whatever the file; and times the file's size, where that is less, but never below the third
MOST_MEMORY, MULTIPLE, LEAST_MEMORY = 2 << 30, 40, 256 << 20
#: s of processor that a reader may take
MOST_SECONDS = 20

_WANTED: ContextVar[Callable[[], bool] | None] = ContextVar("go_on", default=None)


class Unwanted(CaptureFileError):
    """Reading was stopped by who had asked for it."""


@contextmanager
def wanted_while(go_on: Callable[[], bool]) -> Iterator[None]:
    """Within, a reader in a process of its own is ended as soon as `go_on()` is False."""
    token = _WANTED.set(go_on)
    try:
        yield
    finally:
        _WANTED.reset(token)


def is_wanted() -> bool:
    """Whether what is being read here still is."""
    go_on = _WANTED.get()
    return go_on is None or go_on()


def free_memory() -> int:
    """Bytes that the machine could give now; a great many where it does not say."""
    try:
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) << 10
    except (OSError, ValueError, IndexError):
        pass
    return 1 << 50


def memory_for(size: int) -> int:
    """The budget in bytes of a file of so many bytes: 2 GiB, half of what is free, or 40 times the file (but 256 MiB at
    least), whichever is least."""
    return min(MOST_MEMORY, free_memory() // 2, max(MULTIPLE * size, LEAST_MEMORY))


class Spent:
    """What a reader has claimed of its budget so far."""

    def __init__(self, path: Path):
        self.most = memory_for(path.stat().st_size)
        self.bytes = 0

    def claim(self, size: int, what: str) -> None:
        """Claim so many bytes before they are filled.

        Raises
        ------
        CaptureFileError
            when the file's claims would fill more than its budget.
        """
        self.bytes += max(int(size), 0)
        if self.bytes > self.most:
            raise CaptureFileError(
                tr(
                    "with {what} it would fill {bytes} of memory; a file of its size may fill {most}",
                    what=what[:60],
                    bytes=said(self.bytes),
                    most=said(self.most),
                )
            )


def said(size: int) -> str:
    """Bytes in words."""
    return f"{size / (1 << 30):.3g} GiB" if size >= 1 << 30 else f"{max(size >> 20, 1)} MiB"
