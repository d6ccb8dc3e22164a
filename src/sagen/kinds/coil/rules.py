"""Findings of a coil: its height for its speed, and which way round its wires are."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.kinds.coil.reading import CoilReading
from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.rule import rule

_LIMIT, _COMPARED = limits("coil"), limits("compared")


@rule(FindingKind.WEAK_AMPLITUDE, on=CoilReading, needs=("switching",))
def weak_coil(reading: CoilReading, context: Context) -> Iterator[Finding]:
    """A swing too small for the speed: against the known-good capture where there is one.

    Parameters
    ----------
    reading : CoilReading
        heights in V, times in s
    context : Context
        the capture's state and its known-good one

    References
    ----------
    Open volts grow with speed (Faraday's law: Feynman, Leighton and Sands, Lectures on Physics II, 1964, 17-1, from memory); what a sound coil
    gives at cranking speed is common practice, no published source.
    """
    if len(reading.teeth.times) < 5:
        return
    height, rate = float(np.median(reading.heights)), _teeth_a_second(reading)
    limit = least = float(np.clip(_LIMIT.volt_seconds * rate, _LIMIT.least_v, _LIMIT.most_v))
    theirs, pattern = None, context.pattern(reading)
    if isinstance(pattern, CoilReading) and len(pattern.heights) > 4:
        other = _teeth_a_second(pattern)
        theirs = float(np.median(pattern.heights)) / other * rate
        like = max(rate, other) <= _COMPARED.like_rpm * min(rate, other)
        limit = (_COMPARED.weaker if like else _LIMIT.weak_against_pattern) * theirs
    if height < limit:
        yield Finding(
            FindingKind.WEAK_AMPLITUDE, reading.column, grade(limit - height, limit),
            {"level_v": round(height, 4)},
            {"unit": reading.unit, "teeth_a_second": rate, "least": least, "known_good": theirs},
        )  # fmt: skip
        return
    faded = _fades(reading)
    if faded is not None:
        yield faded


def _teeth_a_second(reading: CoilReading) -> float:
    """How fast teeth pass; of studs that stand unevenly all count, not the usual space between two."""
    times = reading.teeth.times
    return (len(times) - 1) / float(np.ptp(times)) if reading.wheel is None else 1 / float(np.median(np.diff(times)))


def _fades(reading: CoilReading) -> Finding | None:
    """A coil that gives far less for the same speed in a part of the recording; None where it does not."""
    strength, teeth = reading.strength, reading.teeth
    single = np.flatnonzero(teeth.spans == 1)
    each = max((reading.wheel.slots if reading.wheel else 0), int(_LIMIT.fade_teeth))
    count = len(strength) // each
    if count < _LIMIT.fade_blocks:
        return None
    strong = np.median(strength[: count * each].reshape(count, each), axis=1)
    pace = np.median(np.diff(teeth.times)[single][: count * each].reshape(count, each), axis=1)
    usual = float(np.median(np.sort(strong)[-max(count // 3, 1) :]))
    at_usual = float(np.median(pace[strong >= 0.8 * usual]))
    weak = (strong < _LIMIT.fades_to * usual) & (np.abs(np.log(pace / at_usual)) < np.log(_LIMIT.fade_speed))
    if np.count_nonzero(weak) < 2:
        return None
    own = np.flatnonzero(weak)
    began, ended = (float(teeth.times[single[k]]) for k in (own[0] * each, min((own[-1] + 1) * each, len(single) - 1)))
    heights = reading.heights[:-1][single]
    least = float(np.median(heights[own[-1] * each : (own[-1] + 1) * each]))
    return Finding(
        FindingKind.WEAK_AMPLITUDE, reading.column, grade(_LIMIT.fades_to - strong[own].min() / usual, _LIMIT.fades_to),
        {"level_v": round(least, 4)},
        {"unit": reading.unit, "share": float(strong[own].min() / usual), "from_s": began, "until_s": ended},
        (Span(began, ended),),
    )  # fmt: skip


@rule(FindingKind.REVERSED_POLARITY, on=CoilReading, needs=("switching", "polarity_sure"))
def reversed_polarity(reading: CoilReading, context: Context) -> Iterator[Finding]:
    """The sharp crossing runs the wrong way.

    Parameters
    ----------
    reading : CoilReading
        with both kinds of crossing
    context : Context
        the capture's state and its known-good one
    """
    declared, pattern = reading.sheet.polarity, context.pattern(reading)
    if declared is None and isinstance(pattern, CoilReading) and pattern.switching and pattern.polarity_sure:
        declared = "falling" if pattern.falling else "rising"
    if declared is None or reading.falling == (declared == "falling"):
        return
    seen = "falling" if reading.falling else "rising"
    yield Finding(
        FindingKind.REVERSED_POLARITY, reading.column, _LIMIT.crossed_severity,
        facts={"seen": seen, "declared": declared},
    )  # fmt: skip


RULES = (weak_coil, reversed_polarity)
