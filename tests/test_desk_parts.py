"""Parts of the window one by one: the circuit drawing, suspects, lenses, forms and the job log."""

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import QColor, QFontMetrics, QKeyEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel

from conftest import demo_log, settle, spin
from sagen.desk.actions import spelled
from sagen.desk.forms.arithmetic import SUMS, ArithmeticForm
from sagen.desk.forms.entries import FORMS, CodeForm
from sagen.desk.forms.job import JobForm
from sagen.desk.pages.circuit_page import STATES
from sagen.desk.pages.circuit_view import CircuitView
from sagen.desk.pages.engine_view import FIRING, EngineView
from sagen.desk.panes.reasons import ReasonBar, ReasonLine
from sagen.desk.panes.suspects import CheckCard, SuspectBar, SuspectRow, SuspectsPane
from sagen.desk.theme import theme
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Reason, Suspect
from sagen.model.trail import CodeEntry, ReadingEntry
from sagen.model.vocabulary import EntryKind, Origin, Part
from sagen.model.words import POINTS
from sagen.reason.checks import next_checks
from sagen.reason.evidence import Code
from sagen.reason.history import Case
from sagen.reason.weights import infer

SPECS = {
    "hall": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "reluctance": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(700.0, 900.0)),
    "current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
    "piezo": CircuitSpec(role="knock", sensor="piezo"),
}


# the circuit drawing -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", SPECS)
def test_only_points_that_the_sensor_has_can_be_probed(app, kind):
    view = CircuitView()
    view.resize(640, 300)
    view.show_circuit(SPECS[kind], {})
    points = view.points()
    assert set(points) <= set(POINTS)
    assert ("supply" in points) == (kind in ("hall", "current"))
    # Two wires carry a current sensor: it has no return of its own.
    assert ("ground" in points) == (kind != "current")
    # Common practice: ohms of a switching sensor say nothing without a published value.
    assert ("sensor" in points) == (kind in ("reluctance", "piezo"))
    for point in points:
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=view._at(point).toPoint())
        assert view.point == point


def test_the_arrow_keys_walk_through_all_points(app):
    view = CircuitView()
    view.resize(640, 300)
    view.show_circuit(SPECS["hall"], {})
    seen = {view.point}
    for key in [Qt.Key.Key_Down] * 8 + [Qt.Key.Key_Right] * 8 + [Qt.Key.Key_Left] * 8:
        QTest.keyClick(view, key)
        seen.add(view.point)
    assert seen == set(view.points())


@pytest.mark.parametrize("kind", SPECS)
@pytest.mark.parametrize("look", ["light", "dark"])
def test_the_drawing_shows_where_the_probe_is(app, kind, look):
    theme.apply(app, look)
    view = CircuitView()
    view.resize(640, 300)
    view.show_circuit(SPECS[kind], {})
    pictures = []
    for point in view.points()[:2]:
        view.choose(point)
        picture = view.grab().toImage()
        pictures.append(picture)
        at = view._at(point).toPoint()
        accent = QColor(theme.current().accent)
        near = [picture.pixelColor(at + QPoint(dx, dy)) for dx in range(-9, 10, 3) for dy in range(-9, 10, 3)]
        assert any(abs(item.red() - accent.red()) + abs(item.blue() - accent.blue()) < 30 for item in near)
    assert pictures[0] != pictures[1]
    theme.apply(app, "light")


@pytest.mark.parametrize(("cylinders", "banks"), FIRING)
def test_firing_orders_name_every_cylinder_once(cylinders, banks):
    assert sorted(int(word) for word in FIRING[cylinders, banks].split("-")) == list(range(1, cylinders + 1))


def test_a_press_makes_the_engine_a_vee_and_straight_again(app):
    view = EngineView()
    view.resize(240, 130)
    view.show_engine(6, 1, SPECS["hall"])
    straight = view.grab().toImage()
    QTest.mouseClick(view, Qt.MouseButton.LeftButton)
    assert view.banks == 2
    assert view.grab().toImage() != straight
    QTest.mouseClick(view, Qt.MouseButton.LeftButton)
    assert view.grab().toImage() == straight


@pytest.mark.long
def test_every_state_has_a_button_and_unplugged_shows_in_the_drawing(desk):
    window = desk(demo_log, demo=True)
    page = window.navigation.show_circuit()
    settle(window)
    for state in STATES:
        page.state_buttons[state].click()
        settle(window)
        if page.quantity == "volts":
            assert page.state == state or state == "unplugged"
            assert page.view.unplugged == (state in ("key_on_unplugged", "unplugged"))


# suspects --------------------------------------------------------------------------------------------------------


def test_a_bar_moves_to_its_probability_and_says_it_aloud(app):
    bar = SuspectBar()
    bar.show_suspect(Suspect("ground", "return_open", 0.83, title="return open"))
    assert bar.accessibleName().endswith("return open, 83 percent")
    for _ in range(40):
        spin(20)
        if bar.shown == pytest.approx(0.83):
            break
    assert bar.shown == pytest.approx(0.83)


def test_a_suspect_unfolds_into_its_evidence(app):
    row = SuspectRow()
    reasons = (Reason("Return at the plug: 0.9 V.", 5.2), Reason("Nothing wrong in the recording.", -0.5))
    row.show_suspect(Suspect("ground", "return_open", 0.8, reasons, "Clean the eyelet.", title="return open"))
    assert row.evidence.isHidden()
    row.bar.setChecked(True)
    assert not row.evidence.isHidden()
    for told in ("Return open", "0.9 V", "strongly for it", "a little against it", "Clean the eyelet."):
        assert told in row.told()


@pytest.mark.parametrize(("bits", "words"), [(0.5, "a little for it"), (2.0, "clearly for it"), (-6.0, "strongly against it")])  # fmt: skip
def test_weight_is_in_words_and_sign_not_in_colour(app, bits, words):
    line = ReasonLine(Reason("x", bits))
    assert words in [item.text() for item in line.findChildren(QLabel)]
    (bar,) = line.findChildren(ReasonBar)
    assert np.sign(bar.share) == np.sign(bits)
    assert abs(bar.share) == pytest.approx(min(abs(bits) / 5.0, 1.0))
    assert [item.text() for item in line.findChildren(QLabel, "sign")] == ["+" if bits > 0 else "\u2212"]


def test_an_empty_pane_says_what_would_fill_it(app):
    pane = SuspectsPane()
    assert not pane.empty.isHidden()
    assert "code, a reading or a capture" in pane.empty.text()
    assert pane.card.isHidden()


def test_another_check_goes_round_and_comes_back(app):
    case = Case(SPECS["hall"], (Code("", "P0335", "circuit"),))
    card = CheckCard()
    checks = next_checks(case, infer(case))
    card.show_checks(checks)
    titles = []
    for _ in range(7):
        titles.append(card.title.text())
        card.show_another()
    assert titles[0] == titles[6]
    assert len(set(titles)) == 6
    shown = card.checks[card.at]
    wanted = []
    card.wanted.connect(wanted.append)
    card.do.click()
    assert wanted == [shown]


def test_the_keys_of_a_check_lie_within_its_card_whatever_was_shown_before(app):
    # What is as wide as the card and no more takes a line less once nothing scrolls beside it.
    case = Case(SPECS["hall"], (Code("", "P0335", "circuit"),))
    check = next_checks(case, infer(case))[0]
    long = replace(check, text="Words that take all the room there is. " * 20)
    pane = SuspectsPane()
    pane.resize(298, 604)
    pane.show()
    heights = set()
    for count in range(3, 23):
        for shown in (long, replace(check, text="it is so " * count, expect="", why="so " * count)):
            pane.card.show_checks((shown,))
            spin(30)
        heights.add(pane.card.height())
        assert pane.card.do.geometry().bottom() < pane.card.height() - 4
        assert pane.card.what.height() == pane.card.what.heightForWidth(pane.card.what.width())
    assert len(heights) > 1


# lenses ---------------------------------------------------------------------------------------------------------


@pytest.fixture
def wheel(desk):
    window = desk(demo_log, demo=True)
    jobs = window.workspace.log.jobs()
    window.workspace.open_job(next(job.id for job in jobs if job.machine == "Plover Dray 4"), open_capture=True)
    settle(window)
    spin(100)
    page = window.page("capture")
    return window, page


def test_turns_and_wheel_are_made_when_they_are_first_looked_at(wheel):
    _, page = wheel
    assert page.lens == "strip"
    assert not page._looked_at
    page.show_lens("wheel")
    assert page._looked_at
    assert page.wheel.drawing is page.turns.drawing is not None
    made = page.wheel.drawing
    page.show_lens("turns")
    assert page.wheel.drawing is made


def test_another_capture_is_never_shown_with_the_teeth_of_the_last(wheel):
    window, page = wheel
    page.show_lens("wheel")
    before = page.wheel.drawing
    window.workspace.open_job(next(job.id for job in window.workspace.log.jobs() if job.machine == "Marrick Marlin estate"), open_capture=True)  # fmt: skip
    settle(window)
    spin(100)
    assert page.wheel.drawing is not before
    assert page.wheel.drawing.reading in [channel.reading for channel in window.workspace.opened.examination.channels]


def test_the_flag_of_a_finding_does_not_cover_its_tooth(wheel):
    _, page = wheel
    page.show_lens("wheel")
    spin(60)
    view = page.wheel
    (number,) = view.drawing.teeth
    pitch = view.drawing.reading.wheel.pitch_deg
    picture = view.grab().toImage()
    mark = QColor(theme.current().mark)

    def marked(at):
        one = picture.pixelColor(at.toPoint())
        return abs(one.red() - mark.red()) + abs(one.green() - mark.green()) + abs(one.blue() - mark.blue()) < 40

    # Across the tooth's body no more than its own line is in the flag's colour.
    body = [view.point((number - 1 + share) * pitch, radius) for share in (0.15, 0.3, 0.45) for radius in (0.65, 0.7, 0.75)]  # fmt: skip
    assert sum(marked(item) for item in body) <= 2
    # Somewhere in a corner there is a flag.
    corners = [(x, y) for x in range(4, picture.width() - 4, 3) for y in (10, picture.height() - 14)]
    assert sum(marked(QPoint(x, y).toPointF()) for x, y in corners) > 5


def test_the_head_of_the_table_is_whole_and_sorts_both_ways(wheel):
    _, page = wheel
    page.show_lens("wheel")
    spin(60)
    table = page.table
    heads = [table.proxy.headerData(c, Qt.Orientation.Horizontal) for c in range(table.proxy.columnCount())]
    metrics = QFontMetrics(theme.font(8.5))  # the style's size for heads
    for column, head in enumerate(heads):
        assert metrics.horizontalAdvance(head) <= table.columnWidth(column), head
    late = heads.index("Late")
    for order in (Qt.SortOrder.AscendingOrder, Qt.SortOrder.DescendingOrder):
        table.sortByColumn(late, order)
        values = [table.proxy.index(row, late).data(Qt.ItemDataRole.UserRole) for row in range(table.proxy.rowCount())]
        assert values == sorted(values, reverse=order == Qt.SortOrder.DescendingOrder)


def test_words_against_the_known_good_agree_with_the_table(wheel):
    _, page = wheel
    page.show_lens("wheel")
    words = page.findings.words()
    table = page.wheel.drawing.table
    worst = int(np.nanargmax(np.abs(table.size_against))) + 1
    assert f"differing at tooth {worst}" in words


# forms and lists ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", FORMS)
def test_a_form_is_ready_to_type_and_comes_back_as_it_was(app, kind):
    form = FORMS[kind]()
    form.show()
    form.activateWindow()
    spin(40)
    assert form.focusWidget() is form._first
    if kind == EntryKind.CODE:
        form.text.setText("p0340")
    elif kind == EntryKind.INSPECTION:
        form.words.setText("green at the seal")
    elif kind == EntryKind.SCAN:
        form.rpm.setText("210")
    elif hasattr(form, "text") and hasattr(form.text, "setPlainText"):
        form.text.setPlainText("words")
    if kind in (EntryKind.REPAIR, EntryKind.REPLACED):
        assert form.problem()  # which part it was nobody has said yet
        form.part.setCurrentIndex(form.part.findData("harness"))
    assert form.problem() == ""
    told = form.answer()
    again = FORMS[kind](told)
    assert again.answer() == told
    form.close()


def test_a_code_is_chosen_by_what_it_means(app):
    form = CodeForm()
    index = next(i for i in range(form.pick.count()) if form.pick.itemData(i) == "P0345")
    form.pick.setCurrentIndex(index)
    form.pick.activated.emit(index)
    assert form.text.text() == "P0345"
    assert "camshaft" in form.likely.text().lower()


def test_a_new_job_states_nothing_that_nobody_said(app):
    form = JobForm()
    assert form.records() == []
    assert form.cylinders.currentData() is None
    form.words.setText("dies at the lights")
    form.codes.setText("P0335")
    form.changed.setCurrentIndex(form.changed.findData(Part.SENSOR))
    complaint, code, changed = form.records()
    assert (complaint.complaint, complaint.text, code.code) == (None, "dies at the lights", "P0335")
    assert (changed.part, changed.origin) == (Part.SENSOR, Origin.UNKNOWN)


def test_codes_of_a_new_job_are_gathered_once_each(app):
    form = JobForm()
    for code in ("P0335", "P0340", "P0335"):
        form._picked(code)
    assert form.code_list() == ["P0335", "P0340"]
    form.codes.setText("P0335, nonsense")
    assert "NONSENSE" in form.problem()
    assert form.name().startswith("Machine of ")
    form.machine.setText("  Brindle 2 ")
    assert form.name() == "Brindle 2"


@pytest.mark.long
def test_the_job_log_is_searched_by_machine_customer_and_code(desk):
    window = desk(demo_log, demo=True)
    window.commands.run("jobs.show_log")
    page = window.page("log")
    settle(window)
    everything = page.model.rowCount()
    for words, found in (
        ("plover", 1),
        ("P0335", 3),
        ("velmora P0335", 1),
        ("no such machine anywhere", 0),
        ("", everything),
    ):
        page.search.setText(words)
        spin(350)
        settle(window)
        assert page.model.rowCount() == found, words
        assert page.empty.isHidden() == bool(found)
    assert everything > 2


def test_every_sum_answers_good_figures_and_declines_bad_ones(app):
    form = ArithmeticForm()
    figures = {"Readings": "1.0 2.0 3.0 4.1 5.0", "AWG": "20", "Parts in the set": "4", "Failed": "1", "At, °C": "40",
               "First °C": "20", "Second °C": "80", "First Ω": "2400", "Second Ω": "300", "Pull-up, V": "5",
               "Pull-up, Ω": "1000", "Reading, V": "2", "Low level, V": "1"}  # fmt: skip
    for index, kind in enumerate(SUMS):
        form.kind.setCurrentIndex(index)
        for line, name in zip(form.lines, kind.fields, strict=True):
            line.setText(figures.get(name, "0.5"))
        assert form.answer.text()
        assert form.answer.text() != "Only figures, please."
        form.lines[0].setText("many")
        assert form.answer.text() == "Only figures, please."
        form.lines[0].clear()
        assert form.answer.text() == ""


def test_the_list_of_keys_names_every_shortcut_of_the_window(desk):
    window = desk(demo_log, demo=True)
    told = window.commands.run("view.keys_dialog").told()
    for action in (
        *window.actions(),
        *(this_action for page in window.navigation.pages.values() for this_action in page.actions()),
    ):
        assert spelled(action.shortcut().toString()) in told
        assert action.text() in told


def test_keys_without_a_job_do_nothing_and_say_nothing(desk):
    window = desk()
    for key in (Qt.Key.Key_K, Qt.Key.Key_R, Qt.Key.Key_E, Qt.Key.Key_M, Qt.Key.Key_D, Qt.Key.Key_P, Qt.Key.Key_Z):
        QTest.keyClick(window, key, Qt.KeyboardModifier.ControlModifier)
        spin(5)
        assert QApplication.activeModalWidget() is None
    assert window.workspace.job is None


def test_causes_beyond_the_six_shown_are_less_likely_and_not_ruled_out(app):
    from sagen.desk.panes.suspects import SuspectsPane
    from sagen.model.finding import Suspect

    pane = SuspectsPane()
    shares = (0.3, 0.2, 0.15, 0.1, 0.09, 0.08, 0.05, 0.02, 0.004)
    causes = ("sensor", "wiring", "supply", "ground", "module", "air_gap", "reluctor", "timing", "engine")
    pane.show_weighed(tuple(Suspect(cause, "one_fault", p) for cause, p in zip(causes, shares, strict=True)), ())
    assert pane.others.text() == "Less likely: reluctor, timing. All but ruled out: engine."


def test_what_was_said_can_be_read_later(desk):
    window = desk()
    for words in ("Kept one.csv.", "<b>Undone</b>: a note."):
        window.message.say(words)
    seen = []

    def read():
        dialog = QApplication.activeModalWidget()
        seen.extend(dialog.table.item(row, 1).text() for row in range(dialog.table.rowCount()))
        QTest.keyClick(dialog, Qt.Key.Key_Return)

    QTimer.singleShot(80, read)
    window.commands.run("view.show_said")
    assert seen[:2] == ["<b>Undone</b>: a note.", "Kept one.csv."]  # text from a file or a person is never markup


def test_a_press_on_evidence_opens_the_entry_it_comes_from(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335"), ReadingEntry("volts", "supply", "key_on", 0.02)])
    settle(window)
    chosen = []
    window.trail.opened.connect(chosen.append)
    for kind in (CodeEntry, ReadingEntry):
        lines = [
            line for row in window.suspects.rows for line in row.evidence.findChildren(ReasonLine) if isinstance(line.record, kind)
        ]  # fmt: skip
        assert lines, kind
        lines[0].keyPressEvent(QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_Return, Qt.KeyboardModifier.NoModifier))
        assert isinstance(chosen[-1].record, kind)
        assert window.trail.chosen() == chosen[-1]
