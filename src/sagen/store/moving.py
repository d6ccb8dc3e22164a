"""Jobs and whole logs on the move: zips of open formats (JSON, NPY, JPEG, SQLite), with a checksum of every member.

What comes from elsewhere is taken by name from a short list of names, up to a size, and only where its checksum is right.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import numpy as np

from sagen.artifacts.atomic import atomic_write
from sagen.artifacts.folders import passing_folder
from sagen.artifacts.leases import Leases, sync_folder
from sagen.model import strict_json
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError, StoreError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.store.captures import SUMS, write_sums
from sagen.store.database import Database
from sagen.store.entries import named_tokens, tokens_in
from sagen.store.log import JobLog
from sagen.store.opening import open_log
from sagen.store.places import DATABASE, LogPlace, in_folder
from sagen.store.reading import as_column, raw_rows, refresh, write_missing_checksums
from sagen.store.reading import troubled as troubled_rows
from sagen.store.sqlite import SqliteDatabase, take
from sagen.store.tables import EntryRow, JobRow

JOB, FORMAT = "job.json", 1
MEMBER = re.compile(
    r"job\.json|jobs\.sqlite|SHA256SUMS|captures/[0-9a-f]{32}/(capture\.json|\d{1,2}\.npy|SHA256SUMS|\d{1,2}\.pyramid)"
    r"|photos/[0-9a-f]{64}\.jpg"
)
MOST_MEMBERS, MOST_BYTES = 200_000, 64 << 30
MOST_TEXT, TEXTS = 64 << 20, (".json", ".txt")
#: how many times its own size a bundle may unfold to, and how much it may at least: samples with any noise pack ten times at best
MOST_TIMES, LEAST_UNFOLDED = 40, 256 << 20
MOST_CYLINDERS = 24


@dataclass(frozen=True)
class Trouble:
    """Something that is wrong with a log: what it is about, what is wrong, and whether it was put right."""

    about: str
    what: str
    repaired: bool = False

    def as_row(self) -> dict:
        return {"about": self.about, "what": self.what, "repaired": self.repaired}


# out ----------------------------------------------------------------------------------------------------


def export_job(log: JobLog, job_id: int, path: Path) -> None:
    """One job as a zip that another log can import. Raises StoreError."""
    about, rows = job_rows(log, job_id)
    # As escapes: a name that is no text has no other form.
    told = json.dumps({"format": FORMAT, "job": about, "entries": rows}, indent=1).encode()
    tokens = tokens_in(told.decode())
    with _zip_out(path) as add:
        add(JOB, told)
        _add_files(log, tokens, add)


def backup(log: JobLog, path: Path) -> None:
    """The whole log as a zip, while it may be in use. Raises StoreError."""
    with passing_folder("backup") as passing, _zip_out(path) as add:
        copy = passing / DATABASE
        # The database first: whatever it names lies on the shelf already.
        log.database.copy_into(copy)
        add(DATABASE, copy)
        _add_files(log, {*log.captures.tokens(), *log.captures.photos()}, add)


def _add_files(log: JobLog, tokens: set[str], add) -> None:
    for token in sorted(tokens):
        if not log.captures.bring(token):
            continue
        if len(token) == 64:
            add(f"photos/{token}.jpg", log.captures.photo_path(token))
            continue
        for path in sorted((log.captures.folder / token).iterdir()):
            if MEMBER.fullmatch(f"captures/{token}/{path.name}"):
                add(f"captures/{token}/{path.name}", path)


@contextmanager
def _zip_out(path: Path) -> Iterator:
    """A zip that is there whole or not at all; members are bytes or files, and their checksums come last."""
    sums = []
    try:
        with (
            atomic_write(path) as passing,
            zipfile.ZipFile(passing, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as zipped,
        ):

            def add(name: str, content: bytes | Path) -> None:
                if isinstance(content, Path):
                    with content.open("rb") as stream:
                        sums.append(f"{hashlib.file_digest(stream, 'sha256').hexdigest()}  {name}")
                    zipped.write(content, name)
                else:
                    sums.append(f"{hashlib.sha256(content).hexdigest()}  {name}")
                    zipped.writestr(name, content)

            yield add
            zipped.writestr(SUMS, "\n".join(sums) + "\n")
    except CaptureFileError as error:
        raise StoreError(str(error)) from None
    except OSError as error:
        raise StoreError(
            tr("{name} cannot be written: {strerror}", name=path.name, strerror=error.strerror or error)
        ) from None


def job_rows(log: JobLog, job_id: int) -> tuple[dict, list[dict]]:
    """A job and its entries as plain data, withdrawn ones among them; what of a row cannot be read is left as its text."""
    with log.database.work() as session:
        found = raw_rows(session, job_id)
    if found is None:
        raise StoreError(tr("there is no job {job_id}", job_id=job_id))
    return found


# in -----------------------------------------------------------------------------------------------------


def import_job(log: JobLog, path: Path) -> Job:
    """A job from a zip, as a new job of this log; its captures get names of their own, so that nothing clashes.

    Raises
    ------
    StoreError
        for a file that is no exported job, is damaged, or holds what does not belong; nothing of it is taken then.
    """
    with passing_folder("import") as passing, _unpacked(path, passing) as folder:
        try:
            told = strict_json.loads((folder / JOB).read_text(encoding="utf-8"))
            about, rows = told["job"], told["entries"]
            if told["format"] > FORMAT:
                raise StoreError(tr("{name} was written by a newer Sagen", name=path.name))
        except (OSError, ValueError, KeyError, TypeError, RecursionError):
            raise StoreError(tr("{name} holds no job", name=path.name)) from None
        # A capture that is put on the shelf and then not named is freed by the next opening of the log.
        names: dict[str, str] = {}
        for this_path in sorted((folder / "captures").glob("*")):
            names[this_path.name] = log.captures.put(_capture(this_path, path))
        for each_path in sorted((folder / "photos").glob("*.jpg")):
            log.captures.put_photo(each_path.read_bytes())
        try:
            return _add_rows(log, about, [row | {"data": _renamed(row["data"], names)} for row in rows])
        except (TypeError, KeyError, RecursionError):
            raise StoreError(tr("{name} holds no job", name=path.name)) from None


def _cylinders(told: object) -> int | None:
    """How many, where it is told; raises ValueError for what is no number of cylinders."""
    if told is None or told == "":
        return None
    if isinstance(told, bool) or not isinstance(told, int) or not 1 <= told <= MOST_CYLINDERS:
        raise ValueError(tr("{told} cylinders", told=str(told)[:20]))
    return told


def _add_rows(log: JobLog, about: dict, rows: list[dict]) -> Job:
    """Put a job from elsewhere into the log, as a new one; raises StoreError for data that is no job's."""
    try:
        made = JobRow(
            machine=as_column(about["machine"])[:200] or "unknown",
            owner=as_column(about.get("owner", ""))[:200],
            cylinders=_cylinders(about.get("cylinders")),
            created=datetime.fromisoformat(about["created"]),
        )
        entries = [
            EntryRow(
                kind=str(row["kind"])[:20],
                version=int(row["version"]),
                created=datetime.fromisoformat(row["created"]),
                withdrawn=bool(row["withdrawn"]),
                data=row["data"],
                author=as_column(row.get("author", ""))[:80],
                bay=as_column(row.get("bay", ""))[:80],
            )
            for row in rows
        ]
    except (KeyError, ValueError, TypeError, OverflowError) as error:
        raise StoreError(tr("this holds no job ({error})", error=str(error)[:80])) from None
    with log.database.work() as session:
        session.add(made)
        session.flush()
        for entry in entries:
            entry.job_id = made.id
            session.add(entry)
        session.flush()
        write_missing_checksums(session, made.id)
        refresh(session, made.id)
        tokens = log.captures.send(session, tokens_in([entry.data for entry in entries]))
        log.database.commit(session, made.id)
        job_id = made.id
    for token in tokens:
        log.captures.commit(token)
    return log.job(job_id)


def restore(path: Path, place: LogPlace | Path) -> None:
    """A backup into a place where no log is yet: a folder, an SQLite file of any name, an empty database on a server.

    It is unpacked and made ready under a passing name beside the place, and takes its name last: it is there whole or not at
    all. What is restored is a log of its own, with an identity of its own.

    Raises
    ------
    StoreError
        for a file that is no backup or is damaged, and a place that is not empty; that is as it was then.
    """
    place = place if isinstance(place, LogPlace) else in_folder(place)
    if place.on_server:
        _restore_to_server(path, place)
        return
    alone = place.file.name == DATABASE  # a log that has its folder for itself
    if place.file.exists() or (alone and place.folder.exists() and any(place.folder.iterdir())):
        where = place.folder if alone else place.file
        raise StoreError(tr("{where} is not empty: a backup is restored into a new place", where=where))
    lease, there = None, place.folder.exists()
    try:
        place.folder.mkdir(parents=True, exist_ok=True)
        leases = Leases(place.folder)
        for left in leases.take_over():
            if left.path.name == RESTORING:
                left.discard()
            else:
                left.let_go()
        lease = leases.begin(RESTORING)
        lease.part.mkdir()
        with _unpacked(path, lease.part) as passing:
            _is_backup(passing, path)
            database = SqliteDatabase(LogPlace(passing, place.url.set(database=str(passing / DATABASE))))
            try:
                database.new_identity()
                identity = database.identity
                database.leave_no_trace()
            finally:
                database.close()
            files = passing / f"files-{identity[:16]}"
            files.mkdir()
            for name in ("captures", "photos"):
                if (passing / name).is_dir():
                    (passing / name).rename(files / name)
            (files / "LOG.json").write_text(json.dumps({"database": place.file.name}), encoding="utf-8")
            _to_the_disk(passing)
            # The files first: whoever opens the log finds what it names.
            files.rename(place.folder / files.name)
            (passing / DATABASE).rename(place.file)
            sync_folder(place.folder)
    except OSError as error:
        raise StoreError(
            tr("{folder} cannot be written: {strerror}", folder=place.folder, strerror=error.strerror or error)
        ) from None
    finally:
        if lease is not None:
            lease.discard()
        if not there:
            with suppress(OSError):  # only where nothing came to stand in it
                place.folder.rmdir()


RESTORING = ".sagen-restore"


def _to_the_disk(folder: Path) -> None:
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            with path.open("rb") as stream:
                os.fsync(stream.fileno())
        else:
            sync_folder(path)


def _restore_to_server(path: Path, place: LogPlace) -> None:
    log = open_log(place, outbox=False)
    try:
        if log.all_job_ids():
            raise StoreError(tr("that log is not empty: a backup is restored into a new place"))
        with passing_folder("restore") as folder, _unpacked(path, folder) as passing:
            _is_backup(passing, path)
            try:
                for capture in sorted((passing / "captures").glob("*")):
                    if not log.captures.bring(capture.name):
                        write_sums(capture)
                        shutil.move(str(capture), log.captures.folder / capture.name)
                for photo in sorted((passing / "photos").glob("*.jpg")):
                    log.captures.put_photo(photo.read_bytes())
            except OSError as error:
                raise StoreError(
                    tr(
                        "{folder} cannot be written: {strerror}",
                        folder=log.captures.folder,
                        strerror=error.strerror or error,
                    )
                ) from None
            _take_all(log.database, log, passing / DATABASE)
    finally:
        log.close()


def _take_all(database: Database, log: JobLog, path: Path) -> None:
    """A backup's rows and what they name, in one transaction."""
    with take(database, path) as session:
        tokens = log.captures.send(session, named_tokens(session))
        database.commit(session, None)
    for token in tokens:
        log.captures.commit(token)


def _is_backup(passing: Path, path: Path) -> None:
    if not (passing / DATABASE).is_file():
        raise StoreError(tr("{name} is no backup of a log", name=path.name))


@contextmanager
def _unpacked(path: Path, passing: Path) -> Iterator[Path]:
    """The members of a zip in a passing folder, each with its right checksum."""
    try:
        with zipfile.ZipFile(path) as zipped:
            members = zipped.infolist()
            whole = sum(member.file_size for member in members)
            if len(members) > MOST_MEMBERS or whole > MOST_BYTES:
                raise StoreError(tr("{name} holds more than a log can", name=path.name))
            if whole > max(LEAST_UNFOLDED, MOST_TIMES * path.stat().st_size):
                raise StoreError(
                    tr(
                        "{name} would unfold to {whole:,} MB, more than what was measured ever does",
                        name=path.name,
                        whole=whole >> 20,
                    )
                )
            if whole > shutil.disk_usage(passing).free:
                raise StoreError(tr("{name} does not fit on the disk of {passing}", name=path.name, passing=passing))
            if any(member.file_size > MOST_TEXT and member.filename.endswith(TEXTS) for member in members):
                raise StoreError(tr("{name} holds a text longer than any job's", name=path.name))
            for this_member in members:
                if not MEMBER.fullmatch(this_member.filename):
                    raise StoreError(tr("{name} holds what belongs to no log", name=path.name))
            sums = _sums(zipped, path)
            for each_member in members:
                if each_member.filename == SUMS:
                    continue
                target = passing / each_member.filename
                target.parent.mkdir(parents=True, exist_ok=True)
                _take(zipped, each_member, target, sums.get(each_member.filename), path)
            if set(sums) - {member.filename for member in members}:
                raise StoreError(tr("{name} is damaged: members are missing", name=path.name))
    except (zipfile.BadZipFile, zlib.error, RuntimeError, EOFError, ValueError):
        raise StoreError(tr("{name} is no zip file that Sagen wrote, or it is damaged", name=path.name)) from None
    except OSError as error:
        said = error.strerror or str(error)
        raise StoreError(tr("{name} cannot be read: {said}", name=path.name, said=said[:100])) from None
    yield passing


def _sums(zipped: zipfile.ZipFile, path: Path) -> dict[str, str]:
    try:
        info = zipped.getinfo(SUMS)
    except KeyError:
        raise StoreError(tr("{name} has no checksums: it is no export of Sagen's", name=path.name)) from None
    if info.file_size > MOST_TEXT:
        raise StoreError(tr("{name} holds more than a log can", name=path.name))
    with zipped.open(info) as stream:
        lines = stream.read(MOST_TEXT).decode("ascii", "replace").splitlines()
    return {name: said for said, _, name in (line.partition("  ") for line in lines)}


def _take(zipped: zipfile.ZipFile, member: zipfile.ZipInfo, target: Path, said: str | None, path: Path) -> None:
    """One member, never more of it than it says it is."""
    sha, left = hashlib.sha256(), member.file_size
    with zipped.open(member) as source, target.open("wb") as out:
        while chunk := source.read(1 << 20):
            left -= len(chunk)
            if left < 0:
                raise StoreError(
                    tr("{name} is damaged: {filename} is longer than it says", name=path.name, filename=member.filename)
                )
            sha.update(chunk)
            out.write(chunk)
    if sha.hexdigest() != said:
        raise StoreError(
            tr("{name} is damaged: {filename} is not what was exported", name=path.name, filename=member.filename)
        )


def _capture(folder: Path, path: Path) -> Capture:
    try:
        about = strict_json.loads((folder / "capture.json").read_text(encoding="utf-8"))
        rows = [np.load(folder / f"{k}.npy", mmap_mode="r", allow_pickle=False) for k in range(len(about["channels"]))]
        made = Capture.of(about, rows)
        if not all(
            np.isfinite([channel.raw.min(), channel.raw.max()]).all() for channel in made.channels if len(channel.raw)
        ):
            raise ValueError(tr("a sample is no finite number"))
        return made
    except (OSError, ValueError, KeyError, TypeError, EOFError) as error:
        raise StoreError(
            tr("{name}: a capture in it cannot be read ({error})", name=path.name, error=str(error)[:60])
        ) from None


def _renamed(data, names: dict[str, str]):
    """Plain data with the tokens that captures have here."""
    if isinstance(data, dict):
        return {key: _renamed(value, names) for key, value in data.items()}
    if isinstance(data, list):
        return [_renamed(datum, names) for datum in data]
    return names.get(data, data) if isinstance(data, str) else data


# checking -----------------------------------------------------------------------------------------------


def check(log: JobLog, *, repair: bool = False) -> list[Trouble]:
    """What is wrong with a log: rows that cannot be read or are not what was written, captures that are gone or not what was
    kept, what nothing names. What can be put right is, with `repair`: missing checksums are written, what nothing names is
    freed; what a row or a capture said once cannot be had back but from a backup."""
    found: list[Trouble] = []
    for summary in log.jobs():
        if summary.damaged:
            found.append(Trouble(tr("job {id}", id=summary.id), summary.damaged))
    with log.database.work() as session:
        troubled = list(troubled_rows(session))
        if repair and any(not why for _, _, why in troubled):
            write_missing_checksums(session)
            session.commit()
    for job_id, entry_id, why in troubled:
        said = (
            Trouble("", tr("{why}; it is shown as damaged", why=why))
            if why
            else Trouble("", tr("has no checksum yet"), repair)
        )
        found.append(replace(said, about=tr("job {job_id}, entry {entry_id}", job_id=job_id, entry_id=entry_id)))
    named = log.kept_tokens()
    here = set(log.captures.tokens())
    for token in sorted(
        item for item in named if len(item) == 32 and item not in here and not log.captures.bring(item)
    ):
        found.append(Trouble(tr("capture {token}", token=token[:12]), tr("its samples are gone")))
    for token in sorted(here):
        found += _of_capture(log, token, token in named, repair=repair)
    for token in log.captures.photos():
        found += _of_photo(log, token, token in named, repair=repair)
    return found


def _of_capture(log: JobLog, token: str, named: bool, *, repair: bool) -> list[Trouble]:
    about = tr("capture {token}", token=token[:12])
    if not named:
        return _unnamed(log, token, about, repair=repair)
    wrong = log.captures.wrong(token)
    if wrong:
        return [Trouble(about, tr("{wrong} is not what was kept: silent damage", wrong=", ".join(wrong)))]
    try:
        log.capture(token)
    except StoreError as error:
        return [Trouble(about, str(error))]
    if wrong is None:
        if repair:
            write_sums(log.captures.folder / token)
        return [Trouble(about, tr("has no checksum yet"), repair)]
    return []


def _of_photo(log: JobLog, token: str, named: bool, *, repair: bool) -> list[Trouble]:
    about = tr("photo {token}", token=token[:12])
    if not named:
        return _unnamed(log, token, about, repair=repair)
    try:
        log.captures.photo(token)
    except StoreError as error:
        return [Trouble(about, str(error))]
    return []


def _unnamed(log: JobLog, token: str, about: str, *, repair: bool) -> list[Trouble]:
    if log.captures.is_held(token):
        return []  # it is just being kept
    if repair:
        log.captures.remove(token)
    return [Trouble(about, tr("nothing names it"), repair)]
