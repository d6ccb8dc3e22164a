"""The log in the window: two windows on one log, what is moved, deleted and forgotten, who writes."""

import signal
import subprocess
import sys

import pytest
from PySide6.QtWidgets import QFileDialog

from conftest import demo_log, settle, spin
from postgres import server, until
from sagen.desk.app import own_log
from sagen.desk.commands import entries
from sagen.desk.commands.logs import LOG_COMMANDS, remembered_author
from sagen.desk.forms.base import Form
from sagen.desk.forms.logs import AuthorForm, OtherLogForm
from sagen.desk.panes.trail import written_by
from sagen.desk.theme.plain import Label
from sagen.model.trail import NoteEntry
from sagen.store import moving
from sagen.store.entries import Author
from sagen.store.opening import open_log
from sagen.store.places import place_of


def wait(what, seconds=10):
    """Let windows live until `what()` is true."""
    assert until(lambda: (spin(20), what())[1], seconds) is not None


@pytest.fixture
def answers(monkeypatch):
    """Dialogs answer by themselves: paths by title, forms by what fills them in; told which were shown."""
    shown, paths, fills = [], {}, {}

    def chosen(title):
        return str(paths.get(title, "")), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda _, title, *more: chosen(title))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda _, title, *more: chosen(title))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda _, title, *more: chosen(title)[0])

    def run(form):
        shown.append(form)
        fills.get(type(form), lambda item: None)(form)
        return 0 if form.problem() else 1

    monkeypatch.setattr(Form, "exec", run)
    return paths, fills, shown


def choose(window, words):
    """A command of the menu, done to its end."""
    window.commands.run(dict(LOG_COMMANDS)[words])
    settle(window)
    return window.message.text.text()


@pytest.mark.parametrize("kind", ["file", "server"])
def test_two_windows_on_one_log_see_each_other(desk, tmp_path, kind, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    where = place_of(server().url()) if kind == "server" else tmp_path / "log"
    one, two = desk(own_log(where)), desk(own_log(where))
    one.workspace.log.author = Author("Ivo", "bay 2")
    one.workspace.add_job("Tarnbeck 4", "", 3, [NoteEntry("gap 0.9 mm")])
    settle(one)
    wait(lambda: [job.machine for job in two.page("log").model.jobs] == ["Tarnbeck 4"])
    two.workspace.open_job(one.workspace.job.id)
    settle(two)
    said = []
    one.workspace.said.connect(said.append)
    one.workspace.add(NoteEntry("2.4 kohm"))
    wait(lambda: len(two.workspace.job.entries) == 2)
    wait(lambda: "changed in another window" in two.message.text.text())
    entry = two.workspace.job.entries[0]
    assert written_by(entry) == "Written: Ivo at bay 2."
    spin(500)
    assert said == [], "its own changes are no news to a window"
    # Both correct the same entry: the second is told, and may put its own over it.
    forms, real = [], entries.OvertakenForm
    monkeypatch.setattr(entries, "OvertakenForm", lambda *given: forms.append(real(*given)) or forms[-1])
    monkeypatch.setattr(real, "exec", lambda form: len(forms) > 1)
    for _ in range(2):
        entry = two.workspace.job.entries[0]
        one.workspace.correct(one.workspace.job.entries[0], NoteEntry("gap 1.4 mm"))
        settle(one)
        two.workspace.correct(entry, NoteEntry("gap 0.7 mm"))
        settle(two)
        wait(lambda: one.workspace.job.entries == two.workspace.job.entries)
    told = [label.text() for label in forms[0].findChildren(Label)]
    assert "This entry was changed at bay 2 by Ivo while you were writing." in told
    assert {"gap 1.4 mm", "gap 0.7 mm"} <= set(told)
    assert two.workspace.job.entries[0].record.text == "gap 0.7 mm", "put over it at the second asking"


def test_what_is_typed_while_the_server_is_away_is_shown_and_sent(desk, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    window = desk(own_log(server().url()))
    window.workspace.add_job("Tarnbeck 4", "", 3, [NoteEntry("gap 0.9 mm")])
    settle(window)
    server().stop()
    try:
        window.workspace.add(NoteEntry("typed while it is away"))
        settle(window)
        assert "The server is away: One change waits" in window.message.text.text()
        assert [entry.waits for entry in window.workspace.job.entries] == [False, True]
        assert "waits here" in written_by(window.workspace.job.entries[1])
    finally:
        server().start()
    wait(lambda: not any(entry.waits for entry in window.workspace.job.entries))
    assert window.workspace.log.waiting == 0


@pytest.mark.long
def test_a_job_goes_out_and_comes_back_and_the_log_is_checked_and_backed_up(desk, tmp_path, answers):
    paths, fills, shown = answers
    window = desk(demo_log, demo=True)
    paths["Export this job"] = paths["Import a job"] = tmp_path / "one.zip"
    paths["Back the log up"] = paths["A backup of a log"] = tmp_path / "all.zip"
    paths["An empty folder to restore it into"] = tmp_path / "restored"
    jobs = len(window.workspace.log.jobs())
    first, entries = window.workspace.job.id, len(window.workspace.job.entries)
    assert "Exported" in choose(window, "Export this job")
    choose(window, "Import a job")
    wait(lambda: window.workspace.job.id != first)
    settle(window)
    assert len(window.workspace.log.jobs()) == jobs + 1
    assert len(window.workspace.job.entries) == entries
    assert "Nothing is wrong" in choose(window, "Check the log")
    assert "Backed up" in choose(window, "Back the log up")
    assert (tmp_path / "all.zip").stat().st_size > 10_000
    machine = window.workspace.job.machine
    assert f"Deleted: {machine}" in choose(window, "Delete this job")
    assert any(item.text().startswith(machine) for item in shown[-1].findChildren(Label))
    assert not shown[-1].ok.isDefault(), "Enter deletes nothing"
    assert window.workspace.job is None
    assert len(window.page("log").model.jobs) == jobs
    choose(window, "Restore a backup")
    assert window.workspace.log.captures.folder.is_relative_to(tmp_path / "restored")
    assert len(window.page("log").model.jobs) == jobs + 1
    fills[OtherLogForm] = lambda form: form.where.setText(str(tmp_path / "nowhere"))
    assert "there is no such folder" in choose(window, "Open another log")
    fills[OtherLogForm] = lambda form: form.where.setText("ftp://somewhere")
    choose(window, "Open another log")
    assert "no place of a job log" in shown[-1].problem()
    (tmp_path / "new").mkdir()
    fills[OtherLogForm] = lambda form: form.where.setText(str(tmp_path / "new"))
    choose(window, "Open another log")
    assert window.page("log").model.jobs == ()
    told = [item.text() for item in window.page("log").findChildren(Label) if item.isVisible()]
    assert any("No jobs yet" in text for text in told), told


def test_a_name_is_removed_and_who_writes_is_remembered(desk, answers):
    _, fills, shown = answers
    window = desk()
    window.workspace.add_job("Tarnbeck 4", "Orla Finch", 3, [NoteEntry("Orla Finch will call")])
    settle(window)
    fills[AuthorForm] = lambda form: (form.author.setText("Ivo"), form.bay.setText("bay 2"))
    choose(window, "Who writes here")
    window.workspace.add(NoteEntry("2.4 kohm"))
    settle(window)
    assert (window.workspace.job.entries[1].author, window.workspace.job.entries[1].bay) == ("Ivo", "bay 2")
    assert remembered_author(window.settings) == Author("Ivo", "bay 2")
    assert "Removed from one job" in choose(window, "Remove a customer's name")
    assert shown[-1].name.text() == "Orla Finch", "the open job's is offered"
    assert (window.workspace.job.owner, window.workspace.job.entries[0].record.text) == ("", "(name removed) will call")


KILLED = """
import os, signal, sys
from sagen.casework import captures
from sagen.casework.examination import read_incoming
from sagen.store.opening import open_log
from pathlib import Path
log = open_log(Path(sys.argv[1]))
job = log.add_job("Tarnbeck 4")
incoming = read_incoming(Path(sys.argv[2]))
captures.examine = lambda *_, **__: os.kill(os.getpid(), signal.SIGKILL)
captures.Keep(job.id, incoming, incoming.sheet).perform(log)
"""


@pytest.mark.long
def test_what_was_being_examined_when_the_program_was_killed_is_kept_at_the_next_start(desk, tmp_path, make_csv):
    path = make_csv("late.csv", lost=(31,))
    done = subprocess.run([sys.executable, "-c", KILLED, str(tmp_path / "log"), str(path)], check=False)
    assert done.returncode == -signal.SIGKILL
    window = desk(own_log(tmp_path / "log"))
    [entry] = window.workspace.job.entries
    assert (entry.record.name, [finding.kind for finding in entry.record.findings]) == ("late.csv", ["extra_gap"])
    assert "late.csv was being kept when the program ended" in window.message.text.text()
    window.close()
    again = open_log(tmp_path / "log")
    assert (again.unfinished, moving.check(again)) == ({}, [])
    again.close()
