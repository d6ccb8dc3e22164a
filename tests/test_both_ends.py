"""Both ends of the wire, and the envelope of several captures: against a circuit solved here, and the normal law."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal, stats

from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Finding
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, RepairEntry
from sagen.model.vocabulary import Cause
from sagen.reason.case import case_of
from sagen.reason.evidence import Inspected
from sagen.reason.weights import infer
from sagen.signal.both_ends import Source, both_ends
from sagen.signal.deviation import ToothDeviations
from sagen.signal.envelope import Band, Envelope, beyond, envelope
from sagen.signal.measures import tooth_measures

RATE = 400_000.0


def _square(seconds: float, rng, wheel=36) -> np.ndarray:
    """Whether the output conducts, by sample: 36-1 at a speed that swings four times a turn."""
    turns = np.cumsum(6.0 * (1 + 0.08 * np.sin(2 * np.pi * 12 * np.arange(int(seconds * RATE)) / RATE))) / RATE
    slot = turns * wheel
    return ((slot % 1) < 0.5) & ((np.floor(slot) % wheel) != wheel - 1)


def wire(
    ohm: float, *, pull_up_ohm=2200.0, farad=4.7e-9, seconds=1.2, seed=1, gone=0, on_ohm=40.0
) -> tuple[np.ndarray, np.ndarray]:
    """Volts at the sensor and at the module's pin. The output is a switch of `on_ohm` to ground at one end of the wire, the
    module's pull-up and capacitance are at the other: one node with a capacitance, solved exactly from sample to sample."""
    rng = np.random.default_rng(seed)
    on = _square(seconds, rng)
    if gone:
        edge = np.flatnonzero(np.diff(on.astype(int)) == 1)[40 : 40 + gone]
    goal = np.where(on, 5.0 * (on_ohm + ohm) / (pull_up_ohm + on_ohm + ohm), 5.0)
    source = np.where(on, pull_up_ohm * (on_ohm + ohm) / (pull_up_ohm + on_ohm + ohm), pull_up_ohm)
    keep = np.exp(-1 / RATE / (source * farad))
    module = np.empty(len(on))
    now = 5.0
    for k in range(len(on)):
        now = goal[k] + (now - goal[k]) * keep[k]
        module[k] = now
    sensor = np.where(on, module * on_ohm / (on_ohm + ohm), module)
    for each in edge if gone else ():
        module[each - 5 : each + int(RATE / 6 / 36)] = 5.0
    return tuple(item + rng.normal(0, 0.004, len(on)) for item in (sensor, module))


def compared(sensor: np.ndarray, module: np.ndarray, source: Source | None, kind="hall", **row):
    capture = Capture(
        "ends.csv", RATE, (Channel("S", sensor.astype(np.float32), "V"), Channel("M", module.astype(np.float32), "V"))
    )
    rows = [{"column": name, "role": "crank", "sensor": kind, "wheel": "36-1", **row} for name in ("S", "M")]
    done = examine(capture, Sheet.from_data({"channel": rows}))
    return both_ends(done.channels[0].reading, done.channels[1].reading, capture.channels, source)


@pytest.mark.sampled(1)
@pytest.mark.parametrize("ohm", [25.0, 80.0, 200.0, 420.0])
def test_ohms_of_the_wire_are_found_within_a_tenth(ohm):
    found = compared(*wire(ohm), Source(2200.0, 2200.0, 5.0, True))
    assert found.ohm.value == pytest.approx(ohm, rel=0.1)
    assert found.ohm.low <= ohm <= found.ohm.high
    assert not found.same


def test_a_sound_wire_is_the_same_at_both_ends():
    found = compared(*wire(0.2), Source(2200.0, 2200.0, 5.0, True))
    assert found.same
    assert found.ohm.low < 1.0
    assert found.missing == 0


def test_where_the_pull_up_is_not_stated_the_interval_says_so():
    found = compared(*wire(120.0), Source(850.0, 5200.0, 5.0))
    assert found.ohm.low < 120.0 < found.ohm.high
    assert found.ohm.high > 3 * found.ohm.low
    assert compared(*wire(120.0), None).ohm is None


def test_a_coil_divides_with_the_modules_load():
    rng = np.random.default_rng(4)
    turns = np.cumsum(np.full(int(0.8 * RATE), 12.0)) / RATE
    slot = turns * 36
    tall = 2.0 * np.where(np.floor(slot) % 36 != 35, np.sin(2 * np.pi * slot), 0.0)
    load, ohm = 10_000.0, 1500.0
    module = tall * load / (load + ohm)
    noisy = [item + rng.normal(0, 0.01, len(tall)) for item in (tall, module)]
    found = compared(*noisy, Source(load, load, None, True), kind="reluctance")
    assert found.ohm.value == pytest.approx(ohm, rel=0.1)


def test_edges_that_do_not_reach_the_module_are_counted():
    found = compared(*wire(0.2, gone=6), Source(2200.0, 2200.0, 5.0, True))
    assert found.missing == pytest.approx(6, abs=1)
    assert not found.same


def test_a_lost_time_constant_is_that_of_the_wire_and_its_capacitance():
    """A first-order low-pass (`scipy.signal.lfilter` of its bilinear transform) at the module's end adds its own."""
    sensor, module = wire(0.2, farad=2e-9)
    tau = 60e-6
    b, a = signal.bilinear([1.0], [tau, 1.0], RATE)
    slow = signal.lfilter(b, a, module - module[0]) + module[0]
    found = compared(sensor, slow, Source(2200.0, 2200.0, 5.0, True))
    assert found.tau_s.value == pytest.approx(tau, rel=0.25)
    assert found.tau_s.low > 0
    assert not found.same


# the envelope ---------------------------------------------------------------------------------------------


def _capture(seed: int, moved: float = 0.0):
    """A 36-1 wheel whose teeth lie a hair off, each capture of another sensor fitted; `moved` shifts tooth 9."""
    rng = np.random.default_rng(seed)
    count = int(2.0 * 100_000)
    slot = np.cumsum(6.0 * (1 + 0.05 * np.sin(2 * np.pi * 12 * np.arange(count) / 1e5))) / 1e5 * 36
    off = np.random.default_rng(99).normal(0, 0.006, 36) + rng.normal(0, 0.004, 36)
    off[8] += moved
    tooth = np.floor(slot).astype(int) % 36
    within = slot % 1 - off[tooth]
    volts = np.where((within > 0.2) & (within < 0.7) & (tooth != 35), 0.2, 4.9) + rng.normal(0, 0.01, count)
    capture = Capture(f"{seed}.csv", 1e5, (Channel("CH1", volts.astype(np.float32), "V"),))
    sheet = Sheet.from_data({"channel": [{"column": "CH1", "role": "crank", "sensor": "hall", "wheel": "36-1"}]})
    return examine(capture, sheet).channels[0].reading


@pytest.fixture(scope="module")
def known() -> Envelope:
    return envelope([_capture(seed) for seed in range(5)])


def test_a_sound_capture_lies_within_the_envelope_and_a_moved_tooth_does_not(known):
    assert known.captures == 5
    assert not beyond(_capture(50), known)
    found = beyond(_capture(51, moved=0.12), known)
    assert found
    assert found[0].tooth == 9
    assert found[0].chance < 0.001


def test_one_capture_is_no_envelope():
    assert envelope([_capture(1)]) is None


def test_with_many_captures_the_significance_is_that_of_the_normal_law():
    """Of a band known from very many captures, one tooth is called beyond at the normal law's quantile of the chance shared
    among all that was tried (scipy.stats.norm)."""
    reading = _capture(60)
    mine = tooth_measures(reading)["phase_error_middle"][0]
    usual = mine.by_place - np.median(mine.by_place)
    spread = 0.02
    many = Band(mine.number, usual, np.full(len(usual), spread), 1e6, 10**6)
    tried = 2 + len(usual)
    own = ToothDeviations(mine.values, mine.by_place, mine.scatter, mine.number, mine.locked).standard_error(0.0)
    quantile = stats.norm.isf(0.01 / tried / 2) * np.hypot(spread, own)
    for times, called in ((0.99, False), (1.01, True)):
        moved = usual.copy()
        moved[4] -= times * quantile
        found = beyond(
            reading,
            Envelope(
                10**6, {"phase_error_middle": Band(many.number, moved, many.spread, 1e6, 10**6)}, (0.2, 1e3), (4.9, 1e3)
            ),
            0.01,
        )
        assert bool([item for item in found if item.tooth == mine.number[4]]) == called


def test_recordings_at_both_ends_speak_of_the_wire_between_them():
    # Common practice, no published source: the same picture at both ends clears the wire, another one convicts it.
    def recorded(end, *kinds):
        rows = [{"column": "A", "role": "crank", "sensor": "hall", "pull_up": 5.0, "wheel": "60-2"}]
        sheet = Sheet.from_data({"conditions": {"state": "cranking", "end": end}, "channel": rows}, where="test")
        fields = {"held": "high", "level_v": 4.98}
        found = tuple(Finding(kind, "A", 0.9, fields, {}, (), said="x", said_sure="x") for kind in kinds)
        return CaptureEntry(f"token {end}", sheet, findings=found)

    spec = CircuitSpec(pull_up=5.0, supply=12.0)
    good, flat = recorded("sensor"), recorded("module", "no_signal")
    differ = infer(case_of([good, flat], spec)).by_cause()
    assert max(differ, key=differ.get) == Cause.WIRING
    assert infer(case_of([flat, good], spec)).by_cause() == differ
    alike = case_of([recorded("sensor", "no_signal"), flat], spec)
    assert [item.outcome for item in alike.trail if isinstance(item, Inspected)] == [""]
    assert infer(alike).by_cause()[Cause.WIRING] < differ[Cause.WIRING] / 2
    one_end = case_of([flat], spec)
    assert not any(isinstance(item, Inspected) for item in one_end.trail)
    mended = case_of([good, RepairEntry("harness"), flat], spec)
    assert not any(isinstance(item, Inspected) for item in mended.trail)
