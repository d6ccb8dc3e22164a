"""Steps for the axes of pictures."""

from __future__ import annotations

import math


def nice_step(span: float, parts: int) -> float:
    """A step of 1, 2 or 5 times a power of ten that cuts `span` (> 0) into at most about `parts`.

    >>> nice_step(5.4, 5)
    2.0

    Parameters
    ----------
    span : float
        what is to be cut, any unit, > 0
    parts : int
        about how many parts at most, >= 1

    Returns
    -------
    float
        the step, in the unit of `span`

    References
    ----------
    Heckbert, "Nice numbers for graph labels", Graphics Gems (1990). From memory.
    """
    raw = span / max(parts, 1)
    power = 10.0 ** math.floor(math.log10(raw))
    return float(next(value * power for value in (1, 2, 5, 10) if value * power >= raw * 0.999))
