"""State levels of a two-state waveform, and how two-state it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel

MOST_SAMPLED = 1 << 17
RUN = 256
BINS = 256
#: share of samples at either end that is left out of the histogram's range, so that spikes do not set it
TAIL = 0.001


@dataclass(frozen=True)
class Levels:
    """All in the channel's unit, but for the shares."""

    low: float
    high: float
    noise: float  #: standard deviation about the nearer of the two levels
    minimum: float
    maximum: float
    step: float  #: the recorder's smallest step, 0 where it cannot be told
    between: float  #: share of samples in the middle half of the swing: 0 for a square, 1/3 for a sine
    parted: float  #: share of the variance that lies between the two states, 0 to 1: 0.64 for noise

    @property
    def swing(self) -> float:
        return self.high - self.low

    @property
    def middle(self) -> float:
        return 0.5 * (self.low + self.high)


def sample_runs(raw: np.ndarray, most: int = MOST_SAMPLED) -> np.ndarray:
    """At most about `most` samples of `raw`, in runs spread evenly over it with a fixed jitter.

    Whole runs, since neighbours are needed to tell noise from movement; jitter, since an even
    spacing could fall into step with the turning wheel.
    """
    if len(raw) <= most:
        return raw
    count = most // RUN
    room = len(raw) // count
    jitter = np.random.default_rng(1).integers(0, room - RUN, count) if room > RUN else np.zeros(count, int)
    starts = np.arange(count) * room + jitter
    return raw[(starts[:, None] + np.arange(RUN)).ravel()]


def state_levels(channel: Channel) -> Levels:
    """Low and high state level by the histogram-mode method of IEEE Std 181-2011, 5.2.

    The range is split at its middle; each level is the mode of the histogram of its half,
    refined to the median of the samples within one bin of it. Range ends are the 0.1 % and
    99.9 % quantiles rather than the extremes, so that a few spikes do not move the split.

    Parameters
    ----------
    channel : Channel
        any number of samples > 0

    Returns
    -------
    Levels
    """
    scale = abs(channel.scale)
    sampled = sample_runs(channel.raw).astype(np.float64)
    minimum, maximum = extremes(channel.raw)
    step = _smallest_step(sampled)
    bottom, top = np.quantile(sampled, [TAIL, 1 - TAIL])
    if top <= bottom:
        bottom, top = minimum, maximum
    low, high = (bottom, top) if top <= bottom else _modes(sampled, bottom, top)
    middle = 0.5 * (low + high)
    below = sampled < middle
    nearer = np.where(below, low, high)
    noise = 1.4826 * float(np.median(np.abs(sampled - nearer)))
    quarter = 0.25 * (high - low)
    between = float(np.mean(np.abs(sampled - middle) < quarter)) if high > low else 1.0
    values = [channel.offset + channel.scale * one for one in (low, high, minimum, maximum)]
    if channel.scale < 0:
        values = [values[1], values[0], values[3], values[2]]
    return Levels(
        values[0],
        values[1],
        noise * scale,
        values[2],
        values[3],
        step * scale,
        between,
        _parted(sampled, below),
    )


def piled_up(channel: Channel, *, two_state: bool) -> tuple[float, float]:
    """Share of samples that lie exactly on the largest or smallest value, and that value in the channel's unit.

    A waveform that goes on beyond the range piles up at its end and leaves the values next to it nearly
    empty; a peak does not, nor does a level that noise moves about. A signal of two states that piles up
    at both ends is only quiet, so there one end must show noise. (0, 0) where nothing piles up.
    """
    sampled = sample_runs(channel.raw)
    found = []
    for end in (sampled.min(), sampled.max()):
        away = np.abs(sampled - end)
        span = float(np.ptp(sampled)) or 1.0
        there = float(np.mean(away == 0))
        near = float(np.mean((away > 0) & (away < 0.04 * span)))
        values = len(np.unique(sampled[away < 0.2 * span][:4096]))
        found.append((there if there > 3 * near and there > 0.005 else 0.0, values, float(end)))
    if not two_state:
        found = [(share if values >= 5 else 0.0, values, end) for share, values, end in found]
    elif all(share or values < 5 for share, values, _ in found):
        found = [(0.0, 0, found[0][2])]
    marked = channel.over_range / len(channel.raw)
    share, _, end = max(found)
    if marked > 0.005:
        share = max(share, marked)
    return share, channel.offset + channel.scale * end


def extremes(raw: np.ndarray, chunk: int = 1 << 18) -> tuple[float, float]:
    """Smallest and largest sample, in one walk through memory."""
    low, high = raw[0], raw[0]
    for start in range(0, len(raw), chunk):
        part = raw[start : start + chunk]
        low, high = min(low, part.min()), max(high, part.max())
    return float(low), float(high)


def _modes(sampled: np.ndarray, bottom: float, top: float) -> tuple[float, float]:
    counts, borders = np.histogram(sampled, BINS, (bottom, top))
    counts[0] += np.count_nonzero(sampled < bottom)
    counts[-1] += np.count_nonzero(sampled > top)
    width = borders[1] - borders[0]
    modes = []
    for first, half in ((0, counts[: BINS // 2]), (BINS // 2, counts[BINS // 2 :])):
        peak = first + int(half.argmax())
        near = sampled[(sampled >= borders[peak] - width) & (sampled <= borders[peak + 1] + width)]
        modes.append(float(np.median(near)) if len(near) else float(borders[peak]))
    return modes[0], modes[1]


def _parted(sampled: np.ndarray, below: np.ndarray) -> float:
    """Between-class share of the variance (Otsu 1979, IEEE Trans. SMC 9(1), eq. 18)."""
    total = float(sampled.var())
    share = float(below.mean())
    if total <= 0 or share in (0.0, 1.0):
        return 0.0
    apart = float(sampled[~below].mean() - sampled[below].mean())
    return share * (1 - share) * apart**2 / total


def _smallest_step(sampled: np.ndarray) -> float:
    """The recorder's step: the smallest distance between different values, if they are few enough."""
    different = np.unique(sampled[: 1 << 16])
    if not 2 <= len(different) <= 1 << 12:
        return 0.0
    gaps = np.diff(different)
    return float(gaps[gaps > 1e-6 * (different[-1] - different[0])].min(initial=np.inf))


def smoothed(channel: Channel, width: int) -> Channel:
    """The channel under a moving average of `width` samples (odd), same length, float32."""
    width |= 1
    half = width // 2
    raw = channel.raw
    padded = np.concatenate([np.full(half + 1, raw[0], raw.dtype), raw, np.full(half, raw[-1], raw.dtype)])
    total = np.cumsum(padded, dtype=np.float64)
    return Channel(
        channel.column,
        ((total[width:] - total[:-width]) / width).astype(np.float32),
        channel.unit,
        channel.scale,
        channel.offset,
    )
