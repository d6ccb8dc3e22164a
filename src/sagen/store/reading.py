"""From rows to jobs. Rows are taken as the database keeps them and made sense of one by one, so that a damaged one
shows as a damaged entry, and hides no other."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import datetime

from sqlalchemy import String, Text, literal_column, or_, select, type_coerce, update
from sqlalchemy.orm import Session

from sagen.model.job import Entry, Job, JobSummary, Stage
from sagen.model.trail import CodeEntry, ComplaintEntry, SeenEntry
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
)  # fmt: skip
_JOB = (
    JobRow.id, _raw(JobRow.created, String), _raw(JobRow.machine, String), _raw(JobRow.owner, String),
    _raw(JobRow.cylinders, String),
)  # fmt: skip
_SUMMARY = (*_JOB, _raw(JobRow.about, String), _raw(JobRow.entries, String), _raw(JobRow.stage, String))


def summaries(session: Session, search: str = "") -> list[JobSummary]:
    """Every job as the list shows it, newest first, in one statement of the columns shown."""
    chosen = select(*_SUMMARY).where(JobRow.withdrawn.is_not(True))
    for one in search.split():
        like = f"%{one.translate(_ESCAPED)}%"
        chosen = chosen.where(or_(*(column.ilike(like, escape="\\") for column in _SEARCHED)))
    rows = session.execute(chosen.order_by(JobRow.created.desc(), JobRow.id.desc()))
    return [_summary(row) for row in rows]


_SEARCHED = (JobRow.machine, JobRow.owner, JobRow.about)
_ESCAPED = str.maketrans({"%": "\\%", "_": "\\_", "\\": "\\\\"})


def _summary(row) -> JobSummary:
    job_id, created, machine, owner, _, about, entries, stage = row
    when, damaged = _when(created)
    try:
        return JobSummary(job_id, when, _text(machine), _text(owner), _text(about), int(entries), Stage(stage), damaged)
    except (ValueError, TypeError):
        return JobSummary(job_id, when, _text(machine), damaged="its row cannot be read whole")


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
    return Job(job_id, _when(created)[0], _text(machine), _text(owner), count, tuple(_entries(session, job_id)))


def _entries(session: Session, job_id: int) -> Iterator[Entry]:
    rows = session.execute(select(*_ENTRY).where(EntryRow.job_id == job_id).order_by(EntryRow.id))
    for entry_id, _, kind, version, created, data, withdrawn in rows:
        record = decode(kind, _whole(version), data)
        yield Entry(entry_id, _when(created)[0], record, str(withdrawn).lower() in ("1", "true"))


def one_entry(session: Session, entry_id: int) -> tuple[int, Entry] | None:
    """An entry with the job that it is of."""
    row = session.execute(select(*_ENTRY).where(EntryRow.id == entry_id)).first()
    if row is None:
        return None
    _, job_id, kind, version, created, data, withdrawn = row
    record = decode(kind, _whole(version), data)
    return job_id, Entry(entry_id, _when(created)[0], record, str(withdrawn).lower() in ("1", "true"))


def refresh(session: Session, job_id: int) -> None:
    """Write anew what the list of jobs shows of a job."""
    job = one_job(session, job_id)
    if job is None:
        return
    told = [
        COMPLAINTS.get(one.complaint, one.text) if one.complaint else one.text
        for one in job.records(ComplaintEntry)[:1]
    ]
    told += [one.code for one in job.records(CodeEntry)]
    # A second fault stays in sight when the job is long closed.
    told += [f"also seen: {one.seen[:80]}" for one in job.records(SeenEntry) if one.mark != SeenMark.DONE]
    values = {"about": "  ·  ".join(filter(None, told))[:400], "entries": len(job.entries), "stage": str(job.stage)}
    session.execute(update(JobRow).where(JobRow.id == job_id).values(**values))


def refresh_all(session: Session) -> None:
    """The same for every job."""
    for (job_id,) in session.execute(select(literal_column("id")).select_from(JobRow)).all():
        refresh(session, job_id)


def _when(value: object) -> tuple[datetime, str]:
    if isinstance(value, datetime):
        return value, ""
    try:
        return datetime.fromisoformat(str(value)), ""
    except ValueError:
        return LONG_AGO, "its date cannot be read"


def _text(value: object) -> str:
    if isinstance(value, bytes):
        value = value.decode("utf-8", "replace")
    return str(value) if value is not None else "a machine without a name"


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
    about = {"machine": _text(job[2]), "owner": _text(job[3]), "created": _when(job[1])[0].isoformat()}
    if str(job[4] or "").isdigit():
        about["cylinders"] = int(job[4])
    rows = []
    for _, _, kind, version, created, data, withdrawn in session.execute(
        select(*_ENTRY).where(EntryRow.job_id == job_id).order_by(EntryRow.id)
    ):
        try:
            told = json.loads(data)
        except (ValueError, TypeError, RecursionError):
            told = {"unreadable": str(data)[:100_000]}
        rows.append({
            "kind": _text(kind), "version": int(version) if str(version).isdigit() else 1,
            "created": _when(created)[0].isoformat(), "withdrawn": str(withdrawn) in ("1", "True", "true"), "data": told,
        })  # fmt: skip
    return about, rows
