"""A job of the log as a job file: every entry that counts, in the file's own forms where those say it whole, else as it is
stored."""

from __future__ import annotations

import json

import tomlkit

from sagen.files.jobs import ENTRIES, entry_of
from sagen.files.short_forms import SHORT
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.trail import (
    BoardEntry,
    CircuitEntry,
    InspectionEntry,
    NoteEntry,
    ReadingEntry,
    Record,
    ReplacedEntry,
    ScanEntry,
    StayedEntry,
    StepEntry,
)
from sagen.reason.several import circuits_of
from sagen.store.codecs import decode, encode

#: entries that have a form of their own, by their record
FORMS = {
    NoteEntry: "note", ReadingEntry: "reading", InspectionEntry: "inspection", ReplacedEntry: "replaced", ScanEntry: "scan",
    StayedEntry: "stayed", StepEntry: "apart", BoardEntry: "board",
}  # fmt: skip


def job_toml(job: Job) -> str:
    """A job as the text of a job file; `sagen reason` weighs it as the window does. Samples of captures stay in the log: their
    findings, levels and sheets are in the file."""
    records = job.records()
    document = tomlkit.document()
    document.add(tomlkit.comment(f"{job.machine}: written from the job log"))
    if job.cylinders is not None:
        document["engine"] = {"cylinders": job.cylinders}
    circuits = circuits_of(records)
    if len(circuits) == 1:
        document["circuit"] = _plain(next(iter(circuits.values())).model_dump(mode="json", exclude_none=True))
    else:
        rows = tomlkit.aot()
        for name, spec in circuits.items():
            rows.append(tomlkit.item({"name": name, **_plain(spec.model_dump(mode="json", exclude_none=True))}))
        document["circuit"] = rows
    trail = tomlkit.aot()
    for record in records:
        if not (isinstance(record, CircuitEntry) and len(circuits) > 1):
            trail.append(tomlkit.item(_row(record)))
    if len(trail):
        document["trail"] = trail
    return tomlkit.dumps(document)


def _row(record: Record) -> dict:
    """One `[[trail]]` table."""
    kind, version, data = encode(record)
    name = FORMS.get(type(record))
    if name is not None:
        first, keys = ("what", SHORT[name][0]) if name in SHORT else (ENTRIES[name].first, ENTRIES[name].keys)
        row = {name: data.get(first)} | {key: data[key] for key in keys if data.get(key) not in (None, "", False)}
        row |= {"circuit": record.circuit} if record.circuit else {}
        try:
            if entry_of(row, "") == record:
                return _plain(row)
        except (SagenError, TypeError):
            pass
    plain = _plain(data)
    if decode(kind, version, plain) == record:
        return {"record": kind, "version": version, "data": plain}
    # What holds "not stated" within a table is kept as JSON: TOML has no word for it.
    return {"record": kind, "version": version, "json": json.dumps(data, ensure_ascii=False)}


def _plain(value):
    """Without what TOML has no word for."""
    if isinstance(value, dict):
        return {str(key): _plain(item) for key, item in value.items() if item is not None}
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value if item is not None]
    return value
