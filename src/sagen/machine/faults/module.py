"""Fault modes of the module."""

from __future__ import annotations

from sagen.machine.faults import SWITCHING, between, down_to_short, fault, up_to_open
from sagen.machine.simulated import SimulatedMachine
from sagen.model.vocabulary import Cause


@fault(
    "pull_up_weak",
    Cause.MODULE,
    "the module lifts the signal wire through too much resistance, or not at all",
    SWITCHING,
    title="pull-up weak",
    computed=True,
    ends={"pull_up_lost": 1.0},
)
def pull_up_weak(machine: SimulatedMachine, severity: float) -> None:
    """The module's pull-up, ohm, from three times what it was up to open. Sizes: common practice, no published source."""
    machine.values.pull_up_ohm = up_to_open(3.0 * machine.values.pull_up_ohm, severity)


@fault(
    "input_loads_the_line",
    Cause.MODULE,
    "the module's input holds the wire down",
    computed=True,
    ends={"input_shorted": 1.0},
)
def input_loads_the_line(machine: SimulatedMachine, severity: float) -> None:
    """A path inside the module's input, ohm: from ten times what feeds the line down to a short. Sizes: common
    practice, no published source."""
    machine.part.load_input(machine.values, down_to_short(10.0 * machine.part.line_ohm(machine.values), severity))


@fault("input_threshold_shifted", Cause.MODULE, "the module switches at another voltage than it should")
def input_threshold_shifted(machine: SimulatedMachine, severity: float) -> None:
    """The module's threshold, V, at .1 to .4 or 1.6 to 2.1 times where it was; no voltage on the line changes. Sizes:
    common practice, no published source."""
    machine.values.threshold_v *= float(machine.rng.choice([between(0.4, 0.1, severity), between(1.6, 2.1, severity)]))
