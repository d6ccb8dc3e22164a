"""Passing folders in the system's temporary one, each leased: what a killed process left is found and removed."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sagen.artifacts.leases import Lease, Leases

_SWEPT: list[Path] = []  #: roots that this process has swept


def passing_root() -> Path:
    """The folder in which this user's passing folders lie; raises OSError."""
    root = Path(tempfile.gettempdir()) / f"sagen-{os.getuid()}"
    root.mkdir(mode=0o700, exist_ok=True)
    if root.is_symlink() or root.stat().st_uid != os.getuid():
        # Somebody else's: a folder of our own instead.
        return Path(tempfile.mkdtemp(prefix="sagen-"))
    return root


def make_passing(what: str) -> Lease:
    """A new folder, at the lease's `path`; `discard` removes it. `what` is one lower-case word. Raises OSError."""
    root = passing_root()
    if root not in _SWEPT:
        _SWEPT.append(root)
        sweep_passing(root)
    lease = Leases(root).begin(f"{what}-{os.urandom(6).hex()}", in_place=True)
    lease.path.mkdir()
    return lease


@contextmanager
def passing_folder(what: str) -> Iterator[Path]:
    """A folder that is gone afterwards."""
    lease = make_passing(what)
    try:
        yield lease.path
    finally:
        lease.discard()


def sweep_passing(root: Path | None = None) -> int:
    """Remove what processes that are gone left behind; answers how many folders."""
    count = 0
    with suppress(OSError):
        for left in Leases(root or passing_root()).take_over():
            left.discard()
            count += 1
    return count
