"""Weighing: exact inference by other means, the trade's facts, and what must not be called sure."""

import json
from dataclasses import dataclass, field

import numpy as np
import pytest

from sagen.cli import main
from sagen.machine.faults import all_faults
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SheetError
from sagen.model.trail import (
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    ReadingEntry,
    RepairEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.reason import prior
from sagen.reason.case import case_of, code_pieces, reading_piece
from sagen.reason.checks import advice, next_checks
from sagen.reason.diagnostics import NEARLY, UNCONFIRMED, shrink_unconfirmed
from sagen.reason.evidence import Captured, Code, Complained, Evidence, Inspected, MeterReading, ReadElsewhere, Stayed
from sagen.reason.facts import SOUND, cause_of, knowledge
from sagen.reason.history import Case, FaultHistory, Replaced, row_of
from sagen.reason.likelihood import log_likelihoods
from sagen.reason.posterior import Posterior
from sagen.reason.scales import log_mean
from sagen.reason.suspects import suspects
from sagen.reason.weights import infer
from sagen.reason.world import World, _KeptSets, world_of

HALL = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
OPEN_HALL = CircuitSpec(role="crank", sensor="hall")
COIL = CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0))
KNOCK = CircuitSpec(role="knock", sensor="piezo")
CAM = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0)


def causes(spec, *pieces):
    return infer(Case(spec, pieces)).by_cause()


def volts(point, state, value):
    return MeterReading("", point, state, value)


def ohms(point, value):
    return MeterReading("", point, "unplugged", value, ohms=True)


@dataclass(frozen=True)
class FromTable(Evidence):
    """Evidence whose likelihoods are given by fault mode."""

    table: dict = field(default_factory=dict, hash=False)

    def likelihood(self, particle_set, pictures, facts):
        return particle_set.by_row(lambda fault: self.table[fault])


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", range(3))
def test_agrees_with_an_independent_exact_inference_library(seed):
    # pgmpy's variable elimination on a network of this shape: one hidden fault, evidence independent given it.
    models = pytest.importorskip("pgmpy.models")
    from pgmpy.factors.discrete import TabularCPD
    from pgmpy.inference import VariableElimination

    rng, world = np.random.default_rng(seed), world_of(HALL)
    prior = knowledge().weights(world.faults, "crank")
    tables = [rng.dirichlet(np.ones(3), size=len(prior)).T for _ in range(6)]
    seen = rng.integers(0, 3, 6)
    network = models.DiscreteBayesianNetwork([("fault", f"e{k}") for k in range(6)])
    network.add_cpds(TabularCPD("fault", len(prior), prior[:, None].tolist()))
    for k, table in enumerate(tables):
        network.add_cpds(TabularCPD(f"e{k}", 3, table.tolist(), evidence=["fault"], evidence_card=[len(prior)]))
    theirs = VariableElimination(network).query(
        ["fault"], evidence={f"e{k}": int(seen[k]) for k in range(6)}, show_progress=False
    )
    trail = tuple(
        FromTable("", dict(zip(world.faults, table[value], strict=True)))
        for table, value in zip(tables, seen, strict=True)
    )
    np.testing.assert_allclose(infer(Case(HALL, trail)).p, theirs.values, atol=1e-9)


def test_two_hypotheses_are_weighed_as_bayes_rule_has_it_in_closed_form():
    # Prior odds times the likelihood ratio: two causes that alone may have given the evidence, 0.9 against 0.15.
    world = world_of(HALL)
    table = dict.fromkeys(world.faults, 1e-9) | {"fuse_blown": 0.9, "tooth_missing": 0.15}
    prior = dict(zip(world.faults, knowledge().weights(world.faults, "crank"), strict=True))
    odds = 0.9 * prior["fuse_blown"] / (0.15 * prior["tooth_missing"])
    found = infer(Case(HALL, (FromTable("", table),))).by_fault()
    assert found["fuse_blown"] == pytest.approx(odds / (1 + odds), abs=1e-5)


@pytest.mark.sampled(1)
def test_a_job_that_grew_piece_by_piece_is_weighed_as_if_it_had_come_at_once():
    # What earlier weighings worked out of the same pieces is remembered; Bayes's rule knows nothing of the order of weighings.
    flat, gap = frozenset({"no_signal:high"}), frozenset({"extra_gap"})
    trail = (
        Captured("", flat, "cranking"), volts("supply", "key_on", 12.4), Captured("", gap, "running"),
        volts("signal", "key_on_unplugged", 5.0), Captured("", frozenset(), "cranking"), Captured("", flat, "wiggle"),
    )  # fmt: skip
    grown = World(HALL)
    answers = [infer(Case(HALL, trail[:number]), world=grown).p for number in range(1, len(trail) + 1)]
    for number in (2, len(trail)):
        np.testing.assert_array_equal(infer(Case(HALL, trail[:number]), world=World(HALL)).p, answers[number - 1])


#: cases of many exact readings, in which few particles are left; the reference draws four hundred times as many
STARVING = {
    "leak": (volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "key_on_unplugged", 1.8), volts("signal", "metal_near", 0.1), volts("signal", "metal_away", 1.75)),
    "return": (volts("supply", "key_on", 5.02), volts("ground", "key_on", 0.6), volts("signal", "key_on_unplugged", 4.95), volts("signal", "metal_near", 0.72), volts("signal", "metal_away", 4.9)),
    "never": (volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "key_on_unplugged", 5.0), volts("signal", "metal_near", 5.0)),
}  # fmt: skip


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", STARVING)
@pytest.mark.long
def test_starved_particles_agree_with_a_very_large_reference(name):
    world = world_of(OPEN_HALL)
    courses = [FaultHistory((row_of(this_fault),), 0.0) for this_fault in world.faults]
    logs = []
    for seed in range(64):
        large = World(OPEN_HALL, particles=2_500, seed=seed + 1)
        logs.append(
            log_mean(log_likelihoods(courses, [(0, item) for item in STARVING[name]], [{}], large)[1].sum(axis=0))
        )
    evidence = log_mean(np.array(logs), axis=0)
    weight = knowledge().weights(world.faults, "crank") * np.exp(evidence - evidence.max())
    reference: dict[str, float] = {}
    for fault, p in zip(world.faults, weight / weight.sum(), strict=True):
        reference[cause_of(fault)] = reference.get(cause_of(fault), 0.0) + float(p)
    answers = [
        infer(Case(OPEN_HALL, STARVING[name]), world=World(OPEN_HALL, seed=seed)).by_cause() for seed in (2011, 5, 77)
    ]
    for found in answers:
        for cause in reference | found:
            assert found.get(cause, 0.0) == pytest.approx(reference.get(cause, 0.0), abs=0.12), (
                cause,
                reference,
                found,
            )
    # Where draws are few the answer is no surer than it should be: not in the mean of several draws.
    assert np.mean([max(found.values()) for found in answers]) < max(reference.values()) + 0.06


SPEED = CircuitSpec(role="speed", sensor="hall", wheel="48")
SPEED_12 = CircuitSpec(role="speed", sensor="hall", supply=12.0, wheel="48")
#: ends of jobs, as a technician might leave them: many precise readings at once, of which few particles come near all
ENDS = {
    "a wire of 100 kilohm": (HALL, (volts("signal", "key_on_unplugged", 4.98), ohms("signal_wire", 1e5))),
    "seven good readings": (HALL, (volts("supply", "key_on", 12.41), volts("ground", "key_on", 0.021), volts("signal", "key_on_unplugged", 5.02), volts("signal", "metal_near", 0.31), ohms("signal_wire", 0.62), ohms("ground_wire", 0.38), ohms("supply_wire", 0.55))),
    "a return with one strand": (HALL, (volts("supply", "key_on", 12.3), volts("ground", "cranking", 0.93), ohms("ground_wire", 0.44), volts("signal", "metal_near", 1.24))),
    "warm and good": (SPEED, (volts("signal", "key_on", 0.58), volts("signal", "key_on_unplugged", 12.6), Inspected("", "warm_the_sensor", ""), ohms("ground_wire", 0.61), ohms("signal_wire", 0.69), Captured("", frozenset(), "wiggle"))),
    "two pieces that a call hangs on alike": (SPEED_12, (Complained("", "lamp_only"), Code("", "P0000", "circuit"), Captured("", frozenset({"no_signal:low"}), "wiggle", frozenset({"timing_scatter", "timing_offset"}), "sensor", (("low", 0.224), ("high", 0.222), ("supply", 14.57), ("ground", 0.0068))), volts("signal", "key_on_unplugged", 12.98))),
}  # fmt: skip


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", ENDS)
def test_no_answer_hangs_on_the_seed_of_its_draws(name):
    spec, pieces = ENDS[name]
    found = [infer(Case(spec, pieces), world=World(spec, seed=seed)).by_cause() for seed in (2011, 311, 4207)]
    assert len({max(item, key=item.get) for item in found}) == 1, found
    for other in found[1:]:
        apart = sum(abs(found[0].get(cause, 0.0) - other.get(cause, 0.0)) for cause in found[0] | other) / 2
        assert apart < 0.05, found


@pytest.mark.parametrize("state", ["key_on", "cranking"])
def test_a_drop_under_load_beats_ohms_without_it(state):
    # Common practice, no published source: one strand still has continuity, and drops volts as soon as it has to carry something.
    rails = (volts("supply", "key_on", 5.0), volts("signal", "key_on_unplugged", 5.0), volts("ground", state, 0.9))
    spec = CircuitSpec(role="crank", sensor="hall", supply=5.0, pull_up=5.0, wheel="60-2")
    with_ohms, without = causes(spec, *rails, ohms("ground_wire", 0.4)), causes(spec, *rails)
    assert max(with_ohms, key=with_ohms.get) == "ground"
    assert with_ohms["ground"] < without["ground"]
    # A wire that is open has none.
    assert causes(spec, *rails, ohms("ground_wire", 4e7))["ground"] > with_ohms["ground"]


# What the trade says ----------------------------------------------------------------------------------


# Common practice, no published source: what each reading makes likely.
PRACTICE = [
    ("no feed", HALL, (volts("supply", "key_on", 0.02),), "supply"),
    ("open return reads high", HALL, (volts("ground", "key_on", 11.9),), "ground"),
    ("return of volts under load", HALL, (volts("ground", "cranking", 2.6), volts("supply", "key_on", 12.5)), "ground"),
    ("harness dead, wire proven", HALL, (volts("signal", "key_on_unplugged", 0.01), ohms("signal_wire", 0.2), Inspected("", "unplug the module, measure wire to ground", "")), "module"),
    ("harness dead, wire open", HALL, (volts("signal", "key_on_unplugged", 0.01), ohms("signal_wire", 4e7)), "wiring"),
    ("line above its pull-up", HALL, (volts("signal", "key_on_unplugged", 12.3),), "wiring"),
    ("does not pull down, rails good", HALL, (volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "metal_near", 3.4), volts("signal", "key_on_unplugged", 5.0)), "sensor"),
    ("does not pull down, 12 V pull-up", HALL.model_copy(update={"pull_up": 12.0}), (volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "metal_near", 8.0), volts("signal", "key_on_unplugged", 12.4)), "sensor"),
    ("same gap every turn", HALL, (Captured("", frozenset({"extra_gap"}), "cranking"),), "reluctor"),
    ("irregular, differing every turn", HALL, (Captured("", frozenset({"erratic"}), "cranking"),), "air_gap"),
    ("spikes", HALL, (Captured("", frozenset({"noise"}), "running"),), "interference"),
    ("open coil", COIL, (ohms("sensor", 4e7),), "sensor"),
    ("wires crossed", COIL, (Captured("", frozenset({"reversed_polarity"}), "cranking"),), "wiring"),
    ("cam edges moved", CAM, (Captured("", frozenset({"timing_offset"}), "cranking"),), "timing"),
    ("weak alone and loaded", KNOCK, (ReadElsewhere("", "weak_strike", "weak_strike", "unplugged"), ReadElsewhere("", "weak_strike", "weak_strike", "loaded")), "sensor"),
    ("equal unplugged, unequal plugged", KNOCK, (ReadElsewhere("", "loaded_down", "loaded_down", "key_on"),), "wiring"),
]  # fmt: skip


@pytest.mark.parametrize(("spec", "pieces", "cause"), [row[1:] for row in PRACTICE], ids=[row[0] for row in PRACTICE])
def test_readings_make_likely_what_practice_says(spec, pieces, cause):
    found = causes(spec, *pieces)
    assert max(found, key=found.get) == cause, {key: round(p, 3) for key, p in found.items()}


# Common practice, no published source: the readings of a sound three-wire circuit.
TEXTBOOK = {
    "rest": ("signal", "metal_away", 4.8), "steel": ("signal", "metal_near", 0.02), "half a volt": ("signal", "metal_near", 0.45),
    "return": ("ground", "key_on", 0.04), "feed 5": ("supply", "key_on", 5.0), "battery low": ("supply", "key_on", 12.4),
    "battery high": ("supply", "key_on", 12.8), "pull-up": ("signal", "key_on_unplugged", 4.95),
}  # fmt: skip
CLASHES = {frozenset({"steel", "half a volt"}), frozenset({"feed 5", "battery low"}), frozenset({"feed 5", "battery high"}), frozenset({"battery low", "battery high"})}  # fmt: skip


@pytest.mark.long
@pytest.mark.sampled(1)
@pytest.mark.parametrize("spec", [OPEN_HALL, CircuitSpec(role="cam", sensor="hall")], ids=["crank", "cam"])
def test_textbook_readings_accuse_neither_wiring_nor_supply_ground_or_module(spec):
    before = causes(spec)
    names = list(TEXTBOOK)
    some = [(name,) for name in names]
    some += [(a, b) for k, a in enumerate(names) for b in names[k + 1 :] if frozenset({a, b}) not in CLASHES]
    for chosen in some:
        after = causes(spec, *(volts(*TEXTBOOK[item]) for item in chosen))
        for cause in ("wiring", "supply", "ground", "module"):
            # Half as much again is what clearing the sensor's rivals by half a percent each comes to.
            assert after.get(cause, 0.0) <= 1.5 * before[cause] + 0.005, (chosen, cause, after[cause], before[cause])


# Common practice, no published source: sizes that lie between the plain cases, and what each of them is.
@pytest.mark.parametrize(("spec", "pieces", "cause"), [
    (HALL, (volts("signal", "key_on_unplugged", 4.98), volts("signal", "metal_near", 4.6), ohms("signal_wire", 0.3), volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03)), ("sensor", "wiring")),
    (HALL, (ohms("signal_wire", 1.3e6),), ("wiring",)),
    (COIL, (ohms("sensor", 50_000.0),), ("sensor",)),
    (COIL, (ohms("sensor", 2e6),), ("sensor",)),
    (HALL, (volts("signal", "key_on_unplugged", 0.85), ohms("signal_wire", 0.2)), ("module", "wiring")),
    (HALL, (volts("signal", "key_on_unplugged", 4.3), volts("signal", "metal_away", 4.3)), ("module", "wiring", "none", "sensor")),
    (CircuitSpec(role="crank", sensor="hall"), (volts("supply", "key_on", 24.6),), ("none", "sensor", "wiring")),
])  # fmt: skip
def test_sizes_between_the_plain_cases_match_a_drawn_machine(spec, pieces, cause):
    posterior = infer(Case(spec, pieces))
    assert posterior.odd == ()
    found = posterior.by_cause()
    assert max(found, key=found.get) in cause


def test_an_unstated_feed_of_a_cam_is_not_a_feed_wire_of_high_resistance():
    cam = CircuitSpec(role="cam", sensor="hall")
    before, after = causes(cam), causes(cam, volts("supply", "key_on", 5.0))
    assert after["supply"] < before["supply"]


@pytest.mark.parametrize(("ohm", "fault"), [(60.0, "coil_turns_shorted"), (420.0, "coil_turns_shorted"), (2_500.0, "coil_high_resistance"), (4e7, "coil_high_resistance")])  # fmt: skip
def test_ohms_beyond_the_published_ones_condemn_the_coil(ohm, fault):
    found = infer(Case(COIL, (ohms("sensor", ohm),)))
    by_fault = found.by_fault()
    assert max(by_fault, key=by_fault.get) == fault
    assert found.by_cause()["sensor"] > 0.85


@pytest.mark.parametrize(("value", "least", "most"), [(0.03, 0.0, 0.09), (0.4, 0.5, 1.0), (1.0, 0.55, 1.0)])
def test_a_return_of_tens_of_millivolts_is_good_and_of_half_a_volt_is_not(value, least, most):
    # Common practice, no published source: below about 100 mV; 40 mV is good.
    assert least <= causes(HALL, volts("ground", "key_on", value))["ground"] <= most


def test_both_cam_sensors_at_once_point_at_what_they_share():
    # Common practice, no published source: intake and exhaust sensor together, so their feed or return.
    one, both = (
        causes(CAM, *code_pieces([(c, None) for c in codes], CAM)) for codes in (["P0340"], ["P0340", "P0365"])
    )
    assert both["supply"] + both["ground"] > 2 * (one["supply"] + one["ground"])
    assert both["sensor"] < 0.5 * one["sensor"]
    # Two sensors of another role say nothing of this one.
    assert code_pieces([("P0340", None), ("P0365", None)], HALL) == []


def test_a_correlation_code_leads_to_timing_parts_once_the_sensor_answers_to_steel():
    # Common practice, no published source.
    codes = [("P0016", None), ("P0368", None)]
    exhaust = CircuitSpec(role="cam", sensor="hall", bank=1, position="exhaust")
    steel = (
        volts("signal", "metal_near", 0.2),
        volts("signal", "metal_away", 4.9),
        volts("signal", "key_on_unplugged", 4.95),
    )
    found = causes(exhaust, *code_pieces(codes, exhaust), *steel)
    assert max(found, key=found.get) == "timing"
    # In a crank job, too.
    alone, beside = (
        causes(HALL, *code_pieces([(c, None) for c in some], HALL)) for some in (["P0335"], ["P0335", "P0016"])
    )
    assert alone["timing"] < 0.02
    assert max(beside, key=beside.get) == "timing"


def test_ohms_of_a_switching_sensor_are_declined_and_a_hot_coil_is_brought_to_twenty_degrees():
    entry = ReadingEntry(reading="ohms", point="sensor", state="unplugged", value=900.0)
    assert reading_piece(entry, HALL) is None
    assert reading_piece(entry, COIL).value == 900.0
    # 870 ohm of copper at 20 degC are 870 x (1 + 0.00393 x 60) at 80 degC (IEC 60028); the leads add 0.4.
    hot = ReadingEntry(
        reading="ohms", point="sensor", state="unplugged", value=870 * (1 + 0.00393 * 60) + 0.4, temperature_c=80.0, leads_ohm=0.4,
    )  # fmt: skip
    assert reading_piece(hot, COIL).value == pytest.approx(870.0, abs=0.4)


# What must not be called sure ---------------------------------------------------------------------------


def test_one_picture_never_speaks_a_million_to_one():
    # About three in a hundred pictures come from something that is not in the model.
    for found in ({"extra_gap"}, {"no_signal:high"}, {"runout"}, {"erratic", "noise"}, set()):
        for spec in (HALL, COIL, CAM):
            p = infer(Case(spec, (Captured("", frozenset(found), "cranking"),)))
            alone = np.array(list(p.alone[0].values()))
            assert alone.max() / alone.min() < 3_000


def test_the_second_picture_of_a_machine_counts_far_less_than_the_first():
    piece = Captured("", frozenset({"erratic"}), "cranking")

    def log_odds(times):
        p = causes(HALL, *[piece] * times)
        return np.log((p["air_gap"] + p["sensor"]) / (1 - p["air_gap"] - p["sensor"]))

    steps = np.diff([log_odds(times) for times in (0, 1, 2, 6)])
    assert steps[0] > 1.0
    assert abs(steps[1]) < 0.6 * steps[0]
    assert abs(steps[2]) < steps[0]


def test_a_finding_that_nothing_here_knows_says_nothing():
    # A strike is no finding of a wheel: it is neither for nor against anything, and not a clean picture either.
    before = causes(HALL)
    after = causes(HALL, ReadElsewhere("", "weak_strike", "weak_strike", "loaded"))
    assert after == pytest.approx(before, abs=1e-9)


def test_one_strong_reading_alone_is_not_good_enough_to_repair():
    case = Case(HALL, (Code("", "P0335", "circuit"), volts("ground", "key_on", 11.9), volts("supply", "key_on", 12.4)))
    posterior = infer(case)
    assert posterior.by_cause()["ground"] > 0.7
    assert posterior.survives < 0.5
    checks = next_checks(case, posterior)
    said = advice(case, posterior, checks)
    assert not said.enough
    confirmed = Case(HALL, (*case.trail, Inspected("", "plug_and_pins", "damaged"), Captured("", frozenset({"ground_lift", "no_signal:high"}), "cranking"), ohms("ground_wire", 4e7)))  # fmt: skip
    sure = infer(confirmed)
    assert sure.survives > 0.5
    assert advice(confirmed, sure, next_checks(confirmed, sure)).enough


def test_a_call_comes_to_hang_on_one_piece_by_degrees():
    # Judgement, no published source: what is left without a piece is known to a tenth or so, and no answer may jump within that.
    posterior, least = Posterior((("gap_too_wide",), (SOUND,)), np.array([0.98, 0.02])), knowledge().stakes.survives
    left = np.linspace(0.2, 0.95, 376)
    said = np.array([shrink_unconfirmed(posterior, each, np.array([each, 1 - each]), knowledge())[0] for each in left])
    assert said[left <= least] == pytest.approx(UNCONFIRMED)
    assert said[left > least + NEARLY] == pytest.approx(0.98)
    assert np.abs(np.diff(said)).max() < 0.005
    assert (np.diff(said)[left[1:] > least] >= 0).all()


def test_what_hangs_on_one_reading_is_not_said_surer_than_nine_in_ten():
    sure = infer(Case(COIL, (ohms("sensor", 4e7),)))
    assert sure.survives < knowledge().stakes.survives
    assert max(sure.by_cause().values()) < 0.9
    assert sure.p.sum() == pytest.approx(1.0)
    twice = (
        ohms("sensor", 4e7),
        Inspected("", "coil_s_millivolts_on_the_bench", "weak"),
        Inspected("", "sensor_against_its_twin_on_the_bench", "weak"),
    )
    assert causes(COIL, *twice)["sensor"] > 0.9


def test_a_slip_reads_another_pin_of_the_same_machine():
    # 12.4 V said to be at the return: an open return shows it, and so does a probe on the feed.
    here = MeterReading("", "ground", "key_on", 12.4)
    strange = MeterReading("", "ground", "key_on", 30.0)
    particle_set = world_of(HALL).singles()
    sound = world_of(HALL).faults.index(SOUND)
    slipped, nothing = (item.likelihood(particle_set, None, knowledge())[sound].mean() for item in (here, strange))
    assert slipped > 5 * nothing


def test_what_was_seen_and_is_certain_is_a_fact_and_a_look_is_not():
    inspected = InspectionEntry("harness at the bracket", "damaged", "signal_wire", "chewed through", False)
    sure = InspectionEntry("harness at the bracket", "damaged", "signal_wire", "chewed through", True)
    plain, certain = (infer(case_of([CodeEntry("P0335"), item], HALL)) for item in (inspected, sure))
    assert causes(HALL)["wiring"] < plain.by_cause()["wiring"] < 0.9 < certain.by_cause()["wiring"]
    # A look by a check's own name is softened: one in twenty is misjudged.
    wheel = Inspected("", "wheel_through_the_sensor_s_hole", "damaged")
    particle_set = world_of(HALL).singles()
    shares = wheel.likelihood(particle_set, None, knowledge())
    assert shares.min() > 0.01


def test_estimates_hold_the_truth():
    # A leak of the size that the divider says: 5 V through 2.15 kohm pulled to 1.8 V by 1.2 kohm (Ohm's law by hand).
    stated = HALL.model_copy(update={"values": {"pull_up_ohm": 2150.0, "input_ohm": 1e6}})
    pieces = (volts("signal", "key_on_unplugged", 1.8), volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.02), Inspected("", "unplug the module, measure wire to ground", "to_ground"))  # fmt: skip
    rows = suspects(Case(stated, pieces), infer(Case(stated, pieces)))
    size = rows[0].estimate
    assert (rows[0].cause, size.quantity) == ("wiring", "leak_ohm")
    by_hand = 1.8 / ((5.0 - 1.8) / 2150.0)
    assert size.low < by_hand < size.high
    assert size.value == pytest.approx(by_hand, rel=0.15)


@pytest.mark.sampled(1)
@pytest.mark.parametrize(("fault", "value", "asked"), [
    ("return_high_resistance", "ground_wire_ohm", (("ground", "key_on"), ("ground", "cranking"), ("signal", "metal_near"), ("supply", "key_on"))),
    ("signal_wire_leaking", "leak_ohm", (("signal", "key_on_unplugged"), ("signal", "metal_away"), ("signal", "metal_near"), ("supply", "key_on"))),
])  # fmt: skip
def test_four_of_five_estimates_hold_what_the_machine_has(fault, value, asked):
    from sagen.kinds import broken
    from sagen.machine.meter import read

    held, told = 0, 0
    for seed in range(10):
        machine = broken(HALL, [(fault, 0.3 + 0.03 * seed)], seed)
        case = Case(HALL, tuple(volts(point, state, read(machine, point, state).value) for point, state in asked))
        posterior = infer(case)
        size = next((suspect.estimate for suspect in suspects(case, posterior) if suspect.fault == fault), None)
        if size is not None:
            told += 1
            held += size.low <= getattr(machine.values, value) <= size.high
    assert told >= 7
    assert held >= 0.6 * told


# Repairs ------------------------------------------------------------------------------------------------

DEAD = (
    volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "key_on_unplugged", 5.0),
    volts("signal", "metal_near", 5.0),
)  # fmt: skip


def test_a_repair_takes_its_faults_along_and_what_is_sound_then_is_said_to_have_left():
    before = causes(HALL, *DEAD)["sensor"]
    case = Case(
        HALL,
        (
            *DEAD,
            Replaced("sensor", "original"),
            Captured("", frozenset(), "cranking"),
            volts("signal", "metal_near", 0.2),
        ),
    )
    after = infer(case)
    assert before > 0.5
    assert after.by_cause()["sensor"] < 0.2
    said = advice(case, after, ())
    if after.by_cause()["none"] > knowledge().stakes.sound_after_repair:
        assert "left with the sensor" in said.text
        assert "Buy nothing for it" not in said.text
    # The feed that was good before the repair is not a suspect after it.
    assert after.by_cause().get("supply", 0.0) < 0.03


def test_a_complaint_that_stayed_speaks_against_the_repair_and_one_that_went_for_it():
    repaired = (*DEAD, Replaced("sensor", "original"))
    records = [ReadingEntry(reading="volts", point=item.point, state=item.state, value=item.value) for item in DEAD]
    stayed, gone, silent = (
        infer(case_of([*records, RepairEntry("sensor", "original"), *more], HALL)).by_cause()["none"]
        for more in ([StayedEntry(True)], [StayedEntry(False)], [])
    )
    assert stayed < silent < gone
    assert infer(Case(HALL, repaired)).by_cause()["none"] == pytest.approx(silent, abs=1e-6)


def test_a_complaint_that_outlasts_a_repair_may_come_from_elsewhere_where_all_was_sound_before():
    # Common practice, no published source: what a sound circuit did not cause no part of it mends.
    good = frozenset({"timing_offset", "timing_scatter"})
    sound = [
        Complained("", "no_start"),
        *(Captured("", frozenset(), state, good) for state in ("cranking", "wiggle")),
        volts("signal", "metal_near", 0.2),
        volts("signal", "metal_away", 5.0),
        volts("supply", "key_on", 11.9),
        volts("ground", "key_on", 0.01),
    ]
    swapped = Replaced("sensor", "original")
    before, stayed, twice, gone = (
        causes(HALL, *sound, *more)["none"]
        for more in (
            [],
            [swapped, Stayed("", True)],
            [swapped, Stayed("", True), Replaced("wheel", "original"), Stayed("", True)],
            [swapped, Stayed("", False)],
        )
    )
    assert stayed > before - 0.05
    assert twice > stayed - 0.1
    assert gone > stayed
    # A circuit that was bad before is not sound now because a part of it was changed.
    bad = [*DEAD, swapped]
    assert causes(HALL, *bad, Stayed("", True))["none"] < 0.5 * causes(HALL, *bad)["none"]


def test_a_part_that_was_changed_without_effect_is_less_suspect_but_may_be_bad_from_the_box():
    plain = causes(HALL, Code("", "P0335", "circuit"))["sensor"]
    original = causes(HALL, Replaced("sensor", "original", earlier=True), Code("", "P0335", "circuit"))["sensor"]
    unknown = causes(HALL, Replaced("sensor", "unknown", earlier=True), Code("", "P0335", "circuit"))["sensor"]
    began = causes(HALL, Replaced("sensor", "unknown", True, True), Code("", "P0335", "circuit"))["sensor"]
    assert 0 < original < unknown < plain
    assert began > 2 * unknown
    pairs = infer(Case(HALL, (Replaced("sensor", "unknown", earlier=True),)))
    assert any(len(fault) == 2 for fault in pairs.faults)


def test_two_faults_at_once_are_thought_of():
    # A return that is lifted and a tooth that is gone: neither alone makes both.
    pieces = (Captured("", frozenset({"extra_gap", "ground_lift"}), "cranking", frozenset({"timing_offset", "timing_scatter"})), volts("ground", "key_on", 0.7), ohms("ground_wire", 60.0), Inspected("", "wheel_through_the_sensor_s_hole", "damaged"))  # fmt: skip
    posterior = infer(Case(HALL, pieces))
    best = posterior.faults[int(posterior.p.argmax())]
    assert len(best) == 2
    assert {cause_of(item) for item in best} == {"ground", "reluctor"}


# The rest -----------------------------------------------------------------------------------------------


def test_a_reading_that_no_fault_explains_is_said_to_be_odd():
    posterior = infer(Case(HALL, (volts("supply", "key_on", 47.0),)))
    assert "no fault explains" in posterior.odd[0]
    assert posterior.by_cause()["none"] == pytest.approx(causes(HALL)["none"], rel=0.3)


def test_every_reason_has_the_sign_of_its_effect_and_says_figures():
    case = Case(HALL, (volts("ground", "key_on", 11.9), Complained("", "no_start")))
    rows = suspects(case, infer(case))
    top = rows[0]
    assert top.cause == "ground"
    assert top.reasons[0].bits > 0
    assert "11.9 V" in top.reasons[0].text
    assert "a sound circuit shows" in top.reasons[0].text
    assert "mV" in top.reasons[0].text
    against = next(row for row in rows if row.cause == "reluctor").reasons
    assert any(item.bits < 0 for item in against)


def test_what_the_module_shows_is_evidence():
    silent, some = (infer(case_of([ScanEntry("rpm_cranking", rpm)], HALL)).by_cause() for rpm in (0.0, 210.0))
    assert silent["reluctor"] < causes(HALL)["reluctor"] < some["reluctor"]
    at_once, never = (infer(case_of([ScanEntry("codes_back", when)], HALL)).by_fault() for when in ("at once", "never"))
    assert at_once["drops_out_when_warm"] < never["drops_out_when_warm"]
    assert at_once["fuse_blown"] > never["fuse_blown"]
    with pytest.raises(ValueError, match="did you mean 'at once'"):
        ScanEntry("codes_back", "at onse")


def test_when_it_comes_is_evidence():
    hot = infer(case_of([ComplaintEntry("stalls", when=("hot",))], HALL)).by_fault()
    always = infer(case_of([ComplaintEntry("stalls", when=("always",))], HALL)).by_fault()
    assert hot["drops_out_when_warm"] > 3 * always["drops_out_when_warm"]


def test_a_recording_that_showed_nothing_wrong_clears_and_a_strange_code_weighs_nothing():
    clean = infer(case_of([FindingEntry("none", "cranking")], HALL)).by_cause()
    assert clean["none"] > causes(HALL)["none"]
    assert infer(case_of([CodeEntry("X99")], HALL)).by_cause() == pytest.approx(causes(HALL), abs=1e-9)


@pytest.mark.parametrize("code", ["P0340", "0340", "P0340-00", "16724"])
def test_a_code_counts_however_the_tool_spells_it(code):
    from sagen.codes import parse_code

    assert parse_code(code) == "P0340"


def test_a_wheel_that_is_not_learned_is_owed_and_buys_no_part():
    case = case_of([CodeEntry("P0315")], HALL)
    assert case.owed == ("relearn",)
    assert infer(case).by_cause() == pytest.approx(causes(HALL), abs=1e-9)


def test_every_circuit_that_can_be_entered_has_something_to_say_of_each_fault():
    # No circuit borrows another's figures: what tells of a fault is computed, or named for it.
    from sagen.machine.faults import possible
    from sagen.reason.recording_likelihood import readable

    facts = knowledge()
    named = {item for shape in facts.shapes.values() for item in shape.spoken_of()} | set(facts.comings)
    by_check = {fault for check in facts.checks for row in check.outcome.values() for fault in row}
    for role, sensors in (("crank", ("hall", "reluctance", "current")), ("cam", ("hall", "reluctance", "current")), ("speed", ("hall", "reluctance", "current")), ("knock", ("piezo",))):  # fmt: skip
        for sensor in sensors:
            spec = CircuitSpec(role=role, sensor=sensor)
            assert readable(sensor)
            for mode in possible(spec):
                assert mode.computed or mode.slug in named | by_check, (role, sensor, mode.slug)
            for state in (
                ("cranking", "running", "rolling", "wiggle", "start") if role != "knock" else ("loaded", "key_on")
            ):
                seen = Captured("", frozenset(), state).likelihood(world_of(spec).singles(), _pictures(), facts)
                assert seen is not None, (role, sensor, state)
                assert np.ptp(seen) > 0.01


def _pictures():
    from sagen.reason.recording_likelihood import RecordingLikelihood

    return RecordingLikelihood()


# Job files --------------------------------------------------------------------------------------------

JOB = """
codes = ["P0335"]
complaints = ["no_start"]
[circuit]
role = "crank"
sensor = "hall"
supply = 12.0
pull_up = 12.0
wheel = "60-2"
[[trail]]
reading = "volts"
point = "supply"
state = "key_on"
value = 0.02
"""


def run_reason(capsys, *paths):
    status = main(["reason", *map(str, paths), "--json"])
    return status, [json.loads(line) for line in capsys.readouterr().out.splitlines()]


def test_reason_weighs_job_files_to_the_letter_of_the_contract(tmp_path, capsys):
    good, bad = tmp_path / "a.toml", tmp_path / "b.toml"
    good.write_text(JOB)
    bad.write_text(JOB.replace('point = "supply"', 'point = "suply"'))
    status, (first, second) = run_reason(capsys, good, bad)
    assert status == 1
    assert first["job"] == str(good)
    assert first["suspects"][0]["cause"] == "supply"
    assert [item["probability"] for item in first["suspects"]] == sorted(
        (item["probability"] for item in first["suspects"]), reverse=True
    )
    assert len({item["cause"] for item in first["suspects"]}) == len(first["suspects"])
    assert sum(item["probability"] for item in first["suspects"]) == pytest.approx(1.0, abs=1e-4)
    assert set(first["next"][0]) == {
        "check", "kind", "point", "state", "minutes", "access_minutes", "gain_bits", "outcomes", "text", "moves_shaft", "place", "cautions",
    }  # fmt: skip
    assert {item["kind"] for item in first["next"]} <= {"meter", "capture", "inspection", "scan", "swap"}
    assert "did you mean 'supply'" in second["error"]


ALL_KEYS = """
codes = ["P0335", { code = "16724", status = "pending" }, "X99"]
complaints = ["long_crank"]
when = ["hot", "wet"]
[engine]
cylinders = 4
runs = "at times"
[circuit]
role = "crank"
wires = 3
[access]
sensor = 120
plug = 5
open = ["sensor"]
[[trail]]
scan = "rpm_cranking"
value = 210.0
[[trail]]
finding = "none"
state = "cranking"
[[trail]]
inspection = "plug and pins"
outcome = "damaged"
part = "signal_wire"
seen = "green"
certain = true
[[trail]]
repair = "sensor"
origin = "original"
[[trail]]
stayed = true
"""


def test_every_key_of_the_contract_is_read(tmp_path, capsys):
    path = tmp_path / "a.toml"
    path.write_text(ALL_KEYS)
    status, (row,) = run_reason(capsys, path)
    assert status == 0
    assert any("X99" in item for item in row["notes"])
    assert any("not stated" in item for item in row["notes"])
    by_place = {item["check"]: item["access_minutes"] for item in row["next"]}
    assert by_place  # what is open costs nothing to get at, what is stated costs what is stated
    assert set(by_place.values()) <= {0, 5.0, 7.0, 15.0, 22.0, 1.0}
    assert by_place.get("seat and flange of the sensor", 0) == 0


#: the keys of a job's object, as the command line's contract has them
WHOLE = {"job", "suspects", "next", "notes", "do_not", "repair", "misfit", "stage"}


def test_jobs_are_read_from_standard_input_a_line_each(tmp_path, capsys, monkeypatch):
    import io

    path = tmp_path / "a.toml"
    path.write_text(JOB)
    monkeypatch.setattr("sys.stdin", io.StringIO(f"{path}\n{tmp_path / 'gone.toml'}\n{path}\n"))
    assert main(["reason", "--stdin"]) == 1
    rows = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert [set(row) for row in rows] == [WHOLE, {"job", "error"}, WHOLE]  # fmt: skip
    assert rows[0] == rows[2]
    assert main(["reason"]) == 2


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (('complaints = ["no_start"]', 'complaints = ["no_strat"]'), "did you mean 'no_start'"),
        (('pull_up = 12.0', "pullup = 12.0"), "did you mean 'pull_up'"),
        (('codes = ["P0335"]', 'code = ["P0335"]'), "did you mean 'codes'"),
        (('codes = ["P0335"]', "codes = [335]"), "list of words"),
        (('codes = ["P0335"]', 'codes = [{code = "P0335", status = "pendng"}]'), "did you mean 'pending'"),
        (('codes = ["P0335"]', 'codes = []\nwhen = ["hott"]'), "did you mean 'hot'"),
        (("[circuit]", "[engine]\nruns = 3\n[circuit]"), "true, false or"),
        (("[circuit]", "[access]\nsensr = 3\n[circuit]"), "did you mean 'sensor'"),
        (("[circuit]", "[access]\nsensor = -3\n[circuit]"), "number of minutes"),
        (("[[trail]]\nreading", "[[trail]]\nraeding"), "did you mean 'reading'"),
        (("[[trail]]\nreading", '[[trail]]\nstayed = "yes"\n[[trail]]\nreading'), "true or false"),
        (("[[trail]]\nreading", '[[trail]]\ninspection = "x"\npart = "sensr"\n[[trail]]\nreading'), "did you mean 'sensor'"),
        (("[circuit]", "[circiut]"), "did you mean 'circuit'"),
        (("value = 0.02", 'value = "low"'), "value"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_job_is_named_with_the_nearest(tmp_path, change, said):
    from sagen.files.jobs import read_job

    path = tmp_path / "a.toml"
    path.write_text(JOB.replace(*change))
    with pytest.raises(SheetError, match=said):
        read_job(path)


def test_a_job_with_a_capture_reads_it(tmp_path, capsys, make_csv):
    make_csv("crank.csv", lost=(31,), ripple=0.1)
    path = tmp_path / "a.toml"
    path.write_text(JOB.split("[[trail]]")[0] + '[[trail]]\ncapture = "crank.csv"\n')
    _, (row,) = run_reason(capsys, path)
    assert row["suspects"][0]["cause"] == "reluctor"
    path.write_text(JOB.split("[[trail]]")[0] + '[[trail]]\ncapture = "gone.csv"\n')
    status, (row,) = run_reason(capsys, path)
    assert status == 1
    assert "trail entry 1" in row["error"]


def test_knowledge_names_only_what_exists():
    facts = knowledge()
    assert set(facts.priors) == {SOUND, *all_faults()}
    assert all(row.reason for row in facts.world.values())


def test_the_first_weighing_brings_in_nothing_heavy():
    import subprocess
    import sys

    asked = (
        "import sys\n"
        "from sagen.reason.history import Case\n"
        "from sagen.reason.weights import infer\n"
        "from sagen.reason.checks import next_checks\n"
        "from sagen.reason.evidence import Code, MeterReading\n"
        "case = Case(trail=(Code('', 'P0335', 'circuit'), MeterReading('', 'signal', 'metal_near', 4.9)))\n"
        "assert next_checks(case, infer(case))\n"
        "print([one for one in ('scipy._lib', 'pandas', 'sqlalchemy', 'PySide6') if one in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, timeout=120, check=True)
    assert done.stdout.strip() == "[]"


def test_particle_sets_of_all_worlds_stay_within_one_budget():
    kept, row = _KeptSets(1_500_000), row_of("sensor_dead")
    made = []

    def make(world, rows):
        made.append(rows)
        return world.particle_set_of(rows, world.cube)

    for seed in range(6):
        world = World(HALL, particles=200, seed=seed)
        for rows in ((row,), ((*row, ("gap_too_wide", 1)),)):
            assert kept.get((seed, rows), lambda world=world, rows=rows: make(world, rows)).rows == rows
            assert kept.nbytes <= kept.budget
    assert len(made) == 12
    # What was asked for last is still there; of what went, pairs went before single fault modes.
    kept.get((5, (row,)), lambda: make(world, (row,)))
    assert len(made) == 12
    singles = [item.single for item in kept._kept.values()]
    assert sum(singles) >= len(singles) - sum(singles)


@pytest.mark.long
def test_a_part_changed_again_and_again_is_weighed_as_every_history_would_be(monkeypatch):
    """Against the same histories all followed: there is nothing to look up, only that leaving out must not be seen."""
    wrong = volts("ground", "key_on", 0.85)
    changed = [Replaced(part, "original") for part in ("harness", "sensor", "harness", "sensor")]
    untold = (*changed, wrong)
    between = (wrong, changed[0], wrong, changed[1], wrong)
    # Nobody measured between the changes: those histories differ in nothing that was told.
    found = [infer(Case(HALL, untold))]
    assert len(found[0].faults) < 700
    monkeypatch.setattr(prior, "MOST_HISTORIES", 400)
    found.append(infer(Case(HALL, between)))
    assert len(found[1].faults) < 2.5 * prior.MOST_HISTORIES
    monkeypatch.setattr(prior, "MOST_HISTORIES", 10**6)
    for mine, trail in zip(found, (untold, between), strict=True):
        theirs = infer(Case(HALL, trail)).by_cause()
        assert sum(abs(mine.by_cause()[cause] - share) for cause, share in theirs.items()) < 0.02
