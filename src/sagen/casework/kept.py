"""What is asked of the shelf: machine cards, known-good captures, photos, and captures laid over one another."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import ClassVar

import numpy as np

from sagen.casework.commands import Command, stored_pyramids
from sagen.casework.examination import Pair
from sagen.casework.open_capture import OpenCapture, opened_capture
from sagen.files.cards import read_card, read_rows, with_rows, write_card
from sagen.files.photos import read_photo, stripped
from sagen.kinds import Examination, examine
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import RAILS, Pattern, fits
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CardEntry, InspectionEntry, KeptReference, PhotoEntry
from sagen.model.vocabulary import PatternSource
from sagen.reason.facts import knowledge
from sagen.signal.both_ends import BothEnds, Source, both_ends
from sagen.signal.envelope import Beyond, beyond, envelope
from sagen.signal.reading import RotatingReading
from sagen.store.log import JobLog


def go_on(_share: float) -> bool:
    return True


@dataclass(frozen=True)
class Shelf:
    """What stands on the shelf."""

    cards: tuple[tuple[int, MachineCard], ...] = ()
    patterns: tuple[tuple[int, Pattern], ...] = ()


@dataclass(frozen=True)
class ListShelf(Command):
    """The cards and known-good captures, by name."""

    def perform(self, log, progress=go_on) -> Shelf:
        cards = sorted(log.shelf.cards(), key=lambda row: row[1].title.lower())
        patterns = sorted(log.shelf.patterns(), key=lambda row: (row[1].card.lower(), row[1].circuit, row[1].name))
        return Shelf(tuple(cards), tuple(patterns))


@dataclass(frozen=True)
class KeepCard(Command):
    """Keep a card on the shelf."""

    card: MachineCard
    writes: ClassVar[bool] = True

    def perform(self, log, progress=go_on) -> Shelf:
        log.shelf.keep_card(self.card)
        return ListShelf(self.job_id).perform(log)


@dataclass(frozen=True)
class DropKept(Command):
    """Take something off the shelf, or put it back."""

    kept_id: int
    withdrawn: bool = True
    writes: ClassVar[bool] = True

    def perform(self, log, progress=go_on) -> Shelf:
        log.shelf.drop(self.kept_id, self.withdrawn)
        return ListShelf(self.job_id).perform(log)


@dataclass(frozen=True)
class CardRead:
    """A card from a file, and what of it could not be taken."""

    card: MachineCard
    refused: tuple[str, ...] = ()


@dataclass(frozen=True)
class ReadCard(Command):
    """A card from its file; or, of a CSV, the card given with the rows of the file added."""

    path: Path
    card: MachineCard | None = None

    @property
    def doing(self) -> str:
        return f"Reading {self.path.name}"

    def perform(self, log=None, progress=go_on) -> CardRead:
        if self.path.suffix.lower() != ".csv":
            return CardRead(read_card(self.path))
        if self.card is None:
            raise SagenError("rows are added to a card: open or begin one first")
        return CardRead(*with_rows(self.card, read_rows(self.path)))


@dataclass(frozen=True)
class WriteCard(Command):
    """A card as a file."""

    path: Path
    card: MachineCard

    def perform(self, log=None, progress=go_on) -> Path:
        write_card(self.path, self.card)
        return self.path


# known-good captures -----------------------------------------------------------------------------------


def card_of(job: Job) -> MachineCard | None:
    """The card of a job; None where it has none."""
    return next((record.machine for record in reversed(job.records(CardEntry))), None)


def circuit_name(job: Job, sheet: Sheet) -> str:
    """Which of the job's circuits a capture is of: the only one of its role and bank; "" where that is not plain."""
    from sagen.reason.several import circuits_of

    circuits = circuits_of(job.records())
    if len(circuits) < 2:
        return next(iter(circuits))
    sensors = [item for item in sheet.channel if item.role not in RAILS]
    found = {
        name for name, spec in circuits.items() for sensor in sensors
        if sensor.role == spec.role and (sensor.bank is None or spec.bank in (None, sensor.bank))
    }  # fmt: skip
    return next(iter(found)) if len(found) == 1 else ""


def fitting_patterns(log: JobLog, job: Job, sheet: Sheet) -> list[Pattern]:
    """The known-good captures of the circuit and state of a capture, the most alike first: same card, then the newest."""
    card = card_of(job)
    title, circuit = (card.title if card else job.machine), circuit_name(job, sheet)
    found = [item for _, item in log.shelf.patterns() if fits(item, sheet, title, circuit)]
    return sorted(found, key=lambda item: (item.circuit != circuit, -item.id))


@dataclass(frozen=True)
class KeepAsGood(Command):
    """Keep a capture of the trail as known-good for its kind of machine."""

    job: Job
    entry: Entry
    source: PatternSource = PatternSource.AFTER_REPAIR
    writes: ClassVar[bool] = True

    def perform(self, log, progress=go_on) -> Pattern:
        record: CaptureEntry = self.entry.record
        card = card_of(self.job)
        speeds = [row["speed_rpm"]["median"] for row in record.channels if row.get("speed_rpm")]
        made = Pattern(
            record.name, record.token, record.sheet, self.source, card.title if card else self.job.machine,
            record.circuit or circuit_name(self.job, record.sheet), speeds[0] if speeds else None,
        )  # fmt: skip
        return replace(made, id=log.shelf.keep_pattern(made))


@dataclass(frozen=True)
class Laid:
    """A capture with another one laid under it, and what the comparison came to."""

    opened: OpenCapture
    said: tuple[str, ...]


@dataclass(frozen=True)
class LayUnder(Command):
    """Lay another capture under one of the trail: a known-good one, or an earlier one of the job. Nothing is written."""

    job: Job
    entry: Entry
    under: KeptReference

    @property
    def doing(self) -> str:
        return f"Laying {self.under.name} under it"

    def perform(self, log, progress=go_on) -> Laid:
        record: CaptureEntry = self.entry.record
        good: Pair = (log.capture(self.under.token), self.under.sheet)
        done = examine(log.capture(record.token), record.sheet, reference=good, progress=progress)
        done = replace(done, findings=record.findings)
        opened = opened_capture(self.job_id, self.entry, done, stored_pyramids(log, record.token, done.capture), good)
        return Laid(opened, (*done.compared, *against_envelope(log, self.job, done)))


def against_envelope(log: JobLog, job: Job, done: Examination) -> tuple[str, ...]:
    """What of a capture is beyond the envelope of the known-good ones of its kind, in words; nothing where there are fewer
    than two."""
    patterns = fitting_patterns(log, job, done.sheet)
    if len(patterns) < 2:
        return ()
    read = [examine(log.capture(pattern.token), pattern.sheet) for pattern in patterns[:12]]
    said = []
    for result in done.channels:
        if result.reading is None or result.reading.wheel is None:
            continue
        alike = [
            found.reading for item in read for found in item.channels
            if isinstance(found.reading, RotatingReading) and found.sheet.role == result.sheet.role
        ]  # fmt: skip
        known = envelope(alike)
        if known is not None:
            said.append(envelope_words(result.sheet.column, known.captures, beyond(result.reading, known)))
    return tuple(said)


def envelope_words(column: str, captures: int, rows: list[Beyond]) -> str:
    """What an envelope says of a channel."""
    from sagen.model.finding_words import odd_words

    if not rows:
        return f"{column}: within the envelope of {captures} known-good captures."
    told = []
    firsts = {row.tooth if row.tooth else row.measure: row for row in reversed(rows)}
    for this_first in sorted(firsts.values(), key=lambda first: first.chance)[:3]:
        by_level = f"is {abs(this_first.size):.2g} V {'higher' if this_first.size > 0 else 'lower'}"
        what = odd_words(this_first.measure, this_first.size, "than in those") if this_first.tooth else by_level
        name = f"tooth {this_first.tooth}" if this_first.tooth else f"the {this_first.measure} level"
        told.append(f"{name} {what}")
    # Few captures do not tell of rarer things than that.
    chance = f"once in {1 / rows[0].chance:,.0f}" if rows[0].chance > RAREST else f"less than once in {1 / RAREST:,.0f}"
    return (
        f"{column}: beyond the envelope of {captures} known-good captures: {'; '.join(told)}. A sound one is as far off "
        f"anywhere {chance}."
    )


RAREST = 1e-3


# both ends of the wire -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class EndsCompared:
    """Both ends of a wire compared, in words, and the answer to the check of that name."""

    ends: BothEnds
    said: tuple[str, ...]
    answer: InspectionEntry


@dataclass(frozen=True)
class CompareEnds(Command):
    """Compare a capture at the sensor with one at the module: two of the trail, or two channels of one."""

    job: Job
    sensor: Entry
    module: Entry
    pull_up_ohm: float | None = None  #: or the coil's load; None: as it usually is

    @property
    def doing(self) -> str:
        return "Comparing both ends"

    def perform(self, log, progress=go_on) -> EndsCompared:
        here, there = (self._read(log, item) for item in (self.sensor, self.module))
        pair = (here, here) if self.sensor.id == self.module.id else (here, there)
        first, second = self._channels(*pair)
        source = self._source(first[0])
        ends = both_ends(first[0], second[0], (first[1], second[1]), source)
        outcome = "" if ends.same else "differ"
        check = knowledge().check("both_ends_of_the_signal_wire")
        circuit = self.sensor.record.circuit
        return EndsCompared(ends, ends_words(ends), InspectionEntry(check.slug, outcome, circuit=circuit))

    def _read(self, log, entry: Entry) -> Examination:
        return examine(log.capture(entry.record.token), entry.record.sheet)

    def _channels(self, here: Examination, there: Examination):
        mine = [
            (channel.reading, here.capture.channel(channel.sheet.column))
            for channel in here.channels
            if channel.reading
        ]
        theirs = [
            (channel.reading, there.capture.channel(channel.sheet.column))
            for channel in there.channels
            if channel.reading
        ]
        if here is there:
            if len(mine) < 2:
                raise SagenError("one capture of both ends needs two channels of the same signal")
            return mine[0], mine[1]
        if not mine or not theirs:
            raise SagenError("both captures need a channel that reads a turning wheel")
        return mine[0], theirs[0]

    def _source(self, reading: RotatingReading) -> Source | None:
        coil = reading.strength is not None
        if self.pull_up_ohm is not None:
            return Source(
                0.97 * self.pull_up_ohm, 1.03 * self.pull_up_ohm, None if coil else reading.sheet.pull_up, True
            )
        usual = knowledge().world["load_ohm" if coil else "pull_up_ohm"].at(np.array([0.1, 0.9]))
        return Source(float(usual[0]), float(usual[1]), None if coil else reading.sheet.pull_up)


def ends_words(ends: BothEnds) -> tuple[str, ...]:
    """What comparing both ends came to."""
    from sagen.model.words import said_ohms

    said = [
        "The same picture at both ends: the wire is sound as far as this tells."
        if ends.same
        else "The two ends differ: the wire, or a contact of it."
    ]
    said.append(
        f"The low level is {1e3 * ends.low_v.value:+.0f} mV at the module ({1e3 * ends.low_v.low:+.0f} to {1e3 * ends.low_v.high:+.0f}), "
        f"the high level {1e3 * ends.high_v.value:+.0f} mV."
    )
    if ends.ohm is not None:
        stated = "" if ends.source.stated else " The module's own resistance was not stated: taken as it usually is."
        said.append(
            f"That is {said_ohms(max(ends.ohm.value, 0.0))} in the wire ({said_ohms(max(ends.ohm.low, 0.0))} to {said_ohms(max(ends.ohm.high, 0.0))}).{stated}"
        )
    if ends.edges:
        said.append(f"{ends.missing} of {ends.edges} edges do not reach the module.")
    if ends.tau_s is not None:
        said.append(
            f"Edges are slower at the module by a time constant of {1e6 * ends.tau_s.value:.0f} µs ({1e6 * ends.tau_s.low:.0f} to {1e6 * ends.tau_s.high:.0f})."
        )
    return tuple(said)


# photos --------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class KeepPhoto(Command):
    """A photo, from a file or as pasted, for the trail."""

    path: Path | None = None
    data: bytes = b""
    caption: str = ""
    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return "Keeping the photo"

    def perform(self, log, progress=go_on) -> PhotoEntry:
        plain = read_photo(self.path) if self.path is not None else stripped(self.data, "pasted photo")
        name = self.caption or (self.path.stem if self.path is not None else "")
        return PhotoEntry(log.captures.put_photo(plain), name)


@dataclass(frozen=True)
class GetPhoto(Command):
    """The bytes of a photo, by its token."""

    token: str

    def perform(self, log, progress=go_on) -> bytes:
        return log.captures.photo(self.token)


__all__ = [
    "CardRead", "CompareEnds", "DropKept", "EndsCompared", "GetPhoto", "KeepAsGood", "KeepCard", "KeepPhoto", "Laid",
    "LayUnder", "ListShelf", "ReadCard", "Shelf", "WriteCard", "against_envelope", "card_of",
    "circuit_name", "ends_words", "fitting_patterns",
]  # fmt: skip
