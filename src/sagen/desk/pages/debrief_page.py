"""A practice job looked back on: the points, each step with what it told, and the plan of one who knows the fault."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QPushButton, QWidget

from sagen.casework.course import course
from sagen.casework.debrief import TELLS, Debriefed, Walked, other_clothes
from sagen.casework.practice_job import Debrief
from sagen.desk.actions import Action
from sagen.desk.pages import JobPage
from sagen.desk.pages.head import headed
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import said_now, tr
from sagen.model.practice import practice_of, score_of, scored
from sagen.model.words import said_minutes

if TYPE_CHECKING:
    from sagen.desk.ports import Commands, Message, Navigation
    from sagen.desk.workspace import DeskWorkspace

STEP_HEADS, PLAN_HEADS = (
    (tr("Your step"), tr("Minutes"), tr("It was, before"), tr("after"), tr("What it told")),
    (tr("One who knows the fault"), tr("Minutes")),
)


class DebriefPage(JobPage):
    """Two tables, a sentence and the points."""

    name, title = "debrief", tr("Looked back")
    shortcuts = (Action("Alt+A", tr("practise the same fault again, in another machine"), lambda page: page.again()),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.found: Debriefed | None = None
        self._of: tuple | None = None
        self.points = Label(name="strong")
        self.more = QPushButton(tr("Again, in other clothes"))
        self.more.setToolTip(tr("The same fault in another machine (Alt+A)"))
        self.more.clicked.connect(self.again)
        layout = headed(self, tr("Looked back"), self.more, beside=self.points)
        self.said, self.looks = Label(wrap=True), Label(name="quiet", wrap=True)
        layout.addWidget(self.said)
        layout.addWidget(self.looks)
        self.first = self.steps = TextTable(STEP_HEADS, tr("Your steps"), stretch=(0, 4))
        self.plan = TextTable(PLAN_HEADS, tr("The plan of one who knows the fault"), stretch=0)
        layout.addWidget(self.steps, 3)
        layout.addWidget(self.plan, 1)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands, message: Message) -> None:
        super().wire(workspace, navigation)
        self.commands, self.message = commands, message

    def show_job(self) -> None:
        job = self.workspace.job
        if not self.isVisible() or job is None or practice_of(job.records()) is None:
            return
        which = (job.id, sum(score_of([record]) is None for record in job.records()))
        if which == self._of:
            return
        self._of, self.found = which, None
        self._fill(tr("Working out the best plan for this machine."))
        self.workspace.submit(
            Debrief(job.id, job), lambda found: self._show(job.id, found), failed=self._fill, slot="debrief"
        )

    def _fill(self, said: str, points: str = "", looks: str = "") -> None:
        self.said.setText(str(said))
        self.points.setText(points)
        self.looks.setText(looks)
        self.looks.setVisible(bool(looks))
        found = self.found
        self.more.setEnabled(found is not None)
        self.steps.show_rows([(_cells(step), "", step) for step in found.steps] if found else [])
        self.plan.show_rows([((name, f"{minutes:.0f}"), "", name) for name, minutes in found.plan] if found else [])
        for table in (self.steps, self.plan):
            table.setVisible(found is not None and table.rowCount() > 0)

    def _show(self, job_id: int, found: Debriefed) -> None:
        job = self.workspace.job
        if job is None or job.id != job_id:
            return
        self.found = found
        lesson = course().get(practice_of(job.records()).lesson)
        self._fill(
            said_now(found.kept), tr("{points} of 100", points=found.points), lesson.looks if lesson is not None else ""
        )
        if self.isVisible():
            (self.steps if found.steps else self.more).setFocus()
        if score_of(job.records()) is None:
            # The first look back counts; from then on nothing of this machine is hidden.
            self.workspace.add(scored(found.points, found.kept))

    def again(self) -> None:
        """The same fault in another machine."""
        job = self.workspace.job
        practice = practice_of(job.records()) if job is not None else None
        if practice is None:
            return
        try:
            self.commands.run("practice.draw", other_clothes(practice))
        except SagenError as error:
            self.message.say(str(error))


def _cells(step: Walked) -> tuple[str, ...]:
    """A step as the table shows it: how likely what was wrong was taken to be, before and after."""
    before, after = (tr("{share:.0f} %", share=100 * share) for share in (step.before, step.after))
    if step.repair:
        told = (
            tr("for nothing")
            if step.needless
            else tr("it is well")
            if step.after == 0.0 or step.before >= 0.5
            else tr("repaired")
        )
        return step.words, f"{step.minutes:.0f}", before, "", told
    instead = (
        tr(
            "; {better} ({better_minutes}) tells more",
            better=said_now(step.better),
            better_minutes=said_minutes(step.better_minutes),
        )
        if step.better
        else ""
    )
    if step.proof:
        told = tr("proof")
    elif step.careless:
        told = tr("turned with the timing in doubt")
    elif step.ready:
        told = tr("it was plain already")
    elif abs(step.bits) < TELLS:
        told = tr("nothing{instead}", instead=instead)
    else:
        told = tr("towards it") if step.bits > 0 else tr("away from it{instead}", instead=instead)
    return step.words, f"{step.minutes:.0f}", before, after, told
