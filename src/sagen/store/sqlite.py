"""A log's database as an SQLite file."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from sqlalchemy import create_engine, delete, event, insert, text
from sqlalchemy.engine import URL, Engine
from sqlalchemy.orm import Session

from sagen.store.copying import copy_rows
from sagen.store.database import Database, brought_up_to_date
from sagen.store.following import FileFollower, Follower
from sagen.store.places import LogPlace
from sagen.store.tables import ChangeRow

#: changes that a file's other windows can be behind
CHANGES_KEPT = 200


class SqliteDatabase(Database):
    """A file. Its other windows ask for its counter, and then for its table of changes."""

    @staticmethod
    def _engine(url: URL) -> Engine:
        engine = create_engine(url, connect_args={"timeout": 10})
        event.listen(engine, "connect", _sqlite_settings)
        return engine

    def commit(self, session: Session, job_id: int | None) -> None:
        made = session.execute(insert(ChangeRow).values(job_id=job_id, whose=self.mark)).inserted_primary_key[0]
        session.execute(delete(ChangeRow).where(ChangeRow.id < made - CHANGES_KEPT))
        session.commit()

    def follow(self, changed, tick) -> Follower:
        return FileFollower(self.place.file, self.mark, changed)

    def copy_into(self, path: Path) -> None:
        with self.work() as session, closing(sqlite3.connect(path)) as target:
            session.connection().connection.driver_connection.backup(target)

    def leave_no_trace(self) -> None:
        with self.work() as session:
            session.execute(text("PRAGMA wal_checkpoint(TRUNCATE)"))


@contextmanager
def closing_database(path: Path) -> Iterator[Engine]:
    """The SQLite file of a backup, brought up to date."""
    place = LogPlace(path.parent, URL.create("sqlite", database=str(path)))
    engine = brought_up_to_date(place, SqliteDatabase._engine(place.url))
    try:
        yield engine
    finally:
        engine.dispose()


@contextmanager
def take(database: Database, path: Path) -> Iterator[Session]:
    """What the SQLite file of a backup holds, put into a database under the same numbers; the transaction is the caller's to
    commit."""
    with closing_database(path) as source, database.work() as session, source.connect() as there:
        copy_rows(there, session.connection())
        yield session


def _sqlite_settings(connection, _record) -> None:
    # WAL with full syncing: a kill in the middle of a save loses at most that save. What is removed is overwritten.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "secure_delete=ON"):
        connection.execute(f"PRAGMA {pragma}")
