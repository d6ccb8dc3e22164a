"""Where few particles explain the evidence, new ones are drawn near those that do, and counted by how much likelier they were
drawn (adaptive multiple importance sampling: Cornuet, Marin, Mira and Robert, Scandinavian Journal of Statistics 39, 2012, from
memory), from the same even draws for every history, so that they stay comparable."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.reason.diagnostics import effective_sample_size
from sagen.reason.history import FaultHistory
from sagen.reason.likelihood import Values, log_likelihoods
from sagen.reason.scales import bell, log_mean, normalised_rows
from sagen.reason.smoother import assimilated, places, scores
from sagen.reason.world import World

#: where fewer particles than this share the weight of a hypothesis that is not this far behind (nats; of few particles it may
#: be further, of a pair less), new ones are drawn; of so many hypotheses at most
ESS_THRESHOLD, CLOSE, CLOSE_IF_FEW, PAIR_CLOSE, MOST_REDRAWN = 18.0, 3.5, 5.0, 2.0, 28
#: times as wide as they are readings are taken, to see which hypotheses might come near them with particles of their own; and the
#: density of one that nothing explains
BLUR, FLOOR = 4.0, 1e-3
#: rounds, particles drawn in each, from how many effective ones a proposal is learned, and how many are enough
ROUNDS, REDRAWN, LEARNED_FROM, ENOUGH = 3, 360, 25.0, 40.0
#: bins in which a coordinate is seen to be told, standard deviations beyond chance from which it counts as told
BINS, TOLD_SIGMAS = 40, 3.0
#: kernels of a proposal, the narrowest in logits, and the particles that stay flat
CENTRES, NARROWEST, STILL_FLAT = 120, 2e-3, 0.15


def worth_redrawing(
    histories: list[FaultHistory], prior: np.ndarray, total: np.ndarray, blurred: np.ndarray
) -> np.ndarray:
    """The histories that are to be drawn anew: all that may yet come to lead, where some of them hang on few particles.

    Parameters
    ----------
    histories : list of FaultHistory
    prior : ndarray, shape (histories,)
        its logarithm
    total, blurred : ndarray, shape (histories, particles)
        log-likelihoods of all the pieces together, and with every precise value taken wider

    Returns
    -------
    ndarray of int
        histories by index; few particles: by Kish's effective sample size, (sum w)^2 / sum w^2

    References
    ----------
    Effective size as a sign of starved draws: Kong, Liu and Wong, J. Am. Stat. Assoc. 89 (1994). From memory.
    """
    posterior, wide = prior + log_mean(total), prior + log_mean(blurred)
    behind, behind_wide = posterior.max() - posterior, wide.max() - wide
    few = effective_sample_size(total) < ESS_THRESHOLD
    # A starved history is known too little: by wider readings it may be near, and come to lead with particles of its own.
    close = (behind < CLOSE) | (few & (behind_wide < CLOSE_IF_FEW))
    # Pairs are many, and seldom lead: only one that does is worth the time.
    pairs = np.array([len(history.now) > 1 for history in histories])
    close = np.flatnonzero(close & ~(pairs & (behind > PAIR_CLOSE) & (behind_wide > PAIR_CLOSE)))
    close = close[np.argsort(np.minimum(behind, behind_wide)[close], kind="stable")]
    if not np.any(few[close]):
        return close[:0]
    return close[:MOST_REDRAWN]


def blurred(total: np.ndarray, values: Values) -> np.ndarray:
    """Log-likelihoods with every precise value taken `BLUR` times as wide as it is.

    Parameters
    ----------
    total : ndarray, shape (histories, particles)
        as they are
    values : Values
        of the same particles

    Returns
    -------
    ndarray, shape of `total`
    """
    out = total.copy()
    for here, shown, width in zip(*values, strict=True):
        out += np.log(bell(here, shown, BLUR * width) + FLOOR) - np.log(bell(here, shown, width) + FLOOR)
    return out


class Proposal:
    """Where particles are worth drawing: a kernel density of those that explain the evidence, along the coordinates that it
    tells of, as logits; the prior for all others, and for a share of the particles along all (population Monte Carlo: Cappe, Douc, Guillin, Marin and Robert,
    Statistics and Computing 18, 2008; bandwidth: Silverman 1986, eq. 4.14; both from memory).
    """

    def __init__(self, kernels: list[Kernels | None]):
        self._kernels = kernels

    @classmethod
    def learned(cls, cube: np.ndarray, weights: np.ndarray) -> Proposal:
        """From the density of weighted particles along the coordinates that differ from flat by more than so few do by chance.

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
        told = chance > BINS - 1 + TOLD_SIGMAS * np.sqrt(2.0 * (BINS - 1))
        return cls(
            [
                Kernels.of(cube[index], weights[index], np.flatnonzero(told[index]), effective[index])
                if told[index].any()
                else None
                for index in range(sets)
            ]
        )

    def drawn(self, cube: np.ndarray, noise: np.ndarray) -> np.ndarray:
        """Particles that are worth drawing, from the same evenly drawn ones for every set.

        Parameters
        ----------
        cube, noise : ndarray, shape (particles, columns)
            evenly drawn, 0 to 1; and normal, with mean 0 and variance 1

        Returns
        -------
        ndarray, shape (sets, particles, columns)
        """
        return np.array([cube if item is None else item.drawn(cube, noise) for item in self._kernels])

    def log(self, cube: np.ndarray) -> np.ndarray:
        """Logarithm of the density that particles were drawn with, shape (sets, particles)."""
        flat = np.zeros(cube.shape[1])
        return np.array([flat if item is None else item.log(cube[k]) for k, item in enumerate(self._kernels)])


@dataclass(frozen=True)
class Kernels:
    """Normal kernels of one width about particles, in logits."""

    columns: np.ndarray  #: the coordinates that they are of, shape (told,)
    centres: np.ndarray  #: shape (kernels, told)
    root: np.ndarray  #: Cholesky factor of their covariance, shape (told, told)

    @classmethod
    def of(cls, cube: np.ndarray, weights: np.ndarray, columns: np.ndarray, effective: float) -> Kernels:
        """Kernels about particles, shape (particles, columns), taken as often as they weigh.

        References
        ----------
        Bandwidth: Silverman, Density Estimation (1986), eq. 4.14. From memory.
        """
        about = scores(cube[:, columns])
        told = len(columns)
        about_mean = about - weights @ about
        covariance = (weights[:, None] * about_mean).T @ about_mean
        # Of few particles correlations are hardly known.
        own = np.diag(np.maximum(np.diag(covariance), NARROWEST**2))
        trust = effective / (effective + told + 1.0)
        covariance = trust * covariance + (1 - trust) * own + 1e-9 * np.eye(told)
        width = (4.0 / ((told + 2.0) * max(effective, 2.0))) ** (1.0 / (told + 4.0))
        share = (np.arange(CENTRES) + 0.5) / CENTRES
        chosen = np.minimum(np.searchsorted(np.cumsum(weights), share), len(weights) - 1)
        return cls(columns, about[chosen], width * np.linalg.cholesky(covariance))

    def drawn(self, cube: np.ndarray, noise: np.ndarray) -> np.ndarray:
        """Particles about the kernels, from evenly drawn ones and normal noise, shape (particles, columns) all."""
        out = cube.copy()
        moved = np.arange(len(cube)) >= round(STILL_FLAT * len(cube))
        centres = self.centres[np.arange(len(cube)) % len(self.centres)]
        moved_to = places(centres + noise[:, self.columns] @ self.root.T)
        out[np.ix_(moved, self.columns)] = moved_to[moved]
        return out

    def log(self, cube: np.ndarray) -> np.ndarray:
        """Logarithm of the density, against the cube's flat one, shape (particles,)."""
        here = cube[:, self.columns]
        white = np.linalg.inv(self.root).T
        whitened, about = scores(here) @ white, self.centres @ white
        square = (whitened**2).sum(axis=1)[:, None] + (about**2).sum(axis=1) - 2.0 * whitened @ about.T
        kernel = log_mean(-0.5 * np.maximum(square, 0.0)) - np.log(np.diag(self.root)).sum()
        kernel -= 0.5 * len(self.columns) * np.log(2 * np.pi) + np.log(here * (1 - here)).sum(axis=1)
        return np.logaddexp(np.log(1 - STILL_FLAT) + kernel, np.log(STILL_FLAT))


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
    """Histories on particles of their own."""

    evidence: np.ndarray  #: shape (histories,)
    halves: np.ndarray  #: the evidence of either half of the particles, shape (2, histories)
    cube: np.ndarray  #: shape (histories, particles, columns)
    weights: np.ndarray  #: shape (histories, particles)
    logs: np.ndarray  #: shape (pieces, histories, particles)


def redrawn(histories, pieces, generations, world: World, prior: np.ndarray, values: Values) -> Redrawn:
    """Particles drawn where they are likely to explain the evidence of each history, all from the same even draws, so that
    histories that are alike come out alike.

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
    values : Values
        of the world's own particles

    Returns
    -------
    Redrawn
        latent parameters of all rounds, their log-likelihoods, weights and marginal likelihoods
    """
    cube, weights = assimilated(histories, pieces, generations, world, values)
    # Histories that are alike to a probe have the same particles, and are drawn alike: they differ by what tells them apart
    # and not by their draws.
    _, first, group = np.unique(cube.mean(axis=1), axis=0, return_index=True, return_inverse=True)
    group = group.ravel()
    cube, proposals, cubes, found, densities = cube[first], [], [], [], []
    for attempt in range(ROUNDS):
        together = np.array([weights[group == item].mean(axis=0) for item in range(len(first))])
        proposals.append(Proposal.learned(cube, together))
        noise = np.random.default_rng((world.seed, attempt)).standard_normal((REDRAWN, cube.shape[2]))
        fresh = proposals[-1].drawn(world.places.cube(REDRAWN, world.seed + attempt), noise)
        densities.append([proposal.log(fresh) for proposal in proposals[:-1]])
        cubes.append(fresh)
        for row, earlier in zip(densities, cubes, strict=True):
            row.append(proposals[-1].log(earlier))
        found.append(log_likelihoods(histories, pieces, generations, world, fresh[group])[1])
        cube, logs = np.concatenate(cubes, axis=1), np.concatenate(found, axis=2)
        # Each particle counts against all that it might have been drawn from: what one proposal is blind to, the other is not.
        drawn = np.concatenate([log_mean(np.array(row), axis=0) for row in densities], axis=1)
        gain = logs.sum(axis=0) - drawn[group]
        posterior = prior + log_mean(gain)
        lead = posterior > posterior.max() - CLOSE
        if attempt and effective_sample_size(gain[lead]).min() >= ENOUGH:
            break
        weights = tempered(gain, LEARNED_FROM)
    halves = np.array([log_mean(gain[:, part::2]) for part in (0, 1)])
    return Redrawn(log_mean(gain), halves, cube[group], normalised_rows(gain), logs)
