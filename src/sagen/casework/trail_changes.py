"""Jobs listed and read, and changes of a trail: commands. A change answers with the job as it is then."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from sagen.casework.command import Command, Queue, go_on
from sagen.model.errors import ChangedMeanwhile
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.trail import Record

if TYPE_CHECKING:
    from sagen.store.log import JobLog


@dataclass(frozen=True)
class JobsListed:
    search: str
    jobs: tuple[JobSummary, ...]


@dataclass(frozen=True)
class ListJobs(Command):
    """The jobs of the log, newest first; with `search`, those that hold all its words."""

    search: str = ""
    queue: ClassVar[Queue] = Queue.STORE

    def perform(self, log, progress=go_on) -> JobsListed:
        return JobsListed(self.search, tuple(log.jobs(self.search)))


@dataclass(frozen=True)
class Written:
    """What a change made of its job.

    Parameters
    ----------
    job : as it is now; None where it is gone
    waiting : changes that wait for a server
    why : why they do: it is away, or its disk is full
    overtaken : where somebody else changed the same entry meanwhile: nothing was written then
    """

    job: Job | None
    waiting: int = 0
    overtaken: ChangedMeanwhile | None = None
    why: str = ""

    @classmethod
    def of(cls, log: JobLog, job_id: int | None, overtaken: ChangedMeanwhile | None = None) -> Written:
        """A job as the log has it now."""
        return cls(None if job_id is None else log.job(job_id), log.waiting, overtaken, log.why_waiting)


@dataclass(frozen=True)
class ReadJob(Command):
    """A job as it is now."""

    queue: ClassVar[Queue] = Queue.STORE

    def perform(self, log: JobLog, progress=go_on) -> Job:
        return log.job(self.job_id)


@dataclass(frozen=True)
class Change(Command):
    """Base of changes: `change` does it and answers the job that it was of, None where that is gone with it."""

    queue: ClassVar[Queue] = Queue.STORE

    def change(self, log: JobLog) -> int | None:
        raise TypeError(f"{type(self).__name__} changes nothing")

    def perform(self, log: JobLog, progress=go_on) -> Written:
        try:
            job_id = self.change(log)
        except ChangedMeanwhile as error:
            return Written.of(log, self.job_id, error)
        return Written.of(log, job_id)


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
