"""Job files: what `sagen reason` weighs."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from sagen.files.circuits import circuit_of, engine_of, load_toml
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SheetError, unknown_name
from sagen.model.sheet import EngineSheet, first_fault
from sagen.model.words import COMPLAINTS, FINDING_TITLES

Finite = Annotated[float, Field(allow_inf_nan=False)]
Part = Literal["sensor", "harness", "wiring", "wheel", "reluctor", "module", "supply", "fuse", "relay", "ground", "timing", "belt", "chain", "engine", "battery", "starter", "seat", "air_gap"]  # fmt: skip
#: other words for the parts of evidence.toml
PART_WORDS = {
    "wiring": "harness", "reluctor": "wheel", "fuse": "supply", "relay": "supply", "belt": "timing", "chain": "timing",
    "battery": "engine", "starter": "engine", "air_gap": "seat",
}  # fmt: skip
Origin = Literal["original", "aftermarket", "unknown", "used"]
KNOCK_FINDINGS = ("weak_strike", "ring_mismatch", "loaded_down")


class _Entry(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class ReplacedEntry(_Entry):
    replaced: Part
    origin: Origin = "unknown"


class RepairEntry(_Entry):
    repair: Part
    origin: Origin = "original"


class ReadingEntry(_Entry):
    reading: Literal["volts", "ohms"]
    point: Literal["supply", "signal", "ground", "shield", "sensor", "supply_wire", "signal_wire", "ground_wire"]
    state: Literal[
        "key_on", "key_on_unplugged", "cranking", "running", "wiggle", "metal_near", "metal_away", "unplugged"
    ]
    value: float
    temperature_c: Annotated[float, Field(ge=-60, le=250)] | None = None
    leads_ohm: Annotated[float, Field(ge=0, le=10)] = 0.0
    accuracy: str | None = None


class CaptureEntry(_Entry):
    capture: Annotated[str, Field(min_length=1)]
    sheet: str | None = None


class FindingEntry(BaseModel):
    """A finding read elsewhere: its kind, its fields as DESIGN.md lists them, and the capture's state."""

    model_config = ConfigDict(extra="allow", frozen=True)

    finding: str
    state: (
        Literal["key_on", "cranking", "start", "running", "rolling", "strike", "wiggle", "unplugged", "loaded"] | None
    ) = None


ENTRIES: dict[str, type[BaseModel]] = {
    "replaced": ReplacedEntry, "repair": RepairEntry, "reading": ReadingEntry, "capture": CaptureEntry, "finding": FindingEntry,
}  # fmt: skip
FINDING_FIELDS = (
    "held", "level_v", "tooth", "angle_deg", "repeats", "depth", "share", "start_s", "end_s", "slots", "missing", "offset_deg", "belt_teeth",
    "scatter_deg", "ratio", "frequency_hz", "channel", "severity", "text",
)  # fmt: skip


class JobFile(BaseModel):
    """A checked job file; `folder` is where its captures are looked for."""

    model_config = ConfigDict(frozen=True, arbitrary_types_allowed=True)

    engine: EngineSheet = EngineSheet()
    circuit: CircuitSpec
    codes: tuple[str, ...] = ()
    complaints: tuple[str, ...] = ()
    gear: tuple[str, ...] = ("meter", "scope")
    trail: tuple[BaseModel, ...] = ()
    folder: Path = Path()


_KEYS = ("codes", "complaints", "gear", "engine", "circuit", "trail", "strategy")


def read_job(path: str | Path) -> JobFile:
    """Read a job file; raises SheetError naming the key and, for an unknown one, the nearest known."""
    path = Path(path)
    data, where = load_toml(path, "job"), path.name
    for key in data:
        if key not in _KEYS:
            raise SheetError(f"{where}: {unknown_name('key', key, _KEYS)}")
    engine, circuit = engine_of(data.get("engine"), where=where), circuit_of(data.get("circuit"), where=where)
    codes = _words(data, "codes", where)
    complaints = _words(data, "complaints", where, COMPLAINTS)
    gear = _words(data, "gear", where, ("meter", "scope")) if "gear" in data else ("meter", "scope")
    rows = data.get("trail", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise SheetError(f"{where}: trail must be tables, written [[trail]]")
    trail = tuple(_entry(row, f"{where}: trail entry {number}") for number, row in enumerate(rows, start=1))
    return JobFile(
        engine=engine, circuit=circuit, codes=codes, complaints=complaints, gear=gear, trail=trail, folder=path.parent
    )


def _words(data: dict, key: str, where: str, known=None) -> tuple[str, ...]:
    values = data.get(key, [])
    if not isinstance(values, list) or not all(isinstance(one, str) for one in values):
        raise SheetError(f"{where}: {key} must be a list of words")
    for one in values:
        if known is not None and one not in known:
            raise SheetError(f"{where}: {key}: {unknown_name('value', one, known)}")
    if key == "codes":
        from sagen.codes import parse_code
        from sagen.model.errors import SagenError

        try:
            return tuple(parse_code(one) for one in values)
        except SagenError as error:
            raise SheetError(f"{where}: {error}") from None
    return tuple(values)


def _entry(row: dict, where: str) -> BaseModel:
    kind = next((key for key in row if key in ENTRIES), None)
    if kind is None:
        first = next(iter(row), "")
        raise SheetError(f"{where}: {unknown_name('entry', first, ENTRIES)}")
    if kind == "finding":
        known = (*FINDING_TITLES, *KNOCK_FINDINGS)
        if row["finding"] not in known:
            raise SheetError(f"{where}: {unknown_name('finding', row['finding'], known)}")
        for key in row:
            if key not in ("finding", "state", *FINDING_FIELDS):
                raise SheetError(f"{where}: {unknown_name('key', key, ('finding', 'state', *FINDING_FIELDS))}")
    try:
        return ENTRIES[kind].model_validate(row)
    except ValidationError as error:
        raise SheetError(f"{where}: {first_fault(error, ENTRIES[kind])}") from None
