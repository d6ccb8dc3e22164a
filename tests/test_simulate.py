"""`sagen simulate` and `sagen convert` to the letter, and what the lenses draw against plain arithmetic."""

import json

import numpy as np
import pytest

from conftest import square_teeth
from sagen.cli import main
from sagen.files import read_capture, read_sheet
from sagen.files.circuits import read_circuit, write_circuit
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SheetError
from sagen.model.sheet import Sheet
from sagen.model.wheel import Wheel
from sagen.signal.per_tooth import tooth_table, turn_rows, wave_over_turn
from sagen.signal.pyramid import Pyramid
from sagen.store.captures import CaptureStore

CIRCUIT = """
[engine]
cylinders = 4
[circuit]
role = "crank"
sensor = "hall"
supply = 12.0
pull_up = 8.0
wheel = "52-2"
[circuit.values]
pull_up_ohm = 2700
"""


@pytest.fixture
def circuit(tmp_path):
    path = tmp_path / "c.toml"
    path.write_text(CIRCUIT)
    return path


def said(capsys):
    return [json.loads(line) for line in capsys.readouterr().out.splitlines()]


def test_simulate_writes_a_capture_with_its_sheet_that_examine_reads(circuit, tmp_path, capsys):
    out = tmp_path / "out.csv"
    assert (
        main(
            [
                "simulate",
                str(circuit),
                "--fault",
                "tooth missing",
                "--seed",
                "3",
                "--seconds",
                "2",
                "--rate",
                "40000",
                "-o",
                str(out),
            ]
        )
        == 0
    )
    capture, sheet = read_capture(out), read_sheet(out)
    assert capture.sfreq == pytest.approx(40_000, rel=1e-6)
    assert capture.seconds == pytest.approx(2.0, abs=1e-3)
    assert sheet.engine.cylinders == 4
    assert sheet.channel[0].wheel == "52-2"
    capsys.readouterr()
    assert main(["examine", str(out), "--json"]) == 0
    (row,) = said(capsys)
    assert [item["kind"] for item in row["findings"]] == ["extra_gap"]
    assert row["suspects"][0]["cause"] == "reluctor"


def test_the_same_seed_gives_the_same_capture(circuit, tmp_path):
    for name in ("a.csv", "b.csv"):
        main(
            ["simulate", str(circuit), "--seed", "5", "--seconds", "0.5", "--rate", "20000", "-o", str(tmp_path / name)]
        )
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()


@pytest.mark.parametrize(
    ("point", "state", "quantity", "low", "high"),
    [("signal", "key_on_unplugged", "volts", 7.7, 8.3), ("supply", "key_on", "volts", 12.2, 13.0), ("ground", "key_on", "volts", 0.0, 0.1),
     ("supply", "unplugged", "volts", -0.01, 0.01), ("signal_wire", "unplugged", "ohms", 0.05, 1.0), ("supply", "cranking", "volts", 9.5, 12.0)],
)  # fmt: skip
def test_meter_readings_of_a_sound_circuit(circuit, capsys, point, state, quantity, low, high):
    assert main(["simulate", str(circuit), "--meter", point, "--state", state, "--json"]) == 0
    (row,) = said(capsys)
    assert {key: row[key] for key in ("point", "state", "quantity")} == {
        "point": point,
        "state": state,
        "quantity": quantity,
    }
    assert low <= row["value"] <= high


def test_faults_are_listed_with_their_causes(circuit, capsys):
    assert main(["simulate", str(circuit), "--faults", "--json"]) == 0
    rows = {item["fault"]: item["cause"] for item in said(capsys)}
    assert rows["tooth missing"] == "reluctor"
    assert rows["signal wire open"] == "wiring"
    assert "coil open" not in rows  # a switching sensor has no coil
    assert main(["simulate", str(circuit), "--faults"]) == 0
    assert "tooth missing (reluctor)" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["--fault", "tooth mising", "-o", "x.csv"], "did you mean 'tooth missing'"),
        (["--fault", "coil open", "-o", "x.csv"], "not one that this circuit can have"),
        (["--state", "crankng", "-o", "x.csv"], "did you mean 'cranking'"),
        (["--meter", "sensor"], "say nothing"),
        (["--seconds", "1e9", "-o", "x.csv"], "more than"),
        (["-o", "/nonexistent/folder/x.csv"], "cannot be written"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_in_one_sentence(circuit, capsys, arguments, told):
    assert main(["simulate", str(circuit), *arguments]) == 1
    error = capsys.readouterr().err
    assert told in error
    assert "Traceback" not in error


@pytest.mark.parametrize(
    ("text", "told"),
    [("[circuit]\nrole = 'crnk'", "did you mean 'crank'"), ("[circuit]\nsensr = 'hall'", "did you mean 'sensor'"), ("[engine]\ncylinders = 4", "circuit"),
     ("[circuit]\nohms = [5, 2]", "lower one first"), ("[circuit]\nwheel = '2-60'", "fewer missing"), ("circuit = 3", "not a table"), ("[circuit", "not well-formed")],
)  # fmt: skip
def test_a_circuit_file_that_makes_no_sense(tmp_path, text, told):
    path = tmp_path / "c.toml"
    path.write_text(text)
    with pytest.raises(SheetError, match=told):
        read_circuit(path)


def test_a_circuit_written_reads_the_same(circuit, tmp_path):
    engine, spec = read_circuit(circuit)
    write_circuit(tmp_path / "again.toml", spec, engine.cylinders)
    assert read_circuit(tmp_path / "again.toml") == (engine, spec)


@pytest.mark.parametrize("suffix", ["csv", "wav", "mf4"])
def test_convert_keeps_samples_and_sheet(circuit, tmp_path, suffix, capsys):
    source, out = tmp_path / "a.csv", tmp_path / f"b.{suffix}"
    main(["simulate", str(circuit), "--seconds", "0.6", "--rate", "20000", "-o", str(source)])
    assert main(["convert", str(source), "-o", str(out)]) == 0
    before, after = read_capture(source), read_capture(out)
    assert read_sheet(out) == read_sheet(source)
    for channel, other in zip(before.channels, after.channels, strict=True):
        np.testing.assert_allclose(other.values(), channel.values(), atol=2e-5)
    assert main(["convert", str(source), "-o", str(tmp_path / "c.xyz")]) == 1
    assert "cannot write '.xyz'" in capsys.readouterr().err


# What the lenses draw --------------------------------------------------------------------------------


def read_crank(**teeth):
    row = {"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}
    volts = square_teeth(seconds=3.0, **teeth)
    return volts, examine(Capture("a", 50_000.0, (Channel("A", volts),)), Sheet.from_data({"channel": [row]})).channels[
        0
    ].reading


def test_table_of_teeth_has_the_lost_one_empty_and_the_others_even():
    _, reading = read_crank(lost=(17,), ripple=0.15)
    table = tooth_table(reading)
    assert table.seen[16] == pytest.approx(0.0)
    assert np.isnan(table.phase_error[16])
    assert np.isnan(table.phase_error[58:]).all()  # the reference gap
    there = np.delete(np.arange(58), 16)
    assert np.abs(table.phase_error[there]).max() < 2.0  # percent of a pitch; one sample is 0.4
    np.testing.assert_allclose(table.size[there], 1.0, atol=0.02)
    np.testing.assert_allclose(table.angle_deg, np.arange(60) * 6.0)


def test_table_against_a_known_good_wheel():
    _, good = read_crank(rpm=260.0, phase=0.7, seed=3)
    _, wide = read_crank(duty=0.6)
    table = tooth_table(wide, good)
    assert table.has_pattern
    # Every tooth is wider alike, so relative to the median none differs.
    assert np.nanmax(np.abs(table.size_against)) < 0.03
    assert np.nanmax(np.abs(table.phase_error_against)) < 2.0


def test_rows_of_turns_put_every_tooth_in_its_column():
    _, reading = read_crank(lost=(17,))
    values, entry = turn_rows(reading, "phase_error")
    teeth = reading.teeth
    assert values.shape[1] == 60
    for row, column in ((2, 4), (3, 40), (5, 57)):
        at = entry[row, column]
        assert teeth.number[at] == column + 1
    assert (entry[1:-1, 16] == -1).all()
    assert np.count_nonzero(entry >= 0) == len(teeth.times)


def test_mean_turn_is_the_square_that_was_put_in():
    # Half of each of 58 pitches low: 58/120 of the turn.
    volts, reading = read_crank(ripple=0.1)
    wave = wave_over_turn(volts, reading)
    assert len(wave) == 60 * 24
    assert np.mean(wave < 2.5) == pytest.approx(58 / 120, abs=0.02)
    assert wave[-2 * 24 + 14 :].min() > 4.5  # the reference gap


def test_pyramids_are_kept_beside_the_capture(tmp_path):
    shelf = CaptureStore(tmp_path)
    raw = np.random.default_rng(0).normal(size=70_001).astype(np.float32)
    token = shelf.put(Capture("a", 1e4, (Channel("A", raw),)))
    assert shelf.get_pyramids(token, 1) is None
    built = Pyramid(raw)
    shelf.put_pyramids(token, [built.packed()])
    again = Pyramid.unpacked(raw, *shelf.get_pyramids(token, 1)[0])
    for ours, kept in zip(built.view(100, 60_000, 333), again.view(100, 60_000, 333), strict=True):
        np.testing.assert_array_equal(ours, kept)
    with pytest.raises(ValueError, match="does not belong"):
        Pyramid.unpacked(raw[:500], *shelf.get_pyramids(token, 1)[0])


@pytest.mark.parametrize(
    ("text", "wheel"),
    [
        ("60-2", Wheel(60, 2)),
        ("48", Wheel(48)),
        ("36: 17-18, 35-36", Wheel(36, 2, (17, 18))),
        (" 24 - 1 ", Wheel(24, 1)),
    ],
)
def test_wheels_are_read_and_written_alike(text, wheel):
    assert Wheel.parse(text) == wheel
    assert Wheel.parse(str(wheel)) == wheel


@pytest.mark.parametrize("text", ["60-", "two", "0", "60-60", "36: 17-18", "", "9999-1", "36: 40, 36"])
def test_wheels_that_cannot_be(text):
    with pytest.raises(SheetError):
        Wheel.parse(text)
