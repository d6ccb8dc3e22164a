"""Sagen left to itself: every check chosen and answered without a person, in two worlds.

`python -m benchmarks.closed_loop --world other --machines 60`. World "own": machines of `sagen.machine`, answered by it
(what is measured there is how the parts fit together, not how good they are). World "other": `other_world.py`, which
shares no code and no constants with it. Told for each: how often the call is right, how often a wrong one was called
sure, the minutes, and how often what was called so likely was so.
"""

from __future__ import annotations

import argparse
import time
from collections import Counter
from dataclasses import dataclass, field
from multiprocessing import Pool

import numpy as np

from benchmarks.other_world import STATED, OtherMachine
from sagen.casework.examination import capture_entry, kept_name
from sagen.kinds import broken, examine
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import CheckKind, CodesBack
from sagen.reason.case import capture_piece, cranked_piece
from sagen.reason.checks import advice, next_checks
from sagen.reason.evidence import Code, Complained, Inspected, MeterReading, Scanned, Stayed
from sagen.reason.facts import SOUND, cause_of, knowledge
from sagen.reason.history import Case, Replaced, with_trail
from sagen.reason.weights import infer
from sagen.reason.world import world_of

MOST_CHECKS = 16
TELLS = 0.004

OWN = {
    "crank hall": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "crank coil": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0)),
    "cam hall": CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="4"),
    "speed current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
    "speed hall": CircuitSpec(role="speed", sensor="hall", supply=12.0, pull_up=5.0, wheel="48"),
}


@dataclass
class OwnMachine:
    """A machine of the simulator, with a fault drawn by the priors; it answers as `OtherMachine` does."""

    family: str
    seed: int
    spec: CircuitSpec = field(init=False)

    def __post_init__(self):
        rng = self.rng = np.random.default_rng([self.seed, 77, *self.family.encode()])
        self.spec, facts = OWN[self.family], knowledge()
        names = [SOUND, *(item.slug for item in possible(self.spec))]
        weights = facts.weights(names, self.spec.role)
        while True:
            self.fault = str(rng.choice(names, p=weights))
            self.told = []
            for table, make in ((facts.complaints, Complained), (facts.codes, lambda _, kind: Code("", "P0000", kind))):
                shares = np.array([table[item].of(self.fault) for item in table])
                if rng.uniform() < min(shares.sum(), 1.0):
                    self.told.append(make("", str(rng.choice(list(table), p=shares / shares.sum()))))
            # A machine whose fault sets neither code nor complaint does not come in.
            if len(self.told) == 2:
                break
        self.cause, self.severity = str(cause_of(self.fault)), float(rng.uniform(0.15, 1.0))
        self.good = self.seed % 2 == 0  # of every other machine's circuit a known-good capture is on the shelf

    def _machine(self):
        return broken(self.spec, [] if self.fault == SOUND else [(self.fault, self.severity)], self.seed)

    def answer(self, check) -> tuple:
        rng = self.rng
        if check.kind == CheckKind.METER:
            reading = read(self._machine(), check.point, check.state)
            ohms = reading.quantity == "ohms"
            value = reading.value * (1 + rng.normal(0, 0.004)) + rng.normal(0, 0.05 if ohms else 0.004)
            return (MeterReading("", check.point, check.state, max(float(value), 0.0) if ohms else float(value), ohms),)
        if check.kind == CheckKind.CAPTURE:
            capture, sheet = record(self._machine(), check.state, seconds=2.4, sfreq=20_000.0)
            pattern = (
                record(broken(self.spec, [], 9_999), check.state, seconds=2.4, sfreq=20_000.0) if self.good else None
            )
            entry = capture_entry(examine(capture, sheet, reference=pattern), kept_name(pattern))
            return tuple(item for item in (capture_piece(entry, self.spec), cranked_piece(entry.cadence)) if item)
        if check.kind == CheckKind.SCAN:
            facts = knowledge()
            if check.slug == "rpm_cranking":
                capture, sheet = record(self._machine(), "cranking", seconds=2.4, sfreq=20_000.0)
                silent = any(finding.kind == "no_signal" for finding in examine(capture, sheet).findings)
                return (Scanned("", "rpm_cranking", 0.0 if silent else 205.0),)
            shares = np.array([facts.codes_back[codes_back].of(self.fault) for codes_back in CodesBack])
            return (
                Scanned(
                    "",
                    "codes_back",
                    str(rng.choice([str(codes_back) for codes_back in CodesBack], p=shares / shares.sum())),
                ),
            )
        for name, row in check.outcome.items():
            if rng.uniform() < row.get(self.fault, row["other"]):
                return (Inspected("", check.slug, name),)
        return (Inspected("", check.slug, ""),)


WORLDS = {"own": (OwnMachine, OWN), "other": (OtherMachine, STATED)}


@dataclass(frozen=True)
class Run:
    family: str
    truth: str
    called: str
    p: float
    minutes: float
    checks: int
    swapped: bool
    first: str
    hides: bool = False  #: it has a fault that hardly ever shows
    milliseconds: float = 0.0

    @property
    def right(self) -> bool:
        return self.swapped or self.called == self.truth


def run(task: tuple[str, str, int]) -> Run:
    """One machine from its code to a call."""
    world_name, family, seed = task
    machine = WORLDS[world_name][0](family, seed)
    world, case = (
        world_of(machine.spec),
        Case(machine.spec, tuple(machine.told), referenced=getattr(machine, "good", False)),
    )
    minutes, count, swapped, first, spent = 0.0, 0, False, "", 0.0
    while True:
        began = time.perf_counter()
        posterior = infer(case, world=world)
        checks = next_checks(case, posterior, world=world)
        said = advice(case, posterior, checks)
        spent += time.perf_counter() - began
        telling = [check for check in checks if check.gain_bits >= TELLS]
        if said.enough or count >= MOST_CHECKS or not telling or not telling[0].pays:
            break
        best = telling[0]
        minutes, count, first = minutes + best.total_minutes, count + 1, first or best.check.slug
        if best.check.kind == CheckKind.SWAP:
            swapped = machine.cause == "sensor"
            if swapped:
                break
            case = with_trail(case, [Replaced("sensor", "original"), Stayed("", True)])
            continue
        case = with_trail(case, machine.answer(best.check))
    causes = posterior.by_cause()
    called = max(causes, key=causes.get)
    return Run(
        family,
        machine.cause,
        str(called),
        float(causes[called]),
        minutes,
        count,
        swapped,
        first,
        hides=getattr(machine, "hides", False),
        milliseconds=1e3 * spent / (count + 1),
    )


def _percent(some: list, rows: list) -> str:
    return f"{100 * len(some) / max(len(rows), 1):.1f} %"


def tell(runs: list[Run]) -> None:
    """The figures of a study, as RESULTS.md holds them."""
    called = [this_run for this_run in runs if not this_run.swapped]
    sure = [item for item in called if item.p >= 0.95]
    print(
        f"{len(runs)} machines: right {_percent([this_run for this_run in runs if this_run.right], runs)}, of them cured by a swap {sum(this_run.swapped for this_run in runs)}; "
    )
    stopped = [this_run for this_run in runs if this_run.hides and this_run.called == "none"]
    print(
        f"stopped at 'nothing shows' with a fault that hardly ever shows {len(stopped)} of {sum(this_run.hides for this_run in runs)} (counted as wrong); "
    )
    print(f"wrong at .9 or more {_percent([item for item in called if not item.right and item.p >= 0.9], runs)}; ")
    print(f"of {len(sure)} called at .95 or more right {_percent([item for item in sure if item.right], sure)}; ")
    print(
        f"minutes {np.mean([this_run.minutes for this_run in runs]):.1f} (90 %: {np.quantile([this_run.minutes for this_run in runs], 0.9):.0f}), checks {np.mean([this_run.checks for this_run in runs]):.1f}, a weighing with its next checks {np.median([this_run.milliseconds for this_run in runs]):.0f} ms\n"
    )
    print("| family | machines | right | minutes |\n|---|---|---|---|")
    for family in dict.fromkeys(this_run.family for this_run in runs):
        rows = [this_run for this_run in runs if this_run.family == family]
        print(
            f"| {family} | {len(rows)} | {_percent([row for row in rows if row.right], rows)} | {np.mean([row.minutes for row in rows]):.0f} |"
        )
    print("\n| cause | machines | right | taken for |\n|---|---|---|---|")
    for cause in sorted({this_run.truth for this_run in runs}):
        rows = [this_run for this_run in runs if this_run.truth == cause]
        wrong = Counter(row.called for row in rows if not row.right).most_common(3)
        print(
            f"| {cause} | {len(rows)} | {_percent([row for row in rows if row.right], rows)} | {', '.join(f'{name} {n}' for name, n in wrong)} |"
        )
    print("\n| called | cases | mean | were so |\n|---|---|---|---|")
    for low, high in ((0.0, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 1.01)):
        rows = [item for item in called if low <= item.p < high]
        if rows:
            print(
                f"| {100 * low:.0f} to {100 * min(high, 1):.0f} % | {len(rows)} | {100 * np.mean([row.p for row in rows]):.1f} % | {_percent([row for row in rows if row.right], rows)} |"
            )
    print(
        "\nfirst checks: "
        + ", ".join(f"{name} {n}" for name, n in Counter(this_run.first for this_run in runs).most_common(8))
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--world", choices=list(WORLDS), default="other")
    parser.add_argument("--machines", type=int, default=60, help="of each family")
    parser.add_argument("--only", default="")
    parser.add_argument("--first", type=int, default=5000, help="seed of the first machine")
    arguments = parser.parse_args()
    families = [world for world in WORLDS[arguments.world][1] if arguments.only in world]
    tasks = [(arguments.world, family, arguments.first + k) for family in families for k in range(arguments.machines)]
    with Pool(2) as pool:
        tell(pool.map(run, tasks, chunksize=4))


if __name__ == "__main__":
    main()
