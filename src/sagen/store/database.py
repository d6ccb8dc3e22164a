"""A log's database: SQLite or PostgreSQL, brought up to date by the same migrations, and told apart here and nowhere else."""

from __future__ import annotations

import fcntl
import sqlite3
import uuid
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from importlib.resources import files
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import inspect, select, text, update
from sqlalchemy.engine import URL, Connection, Engine
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from sagen.model.errors import StoreError
from sagen.store.following import Follower
from sagen.store.places import LogPlace
from sagen.store.tables import AboutRow

#: the lock that a server's upgrade is done under: any number that is this program's own
UPGRADE_LOCK = 7_305_512


AWAY = "is away"


class Unreachable(StoreError):
    """The database server cannot be reached just now, or takes nothing."""


class Database(ABC):
    """A log's database, open. `mark` tells this opening's own changes from those of other windows.

    Raises
    ------
    StoreError
        from every method, when the database refuses; what was committed before stays. `Unreachable` for a server that
        does not answer.
    """

    def __init__(self, place: LogPlace):
        self.place, self.mark = place, uuid.uuid4().hex[:12]
        self.why_not_now = AWAY  #: of a server, why the last thing that it was asked did not come to be
        self.engine = brought_up_to_date(place, self._engine(place.url))
        self._session = sessionmaker(self.engine, expire_on_commit=False)
        with self.work() as session:
            self.identity: str = session.scalar(select(AboutRow.value).where(AboutRow.name == IDENTITY))

    def close(self) -> None:
        self.engine.dispose()

    @contextmanager
    def work(self) -> Iterator[Session]:
        """A transaction; committed by `commit`, else nothing of it stays."""
        try:
            with self._session() as session:
                yield session
        except SQLAlchemyError as error:
            raise self.problem(error) from error
        except (ValueError, TypeError, KeyError, OverflowError) as error:
            # What a driver or a type of the database makes of damaged rows has no root of its own.
            raise StoreError(f"the job log holds something that cannot be read: {str(error)[:120]}") from error

    def problem(self, error: SQLAlchemyError) -> StoreError:
        """A database's error as one of ours."""
        return StoreError(f"the job log refused: {plain(error)}")

    def new_identity(self) -> None:
        """This is another log from now on than the one that it was copied from."""
        self.identity = uuid.uuid4().hex
        with self.work() as session:
            session.execute(update(AboutRow).where(AboutRow.name == IDENTITY).values(value=self.identity))
            session.commit()

    @staticmethod
    @abstractmethod
    def _engine(url: URL) -> Engine: ...

    @abstractmethod
    def commit(self, session: Session, job_id: int | None) -> None:
        """Commit, and have the other windows told which job changed; None: whichever."""

    @abstractmethod
    def follow(self, changed: Callable[[int | None], None], tick: Callable[[], None]) -> Follower:
        """Follow what other windows write; see `Follower`."""

    @abstractmethod
    def copy_into(self, path: Path) -> None:
        """Copy it into an SQLite file while it is in use, whole at one moment."""

    @abstractmethod
    def leave_no_trace(self) -> None:
        """What was removed is in no journal any more either."""


# opening ------------------------------------------------------------------------------------------------------

IDENTITY = "identity"


def brought_up_to_date(place: LogPlace, engine: Engine) -> Engine:
    """Bring the tables up to date."""
    try:
        config = Config()
        config.set_main_option("script_location", str(files("sagen.store").joinpath("migrations")))
        with alone(place), engine.begin() as connection:
            if place.on_server:
                connection.execute(text("select pg_advisory_xact_lock(:lock)"), {"lock": UPGRADE_LOCK})
            if _is_older(connection, config):
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        return engine
    except Exception as error:
        engine.dispose()
        if isinstance(error, StoreError):
            raise
        if isinstance(error, SQLAlchemyError):
            kind = Unreachable if place.on_server and is_loss(error) else StoreError
            raise kind(f"the job log cannot be opened: {plain(error)}") from error
        if isinstance(error, OSError):
            raise StoreError(f"the folder {place.folder} cannot be used: {error.strerror or error}") from error
        # Alembic's own errors share no root with SQLAlchemy's.
        raise StoreError(f"the job log cannot be brought up to date: {str(error)[:120]}") from error


#: what a server says (SQLSTATE: PostgreSQL's documentation, appendix A, from memory) when it is going away or cannot take
#: anything just now: connection, going down, rolled back, out of room or memory, a row that is held, out of time
_NOT_NOW = ("08", "57P", "40", "53", "55P03", "57014")


def is_loss(error: SQLAlchemyError) -> bool:
    """Whether an error of a server's database means that it cannot be asked just now, rather than that it refused."""
    if not isinstance(error, DBAPIError):
        return False
    code = getattr(error.orig, "sqlstate", None)
    if code:
        return code.startswith(_NOT_NOW)
    return error.connection_invalidated or isinstance(error, OperationalError | InterfaceError)


def plain(error: SQLAlchemyError) -> str:
    """What a database says was wrong, in one short line."""
    return str(getattr(error, "orig", None) or error).splitlines()[0][:120]


def _is_older(connection: Connection, config: Config) -> bool:
    """Whether a log is to be brought up to date. One that was in use is copied first, beside it or within its database; raises
    StoreError for one that a newer Sagen wrote."""
    scripts = ScriptDirectory.from_config(config)
    known = {walk_revision.revision for walk_revision in scripts.walk_revisions()}
    there = MigrationContext.configure(connection).get_current_revision()
    if there is None or there == scripts.get_current_head():
        return there is None
    if there not in known:
        raise StoreError("the job log was written by a newer Sagen: it is left as it is")
    name = connection.engine.url.database
    if connection.dialect.name == "postgresql":
        # In a schema of its own: what large objects hold no upgrade touches.
        copies = f"before_{there}"
        connection.exec_driver_sql(f"create schema if not exists {copies}")
        for table in inspect(connection).get_table_names():
            connection.exec_driver_sql(f"create table if not exists {copies}.{table} as table {table}")
    elif name and name != ":memory:":
        with closing(sqlite3.connect(f"{name}.before-{there}")) as target:
            connection.connection.driver_connection.backup(target)
    return True


@contextmanager
def alone(place: LogPlace) -> Iterator[None]:
    """No other process brings the same log up to date meanwhile: a lock on a file beside an SQLite log."""
    if place.on_server:
        yield
        return
    with Path(f"{place.file}.lock").open("wb") as stream:
        fcntl.flock(stream, fcntl.LOCK_EX)
        yield
