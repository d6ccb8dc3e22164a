"""Stretches in which a turning shaft gave no signal."""

from __future__ import annotations

import numpy as np

from sagen.model.vocabulary import Role
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading

_LIMIT = limits("dropout")


def interruptions(reading: RotatingReading, beyond: float = 0.0) -> list[tuple[float, float, bool]]:
    """Stretches (s) in which a turning shaft gave no signal, and whether it came back.

    A shaft that comes to rest slows down before, and one that starts is slow after; neither counts.
    """
    teeth = reading.teeth
    spaces = np.diff(teeth.times)
    wheel = reading.wheel or reading.sheet.declared_wheel
    missing = wheel.missing if wheel else 0
    if reading.sheet.role == Role.CAM and reading.wheel is None:
        return _cam_interruptions(reading)
    single = spaces[teeth.spans == 1]
    usual = float(np.median(single)) if len(single) else float(np.median(spaces))
    least = max(missing + 1 + _LIMIT.beyond_gap, _LIMIT.least_pitches) + beyond
    found = []
    for k in np.flatnonzero(teeth.ratio >= least):
        number = int(teeth.number[k]) if len(teeth.number) else 0
        if number and teeth.lost.get(number % reading.wheel.slots + 1, 0.0) > _LIMIT.always_lost:
            continue
        before, after = _pitch_near(teeth, k, -1), _pitch_near(teeth, k, 1)
        if not (before and after):
            continue
        beside = max(before, after)
        longer = spaces[k] / beside
        if longer >= least and beside <= _LIMIT.steady * max(usual, min(before, after)):
            found.append((float(teeth.times[k]), float(teeth.times[k + 1]), True))
    end = reading.samples / reading.sfreq
    rest = end - float(teeth.times[-1])
    last = _pitch_near(teeth, len(spaces), -1)
    if last and rest > max(_LIMIT.end_s, (missing + _LIMIT.end_pitches) * last) and last <= _LIMIT.end_steady * usual:
        found.append((float(teeth.times[-1]), end, False))
    return found


def _pitch_near(teeth, k: int, side: int) -> float | None:
    """Mean pitch of the four spaces before or after space k."""
    window = slice(max(0, k - 4), k) if side < 0 else slice(k + 1, k + 5)
    spaces, spans = np.diff(teeth.times)[window], teeth.spans[window]
    good = spans > 0
    return float(np.median(spaces[good] / spans[good])) if np.count_nonzero(good) >= 2 else None


def _cam_interruptions(reading: RotatingReading) -> list[tuple[float, float, bool]]:
    """A cam's spaces repeat once a turn; one far longer than the longest usual one is an interruption."""
    spaces = np.diff(reading.teeth.times)
    if len(spaces) < _LIMIT.cam_fewest:
        return []
    usual = float(np.quantile(spaces, _LIMIT.cam_usual))
    found = [
        (float(reading.teeth.times[k]), float(reading.teeth.times[k + 1]), True)
        for k in np.flatnonzero(spaces > _LIMIT.cam_longer * usual)
    ]
    end = reading.samples / reading.sfreq
    if (
        end - reading.teeth.times[-1] > _LIMIT.cam_end * usual
        and spaces[-3:].mean() < _LIMIT.cam_slowing * spaces.mean()
    ):
        found.append((float(reading.teeth.times[-1]), end, False))
    return found
