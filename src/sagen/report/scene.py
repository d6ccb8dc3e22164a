"""What is drawn of a capture, on the screen and on paper alike: lanes with levels, bands, marks and a known-good turn
beneath. Values are in true units; nothing here knows of Qt."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from sagen.model.vocabulary import Role
from sagen.signal.pyramid import Pyramid

if TYPE_CHECKING:
    from sagen.signal.reading import Band, RotatingReading

RAIL_WEIGHT = 0.45
MARGIN = 0.05  #: share of a lane's range above and below what it holds
AROUND_FOUND = 14.0  #: a capture opens with as many times a finding's length in sight
WHOLE_SHARE = 0.5  #: a finding that lasts longer than this share of the capture is looked at as a whole


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
