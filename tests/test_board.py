"""The picture board: pictures that an eye tells apart, unnamed until one was chosen, and what a press is worth."""

import json
from datetime import UTC, datetime
from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from tests.conftest import settle
from tests.test_cli import sagen

from sagen.casework.board import PICTURES, draw_board, draw_picture, on_board
from sagen.casework.job_toml import job_toml
from sagen.casework.words import entry_text
from sagen.files.jobs import read_job
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.proof import same_measurement, sound
from sagen.model.trail import BoardEntry, CircuitEntry, CodeEntry, FindingEntry
from sagen.model.vocabulary import State
from sagen.reason.case import case_of
from sagen.reason.facts import SOUND, PressedShares
from sagen.reason.recording_likelihood import ONCE_MORE, SAYS_NONE, SLIPS, RecordingLikelihood
from sagen.reason.weights import infer
from sagen.store.codecs import decode, encode

HALL = CircuitSpec(role="crank", sensor="hall", wheel="60-2")
COIL = CircuitSpec(role="crank", sensor="reluctance", wheel="60-2")
FAULTS = ("tooth_missing", "sensor_dead", "output_cannot_pull_down", "drops_out_when_warm", "ignition_disturbs")


@pytest.mark.sampled(1)
@pytest.mark.parametrize("spec", [HALL, CircuitSpec(role="cam", sensor="hall", wheel="4"), COIL, CircuitSpec(role="speed", sensor="hall", wheel="48")], ids=lambda spec: f"{spec.role} {spec.sensor}")  # fmt: skip
def test_a_board_holds_the_sound_one_and_pictures_that_differ(spec):
    likely = infer(case_of([CodeEntry("P0335")], spec)).by_fault()
    board = draw_board(spec, on_board(spec, likely), seed=3)
    assert 3 <= len(board) <= PICTURES
    assert [picture.fault for picture in board].count(SOUND) == 1
    for at, one in enumerate(board):
        for other in board[:at]:
            levels = [abs(np.quantile(one.volts, q) - np.quantile(other.volts, q)) for q in (0.05, 0.95)]
            assert one.label != other.label or max(levels) > 0.05 * (one.high - one.low)
    # One screen for all, in 8 bits: IEEE 1057 counts 2^8 codes (from memory).
    assert len({(picture.low, picture.high) for picture in board}) == 1
    assert all(len(np.unique(picture.volts)) <= 256 for picture in board)
    assert next(picture for picture in board if picture.fault == SOUND).label == "none"


def test_the_order_is_by_the_seed():
    orders = [[picture.fault for picture in draw_board(HALL, FAULTS, seed=seed)] for seed in (1, 2)]
    assert len({tuple(order) for order in orders}) > 1
    assert all(SOUND in order for order in orders)
    assert orders[0] == [picture.fault for picture in draw_board(HALL, FAULTS, seed=1)]


@pytest.mark.parametrize(("fault", "label"), [("tooth_missing", "extra_gap"), ("sensor_dead", "no_signal:high"), ("drops_out_when_warm", "dropout"), (SOUND, "none")])  # fmt: skip
def test_a_picture_is_of_the_gravest_thing_in_it(fault, label):
    # Common practice, no published source: what each of them looks like.
    assert draw_picture(HALL, fault, 0.9 if fault != SOUND else 0.0, State.CRANKING, 5).label == label


SHOWN = ("none", "no_signal:high", "extra_gap", "dropout", "noise")


def pressed(*labels, shown=SHOWN, spec=HALL, before=()):
    """Causes after a press on a board that shows some kinds of picture."""
    return infer(case_of([CodeEntry("P0335"), *before, BoardEntry(shown, labels, "cranking")], spec)).by_cause()


def test_a_press_moves_the_suspects_the_way_a_finding_does_but_less():
    before = infer(case_of([CodeEntry("P0335")], HALL)).by_cause()
    read = infer(case_of([CodeEntry("P0335"), FindingEntry("extra_gap", "cranking")], HALL)).by_cause()
    assert read["reluctor"] > pressed("extra_gap")["reluctor"] > 2 * before["reluctor"]
    assert pressed("none")["none"] > before["none"]
    assert pressed("noise")["interference"] > 3 * before["interference"]


def test_what_was_pressed_speaks_against_what_was_not():
    before = infer(case_of([CodeEntry("P0335")], HALL)).by_cause()
    assert pressed("no_signal:high")["reluctor"] < 0.5 * before["reluctor"]


def test_between_two_lies_between_them_and_none_speaks_against_all():
    one, other, two = (
        pressed(*labels)["reluctor"] for labels in (("extra_gap",), ("dropout",), ("extra_gap", "dropout"))
    )
    assert other < two < one
    # A board without the flat line on which none is pressed: more likely one than on a board that shows it.
    few = ("none", "extra_gap", "noise")
    assert pressed(shown=few)["supply"] > pressed(shown=SHOWN)["supply"]


def test_a_press_that_is_repeated_says_little_more_than_the_first():
    once = pressed("extra_gap")["reluctor"]
    twice = pressed("extra_gap", before=[BoardEntry(SHOWN[::-1], ("extra_gap",), "cranking")])["reluctor"]
    # Two that owe nothing to one another would move the odds twice as far (Bayes's rule).
    assert once < twice < 1 - (1 - once) ** 2


def test_a_press_is_weighed_by_the_rule_of_bayes(monkeypatch):
    """P(pressed) = sum over what may be on the screen of P(on the screen) P(pressed | on the screen): Bayes's rule, written out here."""
    gap = np.array([[0.1, 0.5, 0.9]])
    on_screen = {"none": 1 - gap, "extra_gap": gap}
    monkeypatch.setattr(RecordingLikelihood, "_on_screen", lambda *_: on_screen)
    facts = SimpleNamespace(pressed={"hall": PressedShares(("none", "extra_gap"), np.array([[0.7, 0.3], [0.2, 0.8]]))})
    machines = SimpleNamespace(facts=facts, spec=HALL)
    pictures = RecordingLikelihood()
    both = ("none", "extra_gap")
    found = pictures.pressed(machines, both, ("extra_gap",), "cranking")
    slip = SLIPS / 3
    for_gap, for_none = (1 - SLIPS) * 0.8 + slip, (1 - SLIPS) * 0.3 + slip
    assert found == pytest.approx(gap * for_gap + (1 - gap) * for_none)
    # Pressed once more, each counts by its share so far; that the same eye errs alike again makes the second weaker.
    again = pictures.pressed(machines, both, ("extra_gap",), "cranking")
    posterior = gap * for_gap / found
    assert again == pytest.approx(posterior * for_gap**ONCE_MORE + (1 - posterior) * for_none**ONCE_MORE)
    # What is not on the board leaves its presses to the others and to none of them.
    alone = RecordingLikelihood().pressed(machines, ("none", "noise"), (), "cranking")
    assert alone == pytest.approx(
        gap * ((1 - SLIPS) * SAYS_NONE * 0.8 + slip) + (1 - gap) * ((1 - SLIPS) * SAYS_NONE * 0.3 + slip)
    )


@pytest.mark.parametrize("bad", [{"shown": ["none"]}, {"shown": ["none", "x"]}, {"shown": ["none", "noise"], "pressed": ["dropout"]}, {"shown": "none"}, {"shown": ["none", "noise", "erratic"], "pressed": ["none", "noise", "erratic"]}, {"shown": ["none", "noise"], "state": "later"}])  # fmt: skip
def test_what_is_no_press_is_refused(bad):
    with pytest.raises(ValueError, match=r"shown|pressed|state"):
        BoardEntry.of(bad)


def test_a_sound_picture_pressed_is_no_proof():
    # An eye that errs once in five is no measurement taken again (common practice, no published source).
    entry = BoardEntry(SHOWN, ("none",), "cranking")
    assert sound(entry) is None
    assert same_measurement(entry) is None


def test_a_press_goes_through_the_log_and_a_job_file(tmp_path):
    entry = BoardEntry(SHOWN, ("extra_gap", "dropout"), "cranking")
    kind, version, data = encode(entry)
    assert decode(kind, version, json.loads(json.dumps(data))) == entry
    path = tmp_path / "a.job.toml"
    path.write_text('codes = ["P0335"]\n[circuit]\nrole = "crank"\nsensor = "hall"\nwheel = "60-2"\n[[trail]]\nboard = ["none", '
                    '"extra_gap", "noise"]\npressed = ["extra_gap"]\nstate = "cranking"\n')  # fmt: skip
    told = BoardEntry(("none", "extra_gap", "noise"), ("extra_gap",), "cranking")
    assert read_job(path).trail[-1] == told
    row = json.loads(sagen("reason", path, "--json").stdout)
    assert row["suspects"][0]["probability"] > 0
    now = datetime.now(UTC)
    job = Job(1, now, "Harrow 6", entries=(Entry(1, now, CircuitEntry(HALL)), Entry(2, now, told)))
    assert 'board = ["none", "extra_gap", "noise"]' in job_toml(job)
    path.write_text(path.read_text().replace('["extra_gap"]', '["dropout"]'))
    assert "pressed: two of those that were shown" in json.loads(sagen("reason", path, "--json").stdout)["error"]
    assert entry_text(entry) == "It lies between: tooth missing, and: signal drops out, while cranking"
    assert entry_text(BoardEntry(SHOWN)) == "None of 5 pictures looks like it"


def test_worse_is_drawn_worse():
    hardly, badly = (draw_picture(COIL, "gap_too_wide", severity, State.CRANKING, 5) for severity in (0.1, 0.95))
    assert np.ptp(badly.volts) < 0.7 * np.ptp(hardly.volts)


@pytest.mark.parametrize(("spec", "state", "said"), [(CircuitSpec(role="knock", sensor="piezo"), State.CRANKING, "knock sensor"), (HALL, State.KEY_ON, "cranked or runs")])  # fmt: skip
def test_what_cannot_be_drawn_is_said(spec, state, said):
    with pytest.raises(SagenError, match=said):
        draw_board(spec, (), state)


def boarded(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335"), CircuitEntry(HALL)])
    settle(window)
    page = window.show_with_job("board")
    settle(window)
    assert page.pictures
    return window, page


def test_by_keys_alone_one_is_chosen_and_only_then_named(desk):
    window, page = boarded(desk)
    assert not any(slot.card.named for slot in page.slots)
    assert not page.keep.isEnabled()
    at = next(k for k, picture in enumerate(page.pictures) if picture.label != "none")
    picture = page.pictures[at]
    QTest.keyClick(page, getattr(Qt.Key, f"Key_{at + 1}"), Qt.KeyboardModifier.AltModifier)
    assert page.slots[at].card.isChecked()
    page.keep.setFocus()
    QTest.keyClick(page.keep, Qt.Key.Key_Space)
    settle(window)
    [entry] = window.workspace.job.of(BoardEntry)
    assert entry.record.pressed == (picture.label,)
    assert entry.record.shown == tuple(item.label for item in page.pictures)
    assert page.said.text() == f"Yours looks like picture {at + 1}: {picture.title}."
    assert all(slot.card.named for slot in page.slots if slot.isVisible())
    # With the names in sight nothing more is evidence.
    assert not page.keep.isEnabled()
    assert not page.none.isEnabled()


def test_between_two_and_none_are_weighed(desk):
    window, page = boarded(desk)
    before = window.workspace.last_weighed
    other = next(k for k, picture in enumerate(page.pictures) if picture.label != page.pictures[0].label)
    for at in (0, other):
        page.press(at)
    assert page.two.isEnabled()
    page.between()
    settle(window)
    [entry] = window.workspace.job.of(BoardEntry)
    assert set(entry.record.pressed) == {page.pictures[0].label, page.pictures[other].label}
    assert window.workspace.last_weighed.suspects != before.suspects
    page.names.setChecked(False)
    page.none_of_them()
    settle(window)
    assert window.workspace.job.of(BoardEntry)[-1].record.pressed == ()


def test_a_slider_draws_its_picture_anew(desk):
    window, page = boarded(desk)
    at = next(k for k in range(len(page.slots)) if k < len(page.pictures) and page.pictures[k].fault != SOUND)
    before = page.pictures[at]
    page.slots[at].slider.setValue(2)
    settle(window)
    assert page.pictures[at].fault == before.fault
    assert page.pictures[at].severity == pytest.approx(0.1)
    assert (page.pictures[at].low, page.pictures[at].high) == (before.low, before.high)
