"""Where few particles explain the evidence, new ones are drawn near those that do, and counted by how much likelier they were
drawn (adaptive importance sampling: G. P. Lepage, J. Comput. Phys. 27, 1978), from the same even draws for every history, so
that they stay comparable."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.reason.diagnostics import effective_sample_size
from sagen.reason.history import FaultHistory
from sagen.reason.likelihood import log_likelihoods
from sagen.reason.scales import log_mean, normalised_rows
from sagen.reason.world import SEED, World

#: where fewer particles than this share the weight of a hypothesis that is not this far behind (nats; of few particles it may
#: be further, of a pair less), new ones are drawn
ESS_THRESHOLD, CLOSE, CLOSE_IF_FEW, PAIR_CLOSE = 18.0, 3.5, 6.0, 1.5
#: how often, how many, and from how many the proposals are learned; bins of a proposal, standard deviations beyond chance from
#: which a coordinate counts as told, and what of a proposal stays flat
ROUNDS, REDRAWN, LEARNED_FROM = 4, 240, 50.0
BINS, TOLD_SIGMAS, STILL_FLAT = 40, 3.0, 0.15


def worth_redrawing(
    histories: list[FaultHistory], prior: np.ndarray, evidence: np.ndarray, total: np.ndarray
) -> np.ndarray:
    """The histories that are to be drawn anew: all that may yet come to lead, where some of them hang on few particles.

    Parameters
    ----------
    histories : list of FaultHistory
    prior, evidence : ndarray, shape (histories,)
        log prior and log marginal likelihood
    total : ndarray, shape (histories, particles)
        log-likelihoods of all the pieces together

    Returns
    -------
    ndarray of int
        histories by index; few particles: by Kish's effective sample size, (sum w)^2 / sum w^2
    """
    posterior = prior + evidence
    behind = posterior.max() - posterior
    few = effective_sample_size(total) < ESS_THRESHOLD
    # A starved history is known too little: it may be further behind and yet come to lead.
    close = (behind < CLOSE) | (few & (behind < CLOSE_IF_FEW))
    # Pairs are many, and seldom lead: only one that does is worth the time.
    pairs = np.array([len(history.now) > 1 for history in histories])
    close = np.flatnonzero(close & ~(pairs & (behind > PAIR_CLOSE)))
    return close if np.any(few[close]) else close[:0]


class Proposal:
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


def tempered(log: np.ndarray, least: float) -> np.ndarray:
    """Weights of the particles of each row, tempered until at least so many count.

    Parameters
    ----------
    log : ndarray, shape (rows, particles)
        log-likelihoods
    least : float
        effective sample size that is wanted

    Returns
    -------
    ndarray, shape (rows, particles)
        weights, adding up to 1 a row (tempering: Neal, Statistics and Computing 11, 2001, from memory)
    """
    heat = np.ones(len(log))
    for _ in range(30):
        few = effective_sample_size(heat[:, None] * log) < least
        if not few.any():
            break
        heat[few] *= 0.75
    return normalised_rows(heat[:, None] * log)


@dataclass(frozen=True)
class Redrawn:
    """Courses on particles of their own."""

    evidence: np.ndarray  #: shape (histories,)
    halves: np.ndarray  #: the evidence of either half of the particles, shape (2, histories)
    cube: np.ndarray  #: shape (histories, particles, columns)
    weights: np.ndarray  #: shape (histories, particles)
    logs: np.ndarray  #: shape (pieces, histories, particles)


def redrawn(histories, pieces, generations, world: World, first: np.ndarray) -> Redrawn:
    """Particles drawn where they are likely to explain the evidence of each history, all from the same even draws, so that
    histories that are alike come out alike. `first` holds the log-likelihoods of the world's own particles, shape (histories,
    particles).

    Parameters
    ----------
    histories : list of FaultHistory
    pieces : list of (int, Evidence)
        each with its epoch
    generations : list of dict
        how often each part had been changed, by epoch
    world : World
    first : ndarray, shape (histories, particles)
        see above

    Returns
    -------
    Redrawn
        latent parameters of the last two rounds, their log-likelihoods and marginal likelihoods (adaptive importance sampling)
    """
    guess = Proposal(len(histories))
    cube, gain = np.broadcast_to(world.cube, (len(histories), *world.cube.shape)), first
    kept: list[tuple] = []
    for attempt in range(ROUNDS):
        guess.learn(cube, tempered(gain, LEARNED_FROM))
        cube = np.repeat(world.places.cube(REDRAWN, SEED + attempt)[None], len(histories), axis=0)
        guess.draw(cube)
        logs = log_likelihoods(histories, pieces, generations, world, cube)[1]
        gain = logs.sum(axis=0) - guess.log(cube)
        kept.append((cube, gain, logs))
    # The first rounds are for learning; the last two, drawn apart from one another, are the halves.
    (one, gain_one, logs_one), (other, gain_other, logs_other) = kept[-2:]
    halves = np.array([log_mean(gain_one), log_mean(gain_other)])
    both = np.concatenate([gain_one, gain_other], axis=1)
    return Redrawn(
        log_mean(both),
        halves,
        np.concatenate([one, other], axis=1),
        normalised_rows(both),
        np.concatenate([logs_one, logs_other], axis=2),
    )
