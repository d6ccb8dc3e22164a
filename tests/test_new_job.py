"""A new job by what was said, a card and a press on the picture of the engine. Which code means which sensor is SAE J2012's, from
memory; where sensors sit and how many wires they have is common practice, no published source."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDialog, QWidget

from conftest import demo_log, settle, spin
from sagen.casework.demo import demo_card
from sagen.casework.new_job import FirstTold, Spot, banks_of, spots, spots_of_codes
from sagen.desk.forms.base import FRAME, Form
from sagen.desk.forms.job import JobForm
from sagen.model.trail import CardEntry, CircuitEntry, CodeEntry, ComplaintEntry, NoteEntry
from sagen.model.vocabulary import Position, Role, SensorKind

CRANK, SPEED = Spot(Role.CRANK), Spot(Role.SPEED)


@pytest.mark.parametrize(("codes", "banks", "where"), [
    (["P0335"], 1, {CRANK}), (["P0500"], 1, {SPEED}), (["P0325"], 1, {Spot(Role.KNOCK)}), (["P0330"], 2, {Spot(Role.KNOCK, 2)}),
    (["P0345"], 2, {Spot(Role.CAM, 2, Position.INTAKE)}), (["P0390"], 2, {Spot(Role.CAM, 2, Position.EXHAUST)}),
    (["P0335", "nonsense", "P0340"], 1, {CRANK, Spot(Role.CAM, None, Position.INTAKE)}), (["P0420"], 1, set()), ([], 2, set()),
])  # fmt: skip
def test_codes_point_at_the_sensors_that_they_name(codes, banks, where):
    assert spots_of_codes(codes, banks) == where
    assert where <= set(spots(banks))


def test_banks_are_those_of_the_card_and_of_the_codes_and_one_where_neither_says_so():
    assert [banks_of(None, codes) for codes in ([], ["P0335"], ["P0345"], ["what"])] == [1, 1, 2, 1]
    assert banks_of(demo_card("curlew"), []) == 2


def test_a_press_states_the_circuit_and_says_that_the_kind_of_sensor_is_only_taken_as_usual():
    assert FirstTold(()).records() == []
    told = FirstTold((ComplaintEntry(text="dies when hot"),), pressed=(CRANK,)).records()
    assert [type(item) for item in told] == [ComplaintEntry, CircuitEntry, NoteEntry]
    assert (told[1].circuit, told[1].spec.role, told[1].spec.sensor) == ("", Role.CRANK, SensorKind.HALL)
    assert "not stated" in told[2].text
    (two, _) = FirstTold((), pressed=(CRANK,), wires=2).records()
    assert (two.spec.sensor, two.spec.wires) == (SensorKind.RELUCTANCE, 2)


def test_of_several_circuits_the_one_that_a_code_names_comes_first():
    cam = Spot(Role.CAM, 2, Position.INTAKE)
    _, first, second, note = FirstTold((CodeEntry("P0335"),), pressed=(cam, CRANK)).records()
    assert (first.circuit, second.circuit, second.spec.bank) == ("crank", "cam 2 intake", 2)
    assert isinstance(note, NoteEntry)


def test_a_card_gives_its_own_circuits():
    card = demo_card("curlew")
    knock = next(item for item in card.circuit if item.role == Role.KNOCK)
    entry, circuit = FirstTold((), card, (Spot(Role.KNOCK, 1),)).records()
    assert isinstance(entry, CardEntry)
    assert circuit.spec == knock.spec
    # Nothing was pressed: where the code points.
    told = FirstTold((CodeEntry("P0335"),), card).records()
    assert [item.spec.role for item in told if isinstance(item, CircuitEntry)] == [Role.CRANK]


def test_the_picture_follows_codes_until_somebody_presses(app):
    form = JobForm()
    form.codes.setText("P0335 P0345")
    assert (form.engine.banks, set(form.engine.pressed())) == (2, {CRANK, Spot(Role.CAM, 2, Position.INTAKE)})
    assert [type(item) for item in form.records()] == [CodeEntry, CodeEntry]
    assert not form.wires.isEnabled()
    QTest.mouseClick(form.engine.buttons[CRANK], Qt.MouseButton.LeftButton)
    form.codes.setText("P0500")
    assert set(form.engine.pressed()) == {Spot(Role.CAM, None, Position.INTAKE)}
    assert form.wires.isEnabled()
    form.banks.setCurrentIndex(form.banks.findData(2))
    assert set(form.engine.pressed()) == {Spot(Role.CAM, 1, Position.INTAKE)}
    assert [item.spec.position for item in form.records() if isinstance(item, CircuitEntry)] == [Position.INTAKE]


def test_a_machine_is_taken_from_its_card_and_a_circuit_by_keys_alone(desk, monkeypatch):
    window, seen = desk(demo_log, demo=True), {}

    def fill(form):
        form.show()
        for _ in range(40):
            settle(window)
            if form.cards.count() > 1:
                break
        seen["cards"] = [form.cards.itemText(at) for at in range(1, form.cards.count())]
        QTest.keyClick(form.cards, Qt.Key.Key_Down)
        form.cards.activated.emit(form.cards.currentIndex())
        button = next(button for spot, button in form.engine.buttons.items() if spot.role == Role.KNOCK)
        button.setFocus()
        QTest.keyClick(button, Qt.Key.Key_Space)
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(JobForm, "exec", fill)
    window.commands.run("jobs.new")
    settle(window)
    job = window.workspace.job
    assert job.machine == seen["cards"][0]
    assert [entry.kind for entry in job.entries] == ["card", "circuit"]
    assert job.records(CircuitEntry)[0].spec.role == Role.KNOCK


def test_on_a_low_screen_the_fields_are_scrolled_and_the_buttons_stay(app, monkeypatch):
    form = JobForm()
    screen = form.screen().availableGeometry()
    monkeypatch.setattr(
        type(form.screen()), "availableGeometry", lambda _screen: screen.adjusted(0, 0, 0, 420 - screen.height())
    )
    form.show()
    assert form.height() <= 420 - FRAME
    assert form.ok.geometry().bottom() < form.height()
    form.close()


def test_a_form_whose_picture_grows_while_it_is_open_grows_and_then_scrolls(app):
    form = Form("A form", "Keep")
    picture = QWidget()
    picture.setMinimumHeight(60)
    form.add("It is about", picture)
    form.show()
    spin()
    before = form.height()
    picture.setMinimumHeight(200)
    spin()
    assert form.height() >= before + 140
    assert form.area is None
    picture.setMinimumHeight(3000)
    spin()
    assert form.height() <= form.screen().availableGeometry().height()
    assert form.area.verticalScrollBar().maximum() > 0
    assert form.ok.mapTo(form, form.ok.rect().bottomLeft()).y() <= form.height()
    form.close()
