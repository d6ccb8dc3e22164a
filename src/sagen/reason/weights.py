"""Bayes' rule over whole machines: fault modes, pairs of them, and what a changed part brought.

Every hypothesis is a history: which fault modes the machine had before the first repair of the job, and after each. The evidence
of each epoch is weighed on the particles of that epoch, all of it jointly, so that what one reading tells of the battery or the
pull-up counts in the next. Two halves of the draws that disagree make the answer less sure, never more.
"""

from __future__ import annotations

from dataclasses import fields, replace
from itertools import groupby
from operator import itemgetter
from typing import NamedTuple

import numpy as np

from sagen.model.finding import Suspect
from sagen.reason.diagnostics import (
    leave_one_out,
    shrink_unconfirmed,
    split_half_shrinkage,
    unexplained_readings,
)
from sagen.reason.evidence import Captured, Evidence, MeterReading, gathered
from sagen.reason.history import Case, FaultHistory, faults_of
from sagen.reason.likelihood import foreseen, log_likelihoods, marginal_likelihoods
from sagen.reason.posterior import Posterior, WeightedParticles
from sagen.reason.prior import histories_of, pairs_of
from sagen.reason.sampler import redrawn, worth_redrawing
from sagen.reason.scales import log_mean, log_mean_cut, normalised
from sagen.reason.suspects import suspects
from sagen.reason.world import World, world_of


def infer(case: Case, *, world: World | None = None) -> Posterior:
    """The posterior over fault modes, pairs of leading ones, and what a changed part brought.

    Parameters
    ----------
    case : Case
    world : World or None
        drawn anew where None

    Returns
    -------
    Posterior
        by importance sampling with even draws, drawn anew where few particles count, and shrunk by what `diagnostics` says

    References
    ----------
    Self-normalised importance sampling: Owen, Monte Carlo Theory, Methods and Examples (2013), 9.2. From memory.
    """
    world = world or world_of(case.spec)
    with world.lock:
        return _infer(case, world)


class _Weighed(NamedTuple):
    """Histories with what the evidence makes of them."""

    histories: list[FaultHistory]
    prior: np.ndarray  #: its logarithm, shape (histories,)
    used: list[Evidence]  #: the pieces that say anything
    logs: np.ndarray  #: log-likelihoods of the world's own particles, shape (pieces, histories, particles)
    means: np.ndarray  #: logarithms of the mean likelihoods of each piece, shape (pieces, histories)
    evidence: np.ndarray  #: logarithms of the marginal likelihoods, shape (histories,)
    halves: list[np.ndarray]  #: those of either half of the draws
    weighted_sets: list[WeightedParticles]
    #: of each the logarithms of its particles' weights, and their log-likelihoods
    ends: list[tuple[np.ndarray, np.ndarray]]


def _infer(case: Case, world: World) -> Posterior:
    singles, pieces, generations = histories_of(case, world)
    pieces = without_order(pieces)

    def key(pieces: list[tuple[int, Evidence]]) -> tuple:
        told = tuple((history.epochs, history.log) for history in singles)
        return tuple(pieces), told, tuple(tuple(sorted(parts.items())) for parts in generations)

    here = _weighed(singles, pieces, generations, world)
    world.answers.once(key(pieces), lambda: _joint(here))
    p = split_half_shrinkage(here.prior, here.evidence, here.halves)
    posterior = Posterior(
        tuple(faults_of(history.now) for history in here.histories),
        p,
        tuple(here.used),
        unexplained_readings(here.used, here.logs, world),
        tuple(here.weighted_sets),
        generations=generations[-1],
        left=_left(here.histories, p),
        before=_before(here.used, pieces, len(generations) - 1),
    )
    # What a piece says by itself is told by particles that no other piece has chosen.
    alone = tuple(marginal_likelihoods(row, here.histories) for row in here.means)

    def without(piece: Evidence) -> np.ndarray:
        left = [item for item in pieces if item[1] is not piece]
        # A job grows piece by piece: what it was without the newest was weighed when it was not yet told.
        joint = world.answers.once(key(left), lambda: _joint(_weighed(singles, left, generations, world)))
        return np.array([joint.get(history.epochs, -np.inf) for history in here.histories])

    survives, doubted, hangs_on = leave_one_out(posterior, here.used, here.ends, here.prior + here.evidence, without)
    return replace(
        posterior,
        p=shrink_unconfirmed(posterior, survives, doubted, world.facts),
        survives=survives,
        doubted=doubted,
        hangs_on=hangs_on,
        alone=alone,
    )


def _joint(weighed: _Weighed) -> dict[tuple, float]:
    """Logarithms of prior and evidence together, by what each history is."""
    joint = (weighed.prior + weighed.evidence).tolist()
    return {history.epochs: log for history, log in zip(weighed.histories, joint, strict=True)}


def _weighed(histories: list[FaultHistory], pieces: list[tuple[int, Evidence]], generations, world: World) -> _Weighed:
    """The histories and pairs of those that lead, by the pieces of evidence, each with its epoch."""
    used, logs = log_likelihoods(histories, pieces, generations, world)
    values = foreseen(histories, pieces, generations, world)
    prior = np.array([history.log for history in histories])
    # One finding or reading alone tells no two faults apart from one.
    told = (
        len(item.found) if isinstance(item, Captured) else 1
        for item in used
        if isinstance(item, MeterReading | Captured)
    )
    if sum(told) > 1:
        more = pairs_of(histories, prior + log_mean(logs.sum(axis=0)), world)
        if more:
            # Singles and pairs are asked apart, as they were drawn: together they would be one more set of particles.
            _, extra = log_likelihoods(more, pieces, generations, world)
            values = values.beside(foreseen(more, pieces, generations, world))
            histories, logs = [*histories, *more], np.concatenate([logs, extra], axis=1)
            prior = np.array([history.log for history in histories])
    total, means = logs.sum(axis=0), log_mean(logs)
    evidence = log_mean_cut(total)
    half = world.particles // 2
    halves = [log_mean_cut(total[:, part]) for part in (slice(0, half), slice(half, None))]
    weighted_sets = [
        WeightedParticles(history.now, world.cube, normalised(row))
        for history, row in zip(histories, total, strict=True)
    ]
    ends = [(row, logs[:, k]) for k, row in enumerate(total)]
    close = worth_redrawing(histories, prior, total, means, values)
    if len(close):
        chosen = [histories[k] for k in close]
        again = redrawn(chosen, pieces, generations, world, prior[close], values.of(close), logs[:, close])
        for k, found in zip(close, again, strict=True):
            evidence[k] = found.evidence
            halves[0][k], halves[1][k] = found.halves
            weighted_sets[k] = WeightedParticles(histories[k].now, found.cube, normalised(found.gain))
            ends[k] = (found.gain, found.logs)
    return _Weighed(histories, prior, used, logs, means, evidence, halves, weighted_sets, ends)


def without_order(pieces: list[tuple[int, Evidence]]) -> list[tuple[int, Evidence]]:
    """Evidence of each epoch in an order of its own, the same whatever order it was told in, and what was told twice once.

    Parameters
    ----------
    pieces : list of (int, Evidence)
        epoch and piece
    """

    def key(item: tuple[int, Evidence]) -> tuple:
        epoch, piece = item
        values = [getattr(piece, name.name) for name in fields(piece)]
        told = [
            repr(sorted(map(str, value))) if isinstance(value, frozenset | set) else repr(value) for value in values
        ]
        return epoch, type(piece).__name__, told

    seen: list[tuple[int, Evidence]] = []
    for item in sorted(pieces, key=key):
        if item not in seen:
            seen.append(item)
    by_epoch = groupby(seen, key=itemgetter(0))
    return [(epoch, piece) for epoch, items in by_epoch for piece in gathered(item for _, item in items)]


def _before(used: list[Evidence], pieces: list[tuple[int, Evidence]], last: int) -> tuple[bool, ...]:
    earlier = {id(piece) for epoch, piece in pieces if epoch < last}
    return tuple(id(item) in earlier and not item.told for item in used)


def _left(histories: list[FaultHistory], p: np.ndarray) -> dict[str, float]:
    """What there was before the last repair on the histories on which nothing is wrong any more."""
    out: dict[str, float] = {}
    for history, share in zip(histories, p, strict=True):
        if not history.now and len(history.epochs) > 1:
            for fault in faults_of(history.epochs[-2]):
                out[fault] = out.get(fault, 0.0) + float(share)
    return out


def weigh(case: Case) -> tuple[tuple[Suspect, ...], Posterior]:
    """Suspects and the posterior behind them.

    Parameters
    ----------
    case : Case
        the trail, oldest first
    """
    posterior = infer(case)
    return suspects(case, posterior), posterior
