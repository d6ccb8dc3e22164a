"""The job log survives closing, crashing and full disks, and every change can be undone."""

import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from conftest import square_teeth
from sagen.casework.demo import JOBS, make_demo_log
from sagen.model.capture import Capture, Channel
from sagen.model.errors import StoreError
from sagen.store.log import JobLog


@pytest.fixture
def log(tmp_path):
    made = JobLog(tmp_path)
    yield made
    made.close()


def small_capture():
    return Capture("a.csv", 50_000.0, (Channel("CH1", square_teeth(seconds=0.1), "V", 0.5, 0.1),), ("a note",))


def test_all_comes_back_after_closing(tmp_path, log):
    job = log.add_job("Tarnbeck", owner="someone", cylinders=3)
    log.add_entry(job.id, "code", {"code": "P0335"})
    entry = log.add_capture(job.id, small_capture(), {"sheet": {}, "findings": []})
    log.close()
    again = JobLog(tmp_path)
    [back] = again.jobs()
    assert (back.machine, back.owner, back.cylinders) == ("Tarnbeck", "someone", 3)
    assert [one.kind for one in back.entries] == ["code", "capture"]
    capture = again.capture(back.entries[1].data["token"])
    np.testing.assert_array_equal(capture.channels[0].raw, small_capture().channels[0].raw)
    assert (capture.channels[0].scale, capture.notes) == (0.5, ("a note",))
    assert entry.data == back.entries[1].data


def test_withdraw_restore_correct_undo_redo(log):
    job = log.add_job("x")
    entry = log.add_entry(job.id, "note", {"text": "one"})
    log.withdraw(entry.id)
    assert log.job(job.id).standing == ()
    log.undo()
    assert len(log.job(job.id).standing) == 1
    log.redo()
    assert log.job(job.id).standing == ()
    log.withdraw(entry.id, False)
    log.correct(entry.id, {"text": "two"})
    log.undo()
    assert log.job(job.id).entries[0].data == {"text": "one"}
    assert log.can_redo == "correct entry"
    log.undo()
    log.undo()
    log.undo()
    assert log.can_undo is None
    assert log.job(job.id).entries[0].withdrawn
    log.undo()


CRASHING = """
import sys
from pathlib import Path
import numpy as np
from sagen.model.capture import Capture, Channel
from sagen.store.log import JobLog
log = JobLog(Path(sys.argv[1]))
job = log.add_job("crash")
count = 0
raw = np.zeros(400_000, np.float32)
while True:
    log.add_capture(job.id, Capture(f"{count}", 1e4, (Channel("A", raw + count),)), {"n": count})
    count += 1
    print(count, flush=True)
"""


@pytest.mark.parametrize("delay", [0.0, 0.004, 0.011])
def test_kill_9_during_a_save_loses_at_most_that_entry(tmp_path, delay):
    process = subprocess.Popen([sys.executable, "-c", CRASHING, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    for _ in range(5):
        told = int(process.stdout.readline())
    time.sleep(delay)
    process.send_signal(signal.SIGKILL)
    rest, _ = process.communicate()
    told = max([told, *(int(one) for one in rest.split())])
    log = JobLog(tmp_path)
    [job] = log.jobs()
    assert told <= len(job.entries) <= told + 1
    for number, entry in enumerate(job.entries):
        assert log.capture(entry.data["token"]).channels[0].raw[-1] == number
    assert not list((tmp_path / "captures").glob("*.part"))
    log.close()


FULL_DISK = """
import resource, signal, sys
from pathlib import Path
import numpy as np
from sagen.model.capture import Capture, Channel
from sagen.model.errors import StoreError
from sagen.store.log import JobLog
log = JobLog(Path(sys.argv[1]))
job = log.add_job("full")
log.add_entry(job.id, "note", {"text": "kept"})
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000))
try:
    log.add_capture(job.id, Capture("big", 1e4, (Channel("A", np.zeros(400_000, np.float32)),)), {})
except StoreError as error:
    print("told:", error)
print(len(log.job(job.id).entries))
"""


def test_a_disk_that_takes_no_more_is_told_and_nothing_is_lost(tmp_path):
    done = subprocess.run([sys.executable, "-c", FULL_DISK, str(tmp_path)], capture_output=True, text=True, check=True)
    first, second = done.stdout.splitlines()
    assert first.startswith("told: the capture could not be kept")
    assert second == "1"
    assert not list((tmp_path / "captures").iterdir())


def test_damaged_capture_and_log_are_told(tmp_path, log):
    job = log.add_job("x")
    entry = log.add_capture(job.id, small_capture(), {})
    folder = tmp_path / "captures" / entry.data["token"]
    (folder / "0.npy").write_bytes(b"not an array")
    with pytest.raises(StoreError, match="damaged or gone"):
        log.capture(entry.data["token"])
    log.close()
    for left in tmp_path.glob("jobs.sqlite*"):
        left.write_bytes(b"this is no database at all, only words" * 50)
    with pytest.raises(StoreError, match="cannot be"):
        JobLog(tmp_path)


def test_missing_rows_are_told(log):
    for call in (lambda: log.job(99), lambda: log.withdraw(99), lambda: log.add_job("  ")):
        with pytest.raises(StoreError):
            call()


def test_demo_log_never_touches_the_users_own(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "own"))
    log = make_demo_log()
    jobs = log.jobs()
    log.close()
    assert len(jobs) == len(JOBS) >= 3
    assert not (tmp_path / "own").exists()
    found = {one.machine: [f["kind"] for e in one.of("capture") for f in e.data["findings"]] for one in jobs}
    assert found["Tarnbeck Fell 1.8"] == ["extra_gap"]
    assert found["Velmora Courier 2.6"] == ["high_not_reached"]
    assert sorted(found["Quillaby Drake 1.4"]) == ["ground_lift", "no_signal"]
    assert found["Skerry Lantern 2.2"] == ["timing_offset"]
    assert found["Plover Dray 4"] == ["odd_tooth"]
    assert found["Marrick Marlin estate"] == ["runout"]
