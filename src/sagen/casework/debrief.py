"""A practice job looked back on: what each step took and told, beside the plan of one who knows the fault."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from sagen.casework.command import Progress, go_on
from sagen.casework.costs import FIT_MINUTES, FITTED_AT
from sagen.casework.diagnosis import Diagnosis
from sagen.casework.practice import PracticeMachine, best_plan
from sagen.casework.weighing import weigh_records
from sagen.casework.words import entry_text
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import Kept, later, one_after_the_other, tr
from sagen.model.practice import LOOK_MINUTES, Practice, is_look, practice_of
from sagen.model.proof import Stage, standing
from sagen.model.trail import (
    BoardEntry,
    CaptureEntry,
    CircuitEntry,
    FindingEntry,
    InspectionEntry,
    NoteEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.model.vocabulary import Cause, CheckKind, Part, ProofStep
from sagen.model.words import PARTS_KEPT
from sagen.reason.askable import moves_shaft
from sagen.reason.case import case_of
from sagen.reason.checks import cost, opened
from sagen.reason.facts import CheckFacts, Knowledge, kept_title_of, knowledge
from sagen.reason.several import circuits_of

#: a step that moves the share of the true cause by less than so many bits told nothing of it
TELLS = 0.15
#: points of a hundred: the right cause, time, evidence at the repair, proof, cautions
RIGHT, TIME, EVIDENCE, PROOF, CARE = 40, 25, 15, 10, 10
#: minutes that a measurement takes which no check describes (common practice, no published source)
ANY_MINUTES = 3.0
_NOTHING = later("nothing to change")

_FOUND: dict[type, Callable[[Record, Knowledge], CheckFacts | None]] = {
    ReadingEntry: lambda item, facts: _first(facts, CheckKind.METER, lambda check: (check.point, check.state) == (item.point, item.state)),
    CaptureEntry: lambda item, facts: _first(facts, CheckKind.CAPTURE, lambda check: check.state == item.sheet.conditions.state),
    FindingEntry: lambda item, facts: _first(facts, CheckKind.CAPTURE, lambda check: check.state == item.state),
    BoardEntry: lambda item, facts: _first(facts, CheckKind.CAPTURE, lambda check: check.state == item.state),
    InspectionEntry: lambda item, facts: facts.check(item.check),
    ScanEntry: lambda item, facts: facts.check(str(item.scan)),
    StayedEntry: lambda item, facts: facts.check("complaint_after_the_repair"),
}  # fmt: skip


def _first(facts: Knowledge, kind: CheckKind, fits: Callable[[CheckFacts], bool]) -> CheckFacts | None:
    return next((check for check in facts.checks if check.kind == kind and fits(check)), None)


@dataclass(frozen=True)
class Timed:
    """An entry that took time on the machine's clock."""

    at: int  #: its place on the trail
    record: Record
    minutes: float
    check: CheckFacts | None  #: what it was the answer to


def timed(records: Iterable[Record]) -> tuple[Timed, ...]:
    """What was done on a practice job, with the minutes that each step takes a technician."""
    records, facts, out = list(records), knowledge(), []
    begins = next((at for at, item in enumerate(records) if isinstance(item, CircuitEntry)), 0) + 1
    for at, record in enumerate(records[begins:], begins):
        if isinstance(record, RepairEntry) and record.part is not None:
            place, case = FITTED_AT.get(record.part), case_of(records[:at])
            reach = 0.0 if place is None or place in opened(case, facts) else facts.places[place]
            out.append(Timed(at, record, FIT_MINUTES + reach, None))
        elif type(record) in _FOUND:
            check = _FOUND[type(record)](record, facts)
            case = case_of(records[:at])
            minutes = sum(cost(check, case, facts, opened(case, facts))) if check is not None else ANY_MINUTES
            out.append(Timed(at, record, minutes, check))
        elif is_look(record):
            out.append(Timed(at, record, LOOK_MINUTES, None))
    return tuple(out)


def clock(records: Iterable[Record]) -> float:
    """Minutes on the machine's clock."""
    return sum(item.minutes for item in timed(records))


@dataclass(frozen=True)
class Walked:
    """One step of the learner's, and what it did to the share of what was wrong."""

    words: str
    kept: Kept  #: what it was in a few words, for a reader of any language
    minutes: float
    before: float  #: probability of what was truly wrong
    after: float
    better: Kept = ""  #: what would have told most for its minutes then; "" where it was that
    better_minutes: float = 0.0
    repair: bool = False
    needless: bool = False
    ready: bool = False  #: what was wrong was plain enough to repair already
    careless: bool = False  #: the engine was turned while its timing was in doubt
    proof: bool = False  #: the machine was well already

    @property
    def bits(self) -> float:
        return math.log2(max(self.after, 1e-3) / max(self.before, 1e-3))


@dataclass(frozen=True)
class Debriefed:
    """How a practice job went."""

    was: Kept  #: "" where nothing was wrong
    steps: tuple[Walked, ...]
    plan: tuple[tuple[str, float], ...]  #: of one who knows the fault: what, and its minutes
    parts: tuple[Part, ...]
    needless: int
    well: bool
    proven: bool
    came_back: bool  #: called done, and not well
    points: int
    largest: Kept  #: what cost most, in a sentence; "" where nothing did

    @property
    def minutes(self) -> float:
        return sum(step.minutes for step in self.steps)

    @property
    def best_minutes(self) -> float:
        return sum(minutes for _, minutes in self.plan)

    @property
    def kept(self) -> Kept:
        """The whole in a few sentences, for a reader of any language."""
        told = [later("It was: {was}.", was=self.was) if self.was else later("Nothing was wrong with it.")]
        if self.parts:
            parts = [PARTS_KEPT[part] for part in self.parts]
            if self.needless:
                told.append(
                    later("Changed: {parts}; {needless} of them for nothing.", parts=parts, needless=self.needless)
                )
            else:
                told.append(later("Changed: {parts}.", parts=parts))
            told.append(later("It is well now.") if self.well else later("It is not well yet."))
        if self.came_back:
            told.append(later("A week later it is back with the same complaint."))
        told.append(
            later(
                "{minutes:.0f} min on the clock; one who knows the fault: {best:.0f} min.",
                minutes=self.minutes,
                best=self.best_minutes,
            )
        )
        return one_after_the_other([*told, *([self.largest] if self.largest else [])])


def debriefed(job: Job, progress: Progress = go_on) -> Debriefed:
    """Look back on a practice job.

    Raises
    ------
    SagenError
        for a job that is none of practice.
    """
    records = job.records()
    practice = practice_of(records)
    if practice is None:
        raise SagenError(tr("this job is no practice"))
    first, machine = PracticeMachine.of(practice), PracticeMachine.of(practice)
    steps, known, causes = [], timed(records), machine.causes
    now = _weighed(records[: known[0].at]) if known else _weighed(records)
    told = []
    for number, item in enumerate(known):
        progress(number / (len(known) + 2))
        then = known[number + 1].at if number + 1 < len(known) else len(records)
        after, repair = _weighed(records[:then]), isinstance(item.record, RepairEntry)
        needless, well = machine.needless, bool(first.faults) and not machine.faults
        share = _share(now, causes)
        if repair:
            machine.repair(item.record.part)
            told.append((item.record.part, share, machine.needless > needless))
        best = next(iter(now.checks), None)
        other = best is not None and not repair and item.check is not None and best.check.slug != item.check.slug
        steps.append(
            Walked(
                " ".join(entry_text(item.record).split("\n")[:2]), _kept(item), item.minutes, share, _share(after, causes),
                best.kept_name if other else "", best.total_minutes if other else 0.0, repair, machine.needless > needless,
                now.ready, bool(now.do_not) and item.check is not None and moves_shaft(item.check), well,
            )
        )  # fmt: skip
        now, causes = after, machine.causes
    progress(0.9)
    plan = tuple((check.name, check.total_minutes) for check in best_plan(PracticeMachine.of(practice)))
    well = not machine.faults
    stands = standing(records)
    proven, called_done = stands.stage == Stage.PROVEN, ProofStep.STAYED_AWAY in stands.done
    was = [
        later(
            "{fault} ({part})", fault=kept_title_of(item), part=PARTS_KEPT.get(knowledge().priors[item].part, _NOTHING)
        )
        for item in sorted(first.faults)
    ]
    parts = tuple(part for part, _, _ in told)
    return Debriefed(
        was, tuple(steps), plan, parts, machine.needless, well, proven, called_done and not well,
        _points(first, machine, steps, plan, told, proven, _share(now, {str(Cause.NONE)})), _largest(steps),
    )  # fmt: skip


def _weighed(records: list[Record]) -> Diagnosis:
    return weigh_records(records, circuits_of(records))


def _share(now: Diagnosis, causes: set[str]) -> float:
    return min(sum(item.probability for item in now.suspects if str(item.cause) in causes), 1.0)


def _points(first, machine, steps, plan, told, proven: bool, sound_now: float) -> int:
    sound = not first.faults
    cured = [share for _, share, needless in told if not needless]
    right = not machine.faults and not machine.needless and (not sound or not told)
    points = RIGHT if right else RIGHT / 2 if not machine.faults and told else 0.0
    spent, best = sum(step.minutes for step in steps if not step.proof), sum(minutes for _, minutes in plan)
    if right:
        points += TIME * min(1.0, (best + FIT_MINUTES * bool(told)) / max(spent, 1e-9)) if spent else TIME * (not best)
    evidence = sound_now if sound and not told else min(cured, default=0.0)
    points += EVIDENCE * min(evidence / knowledge().stakes.enough, 1.0)
    points += PROOF * ((proven and not machine.faults) or (sound and not told and bool(steps)))
    points += CARE * (bool(steps) and not any(step.careless for step in steps))
    return round(points)


def _kept(item: Timed) -> Kept:
    """A step in a few words, for a reader of any language: a part, a check, or that something else was measured."""
    record = item.record
    if isinstance(record, RepairEntry):
        return PARTS_KEPT[record.part]
    if isinstance(record, NoteEntry):
        return record.says or record.text
    return item.check.kept_name if item.check is not None else later("something that no check asks for")


def _largest(steps: Iterable[Walked]) -> Kept:
    """What cost most, in a sentence; "" where nothing did."""
    lost: list[tuple[float, Kept]] = []
    for step in steps:
        if step.proof:
            continue
        what, minutes = step.kept, step.minutes
        if step.careless:
            told = later(
                "The engine was turned while its timing was in doubt, which can cost valves: {what}.", what=what
            )
            lost.append((1e9, told))
        if step.needless:
            told = later(
                "Most was lost on a part that was not to blame: {what}, with {before:.0f} % on what it was.",
                what=what, before=100 * step.before,
            )  # fmt: skip
            lost.append((minutes + knowledge().stakes.wrong_repair, told))
        elif not step.repair and step.ready:
            lost.append(
                (
                    minutes,
                    later(
                        "It was plain enough to repair before this: {what} ({minutes:.0f} min).",
                        what=what,
                        minutes=minutes,
                    ),
                )
            )
        elif not step.repair and step.bits < TELLS and step.better:
            told = later(
                "Most was lost on this: {what}. {minutes:.0f} min that told nothing of it; {better} ({other:.0f} min) would have told more.",
                what=what, minutes=minutes, better=step.better, other=step.better_minutes,
            )  # fmt: skip
            lost.append((minutes, told))
        elif not step.repair and step.bits < TELLS:
            lost.append(
                (
                    minutes,
                    later(
                        "Most was lost on this: {what}. {minutes:.0f} min that told nothing of it.",
                        what=what,
                        minutes=minutes,
                    ),
                )
            )
    return max(lost, key=lambda item: item[0])[1] if lost else ""


def other_clothes(practice: Practice) -> Practice:
    """The same fault in another machine of the same level or lesson; the same case with another story where that is handed over.

    Raises
    ------
    SagenError
        where none is drawn soon.
    """
    wanted = set(PracticeMachine.of(practice).faults)
    for seed in range(practice.seed + 1, practice.seed + MOST_DRAWN):
        other = Practice(practice.level, seed, practice.lesson, practice.case, practice.suspects)
        if set(PracticeMachine.of(other).faults) == wanted:
            return other
    raise SagenError(tr("no other machine with this fault was drawn: take a new one"))


MOST_DRAWN = 4000
