"""What the reader makes of one channel, before any judgement.

A `ChannelReading` is one channel as read; a `RotatingReading` has teeth and turns, a `StrikeReading` has bursts. What
differs from one kind of sensor to the next is asked of the reading itself: each kind in `kinds/` has its own class, and
no rule compares names of kinds.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

import numpy as np

from sagen.model.sheet import ChannelSheet
from sagen.model.wheel import Wheel
from sagen.signal.deviation import phase_errors
from sagen.signal.edges import Edges, median_of_five
from sagen.signal.levels import Levels
from sagen.signal.slots import Teeth

Band = tuple[float, float, str]  #: low end, high end (in the reading's unit), name


@dataclass(frozen=True)
class ChannelReading:
    """One channel as read. Levels in `unit`."""

    sheet: ChannelSheet
    unit: str
    sfreq: float  #: Hz
    samples: int
    levels: Levels

    @property
    def column(self) -> str:
        return self.sheet.column

    @property
    def seconds(self) -> float:
        return self.samples / self.sfreq


@dataclass(frozen=True)
class ProbeDoubt:
    """What is wrong with the probe rather than with the circuit: `ac_coupled`, `crossed` leads, or a scale that `factor`
    would put right."""

    kind: str
    factor: float | None = None


@dataclass(frozen=True)
class StrikeReading(ChannelReading):
    """A channel that answers to light taps; the taps themselves are found in all such channels together."""


@dataclass(frozen=True)
class RotatingReading(ChannelReading, ABC):
    """A sensor that reads a turning wheel. Times in s from the start of the capture."""

    expected: (
        float  #: what the high level should be: the declared pull-up, else the likeliest one; 0 where there is none
    )
    switching: bool  #: whether there is a signal at all
    edges: Edges
    teeth: Teeth
    falls: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, where each tooth begins, as `teeth.times`
    rises: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, where each tooth ends, NaN where unknown
    false_edges: np.ndarray = field(default_factory=lambda: np.empty(0))  #: s, pulses too narrow to be teeth
    #: s, those of them that went well past the sensor's own levels
    sparks: np.ndarray = field(default_factory=lambda: np.empty(0))
    smoothing: int = 1  #: samples averaged before the edges were found
    #: share of samples that lie exactly at the end of the recorder's range, and that level in `unit`
    piled: tuple[float, float] = (0.0, 0.0)
    near_misses: int = 0  #: disturbances that come near to making a false edge
    #: Hz and amplitude (in `unit`) of a wave of the mains that was taken off before teeth were read; 0 where there was none
    hum: tuple[float, float] = (0.0, 0.0)

    #: what `size` is, and how more and less of it are said
    size_name: ClassVar[str]
    size_more: ClassVar[str]
    size_less: ClassVar[str]
    #: the same in the middle of a sentence about a swing once a turn
    size_in_words: ClassVar[str]
    #: how much worse than a switching sensor's edge the place of a cam's tooth is known
    cam_coarse: ClassVar[float] = 1.0
    #: samples by which the place of an edge is known, in sample intervals
    place_coarse: ClassVar[float] = 1.0
    grows_with_speed: ClassVar[bool] = False
    #: whether it shows where each tooth ends as well as where it begins
    both_ends: ClassVar[bool] = False
    #: the name of the measure that tells a tooth's place best
    place_measure: ClassVar[str] = "phase_error"

    # what each kind says of itself ----------------------------------------------------------

    @property
    @abstractmethod
    def size(self) -> np.ndarray:
        """What is known of each tooth's size, relative to nothing in particular; shape (teeth,) or (teeth - 1,)."""

    @abstractmethod
    def measures(self) -> dict[str, np.ndarray]:
        """What is known of every tooth, by the names of `measures.LEAST`, one value a tooth."""

    @abstractmethod
    def held(self, cranking: bool) -> tuple[str, dict]:
        """A flat line: where it is held (high, low, middle), and what that means in words.

        Parameters
        ----------
        cranking : bool
            whether the starter loads the battery
        """

    @abstractmethod
    def bands(self, cranking: bool) -> tuple[Band, ...]:
        """Where the levels of a sound circuit lie.

        Parameters
        ----------
        cranking : bool
            whether the starter loads the battery

        Returns
        -------
        tuple of Band
            in the channel's unit
        """

    @property
    def probe(self) -> ProbeDoubt | None:
        """Why the levels are the probe's rather than the circuit's; None where nothing speaks for that."""
        return None

    @property
    def strength(self) -> np.ndarray | None:
        """Height of each tooth for its speed, V s, of a sensor that makes its own voltage; None of one that switches."""
        return None

    @property
    def rise_s(self) -> float | None:
        """10 to 90 % rise (s) of a line that is pulled down before it has risen, 0 where that cannot be told; None where
        it rises in time."""
        return None

    def rests_at(self, level: float) -> bool:
        """Whether a signal may rest at a level for long without being cut off there.

        Parameters
        ----------
        level : float
            in the channel's unit
        """
        return False

    @property
    def height_scale(self) -> float:
        """The least height scale (±, in `unit`) at which nothing of this signal is cut off."""
        return 1.3 * max(1.6 * abs(self.piled[1]), abs(self.piled[1]))

    @property
    def moves(self) -> bool:
        """Whether a level moves in the course of the recording while the signal goes on."""
        return False

    @property
    def relative_noise(self) -> float:
        """The noise's standard deviation as a share of the usual size of a tooth."""
        return 0.0

    @property
    def cut_away(self) -> bool:
        """Whether the recorder's range cut off so much that the crossings tell nothing."""
        return False

    def cam_edges(self) -> tuple[np.ndarray, np.ndarray]:
        """The edges (s, and whether they rise) that tell where a cam stands."""
        return self.edges.at / self.sfreq, self.edges.rising

    @property
    def phase_error_middle(self) -> np.ndarray:
        """Phase error of the middle of every tooth, for a sensor that shows both its ends; else of its edge."""
        return self.phase_error

    # what all have in common ------------------------------------------------------------------

    @property
    def unsmoothed(self) -> bool:
        return self.smoothing == 1

    @property
    def wheel(self) -> Wheel | None:
        return self.teeth.wheel

    def low_share(self) -> np.ndarray:
        """Share of each space between teeth that the signal is low, shape (teeth - 1,)."""
        spaces = np.diff(self.falls)
        return (self.rises[: len(spaces)] - self.falls[:-1]) / spaces if len(spaces) else np.empty(0)

    @cached_property
    def phase_error(self) -> np.ndarray:
        """Lateness of every tooth's edge, pitches, shape (teeth,); see `errors.phase_errors`."""
        return phase_errors(self.teeth, self.teeth.times)

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

        Parameters
        ----------
        time_s : float
            s, from the capture's first sample
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
