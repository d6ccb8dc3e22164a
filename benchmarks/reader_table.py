"""What `examine` finds under each fault mode of the simulated machine: the kept table.

`python -m benchmarks.reader_table` records every fault mode of every kind of circuit under many seeds and
severities, examines the captures, and writes two files: `seen.toml`, from which suspects are weighed, and
`docs/READER.md`, the same to read. Rows hold how often each set of findings came out.
"""

from __future__ import annotations

import argparse
import tomllib
from collections import Counter
from multiprocessing import Pool
from pathlib import Path

import numpy as np

from sagen.kinds import broken, examine
from sagen.machine.faults import all_faults
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.reason.finding_sets import finding_set

ROOT = Path(__file__).parents[1]
KEPT = ROOT / "src" / "sagen" / "reason" / "knowledge" / "seen.toml"
SHOWN = ROOT / "docs" / "READER.md"

#: circuits and the states in which they are recorded
CIRCUITS: dict[str, tuple[CircuitSpec, tuple[str, ...]]] = {
    "crank.hall": (CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"), ("cranking", "running", "wiggle")),
    "crank.reluctance": (CircuitSpec(role="crank", sensor="reluctance", wheel="60-2"), ("cranking", "running", "wiggle")),
    "cam.hall": (CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="4"), ("cranking", "running", "wiggle")),
    "speed.hall": (CircuitSpec(role="speed", sensor="hall", supply=12.0, pull_up=12.0, wheel="48"), ("rolling", "wiggle")),
    "speed.reluctance": (CircuitSpec(role="speed", sensor="reluctance", wheel="48"), ("rolling", "wiggle")),
    "speed.current": (CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"), ("rolling", "wiggle")),
}  # fmt: skip
SOUND = "sound"


def fed_for(spec: CircuitSpec, fault: str) -> CircuitSpec:
    """The circuit in which a fault mode can be: one of a regulated feed needs that feed."""
    mode = all_faults().get(fault)
    return spec.model_copy(update={"supply": 5.0}) if mode and mode.regulated else spec


def one_row(task: tuple[str, str, str, int]) -> tuple[str, str, str, Counter]:
    """The sets of findings of one fault mode of one circuit in one state."""
    name, state, fault, seeds = task
    spec = fed_for(CIRCUITS[name][0], fault)
    counts: Counter = Counter()
    reference = record(broken(spec, [], 9_999), state, seconds=2.4, sfreq=20_000.0)
    for seed in range(seeds):
        severity = float(np.random.default_rng([seed, 5]).uniform(0.15, 1.0))
        machine = broken(spec, [(fault, severity)] if fault != SOUND else [], seed)
        capture, sheet = record(machine, state, seconds=2.4, sfreq=20_000.0)
        counts[finding_set(examine(capture, sheet, reference=reference).findings)] += 1
    return name, state, fault, counts


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=24)
    parser.add_argument("--faults", nargs="*", default=None, help="only these rows anew, the others kept")
    arguments = parser.parse_args()
    kept = {}
    if arguments.faults is not None:
        data = tomllib.loads(KEPT.read_text(encoding="utf-8"))
        kept = {
            (*key.rsplit(".", 1), fault): Counter(row) for key, table in data.items() for fault, row in table.items()
        }
    tasks = [
        (name, state, fault, arguments.seeds)
        for name, (spec, states) in CIRCUITS.items()
        for state in states
        for fault in (SOUND, *(one.slug for one in all_faults().values() if one.fits(fed_for(spec, one.slug))))
    ]
    todo = [task for task in tasks if arguments.faults is None or task[2] in arguments.faults or task[:3] not in kept]
    with Pool(2) as pool:
        made = {row[:3]: row[3] for row in pool.imap(one_row, todo, chunksize=2)}
    rows = [(*task[:3], made.get(task[:3], kept.get(task[:3]))) for task in tasks]
    KEPT.write_text(_toml(rows, arguments.seeds), encoding="utf-8")
    SHOWN.write_text(_markdown(rows, arguments.seeds), encoding="utf-8")


def _toml(rows, seeds: int) -> str:
    lines = [
        "# How often each set of findings came out of `examine` under each fault mode of the simulated machine.",
        f"# Made by `python -m benchmarks.reader_table`, {seeds} seeds a row with severities from 0.15 to 1; not edited by hand.",
        "# Grammar: [CIRCUIT.STATE], then FAULT = { SET = TIMES, ... }; a set is findings joined by +, '' for none.",
    ]
    group = None
    for name, state, fault, counts in rows:
        if (name, state) != group:
            group = (name, state)
            lines += ["", f'["{name}.{state}"]']
        inside = ", ".join(f'"{one}" = {times}' for one, times in sorted(counts.items(), key=lambda row: -row[1]))
        lines.append(f"{fault} = {{ {inside} }}")
    return "\n".join(lines) + "\n"


def _markdown(rows, seeds: int) -> str:
    lines = [
        "# What the reader sees of each fault",
        "",
        f"Share of {seeds} simulated machines, severities from 0.15 to 1, in whose capture `examine` made each finding.",
        "Made by `python -m benchmarks.reader_table`. Blank: the fault leaves the recording as it is (a meter or the eye finds it).",
    ]
    group = None
    for name, state, fault, counts in rows:
        if (name, state) != group:
            group = (name, state)
            lines += [
                "",
                f"## {name.replace('.', ', ')}, {state}",
                "",
                "| fault mode | cause | findings |",
                "|---|---|---|",
            ]
        share: Counter = Counter()
        for one, times in counts.items():
            for kind in filter(None, one.split("+")):
                share[kind] += times
        told = ", ".join(
            f"{kind.replace('_', ' ').replace(':', ' ')} {100 * times / seeds:.0f} %"
            for kind, times in share.most_common(5)
        )
        mode = all_faults().get(fault)
        cause = mode.cause.replace("_", " ") if mode else "none"
        lines.append(f"| {mode.title if mode else 'nothing wrong in this circuit'} | {cause} | {told} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    main()
