"""Findings of a coil: its height for its speed, and which way round its wires are."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.kinds.coil.reading import CoilReading
from sagen.model.finding import Finding
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.rule import rule

_LIMIT = limits("coil")


@rule(FindingKind.WEAK_AMPLITUDE, on=CoilReading, needs=("switching",))
def weak_coil(reading: CoilReading, context: Context) -> Iterator[Finding]:
    """A swing too small for the speed: against the known-good capture where there is one."""
    if len(reading.teeth.times) < 5:
        return
    height, rate = float(np.median(reading.heights)), 1 / float(np.median(np.diff(reading.teeth.times)))
    limit = least = float(np.clip(_LIMIT.volt_seconds * rate, _LIMIT.least_v, _LIMIT.most_v))
    theirs, pattern = None, context.pattern(reading)
    if isinstance(pattern, CoilReading) and len(pattern.heights) > 4:
        theirs = float(np.median(pattern.heights)) * float(np.median(np.diff(pattern.teeth.times))) * rate
        limit = _LIMIT.weak_against_pattern * theirs
    if height < limit:
        yield Finding(
            FindingKind.WEAK_AMPLITUDE, reading.column, grade(limit - height, limit),
            {"level_v": round(height, 4)},
            {"unit": reading.unit, "teeth_a_second": rate, "least": least, "known_good": theirs},
        )  # fmt: skip


@rule(FindingKind.REVERSED_POLARITY, on=CoilReading, needs=("switching", "polarity_sure"))
def reversed_polarity(reading: CoilReading, context: Context) -> Iterator[Finding]:
    """The sharp crossing runs the wrong way."""
    declared = reading.sheet.polarity
    if declared is None or reading.falling == (declared == "falling"):
        return
    seen = "falling" if reading.falling else "rising"
    yield Finding(
        FindingKind.REVERSED_POLARITY, reading.column, _LIMIT.crossed_severity,
        facts={"seen": seen, "declared": declared},
    )  # fmt: skip


RULES = (weak_coil, reversed_polarity)
