"""Edges of a waveform: where it crosses from one state to the other, to a fraction of a sample."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

CHUNK = 1 << 16  #: samples, a multiple of 64


@dataclass(frozen=True)
class Edges:
    """Alternating state changes. `at` in samples from the start, shape (n,); `rising` bool, shape (n,)."""

    at: np.ndarray
    rising: np.ndarray

    def __len__(self) -> int:
        return len(self.at)

    @property
    def falls(self) -> np.ndarray:
        return self.at[~self.rising]

    @property
    def rises(self) -> np.ndarray:
        return self.at[self.rising]


def find_edges(raw: np.ndarray, *, lower: float, upper: float, middle: float | None = None) -> Edges:
    """State changes with hysteresis, placed where the waveform crosses the middle.

    A rise counts when the waveform reaches `upper` after having been at or below `lower`, a fall
    when it reaches `lower` after having been at or above `upper`. Its place is the last crossing of
    `middle` before that, linearly interpolated: the mid-reference-level instant of IEEE Std 181-2011, 5.3.

    Parameters
    ----------
    raw : np.ndarray [shape=(n,)], float or integer
        samples; the levels are in the same unit
    lower, upper : float, lower < upper
    middle : float, lower <= middle <= upper
        the halfway level where not given

    Returns
    -------
    Edges
        empty when the waveform never changes state.

    Raises
    ------
    ValueError
        when lower is not below upper.
    """
    if not lower < upper:
        raise ValueError(f"the lower threshold ({lower}) must lie below the upper one ({upper})")
    middle = 0.5 * (lower + upper) if middle is None else middle
    entries, rising = _state_entries(raw, lower, upper)
    return Edges(_crossings(raw, entries, rising, middle), rising)


def _state_entries(raw: np.ndarray, lower: float, upper: float) -> tuple[np.ndarray, np.ndarray]:
    """First sample of each new state, and whether that state is the high one.

    Works in cache-sized chunks: each comparison is packed into 64-bit words, and only words in which a
    zone is entered are looked at again. Entering a zone twice without having been in the other one is
    dropped afterwards, on the few entries only.
    """
    # Weak scalars keep the comparison in the samples' own type; integers compare against whole numbers.
    if np.issubdtype(raw.dtype, np.integer):
        lower, upper = int(np.floor(lower)), int(np.ceil(upper))
    places, highs = [np.empty(0, np.int64)], [np.empty(0, bool)]
    zone = np.zeros(CHUNK, bool)
    before = [np.uint64(0), np.uint64(0)]
    for start in range(0, len(raw), CHUNK):
        part = raw[start : start + CHUNK]
        size = len(part)
        for which, compare, level in ((0, np.greater_equal, upper), (1, np.less_equal, lower)):
            compare(part, level, out=zone[:size])
            zone[size:] = False
            words = np.packbits(zone, bitorder="little").view(np.uint64)
            carried = words << np.uint64(1)
            carried[1:] |= words[:-1] >> np.uint64(63)
            carried[0] |= before[which]
            before[which] = np.uint64(zone[size - 1])
            words &= ~carried
            some = np.flatnonzero(words)
            bits = np.unpackbits(words[some].view(np.uint8), bitorder="little").view(bool)
            at = np.flatnonzero(bits)
            places.append(some[at >> 6] * 64 + (at & 63) + start)
            highs.append(np.full(len(at), which == 0))
    place, high = np.concatenate(places), np.concatenate(highs)
    order = np.argsort(place, kind="stable")
    place, high = place[order], high[order]
    changed = np.flatnonzero(high[1:] != high[:-1]) + 1
    return place[changed], high[changed]


def _crossings(raw: np.ndarray, entries: np.ndarray, rising: np.ndarray, middle: float) -> np.ndarray:
    """Interpolated places where `raw` last crossed `middle` before each entry."""
    at = entries.astype(np.float64)
    left = np.arange(len(entries))
    reach = 2
    while len(left):
        # Walk back in growing steps; most edges are done within the first few samples.
        back = np.maximum(entries[left, None] - np.arange(reach), 0)
        window = raw[back].astype(np.float64)
        beyond = np.where(rising[left, None], window < middle, window > middle)
        found = beyond.any(axis=1)
        first = beyond.argmax(axis=1)
        done = np.flatnonzero(found & (first > 0))
        rows, col = left[done], first[done]
        before, after = window[done, col], window[done, col - 1]
        at[rows] = back[done, col] + (middle - before) / (after - before)
        more = ~found & (back[:, -1] > 0)
        left = left[more]
        if reach > 1 << 16:
            break
        reach *= 4
    return at


def without_glitches(edges: Edges, *, share: float = 0.2) -> tuple[Edges, np.ndarray]:
    """Take out pulses far narrower than their like.

    A pulse narrower than `share` of the median of the eight pulses of its own state around it is no
    tooth: both its edges go.

    Returns
    -------
    edges, removed : Edges, np.ndarray
        what stays, and the places (samples) of the pulses taken out.
    """
    if len(edges) < 8:
        return edges, np.empty(0)
    widths = np.diff(edges.at)
    narrow = np.zeros(len(widths), bool)
    for first in (0, 1):
        own = widths[first::2]
        narrow[first::2] = own < share * running_median(own, 9)
    candidates = np.flatnonzero(narrow)
    if not len(candidates):
        return edges, np.empty(0)
    # Of neighbouring narrow pulses the narrowest goes first; the others may be the rest of a sound tooth.
    drop = np.zeros(len(edges), bool)
    for index in candidates[np.argsort(widths[candidates])]:
        if not drop[index : index + 2].any():
            drop[index : index + 2] = True
    removed = edges.at[np.flatnonzero(drop)[::2]]
    return Edges(edges.at[~drop], edges.rising[~drop]), removed


def running_median(values: np.ndarray, width: int) -> np.ndarray:
    """Median of the `width` (odd) values around each one, shape as given; ends use mirrored values."""
    if len(values) < 3:
        return np.full(len(values), np.median(values) if len(values) else np.nan)
    width = min(width, len(values) if len(values) % 2 else len(values) - 1)
    half = width // 2
    padded = np.pad(values, half, mode="reflect")
    windows = np.lib.stride_tricks.sliding_window_view(padded, width)
    return np.partition(windows, half, axis=1)[:, half]
