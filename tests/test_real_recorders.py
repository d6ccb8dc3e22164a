"""What real recorders give: holes and stamps in the time column, few samples, levels that move, lines that rise too slowly.
Common practice, no published source, unless a line says otherwise."""

import numpy as np
import pytest
from scipy.signal import lfilter, resample
from tests.conftest import square_teeth

from permeance import Gap
from sagen.casework.examination import build_pyramids
from sagen.files import read_capture, write_capture
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError
from sagen.model.sheet import Sheet
from sagen.report.strip_scene import strip_scene
from sagen.signal.levels import interpolated, noise_of, unpredicted_noise

SFREQ = 50_000.0
HALL = {"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}


def kinds(done):
    return sorted({str(item.kind) for item in done.findings})


def inspected(capture, state="cranking", **row):
    return examine(capture, Sheet.from_data({"conditions": {"state": state}, "channel": [HALL | row]}))


def volts_looked(volts, sfreq=SFREQ, state="cranking", **row):
    return inspected(Capture("a.csv", sfreq, (Channel("A", volts.astype(np.float32)),)), state, **row)


# the time column --------------------------------------------------------------------------------------------------


def table(tmp_path, keep, times=None):
    one = Gap(seed=11, samples_a_tooth=16.0)
    volts, now = one.switched(), one.now if times is None else times(one)
    there = keep(one)
    path = tmp_path / "a.csv"
    np.savetxt(path, np.column_stack([now, volts])[there], "%.8g", ",", header="Time (s),A (V)", comments="")
    return one, path


def with_a_hole(item):
    return (item.now < 1.2) | (item.now > 1.33)


def test_a_hole_is_marked_and_nothing_is_measured_across_it(tmp_path):
    one, path = table(tmp_path, with_a_hole)
    capture = read_capture(path)
    ((first, stop),) = capture.holes
    assert first / capture.sfreq == pytest.approx(1.2, abs=2 / capture.sfreq)
    assert stop / capture.sfreq == pytest.approx(1.33, abs=2 / capture.sfreq)
    assert "nothing was recorded for 130 ms from 1.20" in capture.said[0]
    assert "line " in capture.said[0]
    done = inspected(capture)
    assert kinds(done) == []
    teeth = done.channels[0].reading.teeth
    assert not ((teeth.times > 1.2) & (teeth.times < 1.33)).any()
    across = np.searchsorted(teeth.times, 1.25) - 1
    assert teeth.spans[across] == 0
    assert np.isnan(teeth.speed_rpm()[across])
    # Behind it the wheel is found again: the teeth have the numbers that the shaft gives them.
    behind = teeth.times > 1.4
    turned = np.interp(teeth.times[behind], one.now, one.turns)
    assert set((np.floor((turned % 1.0) * 60 + 0.3).astype(int) + 1 - teeth.number[behind]) % 60) <= {0, 59, 1}
    # Levels are those of what was recorded.
    assert done.channels[0].levels.low == pytest.approx(0.13, abs=0.05)


def test_the_picture_shows_the_hole_and_a_file_keeps_it(tmp_path):
    _, path = table(tmp_path, with_a_hole)
    capture = read_capture(path)
    done = inspected(capture)
    strip = strip_scene(done, build_pyramids(done.capture))
    assert strip.holes[0] == pytest.approx((1.2, 1.33), abs=1e-3)
    low, high = strip.columns(strip.lanes[0], 1.0, 1.5, 500)
    assert np.isnan(low[210:320]).all()
    assert np.isfinite(high[:190]).all()
    write_capture(tmp_path / "b.csv", capture)
    again = read_capture(tmp_path / "b.csv")
    assert again.holes == capture.holes
    assert Capture.of(capture.about(), [channel.raw for channel in capture.channels]).holes == capture.holes


def test_two_holes_doubled_stamps_and_a_jittering_clock_are_read(tmp_path):
    rng = np.random.default_rng(0)
    _, path = table(tmp_path, lambda item: with_a_hole(item) & ((item.now < 2.0) | (item.now > 2.05)))
    capture = read_capture(path)
    assert len(capture.holes) == 2
    assert kinds(inspected(capture)) == []
    _, path = table(
        tmp_path, lambda item: np.sort(np.concatenate([np.arange(len(item.now)), rng.integers(0, 9000, 40)]))
    )
    assert kinds(inspected(read_capture(path))) == []
    _, path = table(
        tmp_path, lambda item: slice(None), lambda item: item.now + rng.uniform(-0.3, 0.3, len(item.now)) / item.sfreq
    )
    capture = read_capture(path)
    assert not capture.holes
    assert kinds(inspected(capture)) == []


def test_more_hole_than_recording_is_refused_with_its_place(tmp_path):
    _, path = table(tmp_path, lambda item: (item.now < 0.2) | (item.now > 3.3))
    with pytest.raises(CaptureFileError, match=r"line \d+: the recording has a hole here, 3\.1 s are missing"):
        read_capture(path)


def test_a_signal_that_is_lost_beside_a_hole_is_still_lost(tmp_path):
    one = Gap(seed=12, samples_a_tooth=16.0)
    volts = np.where((one.now > 2.2) & (one.now < 2.5), 4.93, one.switched())
    path = tmp_path / "a.csv"
    np.savetxt(
        path, np.column_stack([one.now, volts])[with_a_hole(one)], "%.8g", ",", header="Time (s),A (V)", comments=""
    )
    done = inspected(read_capture(path))
    assert kinds(done) == ["dropout"]
    assert done.findings[0].fields["start_s"] == pytest.approx(2.2, abs=0.02)


# few samples ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("period", [4.7, 5.5, 7.3])
def test_noise_of_a_wave_with_few_samples_is_told_by_what_a_prediction_leaves(period):
    rng = np.random.default_rng(3)
    wave = 3.0 * np.sin(2 * np.pi * np.arange(20_000) / period + 1e-5 * np.arange(20_000))
    noisy = wave + rng.normal(0, 0.02, len(wave))
    assert unpredicted_noise(noisy) == pytest.approx(0.02, rel=0.25)
    assert noise_of(noisy) > 0.2  # third differences take the wave for noise


def test_interpolation_between_samples_agrees_with_a_fourier_series():
    # scipy.signal.resample is exact for a periodic, band-limited signal.
    at = np.arange(600)
    wave = np.sin(2 * np.pi * 100 * at / 600) + 0.3 * np.cos(2 * np.pi * 37 * at / 600 + 0.4)
    mine = interpolated(Channel("A", wave.astype(np.float32)), 8).raw
    theirs = resample(wave, 8 * 600)
    np.testing.assert_allclose(mine[400:-400], theirs[400:-400], atol=0.012)
    np.testing.assert_allclose(mine[::8], wave, atol=1e-6)


# levels that move -------------------------------------------------------------------------------------------------


def test_a_pull_up_that_follows_the_battery_is_no_noise():
    one = Gap(seed=13, cylinders=4)
    battery = 11.4 + 1.1 * np.sin(2 * np.pi * one.turns * 2) - 0.6 * np.exp(-one.now)
    volts = one.switched(high=battery)
    done = volts_looked(volts, one.sfreq, pull_up=12.0)
    assert kinds(done) == []
    assert done.channels[0].reading.levels.noise < 0.3


def test_a_return_that_rises_in_every_compression_is_one_finding_with_its_stretches():
    one = Gap(seed=14)
    lift = 0.6 * np.clip(np.sin(2 * np.pi * one.turns * 2), 0, None) ** 2
    rows = [HALL, {"column": "G", "role": "ground"}]
    sheet = Sheet.from_data({"conditions": {"state": "cranking"}, "channel": rows})
    rng = np.random.default_rng(0)
    channels = [("A", one.switched(low=0.13 + lift)), ("G", 0.02 + lift + rng.normal(0, 0.005, len(lift)))]
    made = tuple(Channel(name, values.astype(np.float32)) for name, values in channels)
    done = examine(Capture("a.csv", one.sfreq, made), sheet)
    assert [str(item.kind) for item in done.findings] == ["ground_lift"]
    found = done.findings[0]
    assert len(found.spans) > 10
    assert f"{len(found.spans)} times between" in found.text


# a line that cannot rise in time ------------------------------------------------------------------------------------


@pytest.mark.parametrize("pitches", [0.35, 0.6, 0.9])
def test_a_slow_rise_is_measured_against_its_time_constant(pitches):
    # 10 to 90 % of an exponential is ln 9 time constants (IEEE Std 181-2011: transition duration).
    turns = 700 / 60 * np.arange(200_000) / SFREQ
    place = (turns % 1.0) * 60
    on = (place % 1.0 < 0.5) & (place < 58)
    tau = pitches * 60 / 700 / 60
    keep = np.exp(-1 / (tau * SFREQ))
    volts, level = np.empty(len(on)), 4.9
    borders = np.flatnonzero(np.diff(on)) + 1
    for part in np.split(np.arange(len(on)), borders):
        volts[part] = (
            0.15 if on[part[0]] else lfilter([1 - keep], [1, -keep], np.full(len(part), 4.9), zi=[keep * level])[0]
        )
        level = volts[part[-1]]
    done = volts_looked(volts + np.random.default_rng(0).normal(0, 0.01, len(volts)), state="running")
    assert kinds(done) == ["high_not_reached"]
    assert "Rises too slowly" in done.findings[0].text
    assert done.findings[0].facts["rise_s"] == pytest.approx(np.log(9) * tau, rel=0.1)
    row = done.channels[0].as_row()
    assert row["wheel"] == {"slots": 60, "missing": 2}
    assert row["rise_s"] == done.channels[0].reading.rise_s


def test_an_edge_that_rises_in_time_is_not_slow():
    assert kinds(volts_looked(square_teeth(seconds=2.0))) == []
    assert volts_looked(square_teeth(seconds=2.0)).channels[0].reading.rise_s is None


# the sensor's own doing ---------------------------------------------------------------------------------------------


def test_missed_teeth_and_short_double_pulses_are_irregular_and_no_disturbance():
    one = Gap(seed=15, samples_a_tooth=60.0)
    rng = np.random.default_rng(1)
    volts = one.switched()
    falls = np.flatnonzero((volts[1:] < 2.5) & (volts[:-1] >= 2.5)) + 1
    rises = np.flatnonzero((volts[1:] > 2.5) & (volts[:-1] <= 2.5)) + 1
    for fall in falls[:-1]:
        rise = rises[np.searchsorted(rises, fall)]
        chance = rng.random()
        if chance < 0.05:
            volts[fall:rise] = 4.93
        elif chance < 0.09:
            middle = (fall + rise) // 2
            volts[middle : middle + 3] = 4.93
    done = volts_looked(volts, one.sfreq)
    assert kinds(done) == ["erratic"]
    assert "missed" in done.findings[0].text
    assert "doubled" in done.findings[0].text


@pytest.mark.parametrize("bits", [8, 10])
def test_a_flat_line_that_steps_between_two_codes_has_no_wheel(bits):
    rng = np.random.default_rng(bits)
    step = 20.0 / 2**bits
    volts = np.round((4.95 + rng.normal(0, 0.4 * step, 16_000)) / step) * step
    done = volts_looked(volts, 4500.0, wheel="48-2")
    assert kinds(done) == ["no_signal"]
