# ruff: noqa: E402
"""Every page in a made-up language whose words are 40 % longer and marked: prints what is cut, pages that need a sideways bar, and
words that did not come from a catalogue. A program of its own, since words are made when modules are first imported."""

import io
import os
import re
import sys
import tempfile
from itertools import chain
from pathlib import Path

from babel.messages.pofile import read_po

os.environ["SAGEN_LANGUAGE"] = "en"
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.pop("SAGEN_TEST_SHARED", None)  # a demo log of its own, in its language

from sagen.model import language

MARK = "\u2060"  #: a word joiner within every word that came from a catalogue: seen by nobody
#: what is the same in every language: units, keys, codes, ends of files, and words that stand in files
ALIKE = re.compile(
    r"rpm|min|kHz|kPa|psi|AWG|CSV|WAV|MDF|PDF|HTML|SCPI|CAN|OBD|VIN|ISO|Ctrl|Alt|Shift|Tab|Esc|Home|End|Del|English|Deutsch|Español|Sagen"
    r"|csv|toml|sqlite|tcp|serial|socketcan|can|Vpp|kilohm|Mohm|ohm|USB|COM"
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

from PySide6.QtCore import QModelIndex, QRect, QRectF, QSettings, Qt, QTimer
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QListView,
    QScrollArea,
    QTableView,
    QWidget,
)

from conftest import demo_log, settle
from sagen.casework.about import made_of
from sagen.casework.demo import JOBS, DemoCapture
from sagen.desk.app import make_application, make_window
from sagen.desk.commands.entries import ALL_FORMS
from sagen.desk.pages import page_names
from sagen.files import write_capture
from sagen.model.practice import Practice
from sagen.model.quantities import IN_UNITS
from sagen.model.trail import InspectionEntry, RepairEntry, StayedEntry
from sagen.model.vocabulary import Part
from sagen.store.codecs import encode
from test_small_window import NO_PAGE_OF_THEIR_OWN, bar_in_a_bar, cut, on_each_other, show


def messages():
    """All that the catalogue of English has, as one would write it."""
    kept = read_po(io.BytesIO((language.LOCALE / "sagen.pot").read_bytes()))
    return {item for row in kept if row.id for item in ([row.id] if isinstance(row.id, str) else row.id)}


MESSAGES = messages()


def not_translated(text, known):
    """The words of a text that came from no catalogue and are nobody's own, and a text that is in the catalogue and was not taken from it."""
    if text in MESSAGES and re.search(r"[A-Za-z]{2}", KEPT.sub(" ", text)) and not ALIKE.fullmatch(text):
        return [text]
    words = WORD.findall(KEPT.sub(" ", text))
    return [word for word in words if MARK not in word and word.casefold() not in known and not ALIKE.fullmatch(word)]


def said_by(item):
    """All that a widget in sight says: its words, those of its rows, its tip, what a screen reader reads of it, and the hint in it."""
    yield from (
        item.toolTip(),
        item.accessibleName(),
        item.accessibleDescription(),
        *(action.text() for action in item.actions()),
    )
    if isinstance(item, QComboBox):
        yield from (item.itemText(at) for at in range(item.count()))
    elif isinstance(item, QLabel | QAbstractButton):
        yield item.text()
    elif isinstance(item, QLineEdit):
        yield item.placeholderText()
    elif isinstance(item, QTableView) and item.model() is not None:
        model, root = item.model(), QModelIndex()
        for column in range(model.columnCount(root)):
            yield str(model.headerData(column, Qt.Orientation.Horizontal) or "")
            yield from (
                str(model.index(row, column, root).data() or "") for row in range(min(model.rowCount(root), 40))
            )


def unmarked(window, known):
    """What is in sight and came from no catalogue and no job."""
    told = dict.fromkeys(
        text for item in [window, *window.findChildren(QWidget)] if item.isVisible() for text in said_by(item)
    )
    yield from (
        f"{wrong} in {text.replace(MARK, '')}" for text in told if text and (wrong := not_translated(text, known))
    )


#: commands that ask something in a window of their own
ASKING = (
    "captures.hunt_events", "entries.add_value", "instruments.choose", "instruments.probe", "jobs.new", "jobs.decide", "logs.open_another",
    "logs.delete_job", "logs.forget_customer", "logs.who_writes", "logs.show_letters", "view.show_keys",
    "view.show_about", "view.show_said",
    "view.do_shown_check",
)  # fmt: skip


def in_forms(window, known, *, every):
    """What is wrong in what the window asks in windows of their own, in all or in every third."""
    seen, asked = [], [*((name,) for name in ASKING), *(("entries.add", kind) for kind in ALL_FORMS)]

    def look():
        form = QApplication.activeModalWidget()
        if form is not None and not isinstance(form, QFileDialog):
            seen.extend(
                [
                    *(f"cut: {item}" for item in cut(form)),
                    *(f"not translated: {text!r}" for text in unmarked(form, known)),
                ]
            )
        if form is not None:
            form.close()

    timer = QTimer(interval=20)
    timer.timeout.connect(look)
    timer.start()
    for name, *arguments in asked if every else asked[1::3]:
        seen.clear()
        window.commands.run(name, *arguments)
        settle(window)
        yield from (f"{name} {' '.join(arguments)}: {item}" for item in seen)
    timer.stop()


def words_of(jobs):
    """What people wrote in jobs themselves: it is in no catalogue."""
    told = [f"{job.machine} {job.owner} {' '.join(str(encode(record)) for record in job.records())}" for job in jobs]
    return {word.casefold() for text in told for word in WORD.findall(text)}


def in_practice(window, known):
    """What is wrong where a machine was practised on and is looked back on."""
    window.commands.run("practice.draw", Practice(0, 0, "feed_return_signal"))
    settle(window)
    known |= words_of([window.workspace.job])
    for record in (
        RepairEntry(Part.SENSOR),
        InspectionEntry("seat_and_flange_of_the_sensor", "seated"),
        RepairEntry(Part.SUPPLY),
        StayedEntry(True),
    ):
        window.workspace.add(record)
        settle(window)
    window.commands.run("practice.debrief")
    settle(window)
    if not window.page("debrief").steps.rowCount():
        yield "nothing is looked back on"
    yield from wrong_in(window, known, "looked back on")


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
    if not window.header.undo_button.isEnabled() or not window.header.undo_button.toolTip().endswith("+Z)"):
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
    yield from (f"{name}: on each other: {item}" for item in on_each_other(window))
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
    made = " ".join(text for part in made_of() for text in part) + log.database.place.said
    known = (
        words_of(jobs)
        | {word.casefold() for word in WORD.findall(made)}
        | {word.casefold() for item in IN_UNITS for unit in item.units.values() for word in WORD.findall(unit.sign)}
        | {word.casefold() for _, card in log.shelf.cards() for word in WORD.findall(str(card))}
    )
    for size in (tuple(map(int, item.split("x"))) for item in sizes):
        for name in page_names():
            if name in NO_PAGE_OF_THEIR_OWN:
                continue
            show(window, name)
            window.resize(*size)
            settle(window)
            wrong = [f"cut: {item}" for item in cut(window)] + [
                f"on each other: {item}" for item in on_each_other(window)
            ]
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
    every = len(sizes) > 1
    looks = (
        in_forms(window, known, every=every),
        in_lenses(window, known, every=every),
        brought_in_and_undone(window),
        in_practice(window, known) if every else (),
    )
    for item in chain.from_iterable(looks):
        print(item)
    window.commands.run("view.show_with_job", "card")
    window.page("card").edit(True)
    settle(window)
    for item in (
        *wrong_in(window, known, "a card is written"),
        *(f"a bar in a bar: {size}" for size in bar_in_a_bar(window)),
    ):
        print(item)
    for item in PAINTED_CUT:
        print(f"painted: cut: {item}")
    for text in PAINTED:
        if wrong := not_translated(text, known):
            print(f"painted: not translated: {wrong} in {text.replace(MARK, '')!r}")


if __name__ == "__main__":
    main(sys.argv[1:])
