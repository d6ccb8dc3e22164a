"""Fault modes of the wiring."""

from __future__ import annotations

from sagen.machine.faults import (
    COIL,
    GENERATING,
    ROTATING,
    SWITCHING,
    TURNING_ROLES,
    between,
    down_to_short,
    fault,
    up_to_open,
)
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause

SERIES_SHARE = 0.03  #: of the line's own resistance: from there on a contact in the signal path is worth a thought
PATH_TIMES = 20.0  #: times that resistance: a path to ground or feed beyond it does no harm


@fault(
    "signal_pin_high_resistance",
    Cause.WIRING,
    "the signal pin makes poor contact or none in the plug: on the sensor's side of the probe",
    computed=True,
    ends={"signal_pin_open": 1.0},
)
def signal_pin_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms between the sensor and the signal pin, from 3 % of what feeds the line up to open. Sizes: common practice,
    no published source."""
    machine.values.signal_pin_ohm = up_to_open(SERIES_SHARE * machine.part.line_ohm(machine.values), severity)


@fault(
    "signal_wire_high_resistance",
    Cause.WIRING,
    "a poor contact or a break lies in the signal wire between plug and module",
    computed=True,
    ends={"signal_wire_open": 1.0},
)
def signal_wire_high_resistance(machine: SimulatedMachine, severity: float) -> None:
    """Ohms in the signal wire between plug and module, from 3 % of what feeds the line up to open. Sizes: common
    practice, no published source."""
    machine.values.signal_wire_ohm = up_to_open(SERIES_SHARE * machine.part.line_ohm(machine.values), severity)


@fault(
    "signal_wire_leaking",
    Cause.WIRING,
    "damp or a chafed place leads from the signal wire to the body",
    computed=True,
    ends={"signal_wire_shorted_to_ground": 1.0},
)
def signal_wire_leaking(machine: SimulatedMachine, severity: float) -> None:
    """A path from the signal wire to the body, ohm: from twenty times what feeds the line down to a short. Sizes:
    common practice, no published source."""
    machine.values.leak_ohm = down_to_short(PATH_TIMES * machine.part.line_ohm(machine.values), severity)


@fault(
    "signal_wire_leaking_to_feed",
    Cause.WIRING,
    "damp or a chafed place leads from the signal wire to the feed",
    SWITCHING,
    computed=True,
    ends={"signal_wire_shorted_to_feed": 1.0},
)
def signal_wire_leaking_to_feed(machine: SimulatedMachine, severity: float) -> None:
    """A path from the signal wire to the feed, ohm: from twenty times what feeds the line down to a short. Sizes:
    common practice, no published source."""
    machine.values.short_to_feed_ohm = down_to_short(PATH_TIMES * machine.part.line_ohm(machine.values), severity)


@fault("wire_breaks_when_wiggled", Cause.WIRING, "a wire parts when the harness is moved", ROTATING, TURNING_ROLES)
def wire_breaks_when_wiggled(machine: SimulatedMachine, severity: float) -> None:
    """Signal or feed wire opens while the harness is moved; the signal wire twice as often as the feed. Sizes: common
    practice, no published source."""
    machine.wiggle = str(machine.rng.choice(["signal", "signal", "supply"] if machine.part.fed else ["signal"]))


@fault("wire_breaks_when_hot", Cause.WIRING, "a wire parts for moments as it warms", ROTATING, TURNING_ROLES)
def wire_breaks_when_hot(machine: SimulatedMachine, severity: float) -> None:
    """The signal wire is open for .05 to .3 of a recording, once. Sizes: common practice, no published source."""
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.drops = ((start, start + between(0.05, 0.3, severity)),)


@fault("pair_crossed", Cause.WIRING, "the two wires of the coil are crossed", COIL)
def pair_crossed(machine: SimulatedMachine, severity: float) -> None:
    """The coil's voltage has its sign turned: the fast flank falls where it should rise (Faraday's law). Sizes: common
    practice, no published source."""
    machine.reversed = True


@fault("shield_open", Cause.WIRING, "the shield has no ground: disturbance reaches the wire", GENERATING)
def shield_open(machine: SimulatedMachine, severity: float) -> None:
    """Sparks couple into the open shield: 25 spikes a second of .4 to 1.6 times the coil's height, V. Sizes: common
    practice, no published source."""
    machine.values.shield_ohm = OPEN
    machine.spikes, machine.spike_v = 25.0, between(0.4, 1.6, severity) * max(machine.values.coil_v, 1.0)
