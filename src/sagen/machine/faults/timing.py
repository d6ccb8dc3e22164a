"""Fault modes of the timing."""

from __future__ import annotations

from sagen.machine.faults import ROTATING, TIMED, between, fault
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault("belt_or_chain_off", Cause.TIMING, "the belt or chain stands off by whole teeth", ROTATING, TIMED)
def belt_or_chain_off(machine: SimulatedMachine, severity: float) -> None:
    """The cam one or two teeth of a 22-tooth crank sprocket early or late: 16.4 crank degrees each (geometry). Sizes:
    common practice, no published source."""
    machine.cam_late += float(machine.rng.choice([-1, 1])) * (360.0 / 22.0) * (1 + round(1.4 * severity))


@fault("chain_stretched", Cause.TIMING, "the chain has grown and its tensioner lets it swing", ROTATING, TIMED)
def chain_stretched(machine: SimulatedMachine, severity: float) -> None:
    """The cam 2 to 5 crank degrees late, its edges wandering by 2.2 to 5.5. Sizes: common practice, no published
    source."""
    machine.cam_late += between(2.0, 5.0, severity)
    machine.cam_wander += between(2.2, 5.5, severity)


@fault("crank_key_sheared", Cause.TIMING, "the crank's sprocket has turned on its shaft", ROTATING, TIMED)
def crank_key_sheared(machine: SimulatedMachine, severity: float) -> None:
    """The cam 8 to 40 crank degrees early or late. Sizes: common practice, no published source."""
    machine.cam_late += between(8.0, 40.0, severity) * float(machine.rng.choice([-1, 1]))


@fault("phaser_stuck", Cause.TIMING, "the cam's phaser stands off its resting place", ROTATING, TIMED)
def phaser_stuck(machine: SimulatedMachine, severity: float) -> None:
    """The cam 8 to 35 crank degrees early. Sizes: common practice, no published source."""
    machine.cam_late -= between(8.0, 35.0, severity)
