"""Small forms: a new job, a trail entry."""

from __future__ import annotations

import re

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from sagen.model.job import ENTRY_TITLES
from sagen.model.words import COMPLAINTS

CODE = re.compile(r"[PCBU][0-3][0-9A-F]{3}")


class Form(QDialog):
    """A dialog with fields, a message line and two buttons."""

    def __init__(self, title: str, accept: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        head = QLabel(title)
        head.setObjectName("heading")
        layout.addWidget(head)
        self.fields = QFormLayout()
        self.fields.setHorizontalSpacing(14)
        layout.addLayout(self.fields)
        self.message = QLabel()
        self.message.setObjectName("error")
        self.message.setWordWrap(True)
        self.message.hide()
        layout.addWidget(self.message)
        row = QHBoxLayout()
        row.addStretch(1)
        cancel = QPushButton("Cancel")
        self.ok = QPushButton(accept)
        self.ok.setObjectName("first")
        self.ok.setDefault(True)
        row.addWidget(cancel)
        row.addWidget(self.ok)
        layout.addLayout(row)
        cancel.clicked.connect(self.reject)
        self.ok.clicked.connect(self._try)

    def add(self, name: str, field: QWidget) -> QWidget:
        label = QLabel(name)
        label.setBuddy(field)
        self.fields.addRow(label, field)
        return field

    def problem(self) -> str:
        """What is wrong with the answers, or an empty string."""
        return ""

    def _try(self) -> None:
        wrong = self.problem()
        self.message.setText(wrong)
        self.message.setVisible(bool(wrong))
        if not wrong:
            self.accept()


class JobForm(Form):
    """A new job: machine, customer, complaint, codes."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__("New job", "Start job", parent)
        self.machine = self.add("Machine", QLineEdit())
        self.machine.setPlaceholderText("make, model, engine, plate")
        self.owner = self.add("Customer", QLineEdit())
        self.cylinders = self.add("Cylinders", QSpinBox())
        self.cylinders.setRange(1, 24)
        self.cylinders.setValue(4)
        self.cylinders.setMinimumHeight(38)
        self.complaint = self.add("Complaint", QComboBox())
        for key, words in COMPLAINTS.items():
            self.complaint.addItem(words, key)
        self.codes = self.add("Codes", QLineEdit())
        self.codes.setPlaceholderText("as P0335 P0340; may be empty")

    def code_list(self) -> list[str]:
        return [one for one in re.split(r"[\s,;]+", self.codes.text().upper()) if one]

    def problem(self) -> str:
        if not self.machine.text().strip():
            return "A job needs a machine."
        wrong = [one for one in self.code_list() if not CODE.fullmatch(one)]
        return f"'{wrong[0]}' is not a trouble code such as P0335." if wrong else ""


class EntryForm(Form):
    """One entry of the trail, new or to be corrected."""

    def __init__(self, kind: str, data: dict | None = None, parent: QWidget | None = None):
        title = ENTRY_TITLES[kind]
        super().__init__(title, "Put on the trail" if data is None else "Correct", parent)
        self.kind, self.data = kind, dict(data or {})
        if kind == "code":
            self.text = self.add("Code", QLineEdit(self.data.get("code", "")))
            self.meaning = self.add("Meaning", QLineEdit(self.data.get("meaning", "")))
            self.meaning.setPlaceholderText("as the maker words it; may be empty")
        elif kind == "complaint":
            self.text = self.add("Complaint", QComboBox())
            for key, words in COMPLAINTS.items():
                self.text.addItem(words, key)
            self.text.setCurrentIndex(max(0, self.text.findData(self.data.get("text"))))
        else:
            self.text = self.add("What", QPlainTextEdit(self.data.get("text", "")))
            self.text.setMinimumHeight(110)

    def answer(self) -> dict:
        if self.kind == "code":
            return {
                **self.data,
                "code": self.text.text().strip().upper(),
                "meaning": self.meaning.text().strip(),
            }
        if self.kind == "complaint":
            return {**self.data, "text": self.text.currentData()}
        return {**self.data, "text": self.text.toPlainText().strip()}

    def problem(self) -> str:
        if self.kind == "code":
            code = self.text.text().strip().upper()
            return "" if CODE.fullmatch(code) else f"'{code}' is not a trouble code such as P0335."
        if self.kind != "complaint" and not self.text.toPlainText().strip():
            return "There is nothing to put on the trail yet."
        return ""
