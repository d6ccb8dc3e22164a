"""The simulated machine asked, over and over: what would be read here if this were the fault?

Likelihoods of readings come from the model under each fault mode with its nuisance, not from typed tables;
likelihoods of captures from the kept table of what the reader finds (`seen.toml`).
"""

from __future__ import annotations

import threading
from collections import Counter
from functools import lru_cache

import numpy as np

from sagen.kinds.machines import broken
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.simulated import SimulatedMachine
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.vocabulary import ABOUT_TIMING, OHM_POINTS, Cause, Point, Quantity, Role, SensorKind, State
from sagen.reason.facts import SOUND, Knowledge, cause_of, knowledge

DRAWS = 14
#: share of readings that are slips: the wrong pin, a loose clip, a misread scale
SLIP = 0.005
VOLTS_RANGE, OHM_DECADES = 16.0, 8.5
#: a meter's own error, and how far a mean of few draws may be off, beside the draws' own spread
VOLTS_FLOOR, VOLTS_SHARE, OHM_FLOOR, KERNEL = 0.025, 0.025, 0.02, 0.9
#: machines outside what was drawn: a share of them, about bells so much wider
TAIL, WIDER, WIDE_VOLTS, WIDE_OHM = 0.12, 3.0, 0.25, 0.15
#: how engines differ in cranking speed beyond what the model draws (logarithm), and how well a swing is known
ENGINES_DIFFER, SWING_FLOOR = 0.18, 0.015
CAM = CircuitSpec(role=Role.CAM, sensor=SensorKind.HALL)
TURNS_APART = frozenset({Cause.TIMING, Cause.RELUCTOR})  #: causes that move a cam against its crank
ALPHA = 1.5  #: weight of independence against the counted sets
#: what counts for a finding that was never counted under a fault, and as how many captures that weighs
UNCOUNTED, CAPTURES = 0.05, 0.6
OTHER_STATES = 0.04  #: share that a fault's other states have: a machine's fault may be stronger than those drawn


class LikelihoodModel:
    """One kind of circuit, ready to be asked. Everything asked once is remembered."""

    def __init__(self, spec: CircuitSpec, facts: Knowledge | None = None, draws: int = DRAWS):
        self.spec, self.facts, self.draws = spec, facts or knowledge(), draws
        self.faults: tuple[str, ...] = (SOUND, *(one.slug for one in possible(spec)))
        # Asked from the window's two threads at once.
        self._lock = threading.RLock()
        self._machines: dict[tuple[str, ...], list[SimulatedMachine]] = {}
        self._samples: dict[tuple, np.ndarray | None] = {}
        self._believed: dict[str, dict[str, Counter]] = {}

    # readings -----------------------------------------------------------------------------

    def machines(self, faults: tuple[str, ...]) -> list[SimulatedMachine]:
        """Machines with these fault modes, each of its own seed and severity."""
        with self._lock:
            if faults not in self._machines:
                severities = (np.arange(self.draws) + 0.5) / self.draws * 0.85 + 0.15
                order = np.random.default_rng(len(faults)).permutation(self.draws)
                active = [one for one in faults if one != SOUND]
                self._machines[faults] = [
                    broken(self.spec, [(one, float(severities[order[k]])) for one in active], seed=1000 + k)
                    for k in range(self.draws)
                ]
                for machine in self._machines[faults]:
                    machine.temperature_c = 20.0  # readings are brought to the limits' own temperature
            return self._machines[faults]

    def samples(self, point: str, state: str, faults: tuple[str, ...]) -> np.ndarray | None:
        """What a meter reads on each of those machines (volts, or log10 of ohms); None where it cannot be read."""
        with self._lock:
            key = (point, state, faults)
            if key not in self._samples:
                try:
                    readings = [read(machine, point, state) for machine in self.machines(faults)]
                except SagenError:
                    self._samples[key] = None
                else:
                    values = np.array([one.value for one in readings])
                    self._samples[key] = ohm_scale(values) if readings[0].quantity == Quantity.OHMS else values
            return self._samples[key]

    def reading_likelihood(
        self, point: str, state: str, value: float, ohms: bool, faults: tuple[str, ...], spread: float = 0.0
    ) -> float | None:
        """Density of a reading under fault modes; `spread` is the reading's own extra uncertainty."""
        drawn = self.samples(point, state, faults)
        if drawn is None:
            return None
        value = float(ohm_scale(np.array(value))) if ohms else value
        own = OHM_FLOOR if ohms else VOLTS_FLOOR + VOLTS_SHARE * abs(value)
        width = np.hypot(np.hypot(own, spread), KERNEL * neighbour_distance(drawn))
        if point == Point.SENSOR and self.spec.ohms:
            wide = 1.5 * width + OHM_FLOOR  # published limits hold for every machine of the kind
        else:
            # What is tens of millivolts on every drawn machine is no half volt on another.
            wide = WIDER * width + (WIDE_OHM if ohms else np.minimum(WIDE_VOLTS, 0.04 + 0.2 * np.abs(drawn)))
        density = (1 - TAIL) * _bells(value, drawn, width) + TAIL * _bells(value, drawn, wide)
        return (1 - SLIP) * float(density) + SLIP / (OHM_DECADES if ohms else VOLTS_RANGE)

    def expected(self, point: str, state: str, fault: str = SOUND) -> tuple[float, float, float] | None:
        """Low, middle and high of what would be read under a fault mode, in V or ohm: computed, not typed."""
        drawn = self.samples(point, state, (fault,))
        if drawn is None:
            return None
        low, middle, high = np.quantile(drawn, [0.03, 0.5, 0.97])
        if point in OHM_POINTS:
            low, middle, high = (10.0**one - OHM_SHIFT for one in (low, middle, high))
        return float(low), float(middle), float(high)

    def cadence_likelihood(self, rpm: float, uneven: float | None, faults: tuple[str, ...]) -> float:
        """Density of a cranking speed (per natural logarithm) and of its swing once in two turns, under fault modes."""
        machines = [one for one in self.machines(faults) if one.turns]
        if not machines:
            return SLIP
        speeds = np.log([one.crank_rpm for one in machines])
        swings = np.array([one.uneven for one in machines])
        wide, narrow = np.full(len(machines), ENGINES_DIFFER), np.full(len(machines), SWING_FLOOR)
        # The tails of a speed that no starter of these machines has say little more than what is far out.
        speed = (1 - TAIL) * _bells(np.log(rpm), speeds, wide) + TAIL * _bells(np.log(rpm), speeds, WIDER * wide)
        if uneven is None:
            return (1 - SLIP) * speed + SLIP
        swing = (1 - TAIL) * _bells(uneven, swings, narrow) + TAIL * _bells(uneven, swings, WIDER * narrow)
        return (1 - SLIP) * speed * swing + SLIP

    # captures -----------------------------------------------------------------------------

    def table(self, state: str) -> dict[str, Counter]:
        """The kept table that fits this circuit best in a state."""
        return self.facts.seen[self._table_name(state, self.spec)]

    def _table_name(self, state: str, spec: CircuitSpec) -> str:
        state = State.CRANKING if state == State.START else state
        seen = self.facts.seen
        for role in (spec.role, Role.SPEED, Role.CRANK, Role.CAM):
            for sensor in (spec.sensor, SensorKind.HALL):
                for tried in (state, State.ROLLING if spec.role == Role.SPEED else State.CRANKING):
                    if f"{role}.{sensor}.{tried}" in seen:
                        return f"{role}.{sensor}.{tried}"
        return "crank.hall.cranking"

    def believed(self, state: str, spec: CircuitSpec | None = None) -> dict[str, Counter]:
        """The kept table with a small share of what each fault shows in the circuit's other states; of another
        circuit than its own where one is given."""
        with self._lock:
            name = self._table_name(state, spec or self.spec)
            if name not in self._believed:
                seen, circuit = self.facts.seen, name.rsplit(".", 1)[0]
                others = [table for one, table in seen.items() if one != name and one.startswith(circuit + ".")]
                self._believed[name] = {fault: Counter(row) for fault, row in seen[name].items()}
                for table in others:
                    for fault, row in table.items():
                        if fault in seen[name]:
                            share = OTHER_STATES * sum(seen[name][fault].values()) / (len(others) * sum(row.values()))
                            for one, times in row.items():
                                self._believed[name][fault][one] += share * times
            return self._believed[name]

    def capture_likelihood(
        self, found: frozenset[str], state: str, unseen: frozenset[str], faults: tuple[str, ...]
    ) -> float:
        """Probability of a set of findings under fault modes; findings in `unseen` cannot show in this capture."""
        if self.spec.role == Role.CRANK and not unseen >= ABOUT_TIMING:
            return self._beside_a_cam(found, state, unseen, faults)
        return self._as_counted(found, state, unseen, faults)

    def _as_counted(self, found, state: str, unseen: frozenset[str], faults: tuple[str, ...]) -> float:
        table = self.believed(state)
        rows = [projected(table.get(one, table[SOUND]), unseen) for one in faults] or [projected(table[SOUND], unseen)]
        row = rows[0]
        for other in rows[1:]:
            row = union(row, other)
        return smoothed(row, found, vocabulary(table) - unseen)

    def _beside_a_cam(self, found, state: str, unseen: frozenset[str], faults: tuple[str, ...]) -> float:
        """A crank's own findings, and how its cam stands: only what turns the two apart shows in that."""
        cam = self.believed(state, CAM)
        own = self._as_counted(found - ABOUT_TIMING, state, unseen | ABOUT_TIMING, faults)
        for kind in ABOUT_TIMING - unseen:
            share = max(
                share_of(cam[one if one in cam and cause_of(one) in TURNS_APART else SOUND], kind) for one in faults
            )
            own *= share if kind in found else 1 - share
        return own

    def share_seen(self, finding: str, state: str, fault: str) -> float:
        """How often a finding is among those of a capture under a fault mode."""
        table = self.believed(state)
        return share_of(table.get(fault, table[SOUND]), finding)


def _bells(value: float, centres: np.ndarray, width: np.ndarray) -> float:
    """Mean of normal densities about the draws, each of its own width."""
    return float(np.mean(np.exp(-0.5 * ((value - centres) / width) ** 2) / (width * np.sqrt(2 * np.pi))))


def neighbour_distance(drawn: np.ndarray) -> np.ndarray:
    """How far each draw lies from the second nearest of the others: wide where draws are sparse, narrow in a
    cluster, so that a fault with two faces (a wire parted here or there) is not smeared over what lies between."""
    if len(drawn) < 3:
        return np.full(len(drawn), float(np.ptp(drawn)))
    apart = np.abs(drawn[:, None] - drawn)
    return np.sort(apart, axis=1)[:, 2]


OHM_SHIFT = 0.05  #: ohm: below this a resistance is as good as none


def ohm_scale(ohm: np.ndarray) -> np.ndarray:
    """Resistances on a scale on which equal ratios are equal steps."""
    return np.log10(np.clip(np.nan_to_num(ohm, posinf=4e7), 0.0, 4e7) + OHM_SHIFT)


def projected(row: Counter, unseen: frozenset[str]) -> Counter:
    """A row of the table as it would have been without some findings."""
    if not unseen:
        return row
    out: Counter = Counter()
    for one, times in row.items():
        out["+".join(sorted(kind for kind in one.split("+") if kind and kind not in unseen))] += times
    return out


def union(one: Counter, other: Counter) -> Counter:
    """What two faults show together, taken as showing what either does."""
    total = sum(one.values()) * sum(other.values())
    out: Counter = Counter()
    for a, n in one.items():
        for b, m in other.items():
            out["+".join(sorted({*a.split("+"), *b.split("+")} - {""}))] += n * m
    as_many = min(sum(one.values()), sum(other.values()))
    return Counter({key: as_many * times / total for key, times in out.items()})


@lru_cache(maxsize=64)
def _vocabulary(keys: tuple[str, ...]) -> frozenset[str]:
    return frozenset(kind for one in keys for kind in one.split("+") if kind)


def vocabulary(table: dict[str, Counter]) -> frozenset[str]:
    return _vocabulary(tuple(sorted({one for row in table.values() for one in row})))


def share_of(row: Counter, kind: str) -> float:
    """How often a kind of finding is among those of a row, never quite never."""
    times = sum(times for one, times in row.items() if kind in one.split("+"))
    return (times + CAPTURES * UNCOUNTED) / (sum(row.values()) + CAPTURES)


def smoothed(row: Counter, found: frozenset[str], known: frozenset[str]) -> float:
    """Probability of a set: as often as it was counted, with a share for its findings coming independently."""
    total = sum(row.values())
    alone = 1.0
    for kind in known:
        share = share_of(row, kind)
        alone *= share if kind in found else 1 - share
    times = row.get("+".join(sorted(found & known)), 0)
    # What the table does not know of can only be a surprise to every fault alike.
    return (times + ALPHA * alone) / (total + ALPHA)
