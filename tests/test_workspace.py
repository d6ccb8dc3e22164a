"""The workspace without Qt: work off the owner's thread, whose answers are whose, and files on their way in."""

import logging
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from conftest import told
from owner import Owner
from sagen.casework import captures, fault_log, weigh_job
from sagen.casework.command import Queue
from sagen.casework.diagnosis import Diagnosis
from sagen.casework.examination import read_incoming
from sagen.casework.printing import Print
from sagen.casework.weigh_job import Weighed
from sagen.kinds.examine import Stopped
from sagen.model.errors import SagenError
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store.opening import open_log
from sagen.workspace import workspace
from sagen.workspace.events import CaptureOpened, Event, ImportRead, JobChanged, JobWeighed, Said, Working
from sagen.workspace.imports import Import, ImportQueue
from sagen.workspace.queues import Queues
from sagen.workspace.workspace import Workspace

# work --------------------------------------------------------------------------------------------------------


@pytest.fixture
def owner():
    return Owner()


@pytest.fixture
def queues(owner):
    made = Queues(owner.post)
    yield made
    assert made.finish(5)


def test_the_answer_comes_on_the_owners_thread(owner, queues):
    heard = []
    queues.submit(lambda _: threading.get_ident(), done=lambda item: heard.append((item, threading.get_ident())))
    owner.until(lambda: queues.idle)
    [(worker, here)] = heard
    assert worker != here == threading.get_ident()


@pytest.mark.parametrize(("error", "said"), [
    (SagenError("a.csv: no samples"), "a.csv: no samples"),
    (ValueError("seven"), "something unexpected went wrong (ValueError: seven)"),
])  # fmt: skip
def test_a_failure_is_told_in_a_sentence_and_work_goes_on(owner, queues, error, said):
    why, answers = [], []

    def fail(_):
        raise error

    queues.submit(fail, done=answers.append, failed=why.append)
    owner.until(lambda: queues.idle)
    assert (why, answers) == ([said], [])
    queues.submit(lambda _: 5, done=answers.append)
    owner.until(lambda: queues.idle)
    assert answers == [5]


@pytest.mark.parametrize("always", [False, True])
def test_of_stopped_work_only_an_answer_that_must_be_told_is(owner, queues, always):
    heard, begun, go = [], threading.Event(), threading.Event()

    def slow(task):
        begun.set()
        go.wait(5)
        return task.stopped

    task = queues.submit(slow, done=heard.append, failed=heard.append, always_delivers=always)
    assert begun.wait(5)
    task.stop()
    go.set()
    owner.until(lambda: queues.idle)
    assert heard == ([True] if always else [])


def test_progress_says_when_to_stop(owner, queues):
    heard, ended = [], []

    def steps(task):
        for share in range(1000):
            if not task.tell(share / 1000):
                ended.append(share)
                return None
            time.sleep(0.002)
        return "all"

    task = queues.submit(steps, progress=heard.append, done=ended.append)
    owner.until(lambda: len(heard) > 3)
    task.stop()
    owner.until(lambda: queues.idle)
    assert heard == sorted(heard)
    [share] = ended
    assert share < 999


def test_serial_work_of_one_queue_is_done_in_its_order_and_waits_for_no_other_queue(owner, queues):
    done, gate = [], threading.Event()
    queues.submit(lambda _: gate.wait(5), queue=Queue.COMPUTE, serial=True, done=lambda _: done.append("long"))
    for number in range(5):
        queues.submit(lambda _, number=number: number, queue=Queue.STORE, serial=True, done=done.append)
    owner.until(lambda: len(done) == 5)
    assert done == [0, 1, 2, 3, 4]
    gate.set()
    owner.until(lambda: queues.idle)
    assert done[-1] == "long"


def test_finishing_stops_what_only_looks_and_waits_for_what_would_be_lost(owner):
    made, begun, gate, ended = Queues(owner.post), threading.Event(), threading.Event(), []

    def until_stopped(task):
        begun.set()
        while not task.pause(0.01):
            pass
        ended.append("stopped")

    def write(_):
        gate.wait(5)
        ended.append("written")

    made.submit(until_stopped)
    made.submit(write, serial=True, blocks_closing=True)
    assert begun.wait(5)
    threading.Timer(0.2, gate.set).start()
    assert made.finish(5)
    assert sorted(ended) == ["stopped", "written"]


# whose answer ------------------------------------------------------------------------------------------------


class Desk:
    """A workspace with an owner that runs when it is told to, and all that it announced."""

    def __init__(self, place, owner):
        self.owner, self.heard = owner, []
        self.space = Workspace(open_log(place), owner.post)
        self.space.events.subscribe(Event, self.heard.append)
        self.space.begin([])

    def of(self, kind):
        return [event for event in self.heard if isinstance(event, kind)]

    def said(self):
        return " ".join(event.words for event in self.of(Said))

    def wait(self):
        self.owner.until(lambda: self.space.queues.idle)

    def job(self, machine="Brindle 2", *records):
        self.space.add_job(machine, "", 4, told("no_start") if not records else list(records))
        self.wait()
        return self.space.job

    def keep(self, path):
        incoming = read_incoming(path)
        return self.space.keep_incoming(incoming, incoming.sheet)

    def trail(self, job_id):
        return [record.name for record in self.space.log.job(job_id).records(CaptureEntry)]


@pytest.fixture
def desks(tmp_path, owner):
    made = []

    def make(name="log"):
        made.append(Desk(tmp_path / name, owner))
        return made[-1]

    yield make
    for each in made:
        each.space.close()


@pytest.fixture
def bench(desks):
    made = desks()
    made.job()
    return made


@pytest.fixture
def slow_examine(monkeypatch):
    """Examining waits for its gate, and answers its Stop, as that of a long capture does."""
    gate, begun, real = threading.Event(), threading.Event(), captures.examine

    def examine(capture, sheet, *, reference=None, progress=None):
        begun.set()
        while not gate.wait(0.005):
            if not progress(0.1):
                raise Stopped
        return real(capture, sheet, reference=reference, progress=progress)

    monkeypatch.setattr(captures, "examine", examine)
    yield gate, begun
    gate.set()


def test_of_quick_changes_only_the_last_is_weighed(desks, monkeypatch):
    weighed = []
    monkeypatch.setattr(weigh_job, "weigh_job", lambda job, *_: (weighed.append(len(job.entries)), Weighed(job.id))[-1])
    # However slow this machine is, the changes come within one pause.
    monkeypatch.setattr(workspace, "DEBOUNCE", 2.0)
    bench = desks()
    words = "one", "two", "three"
    bench.space.add_job(
        "Brindle 2", "", 4, told("no_start"), then=lambda: [bench.space.add(NoteEntry(word)) for word in words]
    )
    bench.wait()
    # Four changes within a moment: what was asked before the last was stopped in its pause.
    assert weighed[-1] == 4
    assert len(weighed) <= 2


def test_the_same_evidence_is_not_weighed_twice_and_is_weighed_after_another_job(desks, monkeypatch):
    weighed = []
    monkeypatch.setattr(weigh_job, "weigh_job", lambda job, *_: (weighed.append(job.machine), Weighed(job.id))[-1])
    bench = desks()
    first = bench.job("Brindle 2")
    bench.space.reweigh()
    bench.wait()
    assert weighed == ["Brindle 2"]
    assert bench.of(JobWeighed)[-1].weighed.job_id == first.id
    bench.job("Dunnock 3")
    bench.space.open_job(first.id)
    bench.wait()
    assert weighed == ["Brindle 2", "Dunnock 3", "Brindle 2"]
    bench.space.gear = ()
    bench.space.reweigh()
    bench.wait()
    assert len(weighed) == 4


def test_a_job_deleted_elsewhere_takes_no_other_job_off_the_desk(desks):
    """Found by the state machine: its last reading failed only once the next job was there."""
    here, there = desks(), desks()
    gone, stays = here.job("Brindle 2"), here.job("Dunnock 3")
    here.space.open_job(gone.id)
    here.wait()
    there.space.log.delete_job(gone.id)
    here.space.open_job(stays.id)
    here.space.reload()
    here.space._changed_elsewhere(gone.id)
    here.wait()
    assert here.space.job.machine == "Dunnock 3"
    here.space.open_job(stays.id)
    there.space.log.delete_job(stays.id)
    here.space._changed_elsewhere(stays.id)
    here.wait()
    assert here.space.job is None
    assert "Dunnock 3 was deleted elsewhere." in here.said()


def test_a_late_answer_never_replaces_a_newer_one(desks, monkeypatch):
    gates, begun = {1: threading.Event(), 2: threading.Event()}, threading.Event()

    def slow(job, *_):
        begun.set()
        gates[len(job.entries)].wait(5)
        return Weighed(job.id, Diagnosis(pieces=len(job.entries)))

    monkeypatch.setattr(weigh_job, "weigh_job", slow)
    bench = desks()
    bench.space.add_job("Brindle 2", "", 4, told("no_start"))
    bench.owner.until(begun.is_set)
    bench.space.add(NoteEntry("one more"))
    gates[2].set()
    bench.owner.until(lambda: any(event.weighed.diagnosis.pieces == 2 for event in bench.of(JobWeighed)))
    gates[1].set()
    bench.wait()
    assert [event.weighed.diagnosis.pieces for event in bench.of(JobWeighed)][-1] == 2
    assert 1 not in [event.weighed.diagnosis.pieces for event in bench.of(JobWeighed)]


def test_every_event_names_its_workspace_and_job(bench, make_csv):
    bench.keep(make_csv())
    bench.wait()
    assert {event.workspace for event in bench.heard} == {bench.space.identity}
    for kind in (JobChanged, JobWeighed, CaptureOpened):
        assert bench.of(kind)[-1].job == bench.space.job.id


def test_two_captures_kept_one_upon_the_other_are_both_on_the_trail(bench, make_csv, slow_examine):
    gate, _ = slow_examine
    for name in ("one.csv", "two.csv"):
        bench.keep(make_csv(name))
    gate.set()
    bench.wait()
    assert bench.trail(bench.space.job.id) == ["one.csv", "two.csv"]


def test_opening_an_entry_while_one_is_being_kept_drops_neither(bench, make_csv, slow_examine):
    gate, begun = slow_examine
    gate.set()
    bench.keep(make_csv("first.csv"))
    bench.wait()
    gate.clear()
    begun.clear()
    bench.keep(make_csv("second.csv"))
    begun.wait(5)
    [first] = bench.space.job.of(CaptureEntry)
    bench.space.open_entry(first)
    gate.set()
    bench.wait()
    assert bench.trail(bench.space.job.id) == ["first.csv", "second.csv"]


def test_a_note_never_waits_for_an_examination(bench, make_csv, slow_examine):
    gate, begun = slow_examine
    bench.keep(make_csv())
    begun.wait(5)
    bench.space.add(NoteEntry("gap 0.8 mm"))
    bench.owner.until(lambda: len(bench.space.job.entries) == 2)
    assert not gate.is_set()
    gate.set()
    bench.wait()


def test_stop_stops_what_is_shown_and_nothing_else(bench, make_csv, slow_examine):
    gate, begun = slow_examine
    for name in ("first.csv", "second.csv"):
        bench.keep(make_csv(name))
    begun.wait(5)
    assert bench.of(Working)[-1].what == "Examining second.csv"
    bench.space.stop_work()
    gate.set()
    bench.wait()
    assert bench.trail(bench.space.job.id) == ["first.csv"]
    assert "second.csv was not kept: stopped before it was kept" in bench.said()
    assert (bench.of(Working)[-1].what, bench.of(Working)[-1].share) == ("", 1.0)


def test_a_stop_that_comes_too_late_still_shows_what_was_kept(bench, make_csv, monkeypatch):
    # Stop is pressed after the entry was written and before its answer came.
    written, gate, real = threading.Event(), threading.Event(), captures.keep_pyramids

    def slow(*arguments):
        real(*arguments)
        written.set()
        gate.wait(5)

    monkeypatch.setattr(captures, "keep_pyramids", slow)
    bench.keep(make_csv("late.csv"))
    bench.owner.until(written.is_set)
    bench.space.stop_work()
    gate.set()
    bench.wait()
    assert bench.trail(bench.space.job.id) == ["late.csv"]
    assert len(bench.of(JobChanged)[-1].open.of(CaptureEntry)) == 1


def test_what_was_examined_for_one_job_never_reaches_the_bench_of_another(bench, make_csv, slow_examine):
    gate, begun = slow_examine
    first = bench.space.job
    bench.keep(make_csv("of the first.csv"))
    begun.wait(5)
    bench.space.add_job("Tallow Ten", "", 4, told("stalls"))
    bench.owner.until(lambda: bench.space.job.machine == "Tallow Ten")
    gate.set()
    bench.wait()
    assert bench.space.opened is None
    assert bench.of(CaptureOpened) == []
    assert bench.trail(first.id) == ["of the first.csv"]
    assert bench.trail(bench.space.job.id) == []
    assert "of the first.csv is kept in the job Brindle 2" in bench.said()


def test_another_log_is_opened_while_a_capture_is_being_kept(desks, make_csv, slow_examine):
    gate, begun = slow_examine
    first = desks("first")
    old = first.job("Of the first log")
    first.keep(make_csv("late.csv"))
    begun.wait(5)
    second = desks("second")
    new = second.job("Of the second log")
    assert old.id == new.id, "the numbers are the same: only the workspace tells them apart"
    first.space.retire()
    told_before = len(first.heard)
    gate.set()
    first.wait()
    second.space.add(NoteEntry("typed then"))
    second.wait()
    # Only words come of the first any more; nothing of it is applied.
    assert {type(event) for event in first.heard[told_before:]} <= {Said}
    assert second.space.job.machine == "Of the second log"
    assert [entry.record.text for entry in second.space.job.of(NoteEntry)] == ["typed then"]
    assert first.trail(old.id) == ["late.csv"]
    assert second.trail(new.id) == []


def test_paper_refuses_a_capture_of_another_job(bench, make_csv):
    bench.keep(make_csv("a.csv"))
    bench.wait()
    opened = bench.space.opened
    job = bench.job("Tallow Ten")
    with pytest.raises(SagenError, match="of another job"):
        Print(job.id, job, opened, Weighed(job.id)).perform()


def test_undo_in_one_job_leaves_the_other_and_takes_back_a_job(bench):
    first = bench.space.job
    bench.space.add(NoteEntry("of the first"))
    bench.space.add_job("Tallow Ten", "", 4, [])
    bench.wait()
    assert bench.space.log.can_undo(bench.space.job.id) == "new job"
    bench.space.undo()
    bench.wait()
    assert bench.space.job is None
    assert [job.machine for job in bench.space.log.jobs()] == ["Brindle 2"]
    assert not any(entry.withdrawn for entry in bench.space.log.job(first.id).entries)
    bench.space.redo()
    bench.wait()
    assert bench.space.job.machine == "Tallow Ten"
    bench.space.add(NoteEntry("of the second"))
    bench.wait()
    bench.space.undo()
    bench.wait()
    assert "Taken back: Note added." in bench.said()


def test_a_record_that_is_worked_out_goes_to_the_job_that_it_was_typed_for(bench):
    first, gate = bench.space.job, threading.Event()
    bench.space.add_worked_out(lambda: (gate.wait(5), NoteEntry("worked out"))[-1], NoteEntry("as typed"), job=first.id)
    bench.job("Tallow Ten")
    gate.set()
    bench.wait()
    assert [entry.record.text for entry in bench.space.log.job(first.id).of(NoteEntry)] == ["worked out"]
    assert "Kept in the job Brindle 2" in bench.said()
    bench.space.add_worked_out(lambda: 1 // 0, NoteEntry("as typed"), job=first.id)
    bench.wait()
    assert bench.space.log.job(first.id).of(NoteEntry)[-1].record.text == "as typed"


# files on their way in ----------------------------------------------------------------------------------------


def test_a_new_job_that_fails_leaves_the_queue_of_files_going(desks, make_csv, monkeypatch):
    bench = desks()
    real, failing = type(bench.space.log).add_job, [True]

    def add_job(*given, **named):
        if failing.pop() if failing else False:
            raise SagenError("the disk is full")
        return real(*given, **named)

    monkeypatch.setattr(type(bench.space.log), "add_job", add_job)
    bench.space.bring_in([make_csv("one.csv"), make_csv("two.csv")])
    bench.owner.until(lambda: bench.of(ImportRead))
    bench.wait()
    assert bench.of(ImportRead)[-1].incoming.path.name == "two.csv"
    assert "one.csv: the disk is full" in bench.said()
    bench.space.leave_incoming()
    bench.wait()
    assert not bench.space.imports.busy


def test_a_queue_of_files_goes_on_at_kept_left_and_failed_and_sums_up_once():
    files = ImportQueue()
    files.add([Import(Path(f"{number}.csv")) for number in range(8)])
    summaries = []
    for number in range(8):
        assert files.next().path == Path(f"{number}.csv")
        assert files.next() is None, "one at a time"
        if number in (0, 5):
            files.failed("no samples")
        elif number == 3:
            files.left()
        else:
            files.keeping()
            # What is being kept is written while the next file is already open.
            files.kept()
        summaries.append(files.summary())
    assert summaries[:-1] == [None] * 7
    assert summaries[-1].startswith("5 of 8 kept")
    assert all(word in summaries[-1] for word in ("0.csv", "5.csv", "no samples", "1 left"))
    assert files.summary() is None


def test_a_queue_of_one_says_nothing_more_and_waits_for_what_is_being_written():
    files = ImportQueue()
    files.add([Import(Path("a")), Import(Path("b"))])
    files.next()
    files.keeping()
    files.next()
    files.left()
    assert files.summary() is None, "the first is still being written"
    files.not_kept("a", "the disk is full")
    assert "the disk is full" in files.summary()
    files.add([Import(Path("c"))])
    files.next()
    files.keeping()
    files.kept()
    assert files.summary() is None


# what nobody expected -------------------------------------------------------------------------------------


def test_a_fault_of_the_program_is_written_down_and_told_in_one_sentence(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    logger = logging.getLogger("sagen")
    monkeypatch.setattr(logger, "handlers", [])
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    heard = []
    fault_log.start(heard.append)
    thread = threading.Thread(target=lambda: 1 // 0)
    thread.start()
    thread.join()
    try:
        [][1]
    except IndexError as error:
        sys.excepthook(type(error), error, error.__traceback__)
    assert len(heard) == 2
    assert all(item.startswith("something unexpected went wrong") and "\n" not in item for item in heard)
    [file] = tmp_path.rglob("sagen.log")
    assert "ZeroDivisionError" in file.read_text()
    assert "IndexError" in file.read_text()
    assert "Traceback" not in capsys.readouterr().err


def test_after_a_crash_a_recovered_capture_has_its_probe_factor_once(desks, make_csv, monkeypatch):
    path = make_csv(pull_up=50.0, high=0.5, low=0.01)
    sheet = path.with_suffix(".sheet.toml")
    sheet.write_text(sheet.read_text().replace("pull_up = 50.0", "pull_up = 5.0\nfactor = 10.0"))

    class Killed(BaseException):
        """As a kill: nothing is caught and nothing is tidied up."""

    def killed(*_, **__):
        raise Killed

    bench = desks("crashed")
    job = bench.job()
    incoming = read_incoming(path)
    monkeypatch.setattr(captures, "examine", killed)
    with pytest.raises(Killed):
        captures.Keep(job.id, incoming, incoming.sheet).perform(bench.space.log)
    monkeypatch.undo()
    bench.space.close()
    again = desks("crashed")
    again.wait()
    assert "was being kept when the program ended" in again.said()
    [entry] = [entry for entry in again.space.log.job(job.id).entries if isinstance(entry.record, CaptureEntry)]
    assert entry.record.sheet.channel[0].factor in (None, 1.0)
    [channel] = again.space.log.capture(entry.record.token).channels
    assert np.percentile(channel.values(), 75) == pytest.approx(5.0, abs=0.2)
    assert again.space.log.unfinished == {}
