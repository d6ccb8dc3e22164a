"""A photo of the trail on the bench: an arrow is dragged over it, words are typed on it."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.casework.shelf import GetPhoto
from sagen.desk.pages import Page
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.model.language import tr

if TYPE_CHECKING:
    from sagen.desk.ports import Navigation
    from sagen.desk.workspace import DeskWorkspace

HEAD = 16  #: px of an arrow's head


class PhotoView(QWidget):
    """The picture as large as there is room, with its arrow."""

    drawn = Signal(tuple)  #: the arrow, shares of width and height

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.image, self.arrow, self.words = QImage(), (), ""
        self._from: QPointF | None = None
        self.setMinimumSize(300, 200)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setAccessibleName(tr("Photo; drag to draw an arrow"))

    def show_photo(self, image: QImage, arrow: tuple[float, ...], words: str) -> None:
        self.image, self.arrow, self.words = image, arrow, words
        self.update()

    def _frame(self) -> QRectF:
        size = self.image.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        return QRectF(
            (self.width() - size.width()) / 2, (self.height() - size.height()) / 2, size.width(), size.height()
        )

    def _share(self, at: QPointF) -> tuple[float, float]:
        frame = self._frame()
        x = (at.x() - frame.left()) / max(frame.width(), 1)
        y = (at.y() - frame.top()) / max(frame.height(), 1)
        return min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0)

    def paintEvent(self, _event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        if self.image.isNull():
            return
        frame = self._frame()
        painter.drawImage(frame, self.image)
        if self.arrow:
            x0, y0, x1, y1 = self.arrow
            tail = QPointF(frame.left() + x0 * frame.width(), frame.top() + y0 * frame.height())
            tip = QPointF(frame.left() + x1 * frame.width(), frame.top() + y1 * frame.height())
            self._arrow(painter, tail, tip)
            if self.words:
                painter.setFont(theme.font(12, bold=True))
                wide = painter.fontMetrics().horizontalAdvance(self.words) + 12
                plate = QRectF(min(tail.x(), frame.right() - wide), tail.y(), wide, 26)
                painter.fillRect(plate, QColor("white"))
                painter.setPen(QColor("#1b2328"))
                painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, self.words)

    def _arrow(self, painter: QPainter, tail: QPointF, tip: QPointF) -> None:
        away = tip - tail
        length = max((away.x() ** 2 + away.y() ** 2) ** 0.5, 1.0)
        along = away / length
        across = QPointF(-along.y(), along.x())
        back = tip - along * HEAD
        for colour, wide in (("white", 8), ("#d55e00", 5)):
            painter.setPen(QPen(QColor(colour), wide))
            painter.drawLine(tail, back)
            painter.setBrush(QColor(colour))
            painter.drawPolygon(QPolygonF([tip, back + across * HEAD * 0.5, back - across * HEAD * 0.5]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None:
            self.arrow = (*self._share(self._from), *self._share(event.position()))
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._from is not None and (event.position() - self._from).manhattanLength() > 12:
            self.drawn.emit(self.arrow)
        self._from = None


class PhotoPage(Page):
    """The photo, its caption, and words at the arrow."""

    name, title = "photo", tr("Photo")
    left = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.entry, self.token, self.job_id = None, "", None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Photo"), name="heading"), 1)
        self.clear, self.keep_button, back = (
            QPushButton(tr("No arrow")),
            QPushButton(tr("Keep")),
            QPushButton(tr("Back")),
        )
        self.read_button = QPushButton(tr("Read its plot"))
        self.read_button.setToolTip(tr("A photo of a recorder's screen, or of a printed pattern, becomes a capture"))
        self.read_button.clicked.connect(self._read_plot)
        self.keep_button.setObjectName("first")
        self.clear.clicked.connect(lambda: self._drawn(()))
        self.keep_button.clicked.connect(self.keep)
        back.clicked.connect(self.left)
        for item in (self.read_button, self.clear, self.keep_button, back):
            head.addWidget(item)
        layout.addLayout(head)
        self.view = PhotoView()
        self.view.drawn.connect(self._drawn)
        layout.addWidget(self.view, 1)
        row = QHBoxLayout()
        self.caption, self.words = QLineEdit(), QLineEdit()
        self.caption.setPlaceholderText(tr("caption: what it shows"))
        self.words.setPlaceholderText(tr("words at the arrow"))
        for line, name in ((self.caption, tr("Caption")), (self.words, tr("Words at the arrow"))):
            line.setAccessibleName(name)
            line.returnPressed.connect(self.keep)
            row.addWidget(line, 2 if line is self.caption else 1)
        self.words.textChanged.connect(lambda text: self.view.show_photo(self.view.image, self.view.arrow, text))
        layout.addLayout(row)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation) -> None:
        self.workspace, self.navigation = workspace, navigation
        self.left.connect(navigation.back_to_job)

    def _read_plot(self) -> None:
        """Take the photo for one of a screen, and read it."""
        token, caption = self.token, self.caption.text().strip()
        if token:
            self.commit()
            self.navigation.show_page("picture").show_photo(token, caption)

    def show_entry(self, entry) -> None:
        """Bring a photo of the trail up."""
        record = entry.record
        self._bring(entry, record.token, record.caption, record.arrow, record.words)

    def show_photo(self, token: str, caption: str) -> None:
        """Bring a photo of the shelf up, to be looked at."""
        self._bring(None, token, caption, (), "")

    def _bring(self, entry, token: str, caption: str, arrow: tuple[float, ...], words: str) -> None:
        self.commit()
        self.entry, self.token = entry, token
        self.job_id = self.workspace.job.id if self.workspace.job else None
        self.keep_button.setEnabled(entry is not None)
        self.caption.setText(caption)
        self.view.show_photo(QImage(), arrow, words)
        self.words.setText(words)

        def show(data: bytes) -> None:
            if self.token == token:
                self.view.show_photo(QImage.fromData(data), arrow, words)

        self.workspace.submit(GetPhoto(None, token), show, slot="photo")

    def _drawn(self, arrow: tuple[float, ...]) -> None:
        self.view.show_photo(self.view.image, arrow, self.words.text())

    def keep(self) -> None:
        """Keep caption, arrow and words, and go back to the bench."""
        self.commit()
        self.left.emit()

    def commit(self) -> None:
        entry, self.entry = self.entry, None
        if entry is None:
            return
        record = replace(
            entry.record, caption=self.caption.text().strip(), words=self.words.text().strip(), arrow=self.view.arrow
        )
        if record != entry.record:
            self.workspace.correct(entry, record, job=self.job_id)
