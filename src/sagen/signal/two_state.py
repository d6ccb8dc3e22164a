"""RotatingReading a two-state channel (hall, two-wire current): does it switch, between which levels, and when."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TypeVar

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import Role
from sagen.signal.deviation import phase_errors
from sagen.signal.edges import Edges, find_edges, without_glitches
from sagen.signal.level_track import LevelTrack, level_track
from sagen.signal.levels import Levels, noise_of, piled_up, sample_runs, smoothed, state_levels
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.slots import UNKNOWN, Teeth, broken
from sagen.signal.wheel_search import read_teeth

#: a swing below this share of the pull-up counts as a signal only if the wheel shows in it
FAINT = 0.12
#: no signal is looked for below this share of the pull-up, or below three steps of the recorder
FAINTEST = 0.01
THIRD_LEVEL = 0.25  #: share of samples between two levels from which on there is a third
SMOOTHINGS = (1, 5, 17, 51, 151)
FEWEST_EDGES = 5
PACE = 5.0  #: samples from tooth to tooth for each one averaged: noise crosses its own middle more often than that
#: a pulse this much narrower than its like is no tooth; a cam's windows differ widely among themselves
GLITCH, GLITCH_OF_CAM = 0.2, 0.02
#: what is looked at for near misses in a long capture, samples a stretch
STRETCH, STRETCHES = 1 << 16, 8

_SLOW, _LEVELLED, _BETWEEN = limits("slow_rise"), limits("levelled"), limits("between")

Made = TypeVar("Made", bound="TwoStateReading")


@dataclass(frozen=True)
class SlowRise:
    """A line that is pulled down again before it has risen. Levels in the channel's unit."""

    low: float
    usual: float  #: what it reaches between two teeth, usually
    top: float  #: the highest it reaches, in the longest space
    least: float  #: what all but a tenth of the pulses reach
    rise_s: float  #: from 10 to 90 % (IEEE Std 181-2011, 5.3.4), reckoned from its time constant; 0 where it cannot be
    lasts_s: float  #: how long a pulse usually has for it

    @property
    def thresholds(self) -> tuple[float, float, float]:
        """Lower threshold, middle and upper threshold that every pulse crosses."""
        tall = self.least - self.low
        return self.low + 0.2 * tall, self.low + 0.4 * tall, self.low + 0.6 * tall


def levelled(channel: Channel, levels: Levels, sfreq: float) -> tuple[Channel, Levels]:
    """The channel with what moves both its levels slowly taken off (a feed that sags, a return that lifts, hum), and its
    levels then; both as given where that does not calm them.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    levels : Levels
        its two levels over the whole, in its unit
    sfreq : float
        samples a second
    """
    if levels.noise <= _LEVELLED.noise * levels.swing or levels.noise <= 2 * levels.step:
        return channel, levels
    size = max(int(_LEVELLED.block_s * sfreq), 8)
    whole = channel.values()
    tried = [_flattened(whole, levels, size, None)]
    # Levels that move by more than half a swing are told from each other only within a block that holds both.
    while len(whole) // size >= 16:
        rows = whole[: len(whole) // size * size].reshape(-1, size)
        ends = rows.min(axis=1), rows.max(axis=1)
        if np.mean(ends[1] - ends[0] > 0.5 * levels.swing) >= _LEVELLED.both:
            tried.append(_flattened(whole, levels, size, ends))
            break
        size *= 2
    for flat in tried:
        if flat is not None:
            calm = Channel(channel.column, flat.astype(np.float32), channel.unit, over_range=channel.over_range)
            own = state_levels(calm)
            if own.noise < _LEVELLED.calmer * levels.noise:
                return calm, own
    return channel, levels


def _flattened(
    whole: np.ndarray, levels: Levels, size: int, ends: tuple[np.ndarray, np.ndarray] | None
) -> np.ndarray | None:
    """Samples brought to steady levels: those of each block of `size` are told apart by the levels around, at first those
    of the whole recording, or a block's own `ends`; None where too few blocks show one of them."""
    count = len(whole) // size
    if count < 16:
        return None
    values, at = whole[: count * size], np.arange(len(whole))
    centre = (np.arange(count) + 0.5) * size
    both = [np.interp(at[: len(values)], centre, end) for end in ends] if ends else [
        np.full(len(values), item) for item in (levels.low, levels.high)
    ]  # fmt: skip
    for _ in range(3):
        upper = values > 0.5 * (both[0] + both[1])
        for which in (0, 1):
            rows = np.where(upper == bool(which), values, np.nan).reshape(count, size)
            seen = np.isfinite(rows).sum(axis=1) >= max(3, size // 50)
            if seen.sum() < 8:
                return None
            both[which] = np.interp(at[: len(values)], centre[seen], np.nanmedian(rows[seen], axis=1))
    low, high = (np.interp(at, at[: len(values)], item) for item in both)
    return levels.low + (whole - low) / np.maximum(high - low, 0.2 * levels.swing) * levels.swing


def _following(channel: Channel, levels: Levels, track: LevelTrack, sfreq: float) -> Channel:
    """The channel brought to steady levels by what they are block by block; itself where too few blocks show them."""
    at = np.flatnonzero(track.both)
    ends = tuple(np.interp(np.arange(len(track.both)), at, level[at]) for level in (track.low, track.high))
    flat = _flattened(channel.values(), levels, round(track.block_s * sfreq), ends)
    if flat is None:
        return channel
    return Channel(channel.column, flat.astype(np.float32), channel.unit, over_range=channel.over_range)


def slow_rise(channel: Channel, levels: Levels, sfreq: float) -> SlowRise | None:
    """What there is to a line that rises too slowly; None where it reaches its level between any two teeth.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    levels : Levels
        its two levels, in its unit
    sfreq : float
        samples a second

    Returns
    -------
    SlowRise or None
        its time constant in s (first-order charge of a capacitance through a resistance)
    """
    if levels.between < _SLOW.between:
        return None
    raw, scale = channel.raw, channel.scale
    ordered = np.sort(sample_runs(raw).astype(np.float64) * scale + channel.offset)
    low, top = levels.low, float(ordered[int(0.998 * (len(ordered) - 1))])
    swing = top - low
    if swing <= 0:
        return None
    bounds = sorted(channel.to_raw(low + share * swing) for share in (0.1, 0.2))
    edges = find_edges(raw, lower=bounds[0], upper=bounds[1])
    if scale < 0:
        edges = Edges(edges.at, ~edges.rising)
    rises, falls = edges.rises, edges.falls
    after = np.searchsorted(falls, rises, "right")
    rises, falls = rises[after < len(falls)], falls[after[after < len(falls)]]
    lasts = falls - rises
    rises, falls, lasts = rises[lasts >= 4], falls[lasts >= 4], lasts[lasts >= 4]
    if len(rises) < _SLOW.fewest_pulses:
        return None

    def share(at: np.ndarray) -> np.ndarray:
        return (raw[at.astype(np.int64)] * scale + channel.offset - low) / swing

    last = np.maximum(np.ceil(falls) - 2, np.floor(rises) + 1)
    peaks = np.maximum.reduceat(
        (raw if scale > 0 else -raw), np.ravel(np.column_stack([rises, last + 1])).astype(np.int64)
    )[::2]
    peaks = (peaks * abs(scale) + channel.offset - low) / swing
    usual = float(np.median(peaks))
    if usual > _SLOW.reached or float(np.median(share(last) / np.maximum(peaks, 1e-9))) < _SLOW.ends_high:
        return None
    # In an exponential each half of a stretch covers the same share of what was left before it.
    long = lasts >= np.quantile(lasts, 0.97)
    begin, end = rises[long], last[long]
    half = share(0.5 * (begin + end)) - share(begin)
    rest = (share(end) - share(0.5 * (begin + end))) / np.maximum(half, 1e-9)
    rest = float(np.median(rest))
    rise = 2.197 * 0.5 * float(np.median(end - begin)) / -np.log(rest) / sfreq if 0.02 < rest < 0.97 else 0.0
    return SlowRise(
        low,
        low + usual * swing,
        top,
        low + float(np.quantile(peaks, 0.1)) * swing,
        rise,
        float(np.median(lasts)) / sfreq,
    )


@dataclass(frozen=True)
class TwoStateReading(RotatingReading):
    """A sensor whose output is low while a tooth stands before it: both ends of a tooth tell of it."""

    slow: SlowRise | None = None
    track: LevelTrack | None = None  #: both levels over time, where they can be told block by block

    @property
    def moves(self) -> bool:
        return self.track is not None and self.track.moves(self.levels)

    @property
    def rise_s(self) -> float | None:
        return round(self.slow.rise_s, 7) if self.slow else None

    size_name = "width"
    size_more, size_less = "wider", "narrower"
    size_in_words = tr("share of each pitch that the signal is low")
    both_ends = True
    place_measure = "phase_error_middle"

    @property
    def size(self) -> np.ndarray:
        return self.low_width

    def measures(self) -> dict[str, np.ndarray]:
        return {
            "phase_error": self.phase_error,
            "phase_error_middle": self.phase_error_middle,
            "width": self.low_width,
        }

    @cached_property
    def phase_error_middle(self) -> np.ndarray:
        if len(self.rises) != len(self.teeth.times):
            return self.phase_error
        return 0.5 * (self.phase_error + phase_errors(self.teeth, self.rises))

    @cached_property
    def low_width(self) -> np.ndarray:
        """How long the signal is low at each tooth, in pitches of its neighbourhood, shape (teeth - 1,).

        NaN at the ends and beside interrupted or miscounted spaces, where the speed is not known.
        """
        falls, spans = self.falls, self.teeth.spans
        out = np.full(max(len(falls) - 1, 0), np.nan)
        if len(falls) < 4:
            return out
        # From one tooth before to one after, so that a tooth's own displacement does not count; the change of
        # speed, from the two spaces outside where they are single, brings that to the middle of the low.
        before, after = spans[:-1].astype(float), spans[1:].astype(float)
        lasted = np.diff(falls)
        pitch = (falls[2:] - falls[:-2]) / np.maximum(before + after, 1)
        each = lasted / np.maximum(spans, 1)
        low = self.rises[1 : len(falls) - 1] - falls[1:-1]
        change = 2 * (each[1:] - each[:-1]) / np.maximum(before + after, 1)
        # Distance in slots between the middles of the spaces outside.
        apart = 0.5 * (spans[:-3] + spans[3:]) + before[1:-1] + after[1:-1]
        even = (spans[:-3] == 1) & (spans[3:] == 1)
        change[1:-1] = np.where(even, (each[3:] - each[:-3]) / np.maximum(apart, 1), change[1:-1])
        at = 0.5 * low / np.maximum(pitch, 1e-12) - 0.5 * (after - before)
        out[1:] = low / (pitch + change * at)
        # A space that does not look as long as it is counted was miscounted: its speed is not known.
        known = (spans > 0) & (np.abs(np.log(np.maximum(self.teeth.ratio, 1e-9) / np.maximum(spans, 1))) < 0.33)
        out[1:][~(known[:-1] & known[1:])] = np.nan
        return out


def read_two_state(
    capture: Capture, channel: Channel, sheet: ChannelSheet, levels: Levels, expected: float, make: type[Made]
) -> Made:
    """Read one two-state channel whose high level should be `expected`.

    A signal far smaller than the pull-up is looked for under growing smoothing, and believed only
    when it is two-state and the wheel shows in it; otherwise the line counts as flat.

    Parameters
    ----------
    capture : Capture
        the clock, the holes and the other channels
    channel : Channel
        raw samples, shape (n,)
    sheet : ChannelSheet
        what was told of it
    levels : Levels
        its levels as seen, in its unit
    expected : float
        the high level a sound line has, in its unit; NaN where nobody said
    make : type
        the reading to be made

    References
    ----------
    Levels and instants: IEEE Std 181-2011, 5.2 and 5.3; two thresholds: Schmitt, J. Sci. Instrum. 15 (1938), from memory.
    """
    slow = slow_rise(channel, levels, capture.sfreq) if levels.swing >= FAINT * expected else None
    if slow is not None:
        return _with_edges(
            capture, channel, sheet, replace(levels, low=slow.low, high=slow.usual), expected, 1, make, slow
        )
    plain = _plainly_two_state(levels, expected, channel)
    track = level_track(channel, levels, capture.sfreq) if plain or levels.between >= THIRD_LEVEL else None
    # What lies between two levels may be one of them at another time.
    if plain or (levels.swing >= FAINT * expected and track is not None and track.moves(levels)):
        calm, own = levelled(channel, levels, capture.sfreq)
        if calm is channel and track is not None and track.moves(levels):
            calm = _following(channel, levels, track, capture.sfreq)
        reading = _with_edges(capture, calm, sheet, own, expected, 1, make, shown=levels)
        return replace(reading, track=track)
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
        reading = _with_edges(capture, calm, sheet, levels_now, expected, width, make)
        if _wheel_shows(reading):
            return reading
    return make(
        sheet, channel.unit, capture.sfreq, capture.span, levels, expected, False,
        Edges(np.empty(0), np.empty(0, bool)), Teeth(np.empty(0), np.empty(0), np.empty(0, int)),
    )  # fmt: skip


def _plainly_two_state(levels: Levels, expected: float, channel: Channel) -> bool:
    """A swing so large against pull-up, noise and recorder step that nothing else makes it."""
    stepped = levels.swing < 4 * levels.step and levels.swing < 0.5 * expected
    large = levels.swing >= FAINT * expected and not stepped and levels.between < THIRD_LEVEL
    if not large or levels.swing >= 6 * levels.noise:
        return large
    # A level that moves (a return that lifts) looks like noise beside it, but not from one sample to the next.
    return levels.swing >= 6 * abs(channel.scale) * noise_of(sample_runs(channel.raw).astype(np.float64))


def _wheel_shows(reading: RotatingReading) -> bool:
    """Whether faint edges come as teeth do: the gap returns, or the spaces hardly differ."""
    teeth = reading.teeth
    if len(teeth.times) < 8 or float(np.median(np.diff(teeth.times))) * reading.sfreq < PACE * reading.smoothing:
        return False
    if teeth.alike >= 0.6 and not teeth.wanders:
        return True
    if reading.levels.between > 0.2:
        return False  # as rounded as hum
    spread = np.median(np.abs(np.log(teeth.ratio)))
    declared = reading.sheet.declared_wheel
    return bool(spread < 0.1 and not (declared and declared.missing and teeth.turns_seen > 3))


def _with_edges(
    capture: Capture,
    channel: Channel,
    sheet: ChannelSheet,
    levels: Levels,
    expected: float,
    width: int,
    make: type[Made],
    slow: SlowRise | None = None,
    shown: Levels | None = None,
) -> Made:
    """The reading of a channel; `shown` are the levels as recorded, where `levels` are those of a channel levelled."""
    quarter = 0.25 * levels.swing
    lower, middle, upper = slow.thresholds if slow else (levels.low + quarter, levels.middle, levels.high - quarter)
    bounds = sorted((channel.to_raw(lower), channel.to_raw(upper)))
    edges = find_edges(channel.raw, lower=bounds[0], upper=bounds[1], middle=channel.to_raw(middle))
    if channel.scale < 0:
        edges = Edges(edges.at, ~edges.rising)
    whole = edges
    edges, false_edges = without_glitches(edges, share=GLITCH if counts_teeth(sheet) else GLITCH_OF_CAM)
    if sheet.declared_wheel is None and _come_again(false_edges, edges.at):
        edges, false_edges = whole, false_edges[:0]
    edges = edges.off(capture.joints)
    falls, rises = capture.time_of(edges.falls), capture.time_of(edges.rises)
    starts, ends, teeth = _row(falls, rises, sheet, capture.breaks)
    if _inverted(starts, ends, teeth):
        # The line is low through the reference gap: here a tooth holds it high, from its rise to its fall.
        starts, ends, teeth = _row(rises, falls, sheet, capture.breaks)
    switching = len(edges) >= FEWEST_EDGES
    return make(
        sheet, channel.unit, capture.sfreq, capture.span,
        levels if shown is None else replace(shown, noise=levels.noise), expected, switching,
        Edges(capture.time_of(edges.at) * capture.sfreq, edges.rising), teeth,
        starts, ends, capture.time_of(false_edges), _beyond(channel, levels, capture, false_edges), width, piled=piled_up(channel, two_state=True),
        near_misses=_near_misses(channel, levels) if width == 1 and slow is None else 0, slow=slow,
    )  # fmt: skip


def _come_again(pulses: np.ndarray, edges: np.ndarray) -> bool:
    """Whether narrow pulses come after the same count of edges time and again: then they are of the wheel, whatever it is."""
    between = np.diff(np.searchsorted(edges, pulses))
    if len(between) < _FEWEST_AGAIN:
        return False
    usual = np.median(between)
    return bool(usual > 0 and np.mean(between == usual) >= _NEARLY_ALL)


_FEWEST_AGAIN, _NEARLY_ALL = 4, 0.9


def _beyond(channel: Channel, levels: Levels, capture: Capture, false_edges: np.ndarray) -> np.ndarray:
    """When (s) a narrow pulse went well past one of the two levels, as no output does: sparks and other disturbance."""
    if not len(false_edges):
        return false_edges
    reach = np.arange(-3, 9)
    at = np.clip(np.floor(false_edges).astype(int)[:, None] + reach, 0, len(channel.raw) - 1)
    volts = channel.raw[at] * channel.scale + channel.offset
    past = _BETWEEN.beyond * levels.swing
    out = (volts.max(axis=1) > levels.high + past) | (volts.min(axis=1) < levels.low - past)
    return capture.time_of(false_edges[out])


def _row(
    starts: np.ndarray, ends: np.ndarray, sheet: ChannelSheet, breaks: np.ndarray
) -> tuple[np.ndarray, np.ndarray, Teeth]:
    """The teeth that begin at `starts`, and where each ends: the next of `ends`, NaN where there is none."""
    teeth = read_teeth(starts, sheet.declared_wheel, breaks) if counts_teeth(sheet) else _uncounted(starts, breaks)
    # A pulse between two teeth that comes every turn is none of them.
    starts = teeth.times
    after = np.searchsorted(ends, starts, "right")
    return starts, np.append(ends, np.nan)[np.minimum(after, len(ends))], teeth


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
    """A cam's few uneven windows are no row of like teeth; without a declared wheel they are not counted.

    Parameters
    ----------
    sheet : ChannelSheet
        role and wheel
    """
    return sheet.role != Role.CAM or sheet.wheel is not None


def _uncounted(falls: np.ndarray, breaks: np.ndarray) -> Teeth:
    ratio = broken(np.ones(max(len(falls) - 1, 0)), falls, breaks)
    return Teeth(falls, ratio, np.where(ratio < UNKNOWN, 1, 0))
