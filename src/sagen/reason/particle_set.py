"""Many machines thought of at once: what is not known is a place in a cube, and every place is one whole machine.

A particle is a point of the unit cube. Each of its coordinates is one thing that is not known (`world.toml`): the
battery, the pull-up, what the sensor draws, how bad the fault is, how often it shows. The same places serve every fault
mode, so that faults which are alike to a probe get the same evidence to the last digit. A crowd is all particles of
several fault modes, shape (modes, particles), as one `SimulatedMachine` whose values are arrays, solved together.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from operator import attrgetter
from typing import TypeVar

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.machine.faults import all_faults
from sagen.machine.simulated import USUAL_WHEEL, SimulatedMachine, Teeth
from sagen.machine.solve import ABSENT
from sagen.machine.values import Values
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import Part, can
from sagen.reason.circuits import OF_MACHINE, VALUES, Circuits, Lately, Remembers, arrays_of
from sagen.reason.facts import SOUND, Knowledge

T = TypeVar("T")

#: fault modes of one machine, each with the slot whose severity it takes
Row = tuple[tuple[str, int], ...]
SOUND_ROW: Row = ()

SLOTS = 3  #: fault modes that one machine may have had in the course of a job
MOST_LATELY = 48  #: pieces of evidence that a set of particles remembers: those of a long job
GENERATIONS = 3  #: times that a part may be replaced before its values repeat
END_SHARE = 0.35  #: of a fault that grows to open or short, the share that has come to its end
#: stated volts of a regulated feed and of a pull-up hold to this
STATED_FEED, STATED_PULL_UP = 0.025, 0.02
#: a stated feed from here on is the battery's, and from here on that of a 24 V machine
BATTERY_FEED_V, LORRY_FEED_V = 9.0, 18.0
#: of the voltage that a sensor of two currents leaves over, the share that its module's resistor takes at most; and how little there
#: may be of it
ROOM_USED, LEAST_ROOM_V = 0.7, 0.5
#: a stated pull-up from here on is the battery's
BATTERY_PULL_UP_V = 8.0
TINY = 1e-12
BEYOND_PUBLISHED = 0.01  #: a sound part lies this far beyond what its maker publishes at most


def _own_copy(machine: SimulatedMachine) -> SimulatedMachine:
    """A machine that shares every value with another, until it is given its own."""
    # Thousands of them are made while a job is weighed: `copy.copy` takes three times as long.
    copied, values = object.__new__(type(machine)), object.__new__(type(machine.values))
    copied.__dict__.update(machine.__dict__)
    values.__dict__.update(machine.values.__dict__)
    copied.values = values
    return copied


_values_of, _rest_of = attrgetter(*VALUES), attrgetter(*OF_MACHINE)


def _changeable(machine: SimulatedMachine) -> tuple:
    """The values that a fault may change; who holds each, and by what name, is told by `_holders` in the same order."""
    return (*_values_of(machine.values), *_rest_of(machine))


def _holders(machine: SimulatedMachine) -> list[tuple[object, str]]:
    return [*((machine.values, name) for name in VALUES), *((machine, name) for name in OF_MACHINE)]


def _identity(machine: SimulatedMachine) -> tuple[int, ...]:
    """By which machines are told apart that were made of one by faults: what a fault did not touch is the same object."""
    return tuple(map(id, _changeable(machine)))


def _take_rows(machine: SimulatedMachine, rows: int | list[int]) -> None:
    """Keep some rows of what differs by row."""
    for (holder, name), value in zip(_holders(machine), _changeable(machine), strict=True):
        if isinstance(value, np.ndarray) and value.ndim == 2:
            setattr(holder, name, value[rows])


class LatentParameters:
    """Which column of the cube is what."""

    def __init__(self, spec: CircuitSpec, facts: Knowledge):
        drawn = [(name, row.part) for name, row in facts.world.items() if can(spec.sensor, *row.sensor_can)]
        names = ["at_tooth"]
        for slot in range(SLOTS):
            names += [f"severity.{slot}", f"often.{slot}"]
        for name, part in drawn:
            names += [f"{name}.{generation}" for generation in range(GENERATIONS if part else 1)]
        self.column = {name: index for index, name in enumerate(names)}
        self.drawn = tuple(name for name, _ in drawn)

    def __len__(self) -> int:
        return len(self.column)

    def cube(self, particles: int, seed: int) -> np.ndarray:
        """Places spread evenly over every coordinate (a Latin hypercube), shape (particles, columns).

        Parameters
        ----------
        particles, seed : int

        Returns
        -------
        ndarray, shape (particles, columns)
            0 to 1 (McKay, Beckman and Conover, Technometrics 21, 1979, from memory)
        """
        rng = np.random.default_rng(seed)
        order = rng.random((particles, len(self))).argsort(axis=0)
        return (order + rng.random((particles, len(self)))) / particles


class ParticleSet(Remembers):
    """All particles of some rows of fault modes in one circuit.

    Parameters
    ----------
    rows : sequence of Row
    cube : ndarray
        shape (particles, columns), the same for every row, or (sets, particles, columns)
    set_of : sequence of int, or None
        which set of the cube each row has; None: each its own, or all the same
    generations : mapping of Part to int
        how often a part was replaced: its values are then others
    severity : (sequence of (str, int), ndarray) or None
        of each row a fault and its slot, and where it lies along its severity in place of where the cube has it, shape
        (rows, particles)
    sound : tuple or None
        `sound` of another set on this cube and of the same generations, whatever its severities
    """

    def __init__(
        self,
        spec: CircuitSpec,
        facts: Knowledge,
        places: LatentParameters,
        rows: Sequence[Row],
        cube: np.ndarray,
        generations: Mapping[Part, int] | None = None,
        set_of: Sequence[int] | None = None,
        severity: tuple[Sequence[tuple[str, int]], np.ndarray] | None = None,
        sound: tuple[SimulatedMachine, list[SimulatedMachine]] | None = None,
    ):
        super().__init__()
        self.spec, self.facts, self.rows = spec, facts, tuple(rows)
        self._set_of = np.arange(len(self.rows)) if set_of is None else np.asarray(set_of)
        # What the machines of one set share is worked out once for all rows.
        cube = cube[0] if cube.ndim == 3 and len(cube) == 1 else cube
        self._places, self._cube, self._severity = places, cube, severity
        self._generations = dict(generations or {})
        self.particles = cube.shape[-2]
        self.shape = (len(self.rows), self.particles)
        self._lately = Lately(MOST_LATELY)  #: what was worked out and is not kept for good
        self._counted = (-1, 0)  #: how much was known when bytes were last counted, and the bytes
        self._faults, self._fault_at = _faults_of(self.rows)
        if sound is None:
            base = self._sound()
            sound = base, self._sets_of(base)
        self.sound = sound  #: the machines without any fault: all together, and those of each set of the cube
        base, of_each = sound
        broken = [self._broken(of_each, index) for index in range(len(self.rows))]
        # Many faults change nothing in the circuit: their rows are one machine to it, which is solved once.
        alike: dict[tuple, int] = {}
        self._circuit_of = [alike.setdefault(_identity(machine), len(alike)) for machine in broken]
        distinct = [broken[self._circuit_of.index(number)] for number in range(len(alike))]
        self.circuits = Circuits(self._merged(base, distinct), len(distinct), self.particles)

    @property
    def single(self) -> bool:
        """Whether every row is of one fault mode, or of none."""
        return all(len(row) <= 1 for row in self.rows)

    def lately(self, key: Hashable, work_out: Callable[[], T]) -> T:
        """The same for what there is no end of, as the evidence of jobs: what was not asked for longest is let go.

        Parameters
        ----------
        key, work_out
            as `once` has them
        """
        return self._lately.once(key, work_out)

    @property
    def nbytes(self) -> int:
        """Bytes of the arrays that are held, of what was worked out as well; views of one array count once."""
        known = len(self._known) + len(self._lately) + len(self.circuits.held)
        if self._counted[0] != known:
            held = [self._cube, self.circuits.held, self._known, self._lately]
            owners = {}
            for item in arrays_of(held):
                owner = item if item.base is None else item.base
                owners[id(owner)] = getattr(owner, "nbytes", item.nbytes)
            self._counted = known, sum(owners.values())
        return self._counted[1]

    # coordinates --------------------------------------------------------------------------

    def place(self, name: str) -> np.ndarray:
        """Where the particles lie along one coordinate, shape (particles,) or (sets, particles)."""
        return self._cube[..., self._places.column[name]]

    def severity(self, fault: str, slot: int) -> np.ndarray:
        """How bad a fault is, 0 to 1; some have come to the end of their scale, 1 to 2, however far beyond.

        Parameters
        ----------
        fault : str
            its slug
        slot : int
            which of the faults of a history it is, from 0

        Returns
        -------
        ndarray, shape (particles,) or (sets, particles)
        """
        return _grown(fault, self.place(f"severity.{slot}"))

    def _value(self, name: str) -> np.ndarray:
        row = self.facts.world[name]
        generation = min(self._generations.get(row.part, 0), GENERATIONS - 1) if row.part else 0
        return row.at(self.place(f"{name}.{generation}"))

    # machines -----------------------------------------------------------------------------

    def _sound(self) -> SimulatedMachine:
        """The machines without any fault: values are arrays of the cube's own shape, or single numbers."""
        spec, part = self.spec, kind_of(self.spec.sensor).part
        drawn = {name: self._value(name) for name in self._places.drawn}
        values = Values()
        for name in VALUES:
            if name in drawn:
                setattr(values, name, drawn[name])
        kind = drawn["battery_kind"]
        regulated = self._regulated(drawn)
        if spec.supply is not None and spec.supply >= BATTERY_FEED_V:
            kind = np.full_like(kind, 24.0 if spec.supply >= LORRY_FEED_V else 12.0)
        values.battery_v, values.running_v = drawn["battery_v"] * kind / 12.0, drawn["running_v"] * kind / 12.0
        if spec.supply is None:
            values.regulator_v = drawn.get("regulator_v_currents", values.regulator_v)
        elif spec.supply < BATTERY_FEED_V:
            values.regulator_v = spec.supply * (1 + STATED_FEED * (2 * self.place("regulator_v.0") - 1))
        if "pull_up_v" in drawn and spec.pull_up is not None:
            generation = min(self._generations.get(Part.MODULE, 0), GENERATIONS - 1)
            spread = STATED_PULL_UP * (2 * self.place(f"pull_up_v.{generation}") - 1)
            own = spec.pull_up < BATTERY_PULL_UP_V
            values.pull_up_v = spec.pull_up * (1 + spread) if own else np.full_like(spread, 12.0)
        if spec.ohms and part.ohms_field:
            low, high = spec.ohms[0] * (1 - BEYOND_PUBLISHED), spec.ohms[1] * (1 + BEYOND_PUBLISHED)
            generation = min(self._generations.get(Part.SENSOR, 0), GENERATIONS - 1)
            setattr(values, part.ohms_field, low + (high - low) * self.place(f"{part.ohms_field}.{generation}"))
        if "bias" in drawn:
            legs = drawn["bias"]
            values.return_bias_ohm = np.where(legs > 1.5, values.bias_ohm, ABSENT)
            values.return_ohm = np.where(legs > 1.5, values.return_ohm, Values().return_ohm)
            values.bias_ohm = np.where(legs > 0.5, values.bias_ohm, ABSENT)
        if part.draws_of_its_own:
            # A maker's own circuit works: its resistor leaves the sensor enough while it draws the most.
            feed = np.where(regulated, values.regulator_v, values.battery_v)
            room = np.maximum(feed - values.least_supply_v, LEAST_ROOM_V)
            values.shunt_ohm = np.minimum(values.shunt_ohm, ROOM_USED * room / values.high_a)
        for name, stated in spec.values.items():
            # Nothing is quite nothing: what is stated as none would be divided by.
            setattr(values, name, max(float(stated), TINY))
        wheel = spec.declared_wheel or USUAL_WHEEL[spec.role]
        machine = SimulatedMachine(
            spec, part, values, np.random.default_rng(0), wheel, Teeth.sound(wheel), temperature_c=20.0
        )
        machine.regulated, machine.at_tooth = regulated, self.place("at_tooth") < 0.5
        machine.turns, machine.dead = np.True_, np.False_
        for name in ("gap_mm", "crank_rpm", "uneven", "crank_sag"):
            setattr(machine, name, drawn[name])
        return machine

    def _regulated(self, drawn: dict[str, np.ndarray]) -> np.ndarray:
        if self.spec.supply is not None:
            return np.full(self._cube.shape[:-1], self.spec.supply < BATTERY_FEED_V)
        return self.place("regulated.0") < drawn.get("regulated_currents", drawn["regulated"])

    def _sets_of(self, base: SimulatedMachine) -> list[SimulatedMachine]:
        """The sound machines of each set of the cube, one where all rows have the same."""
        if self._cube.ndim == 2:
            return [base]
        sets = [_own_copy(base) for _ in self._cube]
        for number, machine in enumerate(sets):
            _take_rows(machine, number)
        return sets

    def _broken(self, sound: list[SimulatedMachine], index: int) -> SimulatedMachine:
        """The machines of one row."""
        machine = sound[self._set_of[index] if self._cube.ndim == 3 else 0]
        computed = [item for item in self.rows[index] if all_faults()[item[0]].computed]
        if not computed:
            return machine
        machine = _own_copy(machine)
        for fault, slot in computed:
            if self._severity is not None and self._severity[0][index] == (fault, slot):
                bad = _grown(fault, self._severity[1][index])
            else:
                bad = self._of_row(self.severity(fault, slot), index)
            all_faults()[fault].apply(machine, bad)
        return machine

    def _merged(self, base: SimulatedMachine, broken: list[SimulatedMachine]) -> SimulatedMachine:
        """One machine of all that are given: what no fault changes stays as it is, what one does becomes (machines, particles)."""
        merged = _own_copy(base)
        values = zip(_holders(merged), _changeable(base), *map(_changeable, broken), strict=True)
        for (holder, name), plain, *found in values:
            if not all(item is plain for item in found):
                joined = np.empty((len(broken), self.particles), np.result_type(*map(np.asarray, found)))
                for index, this_item in enumerate(found):
                    joined[index] = this_item
                setattr(holder, name, joined)
        return merged

    # what instruments show ----------------------------------------------------------------

    def of_rows(self, found: np.ndarray) -> np.ndarray:
        """What the circuits show, shape (circuits, particles), for every row, shape (rows, particles)."""
        if len(found) == 1 or found.strides[0] == 0:  # all circuits alike
            return np.broadcast_to(found[:1], self.shape)
        return found[self._circuit_of]

    def circuit_of(self, index: int) -> int:
        """Which of the circuits a row is, by index."""
        return self._circuit_of[index]

    def value(self, name: str) -> np.ndarray:
        """One value of the machines, of the circuit or of the shaft, shape (rows, particles).

        Parameters
        ----------
        name : str
            of a field of `Values` or of the machine
        """
        return self.of_rows(self.circuits.value(name))

    def reading(self, point: str, state: str, ohms: bool = False) -> np.ndarray | None:
        """What a meter reads, V or ohm, shape (rows, particles); None where it cannot be held or says nothing.

        Parameters
        ----------
        point, state : str
            by their names
        ohms : bool
            ohm instead of V
        """
        found = self.circuits.reading(point, state, ohms)
        return None if found is None else self.of_rows(found)

    def shown(self, state: str, end: str = "sensor") -> dict[str, np.ndarray]:
        """Probabilities of the findings that the circuit's levels make in a recording, by label, shape (rows, particles).

        Parameters
        ----------
        state, end : str
            by name; `end` is where the recorder was clipped to
        """
        return {label: self.of_rows(share) for label, share in self.circuits.shown(state, end).items()}

    # what a fault mode makes of itself --------------------------------------------------------

    def shows(self, index: int, fault: str, slot: int, state: str) -> np.ndarray:
        """How likely a fault of one row shows in the course of one recording: one that comes and goes hardly does on some
        machines, and always on others.

        Parameters
        ----------
        index : int
            the row
        fault : str
            its slug
        slot : int
            which of the faults of the row it is, from 0
        state : str
            by name

        Returns
        -------
        ndarray, shape (particles,)
            0 to 1
        """
        found = self.once(("shows", fault, slot, state), lambda: self._shows_in_one(fault, slot, state))
        return self._of_row(found, index)

    def _shows_in_one(self, fault: str, slot: int, state: str) -> np.ndarray:
        coming = self.facts.comings.get(fault)
        if coming is None:
            return PLAIN_AT_LEAST + (1 - PLAIN_AT_LEAST) * np.minimum(self.severity(fault, slot), 1.0)
        often = coming.few * (coming.many / coming.few) ** self.place(f"often.{slot}") * coming.times.get(state, 1.0)
        return 1.0 - np.exp(-often * self.facts.picture.seconds / 60.0)

    def _of_row(self, values: np.ndarray, index: int) -> np.ndarray:
        """The particles of one row, of values that each set has for itself or all share."""
        return values[self._set_of[index]] if values.ndim == 2 else values

    def shape_share(self, finding: str, state: str) -> np.ndarray:
        """How likely the shape of a recording alone makes a finding, shape (rows, particles).

        Parameters
        ----------
        finding : str
            its label
        state : str
            by name

        Returns
        -------
        ndarray, shape (rows, particles)
            0 to 1
        """
        out = np.full(self.shape, self.facts.shapes[finding].other)
        for index, share in self.louder(finding, state):
            out[index] = share
        return out

    def louder(self, finding: str, state: str) -> Iterator[tuple[int, np.ndarray]]:
        """The rows whose fault modes make a finding in the shape of a recording more often than any machine, each with how likely
        they do, shape (particles,).

        Parameters
        ----------
        finding : str
            its label
        state : str
            by name
        """
        other, louder = self.facts.shapes[finding].other, self.facts.louder(finding, state)
        for index, row in enumerate(self.rows):
            shares = [(louder[fault], fault, slot) for fault, slot in row if fault in louder]
            if shares:
                made = [
                    other + (share - other) * self.shows(index, fault, slot, state) for share, fault, slot in shares
                ]
                yield index, made[0] if len(made) == 1 else np.max(made, axis=0)

    def by_row(self, share) -> np.ndarray:
        """A number for every row, the greatest of its fault modes', shape (rows, 1); `share` maps a slug to one."""
        return np.array([share(fault) for fault in self._faults])[self._fault_at].max(axis=1, keepdims=True)


def _grown(fault: str, place: np.ndarray) -> np.ndarray:
    """How bad a fault is by its place in the cube, shape of `place`."""
    if 1.0 not in all_faults()[fault].ends.values():
        return place
    # Rising all along, so that what a reading tells of the severity is a stretch of it.
    growing, beyond = np.minimum(place / (1 - END_SHARE), 1.0 - 1e-9), (place - (1 - END_SHARE)) / END_SHARE
    return np.where(beyond >= 0.0, 1.0 + beyond, growing)


def _faults_of(rows: tuple[Row, ...]) -> tuple[list[str], np.ndarray]:
    """The fault modes of some rows, each once, and for each row which they are, shape (rows, most faults of a row): of a row without
    any it is that the circuit is sound."""
    places: dict[str, int] = {}
    named = [[places.setdefault(fault, len(places)) for fault, _ in row or ((SOUND, 0),)] for row in rows]
    most = max(map(len, named), default=1)
    return list(places), np.array([[*here, *[here[0]] * (most - len(here))] for here in named]).reshape(-1, most)


#: a fault of the least severity shows in its shape as often as this, against a plain one
PLAIN_AT_LEAST = 0.8
