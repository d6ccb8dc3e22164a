"""Slow work off the interface thread: answers, failures, stopping, and never two answers of which one is old."""

import logging
import sys
import threading
import time
from pathlib import Path

import pytest
from PySide6.QtCore import QThread
from sagen.casework.heap import Heap
from sagen.desk.work import Work

from conftest import spin, told
from sagen.casework import fault_log, requests
from sagen.casework.examination import read_incoming
from sagen.casework.weigh_job import Weighed
from sagen.desk.workspace import Workspace
from sagen.kinds.examine import Stopped
from sagen.model.errors import SagenError
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store.opening import open_log


@pytest.fixture
def work(app):
    made = Work()
    yield made
    assert made.finish(5000)


def wait(work, most=3000):
    for _ in range(most):
        if work.idle:
            return
        spin(10)
    raise AssertionError("still busy")


def test_the_answer_comes_on_the_interface_thread(work):
    came = []
    here = QThread.currentThread()
    work.ask(lambda _: threading.get_ident(), done=lambda item: came.append((item, QThread.currentThread() is here)))
    wait(work)
    assert came[0][0] != threading.get_ident()
    assert came[0][1]


@pytest.mark.parametrize(("error", "said"), [
    (SagenError("a.csv: no samples"), "a.csv: no samples"),
    (ValueError("seven"), "something unexpected went wrong (ValueError: seven)"),
])  # fmt: skip
def test_a_failure_is_told_in_a_sentence_and_work_goes_on(work, error, said):
    told, came = [], []

    def fail(_):
        raise error

    work.ask(fail, done=came.append, failed=told.append)
    wait(work)
    assert (told, came) == ([said], [])
    work.ask(lambda _: 5, done=came.append)
    wait(work)
    assert came == [5]


def test_an_answer_after_stopping_is_dropped(work):
    came, begun, go = [], threading.Event(), threading.Event()

    def slow(request):
        begun.set()
        go.wait(5)
        return request.stopped

    request = work.ask(slow, done=came.append, failed=came.append)
    assert begun.wait(5)
    request.stop()
    go.set()
    wait(work)
    spin(20)
    assert came == []


def test_progress_says_when_to_stop(work):
    heard, ended = [], []

    def steps(request):
        for share in range(1000):
            if not request.tell(share / 1000):
                ended.append(share)
                return None
            time.sleep(0.002)
        return "all"

    request = work.ask(steps, progress=heard.append, done=ended.append)
    for _ in range(100):
        spin(10)
        if len(heard) > 3:
            break
    request.stop()
    wait(work)
    assert heard == sorted(heard)
    assert len(ended) == 1
    assert ended[0] < 999


def test_a_pause_ends_at_once_when_stopped(work):
    took = []

    def nap(request):
        began = time.perf_counter()
        took.append((request.pause(20.0), time.perf_counter() - began))

    request = work.ask(nap)
    spin(30)
    request.stop()
    wait(work)
    assert took[0][0] is True
    assert took[0][1] < 5


def test_busy_is_told_once_each_way(work):
    told = []
    work.busy.connect(told.append)
    work.ask(lambda _: None)
    wait(work)
    assert told[0] is True
    assert told[-1] is False


def test_finishing_stops_what_runs(app):
    made = Work()
    stopped = threading.Event()

    def until(request):
        while not request.pause(0.01):
            pass
        stopped.set()

    made.ask(until)
    spin(30)
    assert made.finish(5000)
    assert stopped.is_set()


def test_of_quick_changes_only_the_last_is_weighed(app, tmp_path, monkeypatch):
    weighed = []
    monkeypatch.setattr(requests, "weigh_job", lambda job, *_: (weighed.append(len(job.entries)), Weighed(job.id))[-1])
    workspace = Workspace()
    workspace.log = open_log(tmp_path / "log")
    workspace.add_job(
        "Brindle 2", "", 4, told("no_start"), then=lambda: [workspace.add(NoteEntry(word)) for word in words]
    )
    words = "one", "two", "three"
    wait(workspace.work)
    # Four changes within a moment: what was asked before the last was stopped in its pause.
    assert weighed == [4]
    workspace.close()


def test_a_late_answer_never_replaces_a_newer_one(app, tmp_path, monkeypatch):
    gates = {1: threading.Event(), 2: threading.Event()}

    def slow(job, *_):
        gates[len(job.entries)].wait(5)
        return Weighed(job.id, pieces=len(job.entries))

    monkeypatch.setattr(requests, "weigh_job", slow)
    workspace = Workspace()
    workspace.log = open_log(tmp_path / "log")
    heard = []
    workspace.weighed.connect(lambda item: heard.append(item.pieces))
    workspace.add_job("Brindle 2", "", 4, told("no_start"))
    spin(300)  # the first weighing is under way
    workspace.add(NoteEntry("one more"))
    gates[2].set()
    spin(300)
    gates[1].set()
    wait(workspace.work)
    assert heard[-1] == 2
    assert 1 not in heard
    workspace.close()


# what is written is written -----------------------------------------------------------------------------


@pytest.fixture
def workspace(app, tmp_path):
    made = Workspace()
    made.log = open_log(tmp_path / "log")
    made.add_job("Brindle 2", "", 4, told("no_start"))
    wait(made.work)
    yield made
    made.close()


@pytest.fixture
def slow_examine(monkeypatch):
    """Examining waits for its gate, and answers its Stop, as that of a long capture does."""
    gate, begun, real = threading.Event(), threading.Event(), requests.examine

    def examine(capture, sheet, *, reference=None, progress=None):
        begun.set()
        while not gate.wait(0.005):
            if not progress(0.1):
                raise Stopped
        return real(capture, sheet, reference=reference, progress=progress)

    monkeypatch.setattr(requests, "examine", examine)
    yield gate, begun
    gate.set()


def trail(workspace, job_id):
    return [entry.record.name for entry in workspace.log.job(job_id).of(CaptureEntry)]


def test_two_captures_kept_one_upon_the_other_are_both_on_the_trail(workspace, make_csv, slow_examine):
    gate, _ = slow_examine
    heard = []
    workspace.kept.connect(heard.append)
    for name in ("one.csv", "two.csv"):
        incoming = read_incoming(make_csv(name))
        workspace.keep(incoming, incoming.sheet)
    gate.set()
    wait(workspace.work)
    assert trail(workspace, workspace.job.id) == heard == ["one.csv", "two.csv"]


def test_opening_an_entry_while_one_is_being_kept_drops_neither(workspace, make_csv, slow_examine):
    gate, begun = slow_examine
    gate.set()
    incoming = read_incoming(make_csv("first.csv"))
    workspace.keep(incoming, incoming.sheet)
    wait(workspace.work)
    gate.clear()
    begun.clear()
    incoming = read_incoming(make_csv("second.csv"))
    workspace.keep(incoming, incoming.sheet)
    begun.wait(5)
    [first] = workspace.job.of(CaptureEntry)
    workspace.open_entry(first)
    gate.set()
    wait(workspace.work)
    assert trail(workspace, workspace.job.id) == ["first.csv", "second.csv"]


def test_a_keeping_that_is_stopped_says_so_and_leaves_nothing(workspace, make_csv, slow_examine):
    _, begun = slow_examine
    told_so = []
    workspace.not_kept.connect(lambda name, why: told_so.append((name, why)))
    incoming = read_incoming(make_csv("long.csv"))
    workspace.keep(incoming, incoming.sheet)
    begun.wait(5)
    workspace.stop_work()
    wait(workspace.work)
    assert told_so == [("long.csv", "stopped before it was kept")]
    assert trail(workspace, workspace.job.id) == []


def test_stop_stops_what_is_shown_and_nothing_else(workspace, make_csv, slow_examine):
    gate, begun = slow_examine
    shown = []
    workspace.working.connect(lambda what, share: shown.append((what, share)))
    for name in ("first.csv", "second.csv"):
        incoming = read_incoming(make_csv(name))
        workspace.keep(incoming, incoming.sheet)
    begun.wait(5)
    assert shown[-1][0] == "Examining second.csv"
    workspace.stop_work()
    gate.set()
    wait(workspace.work)
    assert trail(workspace, workspace.job.id) == ["first.csv"]
    assert shown[-1] == ("", 1.0)


def test_a_stop_that_comes_too_late_still_shows_what_was_kept(workspace, make_csv, monkeypatch):
    # Stop is pressed after the entry was written and before its answer came.
    written, gate, real = threading.Event(), threading.Event(), requests.keep_pyramids

    def slow(*arguments):
        real(*arguments)
        written.set()
        gate.wait(5)

    monkeypatch.setattr(requests, "keep_pyramids", slow)
    kept, shown = [], []
    workspace.kept.connect(kept.append)
    workspace.job_changed.connect(lambda job: shown.append(len(job.of(CaptureEntry))))
    incoming = read_incoming(make_csv("late.csv"))
    workspace.keep(incoming, incoming.sheet)
    assert written.wait(30)
    workspace.stop_work()
    gate.set()
    wait(workspace.work)
    assert kept == ["late.csv"]
    assert shown[-1] == len(trail(workspace, workspace.job.id)) == 1


def test_what_was_examined_for_one_job_never_reaches_the_bench_of_another(workspace, make_csv, slow_examine):
    gate, begun = slow_examine
    opened = []
    workspace.capture_opened.connect(opened.append)
    first = workspace.job
    incoming = read_incoming(make_csv("of the first.csv"))
    workspace.keep(incoming, incoming.sheet)
    begun.wait(5)
    workspace.add_job("Tallow Ten", "", 4, told("stalls"))
    spin(300)
    gate.set()
    wait(workspace.work)
    spin(50)
    assert workspace.job.machine == "Tallow Ten"
    assert workspace.opened is None
    assert opened == []
    assert trail(workspace, first.id) == ["of the first.csv"]
    assert trail(workspace, workspace.job.id) == []


def test_paper_refuses_a_capture_of_another_job(workspace, make_csv):
    incoming = read_incoming(make_csv("a.csv"))
    workspace.keep(incoming, incoming.sheet)
    wait(workspace.work)
    opened = workspace.opened
    workspace.add_job("Tallow Ten", "", 4, told("stalls"))
    wait(workspace.work)
    with pytest.raises(SagenError, match="of another job"):
        requests.Print(workspace.job.id, workspace.job, opened, Weighed(workspace.job.id)).perform()


def test_undo_in_one_job_leaves_the_other_and_takes_back_a_job(workspace):
    first = workspace.job
    workspace.add(NoteEntry("of the first"))
    workspace.add_job("Tallow Ten", "", 4, [])
    wait(workspace.work)
    assert workspace.steps()[0] == "new job"
    workspace.undo()
    wait(workspace.work)
    assert workspace.job is None
    assert [job.machine for job in workspace.log.jobs()] == ["Brindle 2"]
    assert not any(entry.withdrawn for entry in workspace.log.job(first.id).entries)
    workspace.redo()
    wait(workspace.work)
    assert workspace.job.machine == "Tallow Ten"


# a heap of files ------------------------------------------------------------------------------------------


def test_a_heap_goes_on_at_kept_left_and_failed_and_sums_up_once():
    heap = Heap()
    heap.add([Path(f"{number}.csv") for number in range(8)])
    summaries = []
    for number in range(8):
        assert heap.next() == Path(f"{number}.csv")
        assert heap.next() is None, "one at a time"
        if number in (0, 5):
            heap.failed("no samples")
        elif number == 3:
            heap.left()
        else:
            heap.keeping()
            # What is being kept is written while the next file is already open.
            heap.kept()
        summaries.append(heap.summary())
    assert summaries[:-1] == [None] * 7
    assert summaries[-1].startswith("5 of 8 kept")
    assert all(word in summaries[-1] for word in ("0.csv", "5.csv", "no samples", "1 left"))
    assert heap.summary() is None


def test_a_heap_of_one_says_nothing_more_and_waits_for_what_is_being_written():
    heap = Heap()
    heap.add([Path("a"), Path("b")])
    heap.next()
    heap.keeping()
    heap.next()
    heap.left()
    assert heap.summary() is None, "the first is still being written"
    heap.not_kept("a", "the disk is full")
    assert "the disk is full" in heap.summary()
    heap.add([Path("c")])
    heap.next()
    heap.keeping()
    heap.kept()
    assert heap.summary() is None


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
