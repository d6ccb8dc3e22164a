"""What the entries of a trail say, in a few words; and what was done with a heap of files."""

from __future__ import annotations

from collections.abc import Mapping
from functools import singledispatch

from sagen.codes import meaning
from sagen.model.errors import SagenError
from sagen.model.language import as_typed, figure, lowered, titled, tr, worded
from sagen.model.lazy import lazy
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
    ValueEntry,
)
from sagen.model.vocabulary import CodesBack, Scan
from sagen.model.words import (
    COMPLAINTS,
    ENGINE_RUNS_SAID,
    FINDING_TITLES,
    LINE_STATES,
    OCCASIONS_SAID,
    ORIGINS,
    OWED,
    PARTS,
    PLACES,
    QUANTITIES,
    ROLES,
    SEEN_MARKS,
    SENSORS,
    STATES_THEN,
    STEPS,
    THINGS,
    card_points,
    pressed_words,
)

#: loaded when a check is first named: the window shows a trail before anything heavy is there
facts = lazy("sagen.reason.facts")


@singledispatch
def entry_text(record: Record) -> str:
    """What an entry says, in a few words."""
    raise TypeError(f"no words for {type(record).__name__}")


@entry_text.register
def _entry_text_of_capture_entry(capture_entry: CaptureEntry) -> str:
    found = [FINDING_TITLES.get(finding.kind, finding.kind) for finding in capture_entry.findings]
    return f"{capture_entry.name}\n" + (", ".join(found) if found else tr("Nothing wrong seen"))


@entry_text.register
def _entry_text_of_code_entry(code_entry: CodeEntry) -> str:
    said = code_entry.meaning or generic_meaning(code_entry.code)
    status = f", {code_entry.status}" if code_entry.status else ""
    return code_entry.code + status + (f" {said}" if said else "")


def generic_meaning(code: str) -> str:
    """What a generic code means; nothing for a maker's own."""
    # The table of codes is read when the first one is told, not when the window is built.
    try:
        found = meaning(code)
    except SagenError:
        return ""
    return found.text if found else ""


@entry_text.register
def _entry_text_of_complaint_entry(complaint_entry: ComplaintEntry) -> str:
    told = [COMPLAINTS[complaint_entry.complaint]] if complaint_entry.complaint else []
    told += [complaint_entry.text] if complaint_entry.text else []
    told += [OCCASIONS_SAID[when] for when in complaint_entry.when]
    told += [ENGINE_RUNS_SAID[complaint_entry.runs]] if complaint_entry.runs else []
    return ", ".join(told)


@entry_text.register
def _entry_text_of_note_entry(note_entry: NoteEntry) -> str:
    return note_entry.said


@entry_text.register
def _entry_text_of_repair_entry(repair_entry: RepairEntry) -> str:
    part = PARTS[repair_entry.part] if repair_entry.part else ""
    return repair_entry.text or (f"{part}, {lowered(ORIGINS[repair_entry.origin])}" if part else tr("Repair"))


@entry_text.register
def _entry_text_of_proof_entry(proof_entry: ProofEntry) -> str:
    told = [OWED[key] for key in proof_entry.done]
    told += [tr("Not so: {what}", what=lowered(OWED[key])) for key in proof_entry.failed]
    told += [tr("Codes read: {codes}", codes=", ".join(proof_entry.codes))] if proof_entry.codes else []
    told += [drive_text(proof_entry.drive)] if proof_entry.drive else []
    return "\n".join([*told, *([proof_entry.more] if proof_entry.more else [])])


def drive_text(drive: Mapping) -> str:
    """How a machine was driven to prove a repair, and whether the complaint came.

    Parameters
    ----------
    drive : mapping
        km, minutes, conditions, came
    """
    far = [tr("{km:g} km", km=drive["km"])] if drive.get("km") else []
    far += [tr("{minutes:g} min", minutes=drive["minutes"])] if drive.get("minutes") else []
    far += [str(drive["conditions"])] if drive.get("conditions") else []
    came = {True: tr("the complaint came"), False: tr("the complaint did not come")}.get(drive.get("came"))
    return tr("Drive: {it}", it=", ".join([*far, *([came] if came else [])]))


@entry_text.register
def _entry_text_of_reading_entry(reading_entry: ReadingEntry) -> str:
    shown = as_typed(reading_entry.shown) or tr(
        "{value:g} {ohms}", value=reading_entry.value, ohms="Ω" if reading_entry.ohms else "V"
    )
    again = tr(", taken once more") if reading_entry.again else ""
    return tr(
        "{shown} at {point}{again}\n{state}",
        shown=shown,
        point=worded(reading_entry.point),
        again=again,
        state=STATES_THEN[reading_entry.state],
    )


def check_words(name: str) -> str:
    """What a check is called, by its slug or by the name that older files use; that name where nobody knows it any more.

    Parameters
    ----------
    name : str
        as the trail has it
    """
    found = facts.knowledge().check(name)
    return found.name if found is not None else worded(name)


@entry_text.register
def _entry_text_of_inspection_entry(inspection_entry: InspectionEntry) -> str:
    name = check_words(inspection_entry.check)
    if inspection_entry.part is None:
        again = tr(", once more") if inspection_entry.again else ""
        more = f" ({inspection_entry.seen})" if inspection_entry.seen else ""
        outcome = worded(inspection_entry.outcome) or tr("as expected")
        return f"{titled(name)}{again}: {outcome}{more}"
    sure = tr(", certain") if inspection_entry.certain else ""
    seen = inspection_entry.seen or worded(inspection_entry.outcome) or tr("as expected")
    return tr("Looked at {part}: {seen}{sure}", part=lowered(THINGS[inspection_entry.part]), seen=seen, sure=sure)


@entry_text.register
def _entry_text_of_finding_entry(finding_entry: FindingEntry) -> str:
    state = f", {STATES_THEN[finding_entry.state]}" if finding_entry.state else ""
    return (
        FINDING_TITLES[finding_entry.finding] if finding_entry.finding else tr("A recording showed nothing wrong")
    ) + state


@entry_text.register
def _entry_text_of_board_entry(board_entry: BoardEntry) -> str:
    state = f", {STATES_THEN[board_entry.state]}" if board_entry.state else ""
    return titled(pressed_words(board_entry.shown, board_entry.pressed)) + state


@entry_text.register
def _entry_text_of_replaced_entry(replaced_entry: ReplacedEntry) -> str:
    began = tr("; it began with that") if replaced_entry.began else ""
    return f"{PARTS[replaced_entry.part]}, {lowered(ORIGINS[replaced_entry.origin])}{began}" + (
        f"\n{replaced_entry.text}" if replaced_entry.text else ""
    )


@entry_text.register
def _entry_text_of_scan_entry(scan_entry: ScanEntry) -> str:
    if scan_entry.scan == Scan.CODES_BACK:
        return (
            tr("Code stays away after clearing")
            if scan_entry.value == CodesBack.NEVER
            else tr("Code back {value}", value=scan_entry.value)
        )
    return (
        tr("{value:.0f} rpm shown while cranking", value=scan_entry.value)
        if scan_entry.value
        else tr("No speed shown while cranking")
    )


@entry_text.register
def _entry_text_of_stayed_entry(stayed_entry: StayedEntry) -> str:
    return tr("The complaint is still there") if stayed_entry.stayed else tr("The complaint is gone")


@entry_text.register
def _entry_text_of_circuit_entry(circuit_entry: CircuitEntry) -> str:
    spec = circuit_entry.spec
    told = [f"{titled(ROLES[spec.role])}, {SENSORS[spec.sensor]}"]
    told += [tr("feed {supply:g} V", supply=spec.supply)] if spec.supply else []
    told += [tr("pull-up {pull_up:g} V", pull_up=spec.pull_up)] if spec.pull_up else []
    return ", ".join(told)


@entry_text.register
def _entry_text_of_decision_entry(decision_entry: DecisionEntry) -> str:
    return tr("While it is open: {choice}", choice=decision_entry.choice) + (
        f"\n{decision_entry.text}" if decision_entry.text else ""
    )


@entry_text.register
def _entry_text_of_card_entry(card_entry: CardEntry) -> str:
    circuits = ", ".join(str(row.get("name", "")) for row in card_entry.card.get("circuit", ()))
    title = " ".join(str(card_entry.card[key]) for key in ("make", "model", "engine") if card_entry.card.get(key))
    return title + (tr("\nCircuits: {circuits}", circuits=circuits) if circuits else "")


@entry_text.register
def _entry_text_of_value_entry(value_entry: ValueEntry) -> str:
    shown = as_typed(value_entry.shown) or tr(
        "{value:g} {quantity}", value=value_entry.value, quantity=QUANTITIES[value_entry.quantity]
    )
    state = STATES_THEN[value_entry.state] if value_entry.state else ""
    where = ", ".join(part for part in (card_points(value_entry.between), state, value_entry.when) if part)
    return f"{shown}\n{where}"


@entry_text.register
def _entry_text_of_place_entry(place_entry: PlaceEntry) -> str:
    return tr(
        "{place} {opened}",
        place=PLACES[place_entry.place],
        opened=tr("opened: what can be done there costs no access now") if place_entry.opened else tr("closed up"),
    )


@entry_text.register
def _entry_text_of_step_entry(step_entry: StepEntry) -> str:
    told = f"{STEPS[step_entry.step].partition(':')[0]}: {step_entry.what}" + (
        f", {step_entry.size}" if step_entry.size else ""
    )
    told += tr("\nBefore it goes back: {owes}", owes=step_entry.owes) if step_entry.owes and not step_entry.back else ""
    return told + (tr("\nTogether again") if step_entry.back else "")


@entry_text.register
def _entry_text_of_part_entry(part_entry: PartEntry) -> str:
    told = f"{part_entry.count} x {part_entry.name}" if part_entry.count > 1 else part_entry.name
    told += f", {part_entry.maker}" if part_entry.maker else ""
    told += f" {part_entry.number}" if part_entry.number else ""
    cost = [figure(part_entry.price, ",.2f")] if part_entry.price is not None else []
    cost += [said_days(part_entry.lead_days)] if part_entry.lead_days is not None else []
    bench = [f"{key} {value}" for key, value in part_entry.bench.items() if value]
    lines = [told, ", ".join([LINE_STATES[part_entry.state], *cost])]
    return "\n".join(
        [
            *lines,
            *([tr("On the bench: {bench}", bench="; ".join(bench))] if bench else []),
            *([part_entry.text] if part_entry.text else []),
        ]
    )


@entry_text.register
def _entry_text_of_seen_entry(seen_entry: SeenEntry) -> str:
    return f"{seen_entry.seen}\n{SEEN_MARKS[seen_entry.mark]}" + (
        tr(", because {because}", because=seen_entry.because) if seen_entry.because else ""
    )


@entry_text.register
def _entry_text_of_photo_entry(photo_entry: PhotoEntry) -> str:
    return photo_entry.caption or photo_entry.words or tr("A photo")


@entry_text.register
def _entry_text_of_costs_entry(costs_entry: CostsEntry) -> str:
    named = {
        tr("An hour"): costs_entry.hour, tr("A come-back"): costs_entry.come_back, tr("A day of standing"): costs_entry.day,
        tr("The part"): costs_entry.part_price,
    }  # fmt: skip
    told = [tr("{name} {value:,.2f}", name=name, value=value) for name, value in named.items() if value is not None]
    told += (
        [tr("the part comes {lead_days}", lead_days=said_days(costs_entry.lead_days))]
        if costs_entry.lead_days is not None
        else []
    )
    return ", ".join(told) or tr("As the shop has them")


def said_days(days: float) -> str:
    """A lead time as it is said: "at hand", "tomorrow", "in 12 days"."""
    if days == 0:
        return tr("at hand")
    return tr("tomorrow") if days == 1 else tr("in {days:g} days", days=days)


@entry_text.register
def _entry_text_of_damaged_entry(damaged_entry: DamagedEntry) -> str:
    was = tr("It was a {was}. ", was=damaged_entry.was[:40]) if damaged_entry.was else ""
    return tr("{was}It cannot be read ({why}) and counts for nothing.", was=was, why=damaged_entry.why)


@entry_text.register
def _entry_text_of_newer_entry(newer_entry: NewerEntry) -> str:
    return tr("A {was} that a newer Sagen wrote: kept as it is, not weighed.", was=newer_entry.was[:40])


def imports_summary(kept: int, left: int, failed: list[tuple[str, str]]) -> str:
    """What became of files that were brought in together."""
    total = kept + left + len(failed)
    said = [tr("{kept} of {total} kept", kept=kept, total=total)]
    if left:
        said.append(tr("{left} left out", left=left))
    if failed:
        told = "; ".join(f"{name}: {why}" for name, why in failed[:4])
        more = tr("; and {failed} more", failed=len(failed) - 4) if len(failed) > 4 else ""
        said.append(tr("{failed} could not be read: {told}{more}", failed=len(failed), told=told, more=more))
    return "; ".join(said) + "."
