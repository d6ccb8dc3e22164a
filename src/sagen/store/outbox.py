"""What could not be sent to the database server waits here, in a small database of its own beside the cache; and what can never
be sent any more is kept apart, until a person has seen it."""

from __future__ import annotations

import fcntl
import json
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from sagen.model.errors import StoreError
from sagen.model.language import tr

#: entries that went, whose numbers here are remembered
SENT_KEPT = 2000


@dataclass(frozen=True)
class DeadLetter:
    """A change that can never be sent: what it was, as plain data, and why not."""

    number: int
    item: dict
    why: str
    since: float  #: s since 1970


class Outbox:
    """Changes in the order they were made, each plain data under a number. May be used from any thread and from several windows.

    Raises
    ------
    StoreError
        from every method, when the disk refuses.
    """

    def __init__(self, folder: Path):
        self._path = folder / "outbox.sqlite"
        self._lock = threading.RLock()
        self._sending = 0
        with self._work() as box:
            box.execute(
                "create table if not exists waiting (number integer primary key autoincrement, item text not null)"
            )
            box.execute(
                "create table if not exists dead (number integer primary key, item text not null, why text, since real)"
            )
            box.execute("create table if not exists sent (number integer primary key, mark text not null)")

    def put(self, item: dict) -> int:
        """Keep a change; answers its number, from 1."""
        with self._work() as box:
            return box.execute("insert into waiting (item) values (?)", (json.dumps(item),)).lastrowid

    def items(self) -> list[tuple[int, dict]]:
        """What waits, oldest first."""
        with self._work() as box:
            return [(number, json.loads(item)) for number, item in box.execute("select * from waiting order by number")]

    def count(self) -> int:
        """How many wait."""
        with self._work() as box:
            return box.execute("select count(*) from waiting").fetchone()[0]

    def item(self, number: int) -> dict | None:
        """What waits under a number; None where it went, or never was."""
        with self._work() as box:
            found = box.execute("select item from waiting where number = ?", (number,)).fetchone()
        return json.loads(found[0]) if found else None

    def replace(self, number: int, item: dict) -> None:
        with self._work() as box:
            box.execute("update waiting set item = ? where number = ?", (json.dumps(item), number))

    def went(self, number: int, mark: str) -> None:
        """A change is at the server; `mark` finds its entry there."""
        with self._work() as box:
            box.execute("delete from waiting where number = ?", (number,))
            if mark:
                box.execute("insert or replace into sent values (?, ?)", (number, mark))
                box.execute("delete from sent where number <= ?", (number - SENT_KEPT,))

    def mark_of(self, number: int) -> str | None:
        """The mark of an entry that went under a number."""
        with self._work() as box:
            found = box.execute("select mark from sent where number = ?", (number,)).fetchone()
        return found[0] if found else None

    # what can never be sent -----------------------------------------------------------------

    def bury(self, number: int, why: str) -> None:
        """A change can never be sent: kept apart, in one step."""
        with self._work() as box:
            found = box.execute("select item from waiting where number = ?", (number,)).fetchone()
            if found:
                box.execute(
                    "insert or replace into dead values (?, ?, ?, ?)", (number, found[0], why[:300], time.time())
                )
                box.execute("delete from waiting where number = ?", (number,))

    def dead(self) -> list[DeadLetter]:
        """What can never be sent, oldest first."""
        with self._work() as box:
            rows = box.execute("select number, item, why, since from dead order by number").fetchall()
        return [DeadLetter(number, json.loads(item), why, since) for number, item, why, since in rows]

    def rewrite_dead(self, number: int, item: dict) -> None:
        with self._work() as box:
            box.execute("update dead set item = ? where number = ?", (json.dumps(item), number))

    def drop_dead(self, number: int) -> None:
        """A person has seen it, and wants it no more."""
        with self._work() as box:
            box.execute("delete from dead where number = ?", (number,))

    # ----------------------------------------------------------------------------------------

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Nobody of this bay, in this window or another, sends or changes what waits meanwhile."""
        with self._lock:
            if self._sending:
                yield
                return
            try:
                with self._path.with_suffix(".lock").open("wb") as stream:
                    fcntl.flock(stream, fcntl.LOCK_EX)
                    self._sending += 1
                    try:
                        yield
                    finally:
                        self._sending -= 1
            except OSError as error:
                raise StoreError(
                    tr("what waits for the server cannot be kept: {strerror}", strerror=error.strerror or error)
                ) from error

    @contextmanager
    def _work(self) -> Iterator[sqlite3.Connection]:
        try:
            with self._lock, closing(sqlite3.connect(self._path, timeout=10)) as box, box:
                box.execute("PRAGMA synchronous=FULL")
                yield box
        except (sqlite3.Error, ValueError) as error:
            raise StoreError(
                tr("what waits for the server cannot be kept or read: {error}", error=str(error)[:100])
            ) from error
