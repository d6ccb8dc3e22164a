"""From spawning the process to the first paint, against a bare QMainWindow; rounds are interleaved."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time

BARE = """
from PySide6.QtWidgets import QApplication, QMainWindow
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event); print("painted", flush=True); app.exit()
app = QApplication([]); w = Window(); w.menuBar().addMenu("File"); w.addToolBar("x"); w.resize(1280, 800); w.show(); app.exec()
"""
SHELL = """
import tempfile
from PySide6.QtCore import QSettings, QTimer
from sagen.desk.app import make_application, make_shell
from sagen.desk.frame import MainWindow
seen = MainWindow.paintEvent
app = make_application()
def paint(self, event):
    seen(self, event); print("painted", flush=True); QTimer.singleShot(0, app.quit)
MainWindow.paintEvent = paint
w = make_shell(QSettings(tempfile.mktemp(), QSettings.Format.IniFormat)); w.show(); app.exec()
"""
PLOTS = """
import numpy as np, tempfile
from PySide6.QtCore import QSettings, QTimer
from sagen.desk.app import make_application, make_window
from sagen.desk.lenses.strip import StripView
from sagen.report.scene import Strip, Lane
from sagen.signal.pyramid import Pyramid
app = make_application()
w = make_window(QSettings(tempfile.mktemp(), QSettings.Format.IniFormat))
x = np.sin(np.arange(200_000) / 50).astype(np.float32)
lanes = tuple(Lane(str(i), "crank", "V", Pyramid(x), bottom=-1, top=1) for i in range(4))
class View(StripView):
    def paintEvent(self, event):
        super().paintEvent(event); print("painted", flush=True); QTimer.singleShot(0, app.quit)
view = View(); view.show_strip(Strip(1e5, len(x), lanes)); w.stack.addWidget(view); w.stack.setCurrentWidget(view)
w.show(); app.exec()
"""


def started(code: str) -> float:
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    start = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-c", code], stdout=subprocess.PIPE, env=environment, stderr=subprocess.DEVNULL
    )
    said = process.stdout.readline()
    taken = time.perf_counter() - start
    if said.strip() != b"painted":
        raise SystemExit("nothing was painted: the benchmark does not fit the program any more")
    process.wait()
    return taken


def main(rounds: int = 11) -> None:
    names = {"bare QMainWindow": BARE, "Sagen's shell": SHELL, "shell with a strip of 4 channels": PLOTS}
    taken = {name: [] for name in names}
    for _ in range(rounds):
        for name, code in names.items():
            taken[name].append(started(code))
    bare = statistics.median(taken["bare QMainWindow"])
    print("| start | ms | x bare |\n|---|---|---|")
    for name, values in taken.items():
        print(f"| {name} | {1e3 * statistics.median(values):.0f} | {statistics.median(values) / bare:.2f} |")


if __name__ == "__main__":
    main()
