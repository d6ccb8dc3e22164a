"""Edges of a waveform: where it crosses from one state to the other, to a fraction of a sample."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.language import tr

CHUNK = 1 << 17  #: samples, a multiple of 64
STEPS = 8  #: samples walked back from an edge one by one
_ONE, _LAST = np.uint64(1), np.uint64(63)


@dataclass(frozen=True)
class Edges:
    """Alternating state changes. `at` in samples from the start, shape (n,); `rising` bool, shape (n,)."""

    at: np.ndarray
    rising: np.ndarray

    def __len__(self) -> int:
        return len(self.at)

    def off(self, joints: tuple[tuple[int, int], ...]) -> Edges:
        """Without those that lie between two stretches put end to end, where nothing was recorded.

        Parameters
        ----------
        joints : tuple of (int, int)
            samples between which nothing was recorded
        """
        if not joints or not len(self.at):
            return self
        begins = np.array([begin for begin, _ in joints], float)
        behind = begins[np.minimum(np.searchsorted(begins, self.at, "left"), len(begins) - 1)]
        there = (self.at > behind) | (self.at <= behind - 1)
        return Edges(self.at[there], self.rising[there])

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
        raise ValueError(
            tr("the lower threshold ({lower}) must lie below the upper one ({upper})", lower=lower, upper=upper)
        )
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
    zone = np.zeros(CHUNK, bool)
    before = [np.uint64(0), np.uint64(0)]
    found: tuple[list, list] = ([], [])
    for start in range(0, len(raw), CHUNK):
        part = raw[start : start + CHUNK]
        size = len(part)
        if size < CHUNK:
            zone[size:] = False
        for which, compare, level in ((0, np.greater_equal, upper), (1, np.less_equal, lower)):
            compare(part, level, out=zone[:size])
            words = np.packbits(zone, bitorder="little").view(np.uint64)
            carried = words << _ONE
            carried[1:] |= words[:-1] >> _LAST
            carried[0] |= before[which]
            before[which] = np.uint64(zone[size - 1])
            words &= ~carried
            some = np.flatnonzero(words)
            if len(some):
                found[which].append((some + (start >> 6), words[some]))
    places, highs = [np.empty(0, np.int64)], [np.empty(0, bool)]
    for which in (0, 1):
        if found[which]:
            some, words = (np.concatenate(item) for item in zip(*found[which], strict=True))
            bits = np.flatnonzero(np.unpackbits(words.view(np.uint8), bitorder="little").view(bool))
            places.append((some[bits >> 6] << 6) + (bits & 63))
            highs.append(np.full(len(bits), which == 0))
    place, high = np.concatenate(places), np.concatenate(highs)
    order = np.argsort(place, kind="stable")
    place, high = place[order], high[order]
    changed = np.flatnonzero(high[1:] != high[:-1]) + 1
    return place[changed], high[changed]


def _crossings(raw: np.ndarray, entries: np.ndarray, rising: np.ndarray, middle: float) -> np.ndarray:
    """Interpolated places where `raw` last crossed `middle` before each entry."""
    at = entries.astype(np.float64)
    left = np.arange(len(entries))
    after = raw[entries].astype(np.float64)
    for step in range(1, STEPS + 1):
        # Nearly all edges are done within the first few samples; the few slow ones are looked up in stretches.
        place = entries[left] - step
        before = raw[np.maximum(place, 0)].astype(np.float64)
        passed = np.where(rising[left], before < middle, before > middle) & (place >= 0)
        done = np.flatnonzero(passed)
        at[left[done]] = place[done] + (middle - before[done]) / (after[done] - before[done])
        more = np.flatnonzero(~passed & (place > 0))
        left, after = left[more], before[more]
        if not len(left):
            return at
    reach = 8 * STEPS
    while len(left) and reach <= 1 << 18:
        back = np.maximum(entries[left, None] - np.arange(reach), 0)
        window = raw[back].astype(np.float64)
        beyond = np.where(rising[left, None], window < middle, window > middle)
        found = beyond.any(axis=1)
        first = beyond.argmax(axis=1)
        done = np.flatnonzero(found & (first > 0))
        rows, col = left[done], first[done]
        before, after = window[done, col], window[done, col - 1]
        at[rows] = back[done, col] + (middle - before) / (after - before)
        left = left[~found & (back[:, -1] > 0)]
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

    Parameters
    ----------
    edges : Edges
        crossings in samples, shape (n,)
    share : float
        of the median width of the pulses around, below which a pulse is none
    """
    if len(edges) < 8:
        return edges, np.empty(0)
    widths = np.diff(edges.at)
    narrow = np.zeros(len(widths), bool)
    for first in (0, 1):
        own = widths[first::2]
        # Only what is narrow against the widest can be narrow against its neighbours.
        maybe = np.flatnonzero(own < share * own.max(initial=0.0))
        if len(maybe):
            around = np.clip(maybe[:, None] + np.arange(-4, 5), 0, len(own) - 1)
            narrow[first::2][maybe] = own[maybe] < share * np.median(own[around], axis=1)
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


def median_of_five(values: np.ndarray) -> np.ndarray:
    """Median of the five values around each one, shape as given; the ends are mirrored.

    By least and greatest of shifted rows (six comparisons), several times faster than sorting windows.

    References
    ----------
    Running medians: Tukey, Exploratory Data Analysis (1977), chapter 7. From memory.
    """
    if len(values) < 3:
        return np.full(len(values), np.median(values) if len(values) else np.nan)
    padded = np.pad(values, 2, mode="reflect")
    a, b, c, d, e = (padded[k : k + len(values)] for k in range(5))
    a, b = np.minimum(a, b), np.maximum(a, b)
    c, d = np.minimum(c, d), np.maximum(c, d)
    # The least and the greatest of the four cannot be the median of five.
    low, high = np.maximum(a, c), np.minimum(b, d)
    low, high = np.minimum(low, high), np.maximum(low, high)
    return np.maximum(low, np.minimum(high, e))
