"""The circuit as a network, in every state, and what stands at its points."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sagen.machine.network import GROUND, Network, Transfer
from sagen.machine.simulated import COPPER_PER_K, SimulatedMachine
from sagen.model.vocabulary import ENGINE_RUNS, PLUG_OPEN, STARTING, Point, State

OPEN = 1e9  #: ohm, what a parted wire still has
#: states in which nothing is fed
KEY_OFF = frozenset({State.UNPLUGGED})

#: the node of the network that a probe at each point of the circuit touches: the plug, harness side
NODES = {
    Point.SUPPLY: "plug_supply", Point.SIGNAL: "plug_signal", Point.GROUND: "plug_ground", Point.SHIELD: "shield",
}  # fmt: skip


@dataclass(frozen=True)
class Solved:
    """A circuit in one state with its output in one position."""

    transfer: Transfer
    sources: dict[str, float]
    network: Network

    def volts(self, node: str, **over) -> float:
        """Volts at a node against battery negative; sources may be given anew, also as arrays."""
        return self.transfer.volts(node, {**self.sources, **over})


def copper(machine: SimulatedMachine, ohm: float) -> float:
    """A copper resistance, stated at 20 degC, at the machine's temperature (IEC 60028, from memory)."""
    return ohm * (1 + COPPER_PER_K * (machine.temperature_c - 20.0))


def network(
    machine: SimulatedMachine, state: str, *, conducting: bool, instrument: tuple[str, float] | None = None
) -> Network:
    """The circuit's network.

    Parameters
    ----------
    conducting : bool
        whether the sensor's output is on
    instrument : (node, ohm) or None
        what is clipped on, to battery negative
    """
    values, part = machine.values, machine.part
    net = Network()
    net.voltage("battery", "battery", GROUND, values.battery_ohm)
    net.voltage("lift", "module_ground", GROUND, 0.004)
    plugged = state not in PLUG_OPEN
    if part.fed:
        if machine.spec.regulated:
            net.voltage("regulator", "feed", "module_ground", values.regulator_ohm)
            net.resistor("feed", "module_ground", values.other_load_ohm)
        else:
            net.resistor("battery", "feed", values.fuse_ohm + values.relay_ohm)
        net.resistor("feed", "plug_supply", values.feed_wire_ohm)
        net.resistor("plug_signal", "plug_supply", values.touch_ohm)
    net.resistor("module_signal", "plug_signal", values.signal_wire_ohm)
    net.resistor("plug_ground", "module_ground", values.ground_wire_ohm)
    net.resistor("plug_signal", GROUND, values.leak_ohm)
    net.resistor("shield", GROUND, values.shield_ohm)
    if plugged:
        net.resistor("plug_signal", "sensor_signal", values.signal_pin_ohm)
        net.resistor("plug_ground", "sensor_ground", values.ground_pin_ohm)
        if part.fed:
            net.resistor("plug_supply", "sensor_supply", values.feed_pin_ohm)
    part.input(net, machine)
    if plugged:
        part.sensor(net, machine, conducting)
    if instrument is not None:
        net.resistor(instrument[0], GROUND, instrument[1])
    return net


def sources(machine: SimulatedMachine, state: str, *, conducting: bool) -> dict[str, float]:
    """The strength of every source in a state, V and A."""
    values = machine.values
    amps = values.crank_a * machine.crank_sag if state in STARTING else 0.0
    emf = values.running_v if state in ENGINE_RUNS else values.battery_v - amps * values.battery_ohm
    live = state not in KEY_OFF
    return {
        "battery": emf if live else 0.0,
        "lift": amps * values.strap_ohm + (values.ground_offset_v if live else 0.0),
        "regulator": values.regulator_v if live else 0.0,
        "pull_up": values.pull_up_v if live else 0.0,
        "bias": values.bias_v if live else 0.0,
        "coil": 0.0,
        "draw": values.high_a if conducting else values.low_a,
    }


def solve(
    machine: SimulatedMachine, state: str, *, conducting: bool, instrument: tuple[str, float] | None = None
) -> Solved:
    """The circuit in a state. A sensor that its feed or return leaves without power neither conducts nor draws."""
    wanted = machine.output == "low" or (conducting and machine.output == "works")
    solved = _solved(machine, state, wanted, instrument)
    if machine.part.fed and state not in PLUG_OPEN and not powered(machine, state, solved):
        dark = replace(machine, output="high")
        solved = _solved(dark, state, False, instrument)
        machine.part.unpowered(solved.sources)
    return solved


def powered(machine: SimulatedMachine, state: str, solved: Solved | None = None) -> bool:
    """Whether enough voltage stands across a switching or current sensor."""
    solved = solved or _solved(machine, state, False, None)
    if machine.output == "dead":
        return False
    return solved.volts("sensor_supply") - solved.volts(machine.part.power_node()) >= machine.values.least_supply_v


def _solved(machine: SimulatedMachine, state: str, conducting: bool, instrument: tuple[str, float] | None) -> Solved:
    net = network(machine, state, conducting=conducting, instrument=instrument)
    return Solved(net.transfer(), sources(machine, state, conducting=conducting), net)
