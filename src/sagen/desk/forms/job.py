"""A new job."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime

from PySide6.QtWidgets import (
    QComboBox,
    QLineEdit,
    QWidget,
)

from sagen.casework.new_job import FirstTold, banks_of, spots_of_codes
from sagen.casework.words import generic_meaning
from sagen.codes import parse_code
from sagen.codes.lookup import table
from sagen.desk.forms.base import Form
from sagen.desk.forms.engine_pick import EnginePick
from sagen.model.errors import SagenError
from sagen.model.language import said_date, tr
from sagen.model.machine_card import MachineCard
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
        self.addItem(tr("or one by its meaning"), "")
        for code, told in sorted(table().items()):
            self.addItem(f"{code}  {told.text}", code)
        self.setMinimumContentsLength(12)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
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
        self.setMinimumWidth(780)
        self.card: MachineCard | None = None
        self.machine, self.cards = QLineEdit(), QComboBox()
        self.machine.setPlaceholderText(tr("make, model, engine, plate"))
        self.machine.setToolTip(tr("Left empty it is named by the date"))
        self.cards.setAccessibleName(tr("Machine, from the cards on the shelf"))
        self.cards.activated.connect(lambda _=0: self._take_card(self.cards.currentData()))
        self.add_beside(tr("Machine"), self.machine, self.cards)
        self.show_cards(())
        self.owner = self.add(tr("Customer"), QLineEdit())
        self.complaint = self.add(tr("Complaint"), QComboBox())
        self.complaint.addItem(tr("Not said"), None)
        for key, words in COMPLAINTS.items():
            self.complaint.addItem(words, key)
        self.words = self.add("", QLineEdit())
        self.words.setPlaceholderText(tr("in the customer's words; may be empty"))
        self.words.setAccessibleName(tr("Complaint in the customer's words"))
        self.codes, self.pick = QLineEdit(), CodePick(self._picked)
        self.codes.setPlaceholderText(tr("as P0335 P0340, or empty"))
        self.add_beside(tr("Codes"), self.codes, self.pick)
        self.changed = self.add(tr("Changed before"), QComboBox())
        self.changed.addItem(tr("Nothing that is known"), None)
        for part, words in PARTS.items():
            self.changed.addItem(words, part)
        self.cylinders, self.banks, self.wires = QComboBox(), QComboBox(), QComboBox()
        self.cylinders.addItem(tr("Cylinders: ?"), None)
        for count in CYLINDERS:
            self.cylinders.addItem(tr("{count} cylinders", count=count), count)
        for words, count in ((tr("Banks: ?"), None), (tr("One bank"), 1), (tr("Two banks"), 2)):
            self.banks.addItem(words, count)
        for words, count in (
            (tr("Its wires: ?"), None),
            (tr("2 wires at its plug"), 2),
            (tr("3 wires at its plug"), 3),
        ):
            self.wires.addItem(words, count)
        self.add_beside(tr("Engine"), self.cylinders, self.banks, self.wires)
        self.cylinders.setAccessibleName(tr("Cylinders"))
        self.banks.setAccessibleName(tr("Banks"))
        self.wires.setAccessibleName(tr("Wires at the sensor's plug"))
        self.engine = EnginePick(self._told)
        self.add(tr("It is about"), self.engine)
        self.codes.textChanged.connect(lambda _="": self._told())
        for box in (self.cylinders, self.banks):
            box.currentIndexChanged.connect(lambda _=0: self._told())
        self.wires.setEnabled(False)

    def show_cards(self, cards: Iterable[MachineCard]) -> None:
        """The cards that a machine can be taken from."""
        self.cards.clear()
        self.cards.addItem(tr("or one of the cards"), None)
        for card in cards:
            self.cards.addItem(card.title, card)
        self.cards.setVisible(self.cards.count() > 1)

    def _take_card(self, card: MachineCard | None) -> None:
        self.card = card
        if card is not None:
            self.machine.setText(card.title)
            self.cylinders.setCurrentIndex(max(0, self.cylinders.findData(card.cylinders)))
        self._told()

    def _told(self) -> None:
        """The picture as far as it is known by now: banks and cylinders, and where codes point until somebody presses."""
        codes = self.code_list()
        banks = self.banks.currentData() or banks_of(self.card, codes)
        self.engine.show_engine(banks, self.cylinders.currentData())
        if not self.engine.touched:
            self.engine.show_pressed(spots_of_codes(codes, banks))
        self.wires.setEnabled(self.engine.touched and bool(self.engine.pressed()))

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
        """What the new job's trail begins with. Where a code points is not stated once more."""
        complaint, text = self.complaint.currentData(), self.words.text().strip()
        told: list[Record] = [ComplaintEntry(complaint, text)] if complaint or text else []
        told += [code_entry(item) for item in self.code_list()]
        told += [ReplacedEntry(self.changed.currentData())] if self.changed.currentData() else []
        pressed = self.engine.pressed() if self.engine.touched else ()
        return FirstTold(tuple(told), self.card, pressed, self.wires.currentData()).records()


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
