"""Entries of the trail that are told in words."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QLineEdit,
)

from sagen.casework.words import generic_meaning
from sagen.codes import meaning, parse_code
from sagen.codes.lookup import CODE_KINDS
from sagen.desk.forms.base import NOTHING_YET, EntryForm
from sagen.desk.forms.job import CodePick, code_entry
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import lowered, tr
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
from sagen.model.typed import typed_figure
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    FINDING_STATES,
    CodesBack,
    CodeStatus,
    EngineRuns,
    EntryKind,
    FindingKind,
    Occasion,
    Origin,
    Scan,
)
from sagen.model.words import (
    COMPLAINTS,
    FINDING_TITLES,
    OCCASIONS,
    ORIGINS,
    OWED,
    PARTS,
    STATES,
    THINGS,
)

CODE_STATUS = {
    CodeStatus.STORED: tr("Stored"), CodeStatus.PENDING: tr("Pending: seen once"), CodeStatus.PERMANENT: tr("Permanent"),
}  # fmt: skip


class CodeForm(EntryForm):
    record = CodeEntry

    def build(self, old: CodeEntry | None) -> None:
        self.text = self.add(tr("Code"), QLineEdit(old.code if old else ""))
        self.pick = self.add("", CodePick(self.text.setText))
        # The generic meaning goes with the code: kept as typed, it would stay when the code is corrected.
        own = old.meaning if old and old.meaning != generic_meaning(old.code) else ""
        self.meaning = self.add(tr("Meaning"), QLineEdit(own))
        self.meaning.setPlaceholderText(tr("as the maker words it, or empty"))
        self.tied = self.choice(
            tr("It says"), {"": tr("As the generic code says"), **CODE_KINDS}, old.says if old else ""
        )
        self.tied.setToolTip(tr("A maker's own code is tied to this job's circuit by hand"))
        self.status = self.choice(tr("Status"), {None: tr("Not said"), **CODE_STATUS}, old.status if old else None)
        self.likely = Label(name="quiet", wrap=True)
        self.fields.addRow(self.likely)
        self.text.textChanged.connect(lambda _: self._told())
        self._told()

    def _told(self) -> None:
        try:
            found = meaning(self.text.text()) if self.text.text().strip() else None
        except SagenError:
            found = None
        self.likely.setText(
            tr("{text}. Makes likely: {makes_likely}.", text=found.text, makes_likely=found.makes_likely)
            if found
            else ""
        )
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
        told = {**COMPLAINTS, "": tr("Something else")}
        self.text = self.choice(tr("Complaint"), told, (old.complaint or "") if old else None)
        self.words = self.add(tr("In words"), QLineEdit(old.text if old else ""))
        self.when: dict[Occasion, QCheckBox] = {}
        grid = QGridLayout()
        for index, (key, said) in enumerate(OCCASIONS.items()):
            self.when[key] = QCheckBox(said)
            self.when[key].setChecked(old is not None and key in old.when)
            grid.addWidget(self.when[key], index // 3, index % 3)
        self.fields.addRow(Label(tr("It comes")), grid)
        runs = {
            None: tr("Not said"),
            EngineRuns.YES: tr("Runs"),
            EngineRuns.AT_TIMES: tr("Runs at times"),
            EngineRuns.NO: tr("Does not run"),
        }
        self.runs = self.choice(tr("The engine"), runs, old.runs if old else None)

    def problem(self) -> str:
        told = self.text.currentData() or self.words.text().strip() or self.runs.currentData()
        return "" if told or any(box.isChecked() for box in self.when.values()) else tr("What is it, in words?")

    def answer(self) -> ComplaintEntry:
        when = tuple(key for key, box in self.when.items() if box.isChecked())
        return ComplaintEntry(
            self.text.currentData() or None, self.words.text().strip(), when, self.runs.currentData()
        )  # fmt: skip


class LookedAtForm(EntryForm):
    """Anything that was looked at, at any time: the part, what was seen of it, and whether that is certain."""

    record = InspectionEntry

    def build(self, old: InspectionEntry | None) -> None:
        self.part = self.choice(tr("What"), THINGS, old.part if old else None)
        self.words = self.add(tr("What was seen"), QLineEdit((old.seen or old.check) if old else ""))
        self.words.setPlaceholderText(tr("as chewed through at the bracket"))
        self.outcome = self.choice(
            tr("It is"),
            {"damaged": tr("Not as it should be"), "": tr("As it should be")},
            old.outcome if old else "damaged",
        )
        self.certain = QCheckBox(tr("Seen for certain: count it as a fact"))
        self.certain.setChecked(old is not None and old.certain)
        self.fields.addRow(self.certain)

    def problem(self) -> str:
        return "" if self.words.text().strip() or not self.outcome.currentData() else tr("What was seen, in words?")

    def answer(self) -> InspectionEntry:
        seen, bad = self.words.text().strip(), self.outcome.currentData()
        named = lowered(THINGS[self.part.currentData()])
        return InspectionEntry(
            seen or named, bad, self.part.currentData(), seen if bad else "", self.certain.isChecked()
        )  # fmt: skip


class ElsewhereForm(EntryForm):
    """A finding that was read with other means, or that such a recording showed nothing wrong."""

    record = FindingEntry

    def build(self, old: FindingEntry | None) -> None:
        told = {
            None: tr("Nothing wrong"),
            **{key: said for key, said in FINDING_TITLES.items() if key not in ABOUT_CAPTURE},
        }
        self.finding = self.choice(tr("It showed"), told, old.finding if old else None)
        self.state = self.choice(
            tr("While"),
            {None: tr("Not said"), **{key: STATES[key] for key in FINDING_STATES}},
            old.state if old else None,
        )
        held = {"": tr("Not said"), "high": tr("Held high"), "low": tr("Held low"), "middle": tr("Between")}
        self.held = self.choice(tr("A flat line"), held, old.fields.get("held", "") if old else "")

    def answer(self) -> FindingEntry:
        finding, held = self.finding.currentData(), self.held.currentData()
        fields = {"held": held} if held and finding == FindingKind.NO_SIGNAL else {}
        return FindingEntry(finding, self.state.currentData(), fields)


class TesterForm(EntryForm):
    """What the module itself shows."""

    record = ScanEntry

    def build(self, old: ScanEntry | None) -> None:
        told = {Scan.RPM_CRANKING: tr("Speed while cranking"), Scan.CODES_BACK: tr("Code after clearing")}
        self.scan = self.choice(tr("The tester shows"), told, old.scan if old else None)
        rpm = old.value if old and old.scan == Scan.RPM_CRANKING else ""
        self.rpm = self.add(tr("rpm, 0 for none"), QLineEdit(f"{rpm:g}" if rpm != "" else ""))
        back = {
            CodesBack.AT_ONCE: tr("Back at once"),
            CodesBack.ON_A_DRIVE: tr("Back on a drive"),
            CodesBack.NEVER: tr("Stays away"),
        }
        self.back = self.choice(tr("The code"), back, old.value if old and old.scan == Scan.CODES_BACK else None)
        self.scan.currentIndexChanged.connect(lambda _=0: self._fitting())
        self._fitting()

    def _fitting(self) -> None:
        speed = self.scan.currentData() == Scan.RPM_CRANKING
        self.fields.setRowVisible(self.rpm, speed)
        self.fields.setRowVisible(self.back, not speed)

    def _entry(self) -> ScanEntry:
        if self.scan.currentData() == Scan.CODES_BACK:
            return ScanEntry(Scan.CODES_BACK, self.back.currentData())
        return ScanEntry(Scan.RPM_CRANKING, typed_figure(self.rpm.text()))

    def problem(self) -> str:
        try:
            self._entry()
        except ValueError:
            return tr("Which speed does it show? 0 where it shows none.")
        return ""

    def answer(self) -> ScanEntry:
        return self._entry()


class StayedForm(EntryForm):
    """After a repair: is the complaint still there?"""

    record = StayedEntry

    def build(self, old: StayedEntry | None) -> None:
        self.stayed = self.choice(
            tr("The complaint"), {True: tr("Is still there"), False: tr("Is gone")}, old.stayed if old else True
        )

    def answer(self) -> StayedEntry:
        return StayedEntry(bool(self.stayed.currentData()))


class NoteForm(EntryForm):
    record = NoteEntry

    def build(self, old: NoteEntry | None) -> None:
        self.text = self.lines(tr("What"), old.said if old else "")

    def problem(self) -> str:
        return "" if self.text.toPlainText().strip() else NOTHING_YET

    def answer(self) -> NoteEntry:
        return NoteEntry(self.text.toPlainText().strip())


class ReplacedForm(EntryForm):
    record = ReplacedEntry
    usual_origin: ClassVar[Origin] = Origin.UNKNOWN

    def build(self, old) -> None:
        # Which part it was nobody has said yet.
        self.part = self.choice(tr("Part"), {None: tr("Choose"), **PARTS}, old.part if old else None)
        self.origin = self.choice(tr("Its origin"), ORIGINS, old.origin if old else self.usual_origin)
        if self.record is ReplacedEntry:
            began = {None: tr("Not known"), True: tr("Yes"), False: tr("No")}
            self.began = self.choice(tr("It began with that"), began, old.began if old else None)
        self.text = self.lines(tr("What"), old.text if old else "")

    def problem(self) -> str:
        return "" if self.part.currentData() is not None else tr("Say which part it was.")

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

    def build(self, old: RepairEntry | None) -> None:
        super().build(old)
        self.fields.insertRow(2, "", Label(tr("From here on evidence about the old part no longer counts."), wrap=True))


class ProofForm(EntryForm):
    record = ProofEntry

    def build(self, old: ProofEntry | None) -> None:
        self.old = old
        self.owed: dict[str, QCheckBox] = {}
        for key, words in OWED.items():
            self.owed[key] = QCheckBox(words)
            self.owed[key].setChecked(old is not None and key in old.done)
            self.fields.addRow(self.owed[key])
        self.text = self.lines(tr("More"), old.more if old else "")

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


FORMS: dict[EntryKind, type[EntryForm]] = {
    kind.record.kind: kind
    for kind in (
        CodeForm, ComplaintForm, NoteForm, ReplacedForm, RepairForm, ProofForm, LookedAtForm, ElsewhereForm, TesterForm,
        StayedForm,
    )
}  # fmt: skip
