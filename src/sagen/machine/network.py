"""Nodal analysis of a linear network of resistors and sources.

Nodes are eliminated one by one (star to mesh), with numbers or whole arrays as elements: one machine and twenty
thousand particles are solved by the same steps. Conductances are only added, multiplied and divided, never
subtracted, so that a node that hangs by a thousand megohm keeps its voltage to the last digit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from operator import add, mul, sub, truediv

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
    #: of the resistors and of the sources in their order: a copy need not divide again
    _siemens: list[Number] = field(default_factory=list)
    _own_siemens: list[Number] = field(default_factory=list)

    def copy(self) -> Network:
        """One on which more may be hung while this one stays as it is."""
        held = (self.resistors, self.sources, self.currents, self._siemens, self._own_siemens)
        return Network(*map(list, held))

    @property
    def held(self) -> list[Number]:
        """The conductances, S: numbers, or arrays that take memory."""
        return [*self._siemens, *self._own_siemens]

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
        self._siemens.append(_siemens(ohm))

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
        self._own_siemens.append(_siemens(ohm))

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
        return sorted({*ends, *(n for pair in self._driven() for n in pair)} - {GROUND})

    def _driven(self) -> tuple[tuple[str, str], ...]:
        return tuple((a, b) for _, a, b, *_ in (*self.sources, *self.currents))

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
        probe = Network()
        for a, b, ohm in (*self.resistors, *(source[1:] for source in self.sources)):
            probe.resistor(a, b, ohm)
        probe.current("test", text, other)
        found = probe.volts({"test": 1.0})
        return found.get(text, 0.0) - found.get(other, 0.0)

    def _solved(
        self, drives: Iterable[Mapping[str, Number]], at: Iterable[str] | None = None
    ) -> dict[str, list[Number]]:
        """Volts at every node that is asked for, one for each drive."""
        names = [name for name, *_ in (*self.sources, *self.currents)]
        strengths = [[drive[name] for drive in drives] for name in names]
        acts = tuple(tuple(not _is_nothing(value) for value in row) for row in strengths)
        given = [LEAST_SIEMENS, 0.0, *self.held]
        given += [value for row in strengths for value in row if not _is_nothing(value)]
        joined = tuple((a, b) for a, b, _ in self.resistors)
        elimination = _elimination(joined, self._driven(), len(self.sources), acts, None if at is None else tuple(at))
        return elimination.worked_out(given)


@dataclass(frozen=True)
class _Elimination:
    """How one kind of network is solved, step by step: networks that differ by their numbers alone are solved by the same steps."""

    #: each step does something to two of the numbers so far, by their places; what none needs any more is let go
    steps: list[tuple[Callable, int, int, tuple[int, ...]]]
    found: dict[str, list[int | None]]  #: where the volts of each node are, one for each drive; None is 0 V

    def worked_out(self, numbers: list[Number]) -> dict[str, list[Number]]:
        """Volts at every node that is asked for, one for each drive.

        Parameters
        ----------
        numbers : list of float or ndarray
            those that are given; added to
        """
        for operation, one, other, done in self.steps:
            numbers.append(operation(numbers[one], numbers[other]))
            for place in done:
                numbers[place] = 0.0
        return {node: [0.0 if at is None else numbers[at] for at in where] for node, where in self.found.items()}


@lru_cache(maxsize=1024)
def _elimination(
    resistors: tuple[tuple[str, str], ...],
    driven: tuple[tuple[str, str], ...],
    sources: int,
    acts: tuple[tuple[bool, ...], ...],
    at: tuple[str, ...] | None,
) -> _Elimination:
    """The steps for a network of resistors, then sources with a resistance each, then current sources, by the nodes that they join.

    Whole arrays are added and multiplied by them, so that what is nothing (a source at rest) is left out, and what two nodes share is
    worked out once.

    Parameters
    ----------
    resistors, driven : tuple of (node, node)
    sources : int
        how many of the driven ones are voltages behind a resistance
    acts : tuple of tuple of bool
        for each of the driven ones, for each drive, whether it is not at rest
    at : tuple of str or None
        the nodes that are asked for
    """
    joined = (*resistors, *driven[:sources])
    nodes = sorted({node for pair in (*joined, *driven) for node in pair} - {GROUND})
    given = FIRST + len(joined) + sum(map(sum, acts))
    writing = _Writing(nodes, given, len(acts[0]) if acts else 1)
    for place, (one, other) in enumerate(joined, FIRST):
        writing.join(one, other, place)
    strength = FIRST + len(joined)
    for number, (into, out_of) in enumerate(driven):
        for column in np.flatnonzero(acts[number]).tolist():
            behind = FIRST + len(resistors) + number if number < sources else None
            writing.drive(column, into, out_of, strength, behind)
            strength += 1
    order = writing.taken_out(nodes)
    # What a node hangs from was taken out after it: from the last to the first, as far as somebody asks.
    asked = set(nodes if at is None else at)
    for node, _, arms in order:
        if node in asked:
            asked.update(arms)
    found = writing.read_back([row for row in reversed(order) if row[0] in asked])
    return _only_what_is_needed(writing.steps, given, found)


#: places of the numbers that every network is given before its own: what a node leaks, nothing, and the first of its own
LEAK, NOTHING, FIRST = 0, 1, 2


class _Writing:
    """Elimination with the places of numbers for the numbers themselves: what would be worked out is written down as steps.

    Parameters
    ----------
    nodes : list of str
    given, drives : int
        how many numbers are given, and how many drives are solved for
    """

    def __init__(self, nodes: list[str], given: int, drives: int):
        self.steps: list[tuple[Callable, int, int]] = []
        self._given = given
        self._to_ground = dict.fromkeys(nodes, LEAK)
        self._between: dict[str, dict[str, int]] = {node: {} for node in nodes}
        self._amps: dict[str, list[int | None]] = {node: [None] * drives for node in nodes}

    def _do(self, operation: Callable, one: int, other: int) -> int:
        self.steps.append((operation, one, other))
        return self._given + len(self.steps) - 1

    def _more(self, sum_so_far: int | None, place: int) -> int:
        return place if sum_so_far is None else self._do(add, sum_so_far, place)

    def join(self, one: str, other: str, siemens: int) -> None:
        """Hang a conductance between two nodes, beside what hangs there."""
        if GROUND in (one, other):
            node = other if one == GROUND else one
            if node != GROUND:
                self._to_ground[node] = self._do(add, self._to_ground[node], siemens)
        elif one != other:
            siemens = self._more(self._between[one].get(other), siemens)
            self._between[one][other] = self._between[other][one] = siemens

    def drive(self, column: int, into: str, out_of: str, strength: int, behind: int | None) -> None:
        """Let a source drive: amperes, or volts behind a conductance."""
        here = strength if behind is None else self._do(mul, behind, strength)
        if into != GROUND:
            self._amps[into][column] = self._more(self._amps[into][column], here)
        if out_of != GROUND:
            before = self._amps[out_of][column]
            self._amps[out_of][column] = self._do(sub, NOTHING if before is None else before, here)

    def taken_out(self, nodes: list[str]) -> list[tuple[str, int, dict[str, int]]]:
        """Every node in the order in which it is taken out, with all that hangs on it, and what hung between it and others."""
        left, order = set(nodes), []
        while left:
            # The node with fewest neighbours first: the circuit is nearly a tree, so that hardly anything is filled in.
            node = min(left, key=lambda item: (len(self._between[item]), item))
            left.remove(node)
            arms = self._between.pop(node)
            total = self._to_ground[node]
            for siemens in arms.values():
                total = self._do(add, total, siemens)
            names = list(arms)
            for index, one in enumerate(names):
                del self._between[one][node]
                share = self._do(truediv, arms[one], total)
                self._to_ground[one] = self._do(add, self._to_ground[one], self._do(mul, share, self._to_ground[node]))
                for column, theirs in enumerate(self._amps[node]):
                    if theirs is not None:
                        self._amps[one][column] = self._more(self._amps[one][column], self._do(mul, share, theirs))
                for other in names[index + 1 :]:
                    self.join(one, other, self._do(mul, share, arms[other]))
            order.append((node, total, arms))
        return order

    def read_back(self, order: list[tuple[str, int, dict[str, int]]]) -> dict[str, list[int | None]]:
        """Where the volts of nodes are, the last that was taken out first, one for each drive; None is 0 V."""
        found: dict[str, list[int | None]] = {}
        for node, total, arms in order:
            found[node] = []
            for column, flowing in enumerate(self._amps[node]):
                for other, siemens in arms.items():
                    if found[other][column] is not None:
                        flowing = self._more(flowing, self._do(mul, siemens, found[other][column]))
                found[node].append(None if flowing is None else self._do(truediv, flowing, total))
        return found


def _only_what_is_needed(steps: list, given: int, found: dict[str, list[int | None]]) -> _Elimination:
    """The steps that come to what is asked for, each with the numbers that it is the last to need: large arrays are let go."""
    needed = {place for where in found.values() for place in where if place is not None}
    kept: list[tuple[int, tuple[int, ...]]] = []
    for number in range(len(steps) - 1, -1, -1):
        if given + number in needed:
            _, one, other = steps[number]
            kept.append((number, tuple(place for place in {one, other} if place >= given and place not in needed)))
            needed |= {one, other}
    kept.reverse()
    now = {place: place for place in range(given)}
    now |= {given + number: given + at for at, (number, _) in enumerate(kept)}
    return _Elimination(
        [
            (steps[number][0], now[steps[number][1]], now[steps[number][2]], tuple(now[place] for place in done))
            for number, done in kept
        ],
        {node: [None if place is None else now[place] for place in where] for node, where in found.items()},
    )


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
