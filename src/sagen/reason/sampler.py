"""Where few particles explain the evidence, new ones are drawn near those that do, and counted by how much likelier they were
drawn (adaptive multiple importance sampling: Cornuet, Marin, Mira and Robert, Scandinavian Journal of Statistics 39, 2012, from
memory), from the same even draws for every history, so that they stay comparable."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.reason.diagnostics import effective_sample_size
from sagen.reason.history import FaultHistory
from sagen.reason.likelihood import Drawn, Values, log_likelihoods
from sagen.reason.placing import Fit, fitted
from sagen.reason.proposal import Particles, Proposal
from sagen.reason.scales import log_mean
from sagen.reason.smoother import LEARNED_FROM, MOVED, alike, assimilated, tempered
from sagen.reason.world import World

#: where fewer particles than this share the weight of a hypothesis that is not this far behind (nats; of few particles it may
#: be further, of a handful further still, of a pair less), new ones are drawn; of so many hypotheses at most, and of so many that are
#: alike to one of them
ESS_THRESHOLD, HANDFUL, CLOSE, CLOSE_IF_FEW, CLOSE_IF_HANDFUL, PAIR_CLOSE = 18.0, 3.0, 3.5, 7.0, 9.0, 4.0
MOST_REDRAWN, MOST_ALIKE = 28, 32
#: so many effective particles of even draws leave nothing open
ENOUGH = 90.0
#: rounds at most, and particles drawn in each; what each history may be uncertain by for its draws (standard error of its probability),
#: and how many effective particles it has at least
MOST_ROUNDS, REDRAWN, ERROR, FEWEST = 8, 600, 0.022, 30.0
#: share of the severities that are placed, at least and at most; how many widths about its place one counts as there
LEAST_FITTING, MOST_FITTING, NEAR = 0.1, 0.8, 8.0


def worth_redrawing(
    histories: list[FaultHistory], prior: np.ndarray, total: np.ndarray, means: np.ndarray, values: Values
) -> np.ndarray:
    """The histories that are to be drawn anew: all that may yet come to lead, where some of them hang on few particles, and those
    whose readings are the same as theirs, so that what is alike to a probe is weighed alike.

    Parameters
    ----------
    histories : list of FaultHistory
    prior : ndarray, shape (histories,)
        its logarithm
    total : ndarray, shape (histories, particles)
        log-likelihoods of all pieces together
    means : ndarray, shape (pieces, histories)
        logarithms of the mean likelihoods of each piece
    values : Values
        the precise values in the pieces, of the same particles

    Returns
    -------
    ndarray of int
        histories by index; few particles: by Kish's effective sample size, (sum w)^2 / sum w^2

    References
    ----------
    Effective size as a sign of starved draws: Kong, Liu and Wong, J. Am. Stat. Assoc. 89 (1994). From memory.
    """
    together, apart = prior + log_mean(total), prior + means.sum(axis=0)
    behind, behind_apart = together.max() - together, apart.max() - apart
    size = effective_sample_size(total)
    # A starved history is known too little: each piece by itself it may explain, and come to lead with particles of its own.
    far = np.where(size < HANDFUL, CLOSE_IF_HANDFUL, CLOSE_IF_FEW)
    close = (behind < CLOSE) | ((size < ENOUGH) & (behind_apart < far))
    # Pairs are many, and seldom lead: only one that does is worth the time.
    pairs = np.array([len(history.now) > 1 for history in histories])
    close = np.flatnonzero(close & ~(pairs & (behind > PAIR_CLOSE) & (behind_apart > PAIR_CLOSE)))
    distance = np.minimum(behind, behind_apart)
    nearest = np.argsort(distance, kind="stable")
    close = nearest[np.isin(nearest, close)][:MOST_REDRAWN]
    if not np.any((size < ESS_THRESHOLD)[close] & (distance < CLOSE)[close]):
        return close[:0]
    if not len(values.here):
        return close
    kind_of = alike(np.zeros(len(histories), np.intp), values.shown)
    as_they_are = np.isin(kind_of, kind_of[close]) & ~pairs
    as_they_are[close] = False
    return np.concatenate([close, nearest[as_they_are[nearest]][:MOST_ALIKE]])


@dataclass(frozen=True)
class Redrawn:
    """A history on particles of its own."""

    evidence: float  #: logarithm of its marginal likelihood
    halves: np.ndarray  #: that of either half of the particles, shape (2,)
    cube: np.ndarray  #: shape (particles, columns)
    gain: np.ndarray  #: logarithms of the particles' weights, shape (particles,)
    logs: np.ndarray  #: shape (pieces, particles)


class _Kind:
    """What is drawn for histories that are alike to a probe: the same particles for all, so that they differ by what tells them
    apart and not by their draws."""

    def __init__(
        self,
        members: np.ndarray,
        cube: np.ndarray,
        weights: np.ndarray,
        even: Particles,
        logs: np.ndarray,
        fit: Fit | None,
        moving: np.ndarray,
    ):
        self.members, self._moving = members, moving
        self._learned_from, self._weights = Particles.at(cube), weights.mean(axis=0)
        # Those that were drawn evenly, before any evidence, count as well: what every proposal is blind to, they are not.
        self._proposals: list[Proposal] = []
        self._particles, self._logs, self._total = even, [logs], logs.sum(axis=0)
        self.fit = fit  #: where the severities of all of them fit a reading
        self._severities = fit.placed(even.cube) if fit is not None else None  #: how dense they are there
        self._fitting = _shares(fit, cube, self._weights) if fit is not None else ()
        #: logarithms, of even draws and of each proposal at each particle
        self._densities = np.zeros((1, len(even.cube)))
        self.gain: np.ndarray  #: log-likelihoods less what the particles were drawn by, shape (members, particles)
        self.evidence: np.ndarray  #: logarithms of the marginal likelihoods, shape (members,)
        self.size: float  #: effective particles of the member that has fewest

    def drawn(self, even: np.ndarray) -> np.ndarray:
        """Fresh particles, shape of `even`; their severities are still to be placed."""
        last = self.fit.column if self.fit is not None else None
        learned = Proposal.learned(self._learned_from, self._weights, self._moving, last, self._fitting)
        self._proposals.append(learned)
        return learned.drawn(even)

    def placed(self, fresh: np.ndarray, even: np.ndarray, fit: Fit | None) -> None:
        """The severities of fresh particles put where they fit, in place."""
        newest, severities = self._proposals[-1], None
        if fit is not None:
            newest.placed(fresh, even, fit)
            severities = fit.placed(fresh)
        more = Particles.at(fresh)
        before = np.vstack([self._densities, newest.log(self._particles, self._severities)])
        here = [np.zeros(len(fresh)), *(proposal.log(more, severities) for proposal in self._proposals)]
        self._densities = np.hstack([before, here])
        self._particles = self._particles.beside(more)
        if self.fit is not None:
            self.fit, self._severities = self.fit.beside(fit), self._severities.beside(severities)

    def weighed(self, logs: np.ndarray) -> None:
        """Of the particles that were drawn last, shape (pieces, members, particles)."""
        self._logs.append(logs)
        self._total = np.hstack([self._total, logs.sum(axis=0)])
        # Each particle counts against all that it might have been drawn from: what one proposal is blind to, the other is not.
        drawn = np.array([logs.shape[2] for logs in self._logs])
        share = np.log(drawn / drawn.sum())[:, None]
        self.gain = self._total - np.logaddexp.reduce(self._densities + share, axis=0)
        self.evidence = log_mean(self.gain)
        self.size = effective_sample_size(self.gain).min()
        self._learned_from = self._particles
        self._weights = tempered(self.gain, LEARNED_FROM).mean(axis=0)
        if self.fit is not None:
            self._fitting = _shares(self.fit, self._particles.cube, self._weights, near=True)

    def wants_more(self, behind: float, p: np.ndarray) -> bool:
        """Whether more are to be drawn, for histories of probabilities `p`, so many nats behind the leading."""
        # What a handful of particles say of one that trails is too little to leave it.
        if behind > (CLOSE_IF_FEW if self.size < HANDFUL else CLOSE):
            return False
        # Of so many effective draws a probability has about this standard error (the delta method: Owen 2013, 9.2, from memory).
        return self.size < max((p * (1.0 - p)).max() ** 2 / ERROR**2, FEWEST)

    def found(self) -> list[Redrawn]:
        """Of each member."""
        halves = np.array([log_mean(self.gain[:, part::2]) for part in (0, 1)])
        logs = np.concatenate(self._logs, axis=2)
        return [
            Redrawn(float(self.evidence[k]), halves[:, k], self._particles.cube, self.gain[k], logs[:, k])
            for k in range(len(self.members))
        ]


def _shares(fit: Fit, cube: np.ndarray, weights: np.ndarray, *, near: bool = False) -> tuple[float, ...]:
    """What part of fresh particles to put where they fit, one a stretch: as much as lies there of those that explain the evidence."""
    place = cube[:, fit.column]
    there = fit.stretch(place)
    if near:
        there &= np.abs(place - fit.at) < NEAR * fit.width
    share = np.maximum(there @ weights, LEAST_FITTING)
    return tuple((MOST_FITTING * share / max(share.sum(), 1.0)).tolist())


def redrawn(
    histories, pieces, generations, world: World, prior: np.ndarray, values: Values, logs: np.ndarray
) -> list[Redrawn]:
    """Particles drawn where they are likely to explain the evidence of each history, all from the same even draws, so that
    histories that are alike come out alike; as many as those that lead want.

    Parameters
    ----------
    histories : list of FaultHistory
    pieces : list of (int, Evidence)
        each with its epoch
    generations : list of dict
        how often each part had been changed, by epoch
    world : World
    prior : ndarray, shape (histories,)
        its logarithm
    values, logs : Values, ndarray of shape (pieces, histories, particles)
        of the world's own particles

    Returns
    -------
    list of Redrawn
        one a history
    """
    drawn, weights, fits, moving = assimilated(histories, pieces, generations, world, values)
    kinds, evenly = [], Particles.at(world.cube[:MOVED])
    for k, cube in enumerate(drawn.cube):
        members = np.flatnonzero(drawn.set_of == k)
        one = members[0]
        kinds.append(_Kind(members, cube, weights[members], evenly, logs[:, members, :MOVED], fits[one], moving[one]))
    wanting = kinds
    for attempt in range(MOST_ROUNDS):
        even = world.even(REDRAWN, attempt)
        asked = np.concatenate([kind.members for kind in wanting])
        of = np.repeat(np.arange(len(wanting)), [len(kind.members) for kind in wanting])
        fresh = np.array([kind.drawn(even) for kind in wanting])
        first = [histories[kind.members[0]] for kind in wanting]
        drawn = Drawn(fresh, of, sound={})
        fits = fitted(first, pieces, generations, world, values, drawn, [kind.fit for kind in wanting])
        for kind, places_of, fit in zip(wanting, fresh, fits, strict=True):
            kind.placed(places_of, even, fit)
        found = log_likelihoods([histories[k] for k in asked], pieces, generations, world, drawn)[1]
        for number, kind in enumerate(wanting):
            kind.weighed(found[:, of == number])
        joint = [prior[kind.members] + kind.evidence for kind in kinds]
        lead, all_of_them = max(map(np.max, joint)), np.logaddexp.reduce(np.concatenate(joint))
        wanting = [
            kind
            for kind, row in zip(kinds, joint, strict=True)
            if kind.wants_more(lead - row.max(), np.exp(row - all_of_them))
        ]
        if not wanting:
            break
    out = {k: found for kind in kinds for k, found in zip(kind.members.tolist(), kind.found(), strict=True)}
    return [out[k] for k in range(len(histories))]
