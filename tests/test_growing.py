"""What grows by blocks is as if it had come at once; rules and limits say what they are."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import square_teeth
from sagen.kinds import KINDS, examine
from sagen.kinds.kind import what_is_missing
from sagen.machine.faults import all_faults, possible
from sagen.model.capture import Capture, Channel, GrowingCapture
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import KnowledgeError, SagenError
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import Cause, FindingKind, SensorKind
from sagen.signal.limits import all_limits, limits, parse_limits
from sagen.signal.probe_factors import apply_probe_factors
from sagen.signal.pyramid import GrowingPyramid, Pyramid
from sagen.signal.rule import in_order, rule

RAW = np.cumsum(np.random.default_rng(5).normal(0, 1, 70_000)).astype(np.float32)


@given(st.lists(st.integers(0, 4000), min_size=1, max_size=25))
def test_a_pyramid_that_grew_is_the_one_built_at_once(blocks):
    growing, at = GrowingPyramid(RAW.dtype), 0
    for block in blocks:
        growing.append(RAW[at : at + block])
        at += block
    if not at:
        return
    grew, whole = growing.pyramid(), Pyramid(RAW[:at].copy())
    np.testing.assert_array_equal(grew.raw, whole.raw)
    assert len(grew.levels) == len(whole.levels)
    for mine, theirs in zip(grew.levels, whole.levels, strict=True):
        for item, other in zip(mine, theirs, strict=True):
            np.testing.assert_array_equal(item, other)


def test_a_capture_that_grew_is_examined_as_the_whole_and_stays_as_it_was_taken():
    volts = square_teeth(lost=(12,))
    growing = GrowingCapture("live", 50_000.0, (Channel("CH1", np.zeros(0, np.float32), "V", 2.0),))
    taken = None
    for at in range(0, len(volts), 4099):
        growing.append(0.5 * volts[np.newaxis, at : at + 4099])
        if at > len(volts) / 2 and taken is None:
            taken = growing.capture()
            then = taken.channels[0].raw.copy()
    np.testing.assert_array_equal(taken.channels[0].raw, then)
    whole = growing.capture()
    np.testing.assert_allclose(whole.channels[0].values(), volts, rtol=1e-6)
    row = {"column": "CH1", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}
    sheet = Sheet.from_data({"channel": [row], "conditions": {"state": "cranking"}})
    assert [finding.fields["tooth"] for finding in examine(whole, sheet).findings] == [12]


def test_a_block_of_another_shape_is_refused():
    growing = GrowingCapture("live", 1e3, (Channel("A", np.zeros(0, np.float32)),))
    with pytest.raises(ValueError, match="rows"):
        growing.append(np.zeros((2, 5), np.float32))


@pytest.mark.parametrize("factor", [10.0, 0.1])
def test_true_units_are_made_once_and_the_samples_stay(factor):
    capture = Capture("a", 1e3, (Channel("A", np.array([0, 1, 2], np.int16), "V", 0.5, 0.1), Channel("B", RAW[:3])))
    sheet = Sheet.from_data({"channel": [{"column": "A", "role": "crank", "sensor": "hall", "factor": factor}]})
    once, told = apply_probe_factors(capture, sheet)
    again, _ = apply_probe_factors(once, told)
    np.testing.assert_allclose(once.channels[0].values(), factor * capture.channels[0].values(), rtol=1e-6)
    np.testing.assert_array_equal(again.channels[0].values(), once.channels[0].values())
    assert once.channels[0].raw is capture.channels[0].raw
    assert told.channel[0].factor == 1.0


# rules and limits -------------------------------------------------------------------------------------------------


def declared(finding, **said):
    return rule(finding, **said)(lambda reading, context: iter(()))


def test_rules_are_ordered_by_what_they_declare():
    heard = declared(FindingKind.EXTRA_GAP)
    silenced = declared(FindingKind.ERRATIC, silenced_by=[FindingKind.NO_SIGNAL])
    first = declared(FindingKind.NO_SIGNAL, hears=[FindingKind.EXTRA_GAP])
    for given_order in ([silenced, first, heard], [heard, silenced, first], [first, heard, silenced]):
        ordered = in_order(given_order)
        assert [item.finding for item in ordered] == ["extra_gap", "no_signal", "erratic"]


def test_rules_that_wait_for_one_another_are_told():
    one = declared(FindingKind.ERRATIC, silenced_by=[FindingKind.DROPOUT])
    other = declared(FindingKind.DROPOUT, silenced_by=[FindingKind.ERRATIC])
    with pytest.raises(SagenError, match="erratic"):
        in_order([one, other])


@pytest.mark.parametrize("kind", KINDS.values(), ids=lambda item: str(item.slug))
def test_every_kind_s_rules_come_after_what_silences_them(kind):
    settled = set()
    later = [this_rule.finding for this_rule in kind.rules]
    for each_rule in kind.rules:
        later.remove(each_rule.finding)
        assert not {*each_rule.silenced_by, *each_rule.hears} & set(later) - {each_rule.finding}, each_rule.finding
        settled.add(each_rule.finding)


def test_a_kind_of_sensor_that_is_not_whole_is_refused_with_what_to_write():
    assert what_is_missing(KINDS, SensorKind, all_faults().values()) == []
    without = {slug: kind for slug, kind in KINDS.items() if slug != SensorKind.CURRENT}
    assert what_is_missing(without, SensorKind) == [
        "'current' has no class of its own: write kinds/current/kind.py and name it in kinds/kind.py"
    ]
    # Of a sensor with a feed, nobody wrote how the feed fails; one that is struck needs no reluctor.
    less = [mode for mode in all_faults().values() if mode.cause not in (Cause.SUPPLY, Cause.RELUCTOR)]
    told = what_is_missing(KINDS, SensorKind, less)
    assert "'hall' cannot fail by supply: write a fault mode in machine/faults/supply.py" in told
    assert not [text for text in told if "piezo" in text or "'reluctance' cannot fail by supply" in text]


def test_what_a_kind_can_do_decides_which_faults_its_circuits_have():
    # Facts of the trade, no published source: what is not fed has no fuse, what makes its own volts alone can be
    # crossed, what is struck has no tooth to lose.
    faults = {kind: {mode.slug for mode in possible(CircuitSpec(sensor=kind))} for kind in SensorKind}
    assert {kind for kind, own in faults.items() if "fuse_blown" in own} == {SensorKind.HALL, SensorKind.CURRENT}
    assert {kind for kind, own in faults.items() if "pair_crossed" in own} == {SensorKind.RELUCTANCE}
    assert {kind for kind, own in faults.items() if "tooth_missing" in own} == set(SensorKind) - {SensorKind.PIEZO}


def test_every_limit_says_its_unit_reason_and_source():
    found = [item for table in all_limits().values() for item in table.values()]
    assert len(found) > 150
    assert limits("undersampled").samples_a_tooth == 4.0
    assert {item.source for item in found} >= {"common practice", "statistics", "geometry"}


@pytest.mark.parametrize(("text", "said"), [
    ('[a]\nb = { value = 1, unit = "V", reason = "because it is so" }', r"x.toml, \[a\] b: .*source"),
    ('[a]\nb = { value = "1", unit = "V", reason = "because it is so", source = "statistics" }', r"\[a\] b.*value"),
    ('[a]\nb = { value = nan, unit = "V", reason = "because it is so", source = "statistics" }', r"\[a\] b.*value"),
    ('[a]\nb = { value = 1, unit = "V", reason = "because it is so", source = "hearsay" }', "hearsay"),
    ('[a]\nb = { value = 1, unt = "V", reason = "because it is so", source = "statistics" }', "did you mean 'unit'"),
    ("[a\n", "x.toml: "),
])  # fmt: skip
def test_a_slip_in_the_limits_is_named(text, said):
    with pytest.raises(KnowledgeError, match=said):
        parse_limits(text, "x.toml")
