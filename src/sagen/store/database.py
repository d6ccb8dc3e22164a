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

from sqlalchemy import insert, inspect, select, text, update
from sqlalchemy.engine import URL, Connection, Engine
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from sagen.model.errors import StoreError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.store.following import Follower
from sagen.store.places import LogPlace
from sagen.store.tables import AboutRow, Base

#: loaded for an older log alone: a new one and one that is up to date need none of it
alembic_command, alembic_config = lazy("alembic.command"), lazy("alembic.config")

#: the lock that a server's upgrade is done under: any number that is this program's own
UPGRADE_LOCK = 7_305_512


AWAY = tr("is away")


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
            raise StoreError(
                tr("the job log holds something that cannot be read: {error}", error=str(error)[:120])
            ) from error

    def problem(self, error: SQLAlchemyError) -> StoreError:
        """A database's error as one of ours."""
        return StoreError(tr("the job log refused: {error}", error=plain(error)))

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


#: where the migrations lie; the file of each begins with `v` and its number
MIGRATIONS = files("sagen.store").joinpath("migrations")


def versions() -> list[str]:
    """The numbers of all migrations, oldest first: what a log may be, the last what it is brought up to."""
    names = (item.name for item in MIGRATIONS.joinpath("versions").iterdir())
    return sorted(name[1:].split("_")[0] for name in names if name.startswith("v") and name.endswith(".py"))


def brought_up_to_date(place: LogPlace, engine: Engine) -> Engine:
    """Make the tables of a new log, or bring those of an older one up to date."""
    try:
        with alone(place), engine.begin() as connection:
            if place.on_server:
                connection.execute(text("select pg_advisory_xact_lock(:lock)"), {"lock": UPGRADE_LOCK})
            there = _version(connection)
            if there is None:
                _make(connection)
            elif _is_older(there):
                _copy(connection, there)
                config = alembic_config.Config()
                config.set_main_option("script_location", str(MIGRATIONS))
                config.attributes["connection"] = connection
                alembic_command.upgrade(config, "head")
        return engine
    except Exception as error:
        engine.dispose()
        if isinstance(error, StoreError):
            raise
        if isinstance(error, SQLAlchemyError):
            kind = Unreachable if place.on_server and is_loss(error) else StoreError
            raise kind(tr("the job log cannot be opened: {error}", error=plain(error))) from error
        if isinstance(error, OSError):
            raise StoreError(
                tr(
                    "the folder {folder} cannot be used: {strerror}",
                    folder=place.folder,
                    strerror=error.strerror or error,
                )
            ) from error
        # Alembic's own errors share no root with SQLAlchemy's.
        raise StoreError(tr("the job log cannot be brought up to date: {error}", error=str(error)[:120])) from error


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


#: the table in which Alembic keeps what a log's tables are, by its documentation
_VERSION_TABLE = "alembic_version"


def _version(connection: Connection) -> str | None:
    """Up to which migration a log's tables are; None for one that has none yet."""
    if not inspect(connection).has_table(_VERSION_TABLE):
        return None
    return connection.scalar(text(f"select version_num from {_VERSION_TABLE}"))


def _make(connection: Connection) -> None:
    """The tables of a new log as they are now, rather than by every migration that led to them; a test holds both against each
    other."""
    Base.metadata.create_all(connection)
    connection.exec_driver_sql(
        f"create table {_VERSION_TABLE} (version_num varchar(32) not null, "
        f"constraint {_VERSION_TABLE}_pkc primary key (version_num))"
    )
    connection.execute(text(f"insert into {_VERSION_TABLE} values (:last)"), {"last": versions()[-1]})
    connection.execute(insert(AboutRow).values(name=IDENTITY, value=uuid.uuid4().hex))


def _is_older(there: str) -> bool:
    """Whether a log is to be brought up to date; raises StoreError for one that a newer Sagen wrote."""
    known = versions()
    if there not in known:
        raise StoreError(tr("the job log was written by a newer Sagen: it is left as it is"))
    return there != known[-1]


def _copy(connection: Connection, there: str) -> None:
    """Copy a log that was in use, beside it or within its database, before it is changed."""
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


@contextmanager
def alone(place: LogPlace) -> Iterator[None]:
    """No other process brings the same log up to date meanwhile: a lock on a file beside an SQLite log."""
    if place.on_server:
        yield
        return
    with Path(f"{place.file}.lock").open("wb") as stream:
        fcntl.flock(stream, fcntl.LOCK_EX)
        yield
