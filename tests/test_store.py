"""The job log survives closing, crashing and full disks, and every change can be undone."""

import json
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import event

from conftest import full_jobs, square_teeth
from sagen.artifacts.leases import Leases
from sagen.casework.demo import JOBS, make_demo_log
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import StoreError
from sagen.model.finding import Finding, Span
from sagen.model.job import Stage
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CardEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    DamagedEntry,
    DecisionEntry,
    FindingEntry,
    InspectionEntry,
    NewerEntry,
    NoteEntry,
    PartEntry,
    PhotoEntry,
    ProofEntry,
    ReadingEntry,
    RepairEntry,
    ReplacedEntry,
    SeenEntry,
    StepEntry,
)  # fmt: skip
from sagen.model.vocabulary import FindingKind, Part, StepKind
from sagen.store.captures import CaptureStore
from sagen.store.codecs import decode, encode
from sagen.store.forgetting import forget_customer
from sagen.store.moving import backup, check, job_rows, restore
from sagen.store.opening import open_log
from sagen.store.places import place_of

SHEET = Sheet.from_data({"conditions": {"state": "cranking"}}, where="test")


@pytest.fixture
def log(tmp_path):
    made = open_log(tmp_path)
    yield made
    made.close()


def small_capture():
    return Capture("a.csv", 50_000.0, (Channel("CH1", square_teeth(seconds=0.1), "V", 0.5, 0.1),), ("a note",))


def test_all_comes_back_after_closing(tmp_path, log):
    job = log.add_job("Tarnbeck", owner="someone", cylinders=3)
    log.add_entry(job.id, CodeEntry("P0335"))
    entry = log.add_capture(job.id, small_capture(), CaptureEntry("", SHEET))
    log.close()
    again = open_log(tmp_path)
    [listed] = again.jobs()
    assert (listed.machine, listed.owner, listed.about, listed.entries) == ("Tarnbeck", "someone", "P0335", 2)
    back = again.job(listed.id)
    assert (back.machine, back.owner, back.cylinders) == ("Tarnbeck", "someone", 3)
    assert [this_entry.kind for this_entry in back.entries] == ["code", "capture"]
    capture = again.capture(back.entries[1].record.token)
    np.testing.assert_array_equal(capture.channels[0].raw, small_capture().channels[0].raw)
    assert (capture.channels[0].scale, capture.notes) == (0.5, ("a note",))
    assert entry.record == back.entries[1].record


def test_withdraw_restore_correct_undo_redo(log):
    job = log.add_job("x")
    entry = log.add_entry(job.id, NoteEntry("one"))
    log.withdraw(entry.id)
    assert log.job(job.id).standing == ()
    log.undo(job.id)
    assert len(log.job(job.id).standing) == 1
    log.redo(job.id)
    assert log.job(job.id).standing == ()
    log.withdraw(entry.id, False)
    log.correct(entry.id, NoteEntry("two"))
    log.undo(job.id)
    assert log.job(job.id).entries[0].record == NoteEntry("one")
    assert log.can_redo(job.id) == "correct entry"
    for _ in range(3):
        log.undo(job.id)
    assert log.job(job.id).entries[0].withdrawn
    assert log.can_undo(job.id) == "new job"


def test_undo_is_of_the_job_that_is_open(log):
    first, second = log.add_job("first"), log.add_job("second")
    log.add_entry(second.id, NoteEntry("of the second"))
    log.add_entry(first.id, NoteEntry("of the first"))
    log.undo(second.id)
    assert [entry.withdrawn for entry in log.job(first.id).entries] == [False]
    assert [entry.withdrawn for entry in log.job(second.id).entries] == [True]


def test_adding_a_job_can_be_undone_and_done_again(log):
    kept, gone = log.add_job("kept"), log.add_job("gone")
    assert log.undo(gone.id) is False
    assert [job.machine for job in log.jobs()] == ["kept"]
    assert log.redo(None) == gone.id
    assert {job.id for job in log.jobs()} == {kept.id, gone.id}


def test_one_undo_list_serves_many_threads(log):
    jobs = [log.add_job(f"job {number}") for number in range(4)]

    def busy(job):
        for number in range(12):
            log.add_entry(job.id, NoteEntry(str(number)))
            if number % 3 == 2:
                log.undo(job.id)

    threads = [threading.Thread(target=busy, args=(job,)) for job in jobs]
    for thread in threads:
        thread.start()
    for this_thread in threads:
        this_thread.join()
    for job in jobs:
        trail = log.job(job.id)
        assert [entry.record.text for entry in trail.entries if entry.withdrawn] == ["2", "5", "8", "11"]
        assert len(trail.entries) == 12


def test_jobs_are_listed_and_searched_in_one_statement_however_many(log):
    for number in range(30):
        job = log.add_job(f"Machine {number}", owner="100% _sure_" if number == 7 else "")
        log.add_entry(job.id, CodeEntry("P0335" if number % 2 else "P0340"))
    said = []
    event.listen(log.database.engine, "before_cursor_execute", lambda _c, _u, statement, *_: said.append(statement))
    assert len(log.jobs()) == 30
    assert len(log.jobs("machine P0340")) == 15
    # A wildcard of the database is only a letter to the person who searches.
    assert [this_job.machine for this_job in log.jobs("100%")] == ["Machine 7"]
    assert [this_job.machine for this_job in log.jobs("_sure_")] == ["Machine 7"]
    selects = [item for item in said if "SELECT" in item.upper()]
    assert len(selects) == 4
    assert not any("entry" in select.split("FROM")[1].split() for select in selects)


EVERY_KIND = (
    ComplaintEntry("no_start"), ComplaintEntry(None, "stalls in the rain"), CodeEntry("P1390", "cam", "correlation"),
    NoteEntry("<b>one</b>"), ReplacedEntry("sensor", "aftermarket"), RepairEntry("harness"), RepairEntry(None, "unknown", "?"),
    ProofEntry(("cleared",), "more"), ReadingEntry("volts", "signal", "key_on", 4.9, accuracy="0.8%+2"),
    InspectionEntry("smell the fluid", ""), FindingEntry("dropout", "running", {"share": 0.1}),
    CircuitEntry(CircuitSpec(role="crank", sensor="hall", wheel="60-2")),
    CaptureEntry("a", SHEET, (Finding(FindingKind.DROPOUT, "CH1", 0.5, {"share": 0.1}, {}, (Span(0.1, 0.2),)),)),
)  # fmt: skip


@pytest.mark.sampled(1)
@pytest.mark.parametrize("record", EVERY_KIND, ids=lambda item: item.kind)
def test_every_entry_is_read_back_as_it_was_written(log, record):
    job = log.add_job("x")
    log.add_entry(job.id, record)
    assert log.job(job.id).entries[0].record == record


def test_an_entry_of_a_newer_version_is_shown_and_kept_as_it_is(tmp_path, log):
    job = log.add_job("x")
    entries = [log.add_entry(job.id, NoteEntry("mine")) for _ in range(4)]
    log.add_entry(job.id, NoteEntry("still mine"))
    changes = [
        ("version = 99", entries[0]), ("data = '{\"text\": \"a\", \"voice\": \"b\"}'", entries[1]),
        ("kind = 'hologram'", entries[2]),
        ("kind = 'capture', data = '{\"name\": \"a\", \"sheet\": {}, \"findings\": [{\"kind\": \"dropout\", \"colour\": 1}]}'",
         entries[3]),
    ]  # fmt: skip
    with sqlite3.connect(tmp_path / "jobs.sqlite") as file:
        for change, entry in changes:
            file.execute(f"update entry set {change}, sum = '' where id = {entry.id}")
    back = log.job(job.id)
    assert [type(this_entry.record) for this_entry in back.entries] == [NewerEntry] * 4 + [NoteEntry]
    with pytest.raises(StoreError, match="not changed here"):
        log.correct(entries[1].id, NoteEntry("overwritten"))
    log.withdraw(entries[1].id)
    with sqlite3.connect(tmp_path / "jobs.sqlite") as file:
        [(kept,)] = file.execute(f"select data from entry where id = {entries[1].id}").fetchall()
    assert "voice" in kept


DAMAGES = (
    "data = 'no json {'", "data = '[]'", "data = '{\"text\": 5}'", "version = 'two'", "data = x'ff00fe'",
    "created = 'yesterday'", "withdrawn = 'perhaps'",
)  # fmt: skip


@pytest.mark.parametrize("damage", DAMAGES)
def test_a_damaged_row_hides_nothing_else(tmp_path, log, damage):
    job, other = log.add_job("x"), log.add_job("other")
    entry = log.add_entry(job.id, NoteEntry("to be damaged"))
    log.add_entry(job.id, NoteEntry("whole"))
    with sqlite3.connect(tmp_path / "jobs.sqlite") as file:
        file.execute(f"update entry set {damage} where id = {entry.id}")
    assert {this_job.machine for this_job in log.jobs()} == {"x", "other"}
    first, second = log.job(job.id).entries
    assert second.record == NoteEntry("whole")
    if damage.startswith(("data", "version")):
        assert isinstance(first.record, DamagedEntry)
        log.withdraw(entry.id)
        assert log.job(job.id).entries[0].withdrawn
    log.add_entry(job.id, NoteEntry("and it goes on"))
    assert log.job(other.id).entries == ()


def test_a_damaged_job_row_is_listed_with_a_word(tmp_path, log):
    for name in ("sound", "bad date", "bad count"):
        log.add_job(name)
    with sqlite3.connect(tmp_path / "jobs.sqlite") as file:
        file.execute("update job set created = 'soon' where machine = 'bad date'")
        file.execute("update job set stage = 'flying', cylinders = 'many' where machine = 'bad count'")
    listed = {job.machine: job for job in log.jobs()}
    assert {name: bool(item.damaged) for name, item in listed.items()} == {
        "sound": False, "bad date": True, "bad count": True,
    }  # fmt: skip
    assert log.job(listed["bad count"].id).cylinders is None


def test_a_log_of_version_0_1_0_opens_with_all_it_held(tmp_path):
    # Written by that version before anything was rebuilt, and never touched since.
    with zipfile.ZipFile(Path(__file__).parent / "data" / "log-of-version-0.1.0.zip") as file:
        file.extractall(tmp_path)
    [folder] = {path.parent for path in tmp_path.rglob("jobs.sqlite")}
    log = open_log(folder)
    jobs = full_jobs(log)
    entries = [entry for job in jobs.values() for entry in job.entries]
    assert len(jobs) == 2
    kinds = {this_entry.kind for this_entry in entries}
    assert kinds == {
        "complaint", "code", "note", "replaced", "repair", "proof", "reading", "inspection", "circuit", "capture",
    }  # fmt: skip
    assert sum(this_entry.withdrawn for this_entry in entries) == 1
    captures = [this_entry.record for this_entry in entries if isinstance(this_entry.record, CaptureEntry)]
    assert len(captures) == 2
    assert any(capture.findings and all(finding.text for finding in capture.findings) for capture in captures)
    assert [bool(capture.reference) for capture in captures].count(True) == 1
    for this_capture in captures:
        assert len(log.capture(this_capture.token).channels[0].values()) > 1000
    for entry in entries:
        assert decode(*encode(entry.record)) == entry.record
    assert {job.machine: job.stage for job in log.jobs()} == {name: job.stage for name, job in jobs.items()}
    # Its proof was ticked, and its recording not taken again: what is owed is shown as owed.
    assert {job.stage for job in log.jobs()} == {Stage.OPEN, Stage.REPAIRED}
    log.close()


CRASHING = """
import sys
from pathlib import Path
import numpy as np
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry
from sagen.store.opening import open_log
log = open_log(Path(sys.argv[1]))
job = log.add_job("crash")
entry = CaptureEntry("", Sheet.from_data({}, where="test"))
count = 0
raw = np.zeros(400_000, np.float32)
while True:
    log.add_capture(job.id, Capture(f"{count}", 1e4, (Channel("A", raw + count),)), entry)
    count += 1
    print(count, flush=True)
"""


@pytest.mark.sampled(1)
@pytest.mark.parametrize("delay", [0.0, 0.004, 0.011])
def test_kill_9_during_a_save_loses_at_most_that_entry(tmp_path, delay):
    process = subprocess.Popen([sys.executable, "-c", CRASHING, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    for _ in range(5):
        told = int(process.stdout.readline())
    time.sleep(delay)
    process.send_signal(signal.SIGKILL)
    rest, _ = process.communicate()
    told = max([told, *(int(word) for word in rest.split())])
    log = open_log(tmp_path)
    [job] = full_jobs(log).values()
    assert told <= len(job.entries) <= told + 1
    for number, entry in enumerate(job.entries):
        assert log.capture(entry.record.token).channels[0].raw[-1] == number
    assert not list(tmp_path.glob("files-*/captures/*.part"))
    log.close()


FULL_DISK = """
import resource, signal, sys
from pathlib import Path
import numpy as np
from sagen.model.capture import Capture, Channel
from sagen.model.errors import StoreError
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.store.opening import open_log
log = open_log(Path(sys.argv[1]))
job = log.add_job("full")
log.add_entry(job.id, NoteEntry("kept"))
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000))
try:
    log.add_capture(job.id, Capture("big", 1e4, (Channel("A", np.zeros(400_000, np.float32)),)), CaptureEntry("", Sheet.from_data({}, where="t")))
except StoreError as error:
    print("told:", error)
print(len(log.job(job.id).entries))
"""


@pytest.mark.long
def test_a_disk_that_takes_no_more_is_told_and_nothing_is_lost(tmp_path):
    done = subprocess.run([sys.executable, "-c", FULL_DISK, str(tmp_path)], capture_output=True, text=True, check=True)
    first, second = done.stdout.splitlines()
    assert first.startswith("told: the capture could not be kept")
    assert second == "1"
    assert not [path for path in tmp_path.glob("files-*/captures/*") if path.is_dir()]


def test_damaged_capture_and_log_are_told(tmp_path, log):
    job = log.add_job("x")
    entry = log.add_capture(job.id, small_capture(), CaptureEntry("", SHEET))
    folder = log.captures.folder / entry.record.token
    (folder / "0.npy").write_bytes(b"not an array")
    with pytest.raises(StoreError, match="damaged or gone"):
        log.capture(entry.record.token)
    log.close()
    for left in tmp_path.glob("jobs.sqlite*"):
        left.write_bytes(b"this is no database at all, only words" * 50)
    with pytest.raises(StoreError, match="cannot be"):
        open_log(tmp_path)


@pytest.mark.parametrize(("call", "said"), [
    (lambda log: log.job(99), "there is no job 99"),
    (lambda log: log.withdraw(99), "there is no entry 99"),
    (lambda log: log.add_job("  "), "needs a machine"),
    (lambda log: log.add_entry(99, NoteEntry("for no job")), "there is no job 99"),
    (lambda log: log.capture("../../etc"), "damaged or gone"),
])  # fmt: skip
def test_what_is_not_there_is_told(log, call, said):
    with pytest.raises(StoreError, match=said):
        call(log)


def test_a_stored_capture_cut_short_is_told_and_never_a_crash(tmp_path, log):
    job = log.add_job("x")
    entry = log.add_capture(job.id, small_capture(), CaptureEntry("", SHEET))
    file = log.captures.folder / entry.record.token / "0.npy"
    file.write_bytes(file.read_bytes()[:-4000])
    with pytest.raises(StoreError, match="damaged or gone"):
        log.capture(entry.record.token)
    shutil.rmtree(file.parent)
    with pytest.raises(StoreError, match="damaged or gone"):
        log.capture(entry.record.token)


KEEPING = """
import sys
from pathlib import Path
from sagen.store.captures import CaptureStore
store = CaptureStore(Path(sys.argv[1]))
store._captures.begin("0" * 32).part.mkdir()
record = store.begin_record("running.record", {"job": 3})
record.path.mkdir()
print("keeping", flush=True)
sys.stdin.read()
"""


def test_a_second_window_leaves_alone_what_the_first_is_keeping(tmp_path):
    first = subprocess.Popen(
        [sys.executable, "-c", KEEPING, str(tmp_path)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    first.stdout.readline()
    second = CaptureStore(tmp_path)
    assert second.take_over() == {}
    assert len(list(second.folder.glob("*.part"))) == 1
    assert second.left_records() == [], "a recording that runs in another window is not left behind"
    # Once the first is gone, without a word, the next one takes over what it left; of two that try, one does.
    first.kill()
    first.communicate()
    third = CaptureStore(tmp_path)
    assert second.take_over() == third.take_over() == {}
    assert not list(second.folder.iterdir())
    [left] = third.left_records()
    assert (left.path.name, left.meant) == ("running.record", {"job": 3})
    assert second.left_records() == []
    left.discard()
    assert not list(third.record_folder.iterdir())


def test_a_capture_is_held_until_the_log_names_it_and_removed_by_its_holder_only(tmp_path):
    mine, other = CaptureStore(tmp_path), CaptureStore(tmp_path)
    token = mine.put(small_capture(), {"job": 1})
    other.remove(token)
    assert mine.tokens() == [token], "another window may not delete what this one is just keeping"
    assert other.is_held(token)
    mine.close()
    assert other.take_over() == {token: {"job": 1}}
    other.commit(token)
    assert other.tokens() == [token]
    assert not list(tmp_path.rglob("*.lease"))
    mine.remove(token)
    assert other.tokens() == []


def test_a_lease_whose_words_are_cut_off_is_taken_over_all_the_same(tmp_path):
    leases = Leases(tmp_path)
    lease = leases.begin("a.bin")
    lease.part.write_bytes(b"half")
    lease.let_go()
    [file] = tmp_path.glob("*.lease")
    file.write_text('{"process": 4, "pa')
    [left] = leases.take_over()
    assert left.meant == {}
    left.discard()
    assert not list(tmp_path.iterdir())


# logs beside each other ----------------------------------------------------------------------------------------


def filled_log(place, words):
    log = open_log(place)
    job = log.add_job(words)
    entry = log.add_capture(job.id, small_capture(), CaptureEntry("", SHEET))
    return log, job.id, entry.record.token


def test_two_logs_in_one_folder_share_no_files(tmp_path):
    one, first, token = filled_log(f"sqlite:///{tmp_path}/one.sqlite", "one")
    two, _, other = filled_log(f"sqlite:///{tmp_path}/two.sqlite", "two")
    assert one.identity != two.identity
    assert check(one, repair=True) == check(two, repair=True) == []
    assert len(one.capture(token).channels) == len(two.capture(other).channels)
    one.delete_job(first)
    assert two.captures.tokens() == [other]


def test_a_database_copied_beside_its_log_is_a_log_of_its_own(tmp_path):
    log, job_id, token = filled_log(f"sqlite:///{tmp_path}/one.sqlite", "one")
    log.close()
    shutil.copy(tmp_path / "one.sqlite", tmp_path / "copy.sqlite")
    copy = open_log(f"sqlite:///{tmp_path}/copy.sqlite")
    copy.delete_job(job_id)
    assert check(copy, repair=True) == []
    again = open_log(f"sqlite:///{tmp_path}/one.sqlite")
    assert again.identity == log.identity != copy.identity
    assert again.capture(token).samples == small_capture().samples
    # Renamed it stays itself.
    again.close()
    for left in tmp_path.glob("one.sqlite*"):
        left.rename(left.with_name(left.name.replace("one", "shop")))
    assert open_log(f"sqlite:///{tmp_path}/shop.sqlite").capture(token).samples == small_capture().samples


def test_old_logs_that_shared_a_folder_of_captures_each_take_what_is_theirs(tmp_path):
    """As an earlier version left them: two databases without an identity beside one folder of captures."""
    tokens = {}
    for name in ("one", "two"):
        log, _, tokens[name] = filled_log(f"sqlite:///{tmp_path}/{name}.sqlite", name)
        root = log.captures.folder.parent
        log.close()
        (tmp_path / "captures").mkdir(exist_ok=True)
        (root / "captures" / tokens[name]).rename(tmp_path / "captures" / tokens[name])
        shutil.rmtree(root)
    (tmp_path / "captures" / ("f" * 32 + ".0123.pending")).write_text("null")
    for name in ("one", "two"):
        log = open_log(f"sqlite:///{tmp_path}/{name}.sqlite")
        assert log.captures.tokens() == [tokens[name]]
        assert check(log, repair=True) == []
        log.close()
    assert sorted(path.name for path in (tmp_path / "captures").iterdir() if path.is_dir()) == sorted(tokens.values())


def test_folders_whose_names_hold_a_question_mark_are_two_logs(tmp_path):
    for name in ("shop?1", "shop?2", "a#b", "50%", "c&d=e"):
        log = open_log(tmp_path / name)
        assert log.jobs() == []
        log.add_job(name)
        log.close()
        assert [job.machine for job in open_log(tmp_path / name).jobs()] == [name]


def test_a_backup_is_restored_into_the_file_that_was_named(tmp_path):
    log, _, token = filled_log(tmp_path / "from", "Tarnbeck 4")
    backup(log, tmp_path / "a.zip")
    other, _, _ = filled_log(f"sqlite:///{tmp_path}/to/other.sqlite", "other")
    place = place_of(f"sqlite:///{tmp_path}/to/shop.sqlite")
    restore(tmp_path / "a.zip", place)
    there = open_log(place)
    assert [job.machine for job in there.jobs()] == ["Tarnbeck 4"]
    assert there.capture(token).samples == small_capture().samples
    assert check(there) == check(other) == []
    assert there.identity not in (log.identity, other.identity)
    assert not (tmp_path / "to" / "jobs.sqlite").exists()
    with pytest.raises(StoreError, match=r"shop\.sqlite is not empty"):
        restore(tmp_path / "a.zip", place)


# names and steps --------------------------------------------------------------------------------------------------


@pytest.mark.sampled(1)
@pytest.mark.parametrize("written", ["Orla Finch", "ORLA FINCH", "orla  finch", "Orla\u00a0Finch", "oRLA fINCH"])
def test_a_name_goes_from_every_field_that_a_record_declares_in_any_case(tmp_path, written):
    log = open_log(tmp_path)
    job = log.add_job("Tarnbeck 4", owner=written)
    said = f"as {written} said"
    for record in (
        NoteEntry(said), ComplaintEntry(text=said), StepEntry(StepKind.UNPLUGGED, said), ProofEntry(more=said, drive={"conditions": said}),
        InspectionEntry(said, seen=said), PartEntry("boot", number=said, maker=said, source=said, bench={"looks": said}, text=said),
        SeenEntry(said, because=said), DecisionEntry(said, ({"name": said, "cost": 1.0, "low": 1.0, "high": 2.0},), {"why": said}, said),
        CodeEntry("P0335", said), RepairEntry(Part.SENSOR, text=said), PhotoEntry("0" * 64, said, words=said),
        CardEntry({"model": "Fell", "note": said}), FindingEntry(FindingKind.ERRATIC, fields={"text": said}),
    ):  # fmt: skip
        log.add_entry(job.id, record)
    assert forget_customer(log, "Orla Finch") == 1
    left = json.dumps(job_rows(log, job.id), ensure_ascii=False).casefold()
    assert "orla" not in left
    assert "finch" not in left
    assert left.count("(name removed)") >= 20
    assert [str(entry.kind) for entry in log.job(job.id).entries if str(entry.kind) in ("damaged", "newer")] == []
    assert log.job(job.id).owner == ""


def test_a_name_of_letters_that_fold_to_two_and_words_of_closed_sets(tmp_path):
    """Case folding as Unicode has it: \u00df is ss (The Unicode Standard, CaseFolding.txt). A customer called Hall takes no
    sensor's kind along."""
    log = open_log(tmp_path)
    job = log.add_job("Tarnbeck 4")
    log.add_entry(job.id, NoteEntry("GEORG WEISS rang, Georg Wei\u00df came, Georg Weisser did not"))
    entry = log.add_capture(job.id, small_capture(), CaptureEntry("", SHEET))
    log.add_entry(job.id, CircuitEntry(CircuitSpec(role="crank", sensor="hall")))
    assert forget_customer(log, "georg wei\u00df") == 1
    assert log.job(job.id).entries[0].record.text == "(name removed) rang, (name removed) came, Georg Weisser did not"
    before = log.job(job.id).entries[1:]
    assert forget_customer(log, "Hall") == 0
    assert log.job(job.id).entries[1:] == before
    assert before[0].record.sheet == entry.record.sheet


def test_undo_goes_on_after_a_step_that_another_window_changed(tmp_path):
    mine, other = open_log(tmp_path), open_log(tmp_path)
    job = mine.add_job("Tarnbeck 4")
    first, second = (mine.add_entry(job.id, NoteEntry(text)) for text in ("first", "second"))
    other.correct(second.id, NoteEntry("second, as the other window has it"))
    with pytest.raises(StoreError, match="changed in another window"):
        mine.undo(job.id)
    assert mine.undo(job.id)
    assert [entry.withdrawn for entry in other.job(job.id).entries] == [True, False], (
        "what another changed is left as it is"
    )
    assert first.id == other.job(job.id).entries[0].id
    mine.redo(job.id)
    assert not any(entry.withdrawn for entry in other.job(job.id).entries)


def test_demo_log_never_touches_the_users_own(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "own"))
    log = make_demo_log()
    jobs = full_jobs(log)
    log.close()
    assert len(jobs) == len(JOBS) >= 3
    assert not (tmp_path / "own").exists()
    found = {
        name: [str(f.kind) for record in job.records(CaptureEntry) for f in record.findings]
        for name, job in jobs.items()
    }
    assert found["Tarnbeck Fell 1.8"] == ["extra_gap"]
    assert found["Velmora Courier 2.6"] == ["high_not_reached"]
    assert sorted(found["Quillaby Drake 1.4"]) == ["ground_lift", "no_signal"]
    assert found["Skerry Lantern 2.2"] == ["timing_offset"]
    assert found["Plover Dray 4"] == ["odd_tooth"]
    assert found["Marrick Marlin estate"] == ["runout"]
