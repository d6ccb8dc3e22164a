"""A job and its trail: one machine with one complaint, from intake to proof."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime


@dataclass(frozen=True)
class Entry:
    """One entry of the trail. `data` is what its kind needs; a withdrawn entry stays but no longer counts."""

    id: int
    kind: str  #: a key of ENTRY_TITLES
    created: datetime
    data: dict
    withdrawn: bool = False


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
        return tuple(one for one in self.entries if not one.withdrawn)

    def of(self, kind: str) -> tuple[Entry, ...]:
        """Standing entries of one kind, oldest first."""
        return tuple(one for one in self.standing if one.kind == kind)

    def entry(self, entry_id: int) -> Entry | None:
        return next((one for one in self.entries if one.id == entry_id), None)

    def with_entries(self, entries) -> Job:
        return replace(self, entries=tuple(entries))


#: an entry's kind in words
ENTRY_TITLES = {
    "complaint": "Complaint",
    "code": "Trouble code",
    "capture": "Capture",
    "note": "Note",
    "repair": "Repair",
    "proof": "Proof",
    "reading": "Reading",
    "look": "Looked at",
    "replaced": "Replaced before",
    "circuit": "Circuit",
}
