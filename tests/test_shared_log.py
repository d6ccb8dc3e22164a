"""One log for several bays: on a real PostgreSQL server, and as a file that two windows have open."""

import sqlite3
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import psycopg
import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, text

from postgres import server, until
from sagen.casework.trail_changes import AddEntries
from sagen.cli import main
from sagen.model.capture import Capture, Channel
from sagen.model.errors import ChangedMeanwhile, StoreError
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CodeEntry, DamagedEntry, NoteEntry
from sagen.store import moving
from sagen.store.database import MIGRATIONS, Unreachable
from sagen.store.entries import Author
from sagen.store.forgetting import forget_customer
from sagen.store.opening import open_log
from sagen.store.places import place_of

SHEET = Sheet.from_data({"conditions": {"state": "cranking"}}, where="test")
RAMP = np.arange(300_000, dtype=np.float32)


@pytest.fixture
def bays(tmp_path, monkeypatch):
    """Makes logs of one database, a folder a bay; closes them."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    url, made = server().url(), []

    def bay(name, author="", url=url):
        made.append(open_log(place_of(url, tmp_path / name.replace(" ", "-")), Author(author, name)))
        return made[-1]

    yield bay
    for item in made:
        item.close()


def texts(log, job_id):
    return [getattr(entry.record, "text", entry.kind) for entry in log.job(job_id).entries]


def ramp(name="ramp.csv", more=0):
    return Capture(name, 1e4, (Channel("A", RAMP + more), Channel("", RAMP * 2, "V", 0.5, 0.1)), ("a note",))


# several bays ------------------------------------------------------------------------------------------------


def test_a_bay_opens_what_another_measured(bays, tmp_path):
    one, two = bays("bay 1", "Ivo"), bays("bay 2")
    job = one.add_job("Tarnbeck 4", owner="J. Doyle", cylinders=3)
    one.add_entry(job.id, CodeEntry("P0335"))
    entry = one.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
    [listed] = two.jobs("tarnbeck")
    assert (listed.about, listed.entries) == ("P0335", 2)
    found = two.job(job.id).entries
    assert [(item.author, item.bay) for item in found] == [("Ivo", "bay 1")] * 2
    assert not (two.captures.folder / entry.record.token).exists()
    capture = two.capture(found[1].record.token)
    np.testing.assert_array_equal(capture.channels[0].raw, RAMP)
    assert (capture.channels[1].column, capture.channels[1].offset, capture.notes) == ("", 0.1, ("a note",))
    photo = one.captures.put_photo(b"\xff\xd8 not much of a photo")
    one.add_entry(job.id, NoteEntry(f"see {photo}"))
    assert two.captures.photo(photo).endswith(b"photo")
    assert moving.check(one) == moving.check(two) == []


def test_the_same_samples_are_stored_once(bays):
    one, two = bays("bay 1"), bays("bay 2")
    job = one.add_job("Tarnbeck 4")
    for log in (one, two, one):
        log.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
    with one.database.work() as session:
        contents, pieces, objects = (
            session.scalar(text(f"select count(*) from {name}"))
            for name in ("content", "piece", "pg_largeobject_metadata")
        )
    # Two arrays, what they are, and their checksums.
    assert (contents, pieces, objects) == (4, 12, 4)
    one.delete_job(job.id)
    with one.database.work() as session:
        left = [session.scalar(text(f"select count(*) from {name}")) for name in ("content", "pg_largeobject_metadata")]
    assert left == [0, 0]


def test_other_windows_hear_of_a_change(bays):
    one, two = bays("bay 1"), bays("bay 2")
    job, heard = one.add_job("Tarnbeck 4"), []
    two.follow(heard.append)
    one.follow(lambda job_id: heard.append(f"own {job_id}"))
    until(lambda: two._follower._thread.is_alive(), 1)
    for number in range(3):
        heard.clear()
        # The first may be written before the other listens: it is read anew all the same when it opens.
        one.add_entry(job.id, NoteEntry(str(number)))
        waited = until(lambda: job.id in heard)
        if number:
            assert waited is not None
    assert not [item for item in heard if str(item).startswith("own")]


@pytest.mark.parametrize("what", ["correct", "withdraw", "undo"])
def test_what_another_bay_changed_meanwhile_is_not_overwritten(bays, what):
    one, two = bays("bay 1", "Ivo"), bays("bay 2", "Mara")
    job = one.add_job("Tarnbeck 4")
    entry = one.add_entry(job.id, NoteEntry("gap 0.9 mm"))
    one.correct(entry.id, NoteEntry("gap 0.8 mm"), entry.revision)
    seen = one.job(job.id).entries[0]
    two.correct(entry.id, NoteEntry("gap 1.4 mm"), seen.revision)
    with pytest.raises(ChangedMeanwhile, match=r"changed at bay 2 by Mara while you were writing") as told:
        {
            "correct": lambda: one.correct(entry.id, NoteEntry("gap 0.7 mm"), seen.revision),
            "withdraw": lambda: one.withdraw(entry.id, True, seen.revision),
            "undo": lambda: one.undo(job.id),
        }[what]()
    assert told.value.theirs.record == NoteEntry("gap 1.4 mm")
    assert (
        told.value.yours
        == {"correct": NoteEntry("gap 0.7 mm"), "withdraw": None, "undo": NoteEntry("gap 0.9 mm")}[what]
    )
    assert texts(two, job.id) == ["gap 1.4 mm"]


def test_of_two_that_write_at_once_one_is_told(bays):
    logs = [bays(f"bay {number}") for number in range(4)]
    job = logs[0].add_job("Tarnbeck 4")
    entry = logs[0].add_entry(job.id, NoteEntry("first"))
    told, gate = [], threading.Barrier(len(logs))

    def write(number):
        gate.wait()
        try:
            logs[number].correct(entry.id, NoteEntry(str(number)), 1)
        except ChangedMeanwhile as error:
            told.append(error)

    with ThreadPoolExecutor(len(logs)) as pool:
        list(pool.map(write, range(len(logs))))
    assert len(told) == len(logs) - 1
    assert logs[0].job(job.id).entries[0].revision == 2


def test_bays_that_write_into_one_job_at_once_lose_nothing(bays):
    logs = [bays(f"bay {number}") for number in range(4)]
    job = logs[0].add_job("Tarnbeck 4")

    def write(number):
        for count in range(15):
            logs[number].add_entry(job.id, NoteEntry(f"{number} {count}"))

    with ThreadPoolExecutor(len(logs)) as pool:
        list(pool.map(write, range(len(logs))))
    assert sorted(texts(logs[0], job.id)) == sorted(f"{number} {count}" for number in range(4) for count in range(15))
    assert logs[0].jobs()[0].entries == 60, "what the list shows counts everybody's"


# a server that goes away ---------------------------------------------------------------------------------------


def test_what_is_typed_while_the_server_is_away_waits_and_is_sent_once(bays):
    one, two = bays("bay 1", "Ivo"), bays("bay 2", "Mara")
    job = one.add_job("Tarnbeck 4")
    first, second = one.add_entry(job.id, NoteEntry("first")), one.add_entry(job.id, NoteEntry("second"))
    seen = one.job(job.id)
    one.jobs()
    server().stop()
    try:
        waiting = one.add_entry(job.id, NoteEntry("typed while it is away"))
        gone = one.add_entry(job.id, NoteEntry("typed by mistake"))
        one.undo(job.id)
        one.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
        one.correct(first.id, NoteEntry("first, corrected"), seen.entries[0].revision)
        one.correct(second.id, NoteEntry("second, corrected here"), seen.entries[1].revision)
        assert texts(one, job.id)[:2] == ["first, corrected", "second, corrected here"], "shown as it will be"
        one.withdraw(first.id)
        one.correct(first.id, NoteEntry("first, corrected twice"), one.job(job.id).entries[0].revision)
        one.undo(job.id)
        one.correct(waiting.id, NoteEntry("typed and corrected"))
        assert waiting.waits
        assert [entry.waits for entry in one.job(job.id).entries] == [True] * 5
        assert texts(one, job.id)[2:4] == ["typed and corrected", "typed by mistake"]
        assert [listed.machine for listed in one.jobs("tarn")] == ["Tarnbeck 4"]
        assert one.waiting == 8
        with pytest.raises(Unreachable, match="cannot be reached"):
            two.add_job("another")
        with pytest.raises(Unreachable, match="cannot be"):
            bays("bay 3")
    finally:
        server().start()
    two.correct(second.id, NoteEntry("second, corrected there"), seen.entries[1].revision)
    heard = []
    one.follow(heard.append)
    assert until(lambda: None in heard) is not None, "the follower sends what waited"
    assert one.waiting == 0
    entries = {getattr(entry.record, "text", "capture"): entry for entry in two.job(job.id).entries}
    assert set(entries) == {
        "first, corrected", "second, corrected there", "second, corrected here", "typed and corrected", "typed by mistake",
        "capture",
    }  # fmt: skip
    withdrawn = {words for words, entry in entries.items() if entry.withdrawn}
    assert withdrawn == {"first, corrected", "typed by mistake", "second, corrected here"}, (
        "what was overtaken is kept, and does not count"
    )
    np.testing.assert_array_equal(two.capture(entries["capture"].record.token).channels[0].raw, RAMP)
    assert entries["typed and corrected"].author == "Ivo"
    one.withdraw(gone.id, False)
    assert not next(entry for entry in one.job(job.id).entries if entry.id == one._real(gone.id)).withdrawn


def test_a_full_disk_at_the_server_is_told_as_that_and_what_is_written_waits(bays):
    """SQLSTATE 53100 is disk_full (PostgreSQL's documentation, appendix A, from memory)."""
    one = bays("bay 1", "Ivo")
    job = one.add_job("Tarnbeck 4")
    with psycopg.connect(str(one.database.place.url).replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute(
            "create function full_disk() returns trigger language plpgsql as "
            "$$ begin raise exception 'could not extend file' using errcode = '53100'; end $$"
        )
        connection.execute("create trigger no_room before insert on entry execute function full_disk()")
        done = AddEntries(job.id, (NoteEntry("typed with a full disk"),)).perform(one)
        assert (done.waiting, done.why) == (1, "has no room left on its disk")
        assert texts(one, job.id) == ["typed with a full disk"]
        connection.execute("drop trigger no_room on entry")
    assert one.send_waiting() == 1
    assert texts(bays("bay 2"), job.id) == ["typed with a full disk"]


def test_what_waited_when_the_program_ended_is_sent_at_the_next_start_and_never_twice(bays):
    one = bays("bay 1")
    job = one.add_job("Tarnbeck 4")
    server().stop()
    try:
        one.add_entry(job.id, NoteEntry("typed while it is away"))
    finally:
        server().start()
    [(_, item)] = one._outbox.items()
    one.entries.insert(item["add"])  # it went through, and the word that it had was lost
    again = bays("bay 1")
    assert again.waiting == 0
    assert texts(again, job.id) == ["typed while it is away"]


def test_an_entry_that_waits_for_a_job_deleted_elsewhere_stops_nothing(bays, tmp_path):
    """Its job is gone: it becomes a dead letter that a person sees; every later write, and opening the log, go on."""
    one, two = bays("bay 1", "Ivo"), bays("bay 2")
    gone, other = one.add_job("Tarnbeck 4"), one.add_job("Fell 2")
    first = one.add_entry(gone.id, NoteEntry("before"))
    one.job(gone.id)
    server().stop()
    try:
        one.add_entry(gone.id, NoteEntry("typed while it is away"))
        one.correct(first.id, NoteEntry("corrected while it is away"), 1)
        capture = one.add_capture(gone.id, ramp(), CaptureEntry("", SHEET))
        one.add_entry(other.id, NoteEntry("for another job"))
    finally:
        server().start()
    two.delete_job(gone.id)
    assert one.add_entry(other.id, NoteEntry("after it came back")).id > 0
    assert texts(two, other.id) == ["for another job", "after it came back"]
    letters = one.dead_letters()
    assert [letter.item.get("add", letter.item.get("new"))["job_id"] for letter in letters] == [gone.id] * 3
    assert all("deleted" in letter.why for letter in letters)
    assert one.waiting == 0
    again = bays("bay 1")
    assert len(again.dead_letters()) == 3, "they wait for a person, also after a restart"
    assert moving.check(again, repair=True) == []
    token = capture.record.token
    assert again.capture(token).samples == len(RAMP), "what was measured is not deleted under their hands"
    for letter in again.dead_letters():
        again.drop_dead_letter(letter.number)
    assert again.dead_letters() == []
    assert not (again.captures.folder / token).exists()


def test_a_withdrawal_that_was_overtaken_is_told_and_not_counted_as_sent(bays):
    one, two = bays("bay 1", "Ivo"), bays("bay 2", "Mara")
    job = one.add_job("Tarnbeck 4")
    entry = one.add_entry(job.id, NoteEntry("gap 0.9 mm"))
    one.job(job.id)
    server().stop()
    try:
        one.withdraw(entry.id, True, 1)
    finally:
        server().start()
    two.correct(entry.id, NoteEntry("gap 1.9 mm"), 1)
    assert one.send_waiting() == 0
    [letter] = one.dead_letters()
    assert "changed at bay 2 by Mara" in letter.why
    assert not two.job(job.id).entries[0].withdrawn


def test_a_correction_made_while_the_outbox_is_being_sent_is_kept(bays, monkeypatch):
    """The very moment between the sending of an entry and its leaving the outbox."""
    one = bays("bay 1")
    job = one.add_job("Tarnbeck 4")
    server().stop()
    try:
        entry = one.add_entry(job.id, NoteEntry("first words"))
    finally:
        server().start()
    real, threads = one.entries.insert, []

    def insert(new):
        found = real(new)
        if not threads:
            threads.append(
                threading.Thread(target=one.correct, args=(entry.id, NoteEntry("corrected"), entry.revision))
            )
            threads[0].start()
            time.sleep(0.3)
        return found

    monkeypatch.setattr(one.entries, "insert", insert)
    one.send_waiting()
    threads[0].join(10)
    assert texts(one, job.id) == ["corrected"]
    assert one.waiting == 0
    assert one.undo(job.id)
    assert texts(one, job.id) == ["first words"]


def test_what_waits_for_another_database_at_the_same_address_is_not_sent_into_this_one(bays):
    one = bays("bay 1")
    job = one.add_job("Tarnbeck 4")
    server().stop()
    try:
        one.add_entry(job.id, NoteEntry("for the first database"))
    finally:
        server().start()
    one.database.new_identity()  # as another database that was made under the old one's name
    assert one.send_waiting() == 0
    assert "another log that stood at this address" in one.dead_letters()[0].why


# moving --------------------------------------------------------------------------------------------------------


def test_a_log_moves_to_a_server_and_back(bays, tmp_path):
    file = open_log(tmp_path / "file")
    job = file.add_job("Tarnbeck 4", owner="J. Doyle")
    file.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
    photo = file.captures.put_photo(b"\xff\xd8 not much of a photo")
    entry = file.add_entry(job.id, NoteEntry(f"nan {float('nan')} \0 \ud800 see {photo}"))
    file.withdraw(entry.id)
    file.add_entry(job.id, NoteEntry("to be damaged"))
    with sqlite3.connect(tmp_path / "file" / "jobs.sqlite") as rows:
        rows.execute("update entry set created = 'yesterday', data = 'no json {' where id = 3")
    moving.backup(file, tmp_path / "a.zip")
    url = server().url()
    moving.restore(tmp_path / "a.zip", place_of(url, tmp_path / "bay"))
    there = open_log(place_of(url, tmp_path / "other-bay"))
    moving.backup(there, tmp_path / "b.zip")
    moving.restore(tmp_path / "b.zip", tmp_path / "back")
    back = open_log(tmp_path / "back")
    for log in (there, back):
        again = log.job(job.id)
        assert (again.machine, again.owner, [this_entry.withdrawn for this_entry in again.entries]) == (
            "Tarnbeck 4", "J. Doyle", [False, True, False],
        )  # fmt: skip
        assert [this_entry.record for this_entry in again.entries[:2]] == [
            this_entry.record for this_entry in file.job(job.id).entries[:2]
        ]
        assert isinstance(again.entries[2].record, DamagedEntry)
        np.testing.assert_array_equal(log.capture(again.entries[0].record.token).channels[0].raw, RAMP)
        assert log.captures.photo(photo).endswith(b"photo")
        assert log.add_job("and it goes on").id > job.id
    with pytest.raises(StoreError, match="not empty"):
        moving.restore(tmp_path / "a.zip", place_of(url, tmp_path / "bay"))
    for item in (file, there, back):
        item.close()


def test_damage_on_the_server_is_found(bays):
    log = bays("bay 1")
    job = log.add_job("Tarnbeck 4")
    entry = log.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
    log.add_entry(job.id, NoteEntry("2.4 kohm"))
    with log.database.work() as session:
        session.execute(text("update entry set data = replace(data, '2.4', '7.4')"))
        session.execute(text("select lo_put(object, 5000, 'x') from content where size > 100000 limit 1"))
        session.commit()
    assert isinstance(log.job(job.id).entries[1].record, DamagedEntry)
    assert {item.about.split(",")[0] for item in moving.check(log)} == {
        f"job {job.id}",
        f"capture {entry.record.token[:12]}",
    }
    assert "what was kept" in next(item.what for item in moving.check(log) if item.about.startswith("capture"))
    with pytest.raises(StoreError, match="silent damage"):
        bays("bay 2").capture(entry.record.token)


def test_the_command_line_works_on_a_server(tmp_path, bays, capsys):
    url = server().url()

    def sagen(*words, log=url):
        return main(["--log", log, "log", *words]), capsys.readouterr()

    log = open_log(url)
    job = log.add_job("Tarnbeck 4")
    log.add_capture(job.id, ramp(), CaptureEntry("", SHEET))
    log.close()
    assert "Tarnbeck 4" in sagen("list")[1].out
    assert sagen("export", str(job.id), "-o", str(tmp_path / "a.zip"))[0] == 0
    assert sagen("import", str(tmp_path / "a.zip"))[0] == 0
    assert "Nothing is wrong" in sagen("check")[1].out
    status, told = sagen("list", log=url.rsplit(":", 1)[0] + ":1/none")
    assert (status, told.out) == (1, "")
    assert "cannot be opened" in told.err
    assert len(told.err) < 250


@pytest.mark.parametrize("name", ["mysql://a/b", "postgresql://host", "sqlite://", "http://x/y", "://"])
def test_what_is_no_place_of_a_log_is_refused(name):
    with pytest.raises(StoreError, match="no place of a job log"):
        place_of(name)


def test_a_server_in_use_by_a_newer_sagen_is_left_alone(bays):
    log = bays("bay 1")
    with log.database.work() as session:
        session.execute(text("update alembic_version set version_num = '999'"))
        session.commit()
    with pytest.raises(StoreError, match="newer Sagen"):
        bays("bay 2")
    with psycopg.connect(
        log.database.place.url.render_as_string(hide_password=False).replace("+psycopg", "")
    ) as connection:
        assert connection.execute("select version_num from alembic_version").fetchone() == ("999",)


def columns(url):
    """Every column of every table on a server, with its type, whether it may be empty and what it is where nobody says."""
    engine = create_engine(url)
    with engine.connect() as connection:
        asked = text(
            "select table_name, column_name, data_type, is_nullable, column_default from information_schema.columns "
            "where table_schema = 'public' union all select tablename, indexname, '', '', '' from pg_indexes where schemaname = 'public'"
        )
        found = set(map(tuple, connection.execute(asked)))
    engine.dispose()
    return found


def test_a_new_log_on_a_server_has_the_tables_that_every_migration_leads_to(bays):
    made, led = server().url(), server().url()
    bays("bay 1", url=made)
    config, engine = Config(), create_engine(led)
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    engine.dispose()
    assert len(columns(led)) > 40
    assert columns(made) == columns(led)


def test_an_older_log_on_a_server_is_copied_within_it_before_it_is_brought_up_to_date(bays):
    url = server().url()
    config, engine = Config(), create_engine(url)
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "003")
        connection.execute(
            text("insert into job (created, machine, owner) values ('2026-01-02', 'Old one', 'J. Doyle')")
        )
        connection.execute(
            text(
                "insert into entry (job_id, kind, version, created, data, withdrawn) values (1, 'note', 3, '2026-01-02', '{\"text\": \"a\"}', false)"
            )
        )
    engine.dispose()
    log = bays("bay 1", url=url)
    assert [entry.record for entry in log.job(1).entries] == [NoteEntry("a")]
    with log.database.work() as session:
        assert session.execute(text("select machine from before_003.job")).scalar() == "Old one"
        assert session.execute(text("select version_num from before_003.alembic_version")).scalar() == "003"
        assert session.execute(text("select version_num from alembic_version")).scalar() == "005"
    assert moving.check(log) == []
    assert bays("bay 2", url=url).jobs()[0].machine == "Old one"


# a file that two windows have open -----------------------------------------------------------------------------


def test_two_windows_on_one_file_hear_of_each_other(tmp_path):
    one, two = open_log(tmp_path), open_log(tmp_path)
    job, heard = one.add_job("Tarnbeck 4"), []
    two.follow(heard.append)
    for number in range(3):
        until(lambda: False, 0.4)
        heard.clear()
        one.add_entry(job.id, NoteEntry(str(number)))
        assert until(lambda: heard) is not None
    entry = two.job(job.id).entries[0]
    one.withdraw(entry.id)
    with pytest.raises(ChangedMeanwhile, match="in another window"):
        two.correct(entry.id, NoteEntry("mine"), entry.revision)
    one.close()
    two.close()


def test_an_entry_that_was_changed_on_the_disk_is_told_and_never_called_sound(tmp_path):
    log = open_log(tmp_path)
    job = log.add_job("Tarnbeck 4")
    entry = log.add_entry(job.id, NoteEntry("2.4 kohm"))
    bare = log.add_entry(job.id, NoteEntry("of an older log"))
    with sqlite3.connect(Path(tmp_path) / "jobs.sqlite") as rows:
        rows.execute("update entry set data = replace(data, '2.4', '7.4')")
        rows.execute(f"update entry set sum = '' where id = {bare.id}")
    log.withdraw(entry.id)
    [first, second] = log.job(job.id).entries
    assert (type(first.record), first.withdrawn, second.record.text) == (DamagedEntry, True, "of an older log")
    found = moving.check(log, repair=True)
    assert [(item.what.split(";")[0], item.repaired) for item in found] == [
        ("it is not what was written: its checksum is another", False), ("has no checksum yet", True),
    ]  # fmt: skip
    assert len(moving.check(log)) == 1
    log.close()


def test_a_customer_is_forgotten_and_a_job_deleted(tmp_path):
    log = open_log(tmp_path)
    jobs = [log.add_job(f"Tarnbeck {number}", owner=owner) for number, owner in enumerate(("Hall", "Hall", "Hallam"))]
    log.add_entry(jobs[0].id, NoteEntry("Mr Hall says: the hall sensor of Hallam's too"))
    entry = log.add_capture(
        jobs[0].id,
        ramp("hall.csv"),
        CaptureEntry("", Sheet.from_data({"channel": [{"column": "A", "sensor": "hall"}]}, where="t")),
    )
    assert forget_customer(log, "Hall") == 2
    assert [job.owner for job in log.jobs()] == ["Hallam", "", ""]
    told, kept = log.job(jobs[0].id).entries
    assert told.record.text == "Mr (name removed) says: the (name removed) sensor of Hallam's too"
    assert kept.record.sheet == entry.record.sheet, "words of closed sets are no names"
    assert log.can_undo(jobs[0].id) is None
    for path in tmp_path.glob("jobs.sqlite*"):
        assert b"Mr Hall" not in path.read_bytes(), path
    log.delete_job(jobs[0].id)
    assert {job.id for job in log.jobs()} == {jobs[1].id, jobs[2].id}
    assert log.captures.tokens() == []
    with pytest.raises(StoreError, match="no job"):
        log.delete_job(jobs[0].id)
    log.close()
