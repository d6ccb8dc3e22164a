"""What a meter reads when it is held to the simulated machine."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import NODES, OPEN, copper, solve
from sagen.model.errors import SagenError, unknown_name
from sagen.model.trail import OVER_RANGE_OHM
from sagen.model.vocabulary import METER_STATES, OHM_POINTS, Point, Quantity, State

POINTS = (*NODES, *OHM_POINTS)
#: share of the time that a tooth stands before a turning sensor
DUTY = 0.5


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
    """
    if point not in POINTS:
        raise SagenError(unknown_name("point", point, POINTS))
    if state not in METER_STATES:
        raise SagenError(unknown_name("state", state, METER_STATES))
    if point in OHM_POINTS:
        return _ohms(machine, point, state)
    part = machine.part
    if point == Point.SUPPLY and not part.fed:
        raise SagenError(f"a {part.name} has no feed")
    if point == Point.GROUND and not part.own_return:
        raise SagenError(f"a {part.name} has no return of its own: its signal wire is the return")
    node = NODES[point]
    values = [
        solve(machine, state, conducting=on, instrument=(node, machine.values.meter_ohm)).volts(node)
        for on in _positions(machine, state)
    ]
    value = values[0] if len(values) == 1 else DUTY * values[0] + (1 - DUTY) * values[1]
    return MeterReading(point, state, Quantity.VOLTS, float(value))


def _positions(machine: SimulatedMachine, state: str) -> tuple[bool, ...]:
    """Whether the output conducts: both by turns while the shaft turns, one by chance while it stands."""
    if state in (State.CRANKING, State.RUNNING, State.WIGGLE):
        return (True, False) if machine.turns and seen(machine) else (False,)
    if state == State.METAL_NEAR:
        return (machine.output != "high",)
    if state == State.KEY_ON:
        return (bool(int(1e6 * machine.values.on_ohm + 1e3 * machine.gap_mm) % 2) and seen(machine),)
    return (False,)


def seen(machine: SimulatedMachine) -> bool:
    """Whether a tooth at the present gap is strong enough to switch the sensor."""
    return machine.field_strength * float(machine.teeth.tall.max()) > 0.5


#: the wire behind each point, as a value of the circuit
_WIRES = {
    Point.SUPPLY_WIRE: "feed_wire_ohm", Point.SIGNAL_WIRE: "signal_wire_ohm", Point.GROUND_WIRE: "ground_wire_ohm",
}  # fmt: skip


def _ohms(machine: SimulatedMachine, point: str, state: str) -> MeterReading:
    values, part = machine.values, machine.part
    if point == Point.SENSOR:
        if part.ohms_field is None:
            raise SagenError(f"the ohms of a {part.name} say nothing: its output is a switch, not a resistance")
        ohm = getattr(values, part.ohms_field)
        ohm = copper(machine, ohm) if part.ohms_by_temperature else ohm
    else:
        if point == Point.SUPPLY_WIRE and not part.fed:
            raise SagenError(f"a {part.name} has no feed wire")
        ohm = copper(machine, getattr(values, _WIRES[point]))
    over = ohm >= min(OVER_RANGE_OHM, OPEN)
    return MeterReading(point, state, Quantity.OHMS, min(float(ohm), OVER_RANGE_OHM), over)
