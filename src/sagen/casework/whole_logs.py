"""Whole jobs and logs: moved, shared, checked, cleaned: commands."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from sagen.artifacts.atomic import write_whole
from sagen.casework.command import Command, Queue, WritingCommand, go_on
from sagen.casework.words import entry_text
from sagen.model.errors import StoreError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.store.codecs import decode
from sagen.store.entries import Author
from sagen.store.forgetting import forget_customer
from sagen.store.moving import backup, check, export_job, import_job, restore
from sagen.store.opening import open_log
from sagen.store.outbox import DeadLetter
from sagen.store.places import place_of

if TYPE_CHECKING:
    from sagen.store.log import JobLog


@dataclass(frozen=True)
class ExportJob(Command):
    """A job as a zip that another log can import."""

    path: Path

    @property
    def doing(self) -> str:
        return tr("Exporting to {name}", name=self.path.name)

    def perform(self, log, progress=go_on) -> str:
        export_job(log, self.job_id, self.path)
        return tr("Exported: {path}", path=self.path)


@dataclass(frozen=True)
class ImportJob(WritingCommand):
    """A job from a zip, as a new job; answers it."""

    path: Path

    @property
    def doing(self) -> str:
        return tr("Importing {name}", name=self.path.name)

    def perform(self, log, progress=go_on) -> Job:
        return import_job(log, self.path)


@dataclass(frozen=True)
class BackUp(Command):
    """The whole log as a zip, while it is in use."""

    path: Path

    @property
    def doing(self) -> str:
        return tr("Backing up to {name}", name=self.path.name)

    def perform(self, log, progress=go_on) -> str:
        backup(log, self.path)
        return tr("Backed up: {path}", path=self.path)


@dataclass(frozen=True)
class CheckLog(WritingCommand):
    """What is wrong with the log, in words; what can be put right is."""

    @property
    def doing(self) -> str:
        return tr("Checking the log")

    def perform(self, log, progress=go_on) -> str:
        found = check(log, repair=True)
        if not found:
            return tr("Nothing is wrong with this log.")
        told = "; ".join(
            tr(
                "{about}: {what}{repaired}",
                about=item.about,
                what=item.what,
                repaired=tr(" (put right)") if item.repaired else "",
            )
            for item in found[:6]
        )
        return told + (
            tr("; and {found} more: `sagen log check` lists them", found=len(found) - 6) if len(found) > 6 else ""
        )


@dataclass(frozen=True)
class DeleteJob(WritingCommand):
    """A job removed for good; answers what to tell."""

    def perform(self, log: JobLog, progress=go_on) -> str:
        name = log.job(self.job_id).machine
        log.delete_job(self.job_id)
        return tr("Deleted: {name}, with its captures and photos. Backups made before still hold it.", name=name)


@dataclass(frozen=True)
class ForgetCustomer(WritingCommand):
    """A customer's name removed from all jobs; answers what to tell."""

    name: str = ""

    @property
    def doing(self) -> str:
        return tr("Removing a name")

    def perform(self, log: JobLog, progress=go_on) -> str:
        count = forget_customer(log, self.name)
        if not count:
            return tr("{name} stands in no job.", name=self.name)
        jobs = tr("one job") if count == 1 else tr("{count} jobs", count=count)
        return tr(
            "Removed from {jobs}. File names, photos and backups may still hold the name: look there by hand.",
            jobs=jobs,
        )


def restored_log(path: Path, folder: Path, author: Author | None = None) -> Callable[[object], JobLog]:
    """Makes a log of a backup in a new place and opens it, when it is called."""

    def make(_task: object) -> JobLog:
        restore(path, folder)
        return open_log(folder, author)

    return make


def other_log(name: str, author: Author | None = None) -> Callable[[object], JobLog]:
    """Opens the log that a folder or a URL names, when it is called."""

    def make(_task: object) -> JobLog:
        place = place_of(name)
        if not place.on_server and not place.folder.is_dir():
            raise StoreError(tr("{folder}: there is no such folder", folder=place.folder))
        return open_log(place, author)

    return make


# what can never be sent ---------------------------------------------------------------------------------------


def letter_text(letter: DeadLetter) -> str:
    """What a change that can never be sent was, in a few words."""
    item = letter.item
    written = item.get("add") or item.get("values") or {}
    if "data" in written:
        return entry_text(decode(written["kind"], written["version"], written["data"]))
    return tr("withdrawn") if written.get("withdrawn") else tr("put back")


@dataclass(frozen=True)
class ListLetters(Command):
    """The changes that can never be sent to the server, oldest first."""

    queue: ClassVar[Queue] = Queue.STORE

    def perform(self, log: JobLog, progress=go_on) -> list[DeadLetter]:
        return log.dead_letters()


@dataclass(frozen=True)
class DropLetters(WritingCommand):
    """Drop changes that can never be sent; answers what to tell."""

    numbers: tuple[int, ...] = ()
    queue: ClassVar[Queue] = Queue.STORE

    def perform(self, log: JobLog, progress=go_on) -> str:
        for number in self.numbers:
            log.drop_dead_letter(number)
        return (
            tr("Dropped: one change.")
            if len(self.numbers) == 1
            else tr("Dropped: {numbers} changes.", numbers=len(self.numbers))
        )


@dataclass(frozen=True)
class ExportLetters(Command):
    """The changes that can never be sent as a JSON file; answers what to tell."""

    path: Path

    def perform(self, log: JobLog, progress=go_on) -> str:
        rows = [{"why": letter.why, "since": letter.since, "change": letter.item} for letter in log.dead_letters()]
        write_whole(self.path, json.dumps(rows, indent=1).encode())
        return tr("Written: {path}", path=self.path)
