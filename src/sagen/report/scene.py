"""What is drawn of a capture, on the screen and on paper alike: lanes with levels, bands, marks and a known-good turn
beneath. Values are in true units; nothing here knows of Qt."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from sagen.model.vocabulary import STARTING, Role
from sagen.model.words import CHANNELS, FINDING_TITLES
from sagen.signal.cam_difference import turn_between
from sagen.signal.per_tooth import wave_over_turn
from sagen.signal.pyramid import Pyramid

if TYPE_CHECKING:
    from sagen.kinds import Examination, Pair
    from sagen.report.turn_drawing import TurnDrawing
    from sagen.signal.reading import Band, RotatingReading

RAIL_WEIGHT = 0.45
MARGIN = 0.05  #: share of a lane's range above and below what it holds
AROUND_FOUND = 14.0  #: a capture opens with as many times a finding's length in sight
WHOLE_SHARE = 0.5  #: a finding that lasts longer than this share of the capture is looked at as a whole
WAVE_STEPS = 1440


@dataclass(frozen=True)
class Underlay:
    """A known-good waveform over `turns` turns of a shaft whose angle `reading` tells, a value a step, in a lane's unit."""

    reading: RotatingReading
    wave: np.ndarray
    turns: int = 1
    ahead: float = 0.0  #: turns by which this capture's count is ahead of the wave's


@dataclass(frozen=True)
class Lane:
    """One channel of the strip. `pyramid` holds raw samples; a value is raw * scale + offset."""

    name: str  #: what the channel is
    role: Role
    unit: str
    pyramid: Pyramid
    scale: float = 1.0
    offset: float = 0.0
    bottom: float = 0.0
    top: float = 5.0
    bands: tuple[Band, ...] = ()
    reading: RotatingReading | None = None  #: tells angle and tooth at a time, where the wheel is known
    pattern: Underlay | None = None  #: the known-good capture, laid under the waveform
    column: str = ""  #: as the file names it

    @property
    def weight(self) -> float:
        """Share of the height: feed and return only have to be seen to be steady."""
        return RAIL_WEIGHT if self.role in (Role.SUPPLY, Role.GROUND, Role.OTHER) else 1.0


@dataclass(frozen=True)
class Marked:
    """A finding in the picture: its name and stretches, s."""

    label: str
    lane: int
    spans: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Place:
    """What lies under a cursor."""

    time_s: float
    values: tuple[tuple[str, float, str], ...]  #: channel, value, unit
    angle_deg: float | None = None
    tooth: int | None = None


@dataclass
class Strip:
    """A capture ready to be drawn."""

    sfreq: float
    samples: int
    lanes: tuple[Lane, ...]
    marks: tuple[Marked, ...] = ()
    cursors: dict[str, float] = field(default_factory=dict)
    holes: tuple[tuple[float, float], ...] = ()  #: stretches (s) in which nothing was recorded

    @property
    def seconds(self) -> float:
        return self.samples / self.sfreq

    def place(self, time_s: float) -> Place:
        """What every channel shows at a time, and where the wheel stands then."""
        index = int(np.clip(round(time_s * self.sfreq), 0, self.samples - 1))
        values = tuple(
            (lane.name, float(lane.pyramid.raw[index]) * lane.scale + lane.offset, lane.unit) for lane in self.lanes
        )
        for this_lane in self.lanes:
            found = this_lane.reading.place(time_s) if this_lane.reading is not None else None
            if found:
                return Place(time_s, values, *found)
        return Place(time_s, values)

    def columns(self, lane: Lane, start_s: float, end_s: float, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value, in the lane's unit, in each of `count` columns of a stretch; NaN outside the
        capture."""
        low, high = self._raw_columns(lane, start_s, end_s, count)
        low, high = low * lane.scale + lane.offset, high * lane.scale + lane.offset
        for first, last in self.holes:
            ends = (np.array([first, last]) - start_s) / (end_s - start_s) * count
            inside = slice(max(0, int(np.ceil(ends[0]))), max(0, int(ends[1])))
            low[inside] = high[inside] = np.nan
        return (low, high) if lane.scale >= 0 else (high, low)

    def _raw_columns(self, lane: Lane, start_s: float, end_s: float, count: int) -> tuple[np.ndarray, np.ndarray]:
        start, end = start_s * self.sfreq, end_s * self.sfreq
        if (end - start) / count >= 2:
            return lane.pyramid.view(start, end, count)
        # Between samples the line is straight; each column spans what the line does within it.
        first = max(int(start) - 1, 0)
        part = lane.pyramid.raw[first : int(end) + 3].astype(np.float32)
        at = start + (end - start) / count * np.arange(count + 1)
        borders = np.interp(at, first + np.arange(len(part)), part)
        low, high = np.minimum(borders[:-1], borders[1:]), np.maximum(borders[:-1], borders[1:])
        column = ((first + np.arange(len(part)) - start) * count / (end - start)).astype(int)
        inside = (column >= 0) & (column < count)
        np.minimum.at(low, column[inside], part[inside])
        np.maximum.at(high, column[inside], part[inside])
        return low, high

    def opening(self) -> tuple[float, float]:
        """The stretch (s) at which a capture opens: what was found first in the gravest finding that has a place,
        else the whole of it."""
        for mark in self.marks:
            for start, end in mark.spans:
                if end - start < WHOLE_SHARE * self.seconds:
                    reach = min(max((end - start) * AROUND_FOUND, 24 / self.sfreq), self.seconds) / 2
                    middle = 0.5 * (start + end)
                    first = float(np.clip(middle - reach, 0.0, self.seconds - 2 * reach))
                    return first, first + 2 * reach
        return 0.0, self.seconds


def strip_scene(
    done: Examination,
    pyramids: Mapping[str, Pyramid],
    *,
    reference: Pair | None = None,
    reference_done: Examination | None = None,
    drawings: Mapping[str, TurnDrawing] | None = None,
) -> Strip:
    """What the Strip draws of an examined capture: described channels first, in the sheet's order.

    Parameters
    ----------
    pyramids : by column, of the capture's raw samples
    reference, reference_done : the known-good capture in true units, and what it shows itself
    """
    lanes, places, names = [], {}, channel_names(done)
    cranking = done.sheet.conditions.state in STARTING
    for result in done.channels:
        channel = done.capture.channel(result.sheet.column)
        bands = result.reading.bands(cranking) if result.reading else ()
        pyramid = pyramids[channel.column]
        seen = [channel.scale * extreme + channel.offset for extreme in pyramid.extremes()]
        low = min([*seen, *(band[0] for band in bands), 0.0])
        high = max([*seen, *(band[1] for band in bands)])
        margin = MARGIN * (high - low) or 0.5
        places[result.sheet.column] = len(lanes)
        drawing = (drawings or {}).get(result.sheet.column)
        under = pattern_of(done, result, drawing, reference, reference_done) if reference and drawing else None
        lanes.append(
            Lane(
                names[channel.column], result.sheet.role, channel.unit, pyramid, channel.scale, channel.offset,
                low - margin, high + margin, bands, result.reading, under, channel.column,
            )
        )  # fmt: skip
    marks = []
    for index, finding in enumerate(done.findings, start=1):
        spans = tuple((span.start_s, span.end_s) for span in finding.spans)
        label = f"{index}  {FINDING_TITLES.get(finding.kind, finding.kind)}"
        if "tooth" in finding.fields:
            label += f": tooth {finding.fields['tooth']}"
        marks.append(Marked(label, places.get(finding.channel, 0), spans))
    sfreq = done.capture.sfreq
    holes = tuple(((first - 0.5) / sfreq, (stop - 0.5) / sfreq) for first, stop in done.capture.holes)
    return Strip(sfreq, done.capture.samples, tuple(lanes), tuple(marks), holes=holes)


def channel_names(done: Examination) -> dict[str, str]:
    """What each channel is called, by column; numbered where several are the same."""
    many = Counter(channel.sheet.role for channel in done.channels)
    seen: Counter = Counter()
    names = {}
    for this_channel in done.channels:
        role = this_channel.sheet.role
        seen[role] += 1
        names[this_channel.sheet.column] = CHANNELS[role] + (f" {seen[role]}" if many[role] > 1 else "")
    return names


def pattern_of(
    done: Examination, result, drawing: TurnDrawing, reference: Pair, reference_done: Examination | None
) -> Underlay | None:
    """The known-good capture's same channel in this one's unit, over the angle of the shaft."""
    if drawing.pattern is None or result.reading is None:
        return None
    if result.reading.wheel is not None and drawing.pattern.wheel == result.reading.wheel:
        return _tooth_underlay(result, drawing, reference)
    return _cam_underlay(done, result, drawing, reference_done) if reference_done else None


def _tooth_underlay(result, drawing: TurnDrawing, reference: Pair) -> Underlay | None:
    channel = reference[0].channel(drawing.pattern.column)
    wave = wave_over_turn(channel.raw, drawing.pattern)
    if wave is None:
        return None
    values = wave * channel.scale + channel.offset
    speeds = [item.speed_range() for item in (result.reading, drawing.pattern)]
    if result.reading.grows_with_speed and all(speeds):
        values = values * speeds[0]["median"] / speeds[1]["median"]
    return Underlay(result.reading, values)


def _cam_underlay(done: Examination, result, drawing: TurnDrawing, reference_done: Examination) -> Underlay | None:
    """Where the known-good cam's edges lie over two turns of this capture's crank."""
    here = done.cams.get(result.sheet.column)
    good = reference_done.cams.get(drawing.pattern.column)
    crank = next(
        (channel.reading for channel in done.channels if channel.sheet.role == Role.CRANK and channel.reading), None
    )
    if here is None or good is None or crank is None or crank.wheel is None or len(good.template) < 2:
        return None
    grid = np.arange(WAVE_STEPS) * 720.0 / WAVE_STEPS
    # The state after the last edge before each step, carried round the cycle.
    before = np.searchsorted(good.template, grid, "right") - 1
    high = good.template_rising[before]
    levels = drawing.pattern.levels
    return Underlay(crank, np.where(high, levels.high, levels.low), 2, turn_between(here, good) / 360.0)


__all__ = ["Lane", "Marked", "Place", "Strip", "Underlay", "channel_names", "strip_scene"]
