"""Captures on disk: planar samples as .npy, mapped into memory, with what they are in JSON beside them.

A capture is written to a folder of its own under a passing name and renamed when it is whole, so a
crash leaves either all of it or nothing. A passing name carries the mark of the process that writes it; what a
process left behind is swept by the next one, but never what another one is still writing: each holds a lock on its
mark for as long as it lives.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import re
import shutil
import time
import uuid
from pathlib import Path

import numpy as np

from sagen.model.capture import Capture
from sagen.model.errors import StoreError

SUMS = "SHA256SUMS"
PASSING, _MARK, _PENDING = ".part", ".writing", ".pending"
TOKEN, PHOTO = re.compile(r"[0-9a-f]{32}"), re.compile(r"[0-9a-f]{64}")


class CaptureShelf:
    """Captures under one folder, by token."""

    def __init__(self, folder: Path):
        self.folder = folder
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._mark = uuid.uuid4().hex[:12]
            # Locked before it has its name: nobody ever sees a mark of a living process unlocked.
            nameless = folder / f"{self._mark}.new"
            self._lock = nameless.open("wb")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            nameless.rename(folder / (self._mark + _MARK))
            #: captures whose process ended before the log named them, with what was meant to become of them
            self.unsettled: dict[str, dict | None] = self._sweep()
            self._checked: set[str] = set()
        except OSError as error:
            raise StoreError(f"the folder {folder} cannot be used: {error.strerror or error}") from None

    def close(self) -> None:
        """Give up the mark of this process."""
        (self.folder / (self._mark + _MARK)).unlink(missing_ok=True)
        self._lock.close()

    def _sweep(self) -> dict[str, dict | None]:
        """Remove what processes that are gone left behind; answers the captures that they put here last, taken over."""
        # What is half written is listed before the marks are: its writer's mark is older than it.
        half_written = list(self.folder.glob(f"*{PASSING}"))
        pending = list(self.folder.glob(f"*{_PENDING}"))
        alive = {self._mark}
        for mark in self.folder.glob(f"*{_MARK}"):
            if mark.stem == self._mark:
                continue
            try:
                with mark.open("rb") as stream:
                    fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    mark.unlink(missing_ok=True)
            except OSError:
                alive.add(mark.stem)
        for left in half_written:
            if left.stem.rpartition(".")[2] not in alive:
                shutil.rmtree(left, ignore_errors=True)
        return dict(self._take_over(one) for one in pending if one.stem.rpartition(".")[2] not in alive)

    def _take_over(self, pending: Path) -> tuple[str, dict | None]:
        """Make another process's unsettled capture this one's: of two windows that try, one does."""
        token = pending.stem.partition(".")[0]
        try:
            meant = json.loads(pending.read_text(encoding="utf-8") or "null")
            pending.rename(self._pending(token))
        except (OSError, ValueError):
            return token, None
        return token, meant if isinstance(meant, dict) else None

    def _pending(self, token: str) -> Path:
        return self.folder / f"{token}.{self._mark}{_PENDING}"

    def settle(self, token: str) -> None:
        """The log names a capture now, or it is gone: nobody need ask again whether it does."""
        self._pending(token).unlink(missing_ok=True)

    def put(self, capture: Capture, meant: dict | None = None) -> str:
        """Keep a capture; answers its token. Until `settle` says that the log names it, the next opening finds it unsettled,
        with what it was meant for. Raises StoreError when the disk refuses."""
        token = uuid.uuid4().hex
        passing = self.folder / f"{token}.{self._mark}{PASSING}"
        try:
            passing.mkdir()
            for index, one in enumerate(capture.channels):
                with (passing / f"{index}.npy").open("wb") as stream:
                    np.save(stream, one.raw, allow_pickle=False)
                    stream.flush()
                    os.fsync(stream.fileno())
            _write_about(passing, capture)
            self._pending(token).write_text(json.dumps(meant), encoding="utf-8")
            passing.rename(self.folder / token)
            self._sync()
        except OSError as error:
            shutil.rmtree(passing, ignore_errors=True)
            self.settle(token)
            raise StoreError(f"the capture could not be kept: {error.strerror or error}") from None
        return token

    def restate(self, token: str, capture: Capture) -> None:
        """Say anew what a capture is, of the same samples, before the log names it. Raises StoreError when the disk refuses."""
        try:
            _write_about(self.folder / token, capture)
        except OSError as error:
            raise StoreError(f"the capture could not be kept: {error.strerror or error}") from None

    def _sync(self) -> None:
        """The folder itself to the disk, so that a name is there before the log names it."""
        handle = os.open(self.folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def tokens(self) -> list[str]:
        """Every capture that lies here."""
        return sorted(one.name for one in self.folder.iterdir() if one.is_dir() and TOKEN.fullmatch(one.name))

    def photos(self) -> list[str]:
        """Every photo that lies here."""
        return sorted(one.stem for one in self.photo_path("").parent.glob("*.jpg") if PHOTO.fullmatch(one.stem))

    def photo_path(self, token: str) -> Path:
        """Where a photo lies."""
        return self.folder.parent / "photos" / f"{token}.jpg"

    def bring(self, token: str) -> bool:
        """Have a capture or a photo here, where it is not yet; whether it is."""
        if PHOTO.fullmatch(token):
            return self.photo_path(token).is_file()
        return TOKEN.fullmatch(token) is not None and (self.folder / token / "capture.json").is_file()

    def age_s(self, token: str) -> float:
        """How long ago a capture was kept."""
        return time.time() - (self.folder / token).stat().st_mtime

    def wrong(self, token: str) -> list[str] | None:
        """Files of a capture that are not what they were when they were kept; None where no checksums were kept."""
        return wrong_sums(self.folder / token)

    @staticmethod
    def is_kept(path: Path) -> bool:
        """Whether a file of a capture's folder is part of it, and not only a help."""
        return path.name == SUMS or path.suffix in (".npy", ".json")

    def remove(self, token: str) -> None:
        """Free a capture or a photo that nothing names."""
        if TOKEN.fullmatch(token):
            shutil.rmtree(self.folder / token, ignore_errors=True)
            self.settle(token)
        elif PHOTO.fullmatch(token):
            self.photo_path(token).unlink(missing_ok=True)

    def put_pyramids(self, token: str, pyramids: list[tuple[np.ndarray, np.ndarray]]) -> None:
        """Keep what draws a capture quickly beside it. Only a help: a disk that refuses is no error."""
        folder = self.folder / token
        try:
            for index, (values, lengths) in enumerate(pyramids):
                passing = folder / f"{index}.pyramid{PASSING}"
                with passing.open("wb") as stream:
                    np.save(stream, values, allow_pickle=False)
                    np.save(stream, lengths, allow_pickle=False)
                passing.rename(folder / f"{index}.pyramid")
        except OSError:
            pass

    def get_pyramids(self, token: str, channels: int) -> list[tuple[np.ndarray, np.ndarray]] | None:
        """What `put_pyramids` kept, or None."""
        found = []
        try:
            for index in range(channels):
                with (self.folder / token / f"{index}.pyramid").open("rb") as stream:
                    found.append((np.load(stream, allow_pickle=False), np.load(stream, allow_pickle=False)))
        except (OSError, ValueError, EOFError):
            return None
        return found

    def put_photo(self, data: bytes) -> str:
        """Keep a photo by its content; answers its token. Raises StoreError when the disk refuses."""
        token = hashlib.sha256(data).hexdigest()
        path = self.photo_path(token)
        if path.exists():
            return token
        passing = path.with_name(f"{token}.{self._mark}{PASSING}")
        try:
            path.parent.mkdir(exist_ok=True)
            with passing.open("wb") as stream:
                stream.write(data)
                stream.flush()
                os.fsync(stream.fileno())
            passing.rename(path)
        except OSError as error:
            passing.unlink(missing_ok=True)
            raise StoreError(f"the photo could not be kept: {error.strerror or error}") from None
        return token

    def photo(self, token: str) -> bytes:
        """A photo by its token. Raises StoreError when it is gone, or is not what was kept."""
        try:
            if not PHOTO.fullmatch(token):
                raise ValueError("its token is none")
            self.bring(token)
            data = self.photo_path(token).read_bytes()
            if hashlib.sha256(data).hexdigest() != token:
                raise ValueError("it is not what was kept")
        except (OSError, ValueError) as error:
            raise StoreError(f"the photo {token[:12]} is damaged or gone ({error})") from None
        return data

    def get(self, token: str) -> Capture:
        """The capture behind a token, its samples mapped; when it is first opened its checksums are looked at.
        Raises StoreError when it is gone, broken or not what was kept."""
        folder = self.folder / token
        try:
            if not TOKEN.fullmatch(token):
                raise ValueError("its token is none")
            self.bring(token)
            if token not in self._checked:
                if wrong := wrong_sums(folder):
                    raise ValueError(f"{', '.join(wrong)[:40]} is not what was kept")
                self._checked.add(token)
            about = json.loads((folder / "capture.json").read_text(encoding="utf-8"))
            files = [folder / f"{index}.npy" for index in range(len(about["channels"]))]
            return Capture.of(about, (np.load(one, mmap_mode="r", allow_pickle=False) for one in files))
        except (OSError, ValueError, KeyError, TypeError, EOFError) as error:
            raise StoreError(f"the stored capture {token} is damaged or gone ({error})") from None


def _write_about(folder: Path, capture: Capture) -> None:
    with (folder / "capture.json").open("w", encoding="utf-8") as stream:
        json.dump(capture.about(), stream)
        stream.flush()
        os.fsync(stream.fileno())
    write_sums(folder)


def sum_of(path: Path) -> str:
    """The SHA-256 of a file."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def write_sums(folder: Path) -> None:
    """Keep the checksums of a capture's files beside them, in the form that `sha256sum -c` reads."""
    names = sorted(one.name for one in folder.iterdir() if one.suffix in (".npy", ".json"))
    with (folder / SUMS).open("w", encoding="ascii") as stream:
        stream.writelines(f"{sum_of(folder / one)}  {one}\n" for one in names)
        stream.flush()
        os.fsync(stream.fileno())


def wrong_sums(folder: Path) -> list[str] | None:
    """Files of a capture that are not what they were when they were kept; None where no checksums were kept."""
    try:
        lines = (folder / SUMS).read_text(encoding="ascii").splitlines()
    except (OSError, UnicodeDecodeError):
        return None
    wrong = []
    for line in lines:
        said, _, name = line.partition("  ")
        path = folder / Path(name).name
        try:
            if sum_of(path) != said:
                wrong.append(name)
        except OSError:
            wrong.append(name)
    return wrong
