"""The practice bay: twelve lessons and five levels of machines with a hidden fault, and how far each person has come."""

from __future__ import annotations

import csv
import io
import secrets
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton, QWidget

from sagen.artifacts.atomic import write_whole
from sagen.casework.course import course
from sagen.casework.practice import LEVELS
from sagen.casework.practice_job import PersonProgress, ReadProgress, title_of_practice
from sagen.desk.actions import Action, Hint
from sagen.desk.pages import Page
from sagen.desk.pages.head import headed
from sagen.desk.parts import last_folder
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.practice import LOOK_MINUTES, Practice, Shown

if TYPE_CHECKING:
    from sagen.desk.ports import Commands, Message, Navigation
    from sagen.desk.workspace import DeskWorkspace

LEVEL_WORDS = {
    1: tr("A frank fault of a crank sensor's circuit"), 2: tr("Any circuit, or nothing wrong at all"),
    3: tr("Slighter faults, some that come and go, misleading history"), 4: tr("The same, and new parts may be bad"), 5: tr("Two faults"),
}  # fmt: skip
SUSPECTS = {
    Shown.HIDDEN: tr("Suspects hidden"), Shown.PRICED: tr("Suspects for {look_minutes:.0f} minutes a look", look_minutes=LOOK_MINUTES), Shown.SHOWN: tr("Suspects always shown"),
}  # fmt: skip
ABOUT = tr(
    "A made-up customer brings a simulated machine with a hidden fault. Measure, look, repair and prove it in "
    "the ordinary window: the stand-in instruments are clipped to it, and its clock runs by the minutes that "
    "each step takes a technician."
)
HEADS = (tr("Lesson"), tr("Your best"), tr("Times"))


class PracticePage(Page):
    """A row a lesson and a level."""

    name, title = "practice", tr("Practice")
    left = Signal()
    shortcuts = (Action("Alt+D", tr("draw a machine of the chosen lesson"), lambda page: page.draw()),)
    hints = (Hint(tr("Enter"), tr("draw a machine of the chosen lesson")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        layout = headed(self, tr("Practice"))
        layout.addWidget(Label(ABOUT, name="quiet", wrap=True))
        self.first = self.table = TextTable(HEADS, tr("Lessons and levels"), stretch=0)
        self.table.activated.connect(lambda _: self.draw())
        layout.addWidget(self.table, 1)
        row = WrapRow(spacing=6)
        self.suspects = QComboBox()
        self.suspects.setAccessibleName(tr("What is seen of the suspects"))
        for shown, words in SUSPECTS.items():
            self.suspects.addItem(words, shown)
        self.go, case, export = (
            QPushButton(tr("Draw a machine")),
            QPushButton(tr("Open a case")),
            QPushButton(tr("Export progress")),
        )
        self.go.setObjectName("first")
        self.go.setToolTip(tr("A job of its own, with another machine each time (Alt+D)"))
        case.setToolTip(tr("A machine that a teacher made of a proven job"))
        export.setToolTip(tr("What each person practised in this log, as CSV"))
        self.go.clicked.connect(self.draw)
        case.clicked.connect(lambda: self.commands.run("practice.open_case", self.suspects.currentData()))
        export.clicked.connect(self._export)
        for widget in (self.go, self.suspects, case, export):
            row.addWidget(widget)
        layout.addLayout(row)
        self.progress: list[PersonProgress] = []
        self._show()

    def wire(
        self,
        settings: QSettings,
        workspace: DeskWorkspace,
        navigation: Navigation,
        commands: Commands,
        message: Message,
    ) -> None:
        self.settings, self.workspace, self.commands, self.message = settings, workspace, commands, message
        self.left.connect(
            lambda: navigation.back_to_job() if workspace.job is not None else navigation.show_page("log")
        )
        kept = self.suspects.findData(Shown(settings.value("practice/suspects", str(Shown.HIDDEN))))
        self.suspects.setCurrentIndex(max(kept, 0))
        self.suspects.currentIndexChanged.connect(
            lambda _: settings.setValue("practice/suspects", str(self.suspects.currentData()))
        )

    def on_shown(self) -> None:
        self.first.setFocus()
        if self.workspace.log is not None:
            self.workspace.submit(ReadProgress(None), self._read, slot="practice")

    def _read(self, found: list[PersonProgress]) -> None:
        self.progress = found
        self._show()

    def _show(self) -> None:
        workspace = getattr(self, "workspace", None)
        me = workspace.log.author.author if workspace is not None and workspace.log is not None else ""
        mine = {item.what: item for item in self.progress if item.who == me}
        rows = [(lesson.title, Practice(lesson=slug)) for slug, lesson in course().items()]
        rows += [
            (tr("Level {level}: {level_2}", level=level, level_2=LEVEL_WORDS[level]), Practice(level))
            for level in LEVELS
        ]
        shown = []
        for words, practice in rows:
            done = mine.get(title_of_practice(practice))
            cells = (words, tr("{best} of 100", best=done.best) if done else "", str(done.jobs) if done else "")
            shown.append((cells, "", practice))
        self.table.show_rows(shown)

    def draw(self) -> None:
        """A machine of the chosen row."""
        chosen: Practice | None = self.table.chosen()
        if chosen is None or self.workspace.log is None:
            return
        seed = secrets.randbelow(1_000_000)
        self.commands.run("practice.draw", Practice(chosen.level, seed, chosen.lesson, "", self.suspects.currentData()))

    def _export(self) -> None:
        start = str(last_folder(self.settings) / "practice.csv")
        name, _ = QFileDialog.getSaveFileName(self, tr("What was practised in this log"), start, tr("Table (*.csv)"))
        if not name:
            return
        text = io.StringIO()
        out = csv.writer(text, lineterminator="\n")
        out.writerow(("person", "lesson", "times", tr("best of 100")))
        out.writerows(item.row for item in self.progress)
        try:
            write_whole(name, text.getvalue().encode())
        except (SagenError, OSError) as error:
            self.message.say(str(error))
        else:
            self.message.say(tr("{name} holds what was practised.", name=name))
