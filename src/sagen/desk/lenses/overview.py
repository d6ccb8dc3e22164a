"""The whole capture as a thin strip above the picture."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.lenses.strip import StripView
from sagen.desk.theme import theme
from sagen.desk.theme.roles import role_colour
from sagen.model.language import tr
from sagen.report.scene import Strip


class Overview(QWidget):
    """The whole capture as a thin strip: its first signal, what was found, and which part of it is in sight."""

    moved = Signal(float)  #: s, the middle of what is wanted in sight
    HEIGHT = 30

    def __init__(self, view: StripView, parent: QWidget | None = None):
        super().__init__(parent)
        self.of = view
        self.setFixedHeight(self.HEIGHT)
        self.setAccessibleName(tr("The whole capture; press to drawing there"))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._ground: tuple[object, QImage] | None = None
        view.view_changed.connect(self.update)

    def paintEvent(self, _event) -> None:
        colours, painter, strip = theme.current(), QPainter(self), self.of.strip
        painter.fillRect(self.rect(), QColor(colours.raised))
        if strip is None or not strip.lanes:
            return
        painter.drawImage(0, 0, self._picture(strip))
        mark = QColor(colours.mark)
        for this_mark in strip.marks:
            for start, end in this_mark.spans:
                x0, x1 = self._x(start), self._x(end)
                painter.fillRect(QRectF(x0, 0, max(x1 - x0, 2.0), 5), mark)
        seen = QRectF(self._x(self.of.view.start), 1, 0, self.height() - 2)
        seen.setRight(max(self._x(self.of.view.end), seen.left() + 4))
        veil = QColor(colours.ground)
        veil.setAlpha(150)
        painter.fillRect(QRectF(0, 0, seen.left(), self.height()), veil)
        painter.fillRect(QRectF(seen.right(), 0, self.width() - seen.right(), self.height()), veil)
        painter.setPen(QPen(QColor(colours.accent), 2))
        painter.drawRect(seen)

    def _x(self, time_s: float) -> float:
        return self.width() * time_s / self.of.strip.seconds

    def _picture(self, strip: Strip) -> QImage:
        """The waveform of the first lane, drawn once for each capture, size and colours."""
        key = (self.width(), theme.current().name)
        if self._ground is None or self._ground[0] is not strip or self._ground[1] != key:
            image = QImage(self.size(), QImage.Format.Format_RGB32)
            image.fill(QColor(theme.current().raised))
            lane, wide, tall = strip.lanes[0], self.width(), self.height()
            low, high = strip.columns(lane, 0.0, strip.seconds, wide)
            scale = (tall - 12) / (lane.top - lane.bottom)
            a, b = 8 + (lane.top - high) * scale, 8 + (lane.top - low) * scale
            painter = QPainter(image)
            painter.setPen(QPen(role_colour(lane.role), 1))
            shown = np.flatnonzero(np.isfinite(a) & np.isfinite(b))
            painter.drawLines([QLineF(float(x), float(a[x]), float(x), float(b[x]) + 1.0) for x in shown])
            painter.end()
            self._ground = (strip, key, image)
        return self._ground[2]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._go(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event)

    def _go(self, event: QMouseEvent) -> None:
        if self.of.strip is not None:
            self.moved.emit(self.of.strip.seconds * event.position().x() / max(self.width(), 1))
