"""The table beside the Turns and Wheel lenses: a row a tooth, sortable, copied as text."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt, Signal
from PySide6.QtGui import QColor, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QTableView, QWidget

from sagen.desk.theme import theme
from sagen.model.language import figure, tr
from sagen.report.turn_drawing import TurnDrawing
from sagen.signal.per_tooth import ToothTable

SORT = Qt.ItemDataRole.UserRole


class TeethModel(QAbstractTableModel):
    """The columns of a ToothTable."""

    def __init__(self, drawing: TurnDrawing):
        super().__init__()
        table: ToothTable = drawing.table
        self.marked = drawing.teeth
        self.columns: list[tuple[str, str, np.ndarray, str]] = [
            (tr("Tooth"), tr("number from the reference gap"), table.number, ".0f"),
            ("°", tr("degrees of the wheel from tooth 1"), table.angle_deg, ".1f"),
            (tr("Late"), tr("percent of a pitch, median over the turns; minus is early"), table.phase_error, "+.1f"),
            ("±", tr("how far it wanders from turn to turn, percent of a pitch"), table.wander, ".1f"),
            (
                tr("Width") if table.size_name == "width" else tr("Height"),
                tr("of the median of all teeth"),
                100 * table.size,
                ".0f",
            ),
            (tr("Seen"), tr("share of the turns in which the tooth was there"), 100 * table.seen, ".0f"),
        ]
        if table.has_pattern:
            self.columns.insert(
                3,
                (
                    tr("Δ good"),
                    tr("late against the known-good capture, percent of a pitch"),
                    table.phase_error_against,
                    "+.1f",
                ),
            )

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.columns[0][2])

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.columns)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        name, tip, values, form = self.columns[index.column()]
        value = float(values[index.row()])
        if role == Qt.ItemDataRole.DisplayRole:
            return figure(value, form).replace("-", "−") if np.isfinite(value) else "–"
        if role == SORT:
            return value if np.isfinite(value) else -1e9
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{name}: {tip}"
        marked = int(self.columns[0][2][index.row()]) in self.marked
        if role == Qt.ItemDataRole.FontRole and marked:
            return theme.font(9.5, bold=True)
        if role == Qt.ItemDataRole.ForegroundRole and marked:
            return QColor(theme.current().mark)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole):
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self.columns[section][0]
        return self.columns[section][1] if role == Qt.ItemDataRole.ToolTipRole else None


class TeethTable(QTableView):
    """Sortable; Ctrl+C copies the chosen rows, or all, with their heads."""

    chosen = Signal(int)  #: tooth number

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("teeth")
        self.setSortingEnabled(True)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(24)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setAccessibleName(tr("Table of teeth"))
        self.proxy = QSortFilterProxyModel(self)
        self.proxy.setSortRole(SORT)

    def show_drawing(self, drawing: TurnDrawing | None) -> None:
        self.setVisible(drawing is not None and drawing.table is not None)
        if drawing is None or drawing.table is None:
            return
        self.proxy.setSourceModel(TeethModel(drawing))
        self.setModel(self.proxy)
        self.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.horizontalHeader().setMinimumSectionSize(30)
        self.selectionModel().currentRowChanged.connect(self._tell)

    def _tell(self, now: QModelIndex, _before: QModelIndex) -> None:
        if now.isValid():
            self.chosen.emit(int(self.proxy.index(now.row(), 0).data(SORT)))

    def text(self) -> str:
        """The chosen rows, or all, tab-separated with their heads."""
        model = self.proxy
        rows = (
            sorted({selectedRow.row() for selectedRow in self.selectionModel().selectedRows()})
            if self.selectionModel()
            else []
        )
        columns = range(model.columnCount())
        head = "\t".join(str(model.headerData(c, Qt.Orientation.Horizontal)) for c in columns)
        lines = ["\t".join(str(model.index(r, c).data()) for c in columns) for r in rows or range(model.rowCount())]
        return "\n".join([head, *lines])

    def keyPressEvent(self, event) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QApplication.clipboard().setText(self.text())
        else:
            super().keyPressEvent(event)
