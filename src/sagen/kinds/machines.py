"""Simulated machines of a circuit, with the part that its kind of sensor puts in."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.kinds.kind import kind_of
from sagen.machine.faults import break_machine
from sagen.machine.simulated import Nuisance, SimulatedMachine, build_machine
from sagen.model.circuit import CircuitSpec


def build(
    spec: CircuitSpec, seed: int = 1, nuisance: Nuisance | None = None, *, plain: bool = False
) -> SimulatedMachine:
    """A sound machine with this circuit; see `machine.simulated.build_machine`.

    Parameters
    ----------
    spec : CircuitSpec
        kind of sensor, role, wires
    seed : int
        of every draw
    nuisance : Nuisance or None
        how such machines differ; None draws it
    plain : bool
        without any difference
    """
    return build_machine(spec, kind_of(spec.sensor).part, seed, nuisance, plain=plain)


def broken(spec: CircuitSpec, faults: Iterable[tuple[str, float]], seed: int = 1) -> SimulatedMachine:
    """A machine with fault modes (slug or title, severity); see `machine.faults.break_machine`.

    Parameters
    ----------
    spec : CircuitSpec
        kind of sensor, role, wires
    faults : iterable of (str, float)
        slug or title, and severity from 0 to 1
    seed : int
        of every draw
    """
    return break_machine(spec, kind_of(spec.sensor).part, faults, seed)
