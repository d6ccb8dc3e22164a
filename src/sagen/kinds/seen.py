"""What kind of sensor a channel shows, whatever was declared: two levels and steep edges, a wave about zero, two currents."""

from __future__ import annotations

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.model.vocabulary import ROTATING_ROLES, Capability, SensorKind, can
from sagen.model.words import SENSORS
from sagen.signal.hum import is_hum
from sagen.signal.levels import Levels, noise_of, sample_runs, state_levels
from sagen.signal.limits import limits

_LIMIT = limits("seen")


def kind_seen(channel: Channel, levels: Levels, sfreq: float) -> SensorKind | None:
    """The kind of sensor whose signal a channel looks like; None where nothing tells.

    Parameters
    ----------
    channel : Channel
        samples in true units
    levels : Levels
        its state levels
    sfreq : float
        samples a second

    A wave about zero with much of its time between its ends is a coil's; two levels one of which is twice the other, both
    well above ground and below any pull-up, are the two currents of a two-wire sensor across a resistor (7 and 14 mA are
    usual; common practice, no published source); two levels from near ground are a switching sensor's.
    """
    runs = sample_runs(channel.raw).astype(np.float64) * channel.scale + channel.offset
    bottom, top = (float(item) for item in np.quantile(runs, [_LIMIT.tail, 1.0 - _LIMIT.tail]))
    swing = top - bottom
    if channel.unit == "A":
        return SensorKind.CURRENT if swing > 0 else None
    if swing < _LIMIT.least_v or swing < _LIMIT.above_noise * noise_of(runs):
        return None
    # Most of the time of a square is spent at its two levels, AC-coupled or not; a coil's wave passes through, or rests at
    # its middle between two teeth.
    middle = float(np.median(runs))
    about_zero = bottom < -_LIMIT.below_zero * swing and top > _LIMIT.below_zero * swing and abs(middle) < 0.2 * swing
    inside = float(np.mean((runs > bottom + 0.25 * swing) & (runs < top - 0.25 * swing)))
    if about_zero and inside >= _LIMIT.between:
        return None if swing < _LIMIT.coil_least_v or is_hum(channel, sfreq) else SensorKind.RELUCTANCE
    if levels.between > _LIMIT.two_level or levels.swing < _LIMIT.above_noise * levels.noise:
        return None
    low, high = levels.low, levels.high
    if (
        low > _LIMIT.current_low_v
        and high < _LIMIT.current_high_v
        and _LIMIT.ratio_low < high / low < _LIMIT.ratio_high
    ):
        return SensorKind.CURRENT
    if low > -_LIMIT.below_zero * levels.swing and levels.swing >= _LIMIT.switching_v:
        return SensorKind.HALL
    return None


def as_seen(capture: Capture, sheet: Sheet) -> tuple[Sheet, tuple[str, ...]]:
    """The sheet with the kind of sensor that each turning channel shows where none is declared, or where what is declared
    cannot be what was recorded; and a note on each.

    Parameters
    ----------
    capture : Capture
        in true units, without holes
    """
    rows, notes = [], []
    for row in sheet.channel:
        seen = None
        if row.role in ROTATING_ROLES and (row.sensor is None or can(row.sensor, Capability.TURNS)):
            channel = capture.channel(row.column)
            seen = kind_seen(channel, state_levels(channel), capture.sfreq)
        told = _doubt(row, seen)
        rows.append(row.model_copy(update={"sensor": seen}) if told else row)
        notes += [told] if told else []
    return (sheet.model_copy(update={"channel": tuple(rows)}), tuple(notes)) if notes else (sheet, ())


#: kinds that are never mixed up by a poor signal: what is declared as one and shows as the other is the other
PLAIN = {
    (SensorKind.HALL, SensorKind.RELUCTANCE),
    (SensorKind.CURRENT, SensorKind.RELUCTANCE),
    (SensorKind.RELUCTANCE, SensorKind.HALL),
    (SensorKind.HALL, SensorKind.CURRENT),
}
SHOWS = {
    SensorKind.RELUCTANCE: tr("a wave about zero, as a coil makes it"),
    SensorKind.CURRENT: tr("two levels of which one is twice the other, as a two-wire sensor's current makes them"),
    SensorKind.HALL: tr("two levels with steep edges from near ground, as a switching sensor makes them"),
}


def _doubt(row: ChannelSheet, seen: SensorKind | None) -> str:
    """What to say where a channel is read as another kind than it would be; "" where it is read as declared."""
    if seen is None:
        return ""
    if row.sensor is None:
        # A switching sensor is what a channel is read as where nothing tells; a stated pull-up is one's.
        if seen == SensorKind.HALL or row.pull_up is not None:
            return ""
        return tr(
            "{column} shows {seen}: no sensor was stated, and it is read as {seen_2}",
            column=row.column,
            seen=SHOWS[seen],
            seen_2=SENSORS[seen],
        )
    if (row.sensor, seen) not in PLAIN or (seen == SensorKind.CURRENT and row.pull_up is not None):
        return ""
    return tr(
        "{column} is stated as {sensor} and shows {seen}: read as {seen_2}; check which sensor it is",
        column=row.column,
        sensor=SENSORS[row.sensor],
        seen=SHOWS[seen],
        seen_2=SENSORS[seen],
    )
