"""Sets of ohms and the decision while it is open, against Student's t, beta distributions and plain arithmetic."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from tests.test_cli import sagen

from sagen.meter.sets import PRIOR_READINGS, PRODUCTION, compare_set
from sagen.model.errors import KnowledgeError, SagenError
from sagen.model.trail import DecisionEntry
from sagen.model.vocabulary import Origin
from sagen.reason.decide import PartState, WhileOpen, decide, decision_facts, parse_facts, said
from sagen.store.codecs import decode, encode

# sets of ohms ----------------------------------------------------------------------------------------------------------


def test_the_odd_one_of_a_set_by_students_t():
    values = [200.0, 203.0, 198.0, 231.0]
    told = compare_set(values, "kohm", digit=0.1)
    assert told.verdict == "odd"
    assert told.odd == (3,)
    # By hand, with scipy.stats.t: the three that lie closest, their spread pooled with what parts of one make differ by.
    logs = np.log(values)
    core = logs[:3]
    freedom = PRIOR_READINGS + 2
    pooled = (((core - core.mean()) ** 2).sum() + PRIOR_READINGS * PRODUCTION**2) / freedom
    read = (0.01 * np.array(values) + 0.1) / np.sqrt(3) / values
    spread = np.sqrt(pooled * (1 + 1 / 3) + read[3] ** 2 + (read[:3] ** 2).mean() / 3)
    p = 4 * 2 * stats.t.sf(abs(logs[3] - core.mean()) / spread, freedom)
    assert told.p[3] == pytest.approx(p, rel=1e-6)


@pytest.mark.parametrize(
    ("values", "limits", "verdict", "odd", "outside"),
    [
        ((0.20, 0.20, 0.20, 0.20), (0.18, 0.22), "alike", (), ()),  # of a set all alike (common practice)
        ((0.20,), None, "too_few", (), ()),
        ((201, 172), None, "differ", (), ()),
        ((201, 172), (190, 220), "odd", (1,), (1,)),
        ((201, 199), (240, 260), "alike", (), (0, 1)),
        ((205, 203, 150, 149, 204, 202), None, "odd", (2, 3), ()),  # two odd ones do not hide each other
        ((200, 250, 300, 350), None, "differ", (), ()),
    ],
)
def test_sets_alike_odd_or_too_few_to_say(values, limits, verdict, odd, outside):
    told = compare_set(values, "kohm", limits, digit=0.01 if values[0] < 1 else 1.0)
    assert (told.verdict, told.odd, told.outside) == (verdict, odd, outside)
    assert told.text


@given(st.integers(0, 100_000), st.integers(3, 8), st.floats(1.35, 4.0))
def test_one_odd_part_is_found_and_sound_sets_are_left_alone(seed, many, times):
    rng = np.random.default_rng(seed)
    sound = 200.0 * np.exp(rng.normal(0, 0.01, many))
    assert compare_set(sound, digit=0.1).verdict == "alike"
    at = int(rng.integers(many))
    sound[at] *= times if rng.random() < 0.5 else 1 / times
    told = compare_set(sound, digit=0.1)
    assert told.odd == (at,)


def test_sets_on_the_command_line_and_nonsense():
    done = sagen("meter", "200", "201", "199", "310", "kohm", "--json")
    assert json.loads(done.stdout)["odd"] == [4]
    assert sagen("meter", "200", "kohm").returncode == 2
    for values in ((1.0,) * 9, (-1.0, 2.0), (float("nan"), 1.0)):
        with pytest.raises(SagenError):
            compare_set(values)


# the decision ----------------------------------------------------------------------------------------------------------

PAIR = (PartState("bank 1", True, 0.3, True), PartState("bank 2", False, 0.97, True))


def test_expected_cost_is_plain_arithmetic():
    given_ = WhileOpen(PAIR, part_price=60.0, labour_again=300.0, labour_each=20.0)
    told = decide(given_)
    facts = decision_facts()
    new = facts.new[Origin.ORIGINAL].comes_back
    odds = facts.stays.comes_back / (1 - facts.stays.comes_back) * facts.measured.under_a_load
    old = odds / (1 + odds)
    one = next(choice for choice in told.choices if choice.name == "fit one")
    both = next(choice for choice in told.choices if choice.name == "fit both")
    again = 300.0 + 60.0 + 20.0
    assert one.cost == pytest.approx(80.0 + (1 - (1 - new) * (1 - old)) * again, rel=0.03)
    assert both.cost == pytest.approx(160.0 + (1 - (1 - new) ** 2) * again, rel=0.03)
    assert one.low < one.cost < one.high
    # At the break-even the two cost the same.
    even = decide(WhileOpen(PAIR, 60.0, told.break_even_labour, 20.0))
    assert even.choices[0].cost == pytest.approx(even.choices[1].cost, rel=0.02)


def test_dear_access_makes_both_the_cheaper_and_cheap_access_one():
    assert decide(WhileOpen(PAIR, 60.0, 5_000.0)).best.name == "fit both"
    assert decide(WhileOpen(PAIR, 60.0, 20.0)).best.name == "fit one"
    lower = (PAIR[0], PartState("bank 2", False, 0.8, True))
    unmeasured = (PAIR[0], PartState("bank 2"))
    sound, low, unknown = (decide(WhileOpen(some, 60.0, 300.0)).break_even_labour for some in (PAIR, lower, unmeasured))
    assert low < unknown < sound


def test_the_shops_own_record_moves_it_as_counts_do():
    # Conjugate beta: prior counts and the shop's add (Gelman et al., Bayesian Data Analysis, 2.4).
    fact = decision_facts().new[Origin.AFTERMARKET]
    told = decide(WhileOpen(PAIR, 60.0, 300.0, origin=Origin.AFTERMARKET, record={Origin.AFTERMARKET: (20, 8)}))
    expected = (fact.comes_back * fact.counts_as + 8) / (fact.counts_as + 20)
    assert dict(told.chances)["bank 1"] == pytest.approx(expected, rel=0.03)
    assert decide(WhileOpen(PAIR, 60.0, 300.0, origin=Origin.AFTERMARKET)).best.comes_back < told.best.comes_back


def test_waiting_counts_only_where_its_price_was_stated():
    waiting = WhileOpen(PAIR, 60.0, 2_000.0, wait_days=10.0, at_hand=1)
    assert "not counted" in said(decide(waiting))
    dear = WhileOpen(PAIR, 60.0, 2_000.0, wait_days=10.0, at_hand=1, day_cost=400.0)
    assert decide(dear).best.name == "fit one"
    assert "not counted" not in said(decide(dear))


def test_a_set_has_a_choice_between():
    four = (
        PartState("1", True),
        PartState("2", False, 0.75, True),
        PartState("3", False, 0.98, True),
        PartState("4", False, 1.0, True),
    )
    told = decide(WhileOpen(four, 50.0, 1_500.0))
    assert {choice.name for choice in told.choices} == {"fit one", "fit 2", "fit the set"}
    assert next(choice for choice in told.choices if choice.name == "fit 2").fitted == ("1", "2")
    alone = decide(WhileOpen((PartState("1", True),), 50.0, 100.0))
    assert len(alone.choices) == 1
    assert alone.break_even_labour is None


@pytest.mark.parametrize(
    "wrong",
    [
        {"parts": ()}, {"parts": (PartState("1"),)}, {"part_price": -1.0}, {"labour_again": float("nan")}, {"wait_days": 1e12},
        {"record": {Origin.USED: (2, 3)}}, {"parts": (PartState("1", True),) * 9},
    ],
)  # fmt: skip
def test_nonsense_is_refused(wrong):
    with pytest.raises(SagenError):
        WhileOpen(**{"parts": PAIR, "part_price": 60.0, "labour_again": 300.0, **wrong})


def test_the_table_of_chances_is_checked():
    for text, where in (
        ("[new.original]\ncomes_back = 2\ncounts_as = 3\n", "new"),
        ("x = [", "x.toml"),
        ("", "x.toml"),
    ):
        with pytest.raises(KnowledgeError, match=where):
            parse_facts(text, "x.toml")


def test_a_decision_is_kept():
    told = decide(WhileOpen(PAIR, 60.0, 300.0))
    entry = DecisionEntry(
        told.best.name, tuple(choice.as_data() for choice in told.choices), {"price": 60.0}, said(told)
    )
    kind, version, data = encode(entry)
    assert decode(kind, version, json.dumps(data)) == entry
    for wrong in (
        {"choice": ""},
        {"choice": "x", "choices": ({"cost": "much"},)},
        {"choice": "x", "choices": ({"cost": float("nan"), "low": 1, "high": 2},)},
    ):
        with pytest.raises(ValueError, match=r"choice|cost"):
            DecisionEntry(**wrong)
