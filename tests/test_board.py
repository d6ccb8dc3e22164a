"""The picture board: pictures that an eye tells apart, unnamed until one was chosen, and what a press is worth."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from tests.conftest import settle

from sagen.casework.board import PICTURES, draw_board, draw_picture, on_board
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.trail import CircuitEntry, CodeEntry, FindingEntry, NoteEntry
from sagen.model.vocabulary import State
from sagen.reason.case import case_of
from sagen.reason.facts import SOUND
from sagen.reason.weights import infer

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
            assert one.entry.finding != other.entry.finding or max(levels) > 0.05 * (one.high - one.low)
    # One screen for all, in 8 bits: IEEE 1057 counts 2^8 codes (from memory).
    assert len({(picture.low, picture.high) for picture in board}) == 1
    assert all(len(np.unique(picture.volts)) <= 256 for picture in board)
    assert next(picture for picture in board if picture.fault == SOUND).entry.finding is None


def test_the_order_is_by_the_seed():
    orders = [[picture.fault for picture in draw_board(HALL, FAULTS, seed=seed)] for seed in (1, 2)]
    assert len({tuple(order) for order in orders}) > 1
    assert all(SOUND in order for order in orders)
    assert orders[0] == [picture.fault for picture in draw_board(HALL, FAULTS, seed=1)]


@pytest.mark.parametrize(("fault", "finding"), [("tooth_missing", "extra_gap"), ("sensor_dead", "no_signal"), ("drops_out_when_warm", "dropout"), (SOUND, None)])  # fmt: skip
def test_a_press_is_the_finding_that_its_picture_shows(fault, finding):
    # Common practice, no published source: what each of them looks like.
    picture = draw_picture(HALL, fault, 0.9 if fault != SOUND else 0.0, State.CRANKING, 5)
    assert picture.entry.finding == finding
    assert set(picture.entry.fields) <= {"held", "text"}


def test_a_press_moves_the_suspects_the_way_a_finding_does():
    before = infer(case_of([CodeEntry("P0335")], HALL)).by_cause()
    pressed = draw_picture(HALL, "tooth_missing", 0.9, State.CRANKING, 5).entry
    after = infer(case_of([CodeEntry("P0335"), pressed], HALL)).by_cause()
    assert after["reluctor"] > 4 * before["reluctor"]
    sound = draw_picture(HALL, SOUND, 0.0, State.CRANKING, 5).entry
    assert infer(case_of([CodeEntry("P0335"), sound], HALL)).by_cause()["none"] > before["none"]


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
    at = next(k for k, picture in enumerate(page.pictures) if picture.entry.finding)
    picture = page.pictures[at]
    QTest.keyClick(page, getattr(Qt.Key, f"Key_{at + 1}"), Qt.KeyboardModifier.AltModifier)
    assert page.slots[at].card.isChecked()
    page.keep.setFocus()
    QTest.keyClick(page.keep, Qt.Key.Key_Space)
    settle(window)
    [entry] = window.workspace.job.of(FindingEntry)
    assert entry.record.finding == picture.entry.finding
    assert page.said.text() == f"Yours looks like picture {at + 1}: {picture.title}."
    assert all(slot.card.named for slot in page.slots if slot.isVisible())
    # With the names in sight nothing more is evidence.
    assert not page.keep.isEnabled()
    assert not page.none.isEnabled()


def test_two_that_differ_and_none_are_told_and_not_weighed(desk):
    window, page = boarded(desk)
    one = 0
    other = next(k for k, picture in enumerate(page.pictures) if picture.entry != page.pictures[0].entry)
    for at in (one, other):
        page.press(at)
    assert page.two.isEnabled()
    page.between()
    settle(window)
    [note] = window.workspace.job.of(NoteEntry)
    assert "not weighed" in note.record.text
    assert not window.workspace.job.of(FindingEntry)


def test_a_slider_draws_its_picture_anew(desk):
    window, page = boarded(desk)
    at = next(k for k in range(len(page.slots)) if k < len(page.pictures) and page.pictures[k].fault != SOUND)
    before = page.pictures[at]
    page.slots[at].slider.setValue(2)
    settle(window)
    assert page.pictures[at].fault == before.fault
    assert page.pictures[at].severity == pytest.approx(0.1)
    assert (page.pictures[at].low, page.pictures[at].high) == (before.low, before.high)
