"""The Suspects: ranked causes as bars, each unfolding into its evidence; under them the next check."""

from __future__ import annotations

from PySide6.QtCore import QEasingCurve, QRectF, QSize, Qt, QVariantAnimation, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from sagen.desk import theme
from sagen.model.words import CAUSES

LEAST_SHOWN = 0.01


class SuspectBar(QAbstractButton):
    """One cause: name, likeliest fault mode, probability as figure and bar. Pressing it unfolds the evidence."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setCheckable(True)
        self.setMinimumHeight(54)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.cause, self.fault, self.shown = "none", "", 0.0
        self._moving = QVariantAnimation(self)
        self._moving.setDuration(350)
        self._moving.setEasingCurve(QEasingCurve.Type.OutCubic)
        self._moving.valueChanged.connect(self._moved)

    def show_suspect(self, suspect) -> None:
        self.cause, self.fault = suspect.cause, suspect.fault
        self.setAccessibleName(f"{CAUSES[suspect.cause]}: {suspect.fault}, {100 * suspect.probability:.0f} percent")
        self.setToolTip("Press to see the evidence for and against")
        self._moving.stop()
        self._moving.setStartValue(self.shown)
        self._moving.setEndValue(float(suspect.probability))
        self._moving.start()

    def _moved(self, value: float) -> None:
        self.shown = value
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, 54)

    def paintEvent(self, _event) -> None:
        look = theme.look()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.setBrush(QColor(look.raised))
        painter.setPen(QColor(look.accent if self.hasFocus() or self.underMouse() else look.line))
        painter.drawRoundedRect(box, 6, 6)
        track = QRectF(box.left() + 10, box.bottom() - 13, box.width() - 20, 7)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(look.ground))
        painter.drawRoundedRect(track, 3, 3)
        colour = QColor(look.sound if self.cause == "none" else look.accent)
        painter.setBrush(colour)
        painter.drawRoundedRect(QRectF(track.left(), track.top(), max(3.0, track.width() * self.shown), 7), 3, 3)
        text = box.adjusted(10, 6, -10, -16)
        painter.setPen(QColor(look.ink))
        painter.setFont(theme.font(10.5, bold=True))
        figure = f"{100 * self.shown:.0f} %"
        painter.drawText(text, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure)
        name = CAUSES[self.cause]
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        left = painter.fontMetrics().horizontalAdvance(name) + 8
        right = painter.fontMetrics().horizontalAdvance(figure) + 8
        painter.setFont(theme.font(9))
        painter.setPen(QColor(look.quiet))
        room = text.adjusted(left, 1, -right, 0)
        fault = "" if self.cause == "none" else self.fault
        shown = painter.fontMetrics().elidedText(fault, Qt.TextElideMode.ElideRight, int(room.width()))
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown)


class SuspectRow(QWidget):
    """A bar and, when unfolded, its evidence."""

    def __init__(self, parent=None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        self.bar = SuspectBar()
        self.evidence = QLabel()
        self.evidence.setWordWrap(True)
        self.evidence.setTextFormat(Qt.TextFormat.RichText)
        self.evidence.setContentsMargins(10, 4, 6, 8)
        self.evidence.hide()
        layout.addWidget(self.bar)
        layout.addWidget(self.evidence)
        self.bar.toggled.connect(self.evidence.setVisible)

    def show_suspect(self, suspect) -> None:
        self.bar.show_suspect(suspect)
        lines = [_reason_line(one.text, one.bits) for one in suspect.reasons]
        fault = "" if suspect.cause == "none" else f"<b>{suspect.fault[:1].upper() + suspect.fault[1:]}</b>"
        told = "".join(lines) or "<p>Nothing measured so far speaks for or against it.</p>"
        self.evidence.setText(f"{fault}{told}<p><i>{suspect.advice}</i></p>")


def _reason_line(text: str, bits: float) -> str:
    """One sentence with how strongly it speaks, in words and sign, never by colour alone."""
    strength = abs(bits)
    words = "slightly" if strength < 1 else "clearly" if strength < 3.5 else "strongly"
    sign, side = ("+", "for it") if bits > 0 else ("\u2212", "against it")
    quiet = theme.look().quiet
    return f"<p style='margin:3px 0'><b>{sign}</b> {text} <span style='color:{quiet}'>({words} {side})</span></p>"


class CheckCard(QWidget):
    """The one clear thing to do next."""

    wanted = Signal(object)  #: NextCheck that is to be done

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 12)
        layout.setSpacing(6)
        over = QLabel("NEXT CHECK")
        over.setObjectName("over")
        self.title = QLabel()
        self.title.setObjectName("heading")
        self.body = QLabel()
        self.body.setTextFormat(Qt.TextFormat.RichText)
        self.caution = QLabel()
        self.caution.setObjectName("caution")
        self.do = QPushButton("Do this check")
        self.do.setObjectName("first")
        self.do.setToolTip("Open what it needs: the meter entry, a capture, or the question (Ctrl+D)")
        self.other = QPushButton("Another")
        self.other.setToolTip("Show the next best check instead")
        for one in (over, self.title, self.body, self.caution):
            one.setWordWrap(True)
            layout.addWidget(one)
        #: the pane keeps these in sight below the card, which scrolls
        self.actions = QHBoxLayout()
        self.actions.setContentsMargins(0, 0, 6, 0)
        self.actions.addWidget(self.do, 1)
        self.actions.addWidget(self.other)
        self.checks: tuple = ()
        self.at = 0
        self.other.clicked.connect(self._next)
        self.do.clicked.connect(self._do)

    def show_checks(self, checks: tuple) -> None:
        self.checks, self.at = checks, 0
        self._show()

    def _next(self) -> None:
        self.at = (self.at + 1) % max(1, min(len(self.checks), 6))
        self._show()

    def _do(self) -> None:
        if self.checks:
            self.wanted.emit(self.checks[self.at])

    def _show(self) -> None:
        for one in (self, self.do, self.other):
            one.setVisible(bool(self.checks))
        if not self.checks:
            return
        best = self.checks[self.at]
        check = best.check
        self.title.setText(check.name[:1].upper() + check.name[1:])
        quiet = theme.look().quiet
        gear = {"meter": "with a meter", "scope": "with a recorder", "eyes": "by eye and hand", "parts": "with a part"}[
            check.gear
        ]
        self.body.setText(
            f"<p style='margin:0 0 5px'>{check.text}</p>"
            f"<p style='margin:0 0 5px'><b>Sound:</b> {best.expect}</p>"
            f"<p style='margin:0 0 5px'><b>About {check.total_minutes:g} minutes</b> {gear}.</p>"
            f"<p style='margin:0;color:{quiet}'>{best.why}</p>"
        )
        self.caution.setText("<b>Mind:</b> " + " ".join(check.cautions))
        self.caution.setVisible(bool(check.cautions))


class SuspectsPane(QWidget):
    """The right side of the window."""

    wishes = Signal(str, object)  #: strategy, gear

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 10, 4, 10)
        head = QLabel("SUSPECTS")
        head.setObjectName("over")
        outer.addWidget(head)
        self.scroll = QScrollArea()
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        self.layout_ = QVBoxLayout(inside)
        self.layout_.setContentsMargins(0, 0, 6, 0)
        self.layout_.setSpacing(6)
        self.empty = QLabel(
            "No evidence yet.\n\nSuspects are weighed as soon as a code, a reading or a capture is on the trail."
        )
        self.empty.setObjectName("quiet")
        self.empty.setWordWrap(True)
        self.layout_.addWidget(self.empty)
        self.rows: list[SuspectRow] = []
        self.others = QLabel()
        self.others.setObjectName("quiet")
        self.others.setWordWrap(True)
        self.layout_.addWidget(self.others)
        self.advice = QLabel()
        self.advice.setWordWrap(True)
        self.advice.setObjectName("caution")
        self.advice.hide()
        self.layout_.addWidget(self.advice)
        self.card = CheckCard()
        self.layout_.addWidget(self.card)
        self.layout_.addStretch(1)
        self.scroll.setWidget(inside)
        outer.addWidget(self.scroll, 1)
        outer.addLayout(self.card.actions)
        row = QHBoxLayout()
        row.setSpacing(4)
        row.setContentsMargins(0, 0, 6, 0)
        self.strategy, self.gear = QComboBox(), QComboBox()
        for key, words in (("most", "Best first"), ("meter", "Meter first"), ("scope", "Scope first")):
            self.strategy.addItem(words, key)
        for key, words in (
            (("meter", "scope"), "All gear"),
            (("meter",), "Meter only"),
            (("scope",), "Scope only"),
            ((), "Eyes only"),
        ):
            self.gear.addItem(words, key)
        self.strategy.setToolTip("How checks are ranked: both schools by what they separate per minute")
        self.gear.setToolTip("What is at hand")
        for box in (self.strategy, self.gear):
            box.setAccessibleName(box.toolTip())
            row.addWidget(box)
            box.currentIndexChanged.connect(
                lambda _=0: self.wishes.emit(self.strategy.currentData(), self.gear.currentData())
            )
        outer.addLayout(row)
        self.show_weighed((), ())

    def show_weighed(self, suspects, checks, advice=None, odd=()) -> None:
        shown = [one for one in suspects if one.probability >= LEAST_SHOWN][:6]
        while len(self.rows) < len(shown):
            row = SuspectRow()
            self.rows.append(row)
            self.layout_.insertWidget(len(self.rows), row)
        for index, row in enumerate(self.rows):
            row.setVisible(index < len(shown))
            if index < len(shown):
                row.show_suspect(shown[index])
        self.empty.setVisible(not shown)
        rest = [one for one in suspects if one not in shown]
        said = []
        for words, some in (
            ("Less likely", [one for one in rest if one.probability >= LEAST_SHOWN]),
            ("All but ruled out", [one for one in rest if one.probability < LEAST_SHOWN]),
        ):
            if some:
                said.append(f"{words}: {', '.join(CAUSES[one.cause].lower() for one in some)}.")
        self.others.setText(" ".join(said))
        self.others.setVisible(bool(rest))
        told = [*odd, *([advice.text] if advice is not None and advice.enough else [])]
        self.advice.setText("\n\n".join(told))
        self.advice.setVisible(bool(told))
        self.card.show_checks(tuple(checks))
