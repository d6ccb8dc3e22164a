"""What is asked of the shelf: machine cards, known-good captures, photos: commands."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from sagen.casework.command import Command, WritingCommand, go_on
from sagen.casework.patterns import OnShelf, card_of, circuit_name, on_shelf
from sagen.casework.trail_changes import Written
from sagen.files.cards import read_card, read_rows, with_rows, write_card
from sagen.files.photos import read_photo, stripped
from sagen.kinds import Examination
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.language import said_date, tr
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import RAILS, Pattern
from sagen.model.trail import CaptureEntry, PhotoEntry
from sagen.model.vocabulary import PatternSource
from sagen.model.words import PATTERN_SOURCES, ROLES


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
class FindOnShelf(Command):
    """The known-good captures that have the pattern of an examined one, the best fit first."""

    job: Job
    done: Examination

    def perform(self, log, progress=go_on) -> list[OnShelf]:
        return on_shelf(log, self.job, self.done)


#: how much of a capture is looked at: so many turns, or so many seconds where its speed is not known; columns it is drawn in
LOOK_TURNS, LOOK_S, LOOK_COLUMNS = 1.5, 0.25, 480


@dataclass(frozen=True)
class LookLane:
    """One sensor's signal: the least and the most of each column, in `unit`."""

    name: str
    unit: str
    low: np.ndarray
    high: np.ndarray

    @property
    def least(self) -> float:
        return float(self.low.min())

    @property
    def most(self) -> float:
        return float(self.high.max())


@dataclass(frozen=True)
class PatternLook:
    """A known-good capture as the shelf shows it before it is laid under another, and where it is from, in words."""

    pattern: Pattern
    lanes: tuple[LookLane, ...]
    said: str


@dataclass(frozen=True)
class LookAtPattern(Command):
    """A turn or two of a known-good capture."""

    pattern: Pattern

    def perform(self, log, progress=go_on) -> PatternLook:
        item = self.pattern
        capture = log.capture(item.token)
        seconds = LOOK_TURNS * 60 / item.rpm if item.rpm else LOOK_S
        # Half a turn may pass before a recording has settled.
        first = min(round(0.1 * capture.samples), round(seconds * capture.sfreq))
        stop = min(capture.samples, first + max(round(seconds * capture.sfreq), 2))
        lanes = []
        for sheet in item.sheet.channel:
            if sheet.role in RAILS or stop <= first:
                continue
            channel = capture.channel(sheet.column)
            values = channel.values(first, stop) * sheet.factor
            starts = np.unique(np.linspace(0, len(values), LOOK_COLUMNS, endpoint=False).astype(int))
            lanes.append(LookLane(
                ROLES[sheet.role] + (tr(", bank {bank}", bank=sheet.bank) if sheet.bank else ""), channel.unit,
                np.minimum.reduceat(values, starts), np.maximum.reduceat(values, starts),
            ))  # fmt: skip
        wheels = [sheet.wheel for sheet in item.sheet.channel if sheet.wheel]
        told = [
            tr("{stop:.3g} s of {name}", stop=(stop - first) / capture.sfreq, name=item.name), *([tr("wheel {wheels}", wheels=', '.join(wheels))] if wheels else []),
            PATTERN_SOURCES[item.source] + (tr(" by {by}", by=item.by) if item.by else ""),
            *([tr("kept {day}", day=said_date(item.created))] if item.created else []),
        ]  # fmt: skip
        return PatternLook(item, tuple(lanes), "  \u00b7  ".join(told))


@dataclass(frozen=True)
class KeepCard(WritingCommand):
    """Keep a card on the shelf."""

    card: MachineCard

    def perform(self, log, progress=go_on) -> Shelf:
        log.shelf.keep_card(self.card)
        return ListShelf(self.job_id).perform(log)


@dataclass(frozen=True)
class DropKept(WritingCommand):
    """Take something off the shelf, or put it back."""

    kept_id: int
    withdrawn: bool = True

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
        return tr("Reading {name}", name=self.path.name)

    def perform(self, log=None, progress=go_on) -> CardRead:
        if self.path.suffix.lower() != ".csv":
            return CardRead(read_card(self.path))
        if self.card is None:
            raise SagenError(tr("rows are added to a card: open or begin one first"))
        return CardRead(*with_rows(self.card, read_rows(self.path)))


@dataclass(frozen=True)
class WriteCard(Command):
    """A card as a file."""

    path: Path
    card: MachineCard

    def perform(self, log=None, progress=go_on) -> Path:
        write_card(self.path, self.card)
        return self.path


@dataclass(frozen=True)
class KeepAsGood(WritingCommand):
    """Keep a capture of the trail as known-good for its kind of machine."""

    job: Job
    entry: Entry
    source: PatternSource = PatternSource.AFTER_REPAIR

    def perform(self, log, progress=go_on) -> Pattern:
        record: CaptureEntry = self.entry.record
        card = card_of(self.job)
        speeds = [row["speed_rpm"]["median"] for row in record.channels if row.get("speed_rpm")]
        made = Pattern(
            record.name, record.token, record.sheet, self.source, card.title if card else self.job.machine,
            record.circuit or circuit_name(self.job, record.sheet), speeds[0] if speeds else None, by=log.author.author,
        )  # fmt: skip
        return replace(made, id=log.shelf.keep_pattern(made))


@dataclass(frozen=True)
class KeepPhoto(WritingCommand):
    """Put a photo, from a file or as pasted, on its job's trail, whichever job is open when it is there."""

    path: Path | None = None
    data: bytes = b""

    @property
    def doing(self) -> str:
        return tr("Keeping the photo")

    def perform(self, log, progress=go_on) -> Written:
        plain = read_photo(self.path) if self.path is not None else stripped(self.data, tr("pasted photo"))
        caption = self.path.stem if self.path is not None else ""
        log.add_entry(self.job_id, PhotoEntry(log.captures.put_photo(plain), caption))
        return Written.of(log, self.job_id)


@dataclass(frozen=True)
class StorePhoto(WritingCommand):
    """A photo for the shelf: its token. It is held here until what names it is kept."""

    path: Path

    @property
    def doing(self) -> str:
        return tr("Keeping the photo")

    def perform(self, log, progress=go_on) -> str:
        return log.captures.put_photo(read_photo(self.path))


@dataclass(frozen=True)
class GetPhoto(Command):
    """The bytes of a photo, by its token."""

    token: str

    def perform(self, log, progress=go_on) -> bytes:
        return log.captures.photo(self.token)
