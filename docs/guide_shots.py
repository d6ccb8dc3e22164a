"""The guide's pictures, one a chapter, from the demo jobs: `./run shots` takes them, a test takes them again and compares."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from io import BytesIO
from pathlib import Path

from PIL import Image
from PySide6.QtCore import QBuffer, QIODevice, QPoint, QRect
from PySide6.QtGui import QPixmap

from sagen.desk.help import pane

PICTURES = Path(pane.__file__).parent / "pictures"
COLOURS = 64  #: enough for lines and letters, and a third of the bytes


def shots(window, settle: Callable[[], None], wait: Callable[[int], None]) -> Iterator[tuple[str, QPixmap]]:
    """Name and picture of each, of a window that shows the demo's jobs in the light look at 1280 x 720 points; `settle` waits until
    nothing is being worked on, `wait` for so many milliseconds."""
    workspace = window.workspace

    def job(machine: str):
        found = next(job.id for job in workspace.log.jobs() if job.machine == machine)
        workspace.open_job(found, open_capture=True)
        settle()
        return window.page("capture")

    def page(name: str):
        window.show_with_job(name)
        settle()
        return window.page(name)

    def middle() -> QPixmap:
        settle()
        return around()

    def around() -> QPixmap:
        stack = window.stack
        return window.grab(QRect(stack.mapTo(window, QPoint()), stack.size()).adjusted(-8, -8, 8, 8))

    capture = job("Plover Dray 4")
    capture.show_lens("strip")
    settle()
    yield "first-job", window.grab()
    capture.show_lens("wheel")
    yield "coil", middle()
    capture.show_lens("strip")
    job("Velmora Courier 2.6")
    window.navigation.show_circuit().aim("signal", "key_on_unplugged")
    window.page("circuit").entry.value.setText("11.9")
    yield "meter", middle()
    job("Halyard Curlew 2.9 six")
    yield "knock", middle()
    page("card")
    yield "card", middle()
    job("Wexcombe Dunlin 1.6")
    live = page("live")
    live.start()
    wait(2_500)
    yield "live", around()
    workspace.held.discard(workspace.recordings[-1])
    settle()
    capture = job("Skerry Lantern 2.2")
    capture.show_lens("beside")
    yield "cam-timing", middle()
    capture.show_lens("strip")
    job("Tarnbeck Fell 1.8")
    page("board")
    yield "picture-board", middle()
    page("module").read()
    yield "module", middle()
    job("Orrin Tern 1.8 V4")
    page("plan")
    yield "plan", middle()
    job("Quillaby Drake 1.4")
    page("proof")
    yield "proof", middle()
    page("settings").where.setText("/home/ines/workshop/jobs.sqlite")
    yield "settings", middle()
    page("practice")
    yield "practice", middle()


def keep(name: str, picture: QPixmap, folder: Path) -> None:
    """Writes one as a PNG of few colours."""
    folder.mkdir(parents=True, exist_ok=True)
    held = QBuffer()
    held.open(QIODevice.OpenModeFlag.WriteOnly)
    picture.save(held, "PNG")
    image = Image.open(BytesIO(held.data().data())).convert("RGB")
    image.quantize(COLOURS, dither=Image.Dither.NONE).save(folder / f"{name}.png", optimize=True)
