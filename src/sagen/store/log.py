"""The job log. Every change is one committed transaction and can be undone."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, event, select
from sqlalchemy.engine import Engine, make_url
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from sagen.model.capture import Capture
from sagen.model.errors import StoreError
from sagen.model.job import Entry, Job
from sagen.store.shelf import CaptureShelf
from sagen.store.tables import EntryRow, JobRow


@dataclass(frozen=True)
class Step:
    """One change and how to take it back."""

    text: str
    undo: Callable[[], None]
    redo: Callable[[], None]


def default_folder() -> Path:
    """The user's own log lies in the user's data folder."""
    import platformdirs

    return Path(platformdirs.user_data_dir("sagen", appauthor=False))


class JobLog:
    """Jobs, their trails and captures, under one folder (SQLite) or in a database named by URL.

    Raises
    ------
    StoreError
        from the constructor and every method, when the database or the disk refuses; what was
        committed before stays.
    """

    def __init__(self, folder: Path, url: str | None = None):
        self.shelf = CaptureShelf(folder / "captures")
        self._engine = _open(url or f"sqlite:///{folder / 'jobs.sqlite'}")
        self._session = sessionmaker(self._engine, expire_on_commit=False)
        self._done: list[Step] = []
        self._undone: list[Step] = []

    def close(self) -> None:
        self._engine.dispose()

    # reading ------------------------------------------------------------------------------

    def jobs(self) -> list[Job]:
        """All jobs with their trails, newest first."""
        with self._work() as session:
            rows = session.scalars(select(JobRow).order_by(JobRow.created.desc(), JobRow.id.desc())).all()
            return [_job(row) for row in rows]

    def job(self, job_id: int) -> Job:
        with self._work() as session:
            row = session.get(JobRow, job_id)
            if row is None:
                raise StoreError(f"there is no job {job_id}")
            return _job(row)

    def capture(self, token: str) -> Capture:
        return self.shelf.get(token)

    # writing ------------------------------------------------------------------------------

    def add_job(self, machine: str, *, owner: str = "", cylinders: int | None = None) -> Job:
        if not machine.strip():
            raise StoreError("a job needs a machine")
        with self._work() as session:
            row = JobRow(machine=machine.strip()[:200], owner=owner.strip()[:200], cylinders=cylinders)
            session.add(row)
            session.commit()
            return _job(row)

    def add_entry(self, job_id: int, kind: str, data: dict) -> Entry:
        """Put an entry at the end of a job's trail. Undoing it withdraws it: nothing recorded is lost."""
        with self._work() as session:
            row = EntryRow(job_id=job_id, kind=kind, data=data, withdrawn=False)
            session.add(row)
            session.commit()
            entry = _entry(row)
        self._did(
            f"add {kind}",
            lambda: self._set_withdrawn(entry.id, True),
            lambda: self._set_withdrawn(entry.id, False),
        )
        return entry

    def add_capture(self, job_id: int, capture: Capture, data: dict) -> Entry:
        """Keep a capture's samples, then put it on the trail."""
        return self.add_entry(job_id, "capture", {**data, "token": self.shelf.put(capture), "name": capture.name})

    def correct(self, entry_id: int, data: dict) -> None:
        """Replace what an entry says."""
        before = self._set_data(entry_id, data)
        self._did("correct entry", lambda: self._set_data(entry_id, before), lambda: self._set_data(entry_id, data))

    def withdraw(self, entry_id: int, withdrawn: bool = True) -> None:
        """Take an entry out of the evidence, or put it back; it stays on the trail."""
        self._set_withdrawn(entry_id, withdrawn)
        self._did(
            "withdraw entry" if withdrawn else "restore entry",
            lambda: self._set_withdrawn(entry_id, not withdrawn),
            lambda: self._set_withdrawn(entry_id, withdrawn),
        )

    # undo ---------------------------------------------------------------------------------

    @property
    def can_undo(self) -> str | None:
        """What undo would take back, or None."""
        return self._done[-1].text if self._done else None

    @property
    def can_redo(self) -> str | None:
        return self._undone[-1].text if self._undone else None

    def undo(self) -> None:
        if self._done:
            self._done[-1].undo()
            self._undone.append(self._done.pop())

    def redo(self) -> None:
        if self._undone:
            self._undone[-1].redo()
            self._done.append(self._undone.pop())

    def forget_steps(self) -> None:
        """Make what was done so far the starting point: nothing before it can be undone."""
        self._done.clear()
        self._undone.clear()

    def _did(self, text: str, undo: Callable[[], None], redo: Callable[[], None]) -> None:
        self._done.append(Step(text, undo, redo))
        self._undone.clear()

    # --------------------------------------------------------------------------------------

    def _set_withdrawn(self, entry_id: int, withdrawn: bool) -> None:
        with self._work() as session:
            self._row(session, entry_id).withdrawn = withdrawn
            session.commit()

    def _set_data(self, entry_id: int, data: dict) -> dict:
        with self._work() as session:
            row = self._row(session, entry_id)
            before = dict(row.data)
            row.data = dict(data)
            session.commit()
            return before

    @staticmethod
    def _row(session: Session, entry_id: int) -> EntryRow:
        row = session.get(EntryRow, entry_id)
        if row is None:
            raise StoreError(f"there is no entry {entry_id}")
        return row

    @contextmanager
    def _work(self) -> Iterator[Session]:
        try:
            with self._session() as session:
                yield session
        except SQLAlchemyError as error:
            raise StoreError(f"the job log refused: {_plain(error)}") from error


def _open(url: str) -> Engine:
    """Connect and bring the tables up to date."""
    try:
        if make_url(url).get_backend_name() == "sqlite":
            engine = create_engine(url, connect_args={"timeout": 10})
            event.listen(engine, "connect", _sqlite_settings)
        else:
            engine = create_engine(url)
        config = Config()
        config.set_main_option("script_location", str(files("sagen.store").joinpath("migrations")))
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
        return engine
    except SQLAlchemyError as error:
        raise StoreError(f"the job log cannot be opened: {_plain(error)}") from error
    except Exception as error:
        # Alembic's own errors share no root with SQLAlchemy's: a log written by a newer Sagen ends here.
        raise StoreError(f"the job log cannot be brought up to date: {error}") from error


def _sqlite_settings(connection, _record) -> None:
    # WAL with full syncing: a kill in the middle of a save loses at most that save.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")


def _plain(error: SQLAlchemyError) -> str:
    return str(getattr(error, "orig", None) or error).splitlines()[0]


def _entry(row: EntryRow) -> Entry:
    return Entry(row.id, row.kind, row.created, dict(row.data), bool(row.withdrawn))


def _job(row: JobRow) -> Job:
    entries = tuple(_entry(one) for one in row.entries)
    return Job(row.id, row.created, row.machine, row.owner, row.cylinders, entries)
