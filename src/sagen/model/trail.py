"""The trail's entries: one frozen record a kind, the same in a job file, in the log, in the window and in the reasoning.

A record checks itself when it is made and raises ValueError with what is wrong. None of it needs more than the
standard library, so that the window can show a trail before anything heavy is imported. How a record is kept in the
log is `store/codecs.py`, what it says to a person is `casework/words.py`, what it is evidence of is `reason/case.py`.
"""

from __future__ import annotations

import math
from dataclasses import MISSING, dataclass, field, fields
from functools import cached_property
from typing import TYPE_CHECKING, ClassVar

from sagen.model.errors import unknown_name
from sagen.model.finding import Cadence, Finding
from sagen.model.language import in_english, said_now, tr
from sagen.model.lazy import lazy
from sagen.model.vocabulary import (
    FINDING_FIELDS,
    FINDING_STATES,
    METER_STATES,
    NOTHING_FOUND,
    OVER_RANGE_OHM,
    PART_ALIASES,
    CardQuantity,
    CodeKind,
    CodesBack,
    CodeStatus,
    Complaint,
    EngineRuns,
    EntryKind,
    FindingKind,
    Judged,
    LineState,
    Occasion,
    Origin,
    Part,
    Place,
    Point,
    ProofStep,
    Quantity,
    Scan,
    SeenMark,
    State,
    StepKind,
    Thing,
    word,
)

#: loaded when a card is first asked for: a trail is shown before that
machine_card = lazy("sagen.model.machine_card")

if TYPE_CHECKING:
    from sagen.model.circuit import CircuitSpec
    from sagen.model.machine_card import MachineCard
    from sagen.model.sheet import Sheet

MOST_TEXT = 20_000  #: characters of a note
MOST_MONEY = 1e9
MOST_VALUE = 1e12  #: a reading beyond this is no reading; over range is kept as what the meter would show at most
MOST_PICTURES = 24  #: on a picture board that a file tells of


class UnknownField(ValueError):
    """A field that this version does not know: the entry was written by a newer one, or the key is misspelt."""


@dataclass(frozen=True)
class Record:
    """Base of all entries. `circuit` names the one that it belongs to, where a job has several; "": the job's first, or
    all of them."""

    kind: ClassVar[EntryKind]
    circuit: str = field(default="", kw_only=True)

    @classmethod
    def of(cls, data: dict):
        """A record from plain data, its fields by name; raises UnknownField or ValueError."""
        asked = {one.name: one.default is MISSING and one.default_factory is MISSING for one in fields(cls)}
        for key in data:
            if key not in asked:
                raise UnknownField(unknown_name("key", key, list(asked)))
        for name, needed in asked.items():
            if needed and name not in data:
                raise ValueError(tr("{place} is missing", place=name))
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
            raise ValueError(tr("{name}: {value} is not a number", name=name, value=repr(value)))
        if isinstance(value, int):
            value = float(min(max(value, -(10**30)), 10**30))  # of 400 digits no float is
        if not low <= value <= high:
            raise ValueError(
                tr("{name}: {value:g} is not from {low:g} to {high:g}", name=name, value=value, low=low, high=high)
            )
        object.__setattr__(self, name, float(value))

    def _money(self, *names: str) -> None:
        """Fields that are amounts, days or minutes; None for what was not stated."""
        for name in names:
            if getattr(self, name) is not None:
                self._number(name, 0, MOST_MONEY)

    def _truth(self, name: str) -> None:
        value = getattr(self, name)
        if value is not None and not isinstance(value, bool):
            raise ValueError(tr("{name}: {value} is not true or false", name=name, value=repr(value)))

    def _text(self, *names: str) -> None:
        for name in names:
            value = getattr(self, name)
            if not isinstance(value, str):
                raise ValueError(tr("{name}: {value} is not text", name=name, value=repr(value)))
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
        object.__setattr__(self, "when", tuple(word(Occasion, item, "when") for item in self.when))


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
    """Words of a person, or of the program's own; of those the message is kept beside them, for readers of other languages."""

    kind = EntryKind.NOTE
    text: str
    says: dict | None = None  #: what `model.language.later` kept, where the words are the program's

    def __post_init__(self):
        self._text("text")
        if self.says is not None and not isinstance(self.says, dict):
            raise ValueError(tr("{name}: {value} is not text", name="says", value=repr(self.says)))

    @classmethod
    def of_message(cls, kept: dict) -> NoteEntry:
        """A note in the program's own words, as `model.language.later` keeps them."""
        return cls(in_english(kept), says=kept)

    @property
    def said(self) -> str:
        """The note for whoever reads it. Words that were changed since are the person's, whatever the message was."""
        own = self.says is not None and in_english(self.says)[:MOST_TEXT] == self.text
        return said_now(self.says) if own else self.text


def word_of_part(text: object) -> Part:
    """A part by its name or another word for it; raises ValueError with the nearest."""
    if text in PART_ALIASES:
        return PART_ALIASES[str(text)]
    try:
        return Part(text)
    except ValueError:
        raise ValueError(tr("part: {it}", it=unknown_name("value", str(text), [*Part, *PART_ALIASES]))) from None


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
    """Steps of the proof that were done, and such that failed; more in words. `codes` are those that were read after
    clearing, `drive` how it was driven: km, minutes, conditions, and whether the complaint came."""

    kind = EntryKind.PROOF
    done: tuple[ProofStep, ...] = ()
    more: str = ""
    failed: tuple[ProofStep, ...] = ()
    codes: tuple[str, ...] = ()
    drive: dict = field(default_factory=dict)

    def __post_init__(self):
        self._text("more")
        for name in ("done", "failed"):
            object.__setattr__(self, name, tuple(word(ProofStep, item, name) for item in getattr(self, name)))
        object.__setattr__(self, "codes", tuple(str(code)[:MOST_CODE] for code in self.codes))
        for key, value in self.drive.items():
            if key not in DRIVE:
                raise UnknownField(unknown_name("key", key, DRIVE))
            if key in ("km", "minutes") and (
                isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e5
            ):
                raise ValueError(tr("drive: {key} is not a number from 0 to 100000", key=key))


DRIVE = ("km", "minutes", "conditions", "came")
MOST_CODE = 40  #: characters


@dataclass(frozen=True)
class ReadingEntry(Record):
    """A meter reading: volts against battery negative, or ohms. `shown` is the figure as it was typed; `judged` what it
    was against its limits when it was entered, from the card or the model (`against`), None where it was not judged;
    `again`: it was taken once more to be sure, not told twice."""

    kind = EntryKind.READING
    reading: Quantity
    point: Point
    state: State
    value: float
    temperature_c: float | None = None
    leads_ohm: float = 0.0
    accuracy: str | None = None
    shown: str = ""
    judged: Judged | None = None
    against: str = ""
    again: bool = False

    def __post_init__(self):
        self._truth("again")
        if self.judged is not None:
            self._word("judged", Judged)
        self._text("against")
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
    at (`part`, one of `LOOKED_AT`) and what was seen of it; `certain` makes it a fact. `again`: it was looked at once more to
    be sure, not told twice."""

    kind = EntryKind.INSPECTION
    check: str
    outcome: str = ""
    part: Thing | None = None
    seen: str = ""
    certain: bool = False
    again: bool = False

    def __post_init__(self):
        self._text("check", "outcome", "seen")
        self._truth("certain")
        self._truth("again")
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
            raise ValueError(tr("stayed: {stayed} is not true or false", stayed=repr(self.stayed)))


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
            raise ValueError(tr("choice: says nothing"))
        object.__setattr__(self, "choices", tuple(dict(choice) for choice in self.choices))
        for this_choice in self.choices:
            for name in ("cost", "low", "high"):
                value = this_choice.get(name)
                if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
                    raise ValueError(tr("choices: {name} is not a number", name=name))


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
class BoardEntry(Record):
    """What was pressed on a picture board: `shown` are the kinds of picture that were on it (`finding_label`s, "none" for one with
    nothing wrong), `pressed` the one that looks like theirs, the two that theirs lies between, or nothing where none looks like it."""

    kind = EntryKind.BOARD
    shown: tuple[str, ...]
    pressed: tuple[str, ...] = ()
    state: State | None = None

    def __post_init__(self):
        for name in ("shown", "pressed"):
            labels = getattr(self, name)
            if not isinstance(labels, list | tuple) or not all(isinstance(label, str) for label in labels):
                raise ValueError(tr("{name}: is a list of kinds of picture", name=name))
            for label in labels:
                if label != NOTHING_FOUND:
                    word(FindingKind, label.partition(":")[0], name)
            object.__setattr__(self, name, tuple(labels))
        if not 2 <= len(self.shown) <= MOST_PICTURES:
            raise ValueError(tr("shown: from 2 to {most} pictures", most=MOST_PICTURES))
        if len(self.pressed) > 2 or not set(self.pressed) <= set(self.shown):
            raise ValueError(tr("pressed: two of those that were shown at most"))
        if self.state is not None:
            self._word("state", State, FINDING_STATES)


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
    #: what is beyond the envelope of several known-good ones, a table a channel; in older logs each comparison as a sentence
    compared: tuple[dict | str, ...] = ()
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
            raise ValueError(tr("capture: names no file"))


@dataclass(frozen=True)
class CardEntry(Record):
    """The machine's card, as it was when it was put on the trail."""

    kind = EntryKind.CARD
    card: dict

    def __post_init__(self):
        if not isinstance(self.card, dict) or not self.card.get("model"):
            raise ValueError(tr("card: names no machine"))

    @cached_property
    def machine(self) -> MachineCard:
        """The card itself; raises SheetError where its data make no sense."""
        return machine_card.MachineCard.from_data(self.card, tr("card of the job"))


@dataclass(frozen=True)
class ValueEntry(Record):
    """A reading of what a card publishes, in any circuit: between which points, in which state, in the unit of the row."""

    kind = EntryKind.VALUE
    between: tuple[str, ...]
    quantity: CardQuantity
    value: float
    state: State | None = None
    when: str = ""
    temperature_c: float | None = None
    leads_ohm: float = 0.0
    accuracy: str | None = None
    shown: str = ""
    judged: Judged | None = None
    against: str = ""

    def __post_init__(self):
        object.__setattr__(self, "between", tuple(str(item)[:60] for item in self.between))
        if not 1 <= len(self.between) <= 2:
            raise ValueError(tr("between: one point, or two"))
        self._word("quantity", CardQuantity)
        self._number("value", -MOST_VALUE, MOST_VALUE)
        if self.state is not None:
            self._word("state", State)
        if self.judged is not None:
            self._word("judged", Judged)
        if self.temperature_c is not None:
            self._number("temperature_c", -60, 250)
        self._number("leads_ohm", 0, 10)
        self._text("when", "shown", "against")


@dataclass(frozen=True)
class PlaceEntry(Record):
    """A place was opened, or closed again; its access is paid once, until then."""

    kind = EntryKind.PLACE
    place: Place
    opened: bool = True

    def __post_init__(self):
        self._word("place", Place)
        if not isinstance(self.opened, bool):
            raise ValueError(tr("opened: {opened} is not true or false", opened=repr(self.opened)))


@dataclass(frozen=True)
class StepEntry(Record):
    """One step of taking something apart; `back` once it is together again. `size`: of the bolt; `owes`: what it needs
    before it goes back (a seal, a torque); `place`: what it has to do with."""

    kind = EntryKind.STEP
    step: StepKind
    what: str
    size: str = ""
    owes: str = ""
    place: Place | None = None
    back: bool = False

    def __post_init__(self):
        self._word("step", StepKind)
        self._text("what", "size", "owes")
        if not self.what.strip():
            raise ValueError(tr("what: says nothing"))
        if self.place is not None:
            self._word("place", Place)
        self._truth("back")


@dataclass(frozen=True)
class PartEntry(Record):
    """A part line: what is wanted for the job, from whom, for how much, in how many days, and how far it has come.
    `bench`: what was measured of it before it is fitted (ohms, pulses, looks: words each)."""

    kind = EntryKind.PART
    name: str
    part: Part | None = None
    number: str = ""
    maker: str = ""
    origin: Origin = Origin.UNKNOWN
    source: str = ""
    price: float | None = None
    count: int = 1
    lead_days: float | None = None
    state: LineState = LineState.WANTED
    bench: dict = field(default_factory=dict)
    text: str = ""

    def __post_init__(self):
        self._text("name", "number", "maker", "source", "text")
        if not self.name.strip():
            raise ValueError(tr("name: the part is not named"))
        if self.part is not None:
            object.__setattr__(self, "part", word_of_part(self.part))
        self._word("origin", Origin)
        self._word("state", LineState)
        self._money("price", "lead_days")
        if isinstance(self.count, bool) or not isinstance(self.count, int) or not 1 <= self.count <= 10_000:
            raise ValueError(tr("count: {count} is not a number of parts", count=repr(self.count)))
        for key in self.bench:
            if key not in BENCH:
                raise UnknownField(unknown_name("key", key, BENCH))
        object.__setattr__(self, "bench", {key: str(value)[:200] for key, value in self.bench.items()})


#: what of a part is looked at on the bench before it is fitted
BENCH = ("ohms", "pulses", "looks")


@dataclass(frozen=True)
class SeenEntry(Record):
    """A second fault that was seen on the way, and what becomes of it."""

    kind = EntryKind.SEEN
    seen: str
    mark: SeenMark = SeenMark.WATCH
    because: str = ""

    def __post_init__(self):
        self._text("seen", "because")
        if not self.seen.strip():
            raise ValueError(tr("seen: says nothing"))
        self._word("mark", SeenMark)


@dataclass(frozen=True)
class PhotoEntry(Record):
    """A photo on the shelf under `token`, with words and an arrow (from x, y to x, y, shares of width and height)."""

    kind = EntryKind.PHOTO
    token: str
    caption: str = ""
    arrow: tuple[float, ...] = ()
    words: str = ""

    def __post_init__(self):
        self._text("token", "caption", "words")
        if len(self.arrow) not in (0, 4) or not all(
            isinstance(item, int | float) and 0 <= item <= 1 for item in self.arrow
        ):
            raise ValueError(tr("arrow: four shares from 0 to 1, or none"))
        object.__setattr__(self, "arrow", tuple(float(item) for item in self.arrow))


@dataclass(frozen=True)
class CostsEntry(Record):
    """What this job's hour, a come-back and a day of standing cost; None: as the shop has it, or not stated."""

    kind = EntryKind.COSTS
    hour: float | None = None
    come_back: float | None = None
    day: float | None = None
    part_price: float | None = None
    lead_days: float | None = None

    def __post_init__(self):
        self._money("hour", "come_back", "day", "part_price", "lead_days")


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
