"""A capture against a known-good one of the same circuit, in shaft angle: speed, sample rate and
starting point fall out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.finding_words import comparison_words, odd_words
from sagen.signal.deviation import ToothDeviations
from sagen.signal.measures import LEAST, tooth_measures
from sagen.signal.outliers import outstanding
from sagen.signal.reading import RotatingReading

STEPS_A_PITCH = 24


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
    likeness: float
    teeth: tuple[int, ...]
    low_difference: float  #: this less the pattern, in the channel's unit
    high_difference: float
    named: tuple[tuple[int, str], ...] = ()  #: the same numbers, each with how that tooth differs, where it is known

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


def compare(reading: RotatingReading, pattern: RotatingReading) -> Comparison | None:
    """Compare a channel with the same channel of a known-good capture; None where either has no turns."""
    here, there = low_over_angle(reading), low_over_angle(pattern)
    if here is None or there is None or len(here) != len(there):
        return None
    differs = (here > 0.5) != (there > 0.5)
    likeness = 1.0 - float(differs.mean())
    a_slot = differs.reshape(-1, STEPS_A_PITCH).mean(axis=1)
    apart = teeth_apart(reading, pattern)
    teeth = tuple(sorted({int(at) + 1 for at in np.flatnonzero(a_slot > 0.25)} | set(apart)))
    low = reading.levels.low - pattern.levels.low
    high = reading.levels.high - pattern.levels.high
    return Comparison(reading.column, likeness, teeth, low, high, tuple((item, apart.get(item, "")) for item in teeth))


def teeth_apart(reading: RotatingReading, pattern: RotatingReading) -> dict[int, str]:
    """Numbers of the teeth whose place, width or height differs from the pattern's, and how in words."""
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
                found[one] = (weight, odd_words(name, size, "than there"))
    return {key: words for key, (_, words) in found.items()}
