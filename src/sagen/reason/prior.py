"""How likely each course of faults is before any evidence: fault modes by their shares, what a changed part took along and brought, pairs."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np

from sagen.model.vocabulary import Origin, Part
from sagen.reason.evidence import Evidence
from sagen.reason.facts import cause_of
from sagen.reason.history import Case, FaultHistory, Replaced, row_of
from sagen.reason.learned import Learned
from sagen.reason.likelihood import log_likelihoods
from sagen.reason.particle_set import SOUND_ROW, Row
from sagen.reason.scales import log_mean
from sagen.reason.world import World

PERSISTS = 0.35  #: how much a complaint that outlasted an earlier repair speaks against a sound circuit
#: two faults at once: how much rarer than either would have it, and how many leading ones are paired
BOTH, PAIRED = 0.2, 6
PAIRED_APART = 4  #: and so many of them with the best of other causes
PAIRED_AFTER_CHANGE = 4
STILL_THERE = 7  #: of two faults of which the first repair mended one: how many are followed as the other
BEGAN_WITH_IT, MOST_BAD = 4.0, 0.6  #: how much likelier the new part, or what was touched, is bad then
#: histories that are followed after a change: of three parts changed in turn, the first thousand hold 99.99 %
MOST_HISTORIES = 1000


def _prior(case: Case, world: World) -> list[FaultHistory]:
    correlated = any(item.about_timing for item in case.trail if isinstance(item, Evidence))
    weights = case.learned.weights(world.facts, world.faults, case.spec.role, correlated=correlated)
    return [FaultHistory((row_of(fault),), float(np.log(p))) for fault, p in zip(world.faults, weights, strict=True)]


def _slot(row: Row) -> int:
    return max((slot for _, slot in row), default=-1) + 1


def _after_change(
    change: Replaced, histories: list[FaultHistory], world: World, learned: Learned, told: frozenset[int]
) -> list[FaultHistory]:
    """Courses after a part was changed: its faults left with it, and the new one is bad with its origin's chance. Of epochs
    that no evidence is `told` of, only what the last one had matters, and only where nothing is wrong any more."""
    facts = world.facts
    cured_by, bad = facts.cured_by(Part(change.part)), learned.bad(facts, Origin(change.origin))
    if change.began:
        bad = min(BEGAN_WITH_IT * bad, MOST_BAD)
    modes = [fault for fault in world.faults if fault in cured_by]
    usual = learned.weights(facts, modes, world.spec.role) * [facts.priors[fault].by_work for fault in modes]
    usual /= max(usual.sum(), 1e-12)
    likely = [modes[k] for k in np.argsort(-usual)[:PAIRED_AFTER_CHANGE]]
    out: dict[tuple[Row, ...], float] = {}

    def add(epochs: tuple[Row, ...], p: float) -> None:
        if p > 0:
            out[epochs] = out.get(epochs, 0.0) + p

    def follow(history: FaultHistory, row: Row) -> tuple[Row, ...]:
        # What was changed before the job has no evidence of its own epoch.
        if change.earlier:
            return (row,)
        last = len(history.epochs) - 1
        kept = (
            then if epoch in told or (epoch == last and not row) else SOUND_ROW
            for epoch, then in enumerate(history.epochs)
        )
        return (*kept, row)

    for history in histories:
        p = float(np.exp(history.log))
        left = tuple(item for item in history.now if item[0] not in cured_by)
        gone = left != history.now
        slot = min(_slot(history.now), 2)
        cured = change.earlier and gone and not left
        if left:
            add(follow(history, left), p * (1 - bad if modes else 1.0))
            for each in likely if len(left) == 1 else ():
                add(follow(history, (*left, (each, slot))), p * bad / len(likely))
        else:
            # Of machines whose fault left with the part none would have come in with the complaint still there.
            add(follow(history, SOUND_ROW), 0.0 if cured else p * (1 - bad) * (PERSISTS if change.earlier else 1.0))
            for mode, share in zip(modes, usual, strict=True):
                add(follow(history, row_of(mode, 0 if change.earlier else slot)), p * bad * float(share))
    total = sum(out.values())
    return [FaultHistory(epochs, float(np.log(p / total))) for epochs, p in out.items()]


def histories_of(
    case: Case, world: World
) -> tuple[list[FaultHistory], list[tuple[int, Evidence]], list[dict[Part, int]]]:
    """Every history, each piece of evidence with its epoch, and how often each part had been changed by then. Where parts were
    changed again and again, only the leading histories are followed.

    Parameters
    ----------
    case : Case
        the trail, oldest first
    world : World
        the circuit's machines

    References
    ----------
    Only the leading paths are followed (beam search): Lowerre, The Harpy Speech Recognition System (1976). From memory.
    """
    epoch, pieces, generations = 0, [], [{}]
    for item in case.trail:
        if not isinstance(item, Replaced):
            pieces.append((epoch, item))
        elif not item.earlier:
            epoch += 1
            generations.append({**generations[-1], item.part: generations[-1].get(item.part, 0) + 1})
    told = frozenset(when for when, _ in pieces)
    histories, known = _prior(case, world), [{} for _ in generations]
    for item in case.trail:
        if isinstance(item, Replaced):
            # Where nothing was told before it, a second fault that it took along is as if it had never been.
            if not item.earlier and len(histories[0].epochs) == 1 and 0 in told:
                histories = [*histories, *_one_of_two_repaired(item, histories, pieces, generations, world)]
            histories = _after_change(item, histories, world, case.learned, told)
            if len(histories) > MOST_HISTORIES:
                histories = _leading(histories, pieces, generations, world, known)
    return histories, pieces, generations


def _one_of_two_repaired(
    change: Replaced, histories: list[FaultHistory], pieces, generations, world: World
) -> list[FaultHistory]:
    """Courses of two faults of which the first repair of the job takes one along: the likeliest that it mends, with those that what
    was measured since points at; without them what is left would have to be the single fault that explains both."""
    single = [history for history in histories if len(history.now) == 1]
    fault = [history.now[0][0] for history in single]
    log = np.array([history.log for history in single])

    def told(epoch: int) -> np.ndarray:
        here = [(0, piece) for when, piece in pieces if when == epoch]
        if not here:
            return np.zeros(len(single))
        return log_mean(log_likelihoods(single, here, [generations[epoch]], world)[1].sum(axis=0))

    cured_by, before, since = world.facts.cured_by(Part(change.part)), log + told(0), log + told(1)
    mended = next((k for k in np.argsort(-before) if fault[k] in cured_by), None)
    if mended is None:
        return []
    there = [k for k in np.argsort(-since) if fault[k] not in cured_by][:STILL_THERE]
    return [
        FaultHistory((((fault[mended], 0), (fault[k], 1)),), float(log[mended] + log[k] + np.log(BOTH)))
        for k in there
        if cause_of(fault[mended]) != cause_of(fault[k])
    ]


def _leading(
    histories: list[FaultHistory], pieces, generations, world: World, known: list[dict[Row, float]]
) -> list[FaultHistory]:
    """Those that lead by their prior and by what is told of each epoch before the last by itself; the best one of whatever may
    be wrong now is always among them. `known` keeps the latter by epoch and row."""
    log = np.array([history.log for history in histories])
    for epoch, of_row in enumerate(known[: len(histories[0].epochs) - 1]):
        here = [(0, piece) for when, piece in pieces if when == epoch]
        if not here:
            continue
        rows = [row for row in dict.fromkeys(history.epochs[epoch] for history in histories) if row not in of_row]
        if rows:
            alone = [FaultHistory((row,), 0.0) for row in rows]
            found = log_likelihoods(alone, here, [generations[epoch]], world)[1].sum(axis=0)
            of_row.update(zip(rows, log_mean(found), strict=True))
        log += [of_row[history.epochs[epoch]] for history in histories]
    order = np.argsort(-log, kind="stable")
    best_of_each = {histories[k].now: k for k in order[::-1]}
    kept = sorted({*order[:MOST_HISTORIES], *best_of_each.values()})
    total = np.logaddexp.reduce([histories[k].log for k in kept])
    return [FaultHistory(histories[k].epochs, float(histories[k].log - total)) for k in kept]


def pairs_of(histories: list[FaultHistory], logs: np.ndarray, world: World) -> list[FaultHistory]:
    """Two faults at once, of the leading ones of different causes: rarer than either, but a machine may have them.

    Parameters
    ----------
    histories : list of FaultHistory
        of single faults
    logs : ndarray, shape (histories,)
        log marginal likelihoods
    world : World
    """
    order = [k for k in np.argsort(-logs) if len(histories[k].now) == 1 and len(histories[k].epochs) == 1]
    leading, told, apart = order[:PAIRED], {cause_of(histories[k].now[0][0]) for k in order[:PAIRED]}, []
    # What shows by itself what no leading one explains trails all of those that explain the rest.
    for k in order[PAIRED:]:
        cause = cause_of(histories[k].now[0][0])
        if cause not in told:
            told.add(cause)
            apart.append(k)
    out = []
    for a, b in (*combinations(leading, 2), *product(leading[:PAIRED_APART], apart[:PAIRED_APART])):
        (one, _), (other, _) = histories[a].now[0], histories[b].now[0]
        if cause_of(one) != cause_of(other):
            rows = (((one, 0), (other, 1)),)
            out.append(FaultHistory(rows, histories[a].log + histories[b].log + np.log(BOTH)))
    return out
