"""What lies between teeth: pulses too many, and spaces that skip teeth."""

from __future__ import annotations

import numpy as np

from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.slots import UNSEEN

_BETWEEN, _ERRATIC, _GAP = limits("between"), limits("erratic"), limits("extra_gap")


def pulses_between(reading: RotatingReading) -> dict[int, np.ndarray]:
    """Pulses that come in most turns behind the same tooth: their times (s) by that tooth's number. Something stands
    between two teeth there; a disturbance does not know where the wheel is.

    Parameters
    ----------
    reading : RotatingReading
        with its teeth, and its disturbances' times in s

    Returns
    -------
    dict of int to ndarray, shape (pulses,)
        s, by the number of the tooth before
    """
    teeth = reading.teeth
    turns = len(teeth.anchors)
    if reading.wheel is None or turns < _BETWEEN.fewest_turns or not len(teeth.number):
        return {}
    own = reading.false_edges[~np.isin(reading.false_edges, reading.sparks)]
    if len(reading.sparks) > len(own):
        own = own[:0]  # where most are sparks the others are lesser ones
    at = np.sort(np.concatenate([teeth.between, own]))
    behind = np.searchsorted(teeth.times, at, "right") - 1
    inside = (behind >= 0) & (behind < len(teeth.spans))
    at, behind = at[inside], behind[inside]
    number, turn = teeth.number[behind], teeth.turn[behind]
    share = (at - teeth.times[behind]) / np.diff(teeth.times)[behind] * np.maximum(teeth.spans[behind], 1)
    # In half pitches: which end of a narrow pulse was seen moves it by less.
    place = np.where(number > 0, np.round(2 * (number + share)), 0).astype(int)
    found = {}
    for item in np.unique(place[place > 0]):
        own = place == item
        seen = len(np.unique(turn[own]))
        # Pulses anywhere fall on one of so many places of a turn.
        usual = (len(at) - seen) / (2 * reading.wheel.slots)
        least = max(_BETWEEN.fewest_turns, _BETWEEN.share_of_turns * turns, usual + _BETWEEN.sigmas * np.sqrt(usual))
        if seen >= max(least, _BETWEEN.of_all * len(at)):
            found[int(item // 2)] = np.sort(np.concatenate([found.get(int(item // 2), at[:0]), at[own]]))
    if len(found) > _BETWEEN.most or _like_firing(sorted(found), reading.wheel.slots):
        return {}
    return found


def elsewhere(at: np.ndarray, fixed: dict[int, np.ndarray]) -> np.ndarray:
    """The times (s) of pulses without those that `pulses_between` has found to be tied to the wheel.

    Parameters
    ----------
    at : ndarray, shape (pulses,)
        s
    fixed : dict of int to ndarray
        s, as `pulses_between` gives them

    Returns
    -------
    ndarray, shape (rest,)
        s
    """
    return at[~np.isin(at, np.concatenate(list(fixed.values())))] if fixed else at


def _like_firing(places: list[int], slots: int) -> bool:
    """Whether places lie evenly about the turn, as what every cylinder fires does: two pieces of swarf do not."""
    if len(places) < 2:
        return False
    return bool(np.ptp(np.diff([*places, places[0] + slots])) <= _BETWEEN.even_places)


def bridged(reading: RotatingReading) -> list[int]:
    """Tooth numbers that are not seen in most turns because the signal stays as a tooth holds it from the tooth before to
    the one behind: something bridges the space between them.

    Parameters
    ----------
    reading : RotatingReading
        of a switching sensor, its wheel known

    Returns
    -------
    list of int
        numbers of teeth, from 1
    """
    teeth = reading.teeth
    if reading.wheel is None or not reading.both_ends or len(reading.rises) != len(teeth.times):
        return []
    holds = (reading.rises - reading.falls)[:-1] / (np.diff(teeth.times) / np.maximum(teeth.spans, 1))
    found = []
    for number, share in teeth.lost.items():
        over = np.flatnonzero((teeth.spans == 2) & (teeth.number[:-1] % reading.wheel.slots + 1 == number))
        if share >= _GAP.share_of_turns and len(over) >= 2 and np.nanmedian(holds[over]) > _BETWEEN.bridged:
            found.append(number)
    return found


def missed_teeth(reading: RotatingReading) -> np.ndarray:
    """Entries before a space that skips teeth where the wheel has them, not at the same place each turn.

    Parameters
    ----------
    reading : RotatingReading
        its wheel known

    Returns
    -------
    ndarray of int, shape (spaces,)
        indices into `reading.teeth.times`
    """
    teeth = reading.teeth
    if teeth.wheel is None or not (len(teeth.anchors) or not teeth.wheel.missing):
        return np.empty(0, int)
    skipping = np.flatnonzero((teeth.spans > 1) & (teeth.spans <= _ERRATIC.most_skipped))
    first = teeth.number[skipping] % teeth.wheel.slots + 1
    usual = np.array([teeth.lost.get(int(item), 0.0) < _GAP.share_of_turns for item in first], bool)
    reference = np.isin(skipping + 1, teeth.anchors) | (first > teeth.wheel.slots - teeth.wheel.missing)
    reference |= np.isin(first, teeth.wheel.others)
    return skipping[usual & ~reference] if len(skipping) else skipping


def slowness(reading: RotatingReading) -> np.ndarray:
    """How many times slower than its pace the shaft passes each place of the wheel, in one turn of ten, shape (slots + 1,)
    by tooth number, 1 where nothing is known: where it nearly stalls nobody knows where a tooth is due."""
    teeth, slots = reading.teeth, reading.wheel.slots
    out = np.ones(slots + 1)
    if not teeth.whole.size:
        return out
    pitches = np.diff(teeth.times) / np.maximum(teeth.spans, 1)
    beside = np.maximum(np.append(pitches, pitches[-1]), np.insert(pitches, 0, pitches[0]))
    seen = teeth.whole != UNSEEN
    rows = np.where(seen, beside[np.where(seen, teeth.whole, 0)], np.nan)
    rows = rows / np.nanmedian(rows, axis=1, keepdims=True)
    out[teeth.places] = np.sort(np.where(np.isnan(rows), 0.0, rows), axis=0)[int(0.9 * (len(rows) - 1))]
    turn = out[1:]
    reach = int(_BETWEEN.beside_stall)
    out[1:] = np.max([np.roll(turn, offset) for offset in range(-reach, reach + 1)], axis=0)
    return out


def at_pace(reading: RotatingReading) -> np.ndarray:
    """Teeth that pass while the shaft turns at its pace, shape (teeth,): where it creeps, rocks, starts or comes to rest
    nobody knows where a tooth is due."""
    teeth = reading.teeth
    slow = teeth.creeping | (teeth.spans == 0)
    near = np.zeros(len(teeth.times), bool)
    reach = int(_ERRATIC.beside_rest)
    for offset in range(-reach, reach + 2):
        at = np.flatnonzero(slow) + offset
        near[at[(at >= 0) & (at < len(near))]] = True
    return ~near
