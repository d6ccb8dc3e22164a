"""Slots: how many pitches have passed since the first edge, and what is known of every tooth once the wheel is.

Every edge is first given a slot, with the pitch taken from its neighbours so that the engine may breathe, speed up or
start from rest, and with the rounding held to the row of teeth as a whole so that one tooth out of place does not shift
all that follow. Which wheel the slots are of is found in `wheel_search.py`.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from sagen.model.wheel import Wheel
from sagen.signal.edges import median_of_five

WIDE_REACH, WANDERS = 6, 0.1
STILL = 8.0  #: a space beyond this many pitches is a standstill or an interruption, not a gap
CREEPS = 2.2  #: a tooth that takes as many times the pace around it passes a shaft that starts, rests or rocks
UNKNOWN = 1e9  #: pitches: a space of which nothing is known
HOLD = 8  #: teeth on each side that the rounding to slots is held to
MOST_LOST = 6  #: more teeth gone in a row than this is an interruption
UNSEEN = np.iinfo(np.int64).max  #: in `Teeth.whole`: this tooth was not seen in this turn


@dataclass(frozen=True)
class Teeth:
    """One edge a tooth, numbered where the wheel's reference gap was found.

    All arrays have one entry a tooth but `spans`, which has one a space between teeth.
    """

    times: np.ndarray  #: s, the tooth's edge
    ratio: np.ndarray  #: length of the space after each tooth, in pitches of its neighbours; shape (n - 1,)
    spans: np.ndarray  #: slots from each tooth to the next, int; 0 across an interruption; shape (n - 1,)
    wheel: Wheel | None = None
    number: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: 1..slots, 0 where unknown
    turn: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: turn counted from the first gap
    anchors: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: which entries are tooth 1 after a gap
    #: entries of each turn, a row each, the teeth that the wheel has in order; UNSEEN where one was not seen
    whole: np.ndarray = field(default_factory=lambda: np.empty((0, 0), int))
    places: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: tooth number of each column of `whole`
    lost: dict[int, float] = field(default_factory=dict)  #: tooth number -> share of turns without it
    alike: float = 0.0  #: share of the turns in which the reference gap was where it belongs, 0 to 1: how sure
    between: np.ndarray = field(
        default_factory=lambda: np.empty(0)
    )  #: s, pulses that come between two teeth every turn

    @property
    def wanders(self) -> bool:
        """Whether the teeth stray from even spacing by more than an engine's breathing makes them."""
        return spread(self.ratio) > WANDERS

    @property
    def turns_seen(self) -> float:
        """Turns of the shaft in the capture, where the wheel is known."""
        return float(self.spans.sum()) / self.wheel.slots if self.wheel else 0.0

    @cached_property
    def creeping(self) -> np.ndarray:
        """Spaces in which the shaft starts, rests or rocks: far slower than around them, shape (n - 1,)."""
        pitches = np.diff(self.times) / np.maximum(self.spans, 1)
        usual = pace_around(pitches)
        single = (self.spans <= 1) | (self.ratio >= STILL)
        return (pitches > CREEPS * usual) & single

    def longest_stretch(self) -> tuple[float, float]:
        """Start and end (s) of the longest stretch in which the shaft turned without a rest and the signal was there."""
        cut = np.flatnonzero((self.spans == 0) | (self.ratio >= still_beyond(self.wheel)) | self.creeping)
        first, last = np.concatenate([[0], cut + 1]), np.concatenate([cut, [len(self.times) - 1]])
        longest = int(np.argmax(last - first))
        return float(self.times[first[longest]]), float(self.times[last[longest]])

    def angle_deg(self) -> np.ndarray:
        """Angle of every tooth in degrees of the wheel's shaft, climbing from tooth 1 of turn 0."""
        pitch = self.wheel.pitch_deg if self.wheel else 0.0
        slots = self.wheel.slots if self.wheel else 1
        return (self.turn * slots + self.number - 1) * pitch

    def speed_rpm(self) -> np.ndarray:
        """Speed of the wheel's shaft from each tooth to the next, shape (n - 1,); NaN across interruptions."""
        if self.wheel is None:
            return np.full(max(len(self.times) - 1, 0), np.nan)
        spans = np.where(self.spans > 0, self.spans, np.nan)
        return 60.0 * spans / (self.wheel.slots * np.diff(self.times))


def still_beyond(wheel: Wheel | None) -> float:
    """The pitches from which on a space is a standstill: well beyond the reference gap of the wheel.

    Parameters
    ----------
    wheel : Wheel or None
        with its reference gap

    Returns
    -------
    float
        pitches
    """
    return max(STILL, 2.0 * (wheel.missing + 2)) if wheel else STILL


def lengths(ratio: np.ndarray) -> np.ndarray:
    """Logarithms of spaces in pitches, none so far from even that it would outweigh all others.

    Parameters
    ----------
    ratio : ndarray, shape (spaces,)
        pitches

    Returns
    -------
    ndarray, shape (spaces,)
        natural logarithms
    """
    return np.clip(np.log(np.maximum(ratio, 1e-3)), -0.9, 1.9)


def pace_around(pitches: np.ndarray) -> np.ndarray:
    """The pace (s a pitch) that a shaft has around each of its pitches: the quickest of three medians of 32, since one of
    them may lie in a rest. Shape as given.

    Parameters
    ----------
    pitches : ndarray, shape (spaces,)
        s a pitch
    """
    size = 32
    if len(pitches) < 2 * size:
        return np.full(len(pitches), float(np.median(pitches)) if len(pitches) else 0.0)
    blocks = len(pitches) // size
    middle = np.median(pitches[: blocks * size].reshape(blocks, size), axis=1)
    padded = np.pad(middle, 1, mode="edge")
    quickest = np.minimum(np.minimum(padded[:-2], padded[1:-1]), padded[2:])
    return quickest[np.minimum(np.arange(len(pitches)) // size, blocks - 1)]


def pitch_ratio(spaces: np.ndarray) -> np.ndarray:
    """Each space in units of the pitch around it, shape as given.

    The pitch is taken from the two nearest spaces on both sides (so that a steady change of speed
    cancels), after spaces that are whole multiples have been cut down to one pitch. Where the teeth
    wander from space to space, six on each side are needed for it.
    """
    rough = median_of_five(spaces)
    single = spaces / np.maximum(1, np.round(spaces / rough))
    for reach in (2, 2):
        pitch = _pitch_around(single, reach)
        single = spaces / np.maximum(1, np.round(spaces / pitch))
    if len(spaces) > 4 * WIDE_REACH and np.median(np.abs(np.log(single / pitch))) > WANDERS:
        pitch = _pitch_around(single, WIDE_REACH)
        single = spaces / np.maximum(1, np.round(spaces / pitch))
        pitch = _pitch_around(single, WIDE_REACH)
    return spaces / pitch


def broken(ratio: np.ndarray, times: np.ndarray, breaks: np.ndarray) -> np.ndarray:
    """The spaces in pitches, those in which nothing was recorded as long as none can be.

    Parameters
    ----------
    ratio : ndarray, shape (n - 1,)
        pitches from tooth to tooth
    times : ndarray, shape (n,)
        s
    breaks : ndarray, shape (k, 2)
        s between which nothing was recorded

    Returns
    -------
    ndarray, shape (n - 1,)
    """
    if len(breaks):
        place = np.searchsorted(times, breaks) - 1
        ratio[place[(place >= 0) & (place < len(ratio))]] = UNKNOWN
    return ratio


def _pitch_around(single: np.ndarray, reach: int) -> np.ndarray:
    """Mean of the middle half of the `reach` spaces on both sides of each one, itself left out."""
    padded = np.pad(single, reach, mode="reflect" if len(single) > reach else "edge")
    columns = [padded[i : i + len(single)] for i in range(2 * reach + 1) if i != reach]
    if reach == 2:
        a, b, c, d = columns
        return 0.5 * (a + b + c + d - np.maximum(np.maximum(a, b), np.maximum(c, d)) - np.minimum(np.minimum(a, b), np.minimum(c, d)))  # fmt: skip
    return np.sort(np.stack(columns), axis=0)[reach // 2 : 2 * reach - reach // 2].mean(axis=0)


def spread(ratio: np.ndarray) -> float:
    """How far spaces stray from even: the median of the logarithm of their length in pitches.

    Parameters
    ----------
    ratio : ndarray, shape (spaces,)
        pitches
    """
    return float(np.median(np.abs(np.log(np.maximum(ratio, 1e-3))))) if len(ratio) > 3 else 0.0


def slots_passed(ratio: np.ndarray) -> np.ndarray:
    """Pitches passed since the first tooth, int, shape (n + 1,).

    The running sum of the spaces (in pitches) is rounded against its own mean fraction over the teeth
    around, so that a tooth out of place moves only itself.
    """
    passed = np.concatenate([[0.0], np.cumsum(np.minimum(ratio, 1e6))])
    wheel = np.exp(2j * np.pi * passed)
    total = np.cumsum(np.pad(wheel, (HOLD + 1, HOLD), mode="edge"))
    around = total[2 * HOLD + 1 :] - total[: -2 * HOLD - 1]
    drift = np.unwrap(np.angle(around)) / (2 * np.pi)
    slot = np.round(passed - drift).astype(np.int64)
    return np.maximum.accumulate(slot - slot[0])


def lost_teeth(teeth: Teeth) -> dict[int, float]:
    """Tooth numbers that are skipped, with the share of their turns in which they are.

    Parameters
    ----------
    teeth : Teeth
        turns and numbers of teeth, times in s

    Returns
    -------
    dict of int to float
        0 to 1 by number, from 1
    """
    wheel, number, spans = teeth.wheel, teeth.number, teeth.spans
    last = wheel.slots - wheel.missing
    real = (number >= 1) & (number <= last)
    seen = np.bincount(number[real], minlength=last + 1)
    skipped = np.zeros(last + 1, int)
    # A longer space is an interruption, not a lost tooth.
    spans = np.where((spans > wheel.missing + 1 + MOST_LOST) | (number[:-1] == 0), 0, spans)
    for step in range(1, int(spans.max(initial=1))):
        over = number[:-1][spans > step] + step
        over = np.where(over > wheel.slots, over - wheel.slots, over)
        skipped += np.bincount(over[over <= last], minlength=last + 1)
    share = skipped / np.maximum(1, seen + skipped)
    return {int(at): float(share[at]) for at in np.flatnonzero(skipped) if int(at) not in wheel.others}


def whole_turns(teeth: Teeth, lost: dict[int, float]) -> tuple[np.ndarray, np.ndarray]:
    """A row a turn with the entries of its teeth, and which tooth each column is. Turns less than 80 %
    seen are left out.

    Parameters
    ----------
    teeth : Teeth
        which tooth of which turn each edge is
    lost : dict
        places of the wheel that no tooth came at, to the share of turns

    Returns
    -------
    rows, place : ndarray of int
        shapes (turns, teeth a turn), `UNSEEN` where one is missing, and (teeth a turn,), from 1
    """
    wheel = teeth.wheel
    places = np.array(
        [n for n in range(1, wheel.slots - wheel.missing + 1) if lost.get(n, 0.0) <= 0.5 and n not in wheel.others], int
    )
    column = np.full(wheel.slots + 1, -1)
    column[places] = np.arange(len(places))
    there = np.flatnonzero(column[teeth.number] >= 0)
    if not len(there) or not len(places):
        return np.empty((0, 0), int), places
    turn = teeth.turn[there] - teeth.turn[there].min()
    if turn[-1] > 4 * len(there):
        return np.empty((0, 0), int), places
    rows = np.full((int(turn.max()) + 1, len(places)), UNSEEN)
    rows[turn, column[teeth.number[there]]] = there
    return rows[(rows != UNSEEN).mean(axis=1) > 0.8], places
