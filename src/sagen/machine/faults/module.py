"""Fault modes of the module."""

from __future__ import annotations

from sagen.machine.faults import SWITCHING, between, fault, growing
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN
from sagen.model.vocabulary import Cause


@fault("pull_up_lost", Cause.MODULE, "the module no longer lifts the signal wire", SWITCHING, title="pull-up lost")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.pull_up_ohm = OPEN


@fault(
    "pull_up_weak",
    Cause.MODULE,
    "the module lifts the signal wire through too much resistance",
    SWITCHING,
    title="pull-up weak",
)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.pull_up_ohm *= growing(60.0, 1_500.0, severity)


@fault("input_loads_the_line", Cause.MODULE, "the module's input holds the wire down")
def _(machine: SimulatedMachine, severity: float) -> None:
    heavy = machine.part.line_ohm(machine.values) * growing(2.2, 0.2, severity)
    machine.part.load_input(machine.values, severity, heavy)


@fault("input_threshold_shifted", Cause.MODULE, "the module switches at another voltage than it should")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.threshold_v *= float(machine.rng.choice([between(0.4, 0.1, severity), between(1.6, 2.1, severity)]))
