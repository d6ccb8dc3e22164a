"""The circuit on the bench: what it is, where the probe goes, what a sound one reads there, and the reading itself."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from sagen.casework.command import Queue
from sagen.casework.judging import card_circuit, expected_reading, judged_reading, reading_verdict
from sagen.casework.patterns import card_of
from sagen.desk.forms.arithmetic import ArithmeticForm
from sagen.desk.forms.circuit import CircuitForm
from sagen.desk.pages import Page
from sagen.desk.pages.circuit_settings import CircuitSettings
from sagen.desk.pages.circuit_view import CircuitView
from sagen.desk.pages.engine_view import EngineView
from sagen.desk.pages.meter_entry import MeterEntry
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.files.circuits import read_circuit, write_circuit
from sagen.model.errors import SagenError
from sagen.model.language import as_typed, lowered, titled, tr
from sagen.model.trail import CircuitEntry, ReadingEntry
from sagen.model.vocabulary import OHM_POINTS, PLUG_OPEN, Quantity, State
from sagen.model.words import JUDGED, POINTS
from sagen.reason.askable import SHAFT_TURNS
from sagen.reason.several import circuits_of
from sagen.reason.words import is_ohms

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.parts import Message
    from sagen.desk.ports import Navigation
    from sagen.desk.workspace import DeskWorkspace
    from sagen.model.circuit import CircuitSpec
    from sagen.model.job import Job

STATES = {
    State.KEY_ON: tr("Key on"), State.KEY_ON_UNPLUGGED: tr("Key on, unplugged"), State.CRANKING: tr("Cranking"),
    State.RUNNING: tr("Running"), State.METAL_NEAR: tr("Steel at the tip"), State.METAL_AWAY: tr("Clear of metal"),
    State.WIGGLE: tr("Moving it"), State.UNPLUGGED: tr("Unplugged, ohms"),
}  # fmt: skip
CIRCUIT_FILES = tr("Circuits (*.toml)")


class CircuitPage(Page):
    """Choose a point and a state, type the reading with big keys, keep it. What is entered here goes to the job that the page
    shows."""

    name, title = "circuit", tr("Circuit and meter")
    left = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.spec: CircuitSpec | None = None
        self.state, self.card, self.name_of, self.job_id = State.KEY_ON, None, "", None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addLayout(self._head())
        self.settings_row = CircuitSettings()
        layout.addWidget(self.settings_row)
        drawings = QHBoxLayout()
        self.view, self.engine = CircuitView(), EngineView()
        drawings.addWidget(self.view, 1)
        self.engine.setMaximumWidth(210)
        drawings.addWidget(self.engine)
        layout.addLayout(drawings, 1)
        self.state_buttons: dict[str, QPushButton] = {}
        states = QGridLayout()
        states.setSpacing(5)
        for index, (state, words) in enumerate(STATES.items()):
            button = QPushButton(words)
            button.setCheckable(True)
            button.setAutoExclusive(True)
            button.clicked.connect(lambda _=False, state=state: self.set_state(state))
            self.state_buttons[state] = button
            states.addWidget(button, index // 4, index % 4)
        layout.addLayout(states)
        self.entry = MeterEntry()
        layout.addWidget(self.entry)
        self.settings_row.changed.connect(self.keep_circuit)
        self.settings_row.refused.connect(self.entry.verdict.setText)
        self.entry.typed.connect(self._typed)
        self.entry.kept.connect(self.keep)
        self.entry.stand_in_wanted.connect(self._read_stand_in)
        self.view.chosen.connect(lambda _: self._point_chosen())
        self.state_buttons[State.KEY_ON].setChecked(True)

    def _head(self) -> WrapRow:
        head = WrapRow()
        head.addWidget(Label(tr("Circuit and meter"), name="heading"))
        head.push_right()
        self.which = QComboBox()
        self.which.setAccessibleName(tr("Which circuit of the job"))
        self.which.setToolTip(tr("Which of the job's circuits"))
        self.which.activated.connect(lambda _=0: self.show_job(self.workspace.job, self.which.currentData()))
        head.addWidget(self.which)
        for words, tip, action in (
            (tr("Another circuit"), tr("State one more circuit of this job: the cam beside the crank, the other bank"), self._another),
            (tr("Arithmetic"), tr("Drops, dividers, wires, thermistors, sets of like parts, and what to change while it is apart"),
             lambda: ArithmeticForm(self).exec()),
            (tr("Load"), tr("Take the circuit from a TOML file"), self._load),
            (tr("Save"), tr("Keep the circuit as a TOML file, for the next machine of its kind"), self._save),
            (tr("Back"), "", self.left.emit),
        ):  # fmt: skip
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, action=action: action())
            head.addWidget(button)
        return head

    def wire(
        self, workspace: DeskWorkspace, navigation: Navigation, message: Message, instruments: BenchInstruments
    ) -> None:
        self.workspace, self.message, self.instruments = workspace, message, instruments
        self.left.connect(navigation.back_to_job)

    # showing ------------------------------------------------------------------------------

    def show_job(self, job: Job, circuit: str | None = None) -> None:
        """A circuit of a job, by name or the one shown last, with its last reading at each point."""
        if job.id != self.job_id:
            self.entry.value.clear()
        self.job_id = job.id
        self.entry.stand_in.setVisible(self.instruments.stands_in(job))
        circuits = circuits_of(job.records())
        name = self.workspace.circuit if circuit is None else circuit
        name = name if name in circuits else next(iter(circuits))
        self.workspace.circuit = self.name_of = name
        self.card = card_of(job)
        self.which.clear()
        for known in circuits:
            self.which.addItem(known or tr("the only circuit"), known)
        self.which.setCurrentIndex(max(0, self.which.findData(name)))
        self.which.setVisible(len(circuits) > 1)
        first = next(iter(circuits))
        told = {
            record.point: as_typed(record.shown)
            for record in job.records(ReadingEntry)
            if record.circuit == name or (not record.circuit and name == first)
        }
        self.spec = spec = circuits[name]
        self.settings_row.show_spec(spec)
        cylinders = job.cylinders or 4
        self.engine.show_engine(cylinders, 2 if cylinders > 5 else 1, spec)
        self.view.show_circuit(spec, told, card_circuit(self.card, name, spec))
        self._point_chosen()
        self.view.setFocus()

    def aim(self, point: str, state: str) -> None:
        """Put point and state as a check wants them, ready to type."""
        if point in self.view.points():
            self.view.choose(point)
        self.set_state(state if state in STATES else State.KEY_ON)
        self.entry.value.clear()
        self.entry.value.setFocus()

    def set_state(self, state: str) -> None:
        self.state = State(state)
        self.state_buttons[state].setChecked(True)
        self.view.unplugged = state in PLUG_OPEN
        self.view.update()
        self._ask()

    @property
    def quantity(self) -> Quantity:
        """What is measured at the chosen point."""
        return Quantity.OHMS if self.view.point in OHM_POINTS else Quantity.VOLTS

    def _point_chosen(self) -> None:
        self.entry.offer_units(self.quantity)
        ohmic = self.quantity == Quantity.OHMS
        if ohmic and self.state != State.UNPLUGGED:
            self.set_state(State.UNPLUGGED)
        elif not ohmic and self.state == State.UNPLUGGED:
            self.set_state(State.KEY_ON)
        else:
            self._ask()

    def _ask(self) -> None:
        """Say what is measured, and ask the model, off the interface thread, what a sound circuit reads there."""
        point, state, spec, card, name = self.view.point, self.state, self.spec, self.card, self.name_of
        words = POINTS[point]
        self.entry.where.setText(f"{titled(words)}, {lowered(STATES[state])}")
        why_not = self.workspace.why_not_turned if state in SHAFT_TURNS else ""
        first = f"{why_not}\n" if why_not else ""
        self.entry.expect.setText(tr("{first}A sound circuit: …", first=first))
        self._typed()
        if spec is None:
            return

        def work(_task) -> str:
            return expected_reading(spec, card, name, point, state, ohms=is_ohms(point)) or tr(
                "nothing is published of it"
            )

        def show(text: str) -> None:
            if self._in_sight(point, state, spec):
                self.entry.expect.setText(tr("{first}A sound circuit: {text}", first=first, text=text))

        self.workspace.compute(work, show)

    def _in_sight(self, point: str, state: str, spec: CircuitSpec) -> bool:
        return (self.view.point, self.state) == (point, state) and self.spec is spec

    # typing -------------------------------------------------------------------------------

    def reading(self) -> ReadingEntry:
        """The entry as typed; raises SagenError for what makes no sense."""
        return self.entry.reading(self.quantity, self.view.point, self.state, self.name_of)

    def _typed(self) -> None:
        """What the reading is against its limits, as it is typed; by the model, once that is known, off this thread."""
        entry, typed = self.entry, self.entry.value.text()
        entry.verdict.setText("")
        entry.keep_button.setEnabled(bool(typed.strip()))
        if not typed.strip() or self.spec is None:
            return
        try:
            reading = self.reading()
        except SagenError as error:
            entry.verdict.setText(str(error))
            entry.keep_button.setEnabled(False)
            return
        spec, card = self.spec, self.card

        def show(found) -> None:
            if found is not None and entry.value.text() == typed and self.spec is spec:
                judged, by, text = found
                entry.verdict.setText(
                    text
                    or tr(
                        "{judged}, by {by}.",
                        judged=titled(JUDGED[judged]),
                        by=by,
                    )
                )

        self.workspace.compute(lambda _task: reading_verdict(reading, spec, card), show, entry.verdict.setText)

    def keep(self) -> None:
        """Put the reading on the trail of the job that is shown, judged: what it was taken for then stays with it."""
        if not self.entry.keep_button.isEnabled() or self.job_id is None:
            return
        try:
            reading = self.reading()
        except SagenError as error:
            self.entry.verdict.setText(str(error))
            return
        spec, card, job_id = self.spec, self.card, self.job_id
        self.entry.value.clear()
        self.workspace.add_worked_out(
            lambda: judged_reading(reading, spec, card), reading, job=job_id, then=lambda: self._shown_again(job_id)
        )

    def _shown_again(self, job_id: int) -> None:
        job = self.workspace.job
        if job is not None and job.id == job_id and self.job_id == job_id:
            self.show_job(job)
            self.entry.value.setFocus()

    def keep_circuit(self, spec: CircuitSpec) -> None:
        """Put a circuit on the trail."""
        job_id = self.job_id
        self.workspace.add(CircuitEntry(spec, circuit=self.name_of), job=job_id, then=lambda: self._shown_again(job_id))

    def _another(self) -> None:
        """One more circuit of the job: both then have names."""
        job = self.workspace.job
        circuits = circuits_of(job.records())
        form = CircuitForm(circuits, self.card, self)
        if not form.exec():
            return
        first = [CircuitEntry(circuits[""], circuit=form.first_name())] if set(circuits) == {""} else []
        name, made = form.name(), CircuitEntry(form.spec(), circuit=form.name())
        self.workspace.add(*first, made, job=job.id, then=lambda: self.show_job(self.workspace.job, name))

    # files and instruments ----------------------------------------------------------------

    def _load(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, tr("Take the circuit from a file"), str(Path.home()), CIRCUIT_FILES)
        if name:
            self.load_circuit(Path(name))

    def load_circuit(self, path: Path) -> None:
        """Put the circuit of a TOML file on the trail."""
        try:
            _, spec = read_circuit(path)
        except SagenError as error:
            self.message.say(str(error))
            return
        self.keep_circuit(spec)

    def _save(self) -> None:
        start = str(Path.home() / "circuit.toml")
        name, _ = QFileDialog.getSaveFileName(self, tr("Keep the circuit"), start, CIRCUIT_FILES)
        if name:
            self.save_circuit(Path(name))

    def save_circuit(self, path: Path) -> None:
        """Write the circuit as TOML."""
        try:
            write_circuit(path, self.spec, self.workspace.job.cylinders)
            self.message.say(tr("Written: {path}", path=path))
        except SagenError as error:
            self.message.say(str(error))

    def _read_stand_in(self) -> None:
        """Take a reading with the stand-in's meter, off the interface thread."""
        job, instruments, point, state, spec = (
            self.workspace.job, self.instruments, self.view.point, self.state, self.spec,
        )  # fmt: skip

        def show(taken) -> None:
            if self._in_sight(point, state, spec):
                self.entry.show_taken(taken.value, taken.over_range)

        self.workspace.compute(
            lambda _task: instruments.stand_in_for(job).meter.read(point, state), show, self.message.say,
            queue=Queue.INSTRUMENTS,
        )  # fmt: skip
