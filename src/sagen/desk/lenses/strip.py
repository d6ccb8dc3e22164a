"""The Strip lens: channels over time, drawn by our own raster over a min/max pyramid."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from sagen.desk.look import theme
from sagen.report.scene import Lane, Strip
from sagen.signal.axis import nice_step

LEFT, RIGHT, TOP, BOTTOM = 62, 10, 42, 30
GAP = 10
CLOSEST_SAMPLES = 8.0
ZOOM = 1.35
SNAP = 9  #: px within which a cursor jumps to an edge


@dataclass
class View:
    """What the strip shows, in s."""

    start: float = 0.0
    end: float = 1.0

    @property
    def span(self) -> float:
        return self.end - self.start


def _two_lines(name: str) -> str:
    """A channel's name for the narrow margin: a word a line."""
    return "\n".join(word[:9] for word in name.split()[:2])


class StripView(QWidget):
    """Draws a strip; pans, zooms, and carries two measuring cursors, A and B."""

    cursor_moved = Signal(object)  #: Place under the pointer, or None
    measured = Signal()  #: A or B was set
    view_changed = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.strip: Strip | None = None
        self.view = View()
        self._canvas: QImage | None = None
        self._drag: QPointF | None = None
        self._pointer: float | None = None
        self._moved = False
        self.next_cursor = "A"
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 180)
        self.setAccessibleName("Strip: channels over time")

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
        for index, one in enumerate(self.strip.lanes):
            if one.reading is None or (lane is not None and index != lane) or not len(one.reading.edges):
                continue
            at = one.reading.edges.at
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

    def plot_rect(self) -> QRectF:
        return QRectF(LEFT, TOP, max(self.width() - LEFT - RIGHT, 10), max(self.height() - TOP - BOTTOM, 10))

    def lane_rects(self) -> list[QRectF]:
        rect = self.plot_rect()
        weights = [one.weight for one in self.strip.lanes] if self.strip else [1.0]
        tall = (rect.height() - GAP * (len(weights) - 1)) / sum(weights)
        rects, top = [], rect.top()
        for weight in weights:
            rects.append(QRectF(rect.left(), top, rect.width(), tall * weight))
            top += tall * weight + GAP
        return rects

    def x_of(self, time_s: float) -> float:
        rect = self.plot_rect()
        return rect.left() + rect.width() * (time_s - self.view.start) / self.view.span

    def time_at(self, x: float) -> float:
        rect = self.plot_rect()
        return self.view.start + self.view.span * (x - rect.left()) / rect.width()

    # painting -----------------------------------------------------------------------------

    def paintEvent(self, _event) -> None:
        if self.strip is None:
            QPainter(self).fillRect(self.rect(), QColor(theme.look().raised))
            return
        # Ground and grid are painted, the waveforms written straight into the canvas's pixels, the rest
        # painted on top: four dense channels cost a few milliseconds whatever they hold.
        canvas = self._fresh_canvas()
        lanes = list(zip(self.lane_rects(), self.strip.lanes, strict=True))
        painter = QPainter(canvas)
        painter.fillRect(self.rect(), QColor(theme.look().raised))
        for rect, lane in lanes:
            self._paint_bands(painter, rect, lane)
            self._paint_values(painter, rect, lane)
            self._paint_pattern(painter, rect, lane)
        self._paint_times(painter)
        painter.end()
        pixels = np.frombuffer(canvas.bits(), np.uint32).reshape(canvas.height(), -1)
        for rect, lane in lanes:
            self._write_wave(pixels, rect, lane)
        painter = QPainter(self)
        painter.drawImage(0, 0, canvas)
        for rect, lane in lanes:
            self._paint_band_names(painter, rect, lane)
        self._paint_teeth(painter)
        self._paint_marks(painter)
        self._paint_cursors(painter)
        painter.end()

    def _fresh_canvas(self) -> QImage:
        ratio = self.devicePixelRatioF()
        size = self.size() * ratio
        if self._canvas is None or self._canvas.size() != size:
            self._canvas = QImage(size, QImage.Format.Format_RGB32)
            self._canvas.setDevicePixelRatio(ratio)
        return self._canvas

    def _paint_bands(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        colour = QColor(theme.look().sound)
        colour.setAlpha(34)
        painter.fillRect(rect, QColor(theme.look().pane))
        for first, last, _ in lane.bands:
            top, bottom = self._y(rect, lane, last), self._y(rect, lane, first)
            band = QRectF(rect.left(), top, rect.width(), bottom - top).intersected(rect)
            painter.fillRect(band, colour)

    def _paint_band_names(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        """Names on a plate of their own at the right end, legible over a dense waveform."""
        look = theme.look()
        painter.setFont(theme.font(8.5))
        metrics = painter.fontMetrics()
        for first, last, name in lane.bands:
            middle = 0.5 * (self._y(rect, lane, last) + self._y(rect, lane, first))
            wide = metrics.horizontalAdvance(name) + 10
            plate = QRectF(rect.right() - wide - 4, middle - 8, wide, 16)
            ground = QColor(look.raised)
            ground.setAlpha(225)
            painter.fillRect(plate, ground)
            painter.setPen(QColor(look.sound))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, name)

    def _paint_values(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        look = theme.look()
        painter.setFont(theme.font(8.5))
        step = nice_step(lane.top - lane.bottom, max(2, int(rect.height() / 38)))
        for value in np.arange(np.ceil(lane.bottom / step), lane.top / step) * step:
            y = self._y(rect, lane, float(value))
            painter.setPen(QPen(QColor(look.line), 1))
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
            painter.setPen(QColor(look.quiet))
            at = QRectF(0, y - 8, LEFT - 6, 16)
            painter.drawText(at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value + 0.0:g}")
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(look.role(lane.role))
        painter.drawText(
            QRectF(4, rect.top() - 2, LEFT - 8, 44),
            Qt.AlignmentFlag.AlignLeft,
            f"{_two_lines(lane.name)}\n{lane.unit}",
        )

    def _paint_pattern(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        """The known-good turn under the waveform, laid over this capture's own teeth, where it can be told apart."""
        under = lane.pattern
        if under is None:
            return
        teeth, slots = under.reading.teeth, under.reading.wheel.slots
        first, last = np.searchsorted(teeth.times, [self.view.start, self.view.end])
        if not 1 < last - first < rect.width() / 5 * under.turns:
            return
        first, last = max(first - 1, 0), min(last + 1, len(teeth.times))
        position = (teeth.turn + (teeth.number - 1.0) / slots)[first:last] - under.ahead
        steps = len(under.wave) // under.turns
        grid = np.arange(np.floor(position[0] * steps), np.ceil(position[-1] * steps) + 1)
        x = self.x_of(np.interp(grid / steps, position, teeth.times[first:last]))
        value = under.wave[(grid % len(under.wave)).astype(int)]
        y = rect.top() + rect.height() * (lane.top - value) / (lane.top - lane.bottom)
        inside = (x >= rect.left()) & (x <= rect.right())
        painter.save()
        painter.setClipRect(rect)
        painter.setPen(QPen(QColor(theme.look().sound), 4.5))
        points = [QPointF(a, b) for a, b in zip(x[inside].tolist(), y[inside].tolist(), strict=True)]
        for one, other in itertools.pairwise(points):
            painter.drawLine(one, other)
        painter.restore()

    def _paint_times(self, painter: QPainter) -> None:
        look, rect = theme.look(), self.plot_rect()
        step = nice_step(self.view.span, max(2, int(rect.width() / 110)))
        factor, unit = (1.0, "s") if step >= 0.1 else (1e3, "ms") if step >= 1e-4 else (1e6, "µs")
        painter.setFont(theme.font(8.5))
        for value in np.arange(np.ceil(self.view.start / step), self.view.end / step) * step:
            x = self.x_of(float(value))
            painter.setPen(QPen(QColor(look.line), 1))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            painter.setPen(QColor(look.quiet))
            digits = max(0, int(np.ceil(-np.log10(step * factor) - 1e-9)))
            painter.drawText(
                QRectF(min(x - 50, self.width() - 102), rect.bottom() + 5, 100, 16),
                Qt.AlignmentFlag.AlignRight if x > self.width() - 52 else Qt.AlignmentFlag.AlignHCenter,
                f"{value * factor:.{digits}f} {unit}",
            )

    def _write_wave(self, pixels: np.ndarray, rect: QRectF, lane: Lane) -> None:
        """Fill, in each pixel column of a lane, the rows between the lowest and the highest sample."""
        ratio = self.devicePixelRatioF()
        left, top = round(rect.left() * ratio), round(rect.top() * ratio)
        area = pixels[top : round(rect.bottom() * ratio), left : round(rect.right() * ratio)]
        tall, wide = area.shape
        if wide < 2 or tall < 2:
            return
        low, high = self.columns(lane, wide)
        scale = tall / (lane.top - lane.bottom)
        first, last = (lane.top - high) * scale, (lane.top - low) * scale
        # Two device pixels thick at least, so that a flat line is seen at arm's length. Columns outside
        # the capture are NaN and stay empty.
        first = np.where(np.isnan(first), tall + 1, np.clip(np.floor(first - 0.5), -1, tall + 1)).astype(np.int16)
        last = np.where(np.isnan(last), -1, np.clip(np.ceil(last + 0.5), -1, tall + 1)).astype(np.int16)
        rows = np.arange(tall, dtype=np.int16)[:, None]
        inside = rows >= first
        inside &= rows <= last
        # Choosing costs the same for any pattern; copying where true is slow on a fine one.
        area[:] = np.where(inside, np.uint32(theme.look().role(lane.role).rgb()), area)

    def columns(self, lane: Lane, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value in each of `count` pixel columns of the present view."""
        return self.strip.columns(lane, self.view.start, self.view.end, count)

    def _paint_teeth(self, painter: QPainter) -> None:
        """Tooth numbers along the top where they fit, else the turns."""
        lane = next((one for one in self.strip.lanes if one.reading is not None and one.reading.wheel), None)
        if lane is None:
            return
        teeth, rect, look = lane.reading.teeth, self.plot_rect(), theme.look()
        first, last = np.searchsorted(teeth.times, [self.view.start, self.view.end])
        if last <= first:
            return
        painter.setFont(theme.font(8))
        painter.setPen(QColor(look.quiet))
        apart = rect.width() / max(1, last - first)
        if apart >= 17:
            shown = range(first, last)
        else:
            shown = [one for one in range(first, last) if teeth.number[one] == 1] if last - first < 20_000 else []
            least = rect.width() / max(1, len(shown))
            shown = shown[:: max(1, int(np.ceil(52 / max(least, 1e-6))))]
        for index in shown:
            x = self.x_of(float(teeth.times[index]))
            text = str(teeth.number[index]) if apart >= 17 else f"turn {teeth.turn[index] + 1}"
            painter.drawLine(QPointF(x, rect.top() - 5), QPointF(x, rect.top()))
            painter.drawText(QRectF(x - 30, rect.top() - 18, 60, 12), Qt.AlignmentFlag.AlignHCenter, text)
        painter.drawText(
            QRectF(4, rect.top() - 19, LEFT - 8, 14),
            Qt.AlignmentFlag.AlignLeft,
            "tooth" if apart >= 17 else "",
        )

    def _paint_marks(self, painter: QPainter) -> None:
        look, rects = theme.look(), self.lane_rects()
        painter.setFont(theme.font(9, bold=True))
        metrics = painter.fontMetrics()
        taken = LEFT - 1.0
        for mark in self.strip.marks:
            rect = rects[mark.lane]
            fill = QColor(look.mark)
            fill.setAlpha(52)
            seen = [one for one in mark.spans if one[1] >= self.view.start and one[0] <= self.view.end]
            for start, end in seen[:200]:
                x0, x1 = max(self.x_of(start), rect.left()), min(self.x_of(end), rect.right())
                area = QRectF(x0, rect.top(), max(x1 - x0, 2.0), rect.height())
                painter.fillRect(area, fill)
                if area.width() > 12:
                    painter.fillRect(area, QBrush(QColor(look.mark), Qt.BrushStyle.BDiagPattern))
                painter.setPen(QPen(QColor(look.mark), 1.5, Qt.PenStyle.DashLine))
                painter.drawLine(area.topLeft(), area.bottomLeft())
                painter.drawLine(area.topRight(), area.bottomRight())
            # The flag names the finding once, over the first place in sight, in a row of its own.
            at = self.x_of(seen[0][0]) if seen else rect.left()
            wide = metrics.horizontalAdvance(mark.label) + 14
            flag = QRectF(min(max(at, taken + 1, LEFT), self.width() - RIGHT - wide), 3, wide, 19)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.fillRect(flag, QColor(look.mark))
            painter.setPen(QColor(look.raised))
            painter.drawText(flag, Qt.AlignmentFlag.AlignCenter, mark.label)
            taken = flag.right()

    def _paint_cursors(self, painter: QPainter) -> None:
        look, rect = theme.look(), self.plot_rect()
        for name, time in self.strip.cursors.items():
            x = self.x_of(time)
            if not rect.left() <= x <= rect.right():
                continue
            painter.setPen(QPen(QColor(look.ink), 1.5))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            plate = QRectF(x - 9, rect.bottom() - 18, 18, 18)
            painter.fillRect(plate, QColor(look.ink))
            painter.setPen(QColor(look.raised))
            painter.setFont(theme.font(9, bold=True))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, name)
        if self._pointer is not None:
            x = self.x_of(self._pointer)
            if rect.left() <= x <= rect.right():
                painter.setPen(QPen(QColor(look.accent), 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))

    def _y(self, rect: QRectF, lane: Lane, value: float) -> float:
        return rect.top() + rect.height() * (lane.top - value) / (lane.top - lane.bottom)

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
            lane = next((i for i, one in enumerate(self.lane_rects()) if one.contains(event.position())), None)
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


class Overview(QWidget):
    """The whole capture as a thin strip: its first signal, what was found, and which part of it is in sight."""

    moved = Signal(float)  #: s, the middle of what is wanted in sight
    HEIGHT = 30

    def __init__(self, view: StripView, parent: QWidget | None = None):
        super().__init__(parent)
        self.of = view
        self.setFixedHeight(self.HEIGHT)
        self.setAccessibleName("The whole capture; press to look there")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._ground: tuple[object, QImage] | None = None
        view.view_changed.connect(self.update)

    def paintEvent(self, _event) -> None:
        look, painter, strip = theme.look(), QPainter(self), self.of.strip
        painter.fillRect(self.rect(), QColor(look.raised))
        if strip is None or not strip.lanes:
            return
        painter.drawImage(0, 0, self._picture(strip))
        mark = QColor(look.mark)
        for one in strip.marks:
            for start, end in one.spans:
                x0, x1 = self._x(start), self._x(end)
                painter.fillRect(QRectF(x0, 0, max(x1 - x0, 2.0), 5), mark)
        seen = QRectF(self._x(self.of.view.start), 1, 0, self.height() - 2)
        seen.setRight(max(self._x(self.of.view.end), seen.left() + 4))
        veil = QColor(look.ground)
        veil.setAlpha(150)
        painter.fillRect(QRectF(0, 0, seen.left(), self.height()), veil)
        painter.fillRect(QRectF(seen.right(), 0, self.width() - seen.right(), self.height()), veil)
        painter.setPen(QPen(QColor(look.accent), 2))
        painter.drawRect(seen)

    def _x(self, time_s: float) -> float:
        return self.width() * time_s / self.of.strip.seconds

    def _picture(self, strip: Strip) -> QImage:
        """The waveform of the first lane, drawn once for each capture, size and look."""
        key = (self.width(), theme.look().name)
        if self._ground is None or self._ground[0] is not strip or self._ground[1] != key:
            image = QImage(self.size(), QImage.Format.Format_RGB32)
            image.fill(QColor(theme.look().raised))
            lane, wide, tall = strip.lanes[0], self.width(), self.height()
            low, high = strip.columns(lane, 0.0, strip.seconds, wide)
            scale = (tall - 12) / (lane.top - lane.bottom)
            a, b = 8 + (lane.top - high) * scale, 8 + (lane.top - low) * scale
            painter = QPainter(image)
            painter.setPen(QPen(theme.look().role(lane.role), 1))
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
