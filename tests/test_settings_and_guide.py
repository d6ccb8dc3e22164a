"""What is remembered of a bay, and the guide beside the pages. What a person would expect; no published source."""

import re
import shlex
from importlib import metadata

import numpy as np
import pytest
from docs.guide_shots import PICTURES, shots
from PIL import Image
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton
from tests.test_cli import sagen

from conftest import demo_log, settle, spin
from sagen.casework.about import made_of
from sagen.casework.costs import shop_costs
from sagen.desk.help.about import AboutDialog
from sagen.desk.help.pane import MARK, ChapterText, chapter_of, chapters
from sagen.desk.pages import page_names
from sagen.desk.theme import theme
from sagen.desk.window_actions import ACTIONS
from sagen.meter import stored_accuracy
from sagen.reason.decide import Costs
from sagen.store.opening import open_log


@pytest.fixture
def own_folders(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))


def typed(line, text):
    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, text) if text else line.clear()
    line.editingFinished.emit()


def test_answers_are_kept_as_they_are_given_and_are_there_next_time(desk, own_folders, tmp_path):
    window = desk()
    page = window.commands.run("view.show_page", "settings")
    typed(page.author, "Ines")
    typed(page.bay, "bay 2")
    typed(page.workshop, "Fell Road Garage")
    typed(page.accuracy, "0.5% + 3")
    typed(page.costs["hour"], "72")
    typed(page.addresses[0], "tcp://127.0.0.1:5025")
    folder = tmp_path / "inbox"
    folder.mkdir()
    typed(page.folders["captures"], str(folder))
    assert (window.workspace.log.author.author, window.workspace.log.author.bay) == ("Ines", "bay 2")
    assert stored_accuracy().percent == 0.5
    assert shop_costs() == Costs(hour=72.0)
    assert page.instruments.addresses.recorder == "tcp://127.0.0.1:5025"
    typed(page.folders["captures"], "")
    settle(window)
    again = desk()
    page = again.commands.run("view.show_page", "settings")
    told = [
        page.author.text(),
        page.workshop.text(),
        page.accuracy.text(),
        page.costs["hour"].text(),
        page.addresses[0].text(),
    ]
    assert told == ["Ines", "Fell Road Garage", "0.5% + 3", "72", "tcp://127.0.0.1:5025"]
    assert page.where.text() == again.workspace.log.database.place.said


@pytest.mark.parametrize(
    ("field", "text"),
    [
        ("accuracy", "good"),
        ("volume", "loud"),
        ("volume", "101"),
        ("hour", "-3"),
        ("hour", "much"),
        ("captures", "/no/such"),
    ],
)
def test_what_makes_no_sense_is_said_and_changes_nothing(desk, own_folders, field, text):
    window = desk()
    page = window.commands.run("view.show_page", "settings")
    line = page.costs.get(field) or page.folders.get(field) or getattr(page, field)
    typed(line, text)
    assert page.said.isVisible()
    assert len(page.said.text()) > 10
    assert line.property("bad") is True
    assert shop_costs() == Costs()
    assert stored_accuracy() is None
    assert str(window.settings.value("live/volume", 60)) == "60"
    assert str(window.settings.value("captures/folder", "")) == ""


def test_the_look_follows_the_system_until_one_is_chosen(desk, app, monkeypatch):
    window = desk()
    assert theme.wanted(window.settings) == "system"
    monkeypatch.setattr(theme, "look_of", lambda _app, name: "dark" if name == "system" else name)
    page = window.commands.run("view.show_page", "settings")
    for name, shown in (("light", "light"), ("system", "dark"), ("light", "light")):
        page.look.setCurrentIndex(page.look.findData(name))
        page.look.activated.emit(page.look.currentIndex())
        assert theme.current().name == shown
        assert theme.wanted(window.settings) == name


def test_f1_opens_the_chapter_of_the_page_and_closes_it_again(desk):
    window = desk(demo_log, demo=True)
    window.commands.run("view.show_with_job", "plan")
    run = next(action.run for action in ACTIONS if action.keys == "F1")
    run(window.commands)
    settle(window)
    assert window.guide.isVisible()
    assert not window.suspects.isVisible()
    assert window.guide.title == "Plan and repair"
    assert "Plan" in window.guide.text.toPlainText()
    assert "<!--" not in window.guide.text.toPlainText()
    # Where panes fold and come back the guide stays the one at the right; the next check takes its place by a press.
    for size in ((1024, 640), (1280, 720), (1024, 640)):
        window.resize(*size)
        settle(window)
        assert (window.guide.isVisible(), window.suspects.isVisible()) == (True, False)
    window.header.side_buttons["suspects"].click()
    assert (window.guide.isVisible(), window.suspects.isVisible()) == (False, True)
    window.resize(1280, 720)
    run(window.commands)
    settle(window)
    QTest.keyClick(window.guide, Qt.Key.Key_Escape)
    assert not window.guide.isVisible()
    assert window.suspects.isVisible()


def test_every_page_and_every_lens_has_its_chapter():
    told = {name for text in chapters().values() for name in MARK.search(text)[1].split()}
    assert set(page_names()) <= told
    assert chapter_of("nothing of the kind") == "First job in five minutes"


def test_every_command_of_the_guide_works_as_it_stands(tmp_path, monkeypatch, own_folders):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    files = re.findall(r"`(\w+\.toml)`[^`]*?```toml\n(.*?)```", "".join(chapters().values()), re.DOTALL)
    assert dict(files).keys() == {"circuit.toml", "knock.toml"}
    for name, text in files:
        (tmp_path / name).write_text(text)
    open_log().close()  # as the window does when it is first opened
    commands = [
        line for text in chapters().values() for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL)
        for line in block.splitlines()
    ]  # fmt: skip
    assert len(commands) >= 12
    for line in commands:
        name, *words = shlex.split(line)
        assert name == "sagen"
        done = sagen(*words)
        assert done.returncode == 0, (line, done.stderr)
        assert done.stdout or words[0] == "log" or any((tmp_path / word).exists() for word in words), line


def test_every_key_that_the_guide_names_is_one():
    named = set(re.findall(r"\((Ctrl\+[A-Za-z+]+|F\d)\)", " ".join(chapters().values())))
    assert named
    assert named <= {action.keys for action in ACTIONS}


def test_tones_that_are_set_reach_a_live_page_that_was_made_before(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    window.show_with_job("live")
    live = window.page("live")
    assert live.tones.button.isChecked()
    window.commands.run("view.show_page", "settings")
    page = window.page("settings")
    page.tones.click()
    page._keep_volume("20")
    assert not live.ear.muted
    window.show_with_job("live")
    assert live.ear.muted
    assert live.ear.volume == 0.2
    assert live.tones.volume.value() == 20


def test_the_guide_is_never_changed_while_it_is_being_laid_out(app, monkeypatch):
    # Qt ends the program where a document is cleared within its own layout: a bar that comes narrows the text meanwhile.
    text, deep, deepest = ChapterText(), [0], [0]
    plain_markdown, plain_show = text.setMarkdown, text.show_chapter

    def markdown(words):
        plain_markdown(words)
        text.resize(text.width() - 20, text.height())

    def show(words):
        deep[0] += 1
        deepest[0] = max(deep[0], deepest[0])
        plain_show(words)
        deep[0] -= 1

    text.resize(300, 400)
    text.show()
    monkeypatch.setattr(text, "show_chapter", show)
    monkeypatch.setattr(text, "setMarkdown", markdown)
    text.show_chapter("Words\n" * 200)
    assert (text.width(), deepest) == (280, [1])
    monkeypatch.setattr(text, "setMarkdown", plain_markdown)
    spin()
    assert deepest == [1]
    assert text._laid == text.viewport().width()
    text.deleteLater()


def test_the_guide_is_read_in_either_look_without_being_opened_anew(desk):
    window = desk(demo_log, demo=True)
    window.commands.run("view.show_guide")
    for _ in range(2):
        window.commands.run("view.toggle_theme")
        settle(window)
        assert window.guide.text.palette().text().color().name() == theme.current().ink


def grey(picture):
    """The brightness of a picture's points, 0 to 255, shape (rows, columns)."""
    image = picture.toImage().convertToFormat(QImage.Format.Format_Grayscale8)
    points = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return points[:, : image.width()].astype(float)


def test_every_picture_of_the_guide_shows_the_window_as_it_is(desk):
    """Taken again; figures of days and seconds may differ, what stands where may not: blocks of 8 by 8 points are compared."""

    def wait(milliseconds):
        for _ in range(milliseconds // 25):
            spin()

    window = desk(demo_log, demo=True)
    window.resize(1280, 720)
    taken = set()
    for name, picture in shots(window, lambda: settle(window), wait):
        there, now = np.asarray(Image.open(PICTURES / "en" / f"{name}.png").convert("L"), float), grey(picture)
        assert there.shape == now.shape, name
        high, wide = (8 * (size // 8) for size in now.shape)
        off = abs((there - now)[:high, :wide].reshape(high // 8, 8, wide // 8, 8).mean((1, 3)))
        assert (off > 24).mean() < (0.25 if name == "live" else 0.03), name
        taken.add(name)
    shown = re.findall(r"!\[[^\]]+\]\((.+?)\)", "".join(chapters().values()))
    assert set(shown) == {f"pictures/en/{name}.png" for name in taken}
    for language in ("de", "es"):
        assert {path.stem for path in (PICTURES / language).iterdir()} == taken


def test_a_picture_of_the_guide_is_as_wide_as_the_pane_and_large_on_a_press(desk):
    window = desk(demo_log, demo=True)
    window.show_guide()
    settle(window)
    text = window.guide.text
    assert text.horizontalScrollBar().maximum() == 0
    assert "\ufffc" in text.toPlainText()  # where a picture stands
    heading = text.cursorRect(text.document().find("\ufffc"))
    QTest.mouseClick(text.viewport(), Qt.MouseButton.LeftButton, pos=heading.center() - QPoint(40, 0))
    assert text.large.isVisible()
    QTest.keyClick(text.large, Qt.Key.Key_Escape)
    settle(window)
    assert text.large is None


def test_about_names_every_package_that_is_needed_and_a_licence_of_each(desk, monkeypatch):
    # What is needed is what the installed package itself states (importlib.metadata, PEP 566).
    wanted = {re.split(r"[ ;<>=!~\[(]", item)[0].replace("-", "_").casefold() for item in metadata.requires("sagen")}
    told = made_of()
    assert wanted <= {part.name.replace("-", "_").casefold() for part in told}
    assert all(part.licence and part.licence != "not stated" for part in told)
    window, seen = desk(), []
    monkeypatch.setattr(AboutDialog, "exec", lambda dialog: seen.append(dialog))
    window.show_guide()
    settle(window)
    next(button for button in window.guide.findChildren(QPushButton) if button.text() == "About").click()
    assert seen[0].table.rowCount() == len(told)
