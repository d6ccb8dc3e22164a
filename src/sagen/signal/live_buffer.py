"""The last minutes of a stream, ready to be drawn at any time base: raw samples for a while, smallest and largest values of
ever longer blocks for longer. Memory is taken once and stays as it is."""

from __future__ import annotations

import numpy as np

FACTOR = 16
#: samples of the raw ring; blocks of 16, 256 and 4096 samples of the others
RAW, LEVELS = 1 << 22, (1 << 21, 1 << 19, 1 << 18)


class _Ring:
    """One value a place, by a running number; the oldest give way."""

    def __init__(self, size: int, dtype):
        self.values, self.size = np.zeros(size, dtype), size

    def put(self, first: int, values: np.ndarray) -> None:
        first, values = first + max(0, len(values) - self.size), values[-self.size :]
        at = first % self.size
        head = min(len(values), self.size - at)
        self.values[at : at + head] = values[:head]
        self.values[: len(values) - head] = values[head:]

    def get(self, first: int, last: int) -> np.ndarray:
        at, length = first % self.size, last - first
        if at + length <= self.size:
            return self.values[at : at + length]
        return np.concatenate([self.values[at:], self.values[: at + length - self.size]])


class RingPyramid:
    """One channel's ring and its levels. Numbers of samples count from the start of the stream."""

    def __init__(self, dtype, raw: int = RAW, levels: tuple[int, ...] = LEVELS):
        self.samples = 0
        self._raw = _Ring(raw, dtype)
        self._low = [_Ring(size, dtype) for size in levels]
        self._high = [_Ring(size, dtype) for size in levels]

    def append(self, samples: np.ndarray) -> None:
        """Add samples, shape (n,), oldest first; a block longer than the ring goes in by parts."""
        step = self._raw.size // 2
        for start in range(0, len(samples), step):
            self._append(samples[start : start + step])

    def _append(self, samples: np.ndarray) -> None:
        start, end = self.samples, self.samples + len(samples)
        self._raw.put(start, samples)
        self.samples = end
        low = high = None
        first, last, unit = start, end, 1
        for at in range(len(self._low)):
            block, stop = first // FACTOR, -(-last // FACTOR)
            oldest = max(block * FACTOR, last - (self._raw.size if at == 0 else self._low[at - 1].size))
            source_low = self._raw.get(oldest, last) if at == 0 else self._low[at - 1].get(oldest, last)
            source_high = source_low if at == 0 else self._high[at - 1].get(oldest, last)
            starts = np.maximum(np.arange(block, stop) * FACTOR - oldest, 0)
            low, high = np.minimum.reduceat(source_low, starts), np.maximum.reduceat(source_high, starts)
            self._low[at].put(block, low)
            self._high[at].put(block, high)
            first, last, unit = block, stop, unit * FACTOR

    @property
    def dtype(self) -> np.dtype:
        return self._raw.values.dtype

    @property
    def oldest(self) -> int:
        """The oldest sample that is kept as it was."""
        return max(0, self.samples - self._raw.size)

    def taken(self, first: int, last: int) -> np.ndarray:
        """Samples first..last as they came, those that are kept; a copy, shape (n,).

        Parameters
        ----------
        first, last : int
            samples counted from the stream's beginning, last left out
        """
        first, last = max(first, self.oldest), min(last, self.samples)
        return self._raw.get(first, last).copy() if last > first else np.empty(0, self._raw.values.dtype)

    def view(self, start: float, stop: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
        """Smallest and largest value in each of `columns` equal parts of start..stop, shape (columns,), float32; NaN where
        nothing is, or is kept no longer.

        Parameters
        ----------
        start, stop : float
            samples counted from the stream's beginning
        columns : int
            parts, usually pixels, >= 1

        Returns
        -------
        least, most : ndarray of float32, shape (columns,)
            raw units

        References
        ----------
        A pyramid of ever coarser copies (mip-map): Williams, SIGGRAPH 1983; here of extremes. From memory.
        """
        each = (stop - start) / columns
        size, low, high = 1, self._raw, self._raw
        for at in range(len(self._low)):
            unit = FACTOR ** (at + 1)
            covered = max(0, self.samples - low.size * size)
            if unit * 2 > each and start >= covered:
                break
            size, low, high = unit, self._low[at], self._high[at]
        total = -(-self.samples // size)
        kept = max(0, total - low.size + 1)
        borders = np.floor((start + each * np.arange(columns + 1)) / size).astype(np.int64)
        first, last = np.clip(borders[:-1], kept, total), np.clip(borders[1:] + 1, kept, total)
        inside = np.flatnonzero((last > first) & (borders[1:] >= kept) & (borders[:-1] < total))
        out = np.full((2, columns), np.nan, np.float32)
        if len(inside):
            begin, end = int(first[inside[0]]), int(last[inside[-1]])
            spans = (np.column_stack([first[inside], last[inside]]) - begin).ravel()
            for row, ring, how in ((0, low, np.minimum), (1, high, np.maximum)):
                part = ring.get(begin, end)
                out[row, inside] = how.reduceat(np.append(part, part[-1]), spans)[::2]
        return out[0], out[1]


class Growing:
    """A ring as the strip asks a capture's pyramid: `view`, `raw[first:last]` and `extremes`."""

    def __init__(self, ring: RingPyramid):
        self._ring = ring
        self.view = ring.view

    @property
    def raw(self) -> Growing:
        return self

    def __getitem__(self, at: int | slice) -> np.ndarray:
        """Samples as float32; NaN where one is kept no longer."""
        if not isinstance(at, slice):
            kept = self._ring.taken(at, at + 1)
            return np.float32(kept[0]) if len(kept) else np.float32(np.nan)
        stop = min(at.stop, self._ring.samples)
        kept = self._ring.taken(at.start, stop).astype(np.float32)
        return np.concatenate([np.full(max(0, stop - at.start - len(kept)), np.nan, np.float32), kept])

    def extremes(self) -> tuple[float, float]:
        """Smallest and largest value that is still kept."""
        low, high = self._ring.view(0, max(self._ring.samples, 1), 1)
        return float(low[0]), float(high[0])
