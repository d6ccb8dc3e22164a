"""The longest gap of a 5 ms tick in the interface while a capture is read, examined and drawn in the background."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QEventLoop, QSettings, QTimer

from benchmarks.timing import crank_samples
from sagen.desk.app import make_application, make_window, own_log


def longest_gap(window, start, most_s: float = 120.0) -> tuple[float, float]:
    """Longest time between two ticks, ms, and how long the work took, s."""
    ticks: list[float] = []
    timer = QTimer()
    timer.setInterval(5)
    timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
    timer.start()
    began = time.perf_counter()
    start()
    while time.perf_counter() - began < most_s:
        loop = QEventLoop()
        QTimer.singleShot(30, loop.quit)
        loop.exec()
        if window.workspace.idle:
            break
    took = time.perf_counter() - began
    # What follows the work is laid out and painted within the next turns of the loop.
    loop = QEventLoop()
    QTimer.singleShot(250, loop.quit)
    loop.exec()
    timer.stop()
    return 1e3 * float(np.diff(ticks).max()), took


def _row(what: str, measure, times: int) -> None:
    rows = np.array([measure() for _ in range(times)])
    gaps = rows[:, 0]
    print(
        f"| {what} | {gaps[0]:.0f} | {np.median(gaps):.0f} | {gaps.max():.0f} | {np.median(rows[:, 1]):.1f} |",
        flush=True,
    )


def main() -> None:
    make_application()
    folder = Path(tempfile.mkdtemp(prefix="sagen-gap-"))
    window = make_window(QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    longest_gap(window, lambda: window.workspace.open_log(own_log(folder / "log")))
    window.workspace.add_job("Bench", "", 4, [])
    for _ in range(20):  # what a technician needs to reach for a file: pages are made ready meanwhile
        longest_gap(window, lambda: None)
    volts = crank_samples(10_000_000)
    np.savez(folder / "ten.npz", CH1=volts, sfreq=1e6)
    from sagen.files import write_capture
    from sagen.model.capture import Capture, Channel

    write_capture(folder / "two.mf4", Capture("two", 1e6, (Channel("CH1", volts[:2_000_000]),)))
    print("| while | longest gap, ms: first | median | worst | takes, s |\n|---|---|---|---|---|")
    _row("nothing is done", lambda: longest_gap(window, lambda: None), 5)
    for name in ("ten.npz", "two.mf4"):
        reading, keeping = [], []
        for _ in range(5):
            reading.append(longest_gap(window, lambda name=name: window.workspace.bring_in(folder / name)))
            keeping.append(longest_gap(window, window.page("incoming")._keep))
        _row(f"reading {name}", iter(reading).__next__, 5)
        _row(f"examining and keeping {name}", iter(keeping).__next__, 5)
    window.close()


if __name__ == "__main__":
    main()
