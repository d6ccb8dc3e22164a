# ruff: noqa: E402
"""Every page in a made-up language whose words are 40 % longer and marked: prints what is cut, pages that need a sideways bar, and
words that did not come from a catalogue. A program of its own, since words are made when modules are first imported."""

import os
import re
import sys
import tempfile
from pathlib import Path

os.environ["SAGEN_LANGUAGE"] = "en"
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from sagen.model import language

MARK = "\u2060"  #: a word joiner: seen by nobody
#: what stands in another language, or in none: names of the demo, of languages, of units and of places that a person types
NO_WORDS = re.compile(
    r"English|Deutsch|Español|Sagen|rpm|min|front|rear|middle|P\d{4}|kPa|.*\.(csv|sqlite|toml|py)\b.*|(tcp|serial|socketcan):.*|/.*"
    r"|(crank|cam|knock|coolant|throttle|charging|intake|oil|CH)( ?\d)?(, .*)?|AWG|mm2|.*\d{4}.*"
)


def longer(message):
    if not message.strip():
        return message
    room, filler = round(0.4 * len(message)), ""
    while len(filler) < room:
        filler += " lengthened"[: max(2, min(11, room - len(filler)))]
    kept = message.rstrip()
    return MARK + kept + filler + message[len(kept) :]


class Longer:
    """In place of a catalogue."""

    def gettext(self, message):
        return longer(message)

    def ngettext(self, one, many, count):
        return longer(one if count == 1 else many)


language._SPOKEN.catalogue = Longer()

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QScrollArea, QWidget

from conftest import demo_log, settle
from sagen.casework.demo import JOBS, DemoCapture
from sagen.desk.app import make_application, make_window
from sagen.desk.pages import page_names
from sagen.files import write_capture
from test_small_window import NO_PAGE_OF_THEIR_OWN, cut, show


def unmarked(window, known):
    """What is in sight and came from no catalogue and no job."""
    for item in window.findChildren(QWidget):
        if not item.isVisible():
            continue
        if isinstance(item, QComboBox):
            words = [item.itemText(at) for at in range(item.count())]
        elif isinstance(item, QLabel | QAbstractButton):
            words = [item.text()]
        else:
            continue
        for text in words:
            plain = text.strip().replace("&&", "&")
            if (
                re.search(r"[A-Za-z]{3}", plain)
                and MARK not in text
                and not NO_WORDS.fullmatch(plain)
                and not known(plain)
            ):
                yield plain


def brought_in_and_undone(window):
    """What is wrong where a capture comes in, is kept, and is undone: names in files are never words of a language."""
    capture, _ = next(step for step in JOBS[0].trail if isinstance(step, DemoCapture)).make()
    path = Path(tempfile.mkdtemp()) / "again.csv"
    write_capture(path, capture)
    window.workspace.bring_in([path])
    settle(window)
    page = window.page("incoming")
    if not page.accept.isEnabled():
        yield f"a capture is refused: {page.told.text()}"
        return
    page.accept.click()
    settle(window)
    count = len(window.workspace.job.standing)
    if not window.header.undo_button.isEnabled() or not window.header.undo_button.toolTip().endswith("(Ctrl+Z)"):
        yield f"undo says {window.header.undo_button.toolTip()!r}"
    window.workspace.undo()
    settle(window)
    if len(window.workspace.job.standing) >= count:
        yield "nothing was undone"


def main(sizes):
    make_application()
    window = make_window(QSettings(tempfile.mkdtemp() + "/s.ini", QSettings.Format.IniFormat), demo=True)
    window.show()
    window.workspace.open_log(demo_log)
    settle(window)
    told = [f"{job.machine} {job.owner}" for job in window.workspace.log.jobs()]
    known = lambda text: any(part in " ".join(told) for part in (text, *text.split("  –  ")))  # noqa: E731
    for size in (tuple(map(int, item.split("x"))) for item in sizes):
        for name in page_names():
            if name in NO_PAGE_OF_THEIR_OWN:
                continue
            show(window, name)
            window.resize(*size)
            settle(window)
            wrong = [f"cut: {item}" for item in cut(window)]
            wrong += [f"not translated: {text!r}" for text in unmarked(window, known)]
            if (window.width(), window.height()) != size:
                wrong.append(f"the window is {window.width()} x {window.height()}")
            wrong += [
                "a sideways bar"
                for area in window.findChildren(QScrollArea)
                if area.isVisible() and area.horizontalScrollBar().maximum() > 0
            ]
            for item in wrong:
                print(size, name, item)
    for item in brought_in_and_undone(window):
        print(item)


if __name__ == "__main__":
    main(sys.argv[1:])
