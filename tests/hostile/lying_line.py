"""A recorder whose line lies: bytes turned, thrown in, held back, said twice, dripped or never ended, heads of blocks that are
too long, and hang-ups at any byte. What was handed over is kept and read back to the sample; each recording ends in its time,
with a sentence if anything; memory stays flat. `./run hostile` runs it for an hour."""

import argparse
import random
import resource
import select
import socket
import sys
import tempfile
import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from proxy import Proxy

from sagen.casework.recording import Recording
from sagen.files.long_record import read_long
from sagen.instruments.scpi import ScpiRecorder
from sagen.instruments.served import Bench, StandInServers
from sagen.kinds import broken
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
SECONDS, PATIENCE_S, LONGEST_S, MOST_MB = 0.6, 0.6, 20.0, 1024
LIES = (
    "turn",
    "throw in",
    "hold back",
    "twice",
    "drip",
    "endless",
    "long head",
    "hang up",
    "escape",
    "silence",
    "other answer",
)


class LyingLine(Proxy):
    """A proxy before a stand-in's recorder; from some byte on what the instrument sends is not what arrives."""

    def __init__(self, port: int, lie: str, seed: int):
        self.lie, self.random = lie, random.Random(seed)
        self.after = int(10 ** self.random.uniform(0.0, 5.2))
        self.earlier = b"SAGEN,OTHER,7,0\n"
        super().__init__(port)
        self.address = f"tcp://127.0.0.1:{self.port}"

    def carry(self, here: socket.socket, there: socket.socket) -> None:
        passed = 0
        with here, there, suppress(OSError):
            while self.going:
                ready, _, _ = select.select([here, there], [], [], 0.05)
                if here in ready:
                    data = here.recv(65536)
                    if not data:
                        return
                    there.sendall(data)
                if there in ready:
                    data = there.recv(65536)
                    if not data:
                        return
                    if passed + len(data) <= self.after:
                        here.sendall(data)
                    elif not self._lied(here, data, max(self.after - passed, 0)):
                        return
                    passed += len(data)
                    self.earlier = data[:200]

    def _lied(self, here: socket.socket, data: bytes, at: int) -> bool:
        """Send what does not arrive as it was; False where the line is cut."""
        told, rest = data[:at], data[at:]
        noise = self.random.randbytes(self.random.randint(1, 64))
        if self.lie == "hang up":
            here.sendall(told)
            self.after = int(10 ** self.random.uniform(0.0, 5.2))
            return False
        if self.lie == "silence":
            here.sendall(told)
            self.after = 0
            return True
        if self.lie == "drip":
            for byte in data:
                if not self.going:
                    return False
                here.sendall(bytes([byte]))
                time.sleep(0.05)
            return True
        if self.lie == "endless":
            while self.going:
                here.sendall(b"7" * 65536)
        made = {
            "turn": told + bytes(byte ^ (1 << self.random.randrange(8)) for byte in rest[:8]) + rest[8:],
            "throw in": told + noise + rest,
            "hold back": told + rest[self.random.randint(1, 40) :],
            "twice": told + rest + rest,
            "long head": told + b"#9999999999" + rest,
            "escape": told + b"\x1b[2J\x1b]0;x\x07" + rest,
            "other answer": self.earlier + rest,
        }[self.lie]
        here.sendall(made)
        self.after = 0 if self.random.random() < 0.3 else 1 << 40  # again and again, or once
        return True


@dataclass
class Lied:
    """What so many recordings came to."""

    tried: int = 0
    recorded: int = 0  #: gave samples
    refused: int = 0
    worst_s: float = 0.0
    memory_mb: int = 0
    wrong: list[str] = field(default_factory=list)


def one(line: LyingLine, folder: Path, found: Lied) -> None:
    """One recording over a line that lies, and what is left of it."""
    handed: list[np.ndarray] = []
    said: list[str] = []
    what = f"{line.lie} after {line.after}"
    began = time.monotonic()
    try:
        recorder = ScpiRecorder(line.address)
        try:
            recording = Recording(
                "a.record", recorder, lambda event: said.append(event.said), handed.append, folder=folder / "a.record"
            )
            recording.run(SECONDS, PATIENCE_S)
            found.recorded += 1
        finally:
            recorder.close()
    except SagenError as error:
        said.append(str(error))
        found.refused += 1
    except Exception as error:
        found.wrong.append(f"{what}: {error!r}")
    took = time.monotonic() - began
    found.worst_s = max(found.worst_s, took)
    if took > LONGEST_S:
        found.wrong.append(f"{what}: {took:.0f} s")
    if any(not text.isprintable() for text in said):
        found.wrong.append(f"{what}: {next(text for text in said if not text.isprintable())!r}")
    if handed:
        kept = read_long(folder / "a.record")
        whole = np.concatenate([item[0] for item in handed])
        there = np.ones(kept.samples, bool)
        for first, stop in kept.holes:
            there[first:stop] = False
        if not np.array_equal(np.asarray(kept.channels[0].raw)[there], whole):
            found.wrong.append(f"{what}: {len(whole)} samples were handed over, {int(there.sum())} are kept")


def rounds(count: int, seed: int, seconds: float = np.inf) -> Lied:
    """So many recordings, or as many as there is time for, with every lie by turns."""
    found, ends = Lied(), time.monotonic() + seconds
    servers = StandInServers(Bench(broken(SPEC, [], 4), fast=True))
    try:
        port = servers.serve("recorder")
        for number in range(count):
            if time.monotonic() > ends:
                break
            line = LyingLine(port, LIES[number % len(LIES)], seed + number)
            try:
                with tempfile.TemporaryDirectory(prefix="lying-line-") as name:
                    one(line, Path(name), found)
            finally:
                line.close()
            found.tried += 1
            found.memory_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
            if found.memory_mb > MOST_MB:
                found.wrong.append(f"{line.lie}: {found.memory_mb} MB")
                break
    finally:
        servers.close()
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=3600.0)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    arguments = parser.parse_args()
    found = rounds(1 << 30, arguments.seed, arguments.seconds)
    print(found)
    return len(found.wrong)


if __name__ == "__main__":
    sys.exit(main())
