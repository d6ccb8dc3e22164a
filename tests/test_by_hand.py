"""A job from complaint to proof in the real window, by keys alone and by presses alone.

The technician is played: what a meter shows and what the eye finds come from the simulated machine that the job
is about, so the program is never told more than it asks for.
"""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from conftest import settle, spin, told
from sagen.desk.forms.base import EntryForm, Form
from sagen.desk.forms.checks import LookForm
from sagen.desk.forms.entries import ProofForm, RepairForm
from sagen.desk.forms.job import JobForm
from sagen.kinds import broken
from sagen.machine.meter import read
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import CodeEntry, ProofEntry
from sagen.model.vocabulary import ProofStep
from sagen.model.words import OWED
from sagen.store.codecs import decode

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
KEY = Qt.Key


def in_dialog(act, kind=Form):
    """When a dialog comes up, do `act` in it; what goes wrong there fails the test and not only the dialog."""
    wrong = []

    def look(tries=200):
        dialog = QApplication.activeModalWidget()
        if not isinstance(dialog, kind) or not dialog.isActiveWindow():
            if tries:
                QTimer.singleShot(15, lambda: look(tries - 1))
            else:
                wrong.append(AssertionError("no dialog came up"))
            return
        try:
            act(dialog)
        except Exception as error:
            wrong.append(error)
            dialog.reject()
            return
        if dialog.isVisible():
            wrong.append(AssertionError(f"the dialog stayed: {dialog.message.text()}"))
            dialog.reject()

    QTimer.singleShot(15, look)
    return wrong


def shown_by(machine, check):
    """What a meter reads on that machine at a check's point, as typed."""
    reading = read(machine, check.point, check.state)
    if reading.value > 3e7:
        return "OL"
    return f"{reading.value:.4g}"


def outcome_of(check, fault):
    """Which answer of a look a machine with this fault gives: "" where all is as it should be."""
    shares = {name: row.get(fault, 0.0) for name, row in check.outcome.items()}
    best = max(shares, key=shares.get) if shares else ""
    return best if shares and shares[best] >= 0.5 else ""


def row_of(box, data):
    return next(row for row in range(box.count()) if box.itemData(row) == data)


class Keys:
    """Hands that only have a keyboard."""

    def __init__(self, window):
        self.window = window

    def press(self, key, how=Qt.KeyboardModifier.NoModifier, target=None):
        if QApplication.activeWindow() is None:
            # What a window manager does when a dialog closes; offscreen there is none.
            self.window.activateWindow()
            spin(20)
        QTest.keyClick(target or QApplication.focusWidget() or self.window, key, how)
        spin(5)

    def control(self, key):
        self.press(key, Qt.KeyboardModifier.ControlModifier, self.window)

    def type(self, text):
        QTest.keyClicks(QApplication.focusWidget(), text)

    def tab_to(self, widget):
        seen = []
        for _ in range(60):
            if QApplication.focusWidget() is widget:
                return
            self.press(KEY.Key_Tab)
            seen.append(f"{type(QApplication.focusWidget()).__name__}")
        raise AssertionError(f"{' '.join(seen)}: Tab does not reach {widget.objectName() or type(widget).__name__}")

    def choose(self, box: QComboBox, data):
        self.tab_to(box)
        self.press(KEY.Key_Home)
        for _ in range(row_of(box, data)):
            self.press(KEY.Key_Down)
        assert box.currentData() == data


def mend_by_keys(window, hand, part, words):
    """A repair put on the trail by keys alone."""

    def mend(form):
        hand.choose(form.part, part)
        hand.tab_to(form.text)
        hand.type(words)
        hand.tab_to(form.ok)
        hand.press(KEY.Key_Space)

    wrong = in_dialog(mend, RepairForm)
    hand.control(KEY.Key_R)
    assert not wrong
    settle(window)


def mark_steps_by_keys(window, hand):
    """Every step of the proof but the measuring marked as done, a key each."""
    for number, step in enumerate(ProofStep, start=1):
        if step != ProofStep.MEASURED:
            hand.control(KEY.Key_E)
            settle(window)
            hand.press(getattr(KEY, f"Key_{number}"), Qt.KeyboardModifier.AltModifier, window.page("proof"))
            settle(window)


class Finger:
    """A hand that only presses what it sees."""

    def __init__(self, window):
        self.window = window

    def press(self, widget, at=None):
        assert widget.isVisible(), f"{widget.objectName() or widget} is not in sight"
        assert widget.isEnabled()
        if isinstance(at, QPointF):
            at = at.toPoint()
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or QPoint(widget.width() // 2, widget.height() // 2))
        spin(5)

    def choose(self, box: QComboBox, data):
        self.press(box)
        listed = box.view()
        index = box.model().index(row_of(box, data), 0)
        listed.scrollTo(index)
        # A list that has just come up takes no press for the time of a double click.
        spin(QApplication.doubleClickInterval() + 50)
        self.press(listed.viewport(), listed.visualRect(index).center())
        spin(20)
        assert box.currentData() == data


@pytest.mark.long
@pytest.mark.sampled(1)
@pytest.mark.parametrize("fault", ["return_high_resistance", "fuse_blown"])
def test_by_keys_alone(desk, fault):
    window = desk()
    window.activateWindow()
    hand = Keys(window)
    machine = broken(SPEC, [(fault, 0.8)], 31)

    def fill(form):
        hand.type("Brindle 2")
        hand.choose(form.complaint, "no_start")
        hand.tab_to(form.codes)
        hand.type("P0335")
        hand.press(KEY.Key_Return)

    wrong = in_dialog(fill, JobForm)
    hand.control(KEY.Key_N)
    assert not wrong
    settle(window)
    job = window.workspace.job
    assert (job.machine, [entry.kind for entry in job.entries]) == ("Brindle 2", ["complaint", "code"])

    # The circuit as the drawing of the machine has it.
    hand.control(KEY.Key_M)
    page = window.page("circuit")
    for line, text in ((page.settings_row.supply, "12"), (page.settings_row.pull_up, "5")):
        hand.tab_to(line)
        line.selectAll()
        hand.type(text)
        hand.press(KEY.Key_Return)
        settle(window)
    hand.choose(window.suspects.gear, ("meter",))
    settle(window)

    for _ in range(16):
        if "Good enough to repair" in window.suspects.headline.text():
            break
        check = window.suspects.card.checks[window.suspects.card.at].check
        answer_by_keys(window, hand, machine, fault, check)
        settle(window)
    lead = window.workspace.last_weighed.suspects[0]
    assert (
        lead.cause == {"return_high_resistance": "ground", "fuse_blown": "supply", "signal_wire_open": "wiring"}[fault]
    )
    assert lead.probability > 0.9
    assert lead.title in window.suspects.headline.text()

    part = {"ground": "ground", "supply": "supply", "wiring": "harness"}[lead.cause]

    mend_by_keys(window, hand, part, "Put right")

    # The proof: what was abnormal is measured again on the mended machine, then each step has its key.
    mended = broken(SPEC, [], 12)
    for _ in range(12):
        hand.control(KEY.Key_E)
        settle(window)
        proof = window.page("proof")
        left = [k for k, item in enumerate(window.workspace.job.standing_now.again) if item.after is None]
        if not left:
            break
        assert QApplication.focusWidget() is proof.table
        while proof.table.currentRow() > left[0]:
            hand.press(KEY.Key_Up)
        while proof.table.currentRow() < left[0]:
            hand.press(KEY.Key_Down)
        hand.press(KEY.Key_Return)
        settle(window)
        again = window.workspace.job.standing_now.again[left[0]].before
        reading = read(mended, again.point, again.state)
        hand.type("OL" if reading.over_range else f"{reading.value:.4g}")
        hand.press(KEY.Key_Return)
        settle(window)
    assert all(item.sound for item in window.workspace.job.standing_now.again)
    assert window.workspace.job.stage == "repaired"
    mark_steps_by_keys(window, hand)
    assert window.workspace.job.stage == "proven"
    now = {suspect.cause: suspect.probability for suspect in window.workspace.last_weighed.suspects}
    assert now[lead.cause] < 0.35


def answer_by_keys(window, hand, machine, fault, check):
    if check.kind == "look":

        def look(form):
            hand.choose(form.outcome, outcome_of(check, fault))
            hand.tab_to(form.ok)
            hand.press(KEY.Key_Space)

        wrong = in_dialog(look, LookForm)
        hand.control(KEY.Key_D)
        assert not wrong
        return
    if check.kind != "meter":
        # Nothing to record with, and no part to swap: the next one on the card.
        hand.press(KEY.Key_D, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier, window)
        return
    hand.control(KEY.Key_D)
    settle(window)
    page = window.page("circuit")
    assert (page.view.point, page.state) == (check.point, check.state)
    assert QApplication.focusWidget() is page.entry.value
    hand.type(shown_by(machine, check))
    hand.press(KEY.Key_Return)


@pytest.mark.long
def test_by_presses_alone(desk):
    fault = "return_high_resistance"
    window = desk()
    hand = Finger(window)
    machine = broken(SPEC, [(fault, 0.8)], 12)

    def fill(form):
        hand.choose(form.complaint, "stalls")
        hand.choose(form.pick, "P0335")
        hand.press(form.ok)

    wrong = in_dialog(fill, JobForm)
    hand.press(window.page("log").new)
    assert not wrong
    settle(window)
    job = window.workspace.job
    assert job.machine.startswith("Machine of ")
    assert [entry.kind for entry in job.entries] == ["complaint", "code"]
    assert job.records(CodeEntry)[0].code == "P0335"
    hand.choose(window.suspects.gear, ("meter",))  # no recorder is at hand
    settle(window)

    done = 0
    for _ in range(16):
        if "Good enough to repair" in window.suspects.headline.text():
            break
        card = window.suspects.card
        check = card.checks[card.at].check
        if check.kind == "look":

            def look(form, check=check):
                hand.choose(form.outcome, outcome_of(check, fault))
                hand.press(form.ok)

            wrong = in_dialog(look, LookForm)
            hand.press(card.do)
            assert not wrong
        elif check.kind == "meter":
            hand.press(card.do)
            settle(window)
            page = window.page("circuit")
            text = shown_by(machine, check)
            if text == "OL":
                hand.press(page.entry.open)
            else:
                value = float(text)
                for key in np.format_float_positional(abs(value), precision=3, trim="-"):
                    hand.press(page.entry.keys[key])
                if value < 0:
                    hand.press(page.entry.keys["±"])
            hand.press(page.entry.keep_button)
            done += 1
        else:
            hand.press(card.other)
        settle(window)
    assert done
    lead = window.workspace.last_weighed.suspects[0]
    assert lead.cause == "ground"

    def mend(form):
        hand.choose(form.part, "ground")
        hand.press(form.ok)

    def prove(form):
        for box in form.owed.values():
            hand.press(box, QPoint(12, box.height() // 2))
        hand.press(form.ok)

    for kind, act in (("repair", mend), ("proof", prove)):
        wrong = in_dialog(act, EntryForm)
        # The two entries that fit the moment have a button each.
        hand.press(window.trail.quick[window.trail.offered.index(kind)])
        assert not wrong
        settle(window)
    assert [entry.kind for entry in window.workspace.job.entries][-2:] == ["repair", "proof"]
    assert window.workspace.job.records(ProofEntry)[0].done == tuple(OWED)


def test_an_empty_proof_is_not_a_proof(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, told("no_start"))
    settle(window)
    seen = []

    def nothing(form):
        QTest.mouseClick(form.ok, Qt.MouseButton.LeftButton)
        seen.append((form.isVisible(), form.message.text()))
        form.reject()

    wrong = in_dialog(nothing, EntryForm)
    window.commands.run("entries.add", "proof")
    assert not wrong
    assert seen == [(True, "There is nothing to put on the trail yet.")]
    assert not window.workspace.job.of(ProofEntry)


def test_a_proof_of_earlier_years_keeps_its_words_when_corrected(app):
    old = decode("proof", 1, {"text": "Driven 9 km, stayed away."})
    form = ProofForm(old)
    assert form.answer() == ProofEntry((), "Driven 9 km, stayed away.")
    form.owed["cleared"].setChecked(True)
    assert form.answer() == ProofEntry(("cleared",), "Driven 9 km, stayed away.")
    again = ProofForm(form.answer())
    assert again.owed["cleared"].isChecked()
    assert again.answer() == form.answer()
