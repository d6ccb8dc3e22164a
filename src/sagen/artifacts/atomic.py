"""Files that are written whole or not at all, and small texts that are read with a limit."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sagen.artifacts.leases import Leases, sync_folder
from sagen.model.errors import CaptureFileError, SheetError
from sagen.model.language import tr

LARGEST_TEXT = 1 << 20
PASSING = ".sagen-"  #: how passing names in a person's folder begin


@contextmanager
def atomic_write(path: Path) -> Iterator[Path]:
    """A passing name beside `path`, with its suffix, to write under; renamed once it is whole and on the disk. What was
    there stays until then, and a link is replaced, never written through. What killed processes left under passing names
    here is swept.

    Raises
    ------
    CaptureFileError
        when the disk refuses, or something stands there that is no plain file.
    """
    path = Path(path)
    lease = None
    try:
        if path.exists() and not path.is_file():
            raise CaptureFileError(tr("{path} cannot be written: it is no plain file", path=path))
        leases = Leases(path.parent)
        for left in leases.take_over():
            if left.path.name.startswith(PASSING):
                left.discard()
            else:
                left.let_go()
        lease = leases.begin(PASSING + "file", suffix=path.suffix[:20])
        yield lease.part
        with lease.part.open("rb") as stream:
            os.fsync(stream.fileno())
        lease.part.replace(path)
        sync_folder(path.parent)
    except OSError as error:
        raise CaptureFileError(
            tr("{path} cannot be written: {strerror}", path=path, strerror=error.strerror or error)
        ) from None
    finally:
        if lease is not None:
            lease.discard()


def write_whole(path: Path, data: bytes) -> None:
    """Write bytes whole or not at all. Raises CaptureFileError when the disk refuses."""
    with atomic_write(path) as passing:
        passing.write_bytes(data)


def writable(path: Path) -> None:
    """Find out whether a file can be written before there is anything to write.

    Raises
    ------
    CaptureFileError
        with why not.
    """
    path = Path(path)
    if not path.parent.is_dir():
        raise CaptureFileError(tr("{parent} is no folder", parent=path.parent))
    if path.exists() and not path.is_file():
        raise CaptureFileError(tr("{path} cannot be written: it is no plain file", path=path))
    try:
        Leases(path.parent).begin(PASSING + "file").discard()
    except OSError as error:
        raise CaptureFileError(
            tr("{path} cannot be written: {strerror}", path=path, strerror=error.strerror or error)
        ) from None


def read_small_text(path: str | Path, what: str, most: int = LARGEST_TEXT) -> str:
    """The text of a small file of the user's, UTF-8.

    Plain files only: a device, a pipe or a folder is refused before it is read, and never more than `most` bytes are.

    Raises
    ------
    SheetError
        with the file's name and what is wrong.
    """
    path = Path(path)
    name = path.name or str(path)
    try:
        # Without waiting: a pipe that nobody writes to would hold this up for ever.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        with os.fdopen(handle, "rb") as stream:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                raise SheetError(tr("{name}: is no plain file", name=name))
            data = stream.read(most + 1)
        if len(data) > most:
            raise SheetError(
                tr("{name}: larger than a {what} can be ({most:g} MiB)", name=name, what=what, most=most / (1 << 20))
            )
        return data.decode("utf-8-sig")
    except OSError as error:
        raise SheetError(
            tr("{name}: cannot be opened: {strerror}", name=name, strerror=error.strerror or error)
        ) from None
    except UnicodeDecodeError:
        raise SheetError(tr("{name}: not UTF-8 text", name=name)) from None
    except ValueError as error:
        raise SheetError(tr("{name}: no file can be called so ({error})", name=repr(name[:60]), error=error)) from None
