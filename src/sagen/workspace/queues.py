"""Three queues off the owner's thread: the store, instruments, and what is computed. A task runs, can be stopped, and its answer
comes back on the owner's thread.

Of each queue what is serial runs one after the other; what is not has threads of its own, so that a note never waits until
a long capture is examined.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from typing import Any

from sagen.casework.command import Queue
from sagen.casework.fault_log import note

#: threads of what is not serial
THREADS = {Queue.STORE: 1, Queue.INSTRUMENTS: 3, Queue.COMPUTE: 2}

Post = Callable[[Callable[[], None]], None]


@dataclass(eq=False)
class Task:
    """One piece of work and who is to be told. `always_delivers`: its answer comes even when it was stopped, since what was
    written was written; `blocks_closing`: it is waited for at the end."""

    work: Callable[[Task], Any]
    done: Callable[[Any], None] | None = None
    failed: Callable[[str], None] | None = None
    progress: Callable[[float], None] | None = None
    always_delivers: bool = False
    blocks_closing: bool = False
    _stop: threading.Event = field(default_factory=threading.Event)
    _post: Callable[[str, Any], None] | None = None

    def stop(self) -> None:
        """Ask it to stop: at once, where it has not begun to write."""
        self._stop.set()

    @property
    def stopped(self) -> bool:
        return self._stop.is_set()

    def pause(self, seconds: float) -> bool:
        """Wait within the work; True when it was stopped meanwhile."""
        return self._stop.wait(seconds)

    def tell(self, share: float) -> bool:
        """Report progress (0 to 1) from within the work; False means: stop now."""
        if not self.stopped:
            self._post("progress", share)
        return not self.stopped


class Queues:
    """Hands out work and delivers the answers.

    Parameters
    ----------
    post : callable
        has a callable run on the owner's thread, later and in order
    """

    def __init__(self, post: Post):
        self._post = post
        self._pools = {
            (queue, serial): ThreadPoolExecutor(1 if serial else THREADS[queue], thread_name_prefix=f"{queue}")
            for queue in Queue
            for serial in (True, False)
        }
        self._alive: dict[Task, Future] = {}
        self.busy_changed: Callable[[bool], None] = lambda busy: None

    def submit(
        self,
        work: Callable[[Task], Any],
        *,
        queue: Queue = Queue.COMPUTE,
        serial: bool = False,
        always_delivers: bool = False,
        blocks_closing: bool = False,
        done: Callable[[Any], None] | None = None,
        failed: Callable[[str], None] | None = None,
        progress: Callable[[float], None] | None = None,
    ) -> Task:
        """Start work; the callables are called on the owner's thread. Called on it, too."""
        task = Task(work, done, failed, progress, always_delivers, blocks_closing)
        task._post = lambda kind, value: self._post(lambda: self._deliver(task, kind, value))
        self._alive[task] = self._pools[queue, serial].submit(_run, task)
        self.busy_changed(True)
        return task

    @property
    def alive(self) -> tuple[Task, ...]:
        """What is being worked on, or has not delivered its answer yet."""
        return tuple(self._alive)

    @property
    def idle(self) -> bool:
        return not self._alive

    @property
    def blocks_closing(self) -> bool:
        """Whether anything is being done that would be lost otherwise."""
        return any(task.blocks_closing for task in self._alive)

    def finish(self, seconds: float = 60.0) -> bool:
        """Stop what need not be waited for, let the rest come to its end; True when nothing is left. Nothing can be submitted
        afterwards."""
        for task, future in list(self._alive.items()):
            if task.blocks_closing:
                continue
            task.stop()
            if future.cancel():  # not begun: no answer will come
                del self._alive[task]
        _, left = wait(list(self._alive.values()), timeout=seconds)
        for pool in self._pools.values():
            pool.shutdown(wait=not left)
        return not left

    def _deliver(self, task: Task, kind: str, value: object) -> None:
        told = getattr(task, kind)
        if kind != "progress":
            self._alive.pop(task, None)
            self.busy_changed(bool(self._alive))
        if told is not None and (task.always_delivers or not task.stopped):
            told(value)


def _run(task: Task) -> None:
    try:
        task._post("done", task.work(task))
    except Exception as error:
        # What a stopped task died of is of no interest; `Stopped` among it.
        task._post("failed", "" if task.stopped else note(error))
