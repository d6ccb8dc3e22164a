"""How likely the evidence is for every particle of every history, epoch by epoch."""

from __future__ import annotations

import numpy as np

from sagen.model.vocabulary import Part
from sagen.reason.evidence import Evidence
from sagen.reason.history import FaultHistory, faults_of
from sagen.reason.recording_likelihood import RecordingLikelihood
from sagen.reason.scales import log_mean
from sagen.reason.world import World

#: what else stands in a code's or a complaint's row says much the same
TOLD_TOGETHER = (1.0, 0.6, 0.4, 0.3)


def log_likelihoods(
    histories: list[FaultHistory],
    pieces: list[tuple[int, Evidence]],
    generations: list[dict[Part, int]],
    world: World,
    cube: np.ndarray | None = None,
) -> tuple[list[Evidence], np.ndarray]:
    """The pieces that say anything, and their log-likelihoods, shape (pieces, histories, particles).

    `cube`, shape (histories, particles, columns), gives each history its own particles instead of the world's.

    Parameters
    ----------
    histories : list of FaultHistory
    pieces : list of (int, Evidence)
        each with its epoch
    generations : list of dict
        how often each part had been changed, by epoch
    world : World
    cube : ndarray, shape (histories, particles, columns), or None
        latent parameters, 0 to 1

    Returns
    -------
    used, log : list of Evidence, ndarray of shape (pieces, histories, particles)
    """
    used, logs = [], []
    told = 0
    for epoch, parts in enumerate(generations):
        rows = [history.epochs[min(epoch, len(history.epochs) - 1)] for history in histories]
        if cube is None:
            unique = tuple(dict.fromkeys(rows))
            particle_set, place = world.particle_set(unique, parts), [unique.index(row) for row in rows]
        else:
            particle_set, place = world.particle_set_of(rows, cube, parts), None
        pictures = RecordingLikelihood()
        for when, piece in pieces:
            if when != epoch:
                continue
            found = piece.likelihood(particle_set, pictures, world.facts)
            if found is None:
                continue
            log = np.log(np.maximum(np.broadcast_to(found, particle_set.shape), 1e-12))
            if piece.told:
                log = log * TOLD_TOGETHER[min(told, len(TOLD_TOGETHER) - 1)]
                told += 1
            used.append(piece)
            logs.append(log if place is None else log[place])
    shape = (len(histories), cube.shape[1] if cube is not None else world.particles)
    return used, np.array(logs).reshape(len(logs), *shape)


def marginal_likelihoods(log: np.ndarray, histories: list[FaultHistory]) -> dict[str, float]:
    """A piece's likelihood under each fault mode by itself, as the particles of the history have it.

    Parameters
    ----------
    log : ndarray, shape (histories, particles)
        one piece's log-likelihoods
    histories : list of FaultHistory

    Returns
    -------
    dict
        fault mode to likelihood
    """
    out: dict[str, float] = {}
    means = np.exp(log_mean(log))
    for history, mean in zip(histories, means, strict=True):
        faults = faults_of(history.now)
        if len(faults) == 1:
            out[faults[0]] = max(out.get(faults[0], 0.0), float(mean))
    return out
