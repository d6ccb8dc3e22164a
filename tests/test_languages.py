"""The languages: whole, with the same places, written as each writes its figures, and never in what programs read.

How a language writes figures, dates and plurals is that of the Unicode Common Locale Data Repository, by Babel. What stays the
same in every language (files, JSON, the log) is DESIGN.md's contract."""

from __future__ import annotations

import ast
import gettext
import importlib.util
import json
import os
import re
import subprocess
import sys
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from string import Formatter

import numpy as np
import pytest
from babel.dates import format_date
from babel.messages.pofile import read_po
from babel.numbers import format_decimal

from conftest import square_teeth
from sagen.casework.bench_test import pulsed_records
from sagen.casework.events import Event, told_of
from sagen.casework.module import came_back, new_codes
from sagen.desk.actions import KEYCAPS
from sagen.desk.help.pane import MARK
from sagen.files import read_capture
from sagen.instruments.module_can import ModuleCodes
from sagen.model import language
from sagen.model.bench_count import bench_records
from sagen.model.capture import Capture
from sagen.model.job import Job
from sagen.model.language import (
    LANGUAGES,
    LOCALE,
    VARIABLE,
    as_typed,
    figure,
    later,
    lowered,
    said_date,
    said_now,
    speak,
    tr,
    trn,
)
from sagen.model.practice import Practice, practice_of
from sagen.model.trail import NoteEntry
from sagen.model.vocabulary import CodeStatus, State
from sagen.model.words import STATES_KEPT, struck_at, struck_place
from sagen.store.codecs import decode, encode

OTHERS = sorted(set(LANGUAGES) - {"en"})
ROOT = Path(__file__).parents[1]


@pytest.fixture
def spoken():
    """Speak a language until the test is over."""
    yield speak
    speak("en")


def catalogue(name):
    with (LOCALE / name / "LC_MESSAGES" / "sagen.po").open("rb") as file:
        return read_po(file, locale=name)


def said(item):
    return item.string if item.pluralizable else (item.string,)


def places(text):
    """The places of a message with how each is formatted; dates and widths are a language's own."""
    return sorted(
        (name, re.sub(r"%.*", "%", spec or "")) for _, name, spec, _ in Formatter().parse(text) if name is not None
    )


# whole ------------------------------------------------------------------------------------------------------


def test_the_template_holds_every_message_of_the_program():
    spec = importlib.util.spec_from_file_location("messages", ROOT / "packaging" / "messages.py")
    messages = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(messages)
    gathered = {item.id for item in messages.gathered() if item.id}
    with (LOCALE / "sagen.pot").open("rb") as file:
        kept = {item.id for item in read_po(file) if item.id}
    assert len(gathered) > 3000
    assert gathered == kept, "run ./run messages"


def test_no_sentence_is_half_translated():
    # Of two words that stand in one place, both are told to the translator, or none.
    def told(node) -> bool:
        return isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("tr", "trn", "later")

    def bare(node) -> bool:
        words = node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""
        return re.search(r"[a-z]{2}", words) is not None

    half = []
    for path in sorted((ROOT / "src" / "sagen").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if not isinstance(node, ast.IfExp | ast.BinOp | ast.BoolOp):
                continue
            parts = list(ast.iter_child_nodes(node))
            if any(map(told, parts)) and any(map(bare, parts)):
                half.append(f"{path.name}:{node.lineno}")
    assert not half


@pytest.mark.parametrize("name", OTHERS)
def test_a_language_is_whole_and_has_the_same_places(name):
    with (LOCALE / "sagen.pot").open("rb") as file:
        wanted = {item.id for item in read_po(file) if item.id}
    items = [item for item in catalogue(name) if item.id]
    assert {item.id for item in items} == wanted
    for item in items:
        first = item.id if isinstance(item.id, str) else item.id[1]
        for words in said(item):
            assert words.strip(), item.id
            assert places(words) == places(first), (item.id, words)
            ends = [(len(text) - len(text.lstrip()), len(text) - len(text.rstrip())) for text in (words, first)]
            assert ends[0] == ends[1], (item.id, words)


@pytest.mark.parametrize("name", OTHERS)
def test_what_the_program_reads_is_what_was_translated(name):
    with (LOCALE / name / "LC_MESSAGES" / "sagen.mo").open("rb") as file:
        compiled = gettext.GNUTranslations(file)
    for item in catalogue(name):
        if item.id and not item.pluralizable:
            assert compiled.gettext(item.id) == item.string


KEYS = re.compile(r"\b((?:Ctrl|Strg)\+[\w+]+|Alt\+[A-Z]|F\d)\b")


@pytest.mark.parametrize("name", OTHERS)
def test_the_guide_is_told_whole(name):
    folder = ROOT / "src" / "sagen" / "desk" / "help"
    english, other = ((folder / file).read_text("utf-8") for file in ("guide.md", f"guide.{name}.md"))
    for pattern in (
        MARK,
        re.compile(r"```(?:sh|toml)\n(.*?)```", re.DOTALL),
    ):
        assert sorted(pattern.findall(other)) == sorted(pattern.findall(english)), pattern.pattern
    caps = {item.id: item.string for item in catalogue(name) if item.id in KEYCAPS}
    spelled_here = [
        re.sub(r"[A-Z][a-z]+", lambda cap: caps.get(cap[0], cap[0]), keys) for keys in KEYS.findall(english)
    ]
    assert sorted(KEYS.findall(other)) == sorted(spelled_here)


def test_the_glossary_and_the_catalogues_say_the_same(spoken):
    rows = re.findall(
        r"^\| ([^|]+) \| ([^|]+) \| ([^|]+) \|$", (ROOT / "docs" / "GLOSSARY.md").read_text("utf-8"), re.MULTILINE
    )
    assert len(rows) > 25
    told = {
        name: " ".join(words for item in catalogue(name) for words in said(item) if item.id).casefold()
        for name in OTHERS
    }
    for english, german, spanish in rows[2:]:
        assert german.split(",")[0].casefold() in told["de"], english
        assert spanish.split(",")[0].casefold() in told["es"], english


# as each language writes ------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", [*OTHERS, "en"])
@pytest.mark.parametrize("value", [0.14, -3.5, 12345.6, 1234567.0])
def test_figures_are_written_as_the_locale_has_them(spoken, name, value):
    spoken(name)
    assert figure(value, ",.2f") == format_decimal(value, "#,##0.00", locale=name)


@pytest.mark.parametrize("name", OTHERS)
@pytest.mark.parametrize("month", range(1, 13))
def test_days_are_written_as_the_locale_has_them(spoken, name, month):
    spoken(name)
    day = datetime(2026, month, 9, 14, 5)
    assert said_date(day) == format_date(day, "long", locale=name)
    assert said_date(day, clock=True).endswith(", 14:05")


def test_plurals_nouns_and_what_was_kept(spoken):
    assert trn("{count} tooth", "{count} teeth", 1) == "1 tooth"
    kept = later("held high, near the pull-up of {expected:g} V", expected=4.5)
    assert json.loads(json.dumps(kept)) == kept
    assert (said_now(kept), said_now("as an older log has it")) == (
        "held high, near the pull-up of 4.5 V", "as an older log has it"
    )  # fmt: skip
    spoken("de")
    assert [trn("{count} tooth", "{count} teeth", count) for count in (0, 1, 2)] == ["0 Zähne", "1 Zahn", "2 Zähne"]
    assert lowered(tr("Air gap")) == "Luftspalt"
    assert said_now(kept) == "oben gehalten, nahe dem Pull-up von 4,5 V"
    spoken("es")
    assert lowered(tr("Air gap")) == "entrehierro"


@pytest.mark.parametrize(
    "kept",
    [
        {"says": "{level.__class__.__mro__}", "level": 1.0}, {"says": "{level:999999999d}", "level": 1}, {"says": "{level!r:>99}", "level": 1},
        {"says": "{0}", "level": 1}, {"says": "{missing:g}"}, {"says": "{level:g}", "level": "no figure"}, {"says": "{", "level": 1},
        {"level": 1}, {"says": ["a"]}, [1, 2], None,
    ],
)  # fmt: skip
def test_a_message_of_a_strangers_file_is_text_and_no_formula(kept):
    told = said_now(kept)
    assert len(told) < 100
    assert "class" not in told or "__class__" in told


@pytest.mark.parametrize(
    ("variables", "wanted"),
    [
        ({"LANG": "de_AT.UTF-8"}, "de"), ({"LANGUAGE": "fr:es", "LANG": "de_DE.UTF-8"}, "es"), ({"LC_ALL": "C", "LANG": "de_DE"}, "en"),
        ({"LC_MESSAGES": "es_MX@peso", "LANG": "de_DE"}, "es"), ({}, "en"),
    ],
)  # fmt: skip
def test_the_system_is_asked_as_gettext_asks(monkeypatch, variables, wanted):
    for name in ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        monkeypatch.delenv(name, raising=False)
    for name, value in variables.items():
        monkeypatch.setenv(name, value)
    assert language.of_system() == wanted


def test_a_choice_is_kept_and_nonsense_is_none(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    assert language.CHOICE.chosen() == ""
    language.CHOICE.keep("es")
    assert language.CHOICE.chosen() == "es"
    (tmp_path / "sagen" / "language").write_text("../../etc")
    assert language.CHOICE.chosen() == ""
    language.CHOICE.keep("")
    assert not (tmp_path / "sagen" / "language").exists()


# what programs read -----------------------------------------------------------------------------------------


def run(name, *commands, cwd):
    """What commands print that are given one after the other to a program that speaks a language."""
    code = (
        f"from sagen.cli import main\nfor words in {[[str(word) for word in words] for words in commands]}: main(words)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        timeout=100,
        cwd=cwd,
        env={**os.environ, VARIABLE: name},
    )
    return done.stdout


CIRCUIT = '[circuit]\nrole = "crank"\nsensor = "hall"\nsupply = 12.0\npull_up = 5.0\nwheel = "48-2"\n'


def test_people_are_told_in_their_language_and_programs_and_files_in_one(tmp_path):
    told = {}
    for name in ("en", *OTHERS):
        folder = tmp_path / name
        folder.mkdir()
        (folder / "circuit.toml").write_text(CIRCUIT)
        said, _, examined = run(
            name,
            ("simulate", "circuit.toml", "--fault", "tooth missing", "--seed", 5, "-o", "a.csv"),
            ("simulate", "circuit.toml", "--seed", 6, "-o", "good.csv"),
            ("compare", "a.csv", "good.csv", "-o", "edges.csv"),
            ("examine", "a.csv"),
            ("examine", "--json", "a.csv"),
            cwd=folder,
        ).rpartition("\n{")
        told[name] = said, examined
    written = {name: sorted(path.name for path in (tmp_path / name).iterdir()) for name in told}
    for name in OTHERS:
        assert told[name][1] == told["en"][1]
        assert written[name] == written["en"]
        for file in written["en"]:
            assert (tmp_path / name / file).read_bytes() == (tmp_path / "en" / file).read_bytes(), file
    assert "Zahn fehlt" in told["de"][0]
    assert re.search(r"\d,\d", told["de"][0])
    assert "falta un diente (rueda fónica)" in told["es"][0]
    assert "tooth missing (reluctor)" in told["en"][0]


def test_a_log_of_one_language_is_read_in_another(tmp_path):
    flat = square_teeth(rpm=200.0, seconds=1.0)
    flat[:] = 4.98
    rows = "\n".join(f"{k / 50_000:.7g},{volts:.5g}" for k, volts in enumerate(flat))
    (tmp_path / "flat.csv").write_text(f"Time (s),CH1 (V)\n{rows}\n")
    (tmp_path / "flat.sheet.toml").write_text(
        '[engine]\ncylinders = 4\n[conditions]\nstate = "cranking"\n[[channel]]\ncolumn = "CH1"\nrole = "crank"\n'
        'sensor = "hall"\nwheel = "60-2"\npull_up = 5.0\n'
    )
    keep = (
        "import sys; from pathlib import Path; from sagen.casework.examination import *; from sagen.files import read_capture, read_sheet;"
        "from sagen.kinds import examine; import json;"
        "capture = read_capture(Path('flat.csv')); sheet = read_sheet(Path('flat.sheet.toml'));"
        "found = examine(capture, sheet).findings; print(json.dumps([[str(item.kind), item.fields, item.facts] for item in found], default=str))"
    )
    kept = {
        name: subprocess.run(
            [sys.executable, "-c", keep], capture_output=True, text=True, cwd=tmp_path, check=True, env={**os.environ, VARIABLE: name}
        ).stdout
        for name in ("en", "de")
    }  # fmt: skip
    assert "no_signal" in kept["en"]
    assert kept["de"] == kept["en"]


# in the window ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("sizes", ["1280x720", pytest.param("1280x720 1024x640 853x533", marks=pytest.mark.long)])
def test_nothing_is_cut_and_nothing_left_out_in_a_language_that_is_longer(sizes):
    done = subprocess.run(
        [sys.executable, str(Path(__file__).with_name("longer_words.py")), *sizes.split()], capture_output=True, text=True, timeout=280
    )  # fmt: skip
    assert (done.stdout, done.returncode) == ("", 0), done.stderr[-2000:]


@pytest.mark.parametrize(("language", "typed", "shown"), [
    ("de", "0.03 V", "0,03 V"), ("de", "12.6", "12,6"), ("de", "1,2 kΩ", "1,2 kΩ"), ("en", "0,03 V", "0.03 V"), ("en", ".5", ".5"),
    ("en", "1,200 ohm", "1,200 ohm"), ("es", "over range", "over range"), ("de", "10.0.0.1", "10.0.0.1"),
])  # fmt: skip
def test_a_figure_that_was_typed_has_the_readers_decimal_mark(spoken, language, typed, shown):
    # Decimal marks by language: Unicode CLDR, as Babel has them (`format_decimal` above).
    spoken(language)
    assert as_typed(typed) == shown


def test_what_a_reader_noted_is_kept_as_a_message_and_said_in_the_readers_language(spoken, tmp_path):
    rows = [f"{k * 1e-4:.4f},{k % 5}" for k in range(200)] + [f"{0.03 + k * 1e-4:.4f},{k % 5}" for k in range(200)]
    (tmp_path / "a.csv").write_text("\n".join(["Time (s),A (V)", *rows, ""]))
    kept = json.loads(json.dumps(read_capture(tmp_path / "a.csv").about()))
    assert [note["says"] for note in kept["notes"]] == [
        "nothing was recorded for {stop:.3g} ms from {first:.4f} s on ({gap}): nothing is measured across it"
    ]
    told = Capture.of(kept, [np.zeros(400, np.float32)])
    assert told.said == ("nothing was recorded for 10 ms from 0.0200 s on (line 202): nothing is measured across it",)
    spoken("de")
    assert "0,0200 s" in told.said[0]
    assert "Zeile 202" in told.said[0]
    assert replace(told, notes=("a sentence of an older log",)).said == ("a sentence of an older log",)


# what the program itself notes on a trail -----------------------------------------------------------------------


def noted():
    """A note of each kind that the program writes."""
    frozen = ModuleCodes("7E8", (("P0335", CodeStatus.STORED),), frozen={"rpm": 812.5, "coolant": 88.0})
    events = tuple(Event("dropout", "crank", float(at), at + 0.02) for at in range(2, 12))
    return [
        *(record for record in new_codes(Job(1, None, "Brindle 2", "", 4, ()), [frozen]) if isinstance(record, NoteEntry)),
        *(record for record in bench_records(10, 7, way="meter", new_part=False) if isinstance(record, NoteEntry)),
        *(record for record in pulsed_records(False) if isinstance(record, NoteEntry)),
        *(record for record in came_back(["P0335"], [frozen], 30.0) if isinstance(record, NoteEntry)),
        Practice(3, 77).story("Orla Finch"),
        NoteEntry.of_message(told_of(events, 60.0, {}).note(later("Live, {state}, {seconds:.0f} s", state=STATES_KEPT[State.CRANKING], seconds=60.5))),
    ]  # fmt: skip


def test_what_the_program_notes_on_a_trail_is_read_in_the_readers_language_and_kept_in_english(spoken):
    spoken("de")
    notes = noted()
    assert len(notes) == 6
    for note in notes:
        kept = json.loads(json.dumps(encode(note)[2]))
        assert decode("note", 3, kept) == note
        assert note.said != note.text
    assert notes[0].said == "Steuergerät 7E8, als der Code gesetzt wurde: 812,5 1/min, 88 °C Kühlmittel."
    assert notes[0].text == "Module 7E8, as the code was set: 812.5 rpm, 88 °C coolant."
    assert notes[3].text == "P0335 came back 30 s after clearing."
    assert practice_of([notes[4]]) == Practice(3, 77)
    assert "10-mal Signal" in notes[5].said
    spoken("en")
    assert [note.said for note in notes] == [note.text for note in notes]


def test_words_that_a_person_changed_are_shown_as_they_are_whatever_the_message_was(spoken):
    spoken("de")
    note = NoteEntry.of_message(later("Signal wire pulsed by hand: the module shows a speed."))
    assert note.said == "Signalleitung von Hand gepulst: das Steuergerät zeigt eine Drehzahl."
    changed = replace(note, text="The module shows 300 rpm.")
    assert changed.said == "The module shows 300 rpm."


@pytest.mark.parametrize("says", [
    {"says": "{0.__class__}"}, {"says": "{a!r}", "a": 1}, {"says": 7}, {"says": "{x:>99999999}", "x": 1}, {}, {"says": ["{", {}]}, {"says": "{x}", "x": [[[]]]},
])  # fmt: skip
def test_a_message_of_anybodys_file_is_never_more_than_words(says):
    assert isinstance(NoteEntry.of_message(says).said, str)
    assert len(NoteEntry.of_message(says).said) < 200
    assert NoteEntry("mine", says=says).said == "mine"


@pytest.mark.parametrize(("language", "keys", "caps"), [
    ("de", "Ctrl+Shift+M", "Strg+Umschalt+M"), ("de", "Del", "Entf"), ("es", "Ctrl+Space", "Ctrl+Espacio"), ("es", "Shift+PgUp", "Mayús+Re Pág"),
    ("en", "Ctrl+,", "Ctrl+,"),
])  # fmt: skip
def test_keys_are_named_as_they_stand_on_the_keyboard(language, keys, caps):
    # Keycaps of German (DIN 2137) and Spanish keyboards, from memory. They are made once, at the start: a process of its own.
    code = f"from sagen.desk.actions import spelled; print(spelled({keys!r}))"
    environment = {**os.environ, VARIABLE: language}
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment, check=True)
    assert told.stdout.strip() == caps


def test_where_a_block_was_struck_is_kept_by_its_name_in_files():
    assert [struck_place(words) for words in ("Front ", "rear", "beside the oil filter")] == [
        "front",
        "rear",
        "beside the oil filter",
    ]
    assert [struck_at(place) for place in ("middle", "beside the oil filter")] == ["middle", "beside the oil filter"]


@pytest.mark.parametrize(("language", "command", "told"), [
    ("de", ["stand-in", "c.toml", "--recorder", "80999"], "sagen stand-in: Fehler: --recorder: 80999 ist kein Port, von 0 bis 65535"),
    ("de", ["simulate", "c.toml", "--rate", "5e"], "sagen simulate: Fehler: --rate: 5e ist keine Zahl"),
    ("es", ["practice", "--seed", "x", "--auto"], "sagen practice: error: --seed: x no es un número entero"),
    ("de", ["read", "--json"], "sagen read: error: the following arguments are required: --from, --point"),
    ("en", ["listen", "a.wav", "--cylinders", "four"], "sagen listen: error: argument --cylinders: four is not a whole number"),
])  # fmt: skip
def test_wrong_usage_is_told_in_the_language_that_is_spoken(language, command, told):
    code = f"from sagen.cli import main; main({command!r})"
    environment = {**os.environ, VARIABLE: language}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert (done.stderr.splitlines()[-1], done.returncode) == (told, 2)


@pytest.mark.parametrize("language", ["de", "es"])
def test_every_argument_of_every_command_says_what_it_is(language):
    code = (
        "import argparse; from sagen.cli import whole_parser; parser = whole_parser();"
        "verbs = next(item for item in parser._actions if isinstance(item, argparse._SubParsersAction)).choices;"
        "print([(name, item.dest) for name, verb in verbs.items() for item in verb._actions if not item.help], len(verbs));"
        "print(''.join(verb.format_help() for verb in verbs.values()).count('%s'))"
    )
    environment = {**os.environ, VARIABLE: language}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment, check=True)
    assert done.stdout.split("\n")[:2] == ["[] 19", "0"]
