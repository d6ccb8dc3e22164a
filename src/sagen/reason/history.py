"""A case, and what may have been wrong with the machine in the course of it: one set of fault modes in each epoch between two repairs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import CHOSEN_GEAR, Complaint, Gear, Origin, Part, State, Strategy
from sagen.reason.evidence import Captured, Complained, Evidence, MeterReading
from sagen.reason.facts import SOUND
from sagen.reason.learned import NOTHING, Learned
from sagen.reason.particle_set import SOUND_ROW, Row


@dataclass(frozen=True)
class Replaced:
    """A part was changed: before the job (`earlier`) or in it. Its old faults are gone; the new one may be bad."""

    part: Part
    origin: Origin = Origin.UNKNOWN
    earlier: bool = False
    began: bool = False  #: the complaint began with it


@dataclass
class Case:
    """A circuit and its trail, oldest first, ready to be weighed."""

    spec: CircuitSpec = field(default_factory=CircuitSpec)
    trail: tuple[Evidence | Replaced, ...] = ()
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST
    referenced: bool = False  #: whether a known-good capture of this circuit is at hand
    runs: str = ""  #: "yes", "no" or "at times"; "" where nobody said
    access: Mapping[str, float] = field(default_factory=dict)  #: minutes to get at a place, where stated
    opened: frozenset[str] = frozenset()  #: places that are open now
    owed: tuple[str, ...] = ()  #: what codes say is still owed: "relearn"
    #: places opened and closed by hand: after so many entries of the trail, which, and whether it was opened
    access_log: tuple[tuple[int, str, bool], ...] = ()
    learned: Learned = NOTHING  #: what the shop's own record adds to the shipped priors

    @property
    def engine_runs(self) -> str:
        """What is known of whether the engine runs: as said, else as the complaint has it."""
        if self.runs:
            return self.runs
        told = {item.name for item in self.trail if isinstance(item, Complained)}
        # A harness is moved on an engine that is only cranked, and a wheel that rolls turns on a lift.
        if any(isinstance(item, Captured | MeterReading) and item.state == State.RUNNING for item in self.trail):
            return "yes"
        return "no" if Complaint.NO_START in told else ""


@dataclass(frozen=True)
class FaultHistory:
    """A hypothesis: the fault modes in every epoch of the job, and the logarithm of its prior."""

    epochs: tuple[Row, ...]
    log: float

    @property
    def now(self) -> Row:
        return self.epochs[-1]


def since_repair(trail: Sequence[Evidence | Replaced]) -> list[Evidence | Replaced]:
    """The end of a trail, from behind the part that was last changed in this job.

    Parameters
    ----------
    trail : sequence of Evidence or Replaced
        oldest first
    """
    last = max((at for at, item in enumerate(trail) if isinstance(item, Replaced) and not item.earlier), default=-1)
    return list(trail[last + 1 :])


def row_of(fault: str, slot: int = 0) -> Row:
    return SOUND_ROW if fault == SOUND else ((fault, slot),)


def faults_of(row: Row) -> tuple[str, ...]:
    """The fault modes of a row by name; those of a sound circuit are one, `sound`."""
    return tuple(dict.fromkeys(fault for fault, _ in row)) or (SOUND,)


def with_trail(case: Case, more: Iterable[Evidence | Replaced]) -> Case:
    """The case with entries added at its end."""
    return replace(case, trail=(*case.trail, *more))
