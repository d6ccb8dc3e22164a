"""Spikes on a coil's wave: what is too sharp for a wheel of iron, wherever in the wave it falls."""

from __future__ import annotations

import numpy as np

from sagen.model.lazy import lazy
from sagen.signal.limits import limits

#: loaded when a coil is first read: weighing needs none of it
ndimage = lazy("scipy.ndimage")
_LIMIT = limits("coil_spikes")


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
    wave = raw[starts[0] : starts[-1]].astype(np.float32)
    bent = np.zeros(len(wave), np.float32)
    # Two samples either way: a spike that lasts three is still one, and rounding to steps is halved.
    bent[2:-2] = np.abs(wave[2:-2] - 0.5 * (wave[:-4] + wave[4:]))
    starts = starts - starts[0]
    beside = ndimage.median_filter(height[:-1], int(_LIMIT.beside), mode="nearest")
    sharp = np.maximum.reduceat(bent, starts[:-1]) / np.maximum(np.maximum(height[:-1], beside), 1e-12)
    usual = np.maximum(ndimage.median_filter(sharp, int(_LIMIT.beside), mode="nearest"), 1e-12)
    found = np.flatnonzero((sharp > _LIMIT.sharper * usual) & (sharp > _LIMIT.tall))
    at = [starts[k] + int(bent[starts[k] : starts[k + 1]].argmax()) for k in found[: int(_LIMIT.most)]]
    return np.array(at, float) + np.floor(crossings[0])
