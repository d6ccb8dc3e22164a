"""Whether a file is whole, by what its format says: a table that ends within a row, a head that promises more than is there.

Nothing is read but heads and ends. A format that says nothing of its length is taken for whole.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from numpy.lib import format as npy

TAIL = 1 << 16
MOST_BLOCKS = 10_000


def is_whole(path: Path) -> bool:
    """Whether a capture or a photo looks as if all of it had been written; raises OSError."""
    with path.open("rb") as stream:
        size = stream.seek(0, 2)
        stream.seek(0)
        head = stream.read(64)
        stream.seek(0)
        for begins, whole in _FORMATS:
            if head.startswith(begins):
                try:
                    return whole(stream, size)
                except (struct.error, ValueError, EOFError, SyntaxError):
                    return False  # its head itself is cut short
        return _table(stream, size) if path.suffix.lower() in (".csv", ".tsv", ".txt") else size > 0


def _tail(stream: BinaryIO, size: int, count: int) -> bytes:
    stream.seek(max(0, size - count))
    return stream.read(count)


def _table(stream: BinaryIO, size: int) -> bool:
    """Its last line is ended."""
    return _tail(stream, size, 1) in (b"\n", b"\r")


def _riff(stream: BinaryIO, size: int) -> bool:
    """RIFF says how much follows; nought or all ones stands there while it is being written."""
    (length,) = struct.unpack("<I" if stream.read(4) != b"RIFX" else ">I", stream.read(4))
    return 0 < length < 0xFFFF_FFFF and length + 8 <= size + 1


def _mdf4(stream: BinaryIO, size: int) -> bool:
    """Every block of the chain of data groups lies within the file, and so do the blocks of data that they lead to (ASAM MDF
    4.1, from memory)."""
    todo, seen = [64], set()
    while todo and len(seen) < MOST_BLOCKS:
        at = todo.pop()
        if at == 0 or at in seen:
            continue
        seen.add(at)
        stream.seek(at)
        kind, length, links = struct.unpack("<4s4xQQ", stream.read(24))
        if at + length > size:
            return False
        targets = struct.unpack(f"<{min(links, 64)}Q", stream.read(8 * min(links, 64)))
        if kind in (b"##HD", b"##HL"):
            todo += targets[:1]
        elif kind == b"##DG":
            todo += targets[:3]
        elif kind in (b"##DL", b"##LD"):
            todo += targets
    return True


def _hdf5(stream: BinaryIO, size: int) -> bool:
    """The superblock says where the file ends (HDF5 File Format Specification 3.0, II.A, from memory)."""
    stream.seek(8)
    version = stream.read(1)[0]
    stream.seek(13 if version < 2 else 9)
    wide = stream.read(1)[0]
    stream.seek((24 if version == 0 else 28 if version == 1 else 12) + 2 * wide)
    return int.from_bytes(stream.read(wide), "little") <= size


def _mat5(stream: BinaryIO, size: int) -> bool:
    """Elements one after the other, each with its length (MAT-File Format, level 5, from memory)."""
    stream.seek(126)
    order = "<" if stream.read(2) == b"IM" else ">"
    at = 128
    for _ in range(MOST_BLOCKS):
        if at >= size:
            break
        stream.seek(at)
        kind, length = struct.unpack(f"{order}II", stream.read(8))
        at += 8 + (0 if kind >> 16 else length)
    return at == size


def _npy(stream: BinaryIO, size: int) -> bool:
    version = npy.read_magic(stream)
    shape, _, dtype = npy.read_array_header_1_0(stream) if version == (1, 0) else npy.read_array_header_2_0(stream)
    count = 1
    for side in shape:
        count *= side
    return stream.tell() + count * dtype.itemsize <= size


def _zip(stream: BinaryIO, size: int) -> bool:
    return b"PK\x05\x06" in _tail(stream, size, TAIL)


def _jpeg(stream: BinaryIO, size: int) -> bool:
    return b"\xff\xd9" in _tail(stream, size, 64)


def _png(stream: BinaryIO, size: int) -> bool:
    return b"IEND" in _tail(stream, size, 16)


_FORMATS: tuple[tuple[tuple[bytes, ...], Callable[[BinaryIO, int], bool]], ...] = (
    ((b"RIFF", b"RIFX"), _riff),
    ((b"UnFinMF",), lambda stream, size: False),
    ((b"MDF     4",), _mdf4),
    ((b"\x89HDF\r\n\x1a\n",), _hdf5),
    ((b"MATLAB 5",), _mat5),
    ((b"\x93NUMPY",), _npy),
    ((b"PK\x03\x04",), _zip),
    ((b"\xff\xd8\xff",), _jpeg),
    ((b"\x89PNG",), _png),
)
