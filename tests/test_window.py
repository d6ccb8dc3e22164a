"""The real window along the whole path, offscreen; and once under Xvfb with the xcb plugin."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pypdfium2
import pytest
from PySide6.QtCore import QPointF, QSettings, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from conftest import close, demo_log, drop, settle, spin, square_teeth, told
from sagen.desk.app import make_window, own_log
from sagen.desk.forms.entries import CodeForm, ProofForm, RepairForm
from sagen.desk.forms.job import JobForm
from sagen.desk.lenses.strip import StripView
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import CaptureEntry, CircuitEntry, InspectionEntry, NoteEntry, ReadingEntry
from sagen.report.scene import Lane, Strip
from sagen.signal.pyramid import Pyramid


def test_from_dropped_file_to_printed_page(desk, make_csv, tmp_path, monkeypatch):
    window = desk()
    assert window.page("log").greeting.isVisible()
    monkeypatch.setattr(
        JobForm,
        "exec",
        lambda self: (
            self.machine.setText("Brindle 2"),
            self.codes.setText("P0335"),
            self.complaint.setCurrentIndex(1),
            1,
        )[-1],
    )
    QTest.mouseClick(window.page("log").new, Qt.MouseButton.LeftButton)
    settle(window)
    assert [entry.kind for entry in window.workspace.job.entries] == ["complaint", "code"]

    drop(window, make_csv(sheet=False, lost=(31,), ripple=0.2))
    settle(window)
    sheet = window.page("incoming")
    assert window.stack.currentWidget() is sheet
    QTest.keyClicks(sheet.wheel, "sixty")
    assert not sheet.accept.isEnabled()
    assert "60-2" in sheet.told.text()
    sheet.wheel.clear()
    QTest.keyClicks(sheet.wheel, "60-2")
    QTest.keyClicks(sheet.extra, "5 V")
    settle(window)
    assert "wheel 60-2" in sheet.told.text()
    QTest.keyClick(sheet.extra, Qt.Key.Key_Return)
    settle(window)

    page = window.page("capture")
    assert window.stack.currentWidget() is page
    assert [mark.label for mark in page.view.strip.marks] == ["1  Tooth missing: tooth 31"]
    assert "tooth 31 is not seen" in page.findings.words()
    assert window.suspects.rows[0].bar.cause == "reluctor"
    QTest.mouseClick(window.suspects.rows[0].bar, Qt.MouseButton.LeftButton)
    assert window.suspects.rows[0].evidence.isVisible()
    assert any("hole" in check.check.name for check in window.suspects.card.checks)

    window.commands.run("jobs.show_report")
    settle(window)
    report = window.page("report")
    assert window.stack.currentWidget() is report
    report.save(tmp_path / "out.pdf")
    text = pypdfium2.PdfDocument(tmp_path / "out.pdf")[0].get_textpage().get_text_range()
    assert "Brindle 2" in text
    assert "P0335" in text
    assert "tooth 31 is not seen" in text.replace("\r\n", " ")


def test_everything_is_there_after_reopening(desk, make_csv, tmp_path):
    window = desk()
    drop(window, make_csv(low=0.1, high=1.3))
    settle(window)
    window.page("incoming").accept.click()
    settle(window)
    before = [(suspect.cause, suspect.probability) for suspect in window.workspace.last_weighed.suspects]
    window.close()
    again = desk(own_log(tmp_path / "log"))
    assert again.workspace.job.machine == "Machine of a.csv"
    assert [(suspect.cause, suspect.probability) for suspect in again.workspace.last_weighed.suspects] == before
    assert again.page("capture").view.strip.samples == 100_000


@pytest.mark.long
def test_withdrawn_evidence_no_longer_counts_and_undo_brings_it_back(desk):
    window = desk(demo_log, demo=True)
    assert window.suspects.rows[0].bar.cause == "reluctor"
    window.trail.choose(window.workspace.job.of(CaptureEntry)[0].id)
    window.trail.list.setFocus()
    QTest.keyClick(window.trail.list, Qt.Key.Key_Delete)
    settle(window)
    assert window.workspace.last_weighed.suspects[0].probability < 0.6
    assert window.workspace.job.entries[-1].withdrawn
    assert window.trail.withdraw_button.text() == "Restore"
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert window.workspace.last_weighed.suspects[0].cause == "reluctor"
    assert window.workspace.last_weighed.suspects[0].probability > 0.8


def test_a_file_that_cannot_be_read_is_told_and_nothing_is_kept(desk, tmp_path):
    window = desk(demo_log, demo=True)
    entries = len(window.workspace.job.entries)
    bad = tmp_path / "bad.csv"
    bad.write_text("Time,A\n" + "".join(f"{i},{i}\n" for i in range(30)) + "31,oops\n32,1\n")
    drop(window, bad)
    settle(window)
    assert window.message.isVisible()
    assert "bad.csv: line 32: 'oops' is not a number" in window.message.text.text()
    window.workspace.reload()
    assert len(window.workspace.job.entries) == entries


def test_a_damaged_stored_capture_is_told(desk):
    window = desk(demo_log, demo=True)
    entry = window.workspace.job.of(CaptureEntry)[0]
    shutil.rmtree(window.workspace.log.captures.folder / entry.record.token)
    window.workspace.open_entry(entry)
    settle(window)
    assert "damaged or gone" in window.message.text.text()


def test_log_that_cannot_be_opened_is_told(desk, tmp_path):
    folder = tmp_path / "file"
    folder.write_text("in the way")
    window = desk(own_log(folder))
    assert "cannot be used" in window.message.text.text()


def test_light_and_dark_are_remembered(desk):
    window = desk(demo_log, demo=True)
    light = window.grab().toImage().pixelColor(4, 4).lightness()
    window.commands.run("view.toggle_theme")
    spin()
    assert window.grab().toImage().pixelColor(4, 4).lightness() < light - 100
    assert window.settings.value("look") == "dark"


def test_every_button_is_big_enough_and_named(desk):
    from PySide6.QtWidgets import QAbstractButton

    window = desk(demo_log, demo=True)
    for button in window.findChildren(QAbstractButton):
        if button.isVisible():
            assert button.height() >= 38, button.text()
            assert button.text().strip() or button.accessibleName(), button.objectName()


def test_nothing_is_cut_off_at_1280_by_720(desk):
    window = desk(demo_log, demo=True)
    # A screen of 1280 x 800 less a title bar and a panel: what is left has to do.
    assert (window.width(), window.height()) == (1280, 720)
    for pane in (window.trail, window.bench, window.suspects):
        assert pane.isVisible()
        assert pane.geometry().right() <= window.splitter.width()


@pytest.mark.parametrize("size", [(1280, 720), (1024, 640)])
def test_lens_buttons_and_the_next_check_are_whole(desk, size):
    window = desk(demo_log, demo=True)
    window.resize(*size)
    spin(80)
    assert (window.width(), window.height()) == size, "nothing inside asks for more room"
    for button in window.page("capture").bar.lenses.values():
        assert button.width() >= button.fontMetrics().horizontalAdvance(button.text()) + 16
    card = window.suspects.card
    for _ in range(6):
        spin(20)
        for label in (card.title, card.what, card.sound, card.caution):
            assert not label.isVisible() or label.height() >= label.heightForWidth(label.width()), label.text()
        assert card.rect().contains(card.do.geometry())
        # In a low window they scroll together, the card first.
        inside = window.suspects.scroll.isAncestorOf(card)
        assert inside or card.geometry().bottom() < window.suspects.scroll.geometry().top()
        below = next(item for item in (window.suspects.headline, *window.suspects.rows) if item.isVisible())
        assert not inside or card.geometry().bottom() < below.geometry().top()
        assert window.suspects.rect().contains(window.suspects.scroll.geometry())
        card.show_another()


# the strip -------------------------------------------------------------------------------


@pytest.fixture
def strip(app):
    samples = square_teeth(seconds=2.0, noise=0.0)
    view = StripView()
    view.resize(900, 300)
    view.show_strip(Strip(50_000.0, len(samples), (Lane("A", "crank", "V", Pyramid(samples), bottom=-0.5, top=5.5),)))
    return view, samples


def test_columns_hold_what_the_samples_do_at_every_zoom(strip):
    view, samples = strip
    for span in (2.0, 0.4, 0.03, 0.001):
        view.look_at_span(0.7, 0.7 + span, around=1.0)
        low, high = view.frame().columns(view.strip.lanes[0], 800)
        first, last = int(np.ceil(view.view.start * 50_000)), int(view.view.end * 50_000)
        assert np.nanmin(low) == pytest.approx(samples[first : last + 1].min(), abs=1e-5)
        assert np.nanmax(high) == pytest.approx(samples[first : last + 1].max(), abs=1e-5)


def test_waveform_is_where_the_axis_says(strip):
    view, samples = strip
    view.look_at_span(0.1, 0.104, around=1.0)
    image = QImage(view.size(), QImage.Format.Format_RGB32)
    view.render(image)
    rect = view.frame().lane_rects()[0]
    from sagen.desk.theme.roles import role_colour

    for share in (0.2, 0.5, 0.8):
        x = rect.left() + share * rect.width()
        value = samples[round(view.time_at(x) * 50_000)]
        y = view.frame().y_of(rect, view.strip.lanes[0], value)
        near = [image.pixelColor(int(x) + dx, int(y) + dy) for dx in (-1, 0, 1) for dy in (-1, 0, 1)]
        assert role_colour("crank") in near


def test_zoom_keeps_the_time_under_the_pointer(strip):
    view, _ = strip
    before = view.x_of(0.5)
    view.zoom(0.25, 0.5)
    assert view.x_of(0.5) == pytest.approx(before, abs=0.5)
    for _ in range(40):
        view.zoom(0.5)
    assert view.view.span >= 8 / 50_000 * 0.999
    for _ in range(60):
        view.zoom(2.0)
    assert (view.view.start, view.view.end) == (0.0, pytest.approx(2.0))


def test_a_press_sets_a_and_b_and_escape_clears_them(strip):
    view, _ = strip
    view.show()
    for x in (300, 500):
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(x, 150).toPoint())
    assert view.strip.cursors == {"A": pytest.approx(view.time_at(300)), "B": pytest.approx(view.time_at(500))}
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert view.strip.cursors == {}
    view.hide()


# a real X server -------------------------------------------------------------------------


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="needs Xvfb")
def test_clicks_and_types_under_xvfb(make_csv):
    make_csv(lost=(12,))
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=[write], stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        display = os.read(read, 20).decode().strip()
        path = make_csv(lost=(12,))
        script = Path(__file__).with_name("drive_xcb.py")
        environment = {**os.environ, "DISPLAY": f":{display}", "QT_QPA_PLATFORM": "xcb"}
        done = subprocess.run(
            [sys.executable, str(script), str(path)], env=environment, capture_output=True, text=True, timeout=100
        )
        assert done.returncode == 0, done.stderr
        told = done.stdout.splitlines()
        assert "platform xcb" in told
        assert "wheel typed 60-2" in told
        assert "finding 1  Tooth missing: tooth 12" in told
        assert "suspect reluctor" in told
        assert any(item.startswith("cursor A") and " V" in item for item in told)
    finally:
        server.terminate()
        server.wait()
        os.close(read)
        os.close(write)


def test_three_lenses_show_one_tooth_under_one_pointer(desk):
    window = desk(demo_log, demo=True)
    page = window.page("capture")
    finding = window.workspace.opened.examination.findings[0]
    tooth = finding.fields["tooth"]
    QTest.keyClick(window, Qt.Key.Key_2)
    spin(250)
    assert page.lenses.currentWidget() is page.beside
    values = page.turns._values
    # The lost tooth's column is empty in every whole turn, its neighbours' are not.
    assert np.isnan(values[1:-1, tooth - 1]).all()
    assert np.isfinite(values[1:-1, tooth - 3]).all()
    assert page.turns.drawing.teeth == {tooth: "1"}
    at = page.turns.plot_rect()
    column = (tooth + 4.5) / values.shape[1]
    place = QPointF(at.left() + column * at.width(), at.center().y())
    cell = page.turns.part_at(place)
    assert cell[1] == tooth + 4
    QTest.mouseMove(page.turns, place.toPoint())
    page.turns.pointed.emit(page.turns.time_of(*cell))
    assert page.figures.whole().endswith(f"tooth {tooth + 5}")
    assert page.wheel._pointer == page.view._pointer == page.turns.time_of(*cell)
    page.show_lens("wheel")
    assert page.wheel.tooth_at(page.wheel.point((tooth + 0.1) * 360 / values.shape[1], 0.7)) == tooth + 1
    assert "not seen" in page.wheel.words_at(tooth)


def test_table_of_teeth_sorts_and_copies(desk):
    window = desk(demo_log, demo=True)
    page = window.page("capture")
    page.show_lens("turns")
    table = page.table
    table.sortByColumn(5, Qt.SortOrder.AscendingOrder)
    tooth = window.workspace.opened.examination.findings[0].fields["tooth"]
    assert tooth in [int(table.proxy.index(row, 0).data()) for row in range(4)]
    QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    lines = QApplication.clipboard().text().splitlines()
    assert lines[0].startswith("Tooth\t")
    assert len(lines) == 1 + window.workspace.opened.examination.channels[0].reading.wheel.slots


def test_cursors_snap_to_edges(desk):
    window = desk(demo_log, demo=True)
    view = window.page("capture").view
    view.look_at_span(0.4, 0.44, around=1.0)
    reading = view.strip.lanes[0].reading
    edges = reading.edges.at / reading.sfreq
    inside = edges[(edges > view.view.start) & (edges < view.view.end)][3]
    x = view.x_of(float(inside)) + 4
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(x, 200).toPoint())
    assert np.abs(edges - view.strip.cursors["A"]).min() < 1e-9


def test_a_job_from_complaint_to_proof_by_keyboard_alone(desk, tmp_path, monkeypatch):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, told("no_start", "P0335"))
    settle(window)
    spec = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
    window.workspace.add(CircuitEntry(spec))
    settle(window)
    card = window.suspects.card
    assert card.checks
    before = card.checks[0].check.name
    # The card's meter check opens the entry form aimed at its point; type and press Enter.
    meter = next(
        index
        for index, check in enumerate(card.checks)
        if check.check.kind == "meter" and check.check.point == "ground" and check.check.state == "key_on"
    )
    window.commands.run("captures.do_check", card.checks[meter])
    settle(window)
    page = window.page("circuit")
    assert window.stack.currentWidget() is page
    assert (page.view.point, page.state) == ("ground", "key_on")
    assert page.entry.expect.text().endswith(" mV, by the model.")
    QTest.keyClicks(page.entry.value, "12,3")
    QTest.keyClick(page.entry.value, Qt.Key.Key_Return)
    settle(window)
    assert window.workspace.job.of(ReadingEntry)[0].record.value == pytest.approx(12.3)
    assert window.suspects.rows[0].bar.cause == "ground"
    # One reading alone is not enough; another kind of check confirms it.
    assert "Good enough to repair" not in window.suspects.headline.text()
    window.workspace.add(ReadingEntry("ohms", "ground_wire", "unplugged", 4e7))
    window.workspace.add(InspectionEntry("plug_and_pins", "damaged"))
    settle(window)
    assert "Good enough to repair" in window.suspects.headline.text()
    # Repair and proof, each a form that is filled in by keys.
    for kind, form, words in (
        ("repair", RepairForm, "Earth eyelet cleaned"),
        ("proof", ProofForm, "Driven 12 km, codes stayed away"),
    ):

        def answer(self, words=words):
            QTest.keyClicks(self.text, words)
            if hasattr(self, "part"):
                self.part.setCurrentIndex(self.part.findData("ground"))
            return 1

        monkeypatch.setattr(form, "exec", answer)
        window.commands.run("entries.add", kind)
        settle(window)
    assert [entry.kind for entry in window.workspace.job.entries][-2:] == ["repair", "proof"]
    # After the repair the old evidence about the return no longer accuses it.
    assert {suspect.cause: suspect.probability for suspect in window.workspace.last_weighed.suspects}["ground"] < 0.2
    assert before


def test_nonsense_readings_are_told_and_not_kept(desk):
    window = desk(demo_log, demo=True)
    page = window.navigation.show_circuit()
    settle(window)
    for typed, said in (("abc", "figure that the meter shows"), ("400", "more than this circuit can have")):
        page.entry.value.setText(typed)
        assert said in page.entry.verdict.text()
        assert not page.entry.keep_button.isEnabled()
    for key in ("1", "2", ".", "4"):
        page.entry._press(key)
    page.entry.value.clear()
    for key in ("4", ".", ".", "9", "±"):
        page.entry._press(key)
    assert page.entry.value.text() == "-4.9"


def test_strategy_and_gear_change_the_order_and_are_remembered(desk):
    window = desk(demo_log, demo=True)
    window.suspects.gear.setCurrentIndex(1)
    settle(window)
    assert {check.check.gear for check in window.suspects.card.checks} <= {"meter", "eyes", "parts", "tester"}
    assert window.settings.value("reason/gear") == 1


@pytest.mark.long
def test_trail_of_twenty_entries_reads_at_1280_by_800(desk):
    window = desk(demo_log, demo=True)
    window.resize(1280, 800)
    for index in range(20):
        window.workspace.log.add_entry(window.workspace.job.id, NoteEntry(f"entry {index}"))
    window.workspace.reload()
    settle(window)
    assert window.trail.model.rowCount() >= 20
    assert window.trail.list.verticalScrollBar().maximum() > 0
    for pane in (window.trail, window.bench, window.suspects):
        assert pane.width() >= 195
        assert window.rect().contains(pane.mapTo(window, pane.rect().bottomRight()))


def test_arithmetic_answers_as_it_is_typed(desk):
    from sagen.desk.forms.arithmetic import SUMS, ArithmeticForm

    window = desk(demo_log, demo=True)
    form = ArithmeticForm(window)
    for line, typed in zip(form.lines, ("0,4", "0.008"), strict=True):
        QTest.keyClicks(line, typed)
    assert form.answer.text().startswith("50 Ω")
    form.lines[1].setText("0")
    assert "give the current" in form.answer.text()
    form.kind.setCurrentIndex(next(index for index, this_sum in enumerate(SUMS) if this_sum.name.startswith("Set of")))
    form.lines[0].setText("0.20 0.20 0.31 0.20")
    assert form.answer.text().startswith("Number 3 differs from the others (p")
    form.lines[0].setText("abc def")
    assert form.answer.text() == "Only figures, please."


def test_arithmetic_with_zero_below_zero_and_beyond_all_bounds_is_a_sentence(app):
    from sagen.desk.forms.arithmetic import SUMS, ArithmeticForm

    form = ArithmeticForm()
    for index in range(len(SUMS)):
        form.kind.setCurrentIndex(index)
        for typed in ("0", "-5", "1e308", "nan", "inf", "0 0 0 0", "1e-300"):
            for line in form.lines:
                line.setText(typed)
            assert form.answer.text(), (SUMS[index].name, typed)
            assert "division" not in form.answer.text()


def test_a_circuit_is_kept_as_toml_and_taken_again(desk, tmp_path):
    window = desk(demo_log, demo=True)
    window.navigation.show_circuit()
    settle(window)
    spec = window.page("circuit").spec
    window.page("circuit").save_circuit(tmp_path / "c.toml")
    window.page("circuit").load_circuit(tmp_path / "c.toml")
    settle(window)
    assert window.page("circuit").spec == spec
    (tmp_path / "c.toml").write_text('[circuit]\nsensr = "hall"\n')
    window.page("circuit").load_circuit(tmp_path / "c.toml")
    assert "did you mean 'sensor'" in window.message.text.text()


def test_a_makers_own_code_is_tied_by_hand(desk):
    from sagen.reason.case import case_of

    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, told("stalls"))
    settle(window)
    form = CodeForm()
    form.text.setText("P1345")
    form.meaning.setText("cam sensor, plausibility")
    form.tied.setCurrentIndex(form.tied.findData("correlation"))
    assert form.problem() == ""
    window.workspace.add(form.answer())
    settle(window)
    case = case_of(window.workspace.job.records(), None, ("meter",), "most")
    assert [item.kind for item in case.trail if hasattr(item, "code")] == ["correlation"]


def test_the_last_job_comes_back_with_its_log_and_no_other(desk, tmp_path):
    window = desk()
    for machine in ("Brindle 2", "Tallow Ten"):
        window.workspace.add_job(machine, "", 4, [])
        settle(window)
    first = next(job for job in window.workspace.log.jobs() if job.machine == "Brindle 2")
    window.workspace.open_job(first.id)
    settle(window)
    assert window.workspace.job.machine == first.machine
    close(window)

    def started(log):
        again = make_window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
        again.reopen_last()
        again.workspace.open_log(own_log(log))
        settle(again)
        job = again.workspace.job
        close(again)
        return job

    assert started(tmp_path / "log").machine == first.machine
    assert started(tmp_path / "another") is None


def test_jobs_that_were_on_the_desk_are_a_press_away_and_a_deleted_one_is_not(desk, monkeypatch):
    window = desk()
    machines = ("Brindle 2", "Tallow Ten & Sons", "Rook 5")
    for machine in machines:
        window.workspace.add_job(machine, "", 4, [])
        settle(window)
    jobs = {job.machine: job.id for job in window.workspace.log.jobs()}
    window.workspace.open_job(jobs["Brindle 2"])
    settle(window)
    window.commands.run("jobs.show_log")
    settle(window)
    row = window.page("log").lately
    assert [button.accessibleName() for button in row.buttons] == ["Rook 5", "Tallow Ten & Sons"]
    row.buttons[1].click()
    settle(window)
    assert window.workspace.job.machine == "Tallow Ten & Sons"
    for there in ("Brindle 2", "Tallow Ten & Sons", "Brindle 2"):  # to and fro by keys
        window.commands.run("jobs.show_before")
        settle(window)
        assert window.workspace.job.machine == there
    monkeypatch.setattr("sagen.desk.commands.logs.SureForm.exec", lambda form: True)
    window.commands.run("logs.delete_job")
    settle(window)
    assert jobs["Brindle 2"] not in window.ports.lately.ids()
    window.page("log").search.setText("rook")
    QTest.qWait(200)
    settle(window)
    assert not window.page("log").lately.isVisible()
