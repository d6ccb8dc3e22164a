"""A pattern that repeats is a wheel, whatever it is called."""

from __future__ import annotations

import numpy as np

from sagen.model.vocabulary import Role
from sagen.model.wheel import Wheel
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading

_LIMIT = limits("repeats")


def repeats_after(times: np.ndarray) -> int | None:
    """After how many teeth the pattern of uneven spaces comes again; None where it does not, or where all are even.

    Parameters
    ----------
    times : ndarray, shape (teeth,)
        s, when each tooth passes

    From one space to the next the speed hardly changes: the ratio of neighbours is the wheel's. The least number of teeth
    after which nearly all ratios come again is a turn.
    """
    spaces = np.diff(times)
    if len(spaces) < _LIMIT.fewest_spaces or np.any(spaces <= 0):
        return None
    ratio = np.diff(np.log(spaces))
    if np.quantile(np.abs(ratio), 0.9) < _LIMIT.uneven:
        return None
    most = min(int(len(ratio) / _LIMIT.turns), int(_LIMIT.most_teeth))
    for count in range(2, most + 1):
        off = np.abs(ratio[count:] - ratio[:-count])
        if np.quantile(off, _LIMIT.nearly_all) < _LIMIT.alike:
            return count
    return None


def own_pattern(reading: RotatingReading) -> int | None:
    """Teeth a turn of a wheel that nobody stated and that no catalogue knows, but whose uneven spaces come again.

    Parameters
    ----------
    reading : RotatingReading
        teeth with their times in s
    """
    if reading.sheet.declared_wheel is not None or not reading.switching or len(reading.teeth.anchors):
        return None
    if reading.sheet.role == Role.CAM:
        return None  # a cam's uneven windows are what everybody expects
    return repeats_after(reading.teeth.times)


def equal_gaps(reading: RotatingReading) -> Wheel | None:
    """The wheel of several gaps that a wheel nobody stated may as well be: what is not seen in every turn is as long as its
    reference gap. None where nothing like that is missing.

    Parameters
    ----------
    reading : RotatingReading
        with a wheel that was found, not stated
    """
    wheel, teeth = reading.wheel, reading.teeth
    if reading.sheet.declared_wheel is not None or wheel is None or not wheel.missing or wheel.others:
        return None
    gone = sorted(number for number, share in teeth.lost.items() if share >= _LIMIT.always)
    groups = (
        [group for group in np.split(np.array(gone), np.flatnonzero(np.diff(gone) != 1) + 1) if len(group)]
        if gone
        else []
    )
    if not groups or any(len(group) != wheel.missing for group in groups):
        return None
    return Wheel(wheel.slots, wheel.missing, tuple(gone))
