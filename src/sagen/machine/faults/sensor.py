"""Fault modes of the sensor."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import (
    COIL,
    FED,
    PIEZO,
    ROTATING,
    SWITCHING,
    TURNING_ROLES,
    TWO_CURRENTS,
    answer_less,
    between,
    down_to_short,
    fault,
    growing,
    up_to_open,
)
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN, either
from sagen.model.vocabulary import Cause


@fault(
    "currents_too_close",
    Cause.SENSOR,
    "the two currents of the sensor lie too close together",
    TWO_CURRENTS,
    computed=True,
)
def currents_too_close(machine: SimulatedMachine, severity: float) -> None:
    """The upper current only 4.5 to .4 mA above the lower one. Sizes: common practice, no published source."""
    machine.values.high_a = machine.values.low_a + growing(0.0045, 0.0004, severity)


@fault("sensor_dead", Cause.SENSOR, "the sensor draws nothing and its output never conducts", FED, computed=True)
def sensor_dead(machine: SimulatedMachine, severity: float) -> None:
    """The sensor draws nothing and its output never conducts. Sizes: common practice, no published source."""
    machine.dead = True
    machine.values.sensor_ohm = OPEN


@fault(
    "output_cannot_pull_down",
    Cause.SENSOR,
    "the output conducts badly, or never",
    SWITCHING,
    computed=True,
    ends={"output_never_switches": 1.0},
)
def output_cannot_pull_down(machine: SimulatedMachine, severity: float) -> None:
    """The output's own resistance when it conducts, from .15 of the pull-up, ohm, up to open. Sizes: common practice,
    no published source."""
    machine.values.on_ohm = up_to_open(0.15 * machine.values.pull_up_ohm, severity)


@fault(
    "output_cannot_release",
    Cause.SENSOR,
    "the output leaks when it should not conduct, or always conducts",
    SWITCHING,
    computed=True,
    ends={"output_stuck_low": 1.0, "output_leaking": 0.3},
)
def output_cannot_release(machine: SimulatedMachine, severity: float) -> None:
    """The output's leak when it should not conduct, from fifteen times the pull-up down to 10 ohm; at its end it always
    conducts. Sizes: common practice, no published source."""
    values = machine.values
    values.off_ohm = either(
        np.asarray(severity) >= 1.0,
        values.on_ohm,
        np.maximum(growing(15.0 * values.pull_up_ohm, 10.0, severity), values.on_ohm),
    )


@fault("drops_out_when_warm", Cause.SENSOR, "the sensor stops for moments", ROTATING, TURNING_ROLES)
def drops_out_when_warm(machine: SimulatedMachine, severity: float) -> None:
    """No signal for one to three stretches of .04 to .19 of a recording; feed and return hold. Sizes: common practice,
    no published source."""
    count = 1 + int(2 * severity)
    starts = np.sort(machine.rng.uniform(0.15, 0.75, count))
    machine.drops = tuple(
        (float(a), float(a + machine.rng.uniform(0.04, 0.04 + 0.15 * max(severity, 0.1)))) for a in starts
    )


@fault("coil_weak", Cause.SENSOR, "the magnet behind the coil has lost strength", COIL, computed=True)
def coil_weak(machine: SimulatedMachine, severity: float) -> None:
    """The coil gives .6 to .05 of its voltage; its resistance stays. Sizes: common practice, no published source."""
    machine.values.coil_v = machine.values.coil_v * growing(0.6, 0.05, severity)


@fault(
    "coil_turns_shorted",
    Cause.SENSOR,
    "turns of the coil touch: less resistance, inductance and voltage",
    COIL,
    computed=True,
)
def coil_turns_shorted(machine: SimulatedMachine, severity: float) -> None:
    """Fewer turns: resistance and voltage fall as their count, the inductance as its square (Faraday's law; Grover, Inductance
    Calculations, 1946, from memory). Sizes: common practice, no published source."""
    left = growing(0.93, 0.01, severity)
    values = machine.values
    values.coil_ohm, values.coil_h, values.coil_v = (
        values.coil_ohm * left,
        values.coil_h * left**2,
        values.coil_v * left,
    )


@fault(
    "coil_high_resistance",
    Cause.SENSOR,
    "the coil is parted, or hangs by a bad joint",
    COIL,
    computed=True,
    ends={"coil_open": 1.0},
)
def coil_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """The coil's resistance, from 1.12 times what it was up to open. Sizes: common practice, no published source."""
    machine.values.coil_ohm = up_to_open(1.12 * machine.values.coil_ohm, severity)


@fault(
    "element_high_resistance",
    Cause.SENSOR,
    "the element's own resistor or its joint is parted",
    PIEZO,
    computed=True,
    ends={"element_open": 1.0},
)
def element_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """The knock sensor's own ohms, from 1.3 times what they were up to open. Sizes: common practice, no published
    source."""
    machine.values.piezo_ohm = up_to_open(1.3 * machine.values.piezo_ohm, severity)


@fault(
    "element_leaking",
    Cause.SENSOR,
    "damp in the sensor or a crack leads past the element",
    PIEZO,
    computed=True,
    ends={"element_shorted": 1.0},
)
def element_leaking(machine: SimulatedMachine, severity: float) -> None:
    """A path past the knock sensor's element: .7 of its own ohms down to a short. Sizes: common practice, no published
    source."""
    machine.values.piezo_ohm = down_to_short(0.7 * machine.values.piezo_ohm, severity)


@fault("tip_cracked", Cause.SENSOR, "the tip has been struck: less field, and it varies", ROTATING, TURNING_ROLES)
def tip_cracked(machine: SimulatedMachine, severity: float) -> None:
    """The gap .25 to .45 mm wider and wandering by .15 to .4 mm; teeth wander by .05 to .11 of a pitch. Sizes: common
    practice, no published source."""
    machine.gap_mm += between(0.25, 0.45, severity)
    machine.gap_wander += between(0.15, 0.4, severity)
    machine.place_wander += between(0.05, 0.11, severity)


@fault("piezo_weak", Cause.SENSOR, "the element gives less for the same tap", PIEZO, computed=True)
def piezo_weak(machine: SimulatedMachine, severity: float) -> None:
    """The element gives .85 to .06 of its voltage for the same tap. Sizes: common practice, no published source."""
    machine.values.piezo_v = machine.values.piezo_v * growing(0.85, 0.06, severity)


@fault(
    "element_cracked",
    Cause.SENSOR,
    "the element is cracked: less of it is left, and it rings lower",
    PIEZO,
    computed=True,
)
def element_cracked(machine: SimulatedMachine, severity: float) -> None:
    """Less of the element is left: it answers .75 to .12 times as tall, rings .96 to .8 times as high, its capacitance
    is .8 to .35. Sizes: common practice, no published source."""
    answer_less(machine, growing(0.75, 0.12, severity), between(0.96, 0.8, severity), between(1.2, 2.5, severity))
    machine.values.piezo_f = machine.values.piezo_f * between(0.8, 0.35, severity)


@fault("piezo_detuned", Cause.SENSOR, "the element rings at another frequency", PIEZO)
def piezo_detuned(machine: SimulatedMachine, severity: float) -> None:
    """The element rings at .9 to .65 of its frequency, Hz. Sizes: common practice, no published source."""
    machine.values.piezo_hz *= between(0.9, 0.65, severity)
