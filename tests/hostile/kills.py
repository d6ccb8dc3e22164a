"""Bays that are killed while they write, into SQLite and into PostgreSQL: what was acknowledged is there, once, and nothing
else is left. `./run hostile` runs the long one."""

import argparse
import os
import signal
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from postgres import server
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store import moving
from sagen.store.opening import open_log
from sagen.store.places import LogPlace, place_of

SHEET = Sheet.from_data({}, where="kill")
SAMPLES = np.arange(30_000, dtype=np.float32)


@dataclass
class Kills:
    """What so many kills came to."""

    kills: int = 0
    acknowledged: int = 0
    lost: int = 0
    twice: int = 0
    orphans: int = 0
    trouble: int = 0

    @property
    def clean(self) -> bool:
        return not (self.lost or self.twice or self.orphans or self.trouble)


def write_until_killed(place: LogPlace, job_id: int, mark: str, out: int) -> None:
    """Write entries and captures, and say after each that it is kept."""
    log = open_log(place)
    for number in range(100_000):
        name = f"{mark}-{number}"
        if number % 3 == 2:
            capture = Capture(name, 1e4, (Channel("A", SAMPLES + np.float32(number)),))
            log.add_capture(job_id, capture, CaptureEntry(name, SHEET))
        else:
            entry = log.add_entry(job_id, NoteEntry(name))
            if number % 7 == 3:
                log.undo(job_id)
                log.redo(job_id)
            assert entry.revision
        os.write(out, f"{name}\n".encode())


def kill_rounds(count: int, folder: Path, url: str | None, seed: int) -> Kills:
    """So many bays killed one after the other, each at some moment of its writing."""
    found, rng = Kills(), np.random.default_rng(seed)
    place = place_of(url or folder, folder)
    log = open_log(place)
    job = log.add_job("killed")
    log.close()
    told: set[str] = set()
    for round_ in range(count):
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            try:
                write_until_killed(place, job.id, f"r{round_}", writing)
            finally:
                os._exit(1)
        os.close(writing)
        with os.fdopen(reading, "rb") as stream:
            first = stream.readline()  # it writes by now
            time.sleep(float(rng.uniform(0, 0.12)))
            os.kill(child, signal.SIGKILL)
            lines = [first, *stream.readlines()]
        _, status = os.waitpid(child, 0)
        assert os.WIFSIGNALED(status), "the bay ended by itself"
        told |= {line.decode().strip() for line in lines if line.endswith(b"\n")}
        found.kills += 1
        if round_ % 20 == 19 or round_ == count - 1:
            _look(found, place)
    log = open_log(place)
    names = [getattr(entry.record, "text", "") or entry.record.name for entry in log.job(job.id).entries]
    found.acknowledged = len(told)
    found.lost, found.twice = len(told - set(names)), len(names) - len(set(names))
    for this_entry in log.job(job.id).of(CaptureEntry):
        raw = log.capture(this_entry.record.token).channels[0].raw
        found.trouble += not np.array_equal(raw, SAMPLES + np.float32(this_entry.record.name.rsplit("-", 1)[1]))
    log.close()
    return found


def _look(found: Kills, place: LogPlace) -> None:
    """After an opening nothing is left over, and nothing is damaged."""
    log = open_log(place)
    named = log.kept_tokens()
    here = {path.name for path in log.captures.folder.iterdir() if path.is_dir()}
    found.orphans += len(set(log.captures.tokens()) - named) + (0 if place.on_server else len(here - named))
    found.orphans += len(list(log.captures.folder.glob("*.part")))
    found.trouble += len(moving.check(log))
    log.close()


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    arguments = parser.parse_args()
    bad = 0
    for kind in ("sqlite", "postgresql"):
        with tempfile.TemporaryDirectory(prefix="kills-") as name:
            url = server().url() if kind == "postgresql" else None
            found = kill_rounds(arguments.kills // 2, Path(name), url, arguments.seed)
            print(kind, found, flush=True)
            bad += not found.clean
    return bad


if __name__ == "__main__":
    sys.exit(main())
