"""What a meter reads when it is held to the simulated machine."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.machine.simulated import Ends, SimulatedMachine
from sagen.machine.solve import NODES, OPEN, Circuit, copper, either
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.vocabulary import METER_STATES, OHM_POINTS, OVER_RANGE_OHM, TURNING, Point, Quantity, State

POINTS = (*NODES, *OHM_POINTS)
#: share of the time that a tooth stands before a turning sensor
DUTY = 0.5
#: states in which a meter sees the mean of a turning shaft
TURNING_STATES = TURNING | {State.WIGGLE}


@dataclass(frozen=True)
class MeterReading:
    point: str
    state: str
    quantity: str  #: volts or ohms
    value: float
    over_range: bool = False

    def as_row(self) -> dict:
        row = {"point": self.point, "state": self.state, "quantity": self.quantity, "value": round(self.value, 4)}
        return row | ({"over_range": True} if self.over_range else {})


def read(machine: SimulatedMachine, point: str, state: str) -> MeterReading:
    """A reading at a point in a state: volts against battery negative, or, of the sensor and of each wire, ohms.

    Raises
    ------
    SagenError
        for a point or a state that the circuit does not have.

    Parameters
    ----------
    machine : SimulatedMachine
    point : str
        a terminal or a wire's end by its name in the circuit
    state : str
        key off, key on, cranking, idle and so on

    Returns
    -------
    MeterReading
        V, ohm, A or Hz, with its unit
    """
    if point not in POINTS:
        raise SagenError(unknown_name("point", point, POINTS))
    if state not in METER_STATES:
        raise SagenError(unknown_name("state", state, METER_STATES))
    if point in OHM_POINTS:
        return _ohms(machine, point, state)
    part = machine.part
    if point == Point.SUPPLY and not part.fed:
        raise SagenError(tr("a {name} has no feed", name=part.name))
    if point == Point.GROUND and not part.own_return:
        raise SagenError(tr("a {name} has no return of its own: its signal wire is the return", name=part.name))
    return MeterReading(
        point, state, Quantity.VOLTS, float(volts_read(Circuit(machine), state, (NODES[point],))[NODES[point]])
    )


def volts_read(circuit: Circuit, state: str, nodes: tuple[str, ...]) -> dict[str, float | np.ndarray]:
    """What stands at `nodes` while a meter is held to the first of them: V against battery negative, the mean over a
    tooth and a gap where the shaft turns. Of one machine, or of all that its arrays hold.

    Parameters
    ----------
    circuit : Circuit
    state : str
        by its name
    nodes : tuple of str
        the first is what the meter is held to

    Returns
    -------
    dict
        node to V, float or shape (n,)
    """
    ever, always = _at_tooth_and_gap(circuit, state, (nodes[0], circuit.machine.values.meter_ohm), nodes)
    if always is ever:
        return {node: ever[node] for node in nodes}
    return {node: DUTY * ever[node] + (1 - DUTY) * always[node] for node in nodes}


def recorded_between(circuit: Circuit, state: str, node: str) -> Ends:
    """Volts at a node that a recorder is clipped to, and at feed and return, while a tooth stands before the tip and while
    none does.

    Parameters
    ----------
    circuit : Circuit
    state, node : str
        by their names
    """
    seen_at = (node, *(NODES[point] for point in (Point.SUPPLY, Point.GROUND) if NODES[point] != node))
    return _at_tooth_and_gap(circuit, state, (node, circuit.machine.values.recorder_ohm), seen_at)


def _at_tooth_and_gap(circuit: Circuit, state: str, instrument: tuple[str, float], nodes: tuple[str, ...]) -> Ends:
    """Volts at nodes while a tooth stands before the tip, and while none does; the same mapping where that makes no difference."""
    share = at_teeth(circuit.machine, state)
    if not circuit.machine.part.fed or not np.any((share > 0) & (share < 1)):
        found = circuit.volts(state, conducting=share > 0, instrument=instrument, at=nodes)
        return found, found
    if np.ndim(circuit.powered(state)) == 0:
        ever, always = (
            circuit.volts(state, conducting=conducting, instrument=instrument, at=nodes)
            for conducting in (share > 0, share >= 1)
        )
        return ever, always
    # Of many machines both at once: what the sensor does not touch is the same, and solved once.
    share = np.broadcast_to(share, np.broadcast_shapes(np.shape(share), (1, 1)))
    both = circuit.volts(state, conducting=np.stack([share > 0, share >= 1]), instrument=instrument, at=nodes)
    return tuple({node: item[at] if np.ndim(item) == 3 else item for node, item in both.items()} for at in (0, 1))


def at_teeth(machine: SimulatedMachine, state: str) -> float | np.ndarray:
    """Share of the time in which a tooth, or steel, stands before the tip: 0, 1 or `DUTY`.

    Parameters
    ----------
    machine : SimulatedMachine
        one, or many whose values are arrays of shape (n,)
    state : str
        by its name
    """
    if state in TURNING_STATES:
        return either(machine.turns & seen(machine), DUTY, 0.0)
    if state == State.METAL_NEAR:
        return np.float64(1.0)
    if state == State.KEY_ON:
        return either(machine.at_tooth & seen(machine), 1.0, 0.0)
    return np.float64(0.0)


def seen(machine: SimulatedMachine) -> bool | np.ndarray:
    """Whether a tooth at the present gap is strong enough to switch the sensor.

    Parameters
    ----------
    machine : SimulatedMachine
        one, or as many as its arrays hold

    Returns
    -------
    bool, or ndarray of bool, shape (particles,)
    """
    return machine.field_strength * float(machine.teeth.tall.max()) > 0.5


#: the wire behind each point, as a value of the circuit
_WIRES = {
    Point.SUPPLY_WIRE: "feed_wire_ohm", Point.SIGNAL_WIRE: "signal_wire_ohm", Point.GROUND_WIRE: "ground_wire_ohm",
}  # fmt: skip


def _ohms(machine: SimulatedMachine, point: str, state: str) -> MeterReading:
    values, part = machine.values, machine.part
    if point == Point.SENSOR:
        if part.ohms_field is None:
            raise SagenError(
                tr("the ohms of a {name} say nothing: its output is a switch, not a resistance", name=part.name)
            )
        ohm = getattr(values, part.ohms_field)
        ohm = copper(machine, ohm) if part.ohms_by_temperature else ohm
    else:
        if point == Point.SUPPLY_WIRE and not part.fed:
            raise SagenError(tr("a {name} has no feed wire", name=part.name))
        ohm = copper(machine, getattr(values, _WIRES[point]))
    over = ohm >= min(OVER_RANGE_OHM, OPEN)
    return MeterReading(point, state, Quantity.OHMS, min(float(ohm), OVER_RANGE_OHM), over)
