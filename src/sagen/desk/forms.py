"""Small forms: a new job, a trail entry."""

from __future__ import annotations

import re
from datetime import datetime

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from sagen.model.job import ENTRY_TITLES
from sagen.model.words import COMPLAINTS

CODE = re.compile(r"[PCBU][0-3][0-9A-F]{3}")


class Form(QDialog):
    """A dialog with fields, a message line and two buttons."""

    def __init__(self, title: str, accept: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        head = QLabel(title)
        head.setObjectName("heading")
        layout.addWidget(head)
        self._first: QWidget | None = None
        self.fields = QFormLayout()
        self.fields.setHorizontalSpacing(14)
        layout.addLayout(self.fields)
        self.message = QLabel()
        self.message.setObjectName("error")
        self.message.setWordWrap(True)
        self.message.hide()
        layout.addWidget(self.message)
        row = self.buttons = QHBoxLayout()
        row.addStretch(1)
        cancel = QPushButton("Cancel")
        self.ok = QPushButton(accept)
        self.ok.setObjectName("first")
        self.ok.setDefault(True)
        row.addWidget(cancel)
        row.addWidget(self.ok)
        layout.addLayout(row)
        cancel.clicked.connect(self.reject)
        self.ok.clicked.connect(self._try)

    def showEvent(self, event) -> None:
        """As tall as the words need: a form's layout does not ask wrapped lines for their height."""
        super().showEvent(event)
        for label in self.findChildren(QLabel):
            if label.wordWrap() and label.isVisible():
                label.setMinimumHeight(label.heightForWidth(label.width()))
        self.adjustSize()

    def add(self, name: str, field: QWidget) -> QWidget:
        label = QLabel(name)
        label.setBuddy(field)
        self.fields.addRow(label, field)
        if self._first is None:
            self._first = field
            field.setFocus()  # ready to type; else the default button has the keyboard
        return field

    def problem(self) -> str:
        """What is wrong with the answers, or an empty string."""
        return ""

    def _try(self) -> None:
        wrong = self.problem()
        self.message.setText(wrong)
        self.message.setVisible(bool(wrong))
        if not wrong:
            self.accept()


#: what is owed after a repair, in the order in which it is done
OWED = {
    "measured": "The same measurements taken again, and sound",
    "cleared": "Codes cleared",
    "relearn": "Relearn done, where the maker calls for one",
    "driven": "Driven as the complaint was",
    "stayed_away": "Read again: the code stayed away",
}


class CodePick(QComboBox):
    """Generic codes by what they mean, for a hand without a keyboard; tells the chosen one through `took`."""

    def __init__(self, took, parent: QWidget | None = None):
        super().__init__(parent)
        from sagen.codes.lookup import table

        self.addItem("or choose one by its meaning", "")
        for code, told in sorted(table().items()):
            self.addItem(f"{code}  {told.text}", code)
        self.setMaximumWidth(420)
        self.setAccessibleName("Generic codes by their meaning")
        self.activated.connect(lambda _=0: took(self.currentData()) if self.currentData() else None)


class JobForm(Form):
    """A new job: machine, customer, complaint, codes."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__("New job", "Start job", parent)
        self.machine = self.add("Machine", QLineEdit())
        self.machine.setPlaceholderText("make, model, engine, plate; empty: named by the date")
        self.owner = self.add("Customer", QLineEdit())
        self.cylinders = self.add("Cylinders", QComboBox())
        for count in (*range(1, 13), 16):
            self.cylinders.addItem(str(count), count)
        self.cylinders.setCurrentIndex(self.cylinders.findData(4))
        self.complaint = self.add("Complaint", QComboBox())
        for key, words in COMPLAINTS.items():
            self.complaint.addItem(words, key)
        self.codes = self.add("Codes", QLineEdit())
        self.codes.setPlaceholderText("as P0335 P0340; may be empty")
        self.pick = self.add("", CodePick(self._picked))

    def _picked(self, code: str) -> None:
        if code not in self.code_list():
            self.codes.setText(" ".join([*self.code_list(), code]))

    def name(self) -> str:
        """The machine as named, else by the date."""
        return self.machine.text().strip() or f"Machine of {datetime.now():%d %B, %H:%M}"

    def code_list(self) -> list[str]:
        return [one for one in re.split(r"[\s,;]+", self.codes.text().upper()) if one]

    def problem(self) -> str:
        wrong = [one for one in self.code_list() if not CODE.fullmatch(one)]
        return f"'{wrong[0]}' is not a trouble code such as P0335." if wrong else ""


PARTS = {
    "sensor": "Sensor", "harness": "Harness or plug", "wheel": "Wheel or ring", "seat": "Seat, flange, gap", "module": "Module", "supply": "Fuse, relay, feed",
    "ground": "Return or earth", "timing": "Belt, chain, phaser", "engine": "Battery, starter, engine",
}  # fmt: skip
ORIGINS = {
    "original": "Original part",
    "aftermarket": "Other maker's part",
    "unknown": "Not known",
    "used": "Used part",
}


class EntryForm(Form):
    """One entry of the trail, new or to be corrected."""

    def __init__(self, kind: str, data: dict | None = None, parent: QWidget | None = None):
        title = ENTRY_TITLES[kind]
        super().__init__(title, "Put on the trail" if data is None else "Correct", parent)
        self.kind, self.data = kind, dict(data or {})
        self.part = self.origin = self.tied = None
        self.owed: dict[str, QCheckBox] = {}
        if kind == "code":
            self.text = self.add("Code", QLineEdit(self.data.get("code", "")))
            self.pick = self.add("", CodePick(self.text.setText))
            self.meaning = self.add("Meaning", QLineEdit(self.data.get("meaning", "")))
            self.meaning.setPlaceholderText("found by itself for generic codes; else as the maker words it")
            self.tied = self.add("It says", QComboBox())
            for key, words in (("", "As the generic code says"), ("circuit", "No usable signal"), ("range", "Pulses not as expected"), ("low", "Signal too low"),
                               ("high", "Signal too high"), ("intermittent", "Comes and goes"), ("correlation", "Cam and crank disagree"), ("feed", "5 V out of range")):  # fmt: skip
                self.tied.addItem(words, key)
            self.tied.setToolTip("A maker's own code is tied to this job's circuit by hand")
            self.tied.setCurrentIndex(max(0, self.tied.findData(self.data.get("kind", ""))))
            self.likely = QLabel()
            self.likely.setWordWrap(True)
            self.likely.setObjectName("quiet")
            self.fields.addRow(self.likely)
            self.text.textChanged.connect(lambda _: self._told())
            self._told()
        elif kind == "complaint":
            self.text = self.add("Complaint", QComboBox())
            for key, words in COMPLAINTS.items():
                self.text.addItem(words, key)
            self.text.setCurrentIndex(max(0, self.text.findData(self.data.get("text"))))
        else:
            if kind in ("repair", "replaced"):
                self.part, self.origin = self.add("Part", QComboBox()), self.add("Its origin", QComboBox())
                for box, table, chosen in ((self.part, PARTS, "part"), (self.origin, ORIGINS, "origin")):
                    for key, words in table.items():
                        box.addItem(words, key)
                    box.setCurrentIndex(
                        max(0, box.findData(self.data.get(chosen, "unknown" if kind == "replaced" else "original")))
                    )
                if kind == "repair":
                    self.add("", QLabel("From here on evidence about the old part no longer counts."))
            if kind == "proof":
                for key, words in OWED.items():
                    self.owed[key] = QCheckBox(words)
                    self.owed[key].setChecked(key in self.data.get("done", ()))
                    self.fields.addRow(self.owed[key])
            self.text = self.add(
                "More" if kind == "proof" else "What", QPlainTextEdit(self.data.get("more", self.data.get("text", "")))
            )
            self.text.setMinimumHeight(90)
            self.text.setTabChangesFocus(True)

    def _told(self) -> None:
        from sagen.codes import meaning
        from sagen.model.errors import SagenError

        try:
            found = meaning(self.text.text()) if self.text.text().strip() else None
        except SagenError:
            found = None
        self.likely.setText(f"{found.text}. Makes likely: {found.makes_likely}." if found else "")
        if found and not self.meaning.text():
            self.meaning.setPlaceholderText(found.text)

    def answer(self) -> dict:
        if self.kind == "code":
            from sagen.codes import meaning, parse_code

            code = parse_code(self.text.text())
            found = meaning(code)
            told = {**self.data, "code": code, "meaning": self.meaning.text().strip() or (found.text if found else "")}
            told.pop("kind", None)
            return told | ({"kind": self.tied.currentData()} if self.tied.currentData() else {})
        if self.kind == "complaint":
            return {**self.data, "text": self.text.currentData()}
        told = {**self.data, "text": self.text.toPlainText().strip()}
        if self.owed:
            done = [key for key, box in self.owed.items() if box.isChecked()]
            told |= {"done": done, "more": told["text"]}
            told["text"] = "\n".join([*(OWED[key] for key in done), *filter(None, [told["more"]])])
        if self.part is not None:
            told |= {"part": self.part.currentData(), "origin": self.origin.currentData()}
        return told

    def problem(self) -> str:
        if self.kind == "code":
            from sagen.codes import parse_code
            from sagen.model.errors import SagenError

            try:
                parse_code(self.text.text())
            except SagenError as error:
                return str(error)
            return ""
        ticked = any(box.isChecked() for box in self.owed.values())
        if self.kind in ("note", "proof") and not ticked and not self.text.toPlainText().strip():
            return "There is nothing to put on the trail yet."
        return ""


class LookForm(Form):
    """What a check by eye or hand came to: one press."""

    def __init__(self, check, parent: QWidget | None = None):
        super().__init__(check.name[:1].upper() + check.name[1:], "Put on the trail", parent)
        self.check = check
        told = QLabel(f"{check.text}\n\nSound: {check.expect}")
        told.setWordWrap(True)
        self.fields.addRow(told)
        if check.cautions:
            mind = QLabel("Mind: " + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        self.outcome = self.add("It was", QComboBox())
        self.outcome.addItem("As expected of a sound one", "")
        for name in check.outcome:
            self.outcome.addItem(name.replace("_", " ").capitalize(), name)

    def answer(self) -> dict:
        return {"check": self.check.name, "outcome": self.outcome.currentData()}


class CaptureForm(Form):
    """What to set on the recorder for a check, and where its capture comes from."""

    def __init__(self, check, settings: tuple[tuple[str, str], ...], parent: QWidget | None = None, *, stand_in=False):
        super().__init__(check.name[:1].upper() + check.name[1:], "Choose the file", parent)
        told = QLabel(check.text)
        told.setWordWrap(True)
        self.fields.addRow(told)
        for name, words in settings:
            line = QLabel(words)
            line.setWordWrap(True)
            self.fields.addRow(name, line)
        if check.cautions:
            mind = QLabel("Mind: " + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        self.from_stand_in = False
        self.record = QPushButton("Record from the stand-in")
        self.record.setToolTip("A simulated machine with a fault of its own, to practise on")
        self.record.clicked.connect(self._record)
        self.record.setVisible(stand_in)
        self.buttons.insertWidget(1, self.record)

    def _record(self) -> None:
        self.from_stand_in = True
        self.accept()
