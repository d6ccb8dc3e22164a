"""Commands that are killed at any moment: convert, export, import, backup, restore and record. What stands under a name
afterwards is the old or the new, whole; a second try works; what a recording had on the disk by then is read back.
`./run hostile` runs the long one."""

import argparse
import os
import shutil
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from sagen.cli import main as sagen
from sagen.files import read_capture, write_capture
from sagen.files.long_record import is_long, read_long
from sagen.instruments.served import Bench, StandInServers
from sagen.kinds import broken
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store import moving
from sagen.store.opening import open_log

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
FORMATS = (".csv", ".npz", ".wav", ".mf4")
SAMPLES = 120_000


@dataclass
class Killed:
    """What so many kills of one command came to."""

    verb: str
    kills: int = 0
    finished: int = 0  #: ended before the signal came
    whole: int = 0  #: what was there afterwards, and whole
    wrong: list[str] = field(default_factory=list)


def forked(words: list) -> int:
    """Begin a command in a fork, silent; its process."""
    child = os.fork()
    if child == 0:
        status = 1
        with suppress(BaseException):
            nothing = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nothing, 1)
            os.dup2(nothing, 2)
            status = sagen([str(word) for word in words])
        os._exit(status)
    return child


def killed(words: list, after: float, number: int = signal.SIGKILL) -> bool:
    """Run a command in a fork and kill it after so many seconds; whether it was killed before it ended."""
    child = forked(words)
    time.sleep(after)
    with suppress(ProcessLookupError):
        os.kill(child, number)
    _, status = os.waitpid(child, 0)
    return os.WIFSIGNALED(status)


def ran(words: list) -> bool:
    """Run a command in a fork to its end; whether it succeeded."""
    return os.waitstatus_to_exitcode(os.waitpid(forked(words), 0)[1]) == 0


def filled(place: Path) -> int:
    """A log with one job in it; its number."""
    log = open_log(place)
    job = log.add_job("Brindle 2")
    log.add_entry(job.id, NoteEntry("gap 0.9 mm"))
    for number in range(3):
        capture = Capture(f"{number}.npz", 1e4, (Channel("A", ramp() + np.float32(number)),))
        log.add_capture(job.id, capture, CaptureEntry(f"{number}.npz", Sheet.from_data({}, where="kill")))
    log.close()
    return job.id


def ramp() -> np.ndarray:
    """Values between -1 and 1 that every format keeps."""
    return (np.arange(SAMPLES) % 1000 / 1000 - 0.5).astype(np.float32)


def sound_log(place: Path, most: int = 1) -> str:
    """What is wrong with a log that should hold the job of `filled` at most so many times, "" if nothing."""
    log = open_log(place)
    try:
        found = moving.check(log)
        jobs = log.jobs()
        if found:
            return f"{len(found)} damaged: {found[0]}"
        if any(len(log.job(job.id).entries) != 4 for job in jobs):
            return "a job in part"
        return "" if len(jobs) <= most else f"{len(jobs)} jobs of {most}"
    finally:
        log.close()


def convert(folder: Path, rng, found: Killed, suffix: str) -> None:
    source, target = folder / "in.csv", folder / f"out{suffix}"
    if not source.exists():
        write_capture(source, Capture("in", 1e4, (Channel("A", ramp()),)))
    old = rng.random() < 0.5
    if old:
        write_capture(target, Capture("old", 1e4, (Channel("A", np.zeros(50, np.float32)),)))
    else:
        target.unlink(missing_ok=True)
    _count(found, ["convert", source, "-o", target], rng)
    if target.exists():
        samples = read_capture(target).samples
        if samples not in (SAMPLES, 50 if old else SAMPLES):
            found.wrong.append(f"{suffix}: {samples} samples")
        found.whole += 1
    elif old:
        found.wrong.append(f"{suffix}: what stood there is gone")


def export(folder: Path, rng, found: Killed) -> None:
    target = folder / "job.zip"
    target.unlink(missing_ok=True)
    job = _source(folder)
    _count(found, ["--log", folder / "log", "log", "export", job, "-o", target], rng)
    if target.exists():
        shutil.rmtree(folder / "other", ignore_errors=True)
        log = open_log(folder / "other")
        moving.import_job(log, target)
        log.close()
        found.whole += 1
        _look(found, folder / "other")
    _look(found, folder / "log")


def import_(folder: Path, rng, found: Killed) -> None:
    job = _source(folder)
    bundle = folder / "sound.zip"
    if not bundle.exists() and not ran(["--log", folder / "log", "log", "export", job, "-o", bundle]):
        found.wrong.append("could not export")
    shutil.rmtree(folder / "into", ignore_errors=True)
    open_log(folder / "into").close()
    words = ["--log", folder / "into", "log", "import", bundle]
    first = found.verb not in _usual
    _count(found, words, rng)
    _look(found, folder / "into", 1 + first)
    if not ran(words):
        found.wrong.append("a second import fails")
    _look(found, folder / "into", 2 + first)
    found.whole += 1


def backup(folder: Path, rng, found: Killed) -> None:
    _source(folder)
    target = folder / "all.zip"
    target.unlink(missing_ok=True)
    _count(found, ["--log", folder / "log", "log", "backup", target], rng)
    if target.exists():
        shutil.rmtree(folder / "back", ignore_errors=True)
        if not ran(["--log", folder / "back", "log", "restore", target]):
            found.wrong.append("a backup that stands there cannot be restored")
        else:
            _look(found, folder / "back")
            found.whole += 1


def restore(folder: Path, rng, found: Killed) -> None:
    _source(folder)
    made = folder / "sound-backup.zip"
    if not made.exists() and not ran(["--log", folder / "log", "log", "backup", made]):
        found.wrong.append("could not back up")
    target = folder / "restored"
    shutil.rmtree(target, ignore_errors=True)
    words = ["--log", target, "log", "restore", made]
    _count(found, words, rng)
    if target.exists() and any(target.iterdir()):
        _look(found, target)
        found.whole += 1
        shutil.rmtree(target)
    if not ran(words):
        found.wrong.append("a second restore fails")
    else:
        _look(found, target)


def _source(folder: Path) -> int:
    if not (folder / "log").exists():
        filled(folder / "log")
    return 1


def _look(found: Killed, place: Path, most: int = 1) -> None:
    try:
        if wrong := sound_log(place, most):
            found.wrong.append(f"{place.name}: {wrong}")
    except SagenError as error:
        found.wrong.append(f"{place.name}: {error}")


_usual: dict[str, float] = {}


def _count(found: Killed, words: list, rng) -> None:
    """Kill one command at any moment of its usual time."""
    if found.verb not in _usual:
        began = time.monotonic()
        if not ran(words):
            found.wrong.append("it fails where nobody kills it")
        _usual[found.verb] = time.monotonic() - began
    if killed(words, float(rng.uniform(0.0, 1.1 * _usual[found.verb]))):
        found.kills += 1
    else:
        found.finished += 1


def record(folder: Path, rng, found: Killed, suffix: str, address: str) -> None:
    """Killed while it records: what had come by then is read back; told to end, it keeps what there is under its name."""
    out = folder / f"live{suffix}"
    beside = out.with_name(out.name + ".record")
    shutil.rmtree(beside, ignore_errors=True)
    out.unlink(missing_ok=True)
    number = [signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP][int(rng.integers(4))]
    words = ["record", "--from", address, "--seconds", "20", "-o", out]
    found.kills += 1
    killed(words, float(rng.uniform(0.3, 1.6)), number)
    if is_long(beside):
        try:
            found.whole += read_long(beside).samples > 0
        except SagenError as error:
            if "no sample was written" not in str(error):  # killed before the first block came
                found.wrong.append(f"{suffix}: {error}")
    elif out.exists():
        if read_capture(out).samples <= 0:
            found.wrong.append(f"{suffix}: an empty file")
        found.whole += 1
    elif beside.exists():
        found.wrong.append(f"{suffix}: {beside.name} is no record")


def rounds(count: int, seed: int, folder: Path, only: tuple[str, ...] = ()) -> list[Killed]:
    """So many kills of each command, or of those named."""
    rng = np.random.default_rng(seed)
    out = []

    def run(name: str, what: Callable, *more) -> None:
        if only and name not in only:
            return
        found = Killed(name)
        here = folder / name.replace(" ", "-")
        here.mkdir(exist_ok=True)
        for _ in range(count):
            what(here, rng, found, *more)
        out.append(found)

    for suffix in FORMATS:
        run(f"convert {suffix}", convert, suffix)
    for name, what in (("export", export), ("import", import_), ("backup", backup), ("restore", restore)):
        run(name, what)
    servers = StandInServers(Bench(broken(SPEC, [], 4), fast=False))
    try:
        address = f"tcp://127.0.0.1:{servers.serve('recorder')}"
        for suffix in FORMATS:
            run(f"record {suffix}", record, suffix, address)
    finally:
        servers.close()
    return out


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=200, help="of each command")
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--only", nargs="*", default=(), help='such as "record .csv"')
    arguments = parser.parse_args()
    bad = 0
    with tempfile.TemporaryDirectory(prefix="kill-verbs-") as name:
        for found in rounds(arguments.kills, arguments.seed, Path(name), tuple(arguments.only)):
            print(found, flush=True)
            bad += len(found.wrong)
    return bad


if __name__ == "__main__":
    sys.exit(main())
