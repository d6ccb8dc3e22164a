"""The card of the next check: what to do, what a sound one shows, what to mind."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from sagen.desk.parts import Card
from sagen.desk.theme.plain import Label, plain_tip
from sagen.desk.window_actions import with_key
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import titled, tr
from sagen.model.vocabulary import Gear

MOST_CHECKS = 6
GEAR_WORDS = {
    Gear.METER: tr("meter"), Gear.SCOPE: tr("recorder"), Gear.EYES: tr("by eye"), Gear.PARTS: tr("spare part"),
    Gear.TESTER: tr("tester"),
}  # fmt: skip
DO_TIP = with_key(tr("Open what it needs: the meter entry, a capture, or the question"), tr("do the check on the card"))


class CheckCard(Card):
    """The one clear thing to do next: title, what to do, what a sound one shows, minutes, cautions, and its keys."""

    wanted = Signal(object)  #: NextCheck that is to be done
    turned = Signal()  #: to another check, or to none: it may stand taller or lower now

    def __init__(self, parent=None):
        super().__init__(parent)
        self.over = Label(tr("NEXT CHECK"), name="over", wrap=True)
        self.title = Label(name="heading", wrap=True)
        self.what, self.sound = Label(wrap=True), Label(name="sound", wrap=True)
        self.why, self.caution = Label(name="small", wrap=True), Label(name="caution", wrap=True)
        for item in (self.over, self.title, self.what, self.sound, self.why, self.caution):
            self.lines.addWidget(item)
        self.do = QPushButton(tr("Do this check"))
        self.do.setObjectName("first")
        self.do.setToolTip(DO_TIP)
        self.other = QPushButton(tr("Another"))
        self.other.setToolTip(with_key(tr("Show the next best check instead"), tr("show another check")))
        row = WrapRow()
        row.addWidget(self.do)
        row.addWidget(self.other)
        self.lines.addLayout(row)
        self.checks: tuple = ()
        self.at, self._room = 0, 0
        self.other.clicked.connect(self.show_another)
        self.do.clicked.connect(self.do_it)

    def show_checks(self, checks: tuple) -> None:
        self.checks, self.at = checks, 0
        self._show()

    def show_another(self) -> None:
        """The next best check instead; after a handful the best again."""
        self.at = (self.at + 1) % max(1, min(len(self.checks), MOST_CHECKS))
        self._show()

    def do_it(self) -> None:
        if self.checks:
            self.wanted.emit(self.checks[self.at])

    def _show(self) -> None:
        self.setVisible(bool(self.checks))
        if not self.checks:
            self.turned.emit()
            return
        best = self.checks[self.at]
        check = best.check
        shown = min(len(self.checks), MOST_CHECKS)
        which = tr("NEXT CHECK") if self.at == 0 else tr("CHECK {at} OF {shown}", at=self.at + 1, shown=shown)
        circuit = f" · {best.circuit.upper()}" if best.circuit else ""
        self.over.setText(
            tr(
                "{which}{circuit} · {total_minutes:.0f} MIN · {gear}",
                which=which,
                circuit=circuit,
                total_minutes=best.total_minutes,
                gear=GEAR_WORDS[check.gear].upper(),
            )
        )
        self.title.setText(titled(best.name))
        self.what.setText(best.text)
        self.sound.setText(tr("Sound: {expect}", expect=best.expect))
        self.why.setText(best.why)
        self.caution.setText(tr("Mind: ") + " ".join(check.cautions))
        self.caution.setVisible(bool(check.cautions))
        self.do.setAccessibleName(tr("Do this check: {name}", name=check.name))
        self.turned.emit()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self.stand_whole(self._room)

    def stand_whole(self, room: int) -> int:
        """Stand as tall as the words are at this width, what is to be minded whole; that height in px.

        Parameters
        ----------
        room : int
            px; where it is too little the reason for the check gives way, its tip still tells it
        """
        self._room = room
        for why in (True, False):
            self.why.setVisible(why)
            tall = self.lines.heightForWidth(self.width())
            if tall <= room:
                break
        self.do.setToolTip(plain_tip(f"{self.why.text()}\n\n{DO_TIP}".strip()))
        if tall > 0 and tall != self.minimumHeight():
            self.setFixedHeight(tall)
            # Qt has placed the words already where this comes from a resize, for the height that was.
            self.lines.invalidate()
            self.lines.activate()
        return tall
