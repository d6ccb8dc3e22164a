"""The circuit as a network, in every state, and what stands at its points."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sagen.machine.network import GROUND, Network, Transfer
from sagen.machine.simulated import COPPER_PER_K, SimulatedMachine

OPEN = 1e9  #: ohm, what a parted wire still has
#: states in which the sensor's plug is open
UNPLUGGED = frozenset({"key_on_unplugged", "unplugged"})
#: states in which nothing is fed
KEY_OFF = frozenset({"unplugged"})
STARTING = frozenset({"cranking", "start"})
ENGINE_RUNS = frozenset({"running", "wiggle", "rolling"})

#: the node of the network that a probe at each point of the circuit touches: the plug, harness side
NODES = {"supply": "plug_supply", "signal": "plug_signal", "ground": "plug_ground", "shield": "shield"}
#: points at which ohms are measured, both ends unplugged
OHM_POINTS = ("sensor", "supply_wire", "signal_wire", "ground_wire")


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
    values, kind = machine.values, machine.spec.sensor
    net = Network()
    net.voltage("battery", "battery", GROUND, values.battery_ohm)
    net.voltage("lift", "module_ground", GROUND, 0.004)
    plugged = state not in UNPLUGGED
    if kind in ("hall", "current"):
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
        if kind in ("hall", "current"):
            net.resistor("plug_supply", "sensor_supply", values.feed_pin_ohm)
    _INPUTS[kind](net, machine)
    if plugged:
        _SENSORS[kind](net, machine, conducting)
    if instrument is not None:
        net.resistor(instrument[0], GROUND, instrument[1])
    return net


def _hall_input(net: Network, machine: SimulatedMachine) -> None:
    values = machine.values
    if values.pull_up_v >= 8.0:
        # A pull-up to the battery follows it; what it falls short of the battery is the module's own.
        net.resistor("battery", "module_signal", values.pull_up_ohm)
    else:
        net.voltage("pull_up", "module_signal", "module_ground", values.pull_up_ohm)
    net.resistor("module_signal", "module_ground", values.input_ohm)


def _coil_input(net: Network, machine: SimulatedMachine) -> None:
    net.resistor("module_signal", "module_ground", machine.values.load_ohm)
    net.voltage("bias", "module_signal", "module_ground", machine.values.bias_ohm)


def _current_input(net: Network, machine: SimulatedMachine) -> None:
    net.resistor("module_signal", "module_ground", machine.values.shunt_ohm)


def _piezo_input(net: Network, machine: SimulatedMachine) -> None:
    net.resistor("module_signal", "module_ground", machine.values.load_ohm)


def _hall_sensor(net: Network, machine: SimulatedMachine, conducting: bool) -> None:
    values = machine.values
    net.resistor("sensor_supply", "sensor_ground", values.sensor_ohm)
    net.resistor("sensor_signal", "sensor_ground", values.on_ohm if conducting else values.off_ohm)


def _coil_sensor(net: Network, machine: SimulatedMachine, conducting: bool) -> None:
    net.voltage("coil", "sensor_signal", "sensor_ground", copper(machine, machine.values.coil_ohm))


def _current_sensor(net: Network, machine: SimulatedMachine, conducting: bool) -> None:
    net.current("draw", "sensor_signal", "sensor_supply")


def _piezo_sensor(net: Network, machine: SimulatedMachine, conducting: bool) -> None:
    net.resistor("sensor_signal", "sensor_ground", machine.values.piezo_ohm)


#: how each sensor kind hangs on the module and on the plug; a new kind is a row in both
_INPUTS = {"hall": _hall_input, "reluctance": _coil_input, "current": _current_input, "piezo": _piezo_input}
_SENSORS = {"hall": _hall_sensor, "reluctance": _coil_sensor, "current": _current_sensor, "piezo": _piezo_sensor}


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
    if machine.spec.sensor in ("hall", "current") and state not in UNPLUGGED and not powered(machine, state, solved):
        dark = replace(machine, output="high")
        solved = _solved(dark, state, False, instrument)
        if machine.spec.sensor == "current":
            solved.sources["draw"] = 0.0
    return solved


def powered(machine: SimulatedMachine, state: str, solved: Solved | None = None) -> bool:
    """Whether enough voltage stands across a switching or current sensor."""
    solved = solved or _solved(machine, state, False, None)
    low = "sensor_ground" if machine.spec.sensor == "hall" else "sensor_signal"
    if machine.output == "dead":
        return False
    return solved.volts("sensor_supply") - solved.volts(low) >= machine.values.least_supply_v


def _solved(machine: SimulatedMachine, state: str, conducting: bool, instrument: tuple[str, float] | None) -> Solved:
    net = network(machine, state, conducting=conducting, instrument=instrument)
    return Solved(net.transfer(), sources(machine, state, conducting=conducting), net)
