"""The picture board: sound and the leading suspects as a recorder would show them now; press the one that looks like yours."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.board import (
    STATES,
    USUAL_SEVERITY,
    BoardPicture,
    DrawBoard,
    RedrawPicture,
    on_board,
)
from sagen.desk.actions import Action
from sagen.desk.lenses.panel import column_line
from sagen.desk.pages import JobPage
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.trail import BoardEntry
from sagen.model.vocabulary import Role, State
from sagen.model.words import STATES as STATE_WORDS
from sagen.reason.several import circuits_of

if TYPE_CHECKING:
    from sagen.desk.ports import Message, Navigation
    from sagen.desk.workspace import DeskWorkspace

COLUMNS, STEPS = 3, 20  #: of the board, and of a slider
MARGIN = 8


class PictureCard(QPushButton):
    """One picture as a screen shows it; pressed where it looks like theirs. Its name stands under it once names are shown."""

    def __init__(self, number: int, parent=None):
        super().__init__(parent)
        self.number, self.picture, self.named = number, None, False
        self.setObjectName("row")
        self.setCheckable(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(180, 110)

    def sizeHint(self) -> QSize:
        return QSize(230, 150)

    def show_picture(self, picture: BoardPicture, named: bool) -> None:
        self.picture, self.named = picture, named
        self.setAccessibleName(tr("Picture {number}", number=self.number) + (f": {picture.title}" if named else ""))
        self.setToolTip(tr("Press it where yours looks like this (Alt+{number})", number=self.number))
        self.update()

    def paintEvent(self, _event) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = self.rect().adjusted(1, 1, -1, -1)
        strong = self.isChecked() or self.hasFocus()
        painter.setPen(QPen(QColor(look.accent if strong else look.line), 3.0 if self.isChecked() else 1.0 + strong))
        painter.setBrush(QColor(look.raised))
        painter.drawRoundedRect(frame, 6, 6)
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(QColor(look.quiet))
        words = f"{self.number}" + (f"  {self.picture.title}" if self.picture is not None and self.named else "")
        painter.drawText(frame.adjusted(MARGIN, 4, -MARGIN, 0), Qt.AlignmentFlag.AlignTop, words)
        if self.isChecked():
            # Not by the frame alone: that shows where the keyboard is as well.
            mark = QRectF(frame.right() - 24, frame.top() + 4, 20, 18)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(look.accent))
            painter.drawRoundedRect(mark, 4, 4)
            painter.setPen(QColor(look.on_accent))
            painter.drawText(mark, Qt.AlignmentFlag.AlignCenter, "\u2713")
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.picture is None:
            return
        plot = frame.adjusted(MARGIN, 24, -MARGIN, -MARGIN)
        zero = plot.bottom() + self.picture.low / max(self.picture.high - self.picture.low, 1e-9) * plot.height()
        if plot.top() < zero < plot.bottom():
            painter.setPen(QPen(QColor(look.line), 1.0))
            painter.drawLine(QPointF(plot.left(), zero), QPointF(plot.right(), zero))
            painter.setPen(QColor(look.quiet))
            painter.setFont(theme.font(8.5))
            painter.drawText(QPointF(plot.left(), zero + 13), "0 V")
        painter.setPen(QPen(QColor(look.accent), 1.4))
        painter.drawPolyline(self._trace(plot))

    def _trace(self, plot) -> QPolygonF:
        """The least and the most of every column of pixels, so that no tooth falls between two."""
        picture, wide = self.picture, max(plot.width(), 2)
        edges = np.linspace(0, len(picture.volts), wide + 1).astype(int)[:-1]
        low, high = np.minimum.reduceat(picture.volts, edges), np.maximum.reduceat(picture.volts, edges)
        return column_line(low, high, (picture.low, picture.high), plot)


class Slot(QWidget):
    """A picture with its slider: how bad the fault is."""

    moved = Signal(int, float)

    def __init__(self, number: int, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        self.card, self.slider = PictureCard(number), QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(1, STEPS)
        self.slider.setMinimumHeight(40)
        self.slider.setAccessibleName(tr("How bad, picture {number}", number=number))
        self.slider.setToolTip(tr("How bad it is: left hardly, right to its end"))
        layout.addWidget(self.card, 1)
        layout.addWidget(self.slider)
        self.slider.valueChanged.connect(lambda value: self.moved.emit(number - 1, value / STEPS))


class BoardPage(JobPage):
    """Four to six pictures in an order of their own, named only once one was chosen."""

    name, title = "board", tr("Picture board")
    shortcuts = (
        *(
            Action(
                f"Alt+{number}",
                tr("picture {number} looks like yours", number=number),
                lambda page, at=number - 1: page.press(at),
            )
            for number in range(1, 7)
        ),
        Action("Alt+N", tr("none of the pictures looks like yours"), lambda page: page.none_of_them()),
        Action("Alt+B", tr("yours lies between the two that are pressed"), lambda page: page.between()),
        Action("Alt+S", tr("show or hide the names, to learn"), lambda page: page.names.toggle()),
    )

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.pictures: list[BoardPicture] = []
        self._spec, self._circuit, self._seed, self._drawn_for = None, "", 0, None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        head.addWidget(Label(tr("Picture board"), name="heading"), 1)
        self.state = QComboBox()
        self.state.setAccessibleName(tr("How the engine turns"))
        for state in STATES:
            self.state.addItem(STATE_WORDS[state], state)
        self.names = QPushButton(tr("Names"))
        self.names.setCheckable(True)
        self.names.setToolTip(tr("Show what each picture is, to learn; what is pressed then is no evidence (Alt+S)"))
        back = QPushButton(tr("Back"))
        back.clicked.connect(self.left)
        for each in (self.state, self.names, back):
            head.addWidget(each)
        layout.addLayout(head)
        self.said = Label(name="quiet", wrap=True)
        layout.addWidget(self.said)
        self.grid = grid = QGridLayout()
        grid.setSpacing(8)
        self.slots = [Slot(number) for number in range(1, 7)]
        for at, slot in enumerate(self.slots):
            grid.addWidget(slot, at // COLUMNS, at % COLUMNS)
            slot.card.clicked.connect(lambda _=False, at=at: self._pressed(at))
            slot.moved.connect(self._moved)
        layout.addLayout(grid, 1)
        row = QHBoxLayout()
        self.keep, self.two, self.none = (
            QPushButton(words) for words in (tr("This one"), tr("Between the two"), tr("None of them"))
        )
        self.keep.setObjectName("first")
        for button, run in ((self.keep, self.choose), (self.two, self.between), (self.none, self.none_of_them)):
            button.clicked.connect(run)
            row.addWidget(button)
        row.addStretch(1)
        layout.addLayout(row)
        self.first = self.slots[0].card
        self.state.currentIndexChanged.connect(lambda _: self._draw())
        self.names.toggled.connect(lambda _: self._show())

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message) -> None:
        super().wire(workspace, navigation)
        self.message = message

    # drawing --------------------------------------------------------------------------------

    def show_job(self) -> None:
        job = self.workspace.job
        if job is not None and self.isVisible() and self._drawn_for != job.id:
            self._drawn_for = job.id
            self.names.setChecked(False)
            self._draw()

    def _draw(self) -> None:
        job, weighed = self.workspace.job, self.workspace.last_weighed
        if job is None:
            return
        circuits = circuits_of(job.records())
        lead = weighed.suspects[0].circuit if weighed and weighed.suspects else ""
        self._circuit = lead if lead in circuits else next(iter(circuits))
        self._spec = circuits[self._circuit]
        likely = {item.fault: item.probability for item in weighed.suspects} if weighed else {}
        faults = on_board(self._spec, likely)
        self._seed += 1
        self._hide(tr("Drawing what a recorder would show of this circuit now."))
        command = DrawBoard(job.id, self._spec, faults, self.state.currentData(), job.id * 31 + self._seed)
        self.workspace.submit(command, lambda pictures: self._drawn(job.id, pictures), failed=self._hide, slot="board")

    def _hide(self, why: str) -> None:
        self.pictures = []
        self.said.setText(str(why))
        self._show()

    def _drawn(self, job_id: int, pictures) -> None:
        if self.workspace.job is None or self.workspace.job.id != job_id:
            return
        self.pictures = list(pictures)
        for slot in self.slots:
            slot.card.setChecked(False)
            slot.slider.blockSignals(True)
            slot.slider.setValue(round(USUAL_SEVERITY * STEPS))
            slot.slider.blockSignals(False)
        few = (
            ""
            if len(self.pictures) > 2
            else tr(" Put a code or a reading on the trail, and there are more to tell apart.")
        )
        one = self.pictures[0]
        screen = tr(
            "Each is {time_s:.1f} s wide and {high:.1f} V high.", time_s=one.time_s[-1], high=one.high - one.low
        )
        self.said.setText(
            tr(
                "Which one looks like what is on your screen? The sound one is among them. {screen}{few}",
                screen=screen,
                few=few,
            )
        )
        self._show()

    def _show(self) -> None:
        columns = COLUMNS if len(self.pictures) > 4 else 2
        for at, slot in enumerate(self.slots):
            self.grid.addWidget(slot, at // columns, at % columns)
            slot.setVisible(at < len(self.pictures))
            if at < len(self.pictures):
                slot.card.show_picture(self.pictures[at], self.names.isChecked())
        self._update_buttons()

    def _moved(self, at: int, severity: float) -> None:
        """Draw one picture anew, worse or less so, on the same screen."""
        if at >= len(self.pictures):
            return
        was, job, seed = self.pictures[at], self.workspace.job, self._seed

        def show(picture: BoardPicture) -> None:
            if seed == self._seed and at < len(self.pictures) and self.pictures[at].fault == picture.fault:
                self.pictures[at] = picture
                self._show()

        command = RedrawPicture(
            job.id, self._spec, was.fault, severity, was.low, was.high, self.state.currentData(), job.id * 31 + seed
        )
        self.workspace.submit(command, show, failed=self.message.say, slot=f"board.{at}", debounce=0.08)

    # choosing -------------------------------------------------------------------------------

    def press(self, at: int) -> None:
        if at < len(self.pictures):
            self.slots[at].card.setChecked(not self.slots[at].card.isChecked())
            self._pressed(at)

    def _pressed(self, at: int) -> None:
        """Two may be pressed at most: the one before last goes up again."""
        pressed = self._chosen()
        if len(pressed) > 2:
            self.slots[next(item for item in pressed if item != at)].card.setChecked(False)
        self._update_buttons()

    def _chosen(self) -> list[int]:
        return [at for at, slot in enumerate(self.slots) if at < len(self.pictures) and slot.card.isChecked()]

    def _update_buttons(self) -> None:
        # With their names in sight a picture teaches; what is pressed then was not told apart by eye.
        weighed = len(self.pictures) > 1 and not self.names.isChecked()
        pressed = len(self._chosen()) if weighed else 0
        self.keep.setEnabled(pressed == 1)
        self.two.setEnabled(pressed == 2)
        self.none.setEnabled(weighed)

    def choose(self) -> None:
        chosen = self._chosen()
        if not self.keep.isEnabled() or len(chosen) != 1:
            return
        picture = self.pictures[chosen[0]]
        self._keep(chosen, tr("Yours looks like picture {chosen}: {title}.", chosen=chosen[0] + 1, title=picture.title))

    def between(self) -> None:
        chosen = self._chosen()
        if not self.two.isEnabled() or len(chosen) != 2:
            return
        one, other = (self.pictures[at].title for at in chosen)
        self._keep(chosen, tr("Yours lies between {title} and {title_2}.", title=one, title_2=other))

    def none_of_them(self) -> None:
        if self.none.isEnabled():
            self._keep([], tr("None of the {pictures} looks like yours.", pictures=len(self.pictures)))

    def _keep(self, chosen: list[int], said: str) -> None:
        """Put what was pressed on the trail, and name them all."""
        labels = [picture.label for picture in self.pictures]
        state = State.ROLLING if self._spec.role == Role.SPEED else self.state.currentData()
        name = self._circuit if len(circuits_of(self.workspace.job.records())) > 1 else ""
        try:
            entry = BoardEntry(tuple(labels), tuple(dict.fromkeys(labels[at] for at in chosen)), state, circuit=name)
            self.workspace.add(entry)
        except SagenError as error:
            self.message.say(str(error))
            return
        self.names.setChecked(True)
        self.said.setText(said)
