"""The plan on the bench: checks in the order that shares openings, what is open, and replace now against one more check."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QPushButton, QStyle, QStyledItemDelegate, QWidget

from sagen.desk.actions import Action, Hint
from sagen.desk.forms.work import CostsForm
from sagen.desk.pages import Page
from sagen.desk.pages.head import headed
from sagen.desk.pages.way_bars import WayBars
from sagen.desk.tables import TextTable
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, plain_tip
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import lowered, titled, tr
from sagen.model.trail import CostsEntry, PlaceEntry
from sagen.model.vocabulary import EntryKind, Place
from sagen.model.words import PLACES

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace

HEADS = ("", tr("Check"), tr("Minutes"), tr("What an answer points at"))
MOST = 14


class PlanPage(Page):
    """Enter does the chosen check; the digits open and close places."""

    name, title = "plan", tr("Plan")
    left = Signal()
    shortcuts = tuple(
        Action(
            f"Alt+{k}",
            tr("open or close: {place}", place=lowered(PLACES[place])),
            lambda page, place=place: page.toggle(place),
        )
        for k, place in enumerate(Place, start=1)
    )
    hints = (Hint(tr("Enter"), tr("do the chosen check")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.costs = QPushButton(tr("Costs"))
        self.costs.setToolTip(tr("What an hour, a come-back, a day of standing and the part cost in this job"))
        self.costs.clicked.connect(self._costs)
        self.do = QPushButton(tr("Do this check"))
        self.do.setObjectName("first")
        self.do.clicked.connect(self._do)
        layout = headed(self, tr("Plan"), self.costs, self.do)
        places = WrapRow(spacing=4)
        self.places: dict[Place, QPushButton] = {}
        for k, place in enumerate(Place, start=1):
            button = QPushButton()
            button.setObjectName("tight")
            button.setCheckable(True)
            button.setToolTip(
                tr("Open or close it (Alt+{k}): once open its access costs nothing until it is closed", k=k)
            )
            button.clicked.connect(lambda _=False, item=place: self.toggle(item))
            self.places[place] = button
            places.addWidget(button)
        layout.addLayout(places)
        self.before = Label(name="caution", wrap=True)
        layout.addWidget(self.before)
        self.table = TextTable(HEADS, tr("Checks in their order"), stretch=3)
        self.table.setItemDelegateForColumn(2, MinutesBar(self.table))
        self.table.activated.connect(lambda _: self._do())
        layout.addWidget(self.table, 1)
        self.empty = Label(
            tr("Nothing to plan yet: put a code, a reading or a capture on the trail."), name="quiet", wrap=True
        )
        layout.addWidget(self.empty)
        self.ways = WayBars()
        layout.addWidget(self.ways)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message, commands: Commands) -> None:
        self.workspace, self.message, self.commands = workspace, message, commands
        self.left.connect(navigation.back_to_job)
        workspace.weighed.connect(lambda _: self.show_plan())

    def on_shown(self) -> None:
        self.show_plan()
        self.table.setFocus()

    def show_plan(self) -> None:
        """The plan of the open job as it was weighed last."""
        job, weighed = self.workspace.job, self.workspace.last_weighed
        checks = weighed.checks if weighed and job else ()
        now = weighed.opened if weighed else frozenset()
        for place, button in self.places.items():
            minutes = weighed.access.get(str(place)) if weighed else None
            button.setChecked(place in now)
            told = (
                tr("open")
                if place in now
                else (tr("{minutes:g} min", minutes=minutes) if minutes is not None else tr("closed"))
            )
            button.setText(f"{PLACES[place]}: {told}")
            button.setEnabled(job is not None)
        rows = self._rows(checks[:MOST], now)
        self.table.show_rows(rows)
        self._dress_rows(checks[:MOST])
        self.table.setVisible(bool(rows))
        self.empty.setVisible(not rows)
        self.do.setEnabled(bool(rows))
        doable = list(dict.fromkeys(check.name for check in checks if check.check.place in now and check.pays))
        self.before.setText(tr("Before closing: {doable}.", doable="; ".join(doable[:5])) if doable else "")
        self.before.setVisible(bool(doable))
        self.ways.show_ways(weighed.ways if weighed else None)

    def _rows(self, checks, now) -> list[tuple]:
        """Checks in their order; those behind one opening stand under a line that names it, with its minutes."""
        rows, before = [], object()
        for rank, check in enumerate(checks, start=1):
            place = check.check.place
            if place != before:
                rows.append(((_opening(check, place in now), "", "", ""), "quiet", None))
                before = place
            name = titled(check.name)
            named = f"{check.circuit}: {name}" if check.circuit else name
            told = f"{check.minutes:.0f}"
            rows.append(((str(rank), named, told, _short(check)), "" if check.pays else "quiet", check))
        return rows

    def _dress_rows(self, checks) -> None:
        """Lines of openings run over the whole row and cannot be chosen; minutes are drawn on one scale."""
        self.table.clearSpans()
        longest = max((check.minutes for check in checks), default=1.0)
        first = next((row for row, check in enumerate(self.table.data_of) if check is not None), None)
        for row, check in enumerate(self.table.data_of):
            if check is None:
                self.table.setSpan(row, 0, 1, len(HEADS))
                for column in range(len(HEADS)):
                    self.table.item(row, column).setFlags(Qt.ItemFlag.NoItemFlags)
            else:
                self.table.item(row, 2).setData(Qt.ItemDataRole.UserRole, check.minutes / max(longest, 1.0))
                self.table.item(row, 3).setToolTip(plain_tip(check.why))
        if self.table.chosen() is None and first is not None:
            picked = bool(self.table.selectedItems())
            self.table.setCurrentCell(first, 0)
            if not picked:
                self.table.clearSelection()

    def toggle(self, place: Place) -> None:
        """Open a place, or close it; that is on the trail."""
        job, weighed = self.workspace.job, self.workspace.last_weighed
        if job is None:
            return
        open_now = weighed is not None and place in weighed.opened
        owed = [
            item
            for item in job.standing
            if item.kind == EntryKind.STEP and item.record.place == place and not item.record.back
        ]
        if open_now and owed:
            self.message.say(
                tr(
                    "{owed} {owed_2} still apart there: {what}. Put it together first.",
                    owed=len(owed),
                    owed_2=tr("step is") if len(owed) == 1 else tr("steps are"),
                    what=owed[0].record.what,
                )
            )
            self.show_plan()
            return
        self.workspace.add(PlaceEntry(place, not open_now))

    def _do(self) -> None:
        check = self.table.chosen()
        if check is not None:
            self.commands.run("captures.do_check", check)

    def _costs(self) -> None:
        job = self.workspace.job
        if job is None:
            return
        old = next((entry for entry in reversed(job.of(CostsEntry))), None)
        form = CostsForm(old.record if old else None, parent=self)
        if form.exec():
            if old is None:
                self.workspace.add(form.answer())
            else:
                self.workspace.correct(old, form.answer())


class MinutesBar(QStyledItemDelegate):
    """Minutes as a figure with a bar behind it, all rows on one scale."""

    def sizeHint(self, option, index) -> QSize:
        return QSize(90, super().sizeHint(option, index).height() + 8)

    def paint(self, painter, option, index) -> None:
        share = index.data(Qt.ItemDataRole.UserRole)
        option.state &= ~QStyle.StateFlag.State_HasFocus
        super().paint(painter, option, index)
        if share is None:
            return
        colours, room = theme.current(), option.rect.adjusted(30, 0, -8, 0)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setRenderHint(painter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colours.raised if chosen else colours.accent))
        painter.drawRoundedRect(room.left(), room.center().y() - 3, max(round(share * room.width()), 2), 7, 3, 3)
        painter.restore()


def _opening(check, is_open: bool) -> str:
    """The line over the checks behind one opening."""
    place = check.check.place
    if place is None:
        return tr("Anywhere")
    if is_open:
        return tr("{place}: open", place=PLACES[place])
    return (
        tr("{place}: {access:.0f} min to get there", place=PLACES[place], access=check.access)
        if check.access
        else PLACES[place]
    )


def _short(item) -> str:
    """What a check is worth its time for, in a few words."""
    if not item.pays:
        return tr("Takes longer than it saves.")
    return item.points or tr("It would tell little that is not known by now.")
