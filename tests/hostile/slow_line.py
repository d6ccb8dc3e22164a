"""A bay whose server is behind TLS and a slow line: every piece is 50 ms late, one in a hundred much later, and now and then the
line is cut. What was acknowledged is at the server, once, and a window that writes meanwhile never stands still.
`./run hostile` runs the long one."""

import argparse
import os
import random
import select
import socket
import sys
import tempfile
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from proxy import Proxy
from PySide6.QtCore import QSettings, QTimer

from conftest import close, settle, spin
from postgres import Server, until
from sagen.desk.app import make_application, make_window, own_log
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store import moving
from sagen.store.opening import open_log
from sagen.store.places import place_of

LATE_S, LOST, RESENT_S, CUT = 0.05, 0.01, 1.0, 0.001


class SlowLine(Proxy):
    """A proxy on loopback before a server; `late` off, it passes all on at once."""

    def __init__(self, port: int, seed: int):
        self.random, self.cuts, self.late = random.Random(seed), 0, True
        super().__init__(port)

    def carry(self, here: socket.socket, there: socket.socket) -> None:
        waiting: list[tuple[float, socket.socket, bytes]] = []
        last = {here: 0.0, there: 0.0}
        with here, there, suppress(OSError):
            while self.going:
                ready, _, _ = select.select([here, there], [], [], 0.005)
                for side in ready:
                    data = side.recv(65536)
                    if not data or (self.late and self.random.random() < CUT):
                        self.cuts += bool(data)
                        return
                    other = there if side is here else here
                    late = (LATE_S + RESENT_S * (self.random.random() < LOST)) if self.late else 0.0
                    # What is sent later never arrives before.
                    last[other] = max(time.monotonic() + late, last[other])
                    waiting.append((last[other], other, data))
                while waiting and waiting[0][0] <= time.monotonic():
                    _, other, data = waiting.pop(0)
                    other.sendall(data)
                waiting.sort(key=lambda item: item[0])


@dataclass
class Slow:
    """What writing over a slow line came to."""

    acknowledged: int = 0
    lost: int = 0
    twice: int = 0
    cuts: int = 0
    longest_still_s: float = 0.0
    trouble: list[str] = field(default_factory=list)


def run(entries: int, seed: int) -> Slow:
    """Write so many entries, and a capture for each ten, over a slow line and TLS, from a log and from a window."""
    found, server = Slow(), Server()
    certificate = server.with_tls()
    url = server.url()
    line = SlowLine(server.port, seed)
    slow = url.replace(f":{server.port}/", f":{line.port}/") + f"?sslmode=verify-full&sslrootcert={certificate}"
    with tempfile.TemporaryDirectory(prefix="slow-line-") as name:
        folder = Path(name)
        # A log that was never read cannot be opened over a line that is cut just then: that is said, and no entry is lost by it.
        line.late = False
        log = open_log(place_of(slow, folder / "bay"))
        job = log.add_job("Brindle 2")
        log.job(job.id)
        line.late = True
        told = []
        for number in range(entries):
            log.add_entry(job.id, NoteEntry(f"bay {number}"))
            told.append(f"bay {number}")
            if number % 10 == 9:
                capture = Capture(
                    f"capture {number}", 1e4, (Channel("A", np.arange(30_000, dtype=np.float32) + number),)
                )
                log.add_capture(job.id, capture, CaptureEntry(f"capture {number}", Sheet.from_data({}, where="slow")))
                told.append(f"capture {number}")
        log.follow(lambda _job: None)
        if until(lambda: not log.waiting, 60) is None:
            found.trouble.append(f"{log.waiting} still wait")
        log.close()
        told += _window(slow, line, folder, job.id, entries // 4, found)
        line.late = False
        whole = open_log(place_of(url, folder / "whole"))
        there = Counter(getattr(e.record, "text", "") or e.record.name for e in whole.job(job.id).entries)
        found.acknowledged, found.cuts = len(told), line.cuts
        found.lost = sum(there[item] == 0 for item in told)
        found.twice = sum(count > 1 for count in there.values())
        found.trouble += [f"{item.about}: {item.what}" for item in moving.check(whole)]
        whole.close()
    line.close()
    return found


def _window(url: str, line: SlowLine, folder: Path, job_id: int, entries: int, found: Slow) -> list[str]:
    """Notes typed in a window whose server is slow; how long its event loop stood still at most goes into `found`."""
    make_application()
    window = make_window(QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat), demo=False)
    window.show()
    line.late = False
    window.workspace.open_log(own_log(place_of(url, folder / "window")))
    settle(window, 3000)
    window.workspace.open_job(job_id)
    settle(window, 3000)
    line.late = True
    beats = [time.monotonic()]
    pulse = QTimer()
    pulse.timeout.connect(lambda: beats.append(time.monotonic()))
    pulse.start(5)
    told = []
    for number in range(entries):
        window.workspace.add(NoteEntry(f"window {number}"))
        told.append(f"window {number}")
        spin(20)
    settle(window, 6000)
    pulse.stop()
    found.longest_still_s = float(np.diff(beats).max())
    until(lambda: not window.workspace.log.waiting, 60)
    close(window, 3000)
    return told


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--entries", type=int, default=400)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    arguments = parser.parse_args()
    found = run(arguments.entries, arguments.seed)
    print(found)
    return int(bool(found.lost or found.twice or found.trouble or found.longest_still_s > 0.5))


if __name__ == "__main__":
    sys.exit(main())
