"""Where particles are worth drawing: along each coordinate of which the evidence tells anything a density of bins that weigh alike,
joined by the correlations of a normal law (a normal copula: Nelsen, An Introduction to Copulas, 2006, 3.1; bins of equal weight:
Devroye and Gyorfi, Nonparametric Density Estimation, 1985; both from memory)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from sagen.reason.placing import Fit, Placed
from sagen.reason.scales import TAIL, WIDER, score_of, share_below

#: bins in which a coordinate is seen to be told, standard deviations beyond chance from which it counts as told
BINS, TOLD_SIGMAS = 40, 3.0
#: effective particles to a bin of a learned density, the fewest and the most bins, and how far its ends reach, in bins beside them
TO_A_BIN, FEWEST_BINS, MOST_BINS, REACH = 6.0, 4, 20, 2.0
#: share of each coordinate, and of the particles along all coordinates, that stays as evenly drawn as before any evidence
EVEN, STILL_EVEN = 0.06, 0.05
NARROWEST = 1e-7  #: of a bin
EDGE = 1e-12  #: how near to its border a place in the cube may lie


@dataclass(frozen=True)
class Proposal:
    """A density in the cube. The coordinates that are not told are even, and independent of the others."""

    columns: np.ndarray  #: the coordinates that are told, shape (told,)
    grid: np.ndarray  #: borders of the bins of each, from 0 to 1, shape (told, bins + 1)
    share: np.ndarray  #: of what lies below each border, shape of `grid`
    correlation: np.ndarray  #: of their normal scores, shape (told, told)
    #: shares of the particles whose severity is drawn about where it fits a reading, one a stretch
    fitting: tuple[float, ...] = ()

    @classmethod
    def learned(
        cls, cube: np.ndarray, weights: np.ndarray, last: int | None = None, fitting: tuple[float, ...] = ()
    ) -> Proposal:
        """From weighted particles, along the coordinates that differ from even by more than so few do by chance.

        Parameters
        ----------
        cube : ndarray, shape (particles, columns)
        weights : ndarray, shape (particles,)
            adding up to 1
        last : int or None
            the column of a severity that is drawn about where it fits, given all others
        fitting : tuple of float
            shares of the particles of which it is, one a stretch
        """
        effective = 1.0 / (weights**2).sum()
        columns = np.flatnonzero(_told(cube, weights, effective))
        columns = columns[np.argsort(columns == last, kind="stable")]
        inside, told = cube[:, columns], len(columns)
        bins = int(np.clip(effective / TO_A_BIN, FEWEST_BINS, MOST_BINS))
        order = np.argsort(inside, axis=0)
        ordered, below = np.take_along_axis(inside, order, 0), np.cumsum(weights[order], axis=0) - 0.5 * weights[order]
        grid, even = np.zeros((told, bins + 3)), np.linspace(0.0, 1.0, bins + 1)
        for k in range(told):
            border = np.interp(even[1:-1], below[:, k], ordered[:, k])
            first, last = REACH * (border[1] - border[0]), REACH * (border[-1] - border[-2])
            grid[k, 1:-1] = max(border[0] - first, 0.0), *border, min(border[-1] + last, 1.0)
        grid[:, 1:-1] += NARROWEST * np.arange(bins + 1)
        grid /= np.maximum(grid[:, -2:-1], 1.0)
        grid[:, -1] = 1.0 + NARROWEST
        share = (1.0 - EVEN) * np.concatenate([[0.0], even, [1.0]]) + EVEN * grid
        found = cls(columns, grid, share, np.eye(told))
        score = score_of(found._read(inside)[0])
        score -= weights @ score
        covariance = (weights[:, None] * score).T @ score
        size = np.sqrt(np.maximum(np.diag(covariance), EDGE))
        # Of few particles correlations are hardly known.
        trust = effective / (effective + told + 1.0)
        correlation = trust * covariance / np.outer(size, size)
        np.fill_diagonal(correlation, 1.0)
        return cls(columns, grid, share, correlation, fitting)

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
            place = share_below(score_of(even) @ np.linalg.cholesky(self.correlation).T)
            for k, column in enumerate(self.columns):
                out[begin:, column] = np.interp(place[:, k], self.share[k], self.grid[k])
        return np.clip(out, EDGE, 1 - EDGE)

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

    def log(self, cube: np.ndarray, placed: Placed | None = None) -> np.ndarray:
        """Logarithm of the density that particles were drawn with, shape (particles,).

        Parameters
        ----------
        cube : ndarray, shape (particles, columns)
        placed : Placed or None
            of these particles, where any severity was drawn about where it fits
        """
        if not len(self.columns) and not self.fitting:
            return np.zeros(len(cube))
        below, height = self._read(cube[:, self.columns])
        score, height = score_of(below), np.log(height)
        found = height.sum(axis=1) + self._copula(score)
        if placed is not None and self.fitting:
            told = bool(len(self.columns)) and self.columns[-1] == placed.column
            others = height[:, :-1].sum(axis=1) + self._copula(score[:, :-1]) if told else found
            parts = [np.log(1.0 - sum(self.fitting)) + found]
            # The others by their own law and the severity about its place; where that fell outside it stayed, by the law of all.
            parts += [
                np.log(part) + np.logaddexp(others + about, outside + found)
                for part, about, outside in zip(self.fitting, placed.about, placed.outside, strict=True)
            ]
            found = np.logaddexp.reduce(parts)
        return np.logaddexp(np.log(1 - STILL_EVEN) + found, np.log(STILL_EVEN))

    def _copula(self, score: np.ndarray) -> np.ndarray:
        """Logarithm of the copula's density of the first told coordinates, by their scores, shape (particles,)."""
        told = score.shape[1]
        if told == len(self.columns):
            beside, log_determinant = self._beside, self._log_determinant
        else:
            correlation = self.correlation[:told, :told]
            beside = np.linalg.inv(correlation) - np.eye(told)
            log_determinant = float(np.linalg.slogdet(correlation)[1])
        return -0.5 * (log_determinant + ((score @ beside) * score).sum(axis=1))

    @cached_property
    def _heights(self) -> np.ndarray:
        """Density in each bin of each told coordinate, shape (told, bins)."""
        return np.diff(self.share, axis=1) / np.maximum(np.diff(self.grid, axis=1), EDGE)

    @cached_property
    def _beside(self) -> np.ndarray:
        return np.linalg.inv(self.correlation) - np.eye(len(self.columns))

    @cached_property
    def _log_determinant(self) -> float:
        return float(np.linalg.slogdet(self.correlation)[1])

    def _read(self, inside: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How much of each told coordinate lies below a place, and how dense it is there, both shape (particles, told)."""
        each = np.arange(len(self.columns))
        bins = np.empty(inside.shape, np.intp)
        for k in each:
            bins[:, k] = np.searchsorted(self.grid[k], inside[:, k], "right") - 1
        height, begins = self._heights[each, bins], self.grid[each, bins]
        return self.share[each, bins] + (inside - begins) * height, height


def _told(cube: np.ndarray, weights: np.ndarray, effective: float) -> np.ndarray:
    """Which coordinates differ from even by more than so few particles do by chance (Pearson's chi square), shape (columns,)."""
    columns = cube.shape[1]
    place = np.arange(columns) * BINS + np.minimum((cube * BINS).astype(np.intp), BINS - 1)
    share = np.bincount(place.ravel(), np.repeat(weights, columns), columns * BINS).reshape(columns, BINS)
    chance = effective * ((share - 1 / BINS) ** 2).sum(axis=1) * BINS
    return chance > BINS - 1 + TOLD_SIGMAS * np.sqrt(2.0 * (BINS - 1))
