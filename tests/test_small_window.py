"""Every page on small screens: the window is no larger than they are, nothing is cut, everything pressed is large enough and has
a name. What a person needs to read and press is common practice, no published source; 40 px is DESIGN.md's."""

import os
from itertools import combinations

import pytest
from PySide6.QtCore import QModelIndex, QSettings, Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QScrollArea,
    QTableView,
    QWidget,
)

from conftest import demo_log, settle
from sagen.desk.app import scale_to
from sagen.desk.pages import page_names
from sagen.desk.sizes import remembered_size
from sagen.desk.theme.theme import TOUCH
from sagen.desk.wrap_row import WrapRow

#: 853 x 533 is what a screen of 1280 x 800 has at 150 %
SIZES = ((1280, 720), (1024, 640), (853, 533))
NO_PAGE_OF_THEIR_OWN = {"incoming", "photo"}  #: come up by themselves


def cut(window):
    """What is in sight and not whole: what it says, its width and what it needs."""
    out = []
    for item in window.findChildren(QWidget):
        if not item.isVisible():
            continue
        if isinstance(item, QLabel) and item.text() and item.textFormat() is not None:
            if item.wordWrap():
                tall = item.heightForWidth(item.width())
                if item.height() + 2 < tall:
                    out.append((item.text(), item.height(), tall))
            elif item.sizeHint().width() > item.width() + 2:
                out.append((item.text(), item.width(), item.sizeHint().width()))
        elif isinstance(item, QAbstractButton) and item.text() and item.sizeHint().width() > item.width() + 2:
            out.append((item.text(), item.width(), item.sizeHint().width()))
        elif isinstance(item, QLineEdit) and not item.text() and item.placeholderText():
            wide = QFontMetrics(item.font()).horizontalAdvance(item.placeholderText())
            if wide > item.contentsRect().width() - 12:
                out.append((item.placeholderText(), item.width(), wide))
        elif isinstance(item, QHeaderView) and item.orientation() == Qt.Orientation.Horizontal:
            font, model = QFontMetrics(item.font()), item.model()
            for at in range(item.count()):
                words = str(model.headerData(at, Qt.Orientation.Horizontal) or "")
                least = max((font.horizontalAdvance(word) for word in words.split()), default=0)
                if not item.isSectionHidden(at) and least > item.sectionSize(at) - 4:
                    out.append((words, item.sectionSize(at), least))
        elif (
            isinstance(item, QTableView)
            and item.editTriggers() == QTableView.EditTrigger.NoEditTriggers
            and item.model()
        ):
            out += cut_cells(item)
        elif isinstance(item, QComboBox):
            wide = QFontMetrics(item.font()).horizontalAdvance(item.currentText())
            if wide + 24 > item.width():
                out.append((item.currentText(), item.width(), wide))
    return out


def cut_cells(table):
    """Cells of a table that is read: a line, or where it is wrapped its longest word, that is wider than its column."""
    model, root, out = table.model(), QModelIndex(), []
    font = QFontMetrics(table.font())
    for row in range(min(model.rowCount(root), 40)):
        for column in range(model.columnCount(root)):
            words = str(model.index(row, column, root).data() or "")
            lines = words.split() if table.wordWrap() else words.split("\n")
            least = max((font.horizontalAdvance(line) for line in lines), default=0)
            if table.columnSpan(row, column) == 1 and least > table.columnWidth(column) - 4:
                out.append((words, table.columnWidth(column), least))
    return out


def bar_in_a_bar(window):
    """Areas that are scrolled within one that is scrolled, too."""
    areas = [
        area for area in window.findChildren(QScrollArea) if area.isVisible() and area.verticalScrollBar().maximum() > 0
    ]
    return [
        (area.width(), area.height())
        for area in areas
        if any(other.isAncestorOf(area) for other in areas if other is not area)
    ]


def on_each_other(window):
    """What a layout holds, and lies on what else it holds: there was no room for both."""
    out = []
    for holder in [window, *window.findChildren(QWidget)]:
        layout = holder.layout()
        if layout is None or not holder.isVisible():
            continue
        held = [layout.itemAt(at).widget() for at in range(layout.count())]
        boxes = [
            (item, item.geometry().adjusted(1, 1, -1, -1)) for item in held if item is not None and item.isVisible()
        ]
        for (one, box), (other, under) in combinations(boxes, 2):
            if box.intersects(under):
                out.append((type(one).__name__, box.getRect(), type(other).__name__, under.getRect()))
    return out


def show(window, name):
    if name == "capture":
        window.back_to_job()
    elif name == "report":
        window.commands.run("jobs.show_report")
    elif name == "circuit":
        window.commands.run("view.show_circuit")
    elif name in ("log", "shelf", "settings", "picture"):
        window.commands.run("view.show_page", name)
    else:
        window.commands.run("view.show_with_job", name)


def test_no_page_is_larger_than_the_screen_or_cut(desk, few):
    window = desk(demo_log, demo=True)
    for name in page_names():
        if name in NO_PAGE_OF_THEIR_OWN:
            continue
        show(window, name)
        for size in few(SIZES[::-1]):
            window.resize(*size)
            settle(window)
            assert (window.width(), window.height()) == size, name
            assert cut(window) == [], (name, size)
            assert on_each_other(window) == [], (name, size)
        for item in window.findChildren(QWidget):
            # An editor within a box is the box's.
            if not item.isVisible() or isinstance(item.parent(), QComboBox | QAbstractSpinBox) or item.width() < 2:
                continue
            if isinstance(item, QAbstractButton):
                assert item.accessibleName() or item.text() or item.toolTip(), (name, item)
            elif isinstance(item, QComboBox | QLineEdit | QAbstractSpinBox):
                assert item.height() >= TOUCH - 2, (name, item.accessibleName(), item.height())


def test_panes_fold_one_after_the_other_and_come_back(desk):
    window = desk(demo_log, demo=True)
    beside = [pane.isVisible() for pane in (window.trail, window.suspects)]
    assert beside == [True, True]
    assert not any(button.isVisible() for button in window.header.side_buttons.values())
    window.resize(1024, 640)
    settle(window)
    assert [pane.isVisible() for pane in (window.trail, window.suspects)] == [False, True]
    window.header.side_buttons["trail"].click()
    assert [pane.isVisible() for pane in (window.trail, window.suspects)] == [True, False]
    assert window.header.side_buttons["trail"].isChecked()
    window.resize(853, 533)
    settle(window)
    assert not any(pane.isVisible() for pane in (window.trail, window.suspects))
    # F6 goes through what is folded, too.
    window.commands.run("view.next_pane")
    assert window.trail.isVisible()
    window.commands.run("view.next_pane")
    assert window.suspects.isVisible()
    assert not window.trail.isVisible()
    window.resize(1280, 720)
    settle(window)
    assert [pane.isVisible() for pane in (window.trail, window.suspects)] == beside


def test_a_row_goes_on_in_a_further_line(app):
    holder = QWidget()
    row = WrapRow(holder)
    boxes = [QLabel("x" * 12) for _ in range(6)]
    for box in boxes:
        row.addWidget(box)
    one = row.heightForWidth(10_000)
    assert row.heightForWidth(row.sizeHint().width()) == one
    assert row.heightForWidth(row.sizeHint().width() // 2) == 2 * one + row.spacing()
    holder.resize(row.sizeHint().width() // 2 + 8, 400)
    holder.show()
    assert all(box.geometry().right() <= holder.width() for box in boxes)
    assert len({box.y() for box in boxes}) == 2
    holder.deleteLater()


@pytest.mark.parametrize(("stored", "size"), [("150", 150), (125, 125), (None, 100), ("huge", 100), (400, 100)])
def test_text_is_as_large_as_was_chosen(tmp_path, monkeypatch, stored, size):
    monkeypatch.delenv("QT_SCALE_FACTOR", raising=False)
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    if stored is not None:
        settings.setValue("text/size", stored)
    assert remembered_size(settings) == size
    scale_to(settings)
    assert os.environ.get("QT_SCALE_FACTOR") == (None if size == 100 else f"{size / 100:g}")
