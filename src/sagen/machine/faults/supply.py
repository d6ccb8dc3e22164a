"""Fault modes of the supply."""

from __future__ import annotations

from sagen.machine.faults import FED, between, fault, growing, up_to_open
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN, either
from sagen.model.vocabulary import Cause

LEAST_SHARE = 0.03  #: of what the sensor draws through: from there on a contact in the feed is worth a thought


@fault("fuse_blown", Cause.SUPPLY, "the fuse of the feed is open", FED, computed=True)
def fuse_blown(machine: SimulatedMachine, severity: float) -> None:
    """The feed is open where it comes from: at the fuse, or at the module's own regulator. Sizes: common practice, no
    published source."""
    values = machine.values
    values.regulator_ohm = either(machine.regulated, OPEN, values.regulator_ohm)
    values.fuse_ohm = either(machine.regulated, values.fuse_ohm, OPEN)


@fault("relay_contact_bad", Cause.SUPPLY, "the relay's contact makes and breaks", FED)
def relay_contact_bad(machine: SimulatedMachine, severity: float) -> None:
    """Hundreds to thousands of ohms in the relay's contact, and no feed for .04 to .25 of a recording, once. Sizes:
    common practice, no published source."""
    if machine.regulated:
        machine.values.regulator_ohm = growing(150.0, 900.0, severity)
    else:
        machine.values.relay_ohm = growing(300.0, 4_000.0, severity)
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.feed_drops = ((start, start + between(0.04, 0.25, severity)),)


@fault(
    "feed_wire_high_resistance",
    Cause.SUPPLY,
    "a poor contact or a break lies in the feed",
    FED,
    computed=True,
    ends={"feed_wire_open": 1.0},
)
def feed_wire_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms in the feed wire, from 3 % of what the sensor draws through up to open. Sizes: common practice, no published
    source."""
    machine.values.feed_wire_ohm = up_to_open(LEAST_SHARE * machine.values.sensor_ohm, severity)


@fault(
    "feed_pin_high_resistance",
    Cause.WIRING,
    "the feed pin makes poor contact or none in the plug: on the sensor's side of the probe",
    FED,
    computed=True,
    ends={"feed_pin_open": 1.0},
)
def feed_pin_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms between the feed pin and the sensor, from 3 % of what the sensor draws through up to open. Sizes: common
    practice, no published source."""
    machine.values.feed_pin_ohm = up_to_open(LEAST_SHARE * machine.values.sensor_ohm, severity)


@fault(
    "shared_5_v_pulled_down",
    Cause.SUPPLY,
    "another sensor on the same feed pulls it down",
    FED,
    title="shared 5 V pulled down",
    regulated=True,
    computed=True,
)
def shared_5_v_pulled_down(machine: SimulatedMachine, severity: float) -> None:
    """Another load on the module's regulated feed, 400 ohm down to half an ohm, against a regulator that gives what it
    can. Sizes: common practice, no published source."""
    machine.regulated = machine.regulated | True
    # A regulator that gives what it can: twenty times its usual resistance.
    machine.values.regulator_ohm = machine.values.regulator_ohm + 40.0
    machine.values.other_load_ohm = growing(400.0, 0.5, severity)
