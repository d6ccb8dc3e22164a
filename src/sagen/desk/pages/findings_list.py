"""The findings under a capture: as rows that jump, with what all taps of the job say, comparisons and notes."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from sagen.casework.open_capture import OpenCapture
from sagen.casework.patterns import compared_words
from sagen.desk.announce import announce
from sagen.desk.theme.plain import Label
from sagen.kinds.piezo.words import load_words
from sagen.model.language import tr
from sagen.model.words import FINDING_TITLES, struck_at

HEIGHT = 92  #: px of the findings below the picture; more scrolls
NOTHING_TURNED = tr(
    "Nothing wrong seen. Every level and every tooth is as it should be for as long as this capture lasts."
)
NOTHING_STRUCK = tr("Nothing wrong seen: the sensors answer these taps alike, in height and in pitch.")
SOUND_TOGETHER = tr("All taps of this job together: nothing wrong")


class FindingRow(QPushButton):
    """A finding in words, numbered as in the picture; a press jumps to its place."""

    def __init__(self, number: int, title: str, text: str, sure: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("row")
        self.setAccessibleName(f"{number} {title}. {text}")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 8, 4)
        row.setSpacing(8)
        self.number = Label(str(number), name="number")
        self.number.setAlignment(Qt.AlignmentFlag.AlignTop)
        words = QVBoxLayout()
        words.setSpacing(1)
        self.told = Label(f"{title}. {text}", wrap=True)
        self.sure = Label(tr("To be sure: {sure}", sure=sure) if sure else "", self, name="quiet", wrap=True)
        self.sure.setVisible(bool(sure))
        for item in (self.number, self.told, self.sure):
            item.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        words.addWidget(self.told)
        words.addWidget(self.sure)
        row.addWidget(self.number)
        row.addLayout(words, 1)

    def sizeHint(self):
        return self.layout().sizeHint()

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self.layout().heightForWidth(width)


class FindingsList(QScrollArea):
    """The rows under the picture. `chosen` tells the place of a finding in the list of them."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        inside = QWidget()
        self.layout_of_rows = QVBoxLayout(inside)
        self.layout_of_rows.setContentsMargins(0, 0, 4, 0)
        self.layout_of_rows.setSpacing(3)
        self.rows: list[FindingRow] = []
        self.setWidget(inside)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedHeight(HEIGHT)

    def show_findings(self, opened: OpenCapture, taps) -> None:
        """The findings as rows, then how the capture compares, then what the reader did on the way in."""
        rows, struck, done = self.layout_of_rows, opened.rings is not None, opened.examination
        while rows.count():
            item = rows.takeAt(0)
            if item.widget():
                item.widget().deleteLater()
        for said in together(taps) if struck else ():
            rows.addWidget(Label(said, name="sound" if said.startswith(SOUND_TOGETHER) else "", wrap=True))
        self.rows = []
        for index, finding in enumerate(done.findings):
            row = FindingRow(index + 1, FINDING_TITLES.get(finding.kind, finding.kind), finding.text, finding.sure)
            row.clicked.connect(lambda _=False, index=index: self.chosen.emit(index))
            self.rows.append(row)
            rows.addWidget(row)
        found = [FINDING_TITLES.get(finding.kind, finding.kind) for finding in done.findings]
        announce(
            self, tr("{name}: {found}", name=done.capture.name, found=", ".join(found) or tr("nothing wrong seen"))
        )
        if not done.findings:
            rows.addWidget(Label(NOTHING_STRUCK if struck else NOTHING_TURNED, name="sound", wrap=True))
        kept = opened.entry.record.compared if opened.entry else ()
        # Older logs kept every comparison as a sentence: those are shown as they are.
        told_now = () if any(isinstance(item, str) for item in kept) else done.compared
        for told in (*told_now, *(compared_words(item) for item in kept)):
            rows.addWidget(Label(tr("Against the known-good capture: {told}", told=told), wrap=True))
        for note in done.notes:
            rows.addWidget(Label(tr("Note: {note}.", note=note), name="quiet", wrap=True))
        rows.addStretch(1)

    def show_offers(self, count: int) -> None:
        """Say how many known-good captures on the shelf have this pattern, where none lies under it yet."""
        if count:
            which = tr("One known-good capture") if count == 1 else tr("{count} known-good captures", count=count)
            told = tr(
                "{which} on the shelf {count} this pattern: see Compare and keep, Lay under it.",
                which=which,
                count=tr("has") if count == 1 else tr("have"),
            )
            self.layout_of_rows.insertWidget(max(self.layout_of_rows.count() - 1, 0), Label(told, wrap=True))

    def words(self) -> str:
        """Everything that stands here."""
        told = []
        for index in range(self.layout_of_rows.count()):
            label = self.layout_of_rows.itemAt(index).widget()
            if isinstance(label, FindingRow):
                told += [f"{label.number.text()} {label.told.text()}", label.sure.text()]
            elif isinstance(label, Label):
                told.append(label.text())
        return "\n".join(told)


def together(taps) -> list[str]:
    """What the taps of a job say beyond one capture: a sentence a sensor; nothing where there is only one place and load."""
    verdict = taps.shown if taps is not None else None
    if verdict is None or len(verdict.fit.places) * len(verdict.fit.loads) < 2:
        return []
    found = [
        tr("All taps of this job together, {channel}: {text}", channel=finding.channel, text=finding.text)
        for finding in verdict.findings()
    ]
    return found or [
        tr(
            "{sound_together} with any of the {sensors} sensors.",
            sound_together=SOUND_TOGETHER,
            sensors=len(verdict.sensors),
        )
    ]


def taken_as(sheet) -> list[str]:
    """Where and under what a set of knock sensors was struck, in words; nothing for what turns."""
    told = [tr("struck at {place}", place=struck_at(sheet.conditions.place))] if sheet.conditions.place else []
    ohms = {item.load_ohm for item in sheet.channel if item.load_ohm}
    connection = sheet.conditions.connection or ("loaded" if ohms else None)
    if connection is not None:
        told.append(load_words(connection, ohms.pop() if len(ohms) == 1 else -1.0))
    return told
