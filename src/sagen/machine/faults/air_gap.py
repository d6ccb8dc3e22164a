"""Fault modes of the air gap."""

from __future__ import annotations

from sagen.machine.faults import NOT_CAM, PIEZO, ROTATING, TURNING_ROLES, answer_less, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault("gap_too_wide", Cause.AIR_GAP, "the sensor sits too far from the wheel", ROTATING, TURNING_ROLES, computed=True)
def gap_too_wide(machine: SimulatedMachine, severity: float) -> None:
    """The gap .32 to 1.7 mm wider, and wandering by .12 mm; the field falls with it as e to the minus gap over pitch.
    Sizes: common practice, no published source."""
    machine.gap_mm = machine.gap_mm + between(0.32, 1.7, severity)
    machine.gap_wander += 0.12


@fault("sensor_loose", Cause.AIR_GAP, "the gap changes as the engine shakes", ROTATING, TURNING_ROLES)
def sensor_loose(machine: SimulatedMachine, severity: float) -> None:
    """The gap .18 mm wider and wandering by .2 to .5 mm; the place of every tooth wanders by .06 to .13 of a pitch.
    Sizes: common practice, no published source."""
    machine.gap_mm += 0.18
    machine.gap_wander += between(0.2, 0.5, severity)
    machine.place_wander += between(0.06, 0.13, severity)


@fault("rust_under_the_flange", Cause.AIR_GAP, "rust lifts the sensor and lets it rock", ROTATING, TURNING_ROLES)
def rust_under_the_flange(machine: SimulatedMachine, severity: float) -> None:
    """The gap .25 to .5 mm wider and wandering by .12 to .3 mm; teeth wander by .05 to .1 of a pitch. Sizes: common
    practice, no published source."""
    machine.gap_mm += between(0.25, 0.5, severity)
    machine.gap_wander += between(0.12, 0.3, severity)
    machine.place_wander += between(0.05, 0.1, severity)


@fault("sensor_not_seated", Cause.AIR_GAP, "the sensor stands off its seat", ROTATING, TURNING_ROLES, computed=True)
def sensor_not_seated(machine: SimulatedMachine, severity: float) -> None:
    """The gap .25 to 4 mm wider, as often by a ratio as by another, and wandering by .08 mm: from a flange on dirt to a sensor that
    hangs out of its hole. Sizes: common practice, no published source."""
    machine.gap_mm = machine.gap_mm + growing(0.25, 4.0, severity)
    machine.gap_wander += 0.08


@fault(
    "torque_wrong",
    Cause.AIR_GAP,
    "the sensor is not bolted down as stated: it feels less and rings lower",
    PIEZO,
    computed=True,
)
def torque_wrong(machine: SimulatedMachine, severity: float) -> None:
    """The sensor answers a tap .85 to .3 times as tall, rings .98 to .86 times as high and dies out 1.3 to 3 times as
    fast. Sizes: common practice, no published source."""
    answer_less(machine, growing(0.85, 0.3, severity), between(0.98, 0.86, severity), between(1.3, 3.0, severity))


@fault(
    "wheel_walks_along_its_shaft",
    Cause.AIR_GAP,
    "the wheel moves out from under the sensor and back",
    ROTATING,
    NOT_CAM,
)
def wheel_walks_along_its_shaft(machine: SimulatedMachine, severity: float) -> None:
    """No tooth passes under the sensor for .08 to .3 of a recording, once. Sizes: common practice, no published source."""
    start = float(machine.rng.uniform(0.25, 0.55))
    machine.drops = ((start, start + between(0.08, 0.3, severity)),)
