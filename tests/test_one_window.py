"""A second start hands its files on to the open window; a dropped bundle is a job. What a desktop does; no published source."""

import json
import os
import subprocess
import sys

from PySide6.QtNetwork import QLocalSocket

from conftest import demo_log, drop, full_jobs, settle, spin
from sagen.casework.whole_logs import ExportJob
from sagen.desk.one_window import MOST_BYTES, OneWindow, address_of

SECOND = (
    "import sys; from PySide6.QtCore import QCoreApplication; app = QCoreApplication([]);"
    "from sagen.desk.one_window import handed_on; sys.exit(not handed_on(sys.argv[1], sys.argv[2:]))"
)


def handing(what, files):
    """A second start that hands files on; answers whether they were taken."""
    second = subprocess.Popen([sys.executable, "-c", SECOND, what, *files])
    while second.poll() is None:
        spin(20)
    return second.returncode == 0


def test_files_of_a_second_start_land_in_the_open_window(desk, make_csv, tmp_path):
    what = f"test {tmp_path}"
    window = desk(demo_log, demo=True)
    listening = OneWindow(what, window.take, window)
    path = make_csv("again.csv")
    assert handing(what, [os.path.relpath(path)])
    settle(window)
    assert window.workspace.imports.current.path == path
    assert handing(what, [])  # only to the front
    assert not handing(f"{what} of another log", [str(path)])
    listening.server.close()


def test_what_is_no_list_of_names_is_left_unanswered(app, tmp_path):
    what, taken = f"test {tmp_path}", []
    listening = OneWindow(what, taken.append)
    for said in (b"{}\n", b"[1]\n", b"[[[\n", b"\xff\xfe\n", b"x" * (MOST_BYTES + 2)):
        socket = QLocalSocket()
        socket.connectToServer(address_of(what))
        assert socket.waitForConnected(500)
        socket.write(said)
        spin(60)
        assert bytes(socket.readAll().data()) == b""
        socket.abort()
    assert taken == []
    socket = QLocalSocket()
    socket.connectToServer(address_of(what))
    socket.write(json.dumps(["/a b.csv"]).encode() + b"\n")
    spin(60)
    assert taken == [["/a b.csv"]]
    listening.server.close()


def test_a_bundle_that_is_dropped_becomes_a_job(desk, tmp_path):
    window = desk(demo_log, demo=True)
    log = window.workspace.log
    before = full_jobs(log)
    machine, job = next(iter(before.items()))
    bundle = tmp_path / "sent on.zip"
    ExportJob(job.id, bundle).perform(log)
    drop(window, bundle)
    settle(window)
    assert len(log.jobs()) == len(before) + 1
    assert window.workspace.job.machine == machine
    assert window.workspace.job.id != job.id
    broken = tmp_path / "broken.zip"
    broken.write_bytes(b"PK no bundle")
    drop(window, broken)
    settle(window)
    assert len(log.jobs()) == len(before) + 1
    assert "broken.zip" in window.message.text.text()
