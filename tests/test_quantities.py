"""Quantities in either unit. Fixed points and factors are NIST SP 811, B.8 and B.9, from memory."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

from sagen.casework.card_filling import published_rows, row_cells
from sagen.model.machine_card import Published
from sagen.model.quantities import DEGREES, LENGTH, MEASURES, ROAD_SPEED, TEMPERATURE, TORQUE, use_kept

WATER_BOILS, WATER_FREEZES, ALIKE = (100.0, 212.0), (0.0, 32.0), (-40.0, -40.0)


@pytest.fixture
def fahrenheit():
    TEMPERATURE.use("F")
    yield
    use_kept()


@pytest.mark.parametrize(("celsius", "shown"), [WATER_BOILS, WATER_FREEZES, ALIKE, (20.0, 68.0)])
def test_fixed_points_of_both_scales(fahrenheit, celsius, shown):
    assert TEMPERATURE.shown(celsius) == shown
    assert TEMPERATURE.typed(f"{shown:g}", "part") == celsius
    assert TEMPERATURE.typed(f"{celsius:g} °C", "part") == celsius
    assert TEMPERATURE.said(celsius) == f"{shown:g} °F"


def test_in_celsius_nothing_is_changed_and_a_unit_that_is_typed_counts():
    assert (TEMPERATURE.said(20.0), TEMPERATURE.typed("20,5", "part"), TEMPERATURE.sign) == ("20 °C", 20.5, "°C")
    assert TEMPERATURE.typed("68F", "part") == 20.0
    with pytest.raises(ValueError, match="part, °C: 'warm' is not a number"):
        TEMPERATURE.typed("warm", "part")


@pytest.fixture
def inches():
    for quantity in (TORQUE, LENGTH, ROAD_SPEED):
        quantity.use("inch")
    yield
    use_kept()


@pytest.mark.parametrize(("quantity", "kept", "said"), [
    (TORQUE, 1.36, "1.003 lbf·ft"), (LENGTH, 25.4, "1 in"), (LENGTH, 81.0, "3.189 in"), (ROAD_SPEED, 80.47, "50 mph"),
])  # fmt: skip
def test_inches_feet_and_miles_by_their_published_factors(inches, quantity, kept, said):
    # 1 in = 25.4 mm, 1 lbf ft = 1.355 818 N m, 1 mi = 1.609 344 km
    assert quantity.said(kept) == said


@pytest.mark.parametrize("quantity", [TORQUE, LENGTH])
def test_what_was_shown_and_is_typed_again_is_what_was_kept(inches, quantity):
    for kept in (0.5, 8.0, 9.0, 20.5, 81.0, 104.7, 399.0):
        assert quantity.typed(f"{quantity.shown(kept):g}", "field") == pytest.approx(kept, abs=0.011)
    assert [quantity.typed(f"{quantity.shown(kept):g}", "field") for kept in (8.0, 9.0, 20.0, 81.0)] == [
        8.0,
        9.0,
        20.0,
        81.0,
    ]


def test_a_unit_that_is_typed_counts(inches):
    assert (TORQUE.typed("9 Nm", "torque"), TORQUE.typed("9 N·m", "torque"), LENGTH.typed("81mm", "bore")) == (
        9.0,
        9.0,
        81.0,
    )
    assert (TORQUE.typed("10 ft lb", "torque"), LENGTH.typed('3.5"', "bore")) == (13.56, 88.9)
    with pytest.raises(ValueError, match="bore, in: 'wide' is not a number"):
        LENGTH.typed("wide", "bore")


def test_a_card_is_written_in_the_unit_and_kept_in_celsius(fahrenheit):
    row = Published.model_validate({"between": ["1", "2"], "low": 520, "high": 610, "at": 20})
    cells = row_cells(row)
    assert "68" in cells
    assert Published.model_validate(published_rows([cells])[0]) == row


def test_a_choice_holds_from_the_next_start_on_and_programs_read_celsius(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    DEGREES.keep("F")
    assert DEGREES.chosen() == "F"
    meter = [
        "meter",
        "305",
        "ohm",
        "--limits",
        "230",
        "290",
        "--at",
        "20",
        "--temperature",
        "65",
        "--material",
        "copper",
    ]
    code = "import sys; from sagen.cli import main; sys.exit(main(sys.argv[1:]))"
    told = [
        subprocess.run(
            [sys.executable, "-c", code, *meter, *more], capture_output=True, text=True, env=os.environ
        ).stdout
        for more in ([], ["--json"])
    ]
    assert "149 °F" in told[0]
    assert "149" not in told[1]
    assert json.loads(told[1])["verdict"] == "inside"
    DEGREES.path.write_text("Kelvin")
    assert DEGREES.chosen() == "C"
    MEASURES.keep("inch")
    assert (MEASURES.chosen(), DEGREES.chosen()) == ("inch", "C")
