"""The shelf on the bench: known-good captures by machine and circuit, and the cards."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.casework.shelf import DropKept, ListShelf, LookAtPattern, Shelf
from sagen.desk.actions import Hint
from sagen.desk.pages import Page
from sagen.desk.pages.pattern_view import PatternView
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import lowered, tr
from sagen.model.pattern import Pattern
from sagen.model.words import PATTERN_SOURCES, ROLES, STATES

if TYPE_CHECKING:
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace


NONE_YET = tr(
    "None yet. Open a capture that shows a sound circuit, after a proven repair for one, and press Keep as "
    "known-good: it is offered by itself when the next capture of that circuit comes in."
)
NONE_FOUND = tr("None of them holds all these words.")


def _told(pattern: Pattern) -> tuple[str, ...]:
    """All words that a known-good capture is found by."""
    wheels = [item.wheel for item in pattern.sheet.channel if item.wheel]
    return (
        pattern.card, pattern.circuit, pattern.name, STATES[pattern.sheet.conditions.state], PATTERN_SOURCES[pattern.source],
        *wheels, *map(str, pattern.roles),
    )  # fmt: skip


def _holds(words: list[str], *told: str) -> bool:
    text = " ".join(told).casefold()
    return all(word in text for word in words)


class ShelfPage(Page):
    """What was kept for the next job."""

    name, title = "shelf", tr("Shelf")
    left = Signal()
    hints = (Hint(tr("Enter"), tr("lay the chosen one under the capture on the bench")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Shelf"), name="heading"), 1)
        self.under, self.drop, back = (
            QPushButton(tr("Lay under the capture")),
            QPushButton(tr("Take off")),
            QPushButton(tr("Back")),
        )
        self.under.setObjectName("first")
        self.under.setToolTip(tr("Lay the chosen known-good capture under the one on the bench, in every lens"))
        self.drop.setToolTip(tr("Take the chosen one off the shelf; jobs that used it keep it"))
        self.under.clicked.connect(self._lay)
        self.drop.clicked.connect(self._drop)
        back.clicked.connect(self.left)
        for item in (self.under, self.drop, back):
            head.addWidget(item)
        layout.addLayout(head)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search: machine, circuit, wheel, state, name …"))
        self.search.setAccessibleName(tr("Search the shelf"))
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._fill())
        layout.addWidget(self.search)
        layout.addWidget(Label(tr("KNOWN-GOOD CAPTURES"), name="over"))
        self.patterns = TextTable(
            (tr("Machine"), tr("Circuit"), tr("State"), tr("rpm"), tr("From"), tr("Capture")),
            tr("Known-good captures"),
            stretch=0,
        )
        self.patterns.activated.connect(lambda _: self._lay())
        self.patterns.itemSelectionChanged.connect(self._look)
        layout.addWidget(self.patterns, 3)
        self.view = PatternView()
        self.view.show_look(None)
        layout.addWidget(self.view)
        self.shelf = Shelf()
        self.empty = Label(NONE_YET, name="quiet", wrap=True)
        layout.addWidget(self.empty)
        layout.addWidget(Label(tr("MACHINE CARDS"), name="over"))
        self.cards = TextTable((tr("Machine"), tr("Years"), tr("Circuits")), tr("Machine cards"), stretch=0)
        self.cards.activated.connect(lambda _: self._card())
        layout.addWidget(self.cards, 2)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands) -> None:
        self.workspace, self.navigation, self.commands = workspace, navigation, commands
        self.left.connect(navigation.back_to_job)

    def on_shown(self) -> None:
        self.workspace.submit(ListShelf(None), self.show_shelf, slot="shelf")

    def show_shelf(self, shelf: Shelf) -> None:
        """List what stands on the shelf."""
        self.shelf = shelf
        self._fill()

    def _fill(self) -> None:
        """The rows that hold every word that is searched for."""
        words = self.search.text().casefold().split()
        shelf = Shelf(
            tuple(
                row
                for row in self.shelf.cards
                if _holds(words, row[1].title, row[1].years, *(x.name for x in row[1].circuit))
            ),
            tuple(row for row in self.shelf.patterns if _holds(words, *_told(row[1]))),
        )
        self.patterns.show_rows([
            ((item.card, item.circuit or ", ".join(sorted(lowered(ROLES[role]) for role in item.roles)), STATES[item.sheet.conditions.state],
              f"{item.rpm:.0f}" if item.rpm else "", PATTERN_SOURCES[item.source], item.name), "", (kept_id, item))
            for kept_id, item in shelf.patterns
        ])  # fmt: skip
        self.cards.show_rows([
            ((card.title, card.years, ", ".join(item.name for item in card.circuit)), "", (kept_id, card))
            for kept_id, card in shelf.cards
        ])  # fmt: skip
        self.empty.setText(NONE_FOUND if self.shelf.patterns else NONE_YET)
        self.empty.setVisible(not shelf.patterns)
        self.under.setEnabled(bool(shelf.patterns) and self.workspace.opened is not None)
        self.drop.setEnabled(bool(shelf.patterns) or bool(shelf.cards))

    def _look(self) -> None:
        """Draw the chosen known-good capture."""
        row = self.patterns.chosen() if self.patterns.selectedItems() else None
        if row is None:
            self.view.show_look(None)
            return

        def show(look) -> None:
            chosen = self.patterns.chosen()
            if chosen is not None and chosen[0] == row[0]:
                self.view.show_look(look)

        self.workspace.submit(LookAtPattern(None, row[1]), show, slot="shelf look")

    def _lay(self) -> None:
        row = self.patterns.chosen()
        if row is not None:
            self.commands.run("captures.lay_under", row[1].name, row[1].token, row[1].sheet)

    def _drop(self) -> None:
        table = self.cards if self.cards.hasFocus() else self.patterns
        row = table.chosen()
        if row is not None:
            self.workspace.submit(DropKept(None, row[0]), self.show_shelf)

    def _card(self) -> None:
        row = self.cards.chosen()
        if row is not None:
            self.navigation.show_page("card").show_card(row[1], row[0])
