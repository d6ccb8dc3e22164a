"""A job and its trail: one machine with one complaint, from intake to proof."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import TypeVar

from sagen.model.proof import Stage, Standing, standing
from sagen.model.trail import Record
from sagen.model.vocabulary import EntryKind

AnyRecord = TypeVar("AnyRecord", bound=Record)


@dataclass(frozen=True)
class Entry:
    """A record at its place on a trail. A withdrawn entry stays but no longer counts. `revision` counts its changes;
    who wrote it, at which bay, and who changed it last are "" where nobody said. One that `waits` is not at the server yet."""

    id: int
    created: datetime
    record: Record
    withdrawn: bool = False
    revision: int = 1
    author: str = ""
    bay: str = ""
    changer: str = ""
    waits: bool = False

    @property
    def kind(self) -> EntryKind:
        return self.record.kind


@dataclass(frozen=True)
class Job:
    id: int
    created: datetime
    machine: str
    owner: str = ""
    cylinders: int | None = None
    entries: tuple[Entry, ...] = field(default=())

    @property
    def standing(self) -> tuple[Entry, ...]:
        """The entries that count."""
        return tuple(entry for entry in self.entries if not entry.withdrawn)

    def of(self, kind: type[Record]) -> tuple[Entry, ...]:
        """Standing entries of one kind, oldest first."""
        return tuple(item for item in self.standing if isinstance(item.record, kind))

    def records(self, kind: type[AnyRecord] = Record) -> tuple[AnyRecord, ...]:
        """What standing entries of one kind say, oldest first."""
        return tuple(entry.record for entry in self.of(kind))

    def entry(self, entry_id: int) -> Entry | None:
        return next((entry for entry in self.entries if entry.id == entry_id), None)

    @property
    def stage(self) -> Stage:
        return self.standing_now.stage

    @cached_property
    def standing_now(self) -> Standing:
        """What the trail says of the proof."""
        return standing(self.records())


@dataclass(frozen=True)
class JobSummary:
    """A job as the log lists it: the columns shown, and nothing else."""

    id: int
    created: datetime
    machine: str
    owner: str = ""
    about: str = ""  #: complaint and codes in one line
    entries: int = 0
    stage: Stage = Stage.OPEN
    damaged: str = ""  #: why its row cannot be read whole
