"""What all forms have: fields, a message line, two buttons."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.theme.plain import Label, field_label
from sagen.model.language import tr
from sagen.model.trail import (
    Record,
)
from sagen.model.words import (
    ENTRY_TITLES,
)

#: px of a screen that the frame of a window takes
FRAME = 40
NOTHING_YET = tr("There is nothing to put on the trail yet.")


class Form(QDialog):
    """A dialog with fields, a message line and two buttons."""

    def __init__(self, title: str, accept: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(540)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        head = Label(title)
        head.setObjectName("heading")
        layout.addWidget(head)
        self._first: QWidget | None = None
        self.area: QScrollArea | None = None  #: what the fields are scrolled in, on a low screen
        self._held = 0  #: px that the fields took when the form was fitted last
        self.inside = QWidget()
        self.fields = QFormLayout(self.inside)
        self.fields.setContentsMargins(0, 0, 0, 0)
        self.fields.setHorizontalSpacing(14)
        layout.addWidget(self.inside)
        self.message = Label()
        self.message.setObjectName("error")
        self.message.setWordWrap(True)
        self.message.hide()
        layout.addWidget(self.message)
        row = self.buttons = QHBoxLayout()
        row.addStretch(1)
        cancel = QPushButton(tr("Cancel"))
        self.ok = QPushButton(accept)
        self.ok.setObjectName("first")
        self.ok.setDefault(True)
        row.addWidget(cancel)
        row.addWidget(self.ok)
        layout.addLayout(row)
        cancel.clicked.connect(self.reject)
        self.ok.clicked.connect(self._try)

    def showEvent(self, event) -> None:
        """As tall as the words need: a form's layout does not ask wrapped lines for their height."""
        super().showEvent(event)
        self._fit()
        self.inside.installEventFilter(self)

    def eventFilter(self, watched, event) -> bool:
        """A field that grows while the form is open, as a picture does, makes the form grow."""
        if event.type() == QEvent.Type.LayoutRequest and watched is self.inside:
            QTimer.singleShot(0, self, self._grow)
        return super().eventFilter(watched, event)

    def _grow(self) -> None:
        if self.isVisible() and self.inside.sizeHint().height() > self._held:
            self._fit()

    def _fit(self) -> None:
        for label in self.findChildren(Label):
            if label.wordWrap() and label.isVisible():
                label.setMinimumHeight(max(0, label.heightForWidth(label.width())))
        self._held = self.inside.sizeHint().height()
        room = self.screen().availableGeometry().height() - FRAME
        if self.area is None:
            self.adjustSize()
            if self.sizeHint().height() <= room:
                return
            # On a low screen the fields are scrolled, and the buttons below them stay in sight.
            self.area = QScrollArea()
            self.area.setFrameShape(QFrame.Shape.NoFrame)
            self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.area.setWidgetResizable(True)
            bar = self.area.verticalScrollBar().sizeHint().width()
            self.area.setMinimumWidth(self.inside.minimumSizeHint().width() + bar)
            self.layout().replaceWidget(self.inside, self.area)
            self.area.setWidget(self.inside)
            self.layout().activate()
        self.resize(self.width(), room)

    def add(self, name: str, field: QWidget) -> QWidget:
        self._put(name, field, field)
        return field

    def add_beside(self, name: str, *fields: QWidget) -> None:
        """Fields in one row; the first has the label."""
        together = QWidget(self)
        row = QHBoxLayout(together)
        row.setContentsMargins(0, 0, 0, 0)
        for field in fields:
            row.addWidget(field, 1)
        self._put(name, fields[0], together)

    def _put(self, name: str, field: QWidget, row: QWidget) -> None:
        """A row of the form, labelled for its first field."""
        self.fields.addRow(field_label(name, field), row)
        if self._first is None:
            self._first = field
            field.setFocus()  # ready to type; else the default button has the keyboard

    def problem(self) -> str:
        """What is wrong with the answers, or an empty string."""
        return ""

    def _try(self) -> None:
        wrong = self.problem()
        self.message.setText(wrong)
        self.message.setVisible(bool(wrong))
        if wrong:
            self.layout().activate()
            self._fit()
        else:
            self.accept()


class EntryForm(Form):
    """One entry of the trail, new or to be corrected. Each kind has its own fields and gives its own record."""

    record: ClassVar[type[Record]]

    def __init__(self, old: Record | None = None, parent: QWidget | None = None, likely: Record | None = None):
        """`old` is the entry that is corrected; `likely` is what a new one would most likely be, to begin with."""
        super().__init__(
            ENTRY_TITLES[self.record.kind], tr("Put on the trail") if old is None else tr("Correct"), parent
        )
        self.build(old if old is not None else likely)

    def build(self, old: Record | None) -> None:
        """Make the fields and fill them from the entry that is corrected."""
        raise TypeError(f"{type(self).__name__} has no fields")

    def answer(self) -> Record:
        """The record as answered."""
        raise TypeError(f"{type(self).__name__} gives no record")

    def choice(self, name: str, words: dict, chosen) -> QComboBox:
        """A box with the words of a closed set."""
        box = self.add(name, QComboBox())
        for key, said in words.items():
            box.addItem(said, key)
        box.setCurrentIndex(max(0, box.findData(chosen)))
        return box

    def lines(self, name: str, text: str) -> QPlainTextEdit:
        """A field for several lines; Tab leaves it."""
        field = self.add(name, QPlainTextEdit(text))
        field.setMinimumHeight(90)
        field.setTabChangesFocus(True)
        return field
