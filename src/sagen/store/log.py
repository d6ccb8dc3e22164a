"""The job log. Every change is one committed transaction and can be undone, job by job."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime

from sqlalchemy import delete, func, select, update

from sagen.model.capture import Capture
from sagen.model.errors import StoreError
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.language import tr
from sagen.model.trail import CaptureEntry, Record
from sagen.store.captures import CaptureStore
from sagen.store.codecs import decode, encode
from sagen.store.database import Database
from sagen.store.entries import Author, Entries, named_tokens, new_entry
from sagen.store.following import Follower
from sagen.store.outbox import DeadLetter
from sagen.store.reading import as_column, notes_by_job, one_job, summaries
from sagen.store.shelf import Shelf
from sagen.store.steps import UndoList
from sagen.store.tables import EntryRow, JobRow


class JobLog:
    """Jobs, their trails and captures, in a database that answers. `open_log` opens one.

    Methods may be called from any thread.

    Parameters
    ----------
    database : Database
    captures : CaptureStore
        this log's own

    Raises
    ------
    StoreError
        from every method, when the database or the disk refuses; what was committed before stays.
    """

    is_shared = False  #: whether others write on it from elsewhere

    def __init__(self, database: Database, captures: CaptureStore, author: Author | None = None):
        self.database, self.captures = database, captures
        self.entries, self.shelf = Entries(database, captures), Shelf(database, captures)
        self.author = author or Author()
        self.steps = UndoList()
        self.can_undo, self.can_redo = self.steps.can_undo, self.steps.can_redo
        self.undo, self.redo, self.forget_steps = self.steps.undo, self.steps.redo, self.steps.forget
        self._follower: Follower | None = None
        #: captures that were being kept when a process ended, by token, with what was meant to become of them
        self.unfinished: dict[str, dict] = {}
        self._settle_what_was_left()

    def close(self) -> None:
        if self._follower is not None:
            self._follower.close()
        self.database.close()
        self.captures.close()

    @property
    def identity(self) -> str:
        """What tells this log from every other one."""
        return self.database.identity

    @property
    def author(self) -> Author:
        """Who writes from now on."""
        return self.entries.author

    @author.setter
    def author(self, author: Author) -> None:
        self.entries.author = author

    def follow(self, changed: Callable[[int | None], None]) -> None:
        """From now on `changed` is called, in a thread of its own, with a job that another window changed; None: with
        whichever it was."""
        self._follower = self.database.follow(changed, lambda: None)

    # reading ------------------------------------------------------------------------------

    def jobs(self, search: str = "") -> list[JobSummary]:
        """Every job as the list shows it, newest first; with `search`, those that hold all its words."""
        with self.database.work() as session:
            return summaries(session, search)

    def job(self, job_id: int) -> Job:
        """A job with its trail."""
        with self.database.work() as session:
            found = one_job(session, job_id)
        if found is None:
            raise StoreError(tr("there is no job {job_id}", job_id=job_id))
        return found

    def repaired_jobs(self, most: int) -> dict[int, tuple[int, int]]:
        """The newest jobs in which something was repaired, each with a sign that is another once its trail is changed."""
        repaired = select(EntryRow.job_id).where(EntryRow.kind == "repair", EntryRow.withdrawn.is_not(True))
        wanted = select(JobRow.id).where(JobRow.withdrawn.is_not(True), JobRow.id.in_(repaired))
        newest = wanted.order_by(JobRow.id.desc()).limit(most)
        counted = select(EntryRow.job_id, func.count(), func.sum(EntryRow.revision)).group_by(EntryRow.job_id)
        with self.database.work() as session:
            rows = session.execute(counted.where(EntryRow.job_id.in_(newest)).order_by(EntryRow.job_id.desc())).all()
        return {job_id: (count, int(revisions)) for job_id, count, revisions in rows}

    def notes(self) -> dict[int, list[Entry]]:
        """The notes of all jobs, oldest first, by job."""
        with self.database.work() as session:
            return notes_by_job(session)

    def all_job_ids(self) -> list[int]:
        """Every job, withdrawn ones among them."""
        with self.database.work() as session:
            return list(session.scalars(select(JobRow.id).order_by(JobRow.id)))

    def capture(self, token: str) -> Capture:
        return self.captures.get(token)

    def kept_tokens(self) -> set[str]:
        """Every capture and photo that a job or the shelf names, those of withdrawn entries among them."""
        with self.database.work() as session:
            return named_tokens(session)

    # what waits; only a log with an outbox has any ------------------------------------------

    @property
    def waiting(self) -> int:
        """How many changes wait for the server."""
        return 0

    @property
    def why_waiting(self) -> str:
        """Why what waits does, to go on from "the server": "is away", "has no room left on its disk"."""
        return self.database.why_not_now

    def dead_letters(self) -> list[DeadLetter]:
        """Changes that can never be sent, oldest first."""
        return []

    def drop_dead_letter(self, number: int) -> None:
        """A person has seen it, and wants it no more."""

    def send_waiting(self) -> int:
        """Send what waits; answers how many changes went."""
        return 0

    def forget_waiting(self, change: Callable[[dict], dict]) -> None:
        """Have every change that waits or was refused go through `change`, and answer nothing that was read before."""

    # writing ------------------------------------------------------------------------------

    def add_job(self, machine: str, *, owner: str = "", cylinders: int | None = None) -> Job:
        machine, owner = as_column(machine)[:200], as_column(owner)[:200]
        if not machine:
            raise StoreError(tr("a job needs a machine"))
        with self.database.work() as session:
            row = JobRow(machine=machine, owner=owner, cylinders=cylinders)
            session.add(row)
            session.flush()
            self.database.commit(session, row.id)
            job = Job(row.id, row.created, row.machine, row.owner, row.cylinders)
        self.steps.did(
            job.id,
            UndoList.NEW_JOB,
            lambda: self._withdraw_job(job.id, True),
            lambda: self._withdraw_job(job.id, False),
        )
        return job

    def add_entry(self, job_id: int, record: Record) -> Entry:
        """Put a record at the end of a job's trail. Undoing it withdraws it: nothing recorded is lost."""
        new = new_entry(job_id, record, self.author)
        entry_id = self._add(new)
        entry = Entry(
            entry_id, datetime.fromisoformat(new["created"]), decode(new["kind"], new["version"], new["data"]),
            author=self.author.author, bay=self.author.bay, waits=entry_id < 0,
        )  # fmt: skip
        self.steps.did(
            job_id,
            f"add {new['kind']}",
            lambda: self._change_own(entry.id, {"withdrawn": True}),
            lambda: self._change_own(entry.id, {"withdrawn": False}),
        )
        return entry

    def add_capture(self, job_id: int, capture: Capture, record: CaptureEntry) -> Entry:
        """Keep a capture's samples, then put it on the trail."""
        return self.add_entry(job_id, replace(record, token=self.captures.put(capture), name=capture.name))

    def correct(self, entry_id: int, record: Record, revision: int | None = None) -> None:
        """Replace what an entry says.

        `revision` is the entry's as it was read; None replaces whatever is there.

        Raises
        ------
        ChangedMeanwhile
            when it has another revision by now.
        StoreError
            for one that a newer Sagen wrote.
        """
        job_id, entry = self._entry(entry_id)
        try:
            before = _values(entry.record)
        except TypeError:
            raise StoreError(tr("this entry can be seen and withdrawn, but not changed here")) from None
        values = _values(record)
        self._change(entry_id, values, revision)
        self.steps.did(
            job_id,
            "correct entry",
            lambda: self._change_own(entry_id, before),
            lambda: self._change_own(entry_id, values),
        )

    def withdraw(self, entry_id: int, withdrawn: bool = True, revision: int | None = None) -> None:
        """Take an entry out of the evidence, or put it back; it stays on the trail. As `correct` otherwise."""
        job_id, _ = self._entry(entry_id)
        self._change(entry_id, {"withdrawn": withdrawn}, revision)
        self.steps.did(
            job_id,
            "withdraw entry" if withdrawn else "restore entry",
            lambda: self._change_own(entry_id, {"withdrawn": not withdrawn}),
            lambda: self._change_own(entry_id, {"withdrawn": withdrawn}),
        )

    def delete_job(self, job_id: int) -> None:
        """Remove a job for good, and the captures and photos that nothing else names."""
        with self.database.work() as session:
            named = named_tokens(session, EntryRow.job_id == job_id)
            session.execute(delete(EntryRow).where(EntryRow.job_id == job_id))
            if not session.execute(delete(JobRow).where(JobRow.id == job_id)).rowcount:
                raise StoreError(tr("there is no job {job_id}", job_id=job_id))
            self.database.commit(session, job_id)
        self.forget_steps(job_id)
        for token in named - self.kept_tokens():
            self.captures.remove(token)

    # --------------------------------------------------------------------------------------

    def _withdraw_job(self, job_id: int, withdrawn: bool) -> None:
        with self.database.work() as session:
            session.execute(update(JobRow).where(JobRow.id == job_id).values(withdrawn=withdrawn))
            self.database.commit(session, job_id)

    def _entry(self, entry_id: int) -> tuple[int, Entry]:
        found = self.entries.find(entry_id)
        if found is None:
            raise StoreError(tr("there is no entry {entry_id}: its job was deleted meanwhile", entry_id=entry_id))
        return found

    def _add(self, new: dict) -> int:
        """Put an entry in; answers its number."""
        return self.entries.insert(new)

    def _change(self, entry_id: int, values: dict, revision: int | None) -> None:
        """Change an entry, if it still has a revision."""
        self.entries.update(entry_id, values, revision)

    def _change_own(self, entry_id: int, values: dict) -> None:
        """Change an entry, if nobody else did since this opening."""
        self._change(entry_id, values, self.entries.revisions.get(entry_id))

    def _settle_what_was_left(self) -> None:
        """Free what a process that died in the middle of keeping left, if the log does not name it and nobody meant it for a
        trail: that is `unfinished`."""
        left = self.captures.take_over()
        if not left:
            return
        named = self.kept_tokens()
        for token, meant in left.items():
            if token in named:
                self.captures.commit(token)
            elif meant:
                self.unfinished[token] = meant
            else:
                self.captures.remove(token)


def _values(record: Record) -> dict:
    kind, version, data = encode(record)
    return {"kind": kind, "version": version, "data": data}
