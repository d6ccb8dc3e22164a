"""Commands of practice: a machine with a hidden fault, looks at it, and what it was."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QListWidget, QListWidgetItem

from sagen.casework.course import read_case
from sagen.casework.practice_job import DrawPractice, LookAtMachine, MakeCase
from sagen.desk.forms.base import Form
from sagen.desk.parts import last_folder
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.practice import Practice, looked, practice_of
from sagen.model.vocabulary import CheckKind
from sagen.model.words import said_minutes
from sagen.reason.facts import knowledge
from sagen.reason.several import circuits_of

CASES = tr("A case to practise on (*.case.toml)")
FIRST = tr("Open a practice job first: More, Practice.")


def begin(navigation) -> None:
    """The lessons and levels."""
    navigation.show_page("practice")


def draw(workspace, practice: Practice) -> None:
    """A machine to practise on as a job of its own."""
    workspace.submit(
        DrawPractice(None, practice),
        lambda story: workspace.add_job(story.machine, story.owner, 4, list(story.records)),
    )


def open_case(workspace, message, window, settings, suspects) -> None:
    """A machine that a teacher handed over."""
    name, _ = QFileDialog.getOpenFileName(window, tr("A case to practise on"), str(last_folder(settings)), CASES)
    if not name:
        return
    try:
        draw(workspace, Practice(case=read_case(name).letters, seed=1, suspects=suspects))
    except SagenError as error:
        message.say(str(error))


def hand_over(workspace, message, window, settings) -> None:
    """A case for others to practise on, of the open job."""
    job = workspace.job
    if job is None:
        message.say(tr("Open the proven job that is to be practised on."))
        return
    start = str(last_folder(settings) / "machine.case.toml")
    name, _ = QFileDialog.getSaveFileName(window, tr("A case of this job, without a name"), start, CASES)
    if name:
        path = name if Path(name).suffix else f"{name}.case.toml"
        workspace.submit(MakeCase(job.id, job, path), message.say, failed=message.say)


#: kinds of check in the order in which they are listed, and how each begins
KINDS = {
    CheckKind.METER: tr("Meter"), CheckKind.CAPTURE: tr("Recorder"), CheckKind.LOOK: tr("Look"), CheckKind.SCAN: tr("Tester"),
}  # fmt: skip


class CheckList(Form):
    """All that can be measured, recorded, looked at or asked of a circuit, with the minutes that it takes."""

    def __init__(self, spec, parent=None):
        super().__init__(tr("Do a check"), tr("Do it"), parent)
        self.setMinimumWidth(560)
        self.fields.addRow(
            Label(tr("The machine answers, and its clock goes on by so many minutes."), name="quiet", wrap=True)
        )
        self.list = QListWidget()
        self.list.setFixedHeight(300)
        self.list.setSpacing(4)
        self.list.setAccessibleName(tr("Checks of this circuit"))
        fitting = [check for check in knowledge().checks if check.kind in KINDS and check.fits(spec)]
        for check in sorted(fitting, key=lambda item: (list(KINDS).index(item.kind), item.name)):
            row = QListWidgetItem(f"{KINDS[check.kind]}:  {check.name}  ({said_minutes(check.minutes)})")
            row.setData(Qt.ItemDataRole.UserRole, check.slug)
            self.list.addItem(row)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        self.fields.addRow(self.list)
        self.what, self.mind = Label(wrap=True), Label(name="caution", wrap=True)
        self.what.setMinimumHeight(60)
        self.fields.addRow(self.what)
        self.fields.addRow(self.mind)
        self.list.currentRowChanged.connect(lambda _: self._tell(spec))
        self.list.setCurrentRow(0)

    def _tell(self, spec) -> None:
        """What the chosen check is, and what is to be minded at a real machine."""
        check = self.answer()
        self.what.setText(check.said(spec))
        self.mind.setText(tr("Mind: {cautions}", cautions=" ".join(check.cautions)) if check.cautions else "")
        self.mind.setVisible(bool(check.cautions))
        if self.isVisible():
            self.layout().activate()
            self._fit()

    def answer(self):
        return knowledge().check(self.list.currentItem().data(Qt.ItemDataRole.UserRole))


def look(workspace, commands, message, window) -> None:
    """One check of the machine of the open practice job."""
    job = workspace.job
    if job is None or practice_of(job.records()) is None:
        message.say(FIRST)
        return
    spec = next(iter(circuits_of(job.records()).values()))
    form = CheckList(spec, window)
    if not form.exec():
        return
    check = form.answer()
    if check.kind == CheckKind.METER:
        commands.run("captures.take_reading", check, check.said(spec))
    elif check.kind == CheckKind.CAPTURE:
        commands.run("captures.record_stand_in", check.state)
    else:
        seen(workspace, check.slug)


def seen(workspace, slug: str) -> None:
    """What a look comes to, on the trail."""
    job, circuit = workspace.job, workspace.circuit

    def put(record) -> None:
        if workspace.job is not None and workspace.job.id == job.id:
            workspace.add(replace(record, circuit=circuit))

    workspace.submit(LookAtMachine(job.id, job, slug), put)


def pay(workspace) -> None:
    """See the suspects once, for minutes of the machine's clock."""
    if workspace.job is not None:
        workspace.add(looked())


def debrief(workspace, navigation, message) -> None:
    """What the practice machine was, and how it went."""
    job = workspace.job
    if job is None or practice_of(job.records()) is None:
        message.say(FIRST)
        return
    navigation.show_page("debrief")
