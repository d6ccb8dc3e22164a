"""Spikes on a coil's wave: what is too sharp for a wheel of iron, wherever in the wave it falls."""

from __future__ import annotations

import numpy as np

from sagen.model.lazy import lazy
from sagen.signal.limits import limits

#: loaded when a coil is first read: weighing needs none of it
ndimage = lazy("scipy.ndimage")
_LIMIT = limits("coil_spikes")
STRETCH = 1 << 16  #: samples that are looked at together


def spikes(raw: np.ndarray, crossings: np.ndarray, height: np.ndarray) -> np.ndarray:
    """Where a wave leaves the straight line through its own neighbours much farther than its other half-waves do.

    Parameters
    ----------
    raw : ndarray, shape (n,)
        the wave
    crossings : ndarray, shape (m,)
        samples at which it crosses its middle, climbing
    height : ndarray, shape (m,)
        peak to peak there, in the unit of `raw`

    Returns
    -------
    ndarray
        samples; empty where a half-wave has too few samples to tell a spike by
    """
    if len(crossings) < _LIMIT.fewest or np.median(np.diff(crossings)) < _LIMIT.samples:
        return np.empty(0)
    starts = np.floor(crossings).astype(int)
    sharpest = np.empty(len(starts) - 1, np.float32)
    first = 0
    while first < len(sharpest):  # in stretches that stay in the cache
        last = min(max(int(np.searchsorted(starts, starts[first] + STRETCH)), first + 1), len(sharpest))
        bent = _bent(raw, starts, int(starts[first]), int(starts[last]))
        sharpest[first:last] = np.maximum.reduceat(bent, starts[first:last] - starts[first])
        first = last
    beside = ndimage.median_filter(height[:-1], int(_LIMIT.beside), mode="nearest")
    sharp = sharpest / np.maximum(np.maximum(height[:-1], beside), 1e-12)
    usual = np.maximum(ndimage.median_filter(sharp, int(_LIMIT.beside), mode="nearest"), 1e-12)
    found = np.flatnonzero((sharp > _LIMIT.sharper * usual) & (sharp > _LIMIT.tall))
    chosen = found[: int(_LIMIT.most)]
    return np.array([
        starts[k] + int(_bent(raw, starts, int(starts[k]), int(starts[k + 1])).argmax()) for k in chosen
    ], float)  # fmt: skip


def _bent(raw: np.ndarray, starts: np.ndarray, begin: int, end: int) -> np.ndarray:
    """How far each sample of begin..end lies off the line through its neighbours two samples either way: a spike that lasts three
    is still one, and rounding to steps is halved. Nothing is said of the first and last two samples between all `starts`."""
    low, high = max(begin, int(starts[0]) + 2), min(end, int(starts[-1]) - 2)
    out = np.zeros(end - begin, np.float32)
    if high > low:
        wave = raw[low - 2 : high + 2].astype(np.float32)
        np.add(wave[:-4], wave[4:], out=out[low - begin : high - begin])
        out[low - begin : high - begin] *= -0.5
        out[low - begin : high - begin] += wave[2:-2]
        np.abs(out, out=out)
    return out
