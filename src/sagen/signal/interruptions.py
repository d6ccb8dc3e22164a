"""Stretches in which a turning shaft gave no signal."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.vocabulary import Role
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.slots import STILL, UNKNOWN, Teeth, pace_around

_LIMIT = limits("dropout")


@dataclass(frozen=True)
class Interruption:
    """A stretch without teeth, s. `back`: whether they come again; `from_rest`: whether slowly, as a shaft starts."""

    start: float
    end: float
    back: bool
    from_rest: bool = False


def interruptions(reading: RotatingReading, beyond: float = 0.0, starting: bool = False) -> list[Interruption]:
    """Stretches in which a turning shaft gave no signal; `starting`: the starter turns it.

    A shaft that comes to rest slows down before: where the course of the last teeth leads to rest before the next one
    is due, none is missing, however long the next one takes.

    Parameters
    ----------
    reading : RotatingReading
        a channel whose wheel is known
    beyond : float
        pitches a space must have more than the wheel gives it
    starting : bool
        whether the starter turns the shaft, which halts at compressions

    Returns
    -------
    list of Interruption
        in the order of time, s from the capture's beginning
    """
    teeth = reading.teeth
    spaces = np.diff(teeth.times)
    wheel = reading.wheel or reading.sheet.declared_wheel
    missing = wheel.missing if wheel else 0
    if reading.sheet.role == Role.CAM and reading.wheel is None:
        return _cam_interruptions(reading)
    single = spaces[teeth.spans == 1]
    usual = float(np.median(single)) if len(single) else float(np.median(spaces))
    # An engine that the starter lets go of stops within a sixth of a turn at the earliest: a coarse wheel shows no more
    # than two teeth of that, and nobody can tell its rest from a signal that is lost.
    coarse = starting and (wheel is not None and wheel.slots < _LIMIT.coarse)
    least = max(missing + 1 + _LIMIT.beyond_gap, _LIMIT.least_pitches) + beyond
    found, rests = [], []
    places = _places_of_one(teeth) if not starting and not beyond and _runs_smoothly(single) else None
    shortest = min(_LIMIT.smooth_pitches, least) if places is not None else least
    # Where nothing was recorded nothing is said to be lost.
    for k in np.flatnonzero((teeth.ratio >= shortest) & (teeth.ratio < UNKNOWN)):
        number = int(teeth.number[k]) if len(teeth.number) else 0
        if teeth.ratio[k] < least and (
            not places[k] or (missing and abs(teeth.ratio[k] - missing - 1) < _LIMIT.like_gap)
        ):
            continue
        always = number and teeth.lost.get(number % reading.wheel.slots + 1, 0.0) > _LIMIT.always_lost
        # A gap that comes every turn is none; a signal that is lost just there lasts longer.
        if always and teeth.ratio[k] < _LIMIT.longer_than_a_gap * least:
            continue
        before, after = _pitch_near(teeth, k, -1), _pitch_near(teeth, k, 1)
        from_rest = comes_to_rest(teeth, k, after=True)
        if not (before and after):
            continue
        if comes_to_rest(teeth, k) or (from_rest and coarse) or _may_rest(teeth, k):
            rests.append(float(spaces[k]))
            continue
        beside = max(before, after)
        longer = spaces[k] / beside
        if longer >= (least if places is None or not places[k] else shortest) and beside <= _LIMIT.steady * max(
            usual, min(before, after)
        ):
            found.append(Interruption(float(teeth.times[k]), float(teeth.times[k + 1]), True, from_rest))
    # What lasts as long as several rests do is one more of them: an engine that nearly stalls in a compression.
    alike = [sum(abs(np.log(lasts / (item.end - item.start))) < _LIMIT.as_long for lasts in rests) for item in found]
    found = [item for item, often in zip(found, alike, strict=True) if often < _LIMIT.as_often]
    end = reading.samples / reading.sfreq
    rest = end - float(teeth.times[-1])
    last = _pitch_near(teeth, len(spaces), -1)
    lasting = last and rest > max(_LIMIT.end_s, (missing + _LIMIT.end_pitches) * max(last, _own_pitches(teeth)[-1]))
    # A coil is silent before the shaft stands.
    silent = (
        reading.grows_with_speed and pitches_to_rest(_pitches_beside(teeth, len(spaces), False)[0]) < _LIMIT.rest_coil
    )
    resting = silent or comes_to_rest(teeth, len(spaces))
    if lasting and last <= _LIMIT.end_steady * usual and not coarse and not resting:
        found.append(Interruption(float(teeth.times[-1]), end, False))
    return found


def _runs_smoothly(single: np.ndarray) -> bool:
    """Whether the pitches of a shaft hardly differ, as of an engine that runs by itself."""
    if len(single) < _LIMIT.fewest_teeth:
        return False
    return float(np.quantile(single, 0.95)) < _LIMIT.smooth * float(np.median(single))


def _places_of_one(teeth: Teeth) -> np.ndarray | None:
    """Spaces behind a tooth that is followed by the next slot in most turns, shape (spaces,); None where no tooth has a number."""
    if not len(teeth.number) or not teeth.number.any():
        return None
    number = teeth.number[: len(teeth.ratio)]
    seen = np.bincount(number)
    alone = np.bincount(number[teeth.spans == 1], minlength=len(seen))
    return (number > 0) & (alone[number] > 0.5 * seen[number])


def ends_early(reading: RotatingReading) -> bool:
    """Whether the teeth end well before the recording does.

    Parameters
    ----------
    reading : RotatingReading
        times in s
    """
    teeth = reading.teeth
    if not reading.switching or len(teeth.times) < 4:
        return False
    rest = reading.seconds - float(teeth.times[-1])
    return rest > max(_LIMIT.rest_told_s, 8 * float(np.median(np.diff(teeth.times))))


def _own_pitches(teeth: Teeth) -> np.ndarray:
    """Every space as one pitch. Only gaps that come every turn are known to be several: a long space near rest is none."""
    spaces = np.diff(teeth.times)
    gaps = np.isin(np.arange(len(spaces)) + 1, teeth.anchors) & (teeth.spans > 1)
    always = [number for number, share in teeth.lost.items() if share > _LIMIT.always_lost]
    if always:
        gaps |= (teeth.spans > 1) & (teeth.spans < STILL) & np.isin(teeth.number[:-1] % teeth.wheel.slots + 1, always)
    return np.where(gaps, spaces / np.maximum(teeth.spans, 1), spaces)


def pitches_to_rest(near: np.ndarray) -> float:
    """How many pitches behind the middle of its last space a shaft comes to rest, told by its last pitches (s, oldest
    first); infinite where it does not slow down.

    Under a steady torque the square of the speed falls in a line over the angle: two to five teeth tell.
    """
    least = np.inf
    for count in (2, 3, 4, 5):
        if len(near) < count:
            break
        few = 1 / near[-count:] ** 2
        slope = np.polyfit(np.arange(count), few, 1)[0]
        # From the middle of the last space: half a pitch is behind its last tooth already.
        if slope < 0:
            least = min(least, few[-1] / -slope - 0.5)
    return float(least)


def comes_to_rest(teeth: Teeth, k: int, *, after: bool = False) -> bool:
    """Whether the teeth before space `k` lead to rest within the next pitch; with `after`, whether those behind it begin
    from rest. A shaft so slow has a last pitch much longer than the earlier ones.

    Parameters
    ----------
    teeth : Teeth
        edges in s with their spaces in pitches
    k : int
        the space, from 0
    after : bool
        look at the teeth behind it instead
    """
    near, earlier = _pitches_beside(teeth, k, after)
    if len(near) < 3:
        return False
    usual = float(np.median(earlier)) if len(earlier) >= 3 else float(near.min())
    last = float(near[-1])
    # Slower than compression made any of the earlier ones, the shaft is coming down: in the next compression it may rest
    # well before a steady torque would have brought it there.
    beyond_all = len(earlier) >= 8 and last > _LIMIT.rest_beyond * float(max(earlier.max(), near[:-2].max()))
    if not beyond_all and last < _LIMIT.rest_slower * min(usual, float(near.min())):
        return False
    return pitches_to_rest(near) < (_LIMIT.rest_far if beyond_all else _LIMIT.rest_pitches)


def _pitches_beside(teeth: Teeth, k: int, after: bool) -> tuple[np.ndarray, np.ndarray]:
    """The six pitches next to space `k` and some seventy farther off, the nearest last, none from beyond another rest."""
    pitches = _own_pitches(teeth)
    side = pitches[k + 1 : k + 81][::-1] if after else pitches[max(0, k - 80) : k]
    broken = teeth.ratio[k + 1 : k + 81][::-1] if after else teeth.ratio[max(0, k - 80) : k]
    cut = np.flatnonzero(broken >= STILL)
    side = side[cut[-1] + 1 :] if len(cut) else side
    if len(side) >= 4 and side[-1] > _LIMIT.lone_long * side[-2] and side[-2] < _LIMIT.slowing * side[-3]:
        side = side[:-1]  # one long space behind steady ones holds a tooth that was lost with the rest
    return side[-6:], side[:-6]


def _may_rest(teeth: Teeth, k: int) -> bool:
    """Whether nothing speaks against the shaft's having stood still in space `k`: a few slow teeth on one side of it, or a
    start from rest behind it, and before it a shaft that was slow or turned too few teeth to tell."""
    pace = float(np.median(_own_pitches(teeth)))
    for after in (False, True):
        near, earlier = _pitches_beside(teeth, k, after)
        if not len(near):
            return True  # a single tooth between two such spaces
        if len(near) + len(earlier) < _LIMIT.fewest_beside and float(np.median(near)) > _LIMIT.start_slower * pace:
            return True
    # Slow on both sides, as a shaft that rocks about its rest is.
    beside = [_pitches_beside(teeth, k, after)[0][-3:] for after in (False, True)]
    around = float(pace_around(_own_pitches(teeth))[min(k, len(teeth.ratio) - 1)])
    slowest = float(np.quantile(_own_pitches(teeth), _LIMIT.rocks_quantile))
    if min(float(item.min()) for item in beside) > _LIMIT.rocks_slower * around and all(
        float(item.max()) > _LIMIT.rest_beyond * slowest for item in beside
    ):
        return True
    near, earlier = _pitches_beside(teeth, k, True)
    if len(near) < 3 or not near[-1] > _LIMIT.start_slower * near[-2] > 0.98 * _LIMIT.start_slower * near[-3]:
        return False
    if pitches_to_rest(near) > _LIMIT.start_pitches:
        return False
    near, earlier = _pitches_beside(teeth, k, False)
    if len(near) + len(earlier) < _LIMIT.start_teeth:
        return True
    usual = float(np.median(earlier)) if len(earlier) >= 3 else float(near.min())
    slow = near[-1] > _LIMIT.start_slower * min(usual, float(near.min()))
    return bool(slow and pitches_to_rest(near) < _LIMIT.slowing_pitches)


def _pitch_near(teeth, k: int, side: int) -> float | None:
    """Mean pitch of the four spaces before or after space k."""
    window = slice(max(0, k - 4), k) if side < 0 else slice(k + 1, k + 5)
    spaces, spans = np.diff(teeth.times)[window], teeth.spans[window]
    good = spans > 0
    return float(np.median(spaces[good] / spans[good])) if np.count_nonzero(good) >= 2 else None


def _cam_interruptions(reading: RotatingReading) -> list[Interruption]:
    """A cam's spaces repeat once a turn; one far longer than the longest usual one is an interruption."""
    spaces = np.diff(reading.teeth.times)
    if len(spaces) < _LIMIT.cam_fewest:
        return []
    usual = float(np.quantile(spaces, _LIMIT.cam_usual))
    found = [
        Interruption(float(reading.teeth.times[k]), float(reading.teeth.times[k + 1]), True)
        for k in np.flatnonzero((spaces > _LIMIT.cam_longer * usual) & (reading.teeth.ratio < UNKNOWN))
    ]
    end = reading.samples / reading.sfreq
    if (
        end - reading.teeth.times[-1] > _LIMIT.cam_end * usual
        and spaces[-3:].mean() < _LIMIT.cam_slowing * spaces.mean()
    ):
        found.append(Interruption(float(reading.teeth.times[-1]), end, False))
    return found
