"""Live work without a window: the ring against a plain array, triggers against a plain loop, the verdict against the
whole-file reader, and events with what they go with."""

from __future__ import annotations

import time

import numpy as np
import pytest
from scipy import stats

from sagen.casework import bench_test
from sagen.casework.events import hunt, hunted
from sagen.casework.live import Live, live_trigger, verdict_of
from sagen.casework.module import came_back, new_codes, speed_record
from sagen.casework.recording import Recording
from sagen.instruments.module_can import ModuleCodes
from sagen.instruments.protocols import Block, LiveValue
from sagen.instruments.scpi import Lost, ScpiRecorder
from sagen.instruments.served import Bench, StandInServers
from sagen.kinds import broken, examine
from sagen.machine.record import record
from sagen.model import bench_count
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import CodeStatus, State
from sagen.signal.association import associate
from sagen.signal.live_buffer import RingPyramid
from sagen.signal.trigger import Trigger, TriggerKind, Watch

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")


class Given:
    """A recorder that gives a capture in blocks of a size."""

    def __init__(self, capture: Capture, block: int):
        self.taken, self.block, self.sfreq, self.stopped = capture, block, capture.sfreq, False

    def channels(self):
        return tuple(
            Channel(channel.column, channel.raw[:0], channel.unit, channel.scale, channel.offset)
            for channel in self.taken.channels
        )

    def stop(self):
        self.stopped = True

    def blocks(self, seconds, *, patience_s=0):
        for start in range(0, self.taken.samples, self.block):
            yield Block(np.stack([channel.raw[start : start + self.block] for channel in self.taken.channels]))


# the ring -------------------------------------------------------------------------------------------------------


@pytest.mark.sampled(1)
@pytest.mark.parametrize("block", [1, 7, 16, 250, 4096, 60_000])
def test_the_ring_draws_what_a_plain_array_holds(block):
    rng = np.random.default_rng(block)
    samples = rng.integers(-900, 900, 60_000 if block > 1 else 3_000).astype(np.int16)
    ring = RingPyramid(np.int16, 1 << 14, (1 << 12, 1 << 10, 1 << 8))
    for start in range(0, len(samples), block):
        ring.append(samples[start : start + block])
    assert ring.samples == len(samples)
    assert np.array_equal(ring.taken(0, 10**9), samples[-(1 << 14) :])
    for width in (900, 20_000, 59_000):
        start = max(0, len(samples) - width)
        low, high = ring.view(start, len(samples), 60)
        each = (len(samples) - start) / 60
        seen = 0
        for k in range(60):
            part = samples[int(start + k * each) : int(start + (k + 1) * each) + 1]
            if np.isnan(low[k]) or not len(part):
                continue
            seen += 1
            assert low[k] <= part.min()
            assert high[k] >= part.max()
            # No more than a block of the level beside it is taken in.
            wide = samples[max(0, int(start + k * each) - 4096) : int(start + (k + 1) * each) + 4097]
            assert low[k] >= wide.min()
            assert high[k] <= wide.max()
        assert seen >= 50


def test_memory_of_a_ring_stays_as_it_is():
    ring = RingPyramid(np.int16, 1 << 12, (1 << 10, 1 << 9, 1 << 8))
    held = [item.values.nbytes for item in (ring._raw, *ring._low, *ring._high)]
    for _ in range(50):
        ring.append(np.arange(5_000, dtype=np.int16))
    assert [item.values.nbytes for item in (ring._raw, *ring._low, *ring._high)] == held


# triggers -------------------------------------------------------------------------------------------------------


def pulses(gaps: list[int]) -> np.ndarray:
    """A square: low for ten samples after each gap."""
    out = []
    for gap in gaps:
        out += [100] * gap + [0] * 10
    return np.array([*out, *[100] * 200], np.int16)


@pytest.mark.sampled(1)
@pytest.mark.parametrize("block", [1, 13, 100, 5_000])
@pytest.mark.parametrize(
    ("kind", "more"),
    [("rise", {}), ("fall", {}), ("missing", {"times": 3.0}), ("dip", {}), ("rpm", {"pulses_a_second": 60.0})],
)
def test_a_trigger_fires_at_the_same_samples_whatever_the_blocks(kind, more, block):
    raw = pulses([40] * 20 + [170] + [40] * 10 + [15] * 12)
    whole = Trigger(TriggerKind(kind), 50.0, 2_000.0, 5.0, **more).feed(raw)
    parts = Trigger(TriggerKind(kind), 50.0, 2_000.0, 5.0, **more)
    fired = [item for start in range(0, len(raw), block) for item in parts.feed(raw[start : start + block])]
    assert fired == whole
    assert whole


def test_a_missing_pulse_is_told_when_it_is_due_and_once():
    raw = pulses([40] * 20 + [170] + [40] * 10)
    falls = np.flatnonzero(np.diff((raw < 50).astype(int)) == 1) + 1
    fired = Trigger(TriggerKind.MISSING, 50.0, 2_000.0, 5.0, times=3.0).feed(raw)
    assert fired[0] == falls[19] + 150
    assert len(fired) == 2, "the end of the pulses is another one"


@pytest.mark.parametrize("stated", [True, False])
def test_a_speed_is_waited_for_in_turns_of_the_wheel_and_not_in_teeth(stated):
    """A 36-1 wheel that speeds up from 900 rpm by 40 a second passes 1,000 rpm after 2.5 s, by arithmetic."""
    capture, sheet = running([], seconds=6.0)
    if not stated:
        sheet = Sheet.from_data(
            sheet.model_dump(exclude_none=True)
            | {"channel": [{"column": "S", "role": "crank", "sensor": "hall", "pull_up": 5.0}]}
        )
    live = Live(Given(capture, 2_000), sheet=sheet)
    rows = np.stack([channel.raw for channel in capture.channels])
    live.take(rows[:, :30_000])
    if not stated:
        with pytest.raises(SagenError, match="not known yet"):
            live_trigger(live, 0, TriggerKind.RPM, 1_000.0)
        live.verdict()
    live.set_trigger(0, live_trigger(live, 0, TriggerKind.RPM, 1_000.0))
    live.take(rows[:, 30_000:])
    assert live.fired[0] / capture.sfreq == pytest.approx(2.5, abs=0.15)


def test_what_was_not_recorded_is_no_lost_signal_to_the_verdict_nor_to_whoever_listens():
    """The samples with their holes are clean when kept; live they must be, too."""
    capture, sheet = running([], seconds=6.0, rpm=lambda t: 900 + 0 * t)
    rows = np.stack([channel.raw for channel in capture.channels])
    live = Live(Given(capture, 2_000), sheet=sheet)
    live.recording = Recording("live", Given(capture, 2_000), took=live.take, skipped=live.skip)
    live.recording.take(Block(rows[:, :80_000]))
    live.listen(live.verdict())
    live.recording._lost(Lost(80_000, 4_000, "4000 samples were not recorded"))
    live.recording.take(Block(rows[:, 84_000:]))
    verdict = live.verdict()
    assert not verdict.lost, verdict.said
    assert "Nothing wrong" in verdict.said
    assert not live.heard
    assert live.capture().holes == ((80_000, 84_000),)
    assert not examine(live.capture(), sheet).findings


# the verdict ----------------------------------------------------------------------------------------------------


@pytest.mark.sampled(1)
@pytest.mark.parametrize("block", [1, 10, 1_000, 100_000, 1_000_000])
def test_the_live_verdict_is_the_whole_files_on_the_same_samples(block):
    machine = broken(SPEC, [("tooth_missing", 0.8)], 3)
    capture, sheet = record(machine, "cranking", seconds=0.25 if block == 1 else 2.0, sfreq=20_000.0)
    live = Live(Given(capture, block), sheet=sheet)
    live.start()
    live._thread.join(30)
    assert live.samples == capture.samples
    mine, whole = live.verdict(), verdict_of(capture, sheet, 0.0)
    assert mine.said == whole.said
    assert mine.rpm == whole.rpm
    assert [finding.as_row() for finding in mine.done.findings] == [finding.as_row() for finding in whole.done.findings]
    assert np.array_equal(live.capture().channels[0].raw, capture.channels[0].raw)


def test_a_live_session_over_the_wire_starts_stops_and_keeps():
    servers = StandInServers(Bench(broken(SPEC, [], 4)))
    live = Live(ScpiRecorder(f"tcp://127.0.0.1:{servers.serve('recorder')}"))
    try:
        live.start()
        until = time.monotonic() + 20
        while live.seconds < 1.2 and time.monotonic() < until:
            time.sleep(0.05)
        live.mark("moved plug")
        live.stop()
        assert not live.running
        assert live.seconds >= 1.2
        assert live.capture().samples == live.samples
        assert live.verdict().rpm == pytest.approx(183, rel=0.2)
        assert live.marks["moved plug"][0] == pytest.approx(live.seconds, abs=0.6)
    finally:
        live.recorder.close()
        servers.close()


# events ---------------------------------------------------------------------------------------------------------


def running(drops, seconds=45.0, rate=20_000.0, rpm=lambda t: 900 + 40 * t, dips=()) -> tuple[Capture, Sheet]:
    """A 36-1 wheel that speeds up, silent in the stretches `drops`, feed and return beside it; the feed falls in `dips`."""
    times = np.arange(int(seconds * rate)) / rate
    turns = np.cumsum(rpm(times)) / 60 / rate
    slot = turns * 36
    low = ((slot % 1) < 0.5) & (np.floor(slot) % 36 != 35)
    volts = np.where(low, 0.2, 5.0)
    for start, end in drops:
        volts[(times >= start) & (times < end)] = 5.0
    feed = np.full(len(times), 12.3)
    for start, end in dips:
        feed[(times >= start) & (times < end)] = 3.0
    rng = np.random.default_rng(2)
    rows = [
        volts + rng.normal(0, 0.01, len(times)),
        feed + rng.normal(0, 0.01, len(times)),
        0.03 + rng.normal(0, 0.002, len(times)),
    ]
    channels = tuple(
        Channel(name, row.astype(np.float32), "V") for name, row in zip(("S", "F", "R"), rows, strict=True)
    )
    sheet = Sheet.from_data({
        "conditions": {"state": "running"},
        "channel": [
            {"column": "S", "role": "crank", "sensor": "hall", "wheel": "36-1", "pull_up": 5.0},
            {"column": "F", "role": "supply", "nominal": 12.0}, {"column": "R", "role": "ground"},
        ],
    })  # fmt: skip
    return Capture("long.npz", rate, channels), sheet


DROPS = [(31.0, 31.2), (34.5, 34.65), (36.0, 36.3), (38.2, 38.4), (40.9, 41.0), (43.0, 43.2)]


def test_every_dropout_is_found_with_its_moment_and_pieces_do_not_cut_it():
    capture, sheet = running([(5.0, 5.2), (19.95, 20.1), *DROPS])
    events = [item for item in hunt(capture, sheet) if item.kind == "dropout"]
    assert [round(event.start_s, 1) for event in events] == [5.0, 19.9, 31.0, 34.5, 36.0, 38.2, 40.9, 43.0]
    for this_event in events:
        assert this_event.rpm_before == pytest.approx(900 + 40 * this_event.start_s, rel=0.03)
        assert this_event.feed_v == pytest.approx(12.3, abs=0.05)
        assert this_event.return_v == pytest.approx(0.03, abs=0.01)
        assert this_event.rails_steady


def test_what_the_events_go_with_is_said_with_its_p_and_the_rails_are_not_asked_for_again():
    found = hunted(*running(DROPS))
    said = " ".join(found.said)
    assert any(item.what in ("rpm", "time") and item.side == "above" for item in found.goes_with)
    assert "p" in said
    assert "Feed and return were watched and held through all" in said
    assert "record" not in said.split("watched")[1]


def test_a_dip_of_the_feed_is_an_event_and_the_rails_are_not_called_steady():
    found = hunted(*running([(10.0, 10.2), (15.0, 15.2)], dips=[(9.98, 10.25), (14.98, 15.25)], seconds=20.0))
    assert {"rail_dip", "dropout"} <= {event.kind for event in found.events}
    assert "held through all" not in " ".join(found.said)


def test_a_record_in_which_nothing_happens_says_so():
    assert hunted(*running([], seconds=6.0)).said == ("Nothing came and went in this record.",)


def test_where_events_fall_by_chance_hardly_any_association_is_claimed():
    """Of events at random no more than one in twenty may be said to go with anything: 200 drawn records, an exact binomial
    bound (scipy.stats.binom)."""
    claimed, heard = 0, 0
    for seed in range(200):
        rng = np.random.default_rng(seed)
        speed = 900 + 300 * np.sin(np.linspace(0, rng.uniform(3, 20), 400) + rng.uniform(0, 6))
        claimed += bool(
            associate(
                np.sort(rng.uniform(0, 60, 7)),
                60.0,
                {"rpm": speed, "time": np.linspace(0, 60, 400)},
                {"moved": [12.0, 40.0]},
            )
        )
        # Events that do fall where the speed is high must be heard, or claiming nothing would pass.
        fast = np.flatnonzero(speed > np.quantile(speed, 0.85)) * 60.0 / 400
        found = associate(np.sort(rng.choice(fast, 12, replace=False)), 60.0, {"rpm": speed}, {})
        heard += any(item.what == "rpm" for item in found)
    assert claimed <= stats.binom.isf(0.01, 200, 0.05)
    assert heard >= 180


def test_events_after_a_mark_are_told_to_go_with_it():
    marks = {"moved plug": [10.0, 25.0, 41.0, 52.0]}
    found = associate([10.6, 11.4, 25.9, 42.0, 42.5, 53.1], 60.0, {"time": np.linspace(0, 60, 400)}, marks)
    assert found[0].what == "moved plug"
    assert found[0].p < 0.05


def test_events_go_with_a_temperature_that_was_spoken_or_that_the_module_told():
    capture, sheet = running(DROPS, rpm=lambda t: 900 + 0 * t)
    live = Live(Given(capture, 4_000), sheet=sheet)
    for at_s, celsius in ((1.0, 40.0), (20.0, 60.0), (30.0, 82.0)):
        live.warm(celsius)
        live._temperatures[-1] = (at_s, celsius)
    live.start()
    live._thread.join(60)
    live.mark("95 °C")
    assert not live.marks
    assert live._temperatures[-1] == (pytest.approx(45.0, abs=0.1), 95.0)
    live.hunter.found[:] = hunt(capture, sheet)
    live._speeds.clear()
    said = " ".join(live.hunted().said)
    assert "°C" in said
    assert "above" in said


# what moves, and who watches --------------------------------------------------------------------------------------


@pytest.mark.parametrize("block", [7, 1_000])
def test_a_lost_signal_is_told_at_once_and_when_it_is_back(block):
    raw = pulses([40] * 20 + [900] + [40] * 20)
    watch = Watch(50.0, 2_000.0, 5.0)
    told = [item for start in range(0, len(raw), block) for item in watch.feed(raw[start : start + block])]
    falls = np.flatnonzero(np.diff((raw < 50).astype(int)) == 1) + 1
    assert told[:2] == [(falls[19] + 6 * 50, True), (falls[20], False)]
    assert told[2:] == [(falls[-1] + 6 * 50, True)] or len(told) == 2


def test_a_wheels_own_gap_is_no_loss():
    raw = pulses(([40] * 10 + [140]) * 8)
    assert Watch(50.0, 2_000.0, 5.0).feed(raw[:-200]) == []


def test_a_rail_that_falls_and_comes_back_is_told():
    rail = np.array([120] * 500 + [30] * 300 + [120] * 500, np.int16)
    told = Watch(72.0, 10_000.0, 3.0, rail=True).feed(rail)
    assert [lost for _, lost in told] == [True, False]
    assert told[0][0] == pytest.approx(505, abs=2)
    assert told[1][0] == pytest.approx(800, abs=2)


@pytest.mark.parametrize(
    ("state", "spec"),
    [
        ("cranking", SPEC),
        ("running", SPEC),
        ("running", CircuitSpec(role="crank", sensor="reluctance", wheel="34-1", ohms=(600, 720))),
    ],
)
def test_pieces_of_a_stand_in_go_on_as_one_shaft(state, spec):
    """A sound machine streamed for long enough that several pieces are laid end to end shows nothing wrong."""
    bench = Bench(broken(spec, [], 3), fast=True, state=State(state))
    rows = np.concatenate([bench.next_block(1 << 15) for _ in range(10)], axis=1)
    channels = tuple(
        Channel(*name, "V", scale)
        for *name, scale in zip(bench.names, rows.astype(np.int16), bench.scales, strict=True)
    )
    row = {"column": bench.names[0], "role": "crank", "sensor": spec.sensor, "wheel": spec.wheel}
    done = examine(
        Capture("x", bench.rate, channels), Sheet.from_data({"conditions": {"state": state}, "channel": [row]})
    )
    assert not done.findings, [finding.text for finding in done.findings]


# the module's words as records ------------------------------------------------------------------------------------


def test_what_a_module_says_becomes_records_once():
    job = Job(1, "Test", "", 4, "", ())
    modules = (ModuleCodes("7E8", (("P0335", CodeStatus.STORED), ("P1780", CodeStatus.PERMANENT)), {"rpm": 812.0}),)
    made = new_codes(job, modules)
    assert [(item.code, item.status) for item in made[:2]] == [("P0335", "stored"), ("P1780", "permanent")]
    assert made[0].meaning
    assert made[1].meaning == ""
    assert "812 rpm" in made[2].text


def test_a_cleared_code_that_is_there_again_says_when_and_none_says_nothing():
    there = (ModuleCodes("7E8", (("P0335", CodeStatus.STORED),)),)
    scan, note = came_back(("P0335", "P0340"), there, 12.0)
    assert (scan.scan, scan.value) == ("codes_back", "at once")
    assert note.text.startswith("P0335 came back 12 s")
    assert came_back(("P0335",), there, 900.0, driven=True)[0].value == "on a drive"
    assert came_back(("P0340",), there, 12.0) == ()
    assert came_back(("P0340",), there, 1_800.0, driven=True)[0].value == "never"
    assert speed_record(LiveValue("rpm", 0.0, "rpm"), State.CRANKING).value == 0.0
    assert speed_record(LiveValue("rpm", 812.0, "rpm"), State.RUNNING) is None


# a sensor in the hand -----------------------------------------------------------------------------------------------


def test_the_resistor_on_the_bench_keeps_the_current_small():
    """Ohm's law (I = U / R): between 2 and 12 mA at either feed."""
    for feed in (5.0, 8.0, 12.0):
        made = bench_test.wiring(SPEC.model_copy(update={"supply": feed}))
        assert 2.0 <= 1000 * feed / made.resistor_ohm <= 12.0
    assert bench_test.wiring(CircuitSpec(role="crank", sensor="hall", wheel="60-2")).feed is None


@pytest.mark.parametrize(
    ("counted", "outcome"), [(12, ""), (0, "counts_none"), (9, "misses_some"), (15, "misses_some")]
)
def test_a_count_is_evidence_of_this_machines_part_only(counted, outcome):
    made = bench_count.bench_records(12, counted, way="eye", new_part=False)
    assert (made[0].check, made[0].outcome) == ("sensor_in_the_hand", outcome)
    assert len(bench_count.bench_records(12, counted, way="eye", new_part=True)) == 1


@pytest.mark.parametrize(("passes", "counted"), [(2, 2), (201, 3), (12, -1), (12, 121)])
def test_counts_that_make_no_sense_are_refused(passes, counted):
    with pytest.raises(ValueError, match="passes"):
        bench_count.bench_records(passes, counted, way="eye", new_part=False)


@pytest.mark.parametrize("sensor", ["reluctance", "current", "piezo"])
def test_what_cannot_be_counted_by_hand_is_refused_with_why(sensor):
    role = "knock" if sensor == "piezo" else "speed"
    assert len(bench_test.refusal(CircuitSpec(role=role, sensor=sensor))) > 60
    assert bench_test.refusal(SPEC) == ""
