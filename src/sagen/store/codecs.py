"""How records are kept in the log: a kind, a version and plain data; and how what older versions kept becomes today's.

A step from one version to the next is an upcaster, a function from data to data, in `UPCASTERS`. What is of a newer
version than this program knows, or holds a field that it does not know, becomes a `NewerEntry`: shown and kept as it
is. What cannot be read becomes a `DamagedEntry`. Neither raises.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import fields
from typing import Any

from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.finding import Cadence, Finding, Span
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    BoardEntry,
    CaptureEntry,
    CardEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    CostsEntry,
    DamagedEntry,
    DecisionEntry,
    FindingEntry,
    InspectionEntry,
    KeptReference,
    NewerEntry,
    NoteEntry,
    PartEntry,
    PhotoEntry,
    PlaceEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    SeenEntry,
    StayedEntry,
    StepEntry,
    UnknownField,
    ValueEntry,
)
from sagen.model.vocabulary import Complaint, EntryKind, FindingKind
from sagen.model.words import OWED
from sagen.signal.strikes import StrikeSet

#: the version that records are written in
VERSION = 3

RECORDS: dict[EntryKind, type[Record]] = {
    this_kind.kind: this_kind
    for this_kind in (
        ComplaintEntry, CodeEntry, CaptureEntry, FindingEntry, NoteEntry, RepairEntry, ProofEntry, ReadingEntry,
        InspectionEntry, ReplacedEntry, CircuitEntry, ScanEntry, StayedEntry, DecisionEntry, CardEntry, ValueEntry,
        PlaceEntry, StepEntry, PartEntry, SeenEntry, PhotoEntry, CostsEntry, BoardEntry,
    )
}  # fmt: skip


def encode(record: Record) -> tuple[str, int, dict]:
    """A record as kind, version and data that JSON can keep; raises TypeError for one that is only shown."""
    if record.kind not in RECORDS:
        raise TypeError(f"a {record.kind} entry is never written")
    data = {field.name: _plain(getattr(record, field.name)) for field in fields(record)}
    if not record.circuit:
        del data["circuit"]
    if isinstance(record, NoteEntry) and record.says is None:
        del data["says"]
    if not data.get("again", True):
        del data["again"]  # so that an older version reads what was not taken twice
    return str(record.kind), VERSION, data


def _plain(value: Any) -> Any:
    if isinstance(value, Sheet | CircuitSpec):
        return value.model_dump(mode="json", exclude_none=True)
    if isinstance(value, Finding):
        return {field.name: _plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, Span):
        return [value.start_s, value.end_s]
    if isinstance(value, Cadence | KeptReference):
        return {field.name: _plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, tuple | list):
        return [_plain(item) for item in value]
    if isinstance(value, dict):
        return {str(key): _plain(item) for key, item in value.items()}
    return str(value) if isinstance(value, str) else value


def decode(kind: object, version: object, data: object) -> Record:
    """The record that a row of the log holds; never raises for what the row says."""
    if isinstance(data, str | bytes):
        try:
            data = json.loads(data)
        except ValueError:
            return DamagedEntry(tr("its words cannot be read: not JSON"), str(kind))
    if not isinstance(data, dict) or isinstance(version, bool) or not isinstance(version, int):
        return DamagedEntry(tr("its row does not hold an entry"), str(kind))
    if version > VERSION:
        return NewerEntry(str(kind), data)
    try:
        named, current = str(kind), dict(data)
        for step in range(version, VERSION):
            named, current = UPCASTERS[step](named, current)
        if named not in set(RECORDS):
            return NewerEntry(named, data)
        return _MAKE.get(EntryKind(named), RECORDS[EntryKind(named)].of)(current)
    except UnknownField:
        return NewerEntry(str(kind), data)
    except (SagenError, ValueError, TypeError, KeyError, AttributeError, OverflowError) as error:
        said = str(error).splitlines()[0][:160] if str(error) else type(error).__name__
        return DamagedEntry(tr("its words make no sense: {said}", said=said), str(kind))


# from data to records -----------------------------------------------------------------------


def _finding(data: dict) -> Finding:
    known = [field.name for field in fields(Finding)]
    for key in data:
        if key not in known:
            raise UnknownField(tr("a finding with '{key}'", key=key))
    spans = tuple(Span(float(start), float(end)) for start, end in data.get("spans", ()))
    if data["kind"] not in set(FindingKind):
        raise UnknownField(tr("a finding of kind '{kind}'", kind=data["kind"]))
    return Finding(**{**data, "kind": FindingKind(data["kind"]), "spans": spans})


def _sheet(data: object) -> Sheet:
    return Sheet.from_data(data, where="stored sheet")


def _capture(data: dict) -> CaptureEntry:
    cadence, reference = data.get("cadence"), data.get("reference")
    if data.get("strikes") is not None:
        StrikeSet.of(data["strikes"])  # what makes no sense is told now, not when it is first drawn
    return CaptureEntry.of(
        {
            **data,
            "name": str(data["name"]),
            "token": str(data.get("token", "")),
            "sheet": _sheet(data["sheet"]),
            "findings": tuple(_finding(item) for item in data.get("findings", ())),
            "channels": tuple(dict(item) for item in data.get("channels", ())),
            "compared": tuple(item if isinstance(item, dict) else str(item) for item in data.get("compared", ())),
            "cadence": Cadence(**cadence) if cadence else None,
            "reference": (
                KeptReference(str(reference["name"]), str(reference["token"]), _sheet(reference["sheet"]))
                if reference
                else None
            ),
        }
    )


def _card(data: dict) -> CardEntry:
    made = CardEntry.of(data)
    _ = made.machine  # what makes no sense is told now, not when it is first asked
    return made


#: kinds whose data hold more than words and numbers
_MAKE: dict[EntryKind, Callable[[dict], Record]] = {
    EntryKind.CAPTURE: _capture,
    EntryKind.CARD: lambda data: _card(data),
    EntryKind.CIRCUIT: lambda data: CircuitEntry.of({**data, "spec": CircuitSpec.model_validate(data["spec"])}),
}


# from version 1 to 2: plain dictionaries became records ----------------------------------------


def _picked(data: dict, *keys: str) -> dict:
    return {key: data[key] for key in keys if key in data}


def _complaint_1(data: dict) -> dict:
    text = str(data.get("text", ""))
    return {"complaint": text} if text in set(Complaint) else {"text": text}


def _code_1(data: dict) -> dict:
    return _picked(data, "code", "meaning") | ({"says": data["kind"]} if data.get("kind") else {})


def _proof_1(data: dict) -> dict:
    done = [item for item in data.get("done", ()) if item in OWED]
    return {"done": done, "more": data["more"] if "more" in data else str(data.get("text", ""))}


def _reading_1(data: dict) -> dict:
    return {**data["entry"], "shown": str(data.get("shown", ""))}


def _finding_1(data: dict) -> dict:
    return {
        "kind": data["kind"], "channel": data.get("channel", ""), "severity": data.get("severity", 0.5),
        "fields": data.get("fields", {}), "spans": data.get("spans", []),
        "said": data.get("text", ""), "said_sure": data.get("sure", ""),
    }  # fmt: skip


def _capture_1(data: dict) -> dict:
    kept = _picked(data, "name", "token", "sheet", "channels", "compared", "cadence", "reference")
    return kept | {"findings": [_finding_1(item) for item in data.get("findings", ())]}


_FROM_1: dict[str, tuple[str, Callable[[dict], dict]]] = {
    "complaint": ("complaint", _complaint_1),
    "code": ("code", _code_1),
    "note": ("note", lambda data: {"text": str(data.get("text", ""))}),
    "repair": ("repair", lambda data: {k: v for k, v in _picked(data, "part", "origin", "text").items() if v}),
    "replaced": ("replaced", lambda data: _picked(data, "part", "origin", "text")),
    "proof": ("proof", _proof_1),
    "reading": ("reading", _reading_1),
    "look": ("inspection", lambda data: _picked(data, "check", "outcome")),
    "circuit": ("circuit", lambda data: _picked(data, "spec")),
    "capture": ("capture", _capture_1),
}


def _upcast_1(kind: str, data: dict) -> tuple[str, dict]:
    if kind not in _FROM_1:
        return kind, data
    named, make = _FROM_1[kind]
    return named, make(data)


def _upcast_2(kind: str, data: dict) -> tuple[str, dict]:
    """From version 2 to 3: steps of a proof are words of a closed set; what else stood there is told in words."""
    if kind == "proof":
        done = [str(item) for item in data.get("done", ())]
        told = [item for item in done if item not in set(OWED)]
        more = "; ".join([*told, *([str(data["more"])] if data.get("more") else [])])
        data = {**data, "done": [item for item in done if item in set(OWED)], "more": more}
    return kind, data


UPCASTERS: dict[int, Callable[[str, dict], tuple[str, dict]]] = {1: _upcast_1, 2: _upcast_2}
