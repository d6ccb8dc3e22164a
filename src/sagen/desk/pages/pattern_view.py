"""A look at a known-good capture before it is laid under another: a turn or two of each sensor, and where it is from."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.casework.shelf import PatternLook
from sagen.desk.lenses.panel import column_line
from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.model.words import said_volts

MARGIN, HEAD, HIGH = 10, 22, 128


class PatternView(QWidget):
    """Draws what `show_look` was given, a lane a sensor."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.look: PatternLook | None = None
        self.setFixedHeight(HIGH)
        self.setAccessibleName(tr("The chosen known-good capture"))

    def show_look(self, look: PatternLook | None) -> None:
        self.look = look
        self.setVisible(look is not None)
        self.setAccessibleDescription(look.said if look is not None else "")
        self.update()

    def paintEvent(self, _event) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(QColor(look.line), 1.0))
        painter.setBrush(QColor(look.raised))
        painter.drawRoundedRect(frame, 6, 6)
        if self.look is None:
            return
        painter.setFont(theme.font(9))
        painter.setPen(QColor(look.quiet))
        wide = int(frame.width() - 2 * MARGIN)
        said = painter.fontMetrics().elidedText(self.look.said, Qt.TextElideMode.ElideRight, wide)
        painter.drawText(QPointF(MARGIN, HEAD - 6), said)
        lanes = self.look.lanes
        each = (frame.height() - HEAD - MARGIN) / max(len(lanes), 1)
        for at, lane in enumerate(lanes):
            plot = QRectF(MARGIN + 110, HEAD + at * each + 4, wide - 110, each - 8)
            painter.setPen(QColor(look.ink))
            painter.drawText(QPointF(MARGIN, plot.top() + 12), lane.name)
            painter.setPen(QColor(look.quiet))
            ends = (
                tr("{least} to {most}", least=said_volts(lane.least), most=said_volts(lane.most))
                if lane.unit == "V"
                else tr("to {most:.3g} {unit}", most=lane.most, unit=lane.unit)
            )
            painter.drawText(QPointF(MARGIN, plot.top() + 27), ends)
            painter.setPen(QPen(QColor(look.sound), 1.3))
            painter.drawPolyline(column_line(lane.low, lane.high, (lane.least, lane.most), plot))
