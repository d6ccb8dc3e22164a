"""What the simulated recorder sees, against arithmetic, SciPy and the physics of shafts, coils and piezo elements."""

import numpy as np
import pytest
from scipy import signal

from sagen.kinds import broken, build
from sagen.kinds.coil.part import coil_emf
from sagen.machine import knock
from sagen.machine.meter import read
from sagen.machine.record import _settled, record, shaft_turns
from sagen.model.circuit import CircuitSpec
from sagen.signal.edges import find_edges

HALL = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
COIL = CircuitSpec(role="crank", sensor="reluctance", wheel="36-1")
CURRENT = CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48")
PIEZO = CircuitSpec(role="knock", sensor="piezo")
CAM = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="4")


# the shaft --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("state", ["cranking", "running", "start"])
@pytest.mark.parametrize("cylinders", [3, 4, 6])
def test_speed_is_the_slope_of_the_angle(state, cylinders):
    machine = build(HALL, 3)
    machine.cylinders = cylinders
    times = np.arange(60_000) / 20_000
    turns, speed = shaft_turns(machine, state, times)
    slope = np.gradient(turns, times)
    inside = slice(4000, -50) if state == "start" else slice(50, -50)
    np.testing.assert_allclose(slope[inside], speed[inside], rtol=0.06 if state == "start" else 0.012)


@pytest.mark.parametrize("cylinders", [3, 4, 6, 8])
def test_compression_comes_half_the_cylinders_times_a_turn(cylinders):
    machine = build(HALL, 3, plain=True)
    machine.cylinders, machine.ripple = cylinders, 0.2
    times = np.arange(200_000) / 20_000
    turns, speed = shaft_turns(machine, "cranking", times)
    # By shaft angle, not by time: the strongest order of the speed along the turn.
    even = np.arange(turns[0], turns[-1], 1 / 256)
    along = np.interp(even, turns, speed)
    spectrum = np.abs(np.fft.rfft((along - along.mean()) * np.hanning(len(along))))
    order = np.fft.rfftfreq(len(along), 1 / 256)[spectrum.argmax()]
    assert order == pytest.approx(cylinders / 2, abs=0.1)


@pytest.mark.parametrize("state", ["key_on", "strike"])
def test_at_rest_nothing_turns(state):
    turns, speed = shaft_turns(build(HALL, 1), state, np.arange(100) / 1e4)
    assert not turns.any()
    assert not speed.any()


# switching sensors ------------------------------------------------------------------------------------------------


def test_teeth_a_turn_are_those_of_the_wheel():
    machine = build(HALL, 5)
    capture, _ = record(machine, "running", seconds=3.0)
    volts = capture.channels[0].raw
    falls = len(find_edges(volts, lower=1.5, upper=3.5).falls)
    turns, _ = shaft_turns(build(HALL, 5), "running", np.arange(len(volts)) / 50_000)
    assert falls == pytest.approx((turns[-1] - turns[0]) * 58, abs=3)


def test_levels_are_those_that_the_meter_reads_at_rest():
    # The recorder and the meter see the same circuit: clear of metal it rests at the pull-up.
    machine = build(HALL, 7, plain=True)
    capture, _ = record(machine, "cranking", seconds=1.0)
    volts = capture.channels[0].raw
    high, low = np.median(volts[volts > 2.5]), np.median(volts[volts < 2.5])
    assert high == pytest.approx(read(build(HALL, 7, plain=True), "signal", "metal_away").value, abs=0.05)
    assert low == pytest.approx(read(build(HALL, 7, plain=True), "signal", "metal_near").value, abs=0.08)


@pytest.mark.parametrize("tau_samples", [0.3, 4.0, 40.0])
def test_a_wires_charge_follows_as_a_first_order_filter(tau_samples):
    # scipy.signal.lfilter with the same pole, for a constant lag.
    rng = np.random.default_rng(2)
    state = np.repeat(rng.integers(0, 2, 60), rng.integers(3, 50, 60))
    target = np.where(state, 5.0, 0.2)
    got = _settled(target, state, np.array([tau_samples, tau_samples]) / 1e4, 1e4)
    pole = np.exp(-1 / tau_samples)
    wanted, _ = signal.lfilter([1 - pole], [1, -pole], target, zi=[target[0] * pole])
    np.testing.assert_allclose(got, wanted, atol=1e-9)


def test_feed_and_return_are_beside_the_signal_with_their_roles():
    capture, sheet = record(build(HALL, 1), "running", seconds=0.5)
    roles = [item.role for item in sheet.channel]
    assert roles[0] == "crank"
    assert {"supply", "ground"} <= set(roles)
    means = {role: float(np.mean(channel.raw)) for role, channel in zip(roles, capture.channels, strict=True)}
    assert 11 < means["supply"] < 15
    assert abs(means["ground"]) < 0.2


@pytest.mark.parametrize("bits", [6, 8])
def test_a_recorder_of_so_many_bits_has_so_many_steps(bits):
    machine = build(HALL, 1)
    machine.bits = bits
    raw = record(machine, "cranking", seconds=1.0)[0].channels[0].raw.astype(np.float64)
    steps = np.unique(np.round(np.diff(np.unique(raw)), 6))
    step = steps[steps > 1e-6].min()
    assert np.allclose(raw / step, np.round(raw / step), atol=1e-2)
    assert 2**bits * step == pytest.approx(2 * 1.2 * np.abs(raw).max(), rel=0.02)


def test_two_levels_of_current_across_the_resistor():
    # Common practice, no published source: about 7 and 14 mA.
    machine = build(CURRENT, 4)
    capture, sheet = record(machine, "rolling", seconds=1.0)
    shunt = sheet.channel[0].shunt_ohm
    low, high = np.quantile(capture.channels[0].raw, [0.1, 0.9]) / shunt * 1000
    assert low == pytest.approx(7.0, rel=0.12)
    assert high == pytest.approx(14.0, rel=0.12)


# coils --------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("factor", [0.5, 2.0, 4.0])
def test_open_volts_grow_with_speed(factor):
    # Faraday's law: the same flux in a shorter time.
    times = np.arange(40_000) / 40_000
    once, faster = build(COIL, 2, plain=True), build(COIL, 2, plain=True)
    turns = 5.0 * times
    slow = np.abs(coil_emf(once, turns, np.full(len(times), 5.0))).max()
    fast = np.abs(coil_emf(faster, factor * turns, np.full(len(times), 5.0 * factor))).max()
    assert fast == pytest.approx(factor * slow, rel=0.05)


def test_flux_comes_back_each_tooth():
    # What a passing tooth adds it takes away again: the open volts of a whole turn add up to nothing.
    times = np.arange(36_000) / 36_000
    volts = coil_emf(build(COIL, 2, plain=True), times, np.ones(len(times)))
    assert abs(volts.sum()) < 0.01 * np.abs(volts).sum()


def test_crossed_wires_turn_the_signal_over():
    times = np.arange(8000) / 8000
    machine, crossed = build(COIL, 2, plain=True), build(COIL, 2, plain=True)
    crossed.reversed = True
    np.testing.assert_allclose(coil_emf(crossed, times, np.ones(8000)), -coil_emf(machine, times, np.ones(8000)))


@pytest.mark.parametrize("gap", [1.35, 1.7, 2.4])
def test_a_wider_gap_is_a_lower_signal_and_never_a_higher(gap):
    times = np.arange(8000) / 8000
    usual, wide = build(COIL, 2, plain=True), build(COIL, 2, plain=True)
    wide.gap_mm = gap
    ratio = np.abs(coil_emf(wide, times, np.ones(8000))).max() / np.abs(coil_emf(usual, times, np.ones(8000))).max()
    assert ratio == pytest.approx(np.exp(-(gap - 1) / 0.7), rel=0.05)


# piezo ---------------------------------------------------------------------------------------------------------------


def test_a_tap_rings_at_the_elements_frequency_and_dies_by_its_damping(monkeypatch):
    monkeypatch.setattr(knock, "BODY", ())
    machine = build(PIEZO, 3, plain=True)
    times = np.arange(20_000) / 400_000
    volts = knock._rung(machine, times, np.array([0.005]), np.ones(1), np.empty(0))
    assert not volts[times < 0.005].any()
    crossings = np.flatnonzero((volts[:-1] < 0) & (volts[1:] >= 0))
    hertz = 400_000 / np.median(np.diff(crossings[:40]))
    zeta = machine.values.piezo_zeta
    assert hertz == pytest.approx(machine.values.piezo_hz * np.sqrt(1 - zeta**2), rel=0.01)
    # Logarithmic decrement: 2 pi zeta / sqrt(1 - zeta^2) from one peak to the next.
    peaks, _ = signal.find_peaks(volts)
    decrement = np.log(volts[peaks[0]] / volts[peaks[5]]) / 5
    assert decrement == pytest.approx(2 * np.pi * zeta / np.sqrt(1 - zeta**2), rel=0.05)


def test_the_modules_load_takes_some_of_the_height_and_none_of_the_frequency(monkeypatch):
    monkeypatch.setattr(knock, "BODY", ())

    def struck(state):
        capture, _ = record(build(PIEZO, 3, plain=True), state, seconds=0.4, sfreq=200_000.0)
        volts = capture.channels[0].values() - np.median(capture.channels[0].values())
        hit = int(np.abs(volts).argmax())
        ring = volts[hit : hit + 4_000]
        lines = np.abs(np.fft.rfft(ring * np.hanning(len(ring)), 1 << 17))
        return np.abs(volts).max(), lines.argmax() * 200_000.0 / (1 << 17)

    (bare, bare_hz), (loaded, loaded_hz) = struck("unplugged"), struck("strike")
    assert 0.2 * bare < loaded < 0.95 * bare
    assert loaded_hz == pytest.approx(bare_hz, rel=0.01)


# cams ----------------------------------------------------------------------------------------------------------------


def test_a_cam_comes_with_its_crank_and_turns_at_half_its_speed():
    capture, sheet = record(build(CAM, 2), "running", seconds=2.0)
    assert [item.role for item in sheet.channel][:2] == ["cam", "crank"] or "crank" in {
        item.role for item in sheet.channel
    }
    cam = capture.channels[0].raw
    crank = capture.channels[[item.role for item in sheet.channel].index("crank")].raw
    windows = len(find_edges(cam, lower=1.5, upper=3.5).falls)
    teeth = len(find_edges(crank, lower=1.5, upper=3.5).falls)
    # 58 teeth a turn of the crank, four windows in two turns of it.
    assert teeth / windows == pytest.approx(58 * 2 / 4, rel=0.08)


# faults show where they are ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("fault", "spec", "state", "sees"), [
    ("fuse blown", HALL, "cranking", lambda item: np.median(item["supply"]) < 1),
    ("signal wire shorted to ground", HALL, "cranking", lambda item: np.max(item["crank"]) < 1),
    ("output never switches", HALL, "cranking", lambda item: np.quantile(item["crank"], 0.02) > 4),
    ("return open", HALL, "cranking", lambda item: np.quantile(item["crank"], 0.02) > 2),
    ("output stuck low", HALL, "cranking", lambda item: np.quantile(item["crank"], 0.98) < 1),
    ("coil open", COIL, "cranking", lambda item: np.ptp(np.quantile(item["crank"], [0.02, 0.98])) < 0.2),
])  # fmt: skip
def test_a_plain_fault_is_seen_in_the_volts_themselves(fault, spec, state, sees):
    capture, sheet = record(broken(spec, [(fault, 0.9)], 3), state, seconds=1.0)
    roles = [item.role for item in sheet.channel]
    assert sees({role: channel.raw for role, channel in zip(roles, capture.channels, strict=True)})


@pytest.mark.parametrize("severity", [0.2, 0.6, 1.0])
def test_more_severe_is_never_milder(severity):
    # Resistance in the return: the low level it leaves grows with it.
    mild, worse = (
        np.quantile(record(broken(HALL, [("return high resistance", item)], 3), "running", seconds=1.0)[0].channels[0].raw, 0.1)
        for item in (0.1, severity)
    )  # fmt: skip
    assert worse >= mild - 0.02
