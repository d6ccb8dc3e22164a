"""Captures as real recorders give them: sound circuits under nasty but normal conditions, and faults among them.

The third hand of the studies. It shares no code with `sagen.machine`, `sagen.signal` or `benchmarks.made_up`: shafts are
turned by torques (starter, friction, a cylinder's pressure over its slider-crank volume, polytropic, and combustion),
integrated step by step; a coil is the slope of a flux in time; an output rises with its own time constant; a recorder
has a range, bits, a rate, a probe and now and then a hole. A kind is a row of `KINDS`.

What the pictures mean is common practice, no published source; all sizes are drawn.
"""

from __future__ import annotations

import itertools
import os
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

import numpy as np
from scipy.signal import butter, lfilter

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet

STEP_S = 2.5e-4
LONGEST_S = 4.5
AT_ONCE = 24  #: shafts integrated together
VERSION = 1  #: of how they are turned

WHEELS = ((60, 2), (60, 2), (36, 1), (36, 2), (58, 2), (24, 1), (30, 2), (48, 2), (40, 1), (12, 1))
FINE = ((60, 2), (36, 1), (36, 2), (58, 2), (48, 2))
COARSE = ((12, 1), (24, 1), (30, 2), (20, 1), (18, 1))
#: slots left out, the reference gap last
SEVERAL = {
    "36-2-2-2": "36: 14-15, 17-18, 35-36",
    "60-2-2": "60: 19-20, 59-60",
    "36-1-2": "36: 12, 35-36",
}


@dataclass
class Shaft:
    """A shaft's turns (1 a revolution) at even steps of time."""

    turns: np.ndarray
    cylinders: int
    speed: np.ndarray  #: turns a second

    def at(self, times: np.ndarray) -> np.ndarray:
        return np.interp(times, np.arange(len(self.turns)) * STEP_S, self.turns)


@cache
def _pool(course: str, batch: int) -> tuple[Shaft, ...]:
    """Many shafts, kept beside the system's temporary files once they were turned."""
    kept = Path(tempfile.gettempdir()) / f"sagen-field-{VERSION}-{course.replace(' ', '-')}-{batch}.npz"
    if not kept.exists():
        one = kept.with_suffix(f".{os.getpid()}.npz")
        np.savez(one, *_turned(course, batch))
        one.rename(kept)
    with np.load(kept) as data:
        turns, speed, cylinders = (data[name] for name in data.files)
    return tuple(Shaft(turns[i], int(cylinders[i]), speed[i]) for i in range(AT_ONCE))


def _turned(course: str, batch: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Many shafts turned at once: turns, turns a second, cylinders. Torques in newton metres, angles in radians over the
    cycle of two turns."""
    rng = np.random.default_rng([batch, *course.encode()])
    n = AT_ONCE
    cylinders = rng.choice([3, 4, 4, 5, 6, 8], n)
    steps = int(LONGEST_S / STEP_S)
    lead = int(1.2 / STEP_S) if course in ("cranking", "weak cylinder", "running", "low battery") else 0
    inertia = rng.uniform(0.12, 0.3, n)
    friction = rng.uniform(18, 42, n)
    idle = rng.uniform(170, 270, n) * np.pi / 30
    ratio = rng.uniform(8.5, 11.5, n)
    litres = rng.uniform(0.25, 0.5, n)  # a cylinder
    exponent = rng.uniform(1.25, 1.35, n)
    rod = rng.uniform(0.25, 0.33, n)
    seal = rng.uniform(0.85, 1.0, (n, 8)) * (np.arange(8) < cylinders[:, None])
    if course == "weak cylinder":
        seal[np.arange(n), rng.integers(0, cylinders)] *= rng.uniform(0.15, 0.5, n)
    top = np.arange(8) * 4 * np.pi / cylinders[:, None]
    angle = rng.uniform(0, 4 * np.pi, n)
    speed = np.zeros(n)
    torque = rng.uniform(1.6, 2.4, n) * (friction + 45)
    if course == "low battery":
        torque *= 0.88
    starts = rng.uniform(0.15, 0.5, n)
    ends = rng.uniform(1.6, 2.7, n)
    again = ends + rng.uniform(0.5, 1.1, n)
    target = rng.uniform(700, 3200, n) * np.pi / 30
    if course == "running":
        speed[:] = target
    catches = rng.uniform(1.2, 2.0, n)
    dies = catches + rng.uniform(0.25, 0.6, n)
    turned, rates = np.empty((steps, n)), np.empty((steps, n))
    for k in range(-lead, steps):
        t = k * STEP_S
        away = (angle[:, None] - top) % (4 * np.pi)
        away = np.where(away > 2 * np.pi, away - 4 * np.pi, away)
        sine, cosine = np.sin(away), np.cos(away)
        lean = np.sqrt(1 - (rod[:, None] * sine) ** 2)
        volume = 1 / (ratio[:, None] - 1) + 0.5 * (1 - cosine + (1 - lean) / rod[:, None])
        swept = 0.5 * (sine + rod[:, None] * sine * cosine / lean)  # dV/dangle, in swept volumes
        closed = np.abs(away) < np.pi * 0.92
        full = 1 / (ratio[:, None] - 1) + 1.0
        pressure = 1.0e5 * ((full / volume) ** exponent[:, None] - 1) * seal
        # What leaks past the rings is missing on the way down.
        pressure = np.where(away > 0, 0.93 * pressure, pressure) * closed
        gas = (pressure * swept).sum(axis=1) * litres * 1e-3
        drive = np.zeros(n)
        fires = np.zeros(n, bool)
        if course == "running":
            fires[:] = True
        if course in ("catches", "catches and dies"):
            fires = (t > catches) & ((course == "catches") | (t < dies))
        if fires.any():
            wanted = target if course == "running" else 900 * np.pi / 30
            load = np.clip(1.0 + 3.0 * (wanted - speed) / wanted, 0.0, 2.5)
            burn = np.where((away > 0) & closed, (full / volume) ** 1.3, 0.0) * seal
            drive += fires * 1.0e5 * 0.9 * load * (burn * swept).sum(axis=1) * litres * 1e-3
        starter = np.clip(torque * (1 - 0.62 * speed / idle), 0, None)
        if course in ("cranking", "weak cylinder", "low battery"):
            on = np.ones(n, bool)
        elif course == "from rest":
            on = t > starts
        elif course == "released":
            on = (t > starts) & (t < ends)
        elif course == "stop and go":
            on = ((t > starts) & (t < ends)) | (t > again)
        elif course in ("catches", "catches and dies"):
            on = (t > starts) & (t < catches + 0.15)
        else:
            on = np.zeros(n, bool)
        drag = friction * (np.tanh(speed / 0.15) + 0.1 * speed / idle)
        total = on * starter + gas + drive - drag
        stuck = (np.abs(speed) < 0.05) & (np.abs(on * starter + gas) < friction)
        speed = np.where(stuck, 0.0, speed + STEP_S * total / inertia)
        angle = angle + STEP_S * speed
        if k >= 0:
            turned[k], rates[k] = angle, speed
    return turned.T / (2 * np.pi), rates.T / (2 * np.pi), cylinders


def shaft(course: str, seed: int) -> Shaft:
    return _pool(course, seed // AT_ONCE)[seed % AT_ONCE]


@cache
def _rollers(batch: int) -> tuple[Shaft, ...]:
    """Road wheels: pulled away, held, slowed, and stopped in half of them."""
    rng = np.random.default_rng([batch, 4711])
    t = np.arange(int(LONGEST_S / STEP_S)) * STEP_S
    out = []
    for k in range(AT_ONCE):
        knots = np.sort(rng.uniform(0, LONGEST_S, 4))
        levels = rng.uniform(1.0, 9.0, 4)
        if k % 2:
            levels[rng.integers(4)] = 0.0
        speed = np.interp(t, knots, levels)
        soft = np.hanning(1201)
        speed = np.convolve(np.pad(speed, 600, mode="edge"), soft / soft.sum(), "valid")
        out.append(Shaft(rng.uniform(0, 1) + np.cumsum(speed) * STEP_S, 4, speed))
    return tuple(out)


@dataclass
class Row:
    """What passes a sensor in one turn: windows in degrees of its own shaft, [begin, end), and their heights."""

    begin: np.ndarray
    end: np.ndarray
    tall: np.ndarray

    @classmethod
    def toothed(cls, slots: int, gone: tuple[int, ...], duty: float = 0.5) -> Row:
        number = np.array([n for n in range(1, slots + 1) if n not in gone])
        pitch = 360.0 / slots
        middle = (number - 1) * pitch + 0.5 * pitch
        half = 0.5 * duty * pitch
        return cls(middle - half, middle + half, np.ones(len(number)))

    @property
    def middle(self) -> np.ndarray:
        return 0.5 * (self.begin + self.end)

    def at(self, turns: np.ndarray) -> np.ndarray:
        """Whether a tooth stands before the sensor, by sample."""
        degrees = (turns % 1.0) * 360.0
        order = np.argsort(self.begin)
        begin, end = self.begin[order], self.end[order]
        place = np.searchsorted(begin, degrees, "right") - 1
        there = (place >= 0) & (degrees < end[np.maximum(place, 0)])
        over = degrees + 360.0 < end[-1]
        return there | over

    def flux(self, turns: np.ndarray, turn_tall: np.ndarray | None = None) -> np.ndarray:
        """The flux of a coil: a soft hump a tooth, in proportion to its height."""
        grid = np.arange(7200) / 20.0
        pitch = float(np.median(np.diff(np.sort(self.middle)))) if len(self.middle) > 2 else 30.0
        wide = 0.27 * min(pitch, 40.0)
        flux = np.zeros(len(grid))
        for middle, tall in zip(self.middle, self.tall, strict=True):
            away = (grid - middle + 180.0) % 360.0 - 180.0
            flux += tall * np.exp(-0.5 * (away / wide) ** 2)
        return np.interp((turns % 1.0) * 360.0, grid, flux, period=360.0)


@dataclass
class Bench:
    """One capture in the making."""

    rng: np.random.Generator
    shaft: Shaft
    seconds: float = 4.0
    sfreq: float = 20_000.0
    state: str = "cranking"
    columns: list[tuple[str, np.ndarray, dict]] = field(default_factory=list)
    bits: int = 8
    range_v: float | None = None  #: full scale of every voltage channel; None: each its own
    drift: np.ndarray | None = None  #: the battery, V, by sample

    def __post_init__(self):
        self.now = np.arange(int(self.seconds * self.sfreq)) / self.sfreq
        self.turns = self.shaft.at(self.now)
        self.rate = np.interp(self.now, np.arange(len(self.shaft.speed)) * STEP_S, self.shaft.speed)

    # sensors ----------------------------------------------------------------------------------

    def battery(self) -> np.ndarray:
        """12.5 V, down under the starter and more so in each compression."""
        heavy = np.clip(1.4 - self.rate / 4.0, 0.3, 1.6)
        turning = np.abs(self.rate) > 0.05
        sag = 1.6 * heavy * turning
        soft = np.exp(-np.arange(int(0.05 * self.sfreq) + 1) / (0.012 * self.sfreq))
        return 12.5 - np.convolve(sag, soft / soft.sum())[: len(sag)]

    def switched(self, on: np.ndarray, *, low=0.15, high=4.95, rise_s=2e-6, fall_s=5e-7, noise=0.015) -> np.ndarray:
        """An open output under a pull-up: falls at once, rises with its time constant. `high` may vary."""
        high = np.broadcast_to(np.asarray(high, float), on.shape)
        target = np.where(on, low, high)
        if max(rise_s, fall_s) * self.sfreq > 0.05:
            target = _lagged(on, target, rise_s * self.sfreq, fall_s * self.sfreq)
        return target + self.rng.normal(0, noise, len(on))

    def coil(self, row: Row, volts: float = 2.0, runout: float = 0.0, ratio: float = 1.0) -> np.ndarray:
        """The rate of change of the flux, `volts` of peak at 200 teeth a second; without noise."""
        fine = 4
        times = (np.arange(len(self.now) * fine) - (fine - 1) / 2) / (self.sfreq * fine)
        turns = self.shaft.at(np.clip(times, 0, None)) * ratio
        flux = row.flux(turns)
        if runout:
            flux *= 1 + runout * np.cos(2 * np.pi * turns)
        slope = np.gradient(flux, times)
        slope = slope.reshape(-1, fine).mean(axis=1)
        # peak slope of one hump: 0.607 / width; width 0.27 pitches; passing at 200 pitches a second
        return volts * slope / (0.607 / 0.27 * 200.0)

    # what is done to it -----------------------------------------------------------------------

    def hum(self, volts: float) -> np.ndarray:
        return volts * np.sin(2 * np.pi * 50 * self.now + self.rng.uniform(0, 6))

    def spikes(self, volts: float, a_second: float) -> np.ndarray:
        out = np.zeros(len(self.now))
        for _ in range(self.rng.poisson(a_second * self.seconds)):
            at = self.rng.integers(0, len(out))
            long = max(2, int(self.rng.uniform(4e-5, 1.5e-4) * self.sfreq))
            ring = np.exp(-np.arange(long) / (0.4 * long)) * np.cos(1.2 * np.arange(long))
            out[at : at + long] += (self.rng.choice([-1, 1]) * volts * ring)[: len(out) - at]
        return out

    def add(self, name: str, volts: np.ndarray, **row) -> None:
        self.columns.append((name, volts, row))

    def crank(self, volts: np.ndarray, wheel: str | None, sensor: str = "hall", **row) -> None:
        if sensor == "hall":
            row = {"pull_up": 5.0, **row}
        if sensor == "reluctance":
            row = {"polarity": "falling", **row}
        if wheel:
            row["wheel"] = wheel
        self.add(
            "CH1",
            volts,
            role=row.pop("role", "crank"),
            sensor=sensor,
            **{k: v for k, v in row.items() if v is not None},
        )

    # the recorder -----------------------------------------------------------------------------

    def made(self) -> tuple[Capture, Sheet]:
        channels, rows = [], []
        for name, volts, row in self.columns:
            volts = self.recorded(volts)
            channels.append(Channel(name, volts.astype(np.float32)))
            rows.append({"column": name, **row})
        table = {
            "engine": {"cylinders": self.shaft.cylinders},
            "conditions": {"state": self.state}, "channel": rows,
        }  # fmt: skip
        if self.state == "rolling":
            del table["engine"]
        return Capture("field.csv", self.sfreq, tuple(channels)), Sheet.from_data(table)

    def recorded(self, volts: np.ndarray) -> np.ndarray:
        if not self.bits:
            return volts
        full = self.range_v or _next_range(float(np.abs(volts).max()))
        step = 2 * full / 2**self.bits
        return np.clip(np.round(volts / step) * step, -full, full - step)


def _next_range(volts: float) -> float:
    steps = (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0)
    return next((step for step in steps if step >= 1.04 * volts), 400.0)


def _lagged(on: np.ndarray, target: np.ndarray, rise: float, fall: float) -> np.ndarray:
    """First-order steps whose time constants (samples) differ with the direction."""
    out = np.empty(len(target))
    borders = np.concatenate([[0], np.flatnonzero(np.diff(on.astype(np.int8))) + 1, [len(on)]])
    now = target[0]
    for first, last in itertools.pairwise(borders):
        tau = max(fall if on[first] else rise, 1e-3)
        way = np.exp(-np.arange(1, last - first + 1) / tau)
        goal = target[first:last]
        out[first:last] = goal + (now - goal) * way
        now = out[last - 1]
    return out


# what a capture should give --------------------------------------------------------------------------


@dataclass(frozen=True)
class Told:
    """A capture, and what a technician would want said of it.

    `wanted` are findings of which one each must be there (kind -> fields with a value or (value, tolerance));
    `allowed` may stand beside them; `causes` are those of which the first suspect must be one.
    """

    capture: Capture
    sheet: Sheet
    wanted: tuple[tuple[str, dict], ...] = ()
    allowed: tuple[str, ...] = ()
    causes: tuple[str, ...] = ("none",)  #: none given: whom it makes suspect is not asked
    named: str = ""  #: what its wheel must be called
    note: str = ""  #: words that a note of the examination must hold
    reference: tuple[Capture, Sheet] | None = None  #: a known-good capture


def _bench(seed: int, kind: str, course: str = "cranking", wheels=WHEELS, **given) -> tuple[Bench, int, int]:
    rng = np.random.default_rng([seed, *kind.encode()])
    # Seeds from 1000 on are of shafts that no other seed has.
    first = 2 * (seed // 1000) * AT_ONCE
    while True:  # one that the starter turns
        one = shaft(course, first + int(rng.integers(0, 2 * AT_ONCE)))
        if np.ptp(one.turns) > 4.0:
            break
    slots, missing = wheels[rng.integers(len(wheels))]
    top = float(np.abs(one.speed).max()) * slots
    per_tooth = float(rng.choice([14, 20, 40, 80]))
    usual = {"sfreq": float(np.clip(top * per_tooth, 4_000, 200_000)), "bits": int(rng.choice([8, 8, 10, 12]))}
    return Bench(rng, one, **(usual | given)), slots, missing


def _gone(slots: int, missing: int) -> tuple[int, ...]:
    return tuple(range(slots - missing + 1, slots + 1))


def _name(slots: int, missing: int) -> str:
    return f"{slots}-{missing}" if missing else str(slots)


def _hall(b: Bench, slots: int, missing: int, *, lost=(), duty=None, **more) -> np.ndarray:
    row = Row.toothed(slots, (*lost, *_gone(slots, missing)), duty or float(b.rng.uniform(0.38, 0.62)))
    return b.switched(row.at(b.turns), **more)


# sound ---------------------------------------------------------------------------------------------------


def _sound_hall(course: str, wheels=WHEELS, declared=True, **given):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course, wheels, **given)
        b.crank(_hall(b, slots, missing), _name(slots, missing) if declared else None)
        return Told(*b.made())

    return kind


def _sound_coil(
    course: str, wheels=WHEELS, per_tooth: float | None = None, hum=0.0, declared=True, range_v=None, state="cranking"
):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course, wheels)
        if per_tooth:
            top = float(np.abs(b.shaft.speed).max()) * slots
            b = Bench(b.rng, b.shaft, b.seconds, top * per_tooth * float(b.rng.uniform(1.0, 1.5)), bits=b.bits)
        b.state = state
        gain = float(b.rng.uniform(1.2, 5.0))
        volts = b.coil(Row.toothed(slots, _gone(slots, missing)), gain)
        volts = volts + b.rng.normal(0, 0.004 * np.abs(volts).max(), len(volts))
        if hum:
            volts = volts + b.hum(hum * np.abs(volts).max())
        b.range_v = range_v and range_v * float(np.abs(volts).max())
        b.crank(volts, _name(slots, missing) if declared else None, "reluctance")
        return Told(*b.made())

    return kind


def _battery_pull_up(course: str):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course)
        b.crank(_hall(b, slots, missing, high=b.battery() - 0.15), _name(slots, missing), pull_up=12.0)
        return Told(*b.made())

    return kind


def _probe(how: str):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE)
        volts = _hall(b, slots, missing)
        note = {"ac": "AC coupling", "mean off": "AC coupling", "x10": "probe factor", "crossed": "crossed"}[how]
        if how == "ac":
            volts = lfilter(*butter(1, float(b.rng.uniform(0.5, 4.0)) / (b.sfreq / 2), "high"), volts - volts.mean())
        elif how == "mean off":
            volts = volts - volts.mean()
        elif how == "x10":
            volts = 10.0 * volts
        else:
            volts = -volts
        b.crank(volts, _name(slots, missing))
        return Told(*b.made(), note=note)

    return kind


def _tenth_of_range(sensor: str):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE, bits=8)
        if sensor == "hall":
            b.range_v = 50.0
            b.crank(_hall(b, slots, missing), _name(slots, missing))
        else:
            volts = b.coil(Row.toothed(slots, _gone(slots, missing)), float(b.rng.uniform(1.5, 4.0)))
            b.range_v = 10.0 * float(np.abs(volts).max())
            b.crank(volts + b.rng.normal(0, 0.02, len(volts)), _name(slots, missing), "reluctance")
        return Told(*b.made())

    return kind


def _disturbed_hall(what: str):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "running" if what == "alternator" else "cranking", FINE)
        volts = _hall(b, slots, missing)
        if what == "hum":
            volts = volts + b.hum(0.25)
        elif what == "spikes":
            volts = volts + b.spikes(1.0, 12.0)
        else:
            b.state = "running"
            phase = 2 * np.pi * np.cumsum(b.rate) / b.sfreq * 2.6 * 6
            volts = volts + 0.18 * np.abs(np.sin(phase)) - 0.09
        b.crank(volts, _name(slots, missing))
        return Told(*b.made())

    return kind


def _table(
    b: Bench, spoil: Callable[[Bench, np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]], wheel: str
) -> tuple[Capture, Sheet]:
    """Through a text table whose time column is not even."""
    from sagen.files import read_capture

    capture, sheet = b.made()
    table = np.column_stack([channel.raw for channel in capture.channels])
    times, table = spoil(b, b.now.copy(), table)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "field.csv"
        names = ",".join(["Time (s)", *(f"{channel.column} (V)" for channel in capture.channels)])
        np.savetxt(path, np.column_stack([times, table]), "%.8g", ",", header=names, comments="")
        return read_capture(path), sheet


def _hole(b, times, table):
    start = int(b.rng.uniform(0.3, 0.6) * len(times))
    lost = int(b.rng.uniform(0.02, 0.3) * b.sfreq)
    keep = np.ones(len(times), bool)
    keep[start : start + lost] = False
    return times[keep], table[keep]


def _two_holes(b, times, table):
    for _ in range(2):
        start = int(b.rng.uniform(0.15, 0.8) * len(times))
        lost = int(b.rng.uniform(0.01, 0.15) * b.sfreq)
        times = np.delete(times, slice(start, start + lost))
        table = np.delete(table, slice(start, start + lost), axis=0)
    return times, table


def _doubled(b, times, table):
    at = np.sort(b.rng.choice(len(times), 40, replace=False))
    return np.insert(times, at, times[at]), np.insert(table, at, table[at], axis=0)


def _jittering(b, times, table):
    return times + b.rng.uniform(-0.3, 0.3, len(times)) / b.sfreq, table


def _badly_timed(spoil):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE)
        b.sfreq = min(b.sfreq, 25_000.0)
        b.__post_init__()
        b.crank(_hall(b, slots, missing), _name(slots, missing))
        return Told(*_table(b, spoil, _name(slots, missing)))

    return kind


def _speed(course_stops: bool, sensor: str, lost: bool = False, bent: bool = False):
    def kind(seed: int, name: str) -> Told:
        rng = np.random.default_rng([seed, *name.encode()])
        one = _rollers(seed // 1000)[int(rng.integers(0, AT_ONCE // 2)) * 2 + int(course_stops)]
        slots = int(rng.choice([29, 43, 44, 48, 52]))
        top = float(one.speed.max()) * slots
        b = Bench(rng, one, 4.0, float(np.clip(top * rng.choice([16, 30, 60]), 4000, 1e5)), "rolling")
        row = Row.toothed(slots, (int(rng.integers(3, slots)),) if lost else ())
        if bent:
            at = int(rng.integers(3, slots - 3))
            by = float(rng.choice([-1, 1]) * rng.uniform(0.18, 0.28)) * 360 / slots
            row.begin[at] += by
            row.end[at] += by
        if sensor == "reluctance":
            volts = b.coil(row, float(rng.uniform(0.8, 3.0)))
            b.crank(volts + rng.normal(0, 0.004, len(volts)), str(slots), "reluctance", role="speed")
        elif sensor == "current":
            b.crank(
                b.switched(row.at(b.turns), low=1.4, high=0.7, noise=0.006),
                str(slots),
                "current",
                role="speed",
                shunt_ohm=100.0,
            )
        else:
            b.crank(b.switched(row.at(b.turns)), str(slots), role="speed")
        if lost:
            return Told(*b.made(), wanted=(("extra_gap", {}),), causes=("reluctor",))
        if bent:
            return Told(*b.made(), wanted=(("odd_tooth", {}),), causes=("reluctor",))
        # What hardly turned is too short to judge.
        return Told(*b.made(), allowed=("too_short",))

    return kind


WINDOWS = (
    ((12, 70), (180, 210), (250, 330)), ((5, 95), (125, 160), (215, 310)),
    ((20, 50), (80, 140), (200, 215), (260, 340)), ((0, 170),),
)  # fmt: skip


def _cam_row(rng) -> Row:
    windows = np.array(WINDOWS[rng.integers(3)], float)
    return Row(windows[:, 0], windows[:, 1], np.ones(len(windows)))


def _with_cam(course: str, swapped=False, state="cranking"):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course, FINE, state=state)
        crank = _hall(b, slots, missing)
        row = _cam_row(b.rng)
        cam = b.switched(row.at(b.turns / 2 + b.rng.uniform()), low=0.2)
        if swapped:
            crank, cam = cam, crank
        b.crank(crank, _name(slots, missing))
        b.add("CH2", cam, role="cam", sensor="hall", pull_up=5.0)
        return Told(*b.made(), note="other way round" if swapped else "")

    return kind


def _cam_alone(lost: bool, declared=True):
    """A toothed cam wheel: 24 even teeth but for one gap, or a few like windows."""

    def kind(seed: int, name: str) -> Told:
        b, _, _ = _bench(seed, name, "cranking", FINE)
        slots, missing = ((24, 1), (12, 1), (36, 1), (18, 2))[b.rng.integers(4)]
        gone = _gone(slots, missing)
        at = int(b.rng.integers(3, slots - missing - 2))
        row = Row.toothed(slots, (at, *gone) if lost else gone)
        cam = b.switched(row.at(b.turns / 2))
        crank = _hall(b, 60, 2)
        b.crank(crank, "60-2")
        b.add(
            "CH2", cam, role="cam", sensor="hall", pull_up=5.0, **({"wheel": _name(slots, missing)} if declared else {})
        )
        if lost:
            return Told(
                *b.made(),
                wanted=(("extra_gap", {"channel": "CH2"}),),
                allowed=("timing_scatter",),
                causes=("reluctor",),
            )
        return Told(*b.made())

    return kind


# faulty ---------------------------------------------------------------------------------------------------


def _lost_tooth(course: str, sensor="hall", wheels=FINE, declared=True):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course, wheels)
        at = int(b.rng.integers(4, slots - missing - 3))
        if 2 * at == slots:
            at += 1
        if sensor == "hall":
            volts = _hall(b, slots, missing, lost=(at,))
        else:
            volts = b.coil(Row.toothed(slots, (at, *_gone(slots, missing))), float(b.rng.uniform(1.2, 4.0)))
            volts = volts + b.rng.normal(0, 0.01, len(volts))
        b.crank(volts, _name(slots, missing) if declared else None, sensor)
        other = slots - at
        fields = {"tooth": at} if missing > 1 else {"tooth": {at, other}}
        return Told(*b.made(), wanted=(("extra_gap", fields),), causes=("reluctor",))

    return kind


def _several(lost: bool, declared: bool):
    def kind(seed: int, name: str) -> Told:
        b, _, _ = _bench(seed, name, "cranking", FINE)
        label = list(SEVERAL)[b.rng.integers(len(SEVERAL))] if declared else "36-2-2-2"
        form = SEVERAL[label]
        from sagen.model.wheel import Wheel

        wheel = Wheel.parse(form)
        gone = (*wheel.others, *range(wheel.slots - wheel.missing + 1, wheel.slots + 1))
        free = [n for n in range(3, wheel.slots - 4) if not {n - 2, n - 1, n, n + 1, n + 2} & set(gone)]
        at = int(b.rng.choice(free))
        row = Row.toothed(wheel.slots, (*gone, at) if lost else gone)
        b.crank(b.switched(row.at(b.turns)), form if declared else None)
        if not lost:
            return Told(*b.made(), named=label if not declared and label == "36-2-2-2" else "")
        numbers = {at, (at + 19) % 60 + 1, (at + 39) % 60 + 1} if label == "60-2-2" else {at}
        return Told(*b.made(), wanted=(("extra_gap", {"tooth": numbers}),), causes=("reluctor",))

    return kind


def _swarf(seed: int, name: str) -> Told:
    """Something between two teeth: one space in two halves each turn."""
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    at = int(b.rng.integers(4, slots - missing - 3))
    row = Row.toothed(slots, _gone(slots, missing), 0.45)
    pitch = 360 / slots
    wide = float(b.rng.uniform(0.12, 0.22)) * pitch
    middle = (at + float(b.rng.uniform(-0.1, 0.1))) * pitch
    row = Row(
        np.append(row.begin, middle - wide / 2), np.append(row.end, middle + wide / 2), np.ones(len(row.begin) + 1)
    )
    b.crank(b.switched(row.at(b.turns)), _name(slots, missing))
    return Told(*b.made(), wanted=(("odd_tooth", {"tooth": {at, at + 1}}),), causes=("reluctor",))


def _slipped(seed: int, name: str) -> Told:
    """A pressed-on ring that is split: all teeth there, one space 1.3 to 1.6 pitches."""
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    at = int(b.rng.integers(6, slots - missing - 5))
    extra = float(b.rng.uniform(0.3, 0.6))
    row = Row.toothed(slots, _gone(slots, missing))
    middle = row.middle
    squeeze = (360.0 - extra * 360 / slots) / 360.0
    shift = np.where(np.arange(len(middle)) >= at, extra * 360 / slots, 0.0)
    begin, end = row.begin * squeeze + shift, row.end * squeeze + shift
    b.crank(b.switched(Row(begin, end, row.tall).at(b.turns)), _name(slots, missing))
    return Told(*b.made(), wanted=(("odd_tooth", {"tooth": {at, at + 1, at + 2}}),), causes=("reluctor",))


def _bent(sensor: str, wheels=FINE, seconds=4.0):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", wheels, seconds=seconds)
        at = int(b.rng.integers(4, slots - missing - 3))
        row = Row.toothed(slots, _gone(slots, missing))
        by = float(b.rng.choice([-1, 1]) * b.rng.uniform(0.16, 0.28)) * 360 / slots
        row.begin[at - 1] += by
        row.end[at - 1] += by
        if sensor == "hall":
            volts = b.switched(row.at(b.turns))
        else:
            volts = b.coil(row, float(b.rng.uniform(1.2, 4.0)))
            volts = volts + b.rng.normal(0, 0.01, len(volts))
        b.crank(volts, _name(slots, missing), sensor)
        return Told(*b.made(), wanted=(("odd_tooth", {"tooth": at}),), causes=("reluctor",))

    return kind


def _chipped_coil(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    at = int(b.rng.integers(4, slots - missing - 3))
    row = Row.toothed(slots, _gone(slots, missing))
    row.tall[at - 1] = float(b.rng.uniform(0.35, 0.65))
    volts = b.coil(row, float(b.rng.uniform(1.2, 4.0)))
    b.crank(volts + b.rng.normal(0, 0.01, len(volts)), _name(slots, missing), "reluctance")
    return Told(*b.made(), wanted=(("odd_tooth", {"tooth": at}),), causes=("reluctor",))


def _slow_rise(course="running"):
    """A pull-up so weak, or a line so loaded, that the high is reached only in the gap."""

    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(
            seed, name, course, ((60, 2), (36, 2), (58, 2)), state="running" if course == "running" else "cranking"
        )
        pitch_s = 1 / (slots * float(np.median(b.rate[b.rate > 0.2])))
        row = Row.toothed(slots, _gone(slots, missing), 0.5)
        volts = b.switched(row.at(b.turns), rise_s=float(b.rng.uniform(0.6, 1.6)) * 0.5 * pitch_s)
        b.crank(volts, _name(slots, missing))
        return Told(*b.made(), wanted=(("high_not_reached", {}),), allowed=("noise",), causes=("wiring", "module"))

    return kind


def _lost_for_a_while(sensor: str, course: str = "cranking", hum: bool = False):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, course, FINE, state="running" if course == "running" else "cranking")
        start = float(b.rng.uniform(1.0, 2.2))
        end = start + float(b.rng.uniform(0.15, 0.6))
        off = (b.now >= start) & (b.now < end)
        if sensor == "hall":
            volts = np.where(off, 4.95, _hall(b, slots, missing))
        else:
            volts = b.coil(Row.toothed(slots, _gone(slots, missing)), float(b.rng.uniform(1.2, 4.0)))
            volts = np.where(off, 0.0, volts) + b.rng.normal(0, 0.01, len(volts))
            if hum:
                volts = volts + b.hum(0.012 * np.abs(volts).max())
        b.crank(volts, _name(slots, missing), sensor)
        pitch = 1 / (slots * max(float(np.median(b.rate[b.rate > 0.3])), 1.0))
        return Told(
            *b.made(), wanted=(("dropout", {"start_s": (start, 8 * pitch), "end_s": (end, 8 * pitch)}),),
            causes=("sensor", "wiring"),
        )  # fmt: skip

    return kind


def _cracked_tip(seed: int, name: str) -> Told:
    """Missed teeth and short double pulses, a few per cent each, anywhere on the wheel."""
    b, slots, missing = _bench(seed, name, "cranking", FINE, sfreq=50_000.0)
    on = Row.toothed(slots, _gone(slots, missing), 0.5).at(b.turns)
    edges = np.flatnonzero(np.diff(on.astype(np.int8)))
    starts, ends = edges[on[edges + 1]], edges[~on[edges + 1]]
    for start in starts:
        after = ends[ends > start]
        if not len(after):
            break
        draw = b.rng.random()
        long = int(after[0] - start)
        if draw < 0.05:
            on[start : after[0] + 1] = False
        elif draw < 0.10:
            at = start + int(long * b.rng.uniform(0.3, 0.6))
            on[at : at + max(2, int(long * b.rng.uniform(0.08, 0.18)))] = False
    b.crank(b.switched(on), _name(slots, missing))
    return Told(
        *b.made(), wanted=(("erratic", {}),), allowed=("noise",), causes=("sensor", "air_gap"),
    )  # fmt: skip


def _wide_gap(seed: int, name: str) -> Told:
    """A gap so wide that the lower teeth are missed now and then and edges wander."""
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    turns = int(b.turns[-1] - b.turns[0]) + 3
    base = np.floor(b.turns[0])
    row = Row.toothed(slots, _gone(slots, missing), 0.5)
    begin = (row.begin + 360.0 * np.arange(turns)[:, None]).ravel()
    end = (row.end + 360.0 * np.arange(turns)[:, None]).ravel()
    pitch = 360 / slots
    begin = begin + b.rng.normal(0, 0.13, len(begin)) * pitch
    end = np.maximum(begin + 0.08 * pitch, end + b.rng.normal(0, 0.13, len(end)) * pitch)
    seen = b.rng.random(len(begin)) > 0.05
    begin, end = begin[seen], end[seen]
    degrees = (b.turns - base) * 360.0
    place = np.searchsorted(begin, degrees, "right") - 1
    on = (place >= 0) & (degrees < end[np.maximum(place, 0)])
    b.crank(b.switched(on), _name(slots, missing))
    return Told(*b.made(), wanted=(("erratic", {}),), allowed=("noise",), causes=("air_gap", "sensor"))


def _runout(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    volts = b.coil(Row.toothed(slots, _gone(slots, missing)), 2.0, runout=float(b.rng.uniform(0.25, 0.5)))
    b.crank(volts + b.rng.normal(0, 0.01, len(volts)), _name(slots, missing), "reluctance")
    return Told(*b.made(), wanted=(("runout", {}),), causes=("reluctor", "air_gap"))


def _crossed_coil(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    volts = -b.coil(Row.toothed(slots, _gone(slots, missing)), float(b.rng.uniform(1.2, 4.0)))
    b.crank(volts + b.rng.normal(0, 0.01, len(volts)), _name(slots, missing), "reluctance")
    return Told(*b.made(), wanted=(("reversed_polarity", {}),), causes=("wiring",))


def _return_rises(watched: bool):
    """A bad ground strap: the return rises with the starter's current and takes both levels along."""

    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE)
        heavy = 12.5 - b.battery()
        lift = (
            float(b.rng.uniform(*((0.45, 1.0) if watched else (0.95, 1.6)))) * heavy / max(float(np.median(heavy)), 0.1)
        )
        row = Row.toothed(slots, _gone(slots, missing), 0.5)
        volts = b.switched(row.at(b.turns), low=0.15 + lift, high=np.minimum(4.95 + 0.9 * lift, 12.0))
        b.crank(volts, _name(slots, missing))
        if watched:
            b.add("CH2", lift + b.rng.normal(0, 0.01, len(lift)), role="ground")
            return Told(*b.made(), wanted=(("ground_lift", {}),), allowed=("low_not_pulled_down",), causes=("ground",))
        return Told(*b.made(), wanted=(("low_not_pulled_down", {}),), causes=("ground", "sensor", "wiring"))

    return kind


def _flat(level: str):
    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE)
        volts = {"high": 4.95, "low": 0.12, "middle": 2.4}[level] + b.rng.normal(0, 0.012, len(b.now))
        b.crank(volts, _name(slots, missing))
        causes = {
            "high": ("sensor", "supply", "ground", "wiring", "air_gap", "reluctor", "timing", "engine"),
            "low": ("wiring", "module", "sensor"),
            "middle": ("sensor", "wiring", "module"),
        }
        return Told(*b.made(), wanted=(("no_signal", {"held": level}),), causes=causes[level])

    return kind


def _quarter(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    high = float(b.rng.uniform(0.3, 0.6)) * 5
    b.crank(_hall(b, slots, missing, high=high), _name(slots, missing))
    return Told(
        *b.made(), wanted=(("high_not_reached", {"level_v": (high, 0.2)}),), causes=("wiring", "module", "sensor")
    )


def _lifted(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    low = float(b.rng.uniform(1.2, 2.4))
    b.crank(_hall(b, slots, missing, low=low), _name(slots, missing))
    return Told(
        *b.made(), wanted=(("low_not_pulled_down", {"level_v": (low, 0.2)}),), causes=("sensor", "ground", "wiring")
    )


def _weak_coil(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    volts = b.coil(Row.toothed(slots, _gone(slots, missing)), float(b.rng.uniform(0.04, 0.09)))
    b.crank(volts + b.rng.normal(0, 0.002, len(volts)), _name(slots, missing), "reluctance")
    return Told(*b.made(), wanted=(("weak_amplitude", {}),), causes=("air_gap", "sensor", "wiring", "module"))


def _ignition(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE, sfreq=60_000.0)
    volts = _hall(b, slots, missing) + b.spikes(5.0, 45.0)
    b.crank(volts, _name(slots, missing))
    return Told(*b.made(), wanted=(("noise", {}),), causes=("interference",))


def _wrong_wheel(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    other = FINE[(FINE.index((slots, missing)) + 1 + int(b.rng.integers(len(FINE) - 1))) % len(FINE)]
    b.crank(_hall(b, slots, missing), _name(*other))
    return Told(
        *b.made(),
        wanted=(("wrong_pattern", {"slots": slots, "missing": missing}),),
        causes=("reluctor", "none", "timing"),
    )


def _two(first: str, second: str):
    """Two faults in one capture."""

    def kind(seed: int, name: str) -> Told:
        b, slots, missing = _bench(seed, name, "cranking", FINE)
        pair = {first, second}
        at = int(b.rng.integers(4, slots - missing - 3))
        if 2 * at == slots:
            at += 1
        more, wanted, causes = {}, [], []
        if "tooth" in pair:
            more["lost"] = (at,)
            wanted.append(("extra_gap", {"tooth": at} if missing > 1 else {"tooth": {at, slots - at}}))
            causes.append("reluctor")
        if "low high" in pair:
            more["high"] = float(b.rng.uniform(0.35, 0.6)) * 5
            wanted.append(("high_not_reached", {}))
            causes += ["wiring", "module", "sensor"]
        if "high low" in pair:
            more["low"] = float(b.rng.uniform(1.2, 2.2))
            wanted.append(("low_not_pulled_down", {}))
            causes += ["sensor", "ground", "wiring"]
        volts = _hall(b, slots, missing, **more)
        if "loss" in pair:
            start = float(b.rng.uniform(1.0, 2.2))
            end = start + float(b.rng.uniform(0.2, 0.5))
            volts = np.where((b.now >= start) & (b.now < end), more.get("high", 4.95), volts)
            wanted.append(("dropout", {}))
            causes += ["sensor", "wiring"]
        b.crank(volts, _name(slots, missing))
        return Told(*b.made(), wanted=tuple(wanted), causes=tuple(causes))

    return kind


def _few_samples(seed: int, name: str) -> Told:
    b, slots, missing = _bench(seed, name, "cranking", FINE)
    top = float(np.abs(b.shaft.speed).max()) * slots
    b.sfreq = max(top * float(b.rng.uniform(2.1, 2.9)), 300.0)
    b.__post_init__()
    b.crank(_hall(b, slots, missing, duty=0.5), _name(slots, missing))
    return Told(*b.made(), wanted=(("undersampled", {}),), causes=("none",))


KINDS: dict[str, Callable[[int, str], Told]] = {
    "sound cranking": _sound_hall("cranking"),
    "sound coarse": _sound_hall("cranking", COARSE),
    "sound coarse undeclared": _sound_hall("cranking", COARSE, declared=False),
    "sound undeclared": _sound_hall("cranking", declared=False),
    "sound low battery": _sound_hall("low battery"),
    "sound weak cylinder": _sound_hall("weak cylinder"),
    "sound weak cylinder coarse": _sound_hall("weak cylinder", COARSE),
    "sound from rest": _sound_hall("from rest"),
    "sound released": _sound_hall("released"),
    "sound released coarse": _sound_hall("released", COARSE),
    "sound stop and go": _sound_hall("stop and go"),
    "sound catches": _sound_hall("catches", state="start"),
    "sound catches and dies": _sound_hall("catches and dies", state="start"),
    "sound running": _sound_hall("running", state="running"),
    "sound coil": _sound_coil("cranking"),
    "sound coil coarse": _sound_coil("cranking", COARSE),
    "sound coil from rest": _sound_coil("from rest"),
    "sound coil released": _sound_coil("released"),
    "sound coil stop and go": _sound_coil("stop and go"),
    "sound coil catches and dies": _sound_coil("catches and dies", state="start"),
    "sound coil weak cylinder": _sound_coil("weak cylinder"),
    "sound coil undeclared": _sound_coil("cranking", declared=False),
    "sound coil few samples": _sound_coil("cranking", per_tooth=5.2),
    "sound coil few samples running": _sound_coil("running", per_tooth=5.0, state="running"),
    "sound coil hum": _sound_coil("cranking", hum=0.03),
    "sound coil tenth of range": _tenth_of_range("reluctance"),
    "sound tenth of range": _tenth_of_range("hall"),
    "sound pull-up battery": _battery_pull_up("cranking"),
    "sound pull-up battery released": _battery_pull_up("released"),
    "sound pull-up battery from rest": _battery_pull_up("from rest"),
    "sound hum": _disturbed_hall("hum"),
    "sound spikes": _disturbed_hall("spikes"),
    "sound alternator": _disturbed_hall("alternator"),
    "sound ac": _probe("ac"),
    "sound mean off": _probe("mean off"),
    "sound x10": _probe("x10"),
    "sound crossed probe": _probe("crossed"),
    "sound hole": _badly_timed(_hole),
    "sound two holes": _badly_timed(_two_holes),
    "sound doubled stamps": _badly_timed(_doubled),
    "sound jittering stamps": _badly_timed(_jittering),
    "sound speed": _speed(False, "hall"),
    "sound speed stops": _speed(True, "hall"),
    "sound speed current stops": _speed(True, "current"),
    "sound speed coil stops": _speed(True, "reluctance"),
    "sound cam": _with_cam("cranking"),
    "sound cam released": _with_cam("released"),
    "sound cam from rest": _with_cam("from rest"),
    "sound cam toothed": _cam_alone(False),
    "sound leads swapped": _with_cam("cranking", swapped=True),
    "sound several gaps": _several(False, True),
    "sound several gaps undeclared": _several(False, False),
    "lost tooth": _lost_tooth("cranking"),
    "lost tooth coarse": _lost_tooth("cranking", wheels=COARSE),
    "lost tooth weak cylinder": _lost_tooth("weak cylinder"),
    "lost tooth released": _lost_tooth("released"),
    "lost tooth undeclared": _lost_tooth("cranking", declared=False),
    "lost tooth coil": _lost_tooth("cranking", "reluctance"),
    "lost tooth speed": _speed(False, "hall", lost=True),
    "lost tooth cam": _cam_alone(True),
    "lost several gaps": _several(True, True),
    "bent tooth": _bent("hall"),
    "bent tooth coil": _bent("reluctance"),
    "bent tooth coil few turns": _bent("reluctance", ((24, 1), (36, 1), (60, 2)), 2.4),
    "bent tooth speed": _speed(False, "current", bent=True),
    "chipped tooth coil": _chipped_coil,
    "swarf": _swarf,
    "slipped ring": _slipped,
    "slow rise": _slow_rise(),
    "slow rise cranking": _slow_rise("cranking"),
    "dropout": _lost_for_a_while("hall"),
    "dropout running": _lost_for_a_while("hall", "running"),
    "dropout coil": _lost_for_a_while("reluctance"),
    "dropout coil hum": _lost_for_a_while("reluctance", hum=True),
    "cracked tip": _cracked_tip,
    "wide gap": _wide_gap,
    "runout": _runout,
    "crossed coil": _crossed_coil,
    "return rises watched": _return_rises(True),
    "return rises": _return_rises(False),
    "flat high": _flat("high"),
    "flat low": _flat("low"),
    "flat middle": _flat("middle"),
    "quarter": _quarter,
    "lifted": _lifted,
    "weak coil": _weak_coil,
    "ignition": _ignition,
    "wrong wheel": _wrong_wheel,
    "tooth and low high": _two("tooth", "low high"),
    "tooth and high low": _two("tooth", "high low"),
    "tooth and loss": _two("tooth", "loss"),
    "loss and low high": _two("loss", "low high"),
    "few samples": _few_samples,
}


def draw(kind: str, seed: int) -> Told:
    """A capture of one kind, everything else drawn from `seed`."""
    return KINDS[kind](seed, kind)
