"""The job log on the bench: every job as a card."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

from PySide6.QtCore import QAbstractListModel, QModelIndex, QRect, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListView, QPushButton, QVBoxLayout, QWidget

from sagen.desk.pages import Page
from sagen.desk.panes.trail import CardDelegate, paint_tag
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, plain_tip
from sagen.model.job import JobSummary, Stage
from sagen.model.language import said_date, tr, worded

if TYPE_CHECKING:
    from sagen.desk.lately import Lately
    from sagen.desk.ports import Commands
    from sagen.desk.workspace import DeskWorkspace

JOB = Qt.ItemDataRole.UserRole
TYPING_MS = 120  #: a search waits so long for the next letter


class JobsModel(QAbstractListModel):
    def __init__(self, parent=None):
        super().__init__(parent)
        self.jobs: tuple[JobSummary, ...] = ()

    def show_jobs(self, jobs: tuple[JobSummary, ...]) -> None:
        self.beginResetModel()
        self.jobs = tuple(jobs)
        self.endResetModel()

    def rowCount(self, parent=None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.jobs)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        if not index.isValid():
            return None
        job = self.jobs[index.row()]
        if role == JOB:
            return job
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return f"{job.machine} {job.owner} {job.about}"
        return None


class JobDelegate(CardDelegate):
    HEIGHT = 82

    def sizeHint(self, option, index) -> QSize:
        # As wide as the list then is: a width of its own would be that of before the bar at the side came.
        return QSize(1, self.HEIGHT)

    def paint_card(self, painter: QPainter, card: QRect, index: QModelIndex) -> None:
        colours = theme.current()
        job: JobSummary = index.data(JOB)
        inner = card.adjusted(14, 8, -12, -2)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(12, bold=True))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft, job.machine)
        painter.setFont(theme.font(10))
        about = job.about or tr("no complaint entered")
        painter.drawText(inner.adjusted(0, 24, 0, 0), Qt.AlignmentFlag.AlignLeft, about)
        painter.setPen(QColor(colours.quiet))
        painter.setFont(theme.font(9))
        who = f"{job.owner}, " if job.owner else ""
        last = job.damaged or tr("{created}, {entries} entries", created=said_date(job.created), entries=job.entries)
        painter.drawText(inner.adjusted(0, 46, 0, 0), Qt.AlignmentFlag.AlignLeft, f"{who}{last}")
        marks = {Stage.PROVEN: colours.sound, Stage.REPAIRED: colours.accent, Stage.FOUND: colours.mark}
        if job.damaged:
            paint_tag(painter, card, tr("damaged"), colours.mark)
        elif job.stage in marks:
            paint_tag(painter, card, worded(job.stage), marks[job.stage])


#: the ways in of a log without jobs: words, what comes of it, and the command
WAYS_IN = (
    (tr("New job"), tr("The machine, what was told of it, and its codes"), "jobs.new"),
    (tr("A recorder's file"), tr("Read and judged; it makes a job of its own. Or drop it anywhere on this window"), "captures.choose"),
    (tr("A job from another shop"), tr("A bundle with its captures and photos"), "logs.import_job"),
    (tr("A machine to practise on"), tr("A hidden fault, read by stand-ins: nothing has to be connected"), "practice.begin"),
    (tr("The workshop's shared log"), tr("Or any other log: a folder, or the address of a server"), "logs.open_another"),
)  # fmt: skip


class Greeting(QWidget):
    """What an empty log shows: every way in, each with what comes of it."""

    wanted = Signal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setSpacing(8)
        layout.addStretch(1)
        layout.addWidget(Label(tr("No jobs yet. Begin with:"), name="heading"))
        for words, about, command in WAYS_IN:
            row = QHBoxLayout()
            button = QPushButton(words)
            button.setObjectName("first" if command == "jobs.new" else "")
            button.setMinimumWidth(250)
            button.setAccessibleDescription(about)
            button.clicked.connect(lambda _=False, command=command: self.wanted.emit(command))
            row.addWidget(button)
            row.addSpacing(10)
            row.addWidget(Label(about, name="quiet", wrap=True), 1)
            layout.addLayout(row)
        layout.addStretch(2)


class LatelyRow(QWidget):
    """The jobs that were on the desk before the open one, each a press away, however old it is: as many as there is room for."""

    chosen = Signal(int)
    WIDEST = 30  #: letters of a name

    def __init__(self, parent=None):
        super().__init__(parent)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(5)
        self._row.addWidget(Label(tr("Lately on the desk:"), name="quiet"))
        self._row.addStretch(1)
        self.setMinimumWidth(1)
        self.buttons: list[QPushButton] = []
        self.hide()

    def show_jobs(self, jobs: Iterable[JobSummary], ids: Iterable[int]) -> None:
        """Show those of the jobs that have these numbers, in the order of the numbers."""
        known = {job.id: job for job in jobs}
        for button in self.buttons:
            button.deleteLater()
        self.buttons = [self._button(known[number]) for number in ids if number in known]
        for at, button in enumerate(self.buttons):
            self._row.insertWidget(1 + at, button)
        self.setVisible(bool(self.buttons))
        self._make_room()

    def _button(self, job: JobSummary) -> QPushButton:
        name = job.machine if len(job.machine) <= self.WIDEST else f"{job.machine[: self.WIDEST - 1]}\u2026"
        whole = f"{job.machine}, {job.owner}" if job.owner else job.machine
        button = QPushButton(name.replace("&", "&&"))
        button.setAccessibleName(whole)
        button.setToolTip(plain_tip(f"{whole}\n{job.about}".strip()))
        button.clicked.connect(lambda: self.chosen.emit(job.id))
        return button

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        left = self.width() - self._row.itemAt(0).sizeHint().width()
        for button in self.buttons:
            left -= button.sizeHint().width() + self._row.spacing()
            button.setVisible(left >= 0)


class LogPage(Page):
    """All jobs, newest first, with a search line. Listing and searching are done by the log, not here."""

    name, title = "log", tr("Job log")
    chosen = Signal(int)
    new_wanted = Signal()
    search_wanted = Signal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.addWidget(Label(tr("Job log"), name="heading"), 1)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search machine, customer, code"))
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(350)
        row.addWidget(self.search)
        self.new = QPushButton(tr("New job"))
        self.new.setObjectName("first")
        row.addWidget(self.new)
        layout.addLayout(row)
        self.lately = LatelyRow()
        self._others: Callable[[], list[int]] = list
        layout.addWidget(self.lately)
        self.model = JobsModel(self)
        self.list = QListView()
        self.list.setAccessibleName(tr("Job log"))
        # All cards are alike: ten thousand are laid out without asking each how tall it is.
        self.list.setUniformItemSizes(True)
        self.list.setLayoutMode(QListView.LayoutMode.Batched)
        self.list.setBatchSize(1000)
        self.list.setModel(self.model)
        self.list.setItemDelegate(JobDelegate(self.list))
        layout.addWidget(self.list, 1)
        self.empty = Label(name="quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(self.empty, 1)
        self.greeting = Greeting()
        layout.addWidget(self.greeting, 1)
        self.empty.hide()
        self.greeting.hide()
        self.new.clicked.connect(self.new_wanted)
        self.list.clicked.connect(lambda index: self.chosen.emit(index.data(JOB).id))
        self.list.activated.connect(lambda index: self.chosen.emit(index.data(JOB).id))
        self._typing = QTimer(self, singleShot=True, interval=TYPING_MS)
        self._typing.timeout.connect(lambda: self.search_wanted.emit(self.search.text()))
        self.search.textChanged.connect(lambda _: self._typing.start())

    def wire(self, workspace: DeskWorkspace, commands: Commands, lately: Lately) -> None:
        self._others = lately.others
        self.lately.chosen.connect(self.chosen)
        self.chosen.connect(lambda job_id: workspace.open_job(job_id, open_capture=True))
        self.new_wanted.connect(commands.runner("jobs.new"))
        self.greeting.wanted.connect(commands.run)
        self.search_wanted.connect(lambda words: workspace.list_jobs(words))

    def on_shown(self) -> None:
        self.list.setFocus()

    def show_jobs(self, listed) -> None:
        """Show a list of jobs, unless the search line has moved on."""
        if listed.search != self.search.text():
            return
        self.model.show_jobs(listed.jobs)
        self.lately.show_jobs(() if listed.search else listed.jobs, self._others())
        self.list.setVisible(bool(listed.jobs))
        self.empty.setVisible(not listed.jobs and bool(listed.search))
        self.empty.setText(tr("No job holds all of these words."))
        self.greeting.setVisible(not listed.jobs and not listed.search)
