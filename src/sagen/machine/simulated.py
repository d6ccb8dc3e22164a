"""One machine as it stands: circuit values, shaft, wheel and cam, with the nuisance of one seed drawn in."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np

from sagen.machine.values import Values
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import Capability, Connection, Role, SensorKind, State, can
from sagen.model.wheel import Wheel

if TYPE_CHECKING:
    from sagen.machine.network import Network
    from sagen.machine.solve import Circuit

USUAL_LOAD_OHM = 22_000.0
COPPER_PER_K = 0.00393  #: IEC 60028 (from memory), at 20 degC
USUAL_WHEEL = {Role.CRANK: Wheel(60, 2), Role.SPEED: Wheel(48), Role.CAM: Wheel(4), Role.KNOCK: Wheel(1)}


@dataclass
class Teeth:
    """The wheel's teeth as they are: shares of a pitch and of the usual height, one entry a slot."""

    there: np.ndarray
    shift: np.ndarray
    tall: np.ndarray
    wide: np.ndarray

    @classmethod
    def sound(cls, wheel: Wheel) -> Teeth:
        """The teeth of a wheel as it was made: all of one height, width and place.

        Parameters
        ----------
        wheel : Wheel
            slots and missing teeth
        """
        there = np.ones(wheel.slots, bool)
        there[wheel.slots - wheel.missing :] = False
        there[[other - 1 for other in wheel.others]] = False
        return cls(there, np.zeros(wheel.slots), np.ones(wheel.slots), np.ones(wheel.slots))


@dataclass(frozen=True)
class Tap:
    """How a set of knock sensors is struck."""

    place: str = "front"
    connection: Connection = Connection.PLUGGED
    load_ohm: float = USUAL_LOAD_OHM  #: across each sensor while it is `loaded`
    sensors: int = 2

    @property
    def stated(self) -> dict:
        """What the sheet says of it."""
        return {"connection": str(self.connection), "place": self.place}


def smooth(beyond: float | np.ndarray, width: float | np.ndarray) -> np.ndarray:
    """Probability that something is found which lies `beyond` a limit that is `width` wide: a logistic step.

    Parameters
    ----------
    beyond : float or ndarray
        distance from the limit, any unit
    width : float or ndarray
        scale of the logistic distribution, same unit, > 0

    Returns
    -------
    float or ndarray
        0 to 1, shape broadcast

    References
    ----------
    Logistic function: Berkson, J. Am. Stat. Assoc. 39 (1944). From memory.
    """
    return 0.5 * (1.0 + np.tanh(0.5 * np.clip(beyond / width, -60, 60)))


#: volts by node while a tooth stands before the sensor, and while none does
Ends = tuple[dict[str, np.ndarray], dict[str, np.ndarray]]


class SensorPart(ABC):
    """The sensor and the module's input as a part of the circuit."""

    name: str  #: in sentences
    kind: SensorKind
    #: findings that one state shows and another does not, because what stands across the sensor is another
    by_state: frozenset[str] = frozenset()
    ohms_field: str | None = None  #: the value of `Values` that a meter reads across the sensor; None: it says nothing
    ohms_by_temperature: bool = False  #: whether that is copper
    #: whether it draws currents that it sets itself, as far as what lies in series leaves it the voltage for that
    draws_of_its_own: bool = False

    @property
    def fed(self) -> bool:
        """Whether a feed reaches the sensor."""
        return can(self.kind, Capability.FEED)

    @property
    def turns(self) -> bool:
        """Whether it reads what turns; else it is struck."""
        return can(self.kind, Capability.TURNS)

    @property
    def own_return(self) -> bool:
        """Whether it has a return wire of its own."""
        return can(self.kind, Capability.RETURN)

    # the network ----------------------------------------------------------------------------

    @abstractmethod
    def input(self, net: Network, machine: SimulatedMachine) -> None:
        """Hang the module's input on the signal wire.

        Parameters
        ----------
        net : Network
            of the circuit, V and ohm
        machine : SimulatedMachine
            with its values
        """

    @abstractmethod
    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        """Hang the sensor on its plug.

        Parameters
        ----------
        net : Network
            of the circuit
        machine : SimulatedMachine
            with its values
        conducting : bool
            of a switching sensor, whether its output pulls down
        """

    def power_node(self) -> str:
        """The node below a fed sensor: what stands between it and the feed decides whether the sensor works."""
        return "sensor_ground"

    # recorder -------------------------------------------------------------------------------

    @abstractmethod
    def record(
        self,
        machine: SimulatedMachine,
        state: str,
        times: np.ndarray,
        turns: np.ndarray,
        speed: np.ndarray,
        sfreq: float,
    ) -> tuple[list[np.ndarray], list[dict]]:
        """Volts of every channel, and the row of the sheet that describes it.

        Parameters
        ----------
        machine : SimulatedMachine
        state : str
        times, turns, speed : ndarray, shape (n,)
            s, turns of the wheel's shaft, turns a second
        sfreq : float
            samples a second

        Returns
        -------
        volts, rows : list of ndarray of shape (n,), list of dict
        """

    @abstractmethod
    def described(self, machine: SimulatedMachine) -> dict:
        """What the sheet says of the signal's channel beside role, sensor and wheel.

        Parameters
        ----------
        machine : SimulatedMachine
            its circuit as it stands
        """

    def conditions(self, machine: SimulatedMachine, state: str) -> dict:
        """What the sheet of a recording in a state says of how it was taken.

        Parameters
        ----------
        machine : SimulatedMachine
            its circuit as it stands
        state : str
            of the engine
        """
        return {"state": {State.METAL_NEAR: State.KEY_ON, State.METAL_AWAY: State.KEY_ON}.get(State(state), state)}

    def input_levels(self, values: Values) -> tuple[float, float]:
        """Below and above which the module's input sees a low and a high, V.

        Parameters
        ----------
        values : Values
            of the circuit, ohm and V

        Returns
        -------
        low, high : float or ndarray
            V
        """
        return values.threshold_v - 0.5 * values.hysteresis_v, values.threshold_v + 0.5 * values.hysteresis_v

    def shown(self, circuit: Circuit, state: str, node: str, ends: Ends) -> dict[str, np.ndarray]:
        """How likely the circuit's levels alone make each finding of a recording with the probe at a node: labels of
        findings and probabilities, of one machine or of all that its arrays hold; `ends` are the volts of every node
        between which a turning shaft switches them.

        Parameters
        ----------
        circuit : Circuit
            of one machine, or of many
        state, node : str
            by their names
        ends : Ends
            V

        Returns
        -------
        dict
            label of the finding to probability, float or shape (n,)
        """
        return {}

    # faults that come out differently --------------------------------------------------------

    @abstractmethod
    def line_ohm(self, values: Values) -> float:
        """The resistance that feeds the signal wire: what a load has to be compared with.

        Parameters
        ----------
        values : Values
            of the circuit

        Returns
        -------
        float or ndarray
            ohm
        """

    def load_input(self, values: Values, ohm: float) -> None:
        """Let the module's input hold the wire down through so many ohms.

        Parameters
        ----------
        values : Values
            changed in place
        ohm : float or ndarray
            ohm, > 0
        """
        values.load_ohm = ohm

    def least_return_ohm(self, values: Values) -> float:
        """The resistance in the return from which on it is worth a thought.

        Parameters
        ----------
        values : Values
            of the circuit

        Returns
        -------
        float or ndarray
            ohm
        """
        return 100.0

    @abstractmethod
    def spike_v(self, values: Values) -> float:
        """How tall ignition spikes are on the signal, V.

        Parameters
        ----------
        values : Values
            of the circuit
        """

    @abstractmethod
    def whine_v(self, values: Values) -> float:
        """How far the signal swings that an alternator's ripple is compared with, V.

        Parameters
        ----------
        values : Values
            of the circuit
        """


@dataclass
class SimulatedMachine:
    """Everything that a fault may change. Lengths in mm, angles in crank degrees, speeds in rpm.

    What a meter sees of it (`values`, `regulated`, `dead`, `at_tooth`, `turns`, `gap_mm`, `crank_sag`) may also be arrays that
    broadcast against one another: then this is as many machines, read together.
    """

    spec: CircuitSpec
    part: SensorPart
    values: Values
    rng: np.random.Generator
    wheel: Wheel
    teeth: Teeth
    temperature_c: float = 25.0
    # shaft
    crank_rpm: float = 205.0
    idle_rpm: float = 820.0
    roll_rpm: float = 300.0
    ripple: float = 0.13  #: how far above and below its mean compression takes the cranking speed
    uneven: float = 0.01
    turns: bool = True
    cylinders: int = 4
    # sensor and wheel
    gap_mm: float = 1.0  #: usual is 1
    gap_wander: float = 0.012  #: share by which the field varies from tooth to tooth
    runout: float = 0.015  #: share by which the field varies once a turn
    place_wander: float = 0.004  #: pitches by which a tooth is seen away from its place, anew each time
    reversed: bool = False
    regulated: bool = False  #: whether the feed is the module's own rather than the battery's
    dead: bool = False  #: the sensor draws nothing and its output never conducts
    at_tooth: bool = False  #: whether a tooth stands before the sensor while the shaft stands still
    drops: tuple[tuple[float, float], ...] = ()  #: shares of the recording without a signal
    drop_level: str = "high"
    feed_drops: tuple[tuple[float, float], ...] = ()
    return_drops: tuple[tuple[float, float], ...] = ()  #: shares in which the return's contact is bad
    bad_return_ohm: float = 0.0  #: what that contact then has
    ground_lifts: tuple[tuple[float, float, float], ...] = ()  #: start, end (shares), volts
    wiggle: str = ""  #: which wire parts when it is moved: "signal", "supply", "ground"
    # cam
    windows: tuple[tuple[float, float], ...] = ()  #: crank degrees of 720
    cam_late: float = 0.0
    cam_wander: float = 0.15
    phaser_deg: float = 0.0
    # nuisance of the recorder and around it
    noise_v: float = 0.012
    bits: int = 0
    spikes: float = 0.0  #: ignition spikes a second on the signal, and their size in V
    spike_v: float = 0.0
    whine_v: float = 0.0  #: alternator ripple on the signal
    crank_sag: float = 1.0  #: factor on the starter's current
    # knock
    seed: int = 1  #: what its twins on the same block are drawn from
    tap: Tap | None = None  #: how the set is struck

    def copy(self) -> SimulatedMachine:
        """A machine of its own that may be changed."""
        teeth = Teeth(*(item.copy() for item in (self.teeth.there, self.teeth.shift, self.teeth.tall, self.teeth.wide)))
        return replace(self, values=replace(self.values), teeth=teeth)

    @property
    def field_strength(self) -> float:
        """What the sensor feels of the wheel, 1 at the usual gap; falls by e within 0.7 mm."""
        strength = np.exp(-(self.gap_mm - 1.0) / 0.7)
        return strength if np.ndim(strength) else float(strength)


@dataclass(frozen=True)
class Nuisance:
    """How far things differ from machine to machine; standard deviations as shares unless said otherwise."""

    ohms: float = 0.03
    pull_up_v: float = 0.006
    battery_v: float = 0.15  #: V
    wire: float = 0.25
    extra: dict = field(default_factory=dict)


def build_machine(
    spec: CircuitSpec, part: SensorPart, seed: int = 1, nuisance: Nuisance | None = None, *, plain: bool = False
) -> SimulatedMachine:
    """A sound machine with this circuit; every draw comes from `seed`.

    Parameters
    ----------
    spec : CircuitSpec
    part : SensorPart
        of the spec's kind of sensor
    seed : int
    plain : bool
        no nuisance at all: every value as stated
    """
    rng = np.random.default_rng(seed)
    values = Values.with_overrides(spec.values)
    named = set(spec.values)
    if spec.pull_up is not None and "pull_up_v" not in named:
        values.pull_up_v = spec.pull_up
    if spec.ohms and part.ohms_field and part.ohms_field not in named:
        setattr(values, part.ohms_field, 0.5 * (spec.ohms[0] + spec.ohms[1]))
    if spec.role == Role.KNOCK:
        for name, ohm in (("load_ohm", 470_000.0), ("bias_ohm", 1e9)):
            if name not in named:
                setattr(values, name, ohm)
    wheel = spec.declared_wheel or USUAL_WHEEL[spec.role]
    machine = SimulatedMachine(spec, part, values, rng, wheel, Teeth.sound(wheel), regulated=spec.regulated, seed=seed)
    machine.windows = _windows(wheel) if spec.role == Role.CAM else ()
    if not plain:
        _draw(machine, nuisance or Nuisance(), named)
    # Where the shaft stands still is chance.
    machine.at_tooth = bool(int(1e6 * values.on_ohm + 1e3 * machine.gap_mm) % 2)
    return machine


def _windows(wheel: Wheel) -> tuple[tuple[float, float], ...]:
    """A cam's windows of uneven width, as many as its wheel has slots, over 720 crank degrees."""
    each = 720.0 / wheel.slots
    widths = (0.32, 0.45, 0.55, 0.38)
    return tuple((k * each + 20.0, k * each + 20.0 + widths[k % 4] * min(each, 180.0)) for k in range(wheel.slots))


def _draw(machine: SimulatedMachine, nuisance: Nuisance, named: set[str]) -> None:
    rng, values = machine.rng, machine.values
    wires = (
        "fuse_ohm",
        "relay_ohm",
        "feed_wire_ohm",
        "signal_wire_ohm",
        "ground_wire_ohm",
        "strap_ohm",
        "ground_offset_v",
        "feed_pin_ohm",
        "ground_pin_ohm",
        "signal_pin_ohm",
    )
    for name in wires:
        if name not in named:
            setattr(values, name, getattr(values, name) * float(np.exp(rng.normal(0, nuisance.wire))))
    spread = {"coil_ohm": 0.05, "coil_v": 0.2, "on_ohm": 0.25, "piezo_v": 0.06, "piezo_hz": 0.006, "piezo_ohm": 0.02}
    for name in ("pull_up_ohm", "input_ohm", "sensor_ohm", "coil_ohm", "coil_h", "coil_v", "on_ohm", "load_ohm", "bias_ohm", "battery_ohm",
                 "crank_a", "piezo_f", "piezo_v", "piezo_hz", "piezo_ohm", "shunt_ohm", "low_a", "high_a"):  # fmt: skip
        if name not in named:
            setattr(values, name, getattr(values, name) * float(np.exp(rng.normal(0, spread.get(name, nuisance.ohms)))))
    name = machine.part.ohms_field
    if machine.spec.ohms and name and name not in named:
        # A sound part lies within what its maker publishes.
        setattr(values, name, float(np.clip(getattr(values, name), *machine.spec.ohms)))
    values.pull_up_v *= 1 + float(rng.normal(0, nuisance.pull_up_v))
    if "battery_v" not in named:
        values.battery_v += float(np.clip(rng.normal(0, nuisance.battery_v), -0.3, 0.3))
    machine.temperature_c = float(rng.uniform(5, 70))
    machine.crank_rpm *= float(np.exp(rng.normal(0, 0.1)))
    machine.idle_rpm *= float(np.exp(rng.normal(0, 0.05)))
    machine.roll_rpm *= float(np.exp(rng.normal(0, 0.2)))
    machine.ripple *= float(np.exp(rng.normal(0, 0.3)))
    machine.gap_mm += float(rng.normal(0, 0.06))
    machine.teeth.shift += rng.normal(0, 0.004, machine.wheel.slots)
    machine.teeth.tall *= 1 + rng.normal(0, 0.01, machine.wheel.slots)
    machine.bits = int(rng.choice([0, 8, 12]))
    machine.noise_v *= float(np.exp(rng.normal(0, 0.4)))
