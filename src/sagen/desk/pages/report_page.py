"""The printed finding on the bench, page by page as it will be printed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import pypdfium2
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPixmap
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton, QScrollArea, QVBoxLayout, QWidget

from sagen.artifacts.atomic import write_whole
from sagen.desk.pages import Page
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SagenError
from sagen.model.language import tr

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation

#: what can be printed
PAGES = (
    ("capture", tr("This recording")), ("customer", tr("For the customer")), ("technician", tr("For the next technician")),
    ("work", tr("Parts and work")),
)  # fmt: skip
SCALE = 1.6  #: preview pixels a point


def page_images(pdf: bytes, scale: float = SCALE) -> list[QImage]:
    """Every page of a PDF as a picture."""
    document = pypdfium2.PdfDocument(pdf)
    images = []
    for page in document:
        bitmap = page.render(scale=scale, rev_byteorder=True, prefer_bgrx=True)
        array = bitmap.to_numpy()
        image = QImage(array.data, bitmap.width, bitmap.height, array.strides[0], QImage.Format.Format_RGBX8888)
        images.append(image.copy())
    document.close()
    return images


class ReportPage(Page):
    """Preview, save as PDF or HTML, print."""

    name, title = "report", tr("Printed pages")
    left = Signal()
    failed = Signal(str)
    saved = Signal(str)
    wanted = Signal(str)  #: another page

    def __init__(self, parent=None):
        super().__init__(parent)
        self.html, self.pdf, self.file_name = "", b"", "finding"
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        row = WrapRow()
        row.addWidget(Label(tr("Printed pages"), name="heading"))
        row.push_right()
        self.which = QComboBox()
        self.which.setAccessibleName(tr("Which page"))
        for key, words in PAGES:
            self.which.addItem(words, key)
        self.which.activated.connect(lambda _=0: self.wanted.emit(self.which.currentData()))
        row.addWidget(self.which)
        self.buttons: dict[str, QPushButton] = {}
        for name, words, action in (
            ("back", tr("Back"), self.left.emit),
            ("html", tr("Save HTML"), lambda: self._ask_and_save(".html")),
            ("pdf", tr("Save PDF"), lambda: self._ask_and_save(".pdf")),
            ("print", tr("Print"), self._print),
        ):
            button = QPushButton(words)
            button.clicked.connect(lambda _=False, action=action: action())
            self.buttons[name] = button
            row.addWidget(button)
        self.buttons["pdf"].setObjectName("first")
        layout.addLayout(row)
        self.scroll = QScrollArea()
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self.pages = QWidget()
        self.pages_layout = QVBoxLayout(self.pages)
        self.pages_layout.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.pages_layout.setSpacing(14)
        self.scroll.setWidget(self.pages)
        layout.addWidget(self.scroll, 1)

    def wire(self, navigation: Navigation, message: Message, commands: Commands) -> None:
        self.left.connect(navigation.back_to_job)
        self.failed.connect(message.say)
        self.saved.connect(message.say)
        self.wanted.connect(lambda page: commands.run("jobs.show_report", page))

    def show_report(self, html: str, pdf: bytes, images: list[QImage], name: str, which: str = "capture") -> None:
        self.which.setCurrentIndex(max(0, self.which.findData(which)))
        self.html, self.pdf, self.file_name = html, pdf, name
        while self.pages_layout.count():
            self.pages_layout.takeAt(0).widget().deleteLater()
        for number, image in enumerate(images, start=1):
            label = Label()
            wide = max(300, min(image.width(), self.width() - 36))
            ratio = self.devicePixelRatioF()
            picture = QPixmap.fromImage(image).scaledToWidth(
                int(wide * ratio), Qt.TransformationMode.SmoothTransformation
            )
            picture.setDevicePixelRatio(ratio)
            label.setPixmap(picture)
            label.setAccessibleName(tr("page {number} of {images}", number=number, images=len(images)))
            self.pages_layout.addWidget(label)

    def save(self, path: Path) -> None:
        """Write the report; raises SagenError when the disk refuses."""
        write_whole(path, self.pdf if path.suffix.lower() == ".pdf" else self.html.encode())

    def _ask_and_save(self, suffix: str) -> None:
        name, _ = QFileDialog.getSaveFileName(self, tr("Save the finding"), self.file_name + suffix, f"*{suffix}")
        if not name:
            return
        path = Path(name if name.lower().endswith(suffix) else name + suffix)
        try:
            self.save(path)
            self.saved.emit(tr("Saved as {path}", path=path))
        except SagenError as error:
            self.failed.emit(str(error))

    def _print(self) -> None:
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self).exec() != QPrintDialog.DialogCode.Accepted:
            return
        painter = QPainter()
        if not painter.begin(printer):
            self.failed.emit(tr("the printer cannot be reached"))
            return
        for number, image in enumerate(page_images(self.pdf, 300 / 72)):
            if number:
                printer.newPage()
            target = painter.viewport()
            size = image.size().scaled(target.size(), Qt.AspectRatioMode.KeepAspectRatio)
            painter.drawImage(target.x(), target.y(), image.scaled(size))
        painter.end()
