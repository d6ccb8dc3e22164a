"""Weighing: Bayes' rule by hand, the knowledge file's own checks, and what a technician would expect."""

import numpy as np
import pytest

from sagen.model.errors import KnowledgeError, unknown_name
from sagen.model.finding import Finding
from sagen.reason.facts import FaultMode, knowledge
from sagen.reason.weigh import Evidence, capture_evidence, code_evidence, fault_posterior, next_checks, weigh


def finding(kind, **fields):
    return Finding(kind, "CH1", 1.0, "text", fields)


def test_posterior_is_bayes_rule_written_out():
    facts = knowledge()
    evidence = [capture_evidence([finding("extra_gap")]), code_evidence("P0336")]
    by_hand = []
    for mode in facts.faults:
        weight = mode.prior * facts.codes["range"].likelihood(mode.cause)
        for name, picture in facts.pictures.items():
            share = min(max(mode.shows.get(name, 0.0), picture.background), 0.995)
            weight *= share if name == "extra_gap" else 1 - share
        by_hand.append(weight)
    np.testing.assert_allclose(fault_posterior(evidence), np.array(by_hand) / sum(by_hand), rtol=1e-12)


def test_causes_add_up_to_one_and_are_sorted():
    suspects = weigh([capture_evidence([])])
    probabilities = [one.probability for one in suspects]
    assert sum(probabilities) == pytest.approx(1.0)
    assert probabilities == sorted(probabilities, reverse=True)
    assert len({one.cause for one in suspects}) == len(suspects)


# Common practice, no published source: what each picture points at.
@pytest.mark.parametrize(
    ("seen", "likely"),
    [
        (finding("extra_gap", tooth=4), {"reluctor"}),
        (finding("high_not_reached"), {"sensor", "wiring", "module"}),
        (finding("low_not_pulled_down"), {"sensor", "ground"}),
        (finding("no_signal", held="high"), {"sensor", "wiring", "ground", "supply"}),
        (finding("no_signal", held="low"), {"sensor", "wiring", "module"}),
        (None, {"none"}),
    ],
)
def test_pictures_point_where_the_trade_says(seen, likely):
    suspects = weigh([capture_evidence([seen] if seen else [])])
    assert {one.cause for one in suspects[: len(likely)]} == likely
    assert sum(one.probability for one in suspects if one.cause in likely) > (0.5 if seen is None else 0.85)


def test_every_reason_has_the_sign_of_its_effect():
    evidence = capture_evidence([finding("high_not_reached")])
    for suspect in weigh([evidence]):
        alone = next(i for i, one in enumerate(knowledge().faults) if one.name == suspect.fault)
        before, after = fault_posterior([])[alone], fault_posterior([evidence])[alone]
        seen = [one for one in suspect.reasons if "bottom of the square" in one.text or "loads the line" in one.text
                or "load the line" in one.text or "holds the line" in one.text or "hold the line" in one.text
                or "loads" in one.text]  # fmt: skip
        for reason in seen:
            assert (reason.bits > 0) == (after > before)


def test_codes_name_their_kind():
    # SAE J2012: circuit, range/performance, low, high, intermittent in a row for each sensor (from memory).
    kinds = [code_evidence(code).code for code in ("P0335", "P0336", "P0337", "P0388", "P0344")]
    assert kinds == ["circuit", "range", "low", "high", "intermittent"]
    assert code_evidence("P0300") is None


def test_gain_of_a_check_is_never_more_than_the_doubt():
    evidence = [capture_evidence([finding("no_signal", held="high")])]
    posterior = fault_posterior(evidence)
    doubt = -float((posterior * np.log2(posterior)).sum())
    for one in next_checks(evidence):
        assert 0 <= one.gain_bits <= doubt


def test_gear_limits_the_checks():
    assert {one.check.gear for one in next_checks([Evidence(code="circuit")], gear=["meter"])} == {"meter", "eyes"}


def test_clear_leader_is_to_be_proved_first():
    best = next_checks([capture_evidence([finding("extra_gap")])])[0]
    assert best.proves == "tooth missing"
    assert "hole" in best.check.name


def test_every_check_has_outcomes_that_add_up():
    for check in knowledge().checks:
        for mode in knowledge().faults:
            total = sum(check.likelihood(one, mode.name) for one in (*check.outcome, None))
            assert total == pytest.approx(1.0), (check.name, mode.name)


def test_cranking_checks_carry_a_caution():
    for check in knowledge().checks:
        if check.state == "cranking":
            assert any("clear of belts" in one for one in check.cautions), check.name


def test_knowledge_checks_itself():
    with pytest.raises(KnowledgeError, match="did you mean 'sensor'"):
        FaultMode("x", "sensr", 1.0, {}, "", {})
    with pytest.raises(KnowledgeError, match="not a probability"):
        FaultMode("x", "sensor", 1.0, {"extra_gap": 1.2}, "", {})
    assert unknown_name("key", "zzz", ["a", "b"]).endswith("known are: a, b")
