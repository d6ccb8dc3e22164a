"""Examine, levels, edges, pyramid and reading a CSV at 1, 10 and 100 million samples."""

from __future__ import annotations

import resource
import sys
import tempfile
from pathlib import Path

import numpy as np

from benchmarks.timing import crank_samples, one_pass, seconds
from sagen.files import read_capture
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.signal.edges import find_edges
from sagen.signal.levels import state_levels
from sagen.signal.pyramid import Pyramid
from sagen.signal.wheel_search import read_teeth

SHEET = Sheet.from_data(
    {
        "conditions": {"state": "running"},
        "channel": [{"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}],
    }
)


def main(sizes: list[int]) -> None:
    print(
        "| samples | pass ms | examine | levels | edges | teeth | pyramid | view of 1500 px, ms | peak RAM / samples |"
    )
    print("|---|---|---|---|---|---|---|---|---|")
    for millions in sizes:
        samples = crank_samples(millions * 1_000_000)
        channel = Channel("A", samples)
        capture = Capture("bench", 1e6, (channel,))
        unit = one_pass(samples)
        rounds = 5 if millions < 100 else 3
        edges = find_edges(samples, lower=1.3, upper=3.7)
        times = edges.falls / 1e6
        pyramid = Pyramid(samples)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        row = [
            seconds(lambda c=capture: examine(c, SHEET), rounds) / unit,
            seconds(lambda c=channel: state_levels(c), rounds) / unit,
            seconds(lambda s=samples: find_edges(s, lower=1.3, upper=3.7), rounds) / unit,
            seconds(lambda t=times: read_teeth(t), rounds) / unit,
            seconds(lambda s=samples: Pyramid(s), rounds) / unit,
        ]
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        count = len(samples)
        view = 1e3 * seconds(lambda p=pyramid, n=count: p.view(0, n, 1500), 20)
        cells = " | ".join(f"{item:.1f}" for item in row)
        print(
            f"| {millions} M | {1e3 * unit:.2f} | {cells} | {view:.2f} | {peak * 1024 / samples.nbytes:.1f} (before {before * 1024 / samples.nbytes:.1f}) |"
        )
        sys.stdout.flush()
    three_channels()
    csv()


def three_channels(count: int = 10_000_000) -> None:
    """Crank, cam and a coil of 10 million samples each, in passes over one channel."""
    crank = crank_samples(count)
    rng = np.random.default_rng(1)
    turns = np.arange(count) * (3000 / 60 / 1e6)
    cam = (np.where(turns / 2 % 1 < 0.3, 0.1, 4.9) + rng.normal(0, 0.02, count)).astype(np.float32)
    place = turns % 1.0 * 60
    coil = (np.sin(2 * np.pi * place) * (place < 58) * 3 + rng.normal(0, 0.02, count)).astype(np.float32)
    rows = [
        {"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0},
        {"column": "C", "role": "cam", "sensor": "hall", "pull_up": 5.0},
        {"column": "R", "role": "speed", "sensor": "reluctance", "wheel": "60-2"},
    ]
    sheet = Sheet.from_data({"conditions": {"state": "running"}, "channel": rows})
    capture = Capture("bench", 1e6, (Channel("A", crank), Channel("C", cam), Channel("R", coil)))
    unit = one_pass(crank)
    taken = seconds(lambda: examine(capture, sheet), 7)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    print(f"\nThree channels of {count:,} samples: {1e3 * taken:.0f} ms, {taken / unit:.0f} passes over one (bar 60)")
    print(f"peak memory of the process {peak / (3 * crank.nbytes):.1f} times the raw samples")


def csv(rows: int = 2_000_000) -> None:
    """Reading a text table against counting its lines."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.csv"
        block = np.column_stack([np.arange(rows) / 1e6, crank_samples(rows)])
        np.savetxt(path, block, fmt="%.6g", delimiter=",", header="Time (s),A (V)", comments="")
        data = path.read_bytes
        floor = seconds(lambda: data().count(b"\n"), 3)
        taken = seconds(lambda: read_capture(path), 3)
        print(f"\nCSV of {rows:,} rows x 2: {taken:.2f} s, {taken / floor:.1f} times reading it and counting its lines")


if __name__ == "__main__":
    main([int(item) for item in sys.argv[1:]] or [1, 10, 100])
