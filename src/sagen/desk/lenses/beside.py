"""The Beside lens: a channel and the known-good one over the angle, what parts them, and every edge in a table."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QApplication, QHBoxLayout, QSplitter, QWidget

from sagen.desk.tables import TextTable
from sagen.desk.theme import theme
from sagen.model.language import figure, tr
from sagen.report.beside import EDGE_HEADS, BesideScene
from sagen.signal.axis import nice_step

LEFT, RIGHT, TOP, BOTTOM, BETWEEN = 58, 12, 34, 26, 22
WAVES = 0.62  #: of the height
CLOSEST = 4.0  #: degrees
NOTHING = tr(
    "Nothing to lay beside it: no known-good capture of this channel, or its angle is not known.\nLay one under "
    "it (the list at the right of this row)."
)


class BesideView(QWidget):
    """Draws both waves over the angle and, below, their difference with the band that chance explains."""

    moved = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.scene: BesideScene | None = None
        self.first, self.last = 0.0, 360.0
        self.edge: int | None = None  #: which edge the dimension is drawn at
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(260, 200)
        self.setAccessibleName(tr("Beside the known-good one, over the angle"))
        self._grabbed: float | None = None

    def show_scene(self, scene: BesideScene | None) -> None:
        """A channel; it opens at the edge that differs most."""
        self.scene, self.edge = scene, scene.worst if scene is not None else None
        self.fit()
        if self.edge is not None:
            self.show_edge(self.edge)

    @property
    def span(self) -> float:
        return self.scene.span if self.scene is not None else 360.0

    # what is in sight -----------------------------------------------------------------------

    def fit(self) -> None:
        self._look(0.0, self.span)

    def zoom(self, times: float, about: float | None = None) -> None:
        """Show `times` as much, the degree `about` staying where it is."""
        about = (self.first + self.last) / 2 if about is None else about
        wide = min(max((self.last - self.first) * times, CLOSEST), self.span)
        share = (about - self.first) / max(self.last - self.first, 1e-9)
        self._look(about - share * wide, about + (1 - share) * wide)

    def _look(self, first: float, last: float) -> None:
        wide = min(last - first, self.span)
        self.first = min(max(first, 0.0), self.span - wide)
        self.last = self.first + wide
        self.update()
        self.moved.emit()

    def show_edge(self, index: int) -> None:
        """Bring an edge to the middle, near enough to see by how much it is off."""
        edge = self.scene.edges[index]
        self.edge = index
        self._look(*self.scene.around(edge))

    def step(self, by: int) -> None:
        """The next edge that differs plainly; of none, the next edge."""
        if self.scene is None or not self.scene.edges:
            return
        plain = [k for k, edge in enumerate(self.scene.edges) if edge.plain] or list(range(len(self.scene.edges)))
        at = plain.index(self.edge) if self.edge in plain else (-1 if by > 0 else 0)
        self.show_edge(plain[(at + by) % len(plain)])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        wide = self.last - self.first
        act = {
            Qt.Key.Key_Left: lambda: self._look(self.first - wide / 4, self.last - wide / 4),
            Qt.Key.Key_Right: lambda: self._look(self.first + wide / 4, self.last + wide / 4),
            Qt.Key.Key_Up: lambda: self.zoom(1 / 1.8), Qt.Key.Key_Plus: lambda: self.zoom(1 / 1.8),
            Qt.Key.Key_Down: lambda: self.zoom(1.8), Qt.Key.Key_Minus: lambda: self.zoom(1.8), Qt.Key.Key_Home: self.fit,
        }.get(Qt.Key(event.key()))  # fmt: skip
        if act is None or self.scene is None:
            super().keyPressEvent(event)
            return
        act()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.scene is not None:
            self.zoom(0.85 ** (event.angleDelta().y() / 120), self._degree(event.position().x()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._grabbed = self._degree(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grabbed is not None and event.buttons():
            by = self._grabbed - self._degree(event.position().x())
            self._look(self.first + by, self.last + by)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._grabbed = None

    # painting ---------------------------------------------------------------------------------

    def _rects(self) -> tuple[QRectF, QRectF]:
        wide, high = max(self.width() - LEFT - RIGHT, 10), max(self.height() - TOP - BOTTOM - BETWEEN, 20)
        return QRectF(LEFT, TOP, wide, WAVES * high), QRectF(
            LEFT, TOP + WAVES * high + BETWEEN, wide, (1 - WAVES) * high
        )

    def _degree(self, x: float) -> float:
        rect, _ = self._rects()
        return self.first + (x - rect.left()) / rect.width() * (self.last - self.first)

    def _x(self, degree):
        rect, _ = self._rects()
        return rect.left() + (degree - self.first) / (self.last - self.first) * rect.width()

    def paintEvent(self, _event) -> None:
        painter, colours = QPainter(self), theme.current()
        painter.fillRect(self.rect(), QColor(colours.raised))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.scene is None:
            painter.setPen(QColor(colours.quiet))
            painter.drawText(
                self.rect().adjusted(30, 0, -30, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, NOTHING
            )
            return
        waves, below = self._rects()
        seen = (self.scene.degrees >= self.first - 1) & (self.scene.degrees <= self.last + 1)
        sound = self.scene.sound
        values = np.concatenate([self.scene.here[seen], self.scene.good[seen], *(ends[seen] for ends in sound or ())])
        low, high = float(values.min()), float(values.max())
        room = 0.08 * max(high - low, 1e-6)
        self._paint_axes(painter, waves, low - room, high + room, self.scene.unit, degrees=False)
        most = max(float(np.abs(self.scene.difference[seen]).max()), float(self.scene.band[seen].max()), 1e-6) * 1.1
        self._paint_axes(painter, below, -most, most, self.scene.unit, degrees=True)
        self._paint_band(painter, below, most, seen)
        painter.save()
        painter.setClipRect(waves)
        ends = (low - room, high + room)
        if sound is not None and self._close_enough(waves):
            self._fill(painter, waves, sound, seen, ends, colours.sound, 50)
        if self._close_enough(waves):  # over a solid block of teeth nothing is drawn twice
            self._line(painter, waves, self.scene.good, seen, ends, QColor(colours.sound), 3.4)
        self._line(painter, waves, self.scene.here, seen, ends, QColor(colours.mark), 1.8)
        painter.restore()
        painter.save()
        painter.setClipRect(below)
        off, band = self.scene.difference, self.scene.band
        self._line(painter, below, off, seen, (-most, most), QColor(colours.quiet), 1.0)
        beyond = np.where(np.abs(off) > band, off, 0.0)
        self._line(painter, below, beyond, seen, (-most, most), QColor(colours.ink), 1.8)
        painter.restore()
        self._paint_names(painter, below)
        if self.edge is not None and self.edge < len(self.scene.edges):
            self._paint_dimension(painter, waves)

    def _close_enough(self, rect: QRectF) -> bool:
        """Whether single teeth can be told apart in the picture."""
        edges = self.scene.edges
        pitch = self.span / len(edges) if self.scene.what == "tooth" and edges else 30.0
        return pitch / (self.last - self.first) * rect.width() > 9

    def _line(self, painter, rect: QRectF, values, seen, ends, colour: QColor, wide: float) -> None:
        x = self._x(self.scene.degrees[seen])
        y = rect.bottom() - (values[seen] - ends[0]) / (ends[1] - ends[0]) * rect.height()
        painter.setPen(QPen(colour, wide, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))

    def _fill(self, painter, rect: QRectF, pair, seen, ends, name: str, alpha: int) -> None:
        """Between two lines."""
        colour = QColor(name)
        colour.setAlpha(alpha)
        x = self._x(self.scene.degrees[seen]).tolist()
        low, high = (
            (rect.bottom() - (row[seen] - ends[0]) / (ends[1] - ends[0]) * rect.height()).tolist() for row in pair
        )
        points = [QPointF(a, b) for a, b in zip(x, high, strict=True)]
        points += [QPointF(a, b) for a, b in zip(reversed(x), reversed(low), strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawPolygon(QPolygonF(points))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_band(self, painter, rect: QRectF, most: float, seen) -> None:
        """By how much the two may differ by chance."""
        band = self.scene.band
        painter.save()
        painter.setClipRect(rect)
        self._fill(painter, rect, (-band, band), seen, (-most, most), theme.current().quiet, 60)
        painter.restore()

    def _paint_axes(self, painter, rect: QRectF, low: float, high: float, unit: str, *, degrees: bool) -> None:
        colours = theme.current()
        painter.setFont(theme.font(8.5))
        step = nice_step(high - low, 3)
        for k in range(int(np.ceil(low / step)), int(high // step) + 1):
            y = rect.bottom() - (k * step - low) / (high - low) * rect.height()
            painter.setPen(QPen(QColor(colours.line), 1))
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
            painter.setPen(QColor(colours.quiet))
            text = figure(k * step, ".6g").replace("-", "\u2212")
            painter.drawText(
                QRectF(0, y - 8, LEFT - 8, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{text} {unit}",
            )
        step = nice_step(self.last - self.first, max(2, int(rect.width() / 90)))
        for k in range(int(np.ceil(self.first / step)), int(self.last // step) + 1):
            x = self._x(k * step)
            painter.setPen(QPen(QColor(colours.line), 1))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            if degrees:
                painter.setPen(QColor(colours.quiet))
                painter.drawText(
                    QRectF(x - 30, rect.bottom() + 4, 60, 16), Qt.AlignmentFlag.AlignHCenter, tr("{k:g}°", k=k * step)
                )

    def _paint_names(self, painter, below: QRectF) -> None:
        colours = theme.current()
        painter.setFont(theme.font(9.5, bold=True))
        metrics, x = painter.fontMetrics(), float(LEFT)
        pale = QColor(colours.sound)
        pale.setAlpha(90)
        told = [(tr("here"), QColor(colours.mark)), (self.scene.good_words, QColor(colours.sound))]
        if self.scene.sound is not None:  # before the name, which may be long and is shortened
            told.insert(1, (tr("95 % of sound ones ({sound_of})", sound_of=self.scene.sound_of), pale))
        for words, colour in told:
            painter.setPen(QPen(colour, 9 if colour is pale else 3, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            painter.drawLine(QPointF(x, 15), QPointF(x + 18, 15))
            painter.setPen(QColor(colours.ink))
            room = max(int(self.width() - x - 40), 40)
            if words == self.scene.good_words and metrics.horizontalAdvance(words) > room:
                words = self.scene.good_name
            text = metrics.elidedText(words, Qt.TextElideMode.ElideMiddle, room)
            painter.drawText(QPointF(x + 24, 19), text)
            x += 44 + metrics.horizontalAdvance(text)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        painter.drawText(
            QPointF(below.left(), below.top() - 6),
            tr("here less the other; grey: by chance; strong line: beyond it"),
        )

    def _paint_dimension(self, painter, rect: QRectF) -> None:
        """From where the edge is in the known-good one to where it is here, with its figure."""
        colours, edge = theme.current(), self.scene.edges[self.edge]
        left, right = sorted((float(self._x(edge.good_deg)), float(self._x(edge.here_deg))))
        if right < rect.left() or left > rect.right():
            return
        y = rect.top() + 0.5 * rect.height()
        painter.setPen(QPen(QColor(colours.ink), 1.4))
        for x in (left, right):
            painter.drawLine(QPointF(x, y - 14), QPointF(x, y + 14))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        for x, way in ((left, 1), (right, -1)):
            for side in (-1, 1):
                if right - left > 14:
                    painter.drawLine(QPointF(x, y), QPointF(x + 6 * way, y + 4 * side))
        text = edge.words
        painter.setFont(theme.font(10.5, bold=True))
        wide = painter.fontMetrics().horizontalAdvance(text) + 14
        box = QRectF(min(max((left + right) / 2 - wide / 2, rect.left()), rect.right() - wide), y - 40, wide, 22)
        painter.fillRect(box, QColor(colours.ink))
        painter.setPen(QColor(colours.raised))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


class BesidePanel(QWidget):
    """The picture, and the table of edges beside it."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.view = BesideView()
        self.table = TextTable(("", *EDGE_HEADS), tr("Edges beside the known-good ones"), stretch=0)
        self.order: list[int] = []  #: the edges as the table has them
        self.by, self.down = 0, False  #: the column that it is sorted by, and whether the greatest is first
        head = self.table.horizontalHeader()
        head.setSectionsClickable(True)
        head.sectionClicked.connect(self.sort_by)
        self.table.cellClicked.connect(lambda *_: self._chosen())
        self.table.currentCellChanged.connect(lambda *_: self._chosen() if self.table.hasFocus() else None)
        split = QSplitter()
        split.setHandleWidth(8)
        split.addWidget(self.view)
        split.addWidget(self.table)
        split.setSizes([500, 275])
        split.setStretchFactor(0, 1)
        split.setChildrenCollapsible(False)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(split)
        self.view.moved.connect(self._mark_row)
        self.setFocusProxy(self.view)

    def show_scene(self, scene: BesideScene | None) -> None:
        self.view.show_scene(scene)
        self.table.setVisible(bool(scene is not None and scene.edges))
        self._fill_table()

    @property
    def heads(self) -> tuple[str, ...]:
        teeth = self.view.scene is not None and self.view.scene.what == "tooth"
        return (tr("Tooth") if teeth else tr("Edge"), *EDGE_HEADS)

    def sort_by(self, column: int) -> None:
        """Sort the edges by a column; by the same one again, the other way round. How far one is off counts either way."""
        self.down = not self.down if column == self.by else column >= 3
        self.by = column
        self._fill_table()

    def _fill_table(self) -> None:
        edges = self.view.scene.edges if self.view.scene is not None else ()
        by = (
            lambda edge: edge.number, lambda edge: edge.good_deg, lambda edge: edge.here_deg, lambda edge: abs(edge.difference),
            lambda edge: edge.u,
        )[self.by]  # fmt: skip
        self.order = sorted(range(len(edges)), key=lambda k: by(edges[k]), reverse=self.down)
        for column, head in enumerate(self.heads):
            way = (
                "" if column != self.by or (self.by, self.down) == (0, False) else " \u2193" if self.down else " \u2191"
            )
            self.table.horizontalHeaderItem(column).setText(head + way)
        self.table.blockSignals(True)
        self.table.show_rows([(edges[k].row(), "", k) for k in self.order])
        self.table.blockSignals(False)
        for row, k in enumerate(self.order):
            if edges[k].plain:
                self.table.item(row, 3).setForeground(QColor(theme.current().mark))
                self.table.item(row, 3).setFont(theme.font(9.5, bold=True))
        self._mark_row()

    def apply_theme(self) -> None:
        self.show_scene(self.view.scene)

    def _chosen(self) -> None:
        index = self.table.chosen()
        if index is not None and index != self.view.edge:
            self.view.show_edge(index)

    def _mark_row(self) -> None:
        self.table.blockSignals(True)
        if self.view.edge not in self.order:
            self.table.setCurrentItem(None)
        else:
            self.table.setCurrentCell(self.order.index(self.view.edge), 0)
        self.table.blockSignals(False)

    def text(self) -> str:
        """The table, tab-separated with its heads."""
        columns = range(self.table.columnCount())
        rows = [[self.table.item(r, c).text() for c in columns] for r in range(self.table.rowCount())]
        return "\n".join("\t".join(row) for row in (self.heads, *rows))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QApplication.clipboard().setText(self.text())
            return
        if event.key() == Qt.Key.Key_S and not event.modifiers():
            self.sort_by(3 if self.by != 3 else 0)
            return
        super().keyPressEvent(event)
