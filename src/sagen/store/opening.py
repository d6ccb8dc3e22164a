"""Where a job log lies, and how it is opened: SQLite in a folder, or PostgreSQL by URL, by the same migrations."""

from __future__ import annotations

import fcntl
import hashlib
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from importlib.resources import files
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import create_engine, event, inspect, text
from sqlalchemy.engine import Connection, Engine, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, InterfaceError, OperationalError, SQLAlchemyError

from sagen.model.errors import StoreError

DATABASE = "jobs.sqlite"
NO_PLACE = "that is no place of a job log: name a folder, or a URL that begins with sqlite:/// or postgresql://"
#: what a server's connection is asked for: no waiting without an end for a server that is gone or a row that is held
SERVER = {
    "connect_timeout": 5,
    "keepalives_idle": 5,
    "keepalives_interval": 2,
    "keepalives_count": 3,
    "tcp_user_timeout": 15_000,
    "options": "-c timezone=utc -c lock_timeout=10s -c statement_timeout=120s",
}
#: the lock that a server's upgrade is done under: any number that is this program's own
UPGRADE_LOCK = 7_305_512


class Unreachable(StoreError):
    """The database server cannot be reached just now."""


def default_folder() -> Path:
    """The user's own log lies in the user's data folder."""
    import platformdirs

    return Path(platformdirs.user_data_dir("sagen", appauthor=False))


def place(name: str | None) -> tuple[Path, str | None]:
    """Folder and URL of a log that is named by a folder, `sqlite:///...` or `postgresql://...`; the user's own, or the one that
    SAGEN_STORE names, where none is. A server's log has a folder of its own here for what is cached and what waits.

    Raises
    ------
    StoreError
        for a name that is no place of a log.
    """
    name = name or os.environ.get("SAGEN_STORE")
    if not name:
        return default_folder(), None
    if "://" not in name:
        return Path(name), None
    try:
        url = make_url(name)
    except (ArgumentError, ValueError):
        raise StoreError(NO_PLACE) from None
    kind = url.get_backend_name()
    if kind == "sqlite" and url.database and url.database != ":memory:":
        return Path(url.database).parent, name
    if kind in ("postgresql", "postgres") and url.database:
        whose = f"{url.host}:{url.port or 5432}/{url.database}"
        server = default_folder() / "servers" / hashlib.sha256(whose.encode()).hexdigest()[:16]
        return server, url.set(drivername="postgresql+psycopg").render_as_string(hide_password=False)
    raise StoreError(NO_PLACE)


def opened(url: str) -> Engine:
    """Connect and bring the tables up to date.

    Raises
    ------
    Unreachable
        for a server that does not answer.
    StoreError
        for everything else that is wrong.
    """
    engine = None
    try:
        if is_sqlite(url):
            engine = create_engine(url, connect_args={"timeout": 10})
            event.listen(engine, "connect", _sqlite_settings)
        else:
            engine = create_engine(url, connect_args=SERVER, pool_pre_ping=True)
        config = Config()
        config.set_main_option("script_location", str(files("sagen.store").joinpath("migrations")))
        with _alone(engine), engine.begin() as connection:
            if not is_sqlite(url):
                connection.execute(text("select pg_advisory_xact_lock(:lock)"), {"lock": UPGRADE_LOCK})
            _copy_before(connection, config)
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
        return engine
    except Exception as error:
        if engine is not None:
            engine.dispose()
        if isinstance(error, StoreError):
            raise
        if isinstance(error, SQLAlchemyError):
            raise _kind_of(error, url)(f"the job log cannot be opened: {plain(error)}") from error
        # Alembic's own errors share no root with SQLAlchemy's.
        raise StoreError(f"the job log cannot be brought up to date: {str(error)[:120]}") from error


def is_sqlite(url: str) -> bool:
    """Whether a URL names an SQLite file."""
    return make_url(url).get_backend_name() == "sqlite"


def _kind_of(error: SQLAlchemyError, url: str) -> type[StoreError]:
    return Unreachable if not is_sqlite(url) and is_loss(error) else StoreError


def is_loss(error: SQLAlchemyError) -> bool:
    """Whether an error of a server's database means that it was not reached, rather than that it refused."""
    lost = isinstance(error, DBAPIError) and error.connection_invalidated
    return lost or isinstance(error, OperationalError | InterfaceError)


def plain(error: SQLAlchemyError) -> str:
    """What a database says was wrong, in one short line."""
    return str(getattr(error, "orig", None) or error).splitlines()[0][:120]


def _copy_before(connection: Connection, config: Config) -> None:
    """Keep a copy of a log beside it, or within its database, before it is brought up to date; raises StoreError for one that a newer Sagen wrote."""
    scripts = ScriptDirectory.from_config(config)
    known = {one.revision for one in scripts.walk_revisions()}
    there = MigrationContext.configure(connection).get_current_revision()
    if there is None or there == scripts.get_current_head():
        return
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


@contextmanager
def _alone(engine: Engine) -> Iterator[None]:
    """No other process brings the same database up to date meanwhile: a lock on a file beside it."""
    name = engine.url.database
    if engine.url.get_backend_name() != "sqlite" or not name or name == ":memory:":
        yield
        return
    with Path(f"{name}.lock").open("wb") as stream:
        fcntl.flock(stream, fcntl.LOCK_EX)
        yield


def _sqlite_settings(connection, _record) -> None:
    # WAL with full syncing: a kill in the middle of a save loses at most that save. What is removed is overwritten.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "secure_delete=ON"):
        connection.execute(f"PRAGMA {pragma}")
