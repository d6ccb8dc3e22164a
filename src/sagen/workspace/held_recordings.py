"""The recordings that a workspace holds: running ones, those that ended and are on no trail yet, and those that dead processes left."""

from __future__ import annotations

from collections.abc import Callable

from sagen.casework.captures import Keep
from sagen.casework.command import Queue
from sagen.instruments.wired import Wired
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import State
from sagen.workspace.recordings import LeftRecording, Recording, left_recordings, opened_recorder
from sagen.workspace.work import Work


class HeldRecordings:
    """Starts, stops, keeps and discards; each recording belongs to one job.

    Parameters
    ----------
    work : Work
        of the workspace
    say : callable
        tells the person something
    failed : callable
        tells the person what went wrong
    changed : callable
        is told of which job a recording changed; None where of several
    """

    def __init__(
        self,
        work: Work,
        say: Callable[[str], None],
        failed: Callable[[str], None],
        changed: Callable[[int | None], None],
    ):
        self._work, self._queues, self._log = work, work.queues, work.log
        self._say, self._failed, self._changed = say, failed, changed
        self.recordings: list[Recording] = []  #: of this process, oldest first
        self.left: list[LeftRecording] = []  #: of dead ones

    def of(self, job_id: int | None) -> Recording | None:
        """The latest recording of a job that is running, or is not on its trail yet."""
        of_it = [item for item in self.recordings if item.job == job_id and not item.bringing_in]
        return of_it[-1] if of_it else None

    def called(self, identity: str) -> Recording | LeftRecording | None:
        """A recording by its identity."""
        return next((item for item in (*self.recordings, *self.left) if identity and item.identity == identity), None)

    def left_of(self, job_id: int | None) -> LeftRecording | None:
        """The newest recording that a dead process left of a job, or of no job that is known."""
        return next((item for item in reversed(self.left) if item.job in (job_id, None)), None)

    def look_for_left(self) -> None:
        """Find what dead processes left in the log, and tell of it."""
        self._queues.submit(
            lambda _task: left_recordings(self._log), queue=Queue.STORE, serial=True, always_delivers=True,
            done=self._found_left, failed=self._failed,
        )  # fmt: skip

    def _found_left(self, found: list[LeftRecording]) -> None:
        if self._work.retired:
            for left in found:
                left.lease.let_go()
            return
        self.left = found
        for left in found:
            when = tr(" begun at {began}", began=left.began) if left.began else ""
            whose = tr(" of {machine}", machine=left.machine) if left.machine else ""
            self._say(
                tr(
                    "A recording{whose}{when} was not kept when the program ended: the Live page of its job brings "
                    "it in.",
                    whose=whose,
                    when=when,
                )
            )
        self._changed(None)

    def start(
        self, job: Job | None, state: State, wire: Callable[[Job], Wired], done: Callable[[Recording], None],
        failed: Callable[[str], None], *, ranges: dict[str, float] | None = None, sheet: Sheet | None = None,
    ) -> None:  # fmt: skip
        """Open the recorder of a job and begin. `wire` gives what stands on the wire, off the owner's thread."""
        if job is None:
            failed(tr("Open a job first: what is recorded goes on its trail."))
            return

        def began(recording: Recording) -> None:
            if self._work.retired:
                self._discard(recording)
                return
            self.recordings.append(recording)
            self._changed(recording.job)
            done(recording)

        self._queues.submit(
            lambda _task: opened_recorder(self._log, job, state, wire(job), ranges, sheet),
            queue=Queue.INSTRUMENTS, always_delivers=True, blocks_closing=True, done=began, failed=failed,
        )  # fmt: skip

    def describe(self, recording: Recording, sheet: Sheet) -> None:
        """State what its channels are; that outlives the process, too."""
        recording.live.describe(sheet)
        self._queues.submit(
            lambda _task: recording.restate(), queue=Queue.STORE, always_delivers=True, failed=self._failed
        )

    def stop(self, recording: Recording) -> None:
        """End it; it stays its job's until it is kept or discarded."""
        recording.live.recorder.stop()
        self._queues.submit(
            lambda _task: recording.live.stop(), queue=Queue.INSTRUMENTS, always_delivers=True,
            done=lambda _: None if self._work.retired else self._changed(recording.job),
        )  # fmt: skip

    def not_brought_in(self, identity: str) -> None:
        """It was on its way onto the trail and is no more: it waits to be kept as before."""
        recording = self.called(identity)
        if isinstance(recording, Recording):
            recording.bringing_in = False
            self._changed(recording.job)

    def discard(self, recording: Recording | LeftRecording) -> None:
        """A person wants it no more: stopped, and gone."""
        self.forget(recording)
        self._discard(recording)

    def _discard(self, recording: Recording | LeftRecording) -> None:
        self._queues.submit(
            lambda _task: recording.discard(), queue=Queue.INSTRUMENTS, blocks_closing=True, failed=self._failed
        )

    def forget(self, recording: Recording | LeftRecording) -> None:
        """It is held no more."""
        self.recordings = [item for item in self.recordings if item is not recording]
        self.left = [item for item in self.left if item is not recording]
        self._changed(recording.job)

    def end_kept(self) -> None:
        """The end of the workspace: recordings whose channels are known are kept on their trails; of another one the next opening
        asks. What is on its way onto a trail already goes on."""
        for recording in [item for item in self.recordings if not item.bringing_in]:
            self.recordings.remove(recording)
            self._queues.submit(
                lambda _task, recording=recording: self._kept(recording), serial=True, always_delivers=True,
                blocks_closing=True, done=lambda said: self._say(said) if said else None, failed=self._failed,
            )  # fmt: skip

    def _kept(self, recording: Recording) -> str:
        """Keep one, off the owner's thread; what is to be said."""
        try:
            incoming = recording.incoming()
        except SagenError:
            recording.lease.discard()  # nothing came
            return ""
        if not recording.told:
            recording.lease.let_go()
            return tr(
                "The recording of {seconds:.0f} s of {machine} waits to be brought in.",
                seconds=recording.seconds,
                machine=recording.machine,
            )
        Keep(recording.job, incoming, recording.live.sheet).perform(self._log)
        recording.kept(incoming)
        return tr(
            "The recording of {seconds:.0f} s is kept in the job {machine}.",
            seconds=recording.seconds,
            machine=recording.machine,
        )

    def let_go(self) -> None:
        """The log closes: what is still held is left to the next opening."""
        for recording in self.recordings:
            recording.stop()
            recording.lease.let_go()
        for left in self.left:
            left.lease.let_go()
