"""Jobs and whole logs on the move: zips of open formats (JSON, NPY, JPEG, SQLite), with a checksum of every member.

What comes from elsewhere is taken by name from a short list of names, up to a size, and only where its checksum is right.
"""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import time
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from sagen.model.capture import Capture
from sagen.model.errors import StoreError
from sagen.model.job import Job
from sagen.model.passing import passing_folder
from sagen.store.log import JobLog
from sagen.store.opening import DATABASE, is_sqlite
from sagen.store.shelf import SUMS, write_sums

JOB, FORMAT = "job.json", 1
MEMBER = re.compile(
    r"job\.json|jobs\.sqlite|SHA256SUMS|captures/[0-9a-f]{32}/(capture\.json|\d{1,2}\.npy|SHA256SUMS|\d{1,2}\.pyramid)"
    r"|photos/[0-9a-f]{64}\.jpg"
)
MOST_MEMBERS, MOST_BYTES = 200_000, 64 << 30
MOST_TEXT = 64 << 20
FRESH_S = 3600  #: a capture that nothing names yet may be one that is just being kept


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
    about, rows = log.rows(job_id)
    # As escapes: a name that is no text has no other form.
    told = json.dumps({"format": FORMAT, "job": about, "entries": rows}, indent=1).encode()
    tokens = set(re.findall(r"[0-9a-f]{64}|[0-9a-f]{32}", told.decode()))
    with _zip_out(path) as add:
        add(JOB, told)
        _add_files(log, tokens, add)


def backup(log: JobLog, path: Path) -> None:
    """The whole log as a zip, while it may be in use. Raises StoreError."""
    with passing_folder("backup") as passing, _zip_out(path) as add:
        copy = passing / DATABASE
        # The database first: whatever it names lies on the shelf already.
        log.copy_database(copy)
        add(DATABASE, copy)
        _add_files(log, {*log.shelf.tokens(), *log.shelf.photos()}, add)


def _add_files(log: JobLog, tokens: set[str], add) -> None:
    for token in sorted(tokens):
        if not log.shelf.bring(token):
            continue
        if len(token) == 64:
            add(f"photos/{token}.jpg", log.shelf.photo_path(token))
            continue
        for one in sorted((log.shelf.folder / token).iterdir()):
            if MEMBER.fullmatch(f"captures/{token}/{one.name}"):
                add(f"captures/{token}/{one.name}", one)


@contextmanager
def _zip_out(path: Path) -> Iterator:
    """A zip that is there whole or not at all; members are bytes or files, and their checksums come last."""
    passing = path.with_name(f".sagen-{time.time_ns():x}.part")
    sums = []
    try:
        with zipfile.ZipFile(passing, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as zipped:

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
        passing.replace(path)
    except OSError as error:
        raise StoreError(f"{path.name} cannot be written: {error.strerror or error}") from None
    finally:
        passing.unlink(missing_ok=True)


# in -----------------------------------------------------------------------------------------------------


def import_job(log: JobLog, path: Path) -> Job:
    """A job from a zip, as a new job of this log; its captures get names of their own, so that nothing clashes.

    Raises
    ------
    StoreError
        for a file that is no exported job, is damaged, or holds what does not belong; nothing of it is taken then.
    """
    with _unpacked(path) as folder:
        try:
            told = json.loads((folder / JOB).read_text(encoding="utf-8"))
            about, rows = told["job"], told["entries"]
            if told["format"] > FORMAT:
                raise StoreError(f"{path.name} was written by a newer Sagen")
        except (OSError, ValueError, KeyError, TypeError, RecursionError):
            raise StoreError(f"{path.name} holds no job") from None
        # A capture that is put on the shelf and then not named is freed by the next opening of the log.
        names: dict[str, str] = {}
        for one in sorted((folder / "captures").glob("*")):
            names[one.name] = log.shelf.put(_capture(one, path))
        for one in sorted((folder / "photos").glob("*.jpg")):
            log.shelf.put_photo(one.read_bytes())
        try:
            return log.add_rows(about, [one | {"data": _renamed(one["data"], names)} for one in rows])
        except (TypeError, KeyError, RecursionError):
            raise StoreError(f"{path.name} holds no job") from None


def restore(path: Path, folder: Path, url: str | None = None) -> None:
    """A backup into a folder where no log is yet, or into an empty database that `url` names.

    Raises
    ------
    StoreError
        for a file that is no backup or is damaged, and a place that is not empty; that is as it was then.
    """
    if url and not is_sqlite(url):
        _restore_to_server(path, folder, url)
        return
    if folder.exists() and any(folder.iterdir()):
        raise StoreError(f"{folder} is not empty: a backup is restored into a new place")
    with _unpacked(path) as passing:
        _is_backup(passing, path)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            for one in passing.iterdir():
                if one.name != SUMS:
                    shutil.move(str(one), folder / one.name)
        except OSError as error:
            raise StoreError(f"{folder} cannot be written: {error.strerror or error}") from None


def _restore_to_server(path: Path, folder: Path, url: str) -> None:
    log = JobLog(folder, url)
    try:
        with _unpacked(path) as passing:
            _is_backup(passing, path)
            try:
                for one in sorted((passing / "captures").glob("*")):
                    if not log.shelf.bring(one.name):
                        write_sums(one)
                        shutil.move(str(one), log.shelf.folder / one.name)
                for one in sorted((passing / "photos").glob("*.jpg")):
                    log.shelf.put_photo(one.read_bytes())
            except OSError as error:
                raise StoreError(f"{folder} cannot be written: {error.strerror or error}") from None
            log.take_database(passing / DATABASE)
    finally:
        log.close()


def _is_backup(passing: Path, path: Path) -> None:
    if not (passing / DATABASE).is_file():
        raise StoreError(f"{path.name} is no backup of a log")


@contextmanager
def _unpacked(path: Path) -> Iterator[Path]:
    """The members of a zip in a passing folder, each with its right checksum."""
    try:
        with passing_folder("import") as passing, zipfile.ZipFile(path) as zipped:
            members = zipped.infolist()
            if len(members) > MOST_MEMBERS or sum(one.file_size for one in members) > MOST_BYTES:
                raise StoreError(f"{path.name} holds more than a log can")
            room = shutil.disk_usage(passing).free
            if sum(one.file_size for one in members) > room:
                raise StoreError(f"{path.name} does not fit on the disk of {passing}")
            for one in members:
                if not MEMBER.fullmatch(one.filename):
                    raise StoreError(f"{path.name} holds what belongs to no log")
            sums = _sums(zipped, path)
            for one in members:
                if one.filename == SUMS:
                    continue
                target = passing / one.filename
                target.parent.mkdir(parents=True, exist_ok=True)
                _take(zipped, one, target, sums.get(one.filename), path)
            if set(sums) - {one.filename for one in members}:
                raise StoreError(f"{path.name} is damaged: members are missing")
            yield passing
    except (OSError, zipfile.BadZipFile, zlib.error, RuntimeError, EOFError, ValueError) as error:
        said = getattr(error, "strerror", None) or str(error)
        raise StoreError(f"{path.name} cannot be read: {said[:100]}") from None


def _sums(zipped: zipfile.ZipFile, path: Path) -> dict[str, str]:
    try:
        info = zipped.getinfo(SUMS)
    except KeyError:
        raise StoreError(f"{path.name} has no checksums: it is no export of Sagen's") from None
    if info.file_size > MOST_TEXT:
        raise StoreError(f"{path.name} holds more than a log can")
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
                raise StoreError(f"{path.name} is damaged: {member.filename} is longer than it says")
            sha.update(chunk)
            out.write(chunk)
    if sha.hexdigest() != said:
        raise StoreError(f"{path.name} is damaged: {member.filename} is not what was exported")


def _capture(folder: Path, path: Path) -> Capture:
    try:
        about = json.loads((folder / "capture.json").read_text(encoding="utf-8"))
        rows = [np.load(folder / f"{k}.npy", mmap_mode="r", allow_pickle=False) for k in range(len(about["channels"]))]
        return Capture.of(about, rows)
    except (OSError, ValueError, KeyError, TypeError, EOFError) as error:
        raise StoreError(f"{path.name}: a capture in it cannot be read ({str(error)[:60]})") from None


def _renamed(data, names: dict[str, str]):
    """Plain data with the tokens that captures have here."""
    if isinstance(data, dict):
        return {key: _renamed(value, names) for key, value in data.items()}
    if isinstance(data, list):
        return [_renamed(one, names) for one in data]
    return names.get(data, data) if isinstance(data, str) else data


# checking -----------------------------------------------------------------------------------------------


def check(log: JobLog, *, repair: bool = False) -> list[Trouble]:
    """What is wrong with a log: rows that cannot be read or are not what was written, captures that are gone or not what was
    kept, what nothing names. What can be put right is, with `repair`: missing checksums are written, what nothing names is
    freed; what a row or a capture said once cannot be had back but from a backup."""
    found: list[Trouble] = []
    for summary in log.jobs():
        if summary.damaged:
            found.append(Trouble(f"job {summary.id}", summary.damaged))
    troubled = log.troubled()
    if repair and any(not why for _, _, why in troubled):
        log.seal()
    for job_id, entry_id, why in troubled:
        said = Trouble("", f"{why}; it is shown as damaged") if why else Trouble("", "has no checksum yet", repair)
        found.append(replace(said, about=f"job {job_id}, entry {entry_id}"))
    named = log.kept_tokens()
    here = set(log.shelf.tokens())
    for token in sorted(one for one in named if len(one) == 32 and one not in here and not log.shelf.bring(one)):
        found.append(Trouble(f"capture {token[:12]}", "its samples are gone"))
    for token in sorted(here):
        found += _of_capture(log, token, token in named, repair=repair)
    for token in log.shelf.photos():
        found += _of_photo(log, token, token in named, repair=repair)
    return found


def _of_capture(log: JobLog, token: str, named: bool, *, repair: bool) -> list[Trouble]:
    about = f"capture {token[:12]}"
    if not named:
        return _unnamed(log, token, about, log.shelf.age_s(token), repair=repair)
    wrong = log.shelf.wrong(token)
    if wrong:
        return [Trouble(about, f"{', '.join(wrong)} is not what was kept: silent damage")]
    try:
        log.capture(token)
    except StoreError as error:
        return [Trouble(about, str(error))]
    if wrong is None:
        if repair:
            write_sums(log.shelf.folder / token)
        return [Trouble(about, "has no checksum yet", repair)]
    return []


def _of_photo(log: JobLog, token: str, named: bool, *, repair: bool) -> list[Trouble]:
    about = f"photo {token[:12]}"
    if not named:
        path = log.shelf.photo_path(token)
        age = time.time() - path.stat().st_mtime if path.exists() else float("inf")
        return _unnamed(log, token, about, age, repair=repair)
    try:
        log.shelf.photo(token)
    except StoreError as error:
        return [Trouble(about, str(error))]
    return []


def _unnamed(log: JobLog, token: str, about: str, age_s: float, *, repair: bool) -> list[Trouble]:
    if age_s < FRESH_S:
        return []
    if repair:
        log.shelf.remove(token)
    return [Trouble(about, "nothing names it", repair)]
