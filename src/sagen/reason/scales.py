"""The scales on which readings are compared, and how far a reading may lie from what was thought of.

On these scales millivolts and ratios both matter: below 30 mV equal differences are equal steps, above it equal ratios
are. A reading is a bell about each particle's own prediction with a wider tail; beside it stand slips, which read
another pin of the same machine, and a small floor for what no particle has.
"""

from __future__ import annotations

from statistics import NormalDist

import numpy as np

VOLTS_SCALE = 0.03  #: V
OHM_SHIFT = 0.3  #: ohm: below this a resistance is as good as none
MOST_OHM = 4e7
#: what a particle's own prediction may be off by: circuits differ in more than was thought of
VOLTS_KERNEL, OHM_KERNEL = 0.05, 0.015
#: an unstated meter: V, share of the reading, decades
METER_V, METER_SHARE, METER_DECADES = 0.02, 0.008, 0.008
#: share of readings in the wider tail, and how much wider it is
TAIL, WIDER = 0.15, 4.0
SLIP = 0.03  #: readings at another pin than was said
SLIP_WIDTH = 0.25  #: and where that pin stands is known but roughly
LEAST = 0.02  #: density of a reading that nothing explains
EDGE = 1e-9  #: how near to its border a place in the cube may lie
#: normal scores and the shares below them, read by straight lines: a first weighing is not to wait for SciPy
_SCORES = np.linspace(-8.0, 8.0, 801)
_BELOW = np.array([NormalDist().cdf(score) for score in _SCORES])


def on_scale(value: np.ndarray | float, ohms: bool) -> np.ndarray:
    """Volts or ohms on the scale of comparison.

    Parameters
    ----------
    value : ndarray or float
        V, or ohm
    ohms : bool
        compare decades, as meters and faults go

    Returns
    -------
    ndarray
        shape of `value`
    """
    value = np.asarray(value, float)
    if ohms:
        return np.log10(np.clip(np.nan_to_num(value, posinf=MOST_OHM), 0.0, MOST_OHM) + OHM_SHIFT)
    return np.arcsinh(value / VOLTS_SCALE)


def spread_on_scale(value: float, ohms: bool, spread: float = 0.0) -> float:
    """Width of the bell about a reading, on its scale; `spread` in V or decades is the reading's own.

    Parameters
    ----------
    value : float
        V, or ohm
    ohms : bool
    spread : float
        standard uncertainty of the reading itself

    Returns
    -------
    float
        standard deviation on the scale of comparison
    """
    if ohms:
        return float(np.sqrt(OHM_KERNEL**2 + METER_DECADES**2 + spread**2))
    meter = np.sqrt(METER_V**2 + (METER_SHARE * value) ** 2 + spread**2)
    return float(np.sqrt(VOLTS_KERNEL**2 + (meter / np.hypot(value, VOLTS_SCALE)) ** 2))


def bell(value: float, centre: np.ndarray, width: float) -> np.ndarray:
    """Normal density of a value about centres.

    Parameters
    ----------
    value : float
        on the scale of comparison
    centre : ndarray, shape (...,)
        on the scale
    width : float
        standard deviation, > 0

    Returns
    -------
    ndarray, shape of `centre`
        Gauss's density, 1 / unit of the scale
    """
    return np.exp(-0.5 * ((value - centre) / width) ** 2) / (width * np.sqrt(2 * np.pi))


def density(value: float, centre: np.ndarray, width: float) -> np.ndarray:
    """Density of a value about centres, with a wider tail.

    Parameters
    ----------
    value : float
        on the scale of comparison
    centre : ndarray, shape (...,)
        on the scale
    width : float
        standard deviation, > 0

    Returns
    -------
    ndarray, shape of `centre`
        1 / unit of the scale; adds up to 1

    References
    ----------
    Two normal laws, one wider: Tukey, "A survey of sampling from contaminated distributions" (1960). From memory.
    """
    return (1 - TAIL) * bell(value, centre, width) + TAIL * bell(value, centre, WIDER * width)


def share_below(score: np.ndarray) -> np.ndarray:
    """The share of a standard normal law below each score, shape of `score`."""
    return np.interp(score, _SCORES, _BELOW)


def score_of(share: np.ndarray) -> np.ndarray:
    """The score of a standard normal law below which each share lies, shape of `share`; to 8 at most."""
    return np.interp(share, _BELOW, _SCORES)


def logits(cube: np.ndarray) -> np.ndarray:
    """Places in the cube as logits, near to normal where they are spread evenly, shape of `cube`."""
    inside = np.clip(cube, EDGE, 1 - EDGE)
    return np.log(inside / (1.0 - inside))


def places(logit: np.ndarray) -> np.ndarray:
    """Logits as places in the cube, shape of `logit`."""
    return np.clip(1.0 / (1.0 + np.exp(-np.clip(logit, -30.0, 30.0))), EDGE, 1 - EDGE)


def normalised(log: np.ndarray) -> np.ndarray:
    """Probabilities from logarithms of weights.

    Parameters
    ----------
    log : ndarray, shape (n,)
        natural logarithms, to any common constant

    Returns
    -------
    ndarray, shape (n,)
        adding up to 1
    """
    weight = np.exp(log - log.max())
    return weight / weight.sum()


def log_mean(log: np.ndarray, axis: int = -1) -> np.ndarray:
    """The logarithm of the mean of what logarithms stand for, without overflow.

    Parameters
    ----------
    log : ndarray
        logarithms, -inf for 0
    axis : int
        over which the mean is taken

    Returns
    -------
    ndarray
        shape of `log` without that axis
    """
    top = log.max(axis=axis, keepdims=True)
    below = log - top
    return np.squeeze(top, axis) + np.log(np.exp(below, out=below).mean(axis=axis))


def log_mean_cut(log: np.ndarray) -> np.ndarray:
    """The same over the last axis, of which no number counts more than the root of how many there are times the mean: of few particles
    that explain something one alone is luck.

    Parameters
    ----------
    log : ndarray, shape (..., particles)

    Returns
    -------
    ndarray, shape (...,)

    References
    ----------
    Truncated importance sampling: E. L. Ionides, J. Comput. Graph. Stat. 17 (2008). From memory.
    """
    most = log_mean(log)[..., None] + 0.5 * np.log(log.shape[-1])
    return log_mean(np.minimum(log, most))


def normalised_rows(log: np.ndarray) -> np.ndarray:
    weight = np.exp(log - log.max(axis=1, keepdims=True))
    return weight / weight.sum(axis=1, keepdims=True)
