"""Bringing a capture in: asks only what the file does not say, with the samples in sight."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QCompleter,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
)

from sagen.casework.examination import MOST_KEPT, Incoming, in_sight
from sagen.desk.lenses.strip import StripView
from sagen.desk.pages import Page
from sagen.desk.theme.plain import Label
from sagen.desk.work import Task, Work
from sagen.kinds.kind import USUAL, FormField, kind_of
from sagen.model.errors import SagenError
from sagen.model.vocabulary import CAPTURE_STATES, CIRCUIT_ROLES, ROTATING_ROLES, Connection, Role, SensorKind, State
from sagen.model.words import ROLES, SENSORS, STATES

#: what a rail's row of the sheet needs beside its role: key, label, hint, unit
RAIL_FIELDS = {Role.SUPPLY: FormField("nominal", "Nominal", "volts, or empty to guess", "v")}
#: names that recorders and people give channels, and what they then are
LIKELY = (
    ("cam", Role.CAM), ("crank", Role.CRANK), ("knock", Role.KNOCK), ("ground", Role.GROUND), ("gnd", Role.GROUND),
    ("return", Role.GROUND), ("supply", Role.SUPPLY), ("feed", Role.SUPPLY), ("bat", Role.SUPPLY),
    ("speed", Role.SPEED),
)  # fmt: skip
#: how knock sensors stood while they were struck
CONNECTIONS = {
    Connection.UNPLUGGED: "Unplugged, open", Connection.LOADED: "Unplugged, under a load",
    Connection.PLUGGED: "Plugged into the module",
}  # fmt: skip
#: how a capture of a role is most often taken
USUAL_STATE = {Role.SPEED: State.ROLLING, Role.KNOCK: State.STRIKE}
HEAD = 400_000  #: samples that the preview looks at


class ImportPage(Page):
    """The import sheet with a live preview: one channel at a time, all kept as the capture's sheet."""

    name, title = "incoming", "Bring in"
    kept = Signal(object, object)  #: Incoming, Sheet
    left = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.incoming: Incoming | None = None
        self.circuit = None  #: the job's circuit: what a file without a sheet is taken to be about
        self.answers: dict[str, dict] = {}
        self._filling = False
        self.last_taken = None  #: conditions of the capture kept before: the next one is mostly taken likewise
        self.work: Work | None = None  #: where slow work goes; the window gives it
        self._looking: Task | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self.head, self.about, self.problem, self.told = Label(), Label(), Label(), Label()
        for label, name in ((self.head, "heading"), (self.about, "quiet"), (self.problem, "error")):
            label.setObjectName(name)
            label.setWordWrap(True)
            layout.addWidget(label)
        self.preview = StripView()
        layout.addWidget(self.preview, 1)
        self.told.setWordWrap(True)
        self.told.setMinimumHeight(40)
        layout.addWidget(self.told)
        layout.addLayout(self._form())
        row = QHBoxLayout()
        self.cancel, self.accept = QPushButton("Leave it"), QPushButton("Keep and examine")
        self.accept.setObjectName("first")
        self.accept.setDefault(True)
        self.from_shelf = QCheckBox("Known-good from the shelf")
        self.from_shelf.setToolTip(
            "Lay a known-good capture of the same circuit and state under it, where the shelf has one"
        )
        self.from_shelf.setChecked(True)
        self.end = QComboBox()
        self.end.setAccessibleName("Where on the wire the probe sat")
        self.end.addItem("Probed at the sensor", "sensor")
        self.end.addItem("Probed at the module", "module")
        row.addWidget(self.from_shelf)
        row.addStretch(1)
        row.addWidget(self.end)
        row.addWidget(self.cancel)
        row.addWidget(self.accept)
        layout.addLayout(row)
        self.cancel.clicked.connect(self.left)
        self.accept.clicked.connect(self._keep)

    def _form(self) -> QHBoxLayout:
        self.column, self.role, self.sensor, self.state, self.polarity = (QComboBox() for _ in range(5))
        self.wheel, self.extra, self.cylinders = QLineEdit(), QLineEdit(), QLineEdit()
        self.connection, self.place, self.bank, self.bore = QComboBox(), QComboBox(), QLineEdit(), QLineEdit()
        self.connection.addItem("Not stated", None)
        for connection in Connection:
            self.connection.addItem(CONNECTIONS[connection], connection)
        self.place.setEditable(True)
        self.place.addItems(["", "front", "rear", "middle"])
        self.place.lineEdit().setPlaceholderText("where it was struck, in your words")
        self.place.lineEdit().setMaxLength(60)
        self.bank.setPlaceholderText("or empty")
        self.bore.setPlaceholderText("mm, or empty")
        self.good = QPushButton()
        self.good.setToolTip("A capture of the same circuit that is known to be good, with its own sheet beside it")
        self.good.clicked.connect(self._choose_good)
        self.extra_name = Label()
        for role in Role:
            self.role.addItem(ROLES[role].capitalize(), role)
        for kind in SensorKind:
            self.sensor.addItem(SENSORS[kind].capitalize(), kind)
        for state in CAPTURE_STATES:
            self.state.addItem(STATES[state].capitalize(), state)
        self.polarity.addItem("Not stated", None)
        self.polarity.addItem("Falling at the tooth's centre", "falling")
        self.polarity.addItem("Rising at the tooth's centre", "rising")
        self.wheel.setPlaceholderText("48-2, or empty to find it")
        self.cylinders.setPlaceholderText("or empty")
        left, right = QFormLayout(), QFormLayout()
        for item, name, field in (
            (left, "Channel", self.column), (left, "It is", self.role), (left, "Sensor", self.sensor), (left, "Taken while", self.state),
            (right, "Wheel", self.wheel), (right, self.extra_name, self.extra), (right, "Polarity", self.polarity),
            (right, "Struck at", self.place), (right, "The sensors", self.connection), (right, "Bank", self.bank),
            (right, "Bore", self.bore), (right, "Cylinders", self.cylinders), (right, "Known-good", self.good),
        ):  # fmt: skip
            label = name if isinstance(name, Label) else Label(name)
            label.setBuddy(field)
            item.addRow(label, field)
        self.right = right
        columns = QHBoxLayout()
        columns.addLayout(left, 1)
        columns.addSpacing(16)
        columns.addLayout(right, 1)
        self.column.currentIndexChanged.connect(lambda _=0: self._show_channel())
        for box in (self.role, self.sensor, self.state, self.polarity, self.connection):
            box.currentIndexChanged.connect(lambda _=0: self._answered())
        self.place.editTextChanged.connect(lambda _="": self._answered())
        for line in (self.wheel, self.extra, self.cylinders, self.bank, self.bore):
            line.textChanged.connect(lambda _="": self._answered())
            line.returnPressed.connect(self._keep)
        return columns

    # the shell ----------------------------------------------------------------------------

    def wire(self, shell) -> None:
        self.work = shell.workspace.work
        self.kept.connect(shell.keep_incoming)
        self.left.connect(shell.leave_incoming)

    # filling ------------------------------------------------------------------------------

    def show_incoming(self, incoming: Incoming) -> None:
        self.incoming, self._filling = incoming, True
        capture = incoming.capture
        self.head.setText(f"Bring in {capture.name}")
        notes = "".join(f" Note: {note}." for note in capture.notes)
        if capture.samples * len(capture.channels) > MOST_KEPT:
            notes += " It is too long to be kept whole: zoom to the stretch that is to be kept."
        self.about.setText(
            f"{len(capture.channels)} channel{'s' * (len(capture.channels) != 1)}, {capture.samples:,} samples, "
            f"{capture.seconds:.4g} s at {capture.sfreq / 1000:.6g} kHz.{notes}"
        )
        self.problem.setText(incoming.problem)
        self.problem.setVisible(bool(incoming.problem))
        if self.wheel.completer() is None:
            from sagen.files.wheels import catalogue

            try:
                self.wheel.setCompleter(QCompleter([*catalogue()], self.wheel))
            except SagenError as error:
                self.problem.setText(str(error))
                self.problem.show()
        self.answers = self._first_answers()
        self.column.clear()
        for channel in capture.channels:
            self.column.addItem(f"{channel.column} ({channel.unit})", channel.column)
        sheet = incoming.sheet
        usual = USUAL_STATE.get(self.circuit.role if self.circuit else None, State.CRANKING)
        self.state.setCurrentIndex(max(0, self.state.findData(sheet.conditions.state if sheet else usual)))
        self.cylinders.setText(str(sheet.engine.cylinders) if sheet and sheet.engine.cylinders else "")
        taken = sheet.conditions if sheet else self.last_taken
        self.end.setCurrentIndex(max(0, self.end.findData(sheet.conditions.end if sheet else "sensor")))
        self.connection.setCurrentIndex(max(0, self.connection.findData(taken.connection if taken else None)))
        self.place.setEditText((taken.place or "") if taken else "")
        self.bore.setText(f"{sheet.engine.bore_mm:g}" if sheet and sheet.engine.bore_mm else "")
        self._show_good()
        first = next((name for name, answer in self.answers.items() if answer["role"] in CIRCUIT_ROLES), None)
        self.column.setCurrentIndex(max(0, self.column.findData(first)))
        self._filling = False
        self._show_channel()
        (self.wheel if self.wheel.isEnabled() and not self.wheel.text() else self.accept).setFocus()

    def _first_answers(self) -> dict[str, dict]:
        """From the sheet beside the file; else by the channels' names; else the liveliest is the crank."""
        capture, sheet = self.incoming.capture, self.incoming.sheet
        answers: dict[str, dict] = {}
        for channel in capture.channels:
            described = sheet.of(channel.column) if sheet else None
            if described is not None:
                answers[channel.column] = described.model_dump(exclude_none=True)
                continue
            role = next((role for word, role in LIKELY if word in channel.column.lower()), Role.OTHER)
            answers[channel.column] = {"column": channel.column, "role": role}
        if not sheet and not any(answer["role"] in CIRCUIT_ROLES for answer in answers.values()):
            ranges = {
                name: abs(capture.channel(name).scale) * (high - low)
                for name, p in self.incoming.pyramids.items()
                for low, high in [p.extremes()]
            }
            role = self.circuit.role if self.circuit else Role.CRANK
            # A set of knock sensors is recorded together; of what turns the liveliest channel is the sensor's.
            for name in answers if role == Role.KNOCK else [max(ranges, key=ranges.get)]:
                answers[name]["role"] = role
        if not sheet and self.circuit is not None:
            kind = kind_of(self.circuit.sensor)
            told = {"sensor": kind.slug} | ({"wheel": self.circuit.wheel} if self.circuit.wheel else {})
            told |= kind.stated(self.circuit)
            for this_answer in answers.values():
                if this_answer["role"] == self.circuit.role:
                    this_answer |= told
                elif this_answer["role"] == Role.SUPPLY and self.circuit.supply:
                    this_answer["nominal"] = self.circuit.supply
        return answers

    def _show_channel(self) -> None:
        """Put one channel's answers into the fields."""
        if self._filling or self.column.currentData() is None:
            return
        self._filling = True
        answer = self.answers[self.column.currentData()]
        self.role.setCurrentIndex(max(0, self.role.findData(answer.get("role", Role.OTHER))))
        usual = USUAL[Role.KNOCK] if answer.get("role") == Role.KNOCK else USUAL[Role.CRANK]
        self.sensor.setCurrentIndex(max(0, self.sensor.findData(answer.get("sensor", usual))))
        self.wheel.setText(answer.get("wheel", ""))
        self.polarity.setCurrentIndex(max(0, self.polarity.findData(answer.get("polarity"))))
        extra = self._extra()
        given = answer.get(extra.key, "") if extra else ""
        self.extra.setText(given if isinstance(given, str) else f"{given:g}")
        self.bank.setText(str(answer.get("bank", "")))
        self._filling = False
        self._fit_fields()
        self._preview()

    def _extra(self) -> FormField | None:
        role = self.role.currentData()
        return kind_of(self.sensor.currentData()).form if role in CIRCUIT_ROLES else RAIL_FIELDS.get(role)

    def _fit_fields(self) -> None:
        """Show only what this role and sensor need."""
        rotating = self.role.currentData() in ROTATING_ROLES
        self.sensor.setEnabled(rotating or self.role.currentData() == Role.KNOCK)
        self.wheel.setEnabled(rotating)
        extra = self._extra()
        self.right.setRowVisible(self.extra, extra is not None)
        struck = self.role.currentData() == Role.KNOCK
        for field in (self.place, self.connection, self.bank, self.bore):
            self.right.setRowVisible(field, struck)
        self.right.setRowVisible(self.wheel, not struck)
        self.right.setRowVisible(self.polarity, rotating and kind_of(self.sensor.currentData()).crossable)
        if extra:
            self.extra_name.setText(extra.label)
            self.extra.setPlaceholderText(extra.hint)

    def _answered(self) -> None:
        """Take the fields as the answers for the channel shown."""
        if self._filling or self.column.currentData() is None:
            return
        role = self.role.currentData()
        answer: dict = {"column": self.column.currentData(), "role": role}
        if "factor" in self.answers[answer["column"]]:
            answer["factor"] = self.answers[answer["column"]]["factor"]
        if role in CIRCUIT_ROLES:
            answer["sensor"] = self.sensor.currentData()
        if role in ROTATING_ROLES and self.wheel.text().strip():
            answer["wheel"] = self.wheel.text().strip()
        extra = self._extra()
        if extra and self.extra.text().strip():
            answer[extra.key] = self.extra.text().lower().rstrip(extra.unit).replace(",", ".").strip()
        if role == Role.KNOCK and self.bank.text().strip():
            answer["bank"] = self.bank.text().strip()
        if self.polarity.currentData() and "sensor" in answer and kind_of(answer["sensor"]).crossable:
            answer["polarity"] = self.polarity.currentData()
        self.answers[answer["column"]] = answer
        self._fit_fields()
        self._preview()

    def _choose_good(self) -> None:
        if self.incoming.reference is not None:
            self.incoming = replace(self.incoming, reference=None)
            self._show_good()
            return
        name, _ = QFileDialog.getOpenFileName(self, "A capture known to be good", str(self.incoming.path.parent))
        if name:
            self.use_good(Path(name))

    def use_good(self, path: Path) -> None:
        """Compare with this capture; its own sheet is used, or, where it has none, the answers here."""
        incoming, answers = self.incoming, self.sheet

        def read(_task):
            from sagen.files import read_capture, read_sheet

            return read_capture(path), read_sheet(path)

        def came(good) -> None:
            if self.incoming is not incoming:
                return
            try:
                self.incoming = replace(incoming, reference=(good[0], good[1] or answers()))
            except SagenError as error:
                failed(str(error))
                return
            self._show_good()

        def failed(message: str) -> None:
            self.problem.setText(f"{path.name}: {message}")
            self.problem.show()
            self._show_good()

        self.good.setText(f"Reading {path.name}")
        self.work.ask(read, done=came, failed=failed)

    def _show_good(self) -> None:
        good = self.incoming.reference
        self.good.setText(f"{good[0].name}  (press to leave out)" if good else "Choose a file")

    # answering ----------------------------------------------------------------------------

    def sheet(self):
        """The sheet as answered; raises SheetError for an answer that makes no sense."""
        from sagen.files.wheels import with_wheel_names
        from sagen.model.sheet import Sheet

        data = {
            "conditions": {"state": self.state.currentData(), "end": self.end.currentData()},
            "engine": {"cylinders": self.cylinders.text().strip()} if self.cylinders.text().strip() else {},
            "channel": list(self.answers.values()),
        }
        if any(answer.get("role") == Role.KNOCK for answer in self.answers.values()):
            # One load stated stands across all of the set.
            knock = [answer for answer in self.answers.values() if answer.get("role") == Role.KNOCK]
            loads = {item["load_ohm"] for item in knock if item.get("load_ohm")}
            if len(loads) == 1:
                data["channel"] = [
                    datum | {"load_ohm": next(iter(loads))} if datum in knock else datum for datum in data["channel"]
                ]
            told = {"connection": self.connection.currentData(), "place": self.place.currentText().strip()}
            data["conditions"] |= {key: value for key, value in told.items() if value}
            if self.bore.text().strip():
                data["engine"]["bore_mm"] = self.bore.text().lower().rstrip("m ").replace(",", ".")
        if self.incoming.sheet is not None:
            data["reference"] = self.incoming.sheet.reference
            if self.incoming.sheet.engine.sprocket:
                data["engine"]["sprocket"] = self.incoming.sheet.engine.sprocket
        return Sheet.from_data(with_wheel_names(data), where="answers")

    def _preview(self) -> None:
        if self.incoming is None or self._filling:
            return
        lines = {"wheel": self.wheel, "cylinders": self.cylinders, "bank": self.bank, "bore": self.bore}
        for line in (*lines.values(), self.extra):
            line.setProperty("bad", False)
        try:
            sheet = self.sheet()
        except SagenError as error:
            self._refuse(str(error))
            next((line for word, line in lines.items() if word in str(error)), self.extra).setProperty("bad", True)
            self._restyle()
            return
        if not self.accept.isEnabled():
            self.told.clear()
        self.accept.setEnabled(True)
        self._restyle()
        incoming = self.incoming
        if self._looking is not None:
            self._looking.stop()
        self._looking = self.work.ask(
            lambda _task: first_look(incoming, sheet),
            done=lambda look: self._previewed(incoming, *look),
            failed=self._refuse,
        )

    def _refuse(self, message: str) -> None:
        self.accept.setEnabled(False)
        self.told.setText(message)

    def _previewed(self, incoming: Incoming, first, strip) -> None:
        if incoming is not self.incoming:
            return
        result = next(
            (channel for channel in first.channels if channel.sheet.column == self.column.currentData()), None
        )
        if result is None:
            return
        reading = result.reading
        parts = [f"low {result.levels.low:.2f} {result.unit}, high {result.levels.high:.2f} {result.unit}"]
        if reading and reading.switching:
            parts.append(
                f"wheel {reading.wheel}"
                if reading.wheel
                else f"{len(reading.teeth.times)} pulses, no returning gap seen yet"
            )
        elif reading:
            parts.append("no teeth are seen")
        if first.tapped is not None and result.strikes is not None:
            parts = [_struck(first.tapped, result.sheet.column, result.unit)]
        self.told.setText(f"{result.sheet.column}, in the first part of it: " + "; ".join(parts) + ".")
        view = self.preview.view
        again = self.preview.strip is not None and self.preview.strip.samples == incoming.capture.samples
        self.preview.show_strip(strip)
        if again:
            self.preview.zoom(view.span / self.preview.view.span, view.start)

    def _restyle(self) -> None:
        for line in (self.wheel, self.extra, self.cylinders, self.bank, self.bore):
            line.style().unpolish(line)
            line.style().polish(line)

    def _keep(self) -> None:
        if self.incoming is None or not self.accept.isEnabled():
            return
        try:
            sheet = self.sheet()
        except SagenError as error:
            self.told.setText(str(error))
            return
        self.last_taken = sheet.conditions
        view = self.preview.view
        self.kept.emit(in_sight(self.incoming, view.start, view.end), sheet)


def _struck(tapped, column: str, unit: str) -> str:
    """How a knock channel answers, in words."""
    strikes = tapped.strikes
    if not len(strikes):
        return "no strike stands above the noise"
    sensor = strikes.columns.index(column)
    answered = int(strikes.answers.heard[:, sensor].sum())
    tallest = float(strikes.answers.height[:, sensor].max())
    return f"answers {answered} of {len(strikes)} strikes, the tallest {tallest:.3g} {unit}"


def first_look(incoming: Incoming, sheet):
    """What the first part of a capture shows under a sheet, and what is drawn of the whole of it."""
    from sagen.kinds import examine
    from sagen.report.scene import strip_scene
    from sagen.signal.probe_factors import apply_probe_factors

    first = examine(_head(incoming.capture), sheet)
    whole, _ = apply_probe_factors(incoming.capture, sheet)
    return first, strip_scene(replace(first, capture=whole), incoming.pyramids)


def _head(capture, most: int = HEAD):
    """The first part of a capture, so that the preview answers at once."""
    return replace(capture, channels=tuple(replace(channel, raw=channel.raw[:most]) for channel in capture.channels))
