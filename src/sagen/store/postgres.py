"""A log's database on a PostgreSQL server."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import psycopg
from sqlalchemy import create_engine, text
from sqlalchemy.engine import URL, Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from sagen.model.errors import StoreError
from sagen.model.language import tr
from sagen.store.copying import copy_rows
from sagen.store.database import AWAY, Database, Unreachable, is_loss, plain
from sagen.store.following import AGAIN_S, Follower
from sagen.store.log import JobLog
from sagen.store.sqlite import closing_database

CHANNEL = "sagen"
#: what a server's connection is asked for: no waiting without an end for a server that is gone or a row that is held
SERVER = {
    "connect_timeout": 5,
    "keepalives_idle": 5,
    "keepalives_interval": 2,
    "keepalives_count": 3,
    "tcp_user_timeout": 15_000,
    "options": "-c timezone=utc -c lock_timeout=10s -c statement_timeout=120s",
}


#: what a server that answers has no room for, by SQLSTATE (PostgreSQL's documentation, appendix A, from memory)
NO_ROOM = {
    "53100": tr("has no room left on its disk"),
    "53200": tr("has no memory left"),
    "53300": tr("takes no further connection"),
}


class PostgresDatabase(Database):
    """A database on a server, which tells of changes itself (NOTIFY)."""

    @staticmethod
    def _engine(url: URL) -> Engine:
        return create_engine(url, connect_args=SERVER, pool_pre_ping=True, hide_parameters=True)

    def problem(self, error: SQLAlchemyError) -> StoreError:
        if is_loss(error):
            code = getattr(getattr(error, "orig", None), "sqlstate", None)
            answers = code and not code.startswith("57P")
            self.why_not_now = NO_ROOM.get(code, tr("takes nothing just now")) if answers else AWAY
            what = self.why_not_now if answers else tr("cannot be reached")
            return Unreachable(tr("the server of the job log {what}: {error}", what=what, error=plain(error)))
        return super().problem(error)

    def commit(self, session: Session, job_id: int | None) -> None:
        said = {"channel": CHANNEL, "said": f"{self.mark}:{'' if job_id is None else job_id}"}
        session.execute(text("select pg_notify(:channel, :said)"), said)
        session.commit()

    def follow(self, changed, tick) -> Follower:
        return ServerFollower(self.place.url, SERVER, self.mark, changed, tick)

    def copy_into(self, path: Path) -> None:
        with closing_database(path) as target, self.work() as session, target.begin() as there:
            copy_rows(session.connection(execution_options={"isolation_level": "REPEATABLE READ"}), there)

    def leave_no_trace(self) -> None:
        """A server's own journals are its administrator's."""


class ServerFollower(Follower):
    """Follows a PostgreSQL server; calls `tick()` about once a second while it answers, which may not raise either."""

    def __init__(self, url: URL, how: dict, own: str, changed: Callable[[int | None], None], tick: Callable[[], None]):
        self._url = url.set(drivername="postgresql").render_as_string(hide_password=False)
        self._how, self._tick = how, tick
        super().__init__(own, changed)

    def _run(self) -> None:
        lost = False
        while not self._stop.is_set():
            try:
                with psycopg.connect(self._url, autocommit=True, **self._how) as connection:
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


class PostgresLog(JobLog):
    """A job log on a PostgreSQL server that is asked itself: while it is away, everything is refused."""

    is_shared = True
