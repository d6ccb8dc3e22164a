"""What a workspace announces: frozen records, each stamped with the workspace and the job that it is of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from sagen.casework.examination import Incoming
from sagen.casework.open_capture import OpenCapture
from sagen.casework.trail_changes import JobsListed
from sagen.casework.weigh_job import Weighed
from sagen.model.errors import ChangedMeanwhile
from sagen.model.job import Entry, Job


@dataclass(frozen=True)
class Event:
    """Base of all events. `workspace` is the identity of the workspace it is of, `job` the job's number, None where it is of
    none or of the whole log."""

    workspace: str
    job: int | None = None


@dataclass(frozen=True)
class JobsChanged(Event):
    listed: JobsListed = field(kw_only=True)


@dataclass(frozen=True)
class JobChanged(Event):
    """The open job is another, or another version of itself; None: none is open."""

    open: Job | None = field(kw_only=True)


@dataclass(frozen=True)
class JobWeighed(Event):
    weighed: Weighed = field(kw_only=True)


@dataclass(frozen=True)
class CaptureOpened(Event):
    """A capture lies on the bench."""

    opened: OpenCapture = field(kw_only=True)


@dataclass(frozen=True)
class ImportRead(Event):
    """A file or recording of the import queue was read: what is not known of it is to be asked."""

    incoming: Incoming = field(kw_only=True)


@dataclass(frozen=True)
class ImportLeft(Event):
    """The import queue has nothing on the bench any more."""


@dataclass(frozen=True)
class Said(Event):
    """Something done, or gone wrong, that the person should know of."""

    words: str = field(kw_only=True)
    wrong: bool = field(default=False, kw_only=True)


@dataclass(frozen=True)
class Overtaken(Event):
    """Somebody else changed an entry that was to be changed here: nothing was written."""

    error: ChangedMeanwhile = field(kw_only=True)
    entry: Entry | None = field(kw_only=True)


@dataclass(frozen=True)
class Working(Event):
    """What is being done, and how far it is; share 1 and no words: nothing that takes a while."""

    what: str = field(kw_only=True)
    share: float = field(kw_only=True)


@dataclass(frozen=True)
class RecordingsChanged(Event):
    """A recording began, ended, was kept or discarded, or was found left behind."""


@dataclass(frozen=True)
class LettersChanged(Event):
    """Changes can never be sent any more: so many wait to be seen."""

    count: int = field(kw_only=True)


Listener = Callable[[Event], None]


class Announcer:
    """Hands each event to whoever subscribed to its kind, in the order of their subscribing."""

    def __init__(self) -> None:
        self._listeners: list[tuple[type[Event], Listener]] = []

    def subscribe(self, kind: type[Event], listener: Listener) -> Callable[[], None]:
        """Have `listener` called with every event of a kind; answers what ends that."""
        entry = (kind, listener)
        self._listeners.append(entry)
        return lambda: self._listeners.remove(entry) if entry in self._listeners else None

    def announce(self, event: Event) -> None:
        for kind, listener in list(self._listeners):
            if isinstance(event, kind):
                listener(event)
