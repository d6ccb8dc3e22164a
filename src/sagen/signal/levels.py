"""State levels of a two-state waveform, and how two-state it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel

MOST_SAMPLED = 1 << 16
RUN = 256
BINS, FINE = 256, 4096
#: share of samples at either end that is left out of the histogram's range, so that spikes do not set it
TAIL = 0.001


@dataclass(frozen=True)
class Levels:
    """All in the channel's unit, but for the shares."""

    low: float
    high: float
    noise: float  #: standard deviation about the nearer of the two levels
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

    Parameters
    ----------
    raw : ndarray, shape (n,)
        samples as recorded, any type
    most : int
        about how many are wanted at most

    Returns
    -------
    ndarray, shape (k,), k <= n
        the runs end to end; `raw` itself where it is no longer than `most`
    """
    if len(raw) <= most:
        return raw
    count = most // RUN
    room = len(raw) // count
    jitter = np.random.default_rng(1).integers(0, room - RUN, count) if room > RUN else np.zeros(count, int)
    starts = np.arange(count) * room + jitter
    return raw[(starts[:, None] + np.arange(RUN)).ravel()]


def state_levels(channel: Channel, most: int = MOST_SAMPLED) -> Levels:
    """Low and high state level by the histogram-mode method of IEEE Std 181-2011, 5.2.

    The range is split at its middle; each level is the mode of the histogram of its half,
    refined to the median of the samples within one bin of it. Range ends are the 0.1 % and
    99.9 % quantiles rather than the extremes, so that a few spikes do not move the split.

    Parameters
    ----------
    channel : Channel
        any number of samples > 0
    most : int
        samples that are looked at, about

    Returns
    -------
    Levels
    """
    scale = abs(channel.scale)
    sampled = sample_runs(channel.raw, most).astype(np.float64)
    step = _smallest_step(sampled)
    bottom, top = _tails(sampled)
    if top <= bottom:
        bottom, top = float(sampled.min()), float(sampled.max())
    spread = _Spread(sampled, bottom, top)
    low, high = spread.modes() if top > bottom else (bottom, top)
    noise = 1.4826 * spread.median_distance(low, high)
    values = sorted(channel.offset + channel.scale * item for item in (low, high))
    return Levels(
        values[0], values[1], noise * scale, step * scale,
        spread.between(low, high), spread.parted(low, high),
    )  # fmt: skip


class _Spread:
    """A fine histogram of samples between two ends, from which everything else is read."""

    def __init__(self, sampled: np.ndarray, bottom: float, top: float):
        self.sampled = sampled
        self.width = (top - bottom) / FINE if top > bottom else 1.0
        place = np.clip((sampled - bottom) / self.width, 0, FINE - 1).astype(np.int32)
        self.counts = np.bincount(place, minlength=FINE).astype(np.float64)
        self.centre = bottom + (np.arange(FINE) + 0.5) * self.width

    def modes(self) -> tuple[float, float]:
        """The fullest of 128 bins in each half, refined to the mean of the samples within a bin of it."""
        coarse = self.counts.reshape(BINS, -1).sum(axis=1)
        each, first = FINE // BINS, self.centre[0] - 0.5 * self.width
        found = []
        for half in (0, BINS // 2):
            peak = half + int(coarse[half : half + BINS // 2].argmax())
            low, high = first + np.array([peak - 1, peak + 2]) * each * self.width
            near = self.sampled[(self.sampled >= low) & (self.sampled <= high)]
            found.append(float(near.mean()) if len(near) else float(self.centre[peak * each]))
        return found[0], found[1]

    def median_distance(self, low: float, high: float) -> float:
        """Median distance of the samples from the nearer of two levels; 0 where it is below a tenth of a bin.

        Parameters
        ----------
        low, high : float
            levels in raw units
        """
        away = np.abs(self.centre - np.where(self.centre < 0.5 * (low + high), low, high))
        order = np.argsort(away)
        half = np.searchsorted(np.cumsum(self.counts[order]), 0.5 * self.counts.sum())
        found = float(away[order[min(half, FINE - 1)]])
        return found if found > 0.6 * self.width else 0.0

    def between(self, low: float, high: float) -> float:
        if not high > low:
            return 1.0
        inside = np.abs(self.centre - 0.5 * (low + high)) < 0.25 * (high - low)
        return float(self.counts[inside].sum() / self.counts.sum())

    def parted(self, low: float, high: float) -> float:
        """Between-class share of the variance (Otsu 1979, IEEE Trans. SMC 9(1), eq. 18)."""
        share = self.counts / self.counts.sum()
        mean = float(share @ self.centre)
        total = float(share @ (self.centre - mean) ** 2)
        below = self.centre < 0.5 * (low + high)
        weight = float(share[below].sum())
        if total <= 0 or weight in (0.0, 1.0):
            return 0.0
        apart = (
            float(share[~below] @ self.centre[~below]) / (1 - weight)
            - float(share[below] @ self.centre[below]) / weight
        )
        return weight * (1 - weight) * apart**2 / total


def _tails(sampled: np.ndarray) -> tuple[float, float]:
    """The 0.1 % and 99.9 % quantiles."""
    last = len(sampled) - 1
    low, high = round(TAIL * last), round((1 - TAIL) * last)
    parted = np.partition(sampled, (low, high))
    return float(parted[low]), float(parted[high])


def noise_of(sampled: np.ndarray) -> float:
    """Standard deviation of white noise under a smooth signal, from third differences.

    Parameters
    ----------
    sampled : ndarray, shape (samples,)
        of any unit

    Returns
    -------
    float
        in the same unit

    References
    ----------
    Noise by differences: Gasser, Sroka and Jennen-Steinmetz, Biometrika 73 (1986). From memory.
    """
    third = np.diff(sampled, 3)
    return 1.4826 * float(np.median(np.abs(third))) / np.sqrt(20.0) if len(third) else 0.0


def unpredicted_noise(sampled: np.ndarray, order: int = 10) -> float:
    """Standard deviation of white noise beside a signal of few samples a period: what a linear prediction from the
    samples before leaves (least squares, covariance method), since there third differences are the signal's own.

    Parameters
    ----------
    sampled : ndarray, shape (k,)
        runs of neighbouring samples, end to end, raw units
    order : int
        coefficients of the prediction

    Returns
    -------
    float
        raw units; Makhoul, "Linear prediction: a tutorial review", Proc. IEEE 63 (1975), from memory
    """
    if len(sampled) < 20 * order:
        return noise_of(sampled)
    rows = np.lib.stride_tricks.sliding_window_view(sampled - sampled.mean(), order + 1)
    past, now = rows[:, :-1], rows[:, -1]
    weights, *_ = np.linalg.lstsq(past, now, rcond=None)
    left = now - past @ weights
    return 1.4826 * float(np.median(np.abs(left))) / float(np.sqrt(1 + (weights**2).sum()))


def interpolated(channel: Channel, times: int, reach: int = 16) -> Channel:
    """The channel with `times` as many samples, band-limited: a sinc under a Hann window of `reach` samples either side
    (Oppenheim and Schafer, Discrete-Time Signal Processing, 4.6.1). Sample k comes to lie at k times `times`.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    times : int
        samples for each that there was, >= 1
    reach : int
        samples either side that the window covers

    Returns
    -------
    Channel
        raw float32, shape (n * times,), same unit

    References
    ----------
    Windows: Harris, Proc. IEEE 66(1), 1978; band-limited interpolation: Shannon 1949. From memory.
    """
    raw = channel.raw.astype(np.float64)
    padded = np.pad(raw, reach, mode="edge")
    out = np.empty(len(raw) * times)
    steps = np.arange(-reach, reach + 1)
    for phase in range(times):
        away = steps - phase / times
        taps = np.sinc(away) * np.cos(0.5 * np.pi * np.clip(away / (reach + 1), -1, 1)) ** 2
        out[phase::times] = np.convolve(padded, taps[::-1] / taps.sum(), "valid")
    return Channel(
        channel.column, out.astype(np.float32), channel.unit, channel.scale, channel.offset, channel.over_range
    )


def piled_up(channel: Channel, *, two_state: bool) -> tuple[float, float]:
    """Share of samples that lie exactly on the largest or smallest value, and that value in the channel's unit.

    A waveform that goes on beyond the range piles up at its end and leaves the values next to it nearly
    empty; a peak does not, nor does a level that noise moves about. A signal of two states that piles up
    at both ends is only quiet, so there one end must show noise. (0, 0) where nothing piles up.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    two_state : bool
        whether a sound signal rests on its two ends anyway

    Returns
    -------
    share, value : float
        0 to 1, and the channel's unit
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


def _smallest_step(sampled: np.ndarray) -> float:
    """The recorder's step: the smallest distance between different values, if they are few enough."""
    different = np.unique(sampled[:: max(1, len(sampled) >> 14)])
    if not 2 <= len(different) <= 1 << 12:
        return 0.0
    gaps = np.diff(different)
    return float(gaps[gaps > 1e-6 * (different[-1] - different[0])].min(initial=np.inf))


def smoothed(channel: Channel, width: int) -> Channel:
    """The channel under a moving average of `width` samples (odd), same length, float32.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    width : int
        samples; one more where even

    Returns
    -------
    Channel
        raw float32, shape (n,), the ends padded with themselves
    """
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
