"""The way through a job, always in sight: its stages in the order of the work, how far each is, and its pages one press away."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QMenu, QSizePolicy, QToolButton, QWidget

from sagen.desk.actions import spelled
from sagen.desk.theme import theme
from sagen.desk.theme.plain import plain_tip
from sagen.model.language import titled, tr, worded
from sagen.model.vocabulary import Leg

if TYPE_CHECKING:
    from sagen.casework.way import Reached

HEIGHT = 44  #: px of a stage: two lines of words, and room for a finger
EDGE, DOT = 10, 10  #: px from the edge to the words, and across the mark of a stage


class Stage(QToolButton):
    """One stage: its name, what is known of it, and a menu of its pages with their keys."""

    def __init__(self, leg: Leg, parent=None):
        super().__init__(parent)
        self.leg, self.said, self.done = leg, "", False
        self.setObjectName("stage")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(96)
        self.setFixedHeight(HEIGHT)
        self.show_reached("", False)

    def sizeHint(self) -> QSize:
        return QSize(150, HEIGHT)

    def show_reached(self, said: str, done: bool) -> None:
        self.said, self.done = said, done
        name = worded(self.leg)
        self.setAccessibleName(tr("{name}: {said}{done}", name=name, said=said, done=tr(", done") if done else ""))
        self.setToolTip(plain_tip(f"{titled(name)}: {said}"))
        self.update()

    def paintEvent(self, _event) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        inside = self.rect().adjusted(1, 1, -1, -1)
        focus = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(QColor(look.accent if focus else look.line), 2.0 if self.hasFocus() else 1.0))
        painter.setBrush(QColor(look.raised))
        painter.drawRoundedRect(inside, 6, 6)
        # A full mark is a stage that is done, an open one is not: by shape, not by colour alone.
        painter.setPen(QPen(QColor(look.accent), 1.6))
        painter.setBrush(QColor(look.accent) if self.done else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(EDGE, (HEIGHT - DOT) // 2, DOT, DOT)
        left, room = EDGE + DOT + 8, self.width() - 2 * EDGE - DOT - 8
        for top, size, bold, ink, words in (
            (4, 9.5, True, look.ink, titled(worded(self.leg))),
            (22, 8.5, False, look.quiet, self.said),
        ):
            painter.setFont(theme.font(size, bold=bold))
            painter.setPen(QColor(ink))
            shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, room)
            painter.drawText(left, top, room, 18, Qt.AlignmentFlag.AlignVCenter, shown)


class JobWay(QWidget):
    """All stages side by side."""

    def __init__(self, parent=None):
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.stages = {leg: Stage(leg) for leg in Leg}
        for stage in self.stages.values():
            row.addWidget(stage, 1)
        self.hide()

    def offer(self, pages: Mapping[Leg, Sequence[tuple[str, str, Callable]]]) -> None:
        """Put pages behind each stage: title, key, and what brings it up."""
        for leg, rows in pages.items():
            menu = QMenu(self.stages[leg])
            for title, key, run in rows:
                # The key is shown, not bound: the window binds it.
                menu.addAction(f"{title}\t{spelled(key)}" if key else title).triggered.connect(run)
            self.stages[leg].setMenu(menu)

    def show_way(self, way: Sequence[Reached]) -> None:
        for reached in way:
            self.stages[reached.leg].show_reached(reached.said, reached.done)
