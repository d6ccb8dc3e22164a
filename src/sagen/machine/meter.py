"""What a meter reads when it is held to the simulated machine."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import NODES, OHM_POINTS, OPEN, copper, solve
from sagen.model.errors import SagenError, unknown_name

STATES = ("key_on", "key_on_unplugged", "cranking", "running", "wiggle", "metal_near", "metal_away", "unplugged")
POINTS = (*NODES, *OHM_POINTS)
OVER_RANGE_OHM = 4e7  #: a meter shows no more than this
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
    if state not in STATES:
        raise SagenError(unknown_name("state", state, STATES))
    if point in OHM_POINTS:
        return _ohms(machine, point, state)
    kind = machine.spec.sensor
    if point == "supply" and kind not in ("hall", "current"):
        raise SagenError(f"a {kind} sensor has no feed")
    if point == "ground" and kind == "current":
        raise SagenError("a two-wire current sensor has no return of its own: its signal wire is the return")
    node = NODES[point]
    values = [
        solve(machine, state, conducting=on, instrument=(node, machine.values.meter_ohm)).volts(node)
        for on in _positions(machine, state)
    ]
    value = values[0] if len(values) == 1 else DUTY * values[0] + (1 - DUTY) * values[1]
    return MeterReading(point, state, "volts", float(value))


def _positions(machine: SimulatedMachine, state: str) -> tuple[bool, ...]:
    """Whether the output conducts: both by turns while the shaft turns, one by chance while it stands."""
    if state in ("cranking", "running", "wiggle"):
        return (True, False) if machine.turns and seen(machine) else (False,)
    if state == "metal_near":
        return (machine.output != "high",)
    if state == "key_on":
        return (bool(int(1e6 * machine.values.on_ohm + 1e3 * machine.gap_mm) % 2) and seen(machine),)
    return (False,)


def seen(machine: SimulatedMachine) -> bool:
    """Whether a tooth at the present gap is strong enough to switch the sensor."""
    return machine.field_strength * float(machine.teeth.tall.max()) > 0.5


def _ohms(machine: SimulatedMachine, point: str, state: str) -> MeterReading:
    values, kind = machine.values, machine.spec.sensor
    if point == "sensor":
        if kind in ("hall", "current"):
            raise SagenError(f"the ohms of a {kind} sensor say nothing: its output is a switch, not a resistance")
        ohm = copper(machine, values.coil_ohm) if kind == "reluctance" else values.piezo_ohm
    else:
        if point == "supply_wire" and kind not in ("hall", "current"):
            raise SagenError(f"a {kind} sensor has no feed wire")
        names = {
            "supply_wire": ("feed_wire_ohm",),
            "signal_wire": ("signal_wire_ohm",),
            "ground_wire": ("ground_wire_ohm",),
        }
        ohm = copper(machine, sum(getattr(values, name) for name in names[point]))
    over = ohm >= min(OVER_RANGE_OHM, OPEN)
    return MeterReading(point, state, "ohms", min(float(ohm), OVER_RANGE_OHM), over)
