"""The plug's face: pins in rows as seen from one side."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.model.machine_card import CardCircuit
from sagen.model.words import WIRES


class PlugFace(QWidget):
    """The plug's face: pins in rows as seen from one side, each with its wire's colour and what it carries."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.circuit: CardCircuit | None = None
        self.side = "harness"
        self.setMinimumSize(190, 96)
        self.setAccessibleName(tr("The plug's face"))

    def show_circuit(self, circuit: CardCircuit | None) -> None:
        self.circuit = circuit
        self.update()

    def turn(self) -> None:
        """Show it from the other side."""
        self.side = "sensor" if self.side == "harness" else "harness"
        self.update()

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(colours.raised))
        rows = [row for row in (self.circuit.seen_from(self.side) if self.circuit else ()) if row]
        painter.setPen(QColor(colours.quiet))
        painter.setFont(theme.font(8.5))
        view = tr("harness plug, looked into") if self.side == "harness" else tr("sensor's plug, looked into")
        painter.drawText(QRectF(0, self.height() - 18, self.width(), 16), Qt.AlignmentFlag.AlignCenter, view)
        if not rows:
            painter.drawText(
                QRectF(0, 0, self.width(), self.height() - 18), Qt.AlignmentFlag.AlignCenter, tr("no pins yet")
            )
            return
        most = max(len(row) for row in rows)
        box = QRectF(8, 6, self.width() - 16, self.height() - 28)
        painter.setPen(QPen(QColor(colours.quiet), 1.6))
        painter.setBrush(QColor(colours.pane))
        painter.drawRoundedRect(box, 8, 8)
        wide, tall = box.width() / most, box.height() / len(rows)
        for r, row in enumerate(rows):
            for c, pin in enumerate(row):
                cell = QRectF(box.left() + c * wide + 3, box.top() + r * tall + 3, wide - 6, tall - 6)
                self._pin(painter, cell, pin)

    def _pin(self, painter: QPainter, cell: QRectF, pin: str) -> None:
        colours = theme.current()
        wire = next((item for item in self.circuit.wire if item.sensor_pin == pin), None)
        painter.setPen(QPen(QColor(colours.line), 1))
        painter.setBrush(QColor(colours.raised))
        painter.drawRoundedRect(cell, 5, 5)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(11, bold=True))
        third = cell.height() / 3
        painter.drawText(QRectF(cell.left(), cell.top(), cell.width(), third), Qt.AlignmentFlag.AlignCenter, pin)
        if wire is not None:
            for at, text in ((1, WIRES[wire.carries]), (2, wire.colour)):
                painter.setFont(theme.font_for(text, cell.width() - 2, 8.5))
                line = QRectF(cell.left(), cell.top() + at * third, cell.width(), third)
                painter.drawText(line, Qt.AlignmentFlag.AlignCenter, text)
