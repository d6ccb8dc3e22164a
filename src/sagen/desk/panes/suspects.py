"""The right side of the window: what to do next, wholly in sight; below it the ranked causes as bars, one of them
unfolded into its evidence."""

from __future__ import annotations

from PySide6.QtCore import QEasingCurve, QRectF, QSize, Qt, QVariantAnimation, Signal
from PySide6.QtGui import QColor, QFontMetrics, QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.announce import announce
from sagen.desk.panes.check_card import CheckCard
from sagen.desk.panes.practice_card import PracticeCard
from sagen.desk.panes.reasons import ReasonLine
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.desk.window_actions import with_key
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import lowered, titled, tr
from sagen.model.vocabulary import Cause, Gear, Strategy
from sagen.model.words import CAUSES, estimate_text, surely

LEAST_SHOWN = 0.01
MOST_BARS = 6
RECORD_TIP = tr(
    "What this shop proved on such circuits shifts how common each fault is taken to be, and how often a new "
    "part is bad: a job counts as one, the program's own figures as forty. Press to leave it out."
)
LOW = 545  #: px of the pane below which card and suspects scroll together
#: px of the pane's height that are the suspects' at least; where the card leaves them less, they scroll together, too
LEAST_SUSPECTS = 150
BAR_HEIGHT = 46  #: px of a suspect's bar whose fault mode stands beside the cause


class SuspectBar(QAbstractButton):
    """One cause: name, likeliest fault mode, probability as figure and bar. Pressing it unfolds the evidence."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setCheckable(True)
        self.setMinimumHeight(BAR_HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.cause, self.circuit, self.fault = Cause.NONE, "", ""
        self.probability = 0.0
        self.shown = 0.0  #: how long the bar is just now; the figure is never anything but the probability
        self._moving = QVariantAnimation(self)
        self._moving.setDuration(350)
        self._moving.setEasingCurve(QEasingCurve.Type.OutCubic)
        self._moving.valueChanged.connect(self._moved)

    def show_suspect(self, suspect) -> None:
        self.probability = float(suspect.probability)
        if (self.cause, self.circuit) != (suspect.cause, suspect.circuit):
            self.shown = self.probability  # another cause does not grow out of this one's bar
        self.cause, self.circuit, self.fault = suspect.cause, suspect.circuit, suspect.title or suspect.fault
        if suspect.circuit:
            self.fault = f"{suspect.circuit}: {self.fault}"
        self.setAccessibleName(
            f"{CAUSES[suspect.cause]}: {self.fault}, {surely(suspect.probability).replace('%', tr('percent'))}"
        )
        self.setToolTip(tr("Press to see the evidence for and against"))
        self._moving.stop()
        self._moving.setStartValue(self.shown)
        self._moving.setEndValue(self.probability)
        self._moving.start()
        self.updateGeometry()

    def _moved(self, value: float) -> None:
        self.shown = value
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(240, BAR_HEIGHT + self._height_below())

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self.updateGeometry()

    def _height_below(self) -> int:
        """px that a fault mode takes below the cause and its figure; 0 where it has room beside them."""
        strong, quiet = QFontMetrics(theme.font(10.5, bold=True)), QFontMetrics(theme.font(9))
        taken = strong.horizontalAdvance(CAUSES[self.cause]) + strong.horizontalAdvance(surely(self.probability)) + 16
        room = self.width() - 22
        if taken + quiet.horizontalAdvance(self._said()) <= room:
            return 0
        return quiet.boundingRect(0, 0, room, 1000, int(Qt.TextFlag.TextWordWrap), self._said()).height()

    def _said(self) -> str:
        return "" if self.cause == Cause.NONE else self.fault

    def paintEvent(self, _event) -> None:
        colours = theme.current()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.setBrush(QColor(colours.raised))
        painter.setPen(QColor(colours.accent if self.hasFocus() or self.underMouse() else colours.line))
        painter.drawRoundedRect(box, 6, 6)
        track = QRectF(box.left() + 10, box.bottom() - 11, box.width() - 20, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colours.ground))
        painter.drawRoundedRect(track, 3, 3)
        colour = QColor(colours.sound if self.cause == Cause.NONE else colours.accent)
        painter.setBrush(colour)
        painter.drawRoundedRect(QRectF(track.left(), track.top(), max(3.0, track.width() * self.shown), 7), 3, 3)
        below = self._height_below()
        text = box.adjusted(10, 4, -10, -13 - below)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(10.5, bold=True))
        figure = surely(self.probability)
        painter.drawText(text, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure)
        name = CAUSES[self.cause]
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        left = painter.fontMetrics().horizontalAdvance(name) + 8
        right = painter.fontMetrics().horizontalAdvance(figure) + 8
        painter.setFont(theme.font(9))
        painter.setPen(QColor(colours.quiet))
        room = (
            QRectF(text.left(), text.bottom() - 2, text.width(), below) if below else text.adjusted(left, 1, -right, 0)
        )
        wrapped = Qt.TextFlag.TextWordWrap if below else Qt.TextFlag.TextSingleLine
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter | wrapped, self._said())


class SuspectRow(QWidget):
    """A bar and, when unfolded, its evidence."""

    opened = Signal(object)  #: the record of the trail that a piece of evidence comes from

    def __init__(self, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        self.bar = SuspectBar()
        self.evidence = QWidget()
        self.lines = QVBoxLayout(self.evidence)
        self.lines.setContentsMargins(10, 4, 6, 8)
        self.lines.setSpacing(4)
        self.evidence.hide()
        layout.addWidget(self.bar)
        layout.addWidget(self.evidence)
        self.bar.toggled.connect(self.evidence.setVisible)

    def show_suspect(self, suspect) -> None:
        self.bar.show_suspect(suspect)
        while self.lines.count():
            self.lines.takeAt(0).widget().deleteLater()
        title = suspect.title or suspect.fault
        if suspect.cause != Cause.NONE:
            self.lines.addWidget(Label(f"{titled(title)}", name="strong", wrap=True))
        if suspect.estimate is not None:
            self.lines.addWidget(Label(estimate_text(suspect.estimate), wrap=True))
        for reason in suspect.reasons:
            line = ReasonLine(reason)
            line.opened.connect(self.opened)
            self.lines.addWidget(line)
        if not suspect.reasons:
            self.lines.addWidget(Label(tr("Nothing measured so far speaks for or against it."), wrap=True))
        self.lines.addWidget(Label(suspect.advice, name="advice", wrap=True))

    def told(self) -> str:
        """Everything that the unfolded row says."""
        return "\n".join(item.text() for item in self.evidence.findChildren(Label))


class SuspectsPane(QWidget):
    """The right side of the window."""

    wishes = Signal(str, object)  #: strategy, gear
    opened = Signal(object)  #: the record of the trail that a piece of evidence comes from

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.outer = outer = QVBoxLayout(self)
        outer.setContentsMargins(8, 8, 4, 8)
        outer.setSpacing(6)
        self._low, self._announced = False, ""
        self.practice, self.card = PracticeCard(), CheckCard()
        self.card.turned.connect(self._share_height)
        outer.addWidget(self.practice)
        self.wished = QWidget()
        self.wished.setLayout(self._wishes_row())
        self.record = self._record_button()
        for item in (self.card, self.wished):
            outer.addWidget(item)
        self.scroll = QScrollArea()
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setMinimumHeight(40)
        inside = QWidget()
        self.layout_ = QVBoxLayout(inside)
        self.layout_.setContentsMargins(0, 0, 4, 0)
        self.layout_.setSpacing(5)
        self.empty = Label(
            tr("No evidence yet.\n\nSuspects are weighed as soon as a code, a reading or a capture is on the trail."),
            name="quiet",
            wrap=True,
        )
        self.headline, self.advice = Label(name="caution", wrap=True), Label(name="caution", wrap=True)
        self.others = Label(name="quiet", wrap=True)
        self.rows: list[SuspectRow] = []
        for item in (self.empty, self.headline, self.advice, self.others, self.record):
            self.layout_.addWidget(item)
        self.layout_.addStretch(1)
        self.scroll.setWidget(inside)
        outer.addWidget(self.scroll, 1)
        self.show_weighed((), ())

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        # The two choices stay on one line; beside bars with their figures the heading is what can be spared.
        row = self.wished.layout()
        self.over.show()
        self.over.setVisible(row.heightForWidth(self.width() - 12) <= row.sizeHint().height())
        self._share_height()

    def _share_height(self) -> None:
        """Card and suspects beside each other while there is room for both; else they scroll together."""
        beside = [item for item in (self.practice, self.wished) if not item.isHidden()]
        taken = sum(max(item.sizeHint().height(), item.heightForWidth(self.width() - 12)) + 6 for item in beside)
        room = self.height() - taken - LEAST_SUSPECTS
        tall = self.card.stand_whole(room)
        low = self.height() < LOW or (tall > room and not self.card.isHidden())
        if low != self._low:
            self._low = low
            for at, item in enumerate((self.card, self.wished)):
                (self.layout_ if low else self.outer).insertWidget(at + (not low), item)

    def _wishes_row(self) -> WrapRow:
        row = WrapRow(spacing=4)
        self.over = Label(tr("SUSPECTS"), name="over")
        row.addWidget(self.over)
        row.push_right()
        self.strategy, self.gear = QComboBox(), QComboBox()
        for key, words in (
            (Strategy.MOST, tr("Best first")), (Strategy.METER, tr("Meter first")), (Strategy.SCOPE, tr("Scope first")),
        ):  # fmt: skip
            self.strategy.addItem(words, key)
        for key, words in (
            ((Gear.METER, Gear.SCOPE), tr("All gear")), ((Gear.METER,), tr("Meter only")), ((Gear.SCOPE,), tr("Scope only")),
            ((), tr("Eyes only")),
        ):  # fmt: skip
            self.gear.addItem(words, key)
        self.strategy.setToolTip(tr("How checks are ranked: both schools by what they separate per minute"))
        self.gear.setToolTip(tr("What is at hand"))
        for box in (self.strategy, self.gear):
            box.setAccessibleName(box.toolTip())
            box.setObjectName("tight")
            row.addWidget(box)
            box.currentIndexChanged.connect(
                lambda _=0: self.wishes.emit(self.strategy.currentData(), self.gear.currentData())
            )
        return row

    def _record_button(self) -> QPushButton:
        button = QPushButton()
        button.setObjectName("line")
        button.setToolTip(with_key(RECORD_TIP, tr("the shop's own record weighs in, or not")))
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.hide()
        return button

    def _row(self, index: int) -> SuspectRow:
        """The row at a place, made when it is first needed; of all rows one at most is unfolded."""
        while len(self.rows) <= index:
            row = SuspectRow()
            row.bar.toggled.connect(lambda on, row=row: self._fold_others(row) if on else None)
            row.opened.connect(self.opened)
            self.rows.append(row)
            self.layout_.insertWidget(self.layout_.indexOf(self.headline) + len(self.rows), row)
        return self.rows[index]

    def _fold_others(self, unfolded: SuspectRow) -> None:
        for row in self.rows:
            if row is not unfolded:
                row.bar.setChecked(False)

    def show_practice(self, weighed) -> None:
        """The card of a practice job, and what is hidden of it."""
        self.practice.show_practice(weighed)
        self._share_height()
        self.wished.setVisible(not weighed.hidden)
        if weighed.hidden:
            self.card.hide()
            self.empty.hide()

    def show_record(self, said: str, counts: bool) -> None:
        """What of the shop's own record counted in the weighing shown."""
        self.record.setText(
            tr("Own record: {said}", said=said) if said else tr("Own record: off") if not counts else ""
        )
        self.record.setVisible(bool(self.record.text()))

    def show_weighed(self, suspects, checks, advice=None, odd=()) -> None:
        shown = [suspect for suspect in suspects if suspect.probability >= LEAST_SHOWN][:MOST_BARS]
        for index, each in enumerate(shown):
            self._row(index).show_suspect(each)
        for index, row in enumerate(self.rows):
            row.setVisible(index < len(shown))
        self.empty.setVisible(not shown)
        rest = [suspect for suspect in suspects if suspect not in shown]
        said, named = [], {item.cause for item in shown}
        for words, some in (
            (tr("Less likely"), [item for item in rest if item.probability >= LEAST_SHOWN]),
            (tr("All but ruled out"), [item for item in rest if item.probability < LEAST_SHOWN]),
        ):
            if some:
                # Of several circuits one may rule out what is likelier in another: each is named once, where it is likeliest.
                names = dict.fromkeys(lowered(CAUSES[item.cause]) for item in some if item.cause not in named)
                named |= {item.cause for item in some}
                said += [f"{words}: {', '.join(names)}."] if names else []
        self.others.setText(" ".join(said))
        self.others.setVisible(bool(said))
        enough = advice is not None and advice.enough
        self.headline.setText(advice.headline if enough else "")
        self.headline.setVisible(enough)
        told = [*odd, *([advice.rest] if enough and advice.rest else [])]
        self.advice.setText("\n\n".join(told))
        self.advice.setVisible(bool(told))
        self.card.show_checks(tuple(checks))
        lead = self.rows[0].bar.accessibleName() if shown else ""
        now = ". ".join(item for item in (lead, self.headline.text(), self.card.title.text() if checks else "") if item)
        if now != self._announced:
            announce(self, now)
        self._announced = now
