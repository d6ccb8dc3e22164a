"""The next best check: by expected cost to a proven repair."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import OHM_POINTS, Cause, CheckKind, FindingKind, Gear, Origin, Point, Role, State, Strategy
from sagen.reason import words
from sagen.reason.evidence import Captured, Inspected, MeterReading
from sagen.reason.facts import SOUND, CheckFacts, Knowledge, cause_of, knowledge
from sagen.reason.likelihood import OHM_FLOOR, VOLTS_FLOOR, LikelihoodModel, projected, vocabulary
from sagen.reason.weigh import Case, Posterior, Replaced, likelihood_model

#: minutes that a bit of doubt between fault modes still costs, and what a wrong repair costs
MINUTES_A_BIT = 7.0
WRONG_REPAIR = 110.0
#: how many times those a check may take before it is said not to pay: a machine that comes back costs more than minutes
PATIENCE = 3.0
PRICE_MINUTES = 15.0
#: how much longer a check counts under a strategy that prefers other gear
STRATEGY = {Strategy.MOST: {}, Strategy.METER: {Gear.SCOPE: 1.8}, Strategy.SCOPE: {Gear.METER: 1.8}}
#: hypotheses below this are left out when checks are ranked
LEAST_LIKELY = 2e-4
#: from this probability on the leading cause is good enough to repair, and the proof is owed afterwards
ENOUGH = 0.975


#: kinds of check as the command line calls them
KIND_WORDS = {CheckKind.LOOK: "inspection"}


@dataclass(frozen=True)
class NextCheck:
    """A check with what it would separate."""

    check: CheckFacts
    gain_bits: float
    cost: float  #: expected minutes to a proven repair if this is done next
    separates: tuple[str, ...]
    expect: str
    why: str
    pays: bool = True  #: whether it takes less than `PATIENCE` times the minutes it is expected to save

    def as_row(self) -> dict:
        check = self.check
        return {
            "check": check.name,
            "kind": KIND_WORDS.get(check.kind, str(check.kind)),
            "point": str(check.point),
            "state": str(check.state),
            "minutes": round(check.minutes, 1),
            "access_minutes": round(check.access, 1),
            "gain_bits": round(self.gain_bits, 4),
            "outcomes": [*check.outcome, "as expected"] if check.kind == CheckKind.LOOK else [],
            "text": f"{check.text} {self.why}",
        }


@dataclass(frozen=True)
class Advice:
    """Whether the case is good enough to repair, and what is owed afterwards."""

    enough: bool
    text: str

    @property
    def headline(self) -> str:
        """The first sentence."""
        return self.text.split(". ")[0].rstrip(".") + "."

    @property
    def rest(self) -> str:
        """What follows it."""
        return self.text.partition(". ")[2]


def next_checks(
    case: Case, posterior: Posterior, *, model: LikelihoodModel | None = None, facts: Knowledge | None = None
) -> tuple[NextCheck, ...]:
    """Checks that the gear allows and that have not been done, the cheapest expected road first."""
    facts = facts or knowledge()
    model = model or likelihood_model(case.spec)
    # What is all but ruled out moves no check's worth, and after a repair it is most of the pairs.
    posterior = posterior.likely(LEAST_LIKELY)
    done = _done(case)
    able = {*case.gear, Gear.EYES, Gear.PARTS}
    slower = STRATEGY.get(case.strategy, {})
    now = _to_go(posterior.p, _cause_matrix(posterior))
    # Once the case is as good as closed, what would prove or clear the leading fault comes first.
    by_cause, by_fault = posterior.by_cause(), posterior.by_fault()
    leading = max(by_fault, key=by_fault.get)
    closed = max(by_cause.values()) >= ENOUGH and leading != SOUND
    ranked = []
    for check in facts.checks:
        if (
            check.gear not in able
            or not check.fits(case.spec)
            or (check.kind, check.slug) in done
            or (check.kind, check.point, check.state) in done
        ):
            continue
        if check.point == Point.SENSOR and check.kind == CheckKind.METER and case.spec.ohms is None:
            continue  # without a published value the ohms of a coil say little
        outcomes = OUTCOMES[check.kind](check, posterior, model, facts, case.referenced)
        if outcomes is None:
            continue
        gain, after = _gain(outcomes, posterior)
        minutes = check.total_minutes * slower.get(check.gear, 1.0) + check.price * PRICE_MINUTES
        names = _separated(outcomes, posterior)
        expect = words.expected(check, _readings(check, model))
        pays = minutes < PATIENCE * (now - after)
        why = words.why(check, gain, names, pays)
        if closed and proves(check, leading):
            why = words.why_proof(leading)
        ranked.append(NextCheck(check, gain, minutes + after, names, expect, why, pays))

    def order(one: NextCheck) -> tuple:
        # Where no check pays for itself any more and the case is still open, what tells most a minute comes first.
        worth = one.cost if one.pays else -one.gain_bits / one.check.total_minutes
        return (not (closed and proves(one.check, leading)), one.gain_bits < words.TELLS_LITTLE, not one.pays, worth)

    return tuple(sorted(ranked, key=order))


def proves(check: CheckFacts, fault: str) -> bool:
    """Whether one outcome of a look all but singles a fault mode out."""
    return any(row.get(fault, 0.0) >= 0.8 and row["other"] <= 0.05 for row in check.outcome.values())


def _done(case: Case) -> set[tuple]:
    """What has been measured, recorded or looked at since the last part was changed."""
    done: set[tuple] = set()
    for piece in case.trail:
        if isinstance(piece, Replaced):
            done = set() if not piece.earlier else done
        elif isinstance(piece, MeterReading):
            done.add((CheckKind.METER, piece.point, piece.state))
        elif isinstance(piece, Captured):
            done.add((CheckKind.CAPTURE, Point.SIGNAL, piece.state))
        elif isinstance(piece, Inspected):
            done.add((CheckKind.LOOK, check_slug(piece.check)))
    return done


# What a check may come to -----------------------------------------------------------------------------


def _meter_outcomes(
    check: CheckFacts, posterior: Posterior, model: LikelihoodModel, facts: Knowledge, referenced: bool
) -> np.ndarray | None:
    """Readings sorted into as many bins as the meter can tell apart, shape (bins, hypotheses)."""
    drawn = [model.samples(check.point, check.state, one) for one in posterior.faults]
    if any(one is None for one in drawn):
        return None
    ohms = check.point in OHM_POINTS
    everything = np.sort(np.concatenate(drawn))
    floor = OHM_FLOOR if ohms else VOLTS_FLOOR
    borders, last = [-np.inf], everything[0]
    for value in everything:
        if value - last > 6 * floor + 0.03 * abs(last):
            borders.append(0.5 * (value + last))
        last = value
    if len(borders) < 2:
        return np.ones((1, len(drawn)))  # all alike: it can be taken, but tells nothing
    # Wide clusters are cut where the sound circuit's readings end.
    sound = model.samples(check.point, check.state, (SOUND,))
    spread = 3 * (0.4 * sound.std() + floor)
    borders = np.unique([*borders, sound.min() - spread, sound.max() + spread, np.inf])
    table = np.stack([np.histogram(one, borders)[0] + 0.02 for one in drawn], axis=1)
    return table / table.sum(axis=0)


def _capture_outcomes(
    check: CheckFacts, posterior: Posterior, model: LikelihoodModel, facts: Knowledge, referenced: bool
) -> np.ndarray | None:
    table = model.table(check.state)
    cam = model.spec.role == Role.CAM
    unseen: frozenset[str] = frozenset() if cam else frozenset({FindingKind.TIMING_SCATTER})
    if not referenced or not cam:
        unseen |= {FindingKind.TIMING_OFFSET}
    if not referenced:
        unseen |= kind_of(model.spec.sensor).needs_pattern
    rows = {name: projected(row, unseen) for name, row in table.items()}
    sets = sorted({one for row in rows.values() for one in row})
    known = vocabulary(table) - unseen
    if not known:
        return None
    cache: dict[str, np.ndarray] = {}

    def row_of(fault: str) -> np.ndarray:
        if fault not in cache:
            row = rows.get(fault, rows[SOUND])
            total = sum(row.values())
            cache[fault] = np.array([(row.get(one, 0) + 0.05) / (total + 0.05 * len(sets)) for one in sets])
        return cache[fault]

    out = np.stack([np.mean([row_of(one) for one in faults], axis=0) for faults in posterior.faults], axis=1)
    return out / out.sum(axis=0)


def _look_outcomes(
    check: CheckFacts, posterior: Posterior, model: LikelihoodModel, facts: Knowledge, referenced: bool
) -> np.ndarray | None:
    rows = [
        [max(row.get(one, row["other"]) for one in faults) for faults in posterior.faults]
        for row in check.outcome.values()
    ]
    table = np.array(rows)
    rest = np.maximum(1.0 - table.sum(axis=0), 0.005)
    table = np.vstack([table, rest])
    return table / table.sum(axis=0)


def _swap_outcomes(
    check: CheckFacts, posterior: Posterior, model: LikelihoodModel, facts: Knowledge, referenced: bool
) -> np.ndarray | None:
    causes, bad = facts.parts[check.part], facts.origins[Origin.ORIGINAL]
    cured = np.array(
        [(1 - bad) if all(cause_of(one) in causes for one in faults) else 0.02 for faults in posterior.faults]
    )
    return np.stack([cured, 1 - cured])


#: how each kind of check comes to its outcomes; a new kind is a row
OUTCOMES = {
    CheckKind.METER: _meter_outcomes, CheckKind.CAPTURE: _capture_outcomes, CheckKind.LOOK: _look_outcomes,
    CheckKind.SWAP: _swap_outcomes,
}  # fmt: skip


# What it would be worth -------------------------------------------------------------------------------


def _cause_matrix(posterior: Posterior) -> np.ndarray:
    """Which causes each hypothesis is of, shape (causes, hypotheses)."""
    causes = sorted({cause_of(one) for faults in posterior.faults for one in faults})
    out = np.zeros((len(causes), len(posterior.faults)))
    for column, faults in enumerate(posterior.faults):
        for one in faults:
            out[causes.index(cause_of(one)), column] += 1 / len(faults)
    return out


def _entropy(p: np.ndarray, axis: int = 0) -> np.ndarray:
    return -(p * np.log2(np.maximum(p, 1e-12))).sum(axis=axis)


def _to_go(p: np.ndarray, causes: np.ndarray) -> np.ndarray:
    """Minutes that a state of belief still costs: doubt, and the price of a wrong repair."""
    return MINUTES_A_BIT * _entropy(p) + WRONG_REPAIR * (1 - (causes @ p).max(axis=0))


def _gain(outcomes: np.ndarray, posterior: Posterior) -> tuple[float, float]:
    """Bits that a check tells about the fault modes (mutual information), and the expected minutes left after it."""
    joint = outcomes * posterior.p
    share = joint.sum(axis=1)
    after = (joint / np.maximum(share[:, None], 1e-300)).T
    gain = float(_entropy(posterior.p) - share @ _entropy(after))
    return max(gain, 0.0), float(share @ _to_go(after, _cause_matrix(posterior)))


def _separated(outcomes: np.ndarray, posterior: Posterior) -> tuple[str, ...]:
    """The fault modes that an unexpected answer would point at, likeliest first."""
    usual = int((outcomes * posterior.p).sum(axis=1).argmax())
    unexpected = (1 - outcomes[usual]) * posterior.p
    names: list[str] = []
    for index in np.argsort(-unexpected):
        for one in posterior.faults[index]:
            if unexpected[index] > 0.004 and one != SOUND and one not in names:
                names.append(one)
    return tuple(names[:4])


def _readings(check: CheckFacts, model: LikelihoodModel) -> tuple[float, float, float] | None:
    """What a sound circuit should read, computed from the model before the probe goes on."""
    return model.expected(check.point, check.state) if check.kind == CheckKind.METER else None


def check_slug(name: str) -> str:
    """The slug of a check, by slug or by the name that older logs and files use; a name that is not known stays."""
    found = knowledge().check(name)
    return found.slug if found else name


def advice(case: Case, posterior: Posterior) -> Advice:
    """When to stop measuring, and the proof that is owed after the repair."""
    causes, faults = posterior.by_cause(), posterior.by_fault()
    lead = max(causes, key=causes.get)
    fault = max((one for one in faults if cause_of(one) == lead), key=faults.get)
    if causes[lead] < ENOUGH:
        return Advice(False, words.not_yet(causes[lead]))
    if lead == Cause.NONE:
        return Advice(True, words.cleared())
    return Advice(True, words.good_enough(fault, causes[lead], knowledge().priors[fault].do))


#: rpm to be ready for, and seconds to record, by state
RECORDED = {
    State.CRANKING: (300.0, 6.0), State.RUNNING: (3000.0, 5.0), State.ROLLING: (800.0, 10.0),
    State.WIGGLE: (1500.0, 30.0),
}  # fmt: skip
SAMPLES_A_TOOTH = 100


def recorder_settings(check: CheckFacts, spec: CircuitSpec) -> tuple[tuple[str, str], ...]:
    """What to set on a recorder for a check: where, how high, how fast, how long. Common practice, no published source."""
    kind = kind_of(spec.sensor)
    rpm, seconds = RECORDED.get(check.state, (1000.0, 5.0))
    wheel = spec.declared_wheel
    teeth_s = (wheel.slots if wheel and spec.role != Role.CAM else 60) * rpm / 60
    rate = next(
        one for one in (10e3, 20e3, 50e3, 100e3, 200e3, 500e3, 1e6) if one >= min(SAMPLES_A_TOOTH * teeth_s, 1e6)
    )
    beside = "signal, and the crank's signal beside it" if spec.role == Role.CAM else "signal"
    return (
        (
            "Probes",
            f"{beside}{', feed and return' if kind.fed else ''}; beside the sealed pins, ground at battery negative",
        ),
        ("Height", kind.height_setting(spec)),
        ("Rate", f"{rate / 1000:g} kS/s a channel or faster"),
        ("Length", f"{seconds:g} s or longer"),
    )
