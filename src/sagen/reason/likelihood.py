"""How likely the evidence is for every particle of every history, epoch by epoch."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from sagen.model.vocabulary import Part
from sagen.reason.evidence import Evidence, Stayed, ran
from sagen.reason.history import FaultHistory, faults_of
from sagen.reason.particle_set import ParticleSet
from sagen.reason.recording_likelihood import RecordingLikelihood
from sagen.reason.world import World

#: what else stands in a code's or a complaint's row says much the same
TOLD_TOGETHER = (1.0, 0.6, 0.4, 0.3)


class Drawn(NamedTuple):
    """Particles of histories that have others than the world's own; those that are alike to a probe share a set."""

    cube: np.ndarray  #: latent parameters, 0 to 1, shape (sets, particles, columns)
    set_of: np.ndarray  #: which set each history has, shape (histories,)
    #: place of the severity of the first fault that each history has now, where it is not the cube's, shape (histories, particles)
    severity: np.ndarray | None = None
    sound: dict[int, tuple] | None = (
        None  #: by epoch what the machines of the cube are without faults, once that was worked out
    )


def log_likelihoods(
    histories: list[FaultHistory],
    pieces: list[tuple[int, Evidence]],
    generations: list[dict[Part, int]],
    world: World,
    drawn: Drawn | None = None,
) -> tuple[list[Evidence], np.ndarray]:
    """The pieces that say anything, and their log-likelihoods, shape (pieces, histories, particles).

    Parameters
    ----------
    histories : list of FaultHistory
    pieces : list of (int, Evidence)
        each with its epoch
    generations : list of dict
        how often each part had been changed, by epoch
    world : World
    drawn : Drawn or None
        None: the world's own particles

    Returns
    -------
    used, log : list of Evidence, ndarray of shape (pieces, histories, particles)

    References
    ----------
    Pieces are independent once the machine is known: Pearl, Probabilistic Reasoning in Intelligent Systems (1988). From memory.
    """
    used, logs = [], []
    told = 0
    for epoch, particle_set, place in _particle_sets(histories, pieces, generations, world, drawn):
        for piece, log in _told_by_each([piece for when, piece in pieces if when == epoch], particle_set):
            if piece.told:
                log = log * TOLD_TOGETHER[min(told, len(TOLD_TOGETHER) - 1)]
                told += 1
            if piece.engine_ran:
                log = log + np.log(ran(particle_set))
            log = log[place]
            if isinstance(piece, Stayed):
                log = log + np.log(piece.never_was) * _sound_throughout(histories, pieces, epoch)[:, None]
            used.append(piece)
            logs.append(log)
    shape = (len(histories), world.particles if drawn is None else drawn.cube.shape[1])
    return used, np.array(logs).reshape(len(logs), *shape)


def _sound_throughout(histories: list[FaultHistory], pieces: list[tuple[int, Evidence]], epoch: int) -> np.ndarray:
    """Whether a history's circuit is sound and was so when the complaint was last told, shape (histories,): no repair mends such a
    machine's complaint, which comes from elsewhere."""
    told = max((when for when, piece in pieces if when < epoch and isinstance(piece, Stayed)), default=0)
    return np.array(
        [
            told < epoch < len(history.epochs) and not history.epochs[told] and not history.epochs[epoch]
            for history in histories
        ]
    )


def _told_by_each(pieces: list[Evidence], particle_set: ParticleSet) -> Iterator[tuple[Evidence, np.ndarray]]:
    """The pieces of one epoch that say anything, each with its log-likelihoods, shape (rows, particles): a job has most of its pieces when
    it is weighed again, and those were worked out."""
    pictures, recordings, unheard = RecordingLikelihood(), (), []

    def logs(piece: Evidence) -> np.ndarray | None:
        found = piece.likelihood(particle_set, pictures, particle_set.facts)
        return None if found is None else np.broadcast_to(np.log(np.maximum(found, LEAST_LIKELY)), particle_set.shape)

    def last_heard() -> np.ndarray | None:
        # What a recording tells counts on those before it, also on those that an earlier weighing worked out.
        *earlier, last = unheard
        unheard.clear()
        for piece in earlier:
            piece.likelihood(particle_set, pictures, particle_set.facts)
        return logs(last)

    for piece in pieces:
        if piece.of_recordings:
            recordings = (*recordings, piece)
            unheard.append(piece)
            log = particle_set.lately(recordings, last_heard)
        else:
            log = particle_set.lately(piece, lambda piece=piece: logs(piece))
        if log is not None:
            yield piece, log


LEAST_LIKELY = 1e-12  #: nothing that was told is less likely


class Values(NamedTuple):
    """Precise values of the evidence, each on its own scale, beside those of every particle."""

    here: np.ndarray  #: shape (values,)
    shown: np.ndarray  #: shape (values, histories, particles)
    width: np.ndarray  #: standard uncertainties, shape (values,)
    piece: tuple[int, ...]  #: which of the pieces each is of

    def of(self, which) -> Values:
        """Those of some histories, by index."""
        return self._replace(shown=self.shown[:, which])

    def beside(self, more: Values) -> Values:
        """With those of other histories, of the same values."""
        return self._replace(shown=np.concatenate([self.shown, more.shown], axis=1))


def foreseen(
    histories: list[FaultHistory],
    pieces: list[tuple[int, Evidence]],
    generations: list[dict[Part, int]],
    world: World,
    drawn: Drawn | None = None,
) -> Values:
    """The precise values in the pieces, beside those of every particle.

    Parameters
    ----------
    histories, pieces, generations, world, drawn
        as `log_likelihoods` has them

    Returns
    -------
    Values
    """
    found = []
    for epoch, particle_set, place in _particle_sets(histories, pieces, generations, world, drawn):
        for number, (when, piece) in enumerate(pieces):
            for here, shown, width in piece.foreseen(particle_set) if when == epoch else ():
                shown = np.broadcast_to(shown, particle_set.shape)
                found.append((here, shown[place], width, number))
    shape = (len(histories), world.particles if drawn is None else drawn.cube.shape[1])
    return Values(
        np.array([here for here, *_ in found]),
        np.array([shown for _, shown, *_ in found]).reshape(len(found), *shape),
        np.array([width for _, _, width, _ in found]),
        tuple(number for *_, number in found),
    )


def _particle_sets(histories, pieces, generations, world: World, drawn: Drawn | None):
    """By epoch of which anything is told the particles, and of each history which of their rows is its own."""
    for epoch in sorted({when for when, _ in pieces}):
        parts = generations[epoch]
        rows = [history.epochs[min(epoch, len(history.epochs) - 1)] for history in histories]
        if drawn is None:
            number = {row: k for k, row in enumerate(dict.fromkeys(rows))}
            yield epoch, world.particle_set(tuple(number), parts), [number[row] for row in rows]
            continue
        asked = list(zip(rows, drawn.set_of.tolist(), strict=True))
        if drawn.severity is None:
            number = {item: k for k, item in enumerate(dict.fromkeys(asked))}
            kinds, place, placed = list(number), [number[item] for item in asked], None
        else:
            # With severities of their own no two histories are the same particles.
            kinds, place = asked, slice(None)
            placed = [history.now[0] for history in histories], drawn.severity
        unique, sets = zip(*kinds, strict=True)
        sound = {} if drawn.sound is None else drawn.sound
        particles = world.particle_set_of(unique, drawn.cube, parts, sets, placed, sound.get(epoch))
        sound[epoch] = particles.sound
        yield epoch, particles, place


def marginal_likelihoods(mean: np.ndarray, histories: list[FaultHistory]) -> dict[str, float]:
    """A piece's likelihood under each fault mode by itself, as the particles of the history have it.

    Parameters
    ----------
    mean : ndarray, shape (histories,)
        logarithms of one piece's mean likelihoods over the particles of each
    histories : list of FaultHistory

    Returns
    -------
    dict
        fault mode to likelihood

    References
    ----------
    Kass and Raftery, J. Am. Stat. Assoc. 90 (1995): Bayes factors by importance draws. From memory.
    """
    out: dict[str, float] = {}
    for history, likely in zip(histories, np.exp(mean).tolist(), strict=True):
        faults = faults_of(history.now)
        if len(faults) == 1:
            out[faults[0]] = max(out.get(faults[0], 0.0), likely)
    return out
