"""Opens a job log: finds its place, brings it up to date, and gives it the folder of files that is its own."""

from __future__ import annotations

import json
import os
import shutil
from contextlib import suppress
from importlib import import_module
from pathlib import Path

from sagen.artifacts.atomic import write_whole
from sagen.artifacts.leases import Leases
from sagen.model.errors import CaptureFileError, StoreError
from sagen.model.language import tr
from sagen.store.captures import TOKEN, CaptureStore
from sagen.store.database import Database, alone
from sagen.store.entries import Author, named_tokens
from sagen.store.log import JobLog
from sagen.store.places import LogPlace, place_of
from sagen.store.sqlite import SqliteDatabase

FILES, BOUND = "files-", "LOG.json"


def open_log(
    place: LogPlace | str | os.PathLike | None = None, author: Author | None = None, *, outbox: bool = True
) -> JobLog:
    """The log of a place: a folder, a URL, or the user's own where none is named.

    Parameters
    ----------
    outbox : bool
        what is written while a server is away waits here; else it is refused

    Raises
    ------
    StoreError
        with what is wrong; nothing is changed then.
    """
    place = place if isinstance(place, LogPlace) else place_of(place)
    try:
        place.folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise StoreError(
            tr("the folder {folder} cannot be used: {strerror}", folder=place.folder, strerror=error.strerror or error)
        ) from None
    database: Database | None = None
    captures: CaptureStore | None = None
    try:
        if not place.on_server:
            database = SqliteDatabase(place)
            captures = CaptureStore(_own_files(database))
            return JobLog(database, captures, author)
        # A back end of its own: what it takes to speak with a server is loaded for a log on one only.
        server = import_module("sagen.store.postgres")
        database = server.PostgresDatabase(place)
        captures = import_module("sagen.store.server_captures").ServerCaptures(_own_files(database), database.engine)
        kind = import_module("sagen.store.outbox_log").OutboxLog if outbox else server.PostgresLog
        return kind(database, captures, author)
    except Exception:
        if captures is not None:
            captures.close()
        if database is not None:
            database.close()
        raise


def _own_files(database: Database) -> Path:
    """The folder of a log's files, by its identity. A database that was copied within its folder is another log; an older
    log's files are taken along."""
    place = database.place
    try:
        with alone(place):
            root = _root(database)
            if not place.on_server and _bound_elsewhere(root, place):
                before, root = root, None
                database.new_identity()
                root = _root(database)
                root.mkdir()
                _link_named(database, before, root)
            fresh = not root.exists()
            root.mkdir(exist_ok=True)
            if not place.on_server:
                write_whole(root / BOUND, json.dumps({"database": place.file.name}).encode())
            if fresh:
                _take_along(database, place.folder, root)
            return root
    except (OSError, CaptureFileError) as error:
        raise StoreError(
            tr(
                "the folder {folder} cannot be used: {error}",
                folder=place.folder,
                error=getattr(error, "strerror", None) or error,
            )
        ) from None


def _root(database: Database) -> Path:
    return database.place.folder / f"{FILES}{database.identity[:16]}"


def _bound_elsewhere(root: Path, place: LogPlace) -> bool:
    """Whether a folder of files is another database's that stands beside this one."""
    try:
        name = json.loads((root / BOUND).read_text(encoding="utf-8"))["database"]
    except (OSError, ValueError, KeyError, TypeError):
        return False
    other = place.folder / Path(str(name)).name
    return other.name != place.file.name and other.is_file()


def _take_along(database: Database, folder: Path, root: Path) -> None:
    """The files of a log of before logs had an identity. Where several databases stand in one folder, each takes what it
    names, and what stood there stays for the others."""
    others = [
        file
        for file in folder.glob("*.sqlite")
        if not database.place.on_server and file.name != database.place.file.name
    ]
    others = [file for file in others if file.name != "outbox.sqlite"]
    for name in ("captures", "photos", "records"):
        before = folder / name
        if not before.is_dir():
            continue
        if others and name != "records":
            continue
        with suppress(OSError):
            (root / name).rmdir()
        if not (root / name).exists():
            before.rename(root / name)
    if others:
        _link_named(database, folder, root)
    _lease_what_was_pending(root / "captures")


def _link_named(database: Database, before: Path, root: Path) -> None:
    """Every capture and photo that a log names, from where it lay: the same files under a second name, copied where the disk
    knows no such thing."""
    with database.work() as session:
        named = named_tokens(session)
    for name in ("captures", "photos"):
        (root / name).mkdir(exist_ok=True)
    for token in named:
        source, target = before / "captures" / token, root / "captures" / token
        if TOKEN.fullmatch(token) and source.is_dir() and not target.exists():
            shutil.copytree(source, target, copy_function=_link)
        photo = before / "photos" / f"{token}.jpg"
        if photo.is_file() and not (root / "photos" / photo.name).exists():
            _link(photo, root / "photos" / photo.name)


def _link(source: str | Path, target: str | Path) -> None:
    try:
        os.link(source, target)
    except OSError:
        shutil.copy2(source, target)


def _lease_what_was_pending(folder: Path) -> None:
    """What an older Sagen was keeping when it ended: leased to nobody, so that this opening finds it; its passing files go."""
    for pending in folder.glob("*.pending"):
        token = pending.name.partition(".")[0]
        meant = {}
        with suppress(OSError, ValueError, RecursionError):
            meant = json.loads(pending.read_text(encoding="utf-8") or "null")
        Leases(folder).begin(token, meant if isinstance(meant, dict) else {}).let_go()
        pending.unlink(missing_ok=True)
    for left in (*folder.glob("*.part"), *folder.glob("*.writing"), *folder.glob("*.new")):
        shutil.rmtree(left, ignore_errors=True)
        left.unlink(missing_ok=True) if left.is_file() else None
