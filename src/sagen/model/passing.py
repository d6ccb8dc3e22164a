"""Passing folders: each carries the number of its process, so that what a killed one left is found and removed."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_NAME = re.compile(r"sagen-(?P<what>[a-z]+)-(?P<process>\d+)-\w+")


_SWEPT: list[bool] = []  #: once a process


def make_passing(what: str) -> Path:
    """A new folder in the system's temporary one; its maker removes it. `what` is one lower-case word."""
    if not _SWEPT:
        _SWEPT.append(True)
        sweep_passing()
    return Path(tempfile.mkdtemp(prefix=f"sagen-{what}-{os.getpid()}-"))


@contextmanager
def passing_folder(what: str) -> Iterator[Path]:
    """A folder that is gone afterwards."""
    folder = make_passing(what)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def sweep_passing() -> int:
    """Remove what processes that are gone left in the temporary folder; answers how many folders."""
    count = 0
    with suppress(OSError):
        for one in Path(tempfile.gettempdir()).glob("sagen-*-*"):
            named = _NAME.fullmatch(one.name)
            if (
                named
                and not one.is_symlink()
                and one.stat().st_uid == os.getuid()
                and not _alive(int(named["process"]))
            ):
                shutil.rmtree(one, ignore_errors=True)
                count += 1
    return count


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return True
