"""The live page's process at 4 channels x 1 MS/s, and an hour of 4 x 200 kS/s to disk.

`python -m benchmarks.run_live [SECONDS] [HOUR_SECONDS]`. The recorder is another process that speaks the protocol on
127.0.0.1; what is measured is the process with the window: frames, its share of one core, blocks lost, memory.
"""

from __future__ import annotations

import multiprocessing
import os
import resource
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from benchmarks.timing import crank_samples

RATE, CHANNELS = 1e6, 4


def _serve(pipe) -> None:
    """A recorder of four channels that gives what its clock says, from a minute that is made once."""
    from sagen.instruments.served import Bench, StandInServers

    class Ready(Bench):
        def __post_init__(self):
            row = np.round(crank_samples(4_000_000) * 5_000).astype("<i2")
            self.names = ()
            self.rows = np.stack([row, np.full_like(row, 24_000), np.full_like(row, 150), np.roll(row, 7)])
            self.begin()

        def _more(self):
            self.names, self.scales = tuple(f"CH{k + 1}" for k in range(CHANNELS)), (2e-4,) * CHANNELS
            self.made += self.rows.shape[1]
            self.waiting.append(self.rows)

    from sagen.kinds import broken
    from sagen.model.circuit import CircuitSpec

    bench = Ready(broken(CircuitSpec(role="crank", sensor="hall", wheel="60-2"), [], 1), RATE)
    servers = StandInServers(bench)
    pipe.send(servers.serve("recorder"))
    pipe.recv()


def _memory_mb() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 1e6


def _cpu() -> float:
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


def _threads(before: dict, took: float) -> dict:
    """Percent of a core of each thread since `before`."""
    out = {}
    for path in Path("/proc/self/task").iterdir():
        fields = (path / "stat").read_text().rpartition(")")
        ticks = sum(int(field) for field in fields[2].split()[11:13])
        name = f"{fields[0].partition('(')[2]} {path.name}"
        out[name] = 100 * ticks / os.sysconf("SC_CLK_TCK") / took - (before.get(name, 0) / took)
    return out


def live(seconds: float) -> None:
    """The live page over the wire."""
    from PySide6.QtCore import QEventLoop, QSettings, QTimer

    from sagen.desk.app import make_application, make_window, own_log

    here, there = multiprocessing.get_context("spawn").Pipe()
    server = multiprocessing.get_context("spawn").Process(target=_serve, args=(there,), daemon=True)
    server.start()
    port = here.recv()
    make_application()
    with tempfile.TemporaryDirectory(prefix="sagen-live-") as folder:
        settings = QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat)
        settings.setValue("bench/recorder", f"tcp://127.0.0.1:{port}")
        window = make_window(settings)
        window.show()
        window.workspace.open_log(own_log(Path(folder) / "log"))

        def spin(span: float) -> None:
            loop = QEventLoop()
            QTimer.singleShot(round(1000 * span), loop.quit)
            loop.exec()

        spin(2)
        window.workspace.add_job("Bench", "", 4, [])
        spin(1)
        window.show_with_job("live")
        page = window.page("live")
        page.start()
        spin(8)
        if page.live is None:
            raise SystemExit(page.said.text())
        began, cpu, frames, memory = time.monotonic(), _cpu(), page.strip.frames, _memory_mb()
        most, threads = memory, _threads({}, 1.0)
        while time.monotonic() - began < seconds:
            spin(min(10.0, seconds))
            most = max(most, _memory_mb())
        took = time.monotonic() - began
        missing = sum(stop - first for first, stop in page.live.recording.holes)
        lost = [item.said for item in page.live.happened if item.kind in ("lost", "gone")]
        print(f"live, 4 x 1 MS/s, {took:.0f} s: {(page.strip.frames - frames) / took:.1f} frames a second, "
              f"{100 * (_cpu() - cpu) / took:.0f} % of one core, {missing} samples lost ({len(lost)} times), "
              f"{page.live.samples / 1e6:.1f} M samples a channel, memory {memory:.0f} to {most:.0f} MB")  # fmt: skip
        for name, share in sorted(_threads(threads, took).items(), key=lambda thread: -thread[1])[:5]:
            print(f"    {name}: {share:.0f} %")
        if lost:
            print("  ", lost[:3])
        window.close()
        spin(0.5)
    here.send("end")
    server.join(5)


def hour(seconds: float) -> None:
    """An hour of 4 x 200 kS/s to disk as fast as the disk takes it, and opening it again."""
    from sagen.files.long_record import LongRecord, long_pyramids, read_long
    from sagen.model.capture import Channel

    rate, block = 200_000.0, 20_000
    row = np.round(crank_samples(1_000_000, rate) * 5_000).astype(np.int16)
    rows = np.stack([row, np.roll(row, 5), np.full_like(row, 24_000), np.full_like(row, 150)])
    channels = tuple(Channel(f"CH{k}", np.empty(0, np.int16), "V", 2e-4) for k in range(CHANNELS))
    with tempfile.TemporaryDirectory(prefix="sagen-hour-", dir=os.environ.get("SAGEN_BENCH_DIR")) as folder:
        path = Path(folder) / "hour.record"
        began = time.monotonic()
        record = LongRecord(path, "hour", rate, channels)
        most = _memory_mb()
        for number in range(int(seconds * rate / block)):
            at = number * block % row.size
            record.append(rows[:, at : at + block])
            if number % 500 == 0:
                most = max(most, _memory_mb())
        record.close()
        wrote = time.monotonic() - began
        size = sum(this_path.stat().st_size for this_path in path.iterdir()) / 1e9
        began = time.monotonic()
        capture = read_long(path)
        drawn = long_pyramids(path, capture)
        for each in drawn.values():
            each.view(0, capture.samples, 1200)
        opened = time.monotonic() - began
        pans = []
        for share in np.linspace(0, 0.9, 60):
            began = time.monotonic()
            for item in drawn.values():
                item.view(share * capture.samples, (share + 0.02) * capture.samples, 1200)
            pans.append(time.monotonic() - began)
        print(f"disk, 4 x 200 kS/s, {capture.seconds:.0f} s: {size:.2f} GB, {wrote / capture.seconds:.3f} s of work a second "
              f"recorded, memory at most {most:.0f} MB, opened and drawn in {1e3 * opened:.0f} ms, "
              f"{1e3 * np.median(pans):.1f} ms a pan")  # fmt: skip


def main(live_seconds: float = 60.0, hour_seconds: float = 3600.0) -> None:
    hour(hour_seconds)
    live(live_seconds)


if __name__ == "__main__":
    main(*(float(item) for item in sys.argv[1:]))
