"""The circuit drawing: battery, fuse, feed, plug, sensor, module, return; every place a probe can go is a target."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.theme import theme
from sagen.desk.theme.roles import role_colour
from sagen.kinds import kind_of
from sagen.model.language import tr
from sagen.model.vocabulary import OHM_POINTS, Capability, Point, Role
from sagen.model.words import POINTS

#: places of the points (share of width and height)
PLACES = {
    Point.SUPPLY: (0.60, 0.20), Point.SIGNAL: (0.60, 0.50), Point.GROUND: (0.60, 0.80), Point.SENSOR: (0.885, 0.50),
    Point.SUPPLY_WIRE: (0.40, 0.20), Point.SIGNAL_WIRE: (0.40, 0.50), Point.GROUND_WIRE: (0.40, 0.80),
}  # fmt: skip
REACH = 24  #: px around a point that count as touching it


class CircuitView(QWidget):
    """Draws one circuit; a press or the arrow keys choose the point of the probe."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.spec, self.point, self.told, self.card = None, Point.SUPPLY, {}, None
        self.unplugged = self.pulled_up = False
        self.setMinimumSize(300, 150)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Circuit drawing with probe points"))

    def show_circuit(self, spec, told: dict[str, str], card=None) -> None:
        """`told` holds the last reading at each point, in words; `card` is the machine card's circuit, whose pins and
        colours are drawn, or None."""
        self.card = card

        self.spec, self.told = spec, told
        self.pulled_up = kind_of(spec.sensor).has(Capability.SWITCHES)
        if self.point not in self.points():
            self.choose(self.points()[0])
        self.update()

    def points(self) -> tuple[str, ...]:
        """The points that this kind of sensor has, in the order in which the keyboard walks through them."""
        if self.spec is None:
            return tuple(PLACES)
        return kind_of(self.spec.sensor).points(self.spec)

    def choose(self, point: str) -> None:
        self.point = point
        self.chosen.emit(point)
        self.update()

    def _at(self, point: str) -> QPointF:
        x, y = PLACES[point]
        return QPointF(x * self.width(), y * self.height())

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(colours.raised))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide, tall = self.width(), self.height()
        sensor = QRectF(0.80 * wide, 0.08 * tall, 0.17 * wide, 0.84 * tall)
        boxes = {
            tr("battery\nand fuse"): QRectF(0.02 * wide, 0.08 * tall, 0.15 * wide, 0.24 * tall),
            tr("module"): QRectF(0.02 * wide, 0.38 * tall, 0.15 * wide, 0.54 * tall),
            tr("sensor"): sensor,
        }
        points = self.points()
        wires = {
            "supply": role_colour(Role.SUPPLY),
            "signal": role_colour(Role.CRANK),
            "ground": role_colour(Role.GROUND),
        }
        for name, colour in wires.items():
            if (name == "supply" and name not in points) or (name == "ground" and name not in points):
                continue
            y = PLACES[name][1] * tall
            painter.setPen(QPen(QColor(colour), 3))
            painter.drawLine(QPointF(0.17 * wide, y), QPointF(0.57 * wide, y))
            right = Qt.PenStyle.DotLine if self.unplugged else Qt.PenStyle.SolidLine
            painter.setPen(QPen(QColor(colour), 3, right))
            painter.drawLine(QPointF(0.63 * wide, y), QPointF(0.80 * wide, y))
        self._paint_wires(painter)
        painter.setPen(QPen(QColor(colours.quiet), 1.4))
        painter.setBrush(QColor(colours.pane))
        painter.drawRoundedRect(QRectF(0.57 * wide, 0.10 * tall, 0.06 * wide, 0.80 * tall), 5, 5)
        for name, box in boxes.items():
            painter.setPen(QPen(QColor(colours.quiet), 1.4))
            painter.setBrush(QColor(colours.pane))
            painter.drawRoundedRect(box, 6, 6)
            painter.setPen(QColor(colours.ink))
            painter.setFont(theme.font_for(name, box.width() - 4, 9.5, bold=True))
            where = box if box is not sensor else QRectF(box.left(), box.top() + 6, box.width(), 18)
            painter.drawText(where, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, name)
        if self.spec is not None and self.pulled_up:
            painter.setFont(theme.font(8.5))
            painter.setPen(QColor(colours.quiet))
            pull = tr("pull-up\n{pull_up:g} V", pull_up=self.spec.pull_up) if self.spec.pull_up else tr("pull-up")
            painter.drawText(QRectF(0.02 * wide, 0.70 * tall, 0.15 * wide, 32), Qt.AlignmentFlag.AlignCenter, pull)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        painter.drawText(
            QRectF(0.52 * wide, 0.91 * tall, 0.16 * wide, 16),
            Qt.AlignmentFlag.AlignCenter,
            tr("plug, open") if self.unplugged else tr("plug"),
        )
        for point in points:
            self._paint_point(painter, point)

    def _paint_wires(self, painter: QPainter) -> None:
        """Colour and pins of each wire, as the card has them."""
        if self.card is None:
            return
        colours, wide, tall = theme.current(), self.width(), self.height()
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.ink))
        for carries in ("supply", "signal", "ground"):
            wire = self.card.wire_of(carries)
            if wire is None or carries not in self.points():
                continue
            y = PLACES[carries][1] * tall
            left = " ".join(
                item
                for item in (tr("pin {module_pin}", module_pin=wire.module_pin) if wire.module_pin else "", wire.fuse)
                if item
            )
            painter.drawText(QRectF(0.18 * wide, y - 18, 0.2 * wide, 15), Qt.AlignmentFlag.AlignLeft, left)
            painter.drawText(QRectF(0.42 * wide, y - 18, 0.15 * wide, 15), Qt.AlignmentFlag.AlignRight, wire.colour)
            pin = tr("pin {sensor_pin}", sensor_pin=wire.sensor_pin) if wire.sensor_pin else ""
            painter.drawText(QRectF(0.645 * wide, y - 18, 0.15 * wide, 15), Qt.AlignmentFlag.AlignLeft, pin)

    def _paint_point(self, painter: QPainter, point: str) -> None:
        colours, at, chosen = theme.current(), self._at(point), point == self.point
        painter.setPen(QPen(QColor(colours.accent), 2.4 if chosen else 1.6))
        painter.setBrush(QColor(colours.accent if chosen else colours.raised))
        radius = 11 if chosen else 8
        if point in OHM_POINTS:
            painter.drawRoundedRect(QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius), 4, 4)
            painter.setPen(QColor(colours.on_accent if chosen else colours.accent))
            painter.setFont(theme.font(8.5, bold=True))
            painter.drawText(QRectF(at.x() - 12, at.y() - 9, 24, 18), Qt.AlignmentFlag.AlignCenter, "Ω")
        else:
            painter.drawEllipse(at, radius, radius)
            painter.setPen(QColor(colours.on_accent if chosen else colours.accent))
            painter.setFont(theme.font(8.5, bold=True))
            painter.drawText(QRectF(at.x() - 12, at.y() - 9, 24, 18), Qt.AlignmentFlag.AlignCenter, "V")
        told = self.told.get(point, "")
        if told:
            painter.setFont(theme.font(8.5, bold=True))
            wide = painter.fontMetrics().horizontalAdvance(told) + 10
            plate = QRectF(at.x() - wide / 2, at.y() + 14, wide, 17)
            painter.setPen(QPen(QColor(colours.line), 1))
            painter.setBrush(QColor(colours.raised))
            painter.drawRoundedRect(plate, 4, 4)
            painter.setPen(QColor(colours.ink))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, told)
        if self.hasFocus() and chosen:
            painter.setPen(QPen(QColor(colours.ink), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 16, 16)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        near = [
            (this_point, (self._at(this_point) - event.position()).manhattanLength()) for this_point in self.points()
        ]
        point, away = min(near, key=lambda item: item[1])
        if away < 2 * REACH:
            self.choose(point)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        near = [
            (this_point, (self._at(this_point) - event.position()).manhattanLength()) for this_point in self.points()
        ]
        point, away = min(near, key=lambda item: item[1])
        self.setToolTip(POINTS[point] if away < 2 * REACH else "")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1}.get(event.key())
        if step is None:
            super().keyPressEvent(event)
            return
        points = self.points()
        self.choose(points[(points.index(self.point) + step) % len(points)])
