"""How a practice job says which machine it is: a note on its trail that tells nothing of what is wrong."""

from __future__ import annotations

import re
from collections.abc import Iterable

from sagen.model.trail import NoteEntry, Record

_MARK = re.compile(r"^Practice, level ([1-5]), machine (\d{1,9})\.")


def mark(level: int, seed: int) -> str:
    """The words that a practice job's first note begins with."""
    return f"Practice, level {level}, machine {seed}."


def practice_of(records: Iterable[Record]) -> tuple[int, int] | None:
    """Level and machine of a practice job; None for any other."""
    for record in records:
        found = _MARK.match(record.text) if isinstance(record, NoteEntry) else None
        if found:
            return int(found[1]), int(found[2])
    return None
