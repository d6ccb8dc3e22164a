"""NumPy's .npy and .npz. Pickled objects are never loaded."""

from __future__ import annotations

import io
import zipfile
import zlib
from pathlib import Path

import numpy as np

from sagen.files.arrays import MOST_BYTES, capture_of
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError

#: what NumPy and zipfile raise on a broken or hostile archive; zipfile answers a way of packing that it does not know
#: with NotImplementedError (a RuntimeError), and an encrypted member with RuntimeError itself
UNSOUND = (ValueError, EOFError, OSError, KeyError, RuntimeError, zipfile.BadZipFile, zlib.error)


def recognise_npy(head: bytes) -> bool:
    return head.startswith(b"\x93NUMPY")


def recognise_npz(head: bytes) -> bool:
    return head.startswith(b"PK\x03\x04") and b".npy" in head[:4096]


def read_npy(path: Path) -> Capture:
    """One array: columns of a table whose first climbs evenly (time), or a record array with named fields."""
    try:
        # Read, not mapped: a stick that is pulled must not take the program down with it.
        array = np.load(path, allow_pickle=False)
    except (ValueError, EOFError, OSError, MemoryError) as error:
        raise CaptureFileError(f"not a sound .npy file: {_plain(error)}") from None
    if array.dtype.names:
        return capture_of(path.name, {name: array[name] for name in array.dtype.names})
    if array.ndim == 1:
        raise CaptureFileError(
            "one row of numbers without their rate; save a table whose first column is time, or an .npz with 'sfreq'"
        )
    return capture_of(path.name, {"table": array})


def read_npz(path: Path) -> Capture:
    try:
        with zipfile.ZipFile(path) as archive:
            total = sum(one.file_size for one in archive.infolist())
            if total > MOST_BYTES:
                raise CaptureFileError(f"the arrays would fill {total >> 30} GiB; at most {MOST_BYTES >> 30} are read")
        with np.load(path, allow_pickle=False) as archive:
            arrays = {name: archive[name] for name in archive.files}
    except UNSOUND as error:
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
