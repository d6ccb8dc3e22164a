"""RotatingReading a two-state channel (hall, two-wire current): does it switch, between which levels, and when."""

from __future__ import annotations

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import ChannelSheet
from sagen.signal.edges import Edges, find_edges, without_glitches
from sagen.signal.levels import Levels, noise_of, piled_up, sample_runs, smoothed, state_levels
from sagen.signal.reading import RotatingReading
from sagen.signal.teeth import Teeth, read_teeth

#: a swing below this share of the pull-up counts as a signal only if the wheel shows in it
FAINT = 0.12
#: no signal is looked for below this share of the pull-up, or below three steps of the recorder
FAINTEST = 0.01
SMOOTHINGS = (1, 5, 17, 51, 151)
FEWEST_EDGES = 5
PACE = 5.0  #: samples from tooth to tooth for each one averaged: noise crosses its own middle more often than that
#: a pulse this much narrower than its like is no tooth; a cam's windows differ widely among themselves
GLITCH, GLITCH_OF_CAM = 0.2, 0.02
#: what is looked at for near misses in a long capture, samples a stretch
STRETCH, STRETCHES = 1 << 16, 8
HIGH_CURRENT = 0.014  #: A
DEFAULT_SHUNT = 100.0  #: ohm, where the sheet names none


def likely_pull_up(levels: Levels) -> float:
    """The pull-up where the sheet names none: 5 V, or 12 V for what lies above it."""
    return 5.0 if levels.high <= 5.8 else 12.0


def read_hall(capture: Capture, channel: Channel, sheet: ChannelSheet) -> RotatingReading:
    """Read one switching channel; see `read_two_state`."""
    levels = state_levels(channel)
    return read_two_state(capture, channel, sheet, levels, sheet.pull_up or likely_pull_up(levels), "hall")


def read_current(capture: Capture, channel: Channel, sheet: ChannelSheet) -> RotatingReading:
    """Read a two-wire current sensor across its resistor: 7 and 14 mA are its two levels (common practice)."""
    per_amp = 1.0 if channel.unit == "A" else sheet.shunt_ohm or DEFAULT_SHUNT
    return read_two_state(capture, channel, sheet, state_levels(channel), HIGH_CURRENT * per_amp, "current")


def read_two_state(
    capture: Capture, channel: Channel, sheet: ChannelSheet, levels: Levels, expected: float, kind: str
) -> RotatingReading:
    """Read one two-state channel whose high level should be `expected`.

    A signal far smaller than the pull-up is looked for under growing smoothing, and believed only
    when it is two-state and the wheel shows in it; otherwise the line counts as flat.
    """
    if _plainly_two_state(levels, expected, channel):
        return _with_edges(capture, channel, sheet, levels, expected, 1, kind)
    for width in SMOOTHINGS:
        if width * 8 > capture.samples:
            break
        calm = channel if width == 1 else smoothed(channel, width)
        levels_now = levels if width == 1 else state_levels(calm)
        if levels_now.swing < max(
            FAINTEST * expected, 3 * levels.step / np.sqrt(width) if levels.noise else 0.9 * levels.step
        ):
            continue
        if levels_now.swing < 5 * levels_now.noise or levels_now.parted < 0.85:
            continue
        reading = _with_edges(capture, calm, sheet, levels_now, expected, width, kind)
        if _wheel_shows(reading):
            return reading
    return RotatingReading(
        sheet, channel.unit, capture.sfreq, capture.samples, levels, expected, False,
        Edges(np.empty(0), np.empty(0, bool)), Teeth(np.empty(0), np.empty(0), np.empty(0, int)), kind=kind,
    )  # fmt: skip


def _plainly_two_state(levels: Levels, expected: float, channel: Channel) -> bool:
    """A swing so large against pull-up, noise and recorder step that nothing else makes it."""
    large = levels.swing >= FAINT * expected and levels.swing >= 4 * levels.step and levels.between < 0.25
    if not large or levels.swing >= 6 * levels.noise:
        return large
    # A level that moves (a return that lifts) looks like noise beside it, but not from one sample to the next.
    return levels.swing >= 6 * abs(channel.scale) * noise_of(sample_runs(channel.raw).astype(np.float64))


def _wheel_shows(reading: RotatingReading) -> bool:
    """Whether faint edges come as teeth do: the gap returns, or the spaces hardly differ."""
    teeth = reading.teeth
    if len(teeth.times) < 8 or float(np.median(np.diff(teeth.times))) * reading.sfreq < PACE * reading.smoothing:
        return False
    if teeth.alike >= 0.6:
        return True
    if reading.levels.between > 0.2:
        return False  # as rounded as hum
    spread = np.median(np.abs(np.log(teeth.ratio)))
    declared = reading.sheet.declared_wheel
    return bool(spread < 0.1 and not (declared and declared.missing and teeth.turns_seen > 3))


def _with_edges(
    capture: Capture, channel: Channel, sheet: ChannelSheet, levels: Levels, expected: float, width: int, kind: str
) -> RotatingReading:
    quarter = 0.25 * levels.swing
    bounds = sorted((channel.to_raw(levels.low + quarter), channel.to_raw(levels.high - quarter)))
    edges = find_edges(channel.raw, lower=bounds[0], upper=bounds[1], middle=channel.to_raw(levels.middle))
    if channel.scale < 0:
        edges = Edges(edges.at, ~edges.rising)
    edges, false_edges = without_glitches(edges, share=GLITCH if counts_teeth(sheet) else GLITCH_OF_CAM)
    falls, rises = edges.falls / capture.sfreq, edges.rises / capture.sfreq
    starts, ends, teeth = _row(falls, rises, sheet)
    if _inverted(starts, ends, teeth):
        # The line is low through the reference gap: here a tooth holds it high, from its rise to its fall.
        starts, ends, teeth = _row(rises, falls, sheet)
    switching = len(edges) >= FEWEST_EDGES
    return RotatingReading(
        sheet, channel.unit, capture.sfreq, capture.samples, levels, expected, switching, edges, teeth,
        starts, ends, false_edges / capture.sfreq, width, kind, piled=piled_up(channel, two_state=True),
        near_misses=_near_misses(channel, levels) if width == 1 else 0,
    )  # fmt: skip


def _row(starts: np.ndarray, ends: np.ndarray, sheet: ChannelSheet) -> tuple[np.ndarray, np.ndarray, Teeth]:
    """The teeth that begin at `starts`, and where each ends: the next of `ends`, NaN where there is none."""
    after = np.searchsorted(ends, starts, "right")
    end = np.append(ends, np.nan)[np.minimum(after, len(ends))]
    return starts, end, read_teeth(starts, sheet.declared_wheel) if counts_teeth(sheet) else _uncounted(starts)


def _inverted(starts: np.ndarray, ends: np.ndarray, teeth: Teeth) -> bool:
    """Whether what was taken for the tooth before each gap (an even wheel: each lost tooth) reaches through it."""
    before = teeth.anchors - 1 if len(teeth.anchors) else np.flatnonzero(teeth.spans > 1)
    before = before[np.isfinite(ends[before])]
    if not len(before):
        return False
    pitch = np.diff(starts)[before] / np.maximum(teeth.ratio[before], 1e-9)
    return float(np.median((ends[before] - starts[before]) / pitch)) > 1.2


def _near_misses(channel: Channel, levels: Levels) -> int:
    """Excursions from either level by a third of the swing that turn back before the other is reached.

    In a long capture only even stretches of it are looked at; the count is scaled up to the whole.
    """
    raw, share = channel.raw, 1.0
    if len(raw) > 2 * STRETCH * STRETCHES:
        starts = np.linspace(0, len(raw) - STRETCH, STRETCHES).astype(int)
        share = STRETCHES * STRETCH / len(raw)
        raw = np.concatenate([raw[start : start + STRETCH] for start in starts])
    real = _rises(channel, raw, levels, 0.25, 0.75)
    beyond = sum(max(_rises(channel, raw, levels, *band) - real, 0) for band in ((0.14, 0.32), (0.68, 0.86)))
    return round(beyond / share)


def _rises(channel: Channel, raw: np.ndarray, levels: Levels, lower: float, upper: float) -> int:
    bounds = sorted(channel.to_raw(levels.low + share * levels.swing) for share in (lower, upper))
    return len(find_edges(raw, lower=bounds[0], upper=bounds[1]).rises) if bounds[0] < bounds[1] else 0


def counts_teeth(sheet: ChannelSheet) -> bool:
    """A cam's few uneven windows are no row of like teeth; without a declared wheel they are not counted."""
    return sheet.role != "cam" or sheet.wheel is not None


def _uncounted(falls: np.ndarray) -> Teeth:
    spaces = max(len(falls) - 1, 0)
    return Teeth(falls, np.ones(spaces), np.ones(spaces, int))
