"""The shop's own record: what its jobs taught, one lesson a job and a circuit, and how that weighs in the next one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from itertools import pairwise

from sagen.model.circuit import CircuitSpec
from sagen.model.language import trn
from sagen.model.machine_card import MachineCard
from sagen.model.practice import practice_of
from sagen.model.proof import standing
from sagen.model.trail import CardEntry, Record, RepairEntry
from sagen.model.vocabulary import Origin, Part, ProofStep, Role, SensorKind
from sagen.reason.learned import OTHER_MODEL, Learned
from sagen.reason.several import circuits_of


def fitted_and_back(records: Iterable[Record], part: Part = Part.SENSOR) -> tuple[Counter, Counter]:
    """Of one job: parts fitted by origin, and those that did not hold: fitted again, or the complaint or its code back."""
    records = list(records)
    fitted, back = Counter(), Counter()
    at = [k for k, record in enumerate(records) if isinstance(record, RepairEntry) and record.part == part]
    for k, following in pairwise([*at, len(records)]):
        origin = records[k].origin
        fitted[origin] += 1
        nearest = next((j for j in range(k + 1, following) if isinstance(records[j], RepairEntry)), following)
        then = standing(records[k:nearest])
        refitted = following < len(records) and ProofStep.STAYED_AWAY not in then.done
        if refitted or then.came_back:
            back[origin] += 1
    return fitted, back


@dataclass(frozen=True)
class Lesson:
    """What one job taught of one of its circuits.

    Parameters
    ----------
    proven : whether the job is; then `cured` is the part that cured it, None where this circuit was sound
    fitted, back : sensors fitted in this circuit, and those that did not hold, by origin
    """

    role: Role
    sensor: SensorKind
    model: str
    proven: bool
    cured: Part | None
    fitted: Counter
    back: Counter


def lessons_of(records: Iterable[Record]) -> tuple[Lesson, ...]:
    """What a job taught; nothing where no part was changed, nor a machine to practise on. Only what was done and proven by
    measuring counts."""
    records = list(records)
    repairs = [record for record in records if isinstance(record, RepairEntry)]
    if not repairs or practice_of(records):
        return ()
    proven, last = standing(records).stage == "proven", repairs[-1]
    model = next((record.machine.title for record in reversed(records) if isinstance(record, CardEntry)), "")
    circuits = circuits_of(records)
    out = []
    for name, spec in circuits.items():
        here = last.circuit == name or len(circuits) == 1
        own = records if len(circuits) == 1 else [record for record in records if record.circuit in ("", name)]
        # Work at no part in particular, or at one that nobody named, says nothing of what was wrong.
        told = proven and last.part is not None
        fitted, back = fitted_and_back(own)
        out.append(Lesson(spec.role, spec.sensor, model, told, last.part if here else None, fitted, back))
    return tuple(out)


@dataclass(frozen=True)
class ShopLessons:
    """Lessons by job, each with what the log said of the job when they were drawn."""

    by_job: dict[int, tuple[tuple, tuple[Lesson, ...]]] = field(default_factory=dict)
    without: int | None = None  #: the job that is weighed now teaches nothing of itself

    def but(self, job_id: int | None) -> ShopLessons:
        """The same without a job's own."""
        return replace(self, without=job_id)

    @property
    def lessons(self) -> list[Lesson]:
        return [item for job_id, (_, told) in self.by_job.items() if job_id != self.without for item in told]

    def of(self, spec: CircuitSpec, card: MachineCard | None = None) -> Learned:
        """What they add up to for a kind of circuit: the same kind of sensor in the same role. A job on another model of
        machine counts half, where both are known."""
        cured: Counter = Counter()
        parts: dict[Origin, tuple[float, float]] = {}
        model = card.title if card is not None else ""
        for lesson in self.lessons:
            if lesson.sensor != spec.sensor:
                continue
            for origin, count in lesson.fitted.items():
                before, bad = parts.get(origin, (0.0, 0.0))
                parts[origin] = (before + count, bad + lesson.back[origin])
            if lesson.proven and lesson.role == spec.role:
                cured[lesson.cured] += OTHER_MODEL if model and lesson.model and lesson.model != model else 1.0
        return Learned(dict(cured), parts)

    def said(self, spec: CircuitSpec | None = None) -> str:
        """In a line: how many jobs and parts count; "" where none does."""
        alike = [lesson for lesson in self.lessons if spec is None or lesson.sensor == spec.sensor]
        jobs = sum(item.proven and (spec is None or item.role == spec.role) for item in alike)
        parts = sum(sum(item.fitted.values()) for item in alike)
        told = [trn("{count} proven job", "{count} proven jobs", jobs)] if jobs else []
        told += [trn("{count} sensor fitted", "{count} sensors fitted", parts)] if parts else []
        return ", ".join(told)

    def fitted(self, role: Role) -> dict[Origin, tuple[int, int]]:
        """Sensors of a role that were fitted, and that did not hold, by origin."""
        out: dict[Origin, tuple[int, int]] = {}
        for lesson in self.lessons:
            for origin, count in lesson.fitted.items() if lesson.role == role else ():
                before, bad = out.get(origin, (0, 0))
                out[origin] = (before + count, bad + lesson.back[origin])
        return out
