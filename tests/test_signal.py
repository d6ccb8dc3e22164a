"""Levels, edges, teeth and the pyramid against outside references and plain arithmetic."""

import numpy as np
import pytest

from conftest import square_teeth
from sagen.model.capture import Channel
from sagen.model.wheel import Wheel
from sagen.signal.edges import find_edges, median_of_five, without_glitches
from sagen.signal.levels import smoothed, state_levels
from sagen.signal.pyramid import Pyramid
from sagen.signal.wheel_search import read_teeth


def fall_times(volts, sfreq, low=1.3, high=3.7):
    return find_edges(volts, lower=low, upper=high).falls / sfreq


@pytest.mark.parametrize(("low", "high", "duty"), [(0.3, 4.7, 0.5), (0.05, 11.6, 0.2), (1.9, 4.9, 0.7)])
def test_state_levels_agree_with_another_ieee_181_implementation(low, high, duty):
    from pulse_transitions import matpulse

    # IEEE Std 181-2011, 5.2 (histogram mode), as implemented by the package pulse-transitions; its bins
    # are a hundredth of the span wide, so half a bin is the most the two may differ by.
    volts = square_teeth(low=low, high=high, duty=duty, noise=0.005)
    ours = state_levels(Channel("A", volts))
    theirs = matpulse.statelevels(volts)[0]
    assert ours.low == pytest.approx(theirs[0], abs=0.006 * (high - low))
    assert ours.high == pytest.approx(theirs[1], abs=0.006 * (high - low))
    assert (ours.low, ours.high) == (pytest.approx(low, abs=0.003), pytest.approx(high, abs=0.003))


def test_a_few_spikes_do_not_move_the_levels():
    volts = square_teeth()
    volts[::5000] = 60.0
    levels = state_levels(Channel("A", volts))
    assert (levels.low, levels.high) == (pytest.approx(0.1, abs=0.02), pytest.approx(5.0, abs=0.02))
    assert Pyramid(volts).extremes()[1] == 60.0


def test_levels_of_integers_come_out_in_volts():
    raw = (square_teeth(noise=0.0) * 1000 - 2000).astype(np.int16)
    levels = state_levels(Channel("A", raw, scale=0.001, offset=2.0))
    assert (levels.low, levels.high) == (pytest.approx(0.1, abs=1e-3), pytest.approx(5.0, abs=1e-3))


def test_edge_lies_where_another_implementation_sees_mid_crossing():
    from pulse_transitions import matpulse

    # Mid-reference-level instant, IEEE Std 181-2011, 5.3: a ramp from 0.3 to 4.7 V in 4 us that starts at
    # 10 us crosses halfway at 12 us.
    time = np.arange(0, 30e-6, 0.05e-6)
    ramp = np.interp(time, [10e-6, 14e-6], [0.3, 4.7])
    edges = find_edges(ramp, lower=1.4, upper=3.6)
    assert edges.rising.tolist() == [True]
    assert edges.at[0] * 0.05e-6 == pytest.approx(12e-6, rel=1e-6)
    assert edges.at[0] * 0.05e-6 == pytest.approx(matpulse.midcross(ramp, fs=20e6), rel=1e-3)


def slow_hysteresis(samples, lower, upper):
    """Sample by sample, as a textbook states it."""
    state, out = None, []
    for index, value in enumerate(samples):
        new = True if value >= upper else False if value <= lower else state
        if state is not None and new != state:
            out.append((index, new))
        state = new
    return out


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("dtype", [np.float32, np.int16])
def test_edges_agree_with_a_plain_loop(seed, dtype):
    rng = np.random.default_rng(seed)
    samples = (np.cumsum(rng.normal(size=300_000)) * 40).clip(-9000, 9000).astype(dtype)
    edges = find_edges(samples, lower=-700.0, upper=650.0, middle=0.0)
    expected = slow_hysteresis(samples, -700.0, 650.0)
    assert edges.rising.tolist() == [rising for _, rising in expected]
    # Each edge lies at or before the sample that proves it, at a true crossing of the middle.
    assert all(at <= index for at, (index, _) in zip(edges.at, expected, strict=True))
    before, after = samples[np.floor(edges.at).astype(int)], samples[np.ceil(edges.at).astype(int)]
    assert (np.minimum(before, after) <= 0).all()
    assert (np.maximum(before, after) >= 0).all()


def test_edges_across_chunk_borders_are_not_lost():
    samples = np.zeros(1 << 19, np.float32)
    samples[(1 << 17) - 1 : 1 << 18] = 5.0
    edges = find_edges(samples, lower=1.0, upper=4.0)
    assert edges.at.tolist() == [(1 << 17) - 1.5, (1 << 18) - 0.5]


def test_thresholds_the_wrong_way_round_are_refused():
    with pytest.raises(ValueError, match="must lie below"):
        find_edges(np.zeros(5), lower=2.0, upper=1.0)


def test_glitches_go_and_teeth_stay():
    volts = square_teeth(noise=0.0)
    clean = find_edges(volts, lower=1.0, upper=4.0)
    volts[20_040:20_042] = 5.0 - volts[20_040]
    spoiled = find_edges(volts, lower=1.0, upper=4.0)
    mended, removed = without_glitches(spoiled)
    assert len(spoiled) == len(clean) + 2
    np.testing.assert_allclose(mended.at, clean.at)
    assert removed[0] == pytest.approx(20_040, abs=2)


def test_median_of_five_agrees_with_scipy():
    from scipy.ndimage import median_filter

    values = np.random.default_rng(0).normal(size=1000)
    np.testing.assert_array_equal(median_of_five(values), median_filter(values, 5, mode="mirror"))


def test_smoothing_agrees_with_scipy():
    from scipy.ndimage import uniform_filter1d

    values = np.random.default_rng(0).normal(size=1000).astype(np.float32)
    ours = smoothed(Channel("A", values), 17).raw
    np.testing.assert_allclose(ours, uniform_filter1d(values, 17, mode="nearest"), atol=1e-5)


@pytest.mark.parametrize("length", [5, 16, 1000, 70_001])
def test_pyramid_shows_every_extreme(length):
    samples = np.random.default_rng(length).normal(size=length).astype(np.float32)
    pyramid = Pyramid(samples)
    for start, stop, columns in (
        (0, length, min(50, length)),
        (0, length, max(1, length // 2)),
        (length * 0.2, length * 0.7, max(1, min(33, length // 3))),
    ):
        low, high = pyramid.view(start, stop, columns)
        borders = start + (stop - start) / columns * np.arange(columns + 1)
        for i in range(columns):
            inside = samples[int(np.ceil(borders[i])) : max(int(borders[i + 1]), int(np.ceil(borders[i])) + 1)]
            if len(inside):
                assert low[i] <= inside.min()
                assert high[i] >= inside.max()
    assert np.nanmin(pyramid.view(0, length, 1)[0]) == samples.min()


def test_pyramid_is_empty_outside_the_capture():
    low, _ = Pyramid(np.ones(100, np.float32)).view(-100, 200, 6)
    assert np.isnan(low[[0, 5]]).all()
    assert (low[2:4] == 1).all()


def test_tooth_frequency_is_teeth_times_speed():
    # Arithmetic of the trade: tooth frequency = slots * rpm / 60.
    volts = square_teeth(slots=36, missing=1, rpm=450.0, noise=0.0)
    teeth = read_teeth(fall_times(volts, 50_000.0))
    assert teeth.wheel == Wheel(36, 1)
    frequency = teeth.spans.sum() / (teeth.times[-1] - teeth.times[0])
    assert frequency == pytest.approx(36 * 450.0 / 60, rel=1e-3)
    # One sample of 50 kHz is half a percent of a tooth here.
    assert np.median(teeth.speed_rpm()) == pytest.approx(450.0, rel=6e-3)


@pytest.mark.parametrize(("slots", "missing"), [(60, 2), (36, 1), (48, 2), (24, 1), (54, 3), (90, 2), (12, 1)])
def test_wheel_is_found_from_the_data_alone(slots, missing):
    volts = square_teeth(slots=slots, missing=missing, ripple=0.12, cylinders=4)
    assert read_teeth(fall_times(volts, 50_000.0)).wheel == Wheel(slots, missing)


def test_tooth_numbers_start_after_the_gap_and_angles_follow():
    # Phase 0.3: the record starts 0.3 turns after tooth 1's edge, so the first edges are known by arithmetic.
    volts = square_teeth(slots=60, missing=2, rpm=200.0, phase=0.3, noise=0.0)
    teeth = read_teeth(fall_times(volts, 50_000.0), Wheel(60, 2))
    turns = 200.0 / 60 * teeth.times + 0.3
    expected = np.round((turns % 1.0) * 60).astype(int) % 60 + 1
    np.testing.assert_array_equal(teeth.number, expected)
    apart = np.diff(teeth.angle_deg())
    np.testing.assert_allclose(apart, np.diff(turns) * 360.0, atol=0.1)


def test_missing_tooth_keeps_its_number():
    volts = square_teeth(lost=(31,), noise=0.0)
    teeth = read_teeth(fall_times(volts, 50_000.0), Wheel(60, 2))
    assert 31 not in teeth.number
    assert {30, 32} <= set(teeth.number.tolist())
    assert teeth.lost == {31: 1.0}


@pytest.mark.parametrize("times", [[], [0.1], [0.1, 0.2], [0.1, 0.2, 0.3, 0.4]])
def test_too_few_edges_give_no_wheel(times):
    assert read_teeth(np.array(times)).wheel is None
