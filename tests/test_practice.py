"""The practice bay headless: what is drawn, what is scored, and that nothing tells the answer."""

import json

import pytest
from tests.test_cli import sagen

from sagen.casework.practice import FAMILIES, LEVELS, PracticeMachine, play, score
from sagen.model.errors import SagenError
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


def test_a_frank_fault_is_found_in_time_and_the_plan_that_knows_it_is_no_longer():
    told = score(2, 1)
    assert told == score(2, 1)
    assert told.right
    assert told.parts == 1
    assert 0 < told.best_minutes <= told.minutes < 240


def test_it_can_be_stopped():
    with pytest.raises(SagenError, match="stopped"):
        play(PracticeMachine(1, 1), tick=lambda: False)


def test_the_command_keeps_the_contract_and_tells_nothing_before_its_time():
    told = json.loads(sagen("practice", "--seed", "2", "--level", "1", "--auto", "--json").stdout)
    assert set(told) == KEYS
    assert (told["seed"], told["level"]) == (2, 1)
    assert 0 <= told["claimed"] <= 1
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
