"""Tables of plain text, as several pages show them: rows of cells, one chosen."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from sagen.desk.theme import theme
from sagen.desk.theme.plain import plain_tip

ROOM = 8  #: px over and under the words of a row together
BAR = 3  #: px of the bar beside the row that the keys are at


class _Row(QStyledItemDelegate):
    """Words with some air; beside the row that the keys are at, a bar: it is filled only once a person chose it."""

    def sizeHint(self, option, index) -> QSize:
        return super().sizeHint(option, index) + QSize(0, ROOM)

    def paint(self, painter, option, index) -> None:
        option.state &= ~QStyle.StateFlag.State_HasFocus  # the bar says it
        super().paint(painter, option, index)
        table = self.parent()
        if index.column() == 0 and index.row() == table.currentRow() and not table.selectedItems():
            where = option.rect
            painter.fillRect(where.left(), where.top() + 4, BAR, where.height() - 8, QColor(theme.current().accent))


class TextTable(QTableWidget):
    """Rows of text that are read and chosen, not typed. `stretch` is the column, or the columns, that share the
    room that is left."""

    def __init__(
        self, heads: Sequence[str], name: str, *, stretch: int | tuple[int, ...] = 0, parent: QWidget | None = None
    ):
        super().__init__(0, len(heads), parent)
        self.setHorizontalHeaderLabels(list(heads))
        self.setAccessibleName(name)
        self.verticalHeader().hide()
        self.setShowGrid(False)
        self.setWordWrap(True)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        head = self.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        for column in (stretch,) if isinstance(stretch, int) else stretch:
            head.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.data_of: list = []
        self.setItemDelegate(_Row(self))

    def show_rows(self, rows: Sequence[tuple[Sequence[str], str, object]]) -> None:
        """Rows as (cells, mark, what the row is of); mark "sound", "bad" or ""."""
        chosen, picked = self.currentRow(), bool(self.selectedItems())
        self.setRowCount(len(rows))
        self.data_of = [row[2] for row in rows]
        colours = theme.current()
        inks = {"sound": colours.sound, "bad": colours.mark, "quiet": colours.quiet}
        for r, (cells, mark, _) in enumerate(rows):
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(plain_tip(text))
                item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
                if mark in inks and (c == len(cells) - 1 or mark == "quiet"):
                    item.setForeground(QBrush(QColor(inks[mark])))
                self.setItem(r, c, item)
        if rows:
            self.setCurrentCell(min(max(chosen, 0), len(rows) - 1), 0)
            if not picked:
                self.clearSelection()

    def chosen(self):
        """What the chosen row is of; None where none is."""
        row = self.currentRow()
        return self.data_of[row] if 0 <= row < len(self.data_of) else None
