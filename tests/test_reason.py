"""Weighing: an independent exact-inference library, the trade's facts, and the theorem behind the order of checks."""

import itertools
import json
from dataclasses import dataclass, field
from types import SimpleNamespace

import numpy as np
import pytest

from sagen.cli import main
from sagen.machine.faults import all_faults
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, SheetError
from sagen.reason.apart import Apart
from sagen.reason.case import code_pieces
from sagen.reason.checks import ENOUGH, advice, next_checks
from sagen.reason.evidence import Captured, Code, Complained, Evidence, Inspected, MeterReading, ReadElsewhere
from sagen.reason.facts import SOUND, CheckFacts, knowledge
from sagen.reason.likelihood import neighbour_distance
from sagen.reason.weigh import Case, Posterior, Replaced, infer, likelihood_model, suspects, with_trail

HALL = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
COIL = CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0))
KNOCK = CircuitSpec(role="knock", sensor="piezo")


def causes(spec, *pieces):
    return infer(Case(spec, pieces)).by_cause()


def volts(point, state, value):
    return MeterReading("", point, state, value)


def ohms(point, value):
    return MeterReading("", point, "unplugged", value, ohms=True)


@dataclass(frozen=True)
class FromTable(Evidence):
    """Evidence whose likelihoods are given."""

    number: int = 0
    table: dict = field(default_factory=dict)

    @property
    def key(self):
        return ("given", self.number)

    def likelihood(self, faults, model, facts):
        return self.table[faults[0]]


@pytest.mark.parametrize("seed", range(4))
def test_agrees_with_an_independent_exact_inference_library(seed):
    # pgmpy's variable elimination on random networks of this shape: one hidden fault, evidence that is
    # independent given it.
    models = pytest.importorskip("pgmpy.models")
    from pgmpy.factors.discrete import TabularCPD
    from pgmpy.inference import VariableElimination

    rng = np.random.default_rng(seed)
    faults = tuple(all_faults())[: 9 + seed]
    prior = rng.dirichlet(np.ones(len(faults)))
    tables = [rng.dirichlet(np.ones(3), size=len(faults)).T for _ in range(6)]
    seen = rng.integers(0, 3, 6)
    network = models.DiscreteBayesianNetwork([("fault", f"e{k}") for k in range(6)])
    network.add_cpds(TabularCPD("fault", len(faults), prior[:, None].tolist()))
    for k, table in enumerate(tables):
        network.add_cpds(TabularCPD(f"e{k}", 3, table.tolist(), evidence=["fault"], evidence_card=[len(faults)]))
    theirs = VariableElimination(network).query(
        ["fault"], evidence={f"e{k}": int(seen[k]) for k in range(6)}, show_progress=False
    )
    trail = tuple(
        FromTable("", k, dict(zip(faults, table[value], strict=True)))
        for k, (table, value) in enumerate(zip(tables, seen, strict=True))
    )
    ours = infer(
        Case(HALL, trail),
        model=SimpleNamespace(faults=faults),
        facts=SimpleNamespace(weights=lambda *_, **__: prior),
    )
    np.testing.assert_allclose(ours.p, theirs.values, atol=1e-9)


def test_posterior_is_bayes_rule_over_the_case():
    pieces = (Code("", "P0335", "circuit"), volts("supply", "key_on", 12.5))
    case, model, facts = Case(HALL, pieces), likelihood_model(HALL), knowledge()
    by_hand = np.array(
        [
            (facts.priors[one].crank or facts.priors[one].weight)
            * np.prod([piece.likelihood((one,), model, facts) for piece in pieces])
            for one in model.faults
        ]
    )
    np.testing.assert_allclose(infer(case).p, by_hand / by_hand.sum(), atol=1e-12)
    assert infer(case).p.sum() == pytest.approx(1.0)


# Common practice, no published source: what each reading makes likely.
PRACTICE = [
    ("no feed", HALL, (volts("supply", "key_on", 0.1),), "supply"),
    ("open return reads high", HALL, (volts("ground", "key_on", 11.9),), "ground"),
    ("return of volts under load", HALL, (volts("ground", "cranking", 2.6), volts("supply", "key_on", 12.5)), "ground"),
    ("harness dead, wire proven", HALL, (volts("signal", "key_on_unplugged", 0.01), ohms("signal_wire", 0.2), Inspected("", "unplug the module, measure wire to ground", "")), "module"),
    ("harness dead, wire open", HALL, (volts("signal", "key_on_unplugged", 0.01), ohms("signal_wire", 4e7)), "wiring"),
    ("line above its pull-up", HALL, (volts("signal", "key_on_unplugged", 12.3),), "wiring"),
    ("does not pull down, rails good", HALL, (volts("supply", "key_on", 12.5), volts("ground", "key_on", 0.03), volts("signal", "metal_near", 3.4), volts("signal", "key_on_unplugged", 5.0)), "sensor"),
    ("same gap every turn", HALL, (Captured("", frozenset({"extra_gap"}), "cranking"),), "reluctor"),
    ("irregular, differing every turn", HALL, (Captured("", frozenset({"erratic"}), "cranking"),), "air_gap"),
    ("spikes", HALL, (Captured("", frozenset({"noise"}), "running"),), "interference"),
    ("open coil", COIL, (ohms("sensor", 4e7),), "sensor"),
    ("wires crossed", COIL, (Captured("", frozenset({"reversed_polarity"}), "cranking"),), "wiring"),
    ("cam edges moved", CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0), (Captured("", frozenset({"timing_offset"}), "cranking"),), "timing"),
    ("weak alone and loaded", KNOCK, (ReadElsewhere("", "weak_strike", "weak_strike", "unplugged"), ReadElsewhere("", "weak_strike", "weak_strike", "loaded")), "sensor"),
    ("equal unplugged, unequal plugged", KNOCK, (ReadElsewhere("", "loaded_down", "loaded_down", "key_on"),), "wiring"),
]  # fmt: skip


@pytest.mark.parametrize(("spec", "pieces", "cause"), [row[1:] for row in PRACTICE], ids=[row[0] for row in PRACTICE])
def test_readings_make_likely_what_practice_says(spec, pieces, cause):
    found = causes(spec, *pieces)
    assert max(found, key=found.get) == cause, {one: round(p, 3) for one, p in found.items()}


def test_ohms_of_a_switching_sensor_are_declined():
    from sagen.model.trail import ReadingEntry
    from sagen.reason.case import reading_piece

    entry = ReadingEntry(reading="ohms", point="sensor", state="unplugged", value=900.0)
    assert reading_piece(entry, HALL) is None
    assert reading_piece(entry, COIL).value == 900.0


def test_coil_reading_is_brought_to_the_makers_temperature_and_the_leads_taken_off():
    from sagen.model.trail import ReadingEntry
    from sagen.reason.case import reading_piece

    # 870 ohm of copper at 20 degC are 870 x (1 + 0.00393 x 60) at 80 degC (IEC 60028); the leads add 0.4.
    hot = ReadingEntry(
        reading="ohms",
        point="sensor",
        state="unplugged",
        value=870 * (1 + 0.00393 * 60) + 0.4,
        temperature_c=80.0,
        leads_ohm=0.4,
    )
    assert reading_piece(hot, COIL).value == pytest.approx(870.0, abs=0.4)


def test_a_repair_retires_the_evidence_about_the_part_that_left():
    dead = (
        volts("supply", "key_on", 12.5),
        volts("ground", "key_on", 0.03),
        volts("signal", "key_on_unplugged", 5.0),
        volts("signal", "metal_near", 5.0),
    )
    before = causes(HALL, *dead)["sensor"]
    after = causes(HALL, *dead, Replaced("sensor", "original"))
    assert before > 0.6
    assert after["sensor"] < 0.1
    assert after["none"] > 0.4
    # Evidence about the rest stays: the feed that was good is not a suspect now.
    assert after.get("supply", 0.0) < 0.02


def test_a_part_that_was_changed_without_effect_is_less_suspect_but_may_be_bad_from_the_box():
    plain = causes(HALL, Code("", "P0335", "circuit"))["sensor"]
    original = causes(HALL, Replaced("sensor", "original", earlier=True), Code("", "P0335", "circuit"))["sensor"]
    unknown = causes(HALL, Replaced("sensor", "unknown", earlier=True), Code("", "P0335", "circuit"))["sensor"]
    assert 0 < original < unknown < plain
    pairs = infer(Case(HALL, (Replaced("sensor", "unknown", earlier=True),)))
    assert any(len(one) == 2 for one in pairs.faults)


def test_the_same_question_asked_again_counts_less():
    def log_odds(times):
        p = causes(HALL, *[volts("ground", "key_on", 0.4)] * times)["ground"]
        return np.log(p / (1 - p))

    once, six = (abs(log_odds(times) - log_odds(0)) for times in (1, 6))
    assert 0.1 < once < six < 2.5 * once


def test_a_reading_that_no_fault_explains_is_said_to_be_odd():
    posterior = infer(Case(HALL, (volts("supply", "key_on", 47.0),)))
    assert "no fault explains" in posterior.odd[0]
    assert causes(HALL, volts("supply", "key_on", 47.0))["none"] == pytest.approx(causes(HALL)["none"], rel=0.2)


def test_every_reason_has_the_sign_of_its_effect_and_says_figures():
    case = Case(HALL, (volts("ground", "key_on", 11.9), Complained("", "no_start")))
    rows = suspects(case, infer(case))
    top = rows[0]
    assert top.cause == "ground"
    assert top.reasons[0].bits > 0
    assert "11.9 V" in top.reasons[0].text
    assert "a sound circuit shows about 0.0" in top.reasons[0].text
    against = next(one for one in rows if one.cause == "reluctor").reasons
    assert any(one.bits < 0 for one in against)


# The order of checks ----------------------------------------------------------------------------------


def test_thirty_checks_with_all_they_need():
    checks = knowledge().checks
    assert len(checks) >= 30
    for one in checks:
        assert one.minutes > 0
        assert one.expect.endswith(".")
        if one.state == "cranking":
            assert any("clear" in text or "crank" in text.lower() for text in one.cautions), one.name


def test_gear_and_strategy_limit_and_order_the_checks():
    pieces = (Code("", "P0335", "circuit"),)
    for gear, allowed in ((("meter",), {"meter", "eyes", "parts"}), ((), {"eyes", "parts"})):
        case = Case(HALL, pieces, gear)
        assert {one.check.gear for one in next_checks(case, infer(case))} <= allowed
    first = {}
    for strategy in ("meter", "scope"):
        case = Case(HALL, pieces, strategy=strategy)
        ranked = [one.check.gear for one in next_checks(case, infer(case)) if one.check.gear in ("meter", "scope")]
        first[strategy] = np.mean([index for index, gear in enumerate(ranked) if gear == "meter"])
    assert first["meter"] < first["scope"]


def test_gain_is_mutual_information_and_never_negative():
    case = Case(HALL, (Code("", "P0335", "circuit"),))
    posterior = infer(case)
    entropy = -(posterior.p * np.log2(np.maximum(posterior.p, 1e-12))).sum()
    for one in next_checks(case, posterior):
        assert 0 <= one.gain_bits <= entropy + 1e-9


def test_what_was_done_is_not_asked_again_until_a_part_was_changed():
    case = Case(HALL, (volts("supply", "key_on", 12.5),))
    names = {one.check.name for one in next_checks(case, infer(case))}
    assert "feed at the plug" not in names
    again = with_trail(case, [Replaced("sensor", "original")])
    assert "feed at the plug" in {one.check.name for one in next_checks(again, infer(again))}


def test_advice_says_when_to_stop_and_what_proof_is_owed():
    case = Case(
        HALL, (volts("ground", "key_on", 12.3), Captured("", frozenset({"no_signal:high", "ground_lift"}), "cranking"))
    )
    posterior = infer(case)
    assert posterior.by_cause()["ground"] > ENOUGH
    said = advice(case, posterior)
    assert said.enough
    assert "codes cleared" in said.text
    assert not advice(Case(HALL), infer(Case(HALL))).enough


def test_checks_come_in_nearly_the_best_order_where_the_best_is_known():
    # Heckerman, Breese, Rommelse, CACM 38(3) 1995: with one fault and checks that each find one of them, the best
    # order goes by probability over cost. Brute force over all orders; the ranking may be dearer by a few percent.
    faults = ("sensor_dead", "tooth_missing", "fuse_blown", "return_open", "signal_wire_open")
    dearer = []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        p, cost = rng.dirichlet(np.ones(5)), rng.uniform(1, 10, 5)
        checks = tuple(
            CheckFacts(
                slug=one, name=one, kind="look", text="look at it", point="signal", state="unplugged", gear="eyes",
                minutes=float(minutes), expect="as it should be", outcome={"found": {one: 1.0, "other": 0.0}},
            )
            for one, minutes in zip(faults, cost, strict=True)
        )  # fmt: skip
        facts = SimpleNamespace(checks=checks, parts=knowledge().parts, origins=knowledge().origins)
        posterior = Posterior(tuple((one,) for one in faults), p)
        ranked = next_checks(Case(HALL, (), ("eyes",)), posterior, model=SimpleNamespace(spec=HALL), facts=facts)

        def expected(order, p=p, cost=cost):
            left = 1 - np.concatenate([[0], np.cumsum(p[list(order)])[:-1]])
            return float(np.sum(left * cost[list(order)]))

        best = min(expected(one) for one in itertools.permutations(range(5)))
        by_ratio = expected(np.argsort(-p / cost))
        assert by_ratio == pytest.approx(best, rel=1e-12)
        dearer.append(expected([faults.index(one.check.slug) for one in ranked]) / best - 1)
    assert np.mean(dearer) < 0.06
    assert max(dearer) < 0.3


def test_while_it_is_apart():
    set_of_four = Apart(parts=4, failed=1, part_price=60, hours_in=5, hours_each=0.3, rate=90, comes_back=0.5)
    # By hand: all 4 x (60 + 27) + 450 = 798; one 87 + 450 + 0.5 x (87 + 450) = 805.5.
    assert set_of_four.all_of_them() == pytest.approx(798.0)
    assert set_of_four.only_failed() == pytest.approx(805.5)
    assert "all 4" in set_of_four.text()
    with pytest.raises(SagenError, match="at least one"):
        Apart(parts=2, failed=3, part_price=1, hours_in=1, hours_each=1, rate=1, comes_back=0)


def test_sparse_draws_are_wide_and_clusters_narrow():
    widths = neighbour_distance(np.array([0.0, 0.01, 0.02, 5.0, 5.01, 5.02]))
    assert widths.max() < 0.05


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
    assert [one["probability"] for one in first["suspects"]] == sorted(
        (one["probability"] for one in first["suspects"]), reverse=True
    )
    assert len({one["cause"] for one in first["suspects"]}) == len(first["suspects"])
    assert sum(one["probability"] for one in first["suspects"]) == pytest.approx(1.0, abs=1e-4)
    assert set(first["next"][0]) == {
        "check", "kind", "point", "state", "minutes", "access_minutes", "gain_bits", "outcomes", "text",
    }  # fmt: skip
    assert "did you mean 'supply'" in second["error"]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (('complaints = ["no_start"]', 'complaints = ["no_strat"]'), "did you mean 'no_start'"),
        (('pull_up = 12.0', "pullup = 12.0"), "did you mean 'pull_up'"),
        (('codes = ["P0335"]', 'code = ["P0335"]'), "did you mean 'codes'"),
        (('codes = ["P0335"]', 'codes = ["crank"]'), "not a trouble code"),
        (("[[trail]]\nreading", "[[trail]]\nraeding"), "did you mean 'reading'"),
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
    assert SOUND in facts.priors
    for table in facts.seen.values():
        assert set(table) <= set(facts.priors)


def test_both_cam_sensors_at_once_point_at_what_they_share():
    # Common practice, no published source: intake and exhaust sensor together, so their feed or return.
    cam = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0)
    one, both = (causes(cam, *code_pieces(codes, cam)) for codes in (["P0340"], ["P0340", "P0365"]))
    assert max(one, key=one.get) == "sensor"
    assert both["supply"] + both["ground"] > 0.5
    assert both["sensor"] < 0.1
    # Two sensors of another role say nothing of this one.
    assert code_pieces(["P0340", "P0365"], HALL) == []


def test_a_correlation_code_beside_a_crank_code_points_at_timing_parts():
    # Common practice, no published source.
    alone, beside = (causes(HALL, *code_pieces(codes, HALL)) for codes in (["P0335"], ["P0335", "P0016"]))
    assert alone["timing"] < 0.01
    assert max(beside, key=beside.get) == "timing"


@pytest.mark.parametrize(("volts_there", "least", "most"), [(0.03, 0.0, 0.06), (0.4, 0.7, 1.0), (1.0, 0.9, 1.0)])
def test_a_return_of_tens_of_millivolts_is_good_and_of_half_a_volt_is_not(volts_there, least, most):
    # Common practice, no published source: below about 100 mV; 40 mV is good.
    p = causes(HALL, volts("ground", "key_on", volts_there))["ground"]
    assert least <= p <= most


@pytest.mark.parametrize(
    ("ohms", "fault"),
    [(60.0, "coil_turns_shorted"), (420.0, "coil_turns_shorted"), (2_500.0, "coil_open"), (4e7, "coil_open")],
)
def test_ohms_beyond_the_published_ones_condemn_the_coil(ohms, fault):
    coil = CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0))
    found = infer(Case(coil, (MeterReading("", "sensor", "unplugged", ohms, True),)))
    by_fault = found.by_fault()
    assert max(by_fault, key=by_fault.get) == fault
    assert found.by_cause()["sensor"] > 0.85


def test_a_correlation_code_in_a_crank_job_asks_for_the_cam_beside_the_crank():
    case = Case(HALL, tuple(code_pieces(["P0016", "P0335"], HALL)))
    names = [one.check.name for one in next_checks(case, infer(case))[:6]]
    assert "cam beside the crank" in names
    plain = Case(HALL, tuple(code_pieces(["P0335"], HALL)))
    assert "cam beside the crank" not in [one.check.name for one in next_checks(plain, infer(plain))[:6]]


def test_what_costs_more_than_it_saves_is_said_to_and_comes_after_what_pays():
    open_case = Case(HALL, tuple(code_pieces(["P0335"], HALL)))
    first = next_checks(open_case, infer(open_case))
    assert first[0].pays
    assert [one.pays for one in first if one.gain_bits >= 0.004] == sorted(
        (one.pays for one in first if one.gain_bits >= 0.004), reverse=True
    )
    dear = [one for one in first if not one.pays and one.gain_bits >= 0.004]
    assert dear
    assert all("longer than it saves" in one.why or "tell little" in one.why for one in dear)
    # A case as good as closed has nothing left that pays.
    shut = Case(
        HALL,
        (
            *code_pieces(["P0335"], HALL),
            volts("supply", "key_on", 0.01),
            Inspected("", "fuse and relay of the feed", "dead_fuse"),
        ),
    )
    assert not any(one.pays for one in next_checks(shut, infer(shut)))
