"""Long records: a folder that grows on disk while it is recorded, and opens at once however long it is.

`capture.json` says what it is; `N.npy` holds channel N's samples, `N.S.low.npy` and `N.S.high.npy` the smallest and largest
of every S samples. All are plain NumPy arrays (NPY version 1.0, NumPy's own format description), whose heads are written
anew after each block: what a crash leaves is whole up to the last one.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from errno import EEXIST
from pathlib import Path

import numpy as np
from numpy.lib import format as npy

from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError, StoreError
from sagen.model.language import tr
from sagen.signal.pyramid import BASE, FACTOR, Pyramid, block_extremes

SUFFIX = ".record"
HEAD = 128  #: bytes of an NPY file before its values
LEVELS = 5  #: blocks of 16, 64, 256, 1024 and 4096 samples lie on disk; longer ones are made when it is opened
ABOUT = "capture.json"
SKIPPED_AT_ONCE = 1 << 18
#: bytes up to which a record is read whole: what is mapped and cut meanwhile, by a stick that is pulled or a disk that fails,
#: ends the program
MOST_READ = 1 << 29


class _Column:
    """One array that grows at its end."""

    def __init__(self, path: Path, dtype: np.dtype):
        self.dtype, self.length = np.dtype(dtype).newbyteorder("<"), 0
        self._file = path.open("wb")
        self._head()
        self._file.flush()  # whoever is killed before the first block leaves an empty array, not an empty file

    def _head(self) -> None:
        told = {"descr": npy.dtype_to_descr(self.dtype), "fortran_order": False, "shape": (self.length,)}
        text = repr(told).encode("latin1")
        room = HEAD - 10
        self._file.seek(0)
        self._file.write(b"\x93NUMPY\x01\x00" + room.to_bytes(2, "little") + text.ljust(room - 1) + b"\n")

    def append(self, values: np.ndarray) -> None:
        """Write values behind the last; they count once `commit` has said so."""
        self._file.seek(HEAD + self.length * self.dtype.itemsize)
        self._file.write(np.ascontiguousarray(values, self.dtype).tobytes())
        self.length += len(values)

    def skip(self, count: int) -> None:
        """Leave room for so many values without writing them: they read as nought and take no place on the disk."""
        self.length += count
        self._file.truncate(HEAD + self.length * self.dtype.itemsize)

    def commit(self) -> None:
        self._file.flush()
        self._head()
        self._file.flush()

    def close(self) -> None:
        with suppress(OSError, ValueError):
            os.fsync(self._file.fileno())
        with suppress(OSError):
            self._file.close()


class _Levels:
    """What draws one channel quickly, as far as whole blocks go; samples of the last, unfinished block wait."""

    def __init__(self, folder: Path, index: int, dtype: np.dtype):
        self.sizes = [BASE * FACTOR**level for level in range(LEVELS)]
        self._columns = [
            tuple(_Column(folder / f"{index}.{size}.{end}.npy", dtype) for end in ("low", "high"))
            for size in self.sizes
        ]
        self._waiting = [[np.empty(0, dtype)] * 2 for _ in self.sizes]

    def append(self, raw: np.ndarray) -> None:
        low = high = raw
        for level, columns in enumerate(self._columns):
            factor = BASE if level == 0 else FACTOR
            ends = [np.concatenate(pair) for pair in zip(self._waiting[level], (low, high), strict=True)]
            whole = len(ends[0]) // factor
            self._waiting[level] = [end[whole * factor :] for end in ends]
            if level == 0:
                low, high = block_extremes(ends[0][: whole * factor])
            else:
                low = ends[0][: whole * factor].reshape(-1, factor).min(axis=1)
                high = ends[1][: whole * factor].reshape(-1, factor).max(axis=1)
            columns[0].append(low)
            columns[1].append(high)

    def all(self) -> list[_Column]:
        return [item for pair in self._columns for item in pair]


class LongRecord:
    """A record being written. Memory does not grow with it."""

    def __init__(self, folder: str | Path, name: str, sfreq: float, channels: tuple[Channel, ...]):
        self.folder = Path(folder)
        self.name, self.sfreq, self.channels = name, sfreq, channels
        self.samples = 0
        self.holes: list[tuple[int, int]] = []
        try:
            if self.folder.exists():
                raise FileExistsError(EEXIST, tr("it is there already"))
            # It gets its name when it can be read: whoever is killed before leaves no record that is none.
            passing = self.folder.with_name(self.folder.name + ".new")
            if passing.exists():
                shutil.rmtree(passing)
            passing.mkdir(parents=True)
            self._columns = [_Column(passing / f"{at}.npy", channel.raw.dtype) for at, channel in enumerate(channels)]
            self._levels = [_Levels(passing, at, channel.raw.dtype) for at, channel in enumerate(channels)]
            self._about(passing)
            passing.rename(self.folder)
        except OSError as error:
            raise StoreError(
                tr("{folder} cannot be written: {strerror}", folder=self.folder, strerror=error.strerror or error)
            ) from None

    def _about(self, folder: Path | None = None) -> None:
        folder = folder or self.folder
        about = Capture(self.name, self.sfreq, self.channels, holes=tuple(self.holes)).about()
        passing = folder / (ABOUT + ".new")
        passing.write_text(json.dumps(about), encoding="utf-8")
        passing.replace(folder / ABOUT)

    def append(self, raw: np.ndarray) -> None:
        """Add a block, shape (channels, n). Raises StoreError where the disk refuses; what was written before stays."""
        with self._written():
            for row, column, levels in zip(raw, self._columns, self._levels, strict=True):
                column.append(row)
                levels.append(row)
            self._commit()
        self.samples += raw.shape[1]

    def skip(self, count: int) -> None:
        """Nothing was recorded for so many samples: marked, and then left out. Raises StoreError as `append`."""
        self.holes.append((self.samples, self.samples + count))
        with self._written():
            self._about()
            for column, levels in zip(self._columns, self._levels, strict=True):
                column.skip(count)
                for first in range(0, count, SKIPPED_AT_ONCE):
                    levels.append(np.zeros(min(SKIPPED_AT_ONCE, count - first), column.dtype))
            self._commit()
        self.samples += count

    def _commit(self) -> None:
        for column, levels in zip(self._columns, self._levels, strict=True):
            for row in levels.all():
                row.commit()
            column.commit()

    @contextmanager
    def _written(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise StoreError(
                tr("{folder} takes no more: {strerror}", folder=self.folder, strerror=error.strerror or error)
            ) from None

    def capture(self) -> Capture:
        """The record so far."""
        return read_long(self.folder)

    def close(self) -> None:
        """It is whole; a disk that refuses even that is told by the next reading."""
        for column in [*self._columns, *(part for levels in self._levels for part in levels.all())]:
            column.close()


def is_long(path: Path) -> bool:
    """Whether a path is a long record."""
    return path.is_dir() and (path / ABOUT).is_file()


def read_long(path: str | Path) -> Capture:
    """A long record; of one beyond `MOST_READ` the samples are mapped, not read. One whose writer was killed ends with the last
    whole block.

    Raises
    ------
    CaptureFileError
        with what is wrong.
    """
    folder = Path(path)
    try:
        about = json.loads((folder / ABOUT).read_text(encoding="utf-8"))
        rows = [_row(folder, f"{at}.npy") for at in range(len(about["channels"]))]
        length = min((len(row) for row in rows), default=0)
        if not length:
            raise ValueError(tr("no sample was written"))
        capture = Capture.of(about, (row[:length] for row in rows))
        # Of a writer that was killed the last hole may be marked and not yet left out.
        capture = replace(
            capture, holes=tuple((first, min(stop, length)) for first, stop in capture.holes if first < length)
        )
        if not 0 < float(capture.sfreq) < 1e12:
            raise ValueError(tr("its rate makes no sense"))
        return capture
    except (OSError, ValueError, KeyError, TypeError, EOFError, RecursionError) as error:
        raise CaptureFileError(
            tr("{name} is no record that can be read ({error})", name=folder.name, error=str(error)[:100])
        ) from None


def long_pyramids(path: str | Path, capture: Capture) -> dict[str, Pyramid]:
    """What draws a long record, by column: its levels, and longer blocks made of the last of them."""
    return {channel.column: _pyramid(Path(path), at, channel.raw) for at, channel in enumerate(capture.channels)}


def _pyramid(folder: Path, at: int, raw: np.ndarray) -> Pyramid:
    levels = []
    for level in range(LEVELS):
        size = BASE * FACTOR**level
        try:
            low, high = (_row(folder, f"{at}.{size}.{end}.npy") for end in ("low", "high"))
        except (OSError, ValueError, EOFError):
            break
        blocks = min(len(low), len(high), len(raw) // size)
        if not blocks:
            break
        levels.append((size, low[:blocks], high[:blocks]))
    if not levels:
        return Pyramid(raw)
    size, low, high = levels[-1]
    while len(low) > FACTOR:
        starts = np.arange(0, len(low), FACTOR)
        low, high, size = np.minimum.reduceat(low, starts), np.maximum.reduceat(high, starts), size * FACTOR
        levels.append((size, low, high))
    made = Pyramid.__new__(Pyramid)
    made.raw, made.levels = raw, levels
    return made


def _row(folder: Path, name: str) -> np.ndarray:
    long = sum(item.stat().st_size for item in folder.glob("*.npy")) > MOST_READ
    return np.load(folder / name, mmap_mode="r" if long else None, allow_pickle=False)
