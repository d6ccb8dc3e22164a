"""Shared by all tests: an offscreen screen, a folder of captures, and waveforms that owe nothing to Sagen."""

from __future__ import annotations

import atexit
import fcntl
import gc
import hashlib
import os
import pickle
import shutil
import sys
import tempfile
import threading
import traceback
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# What is tested is told in English, whatever the machine speaks; other languages are asked for where they are tested.
os.environ["SAGEN_LANGUAGE"] = "en"

from collections import defaultdict
from functools import cache

import numpy as np
import pytest
from hypothesis import settings
from PySide6.QtCore import QCoreApplication, QEventLoop, QMimeData, QPointF, QSettings, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent

import apart
from sagen.casework import captures, weigh_job
from sagen.casework.demo import make_demo_log
from sagen.desk import shell
from sagen.desk.app import make_application, make_window, own_log
from sagen.model.language import spoken
from sagen.model.trail import CodeEntry, ComplaintEntry
from sagen.reason.facts import knowledge
from sagen.store.opening import open_log


def pytest_collection_finish(session):
    """What was imported by now stays to the end: full rounds of the garbage collection need not look through it again and again."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 50, 100)


# The same examples every time, and no time limit of their own: a busy machine is not a defect.
settings.register_profile("sagen", deadline=None, derandomize=True)
settings.load_profile("sagen")


def square_teeth(
    *, slots=60, missing=2, rpm=200.0, seconds=2.0, sfreq=50_000.0, low=0.1, high=5.0, duty=0.5, lost=(), ripple=0.0,
    cylinders=4, phase=0.3, noise=0.01, seed=0,
):  # fmt: skip
    """Volts of a switching sensor, low while a tooth passes, float32, shape (seconds * sfreq,).

    The shaft turns at `rpm` (1 + ripple cos(...)), whose integral is written out here, so that tooth times
    are known by arithmetic alone.
    """
    time = np.arange(round(seconds * sfreq)) / sfreq
    turns = rpm / 60 * time
    turns = turns + ripple / (np.pi * cylinders) * np.sin(np.pi * cylinders * turns) + phase
    place = (turns % 1.0) * slots
    number = np.floor(place).astype(int) + 1
    tooth = (place % 1.0 < duty) & (number <= slots - missing) & ~np.isin(number, lost)
    volts = np.where(tooth, low, high) + np.random.default_rng(seed).normal(0, noise, len(time))
    return volts.astype(np.float32)


@cache
def _table(teeth: tuple) -> str:
    """The text of a capture of `square_teeth`, made once for the same teeth."""
    given = dict(teeth)
    volts = square_teeth(**given)
    rows = np.column_stack([np.arange(len(volts)) / given.get("sfreq", 50_000.0), volts]).tolist()
    return "\n".join(["Time (s),CH1 (V)", *(f"{at:.7g},{volt:.7g}" for at, volt in rows), ""])


@pytest.fixture
def make_csv(tmp_path):
    """Write a capture of `square_teeth` with its sheet; answers the path."""

    def make(name="a.csv", *, sheet=True, pull_up=5.0, wheel="60-2", state="cranking", extra="", **teeth):
        path = tmp_path / name
        path.write_text(_table(tuple(sorted(teeth.items()))))
        if sheet:
            path.with_name(path.stem + ".sheet.toml").write_text(
                f'{extra}\n[engine]\ncylinders = 4\n[conditions]\nstate = "{state}"\n[[channel]]\ncolumn = "CH1"\n'
                f'role = "crank"\nsensor = "hall"\nwheel = "{wheel}"\npull_up = {pull_up}\n'
            )
        return path

    return make


@pytest.fixture(autouse=True)
def nothing_goes_wrong_unseen(monkeypatch):
    """What is raised in a slot or a thread is only told to the hooks: here it fails the test."""
    raised = []
    monkeypatch.setattr(sys, "excepthook", lambda kind, error, trace: raised.append(error))
    monkeypatch.setattr(threading, "excepthook", lambda what: raised.append(what.exc_value))
    yield
    assert not raised, "".join(traceback.format_exception(raised[0]))


# the short run and the long one -----------------------------------------------------------------------------


def pytest_addoption(parser):
    parser.addoption("--long", action="store_true", help="every case and the long tests, as `./run hostile` does")


def pytest_configure(config):
    config.addinivalue_line("markers", "long: only in the long run")
    config.addinivalue_line("markers", "sampled(n): of its cases only n, spread evenly, but in the long run")
    profiles = {"short": 5, "long": 300}
    for name, examples in profiles.items():
        settings.register_profile(name, max_examples=examples, deadline=None)
    settings.load_profile("long" if config.getoption("--long") else "short")


def pytest_collection_modifyitems(config, items):
    """The short run leaves out what is marked, and of a family of cases all but a few that are spread over it."""
    if config.getoption("--long"):
        return
    families = defaultdict(list)
    for item in items:
        if item.get_closest_marker("sampled"):
            families[item.nodeid.split("[")[0]].append(item)
    left_out = [item for item in items if item.get_closest_marker("long")]
    for family in families.values():
        most = family[0].get_closest_marker("sampled").args[0]
        kept = {round((k + 0.5) * len(family) / most - 0.5) for k in range(most)} if len(family) > most else None
        left_out += [item for k, item in enumerate(family) if kept is not None and k not in kept]
    gone = set(map(id, left_out))
    config.hook.pytest_deselected(items=left_out)
    items[:] = [item for item in items if id(item) not in gone]


@pytest.fixture
def few(request):
    """Every third of some things in the short run, all of them in the long one."""
    step = 1 if request.config.getoption("--long") else 3
    return lambda things: list(things)[::step]


def demo_log(_task=None):
    """The demo log, made once a test run, whichever of its processes is first, and copied: each test may change its own."""
    template = apart.folder()
    with (template / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (template / "made").exists():
            make_demo_log(template / "log").close()
            (template / "made").touch()
        copy = Path(tempfile.mkdtemp(prefix="sagen-test-log-"))
        atexit.register(shutil.rmtree, copy, ignore_errors=True)
        shutil.copytree(template / "log", copy, dirs_exist_ok=True)
    return open_log(copy)


def told(complaint="", *codes):
    """What a job's trail begins with."""
    first = [ComplaintEntry(complaint)] if complaint else []
    return [*first, *(CodeEntry(code) for code in codes)]


def full_jobs(log):
    """Every job of a log with its trail, by machine."""
    return {job.machine: log.job(job.id) for job in log.jobs()}


# the window -------------------------------------------------------------------------------------------------


@pytest.fixture(scope="session")
def app():
    """The application, made once."""
    return make_application()


def spin(milliseconds=30):
    """Let the event loop run."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()
    for _ in range(3):  # on a busy machine the loop ends before all that was posted, and what came of it, is delivered
        QCoreApplication.processEvents()


def settle(window, most=900):
    """Until nothing is being worked on, and what came of it is shown: an answer may ask for more."""
    for _ in range(most):
        spin()
        if window.workspace.idle:
            break
    assert window.workspace.idle
    spin()


_OWN_KNOWLEDGE = knowledge()


def once(work):
    """`work` that is done once for the same arguments in a run, by whichever process: many windows open the same demo jobs. What is
    worked out is the same each time, as `test_workspace` and `test_own_record` see to."""

    def remembered(*args, progress=None, **named):
        if knowledge() is not _OWN_KNOWLEDGE:
            return work(*args, **named)
        given = pickle.dumps((spoken(), args, named))
        kept = apart.folder() / f"{work.__name__}-{hashlib.sha256(given).hexdigest()}"
        if not kept.exists():
            own = kept.with_name(f"{kept.name}.{os.getpid()}.{threading.get_ident()}")
            own.write_bytes(pickle.dumps(work(*args, **named)))
            own.replace(kept)
        return pickle.loads(kept.read_bytes())

    return remembered


@pytest.fixture
def desk(app, tmp_path, monkeypatch):
    """Opens windows and closes them; a thread that is left behind fails the test."""
    made = []
    monkeypatch.setattr(weigh_job, "weigh_job", once(weigh_job.weigh_job))
    monkeypatch.setattr(captures, "examine", once(captures.examine))
    monkeypatch.setattr(shell, "READY", ())  # what is made ahead, while nobody waits, is made when it is asked for

    def open_desk(make=None, *, demo=False):
        window = make_window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat), demo=demo)
        window.show()
        made.append(window)
        window.workspace.open_log(make or own_log(tmp_path / "log"))
        settle(window)
        return window

    yield open_desk
    for window in made:
        close(window)
        window.deleteLater()
    spin()
    gc.collect()  # here, on the interface thread: what is left of widgets must not go on a worker's
    gc.freeze()  # what is left now is kept for the next tests: no need to look through it after each


def close(window, most=900):
    """Close a window; what is being kept is kept first."""
    window.close()
    for _ in range(most):
        if not window.isVisible():
            break
        spin()
    assert not window.isVisible()
    spin()
    assert window.workspace.idle


def drop(window, path):
    """Drop a file on the window."""
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(600, 400), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
