"""Everything that a person writes: wheels, sheets, codes, readings. Properties over many inputs (hypothesis)."""

import math
import string

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sagen.codes.lookup import beside, meaning, parse_code, table
from sagen.files.wheels import parse_catalogue, with_wheel_names
from sagen.meter.arithmetic import (
    drop_ohm,
    leak_that_explains,
    series_that_explains,
    sweep_faults,
    thermistor_ohm,
    wire_ohm,
)
from sagen.meter.judge import Accuracy, judge
from sagen.model.errors import SagenError, SheetError, unknown_name
from sagen.model.sheet import Sheet
from sagen.model.wheel import MOST_SLOTS, Wheel

text = st.text(max_size=40)
sizes = st.integers(2, 200)


# wheels ---------------------------------------------------------------------------------------------------


@given(sizes, st.data())
def test_a_wheel_written_is_the_wheel_read(slots, data):
    missing = data.draw(st.integers(0, slots - 1))
    others = data.draw(st.sets(st.integers(1, slots - missing), max_size=5)) if missing else set()
    # A slot left out right before the reference gap belongs to the gap.
    while slots - missing in others:
        others.discard(slots - missing)
    wheel = Wheel(slots, missing, tuple(sorted(others)))
    assert Wheel.parse(str(wheel)) == wheel


@given(text)
def test_any_text_is_a_wheel_or_one_sentence(words):
    try:
        wheel = Wheel.parse(words)
    except SheetError as error:
        assert "wheel" in str(error)
        assert "\n" not in str(error) or "\n" in words
        return
    assert 1 <= wheel.slots <= MOST_SLOTS
    assert 0 <= wheel.missing < wheel.slots


# Common practice, no published source: degrees from tooth to tooth of wheels that everyone knows.
@pytest.mark.parametrize(
    ("named", "degrees"), [("60-2", 6.0), ("36-1", 10.0), ("58", 6.2069), ("24-2", 15.0), ("12", 30.0)]
)
def test_a_pitch_counts_the_slots_that_are_left_out(named, degrees):
    assert Wheel.parse(named).pitch_deg == pytest.approx(degrees, abs=1e-4)


@given(st.dictionaries(st.text(string.ascii_letters, min_size=1, max_size=8), sizes, max_size=6))
def test_a_catalogue_gives_back_its_names(rows):
    lines = "".join(f"{name} = {slots}  # a comment\n\n" for name, slots in rows.items())
    assert parse_catalogue(lines, where="w.txt") == {name: Wheel(slots) for name, slots in rows.items()}


def test_names_of_the_catalogue_stand_for_wheels_and_other_rows_stay():
    data = {"channel": [{"column": "A", "wheel": "60-2"}, {"column": "B"}, "no table"], "engine": {}}
    assert with_wheel_names(data) == data


# sheets -------------------------------------------------------------------------------------------------------

plain = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.floats(allow_nan=True) | text,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(text, inner, max_size=3),
    max_leaves=8,
)


@given(st.dictionaries(st.sampled_from(["channel", "engine", "conditions", "reference", "chanel"]) | text, plain, max_size=4))  # fmt: skip
def test_any_document_is_a_sheet_or_one_sentence(data):
    try:
        sheet = Sheet.from_data(data, where="x.toml")
    except SheetError as error:
        assert str(error).startswith("x.toml: ")
        return
    assert Sheet.from_data(sheet.model_dump(exclude_none=True)) == sheet


@pytest.mark.parametrize(("data", "said"), [
    ({"chanel": []}, "did you mean 'channel'"),
    ({"engine": {"cylinder": 4}}, "did you mean 'cylinders'"),
    ({"engine": {"cylinders": 0}}, "cylinders"),
    ({"engine": {"cylinders": 2.5}}, "cylinders"),
    ({"conditions": {"state": "crankin"}}, "did you mean 'cranking'"),
    ({"channel": [{"column": ""}]}, "column"),
    ({"channel": [{"column": "A", "pull_up": -5}]}, "pull_up"),
    ({"channel": [{"column": "A", "factor": 0}]}, "must not be zero"),
    ({"channel": [{"column": "A", "shunt_ohm": math.inf}]}, "shunt_ohm"),
    ({"channel": [{"column": "A"}, {"column": "A"}]}, "'A' stands twice"),
    ({"channel": [{"column": "A", "sensor": "halll"}]}, "did you mean 'hall'"),
])  # fmt: skip
def test_what_is_wrong_with_a_sheet_is_named(data, said):
    with pytest.raises(SheetError) as caught:
        Sheet.from_data(data, where="a.sheet.toml")
    assert said in str(caught.value)
    assert str(caught.value).startswith("a.sheet.toml")


def test_numbers_without_quotes_mean_the_text():
    sheet = Sheet.from_data({"channel": [{"column": 1, "wheel": 48}]})
    assert (sheet.channel[0].column, sheet.channel[0].declared_wheel) == ("1", Wheel(48))


@given(text, st.lists(text, min_size=1, max_size=5))
def test_an_unknown_name_is_said_with_what_is_known(name, known):
    said = unknown_name("key", name, known)
    assert repr(name)[1:-1] in said or name in said


# codes ------------------------------------------------------------------------------------------------------------


@given(text)
def test_any_text_is_a_code_or_one_sentence(words):
    try:
        code = parse_code(words)
    except SagenError as error:
        assert "trouble code" in str(error)
        return
    assert code[0] in "PCBU"
    assert len(code) == 5
    assert parse_code(code.lower()) == code


@given(st.sampled_from(sorted(table())))
def test_every_known_code_has_its_meaning_and_makes_something_likely(code):
    told = meaning(f" {code.lower()} ")
    assert told.code == code
    assert told.text
    assert told.makes_likely
    assert told.role in ("crank", "cam", "knock", "speed", "supply", "other")


@given(st.lists(st.sampled_from([*sorted(table()), "P1234", "X", ""]), max_size=6))
def test_codes_beside_one_another_never_fail_and_never_repeat(codes):
    said = beside(codes)
    assert len(said) == len(set(said))
    if not any(meaning(code) for code in codes if code not in ("X", "")):
        assert said == []


# meter ------------------------------------------------------------------------------------------------------------


@given(st.floats(0.1, 5.0), st.integers(0, 20), st.floats(0.01, 1e6))
def test_accuracy_is_a_rectangle_of_percent_and_digits(percent, digits, value):
    accuracy = Accuracy.parse(f"{percent}% + {digits} x 0.1")
    # JCGM 100, 4.3.7: half width over the root of three.
    half = percent / 100 * value + digits * 0.1
    assert accuracy.standard(value, 0.01) == pytest.approx(half / math.sqrt(3), rel=1e-9)


@given(text)
def test_any_accuracy_is_read_or_one_sentence(words):
    try:
        Accuracy.parse(words)
    except SagenError as error:
        assert str(error)


@given(st.floats(1, 1000), st.floats(1, 1000), st.floats(-30, 150))
def test_a_value_is_inside_outside_or_too_close_and_the_odds_agree(value, width, celsius):
    low, high = 300.0, 300.0 + width
    said = judge(value, "ohm", low, high, temperature=celsius, material="copper")
    corrected = value / (1 + 0.00393 * (celsius - 20))
    assert said.corrected == pytest.approx(corrected, rel=2e-3)
    if said.verdict == "inside":
        assert low <= said.corrected * 1.01
        assert said.corrected * 0.99 <= high
        assert said.probability_inside > 0.9
    elif said.verdict == "outside":
        assert said.probability_inside < 0.1
    else:
        assert 0.0 <= said.probability_inside <= 1.0


@given(st.floats(0.5, 12), st.floats(100, 1e5), st.floats(0.02, 0.98))
def test_a_leak_and_its_reading_belong_together(pull_up, ohm, share):
    reading = share * pull_up
    leak = leak_that_explains(pull_up, ohm, reading)
    # The divider of pull-up and leak gives the reading back: Ohm's law.
    assert pull_up * leak / (leak + ohm) == pytest.approx(reading, rel=1e-9)


@given(st.floats(0.5, 12), st.floats(100, 1e5), st.floats(0.02, 0.9))
def test_a_series_resistance_and_its_low_level_belong_together(pull_up, ohm, share):
    low = share * pull_up
    series = series_that_explains(pull_up, ohm, low)
    assert pull_up * series / (series + ohm) == pytest.approx(low, rel=1e-9)


@given(st.floats(0.001, 5), st.floats(0.01, 200))
def test_a_drop_is_a_resistance(volts, amps):
    assert drop_ohm(volts, amps) * amps == pytest.approx(volts)


@given(st.floats(0.1, 50), st.integers(10, 24), st.floats(-40, 150))
def test_wire_is_longer_thinner_and_warmer_as_it_should_be(length, gauge, celsius):
    ohm = wire_ohm(length, awg=gauge, celsius=celsius)
    assert wire_ohm(2 * length, awg=gauge, celsius=celsius) == pytest.approx(2 * ohm)
    # Six gauge numbers are a factor of 2.005 in diameter (ASTM B258): four in area.
    assert wire_ohm(length, awg=gauge + 6, celsius=celsius) == pytest.approx(4.02 * ohm, rel=0.005)
    assert wire_ohm(length, awg=gauge, celsius=20.0) == pytest.approx(ohm / (1 + 0.00393 * (celsius - 20)))


@given(st.floats(500, 50_000), st.floats(0.05, 0.9), st.floats(-20, 120))
def test_a_thermistor_passes_through_its_two_points_and_falls(ohm, share, celsius):
    first, second = (20.0, ohm), (80.0, share * ohm)
    assert thermistor_ohm(20.0, first, second) == pytest.approx(ohm)
    assert thermistor_ohm(80.0, first, second) == pytest.approx(share * ohm)
    # The B-equation: ln R is straight over 1/T.
    b = math.log(1 / share) / (1 / 293.15 - 1 / 353.15)
    wanted = ohm * math.exp(b * (1 / (celsius + 273.15) - 1 / 293.15))
    assert thermistor_ohm(celsius, first, second) == pytest.approx(wanted, rel=1e-6)


@given(st.integers(8, 60), st.data())
def test_a_sweep_that_jumps_is_said_where(count, data):
    volts = [0.5 + 4.0 * k / (count - 1) for k in range(count)]
    even = sweep_faults(volts, jump=0.2)
    assert even == []
    at = data.draw(st.integers(2, count - 3))
    volts[at] -= 2.5
    assert any(abs(sweep_fault - at) <= 1 for sweep_fault in sweep_faults(volts, jump=0.2))
