"""A small drawing of the engine from above: where bank 1, bank 2, intake and exhaust are, and which sensor is meant."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.theme import theme
from sagen.model.language import tr, worded

#: usual firing orders by cylinders and banks (common practice, no published source); the maker's counts
FIRING = {
    (2, 1): "1-2", (3, 1): "1-2-3", (4, 1): "1-3-4-2", (5, 1): "1-2-4-5-3", (6, 1): "1-5-3-6-2-4", (8, 1): "1-6-2-5-8-3-7-4",
    (6, 2): "1-2-3-4-5-6", (8, 2): "1-8-7-2-6-5-4-3",
}  # fmt: skip


class EngineView(QWidget):
    """Straight with one bank, vee with two (a press changes it); front at the left, cylinder 1 in bank 1."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.cylinders, self.banks, self.spec = 4, 1, None
        self.setMinimumSize(150, 90)
        self.setAccessibleName(tr("Engine from above"))

    def show_engine(self, cylinders: int, banks: int, spec) -> None:
        self.cylinders, self.banks, self.spec = max(1, cylinders or 4), max(1, banks), spec
        self.setToolTip(
            tr(
                "Bank 1 is the side with cylinder 1; position A is intake, B exhaust. The maker's firing order "
                "counts. Press: straight or vee."
            )
        )
        self.update()

    def mouseReleaseEvent(self, _event) -> None:
        """Straight or vee: a press changes the drawing."""
        self.banks = 1 if self.banks > 1 else 2
        self.update()

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(colours.raised))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(54, 22, self.width() - 84, self.height() - 44)
        painter.setPen(QPen(QColor(colours.line), 1.4))
        painter.setBrush(QColor(colours.pane))
        painter.drawRoundedRect(box, 6, 6)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        painter.drawText(QRectF(2, box.center().y() - 8, 50, 16), Qt.AlignmentFlag.AlignRight, tr("front"))
        rows = min(self.banks, 2)
        each = -(-self.cylinders // rows)
        tall = box.height() / rows
        for bank in range(rows):
            top = box.top() + (rows - 1 - bank) * tall
            middle = top + tall / 2
            for place in range(each):
                number = place * rows + bank + 1 if rows == 2 else place + 1
                if number > self.cylinders:
                    break
                radius = min(tall * 0.3, box.width() / each * 0.36)
                at = QPointF(box.left() + (place + 0.5) * box.width() / each, middle)
                first = number == 1
                painter.setPen(QPen(QColor(colours.accent if first else colours.quiet), 2.0 if first else 1.2))
                painter.setBrush(QColor(colours.raised))
                painter.drawEllipse(at, radius, radius)
                if first:
                    painter.drawText(QRectF(at.x() - 10, at.y() - 8, 20, 16), Qt.AlignmentFlag.AlignCenter, "1")
            painter.setPen(QColor(colours.quiet))
            under = QRectF(box.left(), middle + radius + 2, box.width(), 16)
            painter.drawText(under, Qt.AlignmentFlag.AlignCenter, tr("bank {bank}", bank=bank + 1))
        order = FIRING.get((self.cylinders, rows))
        if order:
            under = QRectF(2, self.height() - 19, self.width() - 4, 16)
            told = tr("fires {order}, usually", order=order)
            whole = painter.fontMetrics().horizontalAdvance(told) <= under.width()
            painter.drawText(under, Qt.AlignmentFlag.AlignCenter, told if whole else order)
        self._mark(painter, box, rows, tall)

    def _mark(self, painter: QPainter, box: QRectF, rows: int, tall: float) -> None:
        """The sensor that the job is about."""
        spec, colours = self.spec, theme.current()
        if spec is None:
            return
        bank = min((spec.bank or 1), rows) - 1
        top = box.top() + (rows - 1 - bank) * tall
        intake_up = bank == 0 if rows == 2 else True
        side = {
            "intake": top + (tall * 0.06 if not intake_up else tall * 0.94),
            "exhaust": top + (tall * 0.94 if not intake_up else tall * 0.06),
        }
        at = {
            "crank": QPointF(box.right() - 10, box.center().y()),
            "cam": QPointF(box.left() + 12, side.get(spec.position or "intake", top + tall / 2)),
            "knock": QPointF(box.center().x(), top + tall / 2),
            "speed": QPointF(box.right() + 14, box.bottom() + 8),
        }[spec.role]
        painter.setPen(QPen(QColor(colours.mark), 2.4))
        painter.setBrush(QColor(colours.mark))
        painter.drawEllipse(at, 5, 5)
        painter.setFont(theme.font(8.5, bold=True))
        where = {
            "crank": tr("crank sensor"),
            "cam": tr(
                "cam sensor, {position} {position_2}",
                position=worded(spec.position or "bank"),
                position_2="" if spec.position else spec.bank or 1,
            ),
            "knock": tr("knock sensor"),
            "speed": tr("speed sensor"),
        }
        text = where[spec.role]
        wide = painter.fontMetrics().horizontalAdvance(text) + 6
        x = min(max(at.x() - wide / 2, 2), self.width() - wide - 2)
        painter.drawText(QRectF(x, 3, wide, 15), Qt.AlignmentFlag.AlignCenter, text)
