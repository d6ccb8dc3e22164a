"""Job files: what `sagen reason` weighs."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

from sagen.codes import meaning, parse_code
from sagen.files.circuits import circuit_of, engine_of, load_toml
from sagen.files.short_forms import SHORT, card_of, of_battery, record_of
from sagen.kinds.kind import USUAL
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, SheetError, unknown_name
from sagen.model.language import Kept, later, said_now, tr
from sagen.model.sheet import EngineSheet
from sagen.model.trail import (
    MOST_CODE,
    BoardEntry,
    CaptureFile,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    NoteEntry,
    PartEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.model.vocabulary import (
    CHOSEN_GEAR,
    FINDING_FIELDS,
    Complaint,
    EngineRuns,
    EntryKind,
    Gear,
    Occasion,
    Place,
    ProofStep,
    Role,
    SensorKind,
    Strategy,
    word,
)
from sagen.model.words import SENSORS_KEPT
from sagen.reason.facts import knowledge

AS_EXPECTED = "as expected"


@dataclass(frozen=True)
class StoredForm(Record):
    """An entry as the log keeps it, of a kind that has no form of its own here: its kind, version and plain data."""

    kind = EntryKind.NOTE
    stored: str
    version: int = 1
    data: dict = field(default_factory=dict)
    json: str = ""  #: the data as JSON, where a table cannot hold it

    def __post_init__(self):
        if (
            not isinstance(self.stored, str)
            or not isinstance(self.version, int)
            or not isinstance(self.data, dict)
            or not isinstance(self.json, str)
        ):
            raise ValueError(tr("stored: a record is its kind, its version and a table of data"))


@dataclass(frozen=True)
class EntryForm:
    """How an entry is written in a job file: its record, the field that its first key is, and its other keys."""

    record: type[Record]
    first: str
    keys: tuple[str, ...]


#: by the first key of a `[[trail]]` table
ENTRIES: dict[str, EntryForm] = {
    "replaced": EntryForm(ReplacedEntry, "part", ("origin", "began")),
    "repair": EntryForm(RepairEntry, "part", ("origin",)),
    "reading": EntryForm(
        ReadingEntry, "reading", ("point", "state", "value", "temperature_c", "leads_ohm", "accuracy", "again")
    ),
    "capture": EntryForm(CaptureFile, "capture", ("sheet",)),
    "finding": EntryForm(FindingEntry, "finding", ("state", *FINDING_FIELDS, "channel", "severity", "text")),
    "board": EntryForm(BoardEntry, "shown", ("pressed", "state")),
    "inspection": EntryForm(InspectionEntry, "check", ("outcome", "part", "seen", "certain", "again")),
    "scan": EntryForm(ScanEntry, "scan", ("value",)),
    "stayed": EntryForm(StayedEntry, "stayed", ()),
    "note": EntryForm(NoteEntry, "text", ()),
    "proof": EntryForm(ProofEntry, "done", ()),
    "drive": EntryForm(ProofEntry, "drive", ()),
    "part_line": EntryForm(PartEntry, "name", ()),
    "record": EntryForm(StoredForm, "stored", ("version", "data", "json")),
}
#: what a file calls the steps of a proof
PROOF_WORDS = {
    "codes_cleared": ProofStep.CLEARED, "codes_stayed_away": ProofStep.STAYED_AWAY, "relearned": ProofStep.RELEARN,
}  # fmt: skip


@dataclass(frozen=True)
class JobFile:
    """A checked job file. `trail` begins with its complaints and codes; `folder` is where its captures are looked
    for."""

    circuit: CircuitSpec  #: the first, where there are several
    engine: EngineSheet = field(default_factory=EngineSheet)
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST
    trail: tuple[Record, ...] = ()
    folder: Path = Path()
    access: dict[str, float] = field(default_factory=dict)  #: minutes to get at a place
    opened: tuple[str, ...] = ()  #: places that are open now
    notes: tuple[str, ...] = ()  #: what was taken for granted, in words
    circuits: dict[str, CircuitSpec] = field(default_factory=dict)  #: by name, where the job has several
    entries: int = 0  #: how many of the trail stand as entries in the file; the first are its complaints and codes

    @property
    def codes(self) -> tuple[str, ...]:
        return tuple(item.code for item in self.trail if isinstance(item, CodeEntry))


_KEYS = ("codes", "complaints", "when", "gear", "strategy", "engine", "circuit", "access", "published", "trail")


def read_job(path: str | Path) -> JobFile:
    """Read a job file; raises SheetError naming the key and, for an unknown one, the nearest known."""
    path = Path(path)
    data, where = load_toml(path, "job"), path.name
    for key in data:
        if key not in _KEYS:
            raise SheetError(f"{where}: {unknown_name('key', key, _KEYS)}")
    engine, runs = _engine(data.get("engine"), where)
    codes = _codes(data, where)
    circuits, notes = _circuits(data.get("circuit"), codes, where)
    circuit = next(iter(circuits.values()))
    told: list[Record] = [ComplaintEntry(this_word) for this_word in _words(data, "complaints", where, Complaint)]
    when = tuple(_words(data, "when", where, Occasion))
    if when or runs is not None:
        told.append(ComplaintEntry(None, "", when, runs))
    told += codes
    access, opened = _access(data.get("access"), where)
    gear = tuple(_words(data, "gear", where, Gear, CHOSEN_GEAR)) if "gear" in data else CHOSEN_GEAR
    try:
        strategy = word(Strategy, data.get("strategy", Strategy.MOST), "strategy")
    except ValueError as error:
        raise SheetError(f"{where}: {error}") from None
    rows = data.get("trail", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise SheetError(tr("{where}: trail must be tables, written [[trail]]", where=where))
    trail = [
        entry_of(row, tr("{where}: trail entry {number}", where=where, number=number))
        for number, row in enumerate(rows, start=1)
    ]
    several = circuits if len(circuits) > 1 else {}
    if "published" in data:
        card, circuits = card_of(data["published"], circuits, where)
        circuit, several = next(iter(circuits.values())), circuits if several else {}
        told.append(card)
    for number, each in enumerate(trail, start=1):
        if each.circuit and each.circuit not in circuits:
            raise SheetError(
                tr(
                    "{where}: trail entry {number}: {it}",
                    where=where,
                    number=number,
                    it=unknown_name("circuit", each.circuit, circuits),
                )
            )
    # The first circuit is meant where none is named: only of several does a name say more.
    trail = [item if several or not item.circuit else replace(item, circuit="") for item in trail]
    told += [CircuitEntry(spec, circuit=name) for name, spec in several.items()]
    return JobFile(
        circuit, engine, gear, strategy, (*told, *trail), path.parent, access, opened, tuple(notes), several,
        len(trail),
    )  # fmt: skip


MOST_CIRCUITS = 12


def _circuits(data: object, codes: list[CodeEntry], where: str) -> tuple[dict[str, CircuitSpec], list[str]]:
    """`[circuit]`, or several as `[[circuit]]` with a name each; and what was taken for granted of them."""
    rows = data if isinstance(data, list) else [data]
    if not rows or len(rows) > MOST_CIRCUITS:
        raise SheetError(
            tr(
                "{where}: a job is about one circuit, or about up to {most_circuits}",
                where=where,
                most_circuits=MOST_CIRCUITS,
            )
        )
    found: dict[str, CircuitSpec] = {}
    notes = []
    for number, row in enumerate(rows, start=1):
        name = row.get("name", "") if isinstance(row, dict) and isinstance(data, list) else ""
        if isinstance(data, list) and (not isinstance(name, str) or not name.strip() or name in found):
            raise SheetError(
                tr("{where}: circuit {number}: each of several has a name of its own", where=where, number=number)
            )
        table = {key: value for key, value in row.items() if key != "name"} if isinstance(row, dict) and name else row
        circuit = circuit_of(table, where=where)
        if "sensor" not in table:
            circuit, note = likely_sensor(circuit, codes)
            notes.append(f"{name}: {said_now(note)}" if name else said_now(note))
        found[name] = circuit
    return found, notes


def _list(data: dict, key: str, where: str) -> list[str]:
    values = data.get(key, [])
    if not isinstance(values, list) or not all(isinstance(value, str) for value in values):
        raise SheetError(tr("{where}: {key} must be a list of words", where=where, key=key))
    return values


def _words(data: dict, key: str, where: str, kind, among=None) -> list:
    try:
        return [word(kind, item, key, among) for item in _list(data, key, where)]
    except ValueError as error:
        raise SheetError(f"{where}: {error}") from None


def _codes(data: dict, where: str) -> list[CodeEntry]:
    """Codes as words, or as tables with a status. One that cannot be a code is kept as it stands."""
    rows = data.get("codes", [])
    if not isinstance(rows, list):
        raise SheetError(tr("{where}: codes must be a list", where=where))
    out = []
    for row in rows:
        table = row if isinstance(row, dict) else {"code": row}
        for key in table:
            if key not in ("code", "status"):
                raise SheetError(
                    tr("{where}: in codes, {it}", where=where, it=unknown_name("key", key, ("code", "status")))
                )
        text = table.get("code")
        if not isinstance(text, str) or not text.strip():
            raise SheetError(tr("{where}: codes must be a list of words, or of tables with a code", where=where))
        try:
            code = parse_code(text)
        except SagenError:
            code = text.strip()[:MOST_CODE]
        try:
            out.append(CodeEntry(code, status=table.get("status")))
        except ValueError as error:
            raise SheetError(tr("{where}: code {code}: {error}", where=where, code=code, error=error)) from None
    return out


def _engine(data: object, where: str) -> tuple[EngineSheet, EngineRuns | None]:
    """The engine, and what is known of whether it runs: true, false or "at times"."""
    if not isinstance(data, dict) or "runs" not in data:
        return engine_of(data, where=where), None
    said = data["runs"]
    runs = {True: EngineRuns.YES, False: EngineRuns.NO}.get(said) if isinstance(said, bool) else said
    try:
        runs = word(EngineRuns, runs, "runs")
    except ValueError:
        raise SheetError(
            tr('{where}: in [engine], runs must be true, false or "at times", not {said}', where=where, said=repr(said))
        ) from None
    return engine_of({key: value for key, value in data.items() if key != "runs"}, where=where), runs


def _access(data: object, where: str) -> tuple[dict[str, float], tuple[str, ...]]:
    """`[access]`: minutes to get at places, and which are open."""
    if data is None:
        return {}, ()
    if not isinstance(data, dict):
        raise SheetError(tr("{where}: [access] is not a table", where=where))
    minutes, opened = {}, ()
    for key, value in data.items():
        if key == "open":
            if not isinstance(value, list):
                raise SheetError(tr("{where}: in [access], open must be a list of places", where=where))
            opened = tuple(_words({"open": value}, "open", tr("{where}: in [access]", where=where), Place))
            continue
        if key not in set(Place):
            raise SheetError(
                tr("{where}: in [access], {it}", where=where, it=unknown_name("place", key, [*Place, "open"]))
            )
        if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= 100_000:
            raise SheetError(
                tr(
                    "{where}: in [access], {key}: {value} is not a number of minutes",
                    where=where,
                    key=key,
                    value=repr(value),
                )
            )
        minutes[key] = float(value)
    return minutes, opened


#: kinds of sensor that circuits of so many wires usually have, the commonest first; 0: not stated
LIKELY_SENSORS = {
    (Role.CRANK, 2): SensorKind.RELUCTANCE, (Role.CAM, 2): SensorKind.RELUCTANCE, (Role.SPEED, 2): SensorKind.RELUCTANCE,
    (Role.KNOCK, 2): SensorKind.PIEZO,
}  # fmt: skip


def likely_sensor(circuit: CircuitSpec, codes: list[CodeEntry]) -> tuple[CircuitSpec, Kept]:
    """A circuit whose kind of sensor is not stated, with the kind that it most likely has, and that said for a reader of any
    language."""
    usual = LIKELY_SENSORS.get((circuit.role, circuit.wires))
    for code in codes if usual is None else ():
        try:
            found = meaning(code.code)
        except SagenError:
            continue
        if found is not None and found.role == circuit.role:
            usual = usual or found.usual
    usual = usual or (SensorKind.HALL if circuit.wires == 3 and circuit.role != Role.KNOCK else USUAL[circuit.role])
    return (
        circuit.model_copy(update={"sensor": usual}),
        later(
            "The kind of sensor is not stated: taken as {usual}, as is usual for such a circuit. Count its wires, "
            "and state it.",
            usual=SENSORS_KEPT[usual],
        ),
    )


def entry_of(row: dict, where: str) -> Record:
    """One `[[trail]]` table as a record; raises SheetError."""
    kind = next((key for key in row if key in ENTRIES or key in SHORT), None)
    if kind is None:
        raise SheetError(f"{where}: {unknown_name('entry', next(iter(row), ''), (*ENTRIES, *SHORT))}")
    keys = SHORT[kind][0] if kind in SHORT else ENTRIES[kind].keys
    for key in row:
        if key not in (kind, *keys, "circuit"):
            raise SheetError(f"{where}: {unknown_name('key', key, (kind, *keys, 'circuit'))}")
    circuit = row.get("circuit", "")
    if not isinstance(circuit, str):
        raise SheetError(tr("{where}: circuit must be a name", where=where))
    if kind in SHORT or of_battery(row):
        try:
            return replace(record_of(kind, row), circuit=circuit)
        except ValueError as error:
            raise SheetError(f"{where}: {error}") from None
    form = ENTRIES[kind]
    data = {form.first if key == kind else key: value for key, value in row.items() if key != "circuit"}
    if form.record is FindingEntry:
        fields = {key: value for key, value in data.items() if key not in ("finding", "state")}
        data = {"finding": data["finding"], "state": data.get("state"), "fields": fields}
    if kind == "proof":
        words = data["done"] if isinstance(data["done"], list) else [data["done"]]
        data["done"] = [PROOF_WORDS.get(item, item) if isinstance(item, str) else item for item in words]
    if kind == "part_line":
        if not isinstance(data["name"], dict):
            raise SheetError(tr('{where}: part_line is a table, {{ name = "..." }}', where=where))
        data = dict(data["name"])
    if form.record is InspectionEntry and data.get("outcome") == AS_EXPECTED:
        data["outcome"] = ""
    try:
        made = form.record.of(data | ({"circuit": circuit} if circuit else {}))
    except ValueError as error:
        raise SheetError(f"{where}: {_as_written(str(error), form.first, kind)}") from None
    if isinstance(made, InspectionEntry) and made.outcome:
        check = knowledge().check(made.check)
        as_slug = made.outcome.strip().lower().replace(" ", "_").replace("-", "_")
        if check is not None and as_slug in check.outcome:
            made = replace(made, outcome=as_slug)
        elif check is not None:
            outcomes = [AS_EXPECTED, *check.outcome]
            raise SheetError(
                tr(
                    "{where}: outcome of '{name}': {it}",
                    where=where,
                    name=check.name,
                    it=unknown_name("value", made.outcome, outcomes),
                )
            )
    return made


def _as_written(message: str, first: str, kind: str) -> str:
    """A record's complaint in the words of the file: its first key is named as it stands there."""
    return kind + message.removeprefix(first) if message.startswith(f"{first}: ") else message
