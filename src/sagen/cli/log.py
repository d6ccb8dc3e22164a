"""`sagen log list | show | export | import | backup | restore | check | delete | forget`: the job log without a window."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from sagen.artifacts.atomic import write_whole
from sagen.casework.job_toml import job_toml
from sagen.model import strict_json
from sagen.model.errors import SagenError
from sagen.model.language import tr, trn
from sagen.store import moving
from sagen.store.forgetting import forget_customer
from sagen.store.opening import open_log
from sagen.store.places import DATABASE, existing_place, place_of

NEEDS_OUTPUT, NEEDS_JOB, NEEDS_NAME = (
    ("export",),
    ("show", "export", "delete"),
    ("import", "backup", "restore", "forget"),
)


def arguments(parser) -> None:
    parser.add_argument("what", choices=(*VERBS, "restore"))
    parser.add_argument(
        "file", nargs="?", metavar="JOB|X.zip|NAME", help=tr("a job's number, a zip, or of forget a customer's name")
    )
    parser.add_argument("-o", "--output", metavar="X.zip")
    parser.add_argument("--toml", action="store_true", help=tr("of export: as a job file, which `sagen reason` reads"))
    parser.add_argument("--repair", action="store_true", help=tr("of check: put right what can be"))
    parser.add_argument("--json", action="store_true", help=tr("one object a line"))
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    # Whoever names what a command writes does so with -o, of a backup too.
    if arguments.what == "backup" and not arguments.file:
        arguments.file = arguments.output
    what, name = arguments.what, arguments.file
    if (what in NEEDS_JOB or what in NEEDS_NAME) and not name:
        needed = (
            tr("a job number")
            if what in NEEDS_JOB
            else tr("a customer's name")
            if what == "forget"
            else tr("the name of a zip")
        )
        raise SagenError(tr("{what} needs {needed}", what=what, needed=needed))
    if what in NEEDS_OUTPUT and not arguments.output:
        raise SagenError(tr("say where to with -o X.zip"))
    if what == "restore":
        place = place_of(arguments.log)
        moving.restore(Path(name), place)
        where = place.said if place.on_server or place.file.name != DATABASE else str(place.folder)
        _say(arguments, {"restored": where}, tr("restored: {where}", where=where))
        return 0
    # At once or not at all: whoever types a command is to know whether it was done.
    log = open_log(place_of(arguments.log) if what == "import" else existing_place(arguments.log), outbox=False)
    try:
        return VERBS[what](arguments, log)
    finally:
        log.close()


def _say(arguments, row: dict, words: str) -> None:
    print(json.dumps(row, ensure_ascii=False) if arguments.json else words)


def _list(arguments, log) -> int:
    for job in log.jobs():
        row = {
            "job": job.id, "machine": job.machine, "owner": job.owner, "created": job.created.isoformat(), "about": job.about,
            "entries": job.entries, "stage": str(job.stage),
        }  # fmt: skip
        _say(
            arguments,
            row,
            tr(
                "{id:5d}  {created:%Y-%m-%d}  {machine}  ({owner})  {about}",
                id=job.id,
                created=job.created,
                machine=job.machine,
                owner=job.owner or tr("no name"),
                about=job.about,
            ),
        )
    return 0


def _job_id(text: str) -> int:
    if not text.isascii() or not text.isdigit() or len(text) > 12:
        raise SagenError(tr("'{text}' is no job number: `sagen log list` shows them", text=text[:30]))
    return int(text)


def _show(arguments, log) -> int:
    about, rows = moving.job_rows(log, _job_id(arguments.file))
    if arguments.json:
        print(strict_json.dumps({"job": about, "entries": rows}))
        return 0
    print(
        tr(
            "{machine}  ({owner}), {created}",
            machine=about["machine"],
            owner=about["owner"] or tr("no name"),
            created=about["created"][:10],
        )
    )
    for entry in log.job(_job_id(arguments.file)).entries:
        text = (
            getattr(entry.record, "text", "") or getattr(entry.record, "name", "") or getattr(entry.record, "code", "")
        )
        mark = "withdrawn " if entry.withdrawn else ""
        whose = ", ".join(filter(None, (entry.author, entry.bay)))
        said = f"  {entry.created:%Y-%m-%d %H:%M}  {mark}{entry.kind}: {text}".rstrip(": ")
        print(said + (f"  ({whose})" if whose else ""))
    return 0


def _export(arguments, log) -> int:
    if arguments.toml:
        write_whole(Path(arguments.output), job_toml(log.job(_job_id(arguments.file))).encode())
    else:
        moving.export_job(log, _job_id(arguments.file), Path(arguments.output))
    _say(arguments, {"exported": arguments.output}, tr("exported: {output}", output=arguments.output))
    return 0


def _import(arguments, log) -> int:
    job = moving.import_job(log, Path(arguments.file))
    _say(
        arguments,
        {"job": job.id, "machine": job.machine, "entries": len(job.entries)},
        tr("job {id}: {machine}", id=job.id, machine=job.machine),
    )
    return 0


def _backup(arguments, log) -> int:
    moving.backup(log, Path(arguments.file))
    _say(arguments, {"backup": arguments.file}, tr("backed up: {file}", file=arguments.file))
    return 0


def _check(arguments, log) -> int:
    found = moving.check(log, repair=arguments.repair)
    for this_item in found:
        _say(
            arguments,
            this_item.as_row(),
            tr(
                "{about}: {what}{repaired}",
                about=this_item.about,
                what=this_item.what,
                repaired=tr(" (put right)") if this_item.repaired else "",
            ),
        )
    if not found and not arguments.json:
        print(tr("Nothing is wrong with this log."))
    return int(any(not item.repaired for item in found))


def _delete(arguments, log) -> int:
    job_id = _job_id(arguments.file)
    log.delete_job(job_id)
    _say(arguments, {"deleted": job_id}, tr("deleted: job {job_id}, with its captures and photos", job_id=job_id))
    return 0


def _forget(arguments, log) -> int:
    count = forget_customer(log, arguments.file)
    _say(
        arguments,
        {"forgotten": arguments.file, "jobs": count},
        trn("removed from {count} job", "removed from {count} jobs", count),
    )
    return 0


VERBS = {
    "list": _list, "show": _show, "export": _export, "import": _import, "backup": _backup,
    "check": _check, "delete": _delete, "forget": _forget,
}  # fmt: skip


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    print(tr("sagen log: {message_}", message_=message), file=sys.stderr)
