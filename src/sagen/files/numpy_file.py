"""NumPy's .npy and .npz. Pickled objects are never loaded."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np

from sagen.files.arrays import capture_of, tells_time
from sagen.files.budget import Spent, said
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError
from sagen.model.language import tr

#: what NumPy and zipfile raise on a broken or hostile archive; zipfile answers a way of packing that it does not know
#: with NotImplementedError (a RuntimeError), and an encrypted member with RuntimeError itself
MOST_MEMBERS = 1000
COLUMNS = "columns"  #: the array of names
_PLAIN = re.compile(r"[^/\x00-\x1f]{1,60}")
SMALL = 64 << 20  #: bytes of arrays that are unfolded within the program
UNSOUND = (ValueError, EOFError, OSError, KeyError, RuntimeError, zipfile.BadZipFile, zlib.error)


def recognise_npy(head: bytes) -> bool:
    return head.startswith(b"\x93NUMPY")


def recognise_npz(head: bytes) -> bool:
    return head.startswith(b"PK\x03\x04") and b".npy" in head[:4096]


def read_npy(path: Path) -> Capture:
    """One array: columns of a table whose first climbs evenly (time), or a record array with named fields."""
    try:
        with path.open("rb") as stream:
            shape, _, kind = _header(stream)
            claimed = int(np.prod(shape, dtype=np.float64)) * kind.itemsize
            left = path.stat().st_size - stream.tell()
            if claimed > left:
                raise CaptureFileError(
                    tr(
                        "its head tells of {claimed}, but {left} are there: it was cut off",
                        claimed=said(claimed),
                        left=said(left),
                    )
                )
            stream.seek(0)
            # Read, not mapped: a stick that is pulled must not take the program down with it.
            array = np.load(stream, allow_pickle=False)
    except CaptureFileError:
        raise
    except Exception as error:  # what parsing its head raises has no common root (ValueError, TokenError, ...)
        raise CaptureFileError(tr("not a sound .npy file: {error}", error=_plain(error))) from None
    if array.dtype.names:
        return capture_of(path.name, {name: array[name] for name in array.dtype.names})
    if array.ndim == 1:
        raise CaptureFileError(
            tr(
                "one row of numbers without their rate; save a table whose first column is time, or an .npz with "
                "'sfreq'"
            )
        )
    return capture_of(path.name, {"table": array})


def unfolds_to_much(path: Path) -> bool:
    """Whether an archive's arrays are better unfolded in a process of its own.

    Raises
    ------
    CaptureFileError
        for an archive that is not sound, or of more arrays than a recording has.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()
    except UNSOUND as error:
        raise CaptureFileError(tr("not a sound .npz file: {error}", error=_plain(error))) from None
    if len(members) > MOST_MEMBERS:
        raise CaptureFileError(tr("it holds {members} arrays; that is no recording", members=len(members)))
    return sum(member.file_size for member in members) > SMALL


def _header(stream) -> tuple[tuple[int, ...], bool, np.dtype]:
    version = np.lib.format.read_magic(stream)
    read = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
    return read.get(version, np.lib.format.read_array_header_2_0)(stream)


def read_npz(path: Path) -> Capture:
    """Every array of an archive, within a budget: a member is never unfolded beyond the size that it states."""
    spent = Spent(path)
    try:
        with zipfile.ZipFile(path) as archive:
            spent.claim(sum(item.file_size for item in archive.infolist()), tr("its arrays"))
        with np.load(path, allow_pickle=False) as archive:
            arrays = {name: archive[name] for name in archive.files}
    except CaptureFileError:
        raise
    except Exception as error:  # of its members, as of a .npy file
        raise CaptureFileError(tr("not a sound .npz file: {error}", error=_plain(error))) from None
    return _with_columns(capture_of(path.name, arrays), arrays.get(COLUMNS))


def _with_columns(capture: Capture, columns: np.ndarray | None) -> Capture:
    """The capture with the names that its channels have in an array beside them."""
    at = [channel.column.removeprefix("channel_") for channel in capture.channels]
    if columns is None or columns.dtype.kind != "U" or columns.ndim != 1 or not all(item.isdecimal() for item in at):
        return capture
    names = {k: str(columns[int(k)]) for k in at if len(k) < 4 and int(k) < len(columns)}
    channels = tuple(
        replace(channel, column=names.get(k, channel.column)) for k, channel in zip(at, capture.channels, strict=True)
    )
    return replace(capture, channels=channels)


def write_npz(path: Path, capture: Capture) -> None:
    """Write volts as 32-bit floating point with their rate; where something was not recorded, with the times instead.
    Whole or not at all."""
    there = capture.recorded
    columns = [channel.column for channel in capture.channels]
    # Names that an archive cannot have, has twice, or would take for time or rate stand in an array of their own.
    plain = len(set(columns)) == len(columns) and all(
        _PLAIN.fullmatch(column) and not tells_time(column) for column in columns
    )
    keys = columns if plain else [f"channel_{k}" for k in range(len(columns))]
    arrays = {
        key: channel.values()[there].astype(np.float32) for key, channel in zip(keys, capture.channels, strict=True)
    }
    if not plain:
        arrays[COLUMNS] = np.array(columns)
    if capture.holes:
        arrays = {"time": np.flatnonzero(there) / capture.sfreq} | arrays
    else:
        arrays["sfreq"] = np.array(capture.sfreq)
    out = io.BytesIO()
    np.savez(out, allow_pickle=False, **arrays)
    path.write_bytes(out.getvalue())


def _plain(error: Exception) -> str:
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    return (
        tr("it holds pickled objects, which could run code and are not loaded")
        if "pickle" in text.lower() or "Python objects" in text
        else text
    )
