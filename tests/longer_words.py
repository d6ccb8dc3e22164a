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
os.environ.pop("SAGEN_TEST_SHARED", None)  # a demo log of its own, in its language

from sagen.model import language

MARK = "\u2060"  #: a word joiner within every word that came from a catalogue: seen by nobody
#: what is the same in every language: units, keys, codes, ends of files, and words that stand in files
ALIKE = re.compile(
    r"rpm|min|kHz|kPa|psi|AWG|CSV|WAV|MDF|PDF|HTML|SCPI|CAN|OBD|VIN|ISO|Ctrl|Alt|Shift|Tab|Esc|Home|End|Del|English|Deutsch|Español|Sagen"
    r"|csv|toml|sqlite|tcp|serial|socketcan|Vpp|kilohm|Mohm|ohm|USB|COM"
)
WORD = re.compile(rf"[A-Za-zÀ-ÿ{MARK}]{{3,}}")
#: places of a message, what is markup in it, names of files, and keys: they stay as they are
KEPT = re.compile(r"(\{[^}]*\}|<[^>]*>|&\w+;|\b\w+\.\w{2,4}\b|\b(?:Ctrl|Alt|Shift)\+\S*)")


def longer(message):
    if not message.strip():
        return message
    marked = "".join(
        part if KEPT.fullmatch(part) else re.sub(r"\b([A-Za-z])(?=[A-Za-z]{2})", rf"\1{MARK}", part)
        for part in KEPT.split(message)
    )
    room, filler = round(0.4 * len(message)), ""
    while len(filler) < room:
        filler += f" l{MARK}engthened"[: max(2, min(12, room - len(filler)))]
    kept = marked.rstrip()
    return kept + filler.rstrip(MARK) + message[len(message.rstrip()) :]


class Longer:
    """In place of a catalogue."""

    def gettext(self, message):
        return longer(message)

    def ngettext(self, one, many, count):
        return longer(one if count == 1 else many)


language._SPOKEN.catalogue = Longer()

from PySide6.QtCore import QRect, QRectF, QSettings, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QListView, QScrollArea, QWidget

from conftest import demo_log, settle
from sagen.casework.demo import JOBS, DemoCapture
from sagen.desk.app import make_application, make_window
from sagen.desk.pages import page_names
from sagen.files import write_capture
from sagen.store.codecs import encode
from test_small_window import NO_PAGE_OF_THEIR_OWN, cut, show


def not_translated(text, known):
    """The words of a text that came from no catalogue and are nobody's own."""
    words = WORD.findall(KEPT.sub(" ", text))
    return [word for word in words if MARK not in word and word.casefold() not in known and not ALIKE.fullmatch(word)]


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
        yield from (f"{wrong} in {text.replace(MARK, '')}" for text in words if (wrong := not_translated(text, known)))


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


#: what is painted letter by letter rather than shown by a control; and what of that runs out of its place
PAINTED, PAINTED_CUT = set(), set()


def note_what_is_painted():
    plain = QPainter.drawText

    def draw(painter, *given):
        words = [item for item in given if isinstance(item, str)]
        PAINTED.update(words)
        place = given[0]
        if any(words) and isinstance(place, QRect | QRectF):
            flags = next((int(getattr(item, "value", item)) for item in given[1:] if not isinstance(item, str)), 0)
            if not flags & int(Qt.TextFlag.TextWordWrap.value | Qt.TextFlag.TextDontClip.value):
                needs = max(painter.fontMetrics().horizontalAdvance(line) for line in words[0].split("\n"))
                if needs > place.width() + 2:
                    PAINTED_CUT.add((words[0].replace(MARK, ""), round(needs), round(place.width())))
        return plain(painter, *given)

    QPainter.drawText = draw


def wrong_in(window, known, name):
    window.grab()
    yield from (f"{name}: cut: {item}" for item in cut(window))
    yield from (f"{name}: not translated: {text!r}" for text in unmarked(window, known))


def in_lenses(window, known, *, every):
    """What is wrong in the lenses of the demo's captures, of all or until each lens was seen: cut controls, and words that came from no
    catalogue."""
    seen = set()
    page = window.page("capture")
    for job in window.workspace.log.jobs():
        if seen == set(page.bar.lenses) and not every:
            break
        window.workspace.open_job(job.id, open_capture=True)
        settle(window)
        yield from wrong_in(window, known, "as it opens")
        for name, button in page.bar.lenses.items():
            if window.stack.currentWidget() is not page or not button.isVisible() or not button.isEnabled():
                continue
            if name in seen and not every:
                continue
            button.click()
            settle(window)
            seen.add(name)
            yield from wrong_in(window, known, name)
    yield from (f"no capture of the demo opens in {name}" for name in set(page.bar.lenses) - seen)


def main(sizes):
    make_application()
    note_what_is_painted()
    window = make_window(QSettings(tempfile.mkdtemp() + "/s.ini", QSettings.Format.IniFormat), demo=True)
    window.show()
    window.workspace.open_log(demo_log)
    settle(window)
    # What the demo's people wrote themselves is in no catalogue.
    log = window.workspace.log
    jobs = [log.job(job.id) for job in log.jobs()]
    said = " ".join(
        [*(f"{job.machine} {job.owner}" for job in jobs), *(str(encode(record)) for job in jobs for record in job.records()),
         *(str(card) for _, card in log.shelf.cards())]
    )  # fmt: skip
    known = {word.casefold() for word in WORD.findall(said)}
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
                for area in [*window.findChildren(QScrollArea), *window.findChildren(QListView)]
                if area.isVisible() and area.horizontalScrollBar().maximum() > 0
            ]
            for item in wrong:
                print(size, name, item)
    for item in (*in_lenses(window, known, every=len(sizes) > 1), *brought_in_and_undone(window)):
        print(item)
    for item in PAINTED_CUT:
        print(f"painted: cut: {item}")
    for text in PAINTED:
        if wrong := not_translated(text, known):
            print(f"painted: not translated: {wrong} in {text.replace(MARK, '')!r}")


if __name__ == "__main__":
    main(sys.argv[1:])
