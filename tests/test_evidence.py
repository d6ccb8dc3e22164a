"""Pieces of evidence one by one: likelihoods against plain formulas and counts, and what repeats or was retired."""

from collections import Counter

import numpy as np
import pytest
from scipy import stats

from sagen.machine.faults import all_faults, possible
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import KnowledgeError
from sagen.model.finding import Finding
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, KeptReference, ReplacedEntry
from sagen.reason.case import capture_piece, circuit_of_sheet
from sagen.reason.checks import ENOUGH, LEAST_LIKELY, NextCheck, advice, next_checks, proves
from sagen.reason.evidence import Captured, Code, Complained, Inspected, MeterReading, ReadElsewhere, captured
from sagen.reason.facts import SHIPPED, SOUND, CheckFacts, _shipped, cause_of, knowledge, load_knowledge
from sagen.reason.likelihood import (
    LikelihoodModel,
    neighbour_distance,
    ohm_scale,
    projected,
    smoothed,
    union,
    vocabulary,
)
from sagen.reason.weigh import Case, Posterior, Replaced, infer, likelihood_model, normalised, suspects, with_trail

HALL = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
COIL = CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(700.0, 900.0))


@pytest.fixture(scope="module")
def model():
    return likelihood_model(HALL)


# the model --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("point", ["supply", "ground", "signal"])
def test_the_density_of_readings_adds_up_to_one(model, point):
    # A density over all that a meter could show: integrated by the trapezoid rule.
    volts = np.linspace(-4.0, 20.0, 6001)
    for fault in (SOUND, "return_open", "fuse_blown"):
        density = [model.reading_likelihood(point, "key_on", float(v), False, (fault,)) for v in volts[::4]]
        mass = np.trapezoid(density, volts[::4])
        # The meter's error is taken at the value read, not at the one that was there: good to a few percent.
        assert mass == pytest.approx(1.0, abs=0.04)


def test_what_the_model_expects_of_a_meter_follows_from_the_circuit(model):
    # Ohm and Kirchhoff: where nothing flows nothing drops, so behind a parted return the output shows the pull-up's
    # 5 V; a parted wire leaves the meter's own 10 megohm to pull the pin to nothing (common practice).
    assert model.samples("signal", "key_on", ("return_open",)) == pytest.approx(5.0, abs=0.4)
    assert model.samples("signal", "key_on", ("signal_wire_open",)) == pytest.approx(0.0, abs=0.3)
    # A sound output rests at one of its two levels, by where the wheel stopped.
    sound = model.samples("signal", "key_on", (SOUND,))
    low, high = sound < 1.0, sound > 4.4
    assert (low | high).all()
    assert low.any()
    assert high.any()
    # A blown fuse takes the feed away, whatever else happens.
    assert np.abs(model.samples("supply", "key_on", ("fuse_blown",))).max() < 0.5


def test_ohms_are_on_a_scale_of_equal_ratios():
    values = ohm_scale(np.array([10.0, 100.0, 1000.0, np.inf, np.nan]))
    assert np.diff(values[:3]) == pytest.approx([1.0, 1.0], abs=0.003)
    assert values[3] == pytest.approx(np.log10(4e7), abs=1e-6)
    assert np.isfinite(values[4])


def test_distance_to_the_second_nearest():
    drawn = np.array([0.0, 0.1, 0.25, 5.0])
    wanted = [sorted(abs(one - drawn))[2] for one in drawn]
    np.testing.assert_allclose(neighbour_distance(drawn), wanted)
    assert list(neighbour_distance(np.array([1.0, 4.0]))) == [3.0, 3.0]


def test_expected_of_a_sound_circuit_is_what_practice_says(model):
    # Common practice, no published source: the return to tens of millivolts, the feed at the battery's.
    low, middle, high = model.expected("ground", "key_on")
    assert 0 <= low <= middle <= high < 0.1
    low, middle, high = model.expected("supply", "key_on")
    assert 11.3 < low <= high < 13.0


# captures -------------------------------------------------------------------------------------------------------


def test_findings_that_could_not_show_are_taken_out_of_the_table():
    row = Counter({"": 3, "dropout": 2, "dropout+supply_loss": 4, "supply_loss": 1})
    assert projected(row, frozenset({"supply_loss"})) == Counter({"": 4, "dropout": 6})
    assert projected(row, frozenset()) is row


def test_probabilities_of_all_sets_add_up_to_one():
    row = Counter({"": 5, "a": 7, "a+b": 2})
    known = frozenset({"a", "b"})
    total = sum(smoothed(row, frozenset(one), known) for one in (set(), {"a"}, {"b"}, {"a", "b"}))
    assert total == pytest.approx(1.0, rel=1e-9)


def test_a_set_never_seen_is_unlikely_but_possible():
    row = Counter({"": 20})
    known = frozenset({"a", "b"})
    assert 0 < smoothed(row, frozenset({"a"}), known) < 0.02
    assert smoothed(row, frozenset(), known) > 0.9


def test_two_faults_show_what_either_does():
    both = union(Counter({"a": 10}), Counter({"b": 5, "": 5}))
    assert both == Counter({"a+b": 5.0, "a": 5.0})
    assert sum(union(Counter({"a": 40}), Counter({"b": 40})).values()) == 40


@pytest.mark.parametrize("circuit", knowledge().seen)
def test_the_kept_table_has_a_row_for_every_fault_and_counts_alike(circuit):
    table = knowledge().seen[circuit]
    role, sensor, _ = circuit.split(".")
    spec = CircuitSpec(role=role, sensor=sensor)
    assert set(table) >= {SOUND} | {one.slug for one in possible(spec)}
    assert set(table) <= {SOUND} | {one.slug for one in all_faults().values() if sensor in one.kinds}
    totals = {sum(row.values()) for row in table.values()}
    assert len(totals) == 1
    assert vocabulary(table) <= {kind for row in table.values() for one in row for kind in one.split("+")}
    # Common practice, no published source: a sound machine gives no finding.
    assert table[SOUND][""] / sum(table[SOUND].values()) > 0.9


@pytest.mark.parametrize(("roles", "unseen"), [
    ({"crank"}, {"supply_loss", "ground_lift", "timing_offset", "timing_scatter"}),
    ({"crank", "supply", "ground"}, {"timing_offset", "timing_scatter"}),
    ({"crank", "cam", "supply", "ground"}, {"timing_offset"}),
])  # fmt: skip
def test_what_a_capture_could_not_have_shown(roles, unseen):
    piece = captured([("dropout", {})], "cranking", roles, needs_pattern=frozenset({"timing_offset"}))
    assert piece.unseen == unseen
    assert piece.found == {"dropout"}
    with_good = captured([], "cranking", {"crank", "cam", "supply", "ground"})
    assert with_good.unseen == frozenset()


def test_an_unfit_capture_is_no_evidence_but_what_it_shows_all_the_same_is():
    assert captured([("too_short", {})], "cranking", {"crank"}) is None
    shown = captured([("too_short", {}), ("no_signal", {"held": "high"})], "cranking", {"crank"})
    assert shown.found == {"no_signal:high"}


@pytest.mark.parametrize("state", ["key_on", "strike"])
def test_a_capture_at_rest_says_nothing_of_motion(model, state):
    assert Captured("", frozenset(), state).likelihood((SOUND,), model, knowledge()) is None


# looks, codes, complaints -----------------------------------------------------------------------------------------


def test_outcomes_of_every_look_leave_room_for_the_expected():
    facts, model = knowledge(), likelihood_model(HALL)
    looks = [one for one in facts.checks if one.kind == "look"]
    assert len(looks) > 8
    for check in looks:
        for fault in (SOUND, *all_faults()):
            # Exactly one outcome comes true; the floor of half a percent may be added.
            every = [
                Inspected("", check.slug, name).likelihood((fault,), model, facts) for name in (*check.outcome, "")
            ]
            assert 1.0 - 1e-9 <= sum(every) <= 1.0051, check.slug
            assert all(0 < one <= 1 for one in every)


def test_a_look_that_is_not_known_says_nothing():
    assert Inspected("", "no such check", "").likelihood((SOUND,), likelihood_model(HALL), knowledge()) is None


def test_of_two_faults_the_one_that_shows_more_counts():
    facts, model = knowledge(), likelihood_model(HALL)
    for piece in (Code("", "P0335", "circuit"), Complained("", "no_start")):
        one, other = (piece.likelihood((fault,), model, facts) for fault in ("sensor_dead", "tooth_missing"))
        assert piece.likelihood(("sensor_dead", "tooth_missing"), model, facts) == max(one, other)


# Common practice, no published source: what a finding tells, whoever read it.
@pytest.mark.parametrize(("finding", "state", "for_it", "against_it"), [
    ("extra_gap", "cranking", "tooth_missing", "fuse_blown"), ("no_signal:high", "cranking", "fuse_blown", "tooth_missing"),
    ("no_signal:low", "running", "signal_wire_shorted_to_ground", "tooth_missing"),
    ("dropout", "wiggle", "wire_breaks_when_wiggled", "tooth_missing"),
])  # fmt: skip
def test_a_finding_read_elsewhere_speaks_for_what_makes_it(finding, state, for_it, against_it):
    facts, model = knowledge(), likelihood_model(HALL)

    def share(fault, named=state):
        return ReadElsewhere("", finding, finding.split(":")[0], named).likelihood((fault,), model, facts)

    assert share(for_it) > 0.5
    assert share(for_it) > 8 * share(against_it)
    assert all(0 < share(one) < 1 for one in model.faults)
    # A finding without the state it was read in says less.
    assert share(against_it) / share(for_it) < share(against_it, "") / share(for_it, "") * 1.5


def test_a_disturbance_read_elsewhere_counts_though_the_model_drowns_it_in_that_state():
    # A running coil is far taller than the spikes that the model draws; another engine's spikes may be stronger.
    model, facts = likelihood_model(COIL), knowledge()
    heard = ReadElsewhere("", "noise", "noise", "running")
    assert heard.likelihood(("ignition_disturbs",), model, facts) > 10 * heard.likelihood(
        ("tooth_missing",), model, facts
    )


# the posterior ----------------------------------------------------------------------------------------------------


def test_normalised_logarithms_do_not_overflow():
    p = normalised(np.array([-1e4, -1e4 + np.log(3.0)]))
    assert p == pytest.approx([0.25, 0.75])


def test_leaving_out_the_unlikely_keeps_the_order_and_the_ratios():
    posterior = Posterior((("a",), ("b",), ("c",)), np.array([0.6, 0.39995, 0.00005]))
    left = posterior.likely(1e-3)
    assert left.faults == (("a",), ("b",))
    assert left.p.sum() == pytest.approx(1.0)
    assert left.p[0] / left.p[1] == pytest.approx(0.6 / 0.39995)
    # Even where nothing reaches the least, the likeliest stay.
    assert len(Posterior((("a",), ("b",)), np.array([0.5, 0.5])).likely(0.9).faults) == 2


def test_checks_ranked_without_the_unlikely_come_out_as_with_them(monkeypatch):
    from sagen.reason import checks as module

    case = Case(HALL, (Code("", "P0335", "circuit"), MeterReading("", "supply", "key_on", 12.4)))
    short = next_checks(case, infer(case))
    monkeypatch.setattr(module, "LEAST_LIKELY", 0.0)
    full = next_checks(case, infer(case))
    assert short[0].check.name == full[0].check.name
    gains = {one.check.name: one.gain_bits for one in full}
    for one in short[:10]:
        assert one.gain_bits == pytest.approx(gains[one.check.name], abs=0.03)
    assert LEAST_LIKELY < 1e-3


def test_a_pair_counts_half_for_either_cause():
    posterior = Posterior((("fuse_blown",), ("fuse_blown", "sensor_dead")), np.array([0.4, 0.6]))
    assert posterior.by_cause() == pytest.approx({"supply": 0.7, "sensor": 0.3})
    assert posterior.by_fault() == pytest.approx({"fuse_blown": 0.7, "sensor_dead": 0.3})


@pytest.mark.parametrize("origin", ["original", "aftermarket", "unknown", "used"])
def test_a_new_part_is_bad_as_often_as_its_origin_is(origin):
    facts = knowledge()
    case = Case(HALL, (Replaced("sensor", origin),))
    bad = sum(p for faults, p in zip(infer(case).faults, infer(case).p, strict=True)
              if any(cause_of(one) == "sensor" for one in faults))  # fmt: skip
    assert bad == pytest.approx(facts.origins[origin], rel=0.02)


def test_origins_are_ordered_as_practitioners_order_them():
    # Common practice, no published source.
    origins = knowledge().origins
    assert origins["original"] < origins["aftermarket"] <= origins["used"]


def test_a_part_that_is_not_known_is_named_with_the_nearest():
    with pytest.raises(ValueError, match="did you mean 'sensor'"):
        ReplacedEntry("sensr", "original")
    with pytest.raises(ValueError, match="did you mean 'original'"):
        ReplacedEntry("sensor", "orignal")


def test_suspects_add_up_and_are_sorted():
    case = Case(COIL, (Complained("", "no_start"), MeterReading("", "sensor", "unplugged", 4e7, ohms=True)))
    rows = suspects(case, infer(case))
    assert sum(one.probability for one in rows) == pytest.approx(1.0)
    assert [one.probability for one in rows] == sorted((one.probability for one in rows), reverse=True)
    assert len({one.cause for one in rows}) == len(rows)
    # An open coil.
    assert (rows[0].cause, rows[0].fault) == ("sensor", "coil_open")
    assert rows[0].reasons[0].bits > 3


def test_the_order_of_independent_evidence_does_not_matter():
    pieces = [Code("", "P0335", "circuit"), MeterReading("", "ground", "key_on", 0.6), Captured("", frozenset({"erratic"}), "cranking")]  # fmt: skip
    first = infer(Case(HALL, tuple(pieces))).p
    second = infer(Case(HALL, tuple(pieces[::-1]))).p
    np.testing.assert_allclose(first, second, rtol=1e-9)


def test_more_of_the_same_never_outweighs_something_else():
    # Ten captures of the same machine in the same state are hardly more than two.
    piece = Captured("", frozenset({"erratic"}), "cranking")
    few = infer(Case(HALL, (piece,) * 2)).by_cause()["air_gap"]
    many = infer(Case(HALL, (piece,) * 10)).by_cause()["air_gap"]
    assert many - few < 0.25


# checks -----------------------------------------------------------------------------------------------------------


def test_gain_is_bounded_by_what_is_in_doubt():
    case = Case(HALL, (Code("", "P0335", "circuit"),))
    posterior = infer(case)
    doubt = stats.entropy(posterior.p, base=2)
    for one in next_checks(case, posterior):
        assert -1e-9 <= one.gain_bits <= doubt


def test_a_check_that_tells_nothing_comes_last_but_can_be_done():
    case = Case(HALL, (MeterReading("", "ground", "key_on", 12.3),))
    ranked = next_checks(case, infer(case))
    gains = [one.gain_bits >= 0.004 for one in ranked]
    first_empty = gains.index(False)
    assert not any(gains[first_empty + 1 :]) or any(proves(one.check, "return_open") for one in ranked)


def test_the_row_of_a_check_is_that_of_the_contract():
    case = Case(HALL, (Code("", "P0335", "circuit"),))
    row = next_checks(case, infer(case))[0].as_row()
    assert list(row) == [
        "check",
        "kind",
        "point",
        "state",
        "minutes",
        "access_minutes",
        "gain_bits",
        "outcomes",
        "text",
    ]
    assert isinstance(next_checks(case, infer(case))[0], NextCheck)


def test_a_cleared_circuit_is_said_to_buy_nothing():
    facts = Posterior(((SOUND,), ("sensor_dead",)), np.array([ENOUGH + 0.01, 0.99 - ENOUGH]))
    said = advice(Case(HALL), facts)
    assert said.enough
    assert "Buy nothing" in said.text


@pytest.mark.parametrize("cause", ["sensor", "wiring", "ground", "module", "reluctor"])
def test_cautions_stand_by_every_check_at_a_turning_engine(cause):
    turning = [one for one in knowledge().checks if one.state in ("cranking", "running", "wiggle")]
    assert turning
    assert all(one.cautions for one in turning)


# the files check themselves ------------------------------------------------------------------------------------------


KNOWLEDGE = {name: _shipped(name) for name in SHIPPED}


@pytest.mark.parametrize(("name", "was", "becomes", "said"), [
    ("checks.toml", 'state = "key_on"', 'state = "key_onn"', "checks.toml, check 'feed at the plug'.*did you mean 'key_on'"),
    ("checks.toml", 'gear = "meter"', 'gear = "metre"', "did you mean 'meter'"),
    ("checks.toml", "minutes = 3\n", "minuts = 3\n", "did you mean 'minutes'"),
    ("checks.toml", "minutes = 3\n", "minutes = 0\n", "minutes"),
    ("checks.toml", 'cautions = ["plug"]', 'cautions = ["plugg"]', "did you mean 'plug'"),
    ("checks.toml", "wheel_runs_out = 0.96", "wheel_run_out = 0.96", "did you mean 'wheel_runs_out'"),
    ("checks.toml", "wheel_runs_out = 0.96", "wheel_runs_out = 1.96", "wheel_runs_out"),
    ("checks.toml", "cranks_slowly = 0.93", "cranks_slowly = 0.93, cranks_unevenly = 0.9", "only one of them"),
    ("checks.toml", 'point = "supply"', "point = 7", "point"),
    ("priors.toml", "[fault.sensor_dead]", "[fault.sensor_ded]", "did you mean 'sensor_dead'"),
    ("priors.toml", 'part = "sensor"', 'part = "sensr"', r"\[fault\..*did you mean 'sensor'"),
    ("priors.toml", "weight = 6", "weight = 0", r"\[fault\..*weight"),
    ("priors.toml", "[fault.sensor_dead]\nweight = 6", "[fault.sound2]\nweight = 6", "sound"),
    ("evidence.toml", "[code.range]", "[code.rang]", "did you mean 'range'"),
    ("evidence.toml", "reluctor = 0.5", "relucter = 0.5", "did you mean 'reluctor'"),
    ("evidence.toml", "bad = 0.02", "bad = 2.0", r"\[origin.original\]"),
    ("evidence.toml", "[elsewhere.weak_strike]", "[elsewhere.weak_stroke]", "did you mean 'weak_strike'"),
    ("seen.toml", '["crank.hall.cranking"]', '["crank.hall.crankin"]', "did you mean 'cranking'"),
    ("seen.toml", "erratic = ", "eratic = ", "erratic|eratic"),
])  # fmt: skip
def test_a_slip_in_a_knowledge_file_is_named_with_the_nearest_word(name, was, becomes, said):
    text = KNOWLEDGE[name]
    if was not in text:
        was, becomes = '"erratic" =', '"eratic" ='
    with pytest.raises(KnowledgeError, match=said):
        load_knowledge({**KNOWLEDGE, name: text.replace(was, becomes, 1)})


@pytest.mark.parametrize(("name", "row"), [("priors.toml", "coil_weak"), ("seen.toml", "coil_weak")])
def test_a_fault_mode_without_prior_or_counted_row_fails_the_load(name, row):
    lines = KNOWLEDGE[name].splitlines()
    if name == "priors.toml":
        at = lines.index(f"[fault.{row}]")
        del lines[at : at + 4]
    else:
        at = next(index for index, line in enumerate(lines) if line.startswith(f"{row} ="))
        del lines[at]
    with pytest.raises(KnowledgeError, match=row):
        load_knowledge({**KNOWLEDGE, name: "\n".join(lines)})


def test_a_check_fits_its_sensors_and_roles():
    check = CheckFacts(
        slug="x", name="look at it", kind="look", text="Look.", point="sensor", state="key_on", gear="eyes", minutes=1.0,
        expect="Whole.", sensors=("hall",), roles=("crank",),
    )  # fmt: skip
    assert check.fits(HALL)
    assert not check.fits(COIL)
    assert not check.fits(HALL.model_copy(update={"role": "cam"}))
    assert check.total_minutes == 1.0


def test_a_lab_of_another_kind_of_circuit_is_another(model):
    assert likelihood_model(HALL) is model
    assert likelihood_model(HALL.model_copy(update={"bank": 2})) is model
    assert likelihood_model(COIL) is not model
    assert isinstance(likelihood_model(COIL), LikelihoodModel)
    assert "coil_open" in likelihood_model(COIL).faults
    assert "coil_open" not in model.faults


def test_with_trail_leaves_the_case_as_it_was():
    case = Case(HALL)
    more = with_trail(case, [Complained("", "no_start")])
    assert (len(case.trail), len(more.trail)) == (0, 1)


# a crank and its cam in one capture -------------------------------------------------------------------------------

BOTH = Sheet.from_data(
    {
        "conditions": {"state": "cranking"},
        "channel": [
            {"column": "A", "role": "crank", "sensor": "hall", "pull_up": 5.0, "wheel": "60-2"},
            {"column": "C", "role": "cam", "sensor": "hall", "pull_up": 5.0},
        ],
    }
)
JUMPED = Finding("timing_offset", "C", 0.9, {"offset_deg": 17.0})
CHIPPED = Finding("odd_tooth", "A", 0.8, {"tooth": 9})


def kept(findings, *, referenced=False):
    good = KeptReference("good.csv", "", BOTH) if referenced else None
    return CaptureEntry("a.csv", BOTH, tuple(findings), reference=good)


def test_a_capture_is_about_the_sensor_with_the_gravest_finding():
    assert circuit_of_sheet(BOTH).role == "crank"
    assert circuit_of_sheet(BOTH, [CHIPPED]).role == "crank"
    assert circuit_of_sheet(BOTH, [CHIPPED, JUMPED]).role == "cam"
    # What says that the capture is unfit says nothing of where the fault lies.
    assert circuit_of_sheet(BOTH, [CHIPPED, Finding("clipped", "C", 1.0)]).role == "crank"


@pytest.mark.parametrize("role", ["crank", "cam"])
def test_a_cam_that_moved_against_its_crank_is_timing_whichever_circuit_the_job_is_about(role):
    spec = CircuitSpec(role=role, sensor="hall", supply=5.0, pull_up=5.0, wheel="60-2" if role == "crank" else None)
    piece = capture_piece(kept([JUMPED], referenced=True), spec)
    rows = suspects(Case(spec, (piece,)), infer(Case(spec, (piece,))))
    assert rows[0].cause == "timing"
    assert rows[0].probability > 0.75


def test_another_sensors_finding_in_the_same_capture_is_its_own_affair():
    cam = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0)
    assert capture_piece(kept([CHIPPED]), cam).found == frozenset()
    crank = CircuitSpec(role="crank", sensor="hall", pull_up=5.0)
    assert capture_piece(kept([CHIPPED, JUMPED], referenced=True), crank).found == {"odd_tooth", "timing_offset"}
    dead = Finding("no_signal", "C", 1.0, {"held": "high"})
    assert capture_piece(kept([dead]), crank).found == frozenset()


def test_a_crank_that_turns_true_beside_its_cam_speaks_against_timing():
    crank = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
    code = Code("", "P0016", "correlation")
    before = infer(Case(crank, (code,))).by_cause()["timing"]
    after = infer(Case(crank, (code, capture_piece(kept([], referenced=True), crank)))).by_cause()["timing"]
    assert after < 0.2 * before
