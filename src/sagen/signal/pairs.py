"""Sensors that answered the same strikes, against one another: heights as a ratio, rings as a difference.

How hard a tap was falls out, since both sensors answered it. Intervals hold 95 % (Student's t over the strikes, never
narrower than what a single reading is good for).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from sagen.model.lazy import lazy
from sagen.signal.limits import limits
from sagen.signal.strikes import StrikeSet

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

_LIMIT = limits("pair")


@dataclass(frozen=True)
class Interval:
    """A value with the ends of its 95 % interval, and of how many strikes it is."""

    value: float
    low: float
    high: float
    count: int = 0

    @property
    def known(self) -> bool:
        return bool(np.isfinite(self.value))


UNKNOWN = Interval(float("nan"), float("nan"), float("nan"))


@dataclass(frozen=True)
class Pair:
    """The second of two sensors against the first."""

    columns: tuple[str, str]
    ratio: Interval
    ring_difference: Interval  #: Hz

    def as_row(self) -> dict:
        """The pair as the command line prints it."""
        row = {"channels": list(self.columns), **rounded("ratio", self.ratio)}
        return row | rounded("ring_difference", self.ring_difference, "_hz") | {"strikes": self.ratio.count}


def rounded(name: str, interval: Interval, unit: str = "") -> dict:
    """An interval as fields of a row: NAME with its unit, NAME_low and NAME_high; None where it is not known.

    Parameters
    ----------
    name : str
        first part of the names of the fields
    interval : Interval
        mean and ends, in `unit`
    unit : str
        last part of the name of the first field
    """
    values = {name + unit: interval.value, f"{name}_low": interval.low, f"{name}_high": interval.high}
    return {key: float(f"{value:.4g}") if np.isfinite(value) else None for key, value in values.items()}


def log_heights(strikes: StrikeSet) -> tuple[np.ndarray, np.ndarray]:
    """Logarithms of every answer's height and their standard uncertainty, shape (strikes, sensors), NaN where it may
    not be judged.

    References
    ----------
    u(ln h) = u(h) / h: JCGM 100:2008, 5.1.2.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        logs = np.log(strikes.answers.height)
    return np.where(strikes.answers.good, logs, np.nan), strikes.height_u()


def mean_of(values: np.ndarray, spread: np.ndarray, least: float) -> Interval:
    """The mean of readings with their standard uncertainties, strays left out.

    Parameters
    ----------
    values, spread : (n,) float
    least : float
        standard uncertainty below which the mean of any number is not believed

    References
    ----------
    Weighted mean with the larger of inner and outer uncertainty: Birge, Phys. Rev. 40 (1932); Student's t for few. From memory.
    """
    known = np.isfinite(values) & np.isfinite(spread)
    values, spread = values[known], spread[known]
    if not len(values):
        return UNKNOWN
    middle = np.median(values)
    away = np.abs(values - middle)
    width = max(1.4826 * float(np.median(away)), float(np.median(spread)))
    near = away <= _LIMIT.stray * width
    values, spread = values[near], spread[near]
    count = len(values)
    weight = 1 / np.maximum(spread, 1e-9) ** 2
    mean = float((weight * values).sum() / weight.sum())
    own = 1 / np.sqrt(weight.sum())
    if count > 1:
        scatter = np.sqrt((weight * (values - mean) ** 2).sum() / (count - 1) / weight.sum())
        factor = float(scipy.special.stdtrit(count - 1, 0.975)) if scatter > own else 1.96
        reach = factor * np.hypot(max(own, scatter), least)
    else:
        reach = 1.96 * np.hypot(own, _LIMIT.single * least)
    return Interval(mean, mean - reach, mean + reach, count)


def height_ratio(strikes: StrikeSet, number: int, other: int) -> Interval:
    """How tall sensor `one` answers against `other`.

    Parameters
    ----------
    strikes : StrikeSet
        heights in V, shape (strikes, sensors)
    number, other : int
        sensors, from 0

    Returns
    -------
    Interval
        95 %, of the geometric mean over the strikes

    References
    ----------
    JCGM 100:2008, 5.1.2, in logarithms.
    """
    logs, spread = log_heights(strikes)
    told = mean_of(logs[:, number] - logs[:, other], np.hypot(spread[:, number], spread[:, other]), _LIMIT.least_log)
    return Interval(*(float(np.exp(value)) for value in (told.value, told.low, told.high)), told.count)


def own_ring(strikes: StrikeSet, sensor: int) -> Interval:
    """A sensor's ring over all strikes, Hz.

    Parameters
    ----------
    strikes : StrikeSet
        rings in Hz, shape (strikes, sensors)
    sensor : int
        from 0

    Returns
    -------
    Interval
        95 %, Hz
    """
    answers = strikes.answers
    return mean_of(answers.ring_hz[:, sensor], answers.ring_u[:, sensor], 0.0)


def ring_difference(strikes: StrikeSet, number: int, other: int) -> Interval:
    """How many Hz sensor `one` rings above `other`.

    Parameters
    ----------
    strikes : StrikeSet
        rings in Hz, shape (strikes, sensors)
    number, other : int
        sensors, from 0

    Returns
    -------
    Interval
        95 %, Hz, strike by strike
    """
    answers = strikes.answers
    hertz, spread = answers.ring_hz, answers.ring_u
    usual = np.nanmedian(hertz[:, [number, other]]) if np.isfinite(hertz[:, [number, other]]).any() else np.nan
    return mean_of(
        hertz[:, number] - hertz[:, other], np.hypot(spread[:, number], spread[:, other]), _LIMIT.least_ring * usual
    )


def pairs_of(strikes: StrikeSet) -> tuple[Pair, ...]:
    """Every two sensors of a capture.

    Parameters
    ----------
    strikes : StrikeSet
        answers of two or more sensors, V and Hz
    """
    return tuple(
        Pair((strikes.columns[a], strikes.columns[b]), height_ratio(strikes, b, a), ring_difference(strikes, b, a))
        for a, b in combinations(range(len(strikes.columns)), 2)
    )


def against_others(strikes: StrikeSet, sensor: int) -> Interval:
    """How tall a sensor answers against the middle one of the others.

    Parameters
    ----------
    strikes : StrikeSet
        heights in V, shape (strikes, sensors)
    sensor : int
        from 0

    Returns
    -------
    Interval
        95 %, a ratio
    """
    others = [index for index in range(len(strikes.columns)) if index != sensor and not strikes.silent[index]]
    if not others:
        return UNKNOWN
    logs, spread = log_heights(strikes)
    known = np.isfinite(logs[:, others])
    if not known.any():
        return UNKNOWN
    with np.errstate(all="ignore"):
        middle = _row_median(np.where(known, logs[:, others], np.nan))
    told = mean_of(logs[:, sensor] - middle, 1.4 * spread[:, sensor], _LIMIT.least_log)
    return Interval(*(float(np.exp(value)) for value in (told.value, told.low, told.high)), told.count)


def _row_median(values: np.ndarray) -> np.ndarray:
    """Median of each row, NaN for rows that hold nothing."""
    out = np.full(len(values), np.nan)
    some = np.isfinite(values).any(axis=1)
    out[some] = np.nanmedian(values[some], axis=1)
    return out
