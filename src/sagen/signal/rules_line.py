"""Findings of any signal line: flat where pulses are due, or disturbed."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import ABOUT_RAILS, FindingKind, Role
from sagen.signal.between import elsewhere, missed_teeth, pulses_between
from sagen.signal.context import MOST_SPANS, Context, grade
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.rule import rule

_NOISE, _BETWEEN = limits("noise"), limits("between")


@rule(FindingKind.NO_SIGNAL, silenced_by=(FindingKind.TOO_SHORT,))
def no_signal(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Flat while the shaft should turn."""
    if reading.switching or not context.turning:
        return
    level = reading.levels.middle
    held, where = reading.held(context.cranking)
    yield Finding(
        FindingKind.NO_SIGNAL, reading.column, 1.0,
        {"held": held, "level_v": round(level, 3)},
        {"unit": reading.unit, "seconds": reading.seconds, "where": where},
        (Span(0.0, reading.seconds),),
    )  # fmt: skip


@rule(
    FindingKind.NOISE,
    needs=("switching",),
    silenced_by=(FindingKind.UNDERSAMPLED,),
    hears=(FindingKind.WEAK_AMPLITUDE,),
)
def noise(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Pulses too narrow for teeth that cross both thresholds, or a disturbance near to doing so."""
    false_edges = _extra_pulses(reading)
    count, teeth = len(false_edges), max(1, len(reading.falls))
    # A rail that moves takes the levels with it, and where teeth wander some pulses are too short for a slow
    # output to reach its level: neither is a disturbance of the signal. Under AC coupling the levels sag by themselves.
    moved = any(item.kind in ABOUT_RAILS for item in context.found) or reading.moves
    # Of two levels that lie too close together every ringing edge comes near to the other.
    weak = context.has(reading, FindingKind.WEAK_AMPLITUDE)
    near = 0 if moved or weak or reading.teeth.wanders or reading.probe else reading.near_misses
    swing = reading.levels.swing
    beyond = reading.levels.noise > max(_NOISE.loud_share * swing, _NOISE.loud_steps * reading.levels.step)
    each = float(np.median(np.diff(reading.falls))) * reading.sfreq if len(reading.falls) > 2 else np.inf
    # What is loud for too small a swing is told by the swing.
    loud = beyond and not moved and not weak and reading.unsmoothed and each >= _NOISE.loud_samples
    many = count >= _NOISE.fewest_pulses and count >= _NOISE.share_of_teeth * teeth
    nearly = near >= _NOISE.fewest_near and near >= _NOISE.share_of_teeth * teeth
    hum_hz, hum_v = reading.hum
    if not (loud or many or nearly or hum_v):
        return
    if hum_v:
        level = hum_v
    elif loud:
        level = reading.levels.noise * _NOISE.reach_sigmas
    else:
        level = swing * (_NOISE.pulse_height if many else _NOISE.near_height)
    half = _NOISE.mark_pitches * float(np.median(np.diff(reading.falls))) if len(reading.falls) > 2 else _NOISE.mark_s
    yield Finding(
        FindingKind.NOISE, reading.column, grade(max((count + _NOISE.near_weight * near) / teeth, hum_v / max(swing, 1e-9)), _NOISE.plain),
        {"level_v": round(float(level), 3)},
        {"false_pulses": count, "near_misses": near, "loud": bool(loud), "teeth": teeth, "unit": reading.unit, "hum_hz": hum_hz,
            "hum_v": hum_v,
        },
        tuple(Span(max(0.0, float(t) - half), float(t) + half) for t in false_edges[:MOST_SPANS]),
    )  # fmt: skip


def _extra_pulses(reading: RotatingReading) -> np.ndarray:
    """Narrow pulses (s) without which the teeth are even; where one is lacking then, it was a tooth."""
    teeth, at = reading.teeth, reading.false_edges
    if len(teeth.times) < 3 or not len(at):
        return at
    space = np.clip(np.searchsorted(teeth.times, at, "right") - 1, 0, len(teeth.ratio) - 1)
    missing = reading.wheel.missing if reading.wheel else 0
    ratio = teeth.ratio[space]
    if teeth.wanders:
        return at[:0]  # what is narrow here is two teeth close together
    missed = len(missed_teeth(reading))
    if missed >= max(_BETWEEN.fewest_missed, _BETWEEN.missed * len(teeth.times)):
        return at[:0]  # teeth are missed as well: the sensor's own doing
    own = np.isin(at, elsewhere(at, pulses_between(reading)))
    at, ratio = at[own], ratio[own]
    even = (np.abs(ratio - 1) < _NOISE.even_pitches) | (np.abs(ratio - missing - 1) < _NOISE.even_gap)
    return at[even] if reading.sheet.role != Role.CAM else at


RULES = (no_signal, noise)
