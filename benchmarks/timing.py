"""Timings as ratios to something measured in the same run, medians over rounds."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

import numpy as np


def seconds(action: Callable[[], object], rounds: int = 5) -> float:
    """Median duration of `action`, s."""
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        action()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def one_pass(samples: np.ndarray, rounds: int = 9) -> float:
    """The yardstick: one `max()` over the samples, s."""
    return seconds(samples.max, rounds)


def crank_samples(count: int, sfreq: float = 1e6, rpm: float = 3000.0) -> np.ndarray:
    """A 60-2 wheel at `rpm`, V, float32, shape (count,), made in pieces to spare memory."""
    out = np.empty(count, np.float32)
    rng = np.random.default_rng(0)
    for start in range(0, count, 1 << 20):
        stop = min(start + (1 << 20), count)
        place = (np.arange(start, stop) * (rpm / 60 / sfreq) % 1.0) * 60
        tooth = (place % 1.0 < 0.5) & (place < 58)
        out[start:stop] = np.where(tooth, 0.1, 5.0) + rng.normal(0, 0.02, stop - start)
    return out
