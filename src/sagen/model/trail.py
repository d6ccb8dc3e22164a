"""The trail's entries: one frozen record a kind, the same in a job file, in the log, in the window and in the reasoning.

A record checks itself when it is made and raises ValueError with what is wrong. None of it needs more than the
standard library, so that the window can show a trail before anything heavy is imported. How a record is kept in the
log is `store/codecs.py`, what it says to a person is `casework/words.py`, what it is evidence of is `reason/case.py`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, fields
from typing import TYPE_CHECKING, ClassVar

from sagen.model.errors import unknown_name
from sagen.model.finding import Cadence, Finding
from sagen.model.vocabulary import (
    FINDING_FIELDS,
    FINDING_STATES,
    METER_STATES,
    PART_ALIASES,
    CodeKind,
    CodesBack,
    CodeStatus,
    Complaint,
    EngineRuns,
    EntryKind,
    FindingKind,
    Occasion,
    Origin,
    Part,
    Place,
    Point,
    Quantity,
    Scan,
    State,
    Thing,
    word,
)

if TYPE_CHECKING:
    from sagen.model.circuit import CircuitSpec
    from sagen.model.sheet import Sheet

MOST_TEXT = 20_000  #: characters of a note
MOST_VALUE = 1e12  #: a reading beyond this is no reading; over range is kept as what the meter would show at most
OVER_RANGE_OHM = 4e7  #: what "over range" counts as


NOTHING_FOUND = "none"  #: what a file calls a recording that shows nothing wrong


class UnknownField(ValueError):
    """A field that this version does not know: the entry was written by a newer one, or the key is misspelt."""


@dataclass(frozen=True)
class Record:
    """Base of all entries."""

    kind: ClassVar[EntryKind]

    @classmethod
    def of(cls, data: dict):
        """A record from plain data, its fields by name; raises UnknownField or ValueError."""
        names = [one.name for one in fields(cls)]
        for key in data:
            if key not in names:
                raise UnknownField(unknown_name("key", key, names))
        try:
            return cls(**data)
        except TypeError as error:
            raise ValueError(str(error).split(") ", 1)[-1]) from None

    def _word(self, name: str, kind, among=None) -> None:
        """Make a field a member of a closed set."""
        object.__setattr__(self, name, word(kind, getattr(self, name), name, among))

    def _number(self, name: str, low: float, high: float) -> None:
        value = getattr(self, name)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError(f"{name}: {value!r} is not a number")
        if not low <= value <= high:
            raise ValueError(f"{name}: {value:g} is not from {low:g} to {high:g}")
        object.__setattr__(self, name, float(value))

    def _truth(self, name: str) -> None:
        value = getattr(self, name)
        if value is not None and not isinstance(value, bool):
            raise ValueError(f"{name}: {value!r} is not true or false")

    def _text(self, *names: str) -> None:
        for name in names:
            value = getattr(self, name)
            if not isinstance(value, str):
                raise ValueError(f"{name}: {value!r} is not text")
            object.__setattr__(self, name, value[:MOST_TEXT])


@dataclass(frozen=True)
class ComplaintEntry(Record):
    """One of the known complaints, or free words; when it comes, and what is known of whether the engine runs."""

    kind = EntryKind.COMPLAINT
    complaint: Complaint | None = None
    text: str = ""
    when: tuple[Occasion, ...] = ()
    runs: EngineRuns | None = None

    def __post_init__(self):
        self._text("text")
        if self.complaint is not None:
            self._word("complaint", Complaint)
        if self.runs is not None:
            self._word("runs", EngineRuns)
        object.__setattr__(self, "when", tuple(word(Occasion, one, "when") for one in self.when))


@dataclass(frozen=True)
class CodeEntry(Record):
    """A trouble code; `says` where a maker's own code was tied to this circuit by hand."""

    kind = EntryKind.CODE
    code: str
    meaning: str = ""
    says: CodeKind | None = None
    status: CodeStatus | None = None

    def __post_init__(self):
        self._text("code", "meaning")
        if self.says is not None:
            self._word("says", CodeKind)
        if self.status is not None:
            self._word("status", CodeStatus)


@dataclass(frozen=True)
class NoteEntry(Record):
    kind = EntryKind.NOTE
    text: str

    def __post_init__(self):
        self._text("text")


def word_of_part(text: object) -> Part:
    """A part by its name or another word for it; raises ValueError with the nearest."""
    if text in PART_ALIASES:
        return PART_ALIASES[str(text)]
    try:
        return Part(text)
    except ValueError:
        raise ValueError(f"part: {unknown_name('value', str(text), [*Part, *PART_ALIASES])}") from None


#: what stands open after a part was changed
PLACE_OF_PART = {
    Part.SENSOR: Place.SENSOR, Part.SEAT: Place.SENSOR, Part.WHEEL: Place.WHEEL, Part.MODULE: Place.MODULE,
    Part.TIMING: Place.TIMING, Part.SUPPLY: Place.FUSE,
}  # fmt: skip


@dataclass(frozen=True)
class ReplacedEntry(Record):
    """A part that was changed before this job; `began`: whether the complaint began with that, None: not known."""

    kind = EntryKind.REPLACED
    part: Part
    origin: Origin = Origin.UNKNOWN
    text: str = ""
    began: bool | None = None

    def __post_init__(self):
        self._text("text")
        self._truth("began")
        object.__setattr__(self, "part", word_of_part(self.part))
        self._word("origin", Origin)


@dataclass(frozen=True)
class RepairEntry(Record):
    """A part changed or mended in this job; without a part it is only told."""

    kind = EntryKind.REPAIR
    part: Part | None = None
    origin: Origin = Origin.ORIGINAL
    text: str = ""

    def __post_init__(self):
        self._text("text")
        if self.part is not None:
            object.__setattr__(self, "part", word_of_part(self.part))
        self._word("origin", Origin)


@dataclass(frozen=True)
class ProofEntry(Record):
    """What of the proof is done: keys of `words.OWED`, and more in words."""

    kind = EntryKind.PROOF
    done: tuple[str, ...] = ()
    more: str = ""

    def __post_init__(self):
        self._text("more")
        object.__setattr__(self, "done", tuple(str(one) for one in self.done))


@dataclass(frozen=True)
class ReadingEntry(Record):
    """A meter reading: volts against battery negative, or ohms. `shown` is the figure as it was typed."""

    kind = EntryKind.READING
    reading: Quantity
    point: Point
    state: State
    value: float
    temperature_c: float | None = None
    leads_ohm: float = 0.0
    accuracy: str | None = None
    shown: str = ""

    def __post_init__(self):
        self._word("reading", Quantity)
        self._word("point", Point)
        self._word("state", State, METER_STATES)
        self._text("shown")
        if isinstance(self.value, float) and math.isinf(self.value) and self.value > 0 and self.ohms:
            object.__setattr__(self, "value", OVER_RANGE_OHM)
        self._number("value", -MOST_VALUE, MOST_VALUE)
        if self.temperature_c is not None:
            self._number("temperature_c", -60, 250)
        self._number("leads_ohm", 0, 10)
        if self.accuracy is not None:
            self._text("accuracy")

    @property
    def ohms(self) -> bool:
        return self.reading == Quantity.OHMS


@dataclass(frozen=True)
class InspectionEntry(Record):
    """What a check by eye or hand came to: one of its outcomes, "" for as expected. Or, in free words, what was looked
    at (`part`, one of `LOOKED_AT`) and what was seen of it; `certain` makes it a fact."""

    kind = EntryKind.INSPECTION
    check: str
    outcome: str = ""
    part: Thing | None = None
    seen: str = ""
    certain: bool = False

    def __post_init__(self):
        self._text("check", "outcome", "seen")
        self._truth("certain")
        if self.part is not None:
            self._word("part", Thing)


@dataclass(frozen=True)
class ScanEntry(Record):
    """What the module itself shows: a speed while cranking in rpm (0: none), or when a cleared code came back."""

    kind = EntryKind.SCAN
    scan: Scan
    value: float | CodesBack = 0.0

    def __post_init__(self):
        self._word("scan", Scan)
        if self.scan == Scan.CODES_BACK:
            self._word("value", CodesBack)
        else:
            self._number("value", 0, 20_000)


@dataclass(frozen=True)
class StayedEntry(Record):
    """After a repair: whether the complaint is still there."""

    kind = EntryKind.STAYED
    stayed: bool = True

    def __post_init__(self):
        if not isinstance(self.stayed, bool):
            raise ValueError(f"stayed: {self.stayed!r} is not true or false")


@dataclass(frozen=True)
class DecisionEntry(Record):
    """What was decided while it was open: the choice taken, all that were weighed (name, fitted, cost, low, high,
    comes_back, waits_days), and what they were weighed from."""

    kind = EntryKind.DECISION
    choice: str
    choices: tuple[dict, ...] = ()
    given: dict = field(default_factory=dict)
    text: str = ""

    def __post_init__(self):
        self._text("choice", "text")
        if not self.choice:
            raise ValueError("choice: says nothing")
        object.__setattr__(self, "choices", tuple(dict(one) for one in self.choices))
        for one in self.choices:
            for name in ("cost", "low", "high"):
                value = one.get(name)
                if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
                    raise ValueError(f"choices: {name} is not a number")


@dataclass(frozen=True)
class FindingEntry(Record):
    """A finding that was read elsewhere, with its fields as the command line's contract lists them; "none": a recording
    that showed nothing wrong."""

    kind = EntryKind.FINDING
    finding: FindingKind | None
    state: State | None = None
    fields: dict = field(default_factory=dict)

    def __post_init__(self):
        if self.finding in (None, NOTHING_FOUND):
            object.__setattr__(self, "finding", None)
        else:
            self._word("finding", FindingKind)
        if self.state is not None:
            self._word("state", State, FINDING_STATES)
        for key in self.fields:
            if key not in (*FINDING_FIELDS, "channel", "severity", "text"):
                raise UnknownField(unknown_name("key", key, ("finding", "state", *FINDING_FIELDS)))


@dataclass(frozen=True)
class CircuitEntry(Record):
    """The circuit as it was stated in this job."""

    kind = EntryKind.CIRCUIT
    spec: CircuitSpec


@dataclass(frozen=True)
class KeptReference:
    """The known-good capture that another one was examined against."""

    name: str
    token: str
    sheet: Sheet


@dataclass(frozen=True)
class CaptureEntry(Record):
    """An examined capture. Its samples lie on the shelf under `token`; what was found when it came in stays."""

    kind = EntryKind.CAPTURE
    name: str
    sheet: Sheet
    findings: tuple[Finding, ...] = ()
    #: a row a channel as the command line prints it
    channels: tuple[dict, ...] = ()
    compared: tuple[str, ...] = ()  #: each channel against the known-good capture, in words
    cadence: Cadence | None = None
    strikes: dict | None = None  #: how knock sensors answered taps, as `StrikeSet.as_data` gives it
    reference: KeptReference | None = None
    token: str = ""


@dataclass(frozen=True)
class CaptureFile(Record):
    """A capture that a job file names; it becomes a CaptureEntry once it is examined."""

    kind = EntryKind.CAPTURE
    capture: str
    sheet: str | None = None

    def __post_init__(self):
        self._text("capture")
        if not self.capture:
            raise ValueError("capture: names no file")


@dataclass(frozen=True)
class DamagedEntry(Record):
    """A row of the log that cannot be read. It can be seen and withdrawn; nothing is taken from it."""

    kind = EntryKind.DAMAGED
    why: str
    was: str = ""  #: the kind that it says it is


@dataclass(frozen=True)
class NewerEntry(Record):
    """An entry that a newer Sagen wrote: shown and kept as it is, not weighed and not changed."""

    kind = EntryKind.NEWER
    was: str
    data: dict = field(default_factory=dict)
