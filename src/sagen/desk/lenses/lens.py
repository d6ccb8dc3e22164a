"""What the lenses share: the channel looked at, the colours of a deviation, and the marks of findings."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter
from PySide6.QtWidgets import QToolTip, QWidget

from sagen.desk.theme import theme
from sagen.desk.theme.plain import plain_tip
from sagen.desk.theme.roles import role_colour
from sagen.model.language import tr
from sagen.model.vocabulary import Role
from sagen.report.turn_drawing import TurnDrawing

LEAST_SCALE = 6.0  #: percent: smaller deviations than this are never blown up to full colour


def scale_of(values: np.ndarray) -> float:
    """The deviation that gets the full colour: what all but the wildest hundredth stay within."""
    finite = np.abs(values[np.isfinite(values)])
    return max(LEAST_SCALE, float(np.quantile(finite, 0.995))) if len(finite) else LEAST_SCALE


def colour_steps(count: int = 255) -> np.ndarray:
    """Colours from early (blue) over even to late (orange) as 0xAARRGGBB, shape (count,).

    Blue against orange stays apart for every kind of colour-blind eye; lightness falls to both sides alike,
    so what is odd stands out before its direction is read.
    """
    colours = theme.current()
    ends = (role_colour(Role.CRANK), QColor(colours.raised), QColor(colours.mark))
    place = np.linspace(-1, 1, count)
    part = np.abs(place) ** 0.8
    rgb = np.empty((count, 3))
    for channel, name in enumerate(("red", "green", "blue")):
        low, middle, high = (getattr(end, name)() for end in ends)
        rgb[:, channel] = middle + part * (np.where(place < 0, low, high) - middle)
    rgb = np.round(rgb).astype(np.uint32)
    return 0xFF000000 | (rgb[:, 0] << 16) | (rgb[:, 1] << 8) | rgb[:, 2]


def coloured(values: np.ndarray, scale: float, unseen: int) -> np.ndarray:
    """Deviations as pixels, uint32, shape as given; `unseen` where there is no value."""
    steps = colour_steps()
    place = np.clip(np.nan_to_num(values) / scale * 127 + 127, 0, 254).astype(np.int64)
    return np.where(np.isfinite(values), steps[place], np.uint32(unseen))


class LensView(QWidget):
    """A picture of one channel's teeth that carries the shared pointer.

    A lens says which part of its picture lies under a point (`part_at`), what that part tells (`words_at`) and
    when its tooth came (`time_of`).
    """

    pointed = Signal(object)  #: time in s, or None
    pressed = Signal(float)  #: time in s

    def __init__(self, name: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.drawing: TurnDrawing | None = None
        self._pointer: float | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(260, 180)
        self.setAccessibleName(name)

    def set_pointer(self, time_s: float | None) -> None:
        self._pointer = time_s
        self.update()

    def apply_theme(self) -> None:
        self.update()

    def paint_nothing(self, painter: QPainter, why: str) -> None:
        painter.setPen(QColor(theme.current().quiet))
        where = self.rect().adjusted(30, 0, -30, 0)
        painter.drawText(where, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, why)

    def paint_flag(self, painter: QPainter, number: int, label: str, at: QPointF, left: float, right: float) -> None:
        """The flag of a finding that names a tooth, its upper edge's middle `at`, kept between two x."""
        colours = theme.current()
        text = tr("{label}  tooth {number}", label=label, number=number)
        wide = painter.fontMetrics().horizontalAdvance(text) + 12
        flag = QRectF(min(max(at.x() - wide / 2, left), right - wide), at.y(), wide, 18)
        painter.fillRect(flag, QColor(colours.mark))
        painter.setPen(QColor(colours.raised))
        painter.drawText(flag, Qt.AlignmentFlag.AlignCenter, text)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        part = self.part_at(event.position())
        if part is None:
            return
        QToolTip.showText(event.globalPosition().toPoint(), plain_tip(self.words_at(*part)), self)
        self.pointed.emit(self.time_of(*part))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        part = self.part_at(event.position())
        time = self.time_of(*part) if part is not None else None
        if time is not None:
            self.pressed.emit(time)

    def leaveEvent(self, _event) -> None:
        self.pointed.emit(None)
