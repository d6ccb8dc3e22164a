"""The engine's modules on the bench: codes into the job, live values, and clearing with a question first."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QGridLayout, QPushButton, QVBoxLayout, QWidget

from sagen.casework.command import Queue
from sagen.casework.module import came_back, frame_words, meaning_of, new_codes, speed_record
from sagen.desk.actions import Action
from sagen.desk.forms.base import Form
from sagen.desk.pages import Page
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SagenError
from sagen.model.language import figure, titled, tr, trn
from sagen.model.quantities import ROAD_SPEED, TEMPERATURE
from sagen.model.vocabulary import CodeStatus, State
from sagen.reason.facts import knowledge

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace


#: values of the module, and in which unit they stand there
SHOWN = (
    ("rpm", tr("rpm")),
    ("speed", ROAD_SPEED.sign),
    ("coolant", tr("{unit} coolant", unit=TEMPERATURE.sign)),
    ("intake", tr("{unit} intake", unit=TEMPERATURE.sign)),
)
MEASURED_IN = {"speed": ROAD_SPEED, "coolant": TEMPERATURE, "intake": TEMPERATURE}
EVERY_MS = 400
ASK = tr(
    "Clear the codes of every module? Freeze frames and readiness go with them; what is on the trail stays. Read "
    "the codes first, and clear only with the engine off."
)


class ClearForm(Form):
    """The question before codes are cleared."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("Clear codes"), tr("Clear them"), parent)
        self.fields.addRow(Label(ASK, wrap=True))


#: how the machine may stand, in words that leave room beside them
HOW_IT_STANDS = {State.KEY_ON: tr("Key on"), State.CRANKING: tr("Cranking"), State.RUNNING: tr("Running")}


class ModulePage(Page):
    """Codes of every module that answers, and four live values."""

    name, title = "module", tr("Module: codes and values")
    shortcuts = (
        Action("Alt+R", tr("read the codes into the job"), lambda page: page.read()),
        Action("Alt+L", tr("live values on or off"), lambda page: page.live_button.toggle()),
        Action("Alt+S", tr("the speed now, while cranking, as evidence"), lambda page: page.keep_speed()),
        Action("Alt+C", tr("clear the codes"), lambda page: page.clear()),
    )

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.cleared, self._job_id = None, None
        self.found = ()
        self._asking = False
        self._wired = self._modules = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        head = WrapRow()
        head.addWidget(Label(tr("Module"), name="heading"))
        self.state = QComboBox()
        self.state.setAccessibleName(tr("How the machine stands"))
        self.state.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        for state, words in HOW_IT_STANDS.items():
            self.state.addItem(words, state)
        self.state.currentIndexChanged.connect(lambda _: self._turned())
        head.addWidget(self.state)
        self.read_button, self.live_button, self.clear_button = (
            QPushButton(tr("Read codes")), QPushButton(tr("Live values")), QPushButton(tr("Clear codes")),
        )  # fmt: skip
        self.read_button.setObjectName("first")
        self.read_button.setToolTip(tr("All modules, stored, pending and permanent, onto the trail (Alt+R)"))
        self.read_button.clicked.connect(lambda _=False: self.read())
        self.live_button.setCheckable(True)
        self.live_button.setToolTip(tr("Speed, road speed, coolant and intake as the module has them (Alt+L)"))
        self.live_button.toggled.connect(self._polled)
        self.clear_button.setToolTip(tr("Clear, after a question (Alt+C)"))
        self.clear_button.clicked.connect(lambda _=False: self.clear())
        for item in (self.read_button, self.live_button, self.clear_button):
            head.addWidget(item)
        head.push_right()
        where, back = QPushButton(tr("Instruments")), QPushButton(tr("Back"))
        self.where, self.back = where, back
        head.addWidget(where)
        head.addWidget(back)
        layout.addLayout(head)
        layout.addLayout(self._values())
        self.said = Label(
            tr("Key on, then read the codes. Nothing is cleared without a question."), name="quiet", wrap=True
        )
        layout.addWidget(self.said)
        self.table = TextTable((tr("Module"), tr("Code"), tr("Status"), tr("What it says")), tr("Codes"), stretch=3)
        layout.addWidget(self.table, 1)
        self.frozen = Label(name="small", wrap=True)
        layout.addWidget(self.frozen)
        self.caution = Label(name="caution", wrap=True)
        layout.addWidget(self.caution)
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self._poll)

    def _values(self) -> QGridLayout:
        grid = QGridLayout()
        self.values: dict[str, Label] = {}
        for column, (name, unit) in enumerate(SHOWN):
            self.values[name] = Label("–", name="live")
            grid.addWidget(self.values[name], 0, column)
            grid.addWidget(Label(unit, name="small"), 1, column)
            grid.setColumnStretch(column, 1)
        self.speed_button = QPushButton(tr("Cranking speed onto the trail"))
        self.speed_button.setToolTip(
            tr("What the module shows while cranking is evidence: 0 means it sees no pulse (Alt+S)")
        )
        self.speed_button.clicked.connect(lambda _=False: self.keep_speed())
        grid.addWidget(self.speed_button, 2, 0, 1, len(SHOWN), Qt.AlignmentFlag.AlignLeft)
        return grid

    def wire(
        self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands, instruments: BenchInstruments
    ) -> None:
        self.workspace, self.instruments = workspace, instruments
        self.where.clicked.connect(commands.runner("instruments.choose"))
        self.back.clicked.connect(lambda _=False: navigation.back_to_job())
        workspace.job_changed.connect(lambda job: self._job_changed(job))
        self._job_id = workspace.job.id if workspace.job else None
        self._turned()

    def _job_changed(self, job) -> None:
        if job is None or job.id != self._job_id:
            self._job_id = job.id if job else None
            self.cleared, self.found = None, ()
            self.table.show_rows([])
            self.frozen.setText("")
            self.let_go()

    def let_go(self) -> None:
        """Leave the bus."""
        self.live_button.setChecked(False)
        for item in (self._modules, self._wired):
            if item is not None:
                item.close()
        self._modules = self._wired = None

    def close_down(self) -> None:
        self.let_go()

    def _turned(self) -> None:
        said, state = knowledge().cautions, self.state.currentData()
        names = {State.CRANKING: ("cranking", "no_start"), State.RUNNING: ("moving", "hot")}.get(state, ("plug",))
        self.caution.setText(" ".join(said[name] for name in names))
        self.speed_button.setEnabled(state == State.CRANKING)

    def _ask(self, question, answered) -> None:
        """Put a question to the modules off this thread, one at a time; the bus is opened with the first."""
        if self._asking or self.workspace.job is None:
            return
        self._asking = True
        workspace, state, instruments = self.workspace, self.state.currentData(), self.instruments
        job = workspace.job

        def work(_task):
            if self._wired is None:
                self._wired = instruments.wired(job)
            self._wired.turn(state)
            if self._modules is None:
                self._modules = self._wired.modules()
            return question(self._modules)

        def done(answer) -> None:
            self._asking = False
            if workspace.job is not None and workspace.job.id == job.id:
                answered(answer)
            else:
                self.let_go()

        def failed(why: str) -> None:
            self._asking = False
            self.live_button.setChecked(False)
            self.said.setText(titled(why))

        workspace.compute(work, done, failed, queue=Queue.INSTRUMENTS)

    # codes ----------------------------------------------------------------------------------

    def read(self) -> None:
        """Read the codes of every module onto the trail."""
        self.said.setText(tr("Reading codes."))
        self._ask(lambda modules: (modules.codes(), dict(modules.refused), modules.about()), self._read)

    def _read(self, answer) -> None:
        self.found, refused, about = answer
        workspace = self.workspace
        added = new_codes(workspace.job, self.found)
        back = ()
        if self.cleared is not None:
            codes, when = self.cleared
            back = came_back(codes, self.found, time.monotonic() - when)
            if back:
                self.cleared = None
        if added or back:
            workspace.add(*added, *back)
        rows = [
            ((module.module, code, str(status), meaning_of(code) or tr("a maker's own code")),
             "bad" if status != CodeStatus.PENDING else "", code)
            for module in self.found for code, status in module.codes
        ]  # fmt: skip
        self.table.show_rows(rows)
        lines = [tr("{name} calls itself {said}.", name=name, said=said) for name, said in about.items()]
        lines += [f"{item.module}, {frame_words(item.frozen)}." for item in self.found if item.frozen]
        self.frozen.setText("\n".join(lines))
        told = [
            trn("{rows} codes of {count} module", "{rows} codes of {count} modules", len(self.found), rows=len(rows))
            if rows
            else tr("No codes")
        ]
        told.append(
            tr("{added} entries onto the trail", added=len(added)) if added else tr("nothing new for the trail")
        )
        told += [f"{what}: {why}" for what, why in refused.items()]
        told += [item.text for item in back if hasattr(item, "text")]
        self.said.setText("; ".join(told)[:400])

    def clear(self) -> None:
        """Clear the codes after a question; what comes back afterwards is entered with when."""
        if not ClearForm(self).exec():
            return
        there = [code for module in self.found for code, _ in module.codes]

        def question(modules):
            codes = there or [code for module in modules.codes() for code, _ in module.codes]
            return modules.clear(), codes

        self._ask(question, self._cleared)

    def _cleared(self, answer) -> None:
        modules, codes = answer
        self.cleared = (tuple(codes), time.monotonic())
        self.table.show_rows([])
        self.frozen.setText("")
        self.said.setText(tr("Cleared: {modules}. Read again to see what comes back.", modules=", ".join(modules)))

    # live values ----------------------------------------------------------------------------

    def _polled(self, on: bool) -> None:
        if on:
            self._poll()
            self._timer.start()
        else:
            self._timer.stop()

    def _poll(self) -> None:
        def question(modules):
            found = {}
            for name, _ in SHOWN:
                try:
                    found[name] = modules.live(name)
                except SagenError as error:
                    if name == "rpm":
                        raise
                    found[name] = str(error)
            return found

        self._ask(question, self._show_values)

    def _show_values(self, found) -> None:
        for name, item in found.items():
            if isinstance(item, str):
                self.values[name].setText("–")
                continue
            value = MEASURED_IN[name].shown(item.value) if name in MEASURED_IN else item.value
            self.values[name].setText(figure(value, ",.0f"))

    def keep_speed(self) -> None:
        """The speed that the module shows while cranking, onto the trail."""
        state = self.state.currentData()
        if state != State.CRANKING:
            self.said.setText(tr("Choose cranking, and let it crank while the speed is read."))
            return

        def keep(value) -> None:
            record = speed_record(value, state)
            self.values["rpm"].setText(figure(value.value, ",.0f"))
            self.workspace.add(record)
            self.said.setText(
                tr("The module shows {value:,.0f} rpm while cranking: onto the trail.", value=value.value)
            )

        self._ask(lambda modules: modules.live("rpm"), keep)
