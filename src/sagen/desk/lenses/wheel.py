"""The Wheel lens: the wheel as the sensor saw it, every tooth at its measured place and height."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from sagen.desk.lenses.lens import LensView, coloured
from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.report.turn_drawing import TurnDrawing, in_words
from sagen.signal.catalogue import usual_name

HUB, ROOT, TIP = 0.46, 0.62, 0.86  #: radii as shares of half the widget
TALLEST = 1.6  #: sizes beyond this many medians are drawn no larger


class WheelView(LensView):
    """Draws the wheel of one channel; tooth 1 is at the top, the wheel turns clockwise."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("Wheel: every tooth at its measured place and height"), parent)

    def show_drawing(self, drawing: TurnDrawing | None) -> None:
        self.drawing = drawing
        self.update()

    # geometry -----------------------------------------------------------------------------

    def middle(self) -> QPointF:
        return QPointF(self.width() / 2, self.height() / 2 + 4)

    def reach(self) -> float:
        return max(min(self.width(), self.height() - 12) / 2 - 6, 20.0)

    def point(self, angle_deg: float, radius: float) -> QPointF:
        """A place on the drawing; angles climb clockwise from the top."""
        turned = np.radians(angle_deg)
        middle = self.middle()
        return QPointF(
            middle.x() + self.reach() * radius * np.sin(turned), middle.y() - self.reach() * radius * np.cos(turned)
        )

    def tooth_at(self, at: QPointF) -> int | None:
        """The slot number under a point, if it lies on the rim."""
        if self.drawing is None or self.drawing.table is None:
            return None
        away = at - self.middle()
        radius = float(np.hypot(away.x(), away.y())) / self.reach()
        if not HUB - 0.08 < radius < 1.05:
            return None
        pitch = self.drawing.reading.wheel.pitch_deg
        angle = float(np.degrees(np.arctan2(away.x(), -away.y()))) % 360.0
        return int((angle / pitch + 0.25) % self.drawing.reading.wheel.slots) + 1

    def part_at(self, at: QPointF) -> tuple[int] | None:
        number = self.tooth_at(at)
        return None if number is None else (number,)

    # painting -----------------------------------------------------------------------------

    def paintEvent(self, _event) -> None:
        painter, colours = QPainter(self), theme.current()
        painter.fillRect(self.rect(), QColor(colours.raised))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.drawing is None or self.drawing.table is None:
            self.paint_nothing(painter, tr("No wheel to draw: at least two turns of a known wheel are needed."))
            return
        self._paint_body(painter)
        self._paint_teeth(painter)
        self._paint_numbers(painter)
        self._paint_pointer(painter)
        self._paint_middle(painter)

    def _paint_body(self, painter: QPainter) -> None:
        colours = theme.current()
        painter.setPen(QPen(QColor(colours.line), 1.2))
        painter.setBrush(QColor(colours.pane))
        reach, middle = self.reach(), self.middle()
        painter.drawEllipse(middle, reach * ROOT, reach * ROOT)
        painter.setBrush(QColor(colours.raised))
        painter.drawEllipse(middle, reach * HUB, reach * HUB)

    def _block(self, start: float, end: float, height: float) -> QPolygonF:
        top = ROOT + (TIP - ROOT) * height
        between = np.linspace(start, end, 4)
        return QPolygonF([*(self.point(a, ROOT) for a in between), *(self.point(a, top) for a in between[::-1])])

    def _paint_teeth(self, painter: QPainter) -> None:
        colours, table, reading = theme.current(), self.drawing.table, self.drawing.reading
        pitch = reading.wheel.pitch_deg
        deviation = np.fmax(np.abs(table.phase_error), np.abs(100 * (table.size - 1)))
        sign = np.where(
            np.abs(np.nan_to_num(table.phase_error)) >= np.abs(np.nan_to_num(100 * (table.size - 1))),
            table.phase_error,
            100 * (table.size - 1),
        )
        pixels = coloured(np.where(np.isfinite(deviation), sign, np.nan), 20.0, QColor(colours.quiet).rgb())
        coil = reading.grows_with_speed
        last = reading.wheel.slots - reading.wheel.missing
        for index in range(reading.wheel.slots):
            number, absent = index + 1, not np.isfinite(table.phase_error[index])
            start = table.angle_deg[index] + (0.0 if absent else table.phase_error[index] / 100 * pitch)
            share = 0.5 if coil or absent else float(np.clip(0.5 * table.size[index], 0.08, 0.92))
            first = start - (0.5 * share * pitch if coil else 0.0)
            tall = float(np.clip(table.size[index], 0.05, TALLEST)) if coil and not absent else 1.0
            if self.drawing.pattern is not None and np.isfinite(table.size_against[index]):
                self._paint_expected(painter, index, pitch, coil)
            if absent and (number > last or number in reading.wheel.others):
                continue
            if absent:
                painter.setPen(QPen(QColor(colours.mark), 1.6, Qt.PenStyle.DashLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
            else:
                painter.setPen(QPen(QColor(colours.quiet), 0.8))
                painter.setBrush(QColor.fromRgb(int(pixels[index])))
            painter.drawPolygon(self._block(first, first + share * pitch, tall))
            if not absent and table.seen[index] < 0.97:
                # A tooth that is not always seen is crossed through.
                painter.setPen(QPen(QColor(colours.mark), 1.4))
                painter.drawLine(self.point(first, ROOT), self.point(first + share * pitch, ROOT + (TIP - ROOT) * tall))

    def _paint_expected(self, painter: QPainter, index: int, pitch: float, coil: bool) -> None:
        """The same tooth of the known-good wheel, as a thin outline behind."""
        table = self.drawing.table
        late = table.phase_error[index] - table.phase_error_against[index]
        size = table.size[index] - table.size_against[index]
        share = 0.5 if coil else float(np.clip(0.5 * size, 0.08, 0.92))
        first = table.angle_deg[index] + late / 100 * pitch - (0.5 * share * pitch if coil else 0.0)
        painter.setPen(QPen(QColor(theme.current().sound), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(self._block(first, first + share * pitch, (size if coil else 1.0) + 0.12))

    def _paint_numbers(self, painter: QPainter) -> None:
        colours, reading = theme.current(), self.drawing.reading
        slots, pitch = reading.wheel.slots, reading.wheel.pitch_deg
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        step = next(value for value in (1, 2, 5, 10, 20, 50, 100) if slots / value <= 24)
        for number in sorted({1, *range(step, slots - reading.wheel.missing + 1, step)} - set(self.drawing.teeth)):
            at = self.point((number - 1 + 0.2) * pitch, HUB + 0.07)
            painter.drawText(QRectF(at.x() - 14, at.y() - 8, 28, 16), Qt.AlignmentFlag.AlignCenter, str(number))
        self._paint_flags(painter)

    def _paint_flags(self, painter: QPainter) -> None:
        """Flags stand in the corners that a round drawing leaves free, each with a line to its tooth."""
        pitch = self.drawing.reading.wheel.pitch_deg
        painter.setFont(theme.font(9, bold=True))
        stacked = dict.fromkeys(((right, low) for right in (False, True) for low in (False, True)), 0)
        for number, label in self.drawing.teeth.items():
            turned = np.radians((number - 0.75) * pitch)
            corner = bool(np.sin(turned) >= 0), bool(np.cos(turned) < 0)
            row, stacked[corner] = stacked[corner], stacked[corner] + 1
            # The words about colours stand in the lower left corner.
            top = self.height() - 22 - 22 * row - (0 if corner[0] else 38) if corner[1] else 4 + 22 * row
            x = self.width() - 2 if corner[0] else 2
            tip = self.point((number - 0.75) * pitch, TIP + 0.02)
            painter.setPen(QPen(QColor(theme.current().mark), 1.4))
            painter.drawLine(QPointF(x + (-24 if corner[0] else 24), top + 9), tip)
            self.paint_flag(painter, number, label, QPointF(x, top), 2, self.width() - 2)

    def _paint_pointer(self, painter: QPainter) -> None:
        place = self.drawing.reading.place(self._pointer) if self._pointer is not None else None
        if place is None:
            return
        painter.setPen(QPen(QColor(theme.current().accent), 2))
        painter.drawLine(self.point(place[0], HUB), self.point(place[0], 0.9))

    def _paint_middle(self, painter: QPainter) -> None:
        colours, reading = theme.current(), self.drawing.reading
        speed = reading.speed_range()
        lines = [usual_name(reading.wheel), tr("{whole} turns", whole=len(reading.teeth.whole))]
        if speed:
            lines.append(tr("{median:.0f} rpm", median=speed["median"]))
        if reading.teeth.alike and len(reading.teeth.anchors):
            lines.append(tr("gap sure {alike:.0f} %", alike=100 * reading.teeth.alike))
        middle = self.middle()
        # As many lines as the hub has room for, so that none lies over the numbers of the teeth.
        lines = lines[: max(1, int((self.reach() * (HUB + 0.08) + 30) / 20) - 1)]
        for index, line in enumerate(lines):
            painter.setPen(QColor(colours.ink if index == 0 else colours.quiet))
            painter.setFont(theme.font_for(line, 2 * self.reach() * HUB, 13 if index == 0 else 9, bold=index == 0))
            box = QRectF(middle.x() - self.reach() * HUB, middle.y() - 30 + 20 * index, 2 * self.reach() * HUB, 20)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, line)
        told = tr("clockwise; blue early or less, orange late or more")
        painter.setFont(theme.font_for(told, self.width() - 16, 8.5))
        painter.drawText(QRectF(8, self.height() - 20, self.width() - 16, 16), Qt.AlignmentFlag.AlignLeft, told)
        if self.drawing.table.has_pattern:
            painter.setPen(QColor(colours.sound))
            painter.drawText(
                QRectF(8, self.height() - 36, self.width() - 16, 16),
                Qt.AlignmentFlag.AlignLeft,
                tr("outline: known-good"),
            )

    # hands --------------------------------------------------------------------------------

    def words_at(self, number: int) -> str:
        table, index = self.drawing.table, number - 1
        if number > self.drawing.reading.wheel.slots - self.drawing.reading.wheel.missing:
            return tr(
                "slot {number}, {index:.1f}°: part of the reference gap", number=number, index=table.angle_deg[index]
            )
        if not np.isfinite(table.phase_error[index]):
            return tr("tooth {number}, {index:.1f}°: not seen", number=number, index=table.angle_deg[index])
        reading = self.drawing.reading
        return tr(
            "tooth {number}, {index:.1f}°: {it}, wandering ±{index_2:.1f} %; {it_2}",
            number=number,
            index=table.angle_deg[index],
            it=in_words("phase_error", table.phase_error[index], reading),
            index_2=table.wander[index],
            it_2=in_words("size", 100 * (table.size[index] - 1), reading),
        )

    def time_of(self, number: int) -> float | None:
        """When that tooth came in the turn that the pointer is in, else in the first."""
        teeth = self.drawing.reading.teeth
        same = np.flatnonzero(teeth.number == number)
        if not len(same):
            return None
        now = self._pointer if self._pointer is not None else 0.0
        return float(teeth.times[same[np.abs(teeth.times[same] - now).argmin()]])
