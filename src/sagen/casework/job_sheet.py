"""A job put into words for paper: what the three pages say, from its trail and what that amounts to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from sagen.casework.costs import costs_of, offers
from sagen.casework.judging import expected_reading, published_limits
from sagen.casework.words import drive_text, entry_text, said_days
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import as_typed, figure, lowered, titled, tr
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.proof import Again, Stage, Standing, sound, standing
from sagen.model.quantities import TEMPERATURE, TORQUE
from sagen.model.trail import (
    BoardEntry,
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
from sagen.model.vocabulary import Cause, Complaint, Judged, LineState, Origin, Part, ProofStep
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
    card_points,
    pressed_words,
    said_minutes,
    said_ohms,
    said_volts,
    struck_at,
    surely,
)
from sagen.reason.decide import Costs, decision_facts
from sagen.reason.several import circuits_of
from sagen.report.job_pages import CircuitPart, JobSheet, Picture, Row

LEAST_SHOWN, RULED_OUT = 0.03, 0.01
#: causes as a customer would be told of them
EVERYDAY = {
    Cause.SENSOR: tr("the {role} sensor itself has failed"),
    Cause.AIR_GAP: tr("the {role} sensor does not sit as close to its wheel as it must"),
    Cause.RELUCTOR: tr("the toothed wheel that the {role} sensor reads is damaged"),
    Cause.WIRING: tr("a wire or plug between the {role} sensor and the engine's computer is bad"),
    Cause.SUPPLY: tr("the {role} sensor does not get its supply voltage"),
    Cause.GROUND: tr("the ground connection of the {role} sensor is bad"),
    Cause.MODULE: tr("the computer's own input for the {role} sensor is at fault"),
    Cause.TIMING: tr("belt or chain between crankshaft and camshaft is not where it must be"),
    Cause.ENGINE: tr("battery, starter or the engine itself is behind it, not the sensor"),
    Cause.INTERFERENCE: tr("another part disturbs the {role} sensor's signal"),
}
#: from here on a cause is called likely to a customer
LIKELY = 0.5
NOT_STARTED = tr(
    "It must not be started or driven before belt or chain were looked at: valves and pistons may meet, and the "
    "engine be lost."
)
#: parts that are bought, not mended
BOUGHT = (Part.SENSOR, Part.WHEEL, Part.MODULE, Part.TIMING)
#: what is to be expected where nothing is done, by complaint (common practice, no published source)
LEFT_ALONE = {
    Complaint.NO_START: tr("It will not start, or only now and then."),
    Complaint.LONG_CRANK: tr("It will crank longer and longer, wear starter and battery, and one day not start."),
    Complaint.STALLS: tr("It will stall again, and where it does cannot be chosen."),
    Complaint.RUNS_ROUGH: tr("It will go on running roughly and use more fuel."),
    Complaint.NO_POWER: tr("It will stay without its full power."),
    Complaint.LAMP_ONLY: tr("The lamp stays on, and hides the next fault."),
    Complaint.NO_SPEED_DISPLAY: tr("The speed display, and what depends on it, stays out."),
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
    card = next((record.machine for record in reversed(job.records(CardEntry))), None)
    lead = weighed.suspects[0] if weighed.suspects else None
    spec = circuits.get(lead.circuit if lead else "", next(iter(circuits.values())))
    role = ROLES[spec.role]
    costs = _safe_costs(records)
    left = _what_left(records, now, weighed)
    seen = job.records(SeenEntry)
    return JobSheet(
        machine=job.machine, owner=job.owner, number=job.id, workshop=workshop, stage=str(now.stage),
        complaint="; ".join(entry_text(record).replace("\n", ", ") for record in job.records(ComplaintEntry)),
        codes=tuple(record.code for record in job.records(CodeEntry)),
        verdict=_verdict(lead, weighed, now, left), everyday=_everyday(lead, now, role, weighed),
        why=_why(records, now), done=tuple(_line(record) for record in job.records(RepairEntry)),
        proved=_proved(records, now), owed=owed_words(now),
        cost=_cost(records, costs), otherwise=_otherwise(records, now, weighed),
        seen=tuple(Row((item.seen, SEEN_MARKS[item.mark], item.because)) for item in seen),
        readings=tuple(_reading(record, circuits, card) for record in records if isinstance(record, ReadingEntry | ValueEntry)),
        captures=tuple(_capture(record) for record in records if isinstance(record, CaptureEntry | FindingEntry | BoardEntry)),
        again=tuple(again_row(item, repaired=bool(now.repairs)) for item in now.again),
        suspects=tuple(_suspect(suspect) for suspect in weighed.suspects if suspect.probability >= LEAST_SHOWN)[:5],
        ruled_out=_ruled_out(weighed.suspects),
        changed=tuple(
            tr("{record}: {record_2}", record=tr("Before") if isinstance(record, ReplacedEntry) else tr("In this job"), record_2=_line(record))
            for record in records if isinstance(record, ReplacedEntry | RepairEntry)
        ),
        notes=tuple(_line(record) for record in records if isinstance(record, NoteEntry | InspectionEntry)),
        circuits=_circuits(circuits, card), steps=_steps(job.records(StepEntry)), parts=_parts(job.records(PartEntry)),
        offers=_offers(records, costs), advice=weighed.diagnosis.advice.text, warnings=weighed.diagnosis.warnings, next=tuple(_check(check) for check in weighed.checks[:4]),
        cautions=tuple(sorted({caution for check in weighed.checks[:4] for caution in check.check.cautions})),
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
    return weighed.diagnosis.advice.left if now.repairs else ""


def _verdict(lead, weighed, now: Standing, left: str) -> str:
    if left:
        return tr("Found and taken out: {left}.", left=left)
    if lead is None:
        return ""
    where = f" ({lead.circuit})" if lead.circuit else ""
    if lead.cause == Cause.NONE:
        return tr(
            "Nothing wrong is found in this circuit{where} ({probability}).",
            where=where,
            probability=surely(lead.probability),
        )
    return tr(
        "Most likely {cause}: {title}{where}, {probability}.",
        cause=lowered(CAUSES[lead.cause]),
        title=lead.title,
        where=where,
        probability=surely(lead.probability),
    )


def _everyday(lead, now: Standing, role: str, weighed) -> str:
    """How it stands, in everyday words, and that it must not be started where that is so."""
    told = _standing_words(lead, now, role, weighed)
    stays = weighed.diagnosis.do_not and now.stage != Stage.PROVEN
    return f"{told} {NOT_STARTED}" if stays else told


def _standing_words(lead, now: Standing, role: str, weighed) -> str:
    mended = now.repairs[-1].part if now.repairs else None
    if now.stage == Stage.PROVEN:
        what = lowered(PARTS[mended]) if mended else tr("what was mended")
        return tr("The fault is found and mended ({what}), and it was proved that it is gone.", what=what)
    if now.stage == Stage.CAME_BACK:
        return tr("It came back after the repair: the job is open again, and is not paid twice for the same part.")
    if now.stage == Stage.REPAIRED:
        what = lowered(PARTS[mended]) if mended else tr("What was found")
        return tr("{what} was mended. The proof is not complete yet.", what=titled(what))
    if lead is None or (lead.cause == Cause.NONE and not now.again):
        return tr("Nothing wrong has been found so far.")
    if lead.cause == Cause.NONE:
        return tr("What was measured is not yet enough to name the fault.")
    if lead.probability < LIKELY:
        return tr("What is wrong is not found yet: more has to be measured.")
    told = EVERYDAY[lead.cause].format(role=role)
    sure = "" if weighed.diagnosis.ready else tr(" This is likely, not yet certain: one more check is worth its time.")
    return f"{titled(told)}.{sure}"


def _why(records: Sequence[Record], now: Standing) -> tuple[str, ...]:
    """What showed it, in everyday words: the abnormal measurements, and what was seen for certain."""
    told = [_seen_wrong(item.before) for item in now.again]
    told += [
        _line(record) for record in records if isinstance(record, InspectionEntry) and record.outcome and record.certain
    ]
    return tuple(dict.fromkeys(item for item in told if item))[:5]


def _seen_wrong(record: Record) -> str:
    if isinstance(record, CaptureEntry):
        shown = [lowered(FINDING_TITLES[finding.kind]) for finding in record.findings[:3]]
        return tr(
            "The recording {name} ({state}) shows: {shown}.",
            name=record.name,
            state=STATES[record.sheet.conditions.state],
            shown=", ".join(shown),
        )
    return (
        tr(
            "{record}: {record_2}, which is {judged} what a sound one has.",
            record=what_was_measured(record),
            record_2=value_of(record),
            judged=JUDGED[record.judged],
        )
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
        return where + ", ".join(item for item in (card_points(record.between), state, record.when) if item)
    if isinstance(record, CaptureEntry):
        place = record.sheet.conditions.place
        return tr("{where}recording, {state}", where=where, state=STATES[record.sheet.conditions.state]) + (
            f", {struck_at(place)}" if place else ""
        )
    if isinstance(record, FindingEntry):
        return tr("{where}read elsewhere", where=where) + (f", {STATES_THEN[record.state]}" if record.state else "")
    return where


def value_of(record: Record) -> str:
    """What was measured."""
    if isinstance(record, ReadingEntry):
        return as_typed(record.shown) or (said_ohms(record.value) if record.ohms else said_volts(record.value))
    if isinstance(record, ValueEntry):
        return as_typed(record.shown) or tr(
            "{value:g} {quantity}", value=record.value, quantity=QUANTITIES[record.quantity]
        )
    if isinstance(record, CaptureEntry):
        return ", ".join(lowered(FINDING_TITLES[finding.kind]) for finding in record.findings[:3]) or tr(
            "nothing wrong"
        )
    if isinstance(record, FindingEntry):
        return lowered(FINDING_TITLES[record.finding]) if record.finding else tr("nothing wrong")
    if isinstance(record, BoardEntry):
        return pressed_words(record.shown, record.pressed)
    return ""


def again_row(again: Again, *, repaired: bool) -> Row:
    """A measurement before and after the repair, with what the later one came to; before it, nothing is owed yet."""
    due = tr("owed") if repaired else tr("after the repair")
    after = value_of(again.after) if again.after is not None else tr("not taken again")
    said = {
        True: tr("sound"),
        False: tr("still wrong"),
        None: due if again.after is None else tr("too close to say"),
    }[again.sound]
    return Row(
        (what_was_measured(again.before), value_of(again.before), after, said),
        {True: "sound", False: "bad"}.get(again.sound, ""),
    )


def owed_words(now: Standing) -> tuple[str, ...]:
    """What is owed, with the relearn that the card asks for."""
    out = []
    for item in now.owed:
        text = OWED_SHORT[item]
        if item == ProofStep.RELEARN and now.relearn:
            text += ": " + "; ".join(f"{name}: {lowered(RELEARNS[row.kind])}" for name, row in now.relearn.items())
        out.append(tr("{step} (failed)", step=text) if item in now.failed else text)
    return tuple(out)


def _proved(records: Sequence[Record], now: Standing) -> tuple[str, ...]:
    if not now.repairs:
        return ()
    told = []
    if now.again and all(item.sound for item in now.again):
        told.append(OWED[ProofStep.MEASURED])
    told += [OWED[proof_step] for proof_step in ProofStep if proof_step in now.done and OWED[proof_step] not in told]
    told += [
        tr("Not so: {proof_step}", proof_step=OWED[proof_step]) for proof_step in ProofStep if proof_step in now.failed
    ]
    drives = [record for record in records if isinstance(record, ProofEntry) and record.drive]
    told += [drive_text(record.drive) for record in drives]
    return tuple(told)


def _cost(records: Sequence[Record], costs: Costs) -> tuple[Row, ...]:
    lines = [
        record
        for record in records
        if isinstance(record, PartEntry)
        and record.state in (LineState.FITTED, LineState.CAME, LineState.ORDERED, LineState.WANTED)
    ]
    rows = [
        Row(
            (
                f"{line.count} x {line.name}",
                figure(line.price * line.count, ",.2f") if line.price is not None else tr("price not stated"),
            )
        )
        for line in lines
    ]
    priced = [line.price * line.count for line in lines if line.price is not None]
    if len(priced) > 1:
        rows.append(Row((tr("Parts together"), figure(sum(priced), ",.2f"))))
    if rows and costs.hour is not None:
        rows.append(Row((tr("Labour, an hour"), figure(costs.hour, ",.2f"))))
    return tuple(rows)


def _otherwise(records: Sequence[Record], now: Standing, weighed) -> tuple[str, ...]:
    """What a cheaper part, or leaving it alone, would come to: of parts only where one is bought, of leaving it alone only
    while nothing was mended."""
    facts = decision_facts()
    told = []
    if any(
        isinstance(record, PartEntry) or (isinstance(record, RepairEntry) and record.part in BOUGHT)
        for record in records
    ):
        new = {origin: facts.new[origin].comes_back for origin in (Origin.ORIGINAL, Origin.AFTERMARKET, Origin.UNKNOWN)}
        told.append(
            tr(
                "Of a hundred parts of unknown make about {unknown:.0f} bring a machine back within two years, of "
                "another maker's {aftermarket:.0f}, of original ones {original:.0f}; then all the labour is owed "
                "again.",
                unknown=100 * new[Origin.UNKNOWN],
                aftermarket=100 * new[Origin.AFTERMARKET],
                original=100 * new[Origin.ORIGINAL],
            )
        )
    if now.repairs:
        return tuple(told)
    if weighed.diagnosis.do_not:
        return (*told, tr("Nothing done: {not_started}", not_started=NOT_STARTED))
    left = [
        LEFT_ALONE[record.complaint]
        for record in records
        if isinstance(record, ComplaintEntry) and record.complaint in LEFT_ALONE
    ]
    return (*told, *(tr("Nothing done: {text}", text=text) for text in left[:1]))


def _reading(reading_entry: ReadingEntry | ValueEntry, circuits, card: MachineCard | None) -> Row:
    limits = ""
    if isinstance(reading_entry, ReadingEntry):
        spec = circuits.get(reading_entry.circuit, next(iter(circuits.values())))
        limits = expected_reading(
            spec, card, reading_entry.circuit, reading_entry.point, reading_entry.state, ohms=reading_entry.ohms
        )
        where = POINTS[reading_entry.point]
    else:
        circuit = card.of(reading_entry.circuit) if card else None
        rows = [
            row
            for row in (circuit.published if circuit else ())
            if row.between == reading_entry.between and row.quantity == reading_entry.quantity
        ]
        limits = published_limits(rows[0]) if rows else ""
        where = card_points(reading_entry.between)
    where = f"{reading_entry.circuit}: {where}" if reading_entry.circuit else where
    state = STATES_THEN[reading_entry.state] if reading_entry.state else getattr(reading_entry, "when", "")
    mark = {Judged.INSIDE: "sound", Judged.OUTSIDE: "bad"}.get(reading_entry.judged, "")
    return Row(
        (
            where,
            state,
            value_of(reading_entry),
            limits,
            JUDGED[reading_entry.judged] if reading_entry.judged else tr("not judged"),
        ),
        mark,
    )


def _capture(capture_entry: CaptureEntry | FindingEntry | BoardEntry) -> Row:
    elsewhere = tr("picture board") if isinstance(capture_entry, BoardEntry) else tr("read elsewhere")
    name = capture_entry.name if isinstance(capture_entry, CaptureEntry) else elsewhere
    state = (
        STATES[capture_entry.sheet.conditions.state]
        if isinstance(capture_entry, CaptureEntry)
        else (STATES_THEN[capture_entry.state] if capture_entry.state else "")
    )
    told = (
        " ".join(finding.text for finding in capture_entry.findings[:4])
        if isinstance(capture_entry, CaptureEntry)
        else value_of(capture_entry)
    )
    fine = sound(capture_entry)
    return Row(
        (f"{capture_entry.circuit}: {name}" if capture_entry.circuit else name, state, told or tr("nothing wrong")),
        {True: "sound", False: "bad"}.get(fine, ""),
    )


def _suspect(item) -> Row:
    name = f"{CAUSES[item.cause]}: {item.title}" if item.cause != Cause.NONE else CAUSES[item.cause]
    reasons = " ".join(("+ " if reason.bits > 0 else "\u2212 ") + reason.text for reason in item.reasons[:3])
    return Row((f"{item.circuit}: {name}" if item.circuit else name, surely(item.probability), reasons))


def _ruled_out(suspects) -> tuple[Row, ...]:
    """Causes that are out, by what speaks most against each; those that the same thing rules out stand together."""
    by_reason: dict[tuple[str, str], list[str]] = {}
    # Of several circuits a cause that is out in one may be all but certain in another.
    shown = {suspect.cause for suspect in suspects if suspect.probability >= RULED_OUT}
    for suspect in suspects:
        if suspect.cause in shown:
            continue
        against = [reason.observed for reason in suspect.reasons if reason.bits < 0]
        if suspect.probability < RULED_OUT and against and suspect.cause != Cause.NONE:
            by_reason.setdefault((suspect.circuit, against[0]), []).append(CAUSES[suspect.cause])
    return tuple(
        Row((f"{circuit}: " * bool(circuit) + ", ".join(names), reason))
        for (circuit, reason), names in by_reason.items()
    )


def _circuits(circuits, card: MachineCard | None) -> tuple[CircuitPart, ...]:
    out = []
    for name, spec in circuits.items():
        found = (
            card.of(name)
            if card and name
            else next((item for item in card.circuit if item.role == spec.role), None)
            if card
            else None
        )
        title = name or tr("{role} sensor", role=ROLES[spec.role])
        lines = [f"{titled(ROLES[spec.role])}, {SENSORS[spec.sensor]}"]
        lines[0] += tr(", wheel {wheel}", wheel=spec.wheel) if spec.wheel else ""
        lines[0] += tr(", feed {supply:g} V", supply=spec.supply) if spec.supply else ""
        lines[0] += tr(", pull-up {pull_up:g} V", pull_up=spec.pull_up) if spec.pull_up else ""
        out.append(_card_part(title, lines, found))
    return tuple(out)


def _card_part(title: str, lines: list[str], found: CardCircuit | None) -> CircuitPart:
    if found is None:
        return CircuitPart(title, tuple(lines))
    lines = [*lines, *([tr("Sits {place}", place=found.place)] if found.place else [])]
    lines += [tr("Torque {torque}", torque=TORQUE.said(found.torque_nm))] if found.torque_nm else []
    if found.relearn:
        lines.append(
            tr("Relearn: {kind}", kind=lowered(RELEARNS[found.relearn.kind]))
            + (f". {found.relearn.text}" if found.relearn.text else "")
        )
    if found.access:
        lines.append(
            tr("Minutes to get at: ")
            + ", ".join(
                tr("{place} {minutes:g}", place=lowered(PLACES[place]), minutes=minutes)
                for place, minutes in found.access.items()
            )
        )
    wires = tuple(
        Row(
            (
                WIRES[item.carries],
                item.colour,
                item.sensor_pin,
                item.module_pin,
                ", ".join(x for x in (item.fuse, item.fuse_place) if x),
                ", ".join(item.shared_with),
            )
        )
        for item in found.wire
    )
    published = tuple(
        Row(
            (
                item.where,
                *_ends(item),
                "" if item.at is None else tr("at {at}", at=TEMPERATURE.said(item.at)),
                item.maker,
            )
        )
        for item in found.published
    )
    return CircuitPart(title, tuple(lines), wires, published)


def _ends(row: Published) -> tuple[str, str]:
    unit = QUANTITIES[row.quantity]
    if row.over:
        return tr("by temperature"), "; ".join(
            tr("{at}: {low:g} to {high:g} {unit}", at=TEMPERATURE.said(at), low=low, high=high, unit=unit)
            for at, low, high in row.over
        )
    return tuple("" if item is None else tr("{item:g} {unit}", item=item, unit=unit) for item in (row.low, row.high))


def _steps(steps: Sequence[StepEntry]) -> tuple[Row, ...]:
    """What was taken apart, the other way round, with what each needs."""
    return tuple(
        Row(
            (
                f"{STEPS[step.step].partition(':')[0]}: {step.what}",
                step.size,
                step.owes,
                "together" if step.back else "",
            ),
            "sound" if step.back else "",
        )
        for step in reversed(steps)
    )


def _parts(parts: Sequence[PartEntry]) -> tuple[Row, ...]:
    return tuple(
        Row((
            f"{part.count} x {part.name}" + (f" ({lowered(ORIGINS[part.origin])})" if part.origin != Origin.UNKNOWN else ""),
            " ".join(x for x in (part.maker, part.number) if x), part.source,
            figure(part.price, ",.2f") if part.price is not None else "", said_days(part.lead_days) if part.lead_days is not None else "",
            LINE_STATES[part.state], "; ".join(f"{key} {value}" for key, value in part.bench.items() if value) or tr("not yet"),
        ))
        for part in parts
    )  # fmt: skip


def _offers(records: Sequence[Record], costs: Costs) -> tuple[Row, ...]:
    rows = offers(records, costs)
    if len(rows) < 2:
        return ()
    return tuple(
        Row((
            " ".join(x for x in (item.name, item.maker, item.source) if x), figure(item.price, ",.2f") if item.price is not None else tr("not stated"),
            said_days(item.lead_days) if item.lead_days is not None else tr("not stated"),
            figure(item.lead_days * costs.day, ",.2f") if item.lead_days is not None and costs.day is not None else tr("not stated"),
            figure(total, ",.2f") if total is not None else tr("cannot be told"),
        ))
        for item, total in rows
    )  # fmt: skip


def _check(item) -> str:
    where = f"{item.circuit}: " if item.circuit else ""
    return tr(
        "{where}{told} About {total_minutes}. A sound circuit shows: {expect}",
        where=where,
        told=item.told,
        total_minutes=said_minutes(item.total_minutes),
        expect=item.expect,
    )


def _photos(rows: Sequence[PhotoEntry], uris: Mapping[str, str]) -> tuple[Picture, ...]:
    return tuple(Picture(uris[row.token], entry_text(row)) for row in rows if row.token in uris)
