"""The job log on the bench: every job as a card."""

from __future__ import annotations

from PySide6.QtCore import QAbstractListModel, QModelIndex, QRect, QSize, QSortFilterProxyModel, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QListView, QPushButton, QVBoxLayout, QWidget

from sagen.desk import theme
from sagen.desk.trail import CardDelegate, entry_text, paint_tag
from sagen.model.job import Job

JOB = Qt.ItemDataRole.UserRole


class JobsModel(QAbstractListModel):
    def __init__(self, parent=None):
        super().__init__(parent)
        self.jobs: list[Job] = []

    def show_jobs(self, jobs: list[Job]) -> None:
        self.beginResetModel()
        self.jobs = jobs
        self.endResetModel()

    def rowCount(self, parent=None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.jobs)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        job = self.jobs[index.row()]
        if role == JOB:
            return job
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return f"{job.machine} {job.owner} {_about(job)}"
        return None


def _about(job: Job) -> str:
    """Complaint and codes in one line."""
    parts = [entry_text(one) for one in job.of("complaint")[:1]]
    parts += [one.data["code"] for one in job.of("code")]
    return "  ·  ".join(parts) or "no complaint entered"


class JobDelegate(CardDelegate):
    HEIGHT = 82

    def sizeHint(self, option, index) -> QSize:
        return QSize(option.rect.width(), self.HEIGHT)

    def paint_card(self, painter: QPainter, card: QRect, index: QModelIndex) -> None:
        look = theme.look()
        job: Job = index.data(JOB)
        inner = card.adjusted(14, 9, -12, -8)
        painter.setPen(QColor(look.ink))
        painter.setFont(theme.font(12, bold=True))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft, job.machine)
        painter.setFont(theme.font(10))
        painter.drawText(inner.adjusted(0, 24, 0, 0), Qt.AlignmentFlag.AlignLeft, _about(job))
        painter.setPen(QColor(look.quiet))
        painter.setFont(theme.font(9))
        who = f"{job.owner}, " if job.owner else ""
        painter.drawText(
            inner.adjusted(0, 46, 0, 0),
            Qt.AlignmentFlag.AlignLeft,
            f"{who}{job.created:%d %b %Y}, {len(job.entries)} entries",
        )
        if job.of("proof"):
            paint_tag(painter, card, "proven", look.sound)
        elif job.of("repair"):
            paint_tag(painter, card, "repaired", look.accent)
        elif any(one.data.get("findings") for one in job.of("capture")):
            paint_tag(painter, card, "finding", look.mark)


class LogPage(QWidget):
    """All jobs, newest first, with a search line."""

    chosen = Signal(int)
    new_wanted = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        head = QLabel("Job log")
        head.setObjectName("heading")
        row.addWidget(head, 1)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search machine, customer, code")
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(240)
        row.addWidget(self.search)
        self.new = QPushButton("New job")
        self.new.setObjectName("first")
        row.addWidget(self.new)
        layout.addLayout(row)
        self.model = JobsModel(self)
        self.filter = QSortFilterProxyModel(self)
        self.filter.setSourceModel(self.model)
        self.filter.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.search.textChanged.connect(self.filter.setFilterFixedString)
        self.list = QListView()
        self.list.setAccessibleName("Job log")
        self.list.setModel(self.filter)
        self.list.setItemDelegate(JobDelegate(self.list))
        layout.addWidget(self.list, 1)
        self.empty = QLabel("No jobs yet.\n\nStart one with New job, then drop a capture file anywhere on this window.")
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(self.empty, 1)
        self.new.clicked.connect(self.new_wanted)
        self.list.clicked.connect(lambda index: self.chosen.emit(index.data(JOB).id))
        self.list.activated.connect(lambda index: self.chosen.emit(index.data(JOB).id))

    def show_jobs(self, jobs: list[Job]) -> None:
        self.model.show_jobs(jobs)
        self.list.setVisible(bool(jobs))
        self.empty.setVisible(not jobs)
