"""The reader on captures of another hand: the permeance of a gap under a shaft that a cylinder's pressure brakes. What the
pictures mean is common practice, no published source."""

import numpy as np
import pytest

from permeance import Gap
from sagen.kinds import examine
from sagen.signal.catalogue import usual_name

HALL = {"role": "crank", "sensor": "hall", "pull_up": 5.0}
COIL = {"role": "crank", "sensor": "reluctance", "polarity": "falling"}
WHEELS = [(60, 2), (36, 1), (36, 2), (24, 1), (12, 1), (30, 2)]


def of(slots, missing, **more):
    return Gap(slots, tuple(range(slots - missing + 1, slots + 1)), **more)


def told(item, kind="hall", wheel=None, stated=True, **row):
    volts, row = (item.switched(), HALL | row) if kind == "hall" else (item.coil(), COIL | row)
    missing = sum(tooth > item.slots - 3 for tooth in item.gone)
    row |= {"wheel": wheel or f"{item.slots}-{missing}"} if stated else {}
    return examine(*item.read(("A", volts, row)))


def kinds(done):
    return sorted({str(item.kind) for item in done.findings})


@pytest.mark.sampled(1)
@pytest.mark.parametrize("wheel", WHEELS, ids=str)
@pytest.mark.parametrize(("course", "cylinders", "kind"), [
    ("cranking", 4, "hall"), ("cranking", 5, "coil"), ("released", 4, "coil"), ("starting", 6, "hall"), ("released", 3, "hall"),
])  # fmt: skip
def test_a_sound_wheel_under_compression_is_clean_and_is_what_is_stated(wheel, course, cylinders, kind):
    done = told(of(*wheel, course=course, cylinders=cylinders, seed=sum(wheel)), kind)
    assert kinds(done) == []
    assert (done.channels[0].reading.wheel.slots, done.channels[0].reading.wheel.missing) == wheel


@pytest.mark.sampled(1)
@pytest.mark.parametrize("wheel", WHEELS, ids=str)
@pytest.mark.parametrize("cylinders", [3, 4, 6])
def test_a_wheel_that_nobody_stated_is_found_and_no_absurd_one(wheel, cylinders):
    done = told(of(*wheel, cylinders=cylinders, seed=7), stated=False)
    found = done.channels[0].reading.wheel
    assert (found.slots, found.missing) == wheel
    assert kinds(done) == []


@pytest.mark.sampled(1)
@pytest.mark.parametrize("kind", ["hall", "coil"])
@pytest.mark.parametrize("wheel", [(60, 2), (36, 2), (58, 2)], ids=str)
@pytest.mark.parametrize("seed", [1, 2])
def test_a_lost_tooth_keeps_its_number(kind, wheel, seed):
    one = of(*wheel, seed=seed)
    tooth = 7 + 9 * seed
    one.gone = (tooth, *one.gone)
    done = told(one, kind, f"{wheel[0]}-{wheel[1]}")
    assert kinds(done) == ["extra_gap"]
    assert done.findings[0].fields["tooth"] == tooth


@pytest.mark.parametrize("wheel", [(60, 2), (24, 1)], ids=str)
@pytest.mark.parametrize("kind", ["hall", "coil"])
def test_a_tooth_out_of_place_is_named_in_few_turns(wheel, kind):
    one = of(*wheel, seed=3)
    one.moved = {9: 0.22}
    done = told(one, kind)
    assert kinds(done) == ["odd_tooth"]
    assert done.findings[0].fields["tooth"] == 9
    assert "beyond chance" in done.findings[0].text  # told with its significance


@pytest.mark.parametrize(("seed", "share"), [(1, 0.0), (2, 0.06)])
def test_what_bridges_two_teeth_is_told_as_that_and_no_tooth_is_missing(seed, share):
    one = of(60, 2, seed=seed)
    one.between = (20.0 + share, 0.3)
    done = told(one)
    assert kinds(done) == ["odd_tooth"]
    assert done.findings[0].fields["tooth"] == 21
    assert "No space between teeth 20 and 21" in done.findings[0].text


@pytest.mark.parametrize("wide", [0.1, 0.2])
def test_a_pulse_too_many_in_every_turn_is_no_other_wheel_and_no_noise(wide):
    one = of(60, 2, seed=3)
    place = (one.turns % 1.0) * 60
    volts = np.where(np.abs(place - 24.0) < wide / 2, 0.13, one.switched())
    done = examine(*one.read(("A", volts, HALL | {"wheel": "60-2"})))
    assert kinds(done) == ["odd_tooth"]
    assert done.findings[0].fields["tooth"] == 24
    assert "A pulse too many between teeth 24 and 25" in done.findings[0].text


def test_wheels_with_several_gaps_are_found_by_counting_and_called_by_their_usual_name():
    one = Gap(36, (14, 15, 17, 18, 35, 36), seed=4)
    for wheel in ("36: 14-15, 17-18, 35-36", None):
        done = told(one, wheel=wheel, stated=wheel is not None)
        assert kinds(done) == []
        assert usual_name(done.channels[0].reading.wheel) == "36-2-2-2"
    lost = Gap(36, (6, 14, 15, 17, 18, 35, 36), seed=4)
    done = told(lost, wheel="36: 14-15, 17-18, 35-36")
    assert kinds(done) == ["extra_gap"]
    assert done.findings[0].fields["tooth"] == 6


@pytest.mark.parametrize("samples", [5.2, 6.5, 8.0])
def test_a_coil_of_few_samples_a_tooth_is_read_between_them(samples):
    done = told(of(60, 2, seed=5, samples_a_tooth=samples), "coil")
    assert kinds(done) == []
    assert done.channels[0].reading.levels.swing > 2.0


@pytest.mark.parametrize("kind", ["hall", "coil"])
def test_a_signal_that_goes_while_the_shaft_turns_is_lost_whatever_crosses_zero_meanwhile(kind):
    one = of(60, 2, seed=6)
    volts, row = (one.switched(), HALL) if kind == "hall" else (one.coil(), COIL)
    off = (one.now > 1.4) & (one.now < 1.75)
    hum = 0.011 * np.abs(volts).max() * np.sin(2 * np.pi * 50 * one.now)
    volts = np.where(off, 4.93 if kind == "hall" else 0.0, volts) + (hum if kind == "coil" else 0.0)
    done = examine(*one.read(("A", volts, row | {"wheel": "60-2"})))
    assert kinds(done) == ["dropout"]
    assert done.findings[0].fields["start_s"] == pytest.approx(1.4, abs=0.03)
    assert done.findings[0].fields["end_s"] == pytest.approx(1.75, abs=0.03)


def test_an_eccentric_wheel_runs_out_in_a_coil():
    assert kinds(told(of(60, 2, seed=8, runout=0.45), "coil")) == ["runout"]


def test_a_cam_s_toothed_wheel_may_lose_a_tooth_and_the_wheel_is_suspected():
    from sagen.casework.examination import capture_entry
    from sagen.reason.case import case_of, circuit_of_sheet
    from sagen.reason.weights import weigh

    one = of(60, 2, seed=9)
    cam = Gap(24, (10, 24), seed=9, samples_a_tooth=60.0)
    cam.now, cam.sfreq = one.now, one.sfreq
    cam.turns = one.turns / 2
    rows = (
        ("A", one.switched(), HALL | {"wheel": "60-2"}),
        ("B", cam.switched(), HALL | {"role": "cam", "wheel": "24-1"}),
    )
    done = examine(*one.read(*rows))
    assert kinds(done) == ["extra_gap"]
    assert done.findings[0].channel == "B"
    suspects, _ = weigh(case_of([capture_entry(done)], circuit_of_sheet(done.sheet, done.findings)))
    assert suspects[0].cause == "reluctor"


def test_leads_that_are_swapped_are_read_the_other_way_round():
    one = of(60, 2, seed=10)
    cam = Gap(8, (2, 5, 8), seed=10)
    cam.now, cam.sfreq, cam.turns = one.now, one.sfreq, one.turns / 2
    crank, other = one.switched(), cam.switched()
    done = examine(*one.read(("A", other, HALL | {"wheel": "60-2"}), ("B", crank, HALL | {"role": "cam"})))
    assert kinds(done) == []
    assert "A and B are the other way round" in done.notes[0]
    assert {item.sheet.column: str(item.sheet.role) for item in done.channels} == {"A": "cam", "B": "crank"}
