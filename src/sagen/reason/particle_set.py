"""Many machines thought of at once: what is not known is a place in a cube, and every place is one whole machine.

A particle is a point of the unit cube. Each of its coordinates is one thing that is not known (`world.toml`): the
battery, the pull-up, what the sensor draws, how bad the fault is, how often it shows. The same places serve every fault
mode, so that faults which are alike to a probe get the same evidence to the last digit. A crowd is all particles of
several fault modes, shape (modes, particles), as one `SimulatedMachine` whose values are arrays, solved together.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from copy import copy
from operator import attrgetter

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.machine.faults import all_faults
from sagen.machine.meter import recorded_between, volts_read
from sagen.machine.simulated import USUAL_WHEEL, Ends, SimulatedMachine, Teeth, smooth
from sagen.machine.solve import ABSENT, NODES, Circuit
from sagen.machine.values import Values
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import OHM_POINTS, STARTING, Part, Point, State, can
from sagen.reason.facts import SOUND, Knowledge
from sagen.signal.limits import limits

#: where a reader of recordings calls a feed lost and a return lifted
_FEED, _LIFT = limits("supply_loss"), limits("ground_lift")

#: fault modes of one machine, each with the slot whose severity it takes
Row = tuple[tuple[str, int], ...]
SOUND_ROW: Row = ()

SLOTS = 3  #: fault modes that one machine may have had in the course of a job
GENERATIONS = 3  #: times that a part may be replaced before its values repeat
END_SHARE = 0.35  #: of a fault that grows to open or short, the share that has come to its end
#: stated volts of a regulated feed and of a pull-up hold to this
STATED_FEED, STATED_PULL_UP = 0.025, 0.02
#: a stated feed from here on is the battery's, and from here on that of a 24 V machine
BATTERY_FEED_V, LORRY_FEED_V = 9.0, 18.0
#: a stated pull-up from here on is the battery's
BATTERY_PULL_UP_V = 8.0
TINY = 1e-12
BEYOND_PUBLISHED = 0.01  #: a sound part lies this far beyond what its maker publishes at most

#: fields of the machine, beside its values, that a fault may change or that differ by particle
_OF_MACHINE = ("regulated", "dead", "turns", "gap_mm", "crank_rpm", "crank_sag", "uneven", "at_tooth")
_VALUES = tuple(field.name for field in dataclasses.fields(Values))


def _own_copy(machine: SimulatedMachine) -> SimulatedMachine:
    """A machine that shares every value with another, until it is given its own."""
    copied = copy(machine)
    copied.values = copy(machine.values)
    return copied


_values_of, _rest_of = attrgetter(*_VALUES), attrgetter(*_OF_MACHINE)


def _changeable(machine: SimulatedMachine) -> tuple:
    """The values that a fault may change; who holds each, and by what name, is told by `_holders` in the same order."""
    return (*_values_of(machine.values), *_rest_of(machine))


def _holders(machine: SimulatedMachine) -> list[tuple[object, str]]:
    return [*((machine.values, name) for name in _VALUES), *((machine, name) for name in _OF_MACHINE)]


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


class ParticleSet:
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
    ):
        self.spec, self.facts, self.rows = spec, facts, tuple(rows)
        self._set_of = np.arange(len(self.rows)) if set_of is None else np.asarray(set_of)
        self._places, self._cube = places, cube
        self._generations = dict(generations or {})
        self.particles = cube.shape[-2]
        self.shape = (len(self.rows), self.particles)
        self._read: dict[str, dict[str, np.ndarray]] = {}
        self._recorded: dict[tuple[str, str], Ends] = {}
        self._shown: dict[tuple[str, str], dict[str, np.ndarray]] = {}
        self._shows: dict[tuple[str, int, str], np.ndarray] = {}
        self._counted = (-1, 0)  #: how much had been read when bytes were last counted, and the bytes
        self._faults, self._fault_at = _faults_of(self.rows)
        base = self._sound()
        sound = self._sets_of(base)
        broken = [self._broken(sound, index) for index in range(len(self.rows))]
        # Many faults change nothing in the circuit: their rows are one machine to it, which is solved once.
        alike: dict[tuple, int] = {}
        self._row_of = [alike.setdefault(_identity(machine), len(alike)) for machine in broken]
        self._distinct = self._merged(base, [broken[self._row_of.index(number)] for number in range(len(alike))])
        self._circuit = Circuit(self._distinct)

    @property
    def single(self) -> bool:
        """Whether every row is of one fault mode, or of none."""
        return all(len(row) <= 1 for row in self.rows)

    @property
    def nbytes(self) -> int:
        """Bytes of the arrays that are held, of what was read as well; views of one array count once."""
        read = sum(map(len, (self._read, self._shown, self._shows, self._recorded, self._circuit.held)))
        if self._counted[0] != read:
            self._counted = read, self._bytes()
        return self._counted[1]

    def _bytes(self) -> int:
        held = [
            self._cube, *self._circuit.held, *self._shows.values(),
            *vars(self._distinct).values(), *vars(self._distinct.values).values(),
            *(item for some in (*self._read.values(), *self._shown.values()) for item in some.values()),
            *(item for ends in self._recorded.values() for end in ends for item in end.values()),
        ]  # fmt: skip
        owners = {}
        for item in held:
            if isinstance(item, np.ndarray):
                owner = item if item.base is None else item.base
                owners[id(owner)] = getattr(owner, "nbytes", item.nbytes)
        return sum(owners.values())

    # coordinates --------------------------------------------------------------------------

    def place(self, name: str) -> np.ndarray:
        """Where the particles lie along one coordinate, shape (particles,) or (sets, particles)."""
        return self._cube[..., self._places.column[name]]

    def severity(self, fault: str, slot: int) -> np.ndarray:
        """How bad a fault is, 0 to 1; some have come to the end of their scale.

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
        place = self.place(f"severity.{slot}")
        if 1.0 not in all_faults()[fault].ends.values():
            return place
        # Rising all along, so that what a reading tells of the severity is a stretch of it.
        return np.where(place >= 1 - END_SHARE, 1.0, np.minimum(place / (1 - END_SHARE), 1.0 - 1e-9))

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
        for name in _VALUES:
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
        machine = _own_copy(sound[self._set_of[index] if self._cube.ndim == 3 else 0])
        for fault, slot in self.rows[index]:
            mode = all_faults()[fault]
            if mode.computed:
                mode.apply(machine, self._of_row(self.severity(fault, slot), index))
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

    def value(self, name: str) -> np.ndarray:
        """One value of the machines, of the circuit or of the shaft, shape (rows, particles).

        Parameters
        ----------
        name : str
            of a field of `Values` or of the machine
        """
        machine = self._distinct
        return self._for_every_row(getattr(machine.values if name in _VALUES else machine, name))

    def _for_every_row(self, found: np.ndarray | float) -> np.ndarray:
        """What the distinct machines show, for every row, shape (rows, particles)."""
        if np.ndim(found) == 2 and len(found) not in (1, len(self.rows)):
            return found[self._row_of]
        return np.broadcast_to(found, self.shape)

    # what instruments show ----------------------------------------------------------------

    def points(self) -> tuple[Point, ...]:
        """The points at which volts can be measured."""
        part = self._distinct.part
        gone = (() if part.fed else (Point.SUPPLY,)) + (() if part.own_return else (Point.GROUND,))
        return tuple(node for node in NODES if node not in gone and node != Point.SHIELD)

    def volts(self, point: str, state: str) -> np.ndarray | None:
        """What a meter at a point reads in a state, V, shape (rows, particles); None where it cannot be held.

        Parameters
        ----------
        point, state : str
            by their names

        Returns
        -------
        ndarray or None
            V, shape (rows, particles)
        """
        return self._all_volts(state)[NODES[point]] if point in self.points() else None

    def other_volts(self, point: str, state: str) -> list[np.ndarray]:
        """What stands at the machine's other pins meanwhile: a probe in the wrong place reads one of them.

        Parameters
        ----------
        point, state : str
            by their names

        Returns
        -------
        list of ndarray, shape (rows, particles)
            V
        """
        return [volts for node, volts in self._all_volts(state).items() if node != NODES[point]]

    def _all_volts(self, state: str) -> dict[str, np.ndarray]:
        """Volts at the plug. A meter loads the signal alone: feed and return are too stiff to feel it."""
        if state not in self._read:
            nodes = (NODES[Point.SIGNAL], *(NODES[point] for point in self.points() if point != Point.SIGNAL))
            found = volts_read(self._circuit, state, nodes)
            self._read[state] = {node: self._for_every_row(item) for node, item in found.items()}
        return self._read[state]

    def pulsed(self, ohm: float | None) -> np.ndarray:
        """Volts at the module's pin with the sensor unplugged and a resistor from its signal wire to ground, shape (rows, particles).

        Parameters
        ----------
        ohm : float or None
            None: a meter alone
        """
        held = self._distinct.values.meter_ohm if ohm is None else ohm
        instrument = (NODES[Point.SIGNAL], held)
        volts = self._circuit.volts(
            State.KEY_ON_UNPLUGGED, conducting=False, instrument=instrument, at=("module_signal",)
        )
        return self._for_every_row(volts["module_signal"])

    def input_levels(self) -> tuple[np.ndarray, np.ndarray]:
        """Below and above which the module's input sees a low and a high, V, shape (rows, particles)."""
        low, high = self._distinct.part.input_levels(self._distinct.values)
        return self._for_every_row(low), self._for_every_row(high)

    def ohms(self, point: str) -> np.ndarray | None:
        """What a meter across the sensor or along a wire reads, ohm, at 20 degC; None where that says nothing.

        Parameters
        ----------
        point : str
            of the sensor, or of a wire

        Returns
        -------
        ndarray, shape (rows, particles), or None
            ohm
        """
        part = self._distinct.part
        if point == Point.GROUND:
            return self.value("ground_wire_ohm") + self.value("return_ohm") if part.own_return else None
        name = {
            Point.SENSOR: part.ohms_field,
            Point.SUPPLY_WIRE: "feed_wire_ohm" if part.fed else None,
            Point.SIGNAL_WIRE: "signal_wire_ohm",
            Point.GROUND_WIRE: "ground_wire_ohm" if part.own_return else None,
        }.get(point)
        return self.value(name) if name else None

    def reading(self, point: str, state: str, ohms: bool) -> np.ndarray | None:
        """A reading of either quantity.

        Parameters
        ----------
        point, state : str
            by their names
        ohms : bool
            ohm instead of V

        Returns
        -------
        ndarray or None
            shape (rows, particles)
        """
        return self.ohms(point) if ohms or point in OHM_POINTS else self.volts(point, state)

    def level(self, name: str, state: str, end: str = "sensor") -> np.ndarray | None:
        """A level of a recording, V: the signal's "low" and "high", the mean of "supply" and "ground"; None where the
        circuit does not decide it.

        Parameters
        ----------
        name : str
            low, high, supply or ground
        state, end : str
            by name; `end` is where the recorder was clipped to

        Returns
        -------
        ndarray or None
            V, shape (rows, particles)
        """
        part = self._distinct.part
        if not part.fed or (name == "ground" and not part.own_return):
            return None
        one, other = self._ends(state, end)
        if name in ("low", "high"):
            node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
            pick = np.minimum if name == "low" else np.maximum
            return self._for_every_row(pick(one[node], other[node]))
        node = NODES[Point.SUPPLY if name == "supply" else Point.GROUND]
        return self._for_every_row(0.5 * (one[node] + other[node]))

    def _ends(self, state: str, end: str) -> Ends:
        """Volts with a recorder on the signal, at a tooth and between teeth, of the distinct machines."""
        if (state, end) not in self._recorded:
            node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
            self._recorded[state, end] = recorded_between(self._circuit, state, node)
        return self._recorded[state, end]

    def shown(self, state: str, end: str = "sensor") -> dict[str, np.ndarray]:
        """Probabilities of the findings that the circuit's levels make in a recording, by label.

        Parameters
        ----------
        state, end : str
            by name; `end` is where the recorder was clipped to

        Returns
        -------
        dict
            label to probability, shape (rows, particles)
        """
        if (state, end) not in self._shown:
            machine = self._distinct
            node = "module_signal" if end == "module" else NODES[Point.SIGNAL]
            ends = self._ends(state, end)
            found = {**machine.part.shown(machine, state, node, ends), **self._rails(state, ends)}
            self._shown[state, end] = {label: self._for_every_row(item) for label, item in found.items()}
        return self._shown[state, end]

    def shown_by_state(self, kind: str) -> bool:
        """Whether how the machine stands decides if a finding shows: the circuit then does, not the shape alone."""
        return kind in self._distinct.part.by_state

    def _rails(self, state: str, ends: Ends) -> dict[str, np.ndarray]:
        """A feed that is lost and a return that is lifted, as they stand during a recording."""
        out: dict[str, np.ndarray] = {}
        machine, starting = self._distinct, state in STARTING
        if machine.part.fed:
            feed = 0.5 * (ends[0][NODES[Point.SUPPLY]] + ends[1][NODES[Point.SUPPLY]])
            nominal = np.where(machine.regulated, machine.values.regulator_v, machine.values.battery_v)
            least = np.where(
                machine.regulated, _FEED.fallen_regulated, _FEED.fallen_cranking if starting else _FEED.fallen_battery
            )
            out["supply_loss"] = smooth(least - feed / nominal, 0.03)
            if machine.part.own_return:
                lift = 0.5 * (ends[0][NODES[Point.GROUND]] + ends[1][NODES[Point.GROUND]])
                out["ground_lift"] = smooth(lift - (_LIFT.lift_cranking_v if starting else _LIFT.lift_v), 0.04)
        return out

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
        key = (fault, slot, state)
        if key not in self._shows:
            self._shows[key] = self._shows_in_one(fault, slot, state)
        return self._of_row(self._shows[key], index)

    def _shows_in_one(self, fault: str, slot: int, state: str) -> np.ndarray:
        coming = self.facts.comings.get(fault)
        if coming is None:
            return PLAIN_AT_LEAST + (1 - PLAIN_AT_LEAST) * self.severity(fault, slot)
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
        other, louder = self.facts.shapes[finding].other, self.facts.louder(finding, state)
        out = np.full(self.shape, other)
        for index, row in enumerate(self.rows):
            for fault, slot in row:
                share = louder.get(fault)
                if share is not None:
                    shows = self.shows(index, fault, slot, state)
                    out[index] = np.maximum(out[index], other + (share - other) * shows)
        return out

    def by_row(self, share) -> np.ndarray:
        """A number for every row, the greatest of its fault modes', shape (rows, 1); `share` maps a slug to one."""
        return np.array([share(fault) for fault in self._faults])[self._fault_at].max(axis=1, keepdims=True)


def _faults_of(rows: tuple[Row, ...]) -> tuple[list[str], np.ndarray]:
    """The fault modes of some rows, each once, and for each row which they are, shape (rows, most faults of a row): of a row without
    any it is that the circuit is sound."""
    places: dict[str, int] = {}
    named = [[places.setdefault(fault, len(places)) for fault, _ in row or ((SOUND, 0),)] for row in rows]
    most = max(map(len, named), default=1)
    return list(places), np.array([[*here, *[here[0]] * (most - len(here))] for here in named]).reshape(-1, most)


#: a fault of the least severity shows in its shape as often as this, against a plain one
PLAIN_AT_LEAST = 0.8
