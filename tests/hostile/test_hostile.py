"""The short form of the hostile campaign; `./run hostile` runs the long one."""

import unittest

import numpy as np
import pytest
from bench_machine import BenchMachine, ServerMachine, machine_of
from campaign import run as run_mutants
from fuzz import FIRST, KEPT, TARGETS
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from kill_verbs import rounds as kill_verbs
from kills import kill_rounds
from lying_line import rounds as run_lying_line
from lying_modules import rounds as run_lying_modules
from mutants import mutated, read_any, seeds
from outages import run as run_outages
from writers import run as run_writers

from postgres import server
from sagen.casework.paper import pages_of_job
from sagen.casework.weigh_job import Weighed
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store import moving
from sagen.store.entries import Author
from sagen.store.opening import open_log


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
    figures = run_mutants(90, seed=11)
    assert figures.faults == []
    assert figures.tried == 90
    assert figures.read > 5
    assert figures.refused > 25


#: surrogates among them, as names of files that are not UTF-8 bring
WORDS = st.text(st.characters(exclude_categories=()), max_size=60)


@example(["\ud800<b>", "a\udcff\0", "n\ud83d<script>", "c\udc00"])
@given(st.lists(WORDS, min_size=4, max_size=4))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_words_go_through_the_log_out_and_in_again(tmp_path_factory, words):
    folder = tmp_path_factory.mktemp("words")
    machine, owner, note, column = words
    log = open_log(folder / "one", Author(owner, machine))
    try:
        job = log.add_job(f"m {machine}", owner=owner)
        log.add_entry(job.id, NoteEntry(f"n {note}"))
        capture = Capture(f"{note}.csv", 5e4, (Channel(column, np.arange(64, dtype=np.float32)),), (note,))
        entry = log.add_capture(job.id, capture, CaptureEntry("", Sheet.from_data({}, where="words")))
        assert log.capture(entry.record.token).channels[0].column == column
        moving.export_job(log, job.id, folder / "out.zip")
        again = moving.import_job(log, folder / "out.zip")
        assert (again.machine, again.owner) == (log.job(job.id).machine, log.job(job.id).owner)
        assert [this_entry.record for this_entry in again.entries[:1]] == [NoteEntry(f"n {note}")]
        assert log.capture(again.entries[1].record.token).notes == (note,)
        assert {this_job.id for this_job in log.jobs(f"m {machine}")} == {job.id, again.id}
        assert moving.check(log) == []
        html = pages_of_job(again, Weighed(again.id))["technician"]
        html.encode("utf-8")
    finally:
        log.close()


@pytest.mark.parametrize("kind", ["sqlite", "postgresql"])
def test_what_a_killed_bay_was_told_is_kept_is_there_once(kind, tmp_path):
    found = kill_rounds(3, tmp_path, server().url() if kind == "postgresql" else None, seed=3)
    assert found.clean, found
    assert found.acknowledged >= 3


@pytest.mark.long
def test_what_fuzzing_began_with_and_what_it_found_is_read_or_refused():
    told = [(name, data) for name, rows in FIRST.items() for data in rows]
    told += [
        (path.name.rpartition("-crash-")[0] or path.name.rpartition("-")[0], path.read_bytes())
        for path in KEPT.glob("*-*")
    ]
    assert len(told) > 6
    for name, data in told:
        TARGETS[name](data)


def test_over_a_line_that_lies_what_was_handed_over_is_kept():
    found = run_lying_line(4, 21)
    assert found.wrong == []
    assert found.recorded + found.refused == found.tried == 4


def test_a_lying_module_holds_nobody_up_and_hides_no_other():
    found = run_lying_modules(1, 5, ("another service", "cut", "flood"))
    assert found.wrong == []
    assert found.asked == 15


def test_a_command_that_is_killed_leaves_the_old_or_the_new(tmp_path):
    for found in kill_verbs(2, 7, tmp_path, ("convert .npz", "restore", "record .csv")):
        assert found.wrong == []
        assert found.kills + found.finished == 2


def test_bays_on_one_log_lose_nothing_of_each_other():
    assert run_writers(3, 1.0) == ""


@pytest.mark.long
def test_what_is_written_through_an_outage_of_the_server_is_there_once():
    assert run_outages(2, 1) == ""


@pytest.mark.parametrize("base", [BenchMachine, ServerMachine])
def test_in_any_order_nothing_is_lost_doubled_or_owned_by_nobody(base):
    done = unittest.TestResult()
    machine_of(base, 1, 12)().run(done)
    assert not [*done.failures, *done.errors], [*done.failures, *done.errors][0][1]
    assert base.steps >= 12
