"""Suspects by Bayes' rule over whole machines: fault modes, pairs of them, and what a changed part brought.

Every hypothesis is a course: which fault modes the machine had before the first repair of the job, and after each.
The evidence of each stretch is weighed on the particles of that stretch, all of it jointly, so that what one reading
tells of the battery or the pull-up counts in the next. Where few particles are left that explain the evidence, new ones
are drawn near them and counted by how much likelier they were drawn (adaptive importance sampling: Lepage, J. Comput.
Phys. 27, 1978), from the same even draws for every hypothesis, so that they stay comparable. Two halves of the draws
that disagree make the answer less sure, never more.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np

from sagen.machine.faults import all_faults, possible
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Estimate, Reason, Suspect
from sagen.model.vocabulary import CHOSEN_GEAR, ENGINE_RUNS, Cause, Complaint, Gear, Origin, Part, Strategy
from sagen.reason import words
from sagen.reason.crowd import END_SHARE, SOUND_ROW, Crowd, Places, Row
from sagen.reason.evidence import Captured, Complained, Evidence, MeterReading, ReadElsewhere
from sagen.reason.facts import SOUND, Knowledge, cause_of, knowledge, title_of
from sagen.reason.learned import NOTHING, Learned
from sagen.reason.magnitude import estimate
from sagen.reason.pictures import Pictures
from sagen.reason.scales import LEAST, SLIP

PARTICLES = 400  #: a fault mode
SEED = 20_11
#: a reason weaker than this many bits is not worth a sentence
LEAST_BITS = 0.35
#: what else stands in a code's or a complaint's row says much the same
TOLD_TOGETHER = (1.0, 0.6, 0.4, 0.3)
PERSISTS = 0.35  #: how much a complaint that outlasted an earlier repair speaks against a sound circuit
#: two faults at once: how much rarer than either would have it, and how many leading ones are paired
BOTH, PAIRED = 0.1, 6
PAIRED_AFTER_CHANGE = 4
#: where fewer particles than this share the weight of a hypothesis that is not this far behind (nats; a starved one may be
#: further), new ones are drawn
STARVED, CLOSE, STARVED_CLOSE, PAIR_CLOSE = 18.0, 3.5, 6.0, 1.5
#: how often, how many, and from how many the guesses are learned; bins of a guess, standard deviations beyond chance from
#: which a coordinate counts as told, and what of a guess stays flat
ROUNDS, REDRAWN, LEARNED_FROM = 4, 240, 50.0
BINS, TOLD_SIGMAS, STILL_FLAT = 40, 3.0, 0.15
KEPT_CROWDS = 24


@dataclass(frozen=True)
class Replaced:
    """A part was changed: before the job (`earlier`) or in it. Its old faults are gone; the new one may be bad."""

    part: Part
    origin: Origin = Origin.UNKNOWN
    earlier: bool = False
    began: bool = False  #: the complaint began with it


BEGAN_WITH_IT, MOST_BAD = 4.0, 0.6  #: how much likelier the new part, or what was touched, is bad then


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
        if any(isinstance(item, Captured | MeterReading) and item.state in ENGINE_RUNS for item in self.trail):
            return "yes"
        return "no" if Complaint.NO_START in told else ""


@dataclass(frozen=True)
class Course:
    """A hypothesis: the fault modes in every stretch of the job, and the logarithm of its prior."""

    stretches: tuple[Row, ...]
    log: float

    @property
    def now(self) -> Row:
        return self.stretches[-1]


@dataclass(frozen=True)
class Cloud:
    """The particles of one hypothesis as the evidence left them: places, shape (particles, columns), and weights."""

    row: Row
    cube: np.ndarray
    weights: np.ndarray


@dataclass(frozen=True)
class Posterior:
    """Hypotheses (tuples of fault modes; one or two) and their probabilities, adding up to 1."""

    faults: tuple[tuple[str, ...], ...]
    p: np.ndarray
    used: tuple[Evidence, ...] = ()
    odd: tuple[str, ...] = ()  #: readings that no fault explains, said in words
    clouds: tuple[Cloud, ...] = ()
    #: the least that the leading cause would have without any one reading, look or recording
    survives: float = 1.0
    #: probabilities without the piece that the leading cause hangs on most
    doubted: np.ndarray | None = None
    #: for every piece used, its likelihood under each fault mode by itself
    alone: tuple[dict[str, float], ...] = ()
    generations: Mapping[Part, int] = field(default_factory=dict)
    #: where nothing is wrong any more: what there was before the last repair, and how likely
    left: Mapping[str, float] = field(default_factory=dict)
    #: of every piece used, whether it is of what stood there before the last repair
    before: tuple[bool, ...] = ()

    def by_cause(self) -> dict[Cause, float]:
        """Probability of each cause; a pair counts half for either of its causes."""
        return self._shared(cause_of)

    def by_fault(self) -> dict[str, float]:
        return self._shared(str)

    def _shared(self, name_of) -> dict:
        out: dict = {}
        for faults, p in zip(self.faults, self.p, strict=True):
            for fault in faults:
                out[name_of(fault)] = out.get(name_of(fault), 0.0) + float(p) / len(faults)
        return out

    def cloud_of(self, fault: str) -> Cloud | None:
        """The particles of the likeliest hypothesis in which a fault mode stands now."""
        best = max(
            (k for k, faults in enumerate(self.faults) if fault in faults), key=lambda k: self.p[k], default=None
        )
        return self.clouds[best] if best is not None and best < len(self.clouds) else None


class World:
    """One kind of circuit, ready to be asked. Crowds once made, and what was read of them, are remembered."""

    def __init__(self, spec: CircuitSpec, facts: Knowledge | None = None, particles: int = PARTICLES, seed: int = SEED):
        self.spec, self.facts, self.particles = spec, facts or knowledge(), particles
        self.faults: tuple[str, ...] = (SOUND, *(item.slug for item in possible(spec)))
        self.places = Places(spec, self.facts)
        self.cube = self.places.cube(particles, seed)
        # Asked from the window's two threads at once.
        self.lock = threading.RLock()
        self._crowds: dict[tuple, Crowd] = {}

    def crowd(self, rows: tuple[Row, ...], generations: Mapping[Part, int] | None = None) -> Crowd:
        """The particles of some rows on the world's own cube."""
        with self.lock:
            key = (rows, tuple(sorted((generations or {}).items())))
            if key not in self._crowds:
                if len(self._crowds) >= KEPT_CROWDS:
                    first = next(iter(self._crowds))
                    del self._crowds[first]
                self._crowds[key] = self.crowd_of(rows, self.cube, generations)
            return self._crowds[key]

    def crowd_of(self, rows, cube: np.ndarray, generations: Mapping[Part, int] | None = None) -> Crowd:
        """The particles of some rows on a cube of their own."""
        return Crowd(self.spec, self.facts, self.places, rows, cube, generations)

    def singles(self) -> Crowd:
        """Every fault mode by itself, the sound circuit first."""
        return self.crowd(tuple(row_of(fault) for fault in self.faults))

    def expected(self, point: str, state: str, fault: str = SOUND, *, ohms: bool = False) -> np.ndarray | None:
        """What would be read under a fault mode before anything is measured, V or ohm, sorted; None where it cannot
        be read."""
        with self.lock:
            found = self.singles().reading(point, state, ohms)
            return None if found is None else np.sort(found[self.faults.index(fault)])


_WORLDS: dict[str, World] = {}
_WORLDS_LOCK = threading.Lock()
MOST_WORLDS = 12


def world_of(spec: CircuitSpec) -> World:
    """The world of a kind of circuit, made once."""
    key = spec.model_dump_json(exclude={"bank", "position"})
    with _WORLDS_LOCK:
        if key not in _WORLDS:
            if len(_WORLDS) >= MOST_WORLDS:
                _WORLDS.clear()
            _WORLDS[key] = World(spec)
        return _WORLDS[key]


def row_of(fault: str, slot: int = 0) -> Row:
    return SOUND_ROW if fault == SOUND else ((fault, slot),)


def faults_of(row: Row) -> tuple[str, ...]:
    """The fault modes of a row by name; those of a sound circuit are one, `sound`."""
    return tuple(dict.fromkeys(fault for fault, _ in row)) or (SOUND,)


def normalised(log: np.ndarray) -> np.ndarray:
    """Probabilities from logarithms of weights."""
    weight = np.exp(log - log.max())
    return weight / weight.sum()


def _log_mean(log: np.ndarray, axis: int = -1) -> np.ndarray:
    top = log.max(axis=axis, keepdims=True)
    return np.squeeze(top, axis) + np.log(np.exp(log - top).mean(axis=axis))


# the courses --------------------------------------------------------------------------------------------------


def _prior(case: Case, world: World) -> list[Course]:
    correlated = any(item.about_timing for item in case.trail if isinstance(item, Evidence))
    weights = case.learned.weights(world.facts, world.faults, case.spec.role, correlated=correlated)
    return [Course((row_of(fault),), float(np.log(p))) for fault, p in zip(world.faults, weights, strict=True)]


def _slot(row: Row) -> int:
    return max((slot for _, slot in row), default=-1) + 1


def _after_change(change: Replaced, courses: list[Course], world: World, learned: Learned = NOTHING) -> list[Course]:
    """Courses after a part was changed: its faults left with it, and the new one is bad with its origin's chance."""
    facts = world.facts
    causes, bad = facts.parts[Part(change.part)], learned.bad(facts, Origin(change.origin))
    if change.began:
        bad = min(BEGAN_WITH_IT * bad, MOST_BAD)
    modes = [fault for fault in world.faults if fault != SOUND and cause_of(fault) in causes]
    usual = learned.weights(facts, modes, world.spec.role)
    likely = [modes[k] for k in np.argsort(-usual)[:PAIRED_AFTER_CHANGE]]
    out: dict[tuple[Row, ...], float] = {}

    def add(stretches: tuple[Row, ...], p: float) -> None:
        if p > 0:
            out[stretches] = out.get(stretches, 0.0) + p

    def follow(course: Course, row: Row) -> tuple[Row, ...]:
        # What was changed before the job has no evidence of its own stretch.
        return (row,) if change.earlier else (*course.stretches, row)

    for course in courses:
        p = float(np.exp(course.log))
        left = tuple(item for item in course.now if cause_of(item[0]) not in causes)
        gone = left != course.now
        slot = min(_slot(course.now), 2)
        cured = change.earlier and gone and not left
        if left:
            add(follow(course, left), p * (1 - bad if modes else 1.0))
            for each in likely if len(left) == 1 else ():
                add(follow(course, (*left, (each, slot))), p * bad / len(likely))
        else:
            # Of machines whose fault left with the part none would have come in with the complaint still there.
            add(follow(course, SOUND_ROW), 0.0 if cured else p * (1 - bad) * (PERSISTS if change.earlier else 1.0))
            for mode, share in zip(modes, usual, strict=True):
                add(follow(course, row_of(mode, 0 if change.earlier else slot)), p * bad * float(share))
    total = sum(out.values())
    return [Course(stretches, float(np.log(p / total))) for stretches, p in out.items()]


def _courses(case: Case, world: World) -> tuple[list[Course], list[tuple[int, Evidence]], list[dict[Part, int]]]:
    """Every course, each piece of evidence with its stretch, and how often each part had been changed by then."""
    courses, pieces, generations = _prior(case, world), [], [{}]
    for item in case.trail:
        if isinstance(item, Replaced):
            courses = _after_change(item, courses, world, case.learned)
            if not item.earlier:
                generations.append({**generations[-1], item.part: generations[-1].get(item.part, 0) + 1})
        else:
            pieces.append((len(generations) - 1, item))
    return courses, pieces, generations


def _pairs(courses: list[Course], logs: np.ndarray, world: World) -> list[Course]:
    """Two faults at once, of the leading ones of different causes: rarer than either, but a machine may have them."""
    order = [k for k in np.argsort(-logs) if len(courses[k].now) == 1 and len(courses[k].stretches) == 1][:PAIRED]
    out = []
    for a, b in combinations(order, 2):
        (one, _), (other, _) = courses[a].now[0], courses[b].now[0]
        if cause_of(one) != cause_of(other):
            rows = (((one, 0), (other, 1)),)
            out.append(Course(rows, courses[a].log + courses[b].log + np.log(BOTH)))
    return out


# the weights --------------------------------------------------------------------------------------------------


def _weighed(
    courses: list[Course],
    pieces: list[tuple[int, Evidence]],
    generations: list[dict[Part, int]],
    world: World,
    cube: np.ndarray | None = None,
) -> tuple[list[Evidence], np.ndarray]:
    """The pieces that say anything, and their log-likelihoods, shape (pieces, courses, particles).

    `cube`, shape (courses, particles, columns), gives each course its own particles instead of the world's.
    """
    used, logs = [], []
    told = 0
    for stretch, parts in enumerate(generations):
        rows = [course.stretches[min(stretch, len(course.stretches) - 1)] for course in courses]
        if cube is None:
            unique = tuple(dict.fromkeys(rows))
            crowd, place = world.crowd(unique, parts), [unique.index(row) for row in rows]
        else:
            crowd, place = world.crowd_of(rows, cube, parts), None
        pictures = Pictures()
        for when, piece in pieces:
            if when != stretch:
                continue
            found = piece.likelihood(crowd, pictures, world.facts)
            if found is None:
                continue
            log = np.log(np.maximum(np.broadcast_to(found, crowd.shape), 1e-12))
            if piece.told:
                log = log * TOLD_TOGETHER[min(told, len(TOLD_TOGETHER) - 1)]
                told += 1
            used.append(piece)
            logs.append(log if place is None else log[place])
    shape = (len(courses), cube.shape[1] if cube is not None else world.particles)
    return used, np.array(logs).reshape(len(logs), *shape)


def _effective(log: np.ndarray) -> np.ndarray:
    """Effective number of particles of each course."""
    weight = np.exp(log - log.max(axis=1, keepdims=True))
    return weight.sum(axis=1) ** 2 / (weight**2).sum(axis=1)


def infer(case: Case, *, world: World | None = None) -> Posterior:
    """The posterior over fault modes, pairs of leading ones, and what a changed part brought."""
    world = world or world_of(case.spec)
    with world.lock:
        return _infer(case, world)


def _infer(case: Case, world: World) -> Posterior:
    courses, pieces, generations = _courses(case, world)
    used, logs = _weighed(courses, pieces, generations, world)
    total = logs.sum(axis=0)
    prior = np.array([course.log for course in courses])
    # One piece alone tells no two faults apart from one.
    if sum(isinstance(item, MeterReading | Captured) for item in used) > 1:
        more = _pairs(courses, prior + _log_mean(total), world)
        if more:
            _, extra = _weighed(more, pieces, generations, world)
            courses, logs = [*courses, *more], np.concatenate([logs, extra], axis=1)
            total = logs.sum(axis=0)
            prior = np.array([course.log for course in courses])
    evidence = _log_mean(total)
    half = world.particles // 2
    halves = [_log_mean(total[:, part]) for part in (slice(0, half), slice(half, None))]
    clouds = [Cloud(course.now, world.cube, normalised(row)) for course, row in zip(courses, total, strict=True)]
    ends = [logs[:, k] for k in range(len(courses))]
    close = _close(courses, prior, evidence, total)
    if len(close):
        chosen = [courses[k] for k in close]
        again = _redrawn(chosen, pieces, generations, world, total[close])
        for index, k in enumerate(close):
            evidence[k] = again.evidence[index]
            halves[0][k], halves[1][k] = again.halves[:, index]
            clouds[k] = Cloud(courses[k].now, again.cube[index], again.weights[index])
            ends[k] = again.logs[:, index]
    p = _humble(prior, evidence, halves)
    faults = tuple(faults_of(course.now) for course in courses)
    posterior = Posterior(
        faults,
        p,
        tuple(used),
        _odd(used, logs, world),
        tuple(clouds),
        generations=generations[-1],
        left=_left(courses, p),
        before=_before(used, pieces, len(generations) - 1),
    )
    # What a piece says by itself is told by particles that no other piece has chosen.
    alone = tuple(_alone(row, courses) for row in logs)
    survives, doubted = _survives(posterior, used, ends, clouds)
    return replace(
        posterior,
        p=_unconfirmed(posterior, survives, doubted, world.facts),
        survives=survives,
        doubted=doubted,
        alone=alone,
    )


#: what hangs on one reading, look or recording is not said surer than this: in a world outside our own model such calls
#: were right nine times in ten (benchmarks/RESULTS.md)
UNCONFIRMED = 0.89


def _unconfirmed(posterior: Posterior, survives: float, doubted: np.ndarray, facts: Knowledge) -> np.ndarray:
    """Probabilities of a call that hangs on one piece: drawn towards what they would be without it."""
    lead = max(posterior.by_cause().values())
    if survives >= facts.stakes.survives or lead <= UNCONFIRMED:
        return posterior.p
    share = (lead - UNCONFIRMED) / (lead - min(survives, UNCONFIRMED - 0.01))
    return (1 - share) * posterior.p + share * doubted


def _humble(prior: np.ndarray, evidence: np.ndarray, halves: list[np.ndarray]) -> np.ndarray:
    """Probabilities from all draws, drawn towards the mean of both halves where those are less sure of the leading."""
    p = normalised(prior + evidence)
    mean = np.mean([normalised(prior + half) for half in halves], axis=0)
    return mean if mean.max() < p.max() else p


def _close(courses: list[Course], prior: np.ndarray, evidence: np.ndarray, total: np.ndarray) -> np.ndarray:
    """The courses that are to be drawn anew: all that may yet come to lead, where some of them hang on few particles."""
    posterior = prior + evidence
    behind = posterior.max() - posterior
    few = _effective(total) < STARVED
    # A starved course is known too little: it may be further behind and yet come to lead.
    close = (behind < CLOSE) | (few & (behind < STARVED_CLOSE))
    # Pairs are many, and seldom lead: only one that does is worth the time.
    pairs = np.array([len(course.now) > 1 for course in courses])
    close = np.flatnonzero(close & ~(pairs & (behind > PAIR_CLOSE)))
    return close if np.any(few[close]) else close[:0]


class _Guess:
    """Where particles are worth drawing: along some coordinates a histogram, learned from those that explain the
    evidence; flat where they say nothing. Coordinates are taken as independent.

    Parameters
    ----------
    sets : int
        sets of particles, each with histograms of its own
    """

    def __init__(self, sets: int):
        self._tables: dict[tuple[int, int], np.ndarray] = {}
        self._sets = sets

    def learn(self, cube: np.ndarray, weights: np.ndarray) -> None:
        """Take the histograms of weighted particles where they differ from flat by more than so few do by chance.

        Parameters
        ----------
        cube : ndarray, shape (sets, particles, columns)
        weights : ndarray, shape (sets, particles)
        """
        sets, _, columns = cube.shape
        effective = 1.0 / (weights**2).sum(axis=1)
        place = (np.arange(sets)[:, None, None] * columns + np.arange(columns)) * BINS + _bins(cube)
        spread = np.broadcast_to(weights[..., None], cube.shape)
        share = np.bincount(place.ravel(), spread.ravel(), sets * columns * BINS).reshape(sets, columns, BINS)
        chance = effective[:, None] * ((share - 1 / BINS) ** 2).sum(axis=2) * BINS
        self._tables = {}
        for index, column in zip(*np.nonzero(chance > BINS - 1 + TOLD_SIGMAS * np.sqrt(2.0 * (BINS - 1))), strict=True):
            one = share[index, column]
            # A bin beside a full one may be as good.
            smooth = 0.5 * one + 0.25 * (np.roll(one, 1) + np.roll(one, -1))
            table = (1 - STILL_FLAT) * smooth * BINS + STILL_FLAT
            self._tables[int(index), int(column)] = table / table.mean()

    def draw(self, cube: np.ndarray) -> None:
        """Turn evenly drawn particles, shape (sets, particles, columns), into such as are worth drawing, in place."""
        for (index, column), table in self._tables.items():
            edges = np.concatenate([[0.0], np.cumsum(table) / table.sum()])
            cube[index, :, column] = np.interp(cube[index, :, column], edges, np.arange(BINS + 1) / BINS)

    def log(self, cube: np.ndarray) -> np.ndarray:
        """Logarithm of the density that particles were drawn with, shape (sets, particles)."""
        out = np.zeros(cube.shape[:2])
        for (index, column), table in self._tables.items():
            out[index] += np.log(table[_bins(cube[index, :, column])])
        return out


def _bins(places: np.ndarray) -> np.ndarray:
    return np.minimum((places * BINS).astype(np.intp), BINS - 1)


def _softened(log: np.ndarray, least: float) -> np.ndarray:
    """Weights of the particles of each row, tempered until at least so many count."""
    heat = np.ones(len(log))
    for _ in range(30):
        few = _effective(heat[:, None] * log) < least
        if not few.any():
            break
        heat[few] *= 0.75
    return _by_row(heat[:, None] * log)


def _by_row(log: np.ndarray) -> np.ndarray:
    weight = np.exp(log - log.max(axis=1, keepdims=True))
    return weight / weight.sum(axis=1, keepdims=True)


@dataclass(frozen=True)
class _Redrawn:
    """Courses on particles of their own."""

    evidence: np.ndarray  #: shape (courses,)
    halves: np.ndarray  #: the evidence of either half of the particles, shape (2, courses)
    cube: np.ndarray  #: shape (courses, particles, columns)
    weights: np.ndarray  #: shape (courses, particles)
    logs: np.ndarray  #: shape (pieces, courses, particles)


def _redrawn(courses, pieces, generations, world: World, first: np.ndarray) -> _Redrawn:
    """Particles drawn where they are likely to explain the evidence of each course, all from the same even draws, so that
    courses that are alike come out alike. `first` holds the log-likelihoods of the world's own particles, shape (courses,
    particles)."""
    guess = _Guess(len(courses))
    cube, gain = np.broadcast_to(world.cube, (len(courses), *world.cube.shape)), first
    kept: list[tuple] = []
    for attempt in range(ROUNDS):
        guess.learn(cube, _softened(gain, LEARNED_FROM))
        cube = np.repeat(world.places.cube(REDRAWN, SEED + attempt)[None], len(courses), axis=0)
        guess.draw(cube)
        logs = _weighed(courses, pieces, generations, world, cube)[1]
        gain = logs.sum(axis=0) - guess.log(cube)
        kept.append((cube, gain, logs))
    # The first rounds are for learning; the last two, drawn apart from one another, are the halves.
    (one, gain_one, logs_one), (other, gain_other, logs_other) = kept[-2:]
    halves = np.array([_log_mean(gain_one), _log_mean(gain_other)])
    both = np.concatenate([gain_one, gain_other], axis=1)
    return _Redrawn(
        _log_mean(both),
        halves,
        np.concatenate([one, other], axis=1),
        _by_row(both),
        np.concatenate([logs_one, logs_other], axis=2),
    )


def _before(used: list[Evidence], pieces: list[tuple[int, Evidence]], last: int) -> tuple[bool, ...]:
    earlier = {id(piece) for stretch, piece in pieces if stretch < last}
    return tuple(id(item) in earlier and not item.told for item in used)


def _left(courses: list[Course], p: np.ndarray) -> dict[str, float]:
    """What there was before the last repair on the courses on which nothing is wrong any more."""
    out: dict[str, float] = {}
    for course, share in zip(courses, p, strict=True):
        if not course.now and len(course.stretches) > 1:
            for fault in faults_of(course.stretches[-2]):
                out[fault] = out.get(fault, 0.0) + float(share)
    return out


def _survives(posterior: Posterior, used, ends: list[np.ndarray], clouds) -> tuple[float, np.ndarray]:
    """The least probability of the leading cause when any one reading, look or recording is left out, and the
    probabilities of all hypotheses then; `ends` holds the log-likelihoods of each course, shape (pieces, particles)."""
    causes = posterior.by_cause()
    lead = max(causes, key=causes.get)
    share = np.array([sum(cause_of(fault) == lead for fault in faults) / len(faults) for faults in posterior.faults])
    least, doubted = causes[lead], posterior.p
    for index, piece in enumerate(used):
        if piece.told or getattr(piece, "certain", False):
            continue  # what was seen and is certain is a fact
        most = MOST_BACK_OF_PICTURE if isinstance(piece, Captured | ReadElsewhere) else MOST_BACK
        # Particles stand for the whole evidence; without a piece each counts by so much more as it spoke against it.
        back = np.array(
            [
                np.log(np.maximum(np.exp(-rows[index]) @ cloud.weights, 1e-300))
                for rows, cloud in zip(ends, clouds, strict=True)
            ]
        )
        without = normalised(np.log(np.maximum(posterior.p, 1e-300)) + np.minimum(back - back.min(), most))
        if float(share @ without) < least:
            least, doubted = float(share @ without), without
    return least, doubted


#: nats that leaving out one piece may give back: of a recording the finding is in doubt, not that it was taken
MOST_BACK, MOST_BACK_OF_PICTURE = 12.0, 3.0


def _alone(log: np.ndarray, courses: list[Course]) -> dict[str, float]:
    """A piece's likelihood under each fault mode by itself, as the particles of the course have it."""
    out: dict[str, float] = {}
    means = np.exp(_log_mean(log))
    for course, mean in zip(courses, means, strict=True):
        faults = faults_of(course.now)
        if len(faults) == 1:
            out[faults[0]] = max(out.get(faults[0], 0.0), float(mean))
    return out


def _odd(used, logs: np.ndarray, world: World) -> tuple[str, ...]:
    """Readings that no fault explains, said in words."""
    out = []
    for piece, log in zip(used, logs, strict=True):
        if isinstance(piece, MeterReading) and np.exp(log).mean(axis=1).max() < UNEXPLAINED * SLIP * LEAST:
            out.append(words.unexplained(piece, world))
    return tuple(out)


UNEXPLAINED = 4.0  #: times the floor of a reading's likelihood


# what is said of it -------------------------------------------------------------------------------------------


def suspects(
    case: Case, posterior: Posterior, *, world: World | None = None, most_reasons: int = 8
) -> tuple[Suspect, ...]:
    """Causes, likeliest first, each named by its likeliest fault mode and with its evidence for and against."""
    world = world or world_of(case.spec)
    by_fault, by_cause = posterior.by_fault(), posterior.by_cause()
    rows = []
    for cause, p in by_cause.items():
        top = max((item for item in by_fault if cause_of(item) == cause), key=by_fault.get)
        reasons = _reasons(top, posterior, world)[:most_reasons]
        size = _estimate(top, posterior, world)
        rows.append(Suspect(cause, top, p, reasons, world.facts.priors[top].do, named(top, posterior, world), size))
    return tuple(sorted(rows, key=lambda row: -row.probability))


def named(fault: str, posterior: Posterior, world: World) -> str:
    """A fault mode in words, by the name of its end where most of its particles have come to it: open, shorted."""
    cloud = posterior.cloud_of(fault)
    end = next((name for name, at in all_faults()[fault].ends.items() if at == 1.0), "") if fault != SOUND else ""
    slot = next((slot for item, slot in cloud.row if item == fault), 0) if cloud else 0
    if end and cloud is not None and len(posterior.used):
        at_end = cloud.cube[:, world.places.column[f"severity.{slot}"]] < END_SHARE
        if float(cloud.weights[at_end].sum()) > MOSTLY:
            return end.replace("_", " ")
    return title_of(fault)


MOSTLY = 0.6


def _estimate(fault: str, posterior: Posterior, world: World) -> Estimate | None:
    cloud = posterior.cloud_of(fault)
    measured = any(isinstance(item, MeterReading | Captured) for item in posterior.used)
    if cloud is None or fault == SOUND or not measured:
        return None
    with world.lock:
        return estimate(fault, world.crowd_of((cloud.row,), cloud.cube[None], posterior.generations), cloud.weights)


def _reasons(fault: str, posterior: Posterior, world: World) -> tuple[Reason, ...]:
    """Each piece's weight: its likelihood under the fault against that under all others, in bits."""
    found: dict[str, Reason] = {}
    others = [this_fault for this_fault in world.faults if this_fault != fault]
    weight = dict(zip(others, world.facts.weights(others, world.spec.role), strict=True))
    before = posterior.before or (False,) * len(posterior.used)
    for piece, alone, earlier in zip(posterior.used, posterior.alone, before, strict=True):
        if fault not in alone:
            continue
        told = [other for other in others if other in alone]
        there = sum(weight[item] * alone[item] for item in told) / max(sum(weight[item] for item in told), 1e-9)
        bits = float(np.log2(max(alone[fault], 1e-9) / max(there, 1e-9)))
        if abs(bits) >= LEAST_BITS:
            text = words.reason(piece, fault, world)
            text = words.of_what_was_taken_out(text) if earlier else text
            found[text] = Reason(text, bits)
    return tuple(sorted(found.values(), key=lambda item: -abs(item.bits)))


def weigh(case: Case) -> tuple[tuple[Suspect, ...], Posterior]:
    """Suspects and the posterior behind them."""
    posterior = infer(case)
    return suspects(case, posterior), posterior


def with_trail(case: Case, more: Iterable[Evidence | Replaced]) -> Case:
    """The case with entries added at its end."""
    return replace(case, trail=(*case.trail, *more))
