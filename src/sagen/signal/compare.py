"""A capture against a known-good one of the same circuit, in shaft angle: speed, sample rate and
starting point fall out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel
from sagen.model.finding_words import comparison_words, odd_words
from sagen.model.language import tr
from sagen.signal.cam import CYCLE
from sagen.signal.cam_difference import CamDifference, Measured, median_of
from sagen.signal.deviation import ToothDeviations
from sagen.signal.limits import limits
from sagen.signal.measures import LEAST, tooth_measures
from sagen.signal.outliers import outstanding
from sagen.signal.reading import RotatingReading

STEPS_A_PITCH = 24
LEVEL_SAMPLES = 100  #: what a level is known from at least, apart from one another
#: edges whose rise is looked at, at least and at most, and samples either side of one at most
FEWEST_RISES, MOST_RISES, MOST_REACH = 4, 200, 400
_LIMIT = limits("compared")


@dataclass(frozen=True)
class Comparison:
    """How a channel differs from the pattern.

    `likeness` is the share of the turn (0 to 1) in which both signals are in the same state, each
    taken as its own majority over the turns recorded. 1 - likeness times 360 is how many degrees a
    turn they differ; an even wheel seen half a pitch late gives 0. `teeth` are the numbers where
    they differ by more than half a tooth, or where one tooth's place, width or height differs by more than
    the two captures' own scatter explains (`LEAST`).
    """

    column: str
    likeness: float | None  #: None where that cannot be said
    teeth: tuple[int, ...]
    low: Measured
    high: Measured
    named: tuple[tuple[int, str], ...] = ()  #: the same numbers, each with how that tooth differs, where it is known
    other: str = ""  #: the column of the known-good capture that it was compared with
    cam: CamDifference | None = None
    rise_us: Measured | None = None
    duty: Measured | None = None
    v_per_rpm: Measured | None = None

    def as_row(self) -> dict:
        """It as the command line prints it; what does not apply is left out."""
        row: dict = {}
        if self.cam is not None:
            reach = _LIMIT.interval * self.cam.u
            row |= {
                "offset_deg": round(self.cam.offset, 2), "offset_low": round(self.cam.offset - reach, 2),
                "offset_high": round(self.cam.offset + reach, 2), "edges": [item.as_row() for item in self.cam.edges],
            }  # fmt: skip
            row |= {"shape": self.cam.shape} if self.cam.shape else {}
        row |= {"low": self.low.as_row(), "high": self.high.as_row()}
        for name, digits in (("rise_us", 2), ("duty", 4), ("v_per_rpm", 6)):
            measured = getattr(self, name)
            row |= {name: measured.as_row(digits)} if measured is not None else {}
        if self.teeth:
            row["teeth"] = list(self.teeth)
        if self.likeness is not None:
            row["alike"] = round(self.likeness, 4)
        return row

    @property
    def text(self) -> str:
        """The comparison in a sentence."""
        return comparison_words(self)


def low_over_angle(reading: RotatingReading) -> np.ndarray | None:
    """Share of turns in which the signal is low, on a grid of 24 steps a pitch, shape (24 * slots,).

    None where the wheel is unknown or no whole turn was seen.
    """
    teeth = reading.teeth
    if teeth.wheel is None or teeth.turns_seen < 1 or len(teeth.times) < 3:
        return None
    steps = teeth.wheel.slots * STEPS_A_PITCH
    slot = teeth.turn * teeth.wheel.slots + teeth.number - 1.0
    share = reading.low_share()
    known = (teeth.spans > 0) & np.isfinite(share)
    first = np.round(slot[:-1][known] * STEPS_A_PITCH).astype(int)
    last = first + np.round(share[known] * teeth.spans[known] * STEPS_A_PITCH).astype(int)
    end = first + teeth.spans[known] * STEPS_A_PITCH
    return _coverage(first, last, steps) / np.maximum(1, _coverage(first, end, steps))


def _coverage(first: np.ndarray, last: np.ndarray, steps: int) -> np.ndarray:
    """How many of the stretches first..last lie over each step of a turn of `steps`."""
    base = int(first.min())
    length = int(last.max()) - base + 1
    length += -length % steps
    marks = np.bincount(first - base, minlength=length + 1) - np.bincount(last - base, minlength=length + 1)
    over = np.cumsum(marks[:length])
    return np.roll(over.reshape(-1, steps).sum(axis=0), base % steps)


def compare(reading: RotatingReading, pattern: RotatingReading, cam: CamDifference | None = None) -> Comparison | None:
    """Compare a channel with the same channel of a known-good capture; None where there is nothing to compare.

    Parameters
    ----------
    cam : CamDifference
        of a cam, its edges over the crank's angle in both
    """
    here, there = low_over_angle(reading), low_over_angle(pattern)
    teeth, named, likeness = (), (), None
    if here is not None and there is not None and len(here) == len(there):
        differs = (here > 0.5) != (there > 0.5)
        likeness = 1.0 - float(differs.mean())
        a_slot = differs.reshape(-1, STEPS_A_PITCH).mean(axis=1)
        apart = teeth_apart(reading, pattern)
        teeth = tuple(sorted({int(at) + 1 for at in np.flatnonzero(a_slot > 0.25)} | set(apart)))
        named = tuple((item, apart.get(item, "")) for item in teeth)
    elif cam is not None and cam.edges and not cam.shape:
        # Of a cam the share of the cycle in which both are in the same state, its steady shift left in.
        likeness = 1.0 - min(sum(abs(item.difference) for item in cam.edges) / CYCLE, 1.0)
    elif cam is None:
        return None
    step = max(reading.levels.step, pattern.levels.step, 1e-3) / np.sqrt(12)
    level_u = float(np.hypot(step, np.hypot(reading.levels.noise, pattern.levels.noise) / np.sqrt(LEVEL_SAMPLES)))
    low = Measured(pattern.levels.low, reading.levels.low, level_u)
    high = Measured(pattern.levels.high, reading.levels.high, level_u)
    return Comparison(
        reading.column, likeness, teeth, low, high, named, pattern.column, cam, None,
        _duty(reading, pattern) if cam is None and reading.both_ends and pattern.both_ends else None,
        _v_per_rpm(reading, pattern) if reading.grows_with_speed and pattern.grows_with_speed else None,
    )  # fmt: skip


def _both(here: np.ndarray, there: np.ndarray) -> Measured | None:
    (mine, my_u), (theirs, their_u) = median_of(here), median_of(there)
    return Measured(theirs, mine, float(np.hypot(my_u, their_u))) if np.isfinite(mine + theirs) else None


def _duty(reading: RotatingReading, pattern: RotatingReading) -> Measured | None:
    """Share of a pitch that the signal is low, of spaces without a gap."""

    def of(item: RotatingReading) -> np.ndarray:
        share = item.low_share()
        single = item.teeth.spans[: len(share)] == 1
        return share[single] if single.any() else share

    return _both(of(reading), of(pattern))


def _v_per_rpm(reading: RotatingReading, pattern: RotatingReading) -> Measured | None:
    """Height from peak to peak for each turn a minute of the wheel's shaft."""
    wheel = reading.wheel or pattern.wheel
    if wheel is None or reading.strength is None or pattern.strength is None:
        return None
    # Height times the time of a pitch, over 60 s: a turn a minute is a pitch in 60 / slots seconds.
    return _both(reading.strength * wheel.slots / 60.0, pattern.strength * wheel.slots / 60.0)


def rise_us(channel: Channel, reading: RotatingReading, sfreq: float) -> tuple[float, float] | None:
    """Median 10 to 90 % rise of a switching line (IEEE Std 181-2011, 5.3.4) and its standard uncertainty, both in
    microseconds; None where there are too few edges.

    Parameters
    ----------
    channel : Channel
        the samples of the reading
    """
    levels, rises = reading.levels, np.flatnonzero(reading.edges.rising)
    if len(rises) < FEWEST_RISES or levels.swing <= 0:
        return None
    chosen = rises[np.linspace(0, len(rises) - 1, min(len(rises), MOST_RISES)).astype(int)]
    at = np.floor(reading.edges.at[chosen]).astype(int)
    reach = int(np.clip(0.25 * float(np.median(np.diff(reading.edges.at))), 3, MOST_REACH))
    at = at[(at >= reach) & (at < len(channel.raw) - reach)]
    if len(at) < FEWEST_RISES:
        return None
    rows = channel.raw[at[:, None] + np.arange(-reach, reach + 1)] * channel.scale + channel.offset
    share = (rows - levels.low) / levels.swing

    def crossing(level: float, last: bool) -> np.ndarray:
        """Where each row passes a level around its middle, in samples, between two samples in a line."""
        above = share > level
        middle = reach
        if last:  # the first sample above, at or behind the middle
            k = middle + np.argmax(above[:, middle:], axis=1)
        else:  # the one behind the last below, at or before the middle
            k = middle - np.argmax(~above[:, middle::-1], axis=1) + 1
        k = np.clip(k, 1, share.shape[1] - 1)
        row = np.arange(len(share))
        before, after = share[row, k - 1], share[row, k]
        return k - 1 + np.clip((level - before) / np.where(after == before, 1.0, after - before), 0.0, 1.0)

    lasts = (crossing(0.9, True) - crossing(0.1, False)) / sfreq * 1e6
    middle, u = median_of(lasts)
    # An edge within one sample lasts anything up to it.
    return middle, float(np.hypot(u, 1e6 / sfreq / np.sqrt(12)))


def teeth_apart(reading: RotatingReading, pattern: RotatingReading) -> dict[int, str]:
    """Numbers of the teeth whose place, width or height differs from the pattern's, and how in words.

    Parameters
    ----------
    reading, pattern : RotatingReading
        a capture and the known-good one, of one wheel and each with at least two whole turns

    Returns
    -------
    dict
        tooth number (from 1, after the reference gap) to what differs, in words with figures
    """
    if reading.wheel != pattern.wheel or type(reading) is not type(pattern):
        return {}
    found: dict[int, tuple[float, str]] = {}
    theirs = tooth_measures(pattern)
    for name, (here, least) in tooth_measures(reading).items():
        if name not in theirs:
            continue
        there, their_least = theirs[name]
        number, mine, other = np.intersect1d(here.number, there.number, return_indices=True)
        if len(number) < 8:
            continue
        difference = here.by_place[mine] - there.by_place[other]
        if name == "height":
            difference = difference / there.by_place[other]
        # What sampling can do to either adds up; what a fine sampling leaves counts once.
        limit = np.full(len(number), least + their_least - LEAST[name].size)
        scatter = np.hypot(here.scatter / np.sqrt(here.turns), there.scatter / np.sqrt(there.turns))
        errors = ToothDeviations(
            difference[None], difference, scatter, number, float(np.hypot(here.locked, there.locked))
        )
        for place, size, _ in outstanding(
            errors, limit, LEAST[name].sure, reading.wheel.slots, (1,), spread=name.startswith("phase_error")
        ):
            one, weight = int(number[place]), abs(size) / limit[place]
            if one not in found or weight > found[one][0]:
                found[one] = (weight, odd_words(name, size, tr("than there")))
    return {key: words for key, (_, words) in found.items()}
