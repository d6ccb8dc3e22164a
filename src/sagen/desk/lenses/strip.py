"""The Strip lens: channels over time, under the user's hands. What it shows is painted by `strip_painter`."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from sagen.desk.lenses.strip_painter import Frame, StripPainter, View
from sagen.model.language import tr
from sagen.report.scene import Strip

CLOSEST_SAMPLES = 8.0
ZOOM = 1.35
SNAP = 9  #: px within which a cursor jumps to an edge


class StripView(QWidget):
    """Draws a strip; pans, zooms, and carries two measuring cursors, A and B."""

    cursor_moved = Signal(object)  #: Place under the pointer, or None
    measured = Signal()  #: A or B was set
    view_changed = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.strip: Strip | None = None
        self.view = View()
        self._painter = StripPainter()
        self._drag: QPointF | None = None
        self._pointer: float | None = None
        self._moved = False
        self.next_cursor = "A"
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 180)
        self.setAccessibleName(tr("Strip: channels over time"))

    # what is shown ------------------------------------------------------------------------

    def show_strip(self, strip: Strip | None) -> None:
        self.strip = strip
        self._pointer = None
        self.next_cursor = "A"
        self.fit()

    def open_at_what_was_found(self) -> None:
        """The stretch that a capture opens at."""
        if self.strip is not None:
            self._look_at(*self.strip.opening())

    def fit(self) -> None:
        """The whole capture."""
        self._look_at(0.0, self.strip.seconds if self.strip else 1.0)

    def zoom(self, factor: float, about_s: float | None = None) -> None:
        """Show a stretch `factor` times as long, keeping the time `about_s` where it is."""
        if self.strip is None:
            return
        about = self.view.start + 0.5 * self.view.span if about_s is None else about_s
        share = (about - self.view.start) / self.view.span
        span = float(np.clip(self.view.span * factor, CLOSEST_SAMPLES / self.strip.sfreq, self.strip.seconds))
        self._look_at(about - share * span, about + (1 - share) * span)

    def pan(self, share: float) -> None:
        """Move by a share of what is shown; positive looks later."""
        step = share * self.view.span
        self._look_at(self.view.start + step, self.view.end + step)

    def look_at_span(self, start_s: float, end_s: float, around: float = 8.0) -> None:
        """Bring a stretch to the middle with `around` times its length in sight."""
        reach = max((end_s - start_s) * around, 24 / (self.strip.sfreq if self.strip else 1.0)) / 2
        middle = 0.5 * (start_s + end_s)
        self._look_at(middle - reach, middle + reach)

    def snapped(self, time_s: float, lane: int | None = None) -> float:
        """The nearest edge within reach of a finger, of one lane or of any; else the time itself."""
        reach = SNAP * self.view.span / max(self.plot_rect().width(), 1.0)
        best = None
        if lane is not None and self.strip.lanes[lane].reading is None:
            lane = None
        for index, this_lane in enumerate(self.strip.lanes):
            if this_lane.reading is None or (lane is not None and index != lane) or not len(this_lane.reading.edges):
                continue
            at = this_lane.reading.edges.at
            place = int(np.searchsorted(at, time_s * self.strip.sfreq))
            for near in at[max(place - 1, 0) : place + 1] / self.strip.sfreq:
                if abs(near - time_s) <= reach and (best is None or abs(near - time_s) < abs(best - time_s)):
                    best = float(near)
        return time_s if best is None else best

    def set_pointer(self, time_s: float | None) -> None:
        """Show the shared pointer, put there by another lens."""
        self._pointer = time_s
        self.update()

    def set_cursor_at(self, name: str, time_s: float | None) -> None:
        if self.strip is None:
            return
        if time_s is None:
            self.strip.cursors.pop(name, None)
        else:
            self.strip.cursors[name] = float(np.clip(time_s, 0.0, self.strip.seconds))
        self.measured.emit()
        self.update()

    def _look_at(self, start: float, end: float) -> None:
        length = self.strip.seconds if self.strip else 1.0
        span = min(end - start, length)
        start = float(np.clip(start, 0.0, length - span))
        self.view = View(start, start + span)
        self.view_changed.emit()
        self.update()

    # geometry -----------------------------------------------------------------------------

    def frame(self) -> Frame:
        """What is shown now, and where."""
        return Frame(self.strip, self.view, self.size())

    def plot_rect(self) -> QRectF:
        return self.frame().plot_rect()

    def x_of(self, time_s: float) -> float:
        return self.frame().x_of(time_s)

    def time_at(self, x: float) -> float:
        return self.frame().time_at(x)

    def paintEvent(self, _event) -> None:
        self._painter.paint(self, self.frame(), self._pointer)

    # hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drag, self._moved = event.position(), False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.strip is None:
            return
        if self._drag is not None and event.buttons() & Qt.MouseButton.LeftButton:
            shift = event.position().x() - self._drag.x()
            if abs(shift) > 3 or self._moved:
                self._moved = True
                self._drag = event.position()
                self.pan(-shift / self.plot_rect().width())
                return
        self._point_at(float(np.clip(self.time_at(event.position().x()), 0.0, self.strip.seconds)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        # A press without a drag sets a cursor: first A, then B, then A again. A finger can do it too.
        pressed = self.strip is not None and self._drag is not None and not self._moved
        if pressed and self.plot_rect().contains(event.position()):
            lane = next(
                (i for i, lane_rect in enumerate(self.frame().lane_rects()) if lane_rect.contains(event.position())),
                None,
            )
            at = self.time_at(event.position().x())
            free = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.set_cursor_at(self.next_cursor, at if free else self.snapped(at, lane))
            self.next_cursor = "B" if self.next_cursor == "A" else "A"
        self._drag = None

    def mouseDoubleClickEvent(self, _event) -> None:
        self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or event.angleDelta().x():
            self.pan(-(event.angleDelta().x() or event.angleDelta().y()) / 1200)
        else:
            self.zoom(ZOOM ** (-event.angleDelta().y() / 120), self.time_at(event.position().x()))
        event.accept()

    def leaveEvent(self, _event) -> None:
        self._pointer = None
        self.cursor_moved.emit(None)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        steps = {
            Qt.Key.Key_Left: -0.1,
            Qt.Key.Key_Right: 0.1,
            Qt.Key.Key_PageUp: -0.9,
            Qt.Key.Key_PageDown: 0.9,
        }
        if key in steps:
            self.pan(steps[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Up):
            self.zoom(1 / ZOOM, self._pointer)
        elif key in (Qt.Key.Key_Minus, Qt.Key.Key_Down):
            self.zoom(ZOOM, self._pointer)
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_0):
            self.fit()
        elif key in (Qt.Key.Key_A, Qt.Key.Key_B):
            at = self._pointer if self._pointer is not None else self.view.start + 0.5 * self.view.span
            free = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.set_cursor_at(chr(key), at if free else self.snapped(at))
        elif key == Qt.Key.Key_Escape and self.strip and self.strip.cursors:
            self.strip.cursors.clear()
            self.measured.emit()
            self.update()
        else:
            super().keyPressEvent(event)

    def _point_at(self, time_s: float) -> None:
        self._pointer = time_s
        self.cursor_moved.emit(self.strip.place(time_s))
        self.update()
