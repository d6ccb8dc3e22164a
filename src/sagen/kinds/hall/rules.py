"""Findings of a switching sensor's two levels."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from sagen.kinds.hall.reading import HallReading
from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import MOST_SPANS, Context, grade
from sagen.signal.level_track import trend
from sagen.signal.limits import limits
from sagen.signal.rule import rule

_LIMIT, _TRACK, _COMPARED = limits("hall"), limits("level_track"), limits("compared")


@rule(FindingKind.LOW_NOT_PULLED_DOWN, on=HallReading, needs=("switching", "levels_true"))
def low_not_pulled_down(reading: HallReading, context: Context) -> Iterator[Finding]:
    """Switching, but the low level stays well above ground.

    Parameters
    ----------
    reading : HallReading
        levels in V
    context : Context
        the capture's rails and state

    References
    ----------
    How low a sound output pulls: common practice, no published source.
    """
    low, limit = reading.levels.low, reading.low_limit
    if low > limit:
        yield Finding(
            FindingKind.LOW_NOT_PULLED_DOWN, reading.column,
            grade(low - limit, _LIMIT.low_plain * reading.expected),
            {"level_v": round(low, 3)}, {"pulses": len(reading.falls)},
        )  # fmt: skip
        return
    course = _for_a_while(reading, "low", limit)
    if course is not None:
        yield Finding(
            FindingKind.LOW_NOT_PULLED_DOWN, reading.column,
            grade(course.level - limit, _LIMIT.low_plain * reading.expected),
            {"level_v": round(course.level, 3)}, {"pulses": len(reading.falls), "else": low, **course.facts}, course.spans,
        )  # fmt: skip


@rule(
    FindingKind.HIGH_NOT_REACHED, on=HallReading, needs=("switching", "levels_true"), silenced_by=(FindingKind.CLIPPED,)
)  # fmt: skip
def high_not_reached(reading: HallReading, context: Context) -> Iterator[Finding]:
    """Switching, but the high level stays well below the pull-up.

    Parameters
    ----------
    reading : HallReading
        levels in V, rise in s
    context : Context
        the capture's rails and state

    References
    ----------
    Rise from 10 to 90 %: IEEE Std 181-2011, 5.3.4; its limit is common practice, no published source.
    """
    high, limit = reading.levels.high, reading.high_limit(context.cranking)
    slow = reading.slow
    if slow is not None and slow.usual < limit:
        yield Finding(
            FindingKind.HIGH_NOT_REACHED, reading.column,
            grade(limit - slow.usual, _LIMIT.high_plain * reading.expected), {"level_v": round(slow.usual, 3)},
            {"expected": reading.expected, "top": slow.top, "rise_s": slow.rise_s, "lasts_s": slow.lasts_s},
        )  # fmt: skip
    elif high < limit:
        yield Finding(
            FindingKind.HIGH_NOT_REACHED, reading.column,
            grade(limit - high, _LIMIT.high_plain * reading.expected),
            {"level_v": round(high, 3)}, {"expected": reading.expected, "stated": reading.sheet.pull_up is not None},
        )  # fmt: skip
    else:
        course = _for_a_while(reading, "high", limit)
        if course is not None:
            yield Finding(
                FindingKind.HIGH_NOT_REACHED, reading.column,
                grade(limit - course.level, _LIMIT.high_plain * reading.expected), {"level_v": round(course.level, 3)},
                {"expected": reading.expected, "stated": reading.sheet.pull_up is not None, "else": high, **course.facts},
                course.spans,
            )  # fmt: skip


def _beside_the_good_one(reading: HallReading, context: Context, told: FindingKind) -> tuple[HallReading, float] | None:
    """The known-good channel whose levels can be compared, and by how much (V) levels differ by noise and steps alone; None
    where there is none, or where the level was told already."""
    pattern = context.pattern(reading)
    if not isinstance(pattern, HallReading) or not pattern.levels_true or context.has(reading, told):
        return None
    noise = float(np.hypot(reading.levels.noise, pattern.levels.noise))
    return pattern, noise + reading.levels.step + pattern.levels.step


@rule(
    FindingKind.LOW_NOT_PULLED_DOWN, on=HallReading, needs=("switching", "levels_true"), silenced_by=(FindingKind.NOISE,)
)  # fmt: skip
def low_above_the_good_one(reading: HallReading, context: Context) -> Iterator[Finding]:
    """The low level stands plainly higher than in the known-good capture, though within its limit.

    Parameters
    ----------
    reading : HallReading
        levels in V
    context : Context
        with the known-good capture

    References
    ----------
    Standard uncertainties of both are added in squares: JCGM 100:2008, 5.1.2.
    """
    found = _beside_the_good_one(reading, context, FindingKind.LOW_NOT_PULLED_DOWN)
    if found is None:
        return
    pattern, spread = found
    higher = reading.levels.low - pattern.levels.low
    if higher > max(_COMPARED.low_v, spread) and not context.has(reading, FindingKind.GROUND_LIFT):
        yield Finding(
            FindingKind.LOW_NOT_PULLED_DOWN, reading.column, grade(higher - _COMPARED.low_v, reading.expected),
            {"level_v": round(reading.levels.low, 3)},
            {"pulses": len(reading.falls), "known_good": pattern.levels.low},
        )  # fmt: skip


@rule(
    FindingKind.HIGH_NOT_REACHED, on=HallReading, needs=("switching", "levels_true"),
    silenced_by=(FindingKind.CLIPPED, FindingKind.NOISE),
)  # fmt: skip
def high_below_the_good_one(reading: HallReading, context: Context) -> Iterator[Finding]:
    """The high level stands plainly lower than in the known-good capture, or is reached far more slowly. A pull-up on the
    battery follows it: there another battery is no difference.

    Parameters
    ----------
    reading : HallReading
        levels in V, rise in s
    context : Context
        with the known-good capture

    References
    ----------
    Standard uncertainties of both are added in squares: JCGM 100:2008, 5.1.2.
    """
    found = _beside_the_good_one(reading, context, FindingKind.HIGH_NOT_REACHED)
    if found is None:
        return
    pattern, spread = found
    lower = pattern.levels.high - reading.levels.high
    on_battery = max(reading.levels.high, pattern.levels.high) >= _LIMIT.battery_pull_up_v
    rise = context.rises.get(reading.column)
    least = max(_COMPARED.high_v, spread, 0.25 * pattern.levels.high if on_battery else 0.0)
    slower = (
        rise is not None
        and rise.here > _COMPARED.slower * rise.good
        and rise.difference > max(_COMPARED.slower_us * 1e6 / reading.sfreq, _COMPARED.sigmas * rise.u)
    )
    if lower > least or slower:
        yield Finding(
            FindingKind.HIGH_NOT_REACHED, reading.column,
            grade(max(lower - _COMPARED.high_v, 0.0) + (1.0 if slower else 0.0), reading.expected),
            {"level_v": round(reading.levels.high, 3)},
            {
                "expected": reading.expected, "stated": reading.sheet.pull_up is not None, "known_good": pattern.levels.high,
                **({"rises_us": (rise.good, rise.here)} if slower else {}),
            },
        )  # fmt: skip


@dataclass(frozen=True)
class _Course:
    """A level that is wrong for a part of the recording: its usual value there, where, and what to say of it."""

    level: float
    spans: tuple[Span, ...]
    facts: dict


def _for_a_while(reading: HallReading, which: str, limit: float) -> _Course | None:
    """The stretches in which one level lies beyond its limit while the line goes on switching; None where there are none."""
    track = reading.track
    if track is None:
        return None
    level = track.low if which == "low" else track.high
    found = track.stretches(level > limit if which == "low" else level < limit)
    lasts = sum(last - first for first, last in found) * track.block_s
    if lasts < _TRACK.for_long:
        return None
    within = np.concatenate([level[first:last] for first, last in found])
    first, last = max(found, key=lambda item: item[1] - item[0])
    rate = trend(track, level, first, last)
    return _Course(
        float(np.median(within)),
        tuple(Span(first * track.block_s, min(last * track.block_s, reading.seconds)) for first, last in found[:MOST_SPANS]),
        {
            "lasts_s": lasts, "of_s": reading.seconds, "times": len(found), "from_s": found[0][0] * track.block_s,
            "most": float(within.max() if which == "low" else within.min()), "rate": rate,
        },
    )  # fmt: skip


RULES = (low_not_pulled_down, high_not_reached, low_above_the_good_one, high_below_the_good_one)
