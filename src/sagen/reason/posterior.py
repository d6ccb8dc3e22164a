"""Hypotheses with their probabilities, and the particles behind them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from sagen.model.vocabulary import Cause, Part
from sagen.reason.evidence import Evidence
from sagen.reason.facts import cause_of
from sagen.reason.particle_set import Row


@dataclass(frozen=True)
class WeightedParticles:
    """The particles of one hypothesis as the evidence left them: places, shape (particles, columns), and weights."""

    row: Row
    cube: np.ndarray
    weights: np.ndarray


@dataclass(frozen=True)
class Posterior:
    """Hypotheses (tuples of fault modes; one or two) and their probabilities, adding up to 1."""

    faults: tuple[tuple[str, ...], ...]
    p: np.ndarray
    used: tuple[Evidence, ...] = ()
    odd: tuple[str, ...] = ()  #: readings that no fault explains, said in words
    weighted_sets: tuple[WeightedParticles, ...] = ()
    #: the least that the leading cause would have without any one reading, look or recording
    survives: float = 1.0
    #: probabilities without the piece that the leading cause hangs on most
    doubted: np.ndarray | None = None
    hangs_on: Evidence | None = None  #: that piece
    #: for every piece used, its likelihood under each fault mode by itself
    alone: tuple[dict[str, float], ...] = ()
    generations: Mapping[Part, int] = field(default_factory=dict)
    #: where nothing is wrong any more: what there was before the last repair, and how likely
    left: Mapping[str, float] = field(default_factory=dict)
    #: of every piece used, whether it is of what stood there before the last repair
    before: tuple[bool, ...] = ()

    def by_cause(self) -> dict[Cause, float]:
        """Probability of each cause; a pair counts half for either of its causes."""
        return self._shared(cause_of)

    def by_fault(self) -> dict[str, float]:
        return self._shared(str)

    def _shared(self, name_of) -> dict:
        out: dict = {}
        for faults, p in zip(self.faults, self.p, strict=True):
            for fault in faults:
                out[name_of(fault)] = out.get(name_of(fault), 0.0) + float(p) / len(faults)
        return out

    def weighted_of(self, fault: str) -> WeightedParticles | None:
        """The particles of the likeliest hypothesis in which a fault mode stands now."""
        best = max(
            (k for k, faults in enumerate(self.faults) if fault in faults), key=lambda k: self.p[k], default=None
        )
        return self.weighted_sets[best] if best is not None and best < len(self.weighted_sets) else None
