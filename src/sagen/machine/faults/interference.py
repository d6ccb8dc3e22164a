"""Fault modes of the interference."""

from __future__ import annotations

from sagen.machine.faults import between, fault
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault("ignition_disturbs", Cause.INTERFERENCE, "ignition leads lie beside the harness")
def ignition_disturbs(machine: SimulatedMachine, severity: float) -> None:
    """Thirty spikes a second, .75 to 1.3 times as tall as the kind of sensor has them beside an ignition lead, V.
    Sizes: common practice, no published source."""
    machine.spikes = 30.0
    machine.spike_v = between(0.75, 1.3, severity) * machine.part.spike_v(machine.values)


@fault("alternator_disturbs", Cause.INTERFERENCE, "the alternator's ripple reaches the signal")
def alternator_disturbs(machine: SimulatedMachine, severity: float) -> None:
    """The alternator's ripple on the signal, .15 to .45 times what the kind's signal is compared with, V. Sizes: common
    practice, no published source."""
    machine.whine_v = between(0.3, 0.9, severity) * 0.5 * machine.part.whine_v(machine.values)
