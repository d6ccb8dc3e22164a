"""What is being done for a workspace: commands are handed to the queues, their answers come back on the owner's thread, and what takes
a while is shown with its own Stop."""

from __future__ import annotations

from collections.abc import Callable

from sagen.casework.command import Command, Queue
from sagen.store.log import JobLog
from sagen.workspace.queues import Queues, Task


class Work:
    """The commands of one workspace that are under way.

    Parameters
    ----------
    log : JobLog
        that commands are performed on
    queues : Queues
    say : callable
        tells the person why something failed
    working : callable
        is told what is being done in words, and how far it is; "" and 1 when nothing is any more
    """

    def __init__(self, log: JobLog, queues: Queues, say: Callable[[str], None], working: Callable[[str, float], None]):
        self.log, self.queues, self._say, self._tell = log, queues, say, working
        self.retired = False  #: answers are no longer told, but that what was written was written
        #: work that only looks, by what it is about: a newer asking stops an older one
        self._looking: dict[str, Task] = {}
        #: what takes a while, oldest first, with its name in words: the last one is shown, and Stop is its own
        self._doing: list[tuple[str, Task]] = []

    def submit(
        self,
        command: Command,
        done: Callable,
        *,
        failed: Callable[[str], None] | None = None,
        slot: str = "",
        debounce: float = 0.0,
        after: Callable[[], None] | None = None,
    ) -> Task:
        """Have a command done, and `after` it, off the owner's thread, what must not be left out even if nobody is told any
        more. Of those that only look and share a slot, a newer one stops an older one; one that writes is never superseded."""
        log, doing = self.log, command.doing

        def answered(answer) -> None:
            self._ended(task)
            if not self.retired:
                done(answer)

        def refused(message: str) -> None:
            self._ended(task)
            if self.retired or failed is None:
                if message:
                    self._say(message)
            else:
                failed(message)

        def work(task: Task):
            if debounce and task.pause(debounce):
                return None
            answer = command.perform(log, task.tell)
            if after is not None:
                after()
            return answer

        if slot:
            self.drop(slot)
        task = self.queues.submit(
            work,
            queue=command.queue,
            serial=command.serial,
            always_delivers=command.always_delivers,
            blocks_closing=command.blocks_closing,
            done=answered,
            failed=refused,
            progress=lambda share: self._went_on(task, share),
        )
        if slot:
            self._looking[slot] = task
        if doing:
            self._doing.append((doing, task))
            self._working(doing, 0.0)
        return task

    def compute(
        self,
        work: Callable[[Task], object],
        done: Callable[[object], None],
        failed: Callable[[str], None] | None = None,
        *,
        queue: Queue = Queue.COMPUTE,
    ) -> Task:
        """Work something out off the owner's thread that changes nothing."""
        return self.queues.submit(
            work,
            queue=queue,
            done=lambda answer: None if self.retired else done(answer),
            failed=lambda why: None if self.retired or not why else (failed or self._say)(why),
        )

    def drop(self, *slots: str) -> None:
        """Stop what only looks, of some slots: no answer of it will come."""
        for slot in slots:
            if slot in self._looking:
                self._drop(self._looking.pop(slot))

    def retire(self) -> None:
        """Stop all that only looks; of the rest nothing is told any more."""
        for task in self._looking.values():
            task.stop()
        self._looking.clear()
        self.retired = True

    def stop_shown(self) -> Task | None:
        """The person pressed Stop: it stops what is shown as being done, and nothing else. Answers the task of which no answer will
        come."""
        if not self._doing:
            self._working("", 1.0)
            return None
        _, task = self._doing[-1]
        if task.always_delivers:
            task.stop()  # its answer says whether it came in time
            return None
        self._drop(task)
        return task

    def _drop(self, task: Task) -> None:
        task.stop()
        self._ended(task)

    def _ended(self, task: Task) -> None:
        left = [row for row in self._doing if row[1] is not task]
        if len(left) == len(self._doing):
            return  # nothing was shown of it: what is shown goes on as it is
        self._doing = left
        self._working(*((self._doing[-1][0], 0.0) if self._doing else ("", 1.0)))

    def _went_on(self, task: Task, share: float) -> None:
        if self._doing and self._doing[-1][1] is task:
            self._working(self._doing[-1][0], share)

    def _working(self, what: str, share: float) -> None:
        if not self.retired:
            self._tell(what, share)
