"""Paints a strip: ground and grid, the waveforms straight into pixels, then names, teeth, marks and cursors on top."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.desk.theme import theme
from sagen.desk.theme.roles import role_colour
from sagen.model.language import figure, tr
from sagen.report.scene import Lane, Strip
from sagen.signal.axis import nice_step

LEFT, RIGHT, TOP, BOTTOM = 70, 10, 42, 30
GAP = 10
TOOTH_APART = 21  #: px that a tooth's number takes


@dataclass(frozen=True)
class View:
    """What the strip shows, in s."""

    start: float = 0.0
    end: float = 1.0

    @property
    def span(self) -> float:
        return self.end - self.start


@dataclass(frozen=True)
class Frame:
    """A stretch of a strip in a widget of a size: where times and values lie, px."""

    strip: Strip | None
    view: View
    size: QSize

    def plot_rect(self) -> QRectF:
        return QRectF(LEFT, TOP, max(self.size.width() - LEFT - RIGHT, 10), max(self.size.height() - TOP - BOTTOM, 10))

    def lane_rects(self) -> list[QRectF]:
        rect = self.plot_rect()
        weights = [lane.weight for lane in self.strip.lanes] if self.strip else [1.0]
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

    def y_of(self, rect: QRectF, lane: Lane, value: float) -> float:
        return rect.top() + rect.height() * (lane.top - value) / (lane.top - lane.bottom)

    def columns(self, lane: Lane, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value in each of `count` pixel columns."""
        return self.strip.columns(lane, self.view.start, self.view.end, count)


def _in_margin(painter: QPainter, name: str) -> str:
    """A channel's name for the narrow margin: a word a line, in letters so large that the longest of them fits."""
    words = name.split()[:2]
    for size in (9, 8, 7):
        painter.setFont(theme.font(size, bold=True))
        metrics = painter.fontMetrics()
        if all(metrics.horizontalAdvance(word) <= LEFT - 8 for word in words):
            break
    return "\n".join(metrics.elidedText(word, Qt.TextElideMode.ElideRight, LEFT - 8) for word in words)


class StripPainter:
    """Draws frames; keeps its canvas from one to the next."""

    def __init__(self):
        self._canvas: QImage | None = None
        self._frame = Frame(None, View(), QSize())

    def paint(self, widget: QWidget, frame: Frame, pointer: float | None) -> None:
        """Paint a frame on a widget, within its paint event; `pointer` is the time (s) of the shared pointer."""
        self._frame = frame
        if frame.strip is None:
            QPainter(widget).fillRect(widget.rect(), QColor(theme.current().raised))
            return
        # Ground and grid are painted, the waveforms written straight into the canvas's pixels, the rest
        # painted on top: four dense channels cost a few milliseconds whatever they hold.
        canvas = self._fresh_canvas(widget.devicePixelRatioF())
        lanes = list(zip(frame.lane_rects(), frame.strip.lanes, strict=True))
        painter = QPainter(canvas)
        painter.fillRect(widget.rect(), QColor(theme.current().raised))
        for rect, lane in lanes:
            self._paint_bands(painter, rect, lane)
            self._paint_values(painter, rect, lane)
            self._paint_pattern(painter, rect, lane)
        self._paint_times(painter)
        painter.end()
        pixels = np.frombuffer(canvas.bits(), np.uint32).reshape(canvas.height(), -1)
        for rect, lane in lanes:
            self._write_wave(pixels, rect, lane, canvas.devicePixelRatio())
        painter = QPainter(widget)
        painter.drawImage(0, 0, canvas)
        for rect, lane in lanes:
            self._paint_band_names(painter, rect, lane)
        self._paint_holes(painter)
        self._paint_teeth(painter)
        self._paint_marks(painter)
        self._paint_cursors(painter, pointer)
        painter.end()

    def _fresh_canvas(self, ratio: float) -> QImage:
        size = self._frame.size * ratio
        if self._canvas is None or self._canvas.size() != size:
            self._canvas = QImage(size, QImage.Format.Format_RGB32)
            self._canvas.setDevicePixelRatio(ratio)
        return self._canvas

    def _paint_bands(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        colour = QColor(theme.current().sound)
        colour.setAlpha(34)
        painter.fillRect(rect, QColor(theme.current().pane))
        for first, last, _ in lane.bands:
            top, bottom = self._frame.y_of(rect, lane, last), self._frame.y_of(rect, lane, first)
            band = QRectF(rect.left(), top, rect.width(), bottom - top).intersected(rect)
            painter.fillRect(band, colour)

    def _paint_band_names(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        """Names on a plate of their own at the right end, legible over a dense waveform."""
        colours = theme.current()
        painter.setFont(theme.font(8.5))
        metrics = painter.fontMetrics()
        for first, last, name in lane.bands:
            middle = 0.5 * (self._frame.y_of(rect, lane, last) + self._frame.y_of(rect, lane, first))
            wide = metrics.horizontalAdvance(name) + 10
            plate = QRectF(rect.right() - wide - 4, middle - 8, wide, 16)
            ground = QColor(colours.raised)
            ground.setAlpha(225)
            painter.fillRect(plate, ground)
            painter.setPen(QColor(colours.sound))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, name)

    def _paint_values(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        colours = theme.current()
        name = _in_margin(painter, lane.name)
        wide = max((painter.fontMetrics().horizontalAdvance(word) for word in name.split("\n")), default=0)
        # A long name takes the whole margin: no figure stands in it.
        below = rect.top() + (12 + 16 * name.count("\n") if wide > LEFT - 30 else -20)
        painter.setFont(theme.font(8.5))
        step = nice_step(lane.top - lane.bottom, max(2, int(rect.height() / 38)))
        for value in np.arange(np.ceil(lane.bottom / step), lane.top / step) * step:
            y = self._frame.y_of(rect, lane, float(value))
            painter.setPen(QPen(QColor(colours.line), 1))
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
            painter.setPen(QColor(colours.quiet))
            at = QRectF(0, y - 8, LEFT - 6, 16)
            if y >= below:
                painter.drawText(
                    at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure(value + 0.0, "g")
                )
        _in_margin(painter, lane.name)
        painter.setPen(role_colour(lane.role))
        painter.drawText(QRectF(4, rect.top() - 2, LEFT - 8, 44), Qt.AlignmentFlag.AlignLeft, f"{name}\n{lane.unit}")
        if lane.column and rect.height() >= 84:
            # What the file calls it comes second.
            painter.setFont(theme.font(8))
            painter.setPen(QColor(colours.quiet))
            column = painter.fontMetrics().elidedText(lane.column, Qt.TextElideMode.ElideRight, LEFT - 12)
            painter.drawText(QRectF(4, rect.top() + 46, LEFT - 8, 14), Qt.AlignmentFlag.AlignLeft, column)

    def _paint_holes(self, painter: QPainter) -> None:
        """Stretches in which nothing was recorded: the ground of the window shows through."""
        colours, rect = theme.current(), self._frame.plot_rect()
        painter.setFont(theme.font(8.5))
        for first, last in self._frame.strip.holes:
            x0, x1 = max(self._frame.x_of(first), rect.left()), min(self._frame.x_of(last), rect.right())
            if x1 <= x0:
                continue
            area = QRectF(x0, rect.top(), max(x1 - x0, 2.0), rect.height())
            painter.fillRect(area, QColor(colours.raised))
            painter.fillRect(area, QBrush(QColor(colours.line), Qt.BrushStyle.FDiagPattern))
            painter.setPen(QColor(colours.quiet))
            if area.width() > 90:
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter, tr("not recorded"))

    def _paint_pattern(self, painter: QPainter, rect: QRectF, lane: Lane) -> None:
        """The known-good turn under the waveform, laid over this capture's own teeth, where it can be told apart."""
        under = lane.pattern
        if under is None:
            return
        teeth, slots = under.reading.teeth, under.reading.wheel.slots
        first, last = np.searchsorted(teeth.times, [self._frame.view.start, self._frame.view.end])
        if not 1 < last - first < rect.width() / 5 * under.turns:
            return
        first, last = max(first - 1, 0), min(last + 1, len(teeth.times))
        position = (teeth.turn + (teeth.number - 1.0) / slots)[first:last] - under.ahead
        steps = len(under.wave) // under.turns
        grid = np.arange(np.floor(position[0] * steps), np.ceil(position[-1] * steps) + 1)
        x = self._frame.x_of(np.interp(grid / steps, position, teeth.times[first:last]))
        value = under.wave[(grid % len(under.wave)).astype(int)]
        y = rect.top() + rect.height() * (lane.top - value) / (lane.top - lane.bottom)
        inside = (x >= rect.left()) & (x <= rect.right())
        painter.save()
        painter.setClipRect(rect)
        painter.setPen(QPen(QColor(theme.current().sound), 4.5))
        points = [QPointF(a, b) for a, b in zip(x[inside].tolist(), y[inside].tolist(), strict=True)]
        for item, other in itertools.pairwise(points):
            painter.drawLine(item, other)
        painter.restore()

    def _paint_times(self, painter: QPainter) -> None:
        colours, rect = theme.current(), self._frame.plot_rect()
        step = nice_step(self._frame.view.span, max(2, int(rect.width() / 110)))
        factor, unit = (1.0, "s") if step >= 0.1 else (1e3, "ms") if step >= 1e-4 else (1e6, "µs")
        painter.setFont(theme.font(8.5))
        for value in np.arange(np.ceil(self._frame.view.start / step), self._frame.view.end / step) * step:
            x = self._frame.x_of(float(value))
            painter.setPen(QPen(QColor(colours.line), 1))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            painter.setPen(QColor(colours.quiet))
            digits = max(0, int(np.ceil(-np.log10(step * factor) - 1e-9)))
            painter.drawText(
                QRectF(min(x - 50, self._frame.size.width() - 102), rect.bottom() + 5, 100, 16),
                Qt.AlignmentFlag.AlignRight if x > self._frame.size.width() - 52 else Qt.AlignmentFlag.AlignHCenter,
                tr("{value} {unit}", value=figure(value * factor, f".{digits}f"), unit=unit),
            )

    def _write_wave(self, pixels: np.ndarray, rect: QRectF, lane: Lane, ratio: float) -> None:
        """Fill, in each pixel column of a lane, the rows between the lowest and the highest sample."""
        left, top = round(rect.left() * ratio), round(rect.top() * ratio)
        area = pixels[top : round(rect.bottom() * ratio), left : round(rect.right() * ratio)]
        tall, wide = area.shape
        if wide < 2 or tall < 2:
            return
        low, high = self._frame.columns(lane, wide)
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
        area[:] = np.where(inside, np.uint32(role_colour(lane.role).rgb()), area)

    def _paint_teeth(self, painter: QPainter) -> None:
        """Tooth numbers along the top where they fit, else the turns."""
        lane = next(
            (
                this_lane
                for this_lane in self._frame.strip.lanes
                if this_lane.reading is not None and this_lane.reading.wheel
            ),
            None,
        )
        if lane is None:
            return
        teeth, rect, colours = lane.reading.teeth, self._frame.plot_rect(), theme.current()
        first, last = np.searchsorted(teeth.times, [self._frame.view.start, self._frame.view.end])
        if last <= first:
            return
        painter.setFont(theme.font(8))
        painter.setPen(QColor(colours.quiet))
        apart = rect.width() / max(1, last - first)
        every = next((value for value in (1, 2, 5, 10) if value * apart >= TOOTH_APART), None)
        if every is not None:
            shown = [
                this_index for this_index in range(first, last) if every == 1 or teeth.number[this_index] % every == 0
            ]
        else:
            shown = (
                [this_index for this_index in range(first, last) if teeth.number[this_index] == 1]
                if last - first < 20_000
                else []
            )
            least = rect.width() / max(1, len(shown))
            shown = shown[:: max(1, int(np.ceil(52 / max(least, 1e-6))))]
        for index in shown:
            x = self._frame.x_of(float(teeth.times[index]))
            text = str(teeth.number[index]) if every is not None else tr("turn {index}", index=teeth.turn[index] + 1)
            painter.drawLine(QPointF(x, rect.top() - 5), QPointF(x, rect.top()))
            painter.drawText(QRectF(x - 30, rect.top() - 18, 60, 12), Qt.AlignmentFlag.AlignHCenter, text)
        if every is not None:
            painter.drawText(QRectF(4, rect.top() - 19, LEFT - 8, 14), Qt.AlignmentFlag.AlignLeft, tr("tooth"))

    def _paint_marks(self, painter: QPainter) -> None:
        colours, rects = theme.current(), self._frame.lane_rects()
        painter.setFont(theme.font(9, bold=True))
        metrics = painter.fontMetrics()
        taken = LEFT - 1.0
        for mark in self._frame.strip.marks:
            rect = rects[mark.lane]
            fill = QColor(colours.mark)
            fill.setAlpha(52)
            seen = [
                span for span in mark.spans if span[1] >= self._frame.view.start and span[0] <= self._frame.view.end
            ]
            for start, end in seen[:200]:
                x0, x1 = max(self._frame.x_of(start), rect.left()), min(self._frame.x_of(end), rect.right())
                area = QRectF(x0, rect.top(), max(x1 - x0, 2.0), rect.height())
                painter.fillRect(area, fill)
                if area.width() > 12:
                    painter.fillRect(area, QBrush(QColor(colours.mark), Qt.BrushStyle.BDiagPattern))
                painter.setPen(QPen(QColor(colours.mark), 1.5, Qt.PenStyle.DashLine))
                painter.drawLine(area.topLeft(), area.bottomLeft())
                painter.drawLine(area.topRight(), area.bottomRight())
            # The flag names the finding once, over the first place in sight, in a row of its own.
            at = self._frame.x_of(seen[0][0]) if seen else rect.left()
            wide = metrics.horizontalAdvance(mark.label) + 14
            flag = QRectF(min(max(at, taken + 1, LEFT), self._frame.size.width() - RIGHT - wide), 3, wide, 19)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.fillRect(flag, QColor(colours.mark))
            painter.setPen(QColor(colours.raised))
            painter.drawText(flag, Qt.AlignmentFlag.AlignCenter, mark.label)
            taken = flag.right()

    def _paint_cursors(self, painter: QPainter, pointer: float | None) -> None:
        colours, rect = theme.current(), self._frame.plot_rect()
        for name, time in self._frame.strip.cursors.items():
            x = self._frame.x_of(time)
            if not rect.left() <= x <= rect.right():
                continue
            painter.setPen(QPen(QColor(colours.ink), 1.5))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            plate = QRectF(x - 9, rect.bottom() - 18, 18, 18)
            painter.fillRect(plate, QColor(colours.ink))
            painter.setPen(QColor(colours.raised))
            painter.setFont(theme.font(9, bold=True))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, name)
        if pointer is not None:
            x = self._frame.x_of(pointer)
            if rect.left() <= x <= rect.right():
                painter.setPen(QPen(QColor(colours.accent), 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
