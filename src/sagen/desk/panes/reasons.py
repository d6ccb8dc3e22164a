"""The ledger of a suspect: each piece for or against it, with how strongly it speaks."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, plain_tip
from sagen.model.language import tr
from sagen.model.words import strength, times_likelier

if TYPE_CHECKING:
    from sagen.model.finding import Reason

#: a piece that speaks so strongly fills its half of the bar: one in thirty-two
FULL_BITS = 5.0


class ReasonBar(QWidget):
    """How strongly one piece speaks: to the right of the middle for it, to the left against."""

    def __init__(self, bits: float, parent=None):
        super().__init__(parent)
        self.share = max(-1.0, min(bits / FULL_BITS, 1.0))
        self.setFixedSize(54, 14)

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle, wide = self.width() / 2, (self.width() / 2 - 1) * abs(self.share)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colours.ground))
        painter.drawRoundedRect(QRectF(0, 4, self.width(), 6), 3, 3)
        painter.setBrush(QColor(colours.accent if self.share > 0 else colours.mark))
        painter.drawRect(QRectF(middle if self.share > 0 else middle - wide, 4, wide, 6))
        painter.setBrush(QColor(colours.ink))
        painter.drawRect(QRectF(middle - 0.5, 1, 1, 12))


class ReasonLine(QWidget):
    """One line of the ledger: its sign, how strongly it speaks as a bar and in words, and what was seen."""

    opened = Signal(object)  #: the record of the trail that this comes from

    def __init__(self, reason: Reason, parent=None):
        super().__init__(parent)
        text, bits, self.record = reason.text, reason.bits, reason.record
        lines = QVBoxLayout(self)
        lines.setContentsMargins(0, 0, 0, 2)
        lines.setSpacing(0)
        row = QHBoxLayout()
        row.setSpacing(6)
        sign = Label("+" if bits > 0 else "\u2212", name="sign")
        sign.setFixedWidth(12)
        how = Label(strength(bits), name="small")
        for item in (sign, ReasonBar(bits)):
            row.addWidget(item)
        row.addWidget(how, 1)
        self.text = Label(text, wrap=True)
        leads = tr("Press to see where it comes from") if self.record is not None else ""
        for item in (how, self.text):
            item.setToolTip(plain_tip(". ".join(filter(None, (times_likelier(bits), leads)))))
        if self.record is not None:
            self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setAccessibleName(f"{text} {leads}")
        lines.addLayout(row)
        lines.addWidget(self.text)

    def mouseReleaseEvent(self, event) -> None:
        if self.record is not None and self.rect().contains(event.position().toPoint()):
            self.opened.emit(self.record)

    def keyPressEvent(self, event) -> None:
        if self.record is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit(self.record)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event) -> None:
        if self.hasFocus():
            painter = QPainter(self)
            painter.setPen(QColor(theme.current().accent))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
