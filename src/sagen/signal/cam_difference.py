"""A cam against a known-good one, edge by edge over the crank's angle, each with its uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.wheel import Wheel
from sagen.signal.cam import CYCLE, FAR, CamTrack, half_way
from sagen.signal.limits import limits

_LIMIT = limits("compared")


@dataclass(frozen=True)
class Measured:
    """One measure in the known-good capture and here, and the standard uncertainty of their difference (GUM, 5.1.2)."""

    good: float
    here: float
    u: float

    @property
    def difference(self) -> float:
        return self.here - self.good

    def as_row(self, digits: int = 3) -> dict:
        return {name: round(getattr(self, name), digits) for name in ("good", "here", "u")}


@dataclass(frozen=True)
class EdgeDifference:
    """One edge of a cam's cycle in both captures, crank degrees."""

    edge: int  #: from 1, in the known-good capture's order
    good_deg: float
    here_deg: float
    difference: float  #: here less good, the turn in which either began left out
    u: float  #: standard uncertainty of it, from the scatter of both over their cycles
    rising: bool

    def as_row(self) -> dict:
        return {
            "edge": self.edge, "good_deg": round(self.good_deg, 2), "here_deg": round(self.here_deg, 2),
            "difference": round(self.difference, 2), "u": round(self.u, 3),
        }  # fmt: skip


@dataclass(frozen=True)
class CamDifference:
    """A cam against the known-good one: its steady shift, every edge, and what shape it has where they are not of one."""

    offset: float  #: by how much most of the edges are moved together, crank degrees
    u: float
    edges: tuple[EdgeDifference, ...]
    shape: str = ""  #: "" of one shape; "mirrored", "inverted" or "other"

    @property
    def moved(self) -> tuple[EdgeDifference, ...]:
        """Edges that stray from the steady shift by more than the scatter explains."""
        limit = _LIMIT.edge_deg
        return tuple(
            item for item in self.edges if abs(item.difference - self.offset) > max(limit, _LIMIT.sigmas * item.u)
        )


def median_of(values: np.ndarray) -> tuple[float, float]:
    """Median of what is finite and its standard uncertainty (1.2533 sigma / sqrt n, normal law).

    Parameters
    ----------
    values : ndarray, shape (n,)
        of any unit; NaN is left out

    Returns
    -------
    median, uncertainty : float
        in the unit of the values; NaN where nothing is finite

    References
    ----------
    Spread of a median under the normal law, sqrt(pi / 2) sigma / sqrt(n): Cramer, Mathematical Methods of Statistics (1946),
    28.5. From memory.
    """
    values = values[np.isfinite(values)]
    if not len(values):
        return np.nan, np.nan
    middle = float(np.median(values))
    spread = 1.4826 * float(np.median(np.abs(values - middle)))
    return middle, 1.2533 * spread / np.sqrt(len(values))


def _places(track: CamTrack) -> tuple[np.ndarray, np.ndarray]:
    """Where each edge of the cycle lies, crank degrees, and how well that is known (standard uncertainty)."""
    apart = np.abs(half_way(track.angle - track.phase_error - track.template[:, None]))
    own = np.where(track.rising == track.template_rising[:, None], apart, CYCLE).argmin(axis=0)
    place, u = track.template.copy(), np.full(len(track.template), np.inf)
    for k in range(len(place)):
        late = track.phase_error[own == k]
        if len(late):
            middle, spread = median_of(late)
            place[k] += middle
            u[k] = max(spread, track.step_deg / np.sqrt(12 * len(late)), _LIMIT.least_u_deg)
    return place, u


def cam_difference(here: CamTrack, good: CamTrack, turns: tuple[float, ...] = (0.0, 360.0)) -> CamDifference | None:
    """Every edge of a cam against the known-good one's; None where either crank has no reference.

    Parameters
    ----------
    turns : tuple of float
        crank degrees by which two counts of the same cycle may differ: by a turn, or where the crank's wheel repeats itself
        within a turn by less

    The shift is the one at which the edges lie nearest; an edge that lies elsewhere does not move it. Where no shift brings
    most of them together the known-good one is tried mirrored (fitted the wrong way round) and inverted (tooth for gap).

    References
    ----------
    Uncertainties of both sides are added in squares (JCGM 100:2008, 5.1.2).
    """
    if not (here.referenced and good.referenced):
        return None
    mine, my_u = _places(here)
    theirs, their_u = _places(good)
    if len(mine) != len(theirs):
        return CamDifference(0.0, np.inf, (), "other")

    def laid_over(places: np.ndarray, rising: np.ndarray) -> tuple[float, float, float]:
        return _laid_over(mine, here.template_rising, places, rising, turns)

    far, nearer_half, shift = laid_over(theirs, good.template_rising)
    if far > _LIMIT.one_shape_deg:
        others = {
            "mirrored": laid_over((-theirs) % CYCLE, ~good.template_rising)[0],
            "inverted": laid_over(theirs, ~good.template_rising)[0],
        }
        shape = min(others, key=others.get)
        if others[shape] <= _LIMIT.one_shape_deg:
            return CamDifference(0.0, np.inf, (), shape)
        # Of four edges the two of a bent vane are half.
        if nearer_half > _LIMIT.one_shape_deg:
            return CamDifference(0.0, np.inf, (), "other")
    rows = []
    apart = half_way(mine[:, None] - shift - theirs)
    apart = np.where(here.template_rising[:, None] == good.template_rising, apart, CYCLE)
    for k in range(len(theirs)):
        own = int(np.abs(apart[:, k]).argmin())
        # The turn in which a capture begins is not known: it is no difference.
        difference = min((half_way(float(apart[own, k]) + shift - turn) for turn in turns), key=abs)
        u = float(np.hypot(my_u[own], their_u[k]))
        rows.append(
            EdgeDifference(
                k + 1, float(theirs[k]), float(theirs[k]) + difference, difference, u, bool(good.template_rising[k])
            )
        )
    offset = _together(np.array([item.difference for item in rows]))
    u = float(np.median([item.u for item in rows])) / np.sqrt(max(len(rows), 1)) * 1.2533
    return CamDifference(offset, max(u, _LIMIT.least_u_deg), tuple(rows))


def _together(differences: np.ndarray) -> float:
    """The median of the largest group of edges that moved by the same; of groups as large the one that moved least, since a vane
    is bent more easily than all the others are."""
    near = np.abs(differences[:, None] - differences) <= _LIMIT.edge_deg
    count = near.sum(axis=1)
    groups = [float(np.median(differences[near[k]])) for k in np.flatnonzero(count == count.max())]
    return min(groups, key=abs)


def _laid_over(
    mine: np.ndarray, my_rising: np.ndarray, theirs: np.ndarray, rising: np.ndarray, turns
) -> tuple[float, float, float]:
    """How far apart half of the edges lie at the best shift (the median, and the farthest of the nearer half), degrees, and that
    shift with its turn. Of shifts as good the
    least counts: a cam with like windows fits at several."""
    shift = np.tile(np.arange(-FAR, FAR + 0.5, 0.5), len(turns))
    whole = shift + np.repeat(turns, len(shift) // len(turns))
    apart = np.abs(half_way(mine[:, None] - whole[:, None, None] - theirs))
    nearest = np.where(my_rising[:, None] == rising, apart, 30.0).min(axis=1)
    cost = np.minimum(nearest, 30.0).mean(axis=1)
    as_good = np.flatnonzero(cost <= cost.min() + 0.6)
    best = as_good[np.abs(shift[as_good]).argmin()]
    here = nearest[best]
    return float(np.median(here)), float(np.quantile(here, 0.5, method="lower")), float(whole[best])


def turns_alike(wheel: Wheel) -> tuple[float, ...]:
    """Crank degrees, within a cycle of two turns, by which two counts of the same wheel may differ: a whole turn, and where
    gaps return within it (60-2-2) less.

    Parameters
    ----------
    wheel : Wheel
        slots and the numbers of its missing teeth

    Returns
    -------
    tuple of float
        degrees of the crank, from 0 to below 720
    """
    if not wheel.others:
        return (0.0, 360.0)
    gone = wheel.gone
    same = [step for step in range(wheel.slots) if {(number - 1 + step) % wheel.slots + 1 for number in gone} == gone]
    return tuple(sorted({step * wheel.pitch_deg + turn for step in same for turn in (0.0, 360.0)}))


def turn_between(here: CamTrack, good: CamTrack) -> float:
    """Whether a cam counts its cycle from the same turn of the crank as another (0 degrees) or from the other one (360).

    Parameters
    ----------
    here, good : CamTrack
        edges of one cam wheel on two cranks, degrees of a 720 degree cycle

    Returns
    -------
    float
        0.0 or 360.0 crank degrees
    """
    found = cam_difference(here, good)
    if found is None or found.shape:
        return 0.0
    apart = [
        np.abs(half_way(here.template[:, None] - found.offset - turn - good.template)).min(axis=0).mean()
        for turn in (0.0, 360.0)
    ]
    return (0.0, 360.0)[int(np.argmin(apart))]
