"""The two levels of a switching line over time: where one of them moves while the line goes on switching."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.levels import Levels
from sagen.signal.limits import limits
from sagen.signal.runs import runs_of

_LIMIT = limits("level_track")


@dataclass(frozen=True)
class LevelTrack:
    """Both levels of each block, in the channel's unit, shape (blocks,)."""

    low: np.ndarray
    high: np.ndarray
    both: np.ndarray  #: whether a block holds both levels
    block_s: float

    def moves(self, levels: Levels) -> bool:
        """Whether a level strays from its usual place by so much that thresholds must follow.

        Parameters
        ----------
        levels : Levels
            of the whole channel, in its unit
        """
        if not self.both.any():
            return False
        away = np.maximum(np.abs(self.low[self.both] - levels.low), np.abs(self.high[self.both] - levels.high))
        return bool(np.count_nonzero(away > _LIMIT.follows * levels.swing) >= _LIMIT.fewest)

    def stretches(self, beyond: np.ndarray) -> list[tuple[int, int]]:
        """First block, and the one behind the last, of the runs in which a condition holds for long enough.

        Parameters
        ----------
        beyond : ndarray of bool, shape (blocks,)
            where the condition holds

        Returns
        -------
        list of (int, int)
            blocks
        """
        runs = zip(*runs_of(beyond & self.both), strict=True)
        return [(int(first), int(last)) for first, last in runs if last - first >= _LIMIT.fewest]


def level_track(channel: Channel, levels: Levels, sfreq: float) -> LevelTrack | None:
    """Both levels block by block, each the median of the samples on its side of the block's middle; None where no length of
    block up to a fifth of a second holds both levels throughout.

    Parameters
    ----------
    channel : Channel
        a channel that switches
    levels : Levels
        of the whole of it
    """
    size = max(int(_LIMIT.block_s * sfreq), 16)
    while size <= _LIMIT.longest_s * sfreq and len(channel.raw) // size >= _LIMIT.fewest_blocks:
        count = len(channel.raw) // size
        stride = max(1, size // int(_LIMIT.looked_at))
        part = channel.raw[: count * size].reshape(count, size)[:, ::stride]
        part = np.sort(part.astype(np.float32) * channel.scale + channel.offset, axis=1)
        wide = part.shape[1]
        middle = 0.5 * (part[:, int(0.02 * (wide - 1))] + part[:, int(0.98 * (wide - 1))])
        below = np.count_nonzero(part < middle[:, None], axis=1)
        rows = np.arange(count)
        low = part[rows, np.maximum(below // 2, 0)].astype(np.float64)
        high = part[rows, np.minimum((below + wide) // 2, wide - 1)].astype(np.float64)
        both = high - low > _LIMIT.both * levels.swing
        if both.mean() >= _LIMIT.of_blocks:
            return LevelTrack(low, high, both, size / sfreq)
        size *= 2
    return None


def trend(track: LevelTrack, level: np.ndarray, first: int, last: int) -> float | None:
    """By how much (unit a second) a level moves within a stretch, where it moves all the way; None where it jumps.

    Parameters
    ----------
    track : LevelTrack
        blocks of the capture with their times in s
    level : ndarray, shape (blocks,)
        one of its levels, in the channel's unit
    first, last : int
        blocks first..last - 1

    References
    ----------
    Straight line by least squares with the scatter about it: JCGM 100:2008, H.3.
    """
    seen = np.flatnonzero(track.both[first:last]) + first
    if len(seen) < _LIMIT.trend_blocks:
        return None
    at, value = seen * track.block_s, level[seen]
    slope, middle = np.polyfit(at, value, 1)
    left = float(np.std(value - slope * at - middle))
    moved = abs(float(slope)) * (at[-1] - at[0])
    return float(slope) if moved > _LIMIT.trend_beyond * max(left, 1e-9) else None
