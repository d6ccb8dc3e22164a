"""Nodal analysis of a linear network of resistors and sources.

Nodes are eliminated one by one (star to mesh), with numbers or whole arrays as elements: one machine and twenty
thousand particles are solved by the same steps. Conductances are only added, multiplied and divided, never
subtracted, so that a node that hangs by a thousand megohm keeps its voltage to the last digit.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

GROUND = "0"
#: every node leaks this much to ground, S: what is cut off from everything then has a voltage
LEAST_SIEMENS = 1e-12
LEAST_OHM = 1e-6

Number = float | np.ndarray


def _siemens(ohm: Number) -> Number:
    return 1.0 / (np.maximum(ohm, LEAST_OHM) if isinstance(ohm, np.ndarray) else max(float(ohm), LEAST_OHM))


@dataclass
class Network:
    """Resistors and named sources between named nodes; node "0" is the reference. Ohms may be arrays of one shape, or
    shapes that broadcast: then every element is a network of its own."""

    resistors: list[tuple[str, str, Number]] = field(default_factory=list)
    sources: list[tuple[str, str, str, Number]] = field(default_factory=list)
    currents: list[tuple[str, str, str]] = field(default_factory=list)

    def resistor(self, text: str, other: str, ohm: Number) -> None:
        """Hang a resistance between two nodes.

        Parameters
        ----------
        text, other : str
            nodes; the one that is none is the battery's negative
        ohm : float or ndarray, shape (particles,)
            > 0

        References
        ----------
        Modified nodal analysis: Ho, Ruehli and Brennan, IEEE Trans. CAS 22(6), 1975. From memory.
        """
        self.resistors.append((text, other, ohm))

    def voltage(self, name: str, plus: str, minus: str, ohm: Number) -> None:
        """A voltage source called `name` behind its own resistance (ohm > 0).

        Parameters
        ----------
        name : str
            by which its strength is given later
        plus, minus : str
            nodes
        ohm : float or ndarray
            its own resistance, > 0 (a Norton equivalent: modified nodal analysis, Ho, Ruehli and Brennan 1975, from memory)
        """
        self.sources.append((name, plus, minus, ohm))

    def current(self, name: str, into: str, out_of: str) -> None:
        """A current source called `name` that drives from `out_of` into `into`.

        Parameters
        ----------
        name : str
            by which its strength is given later
        into, out_of : str
            nodes

        References
        ----------
        Ho, Ruehli and Brennan, IEEE Trans. CAS 22(6), 1975. From memory.
        """
        self.currents.append((name, into, out_of))

    def nodes(self) -> list[str]:
        ends = [n for a, b, _ in self.resistors for n in (a, b)]
        ends += [n for _, a, b, _ in self.sources for n in (a, b)] + [n for _, a, b in self.currents for n in (a, b)]
        return sorted(set(ends) - {GROUND})

    def volts(self, strengths: Mapping[str, Number], at: Iterable[str] | None = None) -> dict[str, Number]:
        """Volts at every node with every source at its strength (V or A).

        Parameters
        ----------
        strengths : mapping of str to float or ndarray
            V or A, by the source's name
        at : iterable of str or None
            the nodes that are asked for, where not all are: what lies between comes with them

        Returns
        -------
        dict of str to float or ndarray
            V against the battery's negative

        References
        ----------
        Ho, Ruehli and Brennan, IEEE Trans. CAS 22(6), 1975. From memory.
        """
        return {node: columns[0] for node, columns in self._solved([strengths], at).items()}

    def transfer(self) -> Transfer:
        """Volts at every node for one volt (or ampere) of every source; ohms must be numbers."""
        names = [source[0] for source in self.sources] + [current[0] for current in self.currents]
        unit = [{name: 1.0 if name == driven else 0.0 for name in names} for driven in names]
        found = self._solved(unit)
        nodes = self.nodes()
        matrix = np.array([found[node] for node in nodes]) if names else np.zeros((len(nodes), 0))
        return Transfer({name: index for index, name in enumerate(nodes)}, names, matrix)

    def resistance(self, text: str, other: str) -> float:
        """Ohms seen between two nodes with every source at rest.

        Parameters
        ----------
        text, other : str
            nodes

        Returns
        -------
        float
            ohm, the Thevenin resistance

        References
        ----------
        Resistance seen from two nodes with all sources at rest: Thevenin's theorem; Horowitz and Hill, The Art of Electronics (2015), 1.2.
        From memory.
        """
        probe = Network(list(self.resistors) + [(a, b, ohm) for _, a, b, ohm in self.sources])
        probe.current("test", text, other)
        found = probe.volts({"test": 1.0})
        return found.get(text, 0.0) - found.get(other, 0.0)

    def _solved(
        self, drives: Iterable[Mapping[str, Number]], at: Iterable[str] | None = None
    ) -> dict[str, list[Number]]:
        """Volts at every node that is asked for, one for each drive.

        Whole arrays are added and multiplied here, so that what is nothing (a source at rest, as a plain number) is
        left out, and what two nodes share is worked out once.
        """
        drives = list(drives)
        nodes = self.nodes()
        to_ground: dict[str, Number] = dict.fromkeys(nodes, LEAST_SIEMENS)
        between: dict[str, dict[str, Number]] = {node: {} for node in nodes}
        amps: dict[str, list[Number]] = {node: [0.0] * len(drives) for node in nodes}

        def join(text: str, other: str, siemens: Number) -> None:
            if GROUND in (text, other):
                node = other if text == GROUND else text
                if node != GROUND:
                    to_ground[node] = to_ground[node] + siemens
            elif text != other:
                if other in between[text]:
                    siemens = between[text][other] + siemens
                between[text][other] = between[other][text] = siemens

        def drive(name: str, into: str, out_of: str, siemens: Number) -> None:
            for column, strengths in enumerate(drives):
                if _is_nothing(strengths[name]):
                    continue
                here = siemens * strengths[name]
                if into != GROUND:
                    amps[into][column] = amps[into][column] + here
                if out_of != GROUND:
                    amps[out_of][column] = amps[out_of][column] - here

        for element, other, ohm in self.resistors:
            join(element, other, _siemens(ohm))
        for name, plus, minus, ohm in self.sources:
            siemens = _siemens(ohm)
            join(plus, minus, siemens)
            drive(name, plus, minus, siemens)
        for name, into, out_of in self.currents:
            drive(name, into, out_of, 1.0)

        left, steps = set(nodes), []
        while left:
            # The node with fewest neighbours first: the circuit is nearly a tree, so that hardly anything is filled in.
            node = min(left, key=lambda item: (len(between[item]), item))
            left.remove(node)
            arms = between.pop(node)
            total = to_ground[node]
            for siemens in arms.values():
                total = total + siemens
            names = list(arms)
            for index, a in enumerate(names):
                del between[a][node]
                share = arms[a] / total
                to_ground[a] = to_ground[a] + share * to_ground[node]
                for column, theirs in enumerate(amps[node]):
                    if not _is_nothing(theirs):
                        amps[a][column] = amps[a][column] + share * theirs
                for b in names[index + 1 :]:
                    join(a, b, share * arms[b])
            steps.append((node, total, arms))

        # What a node hangs from was taken out after it: from the last to the first, as far as somebody asks.
        asked = set(nodes if at is None else at)
        for node, _, arms in steps:
            if node in asked:
                asked.update(arms)
        found: dict[str, list[Number]] = {}
        for node, total, arms in reversed(steps):
            if node in asked:
                found[node] = [
                    (own + sum(siemens * found[other][column] for other, siemens in arms.items())) / total
                    for column, own in enumerate(amps[node])
                ]
        return found


def _is_nothing(strength: Number) -> bool:
    """Whether a plain number is 0; an array counts as something, whatever stands in it."""
    return not isinstance(strength, np.ndarray) and strength == 0.0


@dataclass(frozen=True)
class Transfer:
    """A solved network."""

    place: Mapping[str, int]
    names: list[str]
    matrix: np.ndarray  #: shape (nodes, sources)

    def volts(self, node: str, sources: Mapping[str, Number]) -> Number:
        """Volts at a node; each source a number or an array over time, shape as the arrays.

        Parameters
        ----------
        node : str
        sources : mapping
            name of each source to its V or A, a number or shape (n,)

        Returns
        -------
        float or ndarray
            V, by superposition

        References
        ----------
        Superposition in a linear network: Horowitz and Hill, The Art of Electronics (2015), appendix. From memory.
        """
        if node == GROUND:
            return 0.0
        row = self.matrix[self.place[node]]
        total = 0.0
        for share, name in zip(row, self.names, strict=True):
            total = total + share * sources[name]
        return total
