"""The Turns lens: one row a revolution, one column a tooth, colour = deviation from what is expected of it.

A bad tooth is a vertical stripe, a loose gap is speckle, a dropout a blank row.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QKeyEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.lenses.lens import LensView, colour_steps, coloured, scale_of
from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.report.turn_drawing import TurnDrawing, in_words
from sagen.signal.axis import nice_step

LEFT, RIGHT, TOP, BOTTOM = 52, 12, 46, 54


class TurnsView(LensView):
    """Draws the turns of one channel."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("Turns: one row a revolution, one column a tooth"), parent)
        self.what = "phase_error"
        self.scale = 1.0
        self._values = np.empty((0, 0), np.float32)
        self._entry = np.empty((0, 0), np.int64)
        self._image: QImage | None = None

    def show_drawing(self, drawing: TurnDrawing | None, what: str = "phase_error") -> None:
        self.drawing, self.what, self._image = drawing, what, None
        found = drawing.rows(what) if drawing is not None else None
        self._values, self._entry = (
            found if found is not None else (np.empty((0, 0), np.float32), np.empty((0, 0), np.int64))
        )
        self.scale = scale_of(self._values)
        self.update()

    def apply_theme(self) -> None:
        self._image = None
        super().apply_theme()

    # geometry -----------------------------------------------------------------------------

    @property
    def empty(self) -> bool:
        return not self._values.size

    def plot_rect(self) -> QRectF:
        return QRectF(LEFT, TOP, max(self.width() - LEFT - RIGHT, 10), max(self.height() - TOP - BOTTOM, 10))

    def part_at(self, at: QPointF) -> tuple[int, int] | None:
        """Turn (row) and slot (column) under a point."""
        rect = self.plot_rect()
        if self.empty or not rect.contains(at):
            return None
        turns, slots = self._values.shape
        row = int((at.y() - rect.top()) / rect.height() * turns)
        column = int((at.x() - rect.left()) / rect.width() * slots)
        return min(row, turns - 1), min(column, slots - 1)

    def time_of(self, row: int, column: int) -> float | None:
        """When the tooth of a cell came, s; None where none was seen."""
        entry = int(self._entry[row, column])
        return float(self.drawing.reading.teeth.times[entry]) if entry >= 0 else None

    # painting -----------------------------------------------------------------------------

    def paintEvent(self, _event) -> None:
        painter, colours = QPainter(self), theme.current()
        painter.fillRect(self.rect(), QColor(colours.raised))
        if self.empty:
            self.paint_nothing(
                painter,
                tr(
                    "No turns to show: the wheel of this channel is not known.\nState it on the sheet, or record "
                    "more turns."
                ),
            )
            return
        rect = self.plot_rect()
        painter.drawImage(rect, self._picture())
        self._paint_axes(painter, rect)
        self._paint_findings(painter, rect)
        self._paint_scale(painter, rect)
        self._paint_pointer(painter, rect)

    def _picture(self) -> QImage:
        """The cells as an image, at most as many rows as the widget has pixels: of several turns the wildest counts."""
        if self._image is None:
            colours, values = theme.current(), self._values
            most = 1600
            if len(values) > most:
                borders = np.linspace(0, len(values), most, endpoint=False).astype(int)
                high = np.fmax.reduceat(values, borders, axis=0)
                low = np.fmin.reduceat(values, borders, axis=0)
                values = np.where(np.abs(high) >= np.abs(low), high, low)
            pixels = coloured(values, self.scale, QColor(colours.quiet).rgb())
            wheel = self.drawing.reading.wheel
            designed = [other - 1 for other in wheel.others] + list(range(wheel.slots - wheel.missing, wheel.slots))
            blank = ~np.isfinite(values[:, designed])
            pixels[:, designed] = np.where(blank, np.uint32(QColor(colours.pane).rgb()), pixels[:, designed])
            self._pixels = np.ascontiguousarray(pixels, np.uint32)
            tall, wide = pixels.shape
            self._image = QImage(self._pixels.data, wide, tall, 4 * wide, QImage.Format.Format_RGB32)
        return self._image

    def _paint_axes(self, painter: QPainter, rect: QRectF) -> None:
        colours = theme.current()
        turns, slots = self._values.shape
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        step = max(1, int(nice_step(slots, max(2, int(rect.width() / 38)))))
        for number in [1, *range(step, slots + 1, step)] if step > 1 else range(1, slots + 1):
            x = rect.left() + (number - 0.5) / slots * rect.width()
            painter.drawText(QRectF(x - 20, rect.top() - 17, 40, 14), Qt.AlignmentFlag.AlignHCenter, str(number))
        step = max(1, int(nice_step(turns, max(2, int(rect.height() / 26)))))
        for turn in range(0, turns, step):
            y = rect.top() + (turn + 0.5) / turns * rect.height()
            painter.drawText(
                QRectF(0, y - 8, LEFT - 8, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                str(turn + 1),
            )
        painter.setFont(theme.font(9, bold=True))
        fitted = painter.fontMetrics().elidedText(tr("turn"), Qt.TextElideMode.ElideRight, LEFT - 8)
        painter.drawText(QRectF(4, rect.top() - 18, LEFT - 8, 14), Qt.AlignmentFlag.AlignRight, fitted)
        painter.drawText(QRectF(rect.left(), 4, rect.width(), 14), Qt.AlignmentFlag.AlignLeft, tr("tooth"))
        painter.setPen(QPen(QColor(colours.line), 1))
        painter.drawRect(rect)

    def _paint_findings(self, painter: QPainter, rect: QRectF) -> None:
        colours = theme.current()
        turns, slots = self._values.shape
        painter.setFont(theme.font(8.5, bold=True))
        for number, label in self.drawing.teeth.items():
            x0 = rect.left() + (number - 1) / slots * rect.width()
            x1 = rect.left() + number / slots * rect.width()
            painter.setPen(QPen(QColor(colours.mark), 1.5, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x0, rect.top()), QPointF(x0, rect.bottom()))
            painter.drawLine(QPointF(x1, rect.top()), QPointF(x1, rect.bottom()))
            self.paint_flag(painter, number, label, QPointF((x0 + x1) / 2, 5), LEFT, self.width() - 4)
        for start, end, label in self.drawing.stretches:
            first, last = self._row_of(start), self._row_of(end)
            y0 = rect.top() + first / turns * rect.height()
            y1 = rect.top() + (last + 1) / turns * rect.height()
            bar = QRectF(rect.left() - 5, y0, 5, max(y1 - y0, 3))
            painter.fillRect(bar, QColor(colours.mark))
            painter.setPen(QColor(colours.mark))
            painter.drawText(QRectF(2, (y0 + y1) / 2 - 8, 14, 16), Qt.AlignmentFlag.AlignCenter, label)

    def _row_of(self, time_s: float) -> int:
        teeth = self.drawing.reading.teeth
        at = int(np.clip(np.searchsorted(teeth.times, time_s), 0, len(teeth.times) - 1))
        return int(np.clip(teeth.turn[at] - teeth.turn[teeth.number > 0].min(), 0, len(self._values) - 1))

    def _paint_scale(self, painter: QPainter, rect: QRectF) -> None:
        """What the colours mean, in figures and words."""
        colours = theme.current()
        bar = QRectF(rect.left(), rect.bottom() + 10, min(rect.width() * 0.5, 220), 10)
        steps = np.ascontiguousarray(colour_steps(), np.uint32)
        painter.drawImage(bar, QImage(steps.data, len(steps), 1, 4 * len(steps), QImage.Format.Format_RGB32))
        painter.setPen(QColor(colours.line))
        painter.drawRect(bar)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        words = (tr("early"), tr("late")) if self.what == "phase_error" else (tr("less"), tr("more"))
        under = QRectF(bar.left() - 30, bar.bottom() + 3, bar.width() + 60, 14)
        painter.drawText(
            under.adjusted(30, 0, 0, 0),
            Qt.AlignmentFlag.AlignLeft,
            tr("−{scale:.0f} % {words}", scale=self.scale, words=words[0]),
        )
        painter.drawText(
            under.adjusted(0, 0, -30, 0),
            Qt.AlignmentFlag.AlignRight,
            tr("{words} +{scale:.0f} %", words=words[1], scale=self.scale),
        )
        key = QRectF(bar.right() + 22, bar.top() - 1, 12, 12)
        painter.fillRect(key, QColor(colours.quiet))
        painter.drawText(
            QRectF(key.right() + 6, key.top() - 2, 160, 16), Qt.AlignmentFlag.AlignLeft, tr("no tooth seen")
        )

    def _paint_pointer(self, painter: QPainter, rect: QRectF) -> None:
        if self._pointer is None:
            return
        teeth = self.drawing.reading.teeth
        at = int(np.searchsorted(teeth.times, self._pointer, "right")) - 1
        if not 0 <= at < len(teeth.number) or teeth.number[at] == 0:
            return
        turns, slots = self._values.shape
        row, column = self._row_of(float(teeth.times[at])), int(teeth.number[at]) - 1
        cell = QRectF(
            rect.left() + column / slots * rect.width(), rect.top() + row / turns * rect.height(),
            max(rect.width() / slots, 5), max(rect.height() / turns, 5),
        )  # fmt: skip
        painter.setPen(QPen(QColor(theme.current().ink), 2))
        painter.drawRect(cell.adjusted(-1, -1, 1, 1))

    # hands --------------------------------------------------------------------------------

    def words_at(self, row: int, column: int) -> str:
        """What a cell says."""
        reading = self.drawing.reading
        angle = column * reading.wheel.pitch_deg
        return tr(
            "turn {row}, tooth {column}, {angle:.1f}°: {what}",
            row=row + 1,
            column=column + 1,
            angle=angle,
            what=in_words(self.what, float(self._values[row, column]), reading),
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0)}
        if event.key() not in steps or self.empty:
            super().keyPressEvent(event)
            return
        teeth = self.drawing.reading.teeth
        at = int(np.clip(np.searchsorted(teeth.times, self._pointer or 0.0, "right") - 1, 0, len(teeth.times) - 1))
        across = steps[event.key()]
        at = int(np.clip(at + across[1] + across[0] * max(1, len(teeth.places)), 0, len(teeth.times) - 1))
        self.pointed.emit(float(teeth.times[at]))
