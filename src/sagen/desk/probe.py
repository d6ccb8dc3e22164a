"""Probe mode: the whole window for one step at a time, readable from the engine bay, worked by a foot or by nothing at all."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.command import Queue
from sagen.casework.judging import BY_MODEL, card_circuit, judged_reading
from sagen.casework.patterns import card_of
from sagen.casework.probing import Step, probe_steps
from sagen.desk.ear import Ear, remembered_volume
from sagen.desk.pages.circuit_view import CircuitView
from sagen.desk.pages.meter_entry import MOST_VOLTS
from sagen.desk.probe_parts import FOOT_KEYS, FigureLine, ProbeKeysForm, said
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.meter.steady import Steady
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.trail import ReadingEntry
from sagen.model.typed import is_over_range, typed_figure
from sagen.model.vocabulary import OVER_RANGE_OHM, Judged, Quantity
from sagen.model.words import JUDGED
from sagen.reason.several import circuits_of

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.workspace import DeskWorkspace

READINGS_HZ = 10.0  #: asked of the meter
MOST_OHM = 1e8
SHOWN_MS = 1400  #: a verdict stays in sight so long before the next step comes by itself


class ProbeWindow(QWidget):
    """A window of its own over the whole screen. Readings go on the trail of the open job as they are taken."""

    def __init__(self, workspace: DeskWorkspace, instruments: BenchInstruments, settings: QSettings, window: QWidget):
        super().__init__(None, Qt.WindowType.Window)
        self.workspace, self.instruments, self.settings, self.ear = workspace, instruments, settings, Ear(self)
        self.steps: tuple[Step, ...] = ()
        self.at, self.taken, self._gone = 0, {}, False
        self.why_not = ""  #: why the engine must not be turned
        self._wired = self._meter = None
        self._reading_at, self._steady, self._waits = False, Steady(), False
        self._last: tuple[float, bool] | None = None
        self.keys = {name: str(settings.value(f"probe/{name}", key)) for name, (_, key) in FOOT_KEYS.items()}
        self.ear.volume = remembered_volume(settings) / 100
        self.ear.muted = str(settings.value("live/tones", "on")) != "on"
        self.setWindowTitle(tr("Probe mode – Sagen"))
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.resize(window.size())
        self._build()
        self._advance = QTimer(self, singleShot=True, interval=SHOWN_MS)
        self._advance.timeout.connect(lambda: self.go(1))

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(24, 16, 24, 16)
        layout.setSpacing(8)
        head = QHBoxLayout()
        self.count = Label(name="heading")
        head.addWidget(self.count, 1)
        self.source = Label(name="quiet")
        head.addWidget(self.source)
        for words, tip, action in (
            (tr("Keys"), tr("Which keys a foot switch or a remote sends"), self.choose_keys),
            (tr("Before"), "", lambda: self.go(-1)), (tr("Next"), tr("Without a reading"), lambda: self.go(1)),
            (tr("Close"), "Esc", self.close),
        ):  # fmt: skip
            button = QPushButton(words)
            button.setToolTip(tip)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, action=action: action())
            head.addWidget(button)
        layout.addLayout(head)
        self.where, self.what = Label(name="far", wrap=True), Label(name="near", wrap=True)
        layout.addWidget(self.where)
        layout.addWidget(self.what)
        row = QHBoxLayout()
        row.setSpacing(20)
        self.view = CircuitView()
        self.view.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.view.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        row.addWidget(self.view, 3)
        side = QVBoxLayout()
        side.addStretch(1)
        self.expect, self.value, self.verdict = Label(name="near", wrap=True), Label(name="probe"), Label(name="far")
        self.value.setAccessibleName(tr("Reading"))
        self.value.setMinimumWidth(430)
        for item in (self.expect, self.value, self.verdict):
            side.addWidget(item)
        self.line = FigureLine()
        self.line.setPlaceholderText(tr("type what the meter shows, Enter"))
        self.line.setAccessibleName(tr("Reading, typed"))
        self.line.setFont(theme.font(20))
        self.line.textChanged.connect(self._typed)
        side.addWidget(self.line)
        side.addStretch(1)
        row.addLayout(side, 2)
        layout.addLayout(row, 1)
        self.mind = Label(name="mind", wrap=True)
        layout.addWidget(self.mind)

    # beginning and end ----------------------------------------------------------------------

    def begin(self) -> None:
        """Gather the steps off this thread, and the meter, where one is at hand."""
        workspace, instruments = self.workspace, self.instruments
        job, circuit, self.why_not = workspace.job, workspace.circuit, workspace.why_not_turned
        self.job_id = job.id
        self.count.setText(tr("Gathering the steps."))
        self.showMaximized()

        def work(_task):
            circuits = circuits_of(job.records())
            which = circuit if circuit in circuits else next(iter(circuits))
            card = card_of(job)
            steps = probe_steps(circuits[which], card, which, turning=not self.why_not)
            try:
                wired = instruments.wired(job)
            except SagenError:
                return which, circuits[which], card, steps, None, None, ""
            try:
                return which, circuits[which], card, steps, wired, wired.meter(READINGS_HZ), ""
            except SagenError as error:
                wired.close()
                return which, circuits[which], card, steps, None, None, str(error)

        def show(found) -> None:
            self.name, self.spec, self.card, self.steps, self._wired, self._meter, why = found
            if self._gone:
                self._let_go()
                return
            self.source.setText(
                tr("{address}: what stays steady is taken by itself", address=self._meter.link.address)
                if self._meter
                else why or tr("No meter on the wire")
            )
            self.view.show_circuit(self.spec, {}, card_circuit(self.card, self.name, self.spec))
            self.show_step()

        workspace.compute(work, show, self.count.setText, queue=Queue.INSTRUMENTS)

    def _let_go(self) -> None:
        for item in (self._meter, self._wired):
            if item is not None:
                item.close()
        self._meter = self._wired = None

    def closeEvent(self, event) -> None:
        self._gone = True
        self._advance.stop()
        if not self._reading_at:
            self._let_go()
        self.ear.close()
        event.accept()

    # steps ----------------------------------------------------------------------------------

    @property
    def step(self) -> Step | None:
        return self.steps[self.at] if 0 <= self.at < len(self.steps) else None

    def go(self, by: int) -> None:
        """Another step; past the last one, what came of all."""
        self._advance.stop()
        self.at = max(0, min(self.at + by, len(self.steps)))
        self.show_step()

    def show_step(self) -> None:
        step, number = self.step, len(self.steps)
        self._verdict("", "")
        self.line.clear()
        self._last = None
        if step is None:
            self._finished()
            return
        self.count.setText(tr("Step {at} of {number}", at=self.at + 1, number=number))
        self.where.setText(step.where)
        self.what.setText(step.text)
        self.expect.setText(tr("Sound: {expect}", expect=step.expect))
        self.value.setText("–")
        # What must not be done stands at every step: somebody may be at the key.
        cautions = tr("Mind: ") + " ".join(step.cautions) if step.cautions else ""
        self.mind.setText("\n".join(filter(None, (self.why_not, cautions))))
        self.mind.setVisible(bool(self.mind.text()))
        self.view.choose(step.point)
        done = self.taken.get(self.at)
        if done is not None:
            self._show_taken(done)
        self.line.setVisible(True)
        self.line.setFocus()
        before, self._steady = self._steady, Steady(str(step.quantity))
        # Where the leads are moved by hand the reading of the step before must be left first.
        self._steady._taken = before._taken if self._meter is not None and not self._meter.profile.do.point else None
        self._waits = done is not None
        self._ask_meter()

    def _finished(self) -> None:
        out = [item for item in self.taken.values() if item.judged == Judged.OUTSIDE]
        self.count.setText(
            tr("Every step is through") if self.steps else tr("There is nothing to measure on this circuit")
        )
        told = (
            tr("{taken} readings are on the trail", taken=len(self.taken)) if self.taken else tr("No reading was taken")
        )
        self.where.setText(told + (tr(", {out} outside.", out=len(out)) if out else "."))
        self.what.setText(tr("Close with Esc: the suspects are weighed anew."))
        self.expect.setText("")
        self.value.setText("")
        self.mind.hide()
        self.line.hide()

    # the meter ------------------------------------------------------------------------------

    def _ask_meter(self) -> None:
        if self._meter is None or self._reading_at or self._gone or self.step is None:
            return
        self._reading_at, step, meter = True, self.step, self._meter

        def show(taken) -> None:
            self._reading_at = False
            if self._gone:
                self._let_go()
            elif self.step is step:
                self._show_reading(taken)
                QTimer.singleShot(60, self, self._ask_meter)
            else:
                self._ask_meter()

        def failed(why: str) -> None:
            self._reading_at = False
            if self._gone:
                self._let_go()
                return
            self.source.setText(tr("{why}; type the reading, or it goes on when the meter is back", why=why[:100]))
            QTimer.singleShot(1500, self, self._meter_back)

        self.workspace.compute(lambda _task: meter.read(step.point, step.state), show, failed, queue=Queue.INSTRUMENTS)

    def _meter_back(self) -> None:
        if self._meter is None or self._gone:
            return
        meter = self._meter

        def done(_) -> None:
            self.source.setText(tr("{address}: back again", address=meter.link.address))
            self._ask_meter()

        def failed(_why: str) -> None:
            if not self._gone:
                QTimer.singleShot(1500, self, self._meter_back)

        self.workspace.compute(lambda _task: meter.link.open(), done, failed, queue=Queue.INSTRUMENTS)

    def _show_reading(self, taken) -> None:
        if self._waits or self.line.text():
            return
        self._last = (taken.value, taken.over_range)
        self.value.setText(said(taken.value, self.step.quantity, taken.over_range))
        steady = self._steady.feed(min(taken.value, OVER_RANGE_OHM), time.monotonic())
        if steady is not None:
            self._take(steady, taken.over_range)

    # taking ---------------------------------------------------------------------------------

    def take(self) -> None:
        """Take what the meter shows now, or what was typed; after a verdict: the next step."""
        if self._advance.isActive() or self.at in self.taken:
            self.go(1)
        elif self.line.text().strip():
            self.take_typed()
        elif self._last is not None:
            self._take(*self._last)

    def take_typed(self) -> None:
        text = self.line.text().strip()
        if not text and self.at in self.taken:
            self.go(1)
        if not text or self.step is None:
            return
        ohmic = self.step.quantity == Quantity.OHMS
        if is_over_range(text) and ohmic:
            self._take(OVER_RANGE_OHM, True)
            return
        low, high = (0, MOST_OHM) if ohmic else (-MOST_VOLTS, MOST_VOLTS)
        try:
            value = typed_figure(text)
            if not low <= value <= high:
                raise ValueError
        except ValueError:
            self._verdict("", tr("'{text}' is no reading of this point", text=text[:16]))
            return
        self._take(value, False, text)

    def _take(self, value: float, over: bool, typed: str = "") -> None:
        step, at = self.step, self.at
        if step is None:
            return
        unit = "Ω" if step.quantity == Quantity.OHMS else "V"
        shown = tr("over range") if over else f"{typed or f'{value:.4g}'} {unit}"
        entry = ReadingEntry(
            step.quantity, step.point, step.state, OVER_RANGE_OHM if over else value, shown=shown, circuit=self.name
        )
        self._waits = True
        spec, card = self.spec, self.card

        def show(made: ReadingEntry) -> None:
            self.taken[at] = made
            if self._gone or self.at != at:
                return
            self._show_taken(made)
            self.ear.say("outside" if made.judged == Judged.OUTSIDE else "inside")
            self._advance.start()

        self.workspace.add_worked_out(lambda: judged_reading(entry, spec, card), entry, job=self.job_id, made=show)

    def _show_taken(self, made: ReadingEntry) -> None:
        self.value.setText(
            said(made.value, made.reading, made.reading == Quantity.OHMS and made.value >= OVER_RANGE_OHM)
        )
        if made.judged is None:
            self._verdict("", tr("Taken"))
            return
        words = JUDGED[made.judged]
        by = (
            tr(" by the model")
            if made.against == BY_MODEL
            else tr(" by {against}", against=made.against)
            if made.against
            else ""
        )
        self._verdict(str(made.judged), titled(words) + by)

    def _verdict(self, verdict: str, words: str) -> None:
        self.verdict.setText(words)
        for item in (self.value, self.verdict):
            item.setProperty("verdict", verdict)
            item.style().unpolish(item)
            item.style().polish(item)

    def _typed(self) -> None:
        if self.line.text():
            self.value.setText(self.line.text()[:9])

    # keys -----------------------------------------------------------------------------------

    def choose_keys(self) -> None:
        """Which keys a foot switch or a remote sends; remembered."""
        form = ProbeKeysForm(self.keys, self)
        if form.exec():
            self.keys = form.answer()
            for name, key in self.keys.items():
                self.settings.setValue(f"probe/{name}", key)

    def foot_key(self, event) -> str:
        """What a key does; "" for none of ours."""
        pressed = QKeySequence(event.keyCombination()).toString()
        return next((name for name, key in self.keys.items() if key and key == pressed), "")

    def keyPressEvent(self, event) -> None:
        action = self.foot_key(event)
        if action:
            {"take": self.take, "next": lambda: self.go(1), "before": lambda: self.go(-1)}[action]()
        elif event.key() == Qt.Key.Key_Escape:
            self.close()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.take()
        else:
            super().keyPressEvent(event)
