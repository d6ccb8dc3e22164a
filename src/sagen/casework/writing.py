"""Changes of a trail as requests: each is written off the interface thread, and answers with the job as it is then."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from sagen.casework.commands import Command, go_on
from sagen.model.errors import ChangedMeanwhile, StoreError
from sagen.model.job import Entry, Job
from sagen.model.trail import Record
from sagen.store.entries import Author
from sagen.store.forgetting import forget_customer
from sagen.store.log import JobLog
from sagen.store.moving import restore
from sagen.store.opening import open_log
from sagen.store.places import place_of


@dataclass(frozen=True)
class Written:
    """What a change made of its job.

    Parameters
    ----------
    job : as it is now; None where it is gone
    waiting : changes that wait for a server that is away
    overtaken : where somebody else changed the same entry meanwhile: nothing was written then
    """

    job: Job | None
    waiting: int = 0
    overtaken: ChangedMeanwhile | None = None


@dataclass(frozen=True)
class ReadJob(Command):
    """A job as it is now."""

    quick: ClassVar[bool] = True

    def perform(self, log: JobLog, progress=go_on) -> Job:
        return log.job(self.job_id)


@dataclass(frozen=True)
class Change(Command):
    """Base of changes: `change` does it and answers the job that it was of, None where that is gone with it."""

    writes: ClassVar[bool] = True
    quick: ClassVar[bool] = True

    def change(self, log: JobLog) -> int | None:
        raise TypeError(f"{type(self).__name__} changes nothing")

    def perform(self, log: JobLog, progress=go_on) -> Written:
        try:
            job_id = self.change(log)
        except ChangedMeanwhile as error:
            return Written(log.job(self.job_id), log.waiting, error)
        return Written(None if job_id is None else log.job(job_id), log.waiting)


@dataclass(frozen=True)
class NewJob(Change):
    """A new job with what is known of it at once."""

    machine: str = ""
    owner: str = ""
    cylinders: int | None = None
    records: tuple[Record, ...] = ()

    def change(self, log: JobLog) -> int:
        job = log.add_job(self.machine, owner=self.owner, cylinders=self.cylinders)
        for record in self.records:
            log.add_entry(job.id, record)
        return job.id


@dataclass(frozen=True)
class AddEntries(Change):
    """Records at the end of a trail, in this order."""

    records: tuple[Record, ...] = ()

    def change(self, log: JobLog) -> int | None:
        for record in self.records:
            log.add_entry(self.job_id, record)
        return self.job_id


@dataclass(frozen=True)
class CorrectEntry(Change):
    """Another record in an entry's place, if the entry is still as it was seen."""

    entry: Entry | None = None
    record: Record | None = None

    def change(self, log: JobLog) -> int | None:
        log.correct(self.entry.id, self.record, self.entry.revision)
        return self.job_id


@dataclass(frozen=True)
class WithdrawEntry(Change):
    """An entry out of the evidence or back into it, if it is still as it was seen."""

    entry: Entry | None = None
    withdrawn: bool = True

    def change(self, log: JobLog) -> int | None:
        log.withdraw(self.entry.id, self.withdrawn, self.entry.revision)
        return self.job_id


@dataclass(frozen=True)
class UndoStep(Change):
    """The last change of a job taken back; with its adding, the job itself."""

    def change(self, log: JobLog) -> int | None:
        return self.job_id if log.undo(self.job_id) else None


@dataclass(frozen=True)
class RedoStep(Change):
    """What was undone last, done again; without a job, the job whose adding was undone last."""

    def change(self, log: JobLog) -> int | None:
        return log.redo(self.job_id)


# whole jobs and logs ---------------------------------------------------------------------------------------


@dataclass(frozen=True)
class DeleteJob(Command):
    """A job removed for good; answers what to tell."""

    writes: ClassVar[bool] = True

    def perform(self, log: JobLog, progress=go_on) -> str:
        name = log.job(self.job_id).machine
        log.delete_job(self.job_id)
        return f"Deleted: {name}, with its captures and photos. Backups made before still hold it."


@dataclass(frozen=True)
class ForgetCustomer(Command):
    """A customer's name removed from all jobs; answers what to tell."""

    name: str = ""
    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return "Removing a name"

    def perform(self, log: JobLog, progress=go_on) -> str:
        count = forget_customer(log, self.name)
        if not count:
            return f"{self.name} stands in no job."
        jobs = "one job" if count == 1 else f"{count} jobs"
        return f"Removed from {jobs}. File names, photos and backups may still hold the name: look there by hand."


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
            raise StoreError(f"{place.folder}: there is no such folder")
        return open_log(place, author)

    return make
