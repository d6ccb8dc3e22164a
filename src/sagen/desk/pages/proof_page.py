"""The proof on the bench: what was abnormal taken again, before and after side by side, and what is still owed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QWidget,
)

from sagen.casework.job_sheet import again_row
from sagen.desk.actions import Action, Hint
from sagen.desk.forms.work import number
from sagen.desk.pages import JobPage
from sagen.desk.pages.head import headed
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import lowered, tr
from sagen.model.proof import Stage, Standing
from sagen.model.quantities import ROAD_SPEED
from sagen.model.trail import CaptureEntry, ProofEntry, ReadingEntry, ValueEntry
from sagen.model.vocabulary import ProofStep
from sagen.model.words import OWED, RELEARNS

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace

STAGES = {
    Stage.OPEN: tr("Open: nothing found yet."), Stage.FOUND: tr("Found, not yet repaired."),
    Stage.REPAIRED: tr("Repaired; the proof is owed."), Stage.PROVEN: tr("Proven."),
    Stage.CAME_BACK: tr("It came back: the job is open again."),
}  # fmt: skip


def _lower(words: str) -> str:
    return lowered(words)


class ProofPage(JobPage):
    """Rows of what is to be measured again; a line a step with done and failed."""

    name, title = "proof", tr("Proof")
    shortcuts = tuple(
        Action(
            f"Alt+{k}",
            tr("done: {step}", step=lowered(OWED[step])),
            lambda page, step=step: page.mark(step, True),
        )
        for k, step in enumerate(ProofStep, start=1)
    )
    hints = (Hint(tr("Enter"), tr("take the chosen measurement again")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._of, self.pressed = None, None  #: the job, and the step that was pressed to be answered
        self.stage = Label(name="strong")
        self.again = QPushButton(tr("Take it again"))
        self.again.setObjectName("first")
        self.again.setToolTip(tr("Measure the chosen row at the same point and state"))
        self.again.clicked.connect(self._again)
        layout = headed(self, tr("Proof"), self.again, beside=self.stage)
        self.first = self.table = TextTable(
            (tr("Measured"), tr("Before"), tr("After"), ""), tr("Before and after"), stretch=0
        )
        self.table.activated.connect(lambda _: self._again())
        layout.addWidget(self.table, 3)
        self.empty = Label(
            tr("Nothing abnormal was measured on this job yet. What a reading or a recording shows is judged as it " "is entered, and is to be taken again after the repair."), name="quiet", wrap=True,
        )  # fmt: skip
        layout.addWidget(self.empty)
        self.rest = Label(name="quiet", wrap=True)
        layout.addWidget(self.rest)
        layout.addWidget(self._steps())
        layout.addWidget(self._drive())
        self.relearn = Label(name="caution", wrap=True)
        layout.addWidget(self.relearn)
        layout.addLayout(self._timer())
        layout.addStretch(1)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message, commands: Commands) -> None:
        super().wire(workspace, navigation)
        self.navigation, self.message, self.commands = navigation, message, commands

    def _steps(self) -> QWidget:
        """A line a step; the one that is next, or was pressed, has its two buttons in sight, the others rest."""
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        self.said: dict[ProofStep, Label] = {}
        self.lines: dict[ProofStep, QPushButton] = {}
        self.buttons: dict[tuple[ProofStep, bool], QPushButton] = {}
        for row, step in enumerate(ProofStep):
            line = self.lines[step] = QPushButton(OWED[step])
            line.setObjectName("line")
            line.setToolTip(tr("Answer this one now (done: Alt+{row})", row=row + 1))
            line.clicked.connect(lambda _=False, step=step: self._answer(step))
            self.said[step] = Label(name="strong")
            self.said[step].setMinimumWidth(70)
            grid.addWidget(self.said[step], row, 0)
            grid.addWidget(line, row, 1)
            for column, (done, words) in enumerate(((True, tr("Done")), (False, tr("Failed"))), start=2):
                button = QPushButton(words)
                button.setObjectName("first" if done else "tight")
                button.setAccessibleName(f"{words}: {OWED[step]}")
                button.setToolTip(tr("{words} (Alt+{row})", words=words, row=row + 1) if done else words)
                button.clicked.connect(lambda _=False, step=step, done=done: self.mark(step, done))
                self.buttons[step, done] = button
                grid.addWidget(button, row, column)
        grid.setColumnStretch(1, 1)
        self.steps = inside
        return inside

    def _drive(self) -> QWidget:
        self.drive = QWidget()
        row = QHBoxLayout(self.drive)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(5)
        row.addWidget(Label(tr("THE DRIVE"), name="over"))
        self.km, self.minutes, self.conditions = QLineEdit(), QLineEdit(), QLineEdit()
        for line, hint, wide in (
            (self.km, "km", 1),
            (self.minutes, "min", 1),
            (self.conditions, tr("conditions: hot, uphill"), 4),
        ):
            line.setPlaceholderText(hint)
            line.setAccessibleName(tr("The drive: {hint}", hint=hint))
            row.addWidget(line, wide)
        self.came = QCheckBox(tr("it came again"))
        row.addWidget(self.came)
        button = QPushButton(tr("Put the drive on the trail"))
        button.setObjectName("tight")
        button.clicked.connect(self.keep_drive)
        row.addWidget(button)
        return self.drive

    def _timer(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.clock = Label(name="heading")
        row.addWidget(self.clock, 1)
        self.start = QPushButton(tr("Start the steps"))
        self.start.setToolTip(tr("Each driven step by the clock; a tone tells when it is over"))
        self.start.clicked.connect(self.run_steps)
        row.addWidget(self.start)
        self._tick = QTimer(self, interval=1000)
        self._tick.timeout.connect(self._second)
        self.left_s, self.todo = 0, []
        return row

    def show_job(self) -> None:
        """Where the proof of the open job stands."""
        job = self.workspace.job
        if job is None:
            return
        now = job.standing_now
        self.stage.setText(STAGES[now.stage])
        told = [(again_row(item, repaired=bool(now.repairs)), item) for item in now.again]
        rows = [(row.cells, row.mark, item) for row, item in told]
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows))
        self.empty.setVisible(not rows)
        self.again.setEnabled(bool(rows))
        if job.id != self._of:
            self._of, self.pressed = job.id, None
        self._show_steps(now)
        told = [
            f"{name}: {lowered(RELEARNS[item.kind])}" + (f". {item.text}" if item.text else "")
            for name, item in now.relearn.items()
        ]
        steps = [step for item in now.relearn.values() for step in item.steps]
        told += [_said(step) for step in steps]
        self.relearn.setText(tr("Relearn owed by what was changed. {told}", told="; ".join(told)) if told else "")
        self.relearn.setVisible(bool(told))
        self.todo = steps
        self.start.setVisible(bool(steps))
        if not self._tick.isActive():
            self.clock.setText("")

    def _show_steps(self, now: Standing) -> None:
        """What is owed now with its buttons; what was done, and what comes later, in a word."""
        repaired = bool(now.repairs)
        self.steps.setVisible(repaired)
        self.drive.setVisible(repaired and ProofStep.DRIVEN in now.owed)
        self.rest.setText(
            "" if repaired else tr("Nothing is owed before the repair. Then it is proven in this order: ")
            + "; ".join(_lower(OWED[step]) for step in ProofStep) + "."
        )  # fmt: skip
        self.rest.setVisible(not repaired)
        # What was abnormal is proved by measuring it, not by a tick.
        by_hand = [step for step in ProofStep if not (step == ProofStep.MEASURED and now.again)]
        following = next((step for step in by_hand if step in now.owed), None)
        current = self.pressed if self.pressed in by_hand else following
        for step in ProofStep:
            known = step in now.done or step == ProofStep.MEASURED
            state = (
                tr("failed")
                if step in now.failed
                else tr("owed")
                if step in now.owed
                else tr("done")
                if known
                else tr("not owed")
            )
            self.said[step].setText(state)
            self.said[step].setObjectName("strong" if step == current or state == "failed" else "quiet")
            self.said[step].style().polish(self.said[step])
            self.lines[step].setEnabled(repaired and step in by_hand)
            for done in (True, False):
                self.buttons[step, done].setEnabled(repaired and step in by_hand)
                self.buttons[step, done].setVisible(repaired and step == current)

    def _answer(self, step: ProofStep) -> None:
        """Another step is answered first."""
        self.pressed = step
        self.show_job()
        self.buttons[step, True].setFocus()

    def mark(self, step: ProofStep, done: bool) -> None:
        """A step of the proof was done, or failed."""
        job = self.workspace.job
        if job is not None and self.buttons[step, done].isEnabled():
            self.pressed = None
            self.workspace.add(ProofEntry((step,) if done else (), failed=() if done else (step,)))

    def keep_drive(self) -> None:
        """Put the drive on the trail as it was."""
        drive: dict = {"came": self.came.isChecked()}
        try:
            for key, line in (("km", self.km), ("minutes", self.minutes)):
                value = number(line, key)
                if value is not None:
                    drive[key] = value
            if self.conditions.text().strip():
                drive["conditions"] = self.conditions.text().strip()
            record = ProofEntry(drive=drive)
        except ValueError as error:
            self.message.say(str(error))
            return
        self.workspace.add(record)
        for line in (self.km, self.minutes, self.conditions):
            line.clear()
        self.came.setChecked(False)

    def _again(self) -> None:
        row = self.table.chosen()
        if row is None:
            return
        record = row.before
        if isinstance(record, ReadingEntry):
            page = self.navigation.show_circuit(record.circuit)
            if page is not None:
                page.aim(record.point, record.state)
        elif isinstance(record, ValueEntry):
            self.commands.run("entries.add_value", record)
        elif isinstance(record, CaptureEntry):
            self.commands.run("captures.record_again", record)
        else:
            self.message.say(tr("It was read elsewhere: read it there again, and put it on the trail."))

    # the driven steps ---------------------------------------------------------------------

    def run_steps(self) -> None:
        """Run the driven steps one after the other; pressed again it stops."""
        if self._tick.isActive():
            self._tick.stop()
            self.show_job()
            return
        self._queue = list(self.todo)
        self._next_step()

    def _next_step(self) -> None:
        if not self._queue:
            self._tick.stop()
            self.clock.setText(tr("All steps driven."))
            QApplication.beep()
            self.start.setText(tr("Start the steps"))
            return
        self._step = self._queue.pop(0)
        self.left_s = round(60 * self._step.minutes)
        self.start.setText(tr("Stop"))
        self._tick.start()
        self._show_clock()

    def _second(self) -> None:
        self.left_s -= 1
        if self.left_s <= 0:
            QApplication.beep()
            self._next_step()
        else:
            self._show_clock()

    def _show_clock(self) -> None:
        self.clock.setText(
            tr(
                "{step}: {left_s}:{left_s_2:02d} left",
                step=_said(self._step),
                left_s=self.left_s // 60,
                left_s_2=self.left_s % 60,
            )
        )


def _said(step) -> str:
    """A driven step in words."""
    at = (
        ROAD_SPEED.said(step.speed_kmh)
        if step.speed_kmh is not None
        else tr("{rpm:g} rpm", rpm=step.rpm)
        if step.rpm is not None
        else ""
    )
    return " ".join(item for item in (step.text, at, tr("for {minutes:g} min", minutes=step.minutes)) if item)
