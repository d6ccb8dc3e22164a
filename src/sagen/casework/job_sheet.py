"""A job put into words for paper: what the three pages say, from its trail and what that amounts to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from sagen.casework.costs import costs_of, offers
from sagen.casework.judging import expected_reading
from sagen.casework.words import entry_text, said_days
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.proof import Again, Stage, Standing, sound, standing
from sagen.model.trail import (
    CaptureEntry,
    CardEntry,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    InspectionEntry,
    NoteEntry,
    PartEntry,
    PhotoEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    SeenEntry,
    StepEntry,
    ValueEntry,
)
from sagen.model.vocabulary import Cause, Complaint, Judged, LineState, Origin, ProofStep
from sagen.model.words import (
    CAUSES,
    FINDING_TITLES,
    JUDGED,
    LINE_STATES,
    ORIGINS,
    OWED,
    OWED_SHORT,
    PARTS,
    PLACES,
    POINTS,
    QUANTITIES,
    RELEARNS,
    ROLES,
    SEEN_MARKS,
    SENSORS,
    STATES,
    STATES_THEN,
    STEPS,
    WIRES,
    said_ohms,
    said_volts,
)
from sagen.reason.decide import Costs, decision_facts
from sagen.reason.several import circuits_of
from sagen.report.job_pages import CircuitPart, JobSheet, Picture, Row

LEAST_SHOWN, RULED_OUT = 0.03, 0.01
#: causes as a customer would be told of them
EVERYDAY = {
    Cause.SENSOR: "the {role} sensor itself has failed",
    Cause.AIR_GAP: "the {role} sensor does not sit as close to its wheel as it must",
    Cause.RELUCTOR: "the toothed wheel that the {role} sensor reads is damaged",
    Cause.WIRING: "a wire or plug between the {role} sensor and the engine's computer is bad",
    Cause.SUPPLY: "the {role} sensor does not get its supply voltage",
    Cause.GROUND: "the ground connection of the {role} sensor is bad",
    Cause.MODULE: "the computer's own input for the {role} sensor is at fault",
    Cause.TIMING: "belt or chain between crankshaft and camshaft is not where it must be",
    Cause.ENGINE: "battery, starter or the engine itself is behind it, not the sensor",
    Cause.INTERFERENCE: "another part disturbs the {role} sensor's signal",
}
#: what is to be expected where nothing is done, by complaint (common practice, no published source)
LEFT_ALONE = {
    Complaint.NO_START: "It will not start, or only now and then.",
    Complaint.LONG_CRANK: "It will crank longer and longer, wear starter and battery, and one day not start.",
    Complaint.STALLS: "It will stall again, and where it does cannot be chosen.",
    Complaint.RUNS_ROUGH: "It will go on running roughly and use more fuel.",
    Complaint.NO_POWER: "It will stay without its full power.",
    Complaint.LAMP_ONLY: "The lamp stays on, and hides the next fault.",
    Complaint.NO_SPEED_DISPLAY: "The speed display, and what depends on it, stays out.",
}


def job_sheet(
    job: Job, weighed, *, workshop: str = "", photos: Mapping[str, str] | None = None, pictures: Sequence[Picture] = ()
) -> JobSheet:
    """What the pages of a job say.

    Parameters
    ----------
    weighed : Weighed
    photos : mapping
        data URIs of the photos, by token
    pictures : sequence of Picture
        of its recordings
    """
    records = job.records()
    now = standing(records)
    circuits = circuits_of(records)
    card = next((one.machine for one in reversed(job.records(CardEntry))), None)
    lead = weighed.suspects[0] if weighed.suspects else None
    spec = circuits.get(lead.circuit if lead else "", next(iter(circuits.values())))
    role = ROLES[spec.role]
    costs = _safe_costs(records)
    left = _what_left(records, now, weighed)
    seen = job.records(SeenEntry)
    return JobSheet(
        machine=job.machine, owner=job.owner, number=job.id, workshop=workshop, stage=str(now.stage),
        complaint="; ".join(entry_text(one).replace("\n", ", ") for one in job.records(ComplaintEntry)),
        codes=tuple(one.code for one in job.records(CodeEntry)),
        verdict=_verdict(lead, weighed, now, left), everyday=_everyday(lead, now, role, weighed, left),
        why=_why(records, now), done=tuple(_line(one) for one in job.records(RepairEntry)),
        proved=_proved(records, now), owed=owed_words(now),
        cost=_cost(records, costs), otherwise=_otherwise(records, job.records(ComplaintEntry)),
        seen=tuple(Row((one.seen, SEEN_MARKS[one.mark], one.because)) for one in seen),
        readings=tuple(_reading(one, circuits, card) for one in records if isinstance(one, ReadingEntry | ValueEntry)),
        captures=tuple(_capture(one) for one in records if isinstance(one, CaptureEntry | FindingEntry)),
        again=tuple(again_row(one) for one in now.again),
        suspects=tuple(_suspect(one) for one in weighed.suspects if one.probability >= LEAST_SHOWN)[:5],
        ruled_out=_ruled_out(weighed.suspects),
        changed=tuple(
            f"{'Before' if isinstance(one, ReplacedEntry) else 'In this job'}: {_line(one)}"
            for one in records if isinstance(one, ReplacedEntry | RepairEntry)
        ),
        notes=tuple(_line(one) for one in records if isinstance(one, NoteEntry | InspectionEntry)),
        circuits=_circuits(circuits, card), steps=_steps(job.records(StepEntry)), parts=_parts(job.records(PartEntry)),
        offers=_offers(records, costs), next=tuple(_check(one) for one in weighed.checks[:4]),
        cautions=tuple(sorted({caution for one in weighed.checks[:4] for caution in one.check.cautions})),
        pictures=tuple(pictures), photos=_photos(job.records(PhotoEntry), photos or {}),
    )  # fmt: skip


def _safe_costs(records: Iterable[Record]) -> Costs:
    """A shop file that makes no sense must not keep a job from being printed."""
    try:
        return costs_of(records)
    except SagenError:
        return Costs()


def _line(record: Record) -> str:
    """An entry in one line, with its circuit."""
    told = entry_text(record).replace("\n", ". ")
    return f"{record.circuit}: {told}" if record.circuit else told


def _what_left(records: Sequence[Record], now: Standing, weighed) -> str:
    """What left with the part that was changed, in the words of the advice; "" where none was."""
    text = weighed.advice.text if weighed.advice is not None and now.repairs else ""
    return text.partition(";")[0].partition(": ")[2] if "What was wrong left with" in text else ""


def _verdict(lead, weighed, now: Standing, left: str) -> str:
    if left:
        return f"Found and taken out: {left}."
    if lead is None:
        return ""
    where = f" ({lead.circuit})" if lead.circuit else ""
    if lead.cause == Cause.NONE:
        return f"Nothing wrong is found in this circuit{where} ({100 * lead.probability:.0f} %)."
    return f"Most likely {CAUSES[lead.cause].lower()}: {lead.title}{where}, {100 * lead.probability:.0f} %."


def _everyday(lead, now: Standing, role: str, weighed, left: str) -> str:
    mended = now.repairs[-1].part if now.repairs else None
    if now.stage == Stage.PROVEN:
        what = PARTS[mended].lower() if mended else "what was mended"
        return f"The fault is found and mended ({what}), and it was proved that it is gone."
    if now.stage == Stage.CAME_BACK:
        return "It came back after the repair: the job is open again, and is not paid twice for the same part."
    if now.stage == Stage.REPAIRED:
        what = PARTS[mended].lower() if mended else "What was found"
        return f"{what[:1].upper()}{what[1:]} was mended. The proof is not complete yet."
    if lead is None or (lead.cause == Cause.NONE and not now.again):
        return "Nothing wrong has been found so far."
    if lead.cause == Cause.NONE:
        return "What was measured is not yet enough to name the fault."
    told = EVERYDAY[lead.cause].format(role=role)
    sure = "" if lead.probability >= 0.9 else " This is likely, not yet certain: one more check is worth its time."
    return f"{told[:1].upper()}{told[1:]}.{sure}"


def _why(records: Sequence[Record], now: Standing) -> tuple[str, ...]:
    """What showed it, in everyday words: the abnormal measurements, and what was seen for certain."""
    told = [_seen_wrong(one.before) for one in now.again]
    told += [_line(one) for one in records if isinstance(one, InspectionEntry) and one.outcome and one.certain]
    return tuple(dict.fromkeys(one for one in told if one))[:5]


def _seen_wrong(record: Record) -> str:
    if isinstance(record, CaptureEntry):
        shown = [FINDING_TITLES[one.kind].lower() for one in record.findings[:3]]
        return f"The recording {record.name} ({STATES[record.sheet.conditions.state]}) shows: {', '.join(shown)}."
    return (
        f"{what_was_measured(record)}: {value_of(record)}, which is {JUDGED[record.judged]} what a sound one has."
        if getattr(record, "judged", None)
        else ""
    )


def what_was_measured(record: Record) -> str:
    """Where and in which state something was measured."""
    where = f"{record.circuit}: " if record.circuit else ""
    if isinstance(record, ReadingEntry):
        return f"{where}{POINTS[record.point]}, {STATES_THEN[record.state]}"
    if isinstance(record, ValueEntry):
        state = STATES_THEN[record.state] if record.state else ""
        return where + ", ".join(one for one in (" and ".join(record.between), state, record.when) if one)
    if isinstance(record, CaptureEntry):
        return f"{where}recording, {STATES[record.sheet.conditions.state]}"
    if isinstance(record, FindingEntry):
        return f"{where}read elsewhere" + (f", {STATES_THEN[record.state]}" if record.state else "")
    return where


def value_of(record: Record) -> str:
    """What was measured."""
    if isinstance(record, ReadingEntry):
        return record.shown or (said_ohms(record.value) if record.ohms else said_volts(record.value))
    if isinstance(record, ValueEntry):
        return record.shown or f"{record.value:g} {QUANTITIES[record.quantity]}"
    if isinstance(record, CaptureEntry):
        return ", ".join(FINDING_TITLES[one.kind].lower() for one in record.findings[:3]) or "nothing wrong"
    if isinstance(record, FindingEntry):
        return FINDING_TITLES[record.finding].lower() if record.finding else "nothing wrong"
    return ""


def again_row(one: Again) -> Row:
    """A measurement before and after the repair, with what the later one came to."""
    after = value_of(one.after) if one.after is not None else "not taken again"
    said = {True: "sound", False: "still wrong", None: "owed" if one.after is None else "too close to say"}[one.sound]
    return Row(
        (what_was_measured(one.before), value_of(one.before), after, said),
        {True: "sound", False: "bad"}.get(one.sound, ""),
    )


def owed_words(now: Standing) -> tuple[str, ...]:
    """What is owed, with the relearn that the card asks for."""
    out = []
    for one in now.owed:
        text = OWED_SHORT[one]
        if one == ProofStep.RELEARN and now.relearn:
            text += ": " + "; ".join(f"{name}: {RELEARNS[row.kind].lower()}" for name, row in now.relearn.items())
        out.append(text + (" (failed)" if one in now.failed else ""))
    return tuple(out)


def _proved(records: Sequence[Record], now: Standing) -> tuple[str, ...]:
    if not now.repairs:
        return ()
    told = []
    if now.again and all(one.sound for one in now.again):
        told.append(OWED[ProofStep.MEASURED])
    told += [OWED[one] for one in ProofStep if one in now.done and OWED[one] not in told]
    told += [f"Not so: {OWED[one]}" for one in ProofStep if one in now.failed]
    drives = [one for one in records if isinstance(one, ProofEntry) and one.drive]
    told += [line for one in drives for line in entry_text(one).split("\n") if line.startswith("Drive")]
    return tuple(told)


def _cost(records: Sequence[Record], costs: Costs) -> tuple[Row, ...]:
    lines = [
        one
        for one in records
        if isinstance(one, PartEntry)
        and one.state in (LineState.FITTED, LineState.CAME, LineState.ORDERED, LineState.WANTED)
    ]
    rows = [
        Row(
            (
                f"{one.count} x {one.name}",
                f"{one.price * one.count:,.2f}" if one.price is not None else "price not stated",
            )
        )
        for one in lines
    ]
    priced = [one.price * one.count for one in lines if one.price is not None]
    if len(priced) > 1:
        rows.append(Row(("Parts together", f"{sum(priced):,.2f}")))
    if rows and costs.hour is not None:
        rows.append(Row(("Labour, an hour", f"{costs.hour:,.2f}")))
    return tuple(rows)


def _otherwise(records: Sequence[Record], complaints: Sequence[ComplaintEntry]) -> tuple[str, ...]:
    facts = decision_facts()
    told = []
    if any(isinstance(one, PartEntry | RepairEntry) for one in records):
        new = {origin: facts.new[origin].comes_back for origin in (Origin.ORIGINAL, Origin.AFTERMARKET, Origin.UNKNOWN)}
        told.append(
            f"Of a hundred parts of unknown make about {100 * new[Origin.UNKNOWN]:.0f} bring a machine back within two years, "
            f"of another maker's {100 * new[Origin.AFTERMARKET]:.0f}, of original ones {100 * new[Origin.ORIGINAL]:.0f}; then all the "
            "labour is owed again."
        )
    told += [f"Nothing done: {LEFT_ALONE[one.complaint]}" for one in complaints if one.complaint in LEFT_ALONE][:1]
    return tuple(told)


def _reading(one: ReadingEntry | ValueEntry, circuits, card: MachineCard | None) -> Row:
    limits = ""
    if isinstance(one, ReadingEntry):
        spec = circuits.get(one.circuit, next(iter(circuits.values())))
        limits = expected_reading(spec, card, one.circuit, one.point, one.state, ohms=one.ohms)
        where = POINTS[one.point]
    else:
        circuit = card.of(one.circuit) if card else None
        rows = [
            row
            for row in (circuit.published if circuit else ())
            if row.between == one.between and row.quantity == one.quantity
        ]
        limits = published_limits(rows[0]) if rows else ""
        where = " and ".join(one.between)
    where = f"{one.circuit}: {where}" if one.circuit else where
    state = STATES_THEN[one.state] if one.state else getattr(one, "when", "")
    mark = {Judged.INSIDE: "sound", Judged.OUTSIDE: "bad"}.get(one.judged, "")
    return Row((where, state, value_of(one), limits, JUDGED[one.judged] if one.judged else "not judged"), mark)


def published_limits(row: Published) -> str:
    """A row's limits in words."""
    unit = QUANTITIES[row.quantity]
    if row.over:
        (cold, *_), (warm, *_) = row.over[0], row.over[-1]
        return f"by temperature, {cold:g} to {warm:g} °C"
    if row.low is None:
        return f"at most {row.high:g} {unit}"
    return f"at least {row.low:g} {unit}" if row.high is None else f"{row.low:g} to {row.high:g} {unit}"


def _capture(one: CaptureEntry | FindingEntry) -> Row:
    name = one.name if isinstance(one, CaptureEntry) else "read elsewhere"
    state = (
        STATES[one.sheet.conditions.state]
        if isinstance(one, CaptureEntry)
        else (STATES_THEN[one.state] if one.state else "")
    )
    told = " ".join(finding.text for finding in one.findings[:4]) if isinstance(one, CaptureEntry) else value_of(one)
    fine = sound(one)
    return Row(
        (f"{one.circuit}: {name}" if one.circuit else name, state, told or "nothing wrong"),
        {True: "sound", False: "bad"}.get(fine, ""),
    )


def _suspect(one) -> Row:
    name = f"{CAUSES[one.cause]}: {one.title}" if one.cause != Cause.NONE else CAUSES[one.cause]
    reasons = " ".join(("+ " if reason.bits > 0 else "\u2212 ") + reason.text for reason in one.reasons[:3])
    return Row((f"{one.circuit}: {name}" if one.circuit else name, f"{100 * one.probability:.0f} %", reasons))


def _ruled_out(suspects) -> tuple[Row, ...]:
    """Causes that are out, by what speaks most against each; those that the same thing rules out stand together."""
    by_reason: dict[str, list[str]] = {}
    for one in suspects:
        against = [reason.text for reason in one.reasons if reason.bits < 0]
        if one.probability < RULED_OUT and against and one.cause != Cause.NONE:
            by_reason.setdefault(against[0], []).append(CAUSES[one.cause])
    return tuple(Row((", ".join(names), reason)) for reason, names in by_reason.items())


def _circuits(circuits, card: MachineCard | None) -> tuple[CircuitPart, ...]:
    out = []
    for name, spec in circuits.items():
        found = (
            card.of(name)
            if card and name
            else next((one for one in card.circuit if one.role == spec.role), None)
            if card
            else None
        )
        title = name or f"{ROLES[spec.role]} sensor"
        lines = [f"{ROLES[spec.role].capitalize()}, {SENSORS[spec.sensor]}"]
        lines[0] += f", wheel {spec.wheel}" if spec.wheel else ""
        lines[0] += f", feed {spec.supply:g} V" if spec.supply else ""
        lines[0] += f", pull-up {spec.pull_up:g} V" if spec.pull_up else ""
        out.append(_card_part(title, lines, found))
    return tuple(out)


def _card_part(title: str, lines: list[str], found: CardCircuit | None) -> CircuitPart:
    if found is None:
        return CircuitPart(title, tuple(lines))
    lines = [*lines, *([f"Sits {found.place}"] if found.place else [])]
    lines += [f"Torque {found.torque_nm:g} Nm"] if found.torque_nm else []
    if found.relearn:
        lines.append(
            f"Relearn: {RELEARNS[found.relearn.kind].lower()}"
            + (f". {found.relearn.text}" if found.relearn.text else "")
        )
    if found.access:
        lines.append(
            "Minutes to get at: "
            + ", ".join(f"{PLACES[place].lower()} {minutes:g}" for place, minutes in found.access.items())
        )
    wires = tuple(
        Row(
            (
                WIRES[one.carries],
                one.colour,
                one.sensor_pin,
                one.module_pin,
                ", ".join(x for x in (one.fuse, one.fuse_place) if x),
                ", ".join(one.shared_with),
            )
        )
        for one in found.wire
    )
    published = tuple(
        Row((one.where, *_ends(one), "" if one.at is None else f"at {one.at:g} °C", one.maker))
        for one in found.published
    )
    return CircuitPart(title, tuple(lines), wires, published)


def _ends(row: Published) -> tuple[str, str]:
    unit = QUANTITIES[row.quantity]
    if row.over:
        return "by temperature", "; ".join(f"{at:g} °C: {low:g} to {high:g} {unit}" for at, low, high in row.over)
    return tuple("" if one is None else f"{one:g} {unit}" for one in (row.low, row.high))


def _steps(steps: Sequence[StepEntry]) -> tuple[Row, ...]:
    """What was taken apart, the other way round, with what each needs."""
    return tuple(
        Row(
            (f"{STEPS[one.step].partition(':')[0]}: {one.what}", one.size, one.owes, "together" if one.back else ""),
            "sound" if one.back else "",
        )
        for one in reversed(steps)
    )


def _parts(parts: Sequence[PartEntry]) -> tuple[Row, ...]:
    return tuple(
        Row((
            f"{one.count} x {one.name}" + (f" ({ORIGINS[one.origin].lower()})" if one.origin != Origin.UNKNOWN else ""),
            " ".join(x for x in (one.maker, one.number) if x), one.source,
            f"{one.price:,.2f}" if one.price is not None else "", said_days(one.lead_days) if one.lead_days is not None else "",
            LINE_STATES[one.state], "; ".join(f"{key} {value}" for key, value in one.bench.items() if value) or "not yet",
        ))
        for one in parts
    )  # fmt: skip


def _offers(records: Sequence[Record], costs: Costs) -> tuple[Row, ...]:
    rows = offers(records, costs)
    if len(rows) < 2:
        return ()
    return tuple(
        Row((
            " ".join(x for x in (one.name, one.maker, one.source) if x), f"{one.price:,.2f}" if one.price is not None else "not stated",
            said_days(one.lead_days) if one.lead_days is not None else "not stated",
            f"{one.lead_days * costs.day:,.2f}" if one.lead_days is not None and costs.day is not None else "not stated",
            f"{total:,.2f}" if total is not None else "cannot be told",
        ))
        for one, total in rows
    )  # fmt: skip


def _check(one) -> str:
    where = f"{one.circuit}: " if one.circuit else ""
    return f"{where}{one.text} About {one.total_minutes:.0f} minutes. A sound circuit shows: {one.expect}"


def _photos(rows: Sequence[PhotoEntry], uris: Mapping[str, str]) -> tuple[Picture, ...]:
    return tuple(Picture(uris[one.token], entry_text(one)) for one in rows if one.token in uris)
