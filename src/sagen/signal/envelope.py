"""Several known-good captures of a kind as an envelope: median and spread of every tooth, and of the levels.

A new capture is judged against it tooth by tooth. With few captures the spread of one tooth is known badly: it is drawn
towards that of all teeth together, and Student's t takes the place of the normal law (the moderated t of Smyth, Stat. Appl.
Genet. Mol. Biol. 3, 2004). The chance is of any tooth being beyond, not of one (Bonferroni), so that a wheel of many teeth
does not cry wolf more often.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from sagen.model.lazy import lazy
from sagen.signal.limits import limits
from sagen.signal.measures import LEAST, tooth_measures
from sagen.signal.reading import RotatingReading

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

_LIMIT = limits("envelope")
LEAST_SPREAD = 1e-4


@dataclass(frozen=True)
class Band:
    """One measure of the teeth over several captures, by tooth number."""

    number: np.ndarray
    median: np.ndarray
    spread: np.ndarray  #: standard deviation from capture to capture, drawn towards that of all teeth
    freedom: float  #: degrees of freedom of that spread
    captures: int


@dataclass(frozen=True)
class Envelope:
    """What a sound circuit of a kind shows, from several captures."""

    captures: int
    bands: dict[str, Band] = field(default_factory=dict)
    low: tuple[float, float] = (0.0, 0.0)  #: level and its spread
    high: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Beyond:
    """One tooth (0: a level) that is beyond the envelope: by how much, and how likely a sound one is anywhere as far."""

    measure: str
    tooth: int
    size: float
    chance: float


def envelope(patterns: Sequence[RotatingReading]) -> Envelope | None:
    """The envelope of two or more known-good readings of one circuit; None where they are fewer, or of several wheels.

    Parameters
    ----------
    patterns : sequence of RotatingReading
        known-good readings of the same wheel

    References
    ----------
    Variances that are shrunk to what such parts scatter: Smyth, Stat. Appl. Genet. Mol. Biol. 3 (2004), article 3. From memory.
    """
    patterns = [pattern for pattern in patterns if pattern.wheel is not None]
    if len(patterns) < 2 or any(
        pattern.wheel != patterns[0].wheel or type(pattern) is not type(patterns[0]) for pattern in patterns
    ):
        return None
    known = [tooth_measures(pattern) for pattern in patterns]
    bands = {}
    for name in set.intersection(*(set(item) for item in known)):
        number = known[0][name][0].number
        for this_item in known[1:]:
            number = np.intersect1d(number, this_item[name][0].number)
        if len(number) < 4:
            continue
        rows = np.array([item[name][0].by_place[np.searchsorted(item[name][0].number, number)] for item in known])
        bands[name] = _band(number, rows, LEAST[name].size)
    low, high = ([getattr(pattern.levels, end) for pattern in patterns] for end in ("low", "high"))
    return Envelope(len(patterns), bands, _level(low), _level(high))


def _band(number: np.ndarray, rows: np.ndarray, least: float) -> Band:
    count = len(rows)
    # Each capture as a whole may lie a little higher: a sensor fitted a hair closer is no other tooth.
    rows = rows - np.median(rows, axis=1, keepdims=True) + np.median(rows)
    variance = rows.var(axis=0, ddof=1)
    pooled = float(np.mean(variance))
    prior = _LIMIT.pooled_counts_as
    drawn = (prior * pooled + (count - 1) * variance) / (prior + count - 1)
    # Wheels are made no truer than a share of what counts as odd.
    floor = max(LEAST_SPREAD, 0.1 * least)
    return Band(number, np.median(rows, axis=0), np.maximum(np.sqrt(drawn), floor), prior + count - 1, count)


def wave_band(rows: np.ndarray, share: float = 0.95) -> tuple[np.ndarray, np.ndarray]:
    """Between what a new sound capture's wave lies, point by point.

    Parameters
    ----------
    rows : ndarray, shape (captures, n)
        the mean wave of each known-good capture on one grid, V; two or more
    share : float
        of new sound ones that lie within, at each point

    Returns
    -------
    low, high : ndarray, shape (n,)
        V

    References
    ----------
    Prediction interval of one further observation, by Student's t; variances as in `envelope`. Smyth 2004; from memory.
    """
    count = len(rows)
    variance = rows.var(axis=0, ddof=1)
    prior = _LIMIT.pooled_counts_as
    drawn = (prior * float(np.mean(variance)) + (count - 1) * variance) / (prior + count - 1)
    reach = scipy.stats.t.ppf(0.5 + share / 2, prior + count - 1) * np.sqrt(drawn * (1 + 1 / count))
    middle = np.median(rows, axis=0)
    return middle - reach, middle + reach


def _level(values: list[float]) -> tuple[float, float]:
    spread = float(np.std(values, ddof=1))
    return float(np.median(values)), max(spread, 0.01 * abs(float(np.median(values))), 0.01)


def beyond(reading: RotatingReading, known: Envelope, chance: float | None = None) -> list[Beyond]:
    """What of a capture is beyond the envelope, the least likely first; `chance`: of a sound capture being called so
    anywhere (limits.toml where None).

    Parameters
    ----------
    reading : RotatingReading
        the capture's channel
    known : Envelope
        medians and spreads of sound captures of the machine, by place
    chance : float or None
        family-wise chance of a false call, shared among all places (Bonferroni)

    References
    ----------
    Smyth 2004, as `envelope`; many teeth at once by Bonferroni.
    """
    chance = _LIMIT.sure if chance is None else chance
    mine = tooth_measures(reading)
    rows: list[Beyond] = []
    tried = 2 + sum(len(this_band.number) for name, this_band in known.bands.items() if name in mine)
    for name, band in known.bands.items():
        if name not in mine:
            continue
        errors = mine[name][0]
        number, here, there = np.intersect1d(errors.number, band.number, return_indices=True)
        if not len(number):
            continue
        value, usual = errors.by_place[here], band.median[there]
        value = value - np.median(value) + np.median(usual)
        own = errors.standard_error(0.0)
        # The median of so many captures is itself known no better (1.57 / n of a normal law's variance).
        spread = np.sqrt(band.spread[there] ** 2 * (1 + math.pi / 2 / band.captures) + own**2)
        size = value - usual
        p = 2 * scipy.stats.t.sf(np.abs(size) / spread, band.freedom)
        rows += [
            Beyond(name, int(n), float(d), float(min(1.0, q * tried)))
            for n, d, q in zip(number, size, p, strict=True)
            if q * tried < chance and abs(d) > LEAST[name].size * 0.5
        ]
    for end in ("low", "high"):
        middle, spread = getattr(known, end)
        size = getattr(reading.levels, end) - middle
        q = 2 * float(
            scipy.stats.t.sf(
                abs(size) / (spread * math.sqrt(1 + 1 / known.captures)), _LIMIT.pooled_counts_as + known.captures - 1
            )
        )
        if q * tried < chance:
            rows.append(Beyond(end, 0, float(size), min(1.0, q * tried)))
    return sorted(rows, key=lambda row: row.chance)
