"""Meter verdicts, arithmetic and codes against published tables and worked examples."""

import json
import math
from pathlib import Path

import numpy as np
import pytest

from sagen.casework.judging import reading_verdict
from sagen.cli import main
from sagen.codes import meaning, parse_code
from sagen.codes.lookup import beside, table
from sagen.meter import Accuracy, judge, table_of
from sagen.meter.arithmetic import (
    drop_ohm,
    leak_that_explains,
    series_that_explains,
    sweep_faults,
    thermistor_ohm,
    wire_ohm,
)
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.trail import ReadingEntry


def test_copper_is_brought_to_the_limits_temperature():
    # 0.00393/K at 20 degC (IEC 60028, from memory; pandapower's tables say the same): x1.393 at 120 degC.
    hot = judge(100 * 1.393, "ohm", 90, 110, temperature=120.0)
    assert hot.corrected == pytest.approx(100.0, abs=0.01)
    assert judge(305.0, "ohm", 248, 372, temperature=65.0).corrected == pytest.approx(259.2, abs=0.05)
    assert judge(305.0, "ohm", 248, 372, temperature=65.0, material="none").corrected == 305.0
    assert judge(3.05, "V", 2, 4, temperature=65.0).corrected == 3.05


def test_leads_are_taken_off():
    # Common practice, no published source: an alternator winding of 0.22 to 0.34 ohm reads near 1 ohm with the leads in.
    raw = judge(0.98, "ohm", 0.22, 0.34, accuracy=Accuracy(0.5, 1, 0.01))
    bare = judge(0.98, "ohm", 0.22, 0.34, leads=0.7, accuracy=Accuracy(0.5, 1, 0.01))
    assert (raw.verdict, bare.verdict) == ("outside", "inside")
    assert bare.corrected == pytest.approx(0.28)


@pytest.mark.parametrize(("p", "z"), [(0.80, 0.84), (0.90, 1.28), (0.95, 1.64), (0.99, 2.33), (0.999, 3.09)])
def test_probability_of_conformity_is_that_of_jcgm_106(p, z):
    # JCGM 106:2012, table 1 (from memory, confirmed by scipy.stats.norm): a reading z standard uncertainties
    # within a one-sided limit conforms with probability p.
    u = judge(100.0, "V", 0, 1000, accuracy=Accuracy(1.0, 0.0)).uncertainty
    one_sided = judge(100.0, "V", -1e6, 100.0 + z * u, accuracy=Accuracy(1.0, 0.0))
    assert one_sided.probability_inside == pytest.approx(p, abs=0.004)


def test_uncertainty_agrees_with_another_gum_library():
    # JCGM 100, 4.3.7 and 5.1.2: a rectangle's half width over sqrt 3, carried through the same formula by the
    # package `uncertainties`.
    uncertainties = pytest.importorskip("uncertainties")
    value, temperature, leads = 305.0, 65.0, 0.4
    r = uncertainties.ufloat(value, (0.008 * value + 3 * 0.1) / math.sqrt(3))
    t, lead = (
        uncertainties.ufloat(temperature, 2.0),
        uncertainties.ufloat(leads, math.hypot(0.02, (0.008 * leads + 3 * 0.1) / math.sqrt(3))),
    )
    theirs = (r - lead) / (1 + 0.00393 * (t - 20.0))
    ours = judge(
        value, "ohm", 248, 372, temperature=temperature, leads=leads, accuracy=Accuracy.parse("0.8% + 3 x 0.1")
    )
    assert ours.corrected == pytest.approx(theirs.nominal_value, rel=1e-9)
    assert ours.uncertainty == pytest.approx(theirs.std_dev, rel=1e-3)


def test_too_close_says_what_would_settle_it():
    verdict = judge(372.5, "ohm", 248, 372, accuracy=Accuracy(1.0, 2))
    assert verdict.verdict == "too_close"
    assert "settle" in verdict.text
    assert judge(420.0, "ohm", 248, 372, accuracy=Accuracy(1.0, 2)).verdict == "outside"


@pytest.mark.parametrize(
    ("text", "expected"),
    [("0.8% + 3 x 0.1", (0.8, 3, 0.1)), ("1 %", (1, 0, None)), ("0,5% + 2 digits", (0.5, 2, None))],
)
def test_accuracy_as_meters_state_it(text, expected):
    read = Accuracy.parse(text)
    assert (read.percent, read.digits, read.digit) == expected


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["1", "omh", "--limits", "0", "2"], "did you mean 'ohm'"),
        (["1", "ohm", "--limits", "5", "2"], "wrong way round"),
        (["1", "V", "--limits", "0", "2", "--leads", "0.5"], "resistances only"),
        (["1", "2", "V", "--leads", "0.5"], "resistances only"),
        (["900", "ohm", "--table", "20:2500 80:320"], "state the part's --temperature"),
        (["900", "ohm", "--table", "20:2500 80:320", "--temperature", "140"], "too far beyond"),
        (["900", "ohm", "--nominal", "800"], "needs --tolerance"),
        (["900", "ohm", "--least", "2", "--limits", "1", "2"], "stated twice"),
        (["1", "ohm", "--limits", "0", "2", "--accuracy", "good"], "not of the form"),
    ],
)  # fmt: skip
def test_nonsense_is_named(capsys, arguments, said):
    assert main(["meter", *arguments, "--json"]) == 1
    assert said in json.loads(capsys.readouterr().out)["error"]


def test_meter_command_line(capsys):
    assert (
        main(
            [
                "meter",
                "305",
                "ohm",
                "--limits",
                "248",
                "372",
                "--temperature",
                "65",
                "--accuracy",
                "0.8% + 3 x 0.1",
                "--json",
            ]
        )
        == 0
    )
    row = json.loads(capsys.readouterr().out)
    assert row["value"] == 305.0
    assert row["corrected"] == pytest.approx(259.2, abs=0.1)
    assert row["verdict"] == "inside"
    assert row["probability_inside"] > 0.95


@pytest.mark.parametrize(
    ("gauge", "ohm_per_km"), [(16, 13.174475), (18, 20.948236), (20, 33.309000), (22, 52.963385), (24, 84.215080)]
)
def test_wire_by_gauge(gauge, ohm_per_km):
    # GNU units 2.22 (copperconductivity, wiregauge); handbook copper tables agree (REFERENCES 2).
    assert wire_ohm(1000.0, awg=gauge) == pytest.approx(ohm_per_km, rel=2e-3)
    assert wire_ohm(1000.0, awg=20, celsius=120.0) == pytest.approx(46.399, rel=2e-3)


def test_dividers_drops_and_sets():
    # Common practice, no published source: a quarter of the pull-up is left when the leak is a third of it.
    assert leak_that_explains(5.0, 2200.0, 1.25) == pytest.approx(2200 / 3)
    assert series_that_explains(5.0, 2200.0, 2.5) == pytest.approx(2200.0)
    assert drop_ohm(0.4, 0.008) == pytest.approx(50.0)
    # Common practice: intake-air thermistor 2.2 to 2.7 kilohm at 20 degC; between two points the beta equation.
    first, second = (0.0, 5790.0), (80.0, 320.0)
    assert thermistor_ohm(0.0, first, second) == pytest.approx(5790.0)
    assert 2000 < thermistor_ohm(20.0, first, second) < 3000
    smooth = np.linspace(0.5, 4.6, 12)
    assert sweep_faults(smooth) == []
    torn = smooth.copy()
    torn[6] = 0.2
    assert 6 in sweep_faults(torn)
    for wrong in (
        lambda: drop_ohm(0.1, 0),
        lambda: wire_ohm(1.0),
        lambda: thermistor_ohm(1, (2, 3), (2, 3)),
    ):
        with pytest.raises(SagenError):
            wrong()


# Codes ------------------------------------------------------------------------------------------------

#: Component, letter and kind of failure as the package obd 0.7.3 words them (its table drops bank numbers).
OUTSIDE = {
    "P0335": ("crank", "A", "circuit"), "P0336": ("crank", "A", "range"), "P0337": ("crank", "A", "low"), "P0338": ("crank", "A", "high"),
    "P0339": ("crank", "A", "intermittent"), "P0385": ("crank", "B", "circuit"), "P0389": ("crank", "B", "intermittent"), "P0340": ("cam", "A", "circuit"),
    "P0346": ("cam", "A", "range"), "P0365": ("cam", "B", "circuit"), "P0368": ("cam", "B", "high"), "P0325": ("knock", "1", "circuit"),
    "P0327": ("knock", "1", "low"), "P0330": ("knock", "2", "circuit"), "P0500": ("speed", "A", "circuit"), "P0502": ("speed", "A", "low"),
}  # fmt: skip


@pytest.mark.parametrize("code", OUTSIDE)
def test_code_meanings_against_an_outside_table(code):
    found = meaning(code)
    assert (found.role, found.sensor, found.kind) == OUTSIDE[code]


def test_banks_and_positions():
    # SAE J2012 (from memory): bank 1 A, bank 2 A, bank 1 B, bank 2 B.
    rows = [
        ("P0340", 1, "intake"),
        ("P0345", 2, "intake"),
        ("P0365", 1, "exhaust"),
        ("P0390", 2, "exhaust"),
        ("P0019", 2, "exhaust"),
    ]
    for code, bank, position in rows:
        assert (meaning(code).bank, meaning(code).position) == (bank, position)


def test_all_families_have_five_kinds_in_a_row():
    for base in (325, 330, 335, 340, 345, 365, 385, 390):
        assert [table()[f"P{base + k:04d}"].kind for k in range(5)] == [
            "circuit",
            "range",
            "low",
            "high",
            "intermittent",
        ]


def test_codes_beside_one_another():
    assert "timing parts" in beside(["P0016", "P0340"])[0]
    assert any("share" in item for item in beside(["P0340", "P0365"]))
    assert meaning("P1234") is None
    assert parse_code(" p0335") == parse_code("335") == "P0335"
    with pytest.raises(SagenError, match="not a trouble code"):
        parse_code("hello")


def test_the_wording_is_our_own():
    text = (Path(__file__).parents[1] / "src/sagen/codes/codes.toml").read_text()
    assert "Range/Performance" not in text


def test_outside_only_where_one_side_is_sure_and_between_narrow_limits_nothing_is():
    # JCGM 106, 7: a reading between two limits closer than the meter can tell is neither inside nor outside.
    assert judge(5.0, "V", 4.99, 5.01, digit=0.01).verdict == "too_close"
    assert judge(5.6, "V", 4.99, 5.01, digit=0.01).verdict == "outside"
    assert judge(4.4, "V", 4.99, 5.01, digit=0.01).verdict == "outside"
    assert judge(5.0, "V", 4.0, 6.0, digit=0.01).verdict == "inside"


def test_typed_digits_are_kept_and_limits_carry_their_own_unit(capsys):
    from sagen.meter import limit_of, typed_digit

    assert [typed_digit(name) for name in ("0.20", "0.2", "200", "2.00e3", "12,34")] == [0.01, 0.1, 1.0, 10.0, 0.01]
    assert limit_of("2000ohm", "kohm") == 2.0
    assert limit_of("40 mV", "V") == pytest.approx(0.04)
    with pytest.raises(SagenError, match="is in V, the reading in ohm"):
        limit_of("5V", "ohm")
    with pytest.raises(SagenError, match="did you mean 'kohm'"):
        limit_of("2kohn", "ohm")
    rows = []
    for shown in ("0.20", "0.2"):
        assert main(["meter", shown, "Mohm", "--limits", "100kohm", "300kohm", "--json"]) == 0
        rows.append(json.loads(capsys.readouterr().out))
    assert rows[0]["uncertainty"] < 0.2 * rows[1]["uncertainty"]
    assert rows[0]["verdict"] == "inside"


def test_a_meters_stored_accuracy_is_used_where_none_is_said(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    (tmp_path / "sagen").mkdir()
    (tmp_path / "sagen" / "meter.toml").write_text('accuracy = "0.05% + 1 x 0.001"\n')
    main(["meter", "5.000", "V", "--limits", "4.99", "5.01", "--json"])
    assert json.loads(capsys.readouterr().out)["verdict"] == "inside"
    (tmp_path / "sagen" / "meter.toml").write_text("acuracy = 3\n")
    assert main(["meter", "5.000", "V", "--limits", "4.99", "5.01"]) == 1
    assert "needs one line" in capsys.readouterr().err


# sets, one-sided limits, tables -----------------------------------------------------------------------------------------


def row_of(capsys, *arguments):
    assert main(["meter", *arguments, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_leads_are_ohms_whatever_the_unit_and_the_temperature_holds_for_each_of_a_set(capsys):
    """0.4 ohm of leads are 0.0004 kilohm; copper at 60 degC is brought to 20: R20 = R / (1 + 0.00393 (60 - 20)) (IEC 60028,
    from memory)."""
    row = row_of(
        capsys, "1.02", "1.03", "1.05", "kohm", "--leads", "0.4", "--temperature", "60", "--limits", "850ohm", "950ohm"
    )
    for value, corrected in zip(row["values"], row["corrected"], strict=True):
        assert corrected == pytest.approx((value - 0.0004) / (1 + 0.00393 * 40), abs=2e-3)
    assert row["outside"] == []
    cold = row_of(capsys, "1.02", "1.03", "1.05", "kohm", "--limits", "850ohm", "950ohm", "--accuracy", "0.5%")
    assert cold["outside"] == [1, 2, 3], "at 20 degC the same are too high: the temperature turns the verdict"


@pytest.mark.parametrize("unit", ["kohm", "kOhm", "k\u03a9", "k\u2126"])
def test_units_are_read_with_their_signs(capsys, unit):
    assert row_of(capsys, "2.2", unit, "--limits", "2000\u03a9", "2500ohm")["verdict"] == "inside"


@pytest.mark.parametrize(
    ("arguments", "verdict"),
    [
        (("3.1", "V", "--least", "2.0"), "inside"), (("1.1", "V", "--least", "2.0"), "outside"),
        (("40", "mV", "--most", "0.1V"), "inside"), (("0.4", "V", "--most", "50mV"), "outside"),
        (("800", "ohm", "--nominal", "800", "--tolerance", "10%"), "inside"),
        (("700", "ohm", "--nominal", "800", "--tolerance", "10"), "outside"),
        (("OL", "ohm", "--limits", "200", "400"), "outside"), (("OL", "Mohm", "--least", "1"), "inside"),
        (("0.3", "ohm", "--limits", "200", "400", "--leads", "0.4"), "outside"),
    ],
)  # fmt: skip
def test_one_sided_nominal_over_range_and_shorted(capsys, arguments, verdict):
    row = row_of(capsys, *arguments)
    assert row["verdict"] == verdict, row["text"]
    if arguments[0] == "OL":
        assert row["value"] == "OL"
        assert "ver range" in row["text"]
    if "--leads" in arguments:
        assert "shorted, as far as this meter can tell" in row["text"]


def test_the_open_one_of_a_set_is_the_odd_one(capsys):
    row = row_of(capsys, "201", "199", "OL", "202", "kohm")
    assert (row["verdict"], row["odd"], row["values"][2]) == ("odd", [3], "OL")


def test_nothing_is_corrected_where_the_material_is_none_and_that_is_said(capsys):
    row = row_of(capsys, "1000", "ohm", "--limits", "900", "1100", "--temperature", "80", "--material", "none")
    assert row["corrected"] == 1000.0
    assert "nothing corrected" in row["text"]


def steinhart_hart(celsius, a=1.2873851e-3, b=2.3575235e-4, c=9.497806e-8):
    """R of 1/T = a + b ln R + c (ln R)^3, by Newton's rule. The coefficients are those of a 10 kilohm part in the tests of
    npTDMS (`nptdms.scaling.ThermistorScaling`)."""
    log = np.log(1e4)
    for _ in range(50):
        log -= (a + b * log + c * log**3 - 1 / (celsius + 273.15)) / (b + 3 * c * log**2)
    return float(np.exp(log))


@pytest.mark.parametrize("celsius", [5.0, 12.0, 25.0, 37.0, 55.0, 70.0])
def test_a_thermistors_table_is_followed_as_the_steinhart_hart_equation_has_it(capsys, celsius):
    rows = " ".join(f"{at}:{steinhart_hart(at):.4g}" for at in (0, 20, 40, 60, 80))
    truth = steinhart_hart(celsius)
    how = ("--table", rows, "--temperature", str(celsius), "--tolerance", "10%", "--accuracy", "0.1%")
    assert row_of(capsys, f"{truth:.5g}", "ohm", *how)["verdict"] == "inside"
    # A kelvin of the thermometer is some 4 % of such a part: near the limit nothing is sure.
    assert row_of(capsys, f"{1.11 * truth:.5g}", "ohm", *how)["verdict"] == "too_close"
    assert row_of(capsys, f"{1.5 * truth:.5g}", "ohm", *how)["verdict"] == "outside"
    found = table_of(rows, "ohm", 0.1).at(celsius)
    assert np.sqrt(found.low * found.high) == pytest.approx(truth * np.sqrt(0.99), rel=0.006)
    # The slope against the equation's own, by difference.
    own = -(steinhart_hart(celsius + 0.5) - steinhart_hart(celsius - 0.5)) / truth
    assert found.slope == pytest.approx(own, rel=0.08)


@pytest.mark.parametrize("text", ["inf", "nan", "-inf", "1" + 400 * "0", "infinity"])
def test_what_no_meter_shows_is_wrong_usage(text):
    with pytest.raises(SystemExit) as ended:
        main(["meter", text, "ohm", "--limits", "0", "2"])
    assert ended.value.code == 2


@pytest.mark.parametrize(
    ("spec", "point", "state", "value", "judged"),
    [
        (CircuitSpec(), "signal", "key_on_unplugged", 0.06, "outside"),
        (CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0), "signal", "key_on_unplugged", 0.06, "outside"),
        (CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0), "signal", "key_on_unplugged", 5.02, "inside"),
        (CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0), "signal", "key_on", 2.5, "outside"),
        (CircuitSpec(), "ground", "key_on", 0.9, "outside"),
        (CircuitSpec(), "ground", "key_on", 0.03, "inside"),
    ],
)  # fmt: skip
def test_a_reading_is_judged_by_the_nearest_level_that_the_machine_may_have(spec, point, state, value, judged):
    # Common practice, no published source: a line that rests at 5 or at 12 V rests at neither with 0.06; a return is below 0.1 V.
    assert reading_verdict(ReadingEntry("volts", point, state, value), spec)[0] == judged
