"""What can be asked of a job log: a frozen command, and a frozen answer that names the job it is of.

`perform` may be called from any thread. How a command is done follows from four things that it says of itself, and from the
queue that it is done in.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, ClassVar

from sagen.casework.examination import Progress

if TYPE_CHECKING:
    from sagen.store.log import JobLog


class Queue(StrEnum):
    """Where a command is done: what only the database and the disk take time for, what an instrument does, what is
    computed."""

    STORE = "store"
    INSTRUMENTS = "instruments"
    COMPUTE = "compute"


def go_on(_share: float) -> bool:
    return True


@dataclass(frozen=True)
class Command:
    """Base of all commands; `job_id` is the job that it is about."""

    job_id: int | None
    queue: ClassVar[Queue] = Queue.COMPUTE
    writes: ClassVar[bool] = False  #: changes the log
    serial: ClassVar[bool] = False  #: one of its queue after the other
    always_delivers: ClassVar[bool] = False  #: its answer comes even when it was stopped: what was written was written
    blocks_closing: ClassVar[bool] = False  #: the window closes once it is done

    @property
    def doing(self) -> str:
        """What is being done meanwhile, in words; "" for what takes no time."""
        return ""

    def perform(self, log: JobLog, progress: Progress = go_on):
        """Do it; raises SagenError, or `Stopped` when `progress` says so."""
        raise TypeError(f"{type(self).__name__} does nothing")


@dataclass(frozen=True)
class WritingCommand(Command):
    """Base of commands that change the log: one after the other, told and waited for."""

    writes: ClassVar[bool] = True
    serial: ClassVar[bool] = True
    always_delivers: ClassVar[bool] = True
    blocks_closing: ClassVar[bool] = True
