"""Findings of a switching sensor's two levels."""

from __future__ import annotations

from collections.abc import Iterator

from sagen.kinds.hall.reading import HallReading
from sagen.model.finding import Finding
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.rule import rule

_LIMIT = limits("hall")


@rule(FindingKind.LOW_NOT_PULLED_DOWN, on=HallReading, needs=("switching", "levels_true"))
def low_not_pulled_down(reading: HallReading, context: Context) -> Iterator[Finding]:
    """Switching, but the low level stays well above ground."""
    low, limit = reading.levels.low, reading.low_limit
    if low > limit:
        yield Finding(
            FindingKind.LOW_NOT_PULLED_DOWN, reading.column,
            grade(low - limit, _LIMIT.low_plain * reading.expected),
            {"level_v": round(low, 3)}, {"pulses": len(reading.falls)},
        )  # fmt: skip


@rule(
    FindingKind.HIGH_NOT_REACHED, on=HallReading, needs=("switching", "levels_true"), silenced_by=(FindingKind.CLIPPED,)
)  # fmt: skip
def high_not_reached(reading: HallReading, context: Context) -> Iterator[Finding]:
    """Switching, but the high level stays well below the pull-up."""
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
            {"level_v": round(high, 3)}, {"expected": reading.expected},
        )  # fmt: skip


RULES = (low_not_pulled_down, high_not_reached)
