"""Two demo jobs by keys alone from intake to the customer's page, one with a meter only; a card made from scratch; the new
pages with a long job, an empty one and a hostile one."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from conftest import demo_log, settle
from sagen.casework.demo import faults_of
from sagen.desk.forms.checks import CaptureForm, LookForm
from sagen.desk.forms.work import CostsForm, PartForm, SeenForm, StepForm
from sagen.kinds import broken
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.model.trail import (
    CardEntry,
    CircuitEntry,
    CodeEntry,
    PartEntry,
    PhotoEntry,
    PlaceEntry,
    ReadingEntry,
    SeenEntry,
    StepEntry,
)
from test_by_hand import KEY, SPEC, Keys, in_dialog, mark_steps_by_keys, mend_by_keys, outcome_of

ALT, CTRL = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ControlModifier


def prove_by_keys(window, hand, sound_machine):
    """Every abnormal reading again on the mended machine, then a key a step."""
    for _ in range(12):
        hand.control(KEY.Key_E)
        settle(window)
        rows = window.workspace.job.standing_now.again
        left = [k for k, row in enumerate(rows) if row.after is None]
        if not left:
            break
        table = window.page("proof").table
        while table.currentRow() > left[0]:
            hand.press(KEY.Key_Up)
        while table.currentRow() < left[0]:
            hand.press(KEY.Key_Down)
        hand.press(KEY.Key_Return)
        settle(window)
        before = rows[left[0]].before
        shown = read(sound_machine, before.point, before.state)
        hand.type("OL" if shown.over_range else f"{shown.value:.4g}")
        hand.press(KEY.Key_Return)
        settle(window)
    mark_steps_by_keys(window, hand)


def customers_page(window, hand):
    hand.control(KEY.Key_P)
    settle(window)
    page = window.page("report")
    hand.choose(page.which, "customer")
    page.which.activated.emit(page.which.currentIndex())
    settle(window)
    return page.html


@pytest.mark.long
def test_a_meter_only_job_of_two_circuits_from_intake_to_the_customers_page(desk):
    """Both cams are dead at once: the fuse that they share is looked at, mended, proved and printed, by keys alone."""
    window = desk(demo_log, demo=True)
    window.activateWindow()
    hand = Keys(window)
    tern = next(job for job in window.workspace.log.jobs() if "Tern" in job.machine)
    window.workspace.open_job(tern.id)
    settle(window)
    hand.choose(window.suspects.gear, ("meter",))
    settle(window)
    assert window.workspace.last_weighed.suspects[0].cause == "supply"
    hand.control(KEY.Key_G)
    settle(window)
    assert window.stack.currentWidget() is window.page("plan")
    first = window.workspace.last_weighed.checks[0]
    assert first.check.place == "fuse"
    # Checks behind one opening stand under its line, which keys pass over and nobody can choose.
    table = window.page("plan").table
    heads = [row for row, check in enumerate(table.data_of) if check is None]
    assert heads[0] == 0
    assert table.item(0, 0).text().startswith("Fuse box: ")
    assert table.chosen() is first
    for row in heads[1:]:
        assert table.data_of[row + 1].check.place != table.data_of[row - 1].check.place
    for _ in range(heads[1] if len(heads) > 1 else 1):
        hand.press(KEY.Key_Down, target=table)
    assert table.chosen() is not None
    assert table.chosen() is not first
    table.setCurrentCell(1, 0)

    def look(form):
        hand.choose(form.outcome, outcome_of(first.check, "fuse_blown"))
        hand.tab_to(form.ok)
        hand.press(KEY.Key_Space)

    wrong = in_dialog(look, LookForm)
    hand.control(KEY.Key_D)
    assert not wrong
    settle(window)
    assert "Good enough to repair: fuse blown" in window.suspects.headline.text()

    mend_by_keys(window, hand, "supply", "Chafed feed taped, fuse 15 A")
    spec = window.workspace.job.records(CircuitEntry)[0].spec
    prove_by_keys(window, hand, broken(spec, [], 7))
    assert window.workspace.job.stage == "proven"
    html = customers_page(window, hand)
    assert "proved that it is gone" in html
    assert "Heater hose rubs" in html
    assert "Vesper Lane Couriers" in html


@pytest.mark.long
def test_a_job_with_a_recorder_from_intake_to_the_customers_page(desk, tmp_path):
    window = desk(demo_log, demo=True)
    window.activateWindow()
    hand = Keys(window)
    courier = next(this_job for this_job in window.workspace.log.jobs() if "Courier" in this_job.machine)
    window.workspace.open_job(courier.id, open_capture=True)
    settle(window)
    job = window.workspace.job
    assert job.stage == "finding"
    assert faults_of(job, window.workspace.opened and SPEC)[0][0] == "signal_wire_leaking"

    mend_by_keys(window, hand, "harness", "Signal wire renewed")
    # The proof asks for the recording again; the stand-in's machine is mended by now.
    hand.control(KEY.Key_E)
    settle(window)

    def again(form):
        hand.tab_to(form.record)
        hand.press(KEY.Key_Space)

    wrong = in_dialog(again, CaptureForm)
    hand.press(KEY.Key_Return)
    assert not wrong
    settle(window)
    assert window.stack.currentWidget() is window.page("incoming")
    hand.press(KEY.Key_Return, target=window.page("incoming").wheel)
    settle(window)
    [row] = window.workspace.job.standing_now.again
    assert row.sound, [finding.text for finding in row.after.findings]
    mark_steps_by_keys(window, hand)
    assert window.workspace.job.stage == "proven"
    html = customers_page(window, hand)
    assert "Before and after" in html
    assert "courier-cranking.csv" in html


def test_a_card_for_a_three_wire_sensor_in_under_forty_key_presses(desk):
    window = desk()
    window.activateWindow()
    hand = Keys(window)
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335"), CircuitEntry(SPEC)])
    settle(window)
    presses = 0

    def press(*keys):
        nonlocal presses
        for key in keys:
            presses += 1
            if isinstance(key, str):
                QTest.keyClicks(QApplication.focusWidget(), key)
            else:
                hand.press(*key) if isinstance(key, tuple) else hand.press(key)

    hand.control(KEY.Key_B)
    presses += 1
    settle(window)
    page = window.page("card")
    for at, colour in enumerate(("red", "green", "black")):
        for letter in colour:
            press(letter)
        # Enter ends the cell; the next wire's colour is one line below.
        press(KEY.Key_Return)
        if at < 2:
            press(KEY.Key_Down)
    hand.press(KEY.Key_S, CTRL, page)
    presses += 1
    settle(window)
    assert presses < 40, presses
    card = window.workspace.job.records(CardEntry)[-1].machine
    crank = card.of("crank")
    assert [(str(item.carries), item.colour, item.sensor_pin) for item in crank.wire] == [
        ("supply", "red", "1"), ("signal", "green", "2"), ("ground", "black", "3"),
    ]  # fmt: skip
    assert crank.wheel == "60-2"
    assert [item.title for _, item in window.workspace.log.shelf.cards()] == ["Brindle 2"]
    settle(window)
    assert any("Pin 1, red" in check.text for check in window.workspace.last_weighed.checks)


def test_cards_come_and_go_as_files_and_rows_and_nonsense_is_told(desk, tmp_path):
    window = desk(demo_log, demo=True)
    page = window.page("card")
    window.show_with_job("card")
    settle(window)
    page.load(_card_file(tmp_path))
    settle(window)
    assert page.card.title == "Brindle Three"
    (tmp_path / "rows.csv").write_text("circuit,from,quantity,low,high\ncrank,1,V,4,5\nnone,1,V,4,5\ncrank,1,V,5,4\n")
    page.load(tmp_path / "rows.csv")
    settle(window)
    assert len(page.card.of("crank").published) == 1
    assert "line 4" in page.problem_text.text()
    (tmp_path / "bad.toml").write_text("model = 3")
    page.load(tmp_path / "bad.toml")
    settle(window)
    assert "bad.toml" in window.message.text.text()
    assert page.card.title == "Brindle Three"
    page.machine["volts"].setText("seven")
    assert not page._take()
    assert "seven" in page.problem_text.text()


def _card_file(folder: Path) -> Path:
    path = folder / "three.toml"
    path.write_text('make = "Brindle"\nmodel = "Three"\n[[circuit]]\nname = "crank"\nrole = "crank"\nsensor = "hall"\n')
    return path


@pytest.mark.long
def test_one_key_a_step_reversed_and_open_items_block_closing(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335")])
    settle(window)
    hand = Keys(window)
    hand.control(KEY.Key_U)
    page = window.page("work")
    for key, what in ((KEY.Key_U, "plug"), (KEY.Key_B, "cover"), (KEY.Key_X, "clip")):
        page.place.setCurrentIndex(page.place.findData("sensor"))
        hand.type(what)
        hand.press(key, ALT, page)
        settle(window)
    job = window.workspace.job
    assert [str(this_record.step) for this_record in job.records(StepEntry)] == ["unplugged", "unbolted", "broke"]
    assert [this_record.name for this_record in job.records(PartEntry)] == ["clip"]
    page.turn.setChecked(True)
    assert [page.steps.item(row, 1).text() for row in range(3)] == ["clip (sensor)", "cover (sensor)", "plug (sensor)"]
    window.workspace.add(PlaceEntry("sensor"))
    settle(window)
    plan = window.show_page("plan")
    plan.toggle("sensor")
    settle(window)
    assert "steps are still apart there" in window.message.text.text()
    assert "sensor" in window.workspace.last_weighed.opened
    window.show_page("work")
    for row in range(3):
        page.steps.setCurrentCell(row, 0)
        hand.press(KEY.Key_T, ALT, page)
        settle(window)
    plan.toggle("sensor")
    settle(window)
    assert "sensor" not in window.workspace.last_weighed.opened


def test_a_photo_is_pasted_and_gets_an_arrow(desk, tmp_path):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    image = QImage(300, 200, QImage.Format.Format_RGB32)
    image.fill(0x336699)
    QApplication.clipboard().setImage(image)
    window.commands.run("photos.paste")
    settle(window)
    page = window.page("photo")
    assert window.stack.currentWidget() is page
    page.view.drawn.emit((0.1, 0.2, 0.6, 0.7))
    page.words.setText("here <b>")
    page.keep()
    settle(window)
    [photo] = window.workspace.job.records(PhotoEntry)
    assert (photo.arrow, photo.words) == ((0.1, 0.2, 0.6, 0.7), "here <b>")
    # A caption that was typed is kept whatever is opened next, on the job that the photo is of.
    owner = window.workspace.job.id
    window.commands.run("photos.paste")
    settle(window)
    page.caption.setText("rust under the flange")
    window.workspace.add_job("Brindle 3", "", 4, [])
    settle(window)
    captions = [photo.caption for photo in window.workspace.log.job(owner).records(PhotoEntry)]
    assert captions[-1] == "rust under the flange"
    assert not window.workspace.job.records(PhotoEntry)
    window.workspace.open_job(owner)
    settle(window)
    image.save(str(tmp_path / "dropped.png"))
    (tmp_path / "broken.jpg").write_bytes(b"no photo")
    window.bring_in([str(tmp_path / "dropped.png"), str(tmp_path / "broken.jpg")])
    settle(window)
    assert len(window.workspace.job.records(PhotoEntry)) == 3
    assert "broken.jpg" in window.message.text.text()


@pytest.mark.long
def test_the_new_pages_stand_with_an_empty_job_a_long_one_and_hostile_words(desk):
    window = desk()
    for name in ("plan", "proof", "work", "card"):
        window.show_with_job(name)
        assert "Open a job first" in window.message.text.text()
    window.workspace.add_job("Empty", "", None, [])
    settle(window)
    for name in ("plan", "proof", "work", "card"):
        window.show_with_job(name)
        settle(window)
    evil = "<b>x</b>" * 200
    for k in range(24):
        window.workspace.log.add_entry(window.workspace.job.id, StepEntry("lifted", f"{evil} {k}"))
        window.workspace.log.add_entry(
            window.workspace.job.id, ReadingEntry("volts", "supply", "key_on", 0.1, judged="outside", shown=evil)
        )
        window.workspace.log.add_entry(window.workspace.job.id, SeenEntry(evil))
    window.workspace.reload()
    settle(window)
    for name in ("plan", "proof", "work", "card"):
        window.show_with_job(name)
        settle(window)
        assert (window.width(), window.height()) == (1280, 720)
    assert window.page("work").steps.rowCount() == 24
    assert window.page("proof").table.rowCount() == 1, "the same reading so many times is one measurement"


@pytest.mark.long
def test_a_known_good_capture_is_offered_by_itself(desk, tmp_path):
    from sagen.files import write_capture

    window = desk(demo_log, demo=True)
    drake = next(job for job in window.workspace.log.jobs() if "Drake" in job.machine)
    window.workspace.open_job(drake.id, open_capture=True)
    settle(window)
    spec = window.workspace.opened.sheet
    machine = broken(SPEC.model_copy(update={"pull_up": 8.0, "wheel": "52-2"}), [], 33)
    capture, _ = record(machine, "cranking", seconds=2.0, sfreq=40_000.0, cylinders=3, name="again.csv")
    write_capture(tmp_path / "again.csv", capture)
    window.bring_in([str(tmp_path / "again.csv")])
    settle(window)
    page = window.page("incoming")
    assert page.from_shelf.isChecked()
    page._keep()
    settle(window)
    kept = window.workspace.job.entries[-1].record
    assert kept.reference.name == "drake-after-repair.csv"
    # It lies beside the one that it was kept with; between several there is nothing yet.
    assert "CH1" in window.workspace.opened.beside
    assert kept.compared == ()
    assert spec.engine.cylinders == 3


@pytest.mark.parametrize("form", [CostsForm, PartForm, SeenForm, StepForm])
def test_a_form_refuses_nonsense_in_words_and_takes_sense(app, form):
    made = form()
    lines = list(made.findChildren(QLineEdit))
    for line in lines:
        line.setText("-1")
    if form in (CostsForm, PartForm):
        assert "from 0" in made.problem() or "not a number" in made.problem()
    for this_line in lines:
        this_line.setText("3")
    assert made.problem() == ""
    made.answer()


def test_a_card_is_read_first_and_written_on_a_press(desk):
    window = desk(demo_log, demo=True)
    window.activateWindow()
    job = next(item for item in window.workspace.log.jobs() if "Drake" in item.machine)
    window.workspace.open_job(job.id)
    settle(window)
    page = window.navigation.show_with_job("card")
    settle(window)
    assert (page.read.isVisible(), page.scroll.isVisible(), page.keep_button.isVisible()) == (True, False, False)
    assert "wheel 52-2" in page.read.facts.text()
    assert [page.read.wires.item(row, 1).text() for row in range(3)] == ["red/blue", "yellow", "brown"]
    ends = {page.read.published.item(row, 0).text(): page.read.published.item(row, 3).text() for row in range(2)}
    assert ends["return"] == "0.08 V"
    side = page.read.face.side
    QTest.keyClick(page, KEY.Key_M, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert page.read.face.side != side
    page.circuits.setCurrentIndex(1)
    page.circuits.activated.emit(1)
    assert page.read.name.text().lower() == page.circuits.currentText()
    QTest.keyClick(page, KEY.Key_E, ALT)
    assert (page.read.isVisible(), page.scroll.isVisible(), page.keep_button.isVisible()) == (False, True, True)
    # A job without a card is asked to write one.
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335"), CircuitEntry(SPEC)])
    settle(window)
    page = window.navigation.show_with_job("card")
    assert page.scroll.isVisible()
