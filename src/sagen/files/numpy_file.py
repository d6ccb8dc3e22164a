"""NumPy's .npy and .npz. Pickled objects are never loaded."""

from __future__ import annotations

import io
import zipfile
import zlib
from pathlib import Path

import numpy as np

from sagen.files.arrays import capture_of
from sagen.files.aside import read_aside
from sagen.files.budget import Spent, said
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError

#: what NumPy and zipfile raise on a broken or hostile archive; zipfile answers a way of packing that it does not know
#: with NotImplementedError (a RuntimeError), and an encrypted member with RuntimeError itself
MOST_MEMBERS = 1000
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
                raise CaptureFileError(f"its head tells of {said(claimed)}, but {said(left)} are there: it was cut off")
            stream.seek(0)
            # Read, not mapped: a stick that is pulled must not take the program down with it.
            array = np.load(stream, allow_pickle=False)
    except CaptureFileError:
        raise
    except Exception as error:  # what parsing its head raises has no common root (ValueError, TokenError, ...)
        raise CaptureFileError(f"not a sound .npy file: {_plain(error)}") from None
    if array.dtype.names:
        return capture_of(path.name, {name: array[name] for name in array.dtype.names})
    if array.ndim == 1:
        raise CaptureFileError(
            "one row of numbers without their rate; save a table whose first column is time, or an .npz with 'sfreq'"
        )
    return capture_of(path.name, {"table": array})


def read_npz(path: Path) -> Capture:
    """Every array of an archive; one that unfolds to much, or has many members, in a process of its own."""
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()
    except UNSOUND as error:
        raise CaptureFileError(f"not a sound .npz file: {_plain(error)}") from None
    if len(members) > MOST_MEMBERS:
        raise CaptureFileError(f"it holds {len(members)} arrays; that is no recording")
    if sum(one.file_size for one in members) > SMALL:
        return read_aside("NumPy archive")(path)
    return arrays_of_npz(path, Spent(path))


def _header(stream) -> tuple[tuple[int, ...], bool, np.dtype]:
    version = np.lib.format.read_magic(stream)
    read = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
    return read.get(version, np.lib.format.read_array_header_2_0)(stream)


def arrays_of_npz(path: Path, spent: Spent) -> Capture:
    """Every array of an archive, within a budget: a member is never unfolded beyond the size that it states."""
    try:
        with zipfile.ZipFile(path) as archive:
            spent.claim(sum(one.file_size for one in archive.infolist()), "its arrays")
        with np.load(path, allow_pickle=False) as archive:
            arrays = {name: archive[name] for name in archive.files}
    except CaptureFileError:
        raise
    except Exception as error:  # of its members, as of a .npy file
        raise CaptureFileError(f"not a sound .npz file: {_plain(error)}") from None
    return capture_of(path.name, arrays)


def write_npz(path: Path, capture: Capture) -> None:
    """Write volts as 32-bit floating point with their rate; where something was not recorded, with the times instead.
    Whole or not at all."""
    there = capture.recorded
    arrays = {
        one.column.replace("/", "_")[:60] or "channel": one.values()[there].astype(np.float32)
        for one in capture.channels
    }
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
        "it holds pickled objects, which could run code and are not loaded"
        if "pickle" in text.lower() or "Python objects" in text
        else text
    )
