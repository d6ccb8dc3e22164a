"""Logs and jobs on the move, and what silent damage comes to: checked with the zip and checksum tools of the system."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import sqlite3
import subprocess
import threading
import time
import zipfile
from contextlib import closing, redirect_stderr, redirect_stdout
from types import SimpleNamespace

import numpy as np
import pytest
from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import create_engine

from sagen.cli import main
from sagen.model import strict_json
from sagen.model.capture import Capture, Channel
from sagen.model.errors import StoreError
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CodeEntry, NoteEntry
from sagen.store import moving
from sagen.store.database import MIGRATIONS, versions
from sagen.store.moving import backup, check, export_job, import_job, restore
from sagen.store.opening import open_log


def made_capture(seed=0, samples=3_000) -> Capture:
    rng = np.random.default_rng(seed)
    return Capture("a.csv", 20_000.0, (Channel("CH1", rng.integers(-900, 900, samples).astype(np.int16), "V", 0.01),))


@pytest.fixture
def filled(tmp_path):
    log = open_log(tmp_path / "one")
    job = log.add_job("Corrib Tench 2.0", owner="Slate & Sons", cylinders=4)
    log.add_entry(job.id, CodeEntry("P0335"))
    log.add_entry(job.id, NoteEntry("Keeps <b>dying</b>; =1+1"))
    entry = log.add_capture(job.id, made_capture(), CaptureEntry("a.csv", Sheet()))
    log.withdraw(log.job(job.id).entries[1].id)
    yield log, job.id, entry.record.token, tmp_path
    log.close()


def same(item, other):
    assert (item.machine, item.owner, item.cylinders, item.created) == (
        other.machine,
        other.owner,
        other.cylinders,
        other.created,
    )
    assert [(a.kind, a.withdrawn, a.created) for a in item.entries] == [
        (b.kind, b.withdrawn, b.created) for b in other.entries
    ]


def test_an_exported_job_arrives_whole_in_another_log_and_twice_in_its_own(filled):
    log, job_id, token, folder = filled
    export_job(log, job_id, folder / "x.zip")
    other = open_log(folder / "two")
    try:
        came = import_job(other, folder / "x.zip")
        same(came, log.job(job_id))
        moved = came.records(CaptureEntry)[0]
        assert moved.token != token, "names of its own, so that nothing clashes"
        assert np.array_equal(other.capture(moved.token).channels[0].raw, made_capture().channels[0].raw)
        again = import_job(log, folder / "x.zip")
        assert again.id != job_id
        assert len(log.jobs()) == 2
        assert check(other) == []
    finally:
        other.close()


def test_what_is_in_an_export_is_open_to_other_tools(filled):
    """unzip's own listing, json and numpy read it; sha256sum -c (GNU coreutils) finds every member right."""
    log, job_id, token, folder = filled
    export_job(log, job_id, folder / "x.zip")
    out = folder / "out"
    with zipfile.ZipFile(folder / "x.zip") as zipped:
        assert zipped.testzip() is None
        zipped.extractall(out)
    assert json.loads((out / "job.json").read_text())["job"]["machine"] == "Corrib Tench 2.0"
    assert np.array_equal(np.load(out / "captures" / token / "0.npy"), made_capture().channels[0].raw)
    assert subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=out, check=False).returncode == 0


def rewritten(source, target, change):
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w") as new:
        for item in old.infolist():
            name, data = change(item.filename, old.read(item.filename))
            if name:
                new.writestr(name, data)


@pytest.mark.sampled(1)
@pytest.mark.parametrize(
    "change",
    [
        lambda name, data: ("../" + name if name == "job.json" else name, data),
        lambda name, data: ("/etc/" + name if name == "job.json" else name, data),
        lambda name, data: (name, data.replace(b"Corrib", b"Another")),
        lambda name, data: (None, None) if name == "SHA256SUMS" else (name, data),
        lambda name, data: (None, None) if name.endswith(".npy") else (name, data),
        lambda name, data: (None, None) if name == "job.json" else (name, data),
        lambda name, data: (name + ".exe", data),
    ],
)
def test_a_zip_that_is_not_as_it_was_exported_is_refused_whole(filled, change):
    log, job_id, _, folder = filled
    export_job(log, job_id, folder / "x.zip")
    rewritten(folder / "x.zip", folder / "bad.zip", change)
    shelf = len(log.captures.tokens())
    with pytest.raises(StoreError) as told:
        import_job(log, folder / "bad.zip")
    assert len(str(told.value)) < 200
    assert len(log.jobs()) == 1
    assert len(log.captures.tokens()) == shelf
    assert not (folder.parent / "job.json").exists()


@pytest.mark.parametrize("data", [b"", b"PK\x03\x04" + b"\0" * 50, os.urandom(4_000)])
def test_what_is_no_zip_is_refused(filled, data):
    log, _, _, folder = filled
    (folder / "no.zip").write_bytes(data)
    for take in (lambda path: import_job(log, path), lambda path: restore(path, folder / "new")):
        with pytest.raises(StoreError):
            take(folder / "no.zip")
    assert not (folder / "new").exists()


def changed(source, target, name, old, new):
    """An export with words of a member replaced, its sums right again."""
    with zipfile.ZipFile(source) as read, zipfile.ZipFile(target, "w") as write:
        members = {item: read.read(item) for item in read.namelist() if item != "SHA256SUMS"}
        (at,) = [item for item in members if item.endswith(name)]
        assert old in members[at].decode()
        members[at] = members[at].decode().replace(old, new, 1).encode()
        sums = "".join(f"{hashlib.sha256(data).hexdigest()}  {item}\n" for item, data in members.items())
        for item, data in (*members.items(), ("SHA256SUMS", sums.encode())):
            write.writestr(item, data)


@pytest.mark.parametrize("rate", ["0", "-1", "NaN", "Infinity", "1e-308", "1e400", '"x"', "true", "null"])
def test_a_bundle_whose_rate_makes_no_sense_is_refused_whole(filled, rate):
    log, job_id, _, folder = filled
    export_job(log, job_id, folder / "x.zip")
    changed(folder / "x.zip", folder / "y.zip", "capture.json", "20000.0", rate)
    with pytest.raises(StoreError):
        import_job(log, folder / "y.zip")
    assert len(log.jobs()) == 1


@pytest.mark.parametrize("number", ["0", "-1", "NaN", "1e400", "2.5", "400", '"four"', "true"])
def test_a_bundle_whose_cylinders_make_no_sense_is_refused_whole(filled, number):
    log, job_id, _, folder = filled
    export_job(log, job_id, folder / "x.zip")
    changed(folder / "x.zip", folder / "y.zip", "job.json", '"cylinders": 4', f'"cylinders": {number}')
    with pytest.raises(StoreError):
        import_job(log, folder / "y.zip")
    assert len(log.jobs()) == 1


@pytest.mark.parametrize(
    ("old", "new"),
    [('"scale": 0.01', '"scale": NaN'), ('"scale": 0.01', '"scale": 0'), ('"offset": 0.0', '"offset": 1e999')],
)
def test_a_bundle_whose_scales_make_no_sense_is_refused(filled, old, new):
    log, job_id, _, folder = filled
    export_job(log, job_id, folder / "x.zip")
    changed(folder / "x.zip", folder / "y.zip", "capture.json", old, new)
    with pytest.raises(StoreError):
        import_job(log, folder / "y.zip")


def test_a_bundle_that_unfolds_to_more_than_was_ever_measured_is_refused(filled, monkeypatch):
    log, job_id, _, folder = filled
    monkeypatch.setattr(moving, "LEAST_UNFOLDED", 1 << 20)
    export_job(log, job_id, folder / "x.zip")
    with (
        zipfile.ZipFile(folder / "x.zip") as given,
        zipfile.ZipFile(folder / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as made,
    ):
        for member in given.infolist():
            data = given.read(member) if not member.filename.endswith(".npy") else bytes(8 << 20)
            made.writestr(member.filename, data)
    with pytest.raises(StoreError, match="would unfold to"):
        import_job(log, folder / "bomb.zip")
    assert len(log.jobs()) == 1


def test_json_is_strict_both_ways():
    """RFC 8259, 6: NaN and infinities are not permitted."""
    for text in ("NaN", "[Infinity]", '{"a": -Infinity}', "1e999"):
        with pytest.raises(ValueError):
            strict_json.loads(text)
    assert strict_json.loads('{"a": 1.5, "b": [null, true, "x"]}') == {"a": 1.5, "b": [None, True, "x"]}
    told = strict_json.dumps({"a": float("nan"), "b": [float("inf"), 1.0], "c": "NaN"})
    assert json.loads(told) == {"a": None, "b": [None, 1.0], "c": "NaN"}


def test_a_log_is_backed_up_while_it_is_written_and_restored_into_a_new_place(filled):
    log, job_id, _, folder = filled
    going, added = threading.Event(), []

    def write():
        while not going.is_set():
            added.append(log.add_entry(job_id, NoteEntry(f"number {len(added)}")).id)
            time.sleep(0.001)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        time.sleep(0.05)
        before = len(added)
        backup(log, folder / "b.zip")
    finally:
        going.set()
        writer.join()
    restore(folder / "b.zip", folder / "restored")
    found = open_log(folder / "restored")
    try:
        entries = found.job(job_id).entries
        assert 3 + before <= len(entries) <= 3 + len(added)
        assert [entry.record.text for entry in entries[3:]] == [f"number {k}" for k in range(len(entries) - 3)]
        assert check(found) == []
    finally:
        found.close()
    with pytest.raises(StoreError, match="not empty"):
        restore(folder / "b.zip", folder / "restored")


def test_silent_damage_is_found_and_named(filled):
    log, _, token, _ = filled
    assert check(log) == []
    path = log.captures.folder / token / "0.npy"
    data = bytearray(path.read_bytes())
    data[-7] ^= 0x10
    path.write_bytes(bytes(data))
    [trouble] = check(log, repair=True)
    assert "0.npy is not what was kept" in trouble.what
    assert not trouble.repaired, "what was kept cannot be made up"
    shutil.rmtree(log.captures.folder / token)
    [trouble] = check(log)
    assert "gone" in trouble.what


def test_what_can_be_put_right_is(filled):
    log, _, token, _ = filled
    (log.captures.folder / token / "SHA256SUMS").unlink()
    orphan = log.captures.put(made_capture(5))
    assert len(check(log)) == 1, "what a living process is just keeping may be named in a moment"
    log.captures.commit(orphan)
    assert {item.what for item in check(log)} == {"has no checksum yet", "nothing names it"}
    assert all(item.repaired for item in check(log, repair=True))
    assert check(log) == []
    assert log.captures.tokens() == [token]


def sagen(*arguments):
    """The command line within this process: a start of its own costs a second each."""
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        code = main([str(argument) for argument in arguments])
    return SimpleNamespace(returncode=code, stdout=out.getvalue(), stderr=err.getvalue())


def test_the_command_line_lists_shows_moves_and_checks(filled):
    _, job_id, _, folder = filled
    where = ("--log", folder / "one")
    rows = [json.loads(line) for line in sagen(*where, "log", "list", "--json").stdout.splitlines()]
    assert [(row["job"], row["machine"]) for row in rows] == [(job_id, "Corrib Tench 2.0")]
    assert "P0335" in sagen(*where, "log", "show", job_id).stdout
    assert sagen(*where, "log", "export", job_id, "-o", folder / "c.zip").returncode == 0
    came = json.loads(sagen("--log", folder / "third", "log", "import", folder / "c.zip", "--json").stdout)
    assert came["entries"] == 3
    url = f"sqlite:///{folder / 'third' / 'jobs.sqlite'}"
    assert "Corrib" in sagen("--log", url, "log", "list").stdout
    assert sagen(*where, "log", "backup", folder / "d.zip").returncode == 0
    assert sagen(*where, "log", "backup", "-o", folder / "e.zip").returncode == 0, (
        "as every command names what it writes"
    )
    assert sagen("--log", folder / "fourth", "log", "restore", folder / "d.zip").returncode == 0
    assert sagen("--log", folder / "fifth", "log", "restore", folder / "e.zip").returncode == 0
    assert "Nothing is wrong" in sagen("--log", folder / "fourth", "log", "check").stdout
    for wrong in (("show", "x"), ("show",), ("export", job_id), ("import", folder / "none.zip"), ("show", "99")):
        done = sagen(*where, "log", *wrong)
        assert done.returncode == 1, wrong
        assert "Traceback" not in done.stderr
    assert sagen("--log", folder / "nowhere", "log", "list").returncode == 1
    assert not (folder / "nowhere").exists(), "looking makes no log"


def test_names_never_reach_a_terminal_as_commands(tmp_path):
    log = open_log(tmp_path / "l")
    log.add_job("Mill\x1b[2Jer \x07 9", owner="a\rb")
    log.close()
    said = sagen("--log", tmp_path / "l", "log", "list").stdout
    assert "\x1b" not in said
    assert "\x07" not in said


def test_an_older_log_is_copied_before_it_is_brought_up_to_date(tmp_path):
    folder = tmp_path / "old"
    folder.mkdir()
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    engine = create_engine(f"sqlite:///{folder / 'jobs.sqlite'}")
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "002")
        connection.exec_driver_sql(
            "insert into job (created, machine, owner, withdrawn, about, entries, stage) values ('2026-01-02 03:04:05', 'Old one', '', 0, '', 0, 'open')"
        )
    engine.dispose()
    log = open_log(folder)
    assert [job.machine for job in log.jobs()] == ["Old one"]
    log.close()
    with closing(sqlite3.connect(folder / "jobs.sqlite.before-002")) as kept:
        assert kept.execute("select version_num from alembic_version").fetchone() == ("002",)
        assert kept.execute("select machine from job").fetchone() == ("Old one",)
    open_log(folder).close()
    assert len(list(folder.glob("*.before-*"))) == 1, "one copy a migration"


def shape(path):
    """Tables, columns, indices and what refers to what, in no order. A file calls text of JSON so, where a table says text."""
    with closing(sqlite3.connect(path)) as log:
        names = [name for (name,) in log.execute("select name from sqlite_master where type = 'table'")]
        return {
            name: (
                {(column, kind.lower().replace("json", "text"), *rest) for _, column, kind, *rest in log.execute(f"pragma table_info({name})")},
                {row[1:3] for row in log.execute(f"pragma index_list({name})")},
                {row[2:5] for row in log.execute(f"pragma foreign_key_list({name})")},
            )
            for name in names
        }  # fmt: skip


def test_a_new_log_has_the_tables_that_every_migration_leads_to(tmp_path):
    open_log(tmp_path).close()
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    engine = create_engine(f"sqlite:///{tmp_path / 'led.sqlite'}")
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    engine.dispose()
    assert shape(tmp_path / "jobs.sqlite") == shape(tmp_path / "led.sqlite")
    with closing(sqlite3.connect(tmp_path / "jobs.sqlite")) as log:
        assert log.execute("select version_num from alembic_version").fetchall() == [(versions()[-1],)]
    scripts = ScriptDirectory.from_config(config)
    assert versions() == sorted(item.revision for item in scripts.walk_revisions())
    assert versions()[-1] == scripts.get_current_head()


def test_a_log_of_a_newer_sagen_is_left_as_it_is(filled):
    log, _, _, folder = filled
    log.close()
    path = folder / "one" / "jobs.sqlite"
    with closing(sqlite3.connect(path)) as newer, newer:
        newer.execute("update alembic_version set version_num = '999'")
    with pytest.raises(StoreError, match="written by a newer Sagen"):
        open_log(folder / "one")
    with closing(sqlite3.connect(path)) as still:
        assert still.execute("select version_num from alembic_version").fetchone() == ("999",)
