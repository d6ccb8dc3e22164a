"""Circuits of many machines, each as many particles, solved together: what instruments show of them."""

from __future__ import annotations

import dataclasses
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator, Mapping
from typing import TypeVar

import numpy as np

from sagen.machine.meter import recorded_between, volts_read
from sagen.machine.simulated import Ends, SimulatedMachine, smooth
from sagen.machine.solve import NODES, Circuit
from sagen.machine.values import Values
from sagen.model.vocabulary import OHM_POINTS, STARTING, Point, State
from sagen.signal.limits import limits

T = TypeVar("T")

#: where a reader of recordings calls a feed lost and a return lifted
_FEED, _LIFT = limits("supply_loss"), limits("ground_lift")

#: fields of the machine, beside its values, that a fault may change or that differ by particle
OF_MACHINE = ("regulated", "dead", "turns", "gap_mm", "crank_rpm", "crank_sag", "uneven", "at_tooth")
VALUES = tuple(field.name for field in dataclasses.fields(Values))


def arrays_of(held: object) -> Iterator[np.ndarray]:
    """All arrays in lists, tuples and mappings.

    Parameters
    ----------
    held : object
        of which arrays are wanted; nested
    """
    if isinstance(held, np.ndarray):
        yield held
    elif isinstance(held, Mapping):
        yield from arrays_of(list(held.values()))
    elif isinstance(held, list | tuple):
        for item in held:
            yield from arrays_of(item)


class Remembers:
    """What is worked out once and kept."""

    def __init__(self):
        self._known: dict[Hashable, object] = {}

    def once(self, key: Hashable, work_out: Callable[[], T]) -> T:
        """What was worked out under a key; worked out now where it was not.

        Parameters
        ----------
        key : hashable
            of what, and for which state
        work_out : callable
            arrays, or tuples and mappings of them
        """
        if key not in self._known:
            self._known[key] = work_out()
        return self._known[key]


class Lately(OrderedDict):
    """What is worked out once and kept until so much else was asked for since: for what there is no end of, as the evidence of jobs.

    Parameters
    ----------
    most : int
        so many are kept
    """

    def __init__(self, most: int):
        super().__init__()
        self._most = most

    def once(self, key: Hashable, work_out: Callable[[], T]) -> T:
        """As `Remembers.once`.

        Parameters
        ----------
        key, work_out
            as that has them
        """
        if key not in self:
            self[key] = work_out()
            while len(self) > self._most:
                self.popitem(last=False)
        self.move_to_end(key)
        return self[key]


class Circuits(Remembers):
    """Circuits that differ to a probe, each as many particles.

    Parameters
    ----------
    machine : SimulatedMachine
        all of them: its values are numbers or arrays of shape (particles,) or (circuits, particles)
    count, particles : int
    """

    def __init__(self, machine: SimulatedMachine, count: int, particles: int):
        super().__init__()
        self.machine, self.shape = machine, (count, particles)
        self._circuit = Circuit(machine)

    @property
    def held(self) -> list:
        """What takes memory."""
        own = [*vars(self.machine).values(), *vars(self.machine.values).values()]
        return [*own, *self._circuit.held, *self._known.values()]

    def each(self, found: np.ndarray | float) -> np.ndarray:
        """What is the same for some or all, for every circuit, shape (circuits, particles).

        Parameters
        ----------
        found : float or ndarray
        """
        return np.broadcast_to(found, self.shape)

    def _all(self, found: Mapping[str, np.ndarray | float]) -> dict[str, np.ndarray]:
        return {name: self.each(item) for name, item in found.items()}

    def value(self, name: str) -> np.ndarray:
        """One value of the machines, of the circuit or of the shaft, shape (circuits, particles).

        Parameters
        ----------
        name : str
            of a field of `Values` or of the machine
        """
        machine = self.machine
        return self.each(getattr(machine.values if name in VALUES else machine, name))

    def points(self) -> tuple[Point, ...]:
        """The points at which volts can be measured."""
        part = self.machine.part
        gone = (() if part.fed else (Point.SUPPLY,)) + (() if part.own_return else (Point.GROUND,))
        return tuple(node for node in NODES if node not in gone and node != Point.SHIELD)

    def volts(self, point: str, state: str) -> np.ndarray | None:
        """What a meter at a point reads in a state, V, shape (circuits, particles); None where it cannot be held.

        Parameters
        ----------
        point, state : str
            by their names

        Returns
        -------
        ndarray or None
            V, shape (circuits, particles)
        """
        return self._all_volts(state)[NODES[point]] if point in self.points() else None

    def other_volts(self, point: str, state: str) -> list[np.ndarray]:
        """What stands at the machine's other pins meanwhile: a probe in the wrong place reads one of them.

        Parameters
        ----------
        point, state : str
            by their names

        Returns
        -------
        list of ndarray, shape (circuits, particles)
            V
        """
        return [volts for node, volts in self._all_volts(state).items() if node != NODES[point]]

    def _all_volts(self, state: str) -> dict[str, np.ndarray]:
        """Volts at the plug. A meter loads the signal alone: feed and return are too stiff to feel it."""
        nodes = (NODES[Point.SIGNAL], *(NODES[point] for point in self.points() if point != Point.SIGNAL))
        return self.once(("volts", state), lambda: self._all(volts_read(self._circuit, state, nodes)))

    def pulsed(self, ohm: float | None) -> np.ndarray:
        """Volts at the module's pin with the sensor unplugged and a resistor from its signal wire to ground, shape (circuits, particles).

        Parameters
        ----------
        ohm : float or None
            None: a meter alone
        """
        held = self.machine.values.meter_ohm if ohm is None else ohm
        instrument = (NODES[Point.SIGNAL], held)
        volts = self._circuit.volts(
            State.KEY_ON_UNPLUGGED, conducting=False, instrument=instrument, at=("module_signal",)
        )
        return self.each(volts["module_signal"])

    def input_levels(self) -> tuple[np.ndarray, np.ndarray]:
        """Below and above which the module's input sees a low and a high, V, shape (circuits, particles)."""
        low, high = self.machine.part.input_levels(self.machine.values)
        return self.each(low), self.each(high)

    def ohms(self, point: str) -> np.ndarray | None:
        """What a meter across the sensor or along a wire reads, ohm, at 20 degC; None where that says nothing.

        Parameters
        ----------
        point : str
            of the sensor, or of a wire

        Returns
        -------
        ndarray, shape (circuits, particles), or None
            ohm
        """
        part = self.machine.part
        if point == Point.GROUND:
            return self.value("ground_wire_ohm") + self.value("return_ohm") if part.own_return else None
        name = {
            Point.SENSOR: part.ohms_field,
            Point.SUPPLY_WIRE: "feed_wire_ohm" if part.fed else None,
            Point.SIGNAL_WIRE: "signal_wire_ohm",
            Point.GROUND_WIRE: "ground_wire_ohm" if part.own_return else None,
        }.get(point)
        return self.value(name) if name else None

    def reading(self, point: str, state: str, ohms: bool) -> np.ndarray | None:
        """A reading of either quantity.

        Parameters
        ----------
        point, state : str
            by their names
        ohms : bool
            ohm instead of V

        Returns
        -------
        ndarray or None
            shape (circuits, particles)
        """
        return self.ohms(point) if ohms or point in OHM_POINTS else self.volts(point, state)

    def level(self, name: str, state: str, end: str = "sensor") -> np.ndarray | None:
        """A level of a recording, V: the signal's "low" and "high", the mean of "supply" and "ground"; None where the
        circuit does not decide it.

        Parameters
        ----------
        name : str
            low, high, supply or ground
        state, end : str
            by name; `end` is where the recorder was clipped to

        Returns
        -------
        ndarray or None
            V, shape (circuits, particles)
        """
        part = self.machine.part
        if not part.fed or (name == "ground" and not part.own_return):
            return None
        one, other = self._ends(state, end)
        if name in ("low", "high"):
            node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
            pick = np.minimum if name == "low" else np.maximum
            return self.each(pick(one[node], other[node]))
        node = NODES[Point.SUPPLY if name == "supply" else Point.GROUND]
        return self.each(0.5 * (one[node] + other[node]))

    def _ends(self, state: str, end: str) -> Ends:
        """Volts with a recorder on the signal, at a tooth and between teeth."""
        node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
        return self.once(("ends", state, end), lambda: recorded_between(self._circuit, state, node))

    def shown(self, state: str, end: str = "sensor") -> dict[str, np.ndarray]:
        """Probabilities of the findings that the circuit's levels make in a recording, by label.

        Parameters
        ----------
        state, end : str
            by name; `end` is where the recorder was clipped to

        Returns
        -------
        dict
            label to probability, shape (circuits, particles)
        """
        return self.once(("shown", state, end), lambda: self._shown(state, end))

    def _shown(self, state: str, end: str) -> dict[str, np.ndarray]:
        ends = self._ends(state, end)
        node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
        return self._all({**self.machine.part.shown(self._circuit, state, node, ends), **self._rails(state, ends)})

    def shown_by_state(self, kind: str) -> bool:
        """Whether how the machine stands decides if a finding shows: the circuit then does, not the shape alone."""
        return kind in self.machine.part.by_state

    def _rails(self, state: str, ends: Ends) -> dict[str, np.ndarray]:
        """A feed that is lost and a return that is lifted, as they stand during a recording."""
        out: dict[str, np.ndarray] = {}
        machine, starting = self.machine, state in STARTING
        if machine.part.fed:
            feed = 0.5 * (ends[0][NODES[Point.SUPPLY]] + ends[1][NODES[Point.SUPPLY]])
            nominal = np.where(machine.regulated, machine.values.regulator_v, machine.values.battery_v)
            least = np.where(
                machine.regulated, _FEED.fallen_regulated, _FEED.fallen_cranking if starting else _FEED.fallen_battery
            )
            out["supply_loss"] = smooth(least - feed / nominal, 0.03)
            if machine.part.own_return:
                lift = 0.5 * (ends[0][NODES[Point.GROUND]] + ends[1][NODES[Point.GROUND]])
                out["ground_lift"] = smooth(lift - (_LIFT.lift_cranking_v if starting else _LIFT.lift_v), 0.04)
        return out
