"""Ten bays on one PostgreSQL log at once: every change that was acknowledged is there, once, and none undid another's
unseen. `./run hostile` runs the long one."""

import argparse
import multiprocessing
import sys
import tempfile
import time
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np

from postgres import server
from sagen.model.errors import ChangedMeanwhile
from sagen.model.trail import NoteEntry
from sagen.store import moving
from sagen.store.entries import Author
from sagen.store.opening import open_log
from sagen.store.places import place_of


def write(
    folder: str, url: str, jobs: list[int], bay: int, seconds: float
) -> tuple[list[str], list[tuple[int, int, str]], int]:
    """Add and correct at random; answers what was added, what was changed (entry, new revision, words), and how often another
    bay had been faster."""
    log, rng = open_log(place_of(url, Path(folder)), Author(f"hand {bay}", f"bay {bay}")), np.random.default_rng(bay)
    added, changed, overtaken = [], [], 0
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        job_id = jobs[rng.integers(len(jobs))]
        if rng.random() < 0.5:
            words = f"{bay} {len(added)}"
            log.add_entry(job_id, NoteEntry(words))
            added.append(words)
            continue
        # The first entries of a job are everybody's: that is where bays meet.
        shared = log.job(job_id).entries[:3]
        entry = shared[rng.integers(len(shared))]
        words = f"{bay} changed {len(changed)}"
        try:
            log.correct(entry.id, NoteEntry(words), entry.revision)
            changed.append((entry.id, entry.revision + 1, words))
        except ChangedMeanwhile:
            overtaken += 1
    log.close()
    return added, changed, overtaken


def run(bays: int, seconds: float, jobs: int = 4) -> str:
    """Have bays write; answers what was wrong, "" where nothing was, and prints the figures."""
    url = server().url()
    with tempfile.TemporaryDirectory(prefix="writers-") as name:
        log = open_log(place_of(url, Path(name) / "first"))
        made = [log.add_job(f"shared {number}").id for number in range(jobs)]
        for job_id in made:
            for number in range(3):
                log.add_entry(job_id, NoteEntry(f"shared {number}"))
        with multiprocessing.get_context("spawn").Pool(bays) as pool:
            told = pool.starmap(write, [(f"{name}/{bay}", url, made, bay, seconds) for bay in range(bays)])
        entries = [entry for job_id in made for entry in log.job(job_id).entries]
        there = Counter(entry.record.text for entry in entries)
        added = [words for some, _, _ in told for words in some]
        changes = defaultdict(dict)
        for _, changed, _ in told:
            for entry_id, revision, words in changed:
                if revision in changes[entry_id]:
                    return f"entry {entry_id}: two bays were both told that they wrote revision {revision}"
                changes[entry_id][revision] = words
        wrong = [words for words in added if there[words] != 1]
        for this_entry in entries:
            if this_entry.revision != 1 + len(changes[this_entry.id]):
                wrong.append(
                    f"entry {this_entry.id} has revision {this_entry.revision}, acknowledged were {len(changes[this_entry.id])} changes"
                )
            elif changes[this_entry.id] and changes[this_entry.id][this_entry.revision] != this_entry.record.text:
                wrong.append(f"entry {this_entry.id} does not say what was acknowledged last")
        wrong += [f"{item.about}: {item.what}" for item in moving.check(log)]
        counted = {job.id: job.entries for job in log.jobs()}
        wrong += [
            f"job {item} is listed with {counted[item]}" for item in made if counted[item] != len(log.job(item).entries)
        ]
        log.close()
    print(
        f"{bays} bays, {seconds:.0f} s: {len(added)} added, {sum(len(item) for _, item, _ in told)} changed, "
        f"{sum(item for _, _, item in told)} times overtaken and told; wrong: {len(wrong)}"
    )
    return "; ".join(wrong[:5])


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--bays", type=int, default=10)
    parser.add_argument("--seconds", type=float, default=300)
    arguments = parser.parse_args()
    wrong = run(arguments.bays, arguments.seconds)
    print(wrong)
    return int(bool(wrong))


if __name__ == "__main__":
    sys.exit(main())
