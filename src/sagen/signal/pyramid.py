"""A min/max pyramid: any stretch of a long capture in as many points as a screen has columns."""

from __future__ import annotations

import numpy as np

BASE = 16
FACTOR = 4
_CHUNK = 1 << 16


class Pyramid:
    """Smallest and largest sample of every block of 16, 64, 256 ... samples.

    Build once, off the interface thread (about 7 passes over the samples, a sixth of their size);
    then `view` costs the same at any zoom and any length. Samples are those of `raw`, untouched.
    """

    def __init__(self, raw: np.ndarray):
        self.raw = raw
        self.levels = _levels(*block_extremes(raw))

    def packed(self) -> tuple[np.ndarray, np.ndarray]:
        """All levels as one array, shape (2, n), and their lengths, to be kept beside the samples."""
        lengths = np.array([len(low) for _, low, _ in self.levels])
        return np.stack([np.concatenate([level[k] for level in self.levels]) for k in (1, 2)]), lengths

    @classmethod
    def unpacked(cls, raw: np.ndarray, values: np.ndarray, lengths: np.ndarray) -> Pyramid:
        """The pyramid that was packed; raises ValueError when it does not belong to `raw`.

        Parameters
        ----------
        raw : ndarray, shape (n,)
            the samples that it was made of
        values : ndarray, shape (total, 2)
            least and most of every level, one after the other, raw units
        lengths : ndarray of int, shape (levels,)
            entries a level
        """
        if len(lengths) == 0 or lengths[0] != -(-len(raw) // BASE) or lengths.sum() != values.shape[1]:
            raise ValueError("the pyramid does not belong to these samples")
        made = cls.__new__(cls)
        made.raw, made.levels = raw, []
        borders = np.concatenate([[0], np.cumsum(lengths)])
        for level in range(len(lengths)):
            part = slice(int(borders[level]), int(borders[level + 1]))
            made.levels.append((BASE * FACTOR**level, values[0, part], values[1, part]))
        return made

    def extremes(self) -> tuple[float, float]:
        """Smallest and largest raw sample of all."""
        _, low, high = self.levels[-1]
        return float(low.min()), float(high.max())

    def view(self, start: float, stop: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
        """Smallest and largest raw sample in each of `columns` equal parts of start..stop (samples).

        Parameters
        ----------
        start, stop : float, start < stop
            may reach beyond the capture; parts outside it give NaN
        columns : int > 0

        Returns
        -------
        low, high : np.ndarray [shape=(columns,)], float32
            neighbouring parts share a sample at their border, so that drawn columns join up.

        References
        ----------
        A pyramid of ever coarser copies (mip-map): Williams, SIGGRAPH 1983; here of extremes. From memory.
        """
        each = (stop - start) / columns
        size, lows, highs = 1, self.raw, self.raw
        for level in self.levels:
            if level[0] * 2 > each:
                break
            size, lows, highs = level
        borders = np.floor((start + each * np.arange(columns + 1)) / size).astype(np.int64)
        first = np.clip(borders[:-1], 0, len(lows))
        last = np.clip(borders[1:] + 1, 0, len(lows))
        outside = (borders[1:] < 0) | (borders[:-1] >= len(lows)) | (last <= first)
        return (
            _reduce_spans(lows, first, last, np.minimum, outside),
            _reduce_spans(highs, first, last, np.maximum, outside),
        )


def _levels(low: np.ndarray, high: np.ndarray) -> list[tuple[int, np.ndarray, np.ndarray]]:
    """Blocks of 16 samples reduced to blocks of 64, 256, ..."""
    levels, size = [], BASE
    while len(low):
        levels.append((size, low, high))
        if len(low) <= FACTOR:
            break
        low, high = _reduce(low, np.minimum), _reduce(high, np.maximum)
        size *= FACTOR
    return levels


def _reduce_spans(values, first, last, how, outside) -> np.ndarray:
    """`how` over values[first:last] for each span; NaN where `outside`."""
    out = np.full(len(first), np.nan, np.float32)
    inside = np.flatnonzero(~outside)
    if not len(inside):
        return out
    start, stop = int(first[inside[0]]), int(last[inside[-1]])
    # reduceat takes the stretch between neighbouring indices; every second one is a span. Its indices must
    # lie within the array, so one value stands behind the last.
    part = np.append(values[start:stop], values[stop - 1])
    spans = np.column_stack([first[inside], last[inside]]) - start
    out[inside] = how.reduceat(part, spans.ravel())[::2]
    return out


def block_extremes(raw: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Smallest and largest of every 16 samples, the last block as short as it is, shape (ceil(n / 16),)."""
    blocks = -(-len(raw) // BASE)
    low, high = np.empty(blocks, raw.dtype), np.empty(blocks, raw.dtype)
    whole = len(raw) // BASE
    for start in range(0, whole, _CHUNK // BASE):
        stop = min(start + _CHUNK // BASE, whole)
        # A transposed copy in cache lets the reduction run along long rows.
        part = np.ascontiguousarray(raw[start * BASE : stop * BASE].reshape(-1, BASE).T)
        np.minimum.reduce(part, axis=0, out=low[start:stop])
        np.maximum.reduce(part, axis=0, out=high[start:stop])
    if whole < blocks:
        low[-1], high[-1] = raw[whole * BASE :].min(), raw[whole * BASE :].max()
    return low, high


def _reduce(values: np.ndarray, how) -> np.ndarray:
    starts = np.arange(0, len(values), FACTOR)
    return how.reduceat(values, starts)


class GrowingPyramid:
    """A pyramid that grows by blocks: only blocks of 16 that a new block touches are reduced anew."""

    def __init__(self, dtype: np.dtype):
        self._raw = np.empty(1 << 14, dtype)
        self._length = 0
        self._low, self._high = np.empty(1 << 10, dtype), np.empty(1 << 10, dtype)

    def append(self, samples: np.ndarray) -> None:
        """Add samples, shape (n,), of the same type."""
        if not len(samples):
            return
        start, self._length = self._length, self._length + len(samples)
        self._raw = _with_room(self._raw, self._length)
        self._raw[start : self._length] = samples
        first, blocks = start // BASE, -(-self._length // BASE)
        self._low, self._high = _with_room(self._low, blocks), _with_room(self._high, blocks)
        low, high = block_extremes(self._raw[first * BASE : self._length])
        self._low[first:blocks], self._high[first:blocks] = low, high

    def pyramid(self) -> Pyramid:
        """The pyramid so far; the same as one built from all samples at once."""
        blocks = -(-self._length // BASE)
        made = Pyramid.__new__(Pyramid)
        made.raw = self._raw[: self._length]
        made.levels = _levels(self._low[:blocks].copy(), self._high[:blocks].copy())
        return made


def _with_room(values: np.ndarray, needed: int) -> np.ndarray:
    """An array of at least that length that begins with `values`."""
    if needed <= len(values):
        return values
    grown = np.empty(max(needed, 2 * len(values)), values.dtype)
    grown[: len(values)] = values
    return grown
