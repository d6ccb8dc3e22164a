"""What the entries of a trail say, in a few words; and what was done with a heap of files."""

from __future__ import annotations

from functools import singledispatch

from sagen.model.errors import SagenError
from sagen.model.trail import (
    CaptureEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    DamagedEntry,
    DecisionEntry,
    FindingEntry,
    InspectionEntry,
    NewerEntry,
    NoteEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    StayedEntry,
)
from sagen.model.vocabulary import CodesBack, Scan
from sagen.model.words import (
    COMPLAINTS,
    ENGINE_RUNS_SAID,
    FINDING_TITLES,
    OCCASIONS,
    ORIGINS,
    OWED,
    PARTS,
    ROLES,
    SENSORS,
    STATES_THEN,
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
    return "\n".join([*(OWED[key] for key in one.done if key in OWED), *([one.more] if one.more else [])])


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
