"""The job log. Every change is one committed transaction and can be undone, job by job."""

from __future__ import annotations

import fcntl
import re
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime
from importlib.resources import files
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Text, create_engine, event, select, type_coerce, update
from sqlalchemy.engine import Connection, Engine, make_url
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from sagen.model.capture import Capture
from sagen.model.errors import SagenError, StoreError
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import Pattern
from sagen.model.trail import CaptureEntry, Record
from sagen.store.codecs import VERSION, decode, encode
from sagen.store.reading import one_entry, one_job, raw_rows, refresh, summaries
from sagen.store.shelf import CaptureShelf
from sagen.store.tables import EntryRow, JobRow, KeptRow

#: kinds of what is kept on the shelf
CARD, PATTERN = "card", "pattern"


@dataclass(frozen=True)
class Step:
    """One change and how to take it back."""

    text: str
    undo: Callable[[], None]
    redo: Callable[[], None]


@dataclass
class Steps:
    """What was done in a job, and what was undone."""

    done: list[Step] = field(default_factory=list)
    undone: list[Step] = field(default_factory=list)


def default_folder() -> Path:
    """The user's own log lies in the user's data folder."""
    import platformdirs

    return Path(platformdirs.user_data_dir("sagen", appauthor=False))


class JobLog:
    """Jobs, their trails and captures, under one folder (SQLite) or in a database named by URL.

    Methods may be called from any thread.

    Raises
    ------
    StoreError
        from the constructor and every method, when the database or the disk refuses; what was
        committed before stays.
    """

    def __init__(self, folder: Path, url: str | None = None):
        self.shelf = CaptureShelf(folder / "captures")
        try:
            self._engine = _open(url or f"sqlite:///{folder / 'jobs.sqlite'}")
        except StoreError:
            self.shelf.close()
            raise
        self._session = sessionmaker(self._engine, expire_on_commit=False)
        self._steps: dict[int, Steps] = {}
        self._steps_lock = threading.RLock()
        self._last_job_undone: int | None = None

    def close(self) -> None:
        self._engine.dispose()
        self.shelf.close()

    # reading ------------------------------------------------------------------------------

    def jobs(self, search: str = "") -> list[JobSummary]:
        """Every job as the list shows it, newest first; with `search`, those that hold all its words."""
        with self._work() as session:
            return summaries(session, search)

    def job(self, job_id: int) -> Job:
        with self._work() as session:
            found = one_job(session, job_id)
        if found is None:
            raise StoreError(f"there is no job {job_id}")
        return found

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
            job = Job(row.id, row.created, row.machine, row.owner, row.cylinders)
        self._did(
            job.id,
            "new job",
            lambda: self._withdraw_job(job.id, True),
            lambda: self._withdraw_job(job.id, False),
        )
        return job

    def add_entry(self, job_id: int, record: Record) -> Entry:
        """Put a record at the end of a job's trail. Undoing it withdraws it: nothing recorded is lost."""
        kind, version, data = encode(record)
        with self._work() as session:
            row = EntryRow(job_id=job_id, kind=kind, version=version, data=data, withdrawn=False)
            session.add(row)
            session.flush()
            refresh(session, job_id)
            session.commit()
            entry = Entry(row.id, row.created, decode(kind, version, data))
        self._did(
            job_id,
            f"add {kind}",
            lambda: self._set_withdrawn(entry.id, True),
            lambda: self._set_withdrawn(entry.id, False),
        )
        return entry

    def add_capture(self, job_id: int, capture: Capture, record: CaptureEntry) -> Entry:
        """Keep a capture's samples, then put it on the trail."""
        return self.add_entry(job_id, replace(record, token=self.shelf.put(capture), name=capture.name))

    def correct(self, entry_id: int, record: Record) -> None:
        """Replace what an entry says; raises StoreError for one that a newer Sagen wrote."""
        job_id, entry = self._entry(entry_id)
        before = entry.record
        try:
            encode(before)
        except TypeError:
            raise StoreError("this entry can be seen and withdrawn, but not changed here") from None
        self._set_record(entry_id, record)
        self._did(
            job_id,
            "correct entry",
            lambda: self._set_record(entry_id, before),
            lambda: self._set_record(entry_id, record),
        )

    def withdraw(self, entry_id: int, withdrawn: bool = True) -> None:
        """Take an entry out of the evidence, or put it back; it stays on the trail."""
        job_id, _ = self._entry(entry_id)
        self._set_withdrawn(entry_id, withdrawn)
        self._did(
            job_id,
            "withdraw entry" if withdrawn else "restore entry",
            lambda: self._set_withdrawn(entry_id, not withdrawn),
            lambda: self._set_withdrawn(entry_id, withdrawn),
        )

    # the shelf ----------------------------------------------------------------------------

    def cards(self) -> list[tuple[int, MachineCard]]:
        """The machine cards, by name; one that cannot be read is left out."""
        return self._kept(CARD, lambda row: MachineCard.from_data(row.data, row.name))

    def keep_card(self, card: MachineCard) -> int:
        """Keep a card; an older one of the same title gives way to it, and stays, withdrawn."""
        return self._keep(CARD, card.title, card.as_data())

    def patterns(self) -> list[tuple[int, Pattern]]:
        """The known-good captures, by name."""
        return self._kept(PATTERN, lambda row: Pattern.from_data(row.data, id=row.id, created=row.created))

    def keep_pattern(self, pattern: Pattern) -> int:
        """Keep a capture as known-good."""
        return self._keep(PATTERN, f"{pattern.name} {pattern.token}", pattern.as_data())

    def drop_kept(self, kept_id: int, withdrawn: bool = True) -> None:
        """Take a card or a pattern off the shelf, or put it back."""
        with self._work() as session:
            session.execute(update(KeptRow).where(KeptRow.id == kept_id).values(withdrawn=withdrawn))
            session.commit()

    def _kept(self, kind: str, read) -> list:
        out = []
        with self._work() as session:
            rows = session.scalars(select(KeptRow).where(KeptRow.kind == kind, KeptRow.withdrawn.is_not(True)))
            for row in rows:
                try:
                    out.append((row.id, read(row)))
                except (SagenError, ValueError, TypeError, KeyError, AttributeError):
                    continue
        return out

    def _keep(self, kind: str, name: str, data: dict) -> int:
        name = name[:200]
        with self._work() as session:
            older = (KeptRow.kind == kind, KeptRow.name == name, KeptRow.withdrawn.is_not(True))
            session.execute(update(KeptRow).where(*older).values(withdrawn=True))
            row = KeptRow(kind=kind, name=name, version=VERSION, data=data, withdrawn=False)
            session.add(row)
            session.commit()
            return row.id

    # moving -------------------------------------------------------------------------------

    def rows(self, job_id: int) -> tuple[dict, list[dict]]:
        """A job and its entries as plain data, withdrawn ones among them; what of a row cannot be read is left as its text."""
        self.job(job_id)
        with self._work() as session:
            found = raw_rows(session, job_id)
        if found is None:
            raise StoreError(f"there is no job {job_id}")
        return found

    def add_rows(self, about: dict, rows: list[dict]) -> Job:
        """Put a job from elsewhere into the log, as a new one; raises StoreError for data that is no job's."""
        try:
            made = JobRow(
                machine=str(about["machine"])[:200] or "unknown",
                owner=str(about.get("owner", ""))[:200],
                cylinders=int(about["cylinders"]) if about.get("cylinders") else None,
                created=datetime.fromisoformat(about["created"]),
            )
            entries = [
                EntryRow(
                    kind=str(one["kind"])[:20],
                    version=int(one["version"]),
                    created=datetime.fromisoformat(one["created"]),
                    withdrawn=bool(one["withdrawn"]),
                    data=one["data"],
                )
                for one in rows
            ]
        except (KeyError, ValueError, TypeError, OverflowError) as error:
            raise StoreError(f"this holds no job ({str(error)[:80]})") from None
        with self._work() as session:
            session.add(made)
            session.flush()
            for one in entries:
                one.job_id = made.id
                session.add(one)
            session.flush()
            refresh(session, made.id)
            session.commit()
            job_id = made.id
        return self.job(job_id)

    def copy_database(self, path: Path) -> None:
        """Copy the database while it is in use, whole at one moment (SQLite's online backup)."""
        if self._engine.url.get_backend_name() != "sqlite":
            raise StoreError("a database server is backed up with its own tools, or by `sagen log backup` job by job")
        with self._work() as session, closing(sqlite3.connect(path)) as target:
            session.connection().connection.driver_connection.backup(target)

    def kept_tokens(self) -> set[str]:
        """Every capture and photo that a job or the shelf names, those of withdrawn entries among them."""
        with self._work() as session:
            texts = [str(one) for one in session.scalars(select(type_coerce(EntryRow.data, Text)))]
            texts += [str(one) for one in session.scalars(select(type_coerce(KeptRow.data, Text)))]
        return {token for text in texts for token in re.findall(r"[0-9a-f]{64}|[0-9a-f]{32}", text)}

    def all_job_ids(self) -> list[int]:
        """Every job, withdrawn ones among them."""
        with self._work() as session:
            return list(session.scalars(select(JobRow.id).order_by(JobRow.id)))

    # undo ---------------------------------------------------------------------------------

    def can_undo(self, job_id: int | None) -> str | None:
        """What undo in a job would take back, or None."""
        with self._steps_lock:
            steps = self._steps.get(job_id)
            return steps.done[-1].text if steps and steps.done else None

    def can_redo(self, job_id: int | None) -> str | None:
        """What redo in a job would do again; without a job open, that of the job whose adding was undone last."""
        with self._steps_lock:
            steps = self._steps.get(self._last_job_undone if job_id is None else job_id)
            return steps.undone[-1].text if steps and steps.undone else None

    def undo(self, job_id: int) -> bool:
        """Take back the last change of a job; False when the job itself is gone with it."""
        with self._steps_lock:
            steps = self._steps.get(job_id)
            if not steps or not steps.done:
                return True
            step = steps.done[-1]
            step.undo()
            steps.undone.append(steps.done.pop())
            gone = step.text == "new job"
            if gone:
                self._last_job_undone = job_id
            return not gone

    def redo(self, job_id: int | None) -> int | None:
        """Do again what was undone last in a job, or add the job again that was undone last; answers the job."""
        with self._steps_lock:
            job_id = self._last_job_undone if job_id is None else job_id
            steps = self._steps.get(job_id)
            if job_id is not None and steps and steps.undone:
                steps.undone[-1].redo()
                steps.done.append(steps.undone.pop())
            return job_id

    def forget_steps(self) -> None:
        """Make what was done so far the starting point: nothing before it can be undone."""
        with self._steps_lock:
            self._steps.clear()
            self._last_job_undone = None

    def _did(self, job_id: int, text: str, undo: Callable[[], None], redo: Callable[[], None]) -> None:
        with self._steps_lock:
            steps = self._steps.setdefault(job_id, Steps())
            steps.done.append(Step(text, undo, redo))
            steps.undone.clear()

    # --------------------------------------------------------------------------------------

    def _entry(self, entry_id: int) -> tuple[int, Entry]:
        with self._work() as session:
            found = one_entry(session, entry_id)
        if found is None:
            raise StoreError(f"there is no entry {entry_id}")
        return found

    def _withdraw_job(self, job_id: int, withdrawn: bool) -> None:
        with self._work() as session:
            session.execute(update(JobRow).where(JobRow.id == job_id).values(withdrawn=withdrawn))
            session.commit()

    def _set_withdrawn(self, entry_id: int, withdrawn: bool) -> None:
        self._change(entry_id, {"withdrawn": withdrawn})

    def _set_record(self, entry_id: int, record: Record) -> None:
        kind, version, data = encode(record)
        self._change(entry_id, {"kind": kind, "version": version, "data": data})

    def _change(self, entry_id: int, values: dict) -> None:
        job_id, _ = self._entry(entry_id)
        with self._work() as session:
            session.execute(update(EntryRow).where(EntryRow.id == entry_id).values(**values))
            refresh(session, job_id)
            session.commit()

    @contextmanager
    def _work(self) -> Iterator[Session]:
        try:
            with self._session() as session:
                yield session
        except SQLAlchemyError as error:
            raise StoreError(f"the job log refused: {_plain(error)}") from error
        except (ValueError, TypeError, KeyError, OverflowError) as error:
            # What a driver or a type of the database makes of damaged rows has no root of its own.
            raise StoreError(f"the job log holds something that cannot be read: {error}") from error


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
        with _alone(engine), engine.begin() as connection:
            _copy_before(connection, config)
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
        return engine
    except StoreError:
        raise
    except SQLAlchemyError as error:
        raise StoreError(f"the job log cannot be opened: {_plain(error)}") from error
    except Exception as error:
        # Alembic's own errors share no root with SQLAlchemy's.
        raise StoreError(f"the job log cannot be brought up to date: {error}") from error


def _copy_before(connection: Connection, config: Config) -> None:
    """Keep a copy of a log beside it before it is brought up to date; raises StoreError for one that a newer Sagen wrote."""
    scripts = ScriptDirectory.from_config(config)
    known = {one.revision for one in scripts.walk_revisions()}
    there = MigrationContext.configure(connection).get_current_revision()
    if there is None or there == scripts.get_current_head():
        return
    if there not in known:
        raise StoreError("the job log was written by a newer Sagen: it is left as it is")
    name = connection.engine.url.database
    if connection.dialect.name != "sqlite" or not name or name == ":memory:":
        return  # a server's log is copied with the server's own tools
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
    # WAL with full syncing: a kill in the middle of a save loses at most that save.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")


def _plain(error: SQLAlchemyError) -> str:
    return str(getattr(error, "orig", None) or error).splitlines()[0]
