"""The circuit on the bench: what it is, where the probe goes, what a sound one reads there, and the reading itself."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.pages import Page
from sagen.desk.pages.circuit_view import CircuitView
from sagen.desk.pages.engine_view import EngineView
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.trail import OVER_RANGE_OHM, CircuitEntry, ReadingEntry
from sagen.model.vocabulary import CIRCUIT_ROLES, OHM_POINTS, PLUG_OPEN, Quantity, State
from sagen.model.words import POINTS, ROLES, SENSORS

STATES = {
    State.KEY_ON: "Key on", State.KEY_ON_UNPLUGGED: "Key on, unplugged", State.CRANKING: "Cranking",
    State.RUNNING: "Running", State.METAL_NEAR: "Steel at the tip", State.METAL_AWAY: "Clear of metal",
    State.WIGGLE: "Moving it", State.UNPLUGGED: "Unplugged, ohms",
}  # fmt: skip
UNITS = {Quantity.VOLTS: (("V", 1.0), ("mV", 1e-3)), Quantity.OHMS: (("Ω", 1.0), ("kΩ", 1e3), ("MΩ", 1e6))}
OVER_RANGE_WORDS = ("OL", "O.L", "0L")
MOST_VOLTS = 60  #: more than this no sensor circuit has
CIRCUIT_FILES = "Circuits (*.toml)"
KEYS = ("7", "8", "9", "4", "5", "6", "1", "2", "3", "0", ".", "⌫")


class CircuitPage(Page):
    """Choose a point and a state, type the reading with big keys, keep it."""

    name, title = "circuit", "Circuit and meter"
    kept = Signal(object)  #: ReadingEntry
    circuit_kept = Signal(object)  #: a changed CircuitSpec
    left = Signal()
    arithmetic_wanted = Signal()
    load_wanted = Signal()
    save_wanted = Signal()
    instruments_wanted = Signal(str, str)  #: point, state
    expect_wanted = Signal(object, str, str)  #: spec, point, state: what would a sound circuit read?

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.spec, self.state, self._filling = None, State.KEY_ON, False
        self.card, self.name_of = None, ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(Label("Circuit and meter", name="heading"), 1)
        self.which = QComboBox()
        self.which.setAccessibleName("Which circuit of the job")
        self.which.setToolTip("Which of the job's circuits")
        self.which.activated.connect(lambda _=0: self._other_circuit())
        head.addWidget(self.which)
        another = QPushButton("Another circuit")
        another.setToolTip("State one more circuit of this job: the cam beside the crank, the other bank")
        another.clicked.connect(self._another)
        head.addWidget(another)
        for words, tip, signal in (
            (
                "Arithmetic",
                "Drops, dividers, wires, thermistors, sets of like parts, and what to change while it is apart",
                self.arithmetic_wanted,
            ),
            ("Load", "Take the circuit from a TOML file", self.load_wanted),
            ("Save", "Keep the circuit as a TOML file, for the next machine of its kind", self.save_wanted),
        ):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(signal)
            head.addWidget(button)
        self.back = QPushButton("Back")
        self.back.clicked.connect(self.left)
        head.addWidget(self.back)
        layout.addLayout(head)
        layout.addLayout(self._settings())
        drawings = QHBoxLayout()
        self.view, self.engine = CircuitView(), EngineView()
        drawings.addWidget(self.view, 1)
        self.engine.setMaximumWidth(210)
        drawings.addWidget(self.engine)
        layout.addLayout(drawings, 1)
        self.state_buttons: dict[str, QPushButton] = {}
        states = QGridLayout()
        states.setSpacing(5)
        for index, (name, words) in enumerate(STATES.items()):
            button = QPushButton(words)
            button.setCheckable(True)
            button.setAutoExclusive(True)
            button.clicked.connect(lambda _=False, name=name: self.set_state(name))
            self.state_buttons[name] = button
            states.addWidget(button, index // 4, index % 4)
        layout.addLayout(states)
        layout.addLayout(self._entry())
        self.view.chosen.connect(lambda _: self._point_chosen())
        self.state_buttons[State.KEY_ON].setChecked(True)

    def _settings(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(1)
        self.role, self.sensor = QComboBox(), QComboBox()
        for circuit_role in CIRCUIT_ROLES:
            self.role.addItem(ROLES[circuit_role].capitalize(), circuit_role)
        for key, words in SENSORS.items():
            self.sensor.addItem(words.capitalize(), key)
        self.supply, self.pull_up, self.ohms = QLineEdit(), QLineEdit(), QLineEdit()
        told = {
            self.supply: ("Feed, V", "5 or battery voltage"),
            self.pull_up: ("Pull-up, V", "the module's pull-up"),
            self.ohms: ("Ω at 20 °C", "the maker's value, such as 610-740"),
        }
        for column, (field, (name, tip)) in enumerate(
            {self.role: ("It is", ""), self.sensor: ("Sensor", ""), **told}.items()
        ):
            label = Label(name)
            label.setObjectName("quiet")
            label.setBuddy(field)
            field.setToolTip(tip)
            field.setAccessibleName(name)
            grid.addWidget(label, 0, column)
            grid.addWidget(field, 1, column)
            grid.setColumnStretch(column, 3 if column < 2 else 2)
        for line in told:
            line.editingFinished.connect(self._circuit_changed)
        for box in (self.role, self.sensor):
            box.currentIndexChanged.connect(lambda _=0: self._circuit_changed())
        return grid

    def _entry(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(12)
        left = QVBoxLayout()
        self.where, self.expect, self.verdict = Label(), Label(), Label()
        self.where.setObjectName("heading")
        for item in (self.where, self.expect, self.verdict):
            item.setWordWrap(True)
            left.addWidget(item)
        extras = QHBoxLayout()
        self.temperature, self.leads = QLineEdit(), QLineEdit()
        self.temperature.setPlaceholderText("part °C")
        self.leads.setPlaceholderText("leads Ω")
        extras.addWidget(self.temperature)
        extras.addWidget(self.leads)
        left.addStretch(1)
        left.addLayout(extras)
        value = QHBoxLayout()
        self.value = QLineEdit()
        self.value.setPlaceholderText("reading")
        self.value.setStyleSheet("font-size: 17pt;")
        self.value.setAccessibleName("Reading")
        self.value.returnPressed.connect(self.keep)
        self.value.textChanged.connect(lambda _: self._typed())
        self.unit = QComboBox()
        self.unit.currentIndexChanged.connect(lambda _=0: self._typed())
        self.open = QPushButton("No path (OL)")
        self.open.setToolTip("The meter shows over range: an open circuit")
        self.open.clicked.connect(lambda: self.value.setText("OL"))
        value.addWidget(self.value, 1)
        value.addWidget(self.unit)
        left.addLayout(value)
        buttons = QHBoxLayout()
        self.keep_button = QPushButton("Put on the trail")
        self.keep_button.setObjectName("first")
        self.keep_button.clicked.connect(self.keep)
        self.stand_in = QPushButton("Read the stand-in")
        self.stand_in.setToolTip("The meter on the demo's simulated machine: fills the reading in, for practice")
        self.stand_in.clicked.connect(lambda: self.instruments_wanted.emit(self.view.point, self.state))
        self.stand_in.hide()
        buttons.addWidget(self.stand_in)
        buttons.addWidget(self.open)
        buttons.addWidget(self.keep_button, 1)
        left.addLayout(buttons)
        row.addLayout(left, 1)
        self.keys: dict[str, QPushButton] = {}
        pad = QGridLayout()
        pad.setSpacing(5)
        for index, key in enumerate(KEYS):
            button = QPushButton(key)
            button.setFixedSize(58, 42)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, key=key: self._press(key))
            self.keys[key] = button
            pad.addWidget(button, index // 3, index % 3)
        sign = QPushButton("±")
        sign.setFixedSize(58, 42)
        sign.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        sign.clicked.connect(lambda: self._press("±"))
        self.keys["±"] = sign
        pad.addWidget(sign, 0, 3)
        row.addLayout(pad)
        return row

    # showing ------------------------------------------------------------------------------

    def show_circuit(self, spec, engine: tuple[int, int], told: dict[str, str], card=None) -> None:
        self._filling, self.spec = True, spec
        self.role.setCurrentIndex(max(0, self.role.findData(spec.role)))
        self.sensor.setCurrentIndex(max(0, self.sensor.findData(spec.sensor)))
        self.supply.setText(f"{spec.supply:g}" if spec.supply else "")
        self.pull_up.setText(f"{spec.pull_up:g}" if spec.pull_up else "")
        self.ohms.setText(f"{spec.ohms[0]:g}-{spec.ohms[1]:g}" if spec.ohms else "")
        self._filling = False
        from sagen.kinds import kind_of

        kind = kind_of(spec.sensor)
        self.supply.setEnabled(kind.fed)
        self.pull_up.setEnabled(kind.pulled_up)
        self.engine.show_engine(engine[0], engine[1], spec)
        self.view.show_circuit(spec, told, card)
        self._point_chosen()

    def aim(self, point: str, state: str) -> None:
        """Put point and state as a check wants them, ready to type."""
        if point in self.view.points():
            self.view.choose(point)
        self.set_state(state if state in STATES else State.KEY_ON)
        self.value.clear()
        self.value.setFocus()

    def set_state(self, state: str) -> None:
        self.state = State(state)
        self.state_buttons[state].setChecked(True)
        self.view.unplugged = state in PLUG_OPEN
        self.view.update()
        self._ask()

    @property
    def ohmic(self) -> bool:
        return self.view.point in OHM_POINTS

    def _point_chosen(self) -> None:
        units = UNITS[Quantity.OHMS if self.ohmic else Quantity.VOLTS]
        if [self.unit.itemText(i) for i in range(self.unit.count())] != [item for item, _ in units]:
            self.unit.clear()
            for each, factor in units:
                self.unit.addItem(each, factor)
        for element in (self.temperature, self.leads, self.open):
            element.setVisible(self.ohmic)
        if self.ohmic and self.state != State.UNPLUGGED:
            self.set_state(State.UNPLUGGED)
        elif not self.ohmic and self.state == State.UNPLUGGED:
            self.set_state(State.KEY_ON)
        else:
            self._ask()

    def _ask(self) -> None:
        name = POINTS[self.view.point]
        self.where.setText(f"{name[0].upper()}{name[1:]}, {STATES[self.state].lower()}")
        self.expect.setText("A sound circuit: …")
        if self.spec is not None:
            self.expect_wanted.emit(self.spec, self.view.point, self.state)
        self._typed()

    def show_expected(self, text: str) -> None:
        self.expect.setText(f"A sound circuit: {text}")

    def show_reading(self, taken) -> None:
        """What a meter shows, put in as if it had been typed; it goes on the trail when the user says so."""
        if taken.over_range:
            self.value.setText("OL")
        else:
            self.value.setText(f"{taken.value / float(self.unit.currentData() or 1.0):.4g}")
        self.value.setFocus()

    # typing -------------------------------------------------------------------------------

    def _press(self, key: str) -> None:
        text = self.value.text()
        if key == "⌫":
            text = text[:-1]
        elif key == "±":
            text = text.removeprefix("-") if text.startswith("-") else "-" + text
        elif key != "." or "." not in text:
            text += key
        self.value.setText(text)
        self.value.setFocus()

    def reading(self) -> ReadingEntry:
        """The entry as typed; raises SagenError for what makes no sense."""
        text = self.value.text().strip().replace(",", ".")
        if text.upper() in OVER_RANGE_WORDS:
            number = OVER_RANGE_OHM
        else:
            try:
                number = float(text) * float(self.unit.currentData() or 1.0)
            except ValueError:
                raise SagenError("type the figure that the meter shows") from None
        if self.ohmic and number < 0:
            raise SagenError("ohms cannot be negative: short the leads and take their own resistance off")
        if not self.ohmic and abs(number) > MOST_VOLTS:
            raise SagenError(f"{number:g} V is more than this circuit can have; is the unit right?")
        over = self.value.text().strip().upper() in OVER_RANGE_WORDS
        entry = {
            "reading": Quantity.OHMS if self.ohmic else Quantity.VOLTS,
            "point": self.view.point,
            "state": self.state,
            "value": number,
            "shown": "over range" if over else f"{self.value.text().strip()} {self.unit.currentText()}",
        }
        if self.ohmic:
            for key, line, low, high in (
                ("temperature_c", self.temperature, -60, 250),
                ("leads_ohm", self.leads, 0, 10),
            ):
                if line.text().strip():
                    try:
                        entry[key] = float(line.text().replace(",", "."))
                    except ValueError:
                        raise SagenError(f"'{line.text()}' is not a number") from None
                    if not low <= entry[key] <= high:
                        raise SagenError(f"{entry[key]:g} makes no sense for {line.placeholderText()}")
        try:
            return ReadingEntry.of(entry)
        except ValueError as error:
            raise SagenError(str(error)) from None

    def _typed(self) -> None:
        self.verdict.setText("")
        self.keep_button.setEnabled(bool(self.value.text().strip()))
        if not self.value.text().strip() or self.spec is None:
            return
        try:
            entry = self.reading()
        except SagenError as error:
            self.verdict.setText(str(error))
            self.keep_button.setEnabled(False)
            return
        self._judge(entry)

    def _judge(self, entry: ReadingEntry) -> None:
        """What the reading is against its limits, as it is typed; by the model, once that is known, off this thread."""
        from sagen.casework.judging import reading_verdict
        from sagen.model.words import JUDGED

        spec, card, typed = self.spec, self.card, self.value.text()

        def work(_task):
            return reading_verdict(entry, spec, card)

        def done(found) -> None:
            if found is None or self.value.text() != typed:
                return
            judged, by, text = found
            self.verdict.setText(text or f"{JUDGED[judged][:1].upper()}{JUDGED[judged][1:]}, by {by}.")

        self.shell.workspace.work.ask(work, done=done, failed=self.verdict.setText)

    def keep(self) -> None:
        if not self.keep_button.isEnabled():
            return
        try:
            entry = self.reading()
        except SagenError as error:
            self.verdict.setText(str(error))
            return
        self.kept.emit(entry)
        self.value.clear()

    def _circuit_changed(self) -> None:
        """The circuit's own description was changed: it goes on the trail."""
        if self._filling or self.spec is None:
            return
        data = self.spec.model_dump(exclude_none=True)
        data["role"], data["sensor"] = self.role.currentData(), self.sensor.currentData()
        try:
            for key, line in (("supply", self.supply), ("pull_up", self.pull_up)):
                data.pop(key, None)
                if line.text().strip():
                    data[key] = float(line.text().lower().rstrip("v").replace(",", "."))
            data.pop("ohms", None)
            if self.ohms.text().strip():
                low, high = self.ohms.text().replace(",", ".").replace("–", "-").split("-")
                data["ohms"] = (float(low), float(high))
        except ValueError:
            self.verdict.setText("Feed and pull-up are volts; ohms are two figures such as 610-740.")
            return
        if data == self.spec.model_dump(exclude_none=True):
            return
        from pydantic import ValidationError

        from sagen.model.circuit import CircuitSpec
        from sagen.model.sheet import first_fault

        try:
            self.circuit_kept.emit(CircuitSpec.model_validate(data))
        except ValidationError as error:
            self.verdict.setText(first_fault(error, CircuitSpec))

    # the shell ----------------------------------------------------------------------------

    def wire(self, shell) -> None:
        self.shell = shell
        self.left.connect(shell.back_to_job)
        self.kept.connect(self._keep_reading)
        self.circuit_kept.connect(self.keep_circuit)
        self.expect_wanted.connect(self._expect)
        self.arithmetic_wanted.connect(self._arithmetic)
        self.load_wanted.connect(self._load)
        self.save_wanted.connect(self._save)
        self.instruments_wanted.connect(self._read_instruments)
        self.stand_in.setVisible(bool(shell.workspace.instruments))

    def show_job(self, job, circuit: str | None = None) -> None:
        """A circuit of a job, by name or the one shown last, with its last reading at each point."""
        from sagen.casework.judging import card_circuit
        from sagen.casework.patterns import card_of
        from sagen.reason.several import circuits_of

        circuits = circuits_of(job.records())
        name = self.shell.workspace.circuit if circuit is None else circuit
        name = name if name in circuits else next(iter(circuits))
        self.shell.workspace.circuit = self.name_of = name
        self.card = card_of(job)
        self.which.clear()
        for this_circuit in circuits:
            self.which.addItem(this_circuit or "the only circuit", this_circuit)
        self.which.setCurrentIndex(max(0, self.which.findData(name)))
        self.which.setVisible(len(circuits) > 1)
        first = next(iter(circuits))
        told = {
            record.point: record.shown
            for record in job.records(ReadingEntry)
            if record.circuit == name or (not record.circuit and name == first)
        }
        cylinders = job.cylinders or 4
        spec = circuits[name]
        self.show_circuit(spec, (cylinders, 2 if cylinders > 5 else 1), told, card_circuit(self.card, name, spec))
        self.view.setFocus()

    def _other_circuit(self) -> None:
        self.show_job(self.shell.workspace.job, self.which.currentData())

    def _another(self) -> None:
        """One more circuit of the job: both then have names."""
        from sagen.desk.circuit_form import CircuitForm
        from sagen.reason.several import circuits_of

        job = self.shell.workspace.job
        circuits = circuits_of(job.records())
        form = CircuitForm(circuits, self.card, self)
        if not form.exec():
            return
        first = [CircuitEntry(circuits[""], circuit=form.first_name())] if set(circuits) == {""} else []
        name, made = form.name(), CircuitEntry(form.spec(), circuit=form.name())
        workspace = self.shell.workspace
        workspace.add(*first, made, then=lambda: self.show_job(workspace.job, name))

    def _keep_reading(self, entry: ReadingEntry) -> None:
        from sagen.casework.judging import judged_reading

        spec, card = self.spec, self.card
        entry = replace(entry, circuit=self.name_of)
        workspace, job = self.shell.workspace, self.shell.workspace.job

        def kept(judged) -> None:
            if workspace.job is not None and workspace.job.id == job.id:
                workspace.add(judged, then=lambda: (self.show_job(workspace.job), self.value.setFocus()))

        # Judged when it is entered: what it was taken for then stays with it. The model is asked off this thread.
        workspace.work.ask(
            lambda _task: judged_reading(entry, spec, card), done=kept, failed=lambda _why: kept(entry), writes=True
        )

    def keep_circuit(self, spec) -> None:
        """Put a circuit on the trail."""
        workspace = self.shell.workspace
        workspace.add(CircuitEntry(spec, circuit=self.name_of), then=lambda: self.show_job(workspace.job))

    def _arithmetic(self) -> None:
        from sagen.desk.arithmetic import ArithmeticForm

        ArithmeticForm(self).exec()

    def _load(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Take the circuit from a file", str(Path.home()), CIRCUIT_FILES)
        if name:
            self.load_circuit(Path(name))

    def load_circuit(self, path: Path) -> None:
        """Put the circuit of a TOML file on the trail."""
        from sagen.files.circuits import read_circuit

        try:
            _, spec = read_circuit(path)
        except SagenError as error:
            self.shell.message.say(str(error))
            return
        self.keep_circuit(spec)

    def _save(self) -> None:
        start = str(Path.home() / "circuit.toml")
        name, _ = QFileDialog.getSaveFileName(self, "Keep the circuit", start, CIRCUIT_FILES)
        if name:
            self.save_circuit(Path(name))

    def save_circuit(self, path: Path) -> None:
        """Write the circuit as TOML."""
        from sagen.files.circuits import write_circuit

        try:
            write_circuit(path, self.spec, self.shell.workspace.job.cylinders)
            self.shell.message.say(f"Written: {path}")
        except SagenError as error:
            self.shell.message.say(str(error))

    def _in_sight(self, point: str, state: str) -> bool:
        return (self.view.point, self.state) == (point, state)

    def _expect(self, spec, point: str, state: str) -> None:
        """Ask the model, off the interface thread, what a sound circuit reads."""

        card, name = self.card, self.name_of

        def work(_task) -> str:
            from sagen.casework.judging import expected_reading
            from sagen.reason.words import is_ohms

            return expected_reading(spec, card, name, point, state, ohms=is_ohms(point)) or "nothing is published of it"

        self.shell.workspace.work.ask(
            work, done=lambda text: self.show_expected(text) if self._in_sight(point, state) else None
        )

    def _read_instruments(self, point: str, state: str) -> None:
        """Take a reading with the meter on the bench, off the interface thread."""
        job, name = self.shell.workspace.job, self.shell.workspace.instruments

        def work(_task):
            from sagen.instruments import instruments_called

            return instruments_called(name, job).meter.read(point, state)

        self.shell.workspace.work.ask(
            work,
            done=lambda taken: self.show_reading(taken) if self._in_sight(point, state) else None,
            failed=self.shell.message.say,
        )
