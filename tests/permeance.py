"""Captures drawn from the physics of a gap: the permeance between a sensor's pole and a wheel, its turning solved as an
initial value problem with a cylinder's pressure for torque. SciPy only; it shares no code with the product nor with the
other hands that draw captures, and knows none of the product's limits.

A switching sensor compares the flux with two thresholds of its own (Schmitt trigger); a coil gives the flux's rate of
change through its inductance and load (`scipy.signal.lfilter` of the R-L-R divider).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from scipy.integrate import solve_ivp
from scipy.ndimage import gaussian_filter1d
from scipy.signal import bilinear, lfilter

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet

FINE = 14_400  #: steps a turn in which the wheel's rim is described


@cache
def turned(course: str, cylinders: int, seed: int, seconds: float = 3.6) -> tuple[np.ndarray, np.ndarray]:
    """Times (s) and turns of a crankshaft: `cranking`, `released` (the starter lets go), or `starting` (from rest)."""
    rng = np.random.default_rng([seed, cylinders, *course.encode()])
    phases = np.arange(cylinders) * 4 * np.pi / cylinders
    sealing = rng.uniform(0.9, 1.0, cylinders)
    inertia, friction = rng.uniform(0.14, 0.26), rng.uniform(20, 34)
    no_load, stall = rng.uniform(24, 34), rng.uniform(150, 230)
    size = rng.uniform(9, 15) * 4 / cylinders
    cylinder = [(float(phase), float(tight)) for phase, tight in zip(phases, sealing, strict=True)]
    begins = 0.3 if course == "starting" else -1.0
    ends = 2.2 if course == "released" else np.inf

    def torque(angle: float, speed: float, time: float) -> float:
        # Number by number: of so few, arrays take four times as long.
        gas = 0.0
        for phase, tight in cylinder:
            away = (angle - phase + 2 * math.pi) % (4 * math.pi) - 2 * math.pi
            if abs(away) < math.pi:
                volume = 0.12 + 0.5 * (1 - math.cos(away))
                gas += ((1.12 / volume) ** 1.32 - 1) * tight * 0.5 * math.sin(away)
        gas *= size
        starter = stall * max(0.0, 1 - speed / no_load) if begins <= time < ends else 0.0
        return starter + gas - friction * math.tanh(6 * speed)

    solved = solve_ivp(
        lambda time, state: (state[1], torque(state[0], state[1], time) / inertia),
        (-1.0 if course != "starting" else 0.0, seconds), (rng.uniform(0, 12), 18.0 if course != "starting" else 0.0),
        max_step=2e-3, rtol=1e-5, atol=1e-6, dense_output=True,
    )  # fmt: skip
    times = np.arange(0.0, seconds, 2e-4)
    return times, solved.sol(times)[0] / (2 * np.pi)


@dataclass
class Gap:
    """A wheel before a pole. Teeth are numbered from 1, behind the reference gap."""

    slots: int = 60
    gone: tuple[int, ...] = (59, 60)
    course: str = "cranking"
    cylinders: int = 4
    seed: int = 0
    samples_a_tooth: float = 24.0
    low_tooth: dict[int, float] = field(default_factory=dict)  #: tooth -> share of its height
    moved: dict[int, float] = field(default_factory=dict)  #: tooth -> pitches
    between: tuple[float, float] | None = None  #: something at (tooth + share), so many pitches wide
    runout: float = 0.0

    def __post_init__(self):
        self.rng = np.random.default_rng([self.seed, self.slots, 5])
        times, turns = turned(self.course, self.cylinders, self.seed)
        top = float(np.gradient(turns, times).max()) * self.slots
        self.sfreq = max(3000.0, top * self.samples_a_tooth)
        self.now = np.arange(0.0, times[-1], 1 / self.sfreq)
        self.turns = np.interp(self.now, times, turns)

    def rim(self) -> np.ndarray:
        """The rim's height over the turn, 0 in a gap to 1 on a tooth."""
        place = np.arange(FINE) / FINE * self.slots
        height = np.zeros(FINE)
        for tooth in range(1, self.slots + 1):
            if tooth not in self.gone:
                middle = tooth - 0.5 + self.moved.get(tooth, 0.0)
                height[np.abs(place - middle) < 0.24] = self.low_tooth.get(tooth, 1.0)
        if self.between is not None:
            height[np.abs(place - self.between[0]) < self.between[1] / 2] = 1.0
        return height

    def permeance(self) -> np.ndarray:
        """Flux through the pole over the turn: the reciprocal of the gap, seen by a pole of a third of a pitch."""
        reach = 1.0 / (1.0 + 2.2 * (1 - self.rim()) * (1 + self.runout * np.cos(np.arange(FINE) * 2 * np.pi / FINE)))
        return gaussian_filter1d(reach, 0.16 * FINE / self.slots, mode="wrap")

    def flux(self) -> np.ndarray:
        return np.interp((self.turns % 1.0) * FINE, np.arange(FINE), self.permeance(), period=FINE)

    def switched(self, low=0.13, high=4.93, noise=0.012) -> np.ndarray:
        flux = self.flux()
        bottom, top = np.quantile(self.permeance(), [0.05, 0.95])
        above, below = flux > bottom + 0.6 * (top - bottom), flux < bottom + 0.42 * (top - bottom)
        state = np.where(above, 1, np.where(below, 0, -1))
        known = np.maximum.accumulate(np.where(state >= 0, np.arange(len(state)), 0))
        on = state[known] == 1
        return np.where(on, low, high) + self.rng.normal(0, noise, len(on))

    def coil(self, volts: float = 1.6) -> np.ndarray:
        """Rises as a tooth comes and falls through zero at its middle."""
        emf = np.gradient(self.flux(), 1 / self.sfreq)
        emf *= volts / np.quantile(np.abs(emf), 0.98)
        ohm, henry, load = 870.0, 0.35, 22_000.0
        top, bottom = bilinear([load], [henry, ohm + load], self.sfreq)
        return lfilter(top, bottom, emf) + self.rng.normal(0, 0.006 * volts, len(emf))

    def read(self, *channels: tuple[str, np.ndarray, dict], state: str = "cranking"):
        rows = [{"column": name, **row} for name, _, row in channels]
        made = []
        for name, volts, _ in channels:
            step = 2.4 * float(np.abs(volts).max()) / 256
            made.append(Channel(name, (np.round(volts / step) * step).astype(np.float32)))
        table = {"engine": {"cylinders": self.cylinders}, "conditions": {"state": state}, "channel": rows}
        return Capture("gap.csv", self.sfreq, tuple(made)), Sheet.from_data(table)
