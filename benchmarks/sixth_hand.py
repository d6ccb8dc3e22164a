"""Captures by a sixth hand: sensors that are not the usual crank, declarations that are wrong, and faults that hide.

Wheel-speed rings, cams of few windows, engines of few and many cylinders, circuits nobody described, records that begin, end or
pause in mid-work. The shaft, field and recorder are the fifth hand's, with other sizes and other company; what the pictures mean is
common practice, no published source; all sizes are drawn.

    python -m benchmarks.sixth_hand [FIRST_SEED] [SEEDS] [KIND ...]
"""

from __future__ import annotations

import sys

import numpy as np

from benchmarks import fourth_hand
from benchmarks.fifth_hand import Bench, hall, magnetic, output, switched, usual, wave, wheel
from benchmarks.fourth_hand import gathered, row

KINDS, kind = gathered()


def rolling(rng, slots=48, **more):
    return Bench(rng, state="rolling", rpm=rng.uniform(40, 400), seconds=rng.uniform(3, 6), sway=0.0, **more)


def ring(bench, slots, gone=(), fill=0.5):
    return magnetic(
        bench.turns, [tooth for k, tooth in enumerate(wheel(slots, 0, fill)) if k + 1 not in gone], sharp=0.4
    )


# wheel speed ---------------------------------------------------------------------------------------------------


@kind
def speed_coil_sound(rng):
    bench, slots = rolling(rng), int(rng.choice([44, 46, 48, 52, 96]))
    bench.put("A", wave(bench, ring(bench, slots)))
    return bench.drawn(row("A", "speed", "reluctance", wheel=str(slots)))


@kind
def speed_coil_wheel_not_stated(rng):
    bench, slots = rolling(rng), int(rng.choice([44, 47, 48, 52]))
    bench.put("A", wave(bench, ring(bench, slots)))
    return bench.drawn(row("A", "speed", "reluctance"))


@kind
def speed_coil_tooth_gone(rng):
    bench, slots = rolling(rng), int(rng.choice([44, 48, 52]))
    bench.put("A", wave(bench, ring(bench, slots, gone=(int(rng.integers(5, 40)),))))
    return bench.drawn(row("A", "speed", "reluctance", wheel=str(slots)), right=("extra_gap",), cause="reluctor")


@kind
def speed_hall_tooth_gone(rng):
    bench, slots = rolling(rng), int(rng.choice([44, 48, 52]))
    gone = ring(bench, slots, gone=(int(rng.integers(5, 40)),))
    bench.put("A", output(bench, switched(gone)))
    return bench.drawn(row("A", "speed", "hall", wheel=str(slots), pull_up=5.0), right=("extra_gap",), cause="reluctor")


@kind
def speed_ring_cracked(rng):
    """A split ring: one space a little wider each turn, all others a hair narrower."""
    bench, slots = rolling(rng), 48
    opens = rng.uniform(0.25, 0.4)
    pitch = 1 / (slots + opens)
    teeth = [((k + 0.5) * pitch, 0.5 * pitch, 1.0) for k in range(slots)]
    bench.put("A", wave(bench, magnetic(bench.turns, teeth, sharp=0.4)))
    return bench.drawn(
        row("A", "speed", "reluctance", wheel="48"), right=("odd_tooth",), beside=("erratic",), cause="reluctor"
    )


@kind
def speed_ring_out_of_true(rng):
    bench, slots = rolling(rng), 48
    swing = 1 + rng.uniform(0.3, 0.5) * np.cos(2 * np.pi * bench.turns + rng.uniform(0, 6))
    bench.put("A", wave(bench, ring(bench, slots) * swing))
    return bench.drawn(
        row("A", "speed", "reluctance", wheel="48"), right=("runout",), beside=("odd_tooth",), cause="reluctor"
    )


@kind
def speed_current_levels_close(rng):
    bench, ohm = rolling(rng), 100.0
    low = 0.007 * ohm
    bench.put("A", output(bench, switched(ring(bench, 48)), low=low, high=low + rng.uniform(0.0012, 0.0024) * ohm))
    return bench.drawn(row("A", "speed", "current", shunt_ohm=ohm, wheel="48"), right=("weak_amplitude",))


@kind
def speed_current_not_declared(rng):
    bench, ohm = rolling(rng), 100.0
    bench.put("A", output(bench, switched(ring(bench, 48)), low=0.0071 * ohm, high=0.0139 * ohm))
    given = row("A", "speed", None)
    return bench.drawn(given, words_not=("pull-up of 5", "28 %"))


@kind
def speed_stops_at_a_light(rng):
    """A wheel that slows, stands and rolls again loses nothing."""
    bench = rolling(rng)
    t = bench.t / bench.seconds
    gate = np.clip(np.abs(t - 0.5) * 5 - 0.6, 0, 1)
    bench.turns = np.cumsum(gate) / bench.rate * bench.rpm / 60
    coil = rng.random() < 0.5
    bench.put("A", wave(bench, ring(bench, 48)) if coil else output(bench, switched(ring(bench, 48))))
    return bench.drawn(row("A", "speed", "reluctance" if coil else "hall", wheel="48"))


@kind
def speed_hall_lost_for_a_moment(rng):
    bench = rolling(rng)
    volts = output(bench, switched(ring(bench, 48)))
    at = int(rng.uniform(0.4, 0.7) * len(volts))
    volts[at : at + int(0.25 * bench.rate)] = 5.0
    bench.put("A", volts)
    return bench.drawn(row("A", "speed", "hall", wheel="48", pull_up=5.0), right=("dropout",))


# cams ----------------------------------------------------------------------------------------------------------


CAMS = {
    "one": [(0.3, 0.5, 1.0)],
    "two": [(0.2, 0.1, 1.0), (0.7, 0.3, 1.0)],
    "three": [(0.1, 0.05, 1.0), (0.4, 0.15, 1.0), (0.75, 0.2, 1.0)],
    "five": [(0.05, 0.06, 1.0), (0.25, 0.06, 1.0), (0.3 + 0.05, 0.03, 1.0), (0.55, 0.1, 1.0), (0.8, 0.06, 1.0)],
}


def with_cam(rng, bench, vanes, late=0.0, wander=0.0, high=5.0):
    name, shape = usual(rng)
    bench.put("K", hall(bench, wheel(*shape)))
    off = late / 720 + wander / 720 * np.sin(2 * np.pi * 1.7 * bench.t)
    bench.put("N", output(bench, switched(magnetic(bench.turns / 2 - off, vanes, sharp=0.03)), high=high))
    return name


@kind
def cam_of_any_shape_is_sound(rng):
    bench = Bench(rng, seconds=4)
    name = with_cam(rng, bench, CAMS[str(rng.choice(list(CAMS)))])
    return bench.drawn(row("K", wheel=name), row("N", "cam", "hall"))


@kind
def cam_alone_is_sound(rng):
    bench = Bench(rng, seconds=4)
    vanes = CAMS[str(rng.choice(list(CAMS)))]
    bench.put("N", output(bench, switched(magnetic(bench.turns / 2, vanes, sharp=0.03))))
    return bench.drawn(row("N", "cam", "hall"))


@kind
def cam_coil_with_studs_is_sound(rng):
    bench = Bench(rng, seconds=4)
    studs = [(x, 0.012, 1.0) for x in sorted(rng.uniform(0.05, 0.95, 3))]
    bench.put("N", wave(bench, magnetic(bench.turns / 2, studs, sharp=0.45), per_rpm=0.02))
    return bench.drawn(row("N", "cam", "reluctance"))


@kind
def cam_flat_beside_a_good_crank(rng):
    bench = Bench(rng, seconds=3)
    name = with_cam(rng, bench, CAMS["two"])
    bench.put("N", np.full(len(bench.t), rng.choice([0.02, 4.97])) + rng.normal(0, 0.005, len(bench.t)))
    return bench.drawn(row("K", wheel=name), row("N", "cam", "hall", pull_up=5.0), right=("no_signal",))


@kind
def cam_wanders(rng):
    bench = Bench(rng, seconds=4, state="running")
    name = with_cam(rng, bench, CAMS["three"], wander=rng.uniform(9, 14))
    return bench.drawn(row("K", wheel=name), row("N", "cam", "hall"), right=("timing_scatter",), cause="timing")


@kind
def cam_pulls_down_too_little(rng):
    bench = Bench(rng, seconds=3)
    name, shape = usual(rng)
    bench.put("K", hall(bench, wheel(*shape)))
    low = rng.uniform(1.6, 3.0)
    bench.put("N", output(bench, switched(magnetic(bench.turns / 2, CAMS["two"], sharp=0.03)), low=low))
    return bench.drawn(row("K", wheel=name), row("N", "cam", "hall", pull_up=5.0), right=("low_not_pulled_down",))


# declarations that are wrong -------------------------------------------------------------------------------------


@kind
def crank_and_cam_swapped(rng):
    bench = Bench(rng, seconds=4)
    name = with_cam(rng, bench, CAMS["two"])
    return bench.drawn(row("N", wheel=name), row("K", "cam", "hall"), words_not=("ground", "missing"))


@kind
def signal_and_return_swapped(rng):
    bench = Bench(rng)
    name, shape = usual(rng)
    bench.put("A", hall(bench, wheel(*shape)))
    bench.put("B", 0.02 + rng.normal(0, 0.004, len(bench.t)))
    return bench.drawn(row("B", wheel=name, pull_up=5.0), row("A", "ground", None))


@kind
def coil_declared_hall(rng):
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])))
    name, shape = usual(rng)
    bench.put("A", wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45)))
    return bench.drawn(row("A", "crank", "hall", wheel=name), words_not=("near ground",))


@kind
def nothing_declared_at_all(rng):
    bench = Bench(rng, state=str(rng.choice(["cranking", "running"])), seconds=3)
    _, shape = usual(rng)
    volts = (
        wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45))
        if rng.random() < 0.5
        else hall(bench, wheel(*shape))
    )
    bench.put("Ch 1", volts)
    drawn = bench.drawn()
    return fourth_hand.Drawn(drawn.capture, None, words_not=("near ground",))


@kind
def state_not_told(rng):
    """Running, and nobody said so."""
    bench = Bench(rng, state="running", seconds=2)
    name, shape = usual(rng)
    bench.put("A", hall(bench, wheel(*shape)))
    drawn = bench.drawn(row("A", wheel=name))
    return fourth_hand.Drawn(drawn.capture, {"channel": [row("A", wheel=name)]})


@kind
def wheel_stated_is_another_one(rng):
    bench = Bench(rng, seconds=4)
    (_name, shape), (other, _) = (
        (("36-1", (36, 1)), ("60-2", None)) if rng.random() < 0.5 else (("60-2", (60, 2)), ("36-2", None))
    )
    bench.put("A", hall(bench, wheel(*shape)))
    return bench.drawn(row("A", wheel=other, pull_up=5.0), right=("wrong_pattern",), cause="reluctor")


@kind
def wheel_of_two_gaps_not_stated(rng):
    bench = Bench(rng, seconds=4)
    slots, gaps = (60, (28, 29, 58, 59)) if rng.random() < 0.5 else (36, (16, 17, 34, 35))
    teeth = [tooth for k, tooth in enumerate(wheel(slots)) if k not in gaps]
    bench.put("A", hall(bench, teeth))
    return bench.drawn(row("A"))


@kind
def twelve_and_one(rng):
    bench = Bench(rng, seconds=4)
    teeth = sorted([*wheel(12, fill=0.25), (0.5 / 12 + 0.5 / 12 * rng.uniform(0.8, 1.2), 0.25 / 12, 1.0)])
    bench.put("A", hall(bench, teeth))
    return bench.drawn(row("A"))


@kind
def even_wheel_without_a_gap(rng):
    bench, slots = Bench(rng, seconds=3), int(rng.choice([24, 36, 60, 72]))
    bench.put("A", hall(bench, wheel(slots)))
    return bench.drawn(row("A", wheel=str(slots)))


# levels that move --------------------------------------------------------------------------------------------------


@kind
def low_creeps_up(rng):
    bench = Bench(rng, state="running", seconds=8, rate=20e3)
    name, shape = usual(rng)
    on = switched(magnetic(bench.turns, wheel(*shape)))
    low = 0.15 + rng.uniform(1.6, 2.4) * np.clip((bench.t - 2) / 5, 0, 1)
    bench.put("A", output(bench, on, low=low))
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("low_not_pulled_down",), beside=("erratic",))


@kind
def high_sags_for_good(rng):
    bench = Bench(rng, state="running", seconds=6, rate=20e3)
    name, shape = usual(rng)
    on = switched(magnetic(bench.turns, wheel(*shape)))
    high = np.where(bench.t < rng.uniform(2, 3.5), 5.0, rng.uniform(2.2, 3.2))
    bench.put("A", output(bench, on, high=high))
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("high_not_reached",), beside=("erratic",))


@kind
def coil_fades(rng):
    bench = Bench(rng, state="running", seconds=6, rate=20e3)
    name, shape = usual(rng)
    volts = wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45), per_rpm=0.012)
    fade = np.where(bench.t < 3, 1.0, np.maximum(0.05, 1 - (bench.t - 3) / 1.5))
    bench.put("A", volts * fade, span=1.3 * 2 * np.abs(volts).max())
    return bench.drawn(
        row("A", sensor="reluctance", wheel=name),
        right=("weak_amplitude", "dropout"),
        beside=("erratic", "noise", "runout"),
    )


# hidden ------------------------------------------------------------------------------------------------------------


@kind
def five_milliseconds_in_twenty_seconds(rng):
    bench = Bench(rng, state="running", seconds=12, rate=20e3)
    name, shape = usual(rng)
    volts = hall(bench, wheel(*shape))
    at = int(rng.uniform(3, 9) * bench.rate)
    teeth = rng.uniform(3.2, 6.5) / shape[0] * 60 / bench.rpm
    volts[at : at + int(teeth * bench.rate)] = 5.0
    bench.put("A", volts)
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("dropout",), beside=("erratic",))


@kind
def one_tooth_missed_once(rng):
    """A single tooth that did not come, once in the record, is no lost tooth of the wheel."""
    bench = Bench(rng, state="running", seconds=4, rate=50e3)
    name, shape = usual(rng)
    on = switched(magnetic(bench.turns, wheel(*shape)))
    edges = np.flatnonzero(np.diff(on.astype(int)) == 1)
    k = int(rng.integers(len(edges) // 3, 2 * len(edges) // 3))
    on[edges[k] : edges[k] + int(0.5 * (edges[k + 1] - edges[k])) + 2] = False
    bench.put("A", output(bench, on))
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0), beside=("erratic", "dropout"), words_not=("each turn", "every turn")
    )


@kind
def feed_dips_and_takes_the_signal(rng):
    bench = Bench(rng, state="running", seconds=5, rate=20e3)
    name, shape = usual(rng)
    volts, feed = hall(bench, wheel(*shape)), 13.8 + rng.normal(0, 0.03, len(bench.t))
    at = int(rng.uniform(1.5, 3.5) * bench.rate)
    lasts = int(rng.uniform(0.06, 0.3) * bench.rate)
    feed[at : at + lasts] = rng.uniform(0.2, 3.5)
    volts[at : at + lasts] = 5.0
    bench.put("A", volts)
    bench.put("F", feed)
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0), row("F", "supply", None, nominal=12.0), right=("supply_loss",), beside=("dropout",),
        cause="supply",
    )  # fmt: skip


@kind
def return_lifts_with_the_starter(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    lift = rng.uniform(0.5, 1.1) * (0.8 + 0.2 * np.cos(np.pi * bench.cylinders * bench.turns))
    on = switched(magnetic(bench.turns, wheel(*shape)))
    bench.put("A", output(bench, on, low=0.12 + lift))
    bench.put("G", lift + rng.normal(0, 0.005, len(bench.t)))
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0), row("G", "ground", None), right=("ground_lift",), beside=("low_not_pulled_down",),
        cause="ground",
    )  # fmt: skip


@kind
def key_on_late(rng):
    """The record begins with the key off, then the starter turns: nothing is wrong."""
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    dark = bench.t < rng.uniform(0.6, 1.2)
    bench.turns = np.where(dark, bench.turns[np.flatnonzero(~dark)[0]], bench.turns)
    bench.put("A", np.where(dark, 0.01, hall(bench, wheel(*shape))))
    bench.put("F", np.where(dark, 0.02, 10.8) + rng.normal(0, 0.03, len(bench.t)))
    return bench.drawn(row("A", wheel=name, pull_up=5.0), row("F", "supply", None, nominal=12.0))


@kind
def sparks_on_a_hall(rng):
    bench = Bench(rng, state="running", seconds=3, rate=100e3)
    name, shape = usual(rng)
    volts = hall(bench, wheel(*shape))
    for at in np.flatnonzero(np.diff(np.floor(bench.turns * 2)) > 0):
        n = int(rng.integers(2, 5))
        volts[at : at + n] += rng.choice([-1, 1]) * rng.uniform(5, 9)
    bench.put("A", np.clip(volts, -8, 14), span=24)
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("noise",), beside=("erratic",), cause="interference")


@kind
def hum_on_a_hall(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    hum = rng.uniform(0.5, 1.0) * np.sin(2 * np.pi * rng.choice([50, 60]) * bench.t + rng.uniform(0, 6))
    bench.put("A", hall(bench, wheel(*shape)) + hum)
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0), beside=("noise", "low_not_pulled_down", "high_not_reached"), right=()
    )


@kind
def held_low_over_a_sector(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    on = switched(magnetic(bench.turns, wheel(*shape)))
    begin, wide = rng.uniform(0.15, 0.6), rng.uniform(2.2, 4.5) / shape[0]
    on |= ((bench.turns - begin) % 1.0) < wide
    bench.put("A", output(bench, on))
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("odd_tooth", "extra_gap"), cause="reluctor")


@kind
def gap_that_shakes(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    field = magnetic(bench.turns, wheel(*shape), sharp=0.45)
    course = np.interp(bench.t, np.arange(0, 5, 0.02), rng.normal(0, 0.22, 250))
    bench.put("A", output(bench, switched(field * (0.72 + course))))
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0),
        right=("erratic", "dropout"),
        beside=("odd_tooth", "no_signal"),
        cause="air_gap",
    )


@kind
def two_faults_tooth_and_low(rng):
    bench = Bench(rng, seconds=4)
    name, shape = usual(rng)
    teeth = wheel(*shape)
    del teeth[int(rng.integers(6, shape[0] - shape[1] - 5))]
    bench.put("A", hall(bench, teeth, low=rng.uniform(1.4, 2.6)))
    return bench.drawn(row("A", wheel=name, pull_up=5.0), right=("extra_gap", "low_not_pulled_down"), all_of=True)


@kind
def by_hand_two_turns(rng):
    bench = Bench(rng, seconds=8, rate=10e3)
    steps = (
        np.cumsum(np.clip(np.interp(bench.t, np.arange(0, 9, 0.4), rng.uniform(-0.15, 0.9, 23)), -0.1, None))
        / bench.rate
    )
    bench.turns = steps / steps[-1] * rng.uniform(1.5, 2.8)
    name, shape = usual(rng)
    bench.state = "rolling" if rng.random() < 0.5 else "cranking"
    bench.put("A", hall(bench, wheel(*shape)))
    return bench.drawn(
        row("A", wheel=name, pull_up=5.0),
        beside=("too_short", "erratic"),
        words_not=("each turn", "in 15 of 15"),
    )


@kind
def one_cylinder_diesel(rng):
    bench = Bench(rng, cylinders=int(rng.choice([1, 2])), sway=rng.uniform(0.3, 0.5), seconds=6)
    name, shape = usual(rng)
    coil = rng.random() < 0.5
    bench.put(
        "A", wave(bench, magnetic(bench.turns, wheel(*shape), sharp=0.45)) if coil else hall(bench, wheel(*shape))
    )
    return bench.drawn(row("A", sensor="reluctance" if coil else "hall", wheel=name))


@kind
def twelve_cylinders(rng):
    bench = Bench(rng, cylinders=12, sway=0.05, seconds=3)
    name, shape = usual(rng)
    bench.put("A", hall(bench, wheel(*shape)))
    return bench.drawn(row("A", wheel=name))


def judged(job: tuple[str, int]) -> dict:
    return fourth_hand.judged(job, KINDS)


if __name__ == "__main__":
    fourth_hand.main(sys.argv[1:], KINDS, judged)
