"""Text from a file or a person is never markup: labels and tips that show every letter as it is."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtGui import Qt as QtText
from PySide6.QtWidgets import QLabel, QSizePolicy, QWidget

ONE_LINE_PX = 40  #: height of a field of one line


class Label(QLabel):
    """A label of plain text; every label of the desk is one."""

    def __init__(self, text: str = "", parent: QWidget | None = None, *, name: str = "", wrap: bool = False):
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)
        if name:
            self.setObjectName(name)
        self.setWordWrap(wrap)


def field_label(name: str, field: QWidget) -> Label:
    """The label of a field in a form, in the middle beside its first line."""
    label = Label(name)
    label.setBuddy(field)
    field.ensurePolished()
    label.setMinimumHeight(min(field.sizeHint().height(), ONE_LINE_PX))
    return label


class Said(Label):
    """A line that is in sight only while it says something."""

    def setText(self, text: str) -> None:
        super().setText(text)
        self.setVisible(bool(text))


class ElidedLabel(Label):
    """One line that gives way: what does not fit is cut with an ellipsis, and the whole stands in the tip."""

    def __init__(self, text: str = "", parent: QWidget | None = None, *, name: str = ""):
        super().__init__("", parent, name=name)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(40)
        self._whole = ""
        self.setText(text)

    def setText(self, text: str) -> None:
        self._whole = text.replace("\n", "  ")
        self._fit()

    def whole(self) -> str:
        """The text, uncut."""
        return self._whole

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        shown = QFontMetrics(self.font()).elidedText(self._whole, Qt.TextElideMode.ElideRight, max(self.width(), 40))
        super().setText(shown)
        self.setToolTip(plain_tip(self._whole) if shown != self._whole else "")


def plain_tip(text: str) -> str:
    """A tip that shows `text` letter by letter: Qt guesses whether a tip is rich text, and this leaves it nothing to
    guess."""
    return f"<qt>{escape(text).replace(chr(10), '<br>')}</qt>" if QtText.mightBeRichText(text) else text
