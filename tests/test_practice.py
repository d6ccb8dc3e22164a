"""The practice bay headless: what is drawn, what is scored, and that nothing tells the answer."""

import json

import pytest
from tests.test_cli import sagen

from conftest import settle
from sagen.casework.lessons import lessons_of
from sagen.casework.practice import FAMILIES, LEVELS, PracticeMachine, play, score
from sagen.casework.practice_job import Debrief, DrawPractice
from sagen.desk.commands.practice import draw
from sagen.model.errors import SagenError
from sagen.model.practice import mark, practice_of
from sagen.model.trail import NoteEntry, RepairEntry
from sagen.model.vocabulary import Part
from sagen.reason.facts import cause_of, knowledge
from sagen.reason.history import Replaced

KEYS = {"seed", "level", "right", "cause", "claimed", "minutes", "best_minutes", "parts"}


@pytest.mark.parametrize("level", LEVELS)
def test_a_machine_is_the_same_for_its_seed_and_within_its_level(level):
    drawn = [PracticeMachine(level, seed) for seed in range(30)]
    again = [PracticeMachine(level, seed) for seed in range(30)]
    assert [(item.faults, item.told, item.family) for item in drawn] == [
        (item.faults, item.told, item.family) for item in again
    ]
    low, high = LEVELS[level].sizes
    facts = knowledge()
    for item in drawn:
        assert len(item.faults) <= LEVELS[level].faults
        assert all(low <= size <= high for size in item.faults.values())
        assert LEVELS[level].comes_and_goes or not set(item.faults) & set(facts.comings)
        assert LEVELS[level].sound_too or item.faults
        # Misleading: what was changed before is never what is wrong.
        for told in item.told:
            assert not isinstance(told, Replaced) or cause_of(item.first) not in facts.parts[told.part]
    assert len({item.family for item in drawn}) == len(LEVELS[level].families)


def test_a_check_reads_the_fault_and_a_repair_of_it_makes_the_machine_well():
    seed = next(seed for seed in range(400) if "fuse_blown" in PracticeMachine(1, seed).faults)
    machine = PracticeMachine(1, seed)
    (feed,) = machine.answer(knowledge().check("feed at the plug"))
    assert feed.value < 1.0  # common practice, no published source: a blown fuse leaves no feed
    assert not machine.repair(Part.SENSOR)
    assert machine.needless == 1
    assert machine.repair(Part.SUPPLY)
    (feed,) = machine.answer(knowledge().check("feed at the plug"))
    assert feed.value > 10.0


@pytest.mark.long
def test_the_same_machine_is_played_the_same_way_again():
    assert score(5, 2) == score(5, 2)


def test_it_can_be_stopped():
    with pytest.raises(SagenError, match="stopped"):
        play(PracticeMachine(1, 1), tick=lambda: False)


def test_the_command_keeps_the_contract_and_tells_nothing_before_its_time():
    told = json.loads(sagen("practice", "--seed", "2", "--level", "1", "--auto", "--json").stdout)
    assert set(told) == KEYS
    assert (told["seed"], told["level"]) == (2, 1)
    assert 0 <= told["claimed"] <= 1
    # A frank fault is found in time, and the plan that knows it is no longer.
    assert told["right"]
    assert told["parts"] == 1
    assert 0 < told["best_minutes"] <= told["minutes"] < 240
    story = sagen("practice", "--seed", "2", "--level", "1").stdout
    machine = PracticeMachine(1, 2)
    assert machine.name in story
    assert not any(fault in story or fault.replace("_", " ") in story for fault in machine.faults)
    assert sagen("practice", "--seed", "2", "--level", "9").returncode == 2
    done = sagen("practice", "--seed", "-2", "--level", "1", "--json")
    assert done.returncode == 1
    assert "seed -2" in json.loads(done.stdout)["error"]


def test_every_circuit_of_practice_can_be_told_apart_from_the_others():
    assert len({(spec.role, spec.sensor) for spec in FAMILIES.values()}) == len(FAMILIES)


# in the window ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "text", ["Practice, level 9, machine 1.", "practice, level 1", "He said: Practice, level 1, machine 2."]
)
def test_only_what_was_drawn_is_practice(text):
    assert practice_of([NoteEntry(text)]) is None


def test_a_practice_job_tells_its_story_and_not_its_fault():
    story = DrawPractice(None, 2, 11).perform()
    assert practice_of(story.records) == (2, 11)
    machine = PracticeMachine(2, 11)
    words = " ".join(str(record) for record in story.records)
    assert not any(fault in words for fault in machine.faults)
    assert story.records == DrawPractice(None, 2, 11).perform().records


def test_a_learner_measures_repairs_and_is_told_what_it_was(desk):
    seed = next(seed for seed in range(400) if "fuse_blown" in PracticeMachine(1, seed).faults)
    window = desk()
    draw(window.workspace, 1, seed)
    settle(window)
    job = window.workspace.job
    assert practice_of(job.records()) == (1, seed)
    page = window.navigation.show_circuit()
    settle(window)
    # There is no demo and no address: its own stand-in answers.
    assert page.entry.stand_in.isVisible()
    page.aim("supply", "key_on")
    page.entry.stand_in.click()
    settle(window)
    assert float(page.entry.value.text()) < 1.0  # common practice, no published source: a blown fuse leaves no feed
    wired = page.instruments.wired(job)
    try:
        assert wired.meter().read("supply", "key_on").value < 1.0
    finally:
        wired.close()
    window.workspace.add(RepairEntry(Part.SENSOR), RepairEntry(Part.SUPPLY))
    settle(window)
    page.entry.value.clear()
    page.entry.stand_in.click()
    settle(window)
    assert float(page.entry.value.text()) > 10.0
    told = Debrief(job.id, window.workspace.job).perform()
    assert "fuse blown" in told.lower()
    assert "1 of them for nothing" in told
    assert "It is well now." in told
    window.commands.run("practice.debrief")
    settle(window)
    assert "fuse blown" in window.message.text.text().lower()


def test_practice_teaches_the_shop_nothing():
    told = [NoteEntry(mark(1, 3)), RepairEntry(Part.SENSOR)]
    assert lessons_of(told) == ()
    assert len(lessons_of(told[1:])) == 1


def test_what_is_no_practice_is_not_debriefed(desk):
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    window.commands.run("practice.debrief")
    assert "Open a practice job first" in window.message.text.text()
