"""The job log. Every change is one committed transaction and can be undone, job by job."""

from __future__ import annotations

import json
import re
import sqlite3
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from sqlalchemy import Text, delete, func, insert, select, text, type_coerce, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from sagen.model.capture import Capture
from sagen.model.errors import ChangedMeanwhile, SagenError, StoreError
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import Pattern
from sagen.model.trail import CaptureEntry, Record
from sagen.store.codecs import VERSION, decode, encode
from sagen.store.copying import copy_rows
from sagen.store.following import CHANNEL, Follower
from sagen.store.opening import DATABASE, Unreachable, is_loss, is_sqlite, opened, plain
from sagen.store.outbox import Outbox
from sagen.store.reading import (
    as_column,
    as_text,
    is_sound,
    one_entry,
    one_job,
    one_row,
    raw_rows,
    refresh,
    seal,
    seal_all,
    summaries,
    troubled,
)
from sagen.store.server import ServerShelf
from sagen.store.shelf import CaptureShelf
from sagen.store.steps import UndoList
from sagen.store.tables import ChangeRow, EntryRow, JobRow, KeptRow, now

#: kinds of what is kept on the shelf
CARD, PATTERN = "card", "pattern"
#: what names a capture or a photo in an entry's data
NAMED = re.compile(r"\b(?:[0-9a-f]{64}|[0-9a-f]{32})\b")
#: jobs that are remembered as they were read last, for when the server is away
REMEMBERED = 50
#: changes that a file's other windows can be behind
CHANGES_KEPT = 200


@dataclass(frozen=True)
class Hand:
    """Who writes, and at which bay; "" where nobody said."""

    author: str = ""
    bay: str = ""

    @property
    def said(self) -> str:
        """As in "changed at bay 2 by Ivo"."""
        told = [f"at {self.bay}"] if self.bay else []
        told += [f"by {self.author}"] if self.author else []
        return " ".join(told) or "in another window"


class JobLog:
    """Jobs, their trails and captures, under one folder (SQLite) or in a PostgreSQL database named by URL.

    Methods may be called from any thread. Of a server that is away, what was read last is answered again, and what is
    written waits in the outbox, until `send_waiting` finds it back.

    Raises
    ------
    StoreError
        from the constructor and every method, when the database or the disk refuses; what was
        committed before stays.
    """

    def __init__(self, folder: Path, url: str | None = None, hand: Hand | None = None):
        url = url or f"sqlite:///{folder / DATABASE}"
        self.url, self.hand = url, hand or Hand()
        self._mark = uuid.uuid4().hex[:12]
        self._follower: Follower | None = None
        self._outbox: Outbox | None = None
        if is_sqlite(url):
            self.shelf = CaptureShelf(folder / "captures")
        try:
            self._engine = opened(url)
            if not is_sqlite(url):
                self.shelf = ServerShelf(folder / "captures", self._engine)
                self._outbox = Outbox(folder)
            self._session = sessionmaker(self._engine, expire_on_commit=False)
            self._steps = UndoList()
            self.can_undo, self.can_redo = self._steps.can_undo, self._steps.can_redo
            self.undo, self.redo, self.forget_steps = self._steps.undo, self._steps.redo, self._steps.forget
            #: revisions that this log gave entries, so that undo takes back nothing of somebody else
            self._mine: dict[int, int] = {}
            #: entries that waited, by the number that they had while they did
            self._sent: dict[int, int] = {}
            self._known: dict[int, Job] = {}
            self._remembering = threading.Lock()
            self._listed: list[JobSummary] = []
            #: captures that were being kept when a process ended, by token, with what was meant to become of them
            self.unfinished: dict[str, dict] = {}
            self._free_unsettled()
            self.send_waiting()
        except StoreError:
            if hasattr(self, "shelf"):
                self.shelf.close()
            raise

    def close(self) -> None:
        if self._follower is not None:
            self._follower.close()
        self._engine.dispose()
        self.shelf.close()

    @property
    def is_shared(self) -> bool:
        """Whether it lies on a server."""
        return self._outbox is not None

    def follow(self, changed: Callable[[int | None], None]) -> None:
        """From now on `changed` is called, in a thread of its own, with a job that another window changed (None: with
        whichever it was), and when what waited for the server was sent."""

        def tick() -> None:
            try:
                if self.send_waiting():
                    changed(None)
            except StoreError:
                pass  # told by whoever looks at `waiting`

        self._follower = Follower(self.url, self._mark, changed, tick)

    # reading ------------------------------------------------------------------------------

    def jobs(self, search: str = "") -> list[JobSummary]:
        """Every job as the list shows it, newest first; with `search`, those that hold all its words."""
        try:
            with self._work() as session:
                found = summaries(session, search)
        except Unreachable:
            if not self._listed:
                raise
            words = search.lower().split()
            return [
                one
                for one in self._listed
                if all(word in f"{one.machine} {one.owner} {one.about}".lower() for word in words)
            ]
        if self._outbox is not None and not search:
            self._listed = found
        return found

    def job(self, job_id: int) -> Job:
        """A job with its trail, what waits for the server at its end."""
        try:
            with self._work() as session:
                found = one_job(session, job_id)
        except Unreachable:
            if job_id not in self._known:
                raise
            found = self._known[job_id]
        if found is None:
            raise StoreError(f"there is no job {job_id}")
        if self._outbox is None:
            return found
        with self._remembering:
            self._known.pop(job_id, None)
            self._known[job_id] = found
            while len(self._known) > REMEMBERED:
                self._known.pop(next(iter(self._known)))
        return self._with_waiting(found)

    def repaired_jobs(self, most: int) -> dict[int, tuple[int, int]]:
        """The newest jobs in which something was repaired, each with a sign that is another once its trail is changed."""
        repaired = select(EntryRow.job_id).where(EntryRow.kind == "repair", EntryRow.withdrawn.is_not(True))
        wanted = select(JobRow.id).where(JobRow.withdrawn.is_not(True), JobRow.id.in_(repaired))
        newest = wanted.order_by(JobRow.id.desc()).limit(most)
        counted = select(EntryRow.job_id, func.count(), func.sum(EntryRow.revision)).group_by(EntryRow.job_id)
        with self._work() as session:
            rows = session.execute(counted.where(EntryRow.job_id.in_(newest)).order_by(EntryRow.job_id.desc())).all()
        return {job_id: (count, int(revisions)) for job_id, count, revisions in rows}

    def capture(self, token: str) -> Capture:
        return self.shelf.get(token)

    # writing ------------------------------------------------------------------------------

    def add_job(self, machine: str, *, owner: str = "", cylinders: int | None = None) -> Job:
        machine, owner = as_column(machine)[:200], as_column(owner)[:200]
        if not machine:
            raise StoreError("a job needs a machine")
        with self._work() as session:
            row = JobRow(machine=machine, owner=owner, cylinders=cylinders)
            session.add(row)
            session.flush()
            self._commit(session, row.id)
            job = Job(row.id, row.created, row.machine, row.owner, row.cylinders)
        self._steps.did(
            job.id,
            UndoList.NEW_JOB,
            lambda: self._withdraw_job(job.id, True),
            lambda: self._withdraw_job(job.id, False),
        )
        return job

    def add_entry(self, job_id: int, record: Record) -> Entry:
        """Put a record at the end of a job's trail. Undoing it withdraws it: nothing recorded is lost."""
        kind, version, data = encode(record)
        new = {
            "job_id": job_id, "kind": kind, "version": version, "data": data, "created": now().isoformat(),
            "author": as_column(self.hand.author)[:80], "bay": as_column(self.hand.bay)[:80], "mark": uuid.uuid4().hex,
        }  # fmt: skip
        try:
            # What waits was written before this: it goes first, or this waits behind it.
            self.send_waiting()
            entry_id = self._insert(new)
        except Unreachable:
            entry_id = -self._outbox.put({"add": new})
        entry = Entry(
            entry_id, datetime.fromisoformat(new["created"]), decode(kind, version, data),
            author=self.hand.author, bay=self.hand.bay, waits=entry_id < 0,
        )  # fmt: skip
        self._steps.did(
            job_id,
            f"add {kind}",
            lambda: self._set_withdrawn(entry.id, True),
            lambda: self._set_withdrawn(entry.id, False),
        )
        return entry

    def add_capture(self, job_id: int, capture: Capture, record: CaptureEntry) -> Entry:
        """Keep a capture's samples, then put it on the trail."""
        return self.add_entry(job_id, replace(record, token=self.shelf.put(capture), name=capture.name))

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
        before = entry.record
        try:
            encode(before)
        except TypeError:
            raise StoreError("this entry can be seen and withdrawn, but not changed here") from None
        self._set_record(entry_id, record, revision)
        self._steps.did(
            job_id,
            "correct entry",
            lambda: self._set_record(entry_id, before, self._mine.get(entry_id)),
            lambda: self._set_record(entry_id, record, self._mine.get(entry_id)),
        )

    def withdraw(self, entry_id: int, withdrawn: bool = True, revision: int | None = None) -> None:
        """Take an entry out of the evidence, or put it back; it stays on the trail. As `correct` otherwise."""
        job_id, _ = self._entry(entry_id)
        self._change(entry_id, {"withdrawn": withdrawn}, revision)
        self._steps.did(
            job_id,
            "withdraw entry" if withdrawn else "restore entry",
            lambda: self._set_withdrawn(entry_id, not withdrawn),
            lambda: self._set_withdrawn(entry_id, withdrawn),
        )

    def delete_job(self, job_id: int) -> None:
        """Remove a job for good, and the captures and photos that nothing else names."""
        with self._work() as session:
            named = self._named(session, EntryRow.job_id == job_id)
            session.execute(delete(EntryRow).where(EntryRow.job_id == job_id))
            if not session.execute(delete(JobRow).where(JobRow.id == job_id)).rowcount:
                raise StoreError(f"there is no job {job_id}")
            self._commit(session, job_id)
        self.forget_steps(job_id)
        self._known.pop(job_id, None)
        for token in named - self.kept_tokens():
            self.shelf.remove(token)

    def forget_customer(self, name: str) -> int:
        """Remove a customer's name from every job: as its owner, and from what was written; answers from how many jobs."""
        name = name.strip()
        if len(name) < 2:
            raise StoreError("say the whole name that is to be removed")
        word = re.compile(rf"(?<!\w){re.escape(name)}(?!\w)")
        jobs = set()
        with self._work() as session:
            for job_id, *told in session.execute(select(JobRow.id, JobRow.owner, JobRow.machine)).all():
                owner, machine = (as_text(one) for one in told)
                values = {"owner": "" if owner.lower() == name.lower() else word.sub(REMOVED, owner)[:200],
                          "machine": word.sub(REMOVED, machine)[:200]}  # fmt: skip
                if values != {"owner": owner, "machine": machine}:
                    session.execute(update(JobRow).where(JobRow.id == job_id).values(**values))
                    jobs.add(job_id)
            written = type_coerce(EntryRow.data, Text).contains(json.dumps(name)[1:-1], autoescape=True)
            for entry_id, job_id in session.execute(select(EntryRow.id, EntryRow.job_id).where(written)).all():
                row = one_row(session, entry_id)
                try:
                    data = json.loads(row[5])
                except (ValueError, TypeError, RecursionError):
                    continue
                if is_sound(row) is False:
                    continue
                told = _without(data, word)
                if told != data:
                    values = {"data": told, "revision": EntryRow.revision + 1}
                    session.execute(update(EntryRow).where(EntryRow.id == entry_id).values(**values))
                    seal(session, entry_id)
                    jobs.add(job_id)
            for job_id in jobs:
                refresh(session, job_id)
                self.forget_steps(job_id)  # a step back would bring the name again
            self._commit(session, None)
        if self._outbox is None:
            with self._work() as session:  # nor may the name stay in the journal
                session.execute(text("PRAGMA wal_checkpoint(TRUNCATE)"))
        return len(jobs)

    # the shelf ----------------------------------------------------------------------------

    def cards(self) -> list[tuple[int, MachineCard]]:
        """The machine cards, by name; one that cannot be read is left out."""
        return self._kept(CARD, lambda row: MachineCard.from_data(row.data, row.name))

    def keep_card(self, card: MachineCard) -> int:
        """Keep a card; an older one of the same title gives way to it, and stays, withdrawn."""
        return self._keep(CARD, card.title, card.as_data())

    def patterns(self) -> list[tuple[int, Pattern]]:
        """The known-good captures, by name."""
        return self._kept(PATTERN, lambda row: Pattern.from_data(row.data, id=row.id, created=row.created))

    def keep_pattern(self, pattern: Pattern) -> int:
        """Keep a capture as known-good."""
        return self._keep(PATTERN, f"{pattern.name} {pattern.token}", pattern.as_data())

    def drop_kept(self, kept_id: int, withdrawn: bool = True) -> None:
        """Take a card or a pattern off the shelf, or put it back."""
        with self._work() as session:
            session.execute(update(KeptRow).where(KeptRow.id == kept_id).values(withdrawn=withdrawn))
            self._commit(session, None)

    def _kept(self, kind: str, read) -> list:
        out = []
        with self._work() as session:
            rows = session.scalars(select(KeptRow).where(KeptRow.kind == kind, KeptRow.withdrawn.is_not(True)))
            for row in rows:
                try:
                    out.append((row.id, read(row)))
                except (SagenError, ValueError, TypeError, KeyError, AttributeError):
                    continue
        return out

    def _keep(self, kind: str, name: str, data: dict) -> int:
        name = as_column(name)[:200]
        with self._work() as session:
            older = (KeptRow.kind == kind, KeptRow.name == name, KeptRow.withdrawn.is_not(True))
            session.execute(update(KeptRow).where(*older).values(withdrawn=True))
            row = KeptRow(kind=kind, name=name, version=VERSION, data=data, withdrawn=False)
            session.add(row)
            session.flush()
            tokens = self._send(session, data)
            self._commit(session, None)
            kept_id = row.id
        self._settle(tokens)
        return kept_id

    # moving -------------------------------------------------------------------------------

    def rows(self, job_id: int) -> tuple[dict, list[dict]]:
        """A job and its entries as plain data, withdrawn ones among them; what of a row cannot be read is left as its text."""
        with self._work() as session:
            found = raw_rows(session, job_id)
        if found is None:
            raise StoreError(f"there is no job {job_id}")
        return found

    def add_rows(self, about: dict, rows: list[dict]) -> Job:
        """Put a job from elsewhere into the log, as a new one; raises StoreError for data that is no job's."""
        try:
            made = JobRow(
                machine=as_column(about["machine"])[:200] or "unknown",
                owner=as_column(about.get("owner", ""))[:200],
                cylinders=int(about["cylinders"]) if about.get("cylinders") else None,
                created=datetime.fromisoformat(about["created"]),
            )
            entries = [
                EntryRow(
                    kind=str(one["kind"])[:20],
                    version=int(one["version"]),
                    created=datetime.fromisoformat(one["created"]),
                    withdrawn=bool(one["withdrawn"]),
                    data=one["data"],
                    author=as_column(one.get("author", ""))[:80],
                    bay=as_column(one.get("bay", ""))[:80],
                )
                for one in rows
            ]
        except (KeyError, ValueError, TypeError, OverflowError) as error:
            raise StoreError(f"this holds no job ({str(error)[:80]})") from None
        with self._work() as session:
            session.add(made)
            session.flush()
            for one in entries:
                one.job_id = made.id
                session.add(one)
            session.flush()
            for one in entries:
                seal(session, one.id)
            refresh(session, made.id)
            tokens = self._send(session, [one.data for one in entries])
            self._commit(session, made.id)
            job_id = made.id
        self._settle(tokens)
        return self.job(job_id)

    def copy_database(self, path: Path) -> None:
        """Copy the database into an SQLite file while it is in use, whole at one moment."""
        if is_sqlite(self.url):
            with self._work() as session, closing(sqlite3.connect(path)) as target:
                session.connection().connection.driver_connection.backup(target)
            return
        target = opened(f"sqlite:///{path}")
        try:
            with self._work() as session, target.begin() as there:
                copy_rows(session.connection(execution_options={"isolation_level": "REPEATABLE READ"}), there)
        finally:
            target.dispose()

    def take_database(self, path: Path) -> None:
        """Put what an SQLite file of a backup holds into this log, which must be empty, under the same numbers."""
        if self.all_job_ids():
            raise StoreError("that log is not empty: a backup is restored into a new place")
        source = opened(f"sqlite:///{path}")
        try:
            with self._work() as session, source.connect() as there:
                copy_rows(there, session.connection())
                tokens = self._send(session, self._named(session))
                self._commit(session, None)
        finally:
            source.dispose()
        self._settle(tokens)

    def kept_tokens(self) -> set[str]:
        """Every capture and photo that a job or the shelf names, those of withdrawn entries and of what waits among them."""
        with self._work() as session:
            found = self._named(session)
        waiting = [] if self._outbox is None else self._outbox.items()
        return found | set(NAMED.findall(str(waiting)))

    @staticmethod
    def _named(session: Session, *chosen) -> set[str]:
        texts = session.scalars(select(type_coerce(EntryRow.data, Text)).where(*chosen)).all()
        if not chosen:
            texts += session.scalars(select(type_coerce(KeptRow.data, Text))).all()
        return {token for one in texts for token in NAMED.findall(str(one))}

    def seal(self) -> int:
        """Write the checksums of entries that have none; answers how many."""
        with self._work() as session:
            count = seal_all(session)
            session.commit()
        return count

    def troubled(self) -> list[tuple[int, int, str]]:
        """Job and entry of what shows as damaged, with why, and of what has no checksum, with ""."""
        with self._work() as session:
            return list(troubled(session))

    def all_job_ids(self) -> list[int]:
        """Every job, withdrawn ones among them."""
        with self._work() as session:
            return list(session.scalars(select(JobRow.id).order_by(JobRow.id)))

    # what waits for the server --------------------------------------------------------------

    @property
    def waiting(self) -> int:
        """How many changes wait for the server."""
        return 0 if self._outbox is None else len(self._outbox.items())

    def send_waiting(self) -> int:
        """Send what waits, oldest first; answers how many went. What the server finds changed by another meanwhile is put at
        the end of the trail, withdrawn, so that it is not lost.

        Raises
        ------
        Unreachable
            when the server is still away.
        """
        if self._outbox is None or not self._outbox.items():
            return 0
        sent = 0
        with self._outbox.sending():
            for number, item in self._outbox.items():
                if "add" in item:
                    self._sent[-number] = self._insert(item["add"])
                else:
                    self._send_change(item)
                self._outbox.drop(number)
                sent += 1
        return sent

    def _send_change(self, item: dict) -> None:
        try:
            self._update(self._real(item["change"]), item["values"], item["revision"])
        except ChangedMeanwhile:
            if "data" in item["values"]:
                made = {key: item["values"][key] for key in ("kind", "version", "data")}
                self._insert(item["new"] | made | {"withdrawn": True})

    def _with_waiting(self, job: Job) -> Job:
        """A job as it is here: with what waits at its end, and what is to be changed as it will be."""
        entries = {one.id: one for one in job.entries}
        for number, item in self._outbox.items():
            new, change = item.get("add"), item.get("change")
            if new and new["job_id"] == job.id:
                entries[-number] = Entry(
                    -number, datetime.fromisoformat(new["created"]), decode(new["kind"], new["version"], new["data"]),
                    new.get("withdrawn", False), author=new["author"], bay=new["bay"], waits=True,
                )  # fmt: skip
            elif change in entries:
                values, one = item["values"], entries[change]
                record = decode(values["kind"], values["version"], values["data"]) if "data" in values else one.record
                withdrawn = values.get("withdrawn", one.withdrawn)
                entries[change] = replace(
                    one, record=record, withdrawn=withdrawn, waits=True, revision=item["revision"] + 1
                )
        return replace(job, entries=tuple(entries.values()))

    def _real(self, entry_id: int) -> int:
        return self._sent.get(entry_id, entry_id)

    # --------------------------------------------------------------------------------------

    def _entry(self, entry_id: int) -> tuple[int, Entry]:
        entry_id, found = self._real(entry_id), None
        try:
            with self._work() as session:
                found = one_entry(session, entry_id)
        except Unreachable:
            pass
        if found is None:
            jobs = self._known if self._outbox is not None else ()
            trails = ((job_id, self.job(job_id).entry(entry_id)) for job_id in list(jobs))
            found = next((one for one in trails if one[1] is not None), None)
        if found is None:
            raise StoreError(f"there is no entry {entry_id}")
        return found

    def _withdraw_job(self, job_id: int, withdrawn: bool) -> None:
        with self._work() as session:
            session.execute(update(JobRow).where(JobRow.id == job_id).values(withdrawn=withdrawn))
            self._commit(session, job_id)

    def _set_withdrawn(self, entry_id: int, withdrawn: bool) -> None:
        entry_id = self._real(entry_id)
        self._change(entry_id, {"withdrawn": withdrawn}, self._mine.get(entry_id))

    def _set_record(self, entry_id: int, record: Record, revision: int | None) -> None:
        kind, version, data = encode(record)
        self._change(self._real(entry_id), {"kind": kind, "version": version, "data": data}, revision)

    def _change(self, entry_id: int, values: dict, revision: int | None) -> None:
        entry_id = self._real(entry_id)
        if entry_id < 0:
            item = dict(self._outbox.items()).get(-entry_id)
            if item is None:
                raise StoreError("what was to be changed is not waiting any more")
            self._outbox.replace(-entry_id, {"add": item["add"] | values})
            return
        try:
            self.send_waiting()
            self._update(entry_id, values, revision)
        except Unreachable:
            # As it is here: what was changed here before counts as done, and is sent before.
            job_id, entry = self._entry(entry_id)
            new = {"job_id": job_id, "created": now().isoformat(), "author": self.hand.author, "bay": self.hand.bay,
                   "mark": uuid.uuid4().hex}  # fmt: skip
            expected = entry.revision if revision is None else revision
            self._outbox.put({"change": entry_id, "values": values, "revision": expected, "new": new})
            self._mine[entry_id] = expected + 1

    # transactions -------------------------------------------------------------------------

    def _insert(self, new: dict) -> int:
        """An entry in one transaction with its captures; one that is there already, by its mark, stays as it is."""
        with self._work() as session:
            there = session.scalar(select(EntryRow.id).where(EntryRow.mark == new["mark"]))
            if there is not None:
                return there
            tokens = self._send(session, new["data"])
            # One change of a job after the other: what the list shows of it is worked out of all its entries.
            session.execute(select(JobRow.id).where(JobRow.id == new["job_id"]).with_for_update())
            row = EntryRow(**(new | {"created": datetime.fromisoformat(new["created"])}))
            session.add(row)
            session.flush()
            seal(session, row.id)
            refresh(session, row.job_id)
            self._commit(session, row.job_id)
            entry_id = row.id
        self._mine[entry_id] = 1
        self._settle(tokens)
        return entry_id

    def _update(self, entry_id: int, values: dict, revision: int | None) -> None:
        with self._work() as session:
            chosen = [EntryRow.id == entry_id] + ([EntryRow.revision == revision] if revision is not None else [])
            told = {"revision": EntryRow.revision + 1, "changer": as_column(self.hand.said)[:200]}
            before = one_row(session, entry_id)
            tokens = self._send(session, values.get("data"))
            if not session.execute(update(EntryRow).where(*chosen).values(**values, **told)).rowcount:
                raise self._changed(session, entry_id, values)
            # A damaged row is not called sound by being withdrawn; one that is written anew is.
            if "data" in values or is_sound(before) is not False:
                seal(session, entry_id)
            refresh(session, before[1])
            self._commit(session, before[1])
        self._mine[entry_id] = self._entry(entry_id)[1].revision if revision is None else revision + 1
        self._settle(tokens)

    @staticmethod
    def _changed(session: Session, entry_id: int, values: dict) -> StoreError:
        found = one_entry(session, entry_id)
        if found is None:
            return StoreError(f"there is no entry {entry_id}: its job was deleted meanwhile")
        yours = decode(values["kind"], values["version"], values["data"]) if "data" in values else None
        return ChangedMeanwhile(found[1].changer or "in another window", found[1], yours)

    def _send(self, session: Session, data: object) -> set[str]:
        """Have the captures and photos that data name at the server; answers them."""
        tokens = set(NAMED.findall(str(data)))
        if self._outbox is not None:
            self.shelf.send(session, tokens)
        return tokens

    def _settle(self, tokens: set[str]) -> None:
        for token in tokens:
            self.shelf.settle(token)

    def _free_unsettled(self) -> None:
        """Free what a process that died in the middle of keeping left on the shelf, if the log does not name it and nobody
        meant it for a trail: that is `unfinished`."""
        if self.shelf.unsettled:
            named = self.kept_tokens()
            for token, meant in self.shelf.unsettled.items():
                if token in named:
                    self.shelf.settle(token)
                elif meant is None:
                    self.shelf.remove(token)
                else:
                    self.unfinished[token] = meant

    def _commit(self, session: Session, job_id: int | None) -> None:
        """Commit, and have the other windows told."""
        if self._outbox is None:
            made = session.execute(insert(ChangeRow).values(job_id=job_id, whose=self._mark)).inserted_primary_key[0]
            session.execute(delete(ChangeRow).where(ChangeRow.id < made - CHANGES_KEPT))
        else:
            said = {"channel": CHANNEL, "said": f"{self._mark}:{'' if job_id is None else job_id}"}
            session.execute(text("select pg_notify(:channel, :said)"), said)
        session.commit()

    @contextmanager
    def _work(self) -> Iterator[Session]:
        try:
            with self._session() as session:
                yield session
        except SQLAlchemyError as error:
            if self._outbox is not None and is_loss(error):
                raise Unreachable(f"the server of the job log cannot be reached: {plain(error)}") from error
            raise StoreError(f"the job log refused: {plain(error)}") from error
        except (ValueError, TypeError, KeyError, OverflowError) as error:
            # What a driver or a type of the database makes of damaged rows has no root of its own.
            raise StoreError(f"the job log holds something that cannot be read: {str(error)[:120]}") from error


#: what stands where a customer's name stood
REMOVED = "(name removed)"
#: where people write freely; other fields hold words of closed sets, which a name may happen to equal
FREE = {
    "text", "words", "more", "note", "notes", "name", "said", "machine", "title", "caption", "seen", "because", "why", "when",
    "source",
}  # fmt: skip


def _without(data, word: re.Pattern, key: str = ""):
    """Plain data without a name in what was written freely."""
    if isinstance(data, dict):
        return {one: _without(value, word, str(one)) for one, value in data.items()}
    if isinstance(data, list):
        return [_without(one, word, key) for one in data]
    return word.sub(REMOVED, data) if isinstance(data, str) and key in FREE else data
