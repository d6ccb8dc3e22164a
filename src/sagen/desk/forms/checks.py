"""What a check came to, and where a recording comes from."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QPushButton,
    QWidget,
)

from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.language import titled, tr, worded
from sagen.model.trail import (
    InspectionEntry,
)


class LookForm(Form):
    """What a check by eye or hand came to: one press."""

    def __init__(self, check, text: str, parent: QWidget | None = None):
        super().__init__(titled(check.name), tr("Put on the trail"), parent)
        self.check = check
        told = Label(tr("{text}\n\nSound: {expect}", text=text, expect=check.expect))
        told.setWordWrap(True)
        self.fields.addRow(told)
        if check.cautions:
            mind = Label(tr("Mind: ") + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        self.outcome = self.add(tr("It was"), QComboBox())
        self.outcome.addItem(tr("As expected of a sound one"), "")
        for name in check.outcome:
            said = worded(name)
            self.outcome.addItem(titled(said), name)
        self.certain = QCheckBox(tr("Seen for certain: count it as a fact"))
        self.fields.addRow(self.certain)

    def answer(self) -> InspectionEntry:
        return InspectionEntry(self.check.slug, self.outcome.currentData(), certain=self.certain.isChecked())


class CaptureForm(Form):
    """What to set on the recorder for a check, and where its capture comes from."""

    def __init__(
        self,
        check,
        text: str,
        settings: tuple[tuple[str, str], ...],
        parent: QWidget | None = None,
        *,
        stand_in=False,
        guide: QWidget | None = None,
    ):
        super().__init__(titled(check.name), tr("Choose the file"), parent)
        told = Label(text)
        told.setWordWrap(True)
        self.fields.addRow(told)
        for name, words in settings:
            line = Label(words)
            line.setWordWrap(True)
            self.fields.addRow(name, line)
        if check.cautions:
            mind = Label(tr("Mind: ") + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        if guide is not None:
            self.setMinimumWidth(680)
            self.fields.addRow(guide)
        self.from_stand_in = False
        self.record = QPushButton(tr("Use the stand-in"))
        self.record.setToolTip(tr("A simulated machine with a fault of its own, to practise on"))
        self.record.clicked.connect(self._record)
        self.record.setVisible(stand_in)
        self.buttons.insertWidget(1, self.record)
        self.by_eye = False
        self.eye = QPushButton(tr("Read by eye"))
        self.eye.setToolTip(tr("Enter what the recorder's own screen shows, without a file"))
        self.eye.clicked.connect(self._read_by_eye)
        self.eye.setVisible(bool(check.outcome))
        self.buttons.insertWidget(1, self.eye)

    def _read_by_eye(self) -> None:
        self.by_eye = True
        self.accept()

    def _record(self) -> None:
        self.from_stand_in = True
        self.accept()
