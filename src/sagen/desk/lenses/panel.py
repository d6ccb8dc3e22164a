"""A small plot inside a lens: its frame, title, axes and how values come to places."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from sagen.desk.theme import theme
from sagen.desk.theme.roles import sensor_colour
from sagen.model.language import figure
from sagen.signal.axis import nice_step

#: how the lines of sensors differ beside their colours
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


def sensor_pen(index: int, width: float = 1.5) -> QPen:
    return QPen(sensor_colour(index), width, DASHES[index % len(DASHES)])


def column_line(low: np.ndarray, high: np.ndarray, ends: tuple[float, float], plot: QRect | QRectF) -> QPolygonF:
    """A trace by the least and the most of each of its columns, so that no tooth falls between two: down one column and up the
    next, a line without jumps of its own. `ends`: the values at the foot and at the head of `plot`."""
    rows = np.stack([low, high], axis=1)
    rows[::2] = rows[::2, ::-1]
    y = plot.bottom() - (rows.ravel() - ends[0]) / max(ends[1] - ends[0], 1e-9) * plot.height()
    x = np.repeat(np.linspace(plot.left(), plot.right(), len(low)), 2)
    return QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)])


@dataclass
class Panel:
    """A rectangle with a title above and two scales; `log` says which of them are by ratio."""

    rect: QRectF
    x0: float
    x1: float
    y0: float
    y1: float
    title: str = ""
    log_x: bool = False

    def x(self, value):
        low, high, value = (np.log10(item) if self.log_x else item for item in (self.x0, self.x1, value))
        return self.rect.left() + (value - low) / (high - low) * self.rect.width()

    def y(self, value):
        return (
            self.rect.bottom() - (np.clip(value, self.y0, self.y1) - self.y0) / (self.y1 - self.y0) * self.rect.height()
        )

    def x_back(self, at: float) -> float:
        share = (at - self.rect.left()) / max(self.rect.width(), 1.0)
        if self.log_x:
            return float(self.x0 * (self.x1 / self.x0) ** share)
        return self.x0 + share * (self.x1 - self.x0)

    def frame(self, painter: QPainter, *, unit_x: str = "", unit_y: str = "", y_ticks: int = 4, x_ticks=None) -> None:
        """Title with the unit of the heights, grid, figures along both axes, and the frame."""
        colours, rect = theme.current(), self.rect
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(QColor(colours.ink))
        title = f"{self.title}, {unit_y}" if unit_y else self.title
        painter.drawText(
            QRectF(rect.left() - 40, rect.top() - 20, rect.width() + 50, 16), Qt.AlignmentFlag.AlignLeft, title
        )
        painter.setFont(theme.font(8))
        for value in _ticks(self.y0, self.y1, y_ticks):
            y = float(self.y(value))
            self._grid(painter, QPointF(rect.left(), y), QPointF(rect.right(), y))
            where = QRectF(rect.left() - 44, y - 7, 40, 14)
            painter.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure(value, "g"))
        if x_ticks is None:
            x_ticks = [(tick, figure(tick, "g")) for tick in _ticks(self.x0, self.x1, max(2, int(rect.width() / 70)))]
        for at, (value, words) in enumerate(x_ticks):
            x = float(self.x(value))
            self._grid(painter, QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            said = f"{words} {unit_x}" if unit_x and at == len(x_ticks) - 1 else words
            wide = painter.fontMetrics().horizontalAdvance(said) + 2
            left = min(x - wide / 2, rect.right() + 8 - wide)  # the last one does not run out of the picture
            painter.drawText(QRectF(left, rect.bottom() + 2, wide, 14), Qt.AlignmentFlag.AlignHCenter, said)
        painter.setPen(QPen(QColor(colours.line), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(rect)

    @staticmethod
    def _grid(painter: QPainter, start: QPointF, end: QPointF) -> None:
        """A line of the grid; leaves the pen for the figure beside it."""
        grid = QColor(theme.current().line)
        grid.setAlpha(110)
        painter.setPen(QPen(grid, 1))
        painter.drawLine(start, end)
        painter.setPen(QColor(theme.current().quiet))

    def line(self, painter: QPainter, xs: np.ndarray, ys: np.ndarray, pen: QPen) -> None:
        """A line through values, cut to the panel, with at most two points a pixel."""
        inside = (xs >= self.x0) & (xs <= self.x1)
        xs, ys = xs[inside], ys[inside]
        most = max(int(2 * self.rect.width()), 16)
        if len(xs) > 2 * most:
            each = len(xs) // most
            whole = len(xs) // each * each
            parts = ys[:whole].reshape(-1, each)
            pick = np.stack([parts.argmin(axis=1), parts.argmax(axis=1)], axis=1)
            pick.sort(axis=1)
            at = (np.arange(len(parts))[:, None] * each + pick).ravel()
            xs, ys = xs[at], ys[at]
        if len(xs) < 2:
            return
        painter.setPen(pen)
        points = QPolygonF([QPointF(float(a), float(b)) for a, b in zip(self.x(xs), self.y(ys), strict=True)])
        painter.drawPolyline(points)

    def cloud(self, painter: QPainter, xs: np.ndarray, waves: np.ndarray, colour: QColor) -> None:
        """Many lines at once, shape (lines, len(xs)): where more of them run the colour is fuller. Made as a picture,
        since as many lines of a painter would hold up the window."""
        wide, tall = max(round(self.rect.width()), 1), max(round(self.rect.height()), 1)
        edges = np.linspace(self.x0, self.x1, wide + 1)
        at = np.clip(np.searchsorted(xs, edges), 1, len(xs) - 1)
        share = np.clip((edges - xs[at - 1]) / (xs[at] - xs[at - 1]), 0.0, 1.0).astype(np.float32)
        ends = waves[:, at - 1] * (1 - share) + waves[:, at] * share
        low, high = np.minimum(ends[:, :-1], ends[:, 1:]), np.maximum(ends[:, :-1], ends[:, 1:])
        if len(xs) > 2 * wide:  # several samples a column: what lies between its edges counts too
            starts = np.minimum(at[:-1], len(xs) - 1)
            low = np.minimum(low, np.minimum.reduceat(waves, starts, axis=1))
            high = np.maximum(high, np.maximum.reduceat(waves, starts, axis=1))
        scale = tall / (self.y1 - self.y0)
        top = np.clip(np.floor((self.y1 - high) * scale), 0, tall - 1).astype(np.int64)
        bottom = np.clip(np.floor((self.y1 - low) * scale), 0, tall - 1).astype(np.int64)
        columns = np.broadcast_to(np.arange(wide), top.shape)
        steps = np.bincount((top * wide + columns).ravel(), minlength=(tall + 1) * wide).astype(np.int64)
        steps -= np.bincount(((bottom + 1) * wide + columns).ravel(), minlength=(tall + 1) * wide)
        many = np.cumsum(steps.reshape(tall + 1, wide)[:tall], axis=0)
        alpha = 255 * (1 - (1 - max(0.75 / np.sqrt(len(waves)), 0.12)) ** many)
        # Premultiplied, as QImage wants it.
        pixels = np.empty((tall, wide, 4), np.uint8)
        for place, part in enumerate((colour.blue(), colour.green(), colour.red())):
            pixels[:, :, place] = part * alpha / 255
        pixels[:, :, 3] = alpha
        pixels = np.ascontiguousarray(pixels)
        image = QImage(pixels.data, wide, tall, 4 * wide, QImage.Format.Format_ARGB32_Premultiplied)
        painter.drawImage(self.rect.topLeft(), image)


def _ticks(low: float, high: float, parts: int) -> list[float]:
    """Round figures from `low` to `high`."""
    step = nice_step(high - low, parts)
    return [float(item) + 0.0 for item in np.round(np.arange(np.ceil(low / step) * step, high + 1e-9 * step, step), 9)]


def short(words: str, room: float) -> str:
    """Words cut to what has room in so many px."""
    most = max(int(room / 6.5), 3)
    return words if len(words) <= most else words[: most - 1] + "\u2026"
