"""Cams on the crank's 720 degrees, and feed and return: arithmetic written out here, and the trade's facts."""

import numpy as np
import pytest
from scipy.interpolate import CubicHermiteSpline

from conftest import square_teeth
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.signal.cam import CYCLE, crank_angle
from sagen.signal.cam_difference import cam_difference, turn_between
from sagen.signal.rails import read_rail
from test_rotating import CAM, CRANK, SFREQ, WINDOWS, cam_windows


def look(crank=None, cam=None, *, state="cranking", good=None, sprocket=None, rails=(), crank_row=CRANK):
    """Examine a crank and a cam, with rails beside them."""

    def pair(crank, cam):
        channels = [Channel("A", crank), Channel("C", cam)] if cam is not None else [Channel("A", crank)]
        rows = [{"column": "A", **crank_row}] + ([{"column": "C", **CAM}] if cam is not None else [])
        for name, values, row in rails:
            channels.append(Channel(name, values.astype(np.float32)))
            rows.append({"column": name, **row})
        engine = {"cylinders": 4} | ({"sprocket": sprocket} if sprocket else {})
        return Capture("a", SFREQ, tuple(channels)), Sheet.from_data(
            {"engine": engine, "conditions": {"state": state}, "channel": rows}
        )

    return examine(*pair(crank, cam), reference=pair(*good) if good else None)


def kinds(done):
    return sorted({finding.kind for finding in done.findings})


@pytest.fixture(scope="module")
def good():
    return square_teeth(rpm=230.0, seconds=3.0, phase=0.3), cam_windows(WINDOWS, rpm=230.0, seconds=3.0)


# the crank's angle ------------------------------------------------------------------------------------------------


def test_angle_between_teeth_is_the_cubic_with_its_neighbours_speeds():
    reading = look(square_teeth(seconds=2.0)).channels[0].reading
    teeth = reading.teeth
    at = np.random.default_rng(0).uniform(teeth.times[3], teeth.times[-4], 300)
    got = crank_angle(teeth, at)
    angle, wide = teeth.angle_deg(), np.diff(teeth.times)
    speed = np.diff(angle) / wide
    tangent = np.concatenate([[speed[0]], (speed[:-1] * wide[1:] + speed[1:] * wide[:-1]) / (wide[:-1] + wide[1:]), [speed[-1]]])  # fmt: skip
    np.testing.assert_allclose(got, CubicHermiteSpline(teeth.times, angle, tangent)(at), rtol=1e-9)


@pytest.mark.parametrize("ripple", [0.0, 0.2])
def test_angle_is_that_of_the_shaft_within_a_tenth_of_a_degree(ripple):
    reading = look(square_teeth(ripple=ripple, seconds=3.0, phase=0.0)).channels[0].reading
    at = np.linspace(0.5, 2.5, 500)
    turns = 200 / 60 * at
    turns = turns + ripple / (4 * np.pi) * np.sin(4 * np.pi * turns)
    got = crank_angle(reading.teeth, at)
    apart = (got - 360 * turns + 180) % 360 - 180
    assert np.abs(apart - np.median(apart)).max() < (0.1 if ripple == 0 else 0.4)


def test_angle_is_not_known_outside_the_teeth_or_over_an_interruption():
    volts = square_teeth(seconds=3.0)
    volts[60_000:80_000] = 5.0
    teeth = look(volts).channels[0].reading.teeth
    assert np.isnan(crank_angle(teeth, np.array([-1.0, 1.4, 99.0]))).all()
    assert np.isfinite(crank_angle(teeth, np.array([0.6, 2.4]))).all()


# the template -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("count", [1, 2, 3, 4])
def test_the_template_has_every_edge_of_the_cycle(count):
    done = look(square_teeth(seconds=3.5), cam_windows(WINDOWS[:count], seconds=3.5))
    track = done.cams["C"]
    assert len(track.template) == 2 * count
    wanted = np.sort([edge for window in WINDOWS[:count] for edge in window])
    turned = min(
        (np.sort((track.template + turn) % CYCLE) for turn in np.arange(0, 720, 0.25)),
        key=lambda value: np.abs(value - wanted).max(),
    )
    np.testing.assert_allclose(turned, wanted, atol=0.6)
    assert kinds(done) == []


@pytest.mark.parametrize("late", [-12.0, -6.0, 5.0, 15.0, 30.0])
def test_a_jump_is_so_many_degrees_and_so_many_teeth(late, good):
    done = look(square_teeth(seconds=3.0), cam_windows(WINDOWS, late_deg=late), good=good, sprocket=24)
    found = [finding for finding in done.findings if finding.kind == "timing_offset"]
    assert len(found) == 1
    assert found[0].fields["offset_deg"] == pytest.approx(late, abs=0.5)
    # Common practice, no published source: one tooth of a crank sprocket of N teeth is 360/N crank degrees.
    assert found[0].fields["belt_teeth"] == pytest.approx(abs(late) / 15.0, abs=0.06)
    assert ("late" if late > 0 else "early") in found[0].text


@pytest.mark.parametrize("late", [-2.0, 0.0, 1.5])
def test_within_tolerance_there_is_no_jump(late, good):
    assert kinds(look(square_teeth(seconds=3.0), cam_windows(WINDOWS, late_deg=late), good=good)) == []


# A tooth of a sprocket of N is 360/N degrees: 10 is one of 36, 7 would be one of 51, which no crank has.
@pytest.mark.parametrize(("late", "told"), [(10.0, "One tooth of a 36-tooth"), (7.0, "")])
def test_without_the_sprocket_the_teeth_are_not_made_up(late, told, good):
    done = look(square_teeth(seconds=3.0), cam_windows(WINDOWS, late_deg=late), good=good)
    assert done.findings[0].fields["belt_teeth"] is None
    assert told in done.findings[0].text
    assert ("sprocket" in done.findings[0].text) == bool(told)


@pytest.mark.sampled(1)
@pytest.mark.parametrize("start", [0.3, 1.3])
@pytest.mark.parametrize("late", [0.0, 8.0])
def test_the_turn_in_which_a_capture_starts_makes_no_difference(start, late, good):
    crank = square_teeth(seconds=3.0, phase=start)
    done = look(crank, cam_windows(WINDOWS, late_deg=late, phase=start), good=good)
    found = cam_difference(done.cams["C"], look(*good).cams["C"])
    assert found.offset == pytest.approx(late, abs=0.3)
    assert found.shape == ""
    assert all(edge.difference == pytest.approx(late, abs=0.5) for edge in found.edges)
    assert turn_between(done.cams["C"], look(*good).cams["C"]) in (0.0, 360.0)


def test_cams_of_another_shape_are_not_compared(good):
    other = look(square_teeth(seconds=3.0), cam_windows(((10, 200),), seconds=3.0))
    assert cam_difference(other.cams["C"], look(*good).cams["C"]).shape == "other"


@pytest.mark.parametrize("wander", [4.0, 7.0])
def test_wandering_is_a_standard_deviation(wander):
    done = look(square_teeth(seconds=9.0), cam_windows(WINDOWS, seconds=9.0, wander=wander))
    found = [finding for finding in done.findings if finding.kind == "timing_scatter"]
    assert len(found) == 1
    # Of fifteen cycles: their own standard deviation is known to a fifth.
    assert found[0].fields["scatter_deg"] == pytest.approx(wander, rel=0.4)


def test_a_cam_without_its_crank_has_no_track():
    volts = cam_windows(WINDOWS)
    sheet = Sheet.from_data({"channel": [{"column": "C", **CAM}]})
    done = examine(Capture("a", SFREQ, (Channel("C", volts),)), sheet)
    assert done.cams == {}


def test_a_lost_window_is_a_dropout_of_the_cam_and_not_of_the_crank():
    cam = cam_windows(WINDOWS, seconds=5.0)
    cam[100_000:150_000] = 4.9
    done = look(square_teeth(seconds=5.0), cam)
    found = [finding for finding in done.findings if finding.kind == "dropout"]
    assert [item.channel for item in found] == ["C"]
    assert found[0].fields["start_s"] == pytest.approx(2.0, abs=0.2)
    assert found[0].fields["end_s"] == pytest.approx(3.0, abs=0.2)


# feed and return ----------------------------------------------------------------------------------------------------

FEED = {"role": "supply", "nominal": 12.4}
EARTH = {"role": "ground"}


def rail(level, *, dips=(), seconds=2.0, noise=0.02, seed=0):
    volts = np.full(int(seconds * SFREQ), level) + np.random.default_rng(seed).normal(0, noise, int(seconds * SFREQ))
    for start, end, to in dips:
        volts[int(start * SFREQ) : int(end * SFREQ)] = to
    return volts


@pytest.mark.parametrize("to", [0.0, 3.0, 6.0])
@pytest.mark.parametrize(("start", "end"), [(0.5, 0.9), (1.2, 1.22)])
def test_a_feed_that_falls_is_told_with_start_end_and_level(to, start, end):
    done = look(square_teeth(), rails=(("F", rail(12.3, dips=((start, end, to),)), FEED),), state="running")
    found = [finding for finding in done.findings if finding.kind == "supply_loss"]
    assert len(found) == 1
    assert found[0].fields["start_s"] == pytest.approx(start, abs=0.012)
    assert found[0].fields["end_s"] == pytest.approx(end, abs=0.012)
    assert found[0].fields["level_v"] == pytest.approx(to, abs=0.3)


def test_a_battery_that_sags_under_the_starter_is_no_loss():
    # Common practice, no published source: down to about 9.5 V while cranking is a sound battery.
    time = np.arange(int(2.0 * SFREQ)) / SFREQ
    volts = 12.5 - 2.3 * (1 - np.exp(-time / 0.05)) + 0.3 * np.sin(2 * np.pi * 6 * time)
    assert kinds(look(square_teeth(), rails=(("F", volts, FEED),))) == []


@pytest.mark.parametrize("to", [0.6, 1.5, 5.0])
def test_a_return_that_rises_is_told(to):
    done = look(square_teeth(), rails=(("G", rail(0.03, dips=((0.7, 1.1, to),), noise=0.005), EARTH),))
    found = [finding for finding in done.findings if finding.kind == "ground_lift"]
    assert len(found) == 1
    assert found[0].fields["level_v"] == pytest.approx(to, abs=0.1)


@pytest.mark.parametrize("level", [0.01, 0.04, 0.09])
def test_tens_of_millivolts_are_a_good_return(level):
    # Common practice, no published source: below about 100 mV; 40 mV is good.
    assert kinds(look(square_teeth(), rails=(("G", rail(level, noise=0.003), EARTH),))) == []


def test_ignition_spikes_on_a_good_return_are_no_lift():
    volts = rail(0.03, noise=0.004)
    for at in np.arange(0.05, 1.95, 0.06):
        first = int(at * SFREQ)
        volts[first : first + 6] += [4.0, -2.5, 1.5, -0.8, 0.4, -0.2]
    assert kinds(look(square_teeth(), rails=(("G", volts, EARTH),))) == []


def test_a_rail_is_read_in_volts_with_its_factor():
    row = Sheet.from_data({"channel": [{"column": "F", "role": "supply", "nominal": 12.4, "factor": 10.0}]}).channel[0]
    read = read_rail(Channel("F", rail(1.24).astype(np.float32), "V", 10.0), row, SFREQ)
    assert read is not None
    done = look(square_teeth(), rails=(("F", rail(1.24, noise=0.002), {**FEED, "factor": 10.0}),))
    assert kinds(done) == []
