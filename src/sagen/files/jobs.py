"""Job files: what `sagen reason` weighs."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from sagen.files.circuits import circuit_of, engine_of, load_toml
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, SheetError, unknown_name
from sagen.model.sheet import EngineSheet
from sagen.model.trail import (
    CaptureFile,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
)
from sagen.model.vocabulary import CHOSEN_GEAR, FINDING_FIELDS, Complaint, Gear, Strategy, word

AS_EXPECTED = "as expected"


@dataclass(frozen=True)
class EntryForm:
    """How an entry is written in a job file: its record, the field that its first key is, and its other keys."""

    record: type[Record]
    first: str
    keys: tuple[str, ...]


#: by the first key of a `[[trail]]` table
ENTRIES: dict[str, EntryForm] = {
    "replaced": EntryForm(ReplacedEntry, "part", ("origin",)),
    "repair": EntryForm(RepairEntry, "part", ("origin",)),
    "reading": EntryForm(
        ReadingEntry, "reading", ("point", "state", "value", "temperature_c", "leads_ohm", "accuracy")
    ),
    "capture": EntryForm(CaptureFile, "capture", ("sheet",)),
    "finding": EntryForm(FindingEntry, "finding", ("state", *FINDING_FIELDS, "channel", "severity", "text")),
    "inspection": EntryForm(InspectionEntry, "check", ("outcome",)),
}


@dataclass(frozen=True)
class JobFile:
    """A checked job file. `trail` begins with its complaints and codes; `folder` is where its captures are looked
    for."""

    circuit: CircuitSpec
    engine: EngineSheet = field(default_factory=EngineSheet)
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST
    trail: tuple[Record, ...] = ()
    folder: Path = Path()

    @property
    def codes(self) -> tuple[str, ...]:
        return tuple(one.code for one in self.trail if isinstance(one, CodeEntry))


_KEYS = ("codes", "complaints", "gear", "strategy", "engine", "circuit", "trail")


def read_job(path: str | Path) -> JobFile:
    """Read a job file; raises SheetError naming the key and, for an unknown one, the nearest known."""
    path = Path(path)
    data, where = load_toml(path, "job"), path.name
    for key in data:
        if key not in _KEYS:
            raise SheetError(f"{where}: {unknown_name('key', key, _KEYS)}")
    engine, circuit = engine_of(data.get("engine"), where=where), circuit_of(data.get("circuit"), where=where)
    told: list[Record] = [ComplaintEntry(one) for one in _words(data, "complaints", where, Complaint)]
    told += [CodeEntry(one) for one in _codes(data, where)]
    gear = tuple(_words(data, "gear", where, Gear, CHOSEN_GEAR)) if "gear" in data else CHOSEN_GEAR
    try:
        strategy = word(Strategy, data.get("strategy", Strategy.MOST), "strategy")
    except ValueError as error:
        raise SheetError(f"{where}: {error}") from None
    rows = data.get("trail", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise SheetError(f"{where}: trail must be tables, written [[trail]]")
    trail = [entry_of(row, f"{where}: trail entry {number}") for number, row in enumerate(rows, start=1)]
    return JobFile(circuit, engine, gear, strategy, (*told, *trail), path.parent)


def _list(data: dict, key: str, where: str) -> list[str]:
    values = data.get(key, [])
    if not isinstance(values, list) or not all(isinstance(one, str) for one in values):
        raise SheetError(f"{where}: {key} must be a list of words")
    return values


def _words(data: dict, key: str, where: str, kind, among=None) -> list:
    try:
        return [word(kind, one, key, among) for one in _list(data, key, where)]
    except ValueError as error:
        raise SheetError(f"{where}: {error}") from None


def _codes(data: dict, where: str) -> list[str]:
    from sagen.codes import parse_code

    try:
        return [parse_code(one) for one in _list(data, "codes", where)]
    except SagenError as error:
        raise SheetError(f"{where}: {error}") from None


def entry_of(row: dict, where: str) -> Record:
    """One `[[trail]]` table as a record; raises SheetError."""
    kind = next((key for key in row if key in ENTRIES), None)
    if kind is None:
        raise SheetError(f"{where}: {unknown_name('entry', next(iter(row), ''), ENTRIES)}")
    form = ENTRIES[kind]
    for key in row:
        if key not in (kind, *form.keys):
            raise SheetError(f"{where}: {unknown_name('key', key, (kind, *form.keys))}")
    data = {form.first if key == kind else key: value for key, value in row.items()}
    if form.record is FindingEntry:
        fields = {key: value for key, value in data.items() if key not in ("finding", "state")}
        data = {"finding": data["finding"], "state": data.get("state"), "fields": fields}
    if form.record is InspectionEntry and data.get("outcome") == AS_EXPECTED:
        data["outcome"] = ""
    try:
        return form.record.of(data)
    except ValueError as error:
        raise SheetError(f"{where}: {_as_written(str(error), form.first, kind)}") from None


def _as_written(message: str, first: str, kind: str) -> str:
    """A record's complaint in the words of the file: its first key is named as it stands there."""
    return kind + message.removeprefix(first) if message.startswith(f"{first}: ") else message
