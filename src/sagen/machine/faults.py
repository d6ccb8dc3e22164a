"""Fault modes: each changes what it physically changes in a machine, and nothing else.

A mode is a function of a machine and a severity (0, barely, to 1, plain) under `@fault(name, cause, ...)`. Several
can be switched on at once; each draws what it needs from the machine's own generator.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from sagen.machine.simulated import SimulatedMachine, Teeth, build
from sagen.machine.solve import OPEN
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, unknown_name
from sagen.model.wheel import Wheel

ALL = ("hall", "reluctance", "current", "piezo")
FED = ("hall", "current")
ROTATING = ("hall", "reluctance", "current")
NOT_CAM = ("crank", "speed")


@dataclass(frozen=True)
class FaultMode:
    """One concrete way to fail."""

    name: str
    cause: str
    changes: str  #: what it physically changes, in words
    kinds: tuple[str, ...]
    roles: tuple[str, ...]
    apply: Callable[[SimulatedMachine, float], None]

    def fits(self, spec: CircuitSpec) -> bool:
        """Whether a circuit can have it."""
        needs_rail = self.name == "shared 5 V pulled down"
        return spec.sensor in self.kinds and spec.role in self.roles and (not needs_rail or spec.regulated)


FAULTS: dict[str, FaultMode] = {}


def fault(
    name: str,
    cause: str,
    changes: str,
    kinds: tuple[str, ...] = ALL,
    roles: tuple[str, ...] = ("crank", "cam", "speed", "knock"),
):
    def keep(apply: Callable[[SimulatedMachine, float], None]) -> Callable[[SimulatedMachine, float], None]:
        FAULTS[name] = FaultMode(name, cause, changes, kinds, roles, apply)
        return apply

    return keep


TURNING = ("crank", "cam", "speed")


def possible(spec: CircuitSpec) -> tuple[FaultMode, ...]:
    """The fault modes that a circuit can have."""
    return tuple(one for one in FAULTS.values() if one.fits(spec))


def broken(spec: CircuitSpec, faults: Iterable[tuple[str, float]], seed: int = 1) -> SimulatedMachine:
    """A machine with this circuit and these fault modes (name, severity).

    Raises
    ------
    SagenError
        for a name that is not known, or that this circuit cannot have; names the nearest that it can.
    """
    machine = build(spec, seed)
    can = [one.name for one in possible(spec)]
    for name, severity in faults:
        if name not in can:
            raise SagenError(
                unknown_name("fault", name, can)
                if name not in FAULTS
                else f"fault '{name}' is not one that this circuit can have"
            )
        FAULTS[name].apply(machine, float(np.clip(severity, 0.0, 1.0)))
    return machine


def _between(low: float, high: float, severity: float) -> float:
    return low + (high - low) * severity


def _growing(low: float, high: float, severity: float) -> float:
    """Between two values by ratio rather than by difference."""
    return float(low * (high / low) ** severity)


def _line_ohm(machine: SimulatedMachine) -> float:
    """The resistance that feeds the signal wire: what a load has to be compared with."""
    values = machine.values
    by_kind = {"hall": values.pull_up_ohm, "reluctance": values.coil_ohm, "current": values.shunt_ohm}
    return by_kind.get(machine.spec.sensor, 4_000.0)


# Sensor -------------------------------------------------------------------------------------------


@fault("sensor dead", "sensor", "the sensor draws nothing and its output never conducts", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "dead"
    machine.values.sensor_ohm = OPEN


@fault("output never switches", "sensor", "the output transistor never conducts", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "high"


@fault("output stuck low", "sensor", "the output transistor always conducts", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.output = "low"


@fault("output cannot pull down", "sensor", "the output transistor conducts badly", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.on_ohm = machine.values.pull_up_ohm * _growing(0.35, 3.5, severity)


@fault("output cannot release", "sensor", "the output transistor leaks when it should not conduct", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.off_ohm = machine.values.pull_up_ohm * _growing(1.6, 0.2, severity)


@fault("output leaking", "sensor", "the output transistor leaks a little, more when warm", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.off_ohm = machine.values.pull_up_ohm * _growing(12.0, 2.0, severity)


@fault("drops out when warm", "sensor", "the sensor stops for moments", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    count = 1 + int(2 * severity)
    starts = np.sort(machine.rng.uniform(0.15, 0.75, count))
    machine.drops = tuple(
        (float(a), float(a + machine.rng.uniform(0.04, 0.04 + 0.15 * max(severity, 0.1)))) for a in starts
    )


@fault("coil weak", "sensor", "the magnet behind the coil has lost strength", ("reluctance",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.coil_v *= _growing(0.4, 0.06, severity)


@fault(
    "coil turns shorted", "sensor", "turns of the coil touch: less resistance, inductance and voltage", ("reluctance",)
)
def _(machine: SimulatedMachine, severity: float) -> None:
    left = _between(0.8, 0.05, severity)
    machine.values.coil_ohm *= left
    machine.values.coil_h *= left**2
    machine.values.coil_v *= left


@fault("coil open", "sensor", "the coil is parted, or hangs by a bad joint", ("reluctance",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.coil_ohm = (
        OPEN if severity > 0.4 else machine.values.coil_ohm * _growing(1.6, 60.0, (severity / 0.4) ** 2)
    )


@fault("tip cracked", "sensor", "the tip has been struck: less field, and it varies", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += _between(0.25, 0.45, severity)
    machine.gap_wander += _between(0.15, 0.4, severity)
    machine.place_wander += _between(0.05, 0.11, severity)


@fault("piezo weak", "sensor", "the element gives less for the same tap", ("piezo",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.piezo_v *= _growing(0.6, 0.08, severity)


@fault("piezo detuned", "sensor", "the element rings at another frequency", ("piezo",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.piezo_hz *= _between(0.9, 0.65, severity)


# Air gap ------------------------------------------------------------------------------------------


@fault("gap too wide", "air_gap", "the sensor sits too far from the wheel", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += _between(0.32, 1.7, severity)
    machine.gap_wander += 0.12


@fault("sensor loose", "air_gap", "the gap changes as the engine shakes", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += 0.18
    machine.gap_wander += _between(0.2, 0.5, severity)
    machine.place_wander += _between(0.06, 0.13, severity)


@fault("rust under the flange", "air_gap", "rust lifts the sensor and lets it rock", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += _between(0.25, 0.5, severity)
    machine.gap_wander += _between(0.12, 0.3, severity)
    machine.place_wander += _between(0.05, 0.1, severity)


@fault("sensor not seated", "air_gap", "the sensor stands off its seat", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.gap_mm += _between(0.5, 2.2, severity)
    machine.gap_wander += 0.08


@fault(
    "wheel walks along its shaft", "air_gap", "the wheel moves out from under the sensor and back", ROTATING, NOT_CAM
)
def _(machine: SimulatedMachine, severity: float) -> None:
    start = float(machine.rng.uniform(0.25, 0.55))
    machine.drops = ((start, start + _between(0.08, 0.3, severity)),)


# Reluctor -----------------------------------------------------------------------------------------


def _any_tooth(machine: SimulatedMachine) -> int:
    """A tooth that stands away from the gaps: its neighbours are there on both sides."""
    there, slots = machine.teeth.there, machine.wheel.slots
    around = np.all([np.roll(there, k) for k in range(-2, 3)], axis=0) if slots > 8 else there
    return int(machine.rng.choice(np.flatnonzero(around)))


@fault("tooth missing", "reluctor", "a tooth has broken off", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.teeth.there[_any_tooth(machine)] = False


@fault("tooth chipped", "reluctor", "part of a tooth is gone", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    tooth = _any_tooth(machine)
    machine.teeth.tall[tooth] *= _between(0.78, 0.56, severity)
    machine.teeth.shift[tooth] += _between(0.07, 0.12, severity)


@fault("tooth bent", "reluctor", "a tooth stands out of its place", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.teeth.shift[_any_tooth(machine)] += float(machine.rng.choice([-1, 1])) * _between(0.1, 0.25, severity)


@fault("debris between teeth", "reluctor", "something magnetic bridges two teeth", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    tooth = _any_tooth(machine)
    machine.teeth.wide[tooth] *= _between(1.3, 1.8, severity)
    machine.teeth.shift[tooth] += _between(0.08, 0.15, severity)


@fault("wheel runs out", "reluctor", "the wheel does not run true", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.runout += _between(0.22, 0.42, severity)


@fault("magnet lost", "reluctor", "a magnet of an encoder ring has lost its strength", ("hall", "current"), NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.teeth.tall[_any_tooth(machine)] = _between(0.3, 0.05, severity)


@fault("wrong wheel", "reluctor", "a wheel with another count of teeth is fitted", ROTATING, NOT_CAM)
def _(machine: SimulatedMachine, severity: float) -> None:
    other = Wheel(36, 1) if machine.wheel.missing and machine.wheel.slots != 36 else Wheel(60, 2)
    if machine.spec.role == "speed":
        other = Wheel(52) if machine.wheel.slots != 52 else Wheel(43)
    machine.wheel, machine.teeth = other, Teeth.sound(other)


@fault(
    "wheel slipped on its shaft", "reluctor", "the whole wheel has turned against its shaft", ROTATING, ("crank", "cam")
)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += _between(7.0, 30.0, severity) * float(machine.rng.choice([-1, 1]))


# Wiring -------------------------------------------------------------------------------------------


@fault("signal wire open", "wiring", "the signal wire is parted between plug and module")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_wire_ohm = OPEN


@fault("signal pin open", "wiring", "the signal pin makes no contact in the plug: parted on the sensor's side")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_pin_ohm = OPEN


@fault("signal wire shorted to ground", "wiring", "the signal wire has chafed through to the body")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.leak_ohm = _growing(60.0, 0.5, severity)


@fault("signal wire shorted to feed", "wiring", "the signal wire touches the feed", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.touch_ohm = _growing(120.0, 2.0, severity)


@fault("signal wire high resistance", "wiring", "a poor contact lies in the signal wire", ALL)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.signal_wire_ohm = _growing(800.0, 30_000.0, severity)


@fault("wire breaks when wiggled", "wiring", "a wire parts when the harness is moved", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.wiggle = str(
        machine.rng.choice(["signal", "signal", "supply"] if machine.spec.sensor in FED else ["signal"])
    )


@fault("wire breaks when hot", "wiring", "a wire parts for moments as it warms", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.drops = ((start, start + _between(0.05, 0.3, severity)),)


@fault("pair crossed", "wiring", "the two wires of the coil are crossed", ("reluctance",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.reversed = True


@fault("shield open", "wiring", "the shield has no ground: disturbance reaches the wire", ("reluctance", "piezo"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.shield_ohm = OPEN
    machine.spikes, machine.spike_v = 25.0, _between(0.4, 1.6, severity) * max(machine.values.coil_v, 1.0)


@fault("signal wire leaking", "wiring", "damp or a chafed place loads the signal wire")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.leak_ohm = _line_ohm(machine) * _growing(2.2, 0.2, severity)


# Supply -------------------------------------------------------------------------------------------


@fault("fuse blown", "supply", "the fuse of the feed is open", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    if machine.spec.regulated:
        machine.values.regulator_ohm = OPEN
    else:
        machine.values.fuse_ohm = OPEN


@fault("relay contact bad", "supply", "the relay's contact makes and breaks", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    if machine.spec.regulated:
        machine.values.regulator_ohm = _growing(150.0, 900.0, severity)
    else:
        machine.values.relay_ohm = _growing(300.0, 4_000.0, severity)
    start = float(machine.rng.uniform(0.2, 0.6))
    machine.feed_drops = ((start, start + _between(0.04, 0.25, severity)),)


@fault("feed wire high resistance", "supply", "a poor contact lies in the feed", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    share = (machine.spec.supply_v - 1.0) / 3.4 - 1.0
    machine.values.feed_wire_ohm = machine.values.sensor_ohm * _between(0.35, 2.0, severity) * max(share, 0.3)


@fault("shared 5 V pulled down", "supply", "another sensor on the same feed pulls it down", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.regulator_ohm = 40.0
    machine.values.other_load_ohm = _growing(60.0, 6.0, severity)


@fault("feed wire open", "supply", "the feed wire is parted", FED)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.feed_wire_ohm = OPEN


# Ground -------------------------------------------------------------------------------------------


@fault("return open", "ground", "the return wire is parted", ("hall", "reluctance", "piezo"))
def _(machine: SimulatedMachine, severity: float) -> None:
    # A parted wire in a damp plug still has some path.
    machine.values.ground_wire_ohm = _growing(4_000.0, OPEN, severity**0.4)


@fault("return high resistance", "ground", "a poor contact lies in the return", ("hall", "reluctance", "piezo"))
def _(machine: SimulatedMachine, severity: float) -> None:
    # A switching sensor's own current shows a few ohms as tens of millivolts; a coil's hardly shows any.
    least, base = (0.08, 0.12 * machine.values.sensor_ohm) if machine.spec.sensor == "hall" else (0.6, 2_400.0)
    machine.values.ground_wire_ohm = base * _growing(least, 10.0, severity)


@fault("return contact bad", "ground", "a loose contact of the return makes and breaks", ("hall",), TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    share = 0.12 * machine.values.sensor_ohm
    machine.values.ground_wire_ohm += share * _between(0.02, 0.25, severity)
    machine.bad_return_ohm = share * _growing(1.5, 30.0, severity)
    starts = np.sort(machine.rng.uniform(0.1, 0.85, int(machine.rng.integers(1, 4))))
    machine.return_drops = tuple((float(a), float(a) + _between(0.03, 0.2, severity)) for a in starts)


@fault(
    "ground lifts when cranking", "ground", "the engine's earth strap carries the starter's current badly", ("hall",)
)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.strap_ohm = _growing(0.0045, 0.022, severity)


# Module -------------------------------------------------------------------------------------------


@fault("pull-up lost", "module", "the module no longer lifts the signal wire", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.pull_up_ohm = OPEN


@fault("pull-up weak", "module", "the module lifts the signal wire through too much resistance", ("hall",))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.pull_up_ohm *= _growing(60.0, 1_500.0, severity)


@fault("input loads the line", "module", "the module's input holds the wire down")
def _(machine: SimulatedMachine, severity: float) -> None:
    heavy = _line_ohm(machine) * _growing(2.2, 0.2, severity)
    if machine.spec.sensor == "hall":
        machine.values.input_ohm = heavy
    elif machine.spec.sensor == "current":
        machine.values.shunt_ohm *= _between(0.6, 0.15, severity)
    else:
        machine.values.load_ohm = heavy


@fault("input threshold shifted", "module", "the module switches at another voltage than it should")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.values.threshold_v *= float(
        machine.rng.choice([_between(0.4, 0.1, severity), _between(1.6, 2.1, severity)])
    )


# Timing -------------------------------------------------------------------------------------------


@fault("belt or chain off", "timing", "the belt or chain stands off by whole teeth", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += float(machine.rng.choice([-1, 1])) * (360.0 / 22.0) * (1 + round(1.4 * severity))


@fault("chain stretched", "timing", "the chain has grown and its tensioner lets it swing", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += _between(2.0, 5.0, severity)
    machine.cam_wander += _between(2.2, 5.5, severity)


@fault("crank key sheared", "timing", "the crank's sprocket has turned on its shaft", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late += _between(8.0, 40.0, severity) * float(machine.rng.choice([-1, 1]))


@fault("phaser stuck", "timing", "the cam's phaser stands off its resting place", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.cam_late -= _between(8.0, 35.0, severity)


# Engine -------------------------------------------------------------------------------------------


@fault("cranks slowly", "engine", "a weak battery or starter turns the engine too slowly", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.crank_rpm *= _between(0.6, 0.32, severity)
    machine.ripple *= 1.5
    machine.crank_sag *= _between(1.3, 2.1, severity)
    machine.values.battery_v -= _between(0.4, 1.2, severity)


@fault("cranks unevenly", "engine", "one cylinder does not compress as the others do", ROTATING, ("crank", "cam"))
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.uneven += _between(0.06, 0.2, severity)


@fault("shaft does not turn", "engine", "starter, belt or coupling turns nothing", ROTATING, TURNING)
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.turns = False


# Interference -------------------------------------------------------------------------------------


@fault("ignition disturbs", "interference", "ignition leads lie beside the harness")
def _(machine: SimulatedMachine, severity: float) -> None:
    machine.spikes = 30.0
    size = (
        machine.values.pull_up_v
        if machine.spec.sensor == "hall"
        else 1.4
        if machine.spec.sensor == "current"
        else machine.values.coil_v
    )
    machine.spike_v = _between(0.75, 1.3, severity) * size


@fault("alternator disturbs", "interference", "the alternator's ripple reaches the signal")
def _(machine: SimulatedMachine, severity: float) -> None:
    swing = {"hall": machine.values.pull_up_v, "current": 0.7, "reluctance": machine.values.coil_v}.get(
        machine.spec.sensor, 0.3
    )
    machine.whine_v = _between(0.3, 0.9, severity) * 0.5 * swing
