"""Run by test_window under a real X server: opens the demo, brings a capture in with mouse and keys, tells what is shown."""

import sys
import tempfile
from pathlib import Path

from PySide6.QtCore import QEventLoop, QPoint, QSettings, Qt, QTimer
from PySide6.QtTest import QTest

from conftest import demo_log
from sagen.desk.app import make_application, make_window

app = make_application()
settings = QSettings(str(Path(tempfile.mkdtemp()) / "s.ini"), QSettings.Format.IniFormat)
window = make_window(settings, demo=True)
window.show()
QTest.qWaitForWindowExposed(window)


def settle():
    for _ in range(400):
        loop = QEventLoop()
        QTimer.singleShot(40, loop.quit)
        loop.exec()
        if window.workspace.idle:
            return


window.workspace.open_log(demo_log)
settle()
print("platform", app.platformName())
window.bring_in([sys.argv[1]])
settle()
page = window.page("incoming")
page.wheel.clear()
QTest.mouseClick(page.wheel, Qt.MouseButton.LeftButton)
QTest.keyClicks(page.wheel, "60-2")
print("wheel typed", page.wheel.text())
QTest.mouseClick(page.accept, Qt.MouseButton.LeftButton)
settle()
settle()
view = window.page("capture").view
print("finding", view.strip.marks[0].label)
print("suspect", window.suspects.rows[0].bar.cause)
QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(view.width() // 2, view.height() // 2))
print("cursor", window.page("capture").figures.whole())
window.close()
