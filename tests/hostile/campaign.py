"""The hostile campaign: so many mutants of every kind of file, and what became of them. `./run hostile` runs the long one."""

import argparse
import multiprocessing
import os
import resource
import shutil
import tempfile
import time
import traceback
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from mutants import damaged_rows, mutated, read_any, seeds

from sagen.model.errors import SagenError

LONGEST_S, LONGEST_SAID = 10.0, 200


@dataclass
class Figures:
    """What a run of mutants came to."""

    tried: int = 0
    read: int = 0
    refused: int = 0
    faults: list[str] = field(default_factory=list)
    worst_s: tuple[float, str] = (0.0, "")
    memory: int = 0  #: bytes, the most that any process filled
    by_kind: Counter = field(default_factory=Counter)

    def add(self, other: "Figures") -> None:
        self.tried, self.read, self.refused = (
            self.tried + other.tried,
            self.read + other.read,
            self.refused + other.refused,
        )
        self.faults += other.faults
        self.worst_s = max(self.worst_s, other.worst_s)
        self.memory = max(self.memory, other.memory)
        self.by_kind += other.by_kind

    def __str__(self) -> str:
        return (
            f"{self.tried} mutants: {self.read} read, {self.refused} refused, {len(self.faults)} faults; worst "
            f"{self.worst_s[0]:.2f} s ({self.worst_s[1]}), most memory {self.memory >> 20} MiB"
        )


def wrong_with(path: Path) -> tuple[str, str]:
    """What became of a file, "read" or "refused", and what was wrong with that, "" where nothing was."""
    try:
        read_any(path)
        return "read", ""
    except SagenError as error:
        said = str(error)
        if len(said) >= LONGEST_SAID or not said.isprintable() or not said.strip():
            return "refused", f"a refusal that is no short sentence: {said!r}"
        return "refused", ""
    except Exception:
        return "refused", traceback.format_exc(limit=-4)


def run(count: int, seed: int, keep: Path | None = None) -> Figures:
    """Try `count` mutants in this process; those that are not taken as they should be are kept in `keep`."""
    figures, rng = Figures(), np.random.default_rng(seed)
    with tempfile.TemporaryDirectory(prefix="hostile-") as name:
        passing = Path(name) / "tmp"
        passing.mkdir()
        before, tempfile.tempdir = tempfile.tempdir, str(passing)
        try:
            (Path(name) / "seeds").mkdir()
            sound = seeds(Path(name) / "seeds")
            names, others = list(sound), list(sound.values())
            for number in range(count):
                kind = names[number % len(names)]
                folder = Path(name) / f"m{number}"
                folder.mkdir()
                path = folder / kind
                if kind == "jobs.sqlite" and rng.random() < 0.6:
                    path.write_bytes(sound[kind])
                    damaged_rows(rng, path)
                else:
                    path.write_bytes(mutated(rng, sound[kind], others))
                mutant = path.read_bytes()
                began = time.perf_counter()
                became, wrong = wrong_with(path)
                took = time.perf_counter() - began
                left = [
                    str(this_path)
                    for this_path in passing.rglob("*")
                    if this_path.parent != passing or not this_path.name.startswith("sagen-")
                ]
                if not wrong and took > LONGEST_S:
                    wrong = f"{took:.1f} s"
                if not wrong and left:
                    wrong = f"left in the temporary folder: {left}"
                figures.tried += 1
                figures.read += became == "read"
                figures.refused += became == "refused"
                figures.by_kind[f"{kind} {became}"] += 1
                figures.worst_s = max(figures.worst_s, (took, kind))
                if wrong:
                    figures.faults.append(f"seed {seed}, mutant {number}, {kind}: {wrong}")
                    if keep is not None:
                        keep.mkdir(exist_ok=True, parents=True)
                        (keep / f"{seed}-{number}-{kind}").write_bytes(mutant)
                for item in left:
                    shutil.rmtree(passing / item, ignore_errors=True)
                shutil.rmtree(folder, ignore_errors=True)
        finally:
            tempfile.tempdir = before
    usage = (resource.getrusage(each).ru_maxrss << 10 for each in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    figures.memory = max(usage)
    return figures


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--mutants", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--keep", type=Path, default=Path("hostile-found"))
    arguments = parser.parse_args()
    figures, workers, portion = Figures(), os.cpu_count() or 2, 200
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        runs = [
            pool.submit(run, portion, arguments.seed + k, arguments.keep)
            for k in range(max(1, arguments.mutants // portion))
        ]
        for this_run in runs:
            figures.add(this_run.result())
            print(figures, flush=True)
    for fault in figures.faults:
        print(fault)
    for kind, count in sorted(figures.by_kind.items()):
        print(f"  {kind}: {count}")
    return int(bool(figures.faults))


if __name__ == "__main__":
    raise SystemExit(main())
