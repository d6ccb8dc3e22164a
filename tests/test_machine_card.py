"""Machine cards: files, rows, published values judged, wires named, and what a job makes of a card."""

from __future__ import annotations

import itertools
import math
import os
import subprocess
import sys

import numpy as np
import pytest

from sagen.casework.card_filling import published_rows, row_cells
from sagen.casework.demo import CARDS, demo_card
from sagen.casework.judging import expected_reading, judged_reading, judged_value
from sagen.casework.weighing import pin_words, weigh_records
from sagen.files.cards import read_card, read_rows, with_rows, write_card
from sagen.meter.published import against, against_rows, limits_at, point_of, rows_for
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, SheetError
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.trail import CardEntry, CodeEntry, ReadingEntry, ValueEntry
from sagen.reason.wires import FORMS, PinReading, name_wires

CARD = {
    "make": "Brindle", "model": "Two", "volts": 24, "cylinders": 4, "firing": [1, 3, 4, 2],
    "circuit": [
        {
            "name": "crank", "role": "crank", "sensor": "reluctance", "wheel": "36-1", "place": "behind the flywheel cover",
            "access": {"plug": 5, "sensor": 90},
            "wire": [
                {"carries": "signal", "colour": "green", "sensor_pin": "1", "module_pin": "22"},
                {"carries": "ground", "colour": "brown", "sensor_pin": "2", "module_pin": "23", "shared_with": ["cam"]},
            ],
            "published": [
                {"between": ["1", "2"], "state": "unplugged", "low": 520, "high": 610, "at": 20, "maker": "A"},
                {"between": ["1", "2"], "state": "unplugged", "low": 840, "high": 980, "at": 20, "maker": "B"},
            ],
        },
        {"name": "cam", "role": "cam", "sensor": "hall", "wire": [{"carries": "ground", "shared_with": ["crank"]}]},
    ],
    "code": [{"code": "27", "circuit": "cam"}],
}  # fmt: skip


def card(**more) -> MachineCard:
    return MachineCard.from_data({**CARD, **more})


# typed ----------------------------------------------------------------------------------------------------

ROWS = (
    {"between": ["2", "3"], "over": [[-20, 9.0, 11.0], [20, 2.1, 2.6]]},
    {"between": ["signal", "body"], "state": "key_on", "quantity": "V", "low": 4.8, "high": 5.1},
)


def test_what_is_published_comes_back_from_its_cells_and_a_table_over_temperature_with_it():
    old = CardCircuit.model_validate({"name": "crank", "role": "crank", "published": ROWS})
    cells = [row_cells(row) for row in old.published]
    back = CardCircuit.model_validate({"name": "crank", "role": "crank", "published": published_rows(cells, old)})
    assert back.published == old.published
    assert published_rows(cells[1:], old) == [old.published[1].model_dump(mode="json", exclude_defaults=True)]
    cells[0][1] = "4"
    with pytest.raises(ValueError, match="published value 1: a table over temperature"):
        published_rows(cells, old)


@pytest.mark.parametrize("language", ["de", "es"])
def test_cells_are_read_in_the_language_that_they_are_shown_in(language):
    # Words of wires and states are made once, at the start: a process of its own.
    told = subprocess.run(
        [sys.executable, "-c", f"""
from sagen.casework.card_filling import published_rows, row_cells, wire_rows
from sagen.model.machine_card import CardCircuit
old = CardCircuit.model_validate({{"name": "crank", "role": "crank", "published": {ROWS[1:]!r}}})
cells = [row_cells(row) for row in old.published]
again = CardCircuit.model_validate({{"name": "crank", "role": "crank", "published": published_rows(cells, old)}})
print(cells[0][2], "|", again.published == old.published)
"""], capture_output=True, text=True, env={**os.environ, "SAGEN_LANGUAGE": language}, check=True,
    ).stdout  # fmt: skip
    shown, _, same = told.strip().partition(" | ")
    assert same == "True"
    assert shown != "key on"


# files ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", CARDS)
def test_a_card_written_and_read_again_is_the_same(name, tmp_path):
    made = demo_card(name)
    write_card(tmp_path / "card.toml", made)
    assert read_card(tmp_path / "card.toml") == made


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"volts": 13}, "volts"),
        ({"firing": [1, 2, 3]}, "firing"),
        ({"modell": "x"}, "did you mean 'model'"),
        ({"code": [{"code": "9", "circuit": "knock"}]}, "not on the card"),
        ({"circuit": [CARD["circuit"][1] | {"name": "crank"}] * 2}, "twice"),
        ({"circuit": [{"name": "x", "published": [{"between": ["1"], "low": 2, "high": 1}]}]}, "published 1"),
        ({"circuit": [{"name": "x", "published": [{"between": ["1"], "low": math.nan}]}]}, "finite"),
        ({"circuit": [{"name": "x", "wire": [{"carries": "fead"}]}]}, "wire 1"),
        ({"circuit": [{"name": "x", "wire": [{"sensor_pin": "1"}, {"sensor_pin": "1"}]}]}, "pin 1 stands twice"),
    ],
)
def test_a_card_that_makes_no_sense_says_where(change, said):
    with pytest.raises(SheetError, match=said):
        card(**change)


def test_rows_come_from_a_csv_and_bad_ones_say_their_line_and_why(tmp_path):
    file = tmp_path / "rows.csv"
    file.write_text(
        "circuit,from,to,state,quantity,low,high,at,maker\n"
        "crank,1,2,unplugged,ohm,100,200,20,C\n"
        "crank,1,,key_on,V,0,abc,,\n"
        "pump,1,2,,bar,1,2,,\n"
        'cam,"2, upper",,key_on,V,4.5,5.5,,\n'
        "crank,1,2,unplugged,ohm,9,3,,\n"
        "wheel,1,2,unplugged,ohm,1,3,,\n"
    )
    made, refused = with_rows(card(), read_rows(file))
    assert made.of("crank").published[-1].maker == "C"
    assert made.of("cam").published[-1].between == ("2, upper",)
    assert [item.split(":")[0] for item in refused[:3]] == ["line 3", "line 4", "line 6"]
    assert "wheel" in refused[3]
    assert made.of("crank").place == "behind the flywheel cover"
    for text, said in (("circuit,to\n", "from is missing"), ("circuit;from;quantity;hihg\n", "did you mean 'high'")):
        file.write_text(text)
        with pytest.raises(SheetError, match=said):
            read_rows(file)


# published values -------------------------------------------------------------------------------------------


def test_a_part_fits_the_maker_whose_row_holds_it():
    rows = card().of("crank").published
    assert "Fits B, not A" in against_rows(rows, 900.0, digit=1.0).text
    assert against_rows(rows, 900.0, digit=1.0).judged == "inside"
    assert against_rows(rows, 700.0, digit=1.0).judged == "outside"
    assert against_rows(rows, 611.0, digit=1.0).judged == "too_close"


def test_a_hot_coil_is_judged_at_the_rows_own_temperature():
    """Copper, 0.393 % a kelvin (IEC 60028, from memory): 600 ohm at 20 degC read 700 at 62.4 degC."""
    row = card().of("crank").published[0]
    hot = against(row, 700.0, temperature=62.4, material="copper", digit=0.1)
    assert hot.judged == "inside"
    assert against(row, 700.0, digit=0.1).judged == "outside"


def test_between_two_rows_of_a_table_a_thermistor_follows_its_own_law():
    """A thermistor's law R = R25 exp(B (1/T - 1/T25)) with B = 3450 K: on a table of 20 K steps the limits between the rows
    are met, and beyond the ends the nearest row is taken, and that said."""
    law = lambda celsius: 2500.0 * math.exp(3450.0 * (1 / (celsius + 273.15) - 1 / 298.15))  # noqa: E731
    row = Published(
        between=("1", "2"), over=tuple((t, 0.9 * law(t), 1.1 * law(t)) for t in np.arange(0.0, 101.0, 20.0))
    )
    for celsius in (7.0, 33.0, 51.0, 88.0):
        limits = limits_at(row, celsius)
        assert math.sqrt(limits.low * limits.high) == pytest.approx(law(celsius) * math.sqrt(0.99), rel=1e-6)
        assert against(row, law(celsius), temperature=celsius).judged == "inside"
        assert against(row, 1.25 * law(celsius), temperature=celsius).judged == "outside"
    beyond = against(row, 9.0, temperature=120.0)
    assert "table ends at 100" in beyond.text
    assert beyond.judged == "too_close"
    assert "state the part's temperature" in against(row, 900.0).text


@pytest.mark.parametrize(("value", "judged"), [(0.05, "inside"), (0.3, "outside")])
def test_one_limit_alone_is_enough(value, judged):
    assert against(Published(between=("ground",), quantity="V", high=0.1), value, digit=0.01).judged == judged


def test_rows_are_found_by_pin_or_word_for_the_point_of_the_probe():
    circuit = demo_card("drake").of("crank")
    assert [point_of(item, circuit) for item in circuit.published] == ["supply", "ground", "signal"]
    assert len(rows_for(circuit, "supply", "key_on", ohms=False)) == 1
    assert not rows_for(circuit, "supply", "cranking", ohms=False)
    coil = card().of("crank")
    assert {point_of(item, coil) for item in coil.published} == {"sensor"}
    wire = CardCircuit.model_validate({
        "name": "w", "wire": [{"carries": "signal", "sensor_pin": "2", "module_pin": "A4"}],
        "published": [{"between": ["2", "A4"], "high": 1.0}],
    })  # fmt: skip
    assert point_of(wire.published[0], wire) == "signal_wire"


def test_the_card_speaks_before_the_model_and_says_so():
    drake, spec = demo_card("drake"), demo_card("drake").of("crank").spec
    told = expected_reading(spec, drake, "crank", "signal", "key_on_unplugged", ohms=False)
    assert told == "7.6 to 8.3 V, by the card."
    assert expected_reading(spec, None, "", "supply", "key_on", ohms=False).endswith("by the model.")
    entry = ReadingEntry("volts", "ground", "key_on", 0.3, circuit="crank")
    assert (judged_reading(entry, spec, drake).judged, judged_reading(entry, spec, drake).against) == (
        "outside",
        "the card",
    )
    value = ValueEntry(("2", "3"), "V", 4.3, "key_on", "wide open", circuit="throttle")
    assert judged_value(value, drake)[0].judged == "inside"
    assert judged_value(ValueEntry(("9", "3"), "V", 4.3, "key_on", circuit="throttle"), drake)[1] is None


def test_the_face_of_the_plug_is_mirrored_from_the_other_side():
    face = CardCircuit.model_validate({"name": "x", "pins": [["1", "2", "3"], ["4", "5"]], "face": "harness"})
    assert face.seen_from("harness") == (("1", "2", "3"), ("4", "5"))
    assert face.seen_from("sensor") == (("3", "2", "1"), ("5", "4"))


# what a job makes of a card ---------------------------------------------------------------------------------


def test_checks_name_pin_colour_place_and_take_the_cards_minutes():
    spec = card().of("crank").spec
    assert spec.ohms == (520.0, 980.0)
    told = weigh_records([CodeEntry("P0335"), CardEntry(card().as_data())], {"": spec})
    ohms = next(check for check in told.checks if (check.check.kind, check.check.point) == ("meter", "sensor"))
    assert "520 to 610 Ω at 20 °C (A) or 840 to 980 Ω at 20 °C (B), by the card." in ohms.expect
    assert any("Pin 1, green, at the plug (behind the flywheel cover)" in check.text for check in told.checks)
    assert {check.access for check in told.checks if check.check.place == "sensor"} == {90.0}
    assert pin_words(card().of("crank"), "signal_wire").endswith("to pin 22 of the module.")


def test_a_card_says_what_hangs_on_one_wire_and_what_its_own_codes_mean():
    assert card().shares("ground") == (frozenset({"crank", "cam"}),)
    assert card().shares("supply") == ()
    assert card().circuit_of_code("27").circuit == "cam"
    assert card().minutes("crank") == {"plug": 5, "sensor": 90}


# which wire is which ----------------------------------------------------------------------------------------


def shown(wire: str, rng, feed: float) -> tuple[float, float, float]:
    """What a meter shows at a pin of an open plug (common practice, no published source): volts key on, the same with
    2.2 kohm to body, ohms to body."""
    if wire == "supply":
        return feed, 0.995 * feed, 10 ** rng.uniform(1.5, 3.4)
    if wire == "signal":
        pull_up = rng.uniform(1_000, 9_000)
        return 5.0, 5.0 * 2_200 / (2_200 + pull_up), 10 ** rng.uniform(3.5, 4.8)
    return rng.uniform(0.0, 0.03), 0.0, rng.uniform(0.2, 2.5)


@pytest.mark.parametrize("seed", range(12))
def test_three_wires_are_named_in_any_order_of_the_pins(seed):
    rng = np.random.default_rng(seed)
    order = list(rng.permutation(["supply", "signal", "ground"]))
    pins = []
    for pin, wire in zip("123", order, strict=True):
        volts, loaded, ohms = shown(wire, rng, float(rng.choice([5.0, 12.4])))
        pins.append(PinReading(pin, round(volts, 2), round(ohms, 1), round(loaded, 2)))
    named = name_wires(pins)
    assert [this_pin.best for this_pin in named.pins] == order
    assert min(this_pin.sure for this_pin in named.pins) > 0.9
    assert not named.settle


def test_what_two_like_volts_leave_open_one_load_settles():
    open_ = name_wires([PinReading("a", 5.0), PinReading("b", 5.0), PinReading("c", 0.01)])
    assert open_.pins[2].best == "ground"
    assert open_.pins[0].sure < 0.6
    assert "2.2 kilohm" in open_.settle
    pin = open_.settle.split("pin ")[1][0]
    settled = name_wires(
        [PinReading(item, 5.0, None, 2.4 if item == pin else None) for item in "ab"] + [PinReading("c", 0.01)]
    )
    assert {this_pin.pin: this_pin.best for this_pin in settled.pins}[pin] == "signal"
    assert settled.pins[0].sure > 0.9


def test_chances_add_up_over_every_number_of_pins():
    for count, forms in FORMS.items():
        named = name_wires([PinReading(str(k)) for k in range(count)])
        for pin in named.pins:
            assert sum(share for _, share in pin.chances) == pytest.approx(1.0)
        assert sum(share for _, share in forms) == pytest.approx(1.0)


@pytest.mark.parametrize(
    "pins",
    [
        [PinReading("1", 5.0)],
        [PinReading("1")] * 2,
        [PinReading("1", 900.0), PinReading("2")],
        [PinReading(str(k)) for k in range(6)],
    ],
)
def test_nonsense_at_the_plug_is_refused_in_words(pins):
    with pytest.raises(SagenError):
        name_wires(pins)


def test_rows_of_each_published_quantity_are_judged_in_their_own_unit():
    units = ("ohm", "V", "mA", "Hz", "kPa", "degree", "%", "shown")
    for unit, (value, judged) in itertools.product(units, ((50.0, "inside"), (70.0, "outside"))):
        assert against(Published(between=("x",), quantity=unit, low=40.0, high=60.0), value, digit=0.1).judged == judged


def test_a_circuit_that_the_model_does_not_know_has_no_spec():
    assert CardCircuit(name="throttle").spec is None
    assert isinstance(demo_card("tern").of("cam 1").spec, CircuitSpec)
