"""Temperatures in either unit. Fixed points of both scales are NIST SP 811, B.9, from memory."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

from sagen.casework.card_filling import published_rows, row_cells
from sagen.model import temperature
from sagen.model.machine_card import Published

WATER_BOILS, WATER_FREEZES, ALIKE = (100.0, 212.0), (0.0, 32.0), (-40.0, -40.0)


@pytest.fixture
def fahrenheit():
    temperature.use("F")
    yield
    temperature.use("C")


@pytest.mark.parametrize(("celsius", "shown"), [WATER_BOILS, WATER_FREEZES, ALIKE, (20.0, 68.0)])
def test_fixed_points_of_both_scales(fahrenheit, celsius, shown):
    assert temperature.shown(celsius) == shown
    assert temperature.typed(f"{shown:g}", "part") == celsius
    assert temperature.typed(f"{celsius:g} °C", "part") == celsius
    assert temperature.said(celsius) == f"{shown:g} °F"


def test_in_celsius_nothing_is_changed_and_a_unit_that_is_typed_counts():
    assert (temperature.said(20.0), temperature.typed("20,5", "part"), temperature.degrees()) == ("20 °C", 20.5, "°C")
    assert temperature.typed("68F", "part") == 20.0
    with pytest.raises(ValueError, match="part, °C: 'warm' is not a number"):
        temperature.typed("warm", "part")


def test_a_card_is_written_in_the_unit_and_kept_in_celsius(fahrenheit):
    row = Published.model_validate({"between": ["1", "2"], "low": 520, "high": 610, "at": 20})
    cells = row_cells(row)
    assert "68" in cells
    assert Published.model_validate(published_rows([cells])[0]) == row


def test_a_choice_holds_from_the_next_start_on_and_programs_read_celsius(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    temperature.choose("F")
    assert temperature.chosen() == "F"
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
    temperature.chosen_file().write_text("Kelvin")
    assert temperature.chosen() == "C"
