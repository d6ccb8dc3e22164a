"""Entries of trails in the database: each put in or changed in one committed transaction, with the captures it names."""

from __future__ import annotations

import re
import uuid
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Text, select, type_coerce, update
from sqlalchemy.orm import Session

from sagen.model.errors import ChangedMeanwhile, StoreError
from sagen.model.job import Entry
from sagen.model.language import tr
from sagen.model.trail import Record
from sagen.store.captures import CaptureStore
from sagen.store.codecs import decode, encode
from sagen.store.database import Database
from sagen.store.reading import as_column, has_valid_checksum, one_entry, one_row, refresh, write_checksum
from sagen.store.tables import EntryRow, JobRow, KeptRow, now

#: what names a capture or a photo in an entry's data
NAMED = re.compile(r"\b(?:[0-9a-f]{64}|[0-9a-f]{32})\b")


@dataclass(frozen=True)
class Author:
    """Who writes, and at which bay; "" where nobody said."""

    author: str = ""
    bay: str = ""

    @property
    def said(self) -> str:
        """As in "changed at bay 2 by Ivo"."""
        told = [tr("at {bay}", bay=self.bay)] if self.bay else []
        told += [tr("by {author}", author=self.author)] if self.author else []
        return " ".join(told) or tr("in another window")


def new_mark() -> str:
    """A mark that no other entry has: what is sent twice is there once."""
    return uuid.uuid4().hex


def new_entry(job_id: int, record: Record, author: Author) -> dict:
    """An entry that is to be put at the end of a trail, as plain data with a mark of its own."""
    kind, version, data = encode(record)
    return {
        "job_id": job_id, "kind": kind, "version": version, "data": data, "created": now().isoformat(),
        "author": as_column(author.author)[:80], "bay": as_column(author.bay)[:80], "mark": new_mark(),
    }  # fmt: skip


def tokens_in(data: object) -> set[str]:
    """The captures and photos that data name."""
    return set(NAMED.findall(str(data)))


def named_tokens(session: Session, *chosen) -> set[str]:
    """The captures and photos that entries name, those of withdrawn ones among them; without a choice, the shelf's, too."""
    texts = session.scalars(select(type_coerce(EntryRow.data, Text)).where(*chosen)).all()
    if not chosen:
        texts += session.scalars(select(type_coerce(KeptRow.data, Text))).all()
    return {token for data in texts for token in NAMED.findall(str(data))}


class Entries:
    """The entries of one log.

    Raises
    ------
    StoreError
        from every method, when the database refuses; what was committed before stays.
    """

    def __init__(self, database: Database, captures: CaptureStore):
        self._database, self._captures = database, captures
        self.author = Author()
        #: revisions that this opening gave entries, so that undo takes back nothing of somebody else
        self.revisions: dict[int, int] = {}

    def insert(self, new: dict) -> int:
        """Put an entry in; one that is there already, by its mark, stays as it is. Answers its number.

        Raises
        ------
        StoreError
            also where its job is gone.
        """
        with self._database.work() as session:
            there = session.scalar(select(EntryRow.id).where(EntryRow.mark == new["mark"]))
            if there is not None:
                return there
            # One change of a job after the other: what the list shows of it is worked out of all its entries.
            if session.scalar(select(JobRow.id).where(JobRow.id == new["job_id"]).with_for_update()) is None:
                raise StoreError(tr("there is no job {job_id}: it was deleted meanwhile", job_id=new["job_id"]))
            tokens = self._captures.send(session, tokens_in(new["data"]))
            row = EntryRow(**(new | {"created": datetime.fromisoformat(new["created"])}))
            session.add(row)
            session.flush()
            write_checksum(session, row.id)
            refresh(session, row.job_id)
            self._database.commit(session, row.job_id)
            entry_id = row.id
        self.revisions[entry_id] = 1
        self._commit_tokens(tokens)
        return entry_id

    def update(self, entry_id: int, values: dict, revision: int | None) -> None:
        """Change an entry; `revision` is the one it must still have, None for whichever.

        Raises
        ------
        ChangedMeanwhile
            when it has another by now.
        """
        with self._database.work() as session:
            chosen = [EntryRow.id == entry_id] + ([EntryRow.revision == revision] if revision is not None else [])
            told = {"revision": EntryRow.revision + 1, "changer": as_column(self.author.said)[:200]}
            before = one_row(session, entry_id)
            tokens = self._captures.send(session, tokens_in(values.get("data")))
            if not session.execute(update(EntryRow).where(*chosen).values(**values, **told)).rowcount:
                raise _changed(session, entry_id, values)
            # A damaged row is not called sound by being withdrawn; one that is written anew is.
            if "data" in values or has_valid_checksum(before) is not False:
                write_checksum(session, entry_id)
            refresh(session, before[1])
            self._database.commit(session, before[1])
            found = one_entry(session, entry_id)
        self.revisions[entry_id] = found[1].revision if revision is None and found is not None else (revision or 0) + 1
        self._commit_tokens(tokens)

    def find(self, entry_id: int) -> tuple[int, Entry] | None:
        """An entry with the job that it is of; None where there is none."""
        with self._database.work() as session:
            return one_entry(session, entry_id)

    def by_mark(self, mark: str) -> int | None:
        """The number of the entry of a mark."""
        with self._database.work() as session:
            return session.scalar(select(EntryRow.id).where(EntryRow.mark == mark))

    def _commit_tokens(self, tokens: set[str]) -> None:
        for token in tokens:
            self._captures.commit(token)


def _changed(session: Session, entry_id: int, values: dict) -> StoreError:
    found = one_entry(session, entry_id)
    if found is None:
        return StoreError(tr("there is no entry {entry_id}: its job was deleted meanwhile", entry_id=entry_id))
    yours = decode(values["kind"], values["version"], values["data"]) if "data" in values else None
    return ChangedMeanwhile(found[1].changer or tr("in another window"), found[1], yours)
