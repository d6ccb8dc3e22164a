"""Captures drawn by another hand than the study's generator and the simulated machine: a shaft integrated step by
step, a wheel of intervals in degrees, a coil as the rate of change of Gaussian humps of flux. It shares no code
with the product and knows none of its limits."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.signal import lfilter

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet

STEP_S = 2e-5


@dataclass
class Drawn:
    """One capture to be: where the shaft is, what wheel passes, and what the recorder makes of it."""

    rng: np.random.Generator
    slots: int = 60
    gone: tuple[int, ...] = (59, 60)
    cylinders: int = 4
    rpm: float = 210.0
    ripple: float = 0.14
    seconds: float = 3.0
    samples_a_tooth: float = 24.0
    duty: float = 0.5
    shift: dict[int, float] = field(default_factory=dict)  #: tooth -> pitches late
    wide: dict[int, float] = field(default_factory=dict)  #: tooth -> factor of its width
    tall: dict[int, float] = field(default_factory=dict)  #: tooth -> factor of its flux
    starts_s: float = 0.0
    stops_s: float = 1e9

    def __post_init__(self):
        self.t = np.arange(0.0, self.seconds, STEP_S)
        uneven = self.rng.normal(1.0, 0.15, self.cylinders)
        mean = (
            self.rpm
            * 6.0
            * np.clip((self.t - self.starts_s) / 0.2, 0, 1)
            * np.clip((self.stops_s - self.t) / 0.3, 0, 1)
        )
        self.deg = self.rng.uniform(0, 360) + np.cumsum(mean) * STEP_S
        for _ in range(12):  # the speed depends on the angle, and the angle on the speed
            cycle = (self.deg % 720) / 720 * self.cylinders
            speed = mean * (1 + self.ripple * uneven[cycle.astype(int) % self.cylinders] * np.sin(2 * np.pi * cycle))
            before, self.deg = self.deg, self.deg[0] + np.cumsum(speed) * STEP_S
            if np.abs(self.deg - before).max() < 1e-6:
                break
        top = speed.max() / 360 * self.slots
        self.rate = float(max(2_000.0, top * self.samples_a_tooth))
        self.now = np.arange(0.0, self.t[-1], 1 / self.rate)
        self.angle = np.interp(self.now, self.t, self.deg)
        self.pitch_s = 1 / top

    @property
    def pitch(self) -> float:
        return 360.0 / self.slots

    def intervals(self) -> np.ndarray:
        """Begin and end of every tooth that passes, degrees, shape (n, 2), climbing."""
        number = np.array([n for n in range(1, self.slots + 1) if n not in self.gone])
        middle = (number - 1 + np.array([self.shift.get(int(n), 0.0) for n in number])) * self.pitch
        half = 0.5 * self.duty * self.pitch * np.array([self.wide.get(int(n), 1.0) for n in number])
        turns = np.arange(self.deg[0] // 360 - 1, self.deg[-1] // 360 + 2)[:, None] * 360.0
        return np.stack([(turns + middle - half).ravel(), (turns + middle + half).ravel()], axis=1)

    def before_tooth(self, intervals: np.ndarray) -> np.ndarray:
        """Whether a tooth stands before the sensor, by sample."""
        place = np.clip(np.searchsorted(intervals[:, 0], self.angle, "right") - 1, 0, None)
        return (self.angle >= intervals[place, 0]) & (self.angle < intervals[place, 1])

    def slow(self, volts: np.ndarray, share: float = 0.02) -> np.ndarray:
        """Through a resistor and a capacitor whose time constant is a share of the shortest pitch."""
        keep = np.exp(-1 / (self.rate * share * self.pitch_s))
        return lfilter([1 - keep], [1, -keep], volts, zi=[keep * volts[0]])[0]

    def switched(self, on: np.ndarray, low=0.15, high=4.9, noise=0.02) -> np.ndarray:
        return self.slow(np.where(on, low, high)) + self.rng.normal(0, noise, len(on))

    def coil(self, volts_at_200: float = 1.5, runout: float = 0.0) -> np.ndarray:
        """The rate of change of the flux; without noise."""
        grid = np.linspace(0, 360, 36_000, endpoint=False)
        flux, wide = np.zeros_like(grid), 0.2 * self.pitch
        for n in range(1, self.slots + 1):
            if n not in self.gone:
                away = (grid - (n - 1 + self.shift.get(n, 0.0)) * self.pitch + 180) % 360 - 180
                flux += self.tall.get(n, 1.0) * np.exp(-0.5 * (away / wide) ** 2)
        flux *= 1 + runout * np.cos(np.deg2rad(grid))
        slope = np.gradient(np.concatenate([flux, flux[:2]]), grid[1])[:-2]
        volts = np.gradient(self.angle, 1 / self.rate) * np.interp(self.angle % 360, grid, slope, period=360)
        return volts * volts_at_200 * 0.33 * self.pitch / 1200.0

    def capture(self, *channels: tuple[str, np.ndarray, dict], state: str = "cranking", bits: int = 10, **engine):
        made, rows = [], []
        for name, volts, row in channels:
            step = 2 * 1.3 * float(np.abs(volts).max()) / 2**bits if bits else 0.0
            made.append(Channel(name, (np.round(volts / step) * step if step else volts).astype(np.float32)))
            rows.append({"column": name, **row})
        table = {"engine": {"cylinders": self.cylinders, **engine}, "conditions": {"state": state}, "channel": rows}
        return Capture("other.csv", self.rate, tuple(made)), Sheet.from_data(table)


def drawn(seed: int, **given) -> Drawn:
    """A capture with what is not given drawn at random."""
    rng = np.random.default_rng([seed, 77])
    slots, missing = [(60, 2), (36, 1), (36, 2), (58, 2), (48, 2)][rng.integers(5)]
    usual = {
        "slots": slots, "gone": tuple(range(slots - missing + 1, slots + 1)), "cylinders": int(rng.choice([3, 4, 6])),
        "rpm": rng.uniform(150, 280), "ripple": rng.uniform(0.05, 0.18), "duty": rng.uniform(0.4, 0.6),
        "samples_a_tooth": rng.uniform(10, 45), "seconds": rng.uniform(2.5, 4.0),
    }  # fmt: skip
    return Drawn(rng, **(usual | given))
