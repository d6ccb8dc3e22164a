"""The next best check: by the minutes that it saves, for each minute that it takes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.language import Kept, later, lowered, said_now, tr, worded
from sagen.model.trail import PLACE_OF_PART
from sagen.model.vocabulary import (
    ENGINE_ROLES,
    OHM_POINTS,
    STARTING,
    Capability,
    CheckKind,
    CodesBack,
    FindingKind,
    Gear,
    Origin,
    Place,
    Role,
    Scan,
    State,
    Strategy,
)
from sagen.model.words import PARTS
from sagen.reason import words
from sagen.reason.askable import (
    HARDLY_RPM,
    SLOW_RPM,
    asked_again,
    can_be_asked,
    done_already,
    excluded_by,
    gone_since_repair,
    moves_shaft,
    still_complained_of,
    timing_in_doubt,
)
from sagen.reason.diagnostics import UNCONFIRMED
from sagen.reason.evidence import (
    UNEVEN,
    Captured,
    Inspected,
    MeterReading,
    Scanned,
    outcome_shares,
    pulses_unseen,
    softened,
)
from sagen.reason.facts import SOUND, CheckFacts, Knowledge, Stakes, cause_of, knowledge
from sagen.reason.history import Case, Replaced
from sagen.reason.particle_set import ParticleSet
from sagen.reason.plan import Block, Step, next_block
from sagen.reason.posterior import Posterior
from sagen.reason.recording_likelihood import by_level, readable, seen_next
from sagen.reason.scales import on_scale
from sagen.reason.suspects import named
from sagen.reason.world import World, world_of

#: particles of each hypothesis that a check's outcomes are foreseen on
FORESEEN = 48
#: hypotheses below this are left out when checks are ranked
LEAST_LIKELY = 4e-4
#: how far what a call hangs on is thought to be a slip when the next check is chosen
DOUBTED = 0.35
#: width of a bin in which readings are told apart, on the scale of comparison
BIN = {False: 0.25, True: 0.2}
#: share of foreseen readings that fall anywhere
ANYWHERE = 0.02
#: how much longer a check counts under a strategy that prefers other gear
STRATEGY = {Strategy.MOST: {}, Strategy.METER: {Gear.SCOPE: 1.8}, Strategy.SCOPE: {Gear.METER: 1.8}}
#: kinds of check as the command line calls them
KIND_WORDS = {CheckKind.LOOK: "inspection"}


#: how the text of a check begins that was answered and is to be taken once more
ONCE_MORE = tr("Once more: ")


@dataclass(frozen=True)
class NextCheck:
    """A check with what it would separate, in a job as it stands."""

    check: CheckFacts
    minutes: float  #: with what has to be set up for it
    access: float  #: and to get at its place, where that is not open
    gain_bits: float
    saves: float  #: minutes to a proven repair that it is expected to save
    separates: tuple[str, ...]
    expect: str
    why: str
    text: str
    pays: bool = True
    #: chance that a repair of what leads would be the wrong one, now and once the check is answered
    wrong_now: float = 1.0
    wrong_after: float = 1.0
    circuit: str = ""  #: where the job has several
    again: bool = False  #: what was answered once, and everything hangs on, is to be taken once more
    points: str = ""  #: what its answers point at, in a few words

    @property
    def name(self) -> str:
        """What to do, in a few words."""
        return said_now(self.kept_name)

    @property
    def kept_name(self) -> Kept:
        """The same, for a reader of any language."""
        return later("{name}, once more", name=self.check.kept_name) if self.again else self.check.kept_name

    @property
    def told(self) -> str:
        """What to do, in a sentence or two."""
        return f"{ONCE_MORE if self.again else ''}{self.text}"

    @property
    def total_minutes(self) -> float:
        return self.minutes + self.access

    def as_row(self) -> dict:
        check = self.check
        return {
            "check": check.name,
            "kind": KIND_WORDS.get(check.kind, str(check.kind)),
            "point": str(check.point),
            "state": str(check.state),
            "minutes": round(self.minutes, 1),
            "access_minutes": round(self.access, 1),
            "gain_bits": round(self.gain_bits, 4),
            "outcomes": [*check.outcome, tr("as expected")] if check.kind == CheckKind.LOOK else [],
            "text": f"{self.told} {self.why}",
            "moves_shaft": moves_shaft(check),
            "place": str(check.place) if check.place is not None else "",
            "cautions": list(check.cautions),
            **({"circuit": self.circuit} if self.circuit else {}),
        }


@dataclass(frozen=True)
class Advice:
    """Whether the case is good enough to repair, or to stop, and what is owed afterwards."""

    enough: bool
    text: str
    left: str = ""  #: what left with the part that was changed, in words

    @property
    def headline(self) -> str:
        """The first sentence."""
        return self.text.split(". ")[0].rstrip(".") + "."

    @property
    def rest(self) -> str:
        """What follows it."""
        return self.text.partition(". ")[2]


@dataclass(frozen=True)
class Outlook:
    """The leading hypotheses with some particles of each, on which outcomes are foreseen."""

    case: Case
    world: World
    faults: tuple[tuple[str, ...], ...]
    p: np.ndarray
    particle_set: ParticleSet
    causes: np.ndarray = field(repr=False)  #: which causes each hypothesis is of, shape (causes, hypotheses)

    @classmethod
    def of(cls, case: Case, posterior: Posterior, world: World) -> Outlook:
        p = posterior.p
        if posterior.doubted is not None and posterior.survives < world.facts.stakes.survives:
            # What the call hangs on may be a slip: checks are asked that would tell without it, too.
            p = (1 - DOUBTED) * p + DOUBTED * posterior.doubted
        kept = np.flatnonzero(p >= min(LEAST_LIKELY, float(p.max())))
        p = p[kept] / p[kept].sum()
        # The same places along the weights for every hypothesis: those that are alike are foreseen alike.
        at = (np.arange(FORESEEN) + 0.5) / FORESEEN
        cubes = []
        for k in kept:
            weighted = posterior.weighted_sets[k]
            chosen = np.searchsorted(np.cumsum(weighted.weights), at * weighted.weights.sum(), "right")
            cubes.append(weighted.cube[np.clip(chosen, 0, len(weighted.weights) - 1)])
        rows = tuple(posterior.weighted_sets[k].row for k in kept)
        faults = tuple(posterior.faults[k] for k in kept)
        particle_set = world.particle_set_of(rows, np.array(cubes), posterior.generations)
        return cls(case, world, faults, p, particle_set, cause_matrix(faults))


def cause_matrix(faults: tuple[tuple[str, ...], ...]) -> np.ndarray:
    """Which causes each hypothesis is of, shape (causes, hypotheses); a pair is half of either."""
    causes = sorted({cause_of(item) for some in faults for item in some})
    out = np.zeros((len(causes), len(faults)))
    for column, some in enumerate(faults):
        for each in some:
            out[causes.index(cause_of(each)), column] += 1 / len(some)
    return out


def opened(case: Case, facts: Knowledge) -> set[Place]:
    """The places that are open: as said, and what an earlier check of the job had to open, until it was closed."""
    out = {Place(item) for item in case.opened}
    for at in range(len(case.trail) + 1):
        for when, place, open_ in case.access_log:
            if when == at:
                out = out | {Place(place)} if open_ else out - {Place(place)}
        if at == len(case.trail):
            break
        piece = case.trail[at]
        slug = piece.check if isinstance(piece, Inspected) else None
        found = facts.check(slug) if slug else None
        if isinstance(piece, MeterReading):
            found = next(
                (check for check in facts.checks if (check.point, check.state) == (piece.point, piece.state)), None
            )
        elif isinstance(piece, Captured):
            out.add(Place.PLUG)
        if isinstance(piece, Replaced) and not piece.earlier:
            out = {Place(item) for item in case.opened} | {PLACE_OF_PART.get(piece.part, Place.PLUG)}
        if found is not None and found.place is not None:
            out.add(found.place)
    return out


def cost(check: CheckFacts, case: Case, facts: Knowledge, open_places: set[Place]) -> tuple[float, float]:
    """Minutes of a check as a technician spends them here and now, what has to be set up once among them; and those to
    get at its place.

    Parameters
    ----------
    check : CheckFacts
    case : Case
    facts : Knowledge
    open_places : set of Place

    Returns
    -------
    minutes, opening : float
    """
    minutes = check.minutes
    if check.gear == Gear.SCOPE and not any(isinstance(item, Captured) for item in case.trail):
        minutes += facts.stakes.scope_set_up
    access = 0.0
    if check.place is not None and check.place not in open_places:
        access = float(case.access.get(check.place, facts.places[check.place]))
    return minutes, access


def next_checks(case: Case, posterior: Posterior, *, world: World | None = None) -> tuple[NextCheck, ...]:
    """Checks that the gear allows and that have not been done, the one that saves most for its minutes first.

    Parameters
    ----------
    case : Case
    posterior : Posterior
        of that case
    world : World or None
        the one that the posterior was drawn in; worked out where None

    Returns
    -------
    tuple of NextCheck
        by expected saving a minute: the value of information with one look ahead (Howard, IEEE Trans. SSC 2, 1966, from memory)
    """
    world = world or world_of(case.spec)
    with world.lock:
        ranking = _Ranking(case, posterior, world)
        if ranking.settled and gone_since_repair(case):
            return ()  # what is owed of the proof is all that is left
        ranked = ranking.ranked()
    ranked.sort(key=lambda item: item[0])
    return _one_after_the_other(ranked, world.facts.orders.get(case.spec.role, ()))


class _Foreseen(NamedTuple):
    """A check with what it would come to."""

    check: CheckFacts
    outcomes: np.ndarray  #: shape (outcomes, hypotheses)
    gain: float  #: bits
    saves: float  #: minutes that knowing its answer saves
    minutes: float
    access: float  #: minutes to get there

    @property
    def total_minutes(self) -> float:
        return self.minutes + self.access


class _Ranking:
    """The checks that can be asked now, put in order."""

    def __init__(self, case: Case, posterior: Posterior, world: World):
        self.case, self.posterior, self.world, self.facts = case, posterior, world, world.facts
        self.outlook = Outlook.of(case, posterior, world)
        by_cause, by_fault = posterior.by_cause(), posterior.by_fault()
        self.turning = not timing_in_doubt(case, by_fault)
        self.leads, self.leading = max(by_cause.values()), max(by_fault, key=by_fault.get)
        self.begins_with = self.facts.priors[fault_to_repair(posterior)].begins_with
        # Where all is sound, and proven or all but certain, a check that tells nothing is no work worth offering.
        sound = self.leading == SOUND and by_fault[SOUND] >= self.facts.stakes.enough
        self.settled = sound and not still_complained_of(case)
        self.again = asked_again(case, posterior, self.facts, turning=self.turning)
        # A call that is made but for the one piece waits for that; below, it is a check like any other.
        self.waits = self.again is not None and self.leads > UNCONFIRMED - 0.01
        self.wrong_now = float(1 - (self.outlook.causes @ self.outlook.p).max())

    def ranked(self) -> list[tuple[tuple, NextCheck]]:
        """Each check with what it is sorted by."""
        foreseen = self._foreseen()
        blocks = _blocks(foreseen, self._spent_on, self.outlook, self.facts)
        wrong_after = [_wrong_after(item.outcomes, self.outlook) for item in foreseen]
        closed = self._closed(foreseen, blocks)
        ranked = []
        for block in blocks:
            pays = block.cost < self.facts.stakes.patience * block.worth
            if self.settled and (not pays or all(foreseen[at].gain < words.TELLS_LITTLE for at in block.steps)):
                continue
            for at in block.steps:
                item = foreseen[at]
                little, waited = item.gain < words.TELLS_LITTLE, self.waits and item.check is self.again
                begins = closed and item.check.slug in self.begins_with and not little
                proof = begins or (closed and proves(item.check, self.leading))
                # What the call waits for is worth its minutes, whatever they are.
                worth = pays or begins or waited
                made = self._made(item, wrong_after[at], pays=worth, proof=proof, together=len(block.steps))
                ranked.append(((not waited, not begins, not proof, little, not pays, len(ranked)), made))
        return ranked

    def _foreseen(self) -> list[_Foreseen]:
        case, facts = self.case, self.facts
        done, excluded, open_places = done_already(case), excluded_by(case, facts), opened(case, facts)
        found = []
        for check in facts.checks:
            asked = check is self.again or can_be_asked(check, case, done, excluded, turning=self.turning)
            outcomes = OUTCOMES[check.kind](check, self.outlook) if asked else None
            if outcomes is not None:
                spent = cost(check, case, facts, open_places)
                found.append(_Foreseen(check, outcomes, *_gain(outcomes, self.outlook, facts), *spent))
        return found

    def _spent_on(self, check: CheckFacts, minutes: float) -> float:
        slower = STRATEGY.get(self.case.strategy, {})
        stakes = self.facts.stakes
        return (minutes + stakes.each_check) * slower.get(check.gear, 1.0) + check.price * stakes.price_minutes

    def _closed(self, foreseen: list[_Foreseen], blocks: list[Block]) -> bool:
        """Whether the case is as good as closed, or nothing pays any more: what proves or clears the leading fault is next then. A call
        that hangs on one reading waits for whatever confirms it soonest."""
        stakes = self.facts.stakes
        if self.leading == SOUND:
            return False
        worth_a_check = _worth_first(foreseen, stakes.must_save(self.leads))
        hangs = _hangs_on_one(self.posterior, self.leads, stakes)
        settles = self.leads >= stakes.never_below and not worth_a_check and not hangs
        nothing_pays = not any(block.cost < stakes.patience * block.worth for block in blocks)
        return self.leads >= stakes.enough or nothing_pays or settles

    def _made(self, item: _Foreseen, wrong_after: float, *, pays: bool, proof: bool, together: int) -> NextCheck:
        """A check with its words; `together`: how many of its block are behind one opening."""
        check, spec = item.check, self.case.spec
        names = _separated(item.outcomes, self.outlook)
        ohms = words.is_ohms(check.point)
        drawn = self.world.expected(check.point, check.state, ohms=ohms) if check.kind == CheckKind.METER else None
        points_at = _points_at(check, item.outcomes, self.outlook, names, drawn)
        why = words.why(item.gain, names, item.minutes + item.access, pays, points_at)
        points = words.answers_in_words(points_at) or words.tells(names)
        if item.access and together > 1:
            why = f"{why} {words.why_together(check.place, together)}"
        if proof:
            why, points = words.why_proof(self.leading), words.proves(self.leading)
        if check is self.again:
            why = words.why_again() if self.waits else f"{why} {words.TAKEN_AFRESH}"
        return NextCheck(
            check, item.minutes, item.access, item.gain, item.saves, names, words.expected(check, drawn, spec.ohms), why,
            check.said(spec), pays, wrong_now=self.wrong_now, wrong_after=wrong_after, again=check is self.again, points=points,
        )  # fmt: skip


def fault_to_repair(posterior: Posterior) -> str:
    """The likeliest fault mode of the leading cause.

    Parameters
    ----------
    posterior : Posterior
    """
    causes, faults = posterior.by_cause(), posterior.by_fault()
    lead = max(causes, key=causes.get)
    return max((fault for fault in faults if cause_of(fault) == lead), key=faults.get)


def _hangs_on_one(posterior: Posterior, leads: float, stakes: Stakes) -> bool:
    """Whether a call that is as good as made would not be made without one of its pieces."""
    return posterior.survives < stakes.survives and leads > UNCONFIRMED - 0.01


def _blocks(foreseen: list[_Foreseen], spent_on, outlook: Outlook, facts: Knowledge) -> list[Block]:
    """The checks in the order to take them, those behind one opening together as far as that pays. Two that are taken
    together are foreseen together: what the first tells, the second need not."""
    steps = [
        Step(saves, max(spent_on(check, minutes), 0.1), str(check.place) if access else "")
        for check, _, _, saves, minutes, access in foreseen
    ]
    set_ups = {str(check.place): access for check, *_, access in foreseen if access}
    known: dict[tuple[int, int], float] = {}

    def after(number: int, taken: tuple[int, ...]) -> float:
        found = []
        for other in taken[:2]:
            pair = (min(number, other), max(number, other))
            if pair not in known:
                a, b = foreseen[pair[0]].outcomes, foreseen[pair[1]].outcomes
                known[pair] = _gain((a[:, None] * b[None]).reshape(-1, a.shape[1]), outlook, facts)[1]
            found.append(max(known[pair] - steps[other].worth, 0.0))
        return min(min(found), steps[number].worth)

    left, opened, blocks = set(range(len(steps))), set(), []
    while left:
        block = next_block(steps, set_ups, opened, left, after=after)
        blocks.append(block)
        left -= set(block.steps)
        opened |= {steps[step].place for step in block.steps}
    return blocks


def _wrong_after(outcomes: np.ndarray, outlook: Outlook) -> float:
    """How likely a repair of what then leads is still the wrong one, once the check is answered."""
    joint = outcomes * outlook.p
    return float(1 - (outlook.causes @ joint.T).max(axis=0).sum())


def _one_after_the_other(ranked: list[tuple[tuple, NextCheck]], order: tuple[str, ...]) -> tuple[NextCheck, ...]:
    """Ranked checks, those that have an order among themselves changed about until they keep it; a proof, and what
    tells little or does not pay, stay where they are."""
    made = [item for _, item in ranked]
    for group in {key[:5] for key, _ in ranked}:
        places = [at for at, (key, item) in enumerate(ranked) if key[:5] == group and item.check.slug in order]
        kept = sorted((made[at] for at in places), key=lambda place: order.index(place.check.slug))
        for at, this_item in zip(places, kept, strict=True):
            made[at] = this_item
    return tuple(made)


def proves(check: CheckFacts, fault: str) -> bool:
    """Whether one outcome of a look all but singles a fault mode out.

    Parameters
    ----------
    check : CheckFacts
        a look
    fault : str
        slug of a fault mode
    """
    return any(row.get(fault, 0.0) >= 0.8 and row["other"] <= 0.05 for row in check.outcome.values())


# What a check may come to -----------------------------------------------------------------------------


def _meter_outcomes(check: CheckFacts, outlook: Outlook) -> np.ndarray | None:
    """Readings sorted into bins that a meter can tell apart, shape (bins, hypotheses)."""
    ohms = check.point in OHM_POINTS
    drawn = outlook.particle_set.reading(check.point, check.state, ohms)
    if drawn is None:
        return None
    scaled = on_scale(drawn, ohms)
    place = np.floor((scaled - scaled.min()) / BIN[ohms]).astype(int)
    bins = int(place.max()) + 3
    index = np.arange(len(scaled))[:, None] * bins + place + 1
    counted = np.bincount(index.ravel(), minlength=len(scaled) * bins).reshape(len(scaled), bins).astype(float)
    # A reading near the border of a bin may fall to either side of it.
    spread = 0.5 * counted + 0.25 * (np.roll(counted, 1, axis=1) + np.roll(counted, -1, axis=1))
    return _anywhere((spread / spread.sum(axis=1, keepdims=True)).T)


#: findings of the signal itself, the gravest first: of several in one recording the first is its headline
HEADLINES = (
    FindingKind.NO_SIGNAL, FindingKind.LOW_NOT_PULLED_DOWN, FindingKind.HIGH_NOT_REACHED, FindingKind.WEAK_AMPLITUDE,
    FindingKind.DROPOUT, FindingKind.EXTRA_GAP, FindingKind.WRONG_PATTERN, FindingKind.REVERSED_POLARITY,
    FindingKind.TIMING_OFFSET, FindingKind.TIMING_SCATTER, FindingKind.ODD_TOOTH, FindingKind.RUNOUT, FindingKind.ERRATIC,
    FindingKind.NOISE, FindingKind.WEAK_STRIKE, FindingKind.RING_MISMATCH, FindingKind.LOADED_DOWN,
)  # fmt: skip
RAILS = (FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT)


def _capture_outcomes(check: CheckFacts, outlook: Outlook) -> np.ndarray | None:
    """What a recording would show first of the signal, with what it shows of the rails."""
    case, particle_set = outlook.case, outlook.particle_set
    unseen = _not_in_a_recording(case)
    before = [item for item in case.trail if isinstance(item, Captured)]
    kinds = [item for item in readable(case.spec.sensor) if item not in unseen]
    levels = particle_set.shown(check.state)

    def share(kind: FindingKind) -> np.ndarray:
        shape = particle_set.shape_share(kind, check.state)
        shapes = particle_set.facts.shapes[kind]
        if not shapes.by_state:
            told = [kind in item.found for item in before if kind in item.found or kind not in item.unseen]
            shape = seen_next(shape, told, shapes.other, particle_set.facts.picture.slip)
        level = by_level(particle_set.circuits, kind, check.state)
        level = 0.0 if level is None else particle_set.of_rows(level)
        return np.clip(1 - (1 - level) * (1 - shape), 0.0, 1.0)

    left, signal, flat = np.ones(particle_set.shape), [], 0
    for kind in HEADLINES:
        if kind not in kinds:
            continue
        held = [this_level for label, this_level in levels.items() if label.startswith(f"{kind}:")]
        here = share(kind)
        if len(held) > 1:
            total = sum(held) + 1e-9
            signal += [left * here * item / total for item in held]
        else:
            signal.append(left * here)
        flat = len(signal) if kind == FindingKind.NO_SIGNAL else flat
        left = left * (1 - here)
    signal.append(left)
    rails = [share(kind) if kind in kinds else np.zeros(particle_set.shape) for kind in RAILS]
    of_rails = [(1 - rails[0]) * (1 - rails[1]), rails[0], (1 - rails[0]) * rails[1]]
    # How the shaft is turned is heard in the same recording, where there are teeth to hear it by.
    turned = _turned(particle_set) if check.state in STARTING and case.spec.role in ENGINE_ROLES else [1.0]
    heard = [*signal[:flat], *(item * other for item in signal[flat:] for other in turned)]
    joint = np.array([(item * other).mean(axis=1) for item in heard for other in of_rails])
    outside = particle_set.facts.picture.outside + particle_set.facts.picture.slip
    joint = (1 - outside) * joint + outside / len(joint)
    return joint / joint.sum(axis=0)


def _turned(particle_set: ParticleSet) -> list[np.ndarray]:
    """How a starter turns the engines, as whoever listens sorts it: with a beat; else slow, hardly fast enough, as usual; each shape
    (rows, particles)."""
    uneven = particle_set.value("uneven") > UNEVEN
    return [np.where(uneven, 1.0, 0.0), *(np.where(uneven, 0.0, speed) for speed in _speeds(particle_set))]


def _speeds(particle_set: ParticleSet) -> list[np.ndarray]:
    """The speeds of the starter as they are sorted, the slowest first, each shape (rows, particles)."""
    place = np.searchsorted((SLOW_RPM, HARDLY_RPM), particle_set.value("crank_rpm"))
    return [np.where(place == at, 1.0, 0.0) for at in range(3)]


def _not_in_a_recording(case: Case) -> frozenset[FindingKind]:
    """What a recording of this circuit would not show: how a cam stands without its crank or a known-good pattern."""
    cam = case.spec.role == Role.CAM
    unseen: frozenset[FindingKind] = frozenset() if cam else frozenset({FindingKind.TIMING_SCATTER})
    if not case.referenced or not cam:
        unseen |= {FindingKind.TIMING_OFFSET}
    if not case.referenced:
        unseen |= kind_of(case.spec.sensor).needs_pattern
    return unseen


def _look_outcomes(check: CheckFacts, outlook: Outlook) -> np.ndarray | None:
    shares = outcome_shares(check, outlook.particle_set)
    return softened(np.broadcast_to(shares, (len(shares), *outlook.particle_set.shape)).mean(axis=2))


def _swap_outcomes(check: CheckFacts, outlook: Outlook) -> np.ndarray | None:
    facts = outlook.world.facts
    causes, bad = facts.parts[check.part], outlook.case.learned.bad(facts, Origin.ORIGINAL)
    cured = np.array(
        [(1 - bad) if all(cause_of(fault) in causes for fault in faults) else 0.02 for faults in outlook.faults]
    )
    return np.stack([cured, 1 - cured])


def _scan_outcomes(check: CheckFacts, outlook: Outlook) -> np.ndarray | None:
    particle_set = outlook.particle_set
    if check.slug == Scan.RPM_CRANKING:
        unseen = np.clip(np.broadcast_to(pulses_unseen(particle_set), particle_set.shape), 0.04, 0.96)
        shown = [((1 - unseen) * speed).mean(axis=1) for speed in _speeds(particle_set)]
        return _anywhere(np.stack([unseen.mean(axis=1), *shown]))
    rows = [
        Scanned("", Scan.CODES_BACK, str(codes_back)).likelihood(particle_set, None, particle_set.facts)
        for codes_back in CodesBack
    ]
    table = np.array([np.broadcast_to(row, particle_set.shape).mean(axis=1) for row in rows])
    return table / table.sum(axis=0)


def _anywhere(table: np.ndarray) -> np.ndarray:
    """Shares of outcomes, shape (outcomes, hypotheses), some of which fall anywhere."""
    return (1 - ANYWHERE) * table + ANYWHERE / len(table)


#: how each kind of check comes to its outcomes; a new kind is a row
OUTCOMES = {
    CheckKind.METER: _meter_outcomes, CheckKind.CAPTURE: _capture_outcomes, CheckKind.LOOK: _look_outcomes,
    CheckKind.SWAP: _swap_outcomes, CheckKind.SCAN: _scan_outcomes,
}  # fmt: skip


# What it would be worth -------------------------------------------------------------------------------


def _entropy(p: np.ndarray, axis: int = 0) -> np.ndarray:
    return -(p * np.log2(np.maximum(p, 1e-12))).sum(axis=axis)


def to_go(p: np.ndarray, causes: np.ndarray, facts: Knowledge) -> np.ndarray:
    """Minutes that a state of belief still costs: doubt, and the price of a wrong repair, come-back included.

    Parameters
    ----------
    p : ndarray, shape (hypotheses, ...)
        probabilities, adding up to 1 over the hypotheses
    causes : ndarray, shape (causes, hypotheses)
        what share of each hypothesis is of a cause
    facts : Knowledge

    Returns
    -------
    ndarray, shape (...,)
        minutes

    References
    ----------
    Expected loss of the best act: Raiffa and Schlaifer, Applied Statistical Decision Theory (1961). From memory.
    """
    return facts.stakes.minutes_a_bit * _entropy(p) + facts.stakes.wrong_repair * (1 - (causes @ p).max(axis=0))


def _gain(outcomes: np.ndarray, outlook: Outlook, facts: Knowledge) -> tuple[float, float]:
    """Bits that a check tells about the fault modes (mutual information), and the minutes that it is expected to save."""
    joint = outcomes * outlook.p
    share = joint.sum(axis=1)
    after = (joint / np.maximum(share[:, None], 1e-300)).T
    gain = float(_entropy(outlook.p) - share @ _entropy(after))
    now = float(to_go(outlook.p, outlook.causes, facts))
    return max(gain, 0.0), max(now - float(share @ to_go(after, outlook.causes, facts)), 0.0)


def _separated(outcomes: np.ndarray, outlook: Outlook) -> tuple[str, ...]:
    """The fault modes that an unexpected answer would point at, likeliest first."""
    usual = int((outcomes * outlook.p).sum(axis=1).argmax())
    unexpected = (1 - outcomes[usual]) * outlook.p
    names: list[str] = []
    for index in np.argsort(-unexpected):
        for fault in outlook.faults[index]:
            if unexpected[index] > 0.004 and fault != SOUND and fault not in names:
                names.append(fault)
    return tuple(names[:4])


#: an answer points at a fault mode that gives it so often at least
POINTS = 0.5


def _points_at(
    check: CheckFacts, outcomes: np.ndarray, outlook: Outlook, names: tuple[str, ...], sound: np.ndarray | None
) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """What each answer of a check would point at: the answer in a word, and fault modes; () where no word says it.

    Parameters
    ----------
    outcomes : ndarray, shape (outcomes, hypotheses)
    names : tuple of str
        the fault modes that are asked about
    sound : ndarray or None
        what sound circuits read, V or ohm, sorted
    """
    shares = {}
    if check.kind == CheckKind.LOOK:
        words_of = [worded(name) for name in check.outcome]
        shares = {word: outcomes[at] for at, word in enumerate(words_of)}
    elif check.kind == CheckKind.METER and sound is not None:
        ohms = check.point in OHM_POINTS
        drawn = outlook.particle_set.reading(check.point, check.state, ohms)
        bands = words.usual_bands(sound, ohms)
        lowest, highest = min(low for low, _ in bands), max(high for _, high in bands)
        shares = {tr("lower"): (drawn < lowest).mean(axis=1), tr("higher"): (drawn > highest).mean(axis=1)}
    found: dict[str, list[str]] = {}
    for name in names:
        own = np.array([name in faults for faults in outlook.faults])
        weight = outlook.p * own
        if not weight.sum():
            continue
        usual = {word: float(share @ weight / weight.sum()) for word, share in shares.items()}
        best = max(usual, key=usual.get, default=None)
        if best is not None and usual[best] >= POINTS:
            found.setdefault(best, []).append(name)
    return tuple((word, tuple(found[word])) for word in shares if word in found)


# When to stop -----------------------------------------------------------------------------------------


def advice(case: Case, posterior: Posterior, checks: tuple[NextCheck, ...] = (), shown: float | None = None) -> Advice:
    """When to stop measuring, and what is owed afterwards.

    Parameters
    ----------
    checks : tuple of NextCheck
        what could be asked next: a call that hangs on one reading waits for a confirmation only where one can be had
        for less than being wrong would cost
    shown : float or None
        how likely the leading cause is said to be, where the job's other circuits weigh in on it
    """
    facts = knowledge()
    stakes = facts.stakes
    causes, fault = posterior.by_cause(), fault_to_repair(posterior)
    lead = cause_of(fault)
    owed = words.RELEARN_OWED if "relearn" in case.owed else ""
    changed = next((item for item in reversed(case.trail) if isinstance(item, Replaced) and not item.earlier), None)
    if fault == SOUND:
        if still_complained_of(case):
            return Advice(False, words.still_there(checks[0].name if checks else ""))
        return _when_sound(case, posterior, checks, changed, owed, facts, shown)
    said_of = causes[lead] if shown is None else shown
    hangs = _hangs_on_one(posterior, causes[lead], stakes)
    # A swap is a repair already: what is measured or looked at comes before it.
    asked = [check for check in checks if check.check.kind != CheckKind.SWAP]
    now = stakes.come_back * (checks[0].wrong_now if checks else 1.0 - causes[lead])

    def cost_of(check: NextCheck) -> float:
        return check.total_minutes + stakes.come_back * min(check.wrong_after, check.wrong_now)

    # From `enough` on, what is left of doubt is of which fault of one cause it is: the same thing is repaired.
    clear = causes[lead] >= stakes.enough and not hangs
    if causes[lead] < stakes.never_below or (
        _worth_first(checks, stakes.must_save(causes[lead])) and not hangs and not clear
    ):
        listed = asked[0] if asked else None
        if listed is not None and cost_of(listed) < now:
            return Advice(False, words.not_yet(said_of, listed.name, now, cost_of(listed)))
        return Advice(False, words.not_yet(said_of, listed.name if listed is not None else ""))
    doubt = stakes.wrong_repair * (1.0 - posterior.survives)
    telling = [check for check in checks if check.gain_bits >= words.TELLS_LITTLE]
    confirm = [check for check in telling if check.total_minutes < doubt]
    if hangs and confirm:
        again = next((check.check.name for check in checks if check.again), "")
        return Advice(False, words.hangs_on_one(said_of, again))
    # A wire is not opened, nor a sensor bought, before what their repair begins with was asked: it may still clear them.
    first = next((check for check in telling if check.check.slug in facts.priors[fault].begins_with), None)
    if first is not None:
        return Advice(False, words.begins_with(said_of, first.name))
    name = named(fault, posterior, world_of(case.spec))
    return Advice(True, words.good_enough(name, said_of, facts.priors[fault].do, owed))


def _worth_first(checks: Iterable[NextCheck | _Foreseen], times: float) -> bool:
    """Whether a check saves so many times its minutes, so that it comes before a call that can be made. A swap does not: it is a repair
    itself, and has its price."""
    asked = (check for check in checks if check.check.kind != CheckKind.SWAP)
    return any(check.saves > times * check.total_minutes for check in asked)


def _when_sound(case: Case, posterior, checks, changed, owed: str, facts: Knowledge, shown: float | None) -> Advice:
    """The advice where nothing shows."""
    stakes, faults = facts.stakes, posterior.by_fault()
    sound = faults[SOUND]
    said_of = sound if shown is None else shown
    if changed is not None and sound >= stakes.sound_after_repair:
        left = max(posterior.left, key=posterior.left.get, default="") if posterior.left else ""
        total = sum(posterior.left.values())
        share = posterior.left[left] / total if left else 0.0
        told = words.what_left(left, share)
        return Advice(True, words.after_change(lowered(PARTS[changed.part]), told, owed), told)
    if sound >= stakes.enough:
        return Advice(True, words.cleared(owed))
    # An engine that does not start cannot be handed back: the bar for leaving its circuit is higher.
    stands = case.engine_runs == "no"
    least = stakes.sound_elsewhere if stands else stakes.sound_for_now
    if sound >= least and not _worth_first(checks, stakes.outweighs):
        coming = sorted((fault for fault in faults if fault in facts.comings), key=faults.get, reverse=True)
        left = sorted((fault for fault in faults if fault != SOUND), key=faults.get, reverse=True)
        if stands:
            return Advice(True, words.not_in_this_circuit(said_of, tuple(left[:2])))
        if sound + sum(faults[item] for item in coming) >= stakes.nothing_shows:
            return Advice(True, words.cleared_for_now(said_of, tuple(coming[:2])))
        return Advice(True, words.nothing_worth_asking(said_of, tuple(left[:2])))
    return Advice(False, words.nothing_leads(said_of, checks[0].name if checks else ""))


#: rpm to be ready for, and seconds to record, by state
RECORDED = {
    State.CRANKING: (300.0, 6.0), State.RUNNING: (3000.0, 5.0), State.ROLLING: (800.0, 10.0),
    State.WIGGLE: (1500.0, 30.0),
}  # fmt: skip
SAMPLES_A_TOOTH = 100


def recorder_settings(check: CheckFacts, spec: CircuitSpec) -> tuple[tuple[str, str], ...]:
    """What to set on a recorder for a check: where, how high, how fast, how long. Common practice, no published source.

    Parameters
    ----------
    check : CheckFacts
    spec : CircuitSpec

    Returns
    -------
    tuple of (str, str)
        setting and value, both in words
    """
    kind = kind_of(spec.sensor)
    if own := kind.own_settings(spec, check.state):
        return own
    rpm, seconds = RECORDED.get(check.state, (1000.0, 5.0))
    wheel = spec.declared_wheel
    teeth_s = (wheel.slots if wheel and spec.role != Role.CAM else 60) * rpm / 60
    rate = next(
        value for value in (10e3, 20e3, 50e3, 100e3, 200e3, 500e3, 1e6) if value >= min(SAMPLES_A_TOOTH * teeth_s, 1e6)
    )
    beside = tr("signal, and the crank's signal beside it") if spec.role == Role.CAM else tr("signal")
    return (
        (
            tr("Probes"),
            tr(
                "{beside}{feed}; beside the sealed pins, ground at battery negative",
                beside=beside,
                feed=tr(", feed and return") if kind.has(Capability.FEED) else "",
            ),
        ),
        (tr("Height"), kind.height_setting(spec)),
        (tr("Rate"), tr("{rate:g} kS/s a channel or faster", rate=rate / 1000)),
        (tr("Length"), tr("{seconds:g} s or longer", seconds=seconds)),
    )
