"""From rows to jobs. Rows are taken as the database keeps them and made sense of one by one, so that a damaged one
shows as a damaged entry, and hides no other."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from datetime import datetime

from sqlalchemy import String, Text, literal_column, or_, select, type_coerce, update
from sqlalchemy.orm import Session

from sagen.model.job import Entry, Job, JobSummary, Stage
from sagen.model.language import tr
from sagen.model.text import as_utf8
from sagen.model.trail import CodeEntry, ComplaintEntry, DamagedEntry, Record, SeenEntry
from sagen.model.vocabulary import SeenMark
from sagen.model.words import COMPLAINTS
from sagen.store.codecs import decode
from sagen.store.tables import EntryRow, JobRow

LONG_AGO = datetime(1970, 1, 1)


def _raw(column, kind):
    """A column as the database holds it, not as its type would have it."""
    return type_coerce(column, kind)


_ENTRY = (
    EntryRow.id, EntryRow.job_id, _raw(EntryRow.kind, String), _raw(EntryRow.version, String),
    _raw(EntryRow.created, String), _raw(EntryRow.data, Text), _raw(EntryRow.withdrawn, String),
    _raw(EntryRow.revision, String), _raw(EntryRow.author, String), _raw(EntryRow.bay, String),
    _raw(EntryRow.changer, String), _raw(EntryRow.sum, String),
)  # fmt: skip
_JOB = (
    JobRow.id, _raw(JobRow.created, String), _raw(JobRow.machine, String), _raw(JobRow.owner, String),
    _raw(JobRow.cylinders, String),
)  # fmt: skip
_SUMMARY = (*_JOB, _raw(JobRow.about, String), _raw(JobRow.entries, String), _raw(JobRow.stage, String))


def summaries(session: Session, search: str = "") -> list[JobSummary]:
    """Every job as the list shows it, newest first, in one statement of the columns shown."""
    chosen = select(*_SUMMARY).where(JobRow.withdrawn.is_not(True))
    for word in as_column(search).split():
        like = f"%{word.translate(_ESCAPED)}%"
        chosen = chosen.where(or_(*(column.ilike(like, escape="\\") for column in _SEARCHED)))
    # By number, not by date: a clock that is set back puts no job out of sight.
    rows = session.execute(chosen.order_by(JobRow.id.desc()))
    return [_summary(row) for row in rows]


_SEARCHED = (JobRow.machine, JobRow.owner, JobRow.about)
_ESCAPED = str.maketrans({"%": "\\%", "_": "\\_", "\\": "\\\\"})


def _summary(row) -> JobSummary:
    job_id, created, machine, owner, _, about, entries, stage = row
    when, damaged = as_time(created)
    try:
        return JobSummary(
            job_id, when, as_text(machine), as_text(owner), as_text(about), int(entries), Stage(stage), damaged
        )
    except (ValueError, TypeError):
        return JobSummary(job_id, when, as_text(machine), damaged=tr("its row cannot be read whole"))


def one_job(session: Session, job_id: int) -> Job | None:
    """A job with its trail; None where there is none."""
    row = session.execute(select(*_JOB).where(JobRow.id == job_id)).first()
    if row is None:
        return None
    _, created, machine, owner, cylinders = row
    try:
        count = int(cylinders) if cylinders is not None else None
    except (ValueError, TypeError):
        count = None
    return Job(job_id, as_time(created)[0], as_text(machine), as_text(owner), count, tuple(_entries(session, job_id)))


def notes_by_job(session: Session) -> dict[int, list[Entry]]:
    """The notes that stand in the jobs that do, oldest first, by job."""
    standing = select(JobRow.id).where(JobRow.withdrawn.is_not(True))
    wanted = select(EntryRow.job_id, *_ENTRY).where(
        EntryRow.kind == "note", EntryRow.withdrawn.is_not(True), EntryRow.job_id.in_(standing)
    )
    out: dict[int, list[Entry]] = {}
    for job_id, *row in session.execute(wanted.order_by(EntryRow.id)):
        out.setdefault(job_id, []).append(_entry(row))
    return out


def _entries(session: Session, job_id: int) -> Iterator[Entry]:
    rows = session.execute(select(*_ENTRY).where(EntryRow.job_id == job_id).order_by(EntryRow.id))
    return (_entry(row) for row in rows)


def _entry(row) -> Entry:
    entry_id, _, kind, version, created, data, withdrawn, revision, author, bay, changer, _ = row
    record: Record
    if has_valid_checksum(row) is False:
        record = DamagedEntry(tr("it is not what was written: its checksum is another"), as_text(kind))
    else:
        record = decode(kind, _whole(version), data)
    count = _whole(revision)
    return Entry(
        entry_id, as_time(created)[0], record, as_truth(withdrawn), count if isinstance(count, int) else 1,
        as_text(author), as_text(bay), as_text(changer),
    )  # fmt: skip


def as_truth(value: object) -> bool:
    """A yes or no as a database holds it."""
    return str(value).lower() in ("1", "true")


def one_row(session: Session, entry_id: int):
    """An entry's row as the database holds it, or None."""
    return session.execute(select(*_ENTRY).where(EntryRow.id == entry_id)).first()


def one_entry(session: Session, entry_id: int) -> tuple[int, Entry] | None:
    """An entry with the job that it is of."""
    row = one_row(session, entry_id)
    return None if row is None else (row[1], _entry(row))


# checksums --------------------------------------------------------------------------------


def checksum(row) -> str:
    """The SHA-256 of what an entry's row says: its kind, version, time, data and whether it is withdrawn."""
    _, _, kind, version, created, data, withdrawn, *_ = row
    told = [as_text(kind), str(version), as_time(created)[0].isoformat(), as_text(data), as_truth(withdrawn)]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


def has_valid_checksum(row) -> bool | None:
    """Whether a row is what was written; None where it has no checksum."""
    return None if not row[-1] else row[-1] == checksum(row)


def write_checksum(session: Session, entry_id: int) -> None:
    """Write an entry's checksum, of the row as it is now."""
    row = one_row(session, entry_id)
    told = update(EntryRow).where(EntryRow.id == entry_id).values(sum=checksum(row))
    # Nobody looks at the sum of a row in the session; to bring all of them up to date takes the square of a long trail's time.
    session.execute(told.execution_options(synchronize_session=False))


def write_missing_checksums(session: Session, job_id: int | None = None) -> int:
    """Write the checksum of every row that has none, of one job or of all; answers how many."""
    missing = select(*_ENTRY).where(EntryRow.sum == "")
    rows = session.execute(missing if job_id is None else missing.where(EntryRow.job_id == job_id)).all()
    for first in range(0, len(rows), 1000):
        session.execute(update(EntryRow), [{"id": row[0], "sum": checksum(row)} for row in rows[first : first + 1000]])
    return len(rows)


def troubled(session: Session) -> Iterator[tuple[int, int, str]]:
    """Job and entry of each row that shows as damaged, with why, and of each without a checksum, with ""."""
    for row in session.execute(select(*_ENTRY).order_by(EntryRow.id)).yield_per(1000):
        record = _entry(row).record
        if isinstance(record, DamagedEntry):
            yield row[1], row[0], record.why
        elif not row[-1]:
            yield row[1], row[0], ""


def refresh(session: Session, job_id: int) -> None:
    """Write anew what the list of jobs shows of a job."""
    job = one_job(session, job_id)
    if job is None:
        return
    told = [
        COMPLAINTS.get(record.complaint, record.text) if record.complaint else record.text
        for record in job.records(ComplaintEntry)[:1]
    ]
    told += [record.code for record in job.records(CodeEntry)]
    # A second fault stays in sight when the job is long closed.
    told += [
        tr("also seen: {seen}", seen=record.seen[:80])
        for record in job.records(SeenEntry)
        if record.mark != SeenMark.DONE
    ]
    values = {"about": "  ·  ".join(filter(None, told))[:400], "entries": len(job.entries), "stage": str(job.stage)}
    session.execute(update(JobRow).where(JobRow.id == job_id).values(**values))


def refresh_all(session: Session) -> None:
    """The same for every job."""
    for (job_id,) in session.execute(select(literal_column("id")).select_from(JobRow)).all():
        refresh(session, job_id)


def as_time(value: object) -> tuple[datetime, str]:
    """A time as a database holds it, and what is wrong with it."""
    if isinstance(value, datetime):
        return value, ""
    try:
        return datetime.fromisoformat(str(value)), ""
    except ValueError:
        return LONG_AGO, tr("its date cannot be read")


def as_column(words: object) -> str:
    """Words as a column of any database takes them."""
    return as_utf8(str(words).replace("\0", "")).strip()


def as_text(value: object) -> str:
    """Words as a database holds them."""
    if isinstance(value, bytes):
        value = value.decode("utf-8", "replace")
    return str(value) if value is not None else tr("a machine without a name")


def _whole(value: object) -> object:
    try:
        return int(value)
    except (ValueError, TypeError):
        return value


def raw_rows(session: Session, job_id: int) -> tuple[dict, list[dict]] | None:
    """A job and its entries as plain data for another log; None where there is no such job."""
    job = session.execute(select(*_JOB).where(JobRow.id == job_id)).first()
    if job is None:
        return None
    about = {"machine": as_text(job[2]), "owner": as_text(job[3]), "created": as_time(job[1])[0].isoformat()}
    if str(job[4] or "").isdigit():
        about["cylinders"] = int(job[4])
    rows = []
    for row in session.execute(select(*_ENTRY).where(EntryRow.job_id == job_id).order_by(EntryRow.id)):
        _, _, kind, version, created, data, withdrawn, _, author, bay, _, _ = row
        try:
            told = json.loads(data)
        except (ValueError, TypeError, RecursionError):
            told = {"unreadable": str(data)[:100_000]}
        rows.append({
            "kind": as_text(kind), "version": int(version) if str(version).isdigit() else 1,
            "created": as_time(created)[0].isoformat(), "withdrawn": as_truth(withdrawn), "data": told,
            "author": as_text(author), "bay": as_text(bay),
        })  # fmt: skip
    return about, rows
