"""Nodal analysis of a linear network of resistors and sources.

A network is solved once for every source of unit strength, so that any course of the sources over time is a
matrix product: volts(t) = transfer @ sources(t).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

GROUND = "0"
#: every node leaks this much to ground, S: what is cut off from everything then has a voltage
LEAST_SIEMENS = 1e-12


@dataclass
class Network:
    """Resistors and named sources between named nodes; node "0" is the reference."""

    resistors: list[tuple[str, str, float]] = field(default_factory=list)
    sources: list[tuple[str, str, str, float]] = field(default_factory=list)
    currents: list[tuple[str, str, str]] = field(default_factory=list)

    def resistor(self, one: str, other: str, ohm: float) -> None:
        self.resistors.append((one, other, max(float(ohm), 1e-6)))

    def voltage(self, name: str, plus: str, minus: str, ohm: float) -> None:
        """A voltage source called `name` behind its own resistance (ohm > 0)."""
        self.sources.append((name, plus, minus, max(float(ohm), 1e-6)))

    def current(self, name: str, into: str, out_of: str) -> None:
        """A current source called `name` that drives from `out_of` into `into`."""
        self.currents.append((name, into, out_of))

    def nodes(self) -> list[str]:
        ends = [n for a, b, _ in self.resistors for n in (a, b)]
        ends += [n for _, a, b, _ in self.sources for n in (a, b)] + [n for _, a, b in self.currents for n in (a, b)]
        return sorted(set(ends) - {GROUND})

    def transfer(self) -> Transfer:
        """Volts at every node for one volt (or ampere) of every source."""
        nodes = self.nodes()
        place = {name: index for index, name in enumerate(nodes)}
        names = [one[0] for one in self.sources] + [one[0] for one in self.currents]
        matrix = np.diag(np.full(len(nodes), LEAST_SIEMENS))
        drive = np.zeros((len(nodes), len(names)))

        def stamp(one: str, other: str, siemens: float) -> None:
            for a, b in ((one, other), (other, one)):
                if a != GROUND:
                    matrix[place[a], place[a]] += siemens
                    if b != GROUND:
                        matrix[place[a], place[b]] -= siemens

        for one, other, ohm in self.resistors:
            stamp(one, other, 1.0 / ohm)
        for column, (_, plus, minus, ohm) in enumerate(self.sources):
            stamp(plus, minus, 1.0 / ohm)
            for node, sign in ((plus, 1.0), (minus, -1.0)):
                if node != GROUND:
                    drive[place[node], column] += sign / ohm
        for column, (_, into, out_of) in enumerate(self.currents, start=len(self.sources)):
            for node, sign in ((into, 1.0), (out_of, -1.0)):
                if node != GROUND:
                    drive[place[node], column] += sign
        return Transfer(place, names, np.linalg.solve(matrix, drive))

    def resistance(self, one: str, other: str) -> float:
        """Ohms seen between two nodes with every source at rest."""
        probe = Network(list(self.resistors) + [(a, b, ohm) for _, a, b, ohm in self.sources])
        probe.current("test", one, other)
        solved = probe.transfer()
        return solved.volts(one, {"test": 1.0}) - solved.volts(other, {"test": 1.0})


@dataclass(frozen=True)
class Transfer:
    """A solved network."""

    place: Mapping[str, int]
    names: list[str]
    matrix: np.ndarray  #: shape (nodes, sources)

    def volts(self, node: str, sources: Mapping[str, float | np.ndarray]) -> float | np.ndarray:
        """Volts at a node; each source a number or an array over time, shape as the arrays."""
        if node == GROUND:
            return 0.0
        row = self.matrix[self.place[node]]
        total = 0.0
        for share, name in zip(row, self.names, strict=True):
            total = total + share * sources[name]
        return total
