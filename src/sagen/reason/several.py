"""A job of several circuits: each weighed by itself, what they share weighed once.

A machine has one fault far more often than two. So the hypotheses are: nothing wrong; one fault in one circuit; one fault
in what several circuits share (fuse, relay, the module's 5 V, the engine's earth, a splice of the feed or the return), which
shows in all of them at once; and, rarer, a fault in each of two circuits. The likelihoods are those of the circuits' own
particles, as odds against a sound circuit, so that a circuit in which nothing was measured says nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Suspect
from sagen.model.language import joined_and, tr
from sagen.model.trail import (
    BoardEntry,
    CaptureEntry,
    CircuitEntry,
    FindingEntry,
    InspectionEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
)
from sagen.model.vocabulary import Cause, Part, Place
from sagen.reason.case import circuit_of
from sagen.reason.checks import NextCheck, next_checks
from sagen.reason.facts import SOUND, cause_of, knowledge
from sagen.reason.history import Case
from sagen.reason.posterior import Posterior
from sagen.reason.prior import BOTH
from sagen.reason.suspects import suspects
from sagen.reason.world import world_of

#: how much of a fault mode lies where several circuits would have it (common practice, no published source); the second
#: figure where the card says that they hang on one wire
SHARED = {
    "fuse_blown": (0.6, 0.9), "relay_contact_bad": (0.6, 0.9), "shared_5_v_pulled_down": (0.9, 0.95),
    "feed_wire_high_resistance": (0.25, 0.5), "return_high_resistance": (0.15, 0.45), "return_contact_bad": (0.15, 0.45),
    "ground_lifts_when_cranking": (1.0, 1.0), "cranks_slowly": (1.0, 1.0), "cranks_unevenly": (1.0, 1.0),
    "shaft_does_not_turn": (1.0, 1.0),
}  # fmt: skip
#: parts whose change concerns one circuit, not all
OF_ONE = frozenset({Part.SENSOR, Part.HARNESS, Part.WHEEL, Part.SEAT})
LEAST_P = 1e-9


def circuits_of(records: Iterable[Record]) -> dict[str, CircuitSpec]:
    """The circuits of a trail by name, in the order in which they were first stated; the only one of a job that names
    none is called "".

    Parameters
    ----------
    records : iterable of Record
        the trail, oldest first
    """
    records = list(records)
    named: dict[str, CircuitSpec] = {}
    for record in records:
        if isinstance(record, CircuitEntry):
            named[record.circuit] = record.spec
    if len(named) > 1 and "" in named:
        named = {(name or str(spec.role)): spec for name, spec in named.items()}
    return named or {"": circuit_of(records)}


def records_of(
    records: Iterable[Record], name: str, circuits: Mapping[str, CircuitSpec], hangs_with: frozenset[str] = frozenset()
) -> list[Record]:
    """What of a trail speaks of one circuit: its own entries, those of the whole job, and what names no circuit where this
    is the first; a capture that names none speaks of every circuit that it holds a channel of, a look at the fuse of all
    that hang with it.

    Parameters
    ----------
    records : iterable of Record
        the whole trail
    name : str
        the circuit's
    circuits : mapping
        names to circuits, the first one first
    hangs_with : frozenset of str
        circuits that share a fuse with it
    """
    first = next(iter(circuits), "")
    spec = circuits[name]
    out = []
    for record in records:
        if isinstance(record, CircuitEntry):
            if record.circuit in (name, "") and (record.circuit or name == first):
                out.append(record)
        elif record.circuit:
            part = isinstance(record, RepairEntry | ReplacedEntry) and record.part not in OF_ONE
            fuse = isinstance(record, InspectionEntry) and record.circuit in hangs_with and _at_the_fuse(record)
            if record.circuit == name or part or fuse:
                out.append(record)
        elif isinstance(record, CaptureEntry):
            roles = {(row.role, row.bank) for row in record.sheet.channel}
            if any(
                (role == spec.role and bank in (None, spec.bank)) or (role == spec.role and spec.bank is None)
                for role, bank in roles
            ):
                out.append(record)
        elif isinstance(record, ReadingEntry | InspectionEntry | FindingEntry | BoardEntry):
            if name == first:
                out.append(record)
        elif isinstance(record, RepairEntry | ReplacedEntry):
            if name == first or record.part not in OF_ONE:
                out.append(record)
        else:
            out.append(record)
    return out


def _at_the_fuse(entry: InspectionEntry) -> bool:
    check = knowledge().check(entry.check)
    return check is not None and check.place == Place.FUSE


@dataclass(frozen=True)
class OfCircuit:
    """One circuit's part of the job."""

    name: str
    case: Case
    posterior: Posterior
    hangs_with: frozenset[str] = frozenset()  #: circuits that the card says share its feed or return


@dataclass(frozen=True)
class SeveralWeighed:
    """All circuits together: suspects (a row a circuit and cause, adding up to 1), and what to check next."""

    suspects: tuple[Suspect, ...]
    checks: tuple[NextCheck, ...]
    shared: Mapping[str, float] = field(default_factory=dict)  #: probability of each fault mode in what is shared
    parts: tuple[OfCircuit, ...] = ()  #: each with its posterior as the whole job leaves it

    def of(self, name: str) -> tuple[Suspect, ...]:
        """One circuit's own suspects, adding up to 1: what it is, whatever the others are.

        Parameters
        ----------
        name : str
            of the circuit
        """
        part = next(this_part for this_part in self.parts if this_part.name == name)
        return suspects(part.case, part.posterior)


@dataclass(frozen=True)
class _Odds:
    """Odds of fault modes against a sound circuit: prior and likelihood, by slug."""

    prior: dict[str, float]
    likelihood: dict[str, float]
    own_share: dict[str, float]

    def own(self) -> dict[str, float]:
        return {item: self.prior[item] * self.likelihood[item] * self.own_share[item] for item in self.prior}


def _odds(part: OfCircuit, others: bool) -> _Odds:
    world = world_of(part.case.spec)
    weights = dict(
        zip(world.faults, part.case.learned.weights(world.facts, world.faults, part.case.spec.role), strict=True)
    )
    told = part.posterior.by_fault()
    sound = max(told.get(SOUND, 0.0), LEAST_P) / weights[SOUND]
    prior, likelihood, own = {}, {}, {}
    for fault in world.faults:
        if fault == SOUND:
            continue
        prior[fault] = weights[fault] / weights[SOUND]
        likelihood[fault] = max(told.get(fault, 0.0), LEAST_P) / weights[fault] / sound
        own[fault] = 1.0 - (SHARED.get(fault, (0.0, 0.0))[bool(part.hangs_with)] if others else 0.0)
    return _Odds(prior, likelihood, own)


def weigh_together(parts: Iterable[OfCircuit], *, silent: bool = False) -> SeveralWeighed:
    """Weigh circuits that were each weighed alone; `silent`: codes say that several sensors are silent at once, which
    points at what they share.

    Parameters
    ----------
    parts : iterable of OfCircuit
        each with its own posterior
    silent : bool
        as said

    References
    ----------
    Independent causes with what they share, given evidence: Pearl, Probabilistic Reasoning in Intelligent Systems (1988). From memory.
    """
    parts = tuple(parts)
    odds = [_odds(part, len(parts) > 1) for part in parts]
    own = [odd.own() for odd in odds]
    totals = [sum(item.values()) for item in own]
    # What several codes point at stands until more than one circuit was measured: then the measurements tell.
    measured = sum(any(not piece.told for piece in part.posterior.used) for part in parts)
    silent = silent and measured < 2
    shared = {}
    for slug in SHARED if len(parts) > 1 else ():
        holding = [odd for odd in odds if slug in odd.prior]
        if len(holding) < 2:
            continue
        prior = float(np.mean([item.prior[slug] * (1 - item.own_share[slug]) for item in holding]))
        # In the log: a mode that one circuit all but rules out is ruled out for all that share it.
        once = _counted_twice([part for part, own in zip(parts, odds, strict=True) if slug in own.prior], slug)
        told = knowledge().codes["several"]
        prior *= told.of(slug) / told.other if silent else 1.0
        shared[slug] = prior * float(np.exp(sum(np.log(item.likelihood[slug]) for item in holding) - once))
    both = {
        (a, b): BOTH * totals[a] * totals[b] for a in range(len(parts)) for b in range(a + 1, len(parts))
    }  # fmt: skip
    whole = 1.0 + sum(totals) + sum(shared.values()) + sum(both.values())
    mass = [{slug: value / whole for slug, value in item.items()} for item in own]
    halves = [
        sum(weight for pair, weight in both.items() if at in pair) / whole for at in range(len(parts))
    ]  # fmt: skip
    told = _rows(parts, mass, halves, {slug: value / whole for slug, value in shared.items()}, odds, 1.0 / whole)
    together = tuple(
        replace(part, posterior=_as_it_is(part, mass[at], halves[at], totals[at], shared, whole))
        for at, part in enumerate(parts)
    )
    checks = _in_turn(
        [(item.name, next_checks(item.case, item.posterior)) for item in together], together, told[0].circuit
    )
    return SeveralWeighed(told, checks, {slug: value / whole for slug, value in shared.items()}, together)


def _counted_twice(parts: list[OfCircuit], slug: str) -> float:
    """Logarithm of what pieces of the whole job (complaint, codes, how it cranks) say of a fault mode, beyond the first
    circuit in which each was weighed."""
    seen, total = [], 0.0
    for part in parts:
        for piece, alone in zip(part.posterior.used, part.posterior.alone, strict=True):
            if piece in seen and slug in alone and SOUND in alone:
                total += float(np.log(max(alone[slug], LEAST_P) / max(alone[SOUND], LEAST_P)))
        seen += [item for item in part.posterior.used if item not in seen]
    return total


def _rows(parts, mass, halves, shared, odds, nothing: float) -> tuple[Suspect, ...]:
    """A row a circuit and cause; what is shared stands with the first circuit that it concerns, none with the first."""
    rows: list[Suspect] = []
    given = set()
    for at, part in enumerate(parts):
        alone = suspects(part.case, part.posterior)
        for item in alone:
            if item.cause == Cause.NONE:
                continue
            slugs = [slug for slug in mass[at] if cause_of(slug) == item.cause]
            p = sum(mass[at][slug] for slug in slugs)
            # A fault in each of two circuits counts half for either.
            p += 0.5 * halves[at] * (p / max(sum(mass[at].values()), LEAST_P))
            here = {slug: value for slug, value in shared.items() if slug in slugs and slug not in given}
            given |= set(here)
            p += sum(here.values())
            title = item.title
            if here and sum(here.values()) > 0.5 * p:
                names = [
                    other.name for other, own in zip(parts, odds, strict=True) if max(here, key=here.get) in own.prior
                ]
                title = tr("{title}, in what {names} share", title=item.title, names=joined_and(names))
            rows.append(replace(item, probability=p, title=title, circuit=part.name))
    sound = next(
        (suspect for suspect in suspects(parts[0].case, parts[0].posterior) if suspect.cause == Cause.NONE), None
    )
    if sound is not None:
        rows.append(replace(sound, probability=nothing, circuit=parts[0].name))
    return tuple(sorted(rows, key=lambda row: -row.probability))


def _as_it_is(part: OfCircuit, mass, half: float, total: float, shared, whole: float) -> Posterior:
    """A circuit's own posterior as the whole job leaves it."""
    told = part.posterior.by_fault()
    marginal = {
        slug: value + half * (value * whole / max(total, LEAST_P)) + shared.get(slug, 0.0) / whole
        for slug, value in mass.items()
    }
    marginal[SOUND] = max(1.0 - sum(marginal.values()), LEAST_P)
    factor = {slug: value / max(told.get(slug, 0.0), LEAST_P) for slug, value in marginal.items()}
    p = np.array(
        [
            share * float(np.mean([factor.get(fault, 0.0) for fault in faults]))
            for faults, share in zip(part.posterior.faults, part.posterior.p, strict=True)
        ]
    )
    # What several circuits showed by themselves does not hang on one reading.
    firm = sum(shared.values()) / whole > 0.5
    return replace(part.posterior, p=p / p.sum(), survives=1.0 if firm else part.posterior.survives)


def _in_turn(
    lists: list[tuple[str, tuple[NextCheck, ...]]], parts: tuple[OfCircuit, ...], lead: str
) -> tuple[NextCheck, ...]:
    """Checks of several circuits as one list: each circuit's own order stays, the one whose next saves most for its
    minutes comes first. What several share is asked of the one that leads."""
    heads = {name: list(checks) for name, checks in lists}
    out, asked = [], set()
    while any(heads.values()):
        name = max((key for key, rest in heads.items() if rest), key=lambda head: _worth(heads[head][0]))
        check = heads[name].pop(0)
        slug, place = check.check.slug, check.check.place
        hangs_with = next(part.hangs_with for part in parts if part.name == name)
        # What is asked of the whole machine, or of the one fuse of several circuits, is asked once.
        before = {other for other, asked_slug in asked if asked_slug == slug}
        once = place is None or (place == Place.FUSE and bool(before & hangs_with))
        if not (once and before):
            leads = next((item for key, rest in lists for item in rest if (key, item.check.slug) == (lead, slug)), None)
            here = leads is not None and place in (None, Place.FUSE) and lead in hangs_with
            out.append(replace(leads, circuit=lead) if here else replace(check, circuit=name))
        asked.add((name, slug))
    return tuple(out)


def _worth(check: NextCheck) -> tuple[bool, float]:
    return check.pays, check.saves / max(check.total_minutes, 0.1)
