"""A new job."""

from __future__ import annotations

import re
from datetime import datetime

from PySide6.QtWidgets import (
    QComboBox,
    QLineEdit,
    QWidget,
)

from sagen.casework.words import generic_meaning
from sagen.codes import parse_code
from sagen.codes.lookup import table
from sagen.desk.forms.base import Form
from sagen.model.errors import SagenError
from sagen.model.language import said_date, tr
from sagen.model.trail import (
    CodeEntry,
    ComplaintEntry,
    Record,
    ReplacedEntry,
)
from sagen.model.vocabulary import (
    CodeKind,
)
from sagen.model.words import (
    COMPLAINTS,
    PARTS,
)

#: counts that engines have
CYLINDERS = (*range(1, 13), 16)


class CodePick(QComboBox):
    """Generic codes by what they mean, for a hand without a keyboard; tells the chosen one through `took`."""

    def __init__(self, took, parent: QWidget | None = None):
        super().__init__(parent)
        self.addItem(tr("or choose one by its meaning"), "")
        for code, told in sorted(table().items()):
            self.addItem(f"{code}  {told.text}", code)
        self.setMaximumWidth(420)
        # A list that scrolls, not one as tall as the screen.
        self.setStyleSheet("combobox-popup: 0;")
        self.setMaxVisibleItems(14)
        self.setAccessibleName(tr("Generic codes by their meaning"))
        self.activated.connect(lambda _=0: took(self.currentData()) if self.currentData() else None)


class JobForm(Form):
    """A new job, in the order in which people tell it: machine, customer, complaint, codes, what was changed before. Nothing is
    chosen that nobody said."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("New job"), tr("Start job"), parent)
        self.setMinimumWidth(720)
        self.machine = self.add(tr("Machine"), QLineEdit())
        self.machine.setPlaceholderText(tr("make, model, engine, plate; empty: named by the date"))
        self.owner = self.add(tr("Customer"), QLineEdit())
        self.complaint = self.add(tr("Complaint"), QComboBox())
        self.complaint.addItem(tr("Not said"), None)
        for key, words in COMPLAINTS.items():
            self.complaint.addItem(words, key)
        self.words = self.add("", QLineEdit())
        self.words.setPlaceholderText(tr("in the customer's words; may be empty"))
        self.words.setAccessibleName(tr("Complaint in the customer's words"))
        self.codes = self.add(tr("Codes"), QLineEdit())
        self.codes.setPlaceholderText(tr("as P0335 P0340; may be empty"))
        self.pick = self.add("", CodePick(self._picked))
        self.changed = self.add(tr("Changed before"), QComboBox())
        self.changed.addItem(tr("Nothing that is known"), None)
        for part, words in PARTS.items():
            self.changed.addItem(words, part)
        self.cylinders = self.add(tr("Cylinders"), QComboBox())
        self.cylinders.addItem(tr("Not known"), None)
        for count in CYLINDERS:
            self.cylinders.addItem(str(count), count)

    def _picked(self, code: str) -> None:
        if code not in self.code_list():
            self.codes.setText(" ".join([*self.code_list(), code]))

    def name(self) -> str:
        """The machine as named, else by the date."""
        return self.machine.text().strip() or tr("Machine of {when}", when=said_date(datetime.now(), clock=True))

    def code_list(self) -> list[str]:
        return [word for word in re.split(r"[\s,;]+", self.codes.text().upper()) if word]

    def problem(self) -> str:
        for item in self.code_list():
            try:
                parse_code(item)
            except SagenError:
                return tr("'{item}' is not a trouble code such as P0335.", item=item)
        return ""

    def records(self) -> list[Record]:
        """What the new job's trail begins with."""
        complaint, text = self.complaint.currentData(), self.words.text().strip()
        told: list[Record] = [ComplaintEntry(complaint, text)] if complaint or text else []
        told += [code_entry(item) for item in self.code_list()]
        return [*told, *([ReplacedEntry(self.changed.currentData())] if self.changed.currentData() else [])]


def code_entry(text: str, meant: str = "", says: CodeKind | None = None) -> CodeEntry:
    """A code's entry, with what a generic code means; raises SagenError for what is no code."""
    code = parse_code(text)
    return CodeEntry(code, meant or generic_meaning(code), says)


class CylindersForm(Form):
    """How many cylinders an engine has, where the job does not say."""

    def __init__(self, parent=None):
        super().__init__(tr("How many cylinders has it?"), tr("Go on"), parent)
        self.count = self.add(tr("Cylinders"), QComboBox())
        for count in CYLINDERS:
            self.count.addItem(str(count), count)
        self.count.setCurrentIndex(-1)

    def problem(self) -> str:
        return "" if self.count.currentIndex() >= 0 else tr("How many cylinders?")

    def answer(self) -> int:
        return self.count.currentData()
