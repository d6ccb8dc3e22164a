"""A capture against a known-good one of the same circuit, in shaft angle: speed, sample rate and
starting point fall out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.signal.reading import Reading

STEPS_A_PITCH = 24


@dataclass(frozen=True)
class Comparison:
    """How a channel differs from the pattern.

    `likeness` is the share of the turn (0 to 1) in which both signals are in the same state, each
    taken as its own majority over the turns recorded. 1 - likeness times 360 is how many degrees a
    turn they differ; an even wheel seen half a pitch late gives 0. `teeth` are the numbers where
    they differ by more than half a tooth.
    """

    column: str
    likeness: float
    teeth: tuple[int, ...]
    low_difference: float  #: this less the pattern, in the channel's unit
    high_difference: float
    text: str


def low_over_angle(reading: Reading) -> np.ndarray | None:
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


def compare(reading: Reading, pattern: Reading) -> Comparison | None:
    """Compare a channel with the same channel of a known-good capture; None where either has no turns."""
    here, there = low_over_angle(reading), low_over_angle(pattern)
    if here is None or there is None or len(here) != len(there):
        return None
    differs = (here > 0.5) != (there > 0.5)
    likeness = 1.0 - float(differs.mean())
    a_slot = differs.reshape(-1, STEPS_A_PITCH).mean(axis=1)
    teeth = tuple(int(one) + 1 for one in np.flatnonzero(a_slot > 0.25))
    low = reading.levels.low - pattern.levels.low
    high = reading.levels.high - pattern.levels.high
    where = (
        "at no tooth"
        if not teeth
        else f"at tooth {', '.join(map(str, teeth[:6]))}" + (f" and {len(teeth) - 6} more" if len(teeth) > 6 else "")
    )
    text = (
        f"{100 * likeness:.1f} % alike over a turn, differing {where}; low level {low:+.2f} V, "
        f"high level {high:+.2f} V against the known-good capture."
    )
    return Comparison(reading.column, likeness, teeth, low, high, text)
