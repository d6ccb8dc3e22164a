"""Replacing what leads now against one more check first: what each is expected to cost, as bars on one scale."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from sagen.desk.theme import theme
from sagen.desk.theme.plain import plain_tip
from sagen.model.language import titled, tr
from sagen.reason.decide import ReplaceOrCheck, Way

ROW, HEAD = 24, 22  #: px of a way, and of the line over them
NAME = 0.48  #: share of the width that a name may take; the figures have what they need, the bar what is left
LEAST_BAR = 80  #: px
MOST = 4


def _named(way: Way) -> str:
    return titled(way.name)


class WayBars(QWidget):
    """A bar a way: from the low to the high end of its cost, with a mark at what is expected; the cheapest first."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.told: ReplaceOrCheck | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.hide()

    def show_ways(self, told: ReplaceOrCheck | None) -> None:
        self.told = told
        self.setVisible(told is not None)
        self.setAccessibleName(told.text if told is not None else "")
        marks = tr("From the low to the high end of what is not known, with a mark at what is expected.")
        self.setToolTip(plain_tip(f"{told.text}\n\n{marks}" if told is not None else marks))
        self.updateGeometry()
        self.update()

    @property
    def shown(self) -> tuple[Way, ...]:
        return self.told.ways[:MOST] if self.told is not None else ()

    def sizeHint(self) -> QSize:
        notes = ROW if self.told is not None and self.told.missing else 0
        return QSize(400, HEAD + ROW * len(self.shown) + notes)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def figures(self, way: Way) -> str:
        """A way's cost and risk, as they stand at the end of its row."""
        unit = " min" if self.told is not None and self.told.unit else ""
        return tr(
            "{cost:,.0f}{unit} ({low:,.0f} to {high:,.0f}), wrong in {wrong:.0f} %",
            cost=way.cost,
            unit=unit,
            low=way.low,
            high=way.high,
            wrong=100 * way.wrong,
        )

    def paintEvent(self, _event) -> None:
        if self.told is None:
            return
        look, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        measure = QFontMetrics(theme.font(9.5, bold=True))
        figures = 6 + max(measure.horizontalAdvance(self.figures(way)) for way in self.shown)
        longest = 6 + max(measure.horizontalAdvance(_named(way)) for way in self.shown)
        name = max(min(longest, int(NAME * self.width()), self.width() - figures - LEAST_BAR - 24), 60)
        left, room = name + 10, max(self.width() - name - figures - 24, LEAST_BAR // 2)
        most = max(way.high for way in self.shown) or 1.0
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(QColor(look.quiet))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(
            0, 0, self.width(), HEAD, middle, tr("REPAIR NOW, OR CHECK FIRST: what each is expected to take")
        )
        for at, way in enumerate(self.shown):
            top = HEAD + at * ROW
            painter.setFont(theme.font(9.5, bold=at == 0))
            painter.setPen(QColor(look.ink))
            words = painter.fontMetrics().elidedText(_named(way), Qt.TextElideMode.ElideRight, name)
            painter.drawText(0, top, name, ROW, middle, words)
            painter.drawText(self.width() - figures, top, figures, ROW, middle, self.figures(way))
            low, high, here = (left + int(room * value / most) for value in (way.low, way.high, way.cost))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(look.accent if at == 0 else look.line))
            painter.drawRoundedRect(low, top + 7, max(high - low, 4), ROW - 14, 3, 3)
            painter.setPen(QPen(QColor(look.ink), 2))
            painter.drawLine(here, top + 4, here, top + ROW - 4)
        if self.told.missing:
            painter.setFont(theme.font(9))
            painter.setPen(QColor(look.quiet))
            painter.drawText(0, HEAD + ROW * len(self.shown), self.width(), ROW, middle, self.told.not_counted)
