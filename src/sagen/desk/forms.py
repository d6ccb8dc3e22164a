"""Small forms: a new job, a trail entry."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime
from typing import ClassVar

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.words import generic_meaning
from sagen.codes import meaning, parse_code
from sagen.codes.lookup import CODE_KINDS
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.trail import (
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    NoteEntry,
    ProofEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    FINDING_STATES,
    CodeKind,
    CodesBack,
    CodeStatus,
    EngineRuns,
    EntryKind,
    FindingKind,
    Occasion,
    Origin,
    Part,
    Scan,
)
from sagen.model.words import (
    COMPLAINTS,
    ENTRY_TITLES,
    FINDING_TITLES,
    OCCASIONS,
    ORIGINS,
    OWED,
    PARTS,
    STATES,
    THINGS,
)

CODE_STATUS = {
    CodeStatus.STORED: "Stored", CodeStatus.PENDING: "Pending: seen once", CodeStatus.PERMANENT: "Permanent",
}  # fmt: skip
NOTHING_YET = "There is nothing to put on the trail yet."


class Form(QDialog):
    """A dialog with fields, a message line and two buttons."""

    def __init__(self, title: str, accept: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        head = Label(title)
        head.setObjectName("heading")
        layout.addWidget(head)
        self._first: QWidget | None = None
        self.fields = QFormLayout()
        self.fields.setHorizontalSpacing(14)
        layout.addLayout(self.fields)
        self.message = Label()
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
        self._fit()

    def _fit(self) -> None:
        for label in self.findChildren(Label):
            if label.wordWrap() and label.isVisible():
                label.setMinimumHeight(label.heightForWidth(label.width()))
        self.adjustSize()

    def add(self, name: str, field: QWidget) -> QWidget:
        label = Label(name)
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
        if wrong:
            self.layout().activate()
            self._fit()
        else:
            self.accept()


class CodePick(QComboBox):
    """Generic codes by what they mean, for a hand without a keyboard; tells the chosen one through `took`."""

    def __init__(self, took, parent: QWidget | None = None):
        super().__init__(parent)
        from sagen.codes.lookup import table

        self.addItem("or choose one by its meaning", "")
        for code, told in sorted(table().items()):
            self.addItem(f"{code}  {told.text}", code)
        self.setMaximumWidth(420)
        # A list that scrolls, not one as tall as the screen.
        self.setStyleSheet("combobox-popup: 0;")
        self.setMaxVisibleItems(14)
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
        return [word for word in re.split(r"[\s,;]+", self.codes.text().upper()) if word]

    def problem(self) -> str:
        for item in self.code_list():
            try:
                parse_code(item)
            except SagenError:
                return f"'{item}' is not a trouble code such as P0335."
        return ""

    def records(self) -> list[Record]:
        """What the new job's trail begins with."""
        return [ComplaintEntry(self.complaint.currentData()), *(code_entry(item) for item in self.code_list())]


def code_entry(text: str, meant: str = "", says: CodeKind | None = None) -> CodeEntry:
    """A code's entry, with what a generic code means; raises SagenError for what is no code."""
    code = parse_code(text)
    return CodeEntry(code, meant or generic_meaning(code), says)


class EntryForm(Form):
    """One entry of the trail, new or to be corrected. Each kind has its own fields and gives its own record."""

    record: ClassVar[type[Record]]

    def __init__(self, old: Record | None = None, parent: QWidget | None = None):
        super().__init__(ENTRY_TITLES[self.record.kind], "Put on the trail" if old is None else "Correct", parent)
        self.build(old)

    def build(self, old: Record | None) -> None:
        """Make the fields and fill them from the entry that is corrected."""
        raise TypeError(f"{type(self).__name__} has no fields")

    def answer(self) -> Record:
        """The record as answered."""
        raise TypeError(f"{type(self).__name__} gives no record")

    def choice(self, name: str, words: dict, chosen) -> QComboBox:
        """A box with the words of a closed set."""
        box = self.add(name, QComboBox())
        for key, said in words.items():
            box.addItem(said, key)
        box.setCurrentIndex(max(0, box.findData(chosen)))
        return box

    def lines(self, name: str, text: str) -> QPlainTextEdit:
        """A field for several lines; Tab leaves it."""
        field = self.add(name, QPlainTextEdit(text))
        field.setMinimumHeight(90)
        field.setTabChangesFocus(True)
        return field


class CodeForm(EntryForm):
    record = CodeEntry

    def build(self, old: CodeEntry | None) -> None:
        self.text = self.add("Code", QLineEdit(old.code if old else ""))
        self.pick = self.add("", CodePick(self.text.setText))
        # The generic meaning goes with the code: kept as typed, it would stay when the code is corrected.
        own = old.meaning if old and old.meaning != generic_meaning(old.code) else ""
        self.meaning = self.add("Meaning", QLineEdit(own))
        self.meaning.setPlaceholderText("found by itself for generic codes; else as the maker words it")
        self.tied = self.choice("It says", {"": "As the generic code says", **CODE_KINDS}, old.says if old else "")
        self.tied.setToolTip("A maker's own code is tied to this job's circuit by hand")
        self.status = self.choice("Status", {None: "Not said", **CODE_STATUS}, old.status if old else None)
        self.likely = Label(name="quiet", wrap=True)
        self.fields.addRow(self.likely)
        self.text.textChanged.connect(lambda _: self._told())
        self._told()

    def _told(self) -> None:
        try:
            found = meaning(self.text.text()) if self.text.text().strip() else None
        except SagenError:
            found = None
        self.likely.setText(f"{found.text}. Makes likely: {found.makes_likely}." if found else "")
        if found and not self.meaning.text():
            self.meaning.setPlaceholderText(found.text)

    def problem(self) -> str:
        try:
            parse_code(self.text.text())
        except SagenError as error:
            return str(error)
        return ""

    def answer(self) -> CodeEntry:
        made = code_entry(self.text.text(), self.meaning.text().strip(), self.tied.currentData() or None)
        return replace(made, status=self.status.currentData())


class ComplaintForm(EntryForm):
    record = ComplaintEntry

    def build(self, old: ComplaintEntry | None) -> None:
        told = {**COMPLAINTS, "": "Something else"}
        self.text = self.choice("Complaint", told, (old.complaint or "") if old else None)
        self.words = self.add("In words", QLineEdit(old.text if old else ""))
        self.when: dict[Occasion, QCheckBox] = {}
        grid = QGridLayout()
        for index, (key, said) in enumerate(OCCASIONS.items()):
            self.when[key] = QCheckBox(said)
            self.when[key].setChecked(old is not None and key in old.when)
            grid.addWidget(self.when[key], index // 3, index % 3)
        self.fields.addRow(Label("It comes"), grid)
        runs = {
            None: "Not said",
            EngineRuns.YES: "Runs",
            EngineRuns.AT_TIMES: "Runs at times",
            EngineRuns.NO: "Does not run",
        }
        self.runs = self.choice("The engine", runs, old.runs if old else None)

    def problem(self) -> str:
        told = self.text.currentData() or self.words.text().strip() or self.runs.currentData()
        return "" if told or any(box.isChecked() for box in self.when.values()) else "What is it, in words?"

    def answer(self) -> ComplaintEntry:
        when = tuple(key for key, box in self.when.items() if box.isChecked())
        return ComplaintEntry(
            self.text.currentData() or None, self.words.text().strip(), when, self.runs.currentData()
        )  # fmt: skip


class LookedAtForm(EntryForm):
    """Anything that was looked at, at any time: the part, what was seen of it, and whether that is certain."""

    record = InspectionEntry

    def build(self, old: InspectionEntry | None) -> None:
        self.part = self.choice("What", THINGS, old.part if old else None)
        self.words = self.add("What was seen", QLineEdit((old.seen or old.check) if old else ""))
        self.words.setPlaceholderText("as chewed through behind the bracket")
        self.outcome = self.choice(
            "It is", {"damaged": "Not as it should be", "": "As it should be"}, old.outcome if old else "damaged"
        )
        self.certain = QCheckBox("Seen for certain: count it as a fact")
        self.certain.setChecked(old is not None and old.certain)
        self.fields.addRow(self.certain)

    def problem(self) -> str:
        return "" if self.words.text().strip() or not self.outcome.currentData() else "What was seen, in words?"

    def answer(self) -> InspectionEntry:
        seen, bad = self.words.text().strip(), self.outcome.currentData()
        named = THINGS[self.part.currentData()].lower()
        return InspectionEntry(
            seen or named, bad, self.part.currentData(), seen if bad else "", self.certain.isChecked()
        )  # fmt: skip


class ElsewhereForm(EntryForm):
    """A finding that was read with other means, or that such a recording showed nothing wrong."""

    record = FindingEntry

    def build(self, old: FindingEntry | None) -> None:
        told = {
            None: "Nothing wrong",
            **{key: said for key, said in FINDING_TITLES.items() if key not in ABOUT_CAPTURE},
        }
        self.finding = self.choice("It showed", told, old.finding if old else None)
        self.state = self.choice(
            "While", {None: "Not said", **{key: STATES[key] for key in FINDING_STATES}}, old.state if old else None
        )
        held = {"": "Not said", "high": "Held high", "low": "Held low", "middle": "Between"}
        self.held = self.choice("A flat line", held, old.fields.get("held", "") if old else "")

    def answer(self) -> FindingEntry:
        finding, held = self.finding.currentData(), self.held.currentData()
        fields = {"held": held} if held and finding == FindingKind.NO_SIGNAL else {}
        return FindingEntry(finding, self.state.currentData(), fields)


class TesterForm(EntryForm):
    """What the module itself shows."""

    record = ScanEntry

    def build(self, old: ScanEntry | None) -> None:
        told = {Scan.RPM_CRANKING: "Speed while cranking", Scan.CODES_BACK: "Code after clearing"}
        self.scan = self.choice("The tester shows", told, old.scan if old else None)
        rpm = old.value if old and old.scan == Scan.RPM_CRANKING else ""
        self.rpm = self.add("rpm, 0 for none", QLineEdit(f"{rpm:g}" if rpm != "" else ""))
        back = {
            CodesBack.AT_ONCE: "Back at once",
            CodesBack.ON_A_DRIVE: "Back on a drive",
            CodesBack.NEVER: "Stays away",
        }
        self.back = self.choice("The code", back, old.value if old and old.scan == Scan.CODES_BACK else None)
        self.scan.currentIndexChanged.connect(lambda _=0: self._fitting())
        self._fitting()

    def _fitting(self) -> None:
        speed = self.scan.currentData() == Scan.RPM_CRANKING
        self.fields.setRowVisible(self.rpm, speed)
        self.fields.setRowVisible(self.back, not speed)

    def _entry(self) -> ScanEntry:
        if self.scan.currentData() == Scan.CODES_BACK:
            return ScanEntry(Scan.CODES_BACK, self.back.currentData())
        return ScanEntry(Scan.RPM_CRANKING, float(self.rpm.text().strip().replace(",", ".")))

    def problem(self) -> str:
        try:
            self._entry()
        except ValueError:
            return "Which speed does it show? 0 where it shows none."
        return ""

    def answer(self) -> ScanEntry:
        return self._entry()


class StayedForm(EntryForm):
    """After a repair: is the complaint still there?"""

    record = StayedEntry

    def build(self, old: StayedEntry | None) -> None:
        self.stayed = self.choice(
            "The complaint", {True: "Is still there", False: "Is gone"}, old.stayed if old else True
        )

    def answer(self) -> StayedEntry:
        return StayedEntry(bool(self.stayed.currentData()))


class NoteForm(EntryForm):
    record = NoteEntry

    def build(self, old: NoteEntry | None) -> None:
        self.text = self.lines("What", old.text if old else "")

    def problem(self) -> str:
        return "" if self.text.toPlainText().strip() else NOTHING_YET

    def answer(self) -> NoteEntry:
        return NoteEntry(self.text.toPlainText().strip())


class ReplacedForm(EntryForm):
    record = ReplacedEntry
    usual_origin: ClassVar[Origin] = Origin.UNKNOWN

    def build(self, old) -> None:
        self.part = self.choice("Part", PARTS, old.part if old else Part.SENSOR)
        self.origin = self.choice("Its origin", ORIGINS, old.origin if old else self.usual_origin)
        if self.record is ReplacedEntry:
            began = {None: "Not known", True: "Yes", False: "No"}
            self.began = self.choice("It began with that", began, old.began if old else None)
        self.text = self.lines("What", old.text if old else "")

    def answer(self) -> Record:
        began = {"began": self.began.currentData()} if self.record is ReplacedEntry else {}
        return self.record(
            part=self.part.currentData(),
            origin=self.origin.currentData(),
            text=self.text.toPlainText().strip(),
            **began,
        )


class RepairForm(ReplacedForm):
    record = RepairEntry
    usual_origin = Origin.ORIGINAL

    def build(self, old: RepairEntry | None) -> None:
        super().build(old)
        self.fields.insertRow(2, "", Label("From here on evidence about the old part no longer counts.", wrap=True))


class ProofForm(EntryForm):
    record = ProofEntry

    def build(self, old: ProofEntry | None) -> None:
        self.old = old
        self.owed: dict[str, QCheckBox] = {}
        for key, words in OWED.items():
            self.owed[key] = QCheckBox(words)
            self.owed[key].setChecked(old is not None and key in old.done)
            self.fields.addRow(self.owed[key])
        self.text = self.lines("More", old.more if old else "")

    def problem(self) -> str:
        ticked = any(box.isChecked() for box in self.owed.values())
        return "" if ticked or self.text.toPlainText().strip() else NOTHING_YET

    def answer(self) -> ProofEntry:
        done = tuple(key for key, box in self.owed.items() if box.isChecked())
        more = self.text.toPlainText().strip()
        if self.old is None:
            return ProofEntry(done, more)
        failed = tuple(item for item in self.old.failed if item not in done)
        return replace(self.old, done=done, more=more, failed=failed)


#: by the kind of entry that they make; other kinds are entered elsewhere
FORMS: dict[EntryKind, type[EntryForm]] = {
    kind.record.kind: kind
    for kind in (
        CodeForm, ComplaintForm, NoteForm, ReplacedForm, RepairForm, ProofForm, LookedAtForm, ElsewhereForm, TesterForm,
        StayedForm,
    )
}  # fmt: skip


class LookForm(Form):
    """What a check by eye or hand came to: one press."""

    def __init__(self, check, text: str, parent: QWidget | None = None):
        super().__init__(check.name[:1].upper() + check.name[1:], "Put on the trail", parent)
        self.check = check
        told = Label(f"{text}\n\nSound: {check.expect}")
        told.setWordWrap(True)
        self.fields.addRow(told)
        if check.cautions:
            mind = Label("Mind: " + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        self.outcome = self.add("It was", QComboBox())
        self.outcome.addItem("As expected of a sound one", "")
        for name in check.outcome:
            self.outcome.addItem(name.replace("_", " ").capitalize(), name)
        self.certain = QCheckBox("Seen for certain: count it as a fact")
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
        super().__init__(check.name[:1].upper() + check.name[1:], "Choose the file", parent)
        told = Label(text)
        told.setWordWrap(True)
        self.fields.addRow(told)
        for name, words in settings:
            line = Label(words)
            line.setWordWrap(True)
            self.fields.addRow(name, line)
        if check.cautions:
            mind = Label("Mind: " + " ".join(check.cautions))
            mind.setObjectName("caution")
            mind.setWordWrap(True)
            self.fields.addRow(mind)
        if guide is not None:
            self.setMinimumWidth(680)
            self.fields.addRow(guide)
        self.from_stand_in = False
        self.record = QPushButton("Record from the stand-in")
        self.record.setToolTip("A simulated machine with a fault of its own, to practise on")
        self.record.clicked.connect(self._record)
        self.record.setVisible(stand_in)
        self.buttons.insertWidget(1, self.record)
        self.by_eye = False
        self.eye = QPushButton("Read by eye")
        self.eye.setToolTip("Enter what the recorder's own screen shows, without a file")
        self.eye.clicked.connect(self._read_by_eye)
        self.eye.setVisible(bool(check.outcome))
        self.buttons.insertWidget(1, self.eye)

    def _read_by_eye(self) -> None:
        self.by_eye = True
        self.accept()

    def _record(self) -> None:
        self.from_stand_in = True
        self.accept()
