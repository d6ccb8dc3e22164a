"""What the entries of a trail say, in a few words; and what was done with a heap of files."""

from __future__ import annotations

from functools import singledispatch

from sagen.model.errors import SagenError
from sagen.model.trail import (
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
    OCCASIONS,
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
)


@singledispatch
def entry_text(record: Record) -> str:
    """What an entry says, in a few words."""
    raise TypeError(f"no words for {type(record).__name__}")


@entry_text.register
def _(one: CaptureEntry) -> str:
    found = [FINDING_TITLES.get(finding.kind, finding.kind) for finding in one.findings]
    return f"{one.name}\n" + (", ".join(found) if found else "Nothing wrong seen")


@entry_text.register
def _(one: CodeEntry) -> str:
    said = one.meaning or generic_meaning(one.code)
    status = f", {one.status}" if one.status else ""
    return one.code + status + (f" {said}" if said else "")


def generic_meaning(code: str) -> str:
    """What a generic code means; nothing for a maker's own."""
    # The table of codes is read when the first one is told, not when the window is built.
    from sagen.codes import meaning

    try:
        found = meaning(code)
    except SagenError:
        return ""
    return found.text if found else ""


@entry_text.register
def _(one: ComplaintEntry) -> str:
    told = [COMPLAINTS[one.complaint]] if one.complaint else []
    told += [one.text] if one.text else []
    told += [f"when {', '.join(OCCASIONS[when].lower() for when in one.when)}"] if one.when else []
    told += [ENGINE_RUNS_SAID[one.runs]] if one.runs else []
    return ", ".join(told)


@entry_text.register
def _(one: NoteEntry) -> str:
    return one.text


@entry_text.register
def _(one: RepairEntry) -> str:
    part = PARTS[one.part] if one.part else ""
    return one.text or (f"{part}, {ORIGINS[one.origin].lower()}" if part else "Repair")


@entry_text.register
def _(one: ProofEntry) -> str:
    told = [OWED[key] for key in one.done]
    told += [f"Not so: {OWED[key][:1].lower()}{OWED[key][1:]}" for key in one.failed]
    told += [f"Codes read: {', '.join(one.codes)}"] if one.codes else []
    drive = one.drive
    if drive:
        far = [f"{drive['km']:g} km"] if drive.get("km") else []
        far += [f"{drive['minutes']:g} min"] if drive.get("minutes") else []
        far += [str(drive["conditions"])] if drive.get("conditions") else []
        came = {True: "the complaint came", False: "the complaint did not come"}.get(drive.get("came"))
        told.append(f"Drive: {', '.join([*far, *([came] if came else [])])}")
    return "\n".join([*told, *([one.more] if one.more else [])])


@entry_text.register
def _(one: ReadingEntry) -> str:
    shown = one.shown or f"{one.value:g} {'Ω' if one.ohms else 'V'}"
    return f"{shown} at {one.point.replace('_', ' ')}\n{STATES_THEN[one.state]}"


@entry_text.register
def _(one: InspectionEntry) -> str:
    name = one.check.replace("_", " ")
    if one.part is None:
        return f"{name[:1].upper()}{name[1:]}: {one.outcome.replace('_', ' ') or 'as expected'}"
    sure = ", certain" if one.certain else ""
    seen = one.seen or one.outcome.replace("_", " ") or "as expected"
    return f"Looked at {THINGS[one.part].lower()}: {seen}{sure}"


@entry_text.register
def _(one: FindingEntry) -> str:
    state = f", {STATES_THEN[one.state]}" if one.state else ""
    return (FINDING_TITLES[one.finding] if one.finding else "A recording showed nothing wrong") + state


@entry_text.register
def _(one: ReplacedEntry) -> str:
    began = "; it began with that" if one.began else ""
    return f"{PARTS[one.part]}, {ORIGINS[one.origin].lower()}{began}" + (f"\n{one.text}" if one.text else "")


@entry_text.register
def _(one: ScanEntry) -> str:
    if one.scan == Scan.CODES_BACK:
        return "Code stays away after clearing" if one.value == CodesBack.NEVER else f"Code back {one.value}"
    return f"{one.value:.0f} rpm shown while cranking" if one.value else "No speed shown while cranking"


@entry_text.register
def _(one: StayedEntry) -> str:
    return "The complaint is still there" if one.stayed else "The complaint is gone"


@entry_text.register
def _(one: CircuitEntry) -> str:
    spec = one.spec
    told = [f"{ROLES[spec.role].capitalize()}, {SENSORS[spec.sensor]}"]
    told += [f"feed {spec.supply:g} V"] if spec.supply else []
    told += [f"pull-up {spec.pull_up:g} V"] if spec.pull_up else []
    return ", ".join(told)


@entry_text.register
def _(one: DecisionEntry) -> str:
    return f"While it is open: {one.choice}" + (f"\n{one.text}" if one.text else "")


@entry_text.register
def _(one: CardEntry) -> str:
    circuits = ", ".join(str(row.get("name", "")) for row in one.card.get("circuit", ()))
    title = " ".join(str(one.card[key]) for key in ("make", "model", "engine") if one.card.get(key))
    return title + (f"\nCircuits: {circuits}" if circuits else "")


@entry_text.register
def _(one: ValueEntry) -> str:
    shown = one.shown or f"{one.value:g} {QUANTITIES[one.quantity]}"
    state = STATES_THEN[one.state] if one.state else ""
    where = ", ".join(part for part in (" and ".join(one.between), state, one.when) if part)
    return f"{shown}\n{where}"


@entry_text.register
def _(one: PlaceEntry) -> str:
    return f"{PLACES[one.place]} {'opened: what can be done there costs no access now' if one.opened else 'closed up'}"


@entry_text.register
def _(one: StepEntry) -> str:
    told = f"{STEPS[one.step].partition(':')[0]}: {one.what}" + (f", {one.size}" if one.size else "")
    told += f"\nBefore it goes back: {one.owes}" if one.owes and not one.back else ""
    return told + ("\nTogether again" if one.back else "")


@entry_text.register
def _(one: PartEntry) -> str:
    told = f"{one.count} x {one.name}" if one.count > 1 else one.name
    told += f", {one.maker}" if one.maker else ""
    told += f" {one.number}" if one.number else ""
    cost = [f"{one.price:,.2f}"] if one.price is not None else []
    cost += [said_days(one.lead_days)] if one.lead_days is not None else []
    bench = [f"{key} {value}" for key, value in one.bench.items() if value]
    lines = [told, ", ".join([LINE_STATES[one.state], *cost])]
    return "\n".join(
        [*lines, *([f"On the bench: {'; '.join(bench)}"] if bench else []), *([one.text] if one.text else [])]
    )


@entry_text.register
def _(one: SeenEntry) -> str:
    return f"{one.seen}\n{SEEN_MARKS[one.mark]}" + (f", because {one.because}" if one.because else "")


@entry_text.register
def _(one: PhotoEntry) -> str:
    return one.caption or one.words or "A photo"


@entry_text.register
def _(one: CostsEntry) -> str:
    named = {
        "An hour": one.hour, "A come-back": one.come_back, "A day of standing": one.day, "The part": one.part_price,
    }  # fmt: skip
    told = [f"{name} {value:,.2f}" for name, value in named.items() if value is not None]
    told += [f"the part comes {said_days(one.lead_days)}"] if one.lead_days is not None else []
    return ", ".join(told) or "As the shop has them"


def said_days(days: float) -> str:
    """A lead time as it is said: "at hand", "tomorrow", "in 12 days"."""
    if days == 0:
        return "at hand"
    return "tomorrow" if days == 1 else f"in {days:g} days"


@entry_text.register
def _(one: DamagedEntry) -> str:
    was = f"It was a {one.was[:40]}. " if one.was else ""
    return f"{was}It cannot be read ({one.why}) and counts for nothing."


@entry_text.register
def _(one: NewerEntry) -> str:
    return f"A {one.was[:40]} that a newer Sagen wrote: kept as it is, not weighed."


def heap_summary(kept: int, left: int, failed: list[tuple[str, str]]) -> str:
    """What became of files that were brought in together."""
    total = kept + left + len(failed)
    said = [f"{kept} of {total} kept"]
    if left:
        said.append(f"{left} left out")
    if failed:
        told = "; ".join(f"{name}: {why}" for name, why in failed[:4])
        more = f"; and {len(failed) - 4} more" if len(failed) > 4 else ""
        said.append(f"{len(failed)} could not be read: {told}{more}")
    return "; ".join(said) + "."
