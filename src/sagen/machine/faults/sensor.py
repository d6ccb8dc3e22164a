"""Fault modes of the sensor."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import COIL, FED, PIEZO, ROTATING, SWITCHING, TURNING_ROLES, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause


@fault("sensor_dead", Cause.SENSOR, "the sensor draws nothing and its output never conducts", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "dead"
    machine.values.sensor_ohm = OPEN


@fault("output_never_switches", Cause.SENSOR, "the output transistor never conducts", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "high"


@fault("output_stuck_low", Cause.SENSOR, "the output transistor always conducts", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "low"


@fault("output_cannot_pull_down", Cause.SENSOR, "the output transistor conducts badly", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.on_ohm = machine.values.pull_up_ohm * growing(0.35, 3.5, severity)


@fault("output_cannot_release", Cause.SENSOR, "the output transistor leaks when it should not conduct", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.off_ohm = machine.values.pull_up_ohm * growing(1.6, 0.2, severity)


@fault("output_leaking", Cause.SENSOR, "the output transistor leaks a little, more when warm", SWITCHING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.off_ohm = machine.values.pull_up_ohm * growing(12.0, 2.0, severity)


@fault("drops_out_when_warm", Cause.SENSOR, "the sensor stops for moments", ROTATING, TURNING_ROLES)
def _(machine: SimulatedMachine, severity: float) -> None:
    count = 1 + int(2 * severity)
    starts = np.sort(machine.rng.uniform(0.15, 0.75, count))
    machine.drops = tuple(
        (float(a), float(a + machine.rng.uniform(0.04, 0.04 + 0.15 * max(severity, 0.1)))) for a in starts
    )


@fault("coil_weak", Cause.SENSOR, "the magnet behind the coil has lost strength", COIL)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.coil_v *= growing(0.4, 0.06, severity)


@fault("coil_turns_shorted", Cause.SENSOR, "turns of the coil touch: less resistance, inductance and voltage", COIL)
def _(machine: SimulatedMachine, severity: float) -> None:
    left = between(0.8, 0.05, severity)
    machine.values.coil_ohm *= left
    machine.values.coil_h *= left**2
    machine.values.coil_v *= left


@fault("coil_open", Cause.SENSOR, "the coil is parted, or hangs by a bad joint", COIL)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.coil_ohm = (
        OPEN if severity > 0.4 else machine.values.coil_ohm * growing(1.6, 60.0, (severity / 0.4) ** 2)
    )


@fault("tip_cracked", Cause.SENSOR, "the tip has been struck: less field, and it varies", ROTATING, TURNING_ROLES)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += between(0.25, 0.45, severity)
    machine.gap_wander += between(0.15, 0.4, severity)
    machine.place_wander += between(0.05, 0.11, severity)


@fault("piezo_weak", Cause.SENSOR, "the element gives less for the same tap", PIEZO)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.piezo_v *= growing(0.6, 0.08, severity)


@fault("piezo_detuned", Cause.SENSOR, "the element rings at another frequency", PIEZO)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.piezo_hz *= between(0.9, 0.65, severity)
