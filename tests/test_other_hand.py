"""The reader on captures drawn by another hand: what it must find, and on sound ones must not.

What the pictures mean is common practice, no published source; the captures are made by `other_hand`, which
knows nothing of the reader.
"""

import numpy as np
import pytest

from other_hand import drawn
from sagen.kinds import examine

HALL = {"role": "crank", "sensor": "hall", "pull_up": 5.0}
COIL = {"role": "crank", "sensor": "reluctance", "polarity": "falling"}
SEEDS = range(4)


def wheel(item) -> str:
    return f"{item.slots}-{sum(n > item.slots - 3 for n in item.gone)}"


def read(item, volts, row, *others, **more):
    return examine(*item.capture(("A", volts, row | {"wheel": row.get("wheel", wheel(item))}), *others, **more))


def kinds(done):
    return sorted({finding.kind for finding in done.findings})


def hall(item, **more):
    return read(item, item.switched(item.before_tooth(item.intervals())), HALL, **more)


# sound -----------------------------------------------------------------------------------------------------------


def plain(item):
    return item.switched(item.before_tooth(item.intervals()))


def sagging(item):
    """A pull-up to the battery falls with it at each compression."""
    high = 12.4 - (2.4 + 0.6 * np.sin(2 * np.pi * item.angle / 720 * item.cylinders))
    return item.switched(item.before_tooth(item.intervals()), high=high)


def ringing(item):
    """Every edge overshoots by a quarter of the swing and rings down."""
    volts = plain(item)
    edges = np.flatnonzero(np.diff(item.before_tooth(item.intervals()).astype(int)))
    for k in range(1, 9):
        at = np.minimum(edges + k, len(volts) - 1)
        up = np.where(volts[np.minimum(edges + 9, len(volts) - 1)] > 2.5, 1, -1)
        volts[at] += up * 1.2 * np.exp(-k / 2.5) * np.cos(1.7 * k)
    return volts


def humming(item):
    return plain(item) + 0.15 * np.sin(2 * np.pi * 50 * item.now)


def drifting(item):
    return plain(item) + np.linspace(0, 0.2, len(item.now))


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize(
    ("make", "more", "row"),
    [
        (plain, {}, {}),
        (plain, {"duty": 0.2}, {}),
        (plain, {"duty": 0.8}, {}),
        (plain, {"starts_s": 0.6}, {}),
        (plain, {"stops_s": 2.3}, {}),
        (sagging, {}, {"pull_up": 12.0}),
        (ringing, {"samples_a_tooth": 40.0}, {}),
        (humming, {}, {}),
        (drifting, {}, {}),
    ],
    ids=["plain", "narrow", "broad", "late start", "stops", "sagging", "ringing", "humming", "drifting"],
)
def test_what_a_sound_sensor_shows_is_no_fault(seed, make, more, row):
    one = drawn(seed, **more)
    done = read(one, make(one), HALL | row)
    assert kinds(done) == []
    found = done.channels[0].reading.wheel
    assert str(found) == wheel(one)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_sound_coil_whose_height_follows_the_speed(seed):
    one = drawn(seed)
    volts = one.coil(3.0)
    assert kinds(read(one, volts + one.rng.normal(0, 0.01 * volts.max(), len(volts)), COIL)) == []


def test_short_spikes_on_the_return_are_no_lift():
    one = drawn(5)
    back = 0.025 + one.rng.normal(0, 0.008, len(one.now))
    for at in one.rng.integers(0, len(back) - 50, 90):
        back[at : at + max(1, int(3e-4 * one.rate))] += one.rng.uniform(-2, 2)
    assert kinds(hall(one)) == []
    assert kinds(read(one, plain(one), HALL, ("G", back, {"role": "ground"}))) == []


# the wheel -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", SEEDS)
def test_a_lost_tooth_keeps_its_number(seed):
    one = drawn(seed)
    tooth = 9 + 5 * seed
    one.gone = (tooth, *one.gone)
    done = hall(one)
    assert kinds(done) == ["extra_gap"]
    twin = one.slots - tooth if len(one.gone) == 2 else tooth  # with 36-1 either gap may be the reference
    assert done.findings[0].fields["tooth"] in (tooth, twin)
    assert done.findings[0].fields["repeats"]


def test_the_tooth_opposite_the_gap_is_lost_and_half_a_wheel_is_mentioned():
    one = drawn(3, slots=36, gone=(18, 36))
    done = read(one, plain(one), HALL | {"wheel": "36-1"})
    assert kinds(done) == ["extra_gap"]
    assert done.findings[0].fields["tooth"] == 18
    assert "18-1 wheel would show the same" in done.findings[0].text


@pytest.mark.parametrize("sensor", ["current", "hall"])
def test_an_even_wheel_that_lost_a_tooth_has_one_gap_and_no_odd_teeth_beside_it(sensor):
    one = drawn(7, slots=48, gone=(17,), ripple=0.0, rpm=400.0)
    on = one.before_tooth(one.intervals())
    if sensor == "current":
        volts, row = one.switched(on, 1.4, 0.7, 0.006), {"role": "speed", "sensor": "current", "shunt_ohm": 100.0}
    else:
        volts, row = one.switched(on), {"role": "speed", "sensor": "hall", "pull_up": 5.0}
    done = read(one, volts, row | {"wheel": "48"}, state="rolling")
    assert kinds(done) == ["extra_gap"]
    assert "should have no gap" in done.findings[0].text


@pytest.mark.parametrize(
    ("own", "stated"), [((24, 1), "36-1"), ((36, 2), "60-2"), ((12, 1), "60-2"), ((12, 1), "36-2")]
)
def test_another_wheel_is_named_in_a_handful_of_turns(own, stated):
    slots, missing = own
    one = drawn(
        11, slots=slots, gone=tuple(range(slots - missing + 1, slots + 1)), seconds=1.5, ripple=0.06, cylinders=4
    )
    done = read(one, plain(one), HALL | {"wheel": stated})
    assert kinds(done) == ["wrong_pattern"]
    assert (done.findings[0].fields["slots"], done.findings[0].fields["missing"]) == own


@pytest.mark.parametrize("seed", SEEDS)
def test_a_tooth_out_of_place_is_named_on_a_coarse_wheel_too(seed):
    slots = (60, 36, 24, 12)[seed]
    one = drawn(seed, slots=slots, gone=(slots,), cylinders=4, ripple=0.1, seconds=4.0, samples_a_tooth=30.0)
    one.shift = {7: 0.2}
    done = hall(one)
    assert kinds(done) == ["odd_tooth"]
    assert [f.fields["tooth"] for f in done.findings] == [7]


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", SEEDS)
def test_a_low_tooth_and_a_wheel_that_runs_out(seed):
    one = drawn(seed)
    one.tall = {12: 0.55}
    volts = one.coil(3.0)
    low = read(one, volts + one.rng.normal(0, 0.01 * volts.max(), len(volts)), COIL)
    assert kinds(low) == ["odd_tooth"]
    assert low.findings[0].fields["tooth"] == 12
    one.tall = {}
    eccentric = read(one, one.coil(3.0, runout=0.3), COIL)
    assert kinds(eccentric) == ["runout"]
    assert eccentric.findings[0].fields["depth"] == pytest.approx(0.3, abs=0.04)


# the sensor, its gap and its wires --------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", SEEDS)
def test_short_pulses_of_wandering_teeth_are_not_taken_for_disturbance(seed):
    # A slow output does not reach its level in a short pulse: that looks like a near miss and is none.
    one = drawn(seed)
    spans = one.intervals()
    spans += one.rng.normal(0, 0.15 * one.pitch, spans.shape)
    spans = spans[one.rng.random(len(spans)) > 0.06]
    spans[1:, 0] = np.maximum(spans[1:, 0], spans[:-1, 1] + 0.02 * one.pitch)
    spans[:, 1] = np.maximum(spans[:, 1], spans[:, 0] + 0.05 * one.pitch)
    spans[1:, 0] = np.maximum(spans[1:, 0], spans[:-1, 1])
    done = read(one, one.slow(plain_of(one, spans), 0.05), HALL)
    assert kinds(done) == ["erratic"]


def plain_of(item, spans):
    return item.switched(item.before_tooth(spans))


@pytest.mark.parametrize("seed", SEEDS)
def test_a_coil_whose_height_wanders_has_a_gap_that_moves(seed):
    one = drawn(seed)
    volts = one.coil(3.0)
    wander = one.slow(one.rng.normal(0, 1, len(volts)), 1.5)
    volts = volts * np.exp(0.4 * wander / wander.std())
    assert kinds(read(one, volts + one.rng.normal(0, 0.005 * volts.max(), len(volts)), COIL)) == ["erratic"]


@pytest.mark.parametrize("seed", SEEDS)
def test_crossed_wires_are_seen_though_the_signal_lies_flat_in_the_gap(seed):
    one = drawn(seed, slots=32, gone=(31, 32), ripple=0.2)
    volts = one.coil(1.2)
    volts = -volts + 2.5 + one.rng.normal(0, 0.004, len(volts))
    done = read(one, volts, COIL, bits=9)
    assert kinds(done) == ["reversed_polarity"]
    assert kinds(read(one, 5.0 - volts, COIL, bits=9)) == []


@pytest.mark.parametrize("seed", SEEDS)
def test_rare_spikes_half_way_to_the_other_level_are_noise(seed):
    one = drawn(seed, seconds=2.5)
    volts = plain(one)
    hit = one.rng.random(len(volts)) < 0.003
    volts = volts + hit * one.rng.choice([-1, 1], len(volts)) * one.rng.uniform(1.9, 3.2, len(volts))
    assert kinds(read(one, volts, HALL)) == ["noise"]


@pytest.mark.parametrize("bits", [8, 10])
def test_a_flat_line_between_two_steps_of_the_recorder_does_not_switch(bits):
    one = drawn(21)
    volts = np.full(len(one.now), 4.93) + one.rng.normal(0, 0.006, len(one.now))
    volts[0] = 9.0  # sets the recorder's range
    done = read(one, volts, HALL, bits=bits)
    assert kinds(done) == ["no_signal"]
    assert done.findings[0].fields["held"] == "high"


def lifted(item, start, end, volts):
    within = (item.now > start) & (item.now < end)
    back = 0.02 + volts * within + item.rng.normal(0, 0.005, len(item.now))
    on = item.before_tooth(item.intervals())
    return item.switched(on, low=0.15 + volts * within), back


@pytest.mark.parametrize(("volts", "shows"), [(0.6, False), (2.6, True)])
def test_a_return_that_lifts_is_told_to_the_millisecond_and_with_what_it_does(volts, shows):
    one = drawn(4, seconds=3.0)
    signal, back = lifted(one, 1.2034, 1.6511, volts)
    done = read(one, signal, HALL, ("G", back, {"role": "ground"}))
    lift = next(f for f in done.findings if f.kind == "ground_lift")
    assert lift.fields["start_s"] == pytest.approx(1.2034, abs=4e-4)
    assert lift.fields["end_s"] == pytest.approx(1.6511, abs=4e-4)
    assert lift.fields["level_v"] == pytest.approx(volts + 0.02, abs=0.02)
    # The line goes on switching between a low that stands as high as the return and its pull-up.
    low = [f for f in done.findings if f.kind == "low_not_pulled_down"]
    assert bool(low) == shows
    for found in low:
        assert found.fields["level_v"] == pytest.approx(0.15 + volts, abs=0.05)
        assert found.spans[0].start_s == pytest.approx(1.2034, abs=0.06)
    assert set(kinds(done)) <= {"ground_lift", "low_not_pulled_down"}


def test_less_than_a_handful_of_teeth_is_too_short():
    one = drawn(2, slots=12, gone=(12,), rpm=180.0, seconds=0.14, ripple=0.0, samples_a_tooth=60.0)
    assert kinds(read(one, plain(one), HALL | {"wheel": "12-1"})) == ["too_short"]


# cam -------------------------------------------------------------------------------------------------------------


def cam_beside(item, late=0.0, wander=0.0, spikes=0):
    windows = ((20, 60), (200, 270), (380, 480), (560, 630))
    own = late + (item.rng.normal(0, wander, 64)[((item.angle + 45) // 90).astype(int) % 64] if wander else 0.0)
    at = (item.angle - own) % 720
    volts = item.switched(np.any([(at >= a) & (at < b) for a, b in windows], axis=0))
    for place in item.rng.integers(100, len(volts) - 100, spikes):
        volts[place : place + 2] = 5.0 - volts[place : place + 2]
    return ("C", volts, {"role": "cam", "sensor": "hall", "pull_up": 5.0})


@pytest.mark.parametrize("late", [-32.7, 18.0, 40.0])
def test_a_jumped_cam_by_its_degrees(late):
    good, one = drawn(8), drawn(9)
    good.slots = one.slots = 60
    good.gone = one.gone = (59, 60)
    reference = good.capture(("A", plain(good), HALL | {"wheel": "60-2"}), cam_beside(good))
    here = one.capture(("A", plain(one), HALL | {"wheel": "60-2"}), cam_beside(one, late=late))
    done = examine(*here, reference=reference)
    assert kinds(done) == ["timing_offset"]
    assert done.findings[0].fields["offset_deg"] == pytest.approx(late, abs=0.5)


@pytest.mark.parametrize("wander", [2.5, 4.0])
def test_a_wandering_cam_by_its_standard_deviation(wander):
    one = drawn(13, seconds=6.0, samples_a_tooth=20.0)
    done = read(one, plain(one), HALL, cam_beside(one, wander=wander))
    assert "timing_scatter" in kinds(done)
    scatter = next(f for f in done.findings if f.kind == "timing_scatter")
    assert scatter.fields["scatter_deg"] == pytest.approx(wander, rel=0.35)


def test_a_spike_on_the_cam_is_no_slack_chain():
    one = drawn(15, seconds=4.0)
    assert "timing_scatter" not in kinds(read(one, plain(one), HALL, cam_beside(one, spikes=6)))
