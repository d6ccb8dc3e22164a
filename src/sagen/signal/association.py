"""What events go with: their rate against the speed, the time since the start, and marks that were spoken or keyed.

Events that come close together count as one, since one cause may set off several. Against a covariate a permutation test:
as many events are put at random places of the record, and the statistic as it is is ranked among those (Phipson and Smyth,
Stat. Appl. Genet. Mol. Biol. 9, 2010: p = (b + 1) / (m + 1)). Against marks the exact binomial test. Each p is multiplied by
how many things were tried (Bonferroni).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

DRAWS = 4999
APART_S = 1.0  #: events that follow sooner count with the one before
BIN_S = 0.1
FEWEST = 3  #: events of which anything is said
MARK_S = 3.0  #: s behind a mark that belong to it
SURE = 0.05


@dataclass(frozen=True)
class Association:
    """What events go with: which covariate, above or below which value or within which time of a mark, and the p-value
    after all that was tried."""

    what: str  #: rpm, time, temperature, or a mark's words
    side: str  #: above, below, after
    value: float
    p: float


def associate(
    times: Sequence[float],
    seconds: float,
    covariates: Mapping[str, np.ndarray],
    marks: Mapping[str, Sequence[float]] | None = None,
) -> list[Association]:
    """What events go with, the surest first; nothing where they are few.

    Parameters
    ----------
    times : sequence of float
        when each event began, s
    seconds : float
        of the record
    covariates : mapping
        by name, values on an even grid over the record, shape (n,); NaN where unknown
    marks : mapping
        by its words, when each was set, s

    References
    ----------
    Phipson and Smyth, Stat. Appl. Genet. Mol. Biol. 9 (2010), article 39, for the chance of a permutation; Bonferroni for many
    covariates. From memory.
    """
    times = _apart(np.sort(np.asarray(times, float)))
    bins = max(int(seconds / BIN_S), 1)
    tried = len(covariates) + len(marks or {})
    if len(times) < FEWEST or bins < 20 or not tried:
        return []
    at = np.minimum((times / seconds * bins).astype(int), bins - 1)
    drawn = np.random.default_rng(3).integers(0, bins, (DRAWS, len(at)))
    found = []
    for name, values in covariates.items():
        grid = _on_grid(np.asarray(values, float), bins)
        if not np.isfinite(grid).any() or np.nanstd(grid) == 0:
            continue
        rank = np.argsort(np.argsort(np.nan_to_num(grid, nan=np.nanmedian(grid)))) / bins - 0.5
        score = float(rank[at].mean())
        p = (1 + np.count_nonzero(np.abs(rank[drawn].mean(axis=1)) >= abs(score) - 1e-12)) / (DRAWS + 1)
        here = grid[at]
        value = float(np.nanmin(here) if score > 0 else np.nanmax(here))
        found.append(Association(name, "above" if score > 0 else "below", value, min(1.0, p * tried)))
    for words, when in (marks or {}).items():
        near = np.zeros(bins, bool)
        for each in when:
            first = int(each / seconds * bins)
            near[first : first + max(1, round(MARK_S / BIN_S))] = True
        if not near.any() or near.all():
            continue
        p = float(scipy.stats.binom.sf(int(near[at].sum()) - 1, len(at), near.mean()))
        found.append(Association(words, "after", MARK_S, min(1.0, p * tried)))
    return sorted((item for item in found if item.p <= SURE), key=lambda item: item.p)


def _apart(times: np.ndarray) -> np.ndarray:
    """The first of each run of times that follow each other within `APART_S`."""
    return times[np.diff(times, prepend=-np.inf) > APART_S]


def _on_grid(values: np.ndarray, bins: int) -> np.ndarray:
    """Values brought to so many even bins."""
    if len(values) == bins:
        return values
    return values[np.minimum((np.arange(bins) + 0.5) * len(values) / bins, len(values) - 1).astype(int)]
