"""What was done in each job, and what was undone."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field

from sagen.model.errors import StoreError
from sagen.store.database import Unreachable


@dataclass(frozen=True)
class Step:
    """One change and how to take it back."""

    text: str
    undo: Callable[[], None]
    redo: Callable[[], None]


@dataclass
class _Trail:
    done: list[Step] = field(default_factory=list)
    undone: list[Step] = field(default_factory=list)


class UndoList:
    """Steps, job by job. May be used from any thread."""

    NEW_JOB = "new job"

    def __init__(self) -> None:
        self._trails: dict[int, _Trail] = {}
        self._lock = threading.RLock()
        self._last_job_undone: int | None = None

    def did(self, job_id: int, text: str, undo: Callable[[], None], redo: Callable[[], None]) -> None:
        """Remember a change."""
        with self._lock:
            trail = self._trails.setdefault(job_id, _Trail())
            trail.done.append(Step(text, undo, redo))
            trail.undone.clear()

    def can_undo(self, job_id: int | None) -> str | None:
        """What undo in a job would take back, or None. Never waits: an undo may be in the middle of its writing."""
        trail = self._trails.get(job_id)
        last = trail.done[-1:] if trail else []
        return last[0].text if last else None

    def can_redo(self, job_id: int | None) -> str | None:
        """What redo in a job would do again; without a job open, that of the job whose adding was undone last."""
        trail = self._trails.get(self._last_job_undone if job_id is None else job_id)
        last = trail.undone[-1:] if trail else []
        return last[0].text if last else None

    def undo(self, job_id: int) -> bool:
        """Take back the last change of a job; False when the job itself is gone with it.

        Raises
        ------
        StoreError
            when it cannot be taken back. What somebody else changed meanwhile never can be: that step is forgotten, so that
            the one before it can be taken back next.
        """
        with self._lock:
            trail = self._trails.get(job_id)
            if not trail or not trail.done:
                return True
            step = trail.done[-1]
            try:
                step.undo()
            except Unreachable:
                raise
            except StoreError:
                trail.done.pop()
                raise
            trail.undone.append(trail.done.pop())
            gone = step.text == self.NEW_JOB
            if gone:
                self._last_job_undone = job_id
            return not gone

    def redo(self, job_id: int | None) -> int | None:
        """Do again what was undone last in a job, or add the job again that was undone last; answers the job."""
        with self._lock:
            job_id = self._last_job_undone if job_id is None else job_id
            trail = self._trails.get(job_id)
            if job_id is not None and trail and trail.undone:
                try:
                    trail.undone[-1].redo()
                except Unreachable:
                    raise
                except StoreError:
                    trail.undone.clear()
                    raise
                trail.done.append(trail.undone.pop())
            return job_id

    def forget(self, job_id: int | None = None) -> None:
        """Nothing before now can be undone, in one job or in all."""
        with self._lock:
            if job_id is not None:
                self._trails.pop(job_id, None)
                return
            self._trails.clear()
            self._last_job_undone = None
