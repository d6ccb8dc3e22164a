"""Fault modes of the engine."""

from __future__ import annotations

from sagen.machine.faults import ROTATING, TIMED, TURNING_ROLES, between, fault
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault(
    "cranks_slowly",
    Cause.ENGINE,
    "a weak battery or starter turns the engine too slowly",
    ROTATING,
    TIMED,
    computed=True,
)
def cranks_slowly(machine: SimulatedMachine, severity: float) -> None:
    """The starter turns at .6 to .32 of its speed, with half as much breathing again; the battery sags 1.3 to 2.1 times
    as far. Sizes: common practice, no published source."""
    machine.crank_rpm = machine.crank_rpm * between(0.6, 0.32, severity)
    machine.ripple = machine.ripple * 1.5
    machine.crank_sag = machine.crank_sag * between(1.3, 2.1, severity)
    machine.values.battery_v = machine.values.battery_v - between(0.4, 1.2, severity)


@fault(
    "cranks_unevenly", Cause.ENGINE, "one cylinder does not compress as the others do", ROTATING, TIMED, computed=True
)
def cranks_unevenly(machine: SimulatedMachine, severity: float) -> None:
    """One cylinder's stroke lacks .06 to .2 of the speed's swing. Sizes: common practice, no published source."""
    machine.uneven = machine.uneven + between(0.06, 0.2, severity)


@fault(
    "shaft_does_not_turn",
    Cause.ENGINE,
    "starter, belt or coupling turns nothing",
    ROTATING,
    TURNING_ROLES,
    computed=True,
)
def shaft_does_not_turn(machine: SimulatedMachine, severity: float) -> None:
    """The shaft stands while the starter is tried; no part of the circuit changes. Sizes: common practice, no published
    source."""
    machine.turns = False
