"""Findings that say a capture is not fit to judge by, and what to set instead."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.model.finding import Finding
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.rule import rule

_SAMPLES, _CLIPPED, _SHORT = limits("undersampled"), limits("clipped"), limits("too_short")


@rule(FindingKind.UNDERSAMPLED, needs=("switching",))
def undersampled(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Too few samples from tooth to tooth at top speed.

    Parameters
    ----------
    reading : RotatingReading
        times in s, samples a second
    context : Context
        the capture's state

    References
    ----------
    Two samples a period are the least that tells one frequency from another: Shannon, Proc. IRE 37 (1949). From memory. How many more an edge
    needs is common practice, no published source.
    """
    if len(reading.edges) < _SAMPLES.fewest_edges:
        return
    least = reading.samples_a_tooth
    enough = len(reading.falls) >= _SAMPLES.fewest_falls
    pitch = float(np.median(np.diff(reading.falls))) * reading.sfreq if enough else np.inf
    if min(least, pitch - _SAMPLES.slack) >= _SAMPLES.samples_a_tooth:
        return
    seen = min(least, pitch)
    wanted = reading.sfreq * _SAMPLES.good / max(seen, 1.0)
    yield Finding(
        FindingKind.UNDERSAMPLED, reading.column, grade(_SAMPLES.samples_a_tooth - seen, _SAMPLES.plain),
        facts={"samples_a_tooth": seen, "good": _SAMPLES.good, "rate_hz": float(f"{wanted:.1g}")},
    )  # fmt: skip


@rule(FindingKind.CLIPPED)
def clipped(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Samples pile up at the end of the recorder's range, where the waveform would have gone on."""
    share, level = reading.piled
    if share < _CLIPPED.share or reading.rests_at(level):
        return
    yield Finding(
        FindingKind.CLIPPED, reading.column, grade(share, _CLIPPED.plain),
        facts={"level": level, "unit": reading.unit, "share_cut": share, "scale": reading.height_scale},
    )  # fmt: skip


@rule(FindingKind.TOO_SHORT, silenced_by=(FindingKind.UNDERSAMPLED,))
def too_short(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Too few turns to tell what repeats, or a flat line too short to prove anything."""
    if not context.turning:
        return
    if not reading.switching:
        if reading.seconds < _SHORT.flat_s:
            yield _short(reading, None, _SHORT.flat_wanted_s)
        return
    declared = reading.sheet.declared_wheel
    wheel = reading.wheel or declared
    if wheel is None or len(reading.teeth.times) < 2:
        return
    if not (reading.wheel and len(reading.teeth.anchors) >= _SHORT.sure_anchors):
        wheel = declared or wheel
    turn_s = float(np.median(np.diff(reading.teeth.times))) * wheel.slots
    turns = float(reading.teeth.times[-1] - reading.teeth.times[0]) / turn_s
    # A shaft that is turned by hand rests between its pulls: its teeth are counted, not its time.
    turns = min(turns, (len(reading.teeth.times) - 1) / max(wheel.teeth, 1))
    if turns >= _SHORT.turns:
        return
    if len(reading.teeth.times) < _SHORT.fewest_teeth and reading.seconds > _SHORT.turns * turn_s:
        return  # it stands still, or stops
    yield _short(reading, turns, float(f"{max(_SHORT.wanted_turns * turn_s, _SHORT.wanted_s):.2g}"))


def _short(reading: RotatingReading, turns: float | None, wanted_s: float) -> Finding:
    return Finding(
        FindingKind.TOO_SHORT, reading.column, _SHORT.severity,
        facts={"turns": turns, "seconds": reading.seconds, "wanted_s": wanted_s},
    )  # fmt: skip


RULES = (undersampled, clipped, too_short)
