"""Every tooth by itself and every turn by itself: what the Turns and Wheel lenses and the table show."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.signal.deviation import by_place
from sagen.signal.reading import RotatingReading
from sagen.signal.slots import Teeth


@dataclass(frozen=True)
class ToothTable:
    """One row a slot of the wheel, 1..slots; NaN where a slot has no tooth or nothing is known.

    `size` is the height at each tooth (coil) or how long the signal is low there (others), relative to the
    median of all; `phase_error` and `wander` are in percent of a pitch: the median over the turns, and the standard
    deviation from turn to turn. `seen` is the share of turns in which the tooth was there. The two
    `..._against` columns are the difference from the known-good capture.
    """

    number: np.ndarray
    angle_deg: np.ndarray
    phase_error: np.ndarray
    wander: np.ndarray
    size: np.ndarray
    seen: np.ndarray
    phase_error_against: np.ndarray
    size_against: np.ndarray
    size_name: str

    @property
    def has_pattern(self) -> bool:
        return bool(np.isfinite(self.phase_error_against).any())


def tooth_table(reading: RotatingReading, pattern: RotatingReading | None = None) -> ToothTable | None:
    """The table of a channel; None where its wheel is not known or less than two turns were seen.

    Parameters
    ----------
    reading : RotatingReading
        a channel with its wheel
    pattern : RotatingReading or None
        the known-good one of the same wheel, whose values are laid beside

    Returns
    -------
    ToothTable or None
        a row a tooth, columns with their units
    """
    own = _columns(reading)
    if own is None:
        return None
    late, wander, size, seen = own
    slots = reading.wheel.slots
    number = np.arange(1, slots + 1)
    blank = np.full(slots, np.nan)
    theirs = _columns(pattern) if pattern is not None and pattern.wheel == reading.wheel else None
    return ToothTable(
        number, (number - 1) * reading.wheel.pitch_deg, late, wander, size, seen,
        blank if theirs is None else late - theirs[0], blank if theirs is None else size - theirs[2],
        reading.size_name,
    )  # fmt: skip


def _columns(reading: RotatingReading) -> tuple[np.ndarray, ...] | None:
    if reading.wheel is None or not reading.switching:
        return None
    lates = by_place(reading.teeth, reading.phase_error_middle)
    sizes = by_place(reading.teeth, reading.size)
    if lates is None or sizes is None:
        return None
    slots = reading.wheel.slots
    late, wander, size, seen = (np.full(slots, np.nan) for _ in range(4))
    place = lates.number - 1
    late[place] = 100 * (lates.by_place - np.median(lates.by_place))
    with np.errstate(all="ignore"):
        wander[place] = 100 * np.nanstd(lates.values, axis=0)
    size[sizes.number - 1] = sizes.by_place / np.median(sizes.by_place)
    seen[: slots - reading.wheel.missing] = 1.0
    for number, share in reading.teeth.lost.items():
        seen[number - 1] = 1.0 - share
    seen[[other - 1 for other in reading.wheel.others]] = np.nan
    return late, wander, size, seen


def turn_rows(reading: RotatingReading, what: str) -> tuple[np.ndarray, np.ndarray] | None:
    """A row a turn and a column a slot: the deviation of each tooth from what is expected of it.

    Parameters
    ----------
    what : "phase_error" (percent of a pitch) or "size" (percent of the median height or width)

    Returns
    -------
    values, entry : np.ndarray [shape=(turns, slots)]
        NaN where no tooth was seen, and which entry of the teeth each place is (-1 there); None where the
        wheel is not known.
    """
    teeth = reading.teeth
    if teeth.wheel is None or not len(teeth.number):
        return None
    if what == "phase_error":
        measure = 100 * reading.phase_error_middle
    else:
        size = reading.size
        measure = np.append(size, np.full(len(teeth.times) - len(size), np.nan))
        measure = 100 * (measure / np.nanmedian(measure) - 1)
    known = np.flatnonzero(teeth.number > 0)
    if not len(known):
        return None
    turn = teeth.turn[known] - teeth.turn[known].min()
    if turn.max() > 4 * len(known):
        return None
    values = np.full((int(turn.max()) + 1, teeth.wheel.slots), np.nan, np.float32)
    entry = np.full(values.shape, -1, np.int64)
    values[turn, teeth.number[known] - 1] = measure[known]
    entry[turn, teeth.number[known] - 1] = known
    return values, entry


def wave_over_turn(
    raw: np.ndarray, reading: RotatingReading, steps_a_pitch: int = 24, turns: int = 24
) -> np.ndarray | None:
    """The mean waveform over one turn, raw units, shape (slots * steps_a_pitch,): a synchronous average.

    The angle grid is mapped to time, never every sample to an angle. None where the wheel is not known.

    Parameters
    ----------
    raw : ndarray, shape (n,)
        the channel's samples as recorded
    reading : RotatingReading
        its teeth, in samples of `raw`
    steps_a_pitch : int
        of the angle grid
    turns : int
        at most so many are averaged, the first ones

    References
    ----------
    McFadden, Mech. Syst. Signal Process. 1(1), 1987: time domain averaging. From memory.
    """
    teeth = reading.teeth
    if teeth.wheel is None or len(teeth.times) < 8:
        return None
    slots = teeth.wheel.slots
    rows = waves_over_angle(raw, teeth, reading.sfreq, span=slots, steps=slots * steps_a_pitch, most=turns)
    return rows.mean(axis=0) if len(rows) else None


def waves_over_angle(
    raw: np.ndarray, teeth: Teeth, sfreq: float, *, span: float, steps: int, begin: float = 0.0, most: int = 24
) -> np.ndarray:
    """Samples on an even grid of a shaft's angle, a row a span of it, raw units, shape (rows, steps).

    Parameters
    ----------
    raw : ndarray, shape (n,)
        samples as recorded, of any channel
    teeth : Teeth
        the shaft's, with a wheel
    sfreq : float
        samples a second
    span, begin : float
        pitches that a row is long, and of the first turn at which one begins
    steps : int
        of the grid, a row
    most : int
        at most so many rows, the first ones

    References
    ----------
    Fyfe and Munck, Mech. Syst. Signal Process. 11(2), 1997: computed order tracking. From memory.
    """
    position = teeth.turn * teeth.wheel.slots + teeth.number - 1.0
    climbing = np.concatenate([[True], np.diff(position) > 0]) & (teeth.number > 0)
    if not climbing.any():
        return np.empty((0, steps))
    position, times = position[climbing], teeth.times[climbing]
    first = int(np.ceil((position[0] - begin) / span))
    last = min(int((position[-1] - begin) // span), first + most)
    if last <= first:
        return np.empty((0, steps))
    grid = begin + np.arange(first * steps, last * steps) / (steps / span)
    index = np.clip(np.round(np.interp(grid, position, times) * sfreq).astype(int), 0, len(raw) - 1)
    return raw[index].astype(np.float64).reshape(last - first, steps)
