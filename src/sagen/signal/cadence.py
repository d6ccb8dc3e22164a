"""How fast and how evenly the starter turns the engine: what a technician hears, in figures."""

from __future__ import annotations

import numpy as np

from sagen.model.finding import Cadence
from sagen.signal.reading import RotatingReading

LEAST_CYCLES = 2.0  #: below this a swing once in two turns is not told from a change of speed


def cadence(reading: RotatingReading) -> Cadence | None:
    """The cadence of a crankshaft's channel; None where its wheel is not known or no whole cycle was seen.

    The swing is fitted by least squares over whole cycles of 720 degrees together with a steady change of
    speed, so that a battery that tires is not taken for a cylinder.

    Parameters
    ----------
    reading : RotatingReading
        a crankshaft's, its wheel known; times in s

    References
    ----------
    A sine of known frequency by least squares: IEEE Std 1057, annex A. From memory.
    """
    teeth = reading.teeth
    if teeth.wheel is None or not len(teeth.number):
        return None
    speed, angle, known = teeth.speed_rpm(), teeth.angle_deg()[:-1], teeth.spans > 0
    # Before the first gap and after the last the turns are counted as well; unknown numbers are left out.
    known &= (teeth.number[:-1] > 0) & (teeth.number[1:] > 0) & np.isfinite(speed)
    if np.count_nonzero(known) < 8:
        return None
    speed, angle, spans = (
        speed[known],
        angle[known] + 0.5 * teeth.spans[known] * teeth.wheel.pitch_deg,
        teeth.spans[known],
    )
    cycles = np.floor((angle[-1] - angle[0]) / 720.0)
    if cycles < 1:
        return None
    whole = angle >= angle[-1] - 720.0 * cycles
    speed, angle, weight = speed[whole], np.radians(angle[whole]), np.sqrt(spans[whole])
    usual = float(np.average(speed, weights=weight**2))
    if cycles < LEAST_CYCLES:
        return Cadence(usual, None)
    design = np.column_stack([np.ones_like(angle), angle - angle.mean(), np.cos(angle / 2), np.sin(angle / 2)])
    fit, *_ = np.linalg.lstsq(design * weight[:, None], (speed / usual - 1) * weight, rcond=None)
    return Cadence(usual, float(np.hypot(*fit[2:])))
