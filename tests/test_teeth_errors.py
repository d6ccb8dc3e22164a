"""What is known of single teeth: place, width, what repeats and what does not, and one wheel against another.

Tooth times are made by arithmetic; what should come out is known in closed form, or comes from NumPy and SciPy.
"""

import numpy as np
import pytest
from scipy import stats
from scipy.interpolate import lagrange

from conftest import square_teeth
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.finding_words import odd_words
from sagen.model.sheet import Sheet
from sagen.model.wheel import Wheel
from sagen.signal.compare import compare, teeth_apart
from sagen.signal.deviation import (
    ToothDeviations,
    by_place,
    irregular_teeth,
    medians_of,
    phase_errors,
    swing_once_a_turn,
    without_orders,
)
from sagen.signal.measures import LEAST
from sagen.signal.outliers import outstanding
from sagen.signal.wheel_search import read_teeth

WHEEL = Wheel(60, 2)


def tooth_times(turns=12, *, slots=60, missing=2, pitch=0.005, moved=None, jitter=0.0, seed=0, course=lambda t: t):
    """Times (s) of every tooth; `moved` in pitches by tooth number, `course` bends time as speed does."""
    place = np.arange(turns * slots)
    number = place % slots + 1
    there = number <= slots - missing
    late = np.zeros(len(place))
    for tooth, by in (moved or {}).items():
        late[number == tooth] = by
    late = late + jitter * np.random.default_rng(seed).normal(size=len(place))
    return course((place + late)[there] * pitch)


# phase errors -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("course", [
    lambda t: t,
    lambda t: 0.3 * t + 0.02 * t**2,
    lambda t: t + 0.01 * t**2 - 0.0004 * t**3,
])  # fmt: skip
def test_smooth_changes_of_speed_are_no_lateness(course):
    # A cubic through four points is exact for every time course up to the third power: speeding up at a
    # changing rate shows nothing, neither in the row nor beside the gap.
    times = tooth_times(course=course)
    late = phase_errors(read_teeth(times, WHEEL), times)
    assert np.isfinite(late).sum() == len(times) - 4
    assert np.nanmax(np.abs(late)) < 1e-6


@pytest.mark.parametrize("tooth", [5, 23, 40])
@pytest.mark.parametrize("by", [-0.2, 0.07, 0.3])
def test_a_tooth_out_of_place_is_late_by_its_own_displacement(tooth, by):
    times = tooth_times(moved={tooth: by})
    teeth = read_teeth(times, WHEEL)
    errors = by_place(teeth, phase_errors(teeth, times))
    at = int(np.flatnonzero(errors.number == tooth)[0])
    # The cubic through the two neighbours on each side: weights 2/3, 2/3, -1/6, -1/6.
    assert errors.by_place[at - 2 : at + 3] == pytest.approx(by * np.array([1 / 6, -2 / 3, 1, -2 / 3, 1 / 6]), rel=0.12)
    rest = np.delete(errors.by_place, range(at - 2, at + 3))
    assert np.abs(rest).max() < 1e-6


def test_weights_beside_the_gap_are_those_of_lagrange():
    # Tooth 1: its neighbours before it stand 3 and 4 slots away, those after it 1 and 2.
    rng = np.random.default_rng(4)
    times = np.sort(tooth_times(4) + rng.uniform(0, 5e-4, 4 * 58))
    teeth = read_teeth(times, WHEEL)
    late = phase_errors(teeth, times)
    first = int(np.flatnonzero(teeth.number == 1)[1])
    slots = np.array([-4.0, -3.0, 1.0, 2.0])
    near = times[[first - 2, first - 1, first + 1, first + 2]]
    expected = times[first] - lagrange(slots, near)(0.0)
    pitch = (near[3] - near[0]) / 6
    shrunk = max(1.0, np.sqrt(abs(np.prod(slots)) / 4))
    assert late[first] == pytest.approx(expected / pitch / shrunk, rel=1e-9)


def test_nothing_is_said_beside_an_interruption():
    times = tooth_times(8)
    cut = np.delete(times, np.arange(200, 260))
    teeth = read_teeth(cut, WHEEL)
    assert (teeth.spans == 0).sum() == 1
    late = phase_errors(teeth, cut)
    lost = int(np.flatnonzero(teeth.spans == 0)[0])
    assert np.isnan(late[lost - 1 : lost + 3]).all()
    assert np.nanmax(np.abs(late)) < 1e-6


# what repeats and what does not ---------------------------------------------------------------------------


@pytest.mark.parametrize("turns", [3, 10, 100])
def test_scatter_from_turn_to_turn_is_the_noise_put_in(turns):
    # The cubic's own noise gain: the root of 1 + 2 (2/3)^2 + 2 (1/6)^2.
    gain = np.sqrt(1 + 8 / 9 + 2 / 36)
    times = tooth_times(turns + 2, jitter=0.02, seed=turns)
    teeth = read_teeth(times, WHEEL)
    errors = by_place(teeth, phase_errors(teeth, times))
    assert errors.turns >= turns
    assert errors.scatter == pytest.approx(0.02 * gain, rel=0.18 if turns > 3 else 0.4)


def test_median_of_turns_agrees_with_numpy_where_values_are_missing():
    times = tooth_times(9, jitter=0.03)
    teeth = read_teeth(times, WHEEL)
    measure = np.random.default_rng(2).normal(size=len(times))
    measure[np.random.default_rng(3).integers(0, len(times), 25)] = np.nan
    errors = by_place(teeth, measure)
    np.testing.assert_allclose(errors.by_place, np.nanmedian(errors.values, axis=0))


def test_surprise_of_a_sound_wheel_is_about_normal():
    # Of many sound wheels the places' surprises are spread as a normal law's, if anything more narrowly in
    # the tails: the share beyond 3 standard errors is not above what Student's t with 20 degrees gives.
    beyond, places = 0, 0
    for seed in range(30):
        times = tooth_times(10, jitter=0.02, seed=seed)
        teeth = read_teeth(times, WHEEL)
        errors = by_place(teeth, phase_errors(teeth, times))
        off = errors.by_place - np.median(errors.by_place)
        surprise = off / errors.standard_error(1.4826 * float(np.median(np.abs(off))))
        beyond += int((np.abs(surprise) > 3).sum())
        places += len(surprise)
    assert beyond / places < 2 * stats.t.sf(3, 20) * 1.2


def test_sampling_in_step_with_the_wheel_does_not_average_out():
    errors = ToothDeviations(np.zeros((50, 58)), np.zeros(58), 0.001, np.arange(1, 59))
    assert errors.sampled(0.2, 1 / 6).locked == pytest.approx(0.2 / 6)
    assert errors.sampled(0.2, 1e-4).locked == 0.0


@pytest.mark.parametrize(("height", "phase"), [(0.1, 0.0), (0.25, 1.9), (0.4, 4.0)])
def test_swing_once_a_turn_is_the_wave_put_in(height, phase):
    number = np.arange(1, 59)
    wave = 1 + height * np.cos(2 * np.pi * (number - 1) / 60 + phase)
    errors = ToothDeviations(np.tile(wave, (5, 1)), wave, 0.0, number)
    amplitude, explained = swing_once_a_turn(errors, 60)
    assert amplitude == pytest.approx(height, rel=1e-3)
    assert explained > 0.999


def test_orders_are_taken_off_without_bending_round_an_odd_tooth():
    number = np.arange(1, 59)
    angle = 2 * np.pi * (number - 1) / 60
    wave = 0.05 * np.cos(angle + 1) + 0.03 * np.sin(2 * angle)
    odd = np.where(number == 21, 0.3, 0.0)
    errors = ToothDeviations(np.tile(wave + odd, (5, 1)), wave + odd, 0.0, number)
    fit, rest = without_orders(errors, 60, (1, 2))
    assert np.hypot(fit[1], fit[2]) == pytest.approx(0.05, rel=0.05)
    assert rest[20] - np.median(rest) == pytest.approx(0.3, rel=0.03)
    assert np.abs(np.delete(rest, 20)).max() < 0.012


@pytest.mark.parametrize("place", [3, 17, 40])
def test_the_footprint_points_at_the_tooth_and_not_at_its_neighbour(place):
    # Strong residue of the engine's breathing beside the tooth must not move the finding to the neighbour.
    rng = np.random.default_rng(place)
    wave = rng.normal(0, 0.004, 58)
    wave[place - 2 : place + 3] += 0.15 * np.array([1 / 6, -2 / 3, 1, -2 / 3, 1 / 6])
    wave[place + 1] -= 0.06
    errors = ToothDeviations(np.tile(wave, (6, 1)), wave, 0.004, np.arange(1, 59))
    found = list(outstanding(errors, np.full(58, 0.05), 5.0, 60, (1,), spread=True))
    assert found[0][0] == place


def test_a_dozen_teeth_need_more_than_sixty():
    # The same tooth, as many spreads out: on a wheel of few teeth the spread itself is known less well.
    rng = np.random.default_rng(1)
    said = {}
    for teeth in (11, 58):
        wave = rng.normal(0, 0.01, teeth)
        wave = (wave - np.median(wave)) / (1.4826 * np.median(np.abs(wave - np.median(wave)))) * 0.01
        wave[5] = 0.055
        errors = ToothDeviations(np.tile(wave, (6, 1)), wave, 0.0, np.arange(1, teeth + 1))
        said[teeth] = [item[0] for item in outstanding(errors, np.full(teeth, 0.02), 4.0, teeth + 1, (), spread=False)]
    assert 5 in said[58]
    assert 5 not in said[11]


def test_irregular_teeth_are_counted_once():
    late = np.zeros(200)
    for at, by in ((30, 0.5), (80, -0.4), (120, 0.35)):
        late[at - 2 : at + 3] += by * np.array([1 / 6, -2 / 3, 1, -2 / 3, 1 / 6])
    found = irregular_teeth(late, np.full(200, 0.2))
    assert list(np.flatnonzero(found)) == [30, 80, 120]


def test_medians_of_stretches_agree_with_numpy():
    rng = np.random.default_rng(0)
    cycle = np.sort(rng.integers(0, 40, 300))
    cycle = cycle[(cycle != 7) & (cycle != 20)]
    late = rng.normal(size=len(cycle))
    got = medians_of(late, cycle)
    wanted = [np.median(late[cycle == index]) if (cycle == index).any() else 0.0 for index in range(cycle[-1] + 1)]
    np.testing.assert_allclose(got, wanted)


# width ------------------------------------------------------------------------------------------------------


def reading_of(volts, sfreq=50_000.0, wheel="60-2", reference=None):
    row = {"column": "A", "role": "crank", "sensor": "hall", "pull_up": 5.0, "wheel": wheel}
    sheet = Sheet.from_data({"conditions": {"state": "cranking"}, "channel": [row]})
    pair = None if reference is None else (Capture("good", sfreq, (Channel("A", reference),)), sheet)
    return examine(Capture("a", sfreq, (Channel("A", volts),)), sheet, reference=pair)


@pytest.mark.parametrize("duty", [0.3, 0.5, 0.7])
@pytest.mark.parametrize("ripple", [0.0, 0.25])
def test_width_is_the_duty_at_every_tooth_beside_the_gap_too(duty, ripple):
    reading = reading_of(square_teeth(duty=duty, ripple=ripple, seconds=3.0)).channels[0].reading
    width = reading.low_width
    # One sample is 0.3 of a hundredth of a pitch; both ends err by half of one.
    assert np.nanmax(np.abs(width[3:-3] - duty)) < 0.02
    beside = np.flatnonzero(reading.teeth.spans > 1)
    assert np.isfinite(width[beside[1:-1]]).all()


def test_width_is_not_known_where_the_signal_stopped():
    volts = square_teeth(seconds=3.0)
    volts[60_000:75_000] = 5.0
    reading = reading_of(volts).channels[0].reading
    lost = int(np.flatnonzero(reading.teeth.spans == 0)[0])
    assert np.isnan(reading.low_width[lost])
    assert np.nanmax(np.abs(reading.low_width - 0.5)) < 0.05


# few samples a tooth ------------------------------------------------------------------------------------------


def coarse_teeth(tooth, by, *, per_tooth, rpm, wheel=WHEEL, wide=0.5, seconds=2.5, seed=0):
    """A square sampled `per_tooth` times a tooth, one tooth moved by a share of the pitch or of another width."""
    sfreq = per_tooth * wheel.slots * rpm / 60
    turns = rpm / 60 * np.arange(int(seconds * sfreq)) / sfreq
    turns = turns + 0.02 / np.pi * np.sin(4 * np.pi * turns) + 0.4
    place = (turns % 1.0) * wheel.slots
    number = np.floor(place).astype(int) + 1
    within = place % 1.0 - 0.5 - np.where(number == tooth, by, 0.0)
    half = np.where(number == tooth, wide, 0.5) / 2
    low = (np.abs(within) < half) & (number <= wheel.slots - wheel.missing)
    noise = np.random.default_rng(seed).normal(0, 0.02, len(low))
    return (np.where(low, 0.2, 4.9) + noise).astype(np.float32), sfreq


@pytest.mark.parametrize("tooth", [6, 19, 33, 50])
@pytest.mark.parametrize("by", [-0.2, 0.2])
@pytest.mark.parametrize("per_tooth", [6.37, 7.71, 11.13])
def test_a_moved_tooth_is_found_at_six_samples_a_tooth(tooth, by, per_tooth):
    volts, sfreq = coarse_teeth(tooth, by, per_tooth=per_tooth, rpm=211.0)
    found = [finding for finding in reading_of(volts, sfreq).findings if finding.kind == "odd_tooth"]
    assert [item.fields["tooth"] for item in found] == [tooth]
    assert ("late" if by > 0 else "early") in found[0].text


@pytest.mark.parametrize("wide", [0.22, 0.8])
@pytest.mark.parametrize("per_tooth", [6.37, 8.26, 14.63])
def test_a_tooth_of_another_width_is_found_at_six_samples_a_tooth(wide, per_tooth):
    volts, sfreq = coarse_teeth(27, 0.0, per_tooth=per_tooth, rpm=187.0, wide=wide)
    found = [finding for finding in reading_of(volts, sfreq).findings if finding.kind == "odd_tooth"]
    assert [item.fields["tooth"] for item in found] == [27]
    assert ("longer" if wide > 0.5 else "shorter") in found[0].text


@pytest.mark.parametrize("per_tooth", [6.0, 6.3, 6.37, 7.0, 8.0, 9.3, 12.0])
@pytest.mark.parametrize("wheel", ["60-2", "36-1", "24-1"])
def test_coarse_sampling_of_a_sound_wheel_is_no_fault(per_tooth, wheel):
    # Whole samples a tooth are in step with the wheel: the same error comes back every turn.
    volts, sfreq = coarse_teeth(0, 0.0, per_tooth=per_tooth, rpm=200.0, wheel=Wheel.parse(wheel))
    assert [finding.kind for finding in reading_of(volts, sfreq, wheel).findings] == []


# against another wheel ------------------------------------------------------------------------------------------


@pytest.mark.parametrize("tooth", [9, 30, 48])
@pytest.mark.parametrize(("by", "wide", "said"), [(0.12, 0.5, "late"), (-0.12, 0.5, "early"), (0.0, 0.7, "longer"), (0.0, 0.34, "shorter")])  # fmt: skip
def test_comparison_names_the_one_tooth_that_differs_and_how(tooth, by, wide, said):
    good, _ = coarse_teeth(0, 0.0, per_tooth=60.0, rpm=300.0)
    bad, sfreq = coarse_teeth(tooth, by, per_tooth=90.0, rpm=200.0, wide=wide)
    result = reading_of(bad, sfreq, reference=None).channels[0].reading
    pattern = reading_of(good, 60.0 * 60 * 300 / 60).channels[0].reading
    told = compare(result, pattern)
    assert told.teeth == (tooth,)
    assert said in told.text
    assert said in teeth_apart(result, pattern)[tooth]


def test_a_fault_that_the_pattern_has_too_is_no_difference():
    good, sfreq = coarse_teeth(14, 0.2, per_tooth=60.0, rpm=300.0)
    bad, other = coarse_teeth(14, 0.2, per_tooth=80.0, rpm=210.0, seed=5)
    here, there = reading_of(bad, other).channels[0].reading, reading_of(good, sfreq).channels[0].reading
    assert compare(here, there).teeth == ()
    assert "differing at no tooth" in compare(here, there).text


def test_other_wheels_are_not_compared_tooth_by_tooth():
    good, sfreq = coarse_teeth(0, 0.0, per_tooth=60.0, rpm=300.0, wheel=Wheel(36, 1))
    here = reading_of(square_teeth()).channels[0].reading
    there = reading_of(good, sfreq, "36-1").channels[0].reading
    assert teeth_apart(here, there) == {}


@pytest.mark.parametrize("name", LEAST)
def test_every_measure_has_words_for_both_ways(name):
    more, less = odd_words(name, 0.2), odd_words(name, -0.2)
    assert "20 %" in more
    assert "20 %" in less
    assert more != less
