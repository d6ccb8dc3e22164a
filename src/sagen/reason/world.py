"""One kind of circuit, ready to be asked: all that may be so of it, as particles."""

from __future__ import annotations

import itertools
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from sagen.machine.faults import possible
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import Part
from sagen.reason.circuits import Lately
from sagen.reason.facts import SOUND, Knowledge, knowledge
from sagen.reason.history import row_of
from sagen.reason.particle_set import LatentParameters, ParticleSet, Row

PARTICLES = 400  #: a fault mode
SEED = 20_11
MOST_ANSWERS = 16  #: that one world remembers
KEPT_BYTES = 100_000_000  #: of particle sets that are remembered, of all worlds together


class _KeptSets:
    """Particle sets of all worlds with what was read of them, within one budget of memory: what was used longest ago goes
    first, sets of single fault modes, which every weighing needs, last."""

    def __init__(self, budget: int):
        self.budget = budget
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple, ParticleSet] = OrderedDict()

    def get(self, key: tuple, make: Callable[[], ParticleSet]) -> ParticleSet:
        """The set of a key; made, and others let go, where it is not there."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        made = make()
        with self._lock:
            sizes = {item: kept.nbytes for item, kept in self._kept.items()}
            total = sum(sizes.values()) + made.nbytes
            # Sets grow as they are read: what is counted now is what was read of them by now.
            for item in sorted(sizes, key=lambda item: self._kept[item].single):
                if total <= self.budget:
                    break
                total -= sizes[item]
                del self._kept[item]
            self._kept[key] = made
        return made

    @property
    def nbytes(self) -> int:
        with self._lock:
            return sum(kept.nbytes for kept in self._kept.values())


_KEPT = _KeptSets(KEPT_BYTES)
_NUMBERS = itertools.count()


class World:
    """One kind of circuit, ready to be asked. Particle sets once made, and what was read of them, are remembered."""

    def __init__(self, spec: CircuitSpec, facts: Knowledge | None = None, particles: int = PARTICLES, seed: int = SEED):
        self.spec, self.facts, self.particles, self.seed = spec, facts or knowledge(), particles, seed
        self.faults: tuple[str, ...] = (SOUND, *(item.slug for item in possible(spec)))
        self.places = LatentParameters(spec, self.facts)
        self.cube = self.places.cube(particles, seed)
        self._even: dict[tuple[int, int], np.ndarray] = {}
        # Asked from the window's two threads at once.
        self.lock = threading.RLock()
        self.answers = Lately(MOST_ANSWERS)  #: what jobs came to: small, and counted by no budget
        self._number = next(_NUMBERS)

    def even(self, particles: int, number: int) -> np.ndarray:
        """Places spread evenly, shape (particles, columns): the same for every weighing of this circuit.

        Parameters
        ----------
        particles : int
        number : int
            of such sets of places, from 0
        """
        key = (particles, number)
        if key not in self._even:
            self._even[key] = self.places.cube(particles, self.seed + number)
        return self._even[key]

    def particle_set(self, rows: tuple[Row, ...], generations: Mapping[Part, int] | None = None) -> ParticleSet:
        """The particles of some rows on the world's own cube.

        Parameters
        ----------
        rows : tuple of Row
            fault modes, one or two a row
        generations : mapping of Part to int, or None
            how often each part had been changed
        """
        with self.lock:
            key = (self._number, rows, tuple(sorted((generations or {}).items())))
            return _KEPT.get(key, lambda: self.particle_set_of(rows, self.cube, generations))

    def particle_set_of(
        self,
        rows,
        cube: np.ndarray,
        generations: Mapping[Part, int] | None = None,
        set_of: Sequence[int] | None = None,
        severity: tuple | None = None,
        sound: tuple | None = None,
    ) -> ParticleSet:
        """The particles of some rows on a cube of their own.

        Parameters
        ----------
        rows : tuple of Row
            faults of each row
        cube : ndarray, shape (particles, columns) or (sets, particles, columns)
            latent parameters, 0 to 1
        generations : mapping or None
            how often each part had been changed
        set_of : sequence of int, or None
            which set of the cube each row has; None: each its own, or all the same
        severity, sound : tuple or None
            as `ParticleSet` has them
        """
        return ParticleSet(self.spec, self.facts, self.places, rows, cube, generations, set_of, severity, sound)

    def singles(self) -> ParticleSet:
        """Every fault mode by itself, the sound circuit first."""
        return self.particle_set(tuple(row_of(fault) for fault in self.faults))

    def expected(self, point: str, state: str, fault: str = SOUND, *, ohms: bool = False) -> np.ndarray | None:
        """What would be read under a fault mode before anything is measured, V or ohm, sorted; None where it cannot
        be read.

        Parameters
        ----------
        point, state : str
            by their names
        fault : str
            a slug
        ohms : bool
            ohm instead of V

        Returns
        -------
        ndarray or None
            shape (particles,), sorted
        """
        with self.lock:
            found = self.singles().reading(point, state, ohms)
            return None if found is None else np.sort(found[self.faults.index(fault)])


_WORLDS: dict[str, World] = {}
_WORLDS_LOCK = threading.Lock()
MOST_WORLDS = 12


def world_of(spec: CircuitSpec) -> World:
    """The world of a kind of circuit, made once.

    Parameters
    ----------
    spec : CircuitSpec
        kind of sensor, role, wires
    """
    key = spec.model_dump_json(exclude={"bank", "position", "number"})
    with _WORLDS_LOCK:
        if key not in _WORLDS:
            if len(_WORLDS) >= MOST_WORLDS:
                _WORLDS.clear()
            _WORLDS[key] = World(spec)
        return _WORLDS[key]
