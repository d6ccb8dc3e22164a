"""What a file may cost: memory, processor, names, and the interface's patience."""

import json
import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
from contextlib import suppress
from pathlib import Path

import h5py
import numpy as np
import pytest

from conftest import demo_log, settle, spin, square_teeth
from postgres import until
from sagen.artifacts.folders import make_passing, passing_root, sweep_passing
from sagen.casework.examination import read_pair
from sagen.cli import main
from sagen.desk.app import own_log
from sagen.files import binary, budget, sandbox
from sagen.files.format_registry import read_capture, write_capture
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError, SagenError
from sagen.model.trail import NoteEntry
from sagen.store.database import Database

VOLTS = square_teeth(seconds=0.2).astype(np.float32)


def bomb_npz(path):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        head = (
            b"\x93NUMPY\x01\x00v\x00"
            + b"{'descr': '|u1', 'fortran_order': False, 'shape': (400000000,), }".ljust(117)
            + b"\n"
        )
        for number in range(1):
            with archive.open(f"{number}.npy", "w") as member:
                member.write(head)
                for _ in range(25):
                    member.write(bytes(16_000_000))


def bomb_hdf5(path):
    with h5py.File(path, "w") as file:
        for number in range(40):
            file.create_dataset(
                f"d{number}", (30_000_000,), "f8", chunks=(1_000_000,), compression="gzip", fillvalue=1.0
            )


def bomb_members(path):
    with zipfile.ZipFile(path, "w") as archive:
        for number in range(60_000):
            archive.writestr(f"{number}.npy", b"")


@pytest.mark.sampled(1)
@pytest.mark.parametrize(("make", "suffix", "said"), [
    (bomb_npz, "npz", "381 MiB of memory"), (bomb_hdf5, "h5", "of memory"), (bomb_members, "npz", "60000 arrays"),
])  # fmt: skip
def test_what_unfolds_beyond_its_budget_is_refused_before_it_is_unfolded(make, suffix, said, tmp_path):
    path = tmp_path / f"a.{suffix}"
    make(path)
    with pytest.raises(CaptureFileError, match=said):
        read_capture(path)


def test_links_that_lead_back_are_walked_once(tmp_path):
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        file.attrs["sfreq"] = 50_000.0
        group = file.create_group("one")
        group.create_dataset("CH1", data=VOLTS)
        for number in range(12):
            inner = group.create_group(f"g{number}")
            for name in range(12):
                inner[f"back{name}"] = group
            group[f"again{number}"] = group["CH1"]
            file[f"soft{number}"] = h5py.SoftLink("/one")
            file[f"out{number}"] = h5py.ExternalLink("/etc/passwd", "/")
    capture = read_capture(path)
    assert [channel.column for channel in capture.channels] == ["CH1"]


@pytest.mark.parametrize(("formula", "read"), [
    ("X1*2+1", True), ("(X1-3)/7e-1", True), ("sin(X1)", False), ("X1**99", False), ("__import__('os')", False),
])  # fmt: skip
def test_formulas_of_a_file_are_arithmetic_or_not_read(formula, read, tmp_path):
    from asammdf import MDF, Signal

    path = tmp_path / "a.mf4"
    with MDF() as file:
        times = np.arange(2000) / 1e4
        file.append([Signal((times * 1000 % 200).astype(np.uint8), times, name="a", conversion={"formula": formula})])
        file.save(path, overwrite=True)
    if read:
        raw = np.arange(2000) / 10 % 200 // 1
        expected = {"X1*2+1": raw * 2 + 1, "(X1-3)/7e-1": (raw - 3) / 0.7}[formula]
        np.testing.assert_allclose(read_capture(path).channels[0].values(), expected, rtol=1e-5, atol=1e-4)
    else:
        with pytest.raises(CaptureFileError, match="formula"):
            read_capture(path)


def busy(_path):
    while True:
        pass


def greedy(_path):
    return [np.ones(1 << 27) for _ in range(40)]


@pytest.mark.parametrize(
    ("reader", "said"), [(busy, "more than 1 s of processor"), (greedy, "more memory than a file of its size")]
)
def test_a_reader_that_takes_too_much_is_ended_with_a_word(reader, said, tmp_path, monkeypatch):
    path = tmp_path / "a.h5"
    path.write_bytes(b"x")
    monkeypatch.setattr(sandbox, "MOST_SECONDS", 1)
    monkeypatch.setitem(binary.READERS, "HDF5", reader)
    answer = sandbox._in_a_child("HDF5", {"verb": "read", "path": str(path), "folder": str(tmp_path)})
    assert answer["status"] != 0
    assert said in answer["said"]


def test_the_budget_is_the_least_of_three(monkeypatch):
    monkeypatch.setattr(budget, "free_memory", lambda: 64 << 30)
    assert budget.memory_for(1) == 256 << 20
    assert budget.memory_for(10 << 20) == 400 << 20
    assert budget.memory_for(1 << 30) == 2 << 30
    monkeypatch.setattr(budget, "free_memory", lambda: 1 << 30)
    assert budget.memory_for(1 << 30) == 512 << 20


@pytest.mark.parametrize("suffix", ["csv", "wav"])
def test_what_would_fill_half_of_the_memory_is_refused(suffix, tmp_path, monkeypatch):
    path = tmp_path / f"a.{suffix}"
    write_capture(path, Capture("a", 5e4, (Channel("A", VOLTS),)))
    assert read_capture(path).samples == len(VOLTS)
    monkeypatch.setattr("sagen.files.format_registry.free_memory", lambda: 4 * path.stat().st_size)
    with pytest.raises(CaptureFileError, match="more than half of what is free"):
        read_capture(path)


def _readers(parent):
    """Whoever reads HDF5 for a process: the one that waits and the child that it forked, which are a session of their own."""
    said = subprocess.run(["ps", "-eo", "pid,ppid,sid,args"], capture_output=True, text=True, check=True).stdout
    rows = [line.split(None, 3) for line in said.splitlines() if "sagen.files.sandbox HDF5" in line]
    sessions = {sid for _, ppid, sid, _ in rows if int(ppid) == parent}
    return {int(pid): int(sid) for pid, _, sid, _ in rows if sid in sessions}


def _alive(sessions):
    said = subprocess.run(["ps", "-eo", "sid,args"], capture_output=True, text=True, check=True).stdout
    return [line for line in said.splitlines() if "sagen.files.sandbox" in line and int(line.split()[0]) in sessions]


def test_who_waits_for_the_reader_of_a_format_can_be_stopped_too(tmp_path):
    pipe = tmp_path / "a.h5"
    os.mkfifo(pipe)
    first, second = threading.Event(), threading.Event()

    def hold():
        with suppress(budget.Unwanted), budget.wanted_while(lambda: not first.is_set()):
            sandbox.read_sandboxed("HDF5")(pipe)

    holder = threading.Thread(target=hold)
    holder.start()
    time.sleep(0.3)
    threading.Timer(0.3, second.set).start()
    with pytest.raises(budget.Unwanted), budget.wanted_while(lambda: not second.is_set()):
        sandbox.read_sandboxed("HDF5")(tmp_path / "b.h5")
    assert holder.is_alive(), "the other file is still being read"
    first.set()
    holder.join(10)
    assert not holder.is_alive()


def test_a_reader_ends_with_stop_and_with_the_program(tmp_path):
    pipe = tmp_path / "a.h5"
    os.mkfifo(pipe)  # opening it waits for ever, as a dead network drive does
    seen, wanted = set(), threading.Event()

    def stop_once_it_reads():
        until(lambda: _readers(os.getpid()))
        time.sleep(0.5)
        seen.update(_readers(os.getpid()).values())
        wanted.set()

    threading.Thread(target=stop_once_it_reads, daemon=True).start()
    with pytest.raises(budget.Unwanted), budget.wanted_while(lambda: not wanted.is_set()):
        sandbox.read_sandboxed("HDF5")(pipe)
    assert seen
    assert until(lambda: not _alive(seen)) is not None
    program = subprocess.Popen(
        [
            sys.executable,
            "-c",
            f"from sagen.files.sandbox import read_sandboxed; read_sandboxed('HDF5')(__import__('pathlib').Path({str(pipe)!r}))",
        ],
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    # The waiting process, and the child that it forked to read.
    assert until(lambda: len(_readers(program.pid)) > 1) is not None
    seen = set(_readers(program.pid).values())
    assert [path for path in tmp_path.glob("sagen-*/read-*") if path.is_dir()]
    program.send_signal(signal.SIGKILL)
    program.wait()
    assert until(lambda: not _alive(seen)) is not None
    assert until(lambda: not [path for path in tmp_path.glob("sagen-*/read-*") if path.is_dir()]) is not None


def test_what_a_killed_process_left_in_the_temporary_folder_is_swept(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    mine = make_passing("read")
    left = [make_passing("read") for _ in range(2)]
    for this_item in left:
        this_item.let_go()  # as the kernel does when a process is gone
    other = tmp_path / "sagen-notes-of-mine"
    other.mkdir()
    assert sweep_passing() == 2
    assert mine.path.exists()
    assert other.exists()
    assert not any(item.path.exists() for item in left)
    assert sorted(path.name.partition("-")[0] for path in passing_root().iterdir()) == ["read", "read"], (
        "it and its lease"
    )
    mine.discard()
    assert not list(passing_root().iterdir())


# names and heaps --------------------------------------------------------------------------------------------

LONG = "n" * 247 + ".csv"
NAMES = (
    b"\xff\xfe.csv",
    LONG.encode(),
    b"a\x1b[2J\nb.csv",
    "\u202egpj.csv".encode(),
    b"-o.csv",
    b"%s{}.csv",
    ("\u00e9" * 120 + ".csv").encode(),
)


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", NAMES, ids=lambda item: repr(item[:8]))
def test_a_file_of_any_name_goes_through_every_verb(name, tmp_path, make_csv, capfdbinary):
    sound = make_csv("plain.csv")
    path = os.path.join(os.fsencode(tmp_path), name)
    os.rename(sound, path)
    out = os.path.join(os.fsencode(tmp_path), b"o" + name[-60:-4] + b".npz")
    for words in (
        ["examine", "--json", path],
        ["examine", path],
        ["convert", path, "-o", out],
        ["report", path, "-o", out + b".html"],
    ):
        status = main([os.fsdecode(word) for word in words])
        told = capfdbinary.readouterr()
        said = (told.out + told.err).decode("utf-8")
        assert status == 0, said
        assert all(item.isprintable() or item in "\n\t" for item in said)
        if "--json" in words:
            assert os.fsencode(json.loads(told.out)["capture"]) == path
    assert os.path.exists(out)


@pytest.mark.long
def test_a_heap_of_refused_files_stops_no_other(desk, tmp_path, make_csv):
    window = desk()
    window.workspace.add_job("Tarnbeck 4", "", 3, [])
    settle(window)
    for number in range(30):
        (tmp_path / f"bad{number}.csv").write_bytes(b"\x00\xff" * number)
    paths = [tmp_path / f"bad{number}.csv" for number in range(30)]
    paths[7:7] = [make_csv("good.csv")]
    paths += [tmp_path / "gone.csv", tmp_path, Path("/dev/zero"), make_csv("good2.csv")]
    window.bring_in([str(path) for path in paths])
    for _ in range(2):
        settle(window)
        window.page("incoming").accept.click()
    settle(window)
    assert [entry.record.name for entry in window.workspace.job.entries if entry.kind == "capture"] == [
        "good.csv",
        "good2.csv",
    ]
    said = window.message.text.text()
    assert said.startswith("2 of 35 kept")
    done = subprocess.run(
        [sys.executable, "-m", "sagen", "examine", "--json", *map(str, paths)],
        capture_output=True,
        text=True,
        check=False,
    )
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert [row["capture"] for row in rows] == [str(path) for path in paths]
    assert [Path(row["capture"]).name for row in rows if "error" not in row] == ["good.csv", "good2.csv"]
    assert all(len(row["error"]) < 200 for row in rows if "error" in row)


@pytest.mark.long
def test_a_strangers_sheet_tells_nothing_of_other_files(make_csv, tmp_path):
    secret = tmp_path / "elsewhere" / "secret.csv"
    secret.parent.mkdir()
    secret.write_text("time,a\n" + "0,1\n" * 20 + "0,hunter2\n" + "1,2\n" * 20)
    (tmp_path / "in").mkdir()
    path = make_csv("in/a.csv", extra='reference = "../elsewhere/secret.csv"')
    with pytest.raises(SagenError, match="only one that lies beside its sheet") as told:
        read_pair(path)
    assert "hunter2" not in str(told.value)
    (tmp_path / "in" / "link.csv").symlink_to(secret)
    path = make_csv("in/b.csv", extra='reference = "link.csv"')
    with pytest.raises(SagenError, match="only one that lies beside its sheet"):
        read_pair(path)
    job = tmp_path / "in" / "job.toml"
    job.write_text(
        'codes = ["P0335"]\n[circuit]\nrole = "crank"\nsensor = "hall"\n[[trail]]\ncapture = "../elsewhere/secret.csv"\n'
    )
    done = subprocess.run(
        [sys.executable, "-m", "sagen", "reason", str(job)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 1
    assert "hunter2" not in done.stdout + done.stderr


def test_odd_channel_names_are_kept_through_every_format(tmp_path):
    names = ("", "=1+1", "a,b", 'say "x"', "\u00b5V", " lead", "a/b", "time", "x" * 90)
    capture = Capture("a", 5e4, tuple(Channel(name, VOLTS * (k + 1)) for k, name in enumerate(names)))
    for suffix in ("csv", "npz", "mf4"):
        write_capture(tmp_path / f"a.{suffix}", capture)
        found = read_capture(tmp_path / f"a.{suffix}")
        told = [channel.column for channel in found.channels]
        assert told == list(names), suffix
        for this_channel, k in zip(found.channels, range(len(names)), strict=True):
            np.testing.assert_allclose(this_channel.values(), VOLTS * (k + 1), atol=2e-3)


# the interface's patience -----------------------------------------------------------------------------------


def test_a_lock_held_elsewhere_never_freezes_the_window(desk, tmp_path):
    window = desk(own_log(tmp_path / "log"))
    window.workspace.add_job("Tarnbeck 4", "", 3, [])
    settle(window)
    held = sqlite3.connect(tmp_path / "log" / "jobs.sqlite", isolation_level=None)
    held.execute("begin immediate")
    # What waited for the lock on this thread would only be through with it after the lock's end, which is below.
    window.workspace.add(NoteEntry("while another writes"))
    window.workspace.undo()
    window.workspace.open_job(window.workspace.job.id)
    spin(400)
    assert not window.workspace.idle
    assert window.workspace.job.entries == ()
    held.execute("rollback")
    held.close()
    settle(window)
    assert [entry.withdrawn for entry in window.workspace.job.entries] == [True]


@pytest.mark.long
def test_no_store_call_is_made_on_the_interface_thread(desk, monkeypatch):
    window = desk(demo_log, demo=True)
    here, real = [], Database.work

    def work(database):
        if threading.current_thread() is threading.main_thread():
            here.append(sys._getframe(1).f_code.co_name)
        return real(database)

    monkeypatch.setattr(Database, "work", work)
    workspace = window.workspace
    entry = workspace.job.entries[0]
    for step in (
        lambda: workspace.add(NoteEntry("one")), lambda: workspace.withdraw(entry, True), workspace.undo, workspace.redo,
        lambda: workspace.list_jobs("tarn"), lambda: workspace.open_job(workspace.job.id, open_capture=True),
        lambda: workspace.add_job("Tarnbeck 9", "", 4, [NoteEntry("two")]), workspace.undo, workspace.redo, lambda: window.commands.run("jobs.decide"),
        *(lambda name=name: window.show_with_job(name) for name in ("plan", "card")),
        window.navigation.show_circuit, lambda: window.commands.run("jobs.show_log"), lambda: window.show_page("shelf"), lambda: window.commands.run("jobs.show_report", "customer"),
    ):  # fmt: skip
        monkeypatch.setattr("sagen.desk.forms.base.Form.exec", lambda form: 0)
        step()
        settle(window)
    assert here == []
