"""Readers that run in a process of their own: a hostile file can then neither crash nor fill the program, and
the slow imports of MDF4, HDF5 and MATLAB never hold up the interface.

The child writes planar .npy arrays and a note of what they are into a passing folder; the parent maps
them into memory and removes the names, so nothing is copied and nothing stays behind.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from sagen.files.arrays import MOST_BYTES
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError, SagenError

LONGEST_S = 300
MEMORY = MOST_BYTES + (4 << 30)


def read_aside(format_name: str) -> Callable[[Path], Capture]:
    """A reader that has a child process do `CHILD_READERS[format_name]`."""

    def read(path: Path) -> Capture:
        folder = Path(tempfile.mkdtemp(prefix="sagen-read-"))
        try:
            _run(["read", format_name, str(path.resolve()), str(folder)], format_name)
            return unpacked(folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    return read


def write_aside(format_name: str) -> Callable[[Path, Capture], None]:
    def write(path: Path, capture: Capture) -> None:
        folder = Path(tempfile.mkdtemp(prefix="sagen-write-"))
        try:
            packed(folder, capture)
            _run(["write", format_name, str(path.resolve()), str(folder)], format_name)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    return write


def _run(arguments: list[str], format_name: str) -> None:
    try:
        done = subprocess.run(
            [sys.executable, "-m", "sagen.files.aside", *arguments],
            capture_output=True, text=True, timeout=LONGEST_S, stdin=subprocess.DEVNULL,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        raise CaptureFileError(f"reading it as {format_name} took longer than {LONGEST_S} s and was given up") from None
    if done.returncode:
        said = done.stdout.strip().splitlines()
        raise CaptureFileError(
            said[-1] if said and done.returncode == 3 else f"not a sound {format_name} file: its reader gave up"
        )


def packed(folder: Path, capture: Capture) -> None:
    """Lay a capture down in a folder."""
    about = {"name": capture.name, "sfreq": capture.sfreq, "notes": list(capture.notes), "channels": []}
    for index, one in enumerate(capture.channels):
        np.save(folder / f"{index}.npy", one.raw, allow_pickle=False)
        about["channels"].append({"column": one.column, "unit": one.unit, "scale": one.scale, "offset": one.offset})
    (folder / "capture.json").write_text(json.dumps(about), encoding="utf-8")


def unpacked(folder: Path) -> Capture:
    """The capture in a folder, its samples mapped."""
    about = json.loads((folder / "capture.json").read_text(encoding="utf-8"))
    channels = tuple(
        Channel(raw=np.load(folder / f"{index}.npy", mmap_mode="r", allow_pickle=False), **one)
        for index, one in enumerate(about["channels"])
    )
    return Capture(about["name"], about["sfreq"], channels, tuple(about["notes"]))


def main(arguments: list[str]) -> int:
    """The child: exit status 3 with one line on standard output for what the user is to be told."""
    import logging
    import resource
    import warnings

    from sagen.files import binary

    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    verb, format_name, path, folder = arguments
    try:
        if verb == "read":
            packed(Path(folder), binary.READERS[format_name](Path(path)))
        else:
            binary.WRITERS[format_name](Path(path), unpacked(Path(folder)))
        return 0
    except SagenError as error:
        print(error)
    except MemoryError:
        print(f"the {format_name} file would fill more memory than is allowed ({MEMORY >> 30} GiB)")
    except OSError as error:
        print(f"not a sound {format_name} file, or the disk refused: {error.strerror or str(error).splitlines()[0]}")
    except Exception as error:
        print(f"not a sound {format_name} file: {(str(error) or type(error).__name__).splitlines()[0]}")
    return 3


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
