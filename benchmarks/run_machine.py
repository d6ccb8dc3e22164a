"""The simulated machine, and weighing a job: how long each takes."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.timing import seconds
from sagen.kinds import broken
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.reason.checks import next_checks
from sagen.reason.evidence import Captured, Code, Inspected, MeterReading
from sagen.reason.history import Case
from sagen.reason.weights import infer
from sagen.reason.world import World

SPECS = {
    "crank, switching": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "crank, coil": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2"),
    "cam beside crank": CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0),
    "speed, current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
    "knock": CircuitSpec(role="knock", sensor="piezo"),
}
FRESH = (Code("", "P0335", "circuit"), MeterReading("", "signal", "key_on_unplugged", 4.9))
LATER = (
    *FRESH, MeterReading("", "supply", "key_on", 12.4), MeterReading("", "ground", "key_on", 0.6), Inspected("", "plug_and_pins", ""),
    Captured("", frozenset({"erratic"}), "cranking", frozenset({"timing_offset", "timing_scatter"})),
    MeterReading("", "signal", "metal_near", 0.7),
)  # fmt: skip
START = "import sys; from sagen.cli import main; sys.exit(main())"
JOB = '{codes}\n[circuit]\nrole = "crank"\nsensor = "hall"\n[[trail]]\nreading = "volts"\npoint = "supply"\nstate = "key_on"\nvalue = 12.4\n'


def started(paths: str) -> float:
    """Seconds of a whole `sagen reason --stdin` that is given these lines."""
    began = time.perf_counter()
    subprocess.run(
        [sys.executable, "-c", START, "reason", "--stdin"],
        input=paths,
        text=True,
        check=True,
        capture_output=True,
    )
    return time.perf_counter() - began


def main() -> None:
    print(
        "| circuit | record 2 s at 50 kHz, ms | meter reading, ms | fault modes | weigh a fresh job, ms | a job of seven pieces, ms |\n|---|---|---|---|---|---|"
    )
    for name, spec in SPECS.items():
        machine = broken(spec, [], 1)
        state = {"speed": "rolling", "knock": "strike"}.get(spec.role, "cranking")
        recorded = seconds(lambda machine=machine, state=state: record(machine, state), 5)
        metered = seconds(lambda machine=machine: read(machine, "signal", "key_on"), 20)

        def weighed(world, pieces, spec=spec):
            case = Case(spec, pieces)
            return next_checks(case, infer(case, world=world), world=world)

        fresh = np.median(
            [seconds(lambda spec=spec, weighed=weighed: weighed(World(spec), FRESH), 1) for _ in range(5)]
        )
        world = World(spec)
        weighed(world, FRESH)
        later = seconds(lambda world=world, weighed=weighed: weighed(world, LATER), 5)
        print(
            f"| {name} | {1e3 * recorded:.0f} | {1e3 * metered:.2f} | {len(possible(spec))} | {1e3 * fresh:.0f} | {1e3 * later:.0f} |",
            flush=True,
        )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.toml"
        path.write_text(JOB.format(codes='codes = ["P0335"]'))
        empty, one, ten = (np.median([started(f"{path}\n" * count) for _ in range(5)]) for count in (0, 1, 10))
    print(
        f"\n`sagen reason --stdin`: with nothing to weigh {empty:.2f} s, with one job {one:.2f} s ({one / empty:.2f} x), each further job {1e3 * (ten - one) / 9:.0f} ms"
    )


if __name__ == "__main__":
    main()
