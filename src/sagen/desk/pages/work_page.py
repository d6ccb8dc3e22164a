"""What is taken apart, what is ordered, and what else was seen: one key a step, reversed for putting it together."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.casework.costs import costs_of, offers
from sagen.casework.words import said_days
from sagen.desk.actions import Action, Hint, spelled
from sagen.desk.forms.work import PartForm, SeenForm
from sagen.desk.pages import JobPage
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import figure, lowered, tr
from sagen.model.trail import PartEntry, SeenEntry, StepEntry
from sagen.model.vocabulary import LineState, StepKind
from sagen.model.words import LINE_STATES, PLACES, SEEN_MARKS, STEPS

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace

#: the key of each kind of step
STEP_KEYS = {
    StepKind.UNPLUGGED: "Alt+U", StepKind.UNBOLTED: "Alt+B", StepKind.CLAMPED: "Alt+C", StepKind.LIFTED: "Alt+L",
    StepKind.DRAINED: "Alt+D", StepKind.BROKE: "Alt+X",
}  # fmt: skip
NEXT_STATE = {
    LineState.OFFER: LineState.WANTED, LineState.WANTED: LineState.ORDERED, LineState.ORDERED: LineState.CAME,
    LineState.CAME: LineState.FITTED, LineState.FITTED: LineState.SENT_BACK, LineState.SENT_BACK: LineState.OFFER,
}  # fmt: skip


class WorkPage(JobPage):
    """Words once, then a key for what was done with it."""

    name, title = "work", tr("Taken apart, parts, also seen")
    shortcuts = (
        *(
            Action(key, lowered(STEPS[kind]), lambda page, kind=kind: page.step(kind))
            for kind, key in STEP_KEYS.items()
        ),
        Action("Alt+T", tr("the chosen step is together again"), lambda page: page.together()),
        Action("Alt+P", tr("a part line"), lambda page: page.add_part()),
        Action("Alt+N", tr("the chosen part line's next state"), lambda page: page.next_state()),
        Action("Alt+S", tr("also seen"), lambda page: page.add_seen()),
    )
    hints = (Hint(tr("Enter"), tr("correct the chosen row")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.reversed = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Taken apart, parts, also seen"), name="heading"), 1)
        self.turn = QPushButton(tr("For putting together"))
        self.turn.setCheckable(True)
        self.turn.setToolTip(tr("Last apart first, with what each needs before it goes back"))
        self.turn.toggled.connect(lambda on: self._turned(on))
        back = QPushButton(tr("Back"))
        back.clicked.connect(self.left)
        head.addWidget(self.turn)
        head.addWidget(back)
        layout.addLayout(head)
        layout.addLayout(self._entry())
        keys = QHBoxLayout()
        keys.setSpacing(4)
        for kind, key in STEP_KEYS.items():
            button = QPushButton(STEPS[kind].partition(":")[0])
            button.setObjectName("tight")
            button.setToolTip(f"{STEPS[kind]} ({spelled(key)})")
            button.clicked.connect(lambda _=False, kind=kind: self.step(kind))
            keys.addWidget(button)
        together = QPushButton(tr("Together"))
        together.setObjectName("tight")
        together.setToolTip(tr("The chosen step is together again (Alt+T)"))
        together.clicked.connect(self.together)
        keys.addWidget(together)
        layout.addLayout(keys)
        self.steps = TextTable(
            ("", tr("What"), tr("Bolt, size"), tr("Before it goes back"), ""), tr("Steps of taking apart"), stretch=1
        )
        layout.addWidget(self.steps, 3)
        row = QHBoxLayout()
        row.addWidget(Label(tr("PARTS"), name="over"), 1)
        for words, tip, action in (
            (tr("Part line"), tr("A part that is wanted, or an offer (Alt+P)"), self.add_part),
            (tr("Next state"), tr("Wanted, ordered, came, fitted (Alt+N)"), self.next_state),
        ):
            button = QPushButton(words)
            button.setObjectName("tight")
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, action=action: action())
            row.addWidget(button)
        layout.addLayout(row)
        self.parts = TextTable(
            (tr("Part"), tr("Maker, number"), tr("Price"), tr("Comes"), tr("On the bench"), tr("State")),
            tr("Part lines"),
            stretch=0,
        )
        layout.addWidget(self.parts, 2)
        self.offers = Label(name="caution", wrap=True)
        layout.addWidget(self.offers)
        seen = QHBoxLayout()
        seen.addWidget(Label(tr("ALSO SEEN"), name="over"), 1)
        button = QPushButton(tr("Also seen"))
        button.setObjectName("tight")
        button.setToolTip(tr("A second fault that was seen on the way (Alt+S)"))
        button.clicked.connect(lambda _=False: self.add_seen())
        seen.addWidget(button)
        layout.addLayout(seen)
        self.seen = TextTable((tr("What"), tr("Because"), ""), tr("Also seen"), stretch=0)
        layout.addWidget(self.seen, 1)
        for table in (self.steps, self.parts, self.seen):
            table.activated.connect(lambda _, table=table: self._correct(table))

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message, commands: Commands) -> None:
        super().wire(workspace, navigation)
        self.message, self.commands = message, commands

    def _entry(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(5)
        self.what, self.size, self.owes, self.place = QLineEdit(), QLineEdit(), QLineEdit(), QComboBox()
        self.first = self.what
        self.place.addItem(tr("where"), None)
        for key, words in PLACES.items():
            self.place.addItem(words, key)
        for line, hint, name in (
            (self.what, tr("rear intake hose"), tr("What")), (self.size, tr("bolt, size"), tr("Bolt, size")),
            (self.owes, tr("seal, torque"), tr("Before it goes back")),
        ):  # fmt: skip
            line.setPlaceholderText(hint)
            line.setAccessibleName(name)
            row.addWidget(line, 3 if line is self.what else 2)
        self.place.setAccessibleName(tr("Where"))
        row.addWidget(self.place)
        return row

    def _turned(self, on: bool) -> None:
        self.reversed = on
        self.show_job()

    def show_job(self) -> None:
        """Steps, part lines and what else was seen."""
        job = self.workspace.job
        steps = list(job.of(StepEntry)) if job else []
        rows = []
        for entry in reversed(steps) if self.reversed else steps:
            one = entry.record
            where = f" ({lowered(PLACES[one.place])})" if one.place else ""
            rows.append((
                (STEPS[one.step].partition(":")[0], one.what + where, one.size, one.owes, tr("together") if one.back else tr("apart")),
                "sound" if one.back else "bad" if one.step == StepKind.BROKE else "", entry,
            ))  # fmt: skip
        self.steps.show_rows(rows)
        self.parts.show_rows([
            ((
                f"{this_entry.record.count} x {this_entry.record.name}" if this_entry.record.count > 1 else this_entry.record.name,
                " ".join(x for x in (this_entry.record.maker, this_entry.record.number) if x),
                figure(this_entry.record.price, ",.2f") if this_entry.record.price is not None else "",
                _comes(this_entry.record), "; ".join(f"{k} {v}" for k, v in this_entry.record.bench.items()), LINE_STATES[this_entry.record.state],
            ), "sound" if this_entry.record.state == LineState.FITTED else "", this_entry)
            for this_entry in (job.of(PartEntry) if job else ())
        ])  # fmt: skip
        self.seen.show_rows([
            ((this_entry.record.seen, this_entry.record.because, SEEN_MARKS[this_entry.record.mark]), "", this_entry)
            for this_entry in (job.of(SeenEntry) if job else ())
        ])  # fmt: skip
        self.offers.setText(_offers(job))
        self.offers.setVisible(bool(self.offers.text()))

    def step(self, kind: StepKind) -> None:
        """Put a step on the trail, in the words of the line; what broke goes to the parts list as well."""
        job, what = self.workspace.job, self.what.text().strip()
        if job is None:
            return
        if not what:
            self.message.say(tr("Say what was {it}, then press its key.", it=lowered(STEPS[kind].partition(":")[0])))
            self.what.setFocus()
            return
        step = StepEntry(kind, what, self.size.text().strip(), self.owes.text().strip(), self.place.currentData())
        broken = [PartEntry(what, text=tr("Broke while it was taken apart."))] if kind == StepKind.BROKE else []
        self.workspace.add(step, *broken)
        for line in (self.what, self.size, self.owes):
            line.clear()
        self.what.setFocus()

    def together(self) -> None:
        """The chosen step is together again, or apart once more."""
        entry = self.steps.chosen()
        if entry is not None:
            self.workspace.correct(entry, replace(entry.record, back=not entry.record.back))

    def add_part(self) -> None:
        form = PartForm(parent=self)
        if self.workspace.job is not None and form.exec():
            self.workspace.add(form.answer())

    def next_state(self) -> None:
        entry = self.parts.chosen()
        if entry is None:
            return
        state = NEXT_STATE[entry.record.state]
        if state == LineState.FITTED and not entry.record.bench:
            self.message.say(
                tr(
                    "{name} was not checked on the bench yet: ohms, pulses, or how it looks beside the old one. New "
                    "is not good: enter what was seen (Enter on its row), then fit it.",
                    name=entry.record.name,
                )
            )
            return
        self.workspace.correct(entry, replace(entry.record, state=state))

    def add_seen(self) -> None:
        form = SeenForm(parent=self)
        if self.workspace.job is not None and form.exec():
            self.workspace.add(form.answer())

    def _correct(self, table: TextTable) -> None:
        entry = table.chosen()
        if entry is not None:
            self.commands.run("entries.correct", entry)


def _comes(part_entry: PartEntry) -> str:
    return said_days(part_entry.lead_days) if part_entry.lead_days is not None else ""


def _offers(job) -> str:
    """Two offers side by side, with what waiting costs."""
    if job is None:
        return ""
    try:
        costs = costs_of(job.records())
    except SagenError as error:
        return str(error)
    rows = [row for row in offers(job.records(), costs) if row[0].state == LineState.OFFER]
    if len(rows) < 2:
        return ""
    told = []
    for item, total in rows[:3]:
        name = " ".join(x for x in (item.name, item.maker, item.source) if x)
        price = figure(item.price, ",.2f") if item.price is not None else tr("price not stated")
        told.append(
            tr("{name}: {price}, {item}", name=name, price=price, item=_comes(item) or tr("time not stated"))
            + (tr(", {total:,.2f} with the waiting", total=total) if total is not None else "")
        )
    return (
        tr("Offers: ")
        + tr("; or ").join(told)
        + ("." if costs.day is not None else tr(". What a day of standing costs is not stated (Costs)."))
    )
