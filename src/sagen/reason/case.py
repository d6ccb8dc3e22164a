"""From a trail to a case that can be weighed: every standing record becomes evidence, or nothing."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

from sagen.codes import known_meaning, silent_sensors
from sagen.kinds.kind import USUAL, kind_of
from sagen.kinds.piezo.verdict import judge_taps, tapped_of
from sagen.meter.judge import MATERIALS, Accuracy
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Cadence, Finding
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    BoardEntry,
    CaptureEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    PlaceEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    ABOUT_TIMING,
    CHOSEN_GEAR,
    CIRCUIT_ROLES,
    ENGINE_ROLES,
    Capability,
    CodeKind,
    CodeStatus,
    Connection,
    FindingKind,
    Gear,
    Point,
    Role,
    Scan,
    SensorKind,
    State,
    Strategy,
)
from sagen.reason.evidence import (
    Captured,
    Code,
    Comes,
    Complained,
    Cranked,
    Evidence,
    Inspected,
    MeterReading,
    Pressed,
    ReadElsewhere,
    Scanned,
    Seen,
    Stayed,
    captured,
    comes_again,
    sizes_told,
)
from sagen.reason.facts import knowledge
from sagen.reason.history import Case, Replaced, since_repair
from sagen.reason.recording_likelihood import finding_label, label_kind

COLD_TO_HOT = 0.045  #: of its decade: a coil whose temperature is not known may be anything from cold to hot
VOLT_DIGIT, OHM_DIGIT = 0.01, 0.1  #: the last digit of a meter where its accuracy names none

# the circuit ---------------------------------------------------------------------------------


def circuit_of(records: Iterable[Record]) -> CircuitSpec:
    """The circuit that a trail is about: as stated, else as its last capture's sheet or its code says.

    Parameters
    ----------
    records : iterable of Record
        the trail, oldest first
    """
    records = list(records)
    stated = [record for record in records if isinstance(record, CircuitEntry)]
    if stated:
        return stated[-1].spec
    captures = [record for record in records if isinstance(record, CaptureEntry)]
    if captures:
        return circuit_of_sheet(captures[-1].sheet, captures[-1].findings)
    for this_record in records:
        found = known_meaning(this_record.code) if isinstance(this_record, CodeEntry) else None
        if found is not None and found.role in CIRCUIT_ROLES:
            usual = found.usual or USUAL[found.role]
            return CircuitSpec(role=found.role, sensor=usual, bank=found.bank, position=found.position)
    return CircuitSpec()


def circuit_of_sheet(sheet: Sheet, findings: Iterable[Finding] = ()) -> CircuitSpec:
    """The circuit that a capture is about: the sensor with the gravest finding, else the sheet's first; with its own
    feed where a feed channel states one.

    Parameters
    ----------
    sheet : Sheet
        what was told of the capture's channels
    findings : iterable of Finding
        what its examination found
    """
    sensors = {item.column: item for item in sheet.channel if item.role in CIRCUIT_ROLES}
    if not sensors:
        return CircuitSpec()
    grave = [finding for finding in findings if finding.channel in sensors and finding.kind not in ABOUT_CAPTURE]
    gravest = max(grave, key=lambda item: item.severity, default=None)
    sensor = sensors[gravest.channel] if gravest else next(iter(sensors.values()))
    feed = next((item.nominal for item in sheet.channel if item.role == Role.SUPPLY and item.nominal), None)
    usual = USUAL[Role.KNOCK] if sensor.role == Role.KNOCK else USUAL[Role.CRANK]
    kind = kind_of(sensor.sensor or usual)
    return CircuitSpec(
        role=sensor.role,
        sensor=kind.slug,
        supply=feed,
        bank=sensor.bank,
        pull_up=sensor.pull_up if kind.has(Capability.SWITCHES) else None,
        wheel=sensor.wheel,
    )


#: findings of the signal's level that a wire between two probes makes or hides
OF_THE_WIRE = frozenset({
    FindingKind.NO_SIGNAL, FindingKind.LOW_NOT_PULLED_DOWN, FindingKind.HIGH_NOT_REACHED, FindingKind.WEAK_AMPLITUDE,
})  # fmt: skip
BOTH_ENDS = "both_ends_of_the_signal_wire"


def both_recorded(trail: Sequence[Evidence | Replaced]) -> list[Evidence]:
    """What the recordings at both ends of the signal wire say of it since the last repair: they differ, or they show the same.
    Nothing where one end was not recorded in that state, or somebody compared them.

    Parameters
    ----------
    trail : sequence of Evidence or Replaced
        oldest first
    """
    since = since_repair(trail)
    if any(isinstance(item, Inspected) and item.check == BOTH_ENDS for item in since):
        return []
    ends: dict[tuple[str, str], set[frozenset[str]]] = {}
    for item in since:
        if isinstance(item, Captured):
            shown = frozenset(label for label in item.found if label_kind(label) in OF_THE_WIRE)
            ends.setdefault((str(item.state), item.end), set()).add(shown)
    outcomes = [
        "" if ends[state, "module"] & shown else "differ"
        for (state, end), shown in ends.items()
        if end != "module" and (state, "module") in ends
    ]
    return [Inspected("", BOTH_ENDS, "differ" if "differ" in outcomes else "")] if outcomes else []


# the case ------------------------------------------------------------------------------------


def case_of(
    records: Iterable[Record],
    spec: CircuitSpec | None = None,
    gear: Iterable[Gear] = CHOSEN_GEAR,
    strategy: Strategy = Strategy.MOST,
    access: Mapping[str, float] | None = None,
    opened: Iterable[str] = (),
    *,
    alone: bool = True,
) -> Case:
    """The case of a trail, oldest record first: complaints and codes, which are said together, come before the rest.
    `alone`: no other circuit of the job is weighed beside it, that would speak for what several codes share.

    Raises
    ------
    SagenError
        for a record that makes no sense as evidence.

    Parameters
    ----------
    records : iterable of Record
        the entries of a trail, those withdrawn left out
    spec : CircuitSpec or None
        the circuit that they are about; a plain one where nobody said
    gear : iterable of Gear
        instruments that are at hand
    strategy : Strategy
        what the order of checks is to save
    access : mapping or None
        place to the minutes that it takes to get there
    opened : iterable of str
        places that are open already
    alone : bool
        see above
    """
    records = list(records)
    spec = spec or circuit_of(records)
    complaints = [record for record in records if isinstance(record, ComplaintEntry)]
    trail: list[Evidence | Replaced] = [
        piece
        for complaint in complaints
        if complaint.complaint
        for piece in _made_of(complaint, [Complained("", complaint.complaint)])
    ]
    trail += [Comes("", when) for when in dict.fromkeys(when for complaint in complaints for when in complaint.when)]
    codes = [record for record in records if isinstance(record, CodeEntry)]
    trail += code_pieces([(code.code, code.status) for code in codes if not code.says], spec, alone=alone)
    # A maker's own code that was tied to a circuit by hand counts by the kind it was given.
    trail += [Code("", code.code, code.says, code.status == CodeStatus.PENDING) for code in codes if code.says]
    for piece in trail:
        if isinstance(piece, Code):
            _made_of(next((code for code in codes if code.code == piece.code), None), [piece])
    told = _struck_together(records, spec)
    log = []
    for this_record in records:
        if isinstance(this_record, PlaceEntry):
            log.append((len(trail), this_record.place, this_record.opened))
        trail += (
            told.get(id(this_record), ())
            if id(this_record) in told
            else _made_of(this_record, PIECES.get(type(this_record), _nothing)(this_record, spec))
        )
    referenced = any(isinstance(record, CaptureEntry) and record.reference is not None for record in records)
    runs = next((str(complaint.runs) for complaint in reversed(complaints) if complaint.runs), "")
    owed = ("relearn",) if any(_kind(code) == CodeKind.RELEARN for code in codes) else ()
    trail += both_recorded(trail)
    return Case(
        spec, tuple(trail), tuple(gear), Strategy(strategy), referenced, runs, dict(access or {}), frozenset(opened), owed,
        tuple(log),
    )  # fmt: skip


def _made_of(record: Record | None, pieces: Iterable) -> list:
    """Pieces of evidence, each with the record that it was made of."""
    made = list(pieces)
    for piece in made:
        if isinstance(piece, Evidence):
            object.__setattr__(piece, "record", record)
    return made


def _kind(entry: CodeEntry) -> CodeKind | None:
    found = known_meaning(entry.code)
    return entry.says or (found.kind if found else None)


def code_pieces(
    codes: Iterable[tuple[str, CodeStatus | None]], spec: CircuitSpec, *, alone: bool = True
) -> list[Evidence]:
    """What codes say of this circuit; a more particular kind makes a general one of the same sensor needless.

    Parameters
    ----------
    codes : iterable of (str, CodeStatus or None)
        fault codes as read, with their status where it is known
    spec : CircuitSpec
    alone : bool
        no other circuit of the job is weighed beside it
    """
    known = [(code, status, found) for code, status in codes if (found := known_meaning(code)) is not None]
    kinds: dict[str, tuple[str, bool]] = {}
    for code, status, found in known:
        if found.kind == CodeKind.RELEARN:
            continue  # it is owed, and says nothing of what is wrong
        timed = found.kind in (CodeKind.CORRELATION, CodeKind.PHASER) and spec.role in ENGINE_ROLES
        here = found.role in (spec.role, *SHARED_ROLES) or timed
        if here and _same_sensor(found, spec):
            kinds.setdefault(found.kind, (code, status == CodeStatus.PENDING))
    silent = silent_sensors(found for _, _, found in known)
    if (
        alone
        and len(silent) > 1
        and spec.role in {sensor[0] for sensor in silent}
        and CodeKind.CORRELATION not in kinds
    ):
        kinds["several"] = (", ".join(sorted(silent.values())), False)
    if len(kinds) > 1:
        kinds.pop(CodeKind.CIRCUIT, None)
    return [Code("", code, kind, pending) for kind, (code, pending) in kinds.items()]


#: roles of codes that concern every circuit
SHARED_ROLES = (Role.SUPPLY, Role.GROUND, Role.OTHER)


#: a code's letter as the number of the sensor of its role
NUMBERS = {"A": 1, "B": 2}


def _same_sensor(found, spec: CircuitSpec) -> bool:
    """Whether a code is about this circuit: its bank ("bank 1" is also the only one of a straight engine), intake or exhaust,
    and which of several crank sensors, as far as both say."""
    number = NUMBERS.get(found.sensor) if found.role == Role.CRANK else None
    # What cam and crank say of one another is said of belt and chain, which both cams of a bank hang on.
    position = None if found.kind in (CodeKind.CORRELATION, CodeKind.PHASER) else found.position
    pairs = ((found.bank, spec.bank), (position, spec.position), (number, spec.number))
    return all(None in pair or pair[0] == pair[1] for pair in pairs)


def reading_piece(entry: ReadingEntry, spec: CircuitSpec, source: str = "") -> MeterReading | None:
    """A reading as evidence: leads taken off, ohms brought to 20 degC, its accuracy carried along.

    None for ohms that say nothing: those of a sensor across which nothing is published.

    Parameters
    ----------
    entry : ReadingEntry
        V, ohm, A or Hz as read, with the leads' ohms and the temperature (degC) where they were told
    spec : CircuitSpec
    source : str
        the entry that it came from
    """
    kind, here = kind_of(spec.sensor), entry.point == Point.SENSOR
    if entry.ohms and here and kind.part.ohms_field is None and not kind.has(Capability.GENERATES):
        return None
    value, spread = entry.value, 0.0
    accuracy = Accuracy.parse(entry.accuracy) if entry.accuracy else None
    if not entry.ohms:
        spread = accuracy.standard(value, VOLT_DIGIT) if accuracy else 0.0
        return MeterReading(source, entry.point, entry.state, value, False, spread, entry.again)
    value = max(value - entry.leads_ohm, 0.0)
    alpha = MATERIALS[kind.material if here else "copper"]
    if entry.temperature_c is not None and value < 1e6:
        value /= 1 + alpha * (entry.temperature_c - 20.0)
    elif here and alpha:
        spread = COLD_TO_HOT
    if accuracy and value > 0:
        spread = math.hypot(spread, accuracy.standard(value, OHM_DIGIT) / value / math.log(10))
    return MeterReading(source, entry.point, entry.state, value, True, spread, entry.again)


def capture_piece(entry: CaptureEntry, spec: CircuitSpec) -> Captured | None:
    """A capture's findings as evidence about a circuit; None where it is not fit to judge by.

    Parameters
    ----------
    entry : CaptureEntry
        a capture's findings, of which channel each
    spec : CircuitSpec
    """
    needs: frozenset[FindingKind] = frozenset()
    if entry.strikes is not None:
        # One sensor alone shows no difference, and being held down shows against the same unplugged.
        needs |= {FindingKind.LOADED_DOWN} if entry.reference is None else frozenset()
        if len(entry.strikes["columns"]) < 2:
            needs |= {FindingKind.WEAK_STRIKE, FindingKind.RING_MISMATCH, FindingKind.LOADED_DOWN}
    if entry.reference is None:
        sensors = [item.sensor for item in entry.sheet.channel if item.sensor]
        # A channel whose kind is not stated is read as a switching one.
        own = [kind_of(sensor).needs_pattern for sensor in sensors or (SensorKind.HALL,)]
        needs = needs.union(*own)
    return captured(
        [(item.kind, _figures_of(item)) for item in _of_circuit(entry.findings, entry.sheet, spec)],
        _capture_state(entry.sheet),
        {item.role for item in entry.sheet.channel},
        needs_pattern=needs,
        source=entry.name,
        end=entry.sheet.conditions.end,
        levels=_levels(entry, spec),
    )


def _figures_of(finding: Finding) -> dict:
    """The figures of a finding; of one that tells of many stretches with the length of one of them, None where it is not known."""
    if comes_again(finding.facts):
        return {**finding.fields, "length_s": finding.facts.get("off_s"), "stretches": finding.facts["stretches"]}
    return finding.fields


#: how a set of knock sensors stood, and the state in which evidence speaks of that
TAPPED_STATES = {
    Connection.UNPLUGGED: State.UNPLUGGED, Connection.LOADED: State.LOADED, Connection.PLUGGED: State.KEY_ON,
}  # fmt: skip


def _capture_state(sheet: Sheet) -> State:
    """The state that a capture's evidence is of: for knock, what stood across the sensors."""
    stated = sheet.conditions.connection
    if stated is None and any(item.load_ohm for item in sheet.channel):
        stated = Connection.LOADED
    return TAPPED_STATES.get(stated, sheet.conditions.state)


def _struck_together(records: list[Record], spec: CircuitSpec) -> dict[int, list[Evidence]]:
    """Captures of taps between two repairs, judged together in place of each by itself: by the identity of the record,
    the evidence stands with the last capture of each connection."""
    out: dict[int, list[Evidence]] = {}
    stretch: list[CaptureEntry] = []
    for record in [*records, None]:
        if isinstance(record, CaptureEntry) and record.strikes is not None:
            stretch.append(record)
        elif record is None or isinstance(record, RepairEntry):
            if len(stretch) > 1:
                out |= _set_pieces(stretch, spec)
            stretch = []
    return out


def _set_pieces(entries: list[CaptureEntry], spec: CircuitSpec) -> dict[int, list[Evidence]]:
    tapped = {id(entry): tapped_of(entry) for entry in entries}
    verdict = judge_taps([item for item in tapped.values() if item is not None])
    if verdict is None:
        return {}
    sensor = verdict.gravest(spec.bank)
    out: dict[int, list[Evidence]] = {id(entry): [] for entry in entries}
    by_state: dict[State, list[CaptureEntry]] = {}
    for this_entry in entries:
        by_state.setdefault(_capture_state(this_entry.sheet), []).append(this_entry)
    for state, some in by_state.items():
        connections = {str(item.sheet.conditions.connection or "") for item in some}
        shown = verdict.shows(sensor, sorted(connections)) if sensor is not None else frozenset()
        noise = [finding for entry in some for finding in entry.findings if finding.kind == FindingKind.NOISE]
        found = [(item, {"held": "middle"} if item == FindingKind.NO_SIGNAL else {}) for item in shown]
        found += [(item.kind, item.fields) for item in noise[:1]]
        piece = captured(
            found, state, {Role.KNOCK}, needs_pattern=_UNSEEN_TAPPED.get(state, frozenset()), source=some[-1].name
        )
        if piece is not None:
            out[id(some[-1])] = [replace(piece, places=len([place for place in verdict.fit.places if place]))]
    return out


#: what taps cannot show by themselves: held down by the circuit shows only where both sides of plugging in are known
_UNSEEN_TAPPED = {
    state: frozenset({FindingKind.LOADED_DOWN}) for state in (State.UNPLUGGED, State.LOADED, State.STRIKE)
}


def _levels(entry: CaptureEntry, spec: CircuitSpec) -> list[tuple[str, float]]:
    """The levels that a capture measured of this circuit: of its signal, its feed and its return."""
    out = []
    for row in entry.channels:
        role, low, high = row.get("role"), row.get("low"), row.get("high")
        if (
            row.get("probe")
            or row.get("rise_s") is not None  # a line that cannot rise in time has no level to speak of
            or row.get("unit") != "V"
            or not isinstance(low, int | float)
            or not isinstance(high, int | float)
        ):
            continue
        if role == spec.role:
            out += [("low", float(low)), ("high", float(high))]
        elif role in (Role.SUPPLY, Role.GROUND):
            out.append((str(role), 0.5 * (float(low) + float(high))))
    # Of two sensors of one role, or two feeds, nobody says here which is this circuit's.
    names = [name for name, _ in out]
    known = {name: volts for name, volts in out if names.count(name) == 1}
    # A level that was wrong for a part of the recording counts as it was then: that is the fault. One that goes and comes again is no
    # level that a circuit stands at.
    units = {row.get("column"): row.get("unit", "V") for row in entry.channels}
    for finding in _of_circuit(entry.findings, entry.sheet, spec):
        if spec.role != Role.KNOCK and units.get(finding.channel, "V") == "V" and not comes_again(finding.facts):
            known |= levels_told(finding.kind, finding.fields)
    return list(known.items())


AT_GROUND_V = 0.3


def levels_told(kind: FindingKind, fields: Mapping) -> dict[str, float]:
    """What a finding says of the levels of its channel, V, by "low", "high", "supply" and "ground".

    Parameters
    ----------
    kind : FindingKind
    fields : mapping
        the finding's figures by name
    """
    volts = fields.get("level_v")
    # A line at ground is told as well by "held low": a recorder's own offset is as large as what is left there.
    if not isinstance(volts, int | float) or (kind == FindingKind.NO_SIGNAL and abs(volts) < AT_GROUND_V):
        return {}
    names = {
        FindingKind.LOW_NOT_PULLED_DOWN: ("low",), FindingKind.HIGH_NOT_REACHED: ("high",),
        FindingKind.NO_SIGNAL: ("low", "high"), FindingKind.SUPPLY_LOSS: ("supply",), FindingKind.GROUND_LIFT: ("ground",),
    }.get(kind, ())  # fmt: skip
    return {name: float(volts) for name in names}


def _of_circuit(findings: Iterable[Finding], sheet: Sheet, spec: CircuitSpec) -> list[Finding]:
    """The findings on this circuit's own channel and on its rails, and how a cam stands against its crank; what
    another sensor in the same capture shows besides is its own affair."""
    roles = {item.column: item.role for item in sheet.channel}
    banks = {item.column: item.bank for item in sheet.channel}
    if spec.bank is not None and spec.bank in banks.values():
        # Another bank's sensor is its own affair.
        findings = [finding for finding in findings if banks.get(finding.channel) in (None, spec.bank)]
    if spec.role not in roles.values():
        return list(findings)
    about = (spec.role, Role.SUPPLY, Role.GROUND, Role.OTHER)
    return [
        finding
        for finding in findings
        if roles.get(finding.channel) in about or (spec.role == Role.CRANK and finding.kind in ABOUT_TIMING)
    ]


def cranked_piece(told: Cadence | None, source: str = "") -> Cranked | None:
    """A capture's cadence as evidence; None where it has none."""
    return Cranked(source, told.rpm, told.uneven) if told else None


def _nothing(record: Record, spec: CircuitSpec) -> list:
    return []


def _some(*pieces) -> list:
    return [piece for piece in pieces if piece is not None]


def _inspection(entry: InspectionEntry, spec: CircuitSpec) -> list:
    """A look as evidence: by the outcome of a known check, and by what was seen of a part."""
    pieces: list[Evidence] = []
    check = knowledge().check(entry.check)
    if check is not None:
        pieces.append(Inspected("", check.slug, entry.outcome, entry.certain, entry.again))
    if entry.part is not None and (check is None or entry.seen):
        pieces.append(Seen("", entry.part, entry.seen or entry.check, bool(entry.outcome or entry.seen), entry.certain))
    return pieces


def _finding(entry: FindingEntry, spec: CircuitSpec) -> list:
    if entry.finding is None:
        state = entry.state or (State.ROLLING if spec.role == Role.SPEED else State.CRANKING)
        return [Captured("", frozenset(), state, frozenset(ABOUT_TIMING | RAIL_FINDINGS))]
    levels = tuple(levels_told(entry.finding, entry.fields).items()) if spec.role != Role.KNOCK else ()
    sizes = tuple(sizes_told(entry.finding, entry.fields))
    return [
        ReadElsewhere("", finding_label(entry.finding, entry.fields), entry.finding, entry.state or "", levels, sizes)
    ]


RAIL_FINDINGS = frozenset({FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT})

#: how each kind of record becomes evidence; kinds without a row are told but not weighed
PIECES: dict[type[Record], Callable[[Record, CircuitSpec], list]] = {
    CaptureEntry: lambda item, spec: _some(capture_piece(item, spec), cranked_piece(item.cadence, item.name)),
    ReadingEntry: lambda item, spec: _some(reading_piece(item, spec)),
    InspectionEntry: _inspection,
    FindingEntry: _finding,
    BoardEntry: lambda item, spec: [Pressed("", item.shown, item.pressed, item.state or "")],
    # The module counts its speed by the first sensor: that says nothing of a second one.
    ScanEntry: lambda item, spec: (
        [] if item.scan == Scan.RPM_CRANKING and (spec.number or 1) > 1 else [Scanned("", item.scan, item.value)]
    ),
    StayedEntry: lambda item, spec: [Stayed("", item.stayed)],
    ReplacedEntry: lambda item, spec: [Replaced(item.part, item.origin, True, bool(item.began))],
    RepairEntry: lambda item, spec: [Replaced(item.part, item.origin)] if item.part else [],
}
