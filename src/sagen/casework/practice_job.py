"""A practice machine as a job of the log: its story, the stand-ins that read it, and what it was, once that is asked for."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from sagen.casework.command import Command, go_on
from sagen.casework.course import Taught, case_of_job, course, write_case
from sagen.casework.debrief import Debriefed, debriefed
from sagen.casework.practice import PracticeMachine
from sagen.casework.weighing import weigh_records
from sagen.codes.lookup import table
from sagen.instruments.stand_in import StandIn
from sagen.instruments.wired import Wired, wired_stand_in
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.language import tr
from sagen.model.practice import Practice, practice_of, score_of
from sagen.model.trail import (
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    InspectionEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
)
from sagen.model.vocabulary import CheckKind
from sagen.reason.evidence import Code, Inspected
from sagen.reason.facts import knowledge
from sagen.reason.history import Replaced
from sagen.reason.several import circuits_of


@dataclass(frozen=True)
class PracticeStory:
    """What a new practice job begins with."""

    machine: str
    owner: str
    records: tuple[Record, ...]


@dataclass(frozen=True)
class DrawPractice(Command):
    """Draw a machine to practise on."""

    practice: Practice

    @property
    def doing(self) -> str:
        return tr("Drawing a machine")

    def perform(self, log=None, progress=go_on) -> PracticeStory:
        machine = PracticeMachine.of(self.practice)
        told: list[Record] = [ComplaintEntry(machine.complaint)]
        told += [_code(item, machine) for item in machine.told if isinstance(item, Code)]
        told += [ReplacedEntry(item.part) for item in machine.told if isinstance(item, Replaced)]
        begun = (self.practice.story(machine.owner), *told, CircuitEntry(machine.spec))
        return PracticeStory(machine.name, machine.owner, begun)


def _code(told: Code, machine: PracticeMachine) -> CodeEntry:
    """A generic code of this kind and circuit; where there is none, one that is tied to the circuit by hand."""
    fits = (code for code, item in table().items() if item.kind == told.kind and item.role == machine.spec.role)
    code = next(fits, None)
    return (
        CodeEntry(code)
        if code is not None
        else CodeEntry("P1300", says=None if str(told.kind) == "several" else told.kind)
    )


def practised(job: Job) -> PracticeMachine:
    """The machine of a practice job as it is after the repairs on its trail.

    Raises
    ------
    SagenError
        for a job that is none of practice.
    """
    found = practice_of(job.records())
    if found is None:
        raise SagenError(tr("this job is no practice"))
    machine = PracticeMachine.of(found)
    for repair in job.records(RepairEntry):
        if repair.part is not None:
            machine.repair(repair.part)
    return machine


def _simulated(job: Job):
    machine = practised(job)
    made = machine.simulated()
    made.rng = np.random.default_rng([machine.seed, len(job.entries), 5])
    return made, bool(machine.faults)


def stand_in(job: Job) -> StandIn:
    """The simulated instruments of a practice job."""
    return StandIn(_simulated(job)[0])


def wired_to(job: Job) -> Wired:
    """The same machine behind instruments on the wire."""
    machine, faulty = _simulated(job)
    return wired_stand_in(machine, faulty=faulty)


@dataclass(frozen=True)
class LookAtMachine(Command):
    """What a check by eye, hand or tester comes to on a practice machine."""

    job: Job
    check: str  #: its slug

    @property
    def doing(self) -> str:
        return tr("Looking")

    def perform(self, log=None, progress=go_on) -> InspectionEntry | ScanEntry:
        machine, check = practised(self.job), knowledge().check(self.check)
        if check is None or check.kind not in (CheckKind.LOOK, CheckKind.SCAN):
            raise SagenError(tr("that is measured, not looked at: clip the instruments to it"))
        # A look that is taken once more may come out otherwise, as with any machine; the same job looks the same.
        for record in self.job.records():
            if isinstance(record, InspectionEntry) and record.check == check.slug:
                machine.answer(check)
        (seen,) = machine.answer(check)
        return (
            InspectionEntry(check.slug, seen.outcome)
            if isinstance(seen, Inspected)
            else ScanEntry(seen.what, seen.value)
        )


@dataclass(frozen=True)
class Debrief(Command):
    """What a practice machine was, and how it went."""

    job: Job

    @property
    def doing(self) -> str:
        return tr("Working out the best plan")

    def perform(self, log=None, progress=go_on) -> Debriefed:
        return debriefed(self.job, progress)


@dataclass(frozen=True)
class PersonProgress:
    """What one person has practised of one lesson or level."""

    who: str
    what: str
    jobs: int
    best: int  #: points of a hundred

    @property
    def row(self) -> tuple[str, str, str, str]:
        return self.who or tr("nobody named"), self.what, str(self.jobs), str(self.best)


def progress_in(notes: Iterable[Iterable[Entry]]) -> list[PersonProgress]:
    """What each person has practised, from the notes of each job: a row a person and a lesson or level."""
    found: dict[tuple[str, str], list[int]] = {}
    for entries in notes:
        entries = list(entries)
        practice = practice_of(entry.record for entry in entries)
        first = next((entry for entry in entries if score_of([entry.record]) is not None), None)
        if practice is not None and first is not None:
            found.setdefault((first.author, title_of_practice(practice)), []).append(score_of([first.record]))
    return [PersonProgress(who, what, len(points), max(points)) for (who, what), points in sorted(found.items())]


def title_of_practice(practice: Practice) -> str:
    """A lesson by its title, a level by its number."""
    if practice.lesson:
        lesson = course().get(practice.lesson)
        return lesson.title if lesson is not None else practice.lesson
    return tr("Level {level}", level=practice.level) if practice.level else tr("A case that was handed over")


@dataclass(frozen=True)
class ReadProgress(Command):
    """What each person has practised in this log."""

    @property
    def doing(self) -> str:
        return tr("Reading what was practised")

    def perform(self, log, progress=go_on) -> list[PersonProgress]:
        return progress_in(log.notes().values())


@dataclass(frozen=True)
class MakeCase(Command):
    """Write a case for others to practise on, of a proven job: what its repair cured is hidden in it, and no name stands in it."""

    job: Job
    path: str

    @property
    def doing(self) -> str:
        return tr("Making a case of it")

    def perform(self, log=None, progress=go_on) -> str:
        write_case(self.path, case_of_job(self.job, _taught(self.job)))
        return tr("{path} holds the machine without a name: hand it over as a lesson.", path=self.path)


def _taught(job: Job) -> Taught:
    """The fault that a job's last repair cured: of those that belong to the part the likeliest by what was measured before."""
    records, facts = job.records(), knowledge()
    at = max((k for k, item in enumerate(records) if isinstance(item, RepairEntry) and item.part), default=None)
    if at is None:
        raise SagenError(tr("no part was changed on this job: what was wrong is not known"))
    cured = facts.cured_by(records[at].part)
    before = weigh_records(records[:at], circuits_of(records[:at]))
    own = [item for item in before.suspects if item.fault in cured]
    if not own:
        raise SagenError(tr("what was measured does not tell which fault it was"))
    return Taught(max(own, key=lambda item: item.probability).fault, CASE_SEVERITY)


#: how grave a handed-over fault is made, where nobody measured it
CASE_SEVERITY = 0.8
