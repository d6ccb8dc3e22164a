"""What the reader makes of one channel, before any judgement: levels, edges, teeth, speed."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from sagen.model.sheet import ChannelSheet
from sagen.model.wheel import Wheel
from sagen.signal.deviation import phase_errors
from sagen.signal.edges import Edges, median_of_five
from sagen.signal.levels import Levels
from sagen.signal.teeth import Teeth


@dataclass(frozen=True)
class RotatingReading:
    """One channel as read. Times in s from the start of the capture, levels in `unit`."""

    sheet: ChannelSheet
    unit: str
    sfreq: float
    samples: int
    levels: Levels
    expected: float  #: what the high level should be: the declared pull-up, else the likeliest one
    switching: bool
    edges: Edges
    teeth: Teeth
    falls: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, where each tooth begins, as `teeth.times`
    rises: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, where each tooth ends, NaN where unknown
    false_edges: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, pulses too narrow to be teeth
    smoothing: int = 1  #: samples averaged before the edges were found
    kind: str = "hall"  #: sensor kind that it was read as
    #: coil: peak-to-peak height at each tooth, in `unit`
    heights: np.ndarray = field(default_factory=lambda: np.empty(0))
    falling: bool = True  #: coil: whether the tooth's centre is the falling crossing
    polarity_sure: bool = False  #: coil: whether that was seen, not assumed
    #: share of samples that lie exactly at the end of the recorder's range, and that level in `unit`
    piled: tuple[float, float] = (0.0, 0.0)
    near_misses: int = 0  #: disturbances that come near to making a false edge

    @property
    def column(self) -> str:
        return self.sheet.column

    @property
    def wheel(self) -> Wheel | None:
        return self.teeth.wheel

    def low_share(self) -> np.ndarray:
        """Share of each space between teeth that the signal is low, shape (teeth - 1,)."""
        spaces = np.diff(self.falls)
        return (self.rises[: len(spaces)] - self.falls[:-1]) / spaces if len(spaces) else np.empty(0)

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

    @cached_property
    def phase_error(self) -> np.ndarray:
        """Lateness of every tooth's edge, pitches, shape (teeth,); see `errors.phase_errors`."""
        return phase_errors(self.teeth, self.teeth.times)

    @cached_property
    def phase_error_middle(self) -> np.ndarray:
        """Lateness of the middle of every tooth, for a sensor that shows both its ends; else of its edge."""
        if self.kind == "reluctance" or len(self.rises) != len(self.teeth.times):
            return self.phase_error
        return 0.5 * (self.phase_error + phase_errors(self.teeth, self.rises))

    @cached_property
    def samples_a_tooth(self) -> float:
        """Samples from one tooth to the next at the highest speed seen; infinite where there are none."""
        pitches = np.diff(self.teeth.times)[self.teeth.spans == 1]
        # Speed does not change from tooth to tooth; what a tooth out of place shortens is not counted.
        return float(np.quantile(median_of_five(pitches), 0.02)) * self.sfreq if len(pitches) > 3 else np.inf

    def speed_range(self) -> dict[str, float] | None:
        """Lowest, median and highest speed of the wheel's own shaft, rpm; see `_speed_range`."""
        return self._speed_range

    @cached_property
    def _speed_range(self) -> dict[str, float] | None:
        """Lowest, median and highest speed of the wheel's own shaft, rpm; None where it is not known.

        The median is over time; lowest and highest are taken after a running median of three spaces, so
        that one odd tooth is not a speed.
        """
        speed, lasts = self.teeth.speed_rpm(), np.diff(self.teeth.times)
        known = np.isfinite(speed)
        speed, lasts = speed[known], lasts[known]
        if len(speed) < 3:
            return None
        order = np.argsort(speed)
        half = np.searchsorted(np.cumsum(lasts[order]), 0.5 * lasts.sum())
        steady = np.median(np.lib.stride_tricks.sliding_window_view(speed, 3), axis=1)
        values = {"min": steady.min(), "median": speed[order[half]], "max": steady.max()}
        return {name: round(float(value), 1) for name, value in values.items()}

    def place(self, time_s: float) -> tuple[float, int] | None:
        """Angle in degrees (0 to 360, from tooth 1) and the number of the tooth last passed at a time.

        None where the wheel is not known or the time lies outside the teeth seen.
        """
        teeth = self.teeth
        index = int(np.searchsorted(teeth.times, time_s, "right")) - 1
        if teeth.wheel is None or not 0 <= index < len(teeth.times) - 1 or teeth.spans[index] == 0:
            return None
        share = (time_s - teeth.times[index]) / (teeth.times[index + 1] - teeth.times[index])
        angle = (teeth.number[index] - 1 + share * teeth.spans[index]) * teeth.wheel.pitch_deg
        return float(angle % 360.0), int(
            (teeth.number[index] - 1 + int(share * teeth.spans[index])) % teeth.wheel.slots + 1
        )
