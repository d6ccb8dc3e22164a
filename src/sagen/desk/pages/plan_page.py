"""The plan on the bench: checks in the order that shares openings, what is open, and replace now against one more check."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from sagen.desk.actions import Action, Hint
from sagen.desk.forms.work import CostsForm
from sagen.desk.pages import Page
from sagen.desk.pages.way_bars import WayBars
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.trail import CostsEntry, PlaceEntry
from sagen.model.vocabulary import EntryKind, Place
from sagen.model.words import PLACES

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace

HEADS = ("", "Check", "Where", "Minutes", "Why")
MOST = 14


class PlanPage(Page):
    """Enter does the chosen check; the digits open and close places."""

    name, title = "plan", "Plan"
    left = Signal()
    shortcuts = tuple(
        Action(f"Alt+{k}", f"open or close: {PLACES[place].lower()}", lambda page, place=place: page.toggle(place))
        for k, place in enumerate(Place, start=1)
    )
    hints = (Hint("Enter", "do the chosen check"),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(Label("Plan", name="heading"), 1)
        self.costs = QPushButton("Costs")
        self.costs.setToolTip("What an hour, a come-back, a day of standing and the part cost in this job")
        self.costs.clicked.connect(self._costs)
        self.do = QPushButton("Do this check")
        self.do.setObjectName("first")
        self.do.clicked.connect(self._do)
        back = QPushButton("Back")
        back.clicked.connect(self.left)
        for each in (self.costs, self.do, back):
            head.addWidget(each)
        layout.addLayout(head)
        places = QHBoxLayout()
        places.setSpacing(5)
        self.places: dict[Place, QPushButton] = {}
        for k, place in enumerate(Place, start=1):
            button = QPushButton()
            button.setObjectName("tight")
            button.setCheckable(True)
            button.setToolTip(f"Open or close it (Alt+{k}): once open its access costs nothing until it is closed")
            button.clicked.connect(lambda _=False, item=place: self.toggle(item))
            self.places[place] = button
            places.addWidget(button)
        layout.addLayout(places)
        self.before = Label(name="caution", wrap=True)
        layout.addWidget(self.before)
        self.table = TextTable(HEADS, "Checks in their order", stretch=4)
        self.table.setColumnWidth(1, 190)
        self.table.activated.connect(lambda _: self._do())
        layout.addWidget(self.table, 1)
        self.empty = Label(
            "Nothing to plan yet: put a code, a reading or a capture on the trail.", name="quiet", wrap=True
        )
        layout.addWidget(self.empty)
        self.ways = WayBars()
        layout.addWidget(self.ways)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message, commands: Commands) -> None:
        self.workspace, self.message, self.commands = workspace, message, commands
        self.left.connect(navigation.back_to_job)
        workspace.weighed.connect(lambda _: self.show_plan())

    def on_shown(self) -> None:
        self.show_plan()
        self.table.setFocus()

    def show_plan(self) -> None:
        """The plan of the open job as it was weighed last."""
        job, weighed = self.workspace.job, self.workspace.last_weighed
        checks = weighed.checks if weighed and job else ()
        now = weighed.opened if weighed else frozenset()
        for place, button in self.places.items():
            minutes = weighed.access.get(str(place)) if weighed else None
            button.setChecked(place in now)
            told = "open" if place in now else (f"{minutes:g} min" if minutes is not None else "closed")
            button.setText(f"{PLACES[place]}: {told}")
            button.setEnabled(job is not None)
        rows = []
        for rank, this_check in enumerate(checks[:MOST], start=1):
            where = PLACES[this_check.check.place] if this_check.check.place else "anywhere"
            minutes = f"{this_check.minutes:.0f}" + (
                f" + {this_check.access:.0f} to get there" if this_check.access else ""
            )
            name = this_check.name[:1].upper() + this_check.name[1:]
            rows.append(
                (
                    (
                        str(rank),
                        f"{this_check.circuit}: {name}" if this_check.circuit else name,
                        where,
                        minutes,
                        _short(this_check),
                    ),
                    "" if this_check.pays else "quiet",
                    this_check,
                )
            )
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows))
        self.empty.setVisible(not rows)
        self.do.setEnabled(bool(rows))
        doable = list(dict.fromkeys(check.name for check in checks if check.check.place in now and check.pays))
        self.before.setText(f"Before closing: {'; '.join(doable[:5])}." if doable else "")
        self.before.setVisible(bool(doable))
        self.ways.show_ways(weighed.ways if weighed else None)

    def toggle(self, place: Place) -> None:
        """Open a place, or close it; that is on the trail."""
        job, weighed = self.workspace.job, self.workspace.last_weighed
        if job is None:
            return
        open_now = weighed is not None and place in weighed.opened
        owed = [
            item
            for item in job.standing
            if item.kind == EntryKind.STEP and item.record.place == place and not item.record.back
        ]
        if open_now and owed:
            self.message.say(
                f"{len(owed)} {'step is' if len(owed) == 1 else 'steps are'} still apart there: {owed[0].record.what}. Put it together first."
            )
            self.show_plan()
            return
        self.workspace.add(PlaceEntry(place, not open_now))

    def _do(self) -> None:
        check = self.table.chosen()
        if check is not None:
            self.commands.run("captures.do_check", check)

    def _costs(self) -> None:
        job = self.workspace.job
        if job is None:
            return
        old = next((entry for entry in reversed(job.of(CostsEntry))), None)
        form = CostsForm(old.record if old else None, parent=self)
        if form.exec():
            if old is None:
                self.workspace.add(form.answer())
            else:
                self.workspace.correct(old, form.answer())


def _short(item) -> str:
    """Why a check is worth its time, in a few words."""
    if not item.pays:
        return "Takes longer than it saves."
    why = item.why.removeprefix("Why this one: ").partition(" It is likely")[0]
    return why[:1].upper() + why[1:]
