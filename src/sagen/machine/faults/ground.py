"""Fault modes of the ground."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import RETURNING, SWITCHING, TIMED, TURNING_ROLES, between, fault, growing, up_to_open
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault(
    "return_high_resistance",
    Cause.GROUND,
    "a poor contact or a break lies in the return",
    RETURNING,
    computed=True,
    ends={"return_open": 1.0},
)
def return_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms in the return wire, from the least that the kind of sensor shows up to open. Sizes: common practice, no
    published source."""
    # A switching sensor's own current shows a few ohms as tens of millivolts; a coil's hardly shows any.
    machine.values.ground_wire_ohm = up_to_open(machine.part.least_return_ohm(machine.values), severity)


@fault(
    "return_pin_high_resistance",
    Cause.GROUND,
    "the return pin makes poor contact or none in the plug: on the sensor's side of the probe",
    RETURNING,
    computed=True,
    ends={"return_pin_open": 1.0},
)
def return_pin_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms between the sensor and the return pin, from the least that the kind of sensor shows up to open. Sizes:
    common practice, no published source."""
    machine.values.ground_pin_ohm = up_to_open(machine.part.least_return_ohm(machine.values), severity)


@fault("return_contact_bad", Cause.GROUND, "a loose contact of the return makes and breaks", SWITCHING, TURNING_ROLES)
def return_contact_bad(machine: SimulatedMachine, severity: float) -> None:
    """A few ohms in the return at all times, and many for one to three stretches of .03 to .2 of a recording. Sizes:
    common practice, no published source."""
    share = 0.12 * machine.values.sensor_ohm
    machine.values.ground_wire_ohm += share * between(0.02, 0.25, severity)
    machine.bad_return_ohm = share * growing(1.5, 30.0, severity)
    starts = np.sort(machine.rng.uniform(0.1, 0.85, int(machine.rng.integers(1, 4))))
    machine.return_drops = tuple((float(a), float(a) + between(0.03, 0.2, severity)) for a in starts)


@fault(
    "ground_lifts_when_cranking",
    Cause.GROUND,
    "the engine's earth strap carries the starter's current badly",
    SWITCHING,
    TIMED,
    computed=True,
)
def ground_lifts_when_cranking(machine: SimulatedMachine, severity: float) -> None:
    """The engine's earth strap, 2.5 to 30 milliohm: the starter's current lifts the block by Ohm's law. Sizes: common
    practice, no published source."""
    machine.values.strap_ohm = growing(0.0025, 0.03, severity)
