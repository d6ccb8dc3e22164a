"""Where particles are worth drawing: along each coordinate of which the evidence tells anything a curve that brings what is known of it
to a normal law, joined by the correlations of those (a normal copula: Nelsen, An Introduction to Copulas, 2006, 3.1; curves through
quantiles: Hoermann and Leydold, ACM Trans. Modeling and Computer Simulation 13, 2003; both from memory).

Coordinates are read as logits: what is spread evenly is nearly normal there, and so is what a reading tells of one, far better than it is
even in bins. A few straight lines between quantiles then say it all, and few are what can be learned from few particles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np

from sagen.reason.placing import Fit, Placed
from sagen.reason.scales import EDGE, TAIL, WIDER, logits, places, score_of

#: bins in which a coordinate is seen to be told, standard deviations beyond chance from which it counts as told
BINS, TOLD_SIGMAS = 40, 3.0
#: effective particles to a quantile of a learned curve, the fewest and the most quantiles, what share lies beyond the outermost, and how
#: much wider it is drawn than it was seen: readings have wider tails than a normal law
TO_A_KNOT, FEWEST_KNOTS, MOST_KNOTS, OUTERMOST, OUTSIDE = 12.0, 3, 9, 0.07, 1.7
#: one particle of so many is drawn so much wider along all coordinates; odd, so that either half of the draws has its share of them
WIDE_ONE_OF, WIDE = 11, 1.5
STILL_EVEN = 0.05  #: share of the particles that stay as evenly drawn as before any evidence
NARROWEST = 1e-7  #: between two quantiles
NEGLIGIBLE = 1e-5  #: of the weight of the heaviest particle: what weighs less is not learned from


class Particles(NamedTuple):
    """Places in the cube, and what every proposal that they are counted against asks of them."""

    cube: np.ndarray  #: shape (particles, columns)
    logits: np.ndarray
    #: logarithm of how dense evenly drawn particles lie there as logits: the logistic law
    even: np.ndarray

    @classmethod
    def at(cls, cube: np.ndarray) -> Particles:
        """Those of places in the cube, shape (particles, columns)."""
        inside = np.clip(cube, EDGE, 1 - EDGE)
        return cls(cube, logits(inside), np.log(inside * (1.0 - inside)))

    def beside(self, more: Particles) -> Particles:
        """With further ones."""
        return Particles(*(np.vstack(pair) for pair in zip(self, more, strict=True)))


@dataclass(frozen=True)
class Proposal:
    """A density in the cube. The coordinates that are not told are even, and independent of the others."""

    columns: np.ndarray  #: the coordinates that are told, shape (told,)
    knots: np.ndarray  #: logits of the quantiles of each, shape (told, quantiles)
    at: np.ndarray  #: the scores that they would have of a normal law, shape (quantiles,)
    correlation: np.ndarray  #: of what the curves make of them, shape (told, told)
    #: shares of the particles whose severity is drawn about where it fits a reading, one a stretch
    fitting: tuple[float, ...] = ()

    @classmethod
    def learned(
        cls,
        particles: Particles,
        weights: np.ndarray,
        moving: np.ndarray | tuple[int, ...] = (),
        last: int | None = None,
        fitting: tuple[float, ...] = (),
    ) -> Proposal:
        """From weighted particles, along the coordinates that differ from even by more than so few do by chance, and those that move what
        was read: alone they may be anything, together they lie where the reading is.

        Parameters
        ----------
        particles : Particles
        weights : ndarray, shape (particles,)
            adding up to 1
        moving : ndarray or tuple of int
            columns that move a reading
        last : int or None
            the column of a severity that is drawn about where it fits, given all others
        fitting : tuple of float
            shares of the particles of which it is, one a stretch
        """
        effective = 1.0 / (weights**2).sum()
        # Most particles of a long search weigh nothing.
        heavy = weights > NEGLIGIBLE * weights.max()
        weights = weights[heavy] / weights[heavy].sum()
        told = _told(particles.cube[heavy], weights, effective)
        told[list(moving)] = True
        columns = np.flatnonzero(told)
        columns = columns[np.argsort(columns == last, kind="stable")]
        inside = particles.logits[heavy][:, columns]
        number = int(np.clip(effective / TO_A_KNOT, FEWEST_KNOTS, MOST_KNOTS))
        level = np.linspace(OUTERMOST, 1.0 - OUTERMOST, number)
        order = np.argsort(inside, axis=0)
        ordered, below = np.take_along_axis(inside, order, 0), np.cumsum(weights[order], axis=0) - 0.5 * weights[order]
        each = range(len(columns))
        knots = np.array([np.interp(level, below[:, k], ordered[:, k]) for k in each]).reshape(-1, number)
        found = cls(columns, knots + NARROWEST * np.arange(number), score_of(level), np.eye(len(columns)), fitting)
        straight = found._straightened(inside)[0]
        straight -= weights @ straight
        covariance = (weights[:, None] * straight).T @ straight
        size = np.sqrt(np.maximum(np.diag(covariance), EDGE))
        # Of few particles correlations are hardly known.
        trust = effective / (effective + len(columns) + 1.0)
        correlation = trust * covariance / np.outer(size, size)
        np.fill_diagonal(correlation, 1.0)
        return replace(found, correlation=correlation)

    def drawn(self, cube: np.ndarray) -> np.ndarray:
        """Particles that are worth drawing, from evenly drawn ones.

        Parameters
        ----------
        cube : ndarray, shape (particles, columns)
            evenly drawn, 0 to 1

        Returns
        -------
        ndarray, shape of `cube`
        """
        out, begin = cube.copy(), round(STILL_EVEN * len(cube))
        if len(self.columns):
            even = np.clip(cube[begin:, self.columns], EDGE, 1 - EDGE)
            straight = score_of(even) @ self._lower.T
            straight[::WIDE_ONE_OF] *= WIDE
            part, each = np.searchsorted(self.at, straight), np.arange(len(self.columns))
            nearest = np.maximum(part - 1, 0)
            bent = self.knots[each, nearest] + (straight - self.at[nearest]) / self._slopes[each, part]
            out[begin:, self.columns] = places(bent)
        return out

    def placed(self, drawn: np.ndarray, even: np.ndarray, fit: Fit) -> None:
        """Of particles that were drawn so many severities put about where they fit, in place.

        Parameters
        ----------
        drawn, even : ndarray, shape (particles, columns)
            what `drawn` made, and of what
        fit : Fit
            of what was drawn
        """
        begin = round(STILL_EVEN * len(drawn))
        those = len(drawn) - begin
        for number, part in enumerate(self.fitting):
            some = slice(begin, begin + round(part * those))
            begin = some.stop
            wide = np.where(np.arange(begin - some.start) < TAIL * (begin - some.start), WIDER, 1.0)
            score = score_of(np.clip(even[some, fit.column], EDGE, 1 - EDGE))
            width = fit.width[number, some]
            place = fit.at[number, some] + score * wide * width
            fits = (width > 0.0) & (place > fit.low[number]) & (place < fit.high[number])
            drawn[some, fit.column] = np.where(fits, place, drawn[some, fit.column])

    def log(self, particles: Particles, placed: Placed | None = None) -> np.ndarray:
        """Logarithm of the density that particles were drawn with, against evenly drawn ones, shape (particles,).

        Parameters
        ----------
        particles : Particles
        placed : Placed or None
            of these particles, where any severity was drawn about where it fits
        """
        if not len(self.columns) and not self.fitting:
            return np.zeros(len(particles.cube))
        straight, log_slope = self._straightened(particles.logits[:, self.columns])
        height = log_slope - particles.even[:, self.columns]
        apart = straight @ self._undone.T
        size = (apart**2).sum(axis=1)
        found = height.sum(axis=1) + self._normal(size, len(self.columns))
        if placed is not None and self.fitting:
            if len(self.columns) and self.columns[-1] == placed.column:
                others = height[:, :-1].sum(axis=1) + self._normal(size - apart[:, -1] ** 2, len(self.columns) - 1)
            else:
                others = found
            parts = [np.log(1.0 - sum(self.fitting)) + found]
            # The others by their own law and the severity about its place; where that fell outside it stayed, by the law of all.
            parts += [
                np.log(part) + np.logaddexp(others + about, outside + found)
                for part, about, outside in zip(self.fitting, placed.about, placed.outside, strict=True)
            ]
            found = np.logaddexp.reduce(parts)
        return np.logaddexp(np.log(1 - STILL_EVEN) + found, np.log(STILL_EVEN))

    def _normal(self, size: np.ndarray, told: int) -> np.ndarray:
        """Logarithm of the joint law's density, of squared distances among the first `told` coordinates, shape (particles,)."""
        near, far = np.log(1.0 - 1.0 / WIDE_ONE_OF), -np.log(WIDE_ONE_OF) - told * np.log(WIDE)
        both = np.logaddexp(near - 0.5 * size, far - 0.5 * size / WIDE**2)
        return both - np.log(np.diag(self._lower)[:told]).sum() - 0.5 * told * np.log(2.0 * np.pi)

    @cached_property
    def _lower(self) -> np.ndarray:
        return np.linalg.cholesky(self.correlation)

    @cached_property
    def _undone(self) -> np.ndarray:
        """Brings what hangs together apart again; the first coordinates by themselves, whatever follows them."""
        return np.linalg.inv(self._lower)

    @cached_property
    def _slopes(self) -> np.ndarray:
        """How steep each curve is before, between and beyond its quantiles, shape (told, quantiles + 1)."""
        between = np.diff(self.at) / np.diff(self.knots, axis=1)
        return np.concatenate([between[:, :1] / OUTSIDE, between, between[:, -1:] / OUTSIDE], axis=1)

    @cached_property
    def _log_slopes(self) -> np.ndarray:
        return np.log(self._slopes)

    def _straightened(self, inside: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What the curves make of the logits of the told coordinates, and the logarithm of how steep they are there, both shape (particles,
        told)."""
        each = np.arange(len(self.columns))
        part = np.empty(inside.shape, np.intp)
        for k in each:
            part[:, k] = np.searchsorted(self.knots[k], inside[:, k])
        nearest = np.maximum(part - 1, 0)
        straight = self.at[nearest] + (inside - self.knots[each, nearest]) * self._slopes[each, part]
        return straight, self._log_slopes[each, part]


def _told(cube: np.ndarray, weights: np.ndarray, effective: float) -> np.ndarray:
    """Which coordinates differ from even by more than so few particles do by chance (Pearson's chi square), shape (columns,)."""
    columns = cube.shape[1]
    place = np.arange(columns) * BINS + np.minimum((cube * BINS).astype(np.intp), BINS - 1)
    share = np.bincount(place.ravel(), np.repeat(weights, columns), columns * BINS).reshape(columns, BINS)
    chance = effective * ((share - 1 / BINS) ** 2).sum(axis=1) * BINS
    return chance > BINS - 1 + TOLD_SIGMAS * np.sqrt(2.0 * (BINS - 1))
