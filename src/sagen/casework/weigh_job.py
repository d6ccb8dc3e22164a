"""The suspects of a job and what to check next, as a command."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from sagen.casework.command import Command, go_on
from sagen.casework.costs import costs_of, now_or_first
from sagen.casework.job_sheet import owed_words
from sagen.casework.lessons import ShopLessons
from sagen.casework.taps import NO_TAPS, JobTaps, job_taps
from sagen.casework.weighing import weigh_records
from sagen.codes.lookup import beside, unknown_codes
from sagen.model.errors import SagenError
from sagen.model.finding import Suspect
from sagen.model.job import Job
from sagen.model.trail import CodeEntry
from sagen.model.vocabulary import CHOSEN_GEAR, Gear, Strategy
from sagen.reason.checks import Advice, opened
from sagen.reason.decide import ReplaceOrCheck
from sagen.reason.facts import knowledge
from sagen.reason.several import circuits_of
from sagen.reason.words import PROOF_OWED


@dataclass(frozen=True)
class Weighed:
    """The suspects and checks of a job as its standing evidence has them."""

    job_id: int | None = None
    suspects: tuple[Suspect, ...] = ()
    checks: tuple = ()
    pieces: int = 0  #: how many pieces of evidence count
    advice: object = None
    odd: tuple[str, ...] = ()  #: what codes mean together, and readings that no fault explains
    taps: JobTaps = NO_TAPS  #: what the taps of a knock job say together
    opened: frozenset = frozenset()  #: places that are open now
    access: Mapping[str, float] = field(default_factory=dict)  #: minutes to get at each place on this machine
    ways: ReplaceOrCheck | None = None  #: replacing what leads now, against one more check
    record: str = ""  #: what of the shop's own record counted, in words; "" where it does not


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
    """The suspects of a job, and what to check next."""
    records = job.records()
    circuits = circuits_of(records)
    own = record.but(job.id) if record is not None else None
    told = weigh_records(records, circuits, gear, strategy, record=own)
    if not told.cases:
        return Weighed(job.id)
    codes = [this_record.code for this_record in job.records(CodeEntry) if not this_record.says]
    together = (*unknown_codes(codes), *beside(codes))
    open_now = frozenset().union(*(opened(case, knowledge()) for _, case in told.cases))
    minutes = {str(place): usual for place, usual in knowledge().places.items()}
    for _, case in reversed(told.cases):
        minutes |= case.access
    try:
        ways = now_or_first(told.suspects, told.checks, costs_of(records), minutes, open_now)
    except SagenError as error:
        ways, together = None, (*together, str(error))
    more = told.diagnosis.notes if told.diagnosis is not None else ()
    return Weighed(
        job.id, told.suspects, told.checks, told.pieces, _with_what_is_owed(told.advice, job), (*more, *together, *told.odd), job_taps(records), open_now,
        minutes, ways, own.said(next(iter(circuits.values()))) if own is not None else "",
    )  # fmt: skip


def _with_what_is_owed(said: Advice, job: Job) -> Advice:
    """After a repair the advice says what is owed of the proof by now, not all that ever was."""
    now = job.standing_now
    if not now.repairs or PROOF_OWED not in said.text:
        return said
    owed = owed_words(now)
    left = (
        f"Still owed: {'; '.join(owed)}."
        if owed
        else "Nothing is owed any more: print the customer's page and close the job."
    )
    return replace(said, text=said.text.replace(PROOF_OWED, left))
