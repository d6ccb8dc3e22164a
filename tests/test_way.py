"""The way through a job: how far each stage is, and every page of a job one press away."""

from importlib import import_module

import pytest
from PySide6.QtWidgets import QDialog, QPushButton
from tests.conftest import settle

from sagen.casework.diagnosis import Diagnosis
from sagen.casework.repairing import likely_repair
from sagen.casework.way import way_of
from sagen.casework.weigh_job import weigh_job
from sagen.desk.forms.entries import RepairForm
from sagen.desk.forms.job import JobForm
from sagen.desk.pages import page_names
from sagen.desk.pages.log_page import WAYS_IN
from sagen.desk.pages.way_bars import WayBars
from sagen.desk.window_actions import KEYS_OF, WAY
from sagen.model.job import Entry, Job
from sagen.model.trail import CodeEntry, ComplaintEntry, PartEntry, ReadingEntry, RepairEntry
from sagen.model.vocabulary import Leg
from sagen.model.words import surely
from sagen.reason.decide import ReplaceOrCheck, Way

TRAIL = (
    ComplaintEntry("no_start"), CodeEntry("P0335"), ReadingEntry("volts", "supply", "key_on", 0.03), RepairEntry("supply"),
)  # fmt: skip


def reached(records):
    job = Job(1, None, "Brindle 2", "", 4, tuple(Entry(at + 1, None, record) for at, record in enumerate(records)))
    found = weigh_job(job).diagnosis if records else Diagnosis()
    return {item.leg: item for item in way_of(records, found)}, found


def test_nothing_is_reached_of_an_empty_job():
    way, _ = reached(())
    assert not any(item.done for item in way.values())
    assert way[Leg.CAME_IN].said == "not told yet"
    assert way[Leg.FOUND].said == "not known yet"


@pytest.mark.parametrize(
    ("entries", "done"),
    [(1, {Leg.CAME_IN}), (3, {Leg.CAME_IN, Leg.MEASURED}), (4, {Leg.CAME_IN, Leg.MEASURED, Leg.FOUND, Leg.DONE})],
)
def test_stages_follow_the_trail(entries, done):
    way, found = reached(TRAIL[:entries])
    assert {leg for leg, item in way.items() if item.done} - {Leg.FOUND} == done - {Leg.FOUND}
    assert way[Leg.FOUND].said.endswith(surely(found.suspects[0].probability))
    assert (way[Leg.PROVEN].said == "nothing owed yet") == (entries < 4)


def test_every_page_of_a_job_is_one_press_away_and_names_its_key(desk):
    window = desk()
    assert not window.way.isVisible()
    window.workspace.add_job("Brindle 2", "", 4, [CodeEntry("P0335")])
    settle(window)
    assert window.way.isVisible()
    assert window.way.stages[Leg.CAME_IN].said == "P0335"
    pages = set()
    for leg, rows in WAY.items():
        actions = window.way.stages[leg].menu().actions()
        assert [item.text().split("\t")[0] for item in actions] == [words for words, *_ in rows]
        for item, (_, name, *arguments) in zip(actions, rows, strict=True):
            key = KEYS_OF.get((name, *arguments), "")
            assert item.text().endswith(f"\t{key}" if key else item.text())
            if name in ("view.show_with_job", "view.show_page"):
                item.trigger()
                settle(window)
                assert window.navigation.is_up(arguments[0]), arguments
                pages.add(arguments[0])
    assert pages == {"board", "card", "module", "live", "tester", "plan", "shelf", "work", "proof"}
    for stage in window.way.stages.values():
        assert stage.accessibleName().startswith(str(stage.leg))
        assert min(stage.width(), stage.height()) >= 40


def actions_of(menu):
    """Every row of a menu and of the menus within it, with how many presses it takes from the button."""
    for row in menu.actions():
        if row.menu() is not None:
            yield from ((item, presses + 1) for item, presses in actions_of(row.menu()))
        elif row.isEnabled() and row.text():
            yield row, 2


#: come up by themselves: when a file is brought in, a photo is opened, a practice job is looked back on
BY_THEMSELVES = {"capture", "incoming", "photo", "picture", "debrief"}


def test_every_page_is_found_from_the_empty_log_by_what_is_in_sight(desk, monkeypatch):
    """A page takes three presses at most. What a newcomer needs to find is common practice, no published source."""
    window = desk()
    settle(window)
    wanted = set(page_names()) - BY_THEMSELVES
    found = {name: 0 for name in wanted if window.navigation.is_up(name)}
    assert "log" in found
    monkeypatch.setattr(JobForm, "exec", lambda form: QDialog.DialogCode.Accepted)
    begin = next(
        button
        for button in window.page("log").findChildren(QPushButton)
        if button.isVisible() and "New job" in button.text()
    )
    begin.click()
    settle(window)

    def look(presses):
        for name in wanted:
            if window.navigation.is_up(name):
                found[name] = min(found.get(name, 9), presses)

    look(2)
    for button in (window.header.meter_button, window.header.report_button, window.header.job_button):
        assert button.isVisible()
        button.click()
        settle(window)
        look(1)
    for menu in (*(stage.menu() for stage in window.way.stages.values()), window.header.more_button.menu()):
        for row, presses in list(actions_of(menu)):
            names = wanted - set(found)
            leads = [name for name in names if PAGE_WORDS.get(name, name) in row.text().casefold()]
            if leads:
                row.trigger()
                settle(window)
                look(presses)
    assert set(found) == wanted, wanted - set(found)
    assert max(found.values()) <= 3


#: by which word a page is found where that is not its name
PAGE_WORDS = {
    "board": "picture board", "tester": "sensor in the hand", "work": "taken apart", "card": "machine card",
    "practice": "lessons",
}  # fmt: skip


def test_an_empty_log_greets_with_every_way_in(desk):
    window = desk()
    settle(window)
    page = window.page("log")
    assert page.greeting.isVisible()
    buttons = page.greeting.findChildren(QPushButton)
    assert [button.text() for button in buttons] == [words for words, *_ in WAYS_IN]
    assert all(button.height() >= 40 and button.accessibleDescription() for button in buttons)
    wanted = []
    page.greeting.wanted.disconnect()
    page.greeting.wanted.connect(wanted.append)
    for button in buttons:
        button.click()
    assert wanted == [command for *_, command in WAYS_IN]
    for command in wanted:
        module, _, function = command.partition(".")
        assert callable(getattr(import_module(f"sagen.desk.commands.{module}"), function))
    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    assert not page.greeting.isVisible()


def test_the_decision_is_bars_that_say_what_they_show(app):
    ways = (Way("replace now", 35.0, 24.0, 54.0, 0.04), Way("first ohms of the feed wire", 41.0, 30.0, 59.0, 0.03))
    bars = WayBars()
    bars.show_ways(ReplaceOrCheck(ways, "minutes", ("the part's price",)))
    assert bars.figures(ways[0]) == "35 min (24 to 54), wrong in 4 %"
    assert "Not counted, since not stated: the part's price." in bars.accessibleName()
    tall = bars.sizeHint().height()
    bars.show_ways(ReplaceOrCheck(ways[:1], ""))
    assert bars.sizeHint().height() < tall
    assert bars.figures(ways[0]).startswith("35 (")
    bars.show_ways(None)
    assert bars.isHidden()


def test_a_repair_begins_with_what_leads_and_the_part_that_is_at_hand():
    records = [
        CodeEntry("P0335"), ReadingEntry("volts", "supply", "key_on", 0.03),
        PartEntry("Fuse 7.5 A", "supply", maker="Oskelund", origin="aftermarket", state="ordered"),
        PartEntry("Crank sensor", "sensor", state="offer"),
    ]  # fmt: skip
    _, found = reached(records)
    likely = likely_repair(records, found)
    assert (likely.part, likely.origin) == ("supply", "aftermarket")
    assert likely.text == "Fuse 7.5 A Oskelund"
    alone = likely_repair(records[:2], found)
    assert (alone.text, alone.origin) == ("", "unknown")
    # Where nothing leads, nobody has said what it was.
    assert likely_repair([], Diagnosis()) is None


def test_a_repair_that_names_no_part_is_not_put_on_the_trail(app):
    form = RepairForm()
    assert form.part.currentData() is None
    assert form.problem() == "Say which part it was."
    form.part.setCurrentIndex(form.part.findData("harness"))
    assert form.problem() == ""
    # Nor is its origin stated by anybody.
    assert form.answer() == RepairEntry("harness", origin="unknown")
