"""From a trail to a case that can be weighed: every standing record becomes evidence, or nothing."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

from sagen.codes import meaning, silent_sensors
from sagen.kinds.kind import USUAL, kind_of
from sagen.meter.judge import MATERIALS, Accuracy
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.finding import Cadence, Finding
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
)
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    ABOUT_TIMING,
    CHOSEN_GEAR,
    CIRCUIT_ROLES,
    CodeKind,
    FindingKind,
    Gear,
    Point,
    Role,
    SensorKind,
    Strategy,
)
from sagen.reason.evidence import (
    Captured,
    Code,
    Complained,
    Cranked,
    Evidence,
    Inspected,
    MeterReading,
    ReadElsewhere,
    captured,
)
from sagen.reason.finding_sets import finding_label
from sagen.reason.weigh import Case, Replaced

COLD_TO_HOT = 0.045  #: of its decade: a coil whose temperature is not known may be anything from cold to hot
VOLT_DIGIT, OHM_DIGIT = 0.01, 0.1  #: the last digit of a meter where its accuracy names none

# the circuit ---------------------------------------------------------------------------------


def circuit_of(records: Iterable[Record]) -> CircuitSpec:
    """The circuit that a trail is about: as stated, else as its last capture's sheet or its code says."""
    records = list(records)
    stated = [one for one in records if isinstance(one, CircuitEntry)]
    if stated:
        return stated[-1].spec
    captures = [one for one in records if isinstance(one, CaptureEntry)]
    if captures:
        return circuit_of_sheet(captures[-1].sheet, captures[-1].findings)
    for one in records:
        found = _meaning(one.code) if isinstance(one, CodeEntry) else None
        if found is not None and found.role in CIRCUIT_ROLES:
            return CircuitSpec(role=found.role, sensor=USUAL[found.role], bank=found.bank, position=found.position)
    return CircuitSpec()


def circuit_of_sheet(sheet: Sheet, findings: Iterable[Finding] = ()) -> CircuitSpec:
    """The circuit that a capture is about: the sensor with the gravest finding, else the sheet's first; with its own
    feed where a feed channel states one."""
    sensors = {one.column: one for one in sheet.channel if one.role in CIRCUIT_ROLES}
    if not sensors:
        return CircuitSpec()
    grave = [one for one in findings if one.channel in sensors and one.kind not in ABOUT_CAPTURE]
    gravest = max(grave, key=lambda one: one.severity, default=None)
    sensor = sensors[gravest.channel] if gravest else next(iter(sensors.values()))
    feed = next((one.nominal for one in sheet.channel if one.role == Role.SUPPLY and one.nominal), None)
    usual = USUAL[Role.KNOCK] if sensor.role == Role.KNOCK else USUAL[Role.CRANK]
    kind = kind_of(sensor.sensor or usual)
    return CircuitSpec(
        role=sensor.role,
        sensor=kind.slug,
        supply=feed,
        pull_up=sensor.pull_up if kind.pulled_up else None,
        wheel=sensor.wheel,
    )


def _meaning(code: str):
    try:
        return meaning(code)
    except SagenError:
        return None


# the case ------------------------------------------------------------------------------------


def case_of(
    records: Iterable[Record],
    spec: CircuitSpec | None = None,
    gear: Iterable[Gear] = CHOSEN_GEAR,
    strategy: Strategy = Strategy.MOST,
) -> Case:
    """The case of a trail, oldest record first: complaints and codes, which are said together, come before the rest.

    Raises
    ------
    SagenError
        for a record that makes no sense as evidence.
    """
    records = list(records)
    spec = spec or circuit_of(records)
    trail: list[Evidence | Replaced] = [
        Complained("", one.complaint) for one in records if isinstance(one, ComplaintEntry) and one.complaint
    ]
    codes = [one for one in records if isinstance(one, CodeEntry)]
    trail += code_pieces((one.code for one in codes if not one.says), spec)
    # A maker's own code that was tied to a circuit by hand counts by the kind it was given.
    trail += [Code("", one.code, one.says) for one in codes if one.says]
    for one in records:
        trail += PIECES.get(type(one), _nothing)(one, spec)
    referenced = any(isinstance(one, CaptureEntry) and one.reference is not None for one in records)
    return Case(spec, tuple(trail), tuple(gear), Strategy(strategy), referenced)


def code_pieces(codes: Iterable[str], spec: CircuitSpec) -> list[Evidence]:
    """What codes say of this circuit; a more particular kind makes a general one of the same sensor needless."""
    known = [(code, found) for code in codes if (found := _meaning(code)) is not None]
    kinds: dict[str, str] = {}
    for code, found in known:
        correlated = found.kind == CodeKind.CORRELATION and spec.role in (Role.CRANK, Role.CAM)
        here = found.role in (spec.role, Role.SUPPLY) or correlated
        if here and (found.bank is None or spec.bank is None or found.bank == spec.bank):
            kinds.setdefault(found.kind, code)
    silent = silent_sensors(found for _, found in known)
    if len(silent) > 1 and spec.role in {sensor[0] for sensor in silent} and CodeKind.CORRELATION not in kinds:
        kinds["several"] = ", ".join(sorted(silent.values()))
    if len(kinds) > 1:
        kinds.pop(CodeKind.CIRCUIT, None)
    return [Code("", code, kind) for kind, code in kinds.items()]


def reading_piece(entry: ReadingEntry, spec: CircuitSpec, source: str = "") -> MeterReading | None:
    """A reading as evidence: leads taken off, ohms brought to 20 degC, its accuracy carried along.

    None for ohms that say nothing: those of a sensor across which nothing is published.
    """
    kind, here = kind_of(spec.sensor), entry.point == Point.SENSOR
    if entry.ohms and here and not kind.ohms_tell:
        return None
    value, spread = entry.value, 0.0
    accuracy = Accuracy.parse(entry.accuracy) if entry.accuracy else None
    if not entry.ohms:
        spread = accuracy.standard(value, VOLT_DIGIT) if accuracy else 0.0
        return MeterReading(source, entry.point, entry.state, value, False, spread)
    value = max(value - entry.leads_ohm, 0.0)
    alpha = MATERIALS[kind.material if here else "copper"]
    if entry.temperature_c is not None and value < 1e6:
        value /= 1 + alpha * (entry.temperature_c - 20.0)
    elif here and alpha:
        spread = COLD_TO_HOT
    if accuracy and value > 0:
        spread = math.hypot(spread, accuracy.standard(value, OHM_DIGIT) / value / math.log(10))
    return MeterReading(source, entry.point, entry.state, value, True, spread)


def capture_piece(entry: CaptureEntry, spec: CircuitSpec) -> Captured | None:
    """A capture's findings as evidence about a circuit; None where it is not fit to judge by."""
    needs: frozenset[FindingKind] = frozenset()
    if entry.reference is None:
        sensors = [one.sensor for one in entry.sheet.channel if one.sensor]
        # A channel whose kind is not stated is read as a switching one.
        own = [kind_of(one).needs_pattern for one in sensors or (SensorKind.HALL,)]
        needs = frozenset().union(*own)
    return captured(
        [(one.kind, one.fields) for one in _of_circuit(entry.findings, entry.sheet, spec)],
        entry.sheet.conditions.state,
        {one.role for one in entry.sheet.channel},
        needs_pattern=needs,
        source=entry.name,
    )


def _of_circuit(findings: Iterable[Finding], sheet: Sheet, spec: CircuitSpec) -> list[Finding]:
    """The findings on this circuit's own channel and on its rails, and how a cam stands against its crank; what
    another sensor in the same capture shows besides is its own affair."""
    roles = {one.column: one.role for one in sheet.channel}
    if spec.role not in roles.values():
        return list(findings)
    about = (spec.role, Role.SUPPLY, Role.GROUND, Role.OTHER)
    return [
        one
        for one in findings
        if roles.get(one.channel) in about or (spec.role == Role.CRANK and one.kind in ABOUT_TIMING)
    ]


def cranked_piece(told: Cadence | None, source: str = "") -> Cranked | None:
    """A capture's cadence as evidence; None where it has none."""
    return Cranked(source, told.rpm, told.uneven) if told else None


def _nothing(record: Record, spec: CircuitSpec) -> list:
    return []


def _some(*pieces) -> list:
    return [one for one in pieces if one is not None]


#: how each kind of record becomes evidence; kinds without a row are told but not weighed
PIECES: dict[type[Record], Callable[[Record, CircuitSpec], list]] = {
    CaptureEntry: lambda one, spec: _some(capture_piece(one, spec), cranked_piece(one.cadence, one.name)),
    ReadingEntry: lambda one, spec: _some(reading_piece(one, spec)),
    InspectionEntry: lambda one, spec: [Inspected("", one.check, one.outcome)],
    FindingEntry: lambda one, spec: [
        ReadElsewhere("", finding_label(one.finding, one.fields), one.finding, one.state or "")
    ],
    ReplacedEntry: lambda one, spec: [Replaced(one.part, one.origin, earlier=True)],
    RepairEntry: lambda one, spec: [Replaced(one.part, one.origin)] if one.part else [],
}
