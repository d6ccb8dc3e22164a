"""How a window learns of what another one wrote: of SQLite's file its counter is asked for, and then its table of changes.
(PostgreSQL tells it: `postgres.ServerFollower`.)"""

from __future__ import annotations

import sqlite3
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

#: s between two looks at SQLite's counter, and between two tries at a server that is gone
EVERY_S, AGAIN_S = 0.3, 1.0


class Follower(ABC):
    """A thread that calls `changed(job_id)` when another window changed the log (None: it is not known which job). It may not
    raise.

    `own` is the mark that this log's own notes carry: of those nothing is said.
    """

    def __init__(self, own: str, changed: Callable[[int | None], None]):
        self._own, self._changed = own, changed
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="following the log", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """End the thread."""
        self._stop.set()
        if threading.current_thread() is not self._thread:
            self._thread.join(5)

    @abstractmethod
    def _run(self) -> None: ...


class FileFollower(Follower):
    """Follows an SQLite file."""

    def __init__(self, file: Path, own: str, changed: Callable[[int | None], None]):
        self._file = file.resolve()
        super().__init__(own, changed)

    def _run(self) -> None:
        path = self._file
        version = last = None
        while True:
            # A file that is gone for a while (a stick, a network drive) may come back: asked again each time.
            try:
                with closing(sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True, timeout=1)) as file:
                    while True:
                        now = file.execute("PRAGMA data_version").fetchone()[0]
                        if now != version:
                            last = self._tell_since(file, last)
                            version = now
                        if self._stop.wait(EVERY_S):
                            return
            except sqlite3.Error:
                version = None
                if self._stop.wait(EVERY_S):
                    return

    def _tell_since(self, file: sqlite3.Connection, last: int | None) -> int:
        """Tell of the changes of others since the one of number `last`; answers the newest one's."""
        if last is None:
            return file.execute("select coalesce(max(id), 0) from change").fetchone()[0]
        rows = file.execute("select id, job_id, whose from change where id > ? order by id", (last,)).fetchall()
        for job_id in dict.fromkeys(job_id for _, job_id, whose in rows if whose != self._own):
            self._changed(job_id)
        return rows[-1][0] if rows else last
