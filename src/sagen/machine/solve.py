"""The circuit as a network, in every state, and what stands at its points.

A machine's values may be arrays (see `SimulatedMachine`): then every element is a machine of its own, and all are
solved together by `Circuit`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.machine.network import GROUND, Network, Transfer
from sagen.machine.simulated import COPPER_PER_K, SimulatedMachine
from sagen.model.vocabulary import ENGINE_RUNS, PLUG_OPEN, STARTING, Point, State

OPEN = 1e9  #: ohm, what a parted wire still has
STRAY_OHM = 1e7  #: what damp, or a probe, always leaves between a rail's pin and the body
ABSENT = 1e12  #: ohm, where nothing is fitted
#: states in which nothing is fed
KEY_OFF = frozenset({State.UNPLUGGED})

#: the node of the network that a probe at each point of the circuit touches: the plug, harness side
NODES = {
    Point.SUPPLY: "plug_supply", Point.SIGNAL: "plug_signal", Point.GROUND: "plug_ground", Point.SHIELD: "shield",
}  # fmt: skip


def either(which: bool | np.ndarray, item, other):
    """The first where `which` holds, else the other; of arrays element by element.

    Parameters
    ----------
    which : bool or ndarray of bool, shape (n,)
    item, other : any
        what to choose from, of shape (n,) where arrays
    """
    return np.where(which, item, other) if isinstance(which, np.ndarray) else (item if which else other)


@dataclass(frozen=True)
class Solved:
    """A circuit in one state with its output in one position."""

    transfer: Transfer
    sources: dict[str, float]
    network: Network

    def volts(self, node: str, **over) -> float:
        """Volts at a node against battery negative; sources may be given anew, also as arrays.

        Parameters
        ----------
        node : str
            of the network
        over : float or ndarray
            V or A, by the source's name
        """
        return self.transfer.volts(node, {**self.sources, **over})


def copper(machine: SimulatedMachine, ohm: float) -> float:
    """A copper resistance, stated at 20 degC, at the machine's temperature (IEC 60028, from memory).

    Parameters
    ----------
    machine : SimulatedMachine
        tells the temperature, degC
    ohm : float
        at 20 degC

    Returns
    -------
    float
        ohm: 0.393 % a degree
    """
    return ohm * (1 + COPPER_PER_K * (machine.temperature_c - 20.0))


class Circuit:
    """The circuit of one machine, or of all that its arrays hold, in any state. What is the same in every state is worked out once: the
    machine's values stay as they are while it is asked.

    Parameters
    ----------
    machine : SimulatedMachine
        one, or many whose values are arrays of shape (n,) or (rows, n)
    """

    def __init__(self, machine: SimulatedMachine):
        self.machine = machine
        self._wires: dict[bool, Network] = {}
        self._powered: dict[tuple[bool, ...], bool | np.ndarray] = {}
        self._most_a: dict[tuple[bool, ...], float | np.ndarray] = {}

    @property
    def held(self) -> list[float | np.ndarray]:
        """What was worked out and is remembered."""
        return [
            *self._powered.values(),
            *self._most_a.values(),
            *(item for net in self._wires.values() for item in net.held),
        ]

    def network(
        self, state: str, *, conducting: bool | np.ndarray, instrument: tuple[str, float] | None = None
    ) -> Network:
        """The circuit's network.

        Parameters
        ----------
        state : str
        conducting : bool or array of bool
            whether the sensor's output is on
        instrument : (node, ohm) or None
            what is clipped on, to battery negative
        """
        plugged = state not in PLUG_OPEN
        if plugged not in self._wires:
            self._wires[plugged] = _wires(self.machine, plugged)
        net = self._wires[plugged].copy()
        if plugged:
            self.machine.part.sensor(net, self.machine, conducting)
        if instrument is not None:
            net.resistor(instrument[0], GROUND, instrument[1])
        return net

    def powered(self, state: str) -> bool | np.ndarray:
        """Whether enough voltage stands across a switching or current sensor; sensors that need no feed always work.

        Parameters
        ----------
        state : str
        """
        machine = self.machine
        if not machine.part.fed or state in PLUG_OPEN:
            return True
        alike = feeding(state)
        if alike not in self._powered:
            if machine.part.draws_of_its_own:
                enough = self.most_a(state) > 0.0
            else:
                enough = self._across(state, alive=True) >= machine.values.least_supply_v
            self._powered[alike] = enough & np.logical_not(machine.dead)
        return self._powered[alike]

    def most_a(self, state: str) -> float | np.ndarray | None:
        """The most that a sensor can draw which draws a current of its own, A: what leaves it the voltage that it needs. None of
        others, and where it is unplugged.

        Parameters
        ----------
        state : str
        """
        machine = self.machine
        if not machine.part.draws_of_its_own or state in PLUG_OPEN:
            return None
        alike = feeding(state)
        if alike not in self._most_a:
            left_over = np.maximum(self._across(state, alive=False) - machine.values.least_supply_v, 0.0)
            ahead = self.network(state, conducting=False).resistance("sensor_supply", machine.part.power_node())
            self._most_a[alike] = left_over / ahead
        return self._most_a[alike]

    def _across(self, state: str, *, alive: bool) -> float | np.ndarray:
        """Volts across the sensor while its output is off; where it is not alive it draws nothing."""
        above, below = "sensor_supply", self.machine.part.power_node()
        strengths = sources(self.machine, state, conducting=False, alive=alive)
        volts = self.network(state, conducting=False).volts(strengths, (above, below))
        return volts[above] - volts[below]

    def volts(
        self,
        state: str,
        *,
        conducting: bool | np.ndarray,
        instrument: tuple[str, float] | None = None,
        at: tuple[str, ...] | None = None,
    ) -> dict[str, float | np.ndarray]:
        """Volts at every node; the sensor conducts where it has power.

        Parameters
        ----------
        state : str
        conducting : bool or ndarray of bool
            whether a tooth stands so that the output is on
        instrument : (str, float) or None
            the node that an instrument is held to, and its ohms
        at : tuple of str or None
            the nodes that are asked for; all where None

        Returns
        -------
        dict
            node to V, float or ndarray

        References
        ----------
        Ho, Ruehli and Brennan, IEEE Trans. CAS 22(6), 1975, by way of `machine.network`. From memory.
        """
        alive = self.powered(state)
        conducting = conducting & alive
        net = self.network(state, conducting=conducting, instrument=instrument)
        strengths = sources(self.machine, state, conducting=conducting, alive=alive, most_a=self.most_a(state))
        return net.volts(strengths, at)


def _wires(machine: SimulatedMachine, plugged: bool) -> Network:
    """All of the circuit but the sensor and what is clipped on."""
    values, part = machine.values, machine.part
    net = Network()
    net.voltage("battery", "battery", GROUND, values.battery_ohm)
    net.voltage("lift", "module_ground", GROUND, 0.004)
    if part.fed:
        own = machine.regulated
        net.voltage("regulator", "feed", "module_ground", either(own, values.regulator_ohm, ABSENT))
        net.resistor("feed", "module_ground", either(own, values.other_load_ohm, ABSENT))
        net.resistor("battery", "feed", either(own, ABSENT, values.fuse_ohm + values.relay_ohm))
        net.resistor("feed", "plug_supply", values.feed_wire_ohm)
        net.resistor("plug_signal", "plug_supply", values.short_to_feed_ohm)
    net.resistor("module_signal", "plug_signal", values.signal_wire_ohm)
    net.resistor("plug_ground", "module_return", values.ground_wire_ohm)
    net.resistor("module_return", "module_ground", values.return_ohm)
    net.resistor("plug_signal", GROUND, values.leak_ohm)
    net.resistor("shield", GROUND, values.shield_ohm)
    net.resistor("plug_ground", GROUND, STRAY_OHM)
    if part.fed:
        net.resistor("plug_supply", GROUND, STRAY_OHM)
    if plugged:
        net.resistor("plug_signal", "sensor_signal", values.signal_pin_ohm)
        net.resistor("plug_ground", "sensor_ground", values.ground_pin_ohm)
        if part.fed:
            net.resistor("plug_supply", "sensor_supply", values.feed_pin_ohm)
    part.input(net, machine)
    return net


def feeding(state: str) -> tuple[bool, ...]:
    """What decides about the feed in a state: starter, alternator, key and plug. In states that agree in it a sensor has
    power alike.

    Parameters
    ----------
    state : str
    """
    return state in STARTING, state in ENGINE_RUNS, state in KEY_OFF, state in PLUG_OPEN


def sources(machine: SimulatedMachine, state: str, *, conducting, alive, most_a=None) -> dict[str, float | np.ndarray]:
    """The strength of every source in a state, V and A; `alive`: whether the sensor has power.

    Parameters
    ----------
    machine : SimulatedMachine
        one, or many whose values are arrays of shape (n,)
    state : str
    conducting, alive : bool or ndarray of bool, shape (n,)
        whether the output is on; whether the sensor has power
    most_a : float, ndarray or None
        what it can draw at most
    """
    values = machine.values
    starting, runs, key_off, _ = feeding(state)
    amps = values.crank_a * machine.crank_sag if starting else 0.0
    emf = values.running_v if runs else values.battery_v - amps * values.battery_ohm
    live = not key_off
    draw = either(conducting, values.high_a, values.low_a)
    return {
        "battery": emf if live else 0.0,
        "lift": amps * values.strap_ohm + (values.ground_offset_v if live else 0.0),
        "regulator": values.regulator_v if live else 0.0,
        "pull_up": values.pull_up_v if live else 0.0,
        "bias": values.bias_v if live else 0.0,
        "return_bias": values.bias_v if live else 0.0,
        "coil": 0.0,
        "low": either(conducting, values.low_v, 0.0),
        "draw": either(alive, draw if most_a is None else np.minimum(draw, most_a), 0.0),
    }


def solve(
    machine: SimulatedMachine, state: str, *, conducting: bool, instrument: tuple[str, float] | None = None
) -> Solved:
    """The circuit of one machine in a state. A sensor that its feed or return leaves without power neither conducts
    nor draws.

    Parameters
    ----------
    machine : SimulatedMachine
    state : str
    conducting : bool
        whether a tooth stands so that the output is on
    instrument : (str, float) or None
        the node that an instrument is held to, and its ohms

    Returns
    -------
    Solved
        V at each node, A through each source
    """
    circuit = Circuit(machine)
    alive = bool(circuit.powered(state))
    net = circuit.network(state, conducting=conducting and alive, instrument=instrument)
    strengths = sources(machine, state, conducting=conducting, alive=alive, most_a=circuit.most_a(state))
    return Solved(net.transfer(), strengths, net)
