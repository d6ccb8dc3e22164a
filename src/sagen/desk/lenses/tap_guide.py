"""What has been tapped, by place and load, what is still missing, and how to tap."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.lenses.panel import short
from sagen.desk.theme import theme
from sagen.kinds.piezo.verdict import TapVerdict
from sagen.kinds.piezo.words import gap_words, load_words
from sagen.model.language import lowered, tr
from sagen.model.words import struck_at

ENOUGH = 4  #: strikes at a place under a load, from which on it counts as tapped
CAUTION = tr(
    "Light and short, on solid metal: never on a sensor, a cover or a cast bracket. Torque as stated, and nothing "
    "loosened between two tries."
)


def paint_guide(painter: QPainter, area: QRectF, verdict: TapVerdict | None) -> None:
    """What has been tapped, by place and load, as a table of counts; what is still missing; and how to tap."""
    colours = theme.current()
    loads = list(verdict.fit.loads) if verdict else []
    places = list(verdict.fit.places) if verdict else []
    rows = [(tr("open"), [at for at, load in enumerate(loads) if load.connection == "unplugged"])]
    rows += [
        (load_words(load.connection, load.ohm), [at]) for at, load in enumerate(loads) if load.connection == "loaded"
    ] or [(tr("20 to 50 k"), [])]
    rows += [(tr("plugged in"), [at for at, load in enumerate(loads) if load.plugged])]
    rows += (
        [(tr("not stated"), [at for at, load in enumerate(loads) if not load.connection])]
        if any(not load.connection for load in loads)
        else []
    )
    columns = [(struck_at(this_place) or tr("not stated"), at) for at, this_place in enumerate(places)][:4]
    columns += [(tr("place {columns}", columns=len(columns) + 1), None)] * max(0, 2 - len(columns))
    painter.setFont(theme.font(8.5, bold=True))
    said = tr("Tapped so far")
    names = 4.0 + max(
        80, *(painter.fontMetrics().horizontalAdvance(item) for item in (said, *(name for name, _ in rows)))
    )
    left, wide = area.left() + names, min(96.0, (0.5 * area.width() - names) / len(columns))
    tall = min(24.0, (area.height() - 22) / len(rows))
    painter.setPen(QColor(colours.ink))
    painter.drawText(QRectF(area.left(), area.top(), names, 16), Qt.AlignmentFlag.AlignLeft, said)
    painter.setFont(theme.font(8.5))
    for at, (name, _) in enumerate(columns):
        painter.drawText(
            QRectF(left + at * wide, area.top(), wide, 16), Qt.AlignmentFlag.AlignHCenter, short(name, wide)
        )
    for row, (name, which) in enumerate(rows):
        y = area.top() + 20 + row * tall
        painter.setPen(QColor(colours.ink))
        painter.drawText(
            QRectF(area.left(), y, names - 4, tall - 3),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            name,
        )
        for at, (_, place) in enumerate(columns):
            many = (
                int(verdict.fit.offered[:, which, place].max(initial=0))
                if verdict and which and place is not None
                else 0
            )
            cell = QRectF(left + at * wide + 2, y, wide - 4, tall - 3)
            done = many >= ENOUGH
            painter.setPen(
                QPen(
                    QColor(colours.sound if done else colours.line),
                    1.5,
                    Qt.PenStyle.SolidLine if many else Qt.PenStyle.DotLine,
                )
            )
            painter.drawRect(cell)
            painter.setPen(QColor(colours.sound if done else colours.quiet))
            words = f"\u2713 {many}" if done else tr("{many} of 6", many=many) if many else "\u2013"
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, words)
    told = (
        [gap_words(gap) for gap in verdict.gaps]
        if verdict
        else [tr("Tap from two places, open, under 20 to 50 kilohm, and plugged in.")]
    )
    room = QRectF(
        left + len(columns) * wide + 14, area.top(), area.right() - left - len(columns) * wide - 14, area.height()
    )
    painter.setFont(theme.font(9, bold=True))
    painter.setPen(QColor(colours.mark if verdict and verdict.gaps else colours.sound))
    first = (
        tr("Missing: {told}.", told=lowered(told[0])) if told else tr("Sensor, place and circuit can be told apart.")
    )
    used = painter.boundingRect(room, Qt.TextFlag.TextWordWrap, first)
    painter.drawText(room, Qt.TextFlag.TextWordWrap, first)
    painter.setFont(theme.font(8.5))
    painter.setPen(QColor(colours.quiet))
    rest = room.adjusted(0, used.height() + 4, 0, 0)
    more = tr(" Then: {told}.", told=told[1]) if len(told) > 1 else ""
    painter.drawText(rest, Qt.TextFlag.TextWordWrap, CAUTION + more)


class TapGuide(QWidget):
    """The same table by itself, for a form that asks for the next capture of taps."""

    def __init__(self, verdict: TapVerdict | None, parent: QWidget | None = None):
        super().__init__(parent)
        self.verdict = verdict
        self.setMinimumHeight(130)
        self.setMinimumWidth(600)
        self.setAccessibleName(tr("What has been tapped, and what is still missing"))

    def paintEvent(self, _event) -> None:
        painter = QPainter(self)
        paint_guide(painter, QRectF(2, 2, self.width() - 4, self.height() - 4), self.verdict)
