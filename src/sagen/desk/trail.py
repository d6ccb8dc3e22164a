"""The Trail: the job so far, oldest first."""

from __future__ import annotations

from PySide6.QtCore import QAbstractListModel, QModelIndex, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QGridLayout,
    QLabel,
    QListView,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from sagen.desk import theme
from sagen.model.job import ENTRY_TITLES, Entry, Job
from sagen.model.words import COMPLAINTS, FINDING_TITLES

ICONS = {
    "complaint": "message-square",
    "code": "hash",
    "capture": "activity",
    "note": "clipboard-list",
    "repair": "wrench",
    "proof": "check",
    "reading": "gauge",
    "look": "eye",
    "replaced": "wrench",
    "circuit": "list",
}


def entry_text(entry: Entry) -> str:
    """What an entry says, in a few words."""
    data = entry.data
    if entry.kind == "capture":
        found = [FINDING_TITLES.get(one["kind"], one["kind"]) for one in data.get("findings", ())]
        return f"{data['name']}\n" + (", ".join(found) if found else "Nothing wrong seen")
    if entry.kind == "code":
        meaning = data.get("meaning", "") or _generic(data["code"])
        return data["code"] + (f" {meaning}" if meaning else "")
    if entry.kind == "complaint":
        return COMPLAINTS.get(data["text"], data["text"])
    if entry.kind in _WORDS:
        return _WORDS[entry.kind](data)
    return str(data.get("text", ""))


def _generic(code: str) -> str:
    """What a generic code means; nothing for a maker's own."""
    from sagen.codes import meaning
    from sagen.model.errors import SagenError

    try:
        found = meaning(code)
    except SagenError:
        return ""
    return found.text if found else ""


def _reading_words(data: dict) -> str:
    entry = data["entry"]
    return (
        f"{data.get('shown', entry['value'])} at {entry['point'].replace('_', ' ')}\n{entry['state'].replace('_', ' ')}"
    )


#: how kinds with data of their own are said; the others have a text
_WORDS = {
    "reading": _reading_words,
    "look": lambda data: (
        f"{data['check'][:1].upper()}{data['check'][1:]}: {data.get('outcome', '').replace('_', ' ') or 'as expected'}"
    ),
    "replaced": lambda data: (
        f"{data['part'].capitalize()}, {data.get('origin', 'unknown')} part"
        + (f"\n{data['text']}" if data.get("text") else "")
    ),
    "circuit": lambda data: ", ".join(
        f"{key} {value}"
        for key, value in data.get("spec", {}).items()
        if key in ("role", "sensor", "supply", "pull_up")
    ),
}


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
            gone = " (withdrawn)" if entry.withdrawn else ""
            return f"{ENTRY_TITLES[entry.kind]}{gone}: {entry_text(entry)}"
        if role == Qt.ItemDataRole.ToolTipRole:
            return entry_text(entry)
        return None


class CardDelegate(QStyledItemDelegate):
    """Draws a row as a card: icon, a small title line, and as many lines of text as it takes."""

    MOST_LINES = 5
    AROUND = 40  #: px of a card's height that are not text
    BESIDE = 54  #: px of a card's width that are not text

    def sizeHint(self, option, index) -> QSize:
        wide = self.parent().viewport().width()
        metrics = QFontMetrics(theme.font(10))
        room = QRect(0, 0, max(60, wide - self.BESIDE), 10_000)
        text = metrics.boundingRect(room, Qt.TextFlag.TextWordWrap, entry_text(index.data(TrailModel.ENTRY)))
        return QSize(wide, self.AROUND + min(text.height(), self.MOST_LINES * metrics.lineSpacing()))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        look = theme.look()
        card = option.rect.adjusted(2, 3, -2, -3)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(look.accent if chosen else look.line), 2 if chosen else 1))
        painter.setBrush(QColor(look.raised))
        painter.drawRoundedRect(card, 7, 7)
        self.paint_card(painter, card, index)
        painter.restore()

    def paint_card(self, painter: QPainter, card: QRect, index: QModelIndex) -> None:
        look = theme.look()
        entry: Entry = index.data(TrailModel.ENTRY)
        faded = entry.withdrawn
        theme.icon(ICONS[entry.kind], look.line if faded else look.accent).paint(
            painter, QRect(card.left() + 9, card.top() + 9, 20, 20)
        )
        title = ENTRY_TITLES[entry.kind] + (" \u2013 withdrawn" if faded else "")
        text = entry_text(entry)
        colour = QColor(look.quiet if faded else look.ink)
        if not faded and entry.kind == "capture":
            found = bool(entry.data.get("findings"))
            paint_tag(painter, card, "finding" if found else "sound", look.mark if found else look.sound)
        inner = card.adjusted(38, 8, -8, -6)
        painter.setFont(theme.font(8.5))
        painter.setPen(QColor(look.quiet))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft, f"{title}   {entry.created:%H:%M}")
        struck = theme.font(10)
        struck.setStrikeOut(faded)
        painter.setFont(struck)
        painter.setPen(colour)
        lines = inner.adjusted(0, 18, 0, 4)
        painter.drawText(lines, Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap, text)


def paint_tag(painter: QPainter, card: QRect, word: str, colour: str) -> None:
    """A word in a small frame at a card's upper right corner."""
    painter.setFont(theme.font(8, bold=True))
    wide = painter.fontMetrics().horizontalAdvance(word) + 12
    frame = QRect(card.right() - wide - 8, card.top() + 8, wide, 17)
    painter.setPen(QPen(QColor(colour), 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(frame, 4, 4)
    painter.drawText(frame, Qt.AlignmentFlag.AlignCenter, word)


class TrailPane(QWidget):
    """The list and what can be done with an entry."""

    opened = Signal(object)  #: Entry
    correct = Signal(object)
    withdraw = Signal(object)
    add = Signal(str)  #: kind of entry to add

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.model = TrailModel(self)
        self.list = QListView()
        self.list.setAccessibleName("Trail: the job so far")
        self.list.setModel(self.model)
        self.list.setItemDelegate(CardDelegate(self.list))
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setMouseTracking(True)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.empty = QLabel("No job is open.\nChoose one from the log, or start a new one.")
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 8, 10)
        head = QLabel("TRAIL")
        head.setObjectName("over")
        layout.addWidget(head)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.empty, 1)
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setSpacing(6)
        for column, kind in enumerate(("reading", "code", "replaced", "note", "repair", "proof")):
            button = QPushButton(ENTRY_TITLES[kind].removeprefix("Trouble ").removesuffix(" before").capitalize())
            button.setToolTip(f"Put a {ENTRY_TITLES[kind].lower()} on the trail")
            button.clicked.connect(lambda _=False, kind=kind: self.add.emit(kind))
            self.buttons[kind] = button
            grid.addWidget(button, column // 2, column % 2)
        self.correct_button = QPushButton("Correct")
        self.withdraw_button = QPushButton("Withdraw")
        self.correct_button.setToolTip("Change what the chosen entry says (F2)")
        self.withdraw_button.setToolTip("Take the chosen entry out of the evidence, or put it back (Del)")
        grid.addWidget(self.correct_button, 3, 0)
        grid.addWidget(self.withdraw_button, 3, 1)
        layout.addLayout(grid)
        self.correct_button.clicked.connect(lambda: self._with_chosen(self.correct))
        self.withdraw_button.clicked.connect(lambda: self._with_chosen(self.withdraw))
        self.list.activated.connect(lambda index: self.opened.emit(index.data(TrailModel.ENTRY)))
        self.list.clicked.connect(lambda index: self.opened.emit(index.data(TrailModel.ENTRY)))
        self.list.selectionModel().selectionChanged.connect(lambda *_: self._update_buttons())
        self.show_job(None)

    def chosen(self) -> Entry | None:
        index = self.list.currentIndex()
        return index.data(TrailModel.ENTRY) if index.isValid() else None

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
            self.empty.setText("Nothing on the trail yet.\nAdd a code or a reading, or drop a capture file here.")
        for button in self.buttons.values():
            button.setEnabled(job is not None)
        if before is not None:
            self.choose(before.id)
        if at_end:
            self.list.scrollToBottom()
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
                "abcdefghijklmnopqrstuvwxyz ABCDEFGHILMNOPRSTUVW 0123456789 .,:%",
            )
        for name in set(ICONS.values()):
            theme.icon(name, theme.look().accent).paint(painter, QRect(0, 0, 20, 20))
        painter.end()

    def _with_chosen(self, signal) -> None:
        entry = self.chosen()
        if entry is not None:
            signal.emit(entry)

    def _update_buttons(self) -> None:
        entry = self.chosen()
        self.withdraw_button.setEnabled(entry is not None)
        self.withdraw_button.setText("Restore" if entry and entry.withdrawn else "Withdraw")
        self.correct_button.setEnabled(entry is not None)
