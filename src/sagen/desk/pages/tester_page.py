"""A sensor in the hand: a guided card with feed, resistor, leads and a count; and its twin at the harness."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QFormLayout, QHBoxLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from sagen.casework.bench_test import PASSES, pulsed_records, refusal, wiring
from sagen.casework.command import Queue
from sagen.casework.live import Live, live_trigger
from sagen.desk.actions import Action
from sagen.desk.pages import JobPage
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label, field_label
from sagen.model.bench_count import LEAST_PASSES, MOST_PASSES, WAYS, bench_records
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.reason.facts import knowledge
from sagen.reason.several import circuits_of
from sagen.signal.trigger import TriggerKind

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.ports import Navigation
    from sagen.desk.workspace import DeskWorkspace


STEPS = (
    tr("Feed and resistor as below. Hold the tip clear of metal: the output stands at the feed."),
    tr(
        "Pass a steel blade before the tip, as near as the gap in the machine, and away again. Count what lights or "
        "moves."
    ),
    tr("Do the old part first, then the new one before it is fitted."),
)
COUNT_MS = 200


class TesterPage(JobPage):
    """The card, the count, and what it comes to."""

    name, title = "tester", tr("Sensor in the hand")
    shortcuts = (
        Action("Alt+O", tr("put the count on the trail: this machine's part"), lambda page: page.keep(False)),
        Action("Alt+N", tr("put the count on the trail: a new part"), lambda page: page.keep(True)),
        Action("Alt+R", tr("count with the recorder on or off"), lambda page: page.count_button.toggle()),
        Action("Alt+S", tr("the module counted the pulses"), lambda page: page.pulsed(True)),
        Action("Alt+D", tr("the module counted none"), lambda page: page.pulsed(False)),
    )

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._live, self._wired, self._job_id = None, None, None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Sensor in the hand"), name="heading"), 1)
        back = QPushButton(tr("Back"))
        back.clicked.connect(self.left)
        head.addWidget(back)
        layout.addLayout(head)
        self.why = Label(name="caution", wrap=True)
        layout.addWidget(self.why)
        self.card = QWidget()
        inside = QVBoxLayout(self.card)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        for number, words in enumerate(STEPS, start=1):
            inside.addWidget(Label(f"{number}  {words}", wrap=True))
        self.leads = TextTable((tr("Sensor"), tr("goes to")), tr("Leads"), stretch=1)
        self.leads.setMaximumHeight(150)
        inside.addWidget(self.leads)
        inside.addLayout(self._count())
        layout.addWidget(self.card)
        layout.addWidget(Label(tr("THE HARNESS, WITHOUT THE SENSOR"), name="over"))
        self.harness = Label(name="", wrap=True)
        layout.addWidget(self.harness)
        self.harness_caution = Label(name="caution", wrap=True)
        layout.addWidget(self.harness_caution)
        row = QHBoxLayout()
        self.counted_button, self.not_button = (
            QPushButton(tr("The module shows a speed")),
            QPushButton(tr("It shows none")),
        )
        self.read_button = QPushButton(tr("Read it now"))
        self.read_button.setToolTip(tr("Ask the module for its rpm while the wire is pulsed"))
        self.counted_button.setToolTip(tr("Wire and module are sound then (Alt+S)"))
        self.not_button.setToolTip(tr("Wire or module (Alt+D)"))
        self.counted_button.clicked.connect(lambda _=False: self.pulsed(True))
        self.not_button.clicked.connect(lambda _=False: self.pulsed(False))
        self.read_button.clicked.connect(lambda _=False: self.read_module())
        for item in (self.read_button, self.counted_button, self.not_button):
            row.addWidget(item)
        row.addStretch(1)
        layout.addLayout(row)
        self.said = Label(name="strong", wrap=True)
        layout.addWidget(self.said)
        layout.addStretch(1)
        self._timer = QTimer(self, interval=COUNT_MS)
        self._timer.timeout.connect(self._counting)

    def _count(self) -> QFormLayout:
        form = QFormLayout()
        self.passes, self.counted, self.way = QSpinBox(), QSpinBox(), QComboBox()
        self.first = self.counted
        self.passes.setRange(LEAST_PASSES, MOST_PASSES)
        self.passes.setValue(PASSES)
        self.counted.setRange(-1, 10 * MOST_PASSES)
        self.counted.setSpecialValueText(tr("not counted yet"))
        self.counted.setValue(-1)
        for item in (self.passes, self.counted):
            item.setMinimumHeight(34)
            item.setMaximumWidth(200)
        self.way.setMaximumWidth(360)
        for key, words in WAYS.items():
            self.way.addItem(titled(words), key)
        for name, field in ((tr("Passes"), self.passes), (tr("Counted"), self.counted), (tr("How"), self.way)):
            form.addRow(field_label(name, field), field)
        row = QHBoxLayout()
        self.count_button, self.old_button, self.new_button = (
            QPushButton(tr("Count with the recorder")), QPushButton(tr("This machine's part")), QPushButton(tr("A new part")),
        )  # fmt: skip
        self.count_button.setCheckable(True)
        self.count_button.setToolTip(tr("Its first channel at the signal pin (Alt+R)"))
        self.count_button.toggled.connect(self._recorder)
        self.old_button.setObjectName("first")
        self.old_button.setToolTip(tr("The count goes on the trail as evidence (Alt+O)"))
        self.new_button.setToolTip(tr("Told on the trail; it says nothing of what was wrong (Alt+N)"))
        self.old_button.clicked.connect(lambda _=False: self.keep(False))
        self.new_button.clicked.connect(lambda _=False: self.keep(True))
        for each in (self.count_button, self.old_button, self.new_button):
            row.addWidget(each)
        row.addStretch(1)
        form.addRow(Label(), row)
        return form

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, instruments: BenchInstruments) -> None:
        super().wire(workspace, navigation)
        self.instruments = instruments

    def close_down(self) -> None:
        self.count_button.setChecked(False)

    def show_job(self) -> None:
        """The card of the circuit that is worked on."""
        job = self.workspace.job
        if job is None or job.id != self._job_id:
            # What was counted for another job is no count of this one's part.
            self.count_button.setChecked(False)
            self.counted.setValue(-1)
            self.said.setText("")
        self._job_id = job.id if job is not None else None
        if job is None:
            return
        circuits = circuits_of(job.records())
        self.circuit = self.workspace.circuit
        self.spec = circuits.get(self.circuit, next(iter(circuits.values())))
        why = refusal(self.spec)
        said = knowledge().cautions
        self.why.setText(why or said["plug"])
        self.card.setVisible(not why)
        for item in (self.counted_button, self.not_button, self.read_button):
            item.setEnabled(not why)
        check = knowledge().check("pulse_the_signal_wire")
        self.harness.setText(check.text if not why else tr("Not for this sensor: its module waits for another signal."))
        self.harness_caution.setText(" ".join(check.cautions))
        self.harness_caution.setVisible(not why)
        self.leads.show_rows([((pin, to), "", pin) for pin, to in wiring(self.spec).leads])

    def keep(self, new_part: bool) -> None:
        """Put the count on the trail."""
        if refusal(self.spec):
            return
        if self.counted.value() < 0:
            self.said.setText(tr("State how many were counted first."))
            return
        try:
            made = bench_records(
                self.passes.value(), self.counted.value(), way=self.way.currentData(), new_part=new_part
            )
        except ValueError as error:
            self.said.setText(str(error))
            return
        self.count_button.setChecked(False)
        self._add(made)
        self.counted.setValue(-1)

    def _add(self, records) -> None:
        if records:
            self.workspace.add(*(replace(record, circuit=self.circuit) for record in records))
            self.said.setText(records[-1].text + tr(" On the trail."))

    def pulsed(self, counted: bool) -> None:
        """Whether the module counted while the wire was pulsed."""
        if not refusal(self.spec):
            self._add(pulsed_records(counted))

    def read_module(self) -> None:
        """Ask the module for its speed while the wire is pulsed."""
        job, instruments = self.workspace.job, self.instruments

        def work(_task):
            wired = instruments.wired(job)
            try:
                modules = wired.modules()
                try:
                    return modules.live("rpm").value
                finally:
                    modules.close()
            finally:
                wired.close()

        def show(rpm: float) -> None:
            self.said.setText(tr("The module shows {rpm:,.0f} rpm: press which it is.", rpm=rpm))

        self.workspace.compute(work, show, self.said.setText, queue=Queue.INSTRUMENTS)

    # counting -------------------------------------------------------------------------------

    def _recorder(self, on: bool) -> None:
        if not on:
            self._timer.stop()
            for item in (self._live, self._wired):
                if item is not None:
                    (item.stop if item is self._live else item.close)()
            if self._live is not None:
                self._live.recorder.close()
            self._live = self._wired = None
            return
        job, instruments = self.workspace.job, self.instruments

        def work(_task):
            wired = instruments.wired(job)
            try:
                return wired, Live(wired.recorder(), "hand.npz", keep=False)
            except SagenError:
                wired.close()
                raise

        def begin(opened) -> None:
            self._wired, self._live = opened
            if not self.count_button.isChecked():
                self._recorder(False)
                return
            self._live.start()
            self.counted.setValue(0)
            self.way.setCurrentIndex(self.way.findData("recorder"))
            self._timer.start()

        def failed(why: str) -> None:
            self.count_button.setChecked(False)
            self.said.setText(why)

        self.workspace.compute(work, begin, failed, queue=Queue.INSTRUMENTS)

    def _counting(self) -> None:
        live = self._live
        if live is None or live.samples < live.sfreq / 2:
            return
        if live.trigger is None:
            high = self.spec.pull_up or self.spec.supply or live.highest(0)
            live.set_trigger(0, live_trigger(live, 0, TriggerKind.FALL, high / 2))
        self.counted.setValue(min(live.times_fired, self.counted.maximum()))
