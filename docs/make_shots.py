"""Pictures of every main view from the demo jobs, for the README: `./run shots`."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, QPointF, QSettings, QTimer

sys.path.insert(0, str(Path(__file__).parent.parent))
from benchmarks import pictures
from docs.guide_shots import PICTURES, keep, shots

from sagen.casework.demo import JOBS, DemoCapture
from sagen.desk.app import demo_log, make_application, make_window
from sagen.files import write_capture
from sagen.model.language import spoken
from sagen.model.practice import Practice
from sagen.model.trail import PhotoEntry, ReadingEntry, RepairEntry, StayedEntry
from sagen.model.vocabulary import Part, StepKind

FOLDER = Path(__file__).parent / "screenshots"


class Camera:
    """The demo window and how to wait for it."""

    def __init__(self, look: str):
        passing = Path(tempfile.mkdtemp(prefix="sagen-shots-"))
        settings = QSettings(str(passing / "s.ini"), QSettings.Format.IniFormat)
        settings.setValue("look", look)
        self.folder = passing
        self.window = make_window(settings, demo=True)
        self.window.show()
        self.window.workspace.open_log(demo_log)
        for _ in range(4_000):  # the demo's jobs are made first, which takes a while on a busy machine
            self.spin(30)
            if self.window.workspace.log is not None:
                break
        self.settle()

    def settle(self, extra: int = 500) -> None:
        for _ in range(400):
            self.spin(30)
            if self.window.workspace.idle:
                break
        self.spin(extra)

    @staticmethod
    def spin(milliseconds: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(milliseconds, loop.quit)
        loop.exec()

    def shoot(self, name: str) -> None:
        self.spin(150)
        self.window.grab().save(str(FOLDER / f"{name}.png"))

    def job(self, machine: str) -> None:
        jobs = self.window.workspace.log.jobs()
        self.window.workspace.open_job(next(job.id for job in jobs if job.machine == machine), open_capture=True)
        self.settle()


def screen_to_samples(camera: Camera) -> None:
    """A photo of a made-up screen, its corners in place, and what was read of it."""
    drawn, path = pictures.drawn("photo", 8_003), camera.folder / "their-screen.png"
    drawn.image.save(path)
    window = camera.window
    window.workspace.bring_in([path])
    camera.settle()
    photo = window.page("photo")
    photo.show_entry(window.workspace.job.of(PhotoEntry)[-1])
    camera.settle()
    photo.read_button.click()
    camera.settle()
    page = window.page("picture")
    page.view.corners = [QPointF(x, y) for x, y in drawn.corners]
    page.view.moved.emit()
    for name, value in zip(("t0", "t1", "v0", "v1"), drawn.axes, strict=True):
        page.fields[name].setText(f"{1000 * value:g} ms" if name[0] == "t" else f"{value:.3f} V")
    page.read()
    camera.settle()
    camera.shoot("screen-to-samples")
    window.workspace.undo()
    camera.settle()


def practised(camera: Camera) -> None:
    """A practice job looked back on: a guess first, then a reading that tells."""
    workspace = camera.window.workspace
    camera.window.commands.run("practice.draw", Practice(0, 0, "feed_return_signal"))
    camera.settle()
    feed = (0.02, 12.1)
    for record in (
        RepairEntry(Part.SENSOR), ReadingEntry("volts", "supply", "key_on", feed[0], judged="outside"), RepairEntry(Part.SUPPLY),
        ReadingEntry("volts", "supply", "key_on", feed[1], judged="inside"), StayedEntry(False),
    ):  # fmt: skip
        workspace.add(record)
        camera.settle()
    camera.window.commands.run("practice.debrief")
    camera.settle()
    camera.shoot("practice-debrief")


def for_the_guide() -> None:
    """The guide's pictures, in the language that is spoken."""
    camera = Camera("light")
    for name, picture in shots(camera.window, camera.settle, camera.spin):
        keep(name, picture, PICTURES / spoken())
    camera.window.close()


def main() -> int:
    make_application()
    for_the_guide()
    if "--guide" in sys.argv:
        return 0
    FOLDER.mkdir(exist_ok=True)
    light = Camera("light")
    page = light.window.page("capture")
    light.shoot("strip-light")
    light.window.commands.run("jobs.show_report", "capture")
    light.settle()
    light.shoot("printed-finding")
    light.job("Orrin Tern 1.8 V4")
    light.window.show_with_job("plan")
    light.settle()
    light.shoot("plan-light")
    light.job("Tarnbeck Fell 1.8")
    light.window.show_with_job("board")
    light.settle()
    light.shoot("picture-board")
    light.job("Halyard Curlew 2.9 six")
    light.window.show_with_job("card")
    light.settle()
    light.shoot("card-light")
    light.job("Quillaby Drake 1.4")
    light.window.show_with_job("proof")
    light.settle()
    light.shoot("proof-light")
    light.window.commands.run("jobs.show_report", "customer")
    light.settle()
    light.shoot("customer-page")
    light.job("Plover Dray 4")
    page.show_lens("wheel")
    light.shoot("wheel-light")
    page.show_lens("strip")
    light.job("Skerry Lantern 2.2")
    page.show_lens("beside")
    light.spin(300)
    light.shoot("cam-beside-known-good")
    page.show_lens("strip")
    screen_to_samples(light)
    light.job("Velmora Courier 2.6")
    light.window.navigation.show_circuit().aim("signal", "key_on_unplugged")
    light.settle()
    light.window.page("circuit").entry.value.setText("11.9")
    light.shoot("circuit-and-meter")
    light.job("Halyard Curlew 2.9 six")
    light.shoot("rings-light")
    light.job("Quillaby Drake 1.4")
    light.window.commands.run("instruments.probe")
    for _ in range(200):
        light.spin(50)
        if "Gathering" not in light.window.probing.count.text():
            break
    light.spin(1_600)
    light.window.probing.resize(1280, 800)
    light.spin(500)
    light.window.probing.grab().save(str(FOLDER / "probe-light.png"))
    light.window.probing.close()
    light.settle()
    light.window.commands.run("jobs.show_log")
    light.shoot("job-log")
    practised(light)
    light.window.close()
    dark = Camera("dark")
    page = dark.window.page("capture")
    dark.job("Marrick Marlin estate")
    page.show_lens("turns")
    dark.shoot("turns-dark")
    page.show_lens("strip")
    dark.job("Marrick Marlin estate")
    marlin = next(job for job in JOBS if job.machine == "Marrick Marlin estate")
    demo = next(step for step in marlin.trail if isinstance(step, DemoCapture))
    capture, _ = demo.make()
    write_capture(dark.folder / "marlin-again.csv", capture)
    dark.window.bring_in([str(dark.folder / "marlin-again.csv")])
    dark.settle()
    dark.shoot("bring-in-dark")
    dark.job("Wexcombe Dunlin 1.6")
    dark.window.show_with_job("live")
    live = dark.window.page("live")
    live.state.setCurrentIndex(live.state.findData("wiggle"))
    live.show_below(2)
    live.start()
    dark.spin(9_000)
    live.controls.words.setText("moved plug")
    live.mark()
    dark.spin(600)
    dark.shoot("live-dark")
    dark.window.workspace.held.discard(dark.window.workspace.recordings[-1])
    dark.settle()
    dark.job("Orrin Tern 1.8 V4")
    work = dark.window.show_page("work")
    for kind, what, size, owes in (
        ("unplugged", "cam plug, rear head", "", ""), ("clamped", "heater hoses, both", "", "coolant topped up"),
        ("unbolted", "hose bracket", "2 x M6, 10 mm", "9 Nm"), ("broke", "clip of the heater hose", "", ""),
    ):  # fmt: skip
        for line, text in ((work.what, what), (work.size, size), (work.owes, owes)):
            line.setText(text)
        work.step(StepKind(kind))
    dark.settle()
    dark.shoot("work-dark")
    dark.window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
