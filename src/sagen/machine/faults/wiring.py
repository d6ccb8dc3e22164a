"""Fault modes of the wiring."""

from __future__ import annotations

from sagen.machine.faults import ALL, COIL, PIEZO, ROTATING, SWITCHING, TURNING_ROLES, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause


@fault("signal_wire_open", Cause.WIRING, "the signal wire is parted between plug and module")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_wire_ohm = OPEN


@fault("signal_pin_open", Cause.WIRING, "the signal pin makes no contact in the plug: parted on the sensor's side")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_pin_ohm = OPEN


@fault("signal_wire_shorted_to_ground", Cause.WIRING, "the signal wire has chafed through to the body")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.leak_ohm = growing(60.0, 0.5, severity)


@fault("signal_wire_shorted_to_feed", Cause.WIRING, "the signal wire touches the feed", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.touch_ohm = growing(120.0, 2.0, severity)


@fault("signal_wire_high_resistance", Cause.WIRING, "a poor contact lies in the signal wire", ALL)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_wire_ohm = growing(800.0, 30_000.0, severity)


@fault("wire_breaks_when_wiggled", Cause.WIRING, "a wire parts when the harness is moved", ROTATING, TURNING_ROLES)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.wiggle = str(machine.rng.choice(["signal", "signal", "supply"] if machine.part.fed else ["signal"]))


@fault("wire_breaks_when_hot", Cause.WIRING, "a wire parts for moments as it warms", ROTATING, TURNING_ROLES)
def _(machine: SimulatedMachine, severity: float) -> None:
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.drops = ((start, start + between(0.05, 0.3, severity)),)


@fault("pair_crossed", Cause.WIRING, "the two wires of the coil are crossed", COIL)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.reversed = True


@fault("shield_open", Cause.WIRING, "the shield has no ground: disturbance reaches the wire", (*COIL, *PIEZO))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.shield_ohm = OPEN
    machine.spikes, machine.spike_v = 25.0, between(0.4, 1.6, severity) * max(machine.values.coil_v, 1.0)


@fault("signal_wire_leaking", Cause.WIRING, "damp or a chafed place loads the signal wire")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.leak_ohm = machine.part.line_ohm(machine.values) * growing(2.2, 0.2, severity)
