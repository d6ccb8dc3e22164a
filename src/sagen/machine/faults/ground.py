"""Fault modes of the ground."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import COIL, PIEZO, SWITCHING, TURNING_ROLES, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause


@fault("return_open", Cause.GROUND, "the return wire is parted", (*SWITCHING, *COIL, *PIEZO))
def _(machine: SimulatedMachine, severity: float) -> None:
    # A parted wire in a damp plug still has some path.
    machine.values.ground_wire_ohm = growing(4_000.0, OPEN, severity**0.4)


@fault("return_high_resistance", Cause.GROUND, "a poor contact lies in the return", (*SWITCHING, *COIL, *PIEZO))
def _(machine: SimulatedMachine, severity: float) -> None:
    # A switching sensor's own current shows a few ohms as tens of millivolts; a coil's hardly shows any.
    least, base = machine.part.return_scale(machine.values)
    machine.values.ground_wire_ohm = base * growing(least, 10.0, severity)


@fault("return_contact_bad", Cause.GROUND, "a loose contact of the return makes and breaks", SWITCHING, TURNING_ROLES)
def _(machine: SimulatedMachine, severity: float) -> None:
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
)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.strap_ohm = growing(0.0045, 0.022, severity)
