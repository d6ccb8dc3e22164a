"""The capture formats: which of them a file is in, by its content, and every way to fail as one sentence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from sagen.artifacts.atomic import atomic_write, writable
from sagen.files import csv_table, numpy_file, wav
from sagen.files.budget import free_memory, said
from sagen.files.long_record import is_long, read_long
from sagen.files.sandbox import read_sandboxed, write_sandboxed
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError
from sagen.model.extensions import load_extensions
from sagen.model.language import tr
from sagen.model.text import as_utf8

HEAD_BYTES = 1 << 16
LARGEST_FILE = 16 << 30


def _is_mat(head: bytes) -> bool:
    """A MATLAB 5 header ends with its version and an endian mark."""
    return head.startswith(b"MATLAB 5.0") or (
        len(head) > 128 and head[126:128] in (b"IM", b"MI") and head[124:126] in (b"\x00\x01", b"\x01\x00")
    )


def _read_npz(path: Path) -> Capture:
    """A NumPy archive; a large one in a process of its own."""
    return (read_sandboxed("NumPy archive") if numpy_file.unfolds_to_much(path) else numpy_file.read_npz)(path)


@dataclass(frozen=True)
class Format:
    """One capture format: how its content is recognised, read and written. `fills` is how many times a file's size its
    reading fills of this process's memory; 0 where it has a budget of its own."""

    name: str
    suffixes: tuple[str, ...]
    recognise: Callable[[bytes], bool]
    read: Callable[[Path], Capture]
    write: Callable[[Path, Capture], None] | None = None
    fills: float = 4.0


class FormatRegistry:
    """The formats that captures are read and written in, asked in their order. Text comes last: nearly anything may be text.

    Parameters
    ----------
    formats : list of Format
        those that ship with the program; `add` puts others before them
    """

    def __init__(self, formats: list[Format]):
        self._formats = list(formats)

    def add(self, added: Format) -> None:
        """Add a format; it is asked before those that are there."""
        self._formats.insert(0, added)

    def all(self) -> tuple[Format, ...]:
        """Every format, those of extensions among them."""
        load_extensions()
        return tuple(self._formats)

    def reader_of(self, head: bytes) -> Format:
        """The first format that recognises the beginning of a file; raises CaptureFileError where none does."""
        for known in self.all():
            if known.recognise(head):
                return known
        raise CaptureFileError(tr("this is not a capture in a format that Sagen knows (") + self._names() + ")")

    def writer_of(self, path: Path) -> Format:
        """The format that the suffix of a path names; raises CaptureFileError where none of that suffix can be written."""
        for known in self.all():
            if path.suffix.lower() in known.suffixes and known.write:
                return known
        raise CaptureFileError(
            tr("cannot write '{suffix}' files; known are {names}", suffix=path.suffix, names=self._names(written=True))
        )

    def _names(self, *, written: bool = False) -> str:
        return ", ".join(known.name for known in self.all() if known.write or not written)


CAPTURES = FormatRegistry([
    Format("MDF4", (".mf4", ".mdf"), lambda head: head.startswith((b"MDF     4", b"UnFinMF 4")), read_sandboxed("MDF4"), write_sandboxed("MDF4"), fills=0),
    Format("HDF5", (".h5", ".hdf5"), lambda head: b"\x89HDF\r\n\x1a\n" in (head[:8], head[512:520]), read_sandboxed("HDF5"), fills=0),
    Format("MATLAB 5", (".mat",), _is_mat, read_sandboxed("MATLAB 5"), fills=0),
    Format("WAV", (".wav",), wav.recognise, wav.read, wav.write),
    Format("NumPy array", (".npy",), numpy_file.recognise_npy, numpy_file.read_npy),
    Format("NumPy archive", (".npz",), numpy_file.recognise_npz, _read_npz, numpy_file.write_npz, fills=0),
    Format("CSV", (".csv", ".tsv", ".txt"), csv_table.recognise, csv_table.read, csv_table.write),
])  # fmt: skip


def register_format(added: Format) -> None:
    """Add a capture format: how an extension brings one."""
    CAPTURES.add(added)


def capture_suffixes() -> frozenset[str]:
    """How the names of capture files end."""
    return frozenset(suffix for known in CAPTURES.all() for suffix in known.suffixes)


def read_capture(path: str | Path) -> Capture:
    """Read a capture file of any known format.

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    Capture

    Raises
    ------
    CaptureFileError
        with what is wrong and where; nothing is half-read.
    """
    path = Path(path)
    try:
        if is_long(path):
            return read_long(path)
        if path.is_dir():
            raise CaptureFileError(tr("this is a folder, not a capture"))
        if not path.is_file():
            raise CaptureFileError(tr("there is no such file") if not path.exists() else tr("this is not a plain file"))
        size = path.stat().st_size
        if size == 0:
            raise CaptureFileError(tr("the file is empty"))
        if size > LARGEST_FILE:
            raise CaptureFileError(tr("the file is larger than {largest_file} GiB", largest_file=LARGEST_FILE >> 30))
        with path.open("rb") as stream:
            head = stream.read(HEAD_BYTES)
        known = CAPTURES.reader_of(head)
        if known.fills * size > free_memory() // 2:
            filled = said(int(known.fills * size))
            raise CaptureFileError(
                tr("reading it would fill about {filled} of memory, more than half of what is free", filled=filled)
            )
        return _named(known.read(path), path)
    except OSError as error:
        raise CaptureFileError(tr("cannot be opened: {strerror}", strerror=error.strerror or error)) from error
    except MemoryError as error:
        raise CaptureFileError(tr("the file does not fit into this machine's memory")) from error


def _named(capture: Capture, path: Path) -> Capture:
    """A capture by its file's name, as text: what of the name is none stands as a question mark."""
    return replace(capture, name=as_utf8(path.name))


def write_capture(path: str | Path, capture: Capture) -> None:
    """Write a capture in the format that the suffix of `path` names; raises CaptureFileError."""
    path = Path(path)
    known = CAPTURES.writer_of(path)
    with atomic_write(path) as passing:
        known.write(passing, capture)


def can_be_written(path: str | Path) -> None:
    """Find out whether a capture can be written there before there is one; raises CaptureFileError with why not."""
    CAPTURES.writer_of(Path(path))
    writable(Path(path))
