"""From a job, a file's or the log's, to a case that can be weighed."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path

from sagen.codes import meaning, silent_sensors
from sagen.files.jobs import PART_WORDS, CaptureEntry, FindingEntry, JobFile, ReadingEntry, RepairEntry, ReplacedEntry
from sagen.meter.judge import MATERIALS, Accuracy
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.finding import Finding
from sagen.model.sheet import Sheet
from sagen.reason.evidence import Code, Complaint, Cranked, Evidence, ReadElsewhere, Reading, captured
from sagen.reason.finding_sets import ABOUT_TIMING, finding_label
from sagen.reason.weigh import Case, Replaced

SENSOR_ANSWERS_NOTHING = ("hall", "current")


def code_pieces(codes: Iterable[str], spec: CircuitSpec) -> list[Evidence]:
    """What codes say of this circuit; a more particular kind makes a general one of the same sensor needless."""
    known = [(code, found) for code in codes if (found := meaning(code)) is not None]
    kinds: dict[str, str] = {}
    for code, found in known:
        here = found.role in (spec.role, "supply") or (found.kind == "correlation" and spec.role in ("crank", "cam"))
        if here and (found.bank is None or spec.bank is None or found.bank == spec.bank):
            kinds.setdefault(found.kind, code)
    silent = silent_sensors(found for _, found in known)
    if len(silent) > 1 and spec.role in {sensor[0] for sensor in silent} and "correlation" not in kinds:
        kinds["several"] = ", ".join(sorted(silent.values()))
    if len(kinds) > 1:
        kinds.pop("circuit", None)
    return [Code("", code, kind) for kind, code in kinds.items()]


def complaint_pieces(names: Iterable[str]) -> list[Evidence]:
    return [Complaint("", one) for one in names]


def reading_piece(entry: ReadingEntry, spec: CircuitSpec, source: str = "") -> Reading | None:
    """A reading as evidence: leads taken off, ohms brought to 20 degC, its accuracy carried along.

    None for ohms that say nothing: those of a switching sensor without a published value.
    """
    ohms = entry.reading == "ohms"
    if ohms and entry.point == "sensor" and spec.sensor in SENSOR_ANSWERS_NOTHING:
        return None
    value = float(entry.value)
    if math.isnan(value):
        raise SagenError(f"reading at {entry.point}: not a number")
    spread = 0.0
    accuracy = Accuracy.parse(entry.accuracy) if entry.accuracy else None
    if ohms:
        value = max((4e7 if math.isinf(value) else value) - entry.leads_ohm, 0.0)
        alpha = 0.0 if spec.sensor == "piezo" and entry.point == "sensor" else MATERIALS["copper"]
        if entry.temperature_c is not None and value < 1e6:
            value /= 1 + alpha * (entry.temperature_c - 20.0)
        elif entry.point == "sensor" and alpha:
            spread = 0.045  # of its decade: the part may be anything from cold to hot
        if accuracy and value > 0:
            spread = math.hypot(spread, accuracy.standard(value, 0.1) / value / math.log(10))
    elif accuracy:
        spread = accuracy.standard(value, 0.01)
    return Reading(source, entry.point, entry.state, value, ohms, spread)


def finding_piece(entry: FindingEntry) -> ReadElsewhere:
    fields = entry.model_extra or {}
    return ReadElsewhere("", finding_label(entry.finding, fields), entry.finding, entry.state or "")


def examined_piece(
    findings: Iterable[Finding], sheet: Sheet, spec: CircuitSpec, source: str = "", *, referenced: bool = False
):
    """A capture's findings as evidence about a circuit; None where it is not fit to judge by."""
    return captured(
        [(one.kind, one.fields) for one in _of_circuit(findings, sheet, spec)],
        sheet.conditions.state,
        {one.role for one in sheet.channel},
        referenced=referenced,
        coil=any(one.sensor == "reluctance" for one in sheet.channel),
        source=source,
    )


def _of_circuit(findings: Iterable[Finding], sheet: Sheet, spec: CircuitSpec) -> list[Finding]:
    """The findings on this circuit's own channel and on its rails, and how a cam stands against its crank; what
    another sensor in the same capture shows besides is its own affair."""
    roles = {one.column: one.role for one in sheet.channel}
    if spec.role not in roles.values():
        return list(findings)
    about = (spec.role, "supply", "ground", "other")
    return [
        one
        for one in findings
        if roles.get(one.channel) in about or (spec.role == "crank" and one.kind in ABOUT_TIMING)
    ]


def cranked_piece(told: dict | None, source: str = "") -> Cranked | None:
    """A capture's cadence, as `Examination.as_data` keeps it, as evidence; None where it has none."""
    return Cranked(source, told["rpm"], told["uneven"]) if told else None


def flat(piece) -> list:
    """What an entry gave, nothing or one piece or several, as a list without gaps."""
    return [one for one in (piece if isinstance(piece, tuple) else (piece,)) if one is not None]


def part_of(word: str) -> str:
    return PART_WORDS.get(word, word)


def case_of(job: JobFile) -> Case:
    """The case of a job file, its captures read and examined; raises SagenError naming the entry."""
    trail: list = [*complaint_pieces(job.complaints), *code_pieces(job.codes, job.circuit)]
    for number, entry in enumerate(job.trail, start=1):
        try:
            piece = _PIECES[type(entry)](entry, job)
        except SagenError as error:
            raise SagenError(f"trail entry {number}: {error}") from None
        trail += flat(piece)
    return Case(job.circuit, tuple(trail), job.gear)


def _capture(entry: CaptureEntry, job: JobFile):
    from sagen.files import load_sheet, read_capture, read_sheet
    from sagen.signal.examine import complete_sheet, examine

    path = job.folder / entry.capture
    sheet = load_sheet(job.folder / entry.sheet) if entry.sheet else read_sheet(path)
    capture = read_capture(path)
    if sheet is None:
        row = {"column": capture.channels[0].column, "role": job.circuit.role, "sensor": job.circuit.sensor}
        row |= {
            key: value
            for key, value in (("wheel", job.circuit.wheel), ("pull_up", job.circuit.pull_up))
            if value and job.circuit.sensor != "piezo"
        }
        sheet = Sheet.from_data(
            {"channel": [row], "engine": {"cylinders": job.engine.cylinders} if job.engine.cylinders else {}}
        )
    sheet = complete_sheet(capture, sheet)
    reference = None
    if sheet.reference:
        good = Path(path).parent / sheet.reference
        reference = (read_capture(good), read_sheet(good) or sheet)
    examined = examine(capture, sheet, reference=reference)
    heard = asdict(examined.cadence) if examined.cadence else None
    return (
        examined_piece(examined.findings, sheet, job.circuit, entry.capture, referenced=reference is not None),
        cranked_piece(heard, entry.capture),
    )


#: how each kind of entry becomes evidence; a new kind is a row
_PIECES = {
    ReplacedEntry: lambda entry, job: Replaced(part_of(entry.replaced), entry.origin, earlier=True),
    RepairEntry: lambda entry, job: Replaced(part_of(entry.repair), entry.origin),
    ReadingEntry: lambda entry, job: reading_piece(entry, job.circuit),
    CaptureEntry: _capture,
    FindingEntry: lambda entry, job: finding_piece(entry),
}
