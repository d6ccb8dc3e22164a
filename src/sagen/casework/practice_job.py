"""A practice machine as a job of the log: its story, the stand-ins that read it, and what it was, once that is asked for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.casework.command import Command, go_on
from sagen.casework.practice import PracticeMachine, best_minutes
from sagen.codes.lookup import table
from sagen.instruments.stand_in import StandIn
from sagen.instruments.wired import Wired, wired_stand_in
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.practice import mark, practice_of
from sagen.model.trail import (
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    NoteEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
)
from sagen.model.words import PARTS, said_minutes
from sagen.reason.evidence import Code
from sagen.reason.facts import knowledge, title_of
from sagen.reason.history import Replaced


@dataclass(frozen=True)
class PracticeStory:
    """What a new practice job begins with."""

    machine: str
    owner: str
    records: tuple[Record, ...]


@dataclass(frozen=True)
class DrawPractice(Command):
    """Draw a machine to practise on."""

    level: int
    seed: int

    @property
    def doing(self) -> str:
        return "Drawing a machine"

    def perform(self, log=None, progress=go_on) -> PracticeStory:
        machine = PracticeMachine(self.level, self.seed)
        told: list[Record] = [ComplaintEntry(machine.complaint)]
        told += [_code(item, machine) for item in machine.told if isinstance(item, Code)]
        told += [ReplacedEntry(item.part) for item in machine.told if isinstance(item, Replaced)]
        story = f"{mark(self.level, self.seed)} Brought by {machine.owner}. The stand-in instruments are clipped to it."
        return PracticeStory(machine.name, machine.owner, (NoteEntry(story), *told, CircuitEntry(machine.spec)))


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
        raise SagenError("this job is no practice")
    machine = PracticeMachine(*found)
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
class Debrief(Command):
    """What a practice machine was, and how it went."""

    job: Job

    @property
    def doing(self) -> str:
        return "Working out the best plan"

    def perform(self, log=None, progress=go_on) -> str:
        level, seed = practice_of(self.job.records()) or (0, 0)
        if not level:
            raise SagenError("this job is no practice")
        first, now = PracticeMachine(level, seed), practised(self.job)
        was = " and ".join(
            f"{title_of(item)} ({knowledge().priors[item].part or 'nothing to change'})" for item in first.faults
        )
        parts = [PARTS[item.part] for item in self.job.records(RepairEntry) if item.part is not None]
        told = [f"It was: {was}." if was else "Nothing was wrong with it."]
        if parts:
            needless = f"; {now.needless} of them for nothing" if now.needless else ""
            told.append(f"Changed: {', '.join(parts)}{needless}.")
            told.append("It is not well yet." if now.faults else "It is well now.")
        told.append(f"One who knows the fault would have measured for {said_minutes(best_minutes(first))}.")
        return " ".join(told)
