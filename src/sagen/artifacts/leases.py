"""Who may write or delete a file: a lease, held by a living process and ended by the kernel with it.

A lease is a small file beside what it is about, locked (flock) by its owner for as long as it holds it. Whoever finds it
unlocked knows that its owner is gone, and takes it over by locking it: of two that try, one does. What a lease is about is
deleted by its holder only; what has none belongs to whoever names it, a log or a person.
"""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import time
import uuid
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

LEASE, PART, CLAIM = ".lease", ".part", ".claim"
#: bytes of a lease that are read at most
MOST = 1 << 20


@dataclass
class Lease:
    """A lease that this process holds.

    Parameters
    ----------
    path : Path
        where the artifact lies once it is whole
    part : Path
        where it is written until then; `path` itself for what may be read while it grows
    meant : dict
        what is to become of it, for whoever takes it over
    """

    path: Path
    part: Path
    meant: dict
    _file: Path
    _handle: int = field(repr=False)

    @property
    def whole(self) -> bool:
        """Whether the artifact lies where it belongs."""
        return self.path.exists()

    def publish(self) -> Path:
        """The artifact is whole: under its own name from now on, and on the disk; raises OSError."""
        if self.part != self.path:
            self.part.replace(self.path)
        sync_folder(self.path.parent)
        return self.path

    def restate(self, meant: dict) -> None:
        """Say anew what is to become of it; raises OSError."""
        self.meant = meant
        _write(self._handle, self.part.name, meant)

    def commit(self) -> None:
        """The artifact belongs to whoever names it now."""
        self._file.unlink(missing_ok=True)
        self.let_go()

    def discard(self) -> None:
        """The artifact, whole or not, and the lease are gone. What another lease holds stays."""
        remove_whole(self.part)
        if not any(other != self._file for other in self.path.parent.glob(f"{self.path.name}~*{LEASE}")):
            remove_whole(self.path)
        self.commit()

    def let_go(self) -> None:
        """Hold it no longer and leave it as it is: the next one that looks takes it over."""
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1


class Leases:
    """The leases of one folder."""

    def __init__(self, folder: Path):
        self.folder = Path(folder)

    def begin(self, name: str, meant: dict | None = None, *, in_place: bool = False, suffix: str = "") -> Lease:
        """Lease what is going to be called `name`; raises OSError.

        Parameters
        ----------
        meant : dict
            plain data: what is to become of it
        in_place : bool
            it is written under its own name, since it can be read while it grows
        suffix : str
            what its passing name ends with, for writers that go by it
        """
        own = uuid.uuid4().hex[:12]
        part = name if in_place else f"{name}~{own}{PART}{suffix}"
        claim, final = self.folder / f".{own}{CLAIM}", self.folder / f"{name}~{own}{LEASE}"
        handle = os.open(claim, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        try:
            # Locked before it has its name: nobody ever sees the lease of a living process unlocked.
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            _write(handle, part, meant or {})
            claim.rename(final)
        except BaseException:
            os.close(handle)
            claim.unlink(missing_ok=True)
            raise
        return Lease(self.folder / name, self.folder / part, meant or {}, final, handle)

    def take_over(self) -> Iterator[Lease]:
        """The leases whose owners are gone, from now on held here."""
        for left in self.folder.glob(f".*{CLAIM}"):
            if (handle := _lock(left)) is not None:
                left.unlink(missing_ok=True)
                os.close(handle)
        for file in sorted(self.folder.glob(f"*~*{LEASE}")):
            handle = _lock(file)
            if handle is None:
                continue
            stem = file.name[: -len(LEASE)]
            part, meant = _read(handle)
            yield Lease(self.folder / stem.rpartition("~")[0], self.folder / (part or stem + PART), meant, file, handle)

    def held_by_others(self, name: str) -> bool:
        """Whether a living process holds what is called `name`."""
        return any(not _is_free(file) for file in self.folder.glob(f"{name}~*{LEASE}"))


def sync_folder(folder: Path) -> None:
    """The names in a folder to the disk, where the system has a call for that."""
    with suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _write(handle: int, part: str, meant: dict) -> None:
    told = json.dumps({"process": os.getpid(), "since": time.time(), "part": part, "meant": meant}).encode()
    os.ftruncate(handle, 0)
    os.pwrite(handle, told, 0)


def _read(handle: int) -> tuple[str, dict]:
    """The passing name and what was meant; "" and {} where it cannot be read: its owner was killed while it was written."""
    try:
        told = json.loads(os.pread(handle, MOST, 0))
        part, meant = told["part"], told["meant"]
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return "", {}
    sound = isinstance(part, str) and part == os.path.basename(part) and isinstance(meant, dict)
    return (part, meant) if sound else ("", {})


def _lock(file: Path) -> int | None:
    """A lease's handle, locked; None where a living process holds it, or where it is gone meanwhile."""
    try:
        handle = os.open(file, os.O_RDWR)
    except OSError:
        return None
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        # Its owner may have settled it between the two lines above.
        if os.stat(file).st_ino == os.fstat(handle).st_ino:
            return handle
    except OSError:
        pass
    os.close(handle)
    return None


def _is_free(file: Path) -> bool:
    handle = _lock(file)
    if handle is None:
        return not file.exists()
    os.close(handle)
    return True


def remove_whole(path: Path) -> None:
    """Remove a file, or a folder with all that is in it; what is not there is no matter."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        with suppress(OSError):
            path.unlink(missing_ok=True)
