"""What is open: the log, the job on the desk and what its evidence amounts to. A thin adapter: requests go to casework,
answers come back as signals, and an answer of another job than the one that is open is not shown."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from sagen.desk.work import Task, Work
from sagen.model.extensions import load_extensions
from sagen.model.vocabulary import CHOSEN_GEAR, EntryKind, Gear, Strategy

if TYPE_CHECKING:
    from sagen.casework.command import Command
    from sagen.casework.examination import Incoming
    from sagen.casework.lessons import ShopLessons
    from sagen.casework.open_capture import OpenCapture
    from sagen.casework.trail_changes import Change, Written
    from sagen.casework.weigh_job import Weighed
    from sagen.model.job import Entry, Job
    from sagen.model.sheet import Sheet
    from sagen.model.trail import Record
    from sagen.store.log import JobLog

#: s that a weighing waits, so that of quick changes only the last is weighed, and the trail paints first
DEBOUNCE = 0.08
#: ms between the trail's painting and the bench's: each takes a while, and together too long
AFTER_TRAIL = 15


class Workspace(QObject):
    """The model behind the window. Every change of the log goes through here and is announced."""

    log_opened = Signal()
    jobs_changed = Signal(object)  #: JobsListed
    job_changed = Signal(object)  #: Job or None
    weighed = Signal(object)  #: Weighed
    capture_opened = Signal(object)  #: OpenCapture
    incoming = Signal(object)  #: Incoming
    kept = Signal(str)  #: a capture that was being kept is: its name
    not_kept = Signal(str, str)  #: one could not be: its name, and why
    unreadable = Signal(str, str)  #: a file could not be read: its name, and why
    failed = Signal(str)
    said = Signal(str)  #: something done that the user should know of
    overtaken = Signal(object, object)  #: ChangedMeanwhile, and the entry that was to be changed
    working = Signal(str, float)  #: what is being done and how far; share 1 when done

    _elsewhere = Signal(object)  #: another window changed a job: its number, or None

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.work = Work(self)
        self.log: JobLog | None = None
        self.job: Job | None = None
        self.opened: OpenCapture | None = None
        self.last_weighed: Weighed | None = None
        self.instruments = ""  #: the name of the instruments on the bench; "" for none
        self._search = ""  #: what the jobs were searched for last
        self.circuit = ""  #: which of a job's several circuits is worked on
        self.gear: tuple[Gear, ...] = CHOSEN_GEAR
        self.strategy = Strategy.MOST
        self.record: ShopLessons | None = None  #: what the shop's own jobs taught
        self.record_counts = True
        #: work that only looks, by what it is about: a newer asking stops an older one
        self._looking: dict[str, Task] = {}
        #: what takes a while, oldest first, with its name in words: the last one is shown, and Stop is its own
        self._doing: list[tuple[str, Task]] = []
        self._reading: tuple[str, Task] | None = None
        self._elsewhere.connect(self._changed_elsewhere)

    # asking ---------------------------------------------------------------------------------

    def ask(
        self,
        request: Command,
        done: Callable,
        *,
        failed: Callable[[str], None] | None = None,
        slot: str = "",
        debounce: float = 0.0,
    ) -> Task:
        """Have a request done. Of those that only look and share a slot, a newer one stops an older one; one that
        writes is never superseded."""
        log, doing = self.log, request.doing

        def answered(answer) -> None:
            self._ended(task)
            done(answer)

        def refused(message: str) -> None:
            self._ended(task)
            (failed or self.failed.emit)(message)

        def work(task: Task):
            return None if debounce and task.pause(debounce) else request.perform(log, task.tell)

        if slot and slot in self._looking:
            self._drop(self._looking.pop(slot))
        task = self.work.ask(
            work,
            done=answered,
            failed=refused,
            progress=lambda share: self._went_on(task, share),
            writes=request.writes,
            quick=request.quick,
        )
        if slot:
            self._looking[slot] = task
        if doing:
            self._doing.append((doing, task))
            self._tell(doing, 0.0)
        return task

    def _drop(self, task: Task) -> None:
        """Stop work that only looks: no answer of it will come."""
        task.stop()
        self._ended(task)

    def _ended(self, task: Task) -> None:
        left = [item for item in self._doing if item[1] is not task]
        if len(left) == len(self._doing):
            return  # nothing was shown of it: what is shown goes on as it is
        self._doing = left
        self._tell(*((self._doing[-1][0], 0.0) if self._doing else ("", 1.0)))

    def _went_on(self, task: Task, share: float) -> None:
        if self._doing and self._doing[-1][1] is task:
            self._tell(self._doing[-1][0], share)

    @property
    def writing(self) -> bool:
        """Whether anything is being kept that would be lost otherwise."""
        return any(task.writes for task in self.work.alive)

    # the log ------------------------------------------------------------------------------

    def open_log(self, make: Callable[[Task], JobLog]) -> None:
        """Open the log that `make` gives, off the interface thread."""
        # Extensions may bring pages: whatever imports Qt is imported on the interface thread.
        load_extensions()

        def work(task: Task):
            log = make(task)
            return log, log.jobs()

        def opened(answer) -> None:
            from sagen.casework.captures import FinishKeeping
            from sagen.casework.trail_changes import JobsListed

            before, (self.log, jobs) = self.log, answer
            self._tell("", 1.0)
            if before is not None:
                self._leave_job()
                self.job = None
                self.work.ask(lambda _task: before.close())
            self.log.follow(self._elsewhere.emit)
            if self.log.unfinished:
                self.ask(FinishKeeping(None), lambda said: (self.said.emit(said), self.list_jobs(), self.reload()))
            self.record = None  # drawn when a job is opened: a log without one teaches nothing
            self.log_opened.emit()
            self.jobs_changed.emit(JobsListed("", tuple(jobs)))
            if jobs:
                self.open_job(jobs[0].id, open_capture=True)
            else:
                self.job_changed.emit(None)

        self._tell("Opening the job log", 0.0)
        self.work.ask(work, done=opened, failed=self._failed, progress=lambda x: self._tell("Opening the job log", x))

    def list_jobs(self, search: str | None = None) -> None:
        """List the jobs anew, off the interface thread, as they were searched last where no words are given; `jobs_changed`
        follows."""
        from sagen.casework.trail_changes import ListJobs

        if search is not None:
            self._search = search
        if self.log is not None:
            self.ask(ListJobs(None, self._search), self.jobs_changed.emit, slot="jobs")

    def close(self) -> None:
        """Let what is being written come to its end, and close the log."""
        self.work.finish()
        if self.log is not None:
            self.log.close()

    # the job ------------------------------------------------------------------------------

    def open_job(self, job_id: int, *, open_capture: bool = False) -> None:
        """Put a job on the desk; with `open_capture`, its last capture on the bench."""
        from sagen.casework.trail_changes import ReadJob
        from sagen.model.trail import CaptureEntry

        def came(job: Job) -> None:
            self._leave_job()
            self.job = job
            self._announce()
            self.learn()
            captures = job.of(CaptureEntry)
            if open_capture and captures:
                self.open_entry(captures[-1])

        self.ask(ReadJob(job_id), came, slot="job")

    def leave_job(self) -> None:
        """No job is on the desk any more."""
        self._leave_job()
        self.job = None
        self._announce()

    def _leave_job(self) -> None:
        """What is still being looked at belongs to the job that is left."""
        for slot in ("bench", "weighing"):
            if slot in self._looking:
                self._drop(self._looking.pop(slot))
        self.opened = None

    def add_job(
        self, machine: str, owner: str, cylinders: int | None, records: list[Record], then: Callable | None = None
    ) -> None:
        """A new job, put on the desk; `then` is called once it is."""
        from sagen.casework.trail_changes import NewJob

        def came(written: Written) -> None:
            self._leave_job()
            self.job = written.job
            self.list_jobs()
            self._announce()
            self.learn()
            if then is not None:
                then()

        self.ask(NewJob(None, machine, owner, cylinders, tuple(records)), came)

    def reload(self) -> None:
        """Read the job again and weigh its evidence anew."""
        from sagen.casework.trail_changes import ReadJob

        if self.job is None:
            self._announce()
        else:
            self.ask(ReadJob(self.job.id), self._job_is, slot="job")

    def _job_is(self, job: Job) -> None:
        if self.job is not None and job.id == self.job.id:
            self.job = job
            self._announce()

    def add(self, *records: Record, then: Callable | None = None) -> None:
        """Put records on the trail of the job that is open now; `then` is called once they are, if it still is."""
        from sagen.casework.trail_changes import AddEntries

        self._write(AddEntries(self.job.id, records), then=then)

    def correct(self, entry: Entry, record: Record) -> None:
        from sagen.casework.trail_changes import CorrectEntry

        self._write(CorrectEntry(self.job.id, entry, record), entry)

    def withdraw(self, entry: Entry, withdrawn: bool) -> None:
        from sagen.casework.trail_changes import WithdrawEntry

        self._write(WithdrawEntry(self.job.id, entry, withdrawn), entry)

    def undo(self) -> None:
        """Take back the last change of the job that is open; with its adding, the job itself."""
        from sagen.casework.trail_changes import UndoStep

        if self.log is not None and self.job is not None:
            self._write(UndoStep(self.job.id))

    def redo(self) -> None:
        from sagen.casework.trail_changes import RedoStep

        if self.log is None:
            return
        if self.job is not None:
            self._write(RedoStep(self.job.id))
            return

        def came(written: Written) -> None:
            if written.job is not None:
                self.list_jobs()
                self.open_job(written.job.id, open_capture=True)

        self.ask(RedoStep(None), came)

    def _write(self, request: Change, entry: Entry | None = None, then: Callable | None = None) -> None:
        """Have a change of the open job written; what it is then is shown, if it is still open."""
        job = self.job

        def came(written: Written) -> None:
            if written.waiting:
                changes = "One change waits" if written.waiting == 1 else f"{written.waiting} changes wait"
                self.said.emit(f"The server is away: {changes} here, and will be sent when it is back.")
            if self.job is None or self.job.id != job.id:
                self.list_jobs()
                return
            if written.job is None:
                self._leave_job()
                self.job = None
                self.list_jobs()
                self.said.emit(f"The job {job.machine} is taken back; Redo brings it again.")
            else:
                self.job = written.job
            if any(entry.kind == EntryKind.REPAIR for entry in (*job.entries, *(self.job.entries if self.job else ()))):
                self.learn()
            self._announce()
            if written.overtaken is not None:
                self.overtaken.emit(written.overtaken, entry)
            elif then is not None:
                then()

        def refused(why: str) -> None:
            self.failed.emit(why)
            self.reload()

        self.ask(request, came, failed=refused)

    def _changed_elsewhere(self, job_id: int | None) -> None:
        """Another window changed the log: show it."""
        from sagen.casework.trail_changes import ReadJob

        self.list_jobs()
        self.learn()
        if self.job is None or job_id not in (None, self.job.id):
            return

        def came(job: Job) -> None:
            if self.job is not None and job.id == self.job.id and job != self.job:
                self.job = job
                self._announce()
                if not self.writing:
                    self.said.emit("This job was changed in another window: it is shown as it is now.")

        self.ask(ReadJob(self.job.id), came, slot="elsewhere")

    def steps(self) -> tuple[str | None, str | None]:
        """What undo and redo would do now, in words; None where there is nothing."""
        if self.log is None:
            return None, None
        job_id = self.job.id if self.job else None
        return self.log.can_undo(job_id), self.log.can_redo(job_id)

    def learn(self) -> None:
        """Draw the lessons of the shop's own jobs anew, where any changed; what is weighed then is weighed with them."""
        from sagen.casework.shop import LearnFromShop

        def came(record: ShopLessons) -> None:
            changed = record.by_job != (self.record.by_job if self.record is not None else {})
            self.record = record
            if changed and self.record_counts:
                self.reweigh()

        if self.log is not None:
            self.ask(LearnFromShop(None, self.record), came, slot="record")

    def _announce(self) -> None:
        self.job_changed.emit(self.job)
        self.reweigh()

    def reweigh(self) -> None:
        """Weigh the job's standing evidence anew, off the interface thread; a newer asking drops an older answer."""
        from sagen.casework.weigh_job import Weigh, Weighed

        job = self.job
        if job is None:
            self._weighed_is(Weighed())
            return
        request = Weigh(job.id, job, self.gear, self.strategy, self.record if self.record_counts else None)
        self.ask(request, lambda answer: self._weighed_is(answer or Weighed()), slot="weighing", debounce=DEBOUNCE)

    def _weighed_is(self, weighed: Weighed) -> None:
        if weighed.job_id is not None and (self.job is None or weighed.job_id != self.job.id):
            return
        self.last_weighed = weighed
        self.weighed.emit(weighed)

    # captures -----------------------------------------------------------------------------

    def bring_in(self, path: str | Path) -> Task:
        """Read a capture file; `incoming` follows, or `unreadable` with what is wrong and where."""
        from sagen.casework.captures import BringIn

        path, job_id = Path(path), self.job.id if self.job else None

        def came(answer) -> None:
            self._reading = None
            self.incoming.emit(answer.incoming)

        def refused(why: str) -> None:
            self._reading = None
            self.unreadable.emit(path.name, why)

        task = self.ask(BringIn(job_id, path), came, failed=refused)
        self._reading = (path.name, task)
        return task

    def record_from_instruments(self, state) -> None:
        """Record with the instruments on the bench; `incoming` follows as for a file."""
        job, name = self.job, self.instruments
        self._tell("Recording", 0.0)

        def work(_task: Task) -> Incoming:
            from sagen.casework.examination import Incoming, build_pyramids
            from sagen.instruments import instruments_called
            from sagen.instruments.stand_in import recorded

            recorder = instruments_called(name, job).recorder(state)
            capture = recorded(recorder, f"{name}-{state}.csv")
            return Incoming(Path(capture.name), capture, recorder.sheet(), pyramids=build_pyramids(capture))

        def came(incoming: Incoming) -> None:
            self._tell("", 1.0)
            if self.job is not None and self.job.id == job.id:
                self.incoming.emit(incoming)

        self.work.ask(work, done=came, failed=self._failed)

    def keep(self, incoming: Incoming, sheet: Sheet, *, from_shelf: bool = True) -> Task:
        """Examine a capture under its sheet, keep it on the trail of the job that is open now, and put it on the
        bench, if that job is still open then."""
        from sagen.casework.captures import Keep

        name, machine = incoming.capture.name, self.job.machine

        def kept(answer) -> None:
            if self.job is None or answer.job_id != self.job.id:
                self.said.emit(f"{name} is kept in the job {machine}.")
                self.list_jobs()
            else:
                self.job = answer.job
                self._put_on_bench(answer.opened)
            self.kept.emit(name)

        def refused(why: str) -> None:
            self.not_kept.emit(name, why or "stopped before it was kept")

        return self.ask(Keep(self.job.id, incoming, sheet, from_shelf), kept, failed=refused)

    def open_entry(self, entry: Entry) -> None:
        """Put a capture of the trail on the bench."""
        from sagen.casework.captures import OpenEntry

        self.ask(OpenEntry(self.job.id, entry), self._put_on_bench, slot="bench")

    def _put_on_bench(self, opened: OpenCapture) -> None:
        """Show a capture; one of another job than is open now is none of its bench."""
        if self.job is None or opened.job_id != self.job.id:
            return
        self.opened = opened
        self._announce()
        QTimer.singleShot(
            AFTER_TRAIL, self, lambda: self.capture_opened.emit(opened) if self.opened is opened else None
        )

    def export(self, path: Path) -> None:
        """Write the open capture, with its sheet beside it."""
        from sagen.casework.captures import Export

        request = Export(self.opened.job_id, self.opened, path)
        self.ask(request, lambda done: self.said.emit(f"Written: {done.path}, with its sheet beside it."))

    def stop_work(self) -> None:
        """The user pressed Stop: it stops what is shown as being done, and nothing else."""
        if not self._doing:
            self._tell("", 1.0)
            return
        _, task = self._doing[-1]
        if task.writes:
            task.stop()  # its answer says whether it came in time
            return
        self._drop(task)
        if self._reading is not None and self._reading[1] is task:
            name, self._reading = self._reading[0], None
            self.unreadable.emit(name, "stopped")

    # --------------------------------------------------------------------------------------

    def _failed(self, message: str) -> None:
        self._tell("", 1.0)
        self.failed.emit(message)

    def _tell(self, what: str, share: float) -> None:
        self.working.emit(what, share)
