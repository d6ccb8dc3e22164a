"""Slow work off the interface thread: a task runs, can be stopped, and its answer is delivered on the interface thread.

Work that only looks (reading, weighing, drawing) runs on two threads, and an answer that comes after its task was stopped
is dropped. Work that writes runs one after the other; its answer is always delivered, since what was written was written.
Of both, what is quick has a thread of its own: a note does not wait until a long capture is examined.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal


@dataclass(eq=False)
class Task:
    """One piece of work and who is to be told."""

    work: Callable[[Task], Any]
    done: Callable[[Any], None] | None = None
    failed: Callable[[str], None] | None = None
    progress: Callable[[float], None] | None = None
    writes: bool = False
    quick: bool = False
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


class _Runner(QRunnable):
    def __init__(self, task: Task):
        super().__init__()
        self._task = task

    def run(self) -> None:
        task = self._task
        try:
            task._post("done", task.work(task))
        except Exception as error:
            from sagen.casework.fault_log import note

            # What a stopped task died of is of no interest; `Stopped` among it.
            task._post("failed", "" if task.stopped else note(error))


class Work(QObject):
    """Hands out work and delivers the answers."""

    busy = Signal(bool)
    _came = Signal(object, str, object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        #: by whether it writes and whether it is quick
        self._pools = {(writes, quick): QThreadPool(self) for writes in (True, False) for quick in (True, False)}
        for (writes, quick), pool in self._pools.items():
            pool.setMaxThreadCount(1 if writes or quick else 2)
        self._alive: set[Task] = set()
        self._came.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def ask(
        self,
        work: Callable[[Task], Any],
        *,
        done: Callable[[Any], None] | None = None,
        failed: Callable[[str], None] | None = None,
        progress: Callable[[float], None] | None = None,
        writes: bool = False,
        quick: bool = False,
    ) -> Task:
        """Start work; the callables are called on the interface thread."""
        task = Task(work, done, failed, progress, writes, quick)
        task._post = lambda kind, value: self._came.emit(task, kind, value)
        self._alive.add(task)
        self.busy.emit(True)
        self._pools[writes, quick].start(_Runner(task))
        return task

    @property
    def alive(self) -> tuple[Task, ...]:
        """What is being worked on."""
        return tuple(self._alive)

    @property
    def idle(self) -> bool:
        return not self._alive

    def finish(self, milliseconds: int = 60_000) -> bool:
        """Stop what only looks, let what writes come to its end; True when no thread is left."""
        for task in self._alive:
            if not task.writes:
                task.stop()
        return all(pool.waitForDone(milliseconds) for pool in self._pools.values())

    def _deliver(self, task: Task, kind: str, value: object) -> None:
        told = getattr(task, kind)
        if kind != "progress":
            self._alive.discard(task)
            self.busy.emit(bool(self._alive))
        if told is not None and (task.writes or not task.stopped):
            told(value)
