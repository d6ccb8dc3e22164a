"""The card of a practice job: the machine's clock, what can be done beside measuring, and the way to the debrief."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from sagen.desk.parts import Card
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import tr
from sagen.model.practice import LOOK_MINUTES, Shown

HIDDEN = tr("Whom Sagen suspects is hidden. Measure, record, look and ask; then repair and prove it.")


class PracticeCard(Card):
    """What a learner sees above the suspects."""

    wanted = Signal(str)  #: the command that is asked for

    def __init__(self, parent=None):
        super().__init__(parent)
        self.clock, self.said = Label(name="over"), Label(name="quiet", wrap=True)
        self.lines.addWidget(self.clock)
        self.lines.addWidget(self.said)
        row = WrapRow(spacing=4)
        self.look, self.done, self.pay = QPushButton(tr("Do a check")), QPushButton(tr("Look back")), QPushButton()
        self.look.setToolTip(
            tr("All that can be measured, recorded, looked at or asked of this circuit: the machine answers")
        )
        self.pay.setText(tr("Show suspects ({look_minutes:.0f} min)", look_minutes=LOOK_MINUTES))
        self.pay.setToolTip(tr("They stand until the next entry, and the machine's clock goes on by that much"))
        self.done.setToolTip(tr("What it was, and how it went: afterwards nothing is hidden any more"))
        for button, name in (
            (self.look, "practice.look"), (self.done, "practice.debrief"), (self.pay, "practice.pay"),
        ):  # fmt: skip
            button.clicked.connect(lambda _=False, name=name: self.wanted.emit(name))
            row.addWidget(button)
        self.lines.addLayout(row)
        self.hide()

    def show_practice(self, weighed) -> None:
        """The clock of what was weighed; out of sight where that is no practice."""
        self.setVisible(weighed.practice is not None)
        if weighed.practice is None:
            return
        self.clock.setText(tr("PRACTICE · {minutes:.0f} MIN GONE", minutes=weighed.clock))
        self.said.setText(HIDDEN)
        self.said.setVisible(weighed.hidden)
        self.pay.setVisible(weighed.hidden and weighed.practice.suspects == Shown.PRICED)
