"""Runs: where a condition holds without a break."""

from __future__ import annotations

import numpy as np


def runs_of(holds: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First entry of each run of True, and the entry behind its last.

    Parameters
    ----------
    holds : ndarray of bool, shape (n,)

    Returns
    -------
    (ndarray, ndarray)
        of the same length, in order
    """
    turns = np.flatnonzero(np.diff(np.concatenate([[False], holds, [False]]).astype(np.int8)))
    return turns[::2], turns[1::2]
