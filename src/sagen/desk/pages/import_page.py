"""Bringing a capture in: asks only what the file does not say, with the samples in sight."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

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
from sagen.casework.import_answers import answered_sheet, changed_answer, first_answers, first_look, shown_words
from sagen.desk.lenses.strip import StripView
from sagen.desk.pages import Page
from sagen.desk.theme.plain import Label
from sagen.files import read_capture, read_sheet
from sagen.files.wheels import catalogue
from sagen.kinds.kind import USUAL, FormField, kind_of
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr, trn
from sagen.model.quantities import LENGTH
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CircuitEntry
from sagen.model.vocabulary import CAPTURE_STATES, CIRCUIT_ROLES, ROTATING_ROLES, Connection, Role, SensorKind, State
from sagen.model.words import ROLES, SENSORS, STATES, STRUCK_AT, struck_at, struck_place
from sagen.reason.case import circuit_of

if TYPE_CHECKING:
    from sagen.desk.workspace import DeskWorkspace
    from sagen.model.job import Job
    from sagen.workspace.queues import Task

#: what a rail's row of the sheet needs beside its role: key, label, hint, unit
RAIL_FIELDS = {Role.SUPPLY: FormField("nominal", tr("Nominal"), tr("volts, or empty to guess"), "v")}
#: how knock sensors stood while they were struck
CONNECTIONS = {
    Connection.UNPLUGGED: tr("Unplugged, open"), Connection.LOADED: tr("Unplugged, under a load"),
    Connection.PLUGGED: tr("Plugged into the module"),
}  # fmt: skip
#: how a capture of a role is most often taken
USUAL_STATE = {Role.SPEED: State.ROLLING, Role.KNOCK: State.STRIKE}


class ImportPage(Page):
    """The import sheet with a live preview: one channel at a time, all kept as the capture's sheet."""

    name, title = "incoming", tr("Bring in")

    def __init__(self, parent=None):
        super().__init__(parent)
        self.incoming: Incoming | None = None
        self.circuit = None  #: the job's circuit: what a file without a sheet is taken to be about
        self.answers: dict[str, dict] = {}
        self._filling = False
        self.last_taken = None  #: conditions of the capture kept before: the next one is mostly taken likewise
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
        self.cancel, self.accept = QPushButton(tr("Leave it")), QPushButton(tr("Keep and examine"))
        self.accept.setObjectName("first")
        self.accept.setDefault(True)
        self.from_shelf = QCheckBox(tr("Known-good from the shelf"))
        self.from_shelf.setToolTip(
            tr("Lay a known-good capture of the same circuit and state under it, where the shelf has one")
        )
        self.from_shelf.setChecked(True)
        self.end = QComboBox()
        self.end.setAccessibleName(tr("Where on the wire the probe sat"))
        self.end.addItem(tr("Probed at the sensor"), "sensor")
        self.end.addItem(tr("Probed at the module"), "module")
        row.addWidget(self.from_shelf)
        row.addStretch(1)
        row.addWidget(self.end)
        row.addWidget(self.cancel)
        row.addWidget(self.accept)
        layout.addLayout(row)
        self.accept.clicked.connect(self._keep)

    def _form(self) -> QHBoxLayout:
        self.column, self.role, self.sensor, self.state, self.polarity = (QComboBox() for _ in range(5))
        self.wheel, self.extra, self.cylinders = QLineEdit(), QLineEdit(), QLineEdit()
        self.connection, self.place, self.bank, self.bore = QComboBox(), QComboBox(), QLineEdit(), QLineEdit()
        self.connection.addItem(tr("Not stated"), None)
        for connection in Connection:
            self.connection.addItem(CONNECTIONS[connection], connection)
        self.place.setEditable(True)
        self.place.addItems(["", *STRUCK_AT.values()])
        self.place.lineEdit().setPlaceholderText(tr("where it was struck, in your words"))
        self.place.lineEdit().setMaxLength(60)
        self.bank.setPlaceholderText(tr("or empty"))
        self.bore.setPlaceholderText(tr("{unit}, or empty", unit=LENGTH.sign))
        self.good = QPushButton()
        self.good.setToolTip(tr("A capture of the same circuit that is known to be good, with its own sheet beside it"))
        self.good.clicked.connect(self._choose_good)
        self.extra_name = Label()
        for role in Role:
            self.role.addItem(titled(ROLES[role]), role)
        for kind in SensorKind:
            self.sensor.addItem(titled(SENSORS[kind]), kind)
        for state in CAPTURE_STATES:
            self.state.addItem(titled(STATES[state]), state)
        self.polarity.addItem(tr("Not stated"), None)
        self.polarity.addItem(tr("Falling at the tooth's centre"), "falling")
        self.polarity.addItem(tr("Rising at the tooth's centre"), "rising")
        self.wheel.setPlaceholderText(tr("48-2, or empty to find it"))
        self.cylinders.setPlaceholderText(tr("or empty"))
        left, right = QFormLayout(), QFormLayout()
        for item, name, field in (
            (left, tr("Channel"), self.column), (left, tr("It is"), self.role), (left, tr("Sensor"), self.sensor), (left, tr("Taken while"), self.state),
            (right, tr("Wheel"), self.wheel), (right, self.extra_name, self.extra), (right, tr("Polarity"), self.polarity),
            (right, tr("Struck at"), self.place), (right, tr("The sensors"), self.connection), (right, tr("Bank"), self.bank),
            (right, tr("Bore"), self.bore), (right, tr("Cylinders"), self.cylinders), (right, tr("Known-good"), self.good),
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

    # the window ---------------------------------------------------------------------------

    def wire(self, workspace: DeskWorkspace) -> None:
        self.workspace = workspace
        self.cancel.clicked.connect(lambda _=False: workspace.leave_incoming())

    # filling ------------------------------------------------------------------------------

    def show_job(self, job: Job | None) -> None:
        """Whose capture it is to be: only what was stated on the trail may answer for a file; a guess from a code may not."""
        stated = job is not None and (job.of(CircuitEntry) or job.of(CaptureEntry))
        self.circuit = circuit_of(job.records()) if stated else None

    def show_incoming(self, incoming: Incoming) -> None:
        self.incoming, self._filling = incoming, True
        capture = incoming.capture
        self.head.setText(tr("Bring in {name}", name=capture.name))
        notes = "".join(tr(" Note: {note}.", note=note) for note in capture.said)
        if capture.samples * len(capture.channels) > MOST_KEPT:
            notes += tr(" It is too long to be kept whole: zoom to the stretch that is to be kept.")
        self.about.setText(
            trn(
                "{count} channel, {samples:,} samples, {seconds:.4g} s at {sfreq:.6g} kHz.{notes}",
                "{count} channels, {samples:,} samples, {seconds:.4g} s at {sfreq:.6g} kHz.{notes}",
                len(capture.channels),
                samples=capture.samples,
                seconds=capture.seconds,
                sfreq=capture.sfreq / 1000,
                notes=notes,
            )
        )
        self.problem.setText(incoming.problem)
        self.problem.setVisible(bool(incoming.problem))
        if self.wheel.completer() is None:
            try:
                self.wheel.setCompleter(QCompleter([*catalogue()], self.wheel))
            except SagenError as error:
                self.problem.setText(str(error))
                self.problem.show()
        self.answers = first_answers(incoming, self.circuit)
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
        self.place.setEditText(struck_at(taken.place or "") if taken else "")
        self.bore.setText(f"{LENGTH.shown(sheet.engine.bore_mm):g}" if sheet and sheet.engine.bore_mm else "")
        self._show_good()
        first = next((name for name, answer in self.answers.items() if answer["role"] in CIRCUIT_ROLES), None)
        self.column.setCurrentIndex(max(0, self.column.findData(first)))
        self._filling = False
        self._show_channel()
        (self.wheel if self.wheel.isEnabled() and not self.wheel.text() else self.accept).setFocus()

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
        self.right.setRowVisible(self.polarity, rotating and kind_of(self.sensor.currentData()).polar)
        if extra:
            self.extra_name.setText(extra.label)
            self.extra.setPlaceholderText(extra.hint)

    def _answered(self) -> None:
        """Take the fields as the answers for the channel shown."""
        if self._filling or self.column.currentData() is None:
            return
        role, extra = self.role.currentData(), self._extra()
        given: dict = {"column": self.column.currentData(), "role": role}
        asked = {"wheel"} | ({extra.key} if extra else set()) | ({"bank"} if role == Role.KNOCK else set())
        if role in CIRCUIT_ROLES:
            given["sensor"] = self.sensor.currentData()
        if role in ROTATING_ROLES and self.wheel.text().strip():
            given["wheel"] = self.wheel.text().strip()
        if extra and self.extra.text().strip():
            given[extra.key] = self.extra.text().lower().rstrip(extra.unit).replace(",", ".").strip()
        if role == Role.KNOCK and self.bank.text().strip():
            given["bank"] = self.bank.text().strip()
        if "sensor" in given and kind_of(given["sensor"]).polar:
            asked.add("polarity")
            if self.polarity.currentData():
                given["polarity"] = self.polarity.currentData()
        answer = changed_answer(self.answers[given["column"]], frozenset(asked), given)
        self.answers[answer["column"]] = answer
        self._fit_fields()
        self._preview()

    def _choose_good(self) -> None:
        if self.incoming.reference is not None:
            self.incoming = replace(self.incoming, reference=None)
            self._show_good()
            return
        name, _ = QFileDialog.getOpenFileName(self, tr("A capture known to be good"), str(self.incoming.path.parent))
        if name:
            self.use_good(Path(name))

    def use_good(self, path: Path) -> None:
        """Compare with this capture; its own sheet is used, or, where it has none, the answers here."""
        incoming, answers = self.incoming, self.sheet

        def read(_task):
            return read_capture(path), read_sheet(path)

        def show(good) -> None:
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

        self.good.setText(tr("Reading {name}", name=path.name))
        self.workspace.compute(read, show, failed)

    def _show_good(self) -> None:
        good = self.incoming.reference
        self.good.setText(tr("{name}  (press to leave out)", name=good[0].name) if good else tr("Choose a file"))

    # answering ----------------------------------------------------------------------------

    def sheet(self) -> Sheet:
        """The sheet as answered; raises SheetError for an answer that makes no sense."""
        struck = any(answer.get("role") == Role.KNOCK for answer in self.answers.values())
        conditions = {"state": self.state.currentData(), "end": self.end.currentData()}
        engine: dict = {"cylinders": self.cylinders.text().strip() or None}
        if struck:
            conditions |= {
                "connection": self.connection.currentData(), "place": struck_place(self.place.currentText()) or None,
            }  # fmt: skip
            engine["bore_mm"] = self._bore()
        return answered_sheet(self.incoming, self.answers, conditions, engine)

    def _bore(self) -> float | str | None:
        """The bore in mm; as it was typed where it is no number, so that the sheet refuses it by its name."""
        text = self.bore.text().strip()
        try:
            return LENGTH.typed(text, tr("bore")) if text else None
        except ValueError:
            return text

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
        self._looking = self.workspace.compute(
            lambda _task: first_look(incoming, sheet), lambda look: self._previewed(incoming, *look), self._refuse
        )

    def _refuse(self, message: str) -> None:
        self.accept.setEnabled(False)
        self.told.setText(message)

    def _previewed(self, incoming: Incoming, first, strip) -> None:
        if incoming is not self.incoming:
            return
        words = shown_words(first, self.column.currentData())
        if not words:
            return
        self.told.setText(words)
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
        incoming = in_sight(self.incoming, view.start, view.end)
        if self.workspace.keep_incoming(incoming, sheet, from_shelf=self.from_shelf.isChecked()) is not None:
            self.incoming = None  # a second press keeps it no second time
