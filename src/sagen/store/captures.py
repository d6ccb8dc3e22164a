"""Captures and photos on disk: planar samples as .npy, mapped into memory, with what they are in JSON beside them.

What is being kept is leased (`sagen.artifacts.leases`): a capture is written under a passing name and renamed when it is whole,
and its lease ends when the log names it. So a crash leaves either all of it or nothing, and what a dead process left is
found by its lease, with what it was meant for, and never taken from one that lives.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import threading
from contextlib import suppress
from pathlib import Path

import numpy as np

from sagen.artifacts.leases import Lease, Leases, sync_folder
from sagen.model import strict_json
from sagen.model.capture import Capture
from sagen.model.errors import StoreError
from sagen.model.language import tr

SUMS = "SHA256SUMS"
TOKEN, PHOTO = re.compile(r"[0-9a-f]{32}"), re.compile(r"[0-9a-f]{64}")


class CaptureStore:
    """The captures, photos and running recordings of one log, under a folder of its own."""

    def __init__(self, root: Path):
        self.folder, self.photo_folder, self.record_folder = (root / name for name in ("captures", "photos", "records"))
        try:
            for folder in (self.folder, self.photo_folder, self.record_folder):
                folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise StoreError(
                tr("the folder {root} cannot be used: {strerror}", root=root, strerror=error.strerror or error)
            ) from None
        self._captures, self._photos = Leases(self.folder), Leases(self.photo_folder)
        self._lock = threading.Lock()
        self._held: dict[str, Lease] = {}  #: what was put here and the log does not name yet
        self._checked: set[str] = set()

    def close(self) -> None:
        """Hold nothing any more: the next opening settles what the log did not come to name."""
        with self._lock:
            for lease in self._held.values():
                lease.let_go()
            self._held.clear()

    # leases -------------------------------------------------------------------------------

    def take_over(self) -> dict[str, dict]:
        """What dead processes left: half written things are removed; whole ones are held here from now on, by token with
        what they were meant for."""
        found = {}
        for leases, suffix in ((self._captures, ""), (self._photos, ".jpg")):
            for lease in leases.take_over():
                token = lease.path.name.removesuffix(suffix) if suffix else lease.path.name
                if not lease.whole or not (TOKEN.fullmatch(token) or PHOTO.fullmatch(token)):
                    lease.discard()
                    continue
                self._hold(token, lease)
                found[token] = lease.meant
        return found

    def _hold(self, token: str, lease: Lease) -> None:
        with self._lock:
            before, self._held[token] = self._held.get(token), lease
        if before is not None:
            before.commit()

    def commit(self, token: str) -> None:
        """The log names it now, or it is gone: nobody need ask again whether it does."""
        with self._lock:
            lease = self._held.pop(token, None)
        if lease is not None:
            lease.commit()

    def is_held(self, token: str) -> bool:
        """Whether a living process is just about to have the log name it."""
        with self._lock:
            if token in self._held:
                return True
        return (
            self._photos.held_by_others(f"{token}.jpg")
            if PHOTO.fullmatch(token)
            else self._captures.held_by_others(token)
        )

    def begin_record(self, name: str, meant: dict) -> Lease:
        """A folder for a recording that grows on disk; raises StoreError where the disk refuses."""
        try:
            return Leases(self.record_folder).begin(name, meant, in_place=True)
        except OSError as error:
            raise StoreError(
                tr(
                    "no recording can be kept in {record_folder}: {strerror}",
                    record_folder=self.record_folder,
                    strerror=error.strerror or error,
                )
            ) from None

    def left_records(self) -> list[Lease]:
        """The recordings whose process is gone, oldest first, held here from now on; and what nobody holds at all."""
        leases = Leases(self.record_folder)
        found = list(leases.take_over())
        known = {lease.path for lease in found}
        for folder in sorted(self.record_folder.glob("*.record")):
            if folder not in known and not list(self.record_folder.glob(f"{folder.name}~*")):  # of an older Sagen
                found.append(leases.begin(folder.name, {}, in_place=True))
        return sorted(found, key=lambda lease: lease.path.name)

    def send(self, session, tokens: set[str]) -> set[str]:
        """Have captures and photos where the log's database is, within `session`'s transaction; answers them."""
        return tokens

    # captures -----------------------------------------------------------------------------

    def put(self, capture: Capture, meant: dict | None = None) -> str:
        """Keep a capture; answers its token. It is held until `commit` says that the log names it; a later opening finds it
        with what it was meant for. Raises StoreError when the disk refuses."""
        token = os.urandom(16).hex()
        lease = None
        try:
            lease = self._captures.begin(token, meant)
            lease.part.mkdir()
            for index, channel in enumerate(capture.channels):
                with (lease.part / f"{index}.npy").open("wb") as stream:
                    np.save(stream, channel.raw, allow_pickle=False)
                    stream.flush()
                    os.fsync(stream.fileno())
            _write_about(lease.part, capture)
            lease.publish()
        except OSError as error:
            if lease is not None:
                lease.discard()
            raise StoreError(
                tr("the capture could not be kept: {strerror}", strerror=error.strerror or error)
            ) from None
        self._hold(token, lease)
        return token

    def restate(self, token: str, capture: Capture) -> None:
        """Say anew what a capture is, of the same samples, before the log names it. Raises StoreError when the disk refuses."""
        try:
            _write_about(self.folder / token, capture)
        except OSError as error:
            raise StoreError(
                tr("the capture could not be kept: {strerror}", strerror=error.strerror or error)
            ) from None

    def tokens(self) -> list[str]:
        """Every capture that lies here."""
        return sorted(path.name for path in self.folder.iterdir() if path.is_dir() and TOKEN.fullmatch(path.name))

    def photos(self) -> list[str]:
        """Every photo that lies here."""
        return sorted(path.stem for path in self.photo_folder.glob("*.jpg") if PHOTO.fullmatch(path.stem))

    def photo_path(self, token: str) -> Path:
        """Where a photo lies."""
        return self.photo_folder / f"{token}.jpg"

    def bring(self, token: str) -> bool:
        """Have a capture or a photo here, where it is not yet; whether it is."""
        if PHOTO.fullmatch(token):
            return self.photo_path(token).is_file()
        return TOKEN.fullmatch(token) is not None and (self.folder / token / "capture.json").is_file()

    def wrong(self, token: str) -> list[str] | None:
        """Files of a capture that are not what they were when they were kept; None where no checksums were kept."""
        return wrong_sums(self.folder / token)

    @staticmethod
    def is_kept(path: Path) -> bool:
        """Whether a file of a capture's folder is part of it, and not only a help."""
        return path.name == SUMS or path.suffix in (".npy", ".json")

    def remove(self, token: str) -> None:
        """Free a capture or a photo that nothing names; one that a living process is about to name stays."""
        with self._lock:
            lease = self._held.pop(token, None)
        if lease is not None:
            lease.discard()
        elif not self.is_held(token) and (TOKEN.fullmatch(token) or PHOTO.fullmatch(token)):
            leases, name = (self._photos, f"{token}.jpg") if PHOTO.fullmatch(token) else (self._captures, token)
            with suppress(OSError):
                leases.begin(name).discard()

    def put_pyramids(self, token: str, pyramids: list[tuple[np.ndarray, np.ndarray]]) -> None:
        """Keep what draws a capture quickly beside it. Only a help: a disk that refuses is no error."""
        folder = self.folder / token
        for index, (values, lengths) in enumerate(pyramids):
            passing = folder / f"{index}.pyramid.{os.getpid()}"
            try:
                with passing.open("wb") as stream:
                    np.save(stream, values, allow_pickle=False)
                    np.save(stream, lengths, allow_pickle=False)
                passing.rename(folder / f"{index}.pyramid")
            except OSError:
                passing.unlink(missing_ok=True)
                return

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

    def get(self, token: str) -> Capture:
        """The capture behind a token; when it is first opened its checksums are looked at. Its samples are read, not mapped: a
        file that is cut while it is mapped, by a failing disk or on a share, would end the process.

        Raises
        ------
        StoreError
            when it is gone, broken or not what was kept.
        """
        folder = self.folder / token
        try:
            if not TOKEN.fullmatch(token):
                raise ValueError(tr("its token is none"))
            self.bring(token)
            if token not in self._checked:
                if wrong := wrong_sums(folder):
                    raise ValueError(tr("{wrong} is not what was kept", wrong=", ".join(wrong)[:40]))
                self._checked.add(token)
            about = strict_json.loads((folder / "capture.json").read_text(encoding="utf-8"))
            files = [folder / f"{index}.npy" for index in range(len(about["channels"]))]
            return Capture.of(about, (np.load(file, allow_pickle=False) for file in files))
        except (OSError, ValueError, KeyError, TypeError, EOFError) as error:
            raise StoreError(
                tr("the stored capture {token} is damaged or gone ({error})", token=token, error=error)
            ) from None

    # photos -------------------------------------------------------------------------------

    def put_photo(self, data: bytes) -> str:
        """Keep a photo by its content, held as a capture is; answers its token. Raises StoreError when the disk refuses."""
        token = hashlib.sha256(data).hexdigest()
        lease = None
        try:
            lease = self._photos.begin(f"{token}.jpg")
            if not lease.whole:
                with lease.part.open("wb") as stream:
                    stream.write(data)
                    stream.flush()
                    os.fsync(stream.fileno())
                lease.publish()
        except OSError as error:
            if lease is not None:
                lease.discard()
            raise StoreError(tr("the photo could not be kept: {strerror}", strerror=error.strerror or error)) from None
        self._hold(token, lease)
        return token

    def photo(self, token: str) -> bytes:
        """A photo by its token. Raises StoreError when it is gone, or is not what was kept."""
        try:
            if not PHOTO.fullmatch(token):
                raise ValueError(tr("its token is none"))
            self.bring(token)
            data = self.photo_path(token).read_bytes()
            if hashlib.sha256(data).hexdigest() != token:
                raise ValueError(tr("it is not what was kept"))
        except (OSError, ValueError) as error:
            raise StoreError(
                tr("the photo {token} is damaged or gone ({error})", token=token[:12], error=error)
            ) from None
        return data


def _write_about(folder: Path, capture: Capture) -> None:
    with (folder / "capture.json").open("w", encoding="utf-8") as stream:
        json.dump(capture.about(), stream)
        stream.flush()
        os.fsync(stream.fileno())
    write_sums(folder)
    sync_folder(folder)


def sum_of(path: Path) -> str:
    """The SHA-256 of a file."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def write_sums(folder: Path) -> None:
    """Keep the checksums of a capture's files beside them, in the form that `sha256sum -c` reads."""
    names = sorted(path.name for path in folder.iterdir() if path.suffix in (".npy", ".json"))
    with (folder / SUMS).open("w", encoding="ascii") as stream:
        stream.writelines(f"{sum_of(folder / name)}  {name}\n" for name in names)
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
