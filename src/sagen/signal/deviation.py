"""Each tooth's error, split into what repeats with the wheel and what does not."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from sagen.signal.slots import Teeth


@dataclass(frozen=True)
class ToothDeviations:
    """A measure of every tooth (phase_errors in pitches, height, width), over the turns.

    `by_place` has one entry a tooth of the turn, in the order of `Teeth.places`; `scatter` is the
    standard deviation of one tooth's measure from turn to turn, pooled over all teeth; `values` is
    shape (turns, teeth).
    """

    values: np.ndarray
    by_place: np.ndarray
    scatter: float
    number: np.ndarray
    locked: float = 0.0  #: what the sampling adds to every turn alike, where it runs in step with the wheel

    @property
    def turns(self) -> int:
        return len(self.values)

    def sampled(self, error: float, coarse: float) -> ToothDeviations:
        """With the standard error that one sample in `coarse` pitches leaves where the sampling is in step with
        the wheel: it scatters less than chance would, is the same every turn and does not average out.

        Parameters
        ----------
        error : float
            standard error (pitches) of one edge where it falls between two samples
        coarse : float
            pitches from sample to sample
        """
        return replace(self, locked=error * coarse if self.scatter < 0.2 * coarse else 0.0)

    def turns_with(self, place: int, size: float) -> tuple[int, int]:
        """In how many turns the tooth at a place strays as far as half of `size`, to the same side, from what is usual of
        all teeth, within the scatter of one turn; and in how many it was measured.

        Parameters
        ----------
        place : int
            place on the wheel, from 0
        size : float
            what is looked for, in the unit of the measure, its sign included

        Returns
        -------
        strays, measured : int
            turns that hold it, and turns in which the tooth was measured
        """
        own = self.values[:, place]
        usual = float(np.median(self.by_place))
        own = own[np.isfinite(own)] - usual
        return int(np.count_nonzero(own * np.sign(size) > max(0.5 * abs(size) - self.scatter, 0.0))), len(own)

    def standard_error(self, spread: float) -> float:
        """How well one place is known, where the places stray by `spread` (standard deviation) among themselves:
        with the scatter from turn to turn, pooled over all places so that it holds for three turns as for three
        hundred.

        Parameters
        ----------
        spread : float
            standard deviation of the places among themselves, in the unit of the measure

        Returns
        -------
        float
            in the unit of the measure

        References
        ----------
        Scatter pooled over groups: JCGM 100:2008, H.5.2.
        """
        return max(float(np.hypot(np.hypot(spread, self.locked), self.scatter / np.sqrt(max(self.turns, 1)))), 1e-9)


def phase_errors(teeth: Teeth, times: np.ndarray) -> np.ndarray:
    """How late the edge of each tooth at `times` (s, one a tooth) comes, in pitches, against the cubic through its two neighbours on each side.

    Compression, acceleration and a run-up are smooth over five teeth and fall out; a misplaced tooth
    stays. NaN at the ends and beside interruptions. Divided by how strongly the spacing there passes a
    disturbance of one tooth on, so that places beside a gap compare with the rest.

    Parameters
    ----------
    teeth : Teeth
        which tooth of which turn each edge is
    times : ndarray, shape (n,)
        s, rising; one an edge of `teeth`

    Returns
    -------
    ndarray, shape (n,)
        pitches, positive where late; NaN at the ends and beside interruptions

    References
    ----------
    A cubic through four points (Lagrange): Abramowitz and Stegun 1964, 25.2.1 and 25.2.13. From memory.
    """
    out = np.full(len(times), np.nan)
    if len(times) < 5:
        return out
    slot = np.concatenate([[0], np.cumsum(np.maximum(teeth.spans, 1))]).astype(np.float64)
    first, second, own, third, fourth = (times[k : len(times) - 4 + k] for k in range(5))
    late = own - (4 * (second + third) - first - fourth) / 6
    pitch = (fourth - first) / 4
    # Beside a gap the four neighbours stand unevenly, and the cubic's weights are others.
    odd = np.flatnonzero(slot[4:] - slot[:-4] != 4)
    if len(odd):
        near = odd[:, None] + np.array([0, 1, 3, 4])
        apart = slot[near] - slot[odd + 2][:, None]
        weights = np.ones_like(apart)
        for j in range(4):
            for k in range(4):
                if j != k:
                    weights[:, j] *= -apart[:, k] / (apart[:, j] - apart[:, k])
        late[odd] = times[odd + 2] - (weights * times[near]).sum(axis=1)
        pitch[odd] = (times[near[:, 3]] - times[near[:, 0]]) / (apart[:, 3] - apart[:, 0])
        # The cubic's own error grows with the product of the distances (4 where all stand evenly).
        late[odd] /= np.maximum(1.0, np.sqrt(np.abs(apart.prod(axis=1)) / 4))
    out[2:-2] = late / pitch
    broken = np.zeros(len(times), bool)
    for offset in (-2, -1, 0, 1):
        cut = np.flatnonzero(teeth.spans == 0) - offset
        broken[cut[(cut >= 0) & (cut < len(times))]] = True
    out[broken] = np.nan
    return out


def by_place(teeth: Teeth, measure: np.ndarray) -> ToothDeviations | None:
    """Line a measure of every tooth up by its place on the wheel; None with fewer than two whole turns.

    Parameters
    ----------
    teeth : Teeth
        which tooth of which turn each entry of `measure` is
    measure : ndarray, shape (n,)
        any unit; NaN where a tooth was not measured

    Returns
    -------
    ToothDeviations or None
        median and standard error (from the median absolute deviation) by place
    """
    if len(teeth.whole) < 2:
        return None
    # Entries of a row that reach beyond the measure (the last tooth's space) are unknown.
    rows = np.minimum(teeth.whole, len(measure) - 1)
    values = np.where(teeth.whole < len(measure), measure[rows], np.nan)
    values = values[np.isfinite(values).mean(axis=1) > 0.8]
    if len(values) < 2 or not np.isfinite(values).any(axis=0).all():
        return None
    centre = _median_of_seen(values)
    off = (values - centre)[np.isfinite(values)]
    # A median of few turns hugs them; the factor restores the pooled scatter's size.
    grow = np.sqrt(len(values) / (len(values) - 1))
    scatter = 1.4826 * float(np.median(np.abs(off))) * grow
    return ToothDeviations(values, centre, scatter, teeth.places)


def _median_of_seen(values: np.ndarray) -> np.ndarray:
    """Median of each column, NaN left out; every column has a value."""
    ordered = np.sort(values, axis=0)  # NaN last
    seen = np.isfinite(values).sum(axis=0)
    low, high = ordered[(seen - 1) // 2, np.arange(len(seen))], ordered[seen // 2, np.arange(len(seen))]
    return 0.5 * (low + high)


def medians_of(values: np.ndarray, group: np.ndarray) -> np.ndarray:
    """Median of the values of each group (numbers from 0 on), by group; 0 where a group has none.

    Parameters
    ----------
    values : ndarray, shape (n,)
        any unit
    group : ndarray of int, shape (n,)
        the group of each value, from 0

    Returns
    -------
    ndarray, shape (groups,)
    """
    borders = np.searchsorted(np.sort(group), np.arange(int(group.max(initial=-1)) + 2))
    ordered = np.append(values[np.lexsort((values, group))], 0.0)
    first, last = borders[:-1], borders[1:]
    low, high = (first + last - 1) // 2, (first + last) // 2
    return np.where(last > first, 0.5 * (ordered[np.maximum(low, 0)] + ordered[high]), 0.0)


def swing_once_a_turn(errors: ToothDeviations, slots: int) -> tuple[float, float]:
    """Amplitude of the once-a-turn swing of a measure and the share of its variance that it explains.

    Parameters
    ----------
    errors : ToothDeviations
        a measure by place
    slots : int
        places of the wheel, gaps included

    Returns
    -------
    amplitude, share : float
        in the unit of the measure, and 0 to 1

    References
    ----------
    A sine of known frequency by least squares: IEEE Std 1057, annex A. From memory.
    """
    fit, rest = without_orders(errors, slots, (1,))
    total = float(np.var(errors.by_place))
    return float(np.hypot(*fit[1:3])), 1.0 - float(np.var(rest)) / total if total > 0 else 0.0


def waves(number: np.ndarray, slots: int, orders: tuple[int, ...]) -> np.ndarray:
    """A constant, and cosine and sine of so many periods a turn at each tooth: shape (teeth, 1 + 2 orders).

    Parameters
    ----------
    number : ndarray of int, shape (teeth,)
        place of each tooth
    slots : int
        places of the wheel
    orders : tuple of int
        periods a turn, each > 0

    Returns
    -------
    ndarray, shape (teeth, 1 + 2 * len(orders))
        the columns of a least-squares fit of a truncated Fourier series

    References
    ----------
    Bloomfield, Fourier Analysis of Time Series (1976), chapter 2. From memory.
    """
    angle = 2 * np.pi * (number - 1) / slots
    return np.column_stack(
        [np.ones_like(angle), *(wave(order * angle) for order in orders for wave in (np.cos, np.sin))]
    )


def without_orders(errors: ToothDeviations, slots: int, orders: tuple[int, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Waves of so many periods a turn, as the factors of `waves`, and what they leave of the measure: what an
    engine or an eccentric wheel does to it, and what single teeth do.

    Parameters
    ----------
    errors : ToothDeviations
        a measure by place
    slots : int
        places of the wheel
    orders : tuple of int
        periods a turn, each > 0

    Returns
    -------
    factors, left : ndarray
        shapes (1 + 2 * len(orders),) and (teeth,), in the unit of the measure
    """
    design = waves(errors.number, slots, orders)
    weight = np.ones(len(design))
    for _ in range(3):
        # An odd tooth must not bend the waves that are taken off.
        fit, *_ = np.linalg.lstsq(design * weight[:, None], errors.by_place * weight, rcond=None)
        rest = errors.by_place - design @ fit
        spread = 1.4826 * np.median(np.abs(rest - np.median(rest))) + 1e-9
        weight = 1 / np.maximum(1.0, np.abs(rest) / (2.5 * spread))
    return fit, rest


def irregular_teeth(late: np.ndarray, limit: np.ndarray) -> np.ndarray:
    """Which teeth are out of place by more than `limit`, each counted once.

    A tooth out of place makes its neighbours look out by -2/3 and 1/6 of that (the cubic through them),
    so the largest of a neighbourhood is taken and its footprint removed before the next ones are.

    Parameters
    ----------
    late : ndarray, shape (n,)
        pitches, one a tooth in the order of time; NaN where it is not known
    limit : ndarray, shape (n,)
        pitches that a tooth may be out of place

    Returns
    -------
    ndarray of int
        entries of `late`, ascending
    """
    rest = np.nan_to_num(late)
    found = np.zeros(len(rest), bool)
    for _ in range(8):
        size = np.abs(rest) / limit
        padded = np.pad(size, 2)
        around = np.max([padded[k : k + len(size)] for k in (0, 1, 3, 4)], axis=0)
        now = np.flatnonzero((size > 1) & (size >= around))
        if not len(now):
            break
        found[now] = True
        by = rest[now]
        for offset, share in ((0, 1.0), (-1, -2 / 3), (1, -2 / 3), (-2, 1 / 6), (2, 1 / 6)):
            at = now + offset
            inside = (at >= 0) & (at < len(rest))
            np.subtract.at(rest, at[inside], share * by[inside])
    return found
