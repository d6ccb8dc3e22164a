"""Particles brought near to precise readings, before any are drawn there: few of those that were spread evenly come near eight
readings at once, and what is learned from so few hangs on the seed.

An ensemble smoother with several assimilations of the same readings, each taken wider (A. A. Emerick and A. C. Reynolds, Computers
& Geosciences 55, 2013, from memory): every coordinate is moved, as a logit, by what it has to do with the readings among the
particles themselves. It is right where readings are linear in the scores, and near enough elsewhere to draw particles from."""

from __future__ import annotations

import numpy as np

from sagen.reason.diagnostics import effective_sample_size
from sagen.reason.evidence import Evidence
from sagen.reason.history import FaultHistory
from sagen.reason.likelihood import Drawn, Values, foreseen, log_likelihoods
from sagen.reason.placing import Fit, fitted
from sagen.reason.scales import logits, normalised_rows, places
from sagen.reason.world import World

#: variances of the readings in each assimilation; their reciprocals add up to 1
INFLATED = (4.0, 4.0 / 3.0)
MOVED = 240  #: particles of each history
LEARNED_FROM = 50.0  #: effective particles from which it is learned where more are to be drawn
#: correlations below this are chance among few hundred particles
LEAST_CORRELATION = 0.2
#: a coordinate moves a reading where a straight line says so by so many standard errors, and by so many widths of the reading a standard
#: deviation of its own; what keeps the lines from leaning on few particles
SURE, COUNTS, RIDGE = 3.5, 0.5, 1.0
#: what pieces with precise readings still count once particles were brought near to those, as a power of their likelihood
HEARD_ALREADY = 0.3
#: a reading so many standard deviations beyond what a history can show is none of it: an outlier is not run after
BEYOND = 4.0


def assimilated(
    histories: list[FaultHistory], pieces: list[tuple[int, Evidence]], generations, world: World, values: Values
) -> tuple[Drawn, np.ndarray, list[Fit | None], list[np.ndarray]]:
    """Particles of each history near to the readings, and what the other evidence makes of them.

    Parameters
    ----------
    histories : list of FaultHistory
    pieces : list of (int, Evidence)
        each with its epoch
    generations : list of dict
        how often each part had been changed, by epoch
    world : World
    values : Values
        of the world's own particles

    Returns
    -------
    drawn, weights, fits, moving : Drawn, ndarray of shape (histories, particles), list of Fit or None, list of ndarray
        particles, of which histories share a set that every reading finds alike, weights that add up to 1, and of each history where
        the world's own first `MOVED` particles fit, and which columns move a reading

    References
    ----------
    Emerick and Reynolds, Computers & Geosciences 55 (2013). From memory.
    """
    rng = np.random.default_rng(world.seed)
    here, width = values.here, values.width
    kind_of = alike(np.zeros(len(histories), np.intp), values.shown)
    first = np.unique(kind_of, return_index=True)[1]
    cube = np.repeat(world.cube[None, :MOVED], len(first), axis=0)
    fits = fitted(
        [histories[k] for k in first], pieces, generations, world, values, Drawn(cube, np.arange(len(cube)), sound={})
    )
    for places_of, fit in zip(cube, fits, strict=True):
        if fit is not None:
            place = places_of[:, fit.column]
            there = fit.stretch(place) & (fit.width > 0.0)
            places_of[:, fit.column] = np.where(there.any(axis=0), (there * fit.at).sum(axis=0), place)
    drawn, moving = Drawn(cube, kind_of), [np.zeros(0, np.intp)] * len(histories)
    for inflated in INFLATED if len(here) else ():
        shown = foreseen(histories, pieces, generations, world, drawn).shown
        set_of = alike(drawn.set_of, shown)
        first = np.unique(set_of, return_index=True)[1]
        score = logits(drawn.cube[drawn.set_of[first]])
        if inflated == INFLATED[-1]:
            # The nearer to the readings the straighter what moves them.
            of_each = _moving(score, shown[:, first], width)
            moving = [np.flatnonzero(of_each[k]) for k in set_of]
        score = _moved(score, here, shown[:, first], width * np.sqrt(inflated), rng)
        drawn = Drawn(places(score), set_of)
    used, logs = log_likelihoods(histories, pieces, generations, world, drawn)
    precise = {pieces[number][1] for number in values.piece}
    power = np.array([HEARD_ALREADY if piece in precise else 1.0 for piece in used])
    return drawn, tempered(np.tensordot(power, logs, 1), LEARNED_FROM), [fits[k] for k in kind_of], moving


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
    heat, few = np.ones(len(log)), np.arange(len(log))
    for _ in range(30):
        few = few[effective_sample_size(heat[few, None] * log[few]) < least]
        if not len(few):
            break
        heat[few] *= 0.75
    return normalised_rows(heat[:, None] * log)


def alike(set_of: np.ndarray, shown: np.ndarray) -> np.ndarray:
    """Which histories have the same particles and show the same readings.

    Parameters
    ----------
    set_of : ndarray of int, shape (histories,)
        which set of particles each has
    shown : ndarray, shape (readings, histories, particles)

    Returns
    -------
    ndarray of int, shape (histories,)
        a number for each kind, from 0
    """
    kinds: dict[tuple, int] = {}
    told = [kinds.setdefault((number, shown[:, k].tobytes()), len(kinds)) for k, number in enumerate(set_of)]
    return np.array(told, np.intp)


def _moving(score: np.ndarray, shown: np.ndarray, width: np.ndarray) -> np.ndarray:
    """Which columns move a reading beyond its width and beyond chance, whatever the others do, shape (histories, columns); `score` and
    `shown` as `_moved` has them (straight lines through all columns at once, by ridge regression: Hoerl and Kennard, Technometrics 12,
    1970, from memory)."""
    own, readings = score - score.mean(axis=1, keepdims=True), np.moveaxis(shown, 0, 2)
    size = own.std(axis=1, keepdims=True)
    own /= np.maximum(size, 1e-9)
    readings = (readings - readings.mean(axis=1, keepdims=True)) / width
    across = np.swapaxes(own, 1, 2)
    particles, columns = own.shape[1:]
    inverse = np.linalg.inv(across @ own + RIDGE * np.eye(columns))
    line = inverse @ (across @ readings)  # (histories, columns, readings)
    rest = np.sqrt(((readings - own @ line) ** 2).sum(axis=1) / (particles - columns))
    error = np.sqrt(np.diagonal(inverse, axis1=1, axis2=2))[:, :, None] * rest[:, None]
    return ((np.abs(line) > COUNTS) & (np.abs(line) > SURE * error)).any(axis=2) & (size[:, 0] > 1e-6)


def _moved(score: np.ndarray, here: np.ndarray, shown: np.ndarray, width: np.ndarray, rng) -> np.ndarray:
    """Scores, shape (histories, particles, columns), moved by readings `here` of which the particles show `shown`, shape
    (readings, histories, particles)."""
    particles = score.shape[1]
    readings = np.moveaxis(shown, 0, 2)
    mean, spread = readings.mean(axis=1, keepdims=True), readings.std(axis=1, keepdims=True)
    reach = BEYOND * np.hypot(spread, width)
    within = np.abs(here - mean) < reach  # (histories, 1, readings)
    unit = np.maximum(spread, 1e-9)
    about = (readings - mean) / unit
    own = score - score.mean(axis=1, keepdims=True)
    size = np.maximum(own.std(axis=1, keepdims=True), 1e-9)
    across = np.swapaxes(own / size, 1, 2) @ about / particles  # correlations, (histories, columns, readings)
    across = np.where(np.abs(across) < LEAST_CORRELATION, 0.0, across) * within
    among = np.swapaxes(about, 1, 2) @ about / particles
    noise = (width / unit) ** 2  # (histories, 1, readings)
    noise = np.where(within, noise, 1e12)
    among = among + np.eye(len(here)) * noise
    gain = np.swapaxes(np.linalg.solve(among, np.swapaxes(across, 1, 2)), 1, 2)
    # The same for every history: those that are alike to a probe stay so.
    thrown = rng.standard_normal((1, *readings.shape[1:])) * np.sqrt(noise)
    missing = np.where(within, (here - readings) / unit + thrown, 0.0)
    return score + size * (missing @ np.swapaxes(gain, 1, 2))
