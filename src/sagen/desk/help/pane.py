"""The guide beside the page that it is about."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files

from PySide6.QtCore import QPoint, QPointF, QSize, Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QImage, QPixmap, QTextCursor, QTextDocument
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QPushButton,
    QTextBrowser,
    QToolButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from sagen.desk.parts import CloseButton
from sagen.desk.theme.plain import Label
from sagen.model.language import spoken, tr

MARK = re.compile(r"<!-- pages: ([a-z ]+) -->\n")
FOLDER = files("sagen.desk.help")


@cache
def chapters() -> dict[str, str]:
    """The guide's chapters by title, as Markdown, in their order, in the language that is spoken where it is written in that."""
    own = FOLDER.joinpath(f"guide.{spoken()}.md")
    text = (own if own.is_file() else FOLDER.joinpath("guide.md")).read_text(encoding="utf-8")
    parts = re.split(r"^## (.+)$", text, flags=re.MULTILINE)
    return dict(zip(parts[1::2], parts[2::2], strict=True))


def chapter_of(page: str) -> str:
    """The title of the chapter that a page is told in; that of the first job for one that has none."""
    found = (title for title, text in chapters().items() if page in MARK.search(text)[1].split())
    return next(found, next(iter(chapters())))


class ChapterText(QTextBrowser):
    """A chapter of the guide, its pictures as wide as the pane; a press shows one as large as it was taken."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("chapter")
        self.setOpenLinks(False)
        self.large: QDialog | None = None
        self._chapter, self._laid = "", 0
        # Laid out anew only once the event loop is back: a document that is changed while Qt lays it out takes the program along.
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self._again = QTimer(self, singleShot=True, interval=0)
        self._again.timeout.connect(self._lay_again)

    def show_chapter(self, text: str) -> None:
        # The guide is ours and ships with the program: the one text that may be marked up.
        self._chapter, self._laid = text, self.viewport().width()
        self.document().clear()  # with the pictures of another width
        self.setMarkdown(self._chapter)
        self._wrap_commands()

    def _wrap_commands(self) -> None:
        """Lines of code, too, end where the pane does."""
        cursor, block = QTextCursor(self.document()), self.document().begin()
        while block.isValid():
            form = block.blockFormat()
            if form.nonBreakableLines():
                form.setNonBreakableLines(False)
                cursor.setPosition(block.position())
                cursor.setBlockFormat(form)
            block = block.next()

    def loadResource(self, kind: int, name: QUrl) -> object:
        found = FOLDER.joinpath(name.path())
        if kind != QTextDocument.ResourceType.ImageResource.value or not found.is_file():
            return None
        image, ratio = QImage.fromData(found.read_bytes()), self.devicePixelRatioF()
        width = min(image.width(), self.viewport().width() - 2 * int(self.document().documentMargin()))
        image = image.scaledToWidth(max(int(width * ratio), 1), Qt.TransformationMode.SmoothTransformation)
        image.setDevicePixelRatio(ratio)
        return image

    def mouseReleaseEvent(self, event) -> None:
        super().mouseReleaseEvent(event)
        name = self.picture_at(event.position().toPoint())
        if name:
            self.show_large(name)

    def mouseMoveEvent(self, event) -> None:
        super().mouseMoveEvent(event)
        shape = (
            Qt.CursorShape.PointingHandCursor
            if self.picture_at(event.position().toPoint())
            else Qt.CursorShape.IBeamCursor
        )
        self.viewport().setCursor(shape)

    def picture_at(self, point: QPoint) -> str:
        """The name of the picture there; "" where there is none."""
        layout = self.document().documentLayout()
        offset = QPointF(self.horizontalScrollBar().value(), self.verticalScrollBar().value())
        form = layout.formatAt(QPointF(point) + offset)
        return form.toImageFormat().name() if form.isImageFormat() else ""

    def show_large(self, name: str) -> None:
        self.large = QDialog(self)
        self.large.setWindowTitle(tr("Picture of the guide"))
        picture, label = QPixmap(), Label()
        picture.loadFromData(FOLDER.joinpath(name).read_bytes())
        room = self.large.screen().availableSize() - QSize(40, 80)
        if picture.width() > room.width() or picture.height() > room.height():
            picture = picture.scaled(
                room, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
        label.setPixmap(picture)
        label.setAccessibleName(tr("Picture of the guide"))
        layout = QVBoxLayout(self.large)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(label)
        self.large.finished.connect(self._closed)
        self.large.open()

    def _closed(self, _result: int) -> None:
        self.large.deleteLater()
        self.large = None

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        if self._chapter and self.viewport().width() != self._laid:
            self._again.start()

    def _lay_again(self) -> None:
        if self.viewport().width() != self._laid:
            at = self.verticalScrollBar().value()
            self.show_chapter(self._chapter)
            self.verticalScrollBar().setValue(at)


class GuidePane(QWidget):
    """One chapter, with the way to the others."""

    left = Signal()
    keys = Signal()
    report = Signal()
    about = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 8, 8)
        layout.setSpacing(6)
        head = QHBoxLayout()
        self.choice = QComboBox()
        self.choice.setAccessibleName(tr("Chapter of the guide"))
        self.choice.addItems(list(chapters()))
        self.choice.setMinimumContentsLength(12)
        self.choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.choice.textActivated.connect(self.show_chapter)
        head.addWidget(self.choice, 1)
        close = CloseButton(tr("Close the guide (Esc)"))
        close.clicked.connect(self.left)
        head.addWidget(close, 0, Qt.AlignmentFlag.AlignTop)
        layout.addLayout(head)
        self.text = ChapterText()
        self.text.setAccessibleName(tr("Guide"))
        layout.addWidget(self.text, 1)
        row = QHBoxLayout()
        row.setSpacing(4)
        before, after = QToolButton(), QToolButton()
        keys, report, about = (QPushButton(words) for words in (tr("Keys"), tr("Report"), tr("About")))
        before.setArrowType(Qt.ArrowType.LeftArrow)
        after.setArrowType(Qt.ArrowType.RightArrow)
        before.setAccessibleName(tr("The chapter before"))
        after.setAccessibleName(tr("The next chapter"))
        before.clicked.connect(lambda: self._turn(-1))
        after.clicked.connect(lambda: self._turn(1))
        keys.setToolTip(tr("All keys (Shift+F1)"))
        keys.clicked.connect(self.keys)
        report.setToolTip(tr("Save a report for support, without names of persons, machines and files"))
        report.clicked.connect(self.report)
        about.setToolTip(tr("Version, and the licences of what it is made of"))
        about.clicked.connect(self.about)
        for button in (before, after, keys, report, about):
            row.addWidget(button)
        row.addStretch(1)
        layout.addLayout(row)
        self.title = ""

    def show_chapter(self, title: str) -> None:
        self.title = title
        self.choice.setCurrentText(title)
        self.text.show_chapter(f"### {title}\n{MARK.sub('', chapters()[title])}")

    def _turn(self, by: int) -> None:
        titles = list(chapters())
        self.show_chapter(titles[(titles.index(self.title) + by) % len(titles)])

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
