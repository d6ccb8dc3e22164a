"""Everything that came and went in a capture: rows that jump to their place, and what they go with onto the trail."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from sagen.casework.events import Event, Hunted
from sagen.desk.forms.base import Form
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import figure, tr
from sagen.model.trail import NoteEntry

MOST_SHOWN = 500


def event_rows(events: tuple[Event, ...]) -> list[tuple[tuple[str, ...], str, Event]]:
    """Events as rows of a table: when, what, and what else happened then."""
    return [((figure(event.start_s, ".3f"), *event.text.partition("; ")[::2]), "", event) for event in events]


class EventsForm(Form):
    """What the hunt found. Accepted, what was said of it goes on the trail."""

    def __init__(self, name: str, found: Hunted, parent: QWidget | None = None):
        super().__init__(tr("Events in {name}", name=name), tr("Put on the trail"), parent)
        self.found, self.name = found, name
        self.setMinimumSize(760, 420)
        self.fields.addRow(Label(" ".join(found.said), wrap=True))
        self.table = TextTable(("s", tr("Event"), tr("What else happened then")), tr("Events"), stretch=2)
        self.table.setMinimumHeight(260)
        self.table.show_rows(event_rows(found.events[:MOST_SHOWN]))
        self.fields.addRow(self.table)
        self.table.setVisible(bool(found.events))
        self.jump_to: Event | None = None
        self.table.activated.connect(lambda _: self._jump())
        self.ok.setEnabled(bool(found.events))

    def _jump(self) -> None:
        self.jump_to = self.table.chosen()
        self.reject()

    def answer(self) -> NoteEntry:
        return NoteEntry.of_message(self.found.note(self.name))
