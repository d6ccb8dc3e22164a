"""The short form of the hostile campaign; `./run hostile` runs the long one."""

import numpy as np
import pytest
from campaign import run as run_mutants
from kills import kill_rounds
from mutants import mutated, read_any, seeds
from writers import run as run_writers

from postgres import server
from sagen.store.opening import place


def test_what_is_not_broken_is_read(tmp_path):
    sound = seeds(tmp_path)
    for name, data in sound.items():
        folder = tmp_path / f"as {name}"
        folder.mkdir()
        (folder / name).write_bytes(data)
        read_any(folder / name)
    rng = np.random.default_rng(1)
    others = list(sound.values())
    changed = [mutated(rng, sound["a.wav"], others) != sound["a.wav"] for _ in range(40)]
    assert np.mean(changed) > 0.9, "a mutant is another file"


def test_broken_files_are_read_or_refused_in_a_sentence_and_leave_nothing():
    figures = run_mutants(160, seed=11)
    assert figures.faults == []
    assert figures.tried == 160
    assert figures.read > 5
    assert figures.refused > 50


@pytest.mark.parametrize("kind", ["sqlite", "postgresql"])
def test_what_a_killed_bay_was_told_is_kept_is_there_once(kind, tmp_path):
    found = kill_rounds(4, tmp_path, place(server().url())[1] if kind == "postgresql" else None, seed=3)
    assert found.clean, found
    assert found.acknowledged >= 4


def test_bays_on_one_log_lose_nothing_of_each_other():
    assert run_writers(3, 2.0) == ""
