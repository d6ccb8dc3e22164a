"""One opened log: the only owner of what changes. Typed commands in, typed events out.

Everything here is called on one thread, the owner's; work is done on the queues' threads, and its answers come back through
`post`. Each event names the workspace and the job that it is of: what is of another workspace can be told, and never applied.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from sagen.casework.captures import BringIn, Export, FinishKeeping, Keep, OpenEntry
from sagen.casework.command import Queue
from sagen.casework.examination import Incoming
from sagen.casework.lessons import ShopLessons
from sagen.casework.live import sheet_for
from sagen.casework.open_capture import OpenCapture
from sagen.casework.shelf import KeepPhoto
from sagen.casework.shop import LearnFromShop
from sagen.casework.trail_changes import (
    AddEntries,
    Change,
    CorrectEntry,
    JobsListed,
    ListJobs,
    NewJob,
    ReadJob,
    RedoStep,
    UndoStep,
    WithdrawEntry,
    Written,
)
from sagen.casework.weigh_job import Weigh, Weighed, taken_again
from sagen.files.photos import PHOTO_FILES
from sagen.model.errors import ChangedMeanwhile
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CircuitEntry, NoteEntry, Record
from sagen.model.vocabulary import CHOSEN_GEAR, EntryKind, Gear, Strategy
from sagen.model.words import step_words
from sagen.store.log import JobLog
from sagen.workspace.events import (
    Announcer,
    CaptureOpened,
    Event,
    ImportLeft,
    ImportRead,
    JobChanged,
    JobsChanged,
    JobWeighed,
    LettersChanged,
    Overtaken,
    RecordingsChanged,
    Said,
    Working,
)
from sagen.workspace.held_recordings import HeldRecordings
from sagen.workspace.imports import Import, ImportQueue
from sagen.workspace.queues import Post, Queues, Task
from sagen.workspace.recordings import LeftRecording, Recording
from sagen.workspace.work import Work

#: s that a weighing waits, so that of quick changes only the last is weighed
DEBOUNCE = 0.08


class Workspace:
    """An opened log with its identity, the open job, running recordings, imports and what waits.

    Parameters
    ----------
    log : JobLog
        owned by the workspace from now on: `close` closes it
    post : callable
        has a callable run on the owner's thread, later and in order
    """

    def __init__(self, log: JobLog, post: Post):
        self.identity = f"{log.identity[:12]}-{uuid.uuid4().hex[:8]}"
        self.log, self.events = log, Announcer()
        self.queues = Queues(post)
        self.imports = ImportQueue()
        self.job: Job | None = None
        self.opened: OpenCapture | None = None
        #: which job of the log was the last on the desk, where that is remembered; asked once the log is open
        self.last_job: Callable[[], int | None] = lambda: None
        self.last_weighed: Weighed | None = None
        #: what is being weighed, and what `last_weighed` is of: the same is not weighed twice
        self._weighing: Weigh | None = None
        self._weighed: Weigh | None = None
        self.circuit = ""  #: which of a job's several circuits is worked on
        self.gear: tuple[Gear, ...] = CHOSEN_GEAR
        self.strategy = Strategy.MOST
        self.record: ShopLessons | None = None  #: what the shop's own jobs taught
        self.record_counts = True
        self._post, self._search = post, ""
        self.work = Work(
            log, self.queues, self._failed, lambda what, share: self._tell(Working, what=what, share=share)
        )
        self.submit, self.compute = self.work.submit, self.work.compute
        self.held = HeldRecordings(self.work, self.say, self._failed, lambda job: self._tell(RecordingsChanged, job))
        self._reading: Task | None = None
        self._letters = 0

    # announcing -------------------------------------------------------------------------------

    def _tell(self, kind: type[Event], job: int | None = None, **what) -> None:
        self.events.announce(kind(self.identity, job, **what))

    def say(self, words: str, *, wrong: bool = False) -> None:
        """Have something said to the person."""
        self._tell(Said, self.job.id if self.job else None, words=words, wrong=wrong)

    # doing ------------------------------------------------------------------------------------

    @property
    def retired(self) -> bool:
        """Whether another workspace took its place: nothing of it is applied any more."""
        return self.work.retired

    def _failed(self, why: str) -> None:
        self.say(why, wrong=True)

    def stop_work(self) -> None:
        """The user pressed Stop: it stops what is shown as being done, and nothing else."""
        task = self.work.stop_shown()
        if task is not None and self._reading is task:
            self._reading = None
            self._import_failed("stopped")

    # beginning and end --------------------------------------------------------------------------

    def begin(self, jobs: list[JobSummary]) -> None:
        """Show the log as it was opened; `jobs` were listed with it."""
        self.log.follow(lambda job_id: self._post(lambda: self._changed_elsewhere(job_id)))
        if self.log.unfinished:
            self.submit(FinishKeeping(None), self._finished_keeping)
        self.held.look_for_left()
        self._tell(JobsChanged, listed=JobsListed("", tuple(jobs)))
        self._look_at_letters()
        if jobs:
            last = self.last_job()
            self.open_job(last if last in {job.id for job in jobs} else jobs[0].id, open_capture=True)
        else:
            self._tell(JobChanged, open=None)
        self._next_import()

    def _finished_keeping(self, said: str) -> None:
        self.say(said)
        self.list_jobs()
        self.reload()

    @property
    def blocks_closing(self) -> bool:
        """Whether anything is being done that would be lost otherwise."""
        return self.queues.blocks_closing

    def retire(self) -> None:
        """Another workspace takes its place, or the window closes: what only looks is stopped, recordings end and are kept,
        what is being written goes on to its end. Call `close` once nothing blocks it."""
        if self.retired:
            return
        self.held.end_kept()
        names = self.imports.give_up()
        if names:
            self.say(tr("Not brought in: {names}.", names=", ".join(names)), wrong=True)
        self.work.retire()

    def close(self) -> None:
        """Let what is being written come to its end, and close the log."""
        self.retire()
        self.queues.finish()
        self.held.let_go()
        self.log.close()

    # the log ------------------------------------------------------------------------------------

    def list_jobs(self, search: str | None = None) -> None:
        """List the jobs anew, as they were searched last where no words are given."""
        if search is not None:
            self._search = search
        self.submit(ListJobs(None, self._search), lambda listed: self._tell(JobsChanged, listed=listed), slot="jobs")

    def _changed_elsewhere(self, job_id: int | None) -> None:
        """Another window changed the log: show it."""
        if self.retired:
            return
        self.list_jobs()
        self.learn()
        self._look_at_letters()
        if self.job is None or job_id not in (None, self.job.id):
            return

        def show(job: Job) -> None:
            if self.job is not None and job.id == self.job.id and job != self.job:
                self.job = job
                self._announce()
                if not self.blocks_closing:
                    self.say(tr("This job was changed in another window: it is shown as it is now."))

        self._read_again(show)

    def _read_again(self, show: Callable[[Job], None]) -> None:
        """Read the open job anew; where it was deleted elsewhere, it is left, if it is still the one on the desk then."""
        job = self.job

        def gone(why: str) -> None:
            if tr("there is no job {job_id}", job_id=job.id) not in why:
                self._failed(why)
            elif self.job is not None and self.job.id == job.id:
                self.say(tr("{machine} was deleted elsewhere.", machine=job.machine))
                self.leave_job()

        # Not in the slot of a job that a person opens: what they asked for is never dropped for it.
        self.submit(ReadJob(job.id), show, slot="again", failed=gone)

    def _look_at_letters(self) -> None:
        """Tell of changes that can never be sent, once there are more than before."""

        def count(found: int) -> None:
            before, self._letters = self._letters, found
            if found != before:
                self._tell(LettersChanged, count=found)
            if found > before:
                changes = tr("One change") if found == 1 else tr("{found} changes", found=found)
                self.say(
                    tr(
                        "{changes} can never be sent to the server: see Job and log, What could not be sent.",
                        changes=changes,
                    ),
                    wrong=True,
                )

        self.queues.submit(lambda _task: len(self.log.dead_letters()), queue=Queue.STORE, done=count)

    # the job ------------------------------------------------------------------------------------

    def open_job(self, job_id: int, *, open_capture: bool = False, then: Callable | None = None) -> None:
        """Put a job on the desk; with `open_capture`, its last capture on the bench. `then` is called once it is there."""

        def show(job: Job) -> None:
            self._leave()
            self.job = job
            self._announce()
            self.learn()
            captures = job.of(CaptureEntry)
            if open_capture and captures:
                self.open_entry(captures[-1])
            if then is not None:
                then()

        self.submit(ReadJob(job_id), show, slot="job")

    def leave_job(self) -> None:
        """No job is on the desk any more."""
        self._leave()
        self.job = None
        self._announce()

    def _leave(self) -> None:
        """What is still being looked at belongs to the job that is left."""
        self.work.drop("bench", "weighing")
        self.opened, self._weighing = None, None

    def add_job(
        self, machine: str, owner: str, cylinders: int | None, records: list[Record],
        then: Callable | None = None, failed: Callable[[str], None] | None = None,
    ) -> None:  # fmt: skip
        """A new job, put on the desk; `then` is called once it is, `failed` with why it could not be."""

        def show(written: Written) -> None:
            self._leave()
            self.job = written.job
            self.list_jobs()
            self._announce()
            self.learn()
            if then is not None:
                then()

        self.submit(NewJob(None, machine, owner, cylinders, tuple(records)), show, failed=failed)

    def reload(self) -> None:
        """Read the job again and weigh its evidence anew."""

        def show(job: Job) -> None:
            if self.job is not None and job.id == self.job.id:
                self.job = job
                self._announce()

        if self.job is None:
            self._announce()
        else:
            self._read_again(show)

    def add(self, *records: Record, then: Callable | None = None, job: int | None = None) -> None:
        """Put records on a trail, the open job's where none is named; `then` is called once they are, if it is open then."""
        job = self.job.id if job is None else job
        weighed = self.last_weighed
        if weighed is not None and weighed.job_id == job:
            records = tuple(taken_again(record, weighed) for record in records)
        self._write(AddEntries(job, records), then=then)

    def add_worked_out(
        self, work: Callable[[], Record], otherwise: Record, *, job: int, then: Callable | None = None,
        made: Callable[[Record], None] | None = None,
    ) -> None:  # fmt: skip
        """Put a record on a trail that is worked out first, off the owner's thread; `otherwise` where that fails. `made` is
        told which one it is."""

        def add(record: Record) -> None:
            self.add(record, job=job, then=then)
            if made is not None and not self.retired:
                made(record)

        self.queues.submit(
            lambda _task: work(),
            always_delivers=True,
            blocks_closing=True,
            done=add,
            failed=lambda _why: add(otherwise),
        )

    def correct(self, entry: Entry, record: Record, *, job: int | None = None) -> None:
        """Put another record in an entry's place, on the open job's trail where no job is named."""
        self._write(CorrectEntry(self.job.id if job is None else job, entry, record), entry)

    def withdraw(self, entry: Entry, withdrawn: bool) -> None:
        self._write(WithdrawEntry(self.job.id, entry, withdrawn), entry)

    def undo(self) -> None:
        """Take back the last change of the job that is open; with its adding, the job itself."""
        if self.job is not None:
            self._say_after(UndoStep(self.job.id), tr("Taken back: {what}."), self.log.can_undo(self.job.id))

    def redo(self) -> None:
        if self.job is not None:
            self._say_after(RedoStep(self.job.id), tr("Done again: {what}."), self.log.can_redo(self.job.id))
            return

        def show(written: Written) -> None:
            if written.job is not None:
                self.list_jobs()
                self.open_job(written.job.id, open_capture=True)

        self.submit(RedoStep(None), show)

    def _say_after(self, change: Change, words: str, step: str | None) -> None:
        """Have a step taken back or done again, and say which it was."""
        self._write(change, then=lambda: self.say(words.format(what=step_words(step))) if step else None)

    def _write(self, change: Change, entry: Entry | None = None, then: Callable | None = None) -> None:
        """Have a change of a job written; what it is then is shown, if it is open."""
        before = self.job

        def show(written: Written) -> None:
            if written.waiting:
                changes = (
                    tr("One change waits")
                    if written.waiting == 1
                    else tr("{waiting} changes wait", waiting=written.waiting)
                )
                self.say(
                    tr(
                        "The server {why}: {changes} here, and will be sent when it takes them.",
                        why=written.why,
                        changes=changes,
                    )
                )
            else:
                self._look_at_letters()
            if self.job is None or self.job.id != change.job_id:
                if written.job is not None:
                    self.say(tr("Kept in the job {machine}.", machine=written.job.machine))
                self.list_jobs()
                return
            if written.job is None:
                self._leave()
                self.say(tr("The job {machine} is taken back; Redo brings it again.", machine=self.job.machine))
                self.job = None
                self.list_jobs()
            else:
                self.job = written.job
            entries = (*(before.entries if before else ()), *(self.job.entries if self.job else ()))
            if any(entry.kind == EntryKind.REPAIR for entry in entries):
                self.learn()
            self._announce()
            if written.overtaken is not None:
                self._overtaken(written.overtaken, entry)
            elif then is not None:
                then()

        def refused(why: str) -> None:
            self._failed(why)
            self.reload()

        self.submit(change, show, failed=refused)

    def _overtaken(self, error: ChangedMeanwhile, entry: Entry | None) -> None:
        self._tell(Overtaken, self.job.id if self.job else None, error=error, entry=entry)

    def learn(self) -> None:
        """Draw the lessons of the shop's own jobs anew, where any changed; what is weighed then is weighed with them."""

        def show(record: ShopLessons) -> None:
            changed = record.by_job != (self.record.by_job if self.record is not None else {})
            self.record = record
            if changed and self.record_counts:
                self.reweigh()

        self.submit(LearnFromShop(None, self.record), show, slot="record")

    def _announce(self) -> None:
        self._tell(JobChanged, self.job.id if self.job else None, open=self.job)
        self.reweigh()

    def reweigh(self) -> None:
        """Weigh the job's standing evidence, where any of it or what it is weighed with has changed; a newer asking drops an
        older answer."""
        job = self.job
        if job is None:
            self._show_weighed(Weighed())
            return
        lessons = self.record if self.record_counts and self.record is not None and self.record.by_job else None
        command = Weigh(job.id, job, self.gear, self.strategy, lessons)
        if command == self._weighing:
            return
        if self._weighing is None and command == self._weighed:
            self._show_weighed(self.last_weighed)
            return
        self._weighing, self._weighed = command, None

        def show(answer: Weighed | None) -> None:
            self._weighing, self._weighed = None, command
            self._show_weighed(answer or Weighed())

        def failed(why: str) -> None:
            if self._weighing is command:
                self._weighing = None
            if why:
                self._failed(why)

        self.submit(command, show, failed=failed, slot="weighing", debounce=DEBOUNCE)

    def _show_weighed(self, weighed: Weighed) -> None:
        if weighed.job_id is not None and (self.job is None or weighed.job_id != self.job.id):
            return
        self.last_weighed = weighed
        self._tell(JobWeighed, weighed.job_id, weighed=weighed)

    # files on their way in ------------------------------------------------------------------------

    def bring_in(self, paths: list[Path], *, by_itself: bool = False) -> None:
        """Read captures one after the other; each is asked about. Photos go on the trail."""
        photos = [path for path in paths if path.suffix.lower() in PHOTO_FILES]
        for path in photos:
            self.keep_photo(path)
        self.imports.add([Import(path, by_itself=by_itself) for path in paths if path not in photos])
        self._next_import()

    def _next_import(self) -> None:
        """The next one of the queue, once no other one is on the bench; at the end, what became of them."""
        if self.retired:
            return
        coming = self.imports.next()
        if coming is None:
            summary = self.imports.summary()
            if summary:
                self.say(summary)
        elif self.job is None:
            self.add_job(
                tr("Machine of {name}", name=coming.path.name), "", None, [],
                then=lambda: self._read_import(coming), failed=self._import_failed,
            )  # fmt: skip
        else:
            self._read_import(coming)

    def _read_import(self, coming: Import) -> None:
        recording = self.held.called(coming.recording)

        def show(incoming: Incoming) -> None:
            self._reading = None
            self._show_incoming(incoming, by_itself=coming.by_itself)

        def refused(why: str) -> None:
            self._reading = None
            self._import_failed(why or "stopped")

        if recording is not None:
            self._reading = self.queues.submit(
                lambda _task: recording.incoming(), always_delivers=True, done=show, failed=refused
            )
        else:
            command = BringIn(self.job.id if self.job else None, coming.path)
            self._reading = self.submit(command, lambda brought: show(brought.incoming), failed=refused)

    def _show_incoming(self, incoming: Incoming, *, by_itself: bool) -> None:
        # Only what was stated on the trail may answer for a file; a guess from a code may not.
        stated = self.job is not None and (self.job.of(CircuitEntry) or self.job.of(CaptureEntry))
        if by_itself and incoming.sheet is None and stated:
            columns = tuple(channel.column for channel in incoming.capture.channels)
            incoming = replace(incoming, sheet=sheet_for(self.job, columns))
        self._tell(ImportRead, self.job.id if self.job else None, incoming=incoming)

    def show_incoming(self, incoming: Incoming) -> None:
        """Bring in what was made here: a recording of the stand-in, a picture read."""
        self._tell(ImportRead, self.job.id if self.job else None, incoming=incoming)

    def _import_failed(self, why: str) -> None:
        current = self.imports.current
        if current is not None:
            self.say(f"{current.path.name}: {why}", wrong=True)
            self.held.not_brought_in(current.recording)
        self.imports.failed(why)
        if not self.imports.busy:
            self._tell(ImportLeft)
        self._next_import()

    def keep_incoming(self, incoming: Incoming, sheet: Sheet, *, from_shelf: bool = True) -> Task | None:
        """The answers are given: keep the capture on the trail of the job that is open, a recording on that of its own, and go
        on with the next one."""
        recording = self.held.called(incoming.recording)
        if recording is not None and recording.job is not None:
            job_id, machine = recording.job, recording.machine
        elif self.job is not None:
            job_id, machine = self.job.id, self.job.machine
        else:
            self.say(tr("Open a job first: a capture goes on its trail."), wrong=True)
            return None
        task = self._keep(Keep(job_id, incoming, sheet, from_shelf), machine)
        self.imports.keeping()
        if not self.imports.busy:
            self._tell(ImportLeft)
        self._next_import()
        return task

    def leave_incoming(self) -> None:
        """What is on the bench is left; a recording stays what it was, waiting to be kept."""
        current = self.imports.current
        if current is not None:
            self.held.not_brought_in(current.recording)
        self.imports.left()
        self._tell(ImportLeft)
        self._next_import()

    def _keep(self, command: Keep, machine: str) -> Task:
        name, incoming = command.incoming.capture.name, command.incoming
        recording = self.held.called(incoming.recording)

        def kept(answer) -> None:
            if recording is not None:
                self.held.forget(recording)
                if isinstance(recording, Recording):
                    self._note_events(recording)
            if self.job is None or answer.job_id != self.job.id:
                self.say(tr("{name} is kept in the job {machine}.", name=name, machine=machine))
                self.list_jobs()
            else:
                self.job = answer.job
                self._put_on_bench(answer.opened)
            self.imports.kept()
            self._next_import()

        def refused(why: str) -> None:
            why = why or tr("stopped before it was kept")
            self.say(tr("{name} was not kept: {why}", name=name, why=why), wrong=True)
            self.held.not_brought_in(incoming.recording)
            self.imports.not_kept(name, why)
            self._next_import()

        after = None if recording is None else lambda: recording.kept(incoming)
        return self.submit(command, kept, failed=refused, after=after)

    def keep_photo(
        self, path: Path | None = None, data: bytes = b"", then: Callable[[Entry], None] | None = None
    ) -> None:
        """Put a photo on the trail of the job that is open now, whichever is open when it is there."""
        job = self.job
        if job is None:
            self.say(tr("Open a job first: a photo goes on its trail."), wrong=True)
            return

        def show(written: Written) -> None:
            if self.job is None or self.job.id != job.id:
                self.say(tr("The photo is kept in the job {machine}.", machine=job.machine))
                return
            self.job = written.job
            self._announce()
            if then is not None:
                then(written.job.entries[-1])

        self.submit(KeepPhoto(job.id, path, data), show)

    # captures -------------------------------------------------------------------------------------

    def open_entry(self, entry: Entry) -> None:
        """Put a capture of the trail on the bench."""
        self.submit(OpenEntry(self.job.id, entry), self._put_on_bench, slot="bench")

    def lay_on_bench(self, opened: OpenCapture) -> None:
        """Show a capture of the open job as it was made ready; one of another job is none of its bench."""
        if self.job is not None and opened.job_id == self.job.id:
            self.opened = opened
            self._tell(CaptureOpened, opened.job_id, opened=opened)

    def _put_on_bench(self, opened: OpenCapture) -> None:
        if self.job is None or opened.job_id != self.job.id:
            return
        self.opened = opened
        self._announce()
        # After the trail has painted: each takes a while, and together too long.
        self._post(lambda: self._tell(CaptureOpened, opened.job_id, opened=opened) if self.opened is opened else None)

    def export(self, opened: OpenCapture, path: Path) -> None:
        """Write a capture, with its sheet beside it."""
        command = Export(opened.job_id, opened, path)
        self.submit(command, lambda done: self.say(tr("Written: {path}, with its sheet beside it.", path=done.path)))

    # recordings -----------------------------------------------------------------------------------

    @property
    def recordings(self) -> list[Recording]:
        """Those of this process that are on no trail yet."""
        return self.held.recordings

    @property
    def left(self) -> list[LeftRecording]:
        """Those that dead processes left."""
        return self.held.left

    def bring_recording_in(self, recording: Recording | LeftRecording) -> None:
        """Have a recording kept: it comes to the bench as a file would, on its own job."""
        if self.imports.holds(recording.identity):
            return
        if isinstance(recording, Recording):
            recording.bringing_in = True
        self.imports.add([Import(recording.lease.path, recording.identity)])
        self._tell(RecordingsChanged, recording.job)
        if recording.job is not None and (self.job is None or self.job.id != recording.job):
            self.open_job(recording.job)
        self._next_import()

    def _note_events(self, recording: Recording) -> None:
        """What the events of a recording that was kept go with goes on its trail, too."""

        def note(told: dict | None) -> None:
            if told is not None and not self.retired:
                self.add(NoteEntry.of_message(told), job=recording.job)

        self.queues.submit(lambda _task: recording.events_told(), blocks_closing=True, done=note)
