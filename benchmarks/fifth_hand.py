"""Captures by a fifth hand: every picture of the trade through a poor recorder, with what comes along by chance.

The shaft is a torque balance stepped through time, a tooth a raised cosine before a magnet, a switching output a threshold
with hysteresis on that field, a coil its slope: nothing is shared with `sagen.machine`, `sagen.signal` or the other hands but
the running of kinds. On top of each come, drawn by chance: few bits, a coarse or a fine rate, ringing edges, hum, a rail that
sways. What the pictures mean is common practice, no published source; all sizes are drawn.

    python -m benchmarks.fifth_hand [FIRST_SEED] [SEEDS] [KIND ...]
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.interpolate import make_interp_spline
from scipy.signal import lfilter

from benchmarks import fourth_hand
from benchmarks.fourth_hand import Drawn, gathered, row
from sagen.model.capture import Capture, Channel

KINDS, kind = gathered()
#: of a cam: place, width and height
VANES = [(0.08, 0.1, 1.0), (0.33, 0.04, 1.0), (0.58, 0.12, 1.0), (0.83, 0.06, 1.0)]
STEP = 2e-4  #: s, of the shaft


@dataclass
class Bench:
    """One recording: its rate and length, the shaft, and what the recorder does to every channel."""

    rng: np.random.Generator
    seconds: float = 3.0
    state: str = "cranking"
    rate: float = 0.0
    rpm: float = 0.0
    cylinders: int = 4
    sway: float = 0.15
    columns: dict = field(default_factory=dict)

    def __post_init__(self):
        rng = self.rng
        self.rate = self.rate or float(rng.choice([20e3, 25e3, 48e3, 100e3]))
        self.rpm = self.rpm or (rng.uniform(150, 280) if self.state == "cranking" else rng.uniform(650, 1100))
        self.t = np.arange(round(self.seconds * self.rate)) / self.rate
        self.turns = self._turned()

    def _turned(self):
        """Angular speed by stepping a wheel with a starter's or an engine's torque against compression."""
        n = round(self.seconds / STEP) + 2
        omega = np.empty(n)
        phi = np.empty(n)
        at, speed = self.rng.uniform(0, 1), self.rpm / 60
        mean, depth = speed, self.sway if self.state == "cranking" else 0.012
        wander = lfilter([0.002], [1, -0.998], self.rng.normal(0, 0.25, n)) if self.state == "cranking" else np.zeros(n)
        shape = self.rng.uniform(0.0, 0.35)
        for k in range(n):
            phi[k], omega[k] = at, speed
            load = np.sin(np.pi * self.cylinders * at) + shape * np.sin(2 * np.pi * self.cylinders * at)
            pull = 14.0 * (mean * (1 + wander[k]) - speed) - depth * mean * np.pi * self.cylinders * mean * load
            speed = max(speed + STEP * pull, 0.15 * mean)
            at += STEP * speed
        return np.interp(self.t, np.arange(n) * STEP, phi)

    def put(self, name, volts, span=None):
        rng = self.rng
        bits = int(rng.choice([8, 10, 12, 12]))
        span = span or float(rng.choice([1.15, 1.6, 2.5])) * 2 * float(np.abs(volts).max() or 1.0)
        step = span / 2**bits
        self.columns[name] = np.round((volts + rng.normal(0, 0.3 * step + 0.002, len(volts))) / step) * step

    def drawn(self, *rows, right=(), beside=(), cause="", words_not=(), all_of=False, **more):
        capture = Capture(
            "fifth.csv", self.rate, tuple(Channel(k, v.astype(np.float32)) for k, v in self.columns.items())
        )
        engine = {} if self.rng.random() < 0.3 else {"engine": {"cylinders": self.cylinders}}
        given = {"conditions": {"state": self.state}, "channel": list(rows), **engine, **more}
        return Drawn(capture, given, tuple(right), tuple(beside), cause, tuple(words_not), all_of)


def shaken(bench, hertz):
    """A smooth random course with mean 0 and deviation 1, as something heavy and loose moves, shape of the bench's time."""
    slow = np.arange(0, bench.seconds + 2 / hertz, 0.25 / hertz)
    a = np.exp(-2 * np.pi * 0.25)
    course = lfilter([(1 - a) ** 2], [1, -2 * a, a * a], bench.rng.normal(0, 1, len(slow) + 40))[40:]
    return make_interp_spline(slow, course / course.std())(bench.t)


# wheels: a tooth is (place, width, height) in turns; height 1 is a whole one


def wheel(slots, missing=0, fill=0.5):
    return [((k + 0.5) / slots, fill / slots, 1.0) for k in range(slots - missing)]


def magnetic(turns, teeth, sharp=0.22):
    """Field before the sensor, 0 to 1: flat over a tooth, falling off like a raised cosine at its sides."""
    grid = np.linspace(0, 1, 36_001)
    out = np.zeros(len(grid))
    for middle, width, height in teeth:
        away = np.abs((grid - middle + 0.5) % 1.0 - 0.5)
        side = sharp * width
        x = np.clip((away - (width / 2 - side)) / (2 * side), 0, 1)
        out = np.maximum(out, height * 0.5 * (1 + np.cos(np.pi * x)))
    return np.interp(turns % 1.0, grid, out)


def switched(seen, on=0.55, off=0.45):
    """A threshold with hysteresis: whether the output is on, at each sample."""
    change = np.where(seen > on, 1, np.where(seen < off, -1, 0))
    known = np.flatnonzero(change)
    last = np.zeros(len(seen), dtype=int)
    last[known] = known
    last = np.maximum.accumulate(last)
    return change[last] > 0


def output(bench, on, low=0.12, high=5.0, rise=None, fall=None):
    """An open collector with a pull-up: rises slower than it falls."""
    rise = rise or bench.rng.uniform(4e-6, 2.5e-5)
    level = np.where(on, low, high)
    a = np.exp(-1 / (rise * bench.rate))
    out = lfilter([1 - a], [1, -a], level, zi=[a * level[0]])[0]
    if bench.rng.random() < 0.3:  # a long lead rings
        edge = np.diff(level, prepend=level[0])
        f, d = 0.11, 0.55
        ring = lfilter([0.12], [1, -2 * d * np.cos(2 * np.pi * f), d * d], edge)
        out = out + ring
    return out + bench.rng.normal(0, bench.rng.uniform(0.003, 0.02), len(level))


def wave(bench, seen, per_rpm=None, cross=False):
    speed = np.gradient(bench.turns, 1 / bench.rate) * 60
    slope = np.gradient(seen, 1 / bench.rate)
    scale = 0.9 * np.abs(slope).max()
    volts = slope / scale * np.mean(speed) * (per_rpm or bench.rng.uniform(0.008, 0.03))
    return (-volts if cross else volts) + bench.rng.normal(0, 0.012, len(volts))


USUAL = {"60-2": (60, 2), "36-1": (36, 1), "36-2": (36, 2), "58-2": (58, 2), "48-2": (48, 2), "24-1": (24, 1)}


def usual(rng):
    name = str(rng.choice(list(USUAL)))
    return name, USUAL[name]


def hall(bench, teeth, **levels):
    return output(bench, switched(magnetic(bench.turns, teeth)), **levels)


# sound ----------------------------------------------------------------------------------------------------------


@kind
def sound_switching(rng):
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])), seconds=rng.uniform(1.5, 4))
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape, fill=rng.uniform(0.35, 0.65))))
    return bench.drawn(row("CH1", wheel=name))


@kind
def sound_switching_unstated_pull_up(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape), high=rng.choice([3.3, 8.0, 9.2, 11.4])))
    return bench.drawn(row("CH1", wheel=name), words_not=("5 V",))


@kind
def sound_high_on_a_tooth(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", output(bench, ~switched(magnetic(bench.turns, wheel(*shape)))))
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0))


@kind
def sound_coil(rng):
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])), seconds=rng.uniform(1.5, 4))
    name, shape = usual(rng)
    bench.put("CH1", wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45)))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name))


@kind
def sound_coil_on_a_bias(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", 2.5 + wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45), per_rpm=0.006))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name))


@kind
def sound_one_cylinder(rng):
    bench = Bench(rng, cylinders=1, sway=rng.uniform(0.25, 0.4), seconds=4)
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape)))
    return bench.drawn(row("CH1", wheel=name))


@kind
def sound_runs_down(rng):
    """The key is turned off: the engine runs down and stands."""
    bench = Bench(rng, state="running", seconds=5)
    stop = rng.uniform(2.5, 4.0)
    lasts = rng.uniform(0.5, 0.9)
    t = bench.t
    x = np.clip((t - stop) / lasts, 0, 1)
    drive = np.where(t < stop, 1.0, (1 - x) ** 1.5)
    bench.turns = rng.uniform() + np.cumsum(drive) / bench.rate * bench.rpm / 60
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape)))
    return bench.drawn(row("CH1", wheel=name))


@kind
def sound_catches(rng):
    """Cranked, fires, and runs up."""
    bench = Bench(rng, state="cranking", seconds=4)
    bench.state = "start"
    at = rng.uniform(1.2, 2.5)
    up = 1 + rng.uniform(2.5, 4.5) / (1 + np.exp(-(bench.t - at - 0.4) / 0.09))
    speed = np.gradient(bench.turns) * up
    bench.turns = np.cumsum(speed) + rng.uniform()
    name, shape = usual(rng)
    if rng.random() < 0.5:
        bench.put("CH1", hall(bench, wheel(*shape)))
        return bench.drawn(row("CH1", wheel=name))
    bench.put("CH1", wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45)))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name))


@kind
def sound_crank_and_cam(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    some = VANES[: int(rng.integers(1, 5))]
    bench.put("K", hall(bench, wheel(*shape)))
    on = switched(magnetic(bench.turns / 2, some, sharp=0.05))
    bench.put("N", output(bench, on if rng.random() < 0.5 else ~on))
    return bench.drawn(row("K", wheel=name), row("N", "cam"))


@kind
def sound_two_wire_current(rng):
    bench = Bench(rng, rpm=rng.uniform(60, 300), state="running", seconds=3)
    ohm = float(rng.choice([50.0, 100.0, 115.0]))
    on = switched(magnetic(bench.turns, wheel(48)))
    bench.put("CH1", output(bench, on, low=0.0071 * ohm, high=0.0139 * ohm))
    return bench.drawn(row("CH1", "speed", "current", shunt_ohm=ohm, wheel="48"))


@kind
def sound_with_rails(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape)))
    sway = 0.5 * np.cos(2 * np.pi * bench.cylinders / 2 * bench.turns)
    bench.put("CH2", 10.6 + sway + rng.normal(0, 0.05, len(bench.t)))
    bench.put("CH3", 0.02 + 0.008 * np.cos(np.pi * bench.cylinders * bench.turns))
    return bench.drawn(row("CH1", wheel=name), row("CH2", "supply", None, nominal=12.0), row("CH3", "ground", None))


@kind
def sound_slow_recorder(rng):
    """Just enough samples a tooth."""
    bench = Bench(rng, rate=float(rng.choice([5e3, 8e3])), seconds=4)
    bench.put("CH1", hall(bench, wheel(36, 1), rise=4e-6))
    return bench.drawn(row("CH1", wheel="36-1"))


# faults of the wheel -----------------------------------------------------------------------------------------


def middle_tooth(rng, shape):
    return int(rng.integers(6, shape[0] - shape[1] - 5))


@kind
def tooth_gone_switching(rng):
    bench = Bench(rng, sway=rng.uniform(0.1, 0.3))
    name, shape = usual(rng)
    teeth = wheel(*shape)
    del teeth[middle_tooth(rng, shape)]
    bench.put("CH1", hall(bench, teeth))
    return bench.drawn(row("CH1", wheel=name), right=("extra_gap",), cause="reluctor")


@kind
def tooth_gone_coil(rng):
    bench = Bench(rng, cylinders=int(rng.choice([2, 3, 4, 6])))
    name, shape = usual(rng)
    teeth = wheel(*shape)
    del teeth[middle_tooth(rng, shape)]
    bench.put("CH1", wave(bench, magnetic(bench.turns, teeth, sharp=0.45)))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name), right=("extra_gap",), cause="reluctor")


@kind
def tooth_low_coil(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    teeth = wheel(*shape)
    k = middle_tooth(rng, shape)
    teeth[k] = (teeth[k][0], teeth[k][1], rng.uniform(0.3, 0.55))
    bench.put("CH1", wave(bench, magnetic(bench.turns, teeth, sharp=0.45)))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name), right=("odd_tooth",), cause="reluctor")


@kind
def tooth_bent(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    teeth = wheel(*shape)
    k = middle_tooth(rng, shape)
    by = rng.choice([-1, 1]) * rng.uniform(0.15, 0.28) / shape[0]
    teeth[k] = (teeth[k][0] + by, teeth[k][1], 1.0)
    bench.put("CH1", hall(bench, teeth))
    return bench.drawn(row("CH1", wheel=name), right=("odd_tooth",), cause="reluctor")


@kind
def wheel_out_of_true(rng):
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])))
    name, shape = usual(rng)
    seen = magnetic(bench.turns, wheel(*shape), sharp=0.45)
    seen = seen * (1 + rng.uniform(0.25, 0.45) * np.cos(2 * np.pi * bench.turns + rng.uniform(0, 6)))
    bench.put("CH1", wave(bench, seen))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name), right=("runout",), beside=("odd_tooth",))


@kind
def another_wheel(rng):
    bench = Bench(rng)
    stated, fitted = [("60-2", (58, 2)), ("36-2", (60, 2)), ("24-1", (36, 1)), ("36-1", (48, 2))][int(rng.integers(4))]
    if rng.random() < 0.5:
        bench.put("CH1", hall(bench, wheel(*fitted)))
        return bench.drawn(row("CH1", wheel=stated), right=("wrong_pattern",), cause="reluctor")
    bench.put("CH1", wave(bench, magnetic(bench.turns, wheel(*fitted), sharp=0.45)))
    return bench.drawn(row("CH1", sensor="reluctance", wheel=stated), right=("wrong_pattern",), cause="reluctor")


# gap and sensor ------------------------------------------------------------------------------------------------


@kind
def gap_too_wide(rng):
    """Teeth are lost here and there, another place each turn, pulled fully to ground."""
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    seen = magnetic(bench.turns, wheel(*shape))
    seen = seen * (rng.uniform(0.5, 0.56) + rng.uniform(0.04, 0.09) * shaken(bench, 40.0))
    bench.put("CH1", output(bench, switched(seen, 0.5, 0.4)))
    return bench.drawn(row("CH1", wheel=name), right=("erratic",), beside=("dropout",), cause="air_gap")


@kind
def tip_loose_coil(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    seen = magnetic(bench.turns, wheel(*shape), sharp=0.45)
    seen = seen * np.clip(1 + 0.5 * shaken(bench, 12.0), 0.08, 2.2)
    bench.put("CH1", wave(bench, seen))
    return bench.drawn(
        row("CH1", sensor="reluctance", wheel=name),
        right=("erratic", "weak_amplitude", "dropout"),
        beside=("erratic", "weak_amplitude", "dropout", "runout"),
    )


@kind
def goes_quiet(rng):
    """Runs, flat for a while, comes back; feed and return hold."""
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])), seconds=6)
    name, shape = usual(rng)
    volts = hall(bench, wheel(*shape))
    for _ in range(int(rng.integers(1, 4))):
        at, lasts = rng.uniform(0.8, 4.5), rng.uniform(0.15, 1.2)
        dead = (bench.t > at) & (bench.t < at + lasts)
        volts = np.where(dead, 5.0 + rng.normal(0, 0.01, len(volts)), volts)
    bench.put("CH1", volts)
    bench.put("CH2", (10.7 if bench.state == "cranking" else 13.9) + rng.normal(0, 0.05, len(volts)))
    bench.put("CH3", 0.03 + rng.normal(0, 0.004, len(volts)), span=1.0)
    return bench.drawn(
        row("CH1", wheel=name, pull_up=5.0), row("CH2", "supply", None), row("CH3", "ground", None), right=("dropout",)
    )


@kind
def dies_warm(rng):
    bench = Bench(rng, state="running", seconds=6)
    name, shape = usual(rng)
    volts = hall(bench, wheel(*shape))
    volts = np.where(bench.t > rng.uniform(2.5, 4.5), 5.0 + rng.normal(0, 0.01, len(volts)), volts)
    bench.put("CH1", volts)
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), right=("dropout", "no_signal"), beside=("dropout",))


@kind
def coil_far_away(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put(
        "CH1", wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45), per_rpm=rng.uniform(2e-4, 5e-4)), span=2.0
    )
    return bench.drawn(
        row("CH1", sensor="reluctance", wheel=name), right=("weak_amplitude", "no_signal"), beside=("noise",)
    )


# levels --------------------------------------------------------------------------------------------------------


@kind
def cannot_pull_down(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape), low=rng.uniform(1.3, 3.2)))
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), right=("low_not_pulled_down",))


@kind
def cannot_rise(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("CH1", hall(bench, wheel(*shape), high=rng.uniform(1.0, 3.2)))
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), right=("high_not_reached",))


@kind
def return_rises(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    lift = rng.uniform(0.5, 1.4) * (1 + 0.15 * np.cos(np.pi * bench.cylinders * bench.turns))
    on = switched(magnetic(bench.turns, wheel(*shape)))
    bench.put("CH1", output(bench, on) + np.where(on, lift, 0.0))
    bench.put("CH2", 10.6 + rng.normal(0, 0.05, len(on)))
    bench.put("CH3", 0.02 + lift)
    return bench.drawn(
        row("CH1", wheel=name, pull_up=5.0), row("CH2", "supply", None), row("CH3", "ground", None),
        right=("ground_lift",), beside=("low_not_pulled_down",), cause="ground",
    )  # fmt: skip


@kind
def feed_goes(rng):
    """The feed breaks for moments, and the output with it."""
    bench = Bench(rng, seconds=5)
    name, shape = usual(rng)
    volts, feed = hall(bench, wheel(*shape)), 10.7 + rng.normal(0, 0.05, len(bench.t))
    for _ in range(int(rng.integers(1, 4))):
        at, lasts = rng.uniform(0.8, 4.0), rng.uniform(0.05, 0.6)
        dead = (bench.t > at) & (bench.t < at + lasts)
        volts, feed = np.where(dead, 5.0, volts), np.where(dead, rng.uniform(0.0, 2.0), feed)
    bench.put("CH1", volts)
    bench.put("CH2", feed)
    return bench.drawn(
        row("CH1", wheel=name, pull_up=5.0), row("CH2", "supply", None, nominal=12.0), right=("supply_loss",), beside=("dropout",),
        cause="supply",
    )  # fmt: skip


@kind
def flat(rng):
    bench = Bench(rng)
    name, _ = usual(rng)
    at = float(rng.choice([0.02, 5.0, 2.4]))
    bench.put("CH1", at + rng.normal(0, 0.006, len(bench.t)), span=12.0)
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), right=("no_signal",))


# what disturbs -------------------------------------------------------------------------------------------------


@kind
def sparks_on_a_coil(rng):
    bench = Bench(rng, state="running", seconds=3)
    name, shape = usual(rng)
    volts = wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45), per_rpm=0.004)
    beats = np.flatnonzero(np.diff(np.floor(bench.turns * 2)) > 0)
    for at in beats:
        tail = np.arange(min(60, len(volts) - at))
        volts[at : at + len(tail)] += rng.uniform(5, 11) * np.exp(-tail / 6) * np.cos(tail * 1.9)
    bench.put("CH1", volts)
    return bench.drawn(
        row("CH1", sensor="reluctance", wheel=name),
        right=("noise", "erratic"),
        beside=("noise", "erratic"),
        cause="interference",
    )


@kind
def hum_beside_teeth(rng):
    bench = Bench(rng, seconds=3)
    name, shape = usual(rng)
    volts = wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45), per_rpm=0.006)
    bench.put("CH1", volts + rng.uniform(0.6, 1.2) * np.abs(volts).max() * np.sin(2 * np.pi * 50 * bench.t))
    return bench.drawn(
        row("CH1", sensor="reluctance", wheel=name), right=("noise", "erratic"), beside=("noise", "erratic")
    )


# cams ----------------------------------------------------------------------------------------------------------


@kind
def chain_wanders(rng):
    bench = Bench(rng, seconds=5)
    name, shape = usual(rng)
    slack = shaken(bench, 2.5) * rng.uniform(4, 7) / 720
    bench.put("K", hall(bench, wheel(*shape)))
    bench.put("N", output(bench, switched(magnetic(bench.turns / 2 + slack, VANES, sharp=0.05))))
    return bench.drawn(
        row("K", wheel=name), row("N", "cam"), right=("timing_scatter",), cause="timing", beside=("timing_offset",)
    )


@kind
def cam_lost_half_way(rng):
    bench = Bench(rng, seconds=5)
    name, shape = usual(rng)
    bench.put("K", hall(bench, wheel(*shape)))
    volts = output(bench, switched(magnetic(bench.turns / 2, VANES, sharp=0.05)))
    bench.put("N", np.where(bench.t > rng.uniform(2, 3), 5.0 + rng.normal(0, 0.01, len(volts)), volts))
    return bench.drawn(row("K", wheel=name), row("N", "cam", pull_up=5.0), right=("dropout", "no_signal"))


# two at once ---------------------------------------------------------------------------------------------------


@kind
def tooth_gone_and_return_rises(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    teeth = wheel(*shape)
    del teeth[middle_tooth(rng, shape)]
    lift = rng.uniform(0.5, 1.2)
    on = switched(magnetic(bench.turns, teeth))
    bench.put("CH1", output(bench, on) + np.where(on, lift, 0.0))
    bench.put("CH3", 0.02 + lift + 0.05 * np.cos(np.pi * 4 * bench.turns))
    both = ("extra_gap", "ground_lift")
    return bench.drawn(
        row("CH1", wheel=name, pull_up=5.0), row("CH3", "ground", None), right=both, beside=("low_not_pulled_down",)
    )


# what was not told, and how it was recorded ----------------------------------------------------------------------


@kind
def nothing_told(rng):
    """No sheet at all: a sound signal of any kind, and perhaps rails beside it."""
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])))
    _, shape = usual(rng)
    teeth = wheel(*shape)
    which = int(rng.integers(3))
    if which == 0:
        bench.put("A", hall(bench, teeth, high=rng.choice([3.3, 5.0, 8.0, 11.5])))
    elif which == 1:
        bench.put("A", wave(bench, magnetic(bench.turns, teeth, sharp=0.45)))
    else:
        bench.put("A", output(bench, switched(magnetic(bench.turns, teeth)), low=0.72, high=1.41))
    if rng.random() < 0.5:
        bench.put("B", 11.2 + 0.3 * np.cos(np.pi * 4 * bench.turns) + rng.normal(0, 0.05, len(bench.t)))
    return replace(bench.drawn(), sheet=None)


@kind
def wheel_of_its_own(rng):
    """A pattern that no catalogue has, not stated: two gaps apart."""
    bench = Bench(rng, seconds=4)
    slots = int(rng.choice([30, 40, 45, 50]))
    teeth = wheel(slots)
    first = int(rng.integers(3, 8))
    gone = {first, slots - int(rng.integers(5, 12))}
    teeth = [tooth for k, tooth in enumerate(teeth) if k not in gone]
    bench.put("A", hall(bench, teeth))
    return bench.drawn(row("A"))


@kind
def cut_off_by_the_range(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    volts = wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45))
    bench.columns["CH1"] = np.clip(volts, -0.45 * volts.max(), 0.45 * volts.max())
    return bench.drawn(row("CH1", sensor="reluctance", wheel=name), right=("clipped",), beside=("clipped",))


@kind
def far_too_few_samples(rng):
    bench = Bench(rng, rate=float(rng.choice([500.0, 700.0])), seconds=5, rpm=260)
    bench.put("CH1", hall(bench, wheel(60, 2), rise=4e-6))
    return bench.drawn(row("CH1", wheel="60-2"), right=("undersampled",), beside=("undersampled",))


@kind
def begins_before_the_key(rng):
    """Key off, key on, then cranked: nothing is on the wire at first."""
    bench = Bench(rng, seconds=5)
    name, shape = usual(rng)
    at, begins = rng.uniform(0.4, 0.8), rng.uniform(1.2, 1.8)
    turns = np.where(bench.t < begins, 0.0, bench.turns - np.interp(begins, bench.t, bench.turns)) + rng.uniform()
    on = switched(magnetic(turns, wheel(*shape)))
    volts = np.where(bench.t < at, 0.01, output(bench, on))
    bench.put("CH1", volts)
    bench.put(
        "CH2", np.where(bench.t < at, 0.02, np.where(bench.t < begins, 12.4, 10.6)) + rng.normal(0, 0.04, len(bench.t))
    )
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), row("CH2", "supply", None, nominal=12.0))


@kind
def two_teeth_bridged(rng):
    """Swarf fills the space between two teeth: one long low."""
    bench = Bench(rng)
    name, shape = usual(rng)
    teeth = wheel(*shape)
    k = middle_tooth(rng, shape)
    teeth.append((teeth[k][0] + 0.5 / shape[0], 1.0 / shape[0], 1.0))
    bench.put("CH1", hall(bench, teeth))
    return bench.drawn(
        row("CH1", wheel=name), right=("odd_tooth", "extra_gap"), beside=("odd_tooth",), cause="reluctor"
    )


@kind
def swarf_between(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    teeth = wheel(*shape, fill=0.4)
    k = middle_tooth(rng, shape)
    teeth.append((teeth[k][0] + 0.5 / shape[0], 0.14 / shape[0], 1.0))
    bench.put("CH1", hall(bench, teeth))
    return bench.drawn(row("CH1", wheel=name), right=("odd_tooth",), cause="reluctor")


@kind
def wheel_walks_loose(rng):
    """The crank's wheel slips on its shaft once, against the cam."""
    bench = Bench(rng, seconds=6)
    name, shape = usual(rng)
    at, lasts = rng.uniform(2, 4), rng.uniform(0.01, 0.06)
    slip = rng.uniform(14, 34) / 360 * np.clip((bench.t - at) / lasts, 0, 1)
    bench.put("K", output(bench, switched(magnetic(bench.turns + slip, wheel(*shape)))))
    bench.put("N", output(bench, switched(magnetic(bench.turns / 2, VANES, sharp=0.05))))
    return bench.drawn(
        row("K", wheel=name), row("N", "cam"), right=("timing_offset",), beside=("timing_scatter", "odd_tooth", "erratic"),
        cause="timing",
    )  # fmt: skip


@kind
def rings_down_below_ground(rng):
    """A sound output whose edges ring far, below ground as well."""
    bench = Bench(rng, rate=100e3)
    name, shape = usual(rng)
    on = switched(magnetic(bench.turns, wheel(*shape)))
    level = np.where(on, 0.15, 5.0)
    edge = np.diff(level, prepend=level[0])
    f, d = rng.uniform(0.05, 0.15), rng.uniform(0.6, 0.8)
    ring = lfilter([0.35], [1, -2 * d * np.cos(2 * np.pi * f), d * d], edge)
    bench.put("CH1", level + ring)
    return bench.drawn(row("CH1", wheel=name, pull_up=5.0), beside=("noise",))


SECOND = ("tooth", "return", "low", "high", "quiet", "feed", "scatter", "lifts_at_times")


@kind
def two_faults(rng):
    """Any two at once; both have to be found."""
    bench = Bench(rng, seconds=5)
    name, shape = usual(rng)
    two = set(rng.choice(SECOND, 2, replace=False))
    if {"low", "return"} <= two or {"low", "lifts_at_times"} <= two or {"return", "lifts_at_times"} <= two:
        two = {"tooth", *sorted(two)[:1]}
    teeth = wheel(*shape)
    if "tooth" in two:
        del teeth[middle_tooth(rng, shape)]
    t, on = bench.t, switched(magnetic(bench.turns, teeth))
    lift = rng.uniform(0.6, 1.2) if "return" in two else 0.0
    if "lifts_at_times" in two:
        lift = np.where((t % 1.7) < 0.5, rng.uniform(0.7, 1.3), 0.0)
    volts = output(bench, on, low=rng.uniform(1.4, 2.4) if "low" in two else 0.12, high=3.0 if "high" in two else 5.0)
    volts = volts + np.where(on, lift, 0.0)
    feed = 10.7 + 0.3 * np.cos(np.pi * 4 * bench.turns) + rng.normal(0, 0.04, len(t))
    at = rng.uniform(1, 3)
    quiet = (t > at) & (t < at + rng.uniform(0.2, 0.6)) if "quiet" in two else np.zeros(len(t), bool)
    at = rng.uniform(3.7, 4.2)
    broken = (t > at) & (t < at + rng.uniform(0.1, 0.4)) if "feed" in two else np.zeros(len(t), bool)
    volts = np.where(quiet | broken, 3.0 if "high" in two else 5.0, volts)
    bench.put("CH1", volts)
    bench.put("CH2", np.where(broken, 0.8, feed))
    bench.put("CH3", 0.02 + lift + rng.normal(0, 0.004, len(t)), span=2.5)
    rows = [row("CH1", wheel=name, pull_up=5.0), row("CH2", "supply", None, nominal=12.0), row("CH3", "ground", None)]
    slack = shaken(bench, 2.5) * rng.uniform(4, 7) / 720 if "scatter" in two else 0.0
    bench.put("CH4", output(bench, switched(magnetic(bench.turns / 2 + slack, VANES, sharp=0.05))))
    names = {
        "tooth": "extra_gap", "return": "ground_lift", "low": "low_not_pulled_down", "high": "high_not_reached",
        "quiet": "dropout", "feed": "supply_loss", "scatter": "timing_scatter", "lifts_at_times": "ground_lift",
    }  # fmt: skip
    right = [names[item] for item in sorted(two)]
    beside = {"return": ("low_not_pulled_down",), "lifts_at_times": ("low_not_pulled_down",), "feed": ("dropout",)}
    allowed = [each for item in two for each in beside.get(item, ())]
    return bench.drawn(*rows, row("CH4", "cam", pull_up=5.0), right=right, beside=allowed, all_of=True)


def judged(job):
    """As the fourth hand's, of these kinds."""
    return fourth_hand.judged(job, KINDS)


if __name__ == "__main__":
    fourth_hand.main(sys.argv[1:], KINDS, judged)
