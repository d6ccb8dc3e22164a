"""From a job of the log to a case: every standing entry of the trail becomes evidence, or nothing."""

from __future__ import annotations

from pydantic import ValidationError

from sagen.codes import meaning
from sagen.files.jobs import ReadingEntry
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.finding import Finding
from sagen.model.job import Entry, Job
from sagen.model.sheet import Sheet
from sagen.model.words import COMPLAINTS
from sagen.reason.evidence import Code, Looked
from sagen.reason.jobs import (
    code_pieces,
    complaint_pieces,
    cranked_piece,
    examined_piece,
    flat,
    part_of,
    reading_piece,
)
from sagen.reason.sheets import SENSORS, spec_of
from sagen.reason.weigh import Case, Replaced


def circuit_of_job(job: Job) -> CircuitSpec:
    """The circuit that a job is about: as stated on its trail, else as its last capture's sheet or its code says."""
    stated = job.of("circuit")
    if stated:
        try:
            return CircuitSpec.model_validate(stated[-1].data.get("spec", {}))
        except ValidationError:
            pass
    captures = job.of("capture")
    if captures:
        try:
            findings = [Finding.from_data(one) for one in captures[-1].data["findings"]]
            return spec_of(Sheet.from_data(captures[-1].data["sheet"], where="stored sheet"), findings)
        except (SagenError, KeyError):
            pass
    for entry in job.of("code"):
        found = _meaning(entry.data.get("code", ""))
        if found is not None and found.role in SENSORS:
            kind = {"knock": "piezo", "speed": "current"}.get(found.role, "hall")
            return CircuitSpec(role=found.role, sensor=kind, bank=found.bank, position=found.position)
    return CircuitSpec()


def _meaning(code: str):
    try:
        return meaning(code)
    except SagenError:
        return None


def case_of_job(job: Job, gear: tuple[str, ...], strategy: str) -> Case:
    """The case of a job of the log, oldest entry first."""
    spec = circuit_of_job(job)
    told = [one.data.get("text", "") for one in job.of("complaint")]
    trail: list = complaint_pieces(one for one in told if one in COMPLAINTS)
    # A maker's own code that was tied to a circuit by hand counts by the kind it was given.
    codes = job.of("code")
    trail += code_pieces(
        [one.data["code"] for one in codes if not one.data.get("kind") and _meaning(one.data["code"])], spec
    )
    trail += [Code("", one.data["code"], one.data["kind"]) for one in codes if one.data.get("kind")]
    referenced = False
    for entry in job.standing:
        make = _PIECES.get(entry.kind)
        trail += flat(make(entry, spec)) if make else []
        referenced |= entry.kind == "capture" and "reference" in entry.data
    return Case(spec, tuple(trail), gear, strategy, referenced)


def _capture(entry: Entry, spec: CircuitSpec):
    findings = [Finding.from_data(one) for one in entry.data["findings"]]
    sheet = Sheet.from_data(entry.data["sheet"], where="stored sheet")
    name = entry.data["name"]
    return (
        examined_piece(findings, sheet, spec, name, referenced="reference" in entry.data),
        cranked_piece(entry.data.get("cadence"), name),
    )


def _reading(entry: Entry, spec: CircuitSpec):
    return reading_piece(ReadingEntry.model_validate(entry.data["entry"]), spec)


#: how each kind of entry becomes evidence; kinds without a row are told but not weighed
_PIECES = {
    "capture": _capture,
    "reading": _reading,
    "look": lambda entry, spec: Looked("", entry.data["check"], entry.data.get("outcome", "")),
    "replaced": lambda entry, spec: Replaced(
        part_of(entry.data["part"]), entry.data.get("origin", "unknown"), earlier=True
    ),
    "repair": lambda entry, spec: (
        Replaced(part_of(entry.data["part"]), entry.data.get("origin", "original")) if entry.data.get("part") else None
    ),
}
