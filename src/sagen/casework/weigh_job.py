"""The suspects of a job and what to check next, as a command."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from sagen.casework.command import Command, go_on
from sagen.casework.costs import costs_of, now_or_first
from sagen.casework.diagnosis import Diagnosis, stage_of
from sagen.casework.job_sheet import owed_words
from sagen.casework.lessons import ShopLessons
from sagen.casework.taps import NO_TAPS, JobTaps, job_taps
from sagen.casework.weighing import weigh_records
from sagen.model.errors import SagenError
from sagen.model.finding import Suspect
from sagen.model.job import Job
from sagen.model.lazy import lazy
from sagen.model.practice import Practice, practice_of, suspects_hidden
from sagen.model.proof import standing
from sagen.model.trail import InspectionEntry, ReadingEntry, Record
from sagen.model.vocabulary import CHOSEN_GEAR, CheckKind, Gear, Strategy
from sagen.reason.checks import NextCheck, opened
from sagen.reason.decide import ReplaceOrCheck
from sagen.reason.facts import knowledge
from sagen.reason.several import circuits_of

#: loaded when a practice job is first open
debrief = lazy("sagen.casework.debrief")


def taken_again(record: Record, weighed: Weighed | None) -> Record:
    """The record, marked as taken once more where that is what is asked for: told twice it would count once."""
    asked = next((check for check in weighed.checks if check.again), None) if weighed else None
    if asked is None or record.circuit != asked.circuit:
        return record
    check = asked.check
    if isinstance(record, ReadingEntry):
        same = check.kind == CheckKind.METER and (record.point, record.state) == (check.point, check.state)
    else:
        same = isinstance(record, InspectionEntry) and knowledge().check(record.check) is check
    return replace(record, again=True) if same else record


@dataclass(frozen=True)
class Weighed:
    """The suspects and checks of a job as its standing evidence has them."""

    job_id: int | None = None
    diagnosis: Diagnosis = field(default_factory=Diagnosis)
    taps: JobTaps = NO_TAPS  #: what the taps of a knock job say together
    opened: frozenset = frozenset()  #: places that are open now
    access: Mapping[str, float] = field(default_factory=dict)  #: minutes to get at each place on this machine
    ways: ReplaceOrCheck | None = None  #: replacing what leads now, against one more check
    not_compared: str = ""  #: why the two could not be compared
    record: str = ""  #: what of the shop's own record counted, in words; "" where it does not
    practice: Practice | None = None  #: what is practised, of a practice job
    clock: float = 0.0  #: minutes on its machine's clock
    hidden: bool = False  #: the learner does not see the suspects

    @property
    def suspects(self) -> tuple[Suspect, ...]:
        return self.diagnosis.suspects

    @property
    def checks(self) -> tuple[NextCheck, ...]:
        return self.diagnosis.checks

    @property
    def notes(self) -> tuple[str, ...]:
        """What is told in sentences beside the suspects."""
        return (*self.diagnosis.notes, *((self.not_compared,) if self.not_compared else ()))


@dataclass(frozen=True)
class Weigh(Command):
    """Weigh everything that stands on a job's trail."""

    job: Job
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST

    record: ShopLessons | None = None  #: the shop's own jobs, where they are to count

    def perform(self, log=None, progress=go_on) -> Weighed:
        return weigh_job(self.job, self.gear, self.strategy, self.record)


def weigh_job(
    job: Job,
    gear: tuple[Gear, ...] = CHOSEN_GEAR,
    strategy: Strategy = Strategy.MOST,
    record: ShopLessons | None = None,
) -> Weighed:
    """The suspects of a job, and what to check next; of practice, where they are hidden, none of it."""
    records = job.records()
    practice = practice_of(records)
    if practice is None:
        return _weighed(job, records, gear, strategy, record)
    clock = debrief.clock(records)
    if suspects_hidden(records):
        now = standing(records)
        told = Diagnosis(stage=stage_of(now), owed=owed_words(now))
        return Weighed(job.id, told, practice=practice, clock=clock, hidden=True)
    return replace(_weighed(job, records, gear, strategy, record), practice=practice, clock=clock)


def _weighed(job: Job, records: list[Record], gear, strategy, record: ShopLessons | None) -> Weighed:
    circuits = circuits_of(records)
    own = record.but(job.id) if record is not None else None
    told = weigh_records(records, circuits, gear, strategy, record=own)
    if not told.cases:
        return Weighed(job.id, told)
    open_now = frozenset().union(*(opened(case, knowledge()) for _, case in told.cases))
    minutes = {str(place): usual for place, usual in knowledge().places.items()}
    for _, case in reversed(told.cases):
        minutes |= case.access
    ways, why = None, ""
    try:
        ways = now_or_first(told.suspects, told.checks, costs_of(records), minutes, open_now)
    except SagenError as error:
        why = str(error)
    if ways is not None and not told.advice.enough and ways.ways[0].at is None:
        ways = None  # what the advice holds back is not the cheaper way on: it waits for a check, whatever that takes
    counted = own.said(next(iter(circuits.values()))) if own is not None else ""
    return Weighed(job.id, told, job_taps(records), open_now, minutes, ways, why, counted)
