"""What a technician works out on the back of a job card: drops, dividers, wires, thermistors, sets of like parts."""

from __future__ import annotations

import itertools
import math
import statistics
from collections.abc import Sequence

from sagen.meter.judge import COPPER_PER_K
from sagen.model.errors import SagenError
from sagen.model.language import tr

COPPER_OHM_M = 1.7241e-8  #: International Annealed Copper Standard at 20 degC (IEC 60028, from memory)


def wire_ohm(length_m: float, *, awg: int | None = None, mm2: float | None = None, celsius: float = 20.0) -> float:
    """Resistance of a copper wire, ohm, by gauge or cross-section.

    The diameter of AWG n is 0.127 mm x 92^((36 - n) / 39) (ASTM B258, from memory).

    Parameters
    ----------
    length_m : float
        m, one way
    awg : int or None
        American wire gauge
    mm2 : float or None
        cross-section, mm2, where no gauge is given
    celsius : float
        degC

    Returns
    -------
    float
        ohm
    """
    if (awg is None) == (mm2 is None):
        raise SagenError(tr("give either the gauge (AWG) or the cross-section (mm2)"))
    if length_m < 0 or (mm2 is not None and mm2 <= 0):
        raise SagenError(tr("length and cross-section must be positive"))
    area = mm2 * 1e-6 if mm2 is not None else math.pi / 4 * (0.127e-3 * 92 ** ((36 - awg) / 39)) ** 2
    return COPPER_OHM_M * length_m / area * (1 + COPPER_PER_K * (celsius - 20.0))


def drop_ohm(drop_v: float, amps: float) -> float:
    """The resistance behind a voltage drop under load, ohm.

    Parameters
    ----------
    drop_v : float
        V
    amps : float
        A, > 0

    Returns
    -------
    float
        ohm, by Ohm's law

    References
    ----------
    Ohm's law: Horowitz and Hill, The Art of Electronics (2015), 1.2. From memory.
    """
    if amps <= 0:
        raise SagenError(tr("a drop says something only while current flows: give the current"))
    return abs(drop_v) / amps


def leak_that_explains(pull_up_v: float, pull_up_ohm: float, reading_v: float) -> float:
    """The leak to ground (ohm) that brings a pull-up down to a reading; infinite where nothing leaks.

    Parameters
    ----------
    pull_up_v, reading_v : float
        V
    pull_up_ohm : float
        ohm

    Returns
    -------
    float
        ohm, of the lower half of a divider

    References
    ----------
    Voltage divider: Horowitz and Hill, The Art of Electronics (2015), 1.2.3. From memory.
    """
    if not reading_v >= 0:
        raise SagenError(tr("the reading must not be negative"))
    if reading_v >= pull_up_v:
        return math.inf
    return pull_up_ohm * reading_v / (pull_up_v - reading_v)


def series_that_explains(pull_up_v: float, pull_up_ohm: float, low_v: float, on_ohm: float = 0.0) -> float:
    """The resistance between output and ground (ohm) that leaves a low level of `low_v`.

    Parameters
    ----------
    pull_up_v, low_v : float
        V
    pull_up_ohm, on_ohm : float
        ohm; `on_ohm` is the output's own

    Returns
    -------
    float
        ohm, of the lower half of a divider

    References
    ----------
    Voltage divider: Horowitz and Hill, The Art of Electronics (2015), 1.2.3. From memory.
    """
    if not 0 <= low_v < pull_up_v:
        raise SagenError(
            tr(
                "a low level of {low_v:g} V cannot come from a pull-up of {pull_up_v:g} V",
                low_v=low_v,
                pull_up_v=pull_up_v,
            )
        )
    return max(pull_up_ohm * low_v / (pull_up_v - low_v) - on_ohm, 0.0)


def thermistor_ohm(celsius: float, first: tuple[float, float], second: tuple[float, float]) -> float:
    """Resistance of a thermistor (ohm) between two points (degC, ohm) of its table, by the beta equation.

    Parameters
    ----------
    celsius : float
        degC
    first, second : (float, float)
        degC and ohm

    Returns
    -------
    float
        ohm: R = R1 exp(B (1/T - 1/T1)), T in K (IEC 60539-1, from memory)
    """
    (t1, r1), (t2, r2) = first, second
    if t1 == t2 or r1 <= 0 or r2 <= 0:
        raise SagenError(tr("two points at different temperatures are needed"))
    beta = math.log(r1 / r2) / (1 / (t1 + 273.15) - 1 / (t2 + 273.15))
    return r1 * math.exp(beta * (1 / (celsius + 273.15) - 1 / (t1 + 273.15)))


def sweep_faults(volts: Sequence[float], *, jump: float = 0.06) -> list[int]:
    """Where a potentiometer's sweep (volts, in order) falls back or jumps by more than a share of its span.

    Parameters
    ----------
    volts : sequence of float
        V
    jump : float
        share of the span

    Returns
    -------
    list of int
        the reading at which each faulty step ends, from 0
    """
    span = max(volts) - min(volts) if len(volts) else 0.0
    if len(volts) < 4 or span <= 0:
        raise SagenError(tr("a sweep needs at least four readings that move"))
    up = 1.0 if volts[-1] >= volts[0] else -1.0
    steps = [up * (b - a) / span for a, b in itertools.pairwise(volts)]
    usual = statistics.median(steps)
    return [index + 1 for index, step in enumerate(steps) if step < -0.01 or step > max(4 * usual, usual + jump)]
