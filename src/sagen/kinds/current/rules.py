"""Findings of a current sensor's two levels."""

from __future__ import annotations

from collections.abc import Iterator

from sagen.kinds.current.reading import CurrentReading
from sagen.model.finding import Finding
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.rule import rule

_LIMIT = limits("current")


@rule(FindingKind.WEAK_AMPLITUDE, on=CurrentReading, needs=("switching",))
def weak_current(reading: CurrentReading, context: Context) -> Iterator[Finding]:
    """The two currents lie too close together.

    Parameters
    ----------
    reading : CurrentReading
        levels in A
    context : Context
        the capture's state

    References
    ----------
    Two currents of about 7 and 14 mA: common practice, no published source.
    """
    swing, limit = reading.levels.swing, _LIMIT.weak_share * 0.5 * reading.expected
    if swing < limit:
        levels = [reading.levels.low * reading.milliamp, reading.levels.high * reading.milliamp]
        yield Finding(
            FindingKind.WEAK_AMPLITUDE, reading.column, grade(limit - swing, limit),
            {"level_v": round(swing, 4)}, {"unit": reading.unit, "milliamps": levels},
        )  # fmt: skip


RULES = (weak_current,)
