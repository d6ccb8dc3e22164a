"""Commands of practice: a machine with a hidden fault, and what it was."""

from __future__ import annotations

import secrets

from PySide6.QtWidgets import QComboBox

from sagen.casework.practice import LEVELS
from sagen.casework.practice_job import Debrief, DrawPractice
from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.practice import practice_of

LEVEL_WORDS = {
    1: "1: a frank fault of a crank sensor's circuit", 2: "2: any circuit, or nothing wrong at all",
    3: "3: slighter faults, some that come and go, misleading history", 4: "4: the same, and new parts may be bad",
    5: "5: two faults",
}  # fmt: skip


class PracticeForm(Form):
    """How hard the machine is to be."""

    def __init__(self, parent=None):
        super().__init__("A machine to practise on", "Draw one", parent)
        self.setMinimumWidth(600)
        self.fields.addRow(Label(
            "A made-up customer brings a simulated machine with a hidden fault. Measure, record and repair it in the ordinary "
            "window: the stand-in instruments are clipped to it.", name="quiet", wrap=True,
        ))  # fmt: skip
        self.level = self.add("Level", QComboBox())
        for level in LEVELS:
            self.level.addItem(LEVEL_WORDS[level], level)


def begin(workspace, window) -> None:
    """Draw a machine and open it as a job."""
    if workspace.log is None:
        return
    form = PracticeForm(window)
    if form.exec():
        draw(workspace, form.level.currentData(), secrets.randbelow(1_000_000))


def draw(workspace, level: int, seed: int) -> None:
    """The machine of a level and number as a job."""
    workspace.submit(
        DrawPractice(None, level, seed),
        lambda story: workspace.add_job(story.machine, story.owner, 4, list(story.records)),
    )


def debrief(workspace, message) -> None:
    """Say what the practice machine was, and how it went."""
    job = workspace.job
    if job is None or practice_of(job.records()) is None:
        message.say("Open a practice job first: More, Practice.")
        return
    workspace.submit(Debrief(job.id, job), message.say)
