"""What could not be sent to the database server waits here, in a small database of its own beside the cache."""

from __future__ import annotations

import fcntl
import json
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from sagen.model.errors import StoreError


class Outbox:
    """Changes in the order they were made, each plain data under a number. May be used from any thread.

    Raises
    ------
    StoreError
        from every method, when the disk refuses.
    """

    def __init__(self, folder: Path):
        self._path = folder / "outbox.sqlite"
        self._lock = threading.RLock()
        with self._work() as box:
            box.execute(
                "create table if not exists waiting (number integer primary key autoincrement, item text not null)"
            )

    def put(self, item: dict) -> int:
        """Keep a change; answers its number, from 1."""
        with self._work() as box:
            return box.execute("insert into waiting (item) values (?)", (json.dumps(item),)).lastrowid

    def items(self) -> list[tuple[int, dict]]:
        """What waits, oldest first."""
        with self._work() as box:
            return [(number, json.loads(item)) for number, item in box.execute("select * from waiting order by number")]

    def replace(self, number: int, item: dict) -> None:
        with self._work() as box:
            box.execute("update waiting set item = ? where number = ?", (json.dumps(item), number))

    def drop(self, number: int) -> None:
        with self._work() as box:
            box.execute("delete from waiting where number = ?", (number,))

    @contextmanager
    def sending(self) -> Iterator[None]:
        """No other window of this bay sends meanwhile."""
        with self._lock, self._path.with_suffix(".lock").open("wb") as stream:
            fcntl.flock(stream, fcntl.LOCK_EX)
            yield

    @contextmanager
    def _work(self) -> Iterator[sqlite3.Connection]:
        try:
            with self._lock, closing(sqlite3.connect(self._path, timeout=10)) as box, box:
                box.execute("PRAGMA synchronous=FULL")
                yield box
        except (sqlite3.Error, ValueError) as error:
            raise StoreError(f"what waits for the server cannot be kept or read: {str(error)[:100]}") from error
