"""Fault modes: each changes what it physically changes in a machine, and nothing else; a file a cause.

A mode is a function of a machine and a severity (0, barely, to 1, plain) under `@fault(slug, cause, changes, ...)`.
Several can be switched on at once; each draws what it needs from the machine's own generator. Files and the command
line may name a mode by its slug (`tooth_missing`) or its title ("tooth missing").

A resistance, a leak or a load is one mode on one scale, harmless to open or short, equal ratios being equal steps; what
lies at the end of the scale has a name of its own there (`ends`): "signal wire open" is `signal_wire_high_resistance`
at severity 1. A mode that changes the circuit or the field (`computed`) is also applied to many machines at once: its
severity is then an array, and so is all that it writes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib import import_module

import numpy as np

from sagen.machine.simulated import SensorPart, SimulatedMachine, build_machine
from sagen.machine.solve import OPEN, either
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, unknown_name
from sagen.model.extensions import load_extensions
from sagen.model.language import tr
from sagen.model.vocabulary import CIRCUIT_ROLES, Capability, Cause, Role, can

Apply = Callable[[SimulatedMachine, float], None]

#: what the sensor of a circuit must do and have, all of it
ANY: tuple[Capability, ...] = ()
FED = (Capability.FEED,)
TWO_CURRENTS = (Capability.TWO_CURRENTS,)
SWITCHING = (Capability.SWITCHES,)
COIL = (Capability.TURNS, Capability.GENERATES)
GENERATING = (Capability.GENERATES,)
RETURNING = (Capability.RETURN,)
PIEZO = (Capability.RINGS,)
ROTATING = (Capability.TURNS,)
TURNING_ROLES = (Role.CRANK, Role.CAM, Role.SPEED)
NOT_CAM = (Role.CRANK, Role.SPEED)
TIMED = (Role.CRANK, Role.CAM)
LEAST = 1e-3
NEARLY_OPEN, NEARLY_SHORT, SHORT = 0.8e9, 3.0, 0.5  #: ohm
#: ohm: what a clean gap still has, and one whose end lies in damp and dirt, whose pin reads tenths of a volt by a meter that hardly
#: loads it (common practice, no published source; how far is judgement)
CLEAN_GAP, DIRTY_GAP = 5e10, 2e7


@dataclass(frozen=True)
class FaultMode:
    """One concrete way to fail."""

    slug: str
    cause: Cause
    changes: str  #: what it physically changes, in words
    sensor_can: tuple[Capability, ...]  #: what the sensor must do and have
    roles: tuple[Role, ...]
    apply: Apply
    title: str
    regulated: bool = False  #: only where the feed is the module's own
    computed: bool = (
        False  #: whether what it does to the circuit or the field can be computed for many machines at once
    )
    ends: Mapping[str, float] = field(default_factory=dict)  #: names of places on its scale, and their severities

    def severity(self, name: str, asked: float) -> float:
        """The severity that a name stands for: its own where it names an end of the scale, else what was asked.

        Parameters
        ----------
        name : str
            the slug, or the name of an end
        asked : float
            0 to 1
        """
        return self.ends.get(name.replace(" ", "_").replace("-", "_"), float(np.clip(asked, 0.0, 1.0)))

    def fits(self, spec: CircuitSpec) -> bool:
        """Whether a circuit can have it.

        Parameters
        ----------
        spec : CircuitSpec
            kind of sensor, role, wires
        """
        return (
            can(spec.sensor, *self.sensor_can)
            and spec.role in self.roles
            and (not self.regulated or spec.supply is None or spec.regulated)
        )


#: a file a cause, in the order in which fault modes are listed
CAUSE_FILES = (
    "sensor", "air_gap", "reluctor", "wiring", "supply", "ground", "module", "timing", "engine", "interference",
)  # fmt: skip
#: every fault mode by slug
FAULTS: dict[str, FaultMode] = {}


def fault(
    slug: str,
    cause: Cause,
    changes: str,
    sensor_can: tuple[Capability, ...] = ANY,
    roles: tuple[Role, ...] = CIRCUIT_ROLES,
    *,
    title: str = "",
    regulated: bool = False,
    computed: bool = False,
    ends: Mapping[str, float] | None = None,
) -> Callable[[Apply], Apply]:
    """Make a function a fault mode; its title is the slug in words where none is given.

    Parameters
    ----------
    slug : str
        name in files
    cause : Cause
        what it belongs to
    changes : str
        what it changes, in words
    sensor_can : tuple of Capability
        what a kind of sensor must be able to do to have it
    roles : tuple of Role
        roles it can be had in
    title : str
        name on the screen
    regulated, computed : bool
        only of a regulated feed; only where its signals are computed
    ends : mapping
        names of the ends of its scale to severities
    """

    def keep(apply: Apply) -> Apply:
        named = title or slug.replace("_", " ")
        FAULTS[slug] = FaultMode(
            slug, Cause(cause), changes, tuple(sensor_can), tuple(roles), apply, named, regulated, computed, dict(ends or {})
        )  # fmt: skip
        return apply

    return keep


@cache
def all_faults() -> dict[str, FaultMode]:
    """Every fault mode by slug, those of extensions among them."""
    for name in CAUSE_FILES:
        import_module(f"sagen.machine.faults.{name}")
    load_extensions()
    return FAULTS


def possible(spec: CircuitSpec) -> tuple[FaultMode, ...]:
    """The fault modes that a circuit can have.

    Parameters
    ----------
    spec : CircuitSpec
        kind of sensor, role, wires
    """
    return tuple(all_fault for all_fault in all_faults().values() if all_fault.fits(spec))


def fault_called(name: str, among: Iterable[FaultMode] | None = None) -> FaultMode:
    """The fault mode of a slug or title.

    Raises
    ------
    SagenError
        for a name that is not known; names the nearest that `among` has.

    Parameters
    ----------
    name : str
        a slug or a title, any letter case
    among : iterable of FaultMode or None
        those allowed; all where None
    """
    known = all_faults()
    slug = name.replace(" ", "_").replace("-", "_")
    found = known.get(name) or next((item for item in known.values() if item.title == name or slug in item.ends), None)
    if found is None:
        raise SagenError(unknown_name("fault", name, [item.title for item in among or known.values()]))
    return found


def break_machine(
    spec: CircuitSpec, part: SensorPart, faults: Iterable[tuple[str, float]], seed: int = 1
) -> SimulatedMachine:
    """A machine with this circuit and these fault modes (slug or title, severity).

    Raises
    ------
    SagenError
        for a name that is not known, or that this circuit cannot have; names the nearest that it can.

    Parameters
    ----------
    spec : CircuitSpec
        the circuit as it should be
    part : SensorPart
        the kind of its sensor
    faults : iterable of (str, float)
        slug or title, severity 0 to 1
    seed : int
        of what differs from one machine to the next
    """
    machine = build_machine(spec, part, seed)
    can = possible(spec)
    for name, severity in faults:
        mode = fault_called(name, can)
        if mode not in can:
            raise SagenError(tr("fault '{name}' is not one that this circuit can have", name=name))
        mode.apply(machine, mode.severity(name, severity))
    return machine


def answer_less(machine: SimulatedMachine, height: float, hertz: float, damping: float) -> None:
    """A struck sensor gives so much less, rings so much lower and dies so much sooner, as shares of what it did.

    Parameters
    ----------
    machine : SimulatedMachine
        changed in place
    height, hertz, damping : float
        shares, 1 for unchanged
    """
    values = machine.values
    values.piezo_v, values.piezo_hz = values.piezo_v * height, values.piezo_hz * hertz
    values.piezo_zeta = values.piezo_zeta * damping


def between(low: float, high: float, severity: float) -> float:
    """Between two values by difference.

    Parameters
    ----------
    low, high : float
        values at severity 0 and 1, same unit
    severity : float
        0 to 1
    """
    return low + (high - low) * severity


def growing(low: float, high: float, severity: float) -> float:
    """Between two values by ratio rather than by difference; elements may be arrays.

    Parameters
    ----------
    low, high : float or ndarray
        values at severity 0 and 1, same unit, > 0
    severity : float
        0 to 1

    References
    ----------
    Geometric interpolation: wear and corrosion go by ratios. Common practice, no published source.
    """
    return low * (high / low) ** severity


def up_to_open(low: float, severity: float) -> float:
    """A resistance from `low` (ohm) up, parted at severity 1; beyond, damp and dirt leave less and less of the gap. Poor contacts
    of ten to a thousand times what is just worth a thought are commoner than those that are all but parted.

    Parameters
    ----------
    low : float
        ohm, > 0
    severity : float
        0 to 2

    Returns
    -------
    float
        ohm

    References
    ----------
    How far bad contacts go is judgement. Common practice, no published source.
    """
    beyond = np.clip(np.asarray(severity) - 1.0, 0.0, 1.0)
    grown = growing(np.clip(low, LEAST, NEARLY_OPEN), NEARLY_OPEN, np.minimum(severity, 1.0) ** 2)
    return either(np.asarray(severity) >= 1.0, growing(CLEAN_GAP, DIRTY_GAP, beyond), grown)


def down_to_short(high: float, severity: float) -> float:
    """A path from `high` (ohm) down, as good as none at severity 1.

    Parameters
    ----------
    high : float
        ohm, > 0
    severity : float
        0 to 1

    Returns
    -------
    float
        ohm
    """
    return either(
        np.asarray(severity) >= 1.0, SHORT, growing(np.clip(high, NEARLY_SHORT, OPEN), NEARLY_SHORT, severity)
    )
