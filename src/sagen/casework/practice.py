"""A machine with a hidden fault, drawn by level and seed, and Sagen playing it by itself: checks, repairs, what they cost.

The benchmarks' closed loop is this `play`, in this world and in one that shares nothing with it.
"""

from __future__ import annotations

import time
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from sagen.casework.course import FAMILIES, PracticeCase, case_in, course
from sagen.casework.examination import capture_entry, kept_name
from sagen.kinds import broken, examine
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.machine.simulated import SimulatedMachine
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.practice import Practice
from sagen.model.vocabulary import Cause, CheckKind, CodesBack, Complaint, FindingKind, Part, Quantity
from sagen.reason.askable import still_complained_of
from sagen.reason.case import capture_piece, cranked_piece
from sagen.reason.checks import NextCheck, advice, next_checks
from sagen.reason.evidence import Code, Complained, Evidence, Inspected, MeterReading, Scanned, Stayed
from sagen.reason.facts import SOUND, CheckFacts, cause_of, knowledge
from sagen.reason.history import Case, Replaced, with_trail
from sagen.reason.posterior import Posterior
from sagen.reason.weights import infer
from sagen.reason.world import world_of

MOST_CHECKS = 16
#: what a new sensor that is bad has, by what its kind can have
BAD_WHEN_NEW = ("sensor_dead", "coil_weak", "element_cracked")
MOST_REPAIRS = 3
TELLS = 0.004  #: bits; a check that tells less is not asked
#: of the plan that knows the fault: how many checks are tried at each step, and how many are taken
TRIED, MOST_PLANNED = 4, 5

NAMES = (
    "Ottery Pipit 1.2",
    "Hollin Teal 3",
    "Garrow Siskin 2.0",
    "Marl Dotterel 4 tractor",
    "Fenwick Twite 1.6",
    "Sable Knot 2.4",
)
OWNERS = (
    tr("a baker on the way to market"),
    tr("a farmer in the middle of haymaking"),
    tr("a carrier with two more stops"),
    tr("a teacher"),
    tr("a ferry's crew"),
)


@dataclass(frozen=True)
class Level:
    """How hard a machine is: sizes of its faults, whether some come and go, whether nothing may be wrong, how often a part was
    changed before for nothing, how often a new part is bad, and how many faults there are."""

    sizes: tuple[float, float]
    comes_and_goes: bool = False
    sound_too: bool = False
    history: float = 0.0
    bad_part: float = 0.0
    faults: int = 1
    families: tuple[str, ...] = tuple(FAMILIES)
    draws: tuple[tuple[str, ...], ...] = ()  #: sets of faults of which one is drawn; () for any


LEVELS = {
    1: Level((0.9, 1.0), families=("crank hall",)),
    2: Level((0.6, 1.0), sound_too=True),
    3: Level((0.3, 1.0), comes_and_goes=True, sound_too=True, history=0.5),
    4: Level((0.15, 1.0), comes_and_goes=True, sound_too=True, history=0.5, bad_part=0.35),
    5: Level((0.3, 1.0), comes_and_goes=True, history=0.5, bad_part=0.35, faults=2),
}


def _rules(level: int, lesson: str, handed: PracticeCase | None) -> Level:
    """What a machine is drawn by; raises SagenError for a level or a lesson that there is not."""
    if handed is not None:
        return Level((0.0, 1.0))
    if not lesson:
        if level not in LEVELS:
            raise SagenError(tr("level {level}: there are levels 1 to {most}", level=level, most=len(LEVELS)))
        return LEVELS[level]
    if lesson not in course():
        raise SagenError(unknown_name("lesson", lesson, course()))
    row = course()[lesson]
    return Level(row.sizes, True, False, row.history, row.bad_part, families=(row.family,), draws=row.faults)


class Machine(Protocol):
    """What can be played: a circuit, what was told of it when it came in, and answers to checks."""

    spec: CircuitSpec
    told: list[Evidence | Replaced]
    good: bool  #: whether a known-good capture of its circuit is on the shelf

    def answer(self, check: CheckFacts) -> tuple[Evidence, ...]:
        """What comes of a check."""

    def repair(self, part: Part) -> bool:
        """Change or mend a part; whether the machine is well then."""


class PracticeMachine:
    """A machine of the simulator. What is drawn depends on level and seed alone; the same check asked again may read a little
    otherwise."""

    def __init__(
        self, level: int, seed: int, *, family: str = "", lesson: str = "", handed: PracticeCase | None = None
    ):
        if not 0 <= seed < 2**32:
            raise SagenError(tr("seed {seed}: a whole number from 0 to {most}", seed=seed, most=2**32 - 1))
        self.level, self.seed = _rules(level, lesson, handed), seed
        rng = np.random.default_rng([seed, level, *(family or lesson).encode()])
        self.family = family or str(rng.choice(self.level.families))
        self.spec = handed.circuit if handed is not None else FAMILIES[self.family]
        self.name, self.owner = str(rng.choice(NAMES)), str(rng.choice(OWNERS))
        self.faults: dict[str, float] = {}
        self.told: list[Evidence | Replaced] = []
        if handed is not None:
            self._take(handed)
        else:
            self._draw(rng)
        self.bad_part = rng.uniform() < self.level.bad_part
        self.good = seed % 2 == 0
        self.needless = 0  #: repairs that mended nothing
        self._asked: dict[str, int] = {}

    @classmethod
    def of(cls, practice: Practice) -> PracticeMachine:
        """The machine that a practice job is about.

        Raises
        ------
        SagenError
            for a lesson that there is not, or a case that cannot be read.
        """
        handed = case_in(practice.case) if practice.case else None
        return cls(practice.level, practice.seed, lesson=practice.lesson, handed=handed)

    def _take(self, handed: PracticeCase) -> None:
        """A teacher's machine: what is wrong with it and what was told are as they were handed over."""
        self.faults, self.first = dict(handed.faults), next(iter(handed.faults), SOUND)
        self.told += [Replaced(part, earlier=True) for part in handed.changed_before]
        self.told += [Complained("", handed.complaint or Complaint.LAMP_ONLY)]
        self.told += [Code("", "P0000", kind) for kind in handed.codes]

    def _draw(self, rng: np.random.Generator) -> None:
        """What is wrong with it, what it was brought in with, and what was changed for nothing before."""
        facts = knowledge()
        slugs = [SOUND] if self.level.sound_too else []
        slugs += [
            item.slug for item in possible(self.spec) if self.level.comes_and_goes or item.slug not in facts.comings
        ]
        weights = facts.weights(slugs, self.spec.role)
        weights = weights / weights.sum()
        while True:
            if self.level.draws:
                drawn = list(self.level.draws[int(rng.integers(len(self.level.draws)))])
            else:
                drawn = [str(item) for item in rng.choice(slugs, size=self.level.faults, replace=False, p=weights)]
            if len({cause_of(item) for item in drawn}) == len(drawn):
                told = _told(drawn[0], rng)
                if told is not None:
                    break
        self.faults = {item: float(rng.uniform(*self.level.sizes)) for item in drawn if item != SOUND}
        self.first = drawn[0]
        if rng.uniform() < self.level.history:
            wrong = [
                part
                for part in facts.parts
                if cause_of(drawn[0]) not in facts.parts[part] and part in (Part.SENSOR, Part.HARNESS)
            ]
            self.told += [Replaced(part, earlier=True) for part in wrong[:1]]
        self.told += told

    @property
    def causes(self) -> set[str]:
        """What is wrong with it now."""
        return {str(cause_of(item)) for item in self.faults} or {str(Cause.NONE)}

    @property
    def complaint(self) -> Complaint:
        return next(Complaint(item.name) for item in self.told if isinstance(item, Complained))

    def simulated(self) -> SimulatedMachine:
        """The machine with what is wrong with it now."""
        return broken(self.spec, list(self.faults.items()), self.seed)

    def _rng(self, slug: str) -> np.random.Generator:
        self._asked[slug] = self._asked.get(slug, 0) + 1
        return np.random.default_rng([self.seed, zlib.crc32(slug.encode()), self._asked[slug]])

    def answer(self, check: CheckFacts) -> tuple[Evidence, ...]:
        """What the simulated machine shows to a meter, a recorder, an eye or a tester."""
        return _ANSWERS[check.kind](self, check, self._rng(check.slug))

    def repair(self, part: Part) -> bool:
        """What belongs to the part is well; a new sensor may be bad itself."""
        cured = knowledge().cured_by(part)
        left = {item: size for item, size in self.faults.items() if item not in cured}
        self.needless += len(left) == len(self.faults)
        self.faults = left
        if part == Part.SENSOR and self.bad_part:
            there = {item.slug for item in possible(self.spec)}
            self.faults[next(item for item in BAD_WHEN_NEW if item in there)] = 1.0
            self.bad_part = False
        return not self.faults


def _told(fault: str, rng: np.random.Generator) -> list[Evidence] | None:
    """The complaint and the code that a fault brings in; None where it brings neither, and nobody comes."""
    facts, told = knowledge(), []
    for table, make in ((facts.complaints, Complained), (facts.codes, lambda _, kind: Code("", "P0000", kind))):
        shares = np.array([table[item].of(fault) for item in table])
        if rng.uniform() < min(shares.sum(), 1.0):
            told.append(make("", str(rng.choice(list(table), p=shares / shares.sum()))))
    return told if len(told) == 2 else None


def _metered(machine: PracticeMachine, check: CheckFacts, rng: np.random.Generator) -> tuple[Evidence, ...]:
    reading = read(machine.simulated(), check.point, check.state)
    ohms = reading.quantity == Quantity.OHMS
    value = float(reading.value * (1 + rng.normal(0, 0.004)) + rng.normal(0, 0.05 if ohms else 0.004))
    return (MeterReading("", check.point, check.state, max(value, 0.0) if ohms else value, ohms),)


def _recorded(machine: PracticeMachine, check: CheckFacts, rng: np.random.Generator) -> tuple[Evidence, ...]:
    capture, sheet = record(machine.simulated(), check.state, seconds=2.4, sfreq=20_000.0)
    good = record(broken(machine.spec, [], 9_999), check.state, seconds=2.4, sfreq=20_000.0) if machine.good else None
    entry = capture_entry(examine(capture, sheet, reference=good), kept_name(good))
    return tuple(item for item in (capture_piece(entry, machine.spec), cranked_piece(entry.cadence)) if item)


def _scanned(machine: PracticeMachine, check: CheckFacts, rng: np.random.Generator) -> tuple[Evidence, ...]:
    facts = knowledge()
    if check.slug == "rpm_cranking":
        capture, sheet = record(machine.simulated(), "cranking", seconds=2.4, sfreq=20_000.0)
        silent = any(finding.kind == FindingKind.NO_SIGNAL for finding in examine(capture, sheet).findings)
        return (Scanned("", "rpm_cranking", 0.0 if silent else 205.0),)
    fault = next(iter(machine.faults), SOUND)
    shares = np.array([facts.codes_back[item].of(fault) for item in CodesBack])
    return (Scanned("", "codes_back", str(rng.choice([str(item) for item in CodesBack], p=shares / shares.sum()))),)


def _looked(machine: PracticeMachine, check: CheckFacts, rng: np.random.Generator) -> tuple[Evidence, ...]:
    for name, row in check.outcome.items():
        if rng.uniform() < max(row.get(fault, row["other"]) for fault in (machine.faults or {SOUND: 0.0})):
            return (Inspected("", check.slug, name),)
    return (Inspected("", check.slug, ""),)


_ANSWERS: dict[CheckKind, Callable[[PracticeMachine, CheckFacts, np.random.Generator], tuple[Evidence, ...]]] = {
    CheckKind.METER: _metered, CheckKind.CAPTURE: _recorded, CheckKind.SCAN: _scanned, CheckKind.LOOK: _looked,
}  # fmt: skip


@dataclass
class Played:
    """One machine from its code to a call."""

    called: str  #: the cause that leads at the end
    claimed: float  #: its probability
    minutes: float = 0.0
    checks: list[str] = field(default_factory=list)
    parts: list[Part] = field(default_factory=list)
    well: bool = False  #: whether it was well after a repair
    swapped: bool = False  #: a part changed for a known good one cured it
    milliseconds: float = 0.0  #: of a weighing with its next checks
    case: Case | None = None  #: what was known at the last weighing


def play(
    machine: Machine, *, repairs: bool = False, most: int = MOST_CHECKS, tick: Callable[[], bool] = lambda: True
) -> Played:
    """Let Sagen choose every check and answer it, until it would repair, or nothing pays any more.

    Parameters
    ----------
    machine : Machine
    repairs : bool
        whether what is called is repaired, and gone on where the machine is not well; else the first call ends it
    most : int
        so many checks at most
    tick : callable
        asked before every weighing; answers False to stop

    Returns
    -------
    Played
    """
    world = world_of(machine.spec)
    case = Case(machine.spec, tuple(machine.told), referenced=machine.good)
    played, spent, weighings = Played("", 0.0), 0.0, 0
    while True:
        if not tick():
            raise SagenError("stopped")
        began = time.perf_counter()
        posterior = infer(case, world=world)
        checks = next_checks(case, posterior, world=world)
        said = advice(case, posterior, checks)
        spent, weighings = spent + time.perf_counter() - began, weighings + 1
        played.case, (played.called, played.claimed) = case, leading(posterior)
        played.milliseconds = 1e3 * spent / weighings
        telling = [check for check in checks if check.gain_bits >= TELLS]
        # Below what nothing is repaired at, the advice is to measure on, however dear the next check.
        # What the call waits for is taken once more, as the advice says.
        pays = bool(telling) and (telling[0].pays or telling[0].again)
        stalled = not telling or (
            not pays and played.claimed >= knowledge().stakes.never_below and not still_complained_of(case)
        )
        done = said.enough or len(played.checks) >= most or stalled
        if done:
            part = _part_of(posterior)
            if not repairs or part is None or len(played.parts) >= MOST_REPAIRS:
                return played
            played.parts.append(part)
            played.well = machine.repair(part)
            if played.well:
                return played
            case = still_there(case, part)
            continue
        best = telling[0]
        played.minutes += best.total_minutes
        played.checks.append(best.check.slug)
        if best.check.kind == CheckKind.SWAP:
            played.parts.append(Part.SENSOR)
            if machine.repair(Part.SENSOR):
                played.called, played.swapped, played.well = str(Cause.SENSOR), True, True
                return played
            case = still_there(case, Part.SENSOR)
            continue
        told = machine.answer(best.check)
        case = with_trail(case, taken_again(told) if best.again else told)


def taken_again(told: tuple[Evidence, ...]) -> tuple[Evidence, ...]:
    """What a check answers that was asked before: readings and looks that are as if taken afresh.

    Parameters
    ----------
    told : tuple of Evidence
    """
    return tuple(replace(item, again=True) if isinstance(item, MeterReading | Inspected) else item for item in told)


def still_there(case: Case, part: Part) -> Case:
    """The case once a part was changed and what the customer complained of was still there.

    Parameters
    ----------
    case : Case
    part : Part
        with an original one
    """
    return with_trail(case, [Replaced(part, "original"), Stayed("", True)])


def leading(posterior: Posterior) -> tuple[str, float]:
    """The leading cause, and how likely it is.

    Parameters
    ----------
    posterior : Posterior
    """
    causes = posterior.by_cause()
    lead = max(causes, key=causes.get)
    return str(lead), float(causes[lead])


def _part_of(posterior: Posterior) -> Part | None:
    """What the leading fault is repaired by; None where nothing is wrong."""
    faults = posterior.by_fault()
    lead = max(posterior.by_cause(), key=posterior.by_cause().get)
    if lead == Cause.NONE:
        return None
    fault = max((item for item in faults if cause_of(item) == lead), key=faults.get)
    return knowledge().priors[fault].part


def best_plan(machine: PracticeMachine) -> list[NextCheck]:
    """The shortest plan that was found by one who knows the fault, from the same start: at each step the check whose answer brings
    the true cause most for its minutes, until Sagen would repair that."""
    world = world_of(machine.spec)
    case, plan, true = Case(machine.spec, tuple(machine.told), referenced=machine.good), [], machine.causes
    for _ in range(MOST_PLANNED):
        posterior = infer(case, world=world)
        checks = next_checks(case, posterior, world=world)
        if advice(case, posterior, checks).enough and leading(posterior)[0] in true:
            return plan
        telling = [item for item in checks if item.gain_bits >= TELLS][:TRIED]
        if not telling:
            return plan
        before = _share(posterior, true)
        tried = [_tried(machine, case, item, world, true, before) for item in telling]
        best, case = max(tried, key=lambda item: item[0])[1:]
        plan.append(best)
        if best.check.kind == CheckKind.SWAP:
            return plan
    return plan


def best_minutes(machine: PracticeMachine) -> float:
    """The minutes of that plan."""
    return sum((check.total_minutes for check in best_plan(machine)), 0.0)


def _share(posterior: Posterior, true: set[str]) -> float:
    return sum(p for cause, p in posterior.by_cause().items() if str(cause) in true)


def _tried(
    machine, case: Case, check: NextCheck, world, true: set[str], before: float
) -> tuple[float, NextCheck, Case]:
    """How much nearer to the true cause a check brings, a minute, with its answer taken in."""
    if check.check.kind == CheckKind.SWAP:
        return (1.0 - before if str(Cause.SENSOR) in true else -1.0) / max(check.total_minutes, 0.5), check, case
    after = with_trail(case, machine.answer(check.check))
    return (_share(infer(after, world=world), true) - before) / max(check.total_minutes, 0.5), check, after


@dataclass(frozen=True)
class Scored:
    """How Sagen did with a machine, beside the plan of one who knows the fault."""

    seed: int
    level: int
    right: bool  #: it is well, or nothing was wrong with it, and nothing was changed for nothing
    cause: str
    claimed: float
    minutes: float
    best_minutes: float
    parts: int

    def as_row(self) -> dict:
        return {
            "seed": self.seed, "level": self.level, "right": self.right, "cause": self.cause, "claimed": round(self.claimed, 4),
            "minutes": round(self.minutes, 1), "best_minutes": round(self.best_minutes, 1), "parts": self.parts,
        }  # fmt: skip


def score(seed: int, level: int, lesson: str = "") -> Scored:
    """Draw a machine, play it and plan it; the same for the same seed and level, or lesson.

    Raises
    ------
    SagenError
        for a level, a lesson or a seed that there is not.
    """
    machine = PracticeMachine(level, seed, lesson=lesson)
    sound = not machine.faults
    played = play(machine, repairs=True)
    right = not machine.needless and (sound or played.well)
    best = min(best_minutes(PracticeMachine(level, seed, lesson=lesson)), played.minutes)
    return Scored(seed, level, right, played.called, played.claimed, played.minutes, best, len(played.parts))
