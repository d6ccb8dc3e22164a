"""What is offered next is safe and sensible whatever stands on the trail: properties over random trails.

The rules are common practice, no published source: with the timing in doubt the starter stays off; what is known is not
asked; what is measured comes before what is bought.
"""

import json
from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.test_cli import sagen

from sagen.casework.costs import costs_of, now_or_first
from sagen.casework.diagnosis import misfits
from sagen.casework.judging import expected_reading
from sagen.casework.weigh_job import taken_again, weigh_job
from sagen.casework.words import entry_text
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Finding
from sagen.model.job import Entry, Job
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    InspectionEntry,
    ReadingEntry,
    RepairEntry,
    ScanEntry,
)
from sagen.model.vocabulary import OHM_POINTS, Cause, CheckKind, Gear, State
from sagen.reason.askable import SHAFT_TURNS, excluded_by
from sagen.reason.case import case_of
from sagen.reason.checks import advice, next_checks
from sagen.reason.facts import knowledge
from sagen.reason.weights import infer

CRANK, CAM = CircuitSpec(), CircuitSpec(role="cam")
READINGS = [
    ("supply", "key_on", 12.4), ("supply", "key_on", 0.1), ("ground", "key_on", 0.02), ("ground", "key_on", 1.4),
    ("signal", "key_on", 5.0), ("signal", "key_on_unplugged", 0.0), ("signal", "key_on_unplugged", 5.0),
]  # fmt: skip
CODES = ["P0335", "P0336", "P0340", "P0341", "P0016", "P0017", "P0011"]
LOOKS = [("timing_marks", "off"), ("timing_marks", ""), ("plug_and_pins", "damaged"), ("plug_and_pins", "")]


def capture(state, kind=None, fields=None):
    rows = [{"column": "A", "role": "crank", "sensor": "hall"}]
    sheet = Sheet.from_data({"conditions": {"state": state}, "channel": rows}, where="test")
    found = (Finding(kind, "A", 0.9, fields, {}, (), said="x", said_sure="x"),) if kind else ()
    return CaptureEntry("token", sheet, findings=found)


CAPTURES = [
    capture("cranking"), capture("running"), capture("start"), capture("cranking", "no_signal", {"held": "high", "level_v": 5.0}),
    capture("cranking", "extra_gap", {"tooth": 9, "angle_deg": 48.0, "repeats": True}),
    capture("running", "dropout", {"start_s": 1.0, "end_s": 1.1}),
    capture("cranking", "timing_offset", {"offset_deg": 16.0, "belt_teeth": None}),
]  # fmt: skip
records = st.lists(
    st.one_of(
        st.sampled_from(CODES).map(CodeEntry),
        st.sampled_from(["no_start", "stalls", "long_crank"]).map(ComplaintEntry),
        st.sampled_from(READINGS).map(lambda item: ReadingEntry("volts", *item)),
        st.sampled_from(LOOKS).map(lambda item: InspectionEntry(*item)),
        st.sampled_from(CAPTURES),
        st.sampled_from(["sensor", "harness", "timing"]).map(lambda part: RepairEntry(part)),
    ),
    min_size=1, max_size=6,
)  # fmt: skip


def offered(trail, spec):
    case = case_of(trail, spec)
    posterior = infer(case)
    return case, posterior, next_checks(case, posterior)


def known_shift(trail):
    """Whether a shift of the timing is on the trail, and no marks were seen to agree since."""
    shifted = False
    for item in trail:
        if isinstance(item, RepairEntry) and item.part == "timing":
            shifted = False
        if isinstance(item, CaptureEntry) and any(found.kind == "timing_offset" for found in item.findings):
            shifted = True
        if isinstance(item, InspectionEntry) and item.check == "timing_marks":
            shifted = bool(item.outcome)
    return shifted


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seen", ["gnawed through", "cut", "hanging loose behind the strap"])
def test_a_wire_that_is_through_is_open_and_one_that_is_rubbed_need_not_be(seen):
    """What a wire is that somebody saw through: common practice, no published source."""

    def lead(words):
        entry = InspectionEntry("harness", part="signal_wire", seen=words, certain=True)
        return weigh_job(
            Job(1, None, "Brindle 2", "", 4, (Entry(1, None, CodeEntry("P0335")), Entry(2, None, entry)))
        ).suspects[0]

    assert (lead(seen).cause, lead(seen).title) == ("wiring", "signal wire open")
    assert lead(seen).probability > 0.9
    assert lead("rubbed").cause == "wiring"
    assert lead("rubbed").title != "signal wire open"


@given(records, st.sampled_from([CRANK, CAM]))
def test_with_the_timing_off_in_sight_nothing_that_turns_the_engine_is_offered(trail, spec):
    _, posterior, checks = offered(trail, spec)
    if known_shift(trail):
        assert not [check.check.slug for check in checks if check.check.state in SHAFT_TURNS]
    faults = posterior.by_fault()
    looked = [item.outcome for item in trail if isinstance(item, InspectionEntry) and item.check == "timing_marks"]
    if (
        faults.get("belt_or_chain_off", 0.0) > 0.5
        and not looked
        and not any(isinstance(item, CaptureEntry) and item.sheet.conditions.state == State.RUNNING for item in trail)
    ):
        assert not [check.check.slug for check in checks if check.check.state in SHAFT_TURNS]


@given(records, st.sampled_from([CRANK, CAM]))
def test_what_is_known_is_not_asked(trail, spec):
    # What a call hangs on may be taken once more, and says so.
    checks = [check for check in offered(trail, spec)[2] if not check.again]
    slugs = {check.check.slug for check in checks}
    last = max((at for at, item in enumerate(trail) if isinstance(item, RepairEntry)), default=-1)
    for item in trail[last + 1 :]:
        if isinstance(item, ReadingEntry):
            measured = [check.check for check in checks if check.check.kind == CheckKind.METER]
            assert not any((check.point, check.state) == (item.point, item.state) for check in measured)
        if isinstance(item, InspectionEntry):
            assert item.check not in slugs
    if any(isinstance(item, CaptureEntry) and item.sheet.conditions.state == State.RUNNING for item in trail):
        assert "ask_the_starter" not in slugs, "an engine that was recorded running was turned by its starter"


@given(records, st.sampled_from([CRANK, CAM]))
def test_one_more_check_never_makes_a_wrong_repair_likelier(trail, spec):
    job = Job(
        1,
        None,
        "Brindle 2",
        "",
        4,
        tuple(Entry(k, None, item) for k, item in enumerate([CircuitEntry(spec), *trail], 1)),
    )
    told = weigh_job(job)
    ways = now_or_first(told.suspects, told.checks, costs_of(job.records()), {}, ())
    if ways is None:
        return
    now = next(way.wrong for way in ways.ways if way.name == "replace now")
    assert all(way.wrong <= now + 1e-6 for way in ways.ways)
    assert not any("swap" in way.name for way in ways.ways)
    # Of the ways that check first the plan's own stands above the others: card, plan and bars say one thing.
    first, led = told.checks[0], [way for way in ways.ways if way.at is not None]
    if led and first.pays and first.check.kind != CheckKind.SWAP and first.circuit == told.suspects[0].circuit:
        assert led[0].name.startswith(f"first {first.name}")
    for check in told.checks:
        assert check.saves >= 0.0
        assert check.gain_bits >= 0.0


@given(records, st.sampled_from([CRANK, CAM]))
def test_the_advice_names_the_check_that_is_listed_first_and_never_a_repair(trail, spec):
    case, posterior, checks = offered(trail, spec)
    said = advice(case, posterior, checks)
    asked = [check for check in checks if check.check.kind != CheckKind.SWAP]
    for check in checks:
        if f"({check.check.name})" in said.text or f": {check.check.name} is next" in said.text:
            assert check is (asked or checks)[0]
    causes = posterior.by_cause()
    if max(causes, key=causes.get) == Cause.NONE:
        assert "wrong too often" not in said.text
    assert "100 %" not in said.text


#: trails by which each thing is known: the table in the knowledge says what is then never asked
KNOWN_BY = {
    "engine_runs": [capture("running")],
    "starter_still": [InspectionEntry("ask_the_starter", "still")],
    "feed_dead": [ReadingEntry("volts", "supply", "key_on", 0.05)],
    "feed_good": [ReadingEntry("volts", "supply", "key_on", 12.3)],
    "feed_good_under_load": [ReadingEntry("volts", "supply", "cranking", 11.4)],
    "return_good_under_load": [ReadingEntry("volts", "ground", "cranking", 0.03)],
    "rails_held": [InspectionEntry("long_record", "signal_alone")],
    "pull_up_gone": [ReadingEntry("volts", "signal", "key_on_unplugged", 0.01)],
    "pull_up_there": [ReadingEntry("volts", "signal", "key_on_unplugged", 4.99)],
    "ends_alike": [InspectionEntry("both_ends_of_the_signal_wire", "")],
    "wire_seen_through": [InspectionEntry("harness", "damaged", "signal_wire", "cut through", True)],
    "coil_open": [ReadingEntry("ohms", "sensor", "unplugged", 4e7)],
    "back_at_once": [ScanEntry("codes_back", "at once")],
}  # fmt: skip
PULLED_UP = CircuitSpec(supply=12.0, pull_up=5.0)
COIL = CircuitSpec(sensor="reluctance", ohms=(800.0, 1000.0))
EVERY_GEAR = (Gear.METER, Gear.SCOPE)


@pytest.mark.sampled(5)
@pytest.mark.parametrize("row", knowledge().never, ids=lambda row: str(row.known))
def test_what_is_known_excludes_its_checks_and_before_it_was_known_they_were_to_be_had(row):
    spec = COIL if row.known == "coil_open" else PULLED_UP
    before = case_of([CodeEntry("P0335")], spec, EVERY_GEAR)
    after = case_of([CodeEntry("P0335"), *KNOWN_BY[row.known]], spec, EVERY_GEAR)
    assert set(row.checks) <= excluded_by(after, knowledge())
    assert not set(row.checks) <= excluded_by(before, knowledge())
    offered_before = {check.check.slug for check in next_checks(before, infer(before))}
    offered_after = {check.check.slug for check in next_checks(after, infer(after)) if not check.again}
    assert set(row.checks) & offered_before
    assert not set(row.checks) & offered_after


def test_a_coils_return_is_measured_in_ohms_whatever_it_reads_under_load():
    # Nothing flows through a coil's return but its own signal: a kilohm in it lifts the pin by no volt that a meter shows (Ohm's law).
    still = [CodeEntry("P0335"), *KNOWN_BY["return_good_under_load"]]
    for spec, left in ((PULLED_UP, False), (COIL, True)):
        case = case_of(still, spec, EVERY_GEAR)
        assert ("ohms_of_the_return_wire" not in excluded_by(case, knowledge())) is left, spec.sensor


def test_a_repair_lets_what_was_known_be_asked_again():
    dead = [ReadingEntry("volts", "supply", "key_on", 0.05)]
    for part, excluded in (("sensor", True), ("supply", False), ("harness", False)):
        case = case_of([CodeEntry("P0335"), *dead, RepairEntry(part)], PULLED_UP)
        assert ("steel_at_the_tip" in excluded_by(case, knowledge())) is excluded, part


@given(records)
def test_nothing_that_is_excluded_is_offered_whatever_stands_on_the_trail(trail):
    case, _, checks = offered(trail, PULLED_UP)
    assert not excluded_by(case, knowledge()) & {check.check.slug for check in checks if not check.again}


COIL_SHORT = [CodeEntry("P0335"), ReadingEntry("ohms", "sensor", "unplugged", 310.0, temperature_c=20.0)]


def test_what_a_call_hangs_on_is_asked_once_more_and_once_only():
    case, _, checks = offered(COIL_SHORT, COIL)
    assert checks[0].again
    assert checks[0].check.slug == "ohms_of_the_coil"
    said = advice(case, infer(case), checks)
    assert not said.enough
    assert "ohms of the coil" in said.text
    taken = [*COIL_SHORT, ReadingEntry("ohms", "sensor", "unplugged", 312.0, temperature_c=20.0, again=True)]
    case, posterior, checks = offered(taken, COIL)
    assert not any(check.again for check in checks)
    assert posterior.by_cause()[Cause.SENSOR] > 0.93


def test_what_is_asked_once_more_is_marked_when_it_is_put_on_the_trail():
    now = datetime(2026, 11, 30)
    job = Job(
        1,
        now,
        "Plover",
        "",
        4,
        tuple(Entry(k, now, item) for k, item in enumerate([CircuitEntry(COIL), *COIL_SHORT], 1)),
    )
    weighed = weigh_job(job)
    reading = ReadingEntry("ohms", "sensor", "unplugged", 312.0, temperature_c=20.0)
    assert taken_again(reading, weighed).again
    assert not taken_again(ReadingEntry("volts", "signal", "key_on", 1.4), weighed).again
    assert not taken_again(reading, None).again
    assert "once more" in entry_text(taken_again(reading, weighed))


def test_a_repeat_that_says_otherwise_takes_the_call_back():
    marks = [CodeEntry("P0016"), InspectionEntry("timing_marks", "off")]
    once, _ = offered(marks, CAM)[1:]
    agree = offered([*marks, InspectionEntry("timing_marks", "", again=True)], CAM)[1]
    # Of two looks that differ the one that forbids turning the engine stands, and it is said that they do not fit.
    both = [*marks, InspectionEntry("timing_marks", "", again=True)]
    assert not any(check.check.state in SHAFT_TURNS for check in offered(both, CAM)[2])
    assert [number for number, _ in misfits(both)] == [2]
    off = offered([*marks, InspectionEntry("timing_marks", "off", again=True)], CAM)[1]
    assert agree.by_cause()[Cause.TIMING] < once.by_cause()[Cause.TIMING] - 0.1
    assert off.by_cause()[Cause.TIMING] > once.by_cause()[Cause.TIMING]


@pytest.mark.parametrize("check", knowledge().checks, ids=lambda check: check.slug)
def test_every_caution_stands_where_what_is_done_asks_for_it(check):
    said = " ".join(check.cautions)
    if check.state in (State.CRANKING, State.START):
        assert "clear of belts" in said
        assert "Disable fuel or ignition" in said
        assert "high voltage is for trained people" in said
    if check.state in (State.RUNNING, State.WIGGLE):
        assert "Hot coolant" in said
        assert "Moving parts" in said
    if check.state == State.METAL_NEAR:
        assert "can fire coils" in said
    if check.kind == CheckKind.CAPTURE:
        assert "battery negative" in said
    if "pierce" in check.text or check.slug in ("both_ends_of_the_signal_wire", "pulse_the_signal_wire"):
        assert "sealed again" in said
    if check.slug == "plug_and_pins":
        assert "before it is disturbed" in said
    if check.slug == "timing_marks":
        assert "do not crank on" in said


@given(records, st.randoms(use_true_random=False), st.sampled_from([CRANK, CAM]))
def test_the_order_in_which_things_were_told_does_not_matter(trail, shuffler, spec):
    """Between two repairs; to the digit."""
    told = [item for item in trail if not isinstance(item, RepairEntry)]
    other = list(told)
    shuffler.shuffle(other)
    if told:
        first, second = (infer(case_of(items, spec)).by_fault() for items in (told, other))
        assert first == second


@given(records, st.sampled_from([CRANK, CAM]))
def test_a_value_that_was_typed_twice_is_one_observation(trail, spec):
    told = [item for item in trail if not isinstance(item, RepairEntry)]
    twice = [*told, *(item for item in told if isinstance(item, ReadingEntry))]
    assert infer(case_of(told, spec)).by_fault() == infer(case_of(twice, spec)).by_fault() if told else True


def test_a_job_says_what_must_not_be_done_and_what_does_not_fit(tmp_path):
    head = 'codes = ["P0016"]\n[circuit]\nrole = "cam"\nsensor = "hall"\n'
    reading = '[[trail]]\nreading = "volts"\npoint = "supply"\nstate = "key_on"\nvalue = {}\n'
    shifted = '[[trail]]\nfinding = "timing_offset"\noffset_deg = 15.0\nstate = "cranking"\n'
    (tmp_path / "job.toml").write_text(head + reading.format(5.0) + reading.format(0.2) + shifted)
    told = json.loads(sagen("reason", tmp_path / "job.toml", "--json").stdout)
    assert told["do_not"] == ["crank", "run", "drive"]
    assert any("valves and pistons may meet" in note for note in told["notes"])
    assert not [row["check"] for row in told["next"] if row["moves_shaft"]]
    assert [item["entry"] for item in told["misfit"]] == [1]
    assert "comes and goes" in told["misfit"][0]["text"]
    assert told["stage"] == "found"
    assert set(told["repair"]) == {"ready", "text"}
    assert {"place", "cautions", "moves_shaft"} <= set(told["next"][0])
    agreed = '[[trail]]\ninspection = "timing marks"\noutcome = "as expected"\n'
    (tmp_path / "job.toml").write_text(head + shifted + agreed)
    assert json.loads(sagen("reason", tmp_path / "job.toml", "--json").stdout)["do_not"] == []


@pytest.mark.parametrize(
    "spec", [CRANK, CircuitSpec(supply=5.0, pull_up=5.0), CircuitSpec(sensor="reluctance")], ids=str
)
def test_the_card_and_the_circuit_page_expect_the_same_reading(spec):
    case = case_of([CodeEntry("P0335")], spec)
    checks = [check for check in next_checks(case, infer(case)) if check.check.kind == CheckKind.METER]
    assert checks
    for check in checks:
        point, state = check.check.point, check.check.state
        page = expected_reading(spec, None, "", point, state, ohms=point in OHM_POINTS)
        bands = page.removesuffix(", by the model.").removesuffix(" at 20 °C, as published.")
        assert check.expect.startswith(bands), (check.check.slug, page, check.expect)


@pytest.mark.parametrize("complaint", ["runs_rough", "no_power", "lamp_only"])
def test_the_starter_of_an_engine_that_is_said_to_run_badly_is_not_asked(complaint):
    """Common practice, no published source: what runs was turned by its starter."""
    _, _, checks = offered([ComplaintEntry(complaint), CodeEntry("P0335")], CRANK)
    assert "ask_the_starter" not in {check.check.slug for check in checks}
    _, _, checks = offered([ComplaintEntry("no_start"), CodeEntry("P0335")], CRANK)
    assert "ask_the_starter" in {check.check.slug for check in checks}
