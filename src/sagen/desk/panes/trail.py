"""The Trail: the job so far, oldest first."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6 import QtWidgets  # what is first used when an entry is painted is not made ready before
from PySide6.QtCore import QAbstractListModel, QModelIndex, QRect, QSize, Qt, Signal
from PySide6.QtGui import QAction, QColor, QFontMetrics, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QListView,
    QMenu,
    QPushButton,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, plain_tip
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import lowered, tr, worded
from sagen.model.lazy import lazy
from sagen.model.vocabulary import EntryKind
from sagen.model.words import ENTRY_TITLES

if TYPE_CHECKING:
    from sagen.model.job import Entry, Job
    from sagen.model.trail import Record

words = lazy("sagen.casework.words")  # no job is open when the window comes up

ICONS = {
    EntryKind.COMPLAINT: "message-square",
    EntryKind.CODE: "hash",
    EntryKind.CAPTURE: "activity",
    EntryKind.FINDING: "activity",
    EntryKind.NOTE: "clipboard-list",
    EntryKind.REPAIR: "wrench",
    EntryKind.PROOF: "check",
    EntryKind.READING: "gauge",
    EntryKind.INSPECTION: "eye",
    EntryKind.REPLACED: "wrench",
    EntryKind.CIRCUIT: "list",
    EntryKind.SCAN: "gauge",
    EntryKind.STAYED: "check",
    EntryKind.DECISION: "list",
    EntryKind.CARD: "list",
    EntryKind.VALUE: "gauge",
    EntryKind.PLACE: "wrench",
    EntryKind.STEP: "wrench",
    EntryKind.PART: "clipboard-list",
    EntryKind.SEEN: "eye",
    EntryKind.PHOTO: "eye",
    EntryKind.COSTS: "clipboard-list",
    EntryKind.BOARD: "eye",
    EntryKind.DAMAGED: "x",
    EntryKind.NEWER: "clipboard-list",
}
#: what can be put on the trail by hand, in the order of the menu; a reading is entered on the circuit page
ADDED_BY_HAND = (
    EntryKind.READING, EntryKind.CODE, EntryKind.COMPLAINT, EntryKind.INSPECTION, EntryKind.FINDING, EntryKind.SCAN,
    EntryKind.VALUE, EntryKind.REPLACED, EntryKind.NOTE, EntryKind.SEEN, EntryKind.PHOTO, EntryKind.CARD, EntryKind.PLACE,
    EntryKind.STEP, EntryKind.PART, EntryKind.COSTS, EntryKind.DECISION, EntryKind.REPAIR, EntryKind.STAYED,
    EntryKind.PROOF,
)  # fmt: skip
SHORT = {
    EntryKind.READING: tr("Reading"), EntryKind.CODE: tr("Code"), EntryKind.COMPLAINT: tr("Complaint"), EntryKind.REPLACED: tr("Replaced before"),
    EntryKind.INSPECTION: tr("Looked at"), EntryKind.FINDING: tr("Read elsewhere"), EntryKind.SCAN: tr("Tester shows"),
    EntryKind.NOTE: tr("Note"), EntryKind.DECISION: tr("Decide while open"), EntryKind.REPAIR: tr("Repair"), EntryKind.STAYED: tr("Still there?"), EntryKind.PROOF: tr("Proof"),
    EntryKind.VALUE: tr("Reading by the card"), EntryKind.SEEN: tr("Also seen"), EntryKind.PHOTO: tr("Photo"),
    EntryKind.CARD: tr("Machine card"), EntryKind.PLACE: tr("Opened, closed"), EntryKind.STEP: tr("Taken apart"),
    EntryKind.PART: tr("Part line"), EntryKind.COSTS: tr("Costs"),
}  # fmt: skip


def fitting(job: Job | None) -> tuple[EntryKind, EntryKind]:
    """The two kinds of entry that fit the moment: what the job lacks, else what is measured or done next."""
    kinds = {item.kind for item in job.standing} if job else set()
    if EntryKind.CODE not in kinds:
        return EntryKind.CODE, EntryKind.READING
    if EntryKind.REPAIR in kinds:
        return EntryKind.READING, EntryKind.PROOF
    return EntryKind.READING, EntryKind.REPAIR


class TrailModel(QAbstractListModel):
    """The entries of one job."""

    ENTRY = Qt.ItemDataRole.UserRole

    def __init__(self, parent=None):
        super().__init__(parent)
        self.entries: tuple[Entry, ...] = ()

    def show_job(self, job: Job | None) -> None:
        self.beginResetModel()
        self.entries = job.entries if job else ()
        self.endResetModel()

    def rowCount(self, parent=None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.entries)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        if not index.isValid():
            return None
        entry = self.entries[index.row()]
        if role == self.ENTRY:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            gone = tr(" (withdrawn)") if entry.withdrawn else ""
            return f"{ENTRY_TITLES[entry.kind]}{gone}: {words.entry_text(entry.record)}"
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip("\n".join(filter(None, (words.entry_text(entry.record), written_by(entry)))))
        return None


class CardDelegate(QStyledItemDelegate):
    """Draws a row as a card: icon, a small title line, and as many lines of text as it takes."""

    MOST_LINES = 7
    AROUND = 40  #: px of a card's height that are not text
    BESIDE = 50  #: px of a card's width that are not text

    def sizeHint(self, option, index) -> QSize:
        wide = self.parent().viewport().width()
        metrics = QFontMetrics(theme.font(10))
        room = QRect(0, 0, max(60, wide - self.BESIDE), 10_000)
        text = metrics.boundingRect(
            room, Qt.TextFlag.TextWordWrap, words.entry_text(index.data(TrailModel.ENTRY).record)
        )
        return QSize(wide, self.AROUND + min(text.height(), self.MOST_LINES * metrics.lineSpacing()))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        colours = theme.current()
        card = option.rect.adjusted(2, 3, -2, -3)
        chosen = bool(option.state & QtWidgets.QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(colours.accent if chosen else colours.line), 2 if chosen else 1))
        painter.setBrush(QColor(colours.raised))
        painter.drawRoundedRect(card, 7, 7)
        self.paint_card(painter, card, index)
        painter.restore()

    def paint_card(self, painter: QPainter, card: QRect, index: QModelIndex) -> None:
        colours = theme.current()
        entry: Entry = index.data(TrailModel.ENTRY)
        faded = entry.withdrawn
        theme.icon(ICONS[entry.kind], colours.line if faded else colours.accent).paint(
            painter, QRect(card.left() + 9, card.top() + 9, 20, 20)
        )
        title = ENTRY_TITLES[entry.kind] + (f", {entry.record.circuit}" if entry.record.circuit else "")
        title += tr(" – withdrawn") if faded else ""
        title += tr(" – not sent yet") if entry.waits else ""
        text = words.entry_text(entry.record)
        colour = QColor(colours.quiet if faded else colours.ink)
        tag = "" if faded else tag_of(entry.record)
        mark = colours.sound if tag in ("sound", "inside") else colours.mark
        taken = paint_tag(painter, card, worded(tag), mark) if tag else 0
        inner = card.adjusted(38, 8, -8, -6)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(colours.quiet))
        where = f", {entry.bay}" if entry.bay else ""
        room, when = inner.width() - taken, f"{title}  {entry.created:%H:%M}{where}"
        metrics = painter.fontMetrics()
        whole = metrics.horizontalAdvance(when) <= room
        shown = when if whole else metrics.elidedText(title, Qt.TextElideMode.ElideRight, room)
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft, shown)
        struck = theme.font(10)
        struck.setStrikeOut(faded)
        painter.setFont(struck)
        painter.setPen(colour)
        lines = inner.adjusted(0, 18, 0, 4)
        painter.drawText(lines, Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap, text)


def written_by(entry: Entry) -> str:
    """Who wrote an entry, and who changed it last, where it is known."""
    told = " ".join(filter(None, (entry.author, tr("at {bay}", bay=entry.bay) if entry.bay else "")))
    said = [tr("Written: {told}.", told=told)] if told else []
    said += [tr("Changed last {changer}.", changer=entry.changer)] if entry.changer else []
    said += [tr("It waits here for the server, which is away.")] if entry.waits else []
    return " ".join(said)


def tag_of(record: Record) -> str:
    """The one word that a measurement came to; "" for what has none."""
    if record.kind == EntryKind.CAPTURE:
        return "finding" if record.findings else "sound"
    judged = getattr(record, "judged", None)
    return {"inside": "inside", "outside": "outside", "too_close": "too close"}.get(judged, "")


def paint_tag(painter: QPainter, card: QRect, word: str, colour: str) -> int:
    """A word in a small frame at a card's upper right corner; answers how much of the title line it takes, px."""
    painter.setFont(theme.font(8, bold=True))
    wide = painter.fontMetrics().horizontalAdvance(word) + 12
    frame = QRect(card.right() - wide - 8, card.top() + 8, wide, 17)
    painter.setPen(QPen(QColor(colour), 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(frame, 4, 4)
    painter.drawText(frame, Qt.AlignmentFlag.AlignCenter, word)
    return wide + 6


class TrailPane(QWidget):
    """The list and what can be done with an entry."""

    opened = Signal(object)  #: Entry
    correct = Signal(object)
    withdraw = Signal(object)
    add = Signal(str)  #: EntryKind to add

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.model = TrailModel(self)
        self.list = QListView()
        self.list.setAccessibleName(tr("Trail: the job so far"))
        self.list.setModel(self.model)
        self.list.setItemDelegate(CardDelegate(self.list))
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setMouseTracking(True)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.empty = Label(tr("No job is open.\nChoose one from the log, or start a new one."))
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 8, 10)
        head = Label(tr("TRAIL"))
        head.setObjectName("over")
        layout.addWidget(head)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.empty, 1)
        layout.addLayout(self._add_row())
        chosen = WrapRow(spacing=6)
        self.correct_button, self.withdraw_button = QPushButton(tr("Correct")), QPushButton(tr("Withdraw"))
        self.correct_button.setToolTip(tr("Change what the chosen entry says (F2)"))
        self.withdraw_button.setToolTip(tr("Take the chosen entry out of the evidence, or put it back (Del)"))
        chosen.addWidget(self.correct_button)
        chosen.addWidget(self.withdraw_button)
        layout.addLayout(chosen)
        self.correct_button.clicked.connect(lambda: self._with_chosen(self.correct))
        self.withdraw_button.clicked.connect(lambda: self._with_chosen(self.withdraw))
        self.list.activated.connect(lambda index: self.opened.emit(index.data(TrailModel.ENTRY)))
        self.list.clicked.connect(lambda index: self.opened.emit(index.data(TrailModel.ENTRY)))
        self.list.selectionModel().selectionChanged.connect(lambda *_: self._update_buttons())
        self.show_job(None)

    def _add_row(self) -> WrapRow:
        """One row: the two entries that fit the moment, and a menu with all."""
        row = WrapRow(spacing=4)
        self.quick = [QPushButton(), QPushButton()]
        for index, button in enumerate(self.quick):
            button.setObjectName("tight")
            button.clicked.connect(lambda _=False, index=index: self.add.emit(self.offered[index]))
            row.addWidget(button)
        self.more = QPushButton(tr("More"))
        self.more.setObjectName("tight")
        self.more.setToolTip(tr("Everything that can be put on the trail"))
        menu = QMenu(self.more)
        self.entries: dict[EntryKind, QAction] = {}
        for kind in ADDED_BY_HAND:
            action = menu.addAction(SHORT[kind])
            action.triggered.connect(lambda _=False, kind=kind: self.add.emit(kind))
            self.entries[kind] = action
        self.more.setMenu(menu)
        row.addWidget(self.more)
        self.offered = fitting(None)
        return row

    def chosen(self) -> Entry | None:
        index = self.list.currentIndex()
        return index.data(TrailModel.ENTRY) if index.isValid() else None

    def open_record(self, record: Record) -> None:
        """Choose the entry that holds a record, and open it as a press on it does."""
        entry = next((item for item in self.model.entries if item.record == record), None)
        if entry is not None:
            self.choose(entry.id)
            self.list.scrollTo(self.list.currentIndex())
            self.opened.emit(entry)

    def choose(self, entry_id: int) -> None:
        for row, entry in enumerate(self.model.entries):
            if entry.id == entry_id:
                self.list.setCurrentIndex(self.model.index(row))

    def show_job(self, job: Job | None) -> None:
        before = self.chosen()
        at_end = self.list.verticalScrollBar().value() >= self.list.verticalScrollBar().maximum() - 4
        self.model.show_job(job)
        self.list.setVisible(bool(job and job.entries))
        self.empty.setVisible(not (job and job.entries))
        if job is not None:
            self.empty.setText(tr("Nothing on the trail yet.\nAdd a code or a reading, or drop a capture file here."))
        self.offered = fitting(job)
        for button, kind in zip(self.quick, self.offered, strict=True):
            button.setText(SHORT[kind])
            button.setToolTip(tr("Put a {kind} on the trail", kind=lowered(ENTRY_TITLES[kind])))
        for button in (*self.quick, self.more):
            button.setEnabled(job is not None)
        if before is not None:
            self.choose(before.id)
        if at_end:
            self.list.scrollToBottom()
        # The first laying out may bring the scroll bar, and with it narrower cards.
        self.list.scheduleDelayedItemsLayout()
        self._update_buttons()

    def warm(self) -> None:
        """Bring in what cards are measured and drawn with: the first use of each letter and icon costs a while."""
        self.list.viewport()
        picture = QPixmap(200, 40)
        painter = QPainter(picture)
        for size, bold in ((8, True), (8.5, False), (10, False)):
            painter.setFont(theme.font(size, bold=bold))
            painter.drawText(
                picture.rect(),
                Qt.TextFlag.TextWordWrap,
                tr("abcdefghijklmnopqrstuvwxyz ABCDEFGHILMNOPRSTUVW 0123456789 .,:%"),
            )
        for name in set(ICONS.values()):
            theme.icon(name, theme.current().accent).paint(painter, QRect(0, 0, 20, 20))
        painter.end()

    def _with_chosen(self, signal) -> None:
        entry = self.chosen()
        if entry is not None:
            signal.emit(entry)

    def _update_buttons(self) -> None:
        entry = self.chosen()
        self.withdraw_button.setEnabled(entry is not None)
        self.withdraw_button.setText(tr("Restore") if entry and entry.withdrawn else tr("Withdraw"))
        self.correct_button.setEnabled(entry is not None)
        for button in (self.correct_button, self.withdraw_button):
            button.setVisible(entry is not None)
