"""A cam that goes from one place on the crank to another at one moment of a record: something slipped, or jumped."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from sagen.signal.cam import CYCLE, CamTrack
from sagen.signal.limits import limits

_LIMIT = limits("cam_slip")


class Slip(NamedTuple):
    """By how much a cam lies later than before (crank degrees), and between which of its edges (s) it went there."""

    degrees: float
    before_s: float
    after_s: float


def slip_of(track: CamTrack, *, locked: bool) -> Slip | None:
    """The one step in a cam's lateness, where it held on both sides and went faster than a phaser does.

    The place of the step is that which leaves least squares on both sides (a single change of the mean: Page,
    Biometrika 42, 1955, from memory).

    Parameters
    ----------
    track : CamTrack
        edges on the crank, crank degrees and s
    locked : bool
        whether a phaser is held in its rest while the state lasts, as under the starter

    Returns
    -------
    Slip or None
    """
    late, count = track.phase_error, len(track.phase_error)
    if track.cycles < 2 * _LIMIT.fewest_cycles or count < 4:
        return None
    sums, after = np.cumsum(late)[:-1], np.arange(count - 1, 0, -1)
    before = after[::-1]
    between = (sums / before - (late.sum() - sums) / after) ** 2 * before * after
    cut = int(between.argmax()) + 1
    old, new = float(np.median(late[:cut])), float(np.median(late[cut:]))
    step = new - old
    if abs(step) < _LIMIT.least_deg:
        return None
    share = (late - old) / step
    strays = np.concatenate([np.abs(share[:cut]), np.abs(share[cut:] - 1)])
    if np.mean(strays > _LIMIT.near) > _LIMIT.most_strays:
        return None  # it wanders, or went there by and by
    settled = np.flatnonzero(np.abs(share[:cut]) <= _LIMIT.near), np.flatnonzero(np.abs(share[cut:] - 1) <= _LIMIT.near)
    last, first = int(settled[0][-1]), cut + int(settled[1][0])
    held = min(track.angle[last] - track.angle[0], track.angle[-1] - track.angle[first]) / CYCLE
    moved_s = float(track.time[first] - track.time[last])
    if held < _LIMIT.fewest_cycles or track.angle[first] - track.angle[last] > CYCLE:
        return None
    if not locked and abs(step) < _LIMIT.fastest_phaser * moved_s:
        return None
    return Slip(step, float(track.time[last]), float(track.time[first]))
