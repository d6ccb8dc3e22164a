"""Slow work off the interface thread: answers, failures, stopping, and never two answers of which one is old."""

import threading
import time

import pytest
from PySide6.QtCore import QThread

from conftest import told
from sagen.desk.work import Work
from sagen.desk.workspace import Weighed, Workspace
from sagen.model.errors import SagenError
from sagen.store.log import JobLog
from test_window import app, spin  # noqa: F401


@pytest.fixture
def work(app):  # noqa: F811
    made = Work()
    yield made
    assert made.finish(5000)


def wait(work, most=200):
    for _ in range(most):
        if work.idle:
            return
        spin(10)
    raise AssertionError("still busy")


def test_the_answer_comes_on_the_interface_thread(work):
    came = []
    here = QThread.currentThread()
    work.ask(lambda _: threading.get_ident(), done=lambda one: came.append((one, QThread.currentThread() is here)))
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


def test_finishing_stops_what_runs(app):  # noqa: F811
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


def test_of_quick_changes_only_the_last_is_weighed(app, tmp_path, monkeypatch):  # noqa: F811
    from sagen.desk import workspace as module

    weighed = []
    monkeypatch.setattr(
        module, "weigh_job", lambda job, gear, strategy: (weighed.append(len(job.entries)), Weighed())[-1]
    )
    workspace = Workspace()
    workspace.log = JobLog(tmp_path / "log")
    workspace.add_job("Brindle 2", "", 4, told("no_start"))
    for words in "one", "two", "three":
        workspace.add("note", {"text": words})
    wait(workspace.work)
    # Four changes within a moment: what was asked before the last was stopped in its pause.
    assert weighed == [4]
    workspace.close()


def test_a_late_answer_never_replaces_a_newer_one(app, tmp_path, monkeypatch):  # noqa: F811
    from sagen.desk import workspace as module

    gates = {1: threading.Event(), 2: threading.Event()}

    def slow(job, gear, strategy):
        gates[len(job.entries)].wait(5)
        return Weighed(pieces=len(job.entries))

    monkeypatch.setattr(module, "weigh_job", slow)
    workspace = Workspace()
    workspace.log = JobLog(tmp_path / "log")
    heard = []
    workspace.weighed.connect(lambda one: heard.append(one.pieces))
    workspace.add_job("Brindle 2", "", 4, told("no_start"))
    time.sleep(0.2)  # the first weighing is under way
    workspace.add("note", {"text": "one more"})
    gates[2].set()
    spin(300)
    gates[1].set()
    wait(workspace.work)
    assert heard[-1] == 2
    assert 1 not in heard
    workspace.close()
