"""Captures by a fourth hand: what is on the wire against what was declared, and things that happen once.

It shares no code with `sagen.machine`, `sagen.signal` or the other hands: a shaft is a course of turns over time drawn by its
state, a wheel a list of teeth with a place and a width each, an output follows its wheel through a time constant, a coil is
the slope of a flux. Each kind is a function of a generator; its row says which findings are right, which are allowed
beside, and the cause. What the pictures mean is common practice, no published source; all sizes are drawn.

    python -m benchmarks.fourth_hand [FIRST_SEED] [SEEDS] [KIND ...]
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from multiprocessing import Pool

import numpy as np
from scipy.signal import lfilter

from sagen.casework.examination import capture_entry, kept_name
from sagen.kinds import Examination, Pair, examine
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.reason.weights import weigh

SFREQ = 50_000.0
#: name -> teeth of the wheel as slots that are present
WHEELS = {"60-2": (60, 2), "36-1": (36, 1), "36-2": (36, 2), "58-2": (58, 2)}


@dataclass(frozen=True)
class Drawn:
    """A capture, its sheet (None: none), the findings that are right, those that may stand beside, and the cause."""

    capture: Capture
    sheet: dict | None
    right: tuple[str, ...] = ()
    beside: tuple[str, ...] = ()
    cause: str = ""
    words_not: tuple[str, ...] = ()  #: what no sentence may say
    all_of: bool = False  #: whether every right finding has to be found, not one of them


def gathered() -> tuple[dict[str, Callable], Callable]:
    """Kinds by name, and the decorator that puts one in."""
    kinds: dict[str, Callable] = {}

    def kind(make: Callable) -> Callable:
        kinds[make.__name__] = make
        return make

    return kinds, kind


KINDS, kind = gathered()


# shafts -------------------------------------------------------------------------------------------------------


def times(seconds: float) -> np.ndarray:
    return np.arange(round(seconds * SFREQ)) / SFREQ


def cranked(rng, seconds=2.4, rpm=None, cylinders=4, depth=None):
    """Turns of a shaft that a starter turns: it sways with every compression and with the battery."""
    rpm = rpm or rng.uniform(160, 260)
    depth = depth if depth is not None else rng.uniform(0.08, 0.2)
    steps = np.arange(round(seconds * 2_000) + 1) / 2_000
    turns, slow = np.zeros(len(steps)), np.interp(steps, [0, seconds], [1.0, rng.uniform(0.94, 1.02)])
    phase, at = rng.uniform(0, 1), 0.0
    for k in range(1, len(steps)):
        at += rpm / 60 * slow[k] * (1 + depth * np.cos(np.pi * cylinders * (at + phase))) / 2_000
        turns[k] = at
    return np.interp(times(seconds), steps, turns) + rng.uniform(0, 1)


def run(rng, seconds=1.0, rpm=None):
    t = times(seconds)
    rpm = rpm or rng.uniform(700, 950)
    sway = 0.01 * np.sin(2 * np.pi * 1.3 * t + rng.uniform(0, 6)) / (2 * np.pi * 1.3)
    turns = rpm / 60 * (t + sway)
    return turns + 0.004 / (4 * np.pi) * np.sin(4 * np.pi * turns) + rng.uniform(0, 1)


def by_hand(rng, turns=2.5, seconds=6.0):
    """A spanner: pulls of a quarter turn or so with rests between, back a little now and then."""
    t, pulls = times(seconds), []
    done, at = 0.0, rng.uniform(0.1, 0.4)
    while done < turns and at < seconds - 1.0:
        pull = min(rng.uniform(0.15, 0.4), turns - done)
        lasts = rng.uniform(0.3, 0.7)
        pulls.append((at, lasts, pull))
        done, at = done + pull, at + lasts + rng.uniform(0.05, 0.6)
    out = np.zeros(len(t))
    for begin, lasts, pull in pulls:
        x = np.clip((t - begin) / lasts, 0, 1)
        out += pull * (x - np.sin(2 * np.pi * x) / (2 * np.pi))
    return out + rng.uniform(0, 1)


# wheels and signals -------------------------------------------------------------------------------------------


def toothed(slots, missing=0, width=0.5, gone=()):
    """Teeth as (middle, width), in turns."""
    return [((k + 0.5) / slots, width / slots) for k in range(slots - missing) if k + 1 not in gone]


def inside(turns, teeth):
    """Whether a tooth stands before the sensor, at each sample."""
    place = turns % 1.0
    edges = np.array(sorted((middle - width / 2, middle + width / 2) for middle, width in teeth))
    at = np.searchsorted(edges[:, 0], place, "right") - 1
    return (at >= 0) & (place < edges[np.maximum(at, 0), 1])


def followed(target, tau):
    """First-order lag of a target level, time constant in s."""
    a = np.exp(-1 / (tau * SFREQ))
    return lfilter([1 - a], [1, -a], target, zi=[a * target[0]])[0]


def switching(turns, teeth, rng, low=None, high=5.0, noise=None):
    low = rng.uniform(0.05, 0.25) if low is None else low
    level = np.where(inside(turns, teeth), low, high)
    return followed(level, rng.uniform(2e-6, 8e-6)) + rng.normal(0, noise or rng.uniform(0.004, 0.02), len(turns))


def coil(turns, teeth, rng, per_rpm=None, noise=0.01):
    place = turns % 1.0
    grid = np.linspace(0, 1, 20_001)
    flux = np.zeros(len(grid))
    for middle, width in teeth:
        off = (grid - middle + 0.5) % 1.0 - 0.5
        flux += np.exp(-0.5 * (off / (0.55 * width)) ** 2)
    slope = np.gradient(flux, grid)
    slope /= np.abs(slope).max()
    speed = np.gradient(turns, 1 / SFREQ) * 60
    volts = (per_rpm or rng.uniform(0.012, 0.03)) * speed * -np.interp(place, grid, slope)
    return volts + rng.normal(0, noise, len(turns))


def stored(volts, bits=12, span=None):
    """As a recorder keeps it: whole steps of its range."""
    span = span or 2.2 * float(np.abs(volts).max())
    step = span / (1 << bits)
    return np.round(volts / step) * step


def captured(**columns):
    return Capture(
        "fourth.csv", SFREQ, tuple(Channel(name, stored(v).astype(np.float32)) for name, v in columns.items())
    )


def rails(turns, rng, battery=None):
    battery = battery or rng.uniform(10.2, 11.2)
    slow = 0.4 * np.cos(2 * np.pi * 2 * turns + 1)
    return battery + slow + rng.normal(0, 0.03, len(turns)), rng.uniform(0.01, 0.06) + rng.normal(0, 0.006, len(turns))


def sheet(*rows, state="cranking", cylinders=4, **more):
    return {"engine": {"cylinders": cylinders}, "conditions": {"state": state}, "channel": list(rows), **more}


def row(column, role="crank", sensor="hall", **more):
    return {"column": column, "role": role} | ({"sensor": sensor} if sensor else {}) | more


def any_wheel(rng):
    name = str(rng.choice(list(WHEELS)))
    return name, WHEELS[name]


# what was not declared ----------------------------------------------------------------------------------------


@kind
def coil_without_sheet(rng):
    _, wheel = any_wheel(rng)
    return Drawn(captured(A=coil(cranked(rng), toothed(*wheel), rng)), None, words_not=("5 V", "12 V", "Flat"))


@kind
def coil_said_to_switch(rng):
    name, wheel = any_wheel(rng)
    volts = coil(cranked(rng), toothed(*wheel), rng)
    return Drawn(captured(A=volts), sheet(row("A", wheel=name)), words_not=("5 V", "Flat"))


@kind
def coil_without_sensor_lost_tooth(rng):
    name, wheel = any_wheel(rng)
    tooth = int(rng.integers(5, wheel[0] - wheel[1] - 4))
    volts = coil(cranked(rng), toothed(*wheel, gone=(tooth,)), rng)
    return Drawn(captured(A=volts), sheet(row("A", sensor=None, wheel=name)), ("extra_gap",), cause="reluctor")


@kind
def current_without_sheet(rng):
    _, wheel = any_wheel(rng)
    turns = cranked(rng)
    ohm = rng.choice([75.0, 100.0, 120.0])
    volts = switching(turns, toothed(*wheel), rng, low=0.007 * ohm, high=0.014 * ohm, noise=0.004)
    return Drawn(captured(A=volts), None, words_not=("pull-up",))


@kind
def switching_said_to_be_coil(rng):
    name, wheel = any_wheel(rng)
    return Drawn(
        captured(A=switching(cranked(rng), toothed(*wheel), rng)), sheet(row("A", sensor="reluctance", wheel=name))
    )


@kind
def crank_and_feed_swapped(rng):
    name, wheel = any_wheel(rng)
    turns = cranked(rng)
    feed, back = rails(turns, rng)
    volts = switching(turns, toothed(*wheel), rng)
    return Drawn(
        captured(A=feed, B=volts, C=back),
        sheet(row("A", wheel=name), row("B", "supply", None), row("C", "ground", None)),
        words_not=("Flat",),
    )


@kind
def crank_and_cam_swapped(rng):
    turns = cranked(rng)
    cam = [(0.1, 0.15), (0.4, 0.05), (0.7, 0.2)]
    return Drawn(
        captured(A=switching(turns / 2, cam, rng), B=switching(turns, toothed(60, 2), rng)),
        sheet(row("A", wheel="60-2"), row("B", "cam")),
        words_not=("12-1", "30-1"),
    )


# once, some, all ----------------------------------------------------------------------------------------------


@kind
def one_kick_back(rng):
    """One cylinder fires early for once: the shaft nearly stops, and goes on."""
    turns = cranked(rng)
    t, at = times(2.4), rng.uniform(0.8, 1.6)
    turns = turns - rng.uniform(0.03, 0.05) / (1 + np.exp(-(t - at) / 0.012))
    name, wheel = any_wheel(rng)
    return Drawn(
        captured(A=switching(turns, toothed(*wheel), rng)),
        sheet(row("A", wheel=name)),
        words_not=("each of", "both turns"),
    )


@kind
def hand_turned(rng):
    name, wheel = any_wheel(rng)
    turns = by_hand(rng, turns=rng.uniform(1.5, 3.0))
    return Drawn(
        captured(A=switching(turns, toothed(*wheel), rng)),
        sheet(row("A", wheel=name)),
        beside=("too_short",),
        words_not=("of 15 turns", "not seen"),
    )


@kind
def coil_fades(rng):
    """A coil that loses its strength while it is cranked, to a fifth or less."""
    turns = cranked(rng, 4.0)
    name, wheel = any_wheel(rng)
    volts = coil(turns, toothed(*wheel), rng, per_rpm=0.03, noise=0.004)
    fade = np.interp(times(4.0), [0, 1.2, 3.0, 4.0], [1, 1, rng.uniform(0.1, 0.2), 0.1])
    return Drawn(
        captured(A=volts * fade),
        sheet(row("A", sensor="reluctance", wheel=name)),
        ("weak_amplitude",),
        beside=("dropout", "no_signal"),
        cause="sensor",
        words_not=("each of", "early"),
    )


@kind
def drops_out_once(rng):
    name, wheel = any_wheel(rng)
    turns = cranked(rng, 4.0)
    volts = switching(turns, toothed(*wheel), rng)
    at, lasts = rng.uniform(1.0, 3.0), rng.uniform(0.06, 0.25)
    t = times(4.0)
    volts = np.where((t > at) & (t < at + lasts), 5.0 + rng.normal(0, 0.01, len(t)), volts)
    return Drawn(captured(A=volts), sheet(row("A", wheel=name, pull_up=5.0)), ("dropout",))


@kind
def breaks_for_milliseconds(rng):
    """A break of 5 to 9 ms in twenty seconds of a running engine."""
    turns = run(rng, 20.0)
    volts = switching(turns, toothed(60, 2), rng)
    at, lasts = rng.uniform(2, 18), rng.uniform(0.005, 0.009)
    t = times(20.0)
    volts = np.where((t > at) & (t < at + lasts), 5.0 + rng.normal(0, 0.01, len(t)), volts)
    return Drawn(captured(A=volts), sheet(row("A", wheel="60-2"), state="running"), ("dropout",), beside=("erratic",))


# the stated wheel ---------------------------------------------------------------------------------------------


@kind
def stated_wheel_with_heavy_ripple(rng):
    name, wheel = any_wheel(rng)
    turns = cranked(rng, depth=rng.uniform(0.3, 0.45), cylinders=int(rng.choice([2, 3, 4])))
    return Drawn(captured(A=switching(turns, toothed(*wheel), rng)), sheet(row("A", wheel=name)))


@kind
def even_wheel_of_44(rng):
    turns = cranked(rng, depth=rng.uniform(0.15, 0.35), cylinders=4)
    return Drawn(captured(A=switching(turns, toothed(44), rng)), sheet(row("A", wheel="44")), words_not=("12-1",))


@kind
def another_wheel_than_stated(rng):
    turns = cranked(rng)
    stated, fitted = (("60-2", (36, 1)), ("36-1", (60, 2)), ("36-2", (36, 1)))[rng.integers(3)]
    return Drawn(
        captured(A=switching(turns, toothed(*fitted), rng)),
        sheet(row("A", wheel=stated)),
        ("wrong_pattern",),
        cause="reluctor",
    )


@kind
def two_gaps_where_three_are_stated(rng):
    turns = cranked(rng)
    gone = (14, 15, 35, 36)
    return Drawn(
        captured(A=switching(turns, toothed(36, gone=gone), rng)),
        sheet(row("A", wheel="36: 14-15, 17-18, 35-36")),
        ("wrong_pattern",),
        cause="reluctor",
    )


# wheels that it does not know ---------------------------------------------------------------------------------


@kind
def two_widths(rng):
    """24 teeth, some wide and some narrow, in a pattern that repeats."""
    widths = rng.permutation([0.3] * 12 + [0.65] * 12)
    teeth = [((k + 0.5) / 24, w / 24) for k, w in enumerate(widths)]
    return Drawn(
        captured(A=switching(cranked(rng), teeth, rng)), sheet(row("A")), words_not=("irregular", "another place")
    )


@kind
def twelve_and_one(rng):
    teeth = [*toothed(12, width=0.35), ((3.0) / 12, 0.2 / 12)]
    return Drawn(
        captured(A=switching(run(rng), teeth, rng)),
        sheet(row("A"), state="running"),
        words_not=("irregular", "another place", "92-1"),
    )


@kind
def seven_notches(rng):
    places = np.array([0.02, 0.17, 0.31, 0.47, 0.6, 0.76, 0.81])
    return Drawn(
        captured(A=switching(cranked(rng), [(p, 0.04) for p in places], rng)),
        sheet(row("A")),
        words_not=("irregular", "another place"),
    )


@kind
def several_gaps_not_stated(rng):
    gone = ((17, 18, 35, 36), (14, 15, 17, 18, 35, 36), (19, 20, 59, 60))[rng.integers(3)]
    slots = 60 if 60 in gone else 36
    return Drawn(
        captured(A=switching(cranked(rng), toothed(slots, gone=gone), rng)),
        sheet(row("A")),
        words_not=("irregular", "not seen", "One gap too many"),
    )


# levels that move ---------------------------------------------------------------------------------------------


@kind
def low_lifts_at_times(rng):
    """The return's contact makes and breaks: for a while the low stands a volt higher."""
    turns = cranked(rng, 3.0)
    name, wheel = any_wheel(rng)
    lift = np.zeros(len(turns))
    for _ in range(3):
        at = int(rng.uniform(0.1, 0.8) * len(turns))
        lift[at : at + int(rng.uniform(0.1, 0.25) * SFREQ)] = rng.uniform(0.9, 1.5)
    low = 0.12 + lift
    level = np.where(inside(turns, toothed(*wheel)), low, 5.0)
    volts = followed(level, 4e-6) + rng.normal(0, 0.01, len(turns))
    return Drawn(
        captured(A=volts),
        sheet(row("A", wheel=name, pull_up=5.0)),
        ("low_not_pulled_down",),
        beside=("noise",),
        words_not=("signal stops",),
    )


@kind
def low_creeps(rng):
    turns = run(rng, 8.0)
    low = np.interp(times(8.0), [0, 2, 7], [0.12, 0.12, rng.uniform(1.6, 2.0)])
    level = np.where(inside(turns, toothed(60, 2)), low, 5.0)
    volts = followed(level, 4e-6) + rng.normal(0, 0.01, len(turns))
    return Drawn(
        captured(A=volts),
        sheet(row("A", wheel="60-2", pull_up=5.0), state="running"),
        ("low_not_pulled_down",),
        words_not=("signal stops",),
    )


@kind
def high_sags(rng):
    turns = cranked(rng, 3.0)
    name, wheel = any_wheel(rng)
    high = 5.0 - np.interp(times(3.0), [0, 1.0, 1.2, 2.2, 2.4, 3.0], [0, 0, 1, 1, 0, 0]) * rng.uniform(1.6, 2.2)
    level = np.where(inside(turns, toothed(*wheel)), 0.12, high)
    volts = followed(level, 4e-6) + rng.normal(0, 0.01, len(turns))
    return Drawn(
        captured(A=volts),
        sheet(row("A", wheel=name, pull_up=5.0)),
        ("high_not_reached",),
        beside=("noise",),
        words_not=("signal stops",),
    )


@kind
def feed_fails_for_a_moment(rng):
    turns = cranked(rng, 3.0)
    feed, back = rails(turns, rng)
    t, at, lasts = times(3.0), rng.uniform(0.8, 2.0), rng.uniform(0.06, 0.12)
    out = (t > at) & (t < at + lasts)
    feed = np.where(out, 3.9 + rng.normal(0, 0.03, len(t)), feed)
    volts = np.where(out, 5.0 + rng.normal(0, 0.01, len(t)), switching(turns, toothed(60, 2), rng))
    return Drawn(
        captured(A=volts, B=feed, C=back),
        sheet(row("A", wheel="60-2", pull_up=5.0), row("B", "supply", None), row("C", "ground", None)),
        ("supply_loss",),
        beside=("dropout",),
        cause="supply",
    )


@kind
def begun_with_the_key_off(rng):
    turns = np.concatenate([np.full(round(1.2 * SFREQ), 0.3), 0.3 + cranked(rng) - cranked(rng)[0] * 0])
    turns[round(1.2 * SFREQ) :] -= turns[round(1.2 * SFREQ)] - 0.3
    t = np.arange(len(turns)) / SFREQ
    on = np.clip((t - 0.5) / 0.002, 0, 1)
    feed = on * (12.3 - 1.4 * (t > 1.2)) + rng.normal(0, 0.02, len(t))
    volts = on * switching(turns, toothed(60, 2), rng)
    return Drawn(
        captured(A=volts, B=feed),
        sheet(row("A", wheel="60-2", pull_up=5.0), row("B", "supply", None)),
        words_not=("0.0",),
    )


# made edges ---------------------------------------------------------------------------------------------------


@kind
def sparks_on_the_wire(rng):
    """Ignition twice a turn: a spike from -8 to 13 V of some tens of microseconds."""
    turns = run(rng, 2.0)
    volts = switching(turns, toothed(60, 2), rng)
    at = np.flatnonzero(np.diff(np.floor(2 * turns + 0.37)) > 0)
    for k in at:
        n = int(rng.integers(2, 5))
        volts[k : k + n] = rng.uniform(9, 13)
        volts[k + n : k + 2 * n] = rng.uniform(-8, -5)
    return Drawn(
        captured(A=volts),
        sheet(row("A", wheel="60-2", pull_up=5.0), state="running"),
        ("noise",),
        beside=("clipped",),
        cause="interference",
        words_not=("swarf",),
    )


@kind
def hum_on_an_open_wire(rng):
    t = times(3.0)
    volts = 0.4 * np.sin(2 * np.pi * 50 * t + 1) + 0.05 * np.sin(2 * np.pi * 150 * t) + rng.normal(0, 0.02, len(t))
    return Drawn(
        captured(A=volts),
        sheet(row("A", sensor="reluctance", wheel="60-2")),
        ("no_signal",),
        beside=("noise",),
        words_not=("128",),
    )


# the wheel's own faults ---------------------------------------------------------------------------------------


@kind
def held_low_over_a_sector(rng):
    """Something bridges four teeth: low all over them, each turn."""
    first = int(rng.integers(8, 40))
    teeth = [(m, w) for k, (m, w) in enumerate(toothed(60, 2)) if not first <= k <= first + 3]
    teeth.append(((first + 2.0) / 60, 3.5 / 60))
    return Drawn(
        captured(A=switching(cranked(rng), teeth, rng)),
        sheet(row("A", wheel="60-2")),
        ("odd_tooth", "extra_gap"),
        cause="reluctor",
        words_not=("36-5",),
    )


@kind
def rust_on_a_sector(rng):
    turns = cranked(rng)
    volts = coil(turns, toothed(60, 2), rng, noise=0.004)
    near = np.abs((turns % 1.0) - rng.uniform(0.2, 0.7)) < 15 / 360
    swell = followed(np.where(near, rng.uniform(1.7, 2.0), 1.0), 0.4e-3)
    return Drawn(
        captured(A=volts * swell),
        sheet(row("A", sensor="reluctance", wheel="60-2")),
        ("odd_tooth", "runout"),
        cause="reluctor",
    )


@kind
def lost_tooth_while_it_starts(rng):
    turns = np.concatenate([cranked(rng, 1.2), [0]])[:-1]
    more = run(rng, 1.2, 800)
    turns = np.concatenate([turns, more - more[0] + turns[-1]])
    tooth = int(rng.integers(6, 50))
    return Drawn(
        captured(A=switching(turns, toothed(60, 2, gone=(tooth,)), rng)),
        sheet(row("A", wheel="60-2"), state="start"),
        ("extra_gap",),
        cause="reluctor",
    )


# what changes within a record ----------------------------------------------------------------------------------


def slipping(rng, on):
    """A shaft that runs, with a cam; at one moment `on` slips against the other by 16 to 36 degrees of the crank."""
    turns, t = run(rng, 3.0), times(3.0)
    jumps = rng.uniform(16, 36) / 360 * rng.choice([-1, 1])
    slip = np.interp(t, (at := rng.uniform(0.9, 2.1), at + rng.uniform(0.005, 0.05)), (0.0, jumps))
    name, wheel = any_wheel(rng)
    cam = [(0.1, 0.15), (0.4, 0.05), (0.7, 0.2)]
    seen = {"cam": (turns, (turns - slip) / 2), "crank": (turns - slip, turns / 2)}[on]
    return Drawn(
        captured(A=switching(seen[0], toothed(*wheel), rng), B=switching(seen[1], cam, rng)),
        sheet(row("A", wheel=name), row("B", "cam"), state="running"),
        ("timing_offset", "timing_scatter"),
        beside=("odd_tooth", "erratic"),
        cause="timing",
        words_not=("each of",),
    )


@kind
def cam_slips_once(rng):
    return slipping(rng, "cam")


@kind
def crank_wheel_slips_once(rng):
    return slipping(rng, "crank")


@kind
def phaser_moves(rng):
    """A sound engine whose phaser carries the cam by 15 to 45 degrees at 60 to 140 degrees a second, and maybe back."""
    t, far = times(4.0), rng.uniform(15, 45)
    rate, begins = rng.uniform(60, 140), rng.uniform(0.6, 1.2)
    way = [(0, 0), (begins, 0), (begins + far / rate, far)]
    if rng.random() < 0.5:
        way.append((way[-1][0] + rng.uniform(0.3, 0.8), far))
        way.append((way[-1][0] + far / rate, 0))
    moved = np.interp(t, *np.array(way).T) / 360
    turns = run(rng, 4.0, rng.uniform(900, 2500))
    name, wheel = any_wheel(rng)
    cam = [(0.1, 0.15), (0.4, 0.05), (0.7, 0.2)]
    return Drawn(
        captured(A=switching(turns, toothed(*wheel), rng), B=switching((turns + moved) / 2, cam, rng)),
        sheet(row("A", wheel=name), row("B", "cam"), state="running"),
        words_not=("slipped",),
    )


@kind
def split_ring_opens_with_speed(rng):
    """A ring that has split: at rest its crack is shut, and it opens as the shaft gains speed."""
    t, slots = times(4.0), int(rng.integers(40, 53))
    speed = np.interp(t, [0, 4.0], [rng.uniform(2, 3), rng.uniform(11, 15)])
    turns = np.cumsum(speed) / SFREQ + rng.uniform(0, 1)
    most = rng.uniform(0.3, 0.5)
    place = turns % 1.0
    # The teeth behind the crack come late by how far it has opened; all of them squeeze up a little for it.
    opened = most * (speed / speed.max()) ** 2 / slots
    seen = np.floor(turns) + np.clip((place - opened) / (1 - opened), 0, 1)
    make = rng.choice(["hall", "reluctance"])
    teeth = toothed(slots)
    volts = switching(seen, teeth, rng) if make == "hall" else coil(seen, teeth, rng)
    return Drawn(
        captured(A=volts),
        sheet(row("A", "speed", str(make), wheel=str(slots)), state="rolling"),
        ("odd_tooth",),
        cause="reluctor",
    )


@kind
def vane_missing(rng):
    """One of the few vanes of a distributor's or cam's wheel is gone, beside a sound crank."""
    turns, count = cranked(rng, 4.0), int(rng.integers(4, 9))
    gone = int(rng.integers(1, count + 1))
    vanes = [((k + 0.5) / count, 0.5 / count) for k in range(count) if k + 1 != gone]
    return Drawn(
        captured(A=switching(turns, toothed(60, 2), rng), B=switching(turns / 2, vanes, rng)),
        sheet(row("A", wheel="60-2"), row("B", "cam", wheel=str(count))),
        ("extra_gap", "wrong_pattern"),
        beside=("odd_tooth",),
        cause="reluctor",
    )


@kind
def peak_pairs_of_a_lost_tooth(rng):
    """An export that holds the least and the most of each interval, one after the other at one time."""
    return peak_pairs(rng, gone=(int(rng.integers(5, 50)),))


@kind
def peak_pairs_of_a_sound_wheel(rng):
    return peak_pairs(rng, gone=())


@kind
def least_and_most_in_two_columns(rng):
    """The same with a column of each."""
    drawn = peak_pairs(rng, gone=(int(rng.integers(5, 50)),))
    pairs = drawn.capture.channels[0].raw.reshape(-1, 2)
    columns = (Channel("A min", pairs[:, 0].copy()), Channel("A max", pairs[:, 1].copy()))
    capture = Capture("fourth.csv", drawn.capture.sfreq / 2, columns)
    known = sheet(row(str(rng.choice(["A min", "A max"])), wheel="60-2", pull_up=5.0))
    return Drawn(capture, rng.choice([None, known]), drawn.right, cause=drawn.cause)


def peak_pairs(rng, gone):
    turns = cranked(rng, 3.0)
    volts = switching(turns, toothed(60, 2, gone=gone), rng)
    width = int(rng.integers(8, 14))
    blocks = stored(volts)[: len(volts) // width * width].reshape(-1, width)
    pairs = np.column_stack([blocks.min(axis=1), blocks.max(axis=1)]).ravel().astype(np.float32)
    return Drawn(
        Capture("fourth.csv", 2 * SFREQ / width, (Channel("A", pairs),)),
        sheet(row("A", wheel="60-2", pull_up=5.0)),
        ("extra_gap",) if gone else (),
        cause="reluctor" if gone else "",
    )


@kind
def sound_in_every_form(rng):
    name, wheel = any_wheel(rng)
    turns = cranked(rng) if rng.random() < 0.5 else run(rng, 1.5)
    state = "cranking" if len(turns) > 1.6 * SFREQ else "running"
    if rng.random() < 0.5:
        return Drawn(
            captured(A=coil(turns, toothed(*wheel), rng)), sheet(row("A", sensor="reluctance", wheel=name), state=state)
        )
    return Drawn(captured(A=switching(turns, toothed(*wheel), rng)), sheet(row("A", wheel=name), state=state))


# the run ------------------------------------------------------------------------------------------------------


def weighed(done: Examination, good: Pair | None = None):
    """The suspects of a capture by itself, and the likeliest."""
    told, _ = weigh(case_of([capture_entry(done, kept_name(good))], circuit_of_sheet(done.sheet, done.findings)))
    return told, max(told, key=lambda item: item.probability, default=None)


def judged(job: tuple[str, int], kinds: dict | None = None) -> dict:
    """One capture drawn, read and weighed: what was right and what was not."""

    name, seed = job
    drawn = (kinds or KINDS)[name](np.random.default_rng([seed, sum(map(ord, name))]))
    given = Sheet.from_data(drawn.sheet, where=name) if drawn.sheet is not None else None
    done = examine(drawn.capture, given)
    found = {str(item.kind) for item in done.findings}
    said = " ".join(item.text for item in done.findings)
    _, leader = weighed(done)
    words = [text for text in drawn.words_not if text in said]
    right = set(drawn.right)
    sure = leader is not None and leader.probability >= 0.8 and str(leader.cause) != "none"
    return {
        "kind": name, "seed": seed, "faulty": bool(right), "found": (right <= found if drawn.all_of else bool(right & found)) if right else None,
        "clean": not (found - right - set(drawn.beside)), "words": words,
        "cause": str(leader.cause) == drawn.cause if drawn.cause and leader else None,
        "confident": bool(sure and (not right or (drawn.cause and str(leader.cause) != drawn.cause))),
        "saw": sorted(found), "leader": f"{leader.cause} {leader.probability:.2f}" if leader else "",
    }  # fmt: skip


def drawn_and_judged(
    words: list[str], known: Iterable[str], judge: Callable[[tuple[str, int]], dict]
) -> tuple[list[str], list[dict]]:
    """The kinds that a command line asks for, [FIRST_SEED] [SEEDS] [KIND ...], and every one drawn and judged."""
    first = int(words[0]) if words else 1
    seeds = int(words[1]) if len(words) > 1 else 4
    kinds = words[2:] or list(known)
    with Pool() as pool:
        return kinds, pool.map(
            judge, [(name, seed) for name in kinds for seed in range(first, first + seeds)], chunksize=2
        )


def main(words: list[str], known=KINDS, judge=judged) -> None:
    kinds, rows = drawn_and_judged(words, known, judge)
    for name in kinds:
        own = [item for item in rows if item["kind"] == name]
        bad = [
            item
            for item in own
            if item["found"] is False
            or not item["clean"]
            or item["words"]
            or item["confident"]
            or item["cause"] is False
        ]
        if bad:
            print(f"{name}: {len(bad)} of {len(own)}")
            for item in bad[:3]:
                print(f"   seed {item['seed']}: saw {item['saw']}, leads {item['leader']}, words {item['words']}")
    for what in ("found", "clean", "cause"):
        told = [item[what] for item in rows if item[what] is not None]
        print(f"{what} {np.mean(told):.3f} of {len(told)}")
    for faulty in (False, True):
        own = [item["confident"] for item in rows if item["faulty"] == faulty]
        print(f"wrong at .8 or more, {'faulty' if faulty else 'sound'}: {np.mean(own):.3f} of {len(own)}")
    print(f"words that may not be: {np.mean([bool(item['words']) for item in rows]):.3f}")


if __name__ == "__main__":
    main(sys.argv[1:])
