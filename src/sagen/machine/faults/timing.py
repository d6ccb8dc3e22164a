"""Fault modes of the timing."""

from __future__ import annotations

from sagen.machine.faults import ROTATING, TIMED, between, fault
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault("belt_or_chain_off", Cause.TIMING, "the belt or chain stands off by whole teeth", ROTATING, TIMED)
def belt_or_chain_off(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += float(machine.rng.choice([-1, 1])) * (360.0 / 22.0) * (1 + round(1.4 * severity))


@fault("chain_stretched", Cause.TIMING, "the chain has grown and its tensioner lets it swing", ROTATING, TIMED)
def chain_stretched(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += between(2.0, 5.0, severity)
    machine.cam_wander += between(2.2, 5.5, severity)


@fault("crank_key_sheared", Cause.TIMING, "the crank's sprocket has turned on its shaft", ROTATING, TIMED)
def crank_key_sheared(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += between(8.0, 40.0, severity) * float(machine.rng.choice([-1, 1]))


@fault("phaser_stuck", Cause.TIMING, "the cam's phaser stands off its resting place", ROTATING, TIMED)
def phaser_stuck(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late -= between(8.0, 35.0, severity)
