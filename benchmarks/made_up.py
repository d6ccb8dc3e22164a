"""Made-up captures for studies, drawn without regard to how the reader works.

The generator shares no code with `sagen.machine` or `sagen.signal`: speed is integrated step by step
from a torque-like ripple with uneven cylinders, the sensor is a comparator with hysteresis on a
smooth tooth profile, the recorder has an offset, a bandwidth and eight bits.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

WHEELS = ((60, 2), (36, 1), (36, 2), (48, 2), (24, 1), (30, 2), (54, 3), (58, 2), (12, 1), (90, 2))


@dataclass(frozen=True)
class MadeUp:
    """One drawn capture: samples (V), and what is true of it."""

    samples: np.ndarray
    sfreq: float
    slots: int
    missing: int
    cylinders: int
    pull_up: float
    state: str
    truth: str  #: the finding kind that should come out, "" for none
    tooth: int | None = None
    held: str | None = None
    mean_rpm: float = 0.0


def crank_angle(
    rng, seconds: float, rpm: float, cylinders: int, ripple: float, course: str
) -> tuple[np.ndarray, np.ndarray]:
    """Time (s) and angle (turns) on a fine grid, by stepping through the angle.

    `ripple` is how far the speed goes above and below its mean, as a share of it.
    """
    per_turn = 1440
    turns = np.arange(0, int(seconds * rpm / 60 * 2.2 + 4) * per_turn) / per_turn
    phase = rng.uniform(0, 1)
    strength = 1 + rng.normal(0, 0.06, cylinders)
    fire = (turns / 2 + phase) * cylinders
    which = np.floor(fire).astype(int) % cylinders
    within = fire % 1
    wave = np.cos(2 * np.pi * within) + 0.25 * np.cos(4 * np.pi * within + 0.6)
    speed = rpm / 60 * (1 + ripple * wave / 1.15 * strength[which])
    if course == "slowing":
        speed *= np.linspace(1.0, rng.uniform(0.35, 0.6), len(turns))
    elif course == "rising":
        speed *= np.linspace(1.0, rng.uniform(1.5, 2.2), len(turns))
    elif course == "from rest":
        speed *= np.sqrt(np.clip(turns / rng.uniform(0.4, 1.0), 1e-4, 1.0))
    kernel = np.hanning(41)
    speed = np.convolve(np.pad(speed, 20, mode="edge"), kernel / kernel.sum(), "valid")
    time = np.concatenate([[0.0], np.cumsum(1 / (per_turn * 0.5 * (speed[1:] + speed[:-1])))])
    return time, turns


def tooth_signal(angle: np.ndarray, slots: int, missing: int, duty: float, lost: tuple[int, ...]) -> np.ndarray:
    """A smooth profile, above 0 where a tooth stands before the sensor; tooth 1 follows the gap."""
    place = (angle % 1.0) * slots
    number = np.floor(place).astype(int) + 1
    profile = np.cos(2 * np.pi * (place % 1.0 - 0.5)) - np.cos(np.pi * duty)
    gone = np.isin(number, [*lost, *range(slots - missing + 1, slots + 1)])
    return np.where(gone, -1.0, profile)


def draw(kind: str, seed: int) -> MadeUp:
    """A capture of one kind, everything else drawn from `seed`."""
    rng = np.random.default_rng([seed, *kind.encode()])
    slots, missing = WHEELS[rng.integers(len(WHEELS))]
    if kind.startswith("lost") and missing == 1:
        slots, missing = 60, 2  # with one slot missing, a lost tooth and the gap are twins
    cylinders = int(rng.integers(3, 9))
    rpm = float(rng.uniform(130, 320))
    pull_up = float(rng.choice([5.0, 5.0, 8.0, 12.0]))
    course = {"slowing": "slowing", "rest": "from rest", "rising": "rising"}.get(kind.split()[-1], "steady")
    seconds = float(rng.uniform(1.6, 3.5))
    time, turns = crank_angle(rng, seconds + 1.5, rpm, cylinders, float(rng.uniform(0.05, 0.25)), course)
    teeth = slots - missing
    third = {"first": (2, teeth // 3), "last": (2 * teeth // 3, teeth - 1)}.get(
        kind.split()[1] if " " in kind else "", (2, teeth - 1)
    )
    lost = (int(rng.integers(*third, endpoint=True)),) if kind.startswith("lost") else ()
    top = slots * rpm / 60 * 2
    sfreq = float(np.clip(top * rng.choice([6, 10, 25, 80]) * 2, 3_000, 200_000))
    start = float(rng.uniform(0, 0.3)) if course != "from rest" else 0.0
    grid = start + np.arange(int(seconds * sfreq)) / sfreq
    angle = np.interp(grid, time, turns) + (float(rng.uniform(0, 1)) if course != "from rest" else 0.0)
    inside = tooth_signal(angle, slots, missing, float(rng.uniform(0.3, 0.7)), lost) > 0
    low, high, held = _levels(kind, rng, pull_up)
    if course == "from rest":
        # The engine stands for a while before the starter bites.
        still = int(rng.uniform(0.1, 0.4) * sfreq)
        inside = np.concatenate([np.full(still, inside[0]), inside])
    volts = np.full(len(inside), low if held == "low" else high) if held else np.where(inside, low, high)
    if held == "middle":
        volts = np.full(len(inside), rng.uniform(0.3, 0.6) * pull_up)
    lag = 1 - np.exp(-1 / (sfreq * rng.uniform(2e-6, 25e-6)))
    volts = _slow(volts, lag)
    volts = volts + rng.normal(0, rng.uniform(0.002, 0.02) * pull_up, len(volts)) + rng.normal(0, 0.02)
    step = pull_up * 2 / 256 if rng.random() < 0.5 else 0.0
    if step:
        volts = np.round(volts / step) * step
    truth = {"lost": "extra_gap", "quarter": "high_not_reached", "lifted": "low_not_pulled_down", "flat": "no_signal"}
    return MadeUp(
        volts.astype(np.float32), sfreq, slots, missing, cylinders, pull_up, "cranking",
        truth.get(kind.split()[0], ""), lost[0] if lost else None, held, rpm,
    )  # fmt: skip


def _levels(kind: str, rng, pull_up: float) -> tuple[float, float, str | None]:
    low, high = float(rng.uniform(0.02, 0.45)), pull_up * float(rng.uniform(0.95, 1.0))
    if kind.startswith("quarter"):
        high = pull_up * float(rng.uniform(0.15, 0.5))
        low = min(low, 0.1 * high)
    elif kind.startswith("lifted"):
        low = pull_up * float(rng.uniform(0.35, 0.8))
    elif kind.startswith("flat"):
        return low, high, kind.split()[1]
    return low, high, None


def _slow(volts: np.ndarray, lag: float) -> np.ndarray:
    """A first-order lag, written as a short convolution."""
    length = int(np.clip(6 / lag, 1, 200))
    kernel = lag * (1 - lag) ** np.arange(length)
    return np.convolve(np.pad(volts, (length - 1, 0), mode="edge"), kernel / kernel.sum(), "valid")


KINDS = (
    "sound", "sound slowing", "sound rest", "sound rising",
    "lost", "lost first", "lost last", "lost any slowing", "lost any rest", "lost any rising",
    "quarter", "quarter slowing", "lifted", "lifted slowing", "flat high", "flat low", "flat middle",
)  # fmt: skip
Drawn = Callable[[str, int], MadeUp]
