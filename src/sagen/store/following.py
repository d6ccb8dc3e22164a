"""How a window learns of what another one wrote: PostgreSQL tells it (LISTEN); of SQLite's file its counter is
asked for, and then its table of changes."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from sqlalchemy.engine import make_url

from sagen.store.opening import SERVER, is_sqlite

CHANNEL = "sagen"
#: s between two looks at SQLite's counter, and between two tries at a server that is gone
EVERY_S, AGAIN_S = 0.3, 1.0


class Follower:
    """A thread that calls `changed(job_id)` when another window changed the log (None: it is not known which job), and
    `tick()` about once a second while a server answers. Neither may raise.

    `own` is the mark that this log's own notes carry: of those nothing is said.
    """

    def __init__(self, url: str, own: str, changed: Callable[[int | None], None], tick: Callable[[], None]):
        self._url, self._own, self._changed, self._tick = url, own, changed, tick
        self._stop = threading.Event()
        target = self._follow_file if is_sqlite(url) else self._follow_server
        self._thread = threading.Thread(target=target, name="following the log", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """End the thread."""
        self._stop.set()
        if threading.current_thread() is not self._thread:
            self._thread.join(5)

    def _follow_file(self) -> None:
        path = Path(make_url(self._url).database).resolve()
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

    def _follow_server(self) -> None:
        import psycopg

        url, lost = make_url(self._url).set(drivername="postgresql").render_as_string(hide_password=False), False
        while not self._stop.is_set():
            try:
                with psycopg.connect(url, autocommit=True, **SERVER) as connection:
                    connection.execute(f"listen {CHANNEL}")
                    self._tick()
                    if lost:
                        lost = False
                        self._changed(None)
                    while not self._stop.is_set():
                        for note in connection.notifies(timeout=AGAIN_S, stop_after=1):
                            whose, _, job_id = note.payload.partition(":")
                            if whose != self._own:
                                self._changed(int(job_id) if job_id.isdigit() else None)
                        self._tick()
                        connection.execute("select 1")
            except psycopg.Error:
                lost = True
                self._stop.wait(AGAIN_S)
