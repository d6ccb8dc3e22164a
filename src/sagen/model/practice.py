"""How a practice job says which machine it is: a note on its trail that tells nothing of what is wrong."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from sagen.model.language import Kept, in_english, later
from sagen.model.lazy import lazy

if TYPE_CHECKING:
    from sagen.model.trail import NoteEntry, Record

trail = lazy("sagen.model.trail")  # the window comes up without it

LOOK_MINUTES = 5.0  #: of the machine's clock that a look at the suspects costs, where it costs any


class Shown(StrEnum):
    """Whether the learner sees whom Sagen suspects."""

    HIDDEN = "hidden"
    PRICED = "at a price"
    SHOWN = "shown"


_SHOWN = {Shown.HIDDEN: later("hidden"), Shown.PRICED: later("at a price"), Shown.SHOWN: later("shown")}


@dataclass(frozen=True)
class Practice:
    """Which machine a practice job is about, and what the learner sees of the suspects."""

    level: int = 0  #: 1 to 5; 0 where it is of a lesson or a teacher's
    seed: int = 0
    lesson: str = ""  #: the slug of a lesson
    case: str = ""  #: what a teacher hid in it, in letters that tell a reader nothing
    suspects: Shown = Shown.HIDDEN

    def story(self, owner: str) -> NoteEntry:
        """The job's first note: which machine it is, who brought it."""
        if self.level:
            what = later("level {level}", level=self.level)
        else:
            what = later("lesson {lesson}", lesson=self.lesson) if self.lesson else later("case {case}", case=self.case)
        return trail.NoteEntry.of_message(
            later(
                "Practice, {what}, machine {seed}. Suspects {shown}. Brought by {owner}. The stand-in instruments are clipped to it.",
                what=what,
                seed=self.seed,
                shown=_SHOWN[self.suspects],
                owner=owner,
            )
        )


_MARK = re.compile(
    r"^Practice, (?:level ([1-5])|lesson ([a-z0-9_]{1,40})|case ([A-Z2-7]{8,800})), machine (\d{1,9})\."
    r"(?: Suspects (hidden|at a price|shown)\.)?"
)
_LOOKED = later("Looked at the suspects.")
#: how the note of a look that costs begins
LOOKED = in_english(_LOOKED).rstrip(".")
_SCORED = re.compile(r"^Practice, scored (\d{1,3}) of 100: (.*)", re.DOTALL)


def practice_of(records: Iterable[Record]) -> Practice | None:
    """What a practice job is about; None for any other."""
    for record in records:
        found = _MARK.match(record.text) if isinstance(record, trail.NoteEntry) else None
        if found:
            level, lesson, case, seed, suspects = found.groups()
            # A job of before the suspects could be hidden had them in sight.
            return Practice(int(level or 0), int(seed), lesson or "", case or "", Shown(suspects or Shown.SHOWN))
    return None


def scored(points: int, words: Kept) -> NoteEntry:
    """The note that a debrief leaves on the trail."""
    return trail.NoteEntry.of_message(later("Practice, scored {points} of 100: {words}", points=points, words=words))


def looked() -> NoteEntry:
    """The note of a look at the suspects that costs minutes."""
    return trail.NoteEntry.of_message(_LOOKED)


def is_look(record: Record | None) -> bool:
    """Whether an entry is the note of such a look."""
    return isinstance(record, trail.NoteEntry) and record.text.startswith(LOOKED)


def score_of(records: Iterable[Record]) -> int | None:
    """The points that the first debrief of a job gave; None where there was none."""
    for record in records:
        found = _SCORED.match(record.text) if isinstance(record, trail.NoteEntry) else None
        if found:
            return int(found[1])
    return None


def suspects_hidden(records: Iterable[Record]) -> bool:
    """Whether the suspects of a job are out of sight: of practice, until they were paid for, or it was told what it was."""
    records = list(records)
    practice = practice_of(records)
    if practice is None or practice.suspects == Shown.SHOWN or score_of(records) is not None:
        return False
    last = records[-1] if records else None
    return not (practice.suspects == Shown.PRICED and is_look(last))
