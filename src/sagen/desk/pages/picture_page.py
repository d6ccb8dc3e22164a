"""A photo of a screen on the bench: its plot's corners are dragged, its axes typed, and what is read lies over it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.casework.from_picture import (
    Picture,
    incoming_of,
    opened_picture,
    read_plot,
    reading_words,
    typed_time,
    typed_volts,
)
from sagen.casework.shelf import GetPhoto
from sagen.desk.actions import Hint
from sagen.desk.pages import Page
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.files.picture import Reading, homography
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr

if TYPE_CHECKING:
    from sagen.desk.ports import Navigation
    from sagen.desk.workspace import DeskWorkspace

GRIP = 22  #: px around a corner within which it is taken
GLASS, TIMES = 132, 4  #: px of the magnified view, and how much it magnifies
CORNERS = (tr("top left"), tr("top right"), tr("bottom right"), tr("bottom left"))


class PictureView(QWidget):
    """The picture, its four corners, what lies under the finger magnified, and what was read drawn over it."""

    moved = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.image, self.corners, self.held = QImage(), [], 0
        self.lines: list[np.ndarray] = []  #: what was read, pixels of the picture, shape (n, 2)
        self._dragging = False
        self.setMinimumSize(300, 200)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(
            tr("Picture of a screen; drag the corners of its plot, or choose one with Tab and move it with the arrows")
        )

    def show_picture(self, picture: Picture) -> None:
        pixels = np.ascontiguousarray(picture.pixels)
        high, wide, _ = pixels.shape
        self.image = QImage(pixels.data, wide, high, 3 * wide, QImage.Format.Format_RGB888).copy()
        self.corners, self.lines, self.held = [QPointF(x, y) for x, y in picture.corners], [], 0
        self.update()

    def show_reading(self, reading: Reading | None, axes: tuple[float, float, float, float] | None = None) -> None:
        """Draw what was read where it was read."""
        self.lines = []
        if reading is not None:
            square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
            back = homography(square, np.array([(p.x(), p.y()) for p in self.corners]))
            t0, t1, v0, v1 = axes
            for trace in reading.traces:
                x, y = (reading.time - t0) / (t1 - t0), (v1 - trace.volts) / (v1 - v0)
                u, v, w = back @ np.stack([x, y, np.ones_like(x)])
                self.lines.append(np.column_stack([u / w, v / w]))
        self.update()

    def _frame(self) -> QRectF:
        size = self.image.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        return QRectF(
            (self.width() - size.width()) / 2, (self.height() - size.height()) / 2, size.width(), size.height()
        )

    def _scale(self) -> float:
        return self._frame().width() / max(self.image.width(), 1)

    def _shown(self, at: QPointF) -> QPointF:
        return self._frame().topLeft() + at * self._scale()

    def _pixel(self, at: QPointF) -> QPointF:
        where = (at - self._frame().topLeft()) / max(self._scale(), 1e-9)
        return QPointF(min(max(where.x(), 0.0), self.image.width()), min(max(where.y(), 0.0), self.image.height()))

    def paintEvent(self, _event) -> None:
        painter, colours = QPainter(self), theme.current()
        painter.fillRect(self.rect(), QColor(colours.raised))
        if self.image.isNull():
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(self._frame(), self.image)
        outline = QPolygonF([self._shown(corner) for corner in self.corners])
        for colour, wide in (("white", 4.0), (colours.mark, 2.0)):
            painter.setPen(QPen(QColor(colour), wide))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolygon(outline)
        for line in self.lines:
            self._paint_line(painter, line)
        for k, corner in enumerate(self.corners):
            at = self._shown(corner)
            painter.setPen(QPen(QColor("white"), 5 if k == self.held else 3))
            painter.drawEllipse(at, 9, 9)
            painter.setPen(QPen(QColor(colours.mark), 3 if k == self.held else 2))
            painter.drawEllipse(at, 9, 9)
        if self.hasFocus() or self._dragging:
            self._paint_glass(painter, self.corners[self.held])

    def _paint_line(self, painter: QPainter, line: np.ndarray) -> None:
        seen = np.isfinite(line).all(axis=1)
        borders = np.flatnonzero(np.diff(np.concatenate([[0], seen.view(np.int8), [0]])))
        # Thin, so that the trace is seen beside it.
        painter.setPen(QPen(QColor("#d55e00"), 1.3))
        for first, last in zip(borders[::2], borders[1::2], strict=True):
            painter.drawPolyline(QPolygonF([self._shown(QPointF(x, y)) for x, y in line[first:last].tolist()]))

    def _paint_glass(self, painter: QPainter, corner: QPointF) -> None:
        """What lies under the corner, magnified, in the corner of the view that is farthest away."""
        at = self._shown(corner)
        left = 6 if at.x() > self.width() / 2 else self.width() - GLASS - 6
        top = 6 if at.y() > self.height() / 2 else self.height() - GLASS - 6
        box, reach = QRectF(left, top, GLASS, GLASS), GLASS / (2 * TIMES * max(self._scale(), 1e-9))
        painter.fillRect(box, QColor(theme.current().pane))
        painter.drawImage(box, self.image, QRectF(corner.x() - reach, corner.y() - reach, 2 * reach, 2 * reach))
        painter.setPen(QPen(QColor(theme.current().mark), 1))
        painter.drawRect(box)
        painter.drawLine(QPointF(left, top + GLASS / 2), QPointF(left + GLASS, top + GLASS / 2))
        painter.drawLine(QPointF(left + GLASS / 2, top), QPointF(left + GLASS / 2, top + GLASS))

    def _move(self, to: QPointF) -> None:
        self.corners[self.held], self.lines = to, []
        self.update()
        self.moved.emit()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self.corners:
            return
        apart = [(self._shown(corner) - event.position()).manhattanLength() for corner in self.corners]
        if min(apart) < 2 * GRIP:
            self.held, self._dragging = int(np.argmin(apart)), True
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging:
            self._move(self._pixel(event.position()))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._dragging = False
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        way = {
            Qt.Key.Key_Left: (-step, 0), Qt.Key.Key_Right: (step, 0), Qt.Key.Key_Up: (0, -step), Qt.Key.Key_Down: (0, step),
        }.get(Qt.Key(event.key()))  # fmt: skip
        if way is not None and self.corners:
            self._move(self._pixel(self._shown(self.corners[self.held] + QPointF(*way))))
        elif event.key() == Qt.Key.Key_Space and self.corners:
            self.held = (self.held + 1) % 4
            self.update()
        else:
            super().keyPressEvent(event)


class PicturePage(Page):
    """The picture with its axes; it comes in as a capture once what was read is seen over it."""

    name, title = "picture", tr("Screen to samples")
    left = Signal()
    hints = (
        Hint(tr("Arrows"), tr("move the chosen corner by a pixel; with Shift by ten")), Hint(tr("Space"), tr("the next corner")),
        Hint(tr("Enter"), tr("in a field: read")),
    )  # fmt: skip

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.picture: Picture | None = None
        self.reading: Reading | None = None
        self.name_of, self.token = "", ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Screen to samples"), name="heading"), 1)
        self.read_button, self.take, back = (
            QPushButton(tr("Read")),
            QPushButton(tr("Bring it in")),
            QPushButton(tr("Back")),
        )
        self.read_button.setObjectName("first")
        self.read_button.clicked.connect(self.read)
        self.take.clicked.connect(self.bring_in)
        back.clicked.connect(self.left)
        for item in (self.read_button, self.take, back):
            head.addWidget(item)
        layout.addLayout(head)
        layout.addWidget(Label(
            tr("Drag the four corners to those of the plot, not of the screen; they are only proposed. Then say " "what its edges stand for."),
            name="quiet", wrap=True,
        ))  # fmt: skip
        self.view = PictureView()
        self.view.moved.connect(self._changed)
        layout.addWidget(self.view, 1)
        row = QHBoxLayout()
        self.fields: dict[str, QLineEdit] = {}
        for key, words, hint in (
            ("t0", tr("Left edge"), "0 ms"), ("t1", tr("Right edge"), "as 50 ms"), ("v0", tr("Bottom"), "as -1 V"), ("v1", tr("Top"), "as 7 V"),
        ):  # fmt: skip
            line = self.fields[key] = QLineEdit()
            line.setPlaceholderText(hint)
            line.setAccessibleName(words)
            line.textChanged.connect(self._changed)
            line.returnPressed.connect(self.read)
            row.addWidget(Label(words))
            row.addWidget(line, 1)
        layout.addLayout(row)
        self.told = Label("", wrap=True)
        layout.addWidget(self.told)
        self._changed()

    def wire(self, workspace: DeskWorkspace, navigation: Navigation) -> None:
        self.workspace = workspace
        self.left.connect(navigation.back_to_job)

    def show_photo(self, token: str, name: str) -> None:
        """Bring a photo of the trail up, to be read."""
        self.token, self.name_of, self.picture = token, name, None
        self.fields["t0"].setText("0")

        def got(data: bytes) -> None:
            self.workspace.compute(
                lambda _task: opened_picture(data), lambda picture: self._show(token, picture), self._refused
            )

        self.workspace.submit(GetPhoto(None, token), got, slot="photo")

    def _show(self, token: str, picture: Picture) -> None:
        if token == self.token:
            self.picture = picture
            self.view.show_picture(picture)
            self._changed()
            self.view.setFocus()

    def _changed(self, *_args) -> None:
        """What was read is no longer of these corners and axes."""
        self.reading = None
        self.view.lines = []
        self.view.update()
        self.take.setEnabled(False)
        self.read_button.setEnabled(self.picture is not None)
        self.told.setText("")

    def axes(self) -> tuple[float, float, float, float]:
        """As typed; raises SagenError for what is none."""
        t0, t1 = (typed_time(self.fields[key].text()) for key in ("t0", "t1"))
        v0, v1 = (typed_volts(self.fields[key].text()) for key in ("v0", "v1"))
        return t0, t1, v0, v1

    def read(self) -> None:
        """Follow the traces, away from the interface."""
        if self.picture is None:
            return
        try:
            axes = self.axes()
        except SagenError as error:
            self._refused(str(error))
            return
        picture, corners = self.picture, tuple((corner.x(), corner.y()) for corner in self.view.corners)
        self._changed()
        self.told.setText(tr("Reading …"))

        def show(reading: Reading) -> None:
            if picture is not self.picture or corners != tuple(
                (corner.x(), corner.y()) for corner in self.view.corners
            ):
                return
            self.reading = reading
            self.view.show_reading(reading, axes)
            self.told.setText(
                tr(
                    "{reading} Look whether the line lies on the trace everywhere, then bring it in.",
                    reading=reading_words(reading),
                )
            )
            self.take.setEnabled(True)
            self.take.setFocus()

        self.workspace.compute(lambda _task: read_plot(picture, corners, axes), show, self._refused)

    def _refused(self, why: str) -> None:
        self.told.setText(titled(why) + ("" if why.endswith(".") else "."))

    def bring_in(self) -> None:
        """Bring what was read in as a capture; its roles are asked as of any other."""
        if self.reading is None:
            return
        try:
            self.workspace.show_incoming(incoming_of(self.name_of or "picture", self.reading))
        except SagenError as error:
            self._refused(str(error))
