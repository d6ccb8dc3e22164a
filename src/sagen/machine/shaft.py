"""A shaft that turns: base speed over time, and the engine's own breathing on top of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Shaft:
    """A crankshaft. Its angle is given in closed form, so any number of samples costs one pass.

    The base phase p(t) follows the speed from `rpm` to `rpm_end`; compression adds
    `sum a_k sin(k p)`, whose slope is the ripple. A four-stroke engine of c cylinders compresses
    c / 2 times a turn; `uneven` makes one cylinder differ, which shows once in two turns.
    """

    rpm: float = 200.0
    rpm_end: float | None = None
    cylinders: int = 4
    ripple: float = 0.0  #: highest less lowest speed, over the mean
    uneven: float = 0.0  #: ripple of one weak cylinder, once in two turns
    start_deg: float = 0.0
    still_s: float = 0.0  #: seconds before it begins to turn, with a run-up of 0.15 s

    def angle_deg(self, times: np.ndarray) -> np.ndarray:
        """Crank angle in degrees at each time (s), shape as given; climbs throughout."""
        times = np.asarray(times, np.float64)
        span = max(float(times[-1]), 1e-9) if len(times) else 1.0
        end = self.rpm if self.rpm_end is None else self.rpm_end
        turning = np.maximum(times - self.still_s, 0.0)
        if self.still_s > 0:
            run_up = 0.15
            turning = np.where(turning < run_up, turning**2 / (2 * run_up), turning - run_up / 2)
        turns = (self.rpm * turning + (end - self.rpm) * turning**2 / (2 * span)) / 60.0
        phase = 2 * np.pi * turns
        order = self.cylinders / 2
        wave = self.ripple / 2 / order * np.sin(order * phase + 0.4)
        wave += self.uneven / 2 / 0.5 * np.sin(0.5 * phase + 1.1)
        return np.degrees(phase + wave) + self.start_deg
