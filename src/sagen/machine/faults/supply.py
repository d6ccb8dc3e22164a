"""Fault modes of the supply."""

from __future__ import annotations

from sagen.machine.faults import FED, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause


@fault("fuse_blown", Cause.SUPPLY, "the fuse of the feed is open", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    if machine.spec.regulated:
        machine.values.regulator_ohm = OPEN
    else:
        machine.values.fuse_ohm = OPEN


@fault("relay_contact_bad", Cause.SUPPLY, "the relay's contact makes and breaks", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    if machine.spec.regulated:
        machine.values.regulator_ohm = growing(150.0, 900.0, severity)
    else:
        machine.values.relay_ohm = growing(300.0, 4_000.0, severity)
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.feed_drops = ((start, start + between(0.04, 0.25, severity)),)


@fault("feed_wire_high_resistance", Cause.SUPPLY, "a poor contact lies in the feed", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    share = (machine.spec.supply_v - 1.0) / 3.4 - 1.0
    machine.values.feed_wire_ohm = machine.values.sensor_ohm * between(0.35, 2.0, severity) * max(share, 0.3)


@fault(
    "shared_5_v_pulled_down",
    Cause.SUPPLY,
    "another sensor on the same feed pulls it down",
    FED,
    title="shared 5 V pulled down",
    regulated=True,
)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.regulator_ohm = 40.0
    machine.values.other_load_ohm = growing(60.0, 6.0, severity)


@fault("feed_wire_open", Cause.SUPPLY, "the feed wire is parted", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.feed_wire_ohm = OPEN
