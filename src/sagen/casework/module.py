"""What the engine's modules said, as records of a job: codes, the speed while cranking, and codes that came back."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.codes import lookup
from sagen.instruments.module_can import ModuleCodes
from sagen.instruments.protocols import LiveValue
from sagen.model.job import Job
from sagen.model.language import later, said_now
from sagen.model.trail import CodeEntry, NoteEntry, Record, ScanEntry
from sagen.model.vocabulary import CodesBack, Scan, State

AT_ONCE_S = 60.0  #: a code that is back sooner, without a drive, is back at once


def meaning_of(code: str) -> str:
    """What a code means, in words; "" for one that is not in the table."""
    known = lookup.meaning(code)
    return known.text if known is not None else ""


def new_codes(job: Job, modules: Iterable[ModuleCodes]) -> tuple[Record, ...]:
    """Entries for what was read and does not stand on the trail yet: each code with its status, and each module's freeze
    frame."""
    standing = {(record.code, record.status) for record in job.records(CodeEntry)}
    records: list[Record] = []
    for module in modules:
        fresh = []
        for code, status in module.codes:
            if (code, status) in standing:
                continue
            standing.add((code, status))
            fresh.append(CodeEntry(code, meaning_of(code), status=status))
        records += fresh
        if fresh and module.frozen:
            told = later("Module {module}, {frozen}.", module=module.module, frozen=_frame(module.frozen))
            records.append(NoteEntry.of_message(told))
    return tuple(records)


#: what a freeze frame holds, and its unit
_FROZEN = {"rpm": later("rpm"), "speed": "km/h", "coolant": later("°C coolant"), "intake": later("°C intake")}


def _frame(frozen: dict[str, float]) -> dict:
    there = [later("{value:g} {name}", value=value, name=_FROZEN[name]) for name, value in frozen.items()]
    return later("as the code was set: {there}", there=there)


def frame_words(frozen: dict[str, float]) -> str:
    """A freeze frame in words."""
    return said_now(_frame(frozen))


def speed_record(value: LiveValue, state: State) -> ScanEntry | None:
    """The module's own speed while cranking, as evidence; None for any other value or state."""
    if value.name != "rpm" or state != State.CRANKING:
        return None
    return ScanEntry(Scan.RPM_CRANKING, round(value.value, 1))


def came_back(
    cleared: Iterable[str], modules: Iterable[ModuleCodes], after_s: float, *, driven: bool = False
) -> tuple[Record, ...]:
    """Entries for codes that were cleared and are there again `after_s` later; nothing where none is: that none came back
    is only known after a drive."""
    there = {code for module in modules for code, _ in module.codes}
    back = [fromkey for fromkey in dict.fromkeys(cleared) if fromkey in there]
    if not back:
        return (ScanEntry(Scan.CODES_BACK, CodesBack.NEVER),) if driven and list(cleared) else ()
    when = CodesBack.AT_ONCE if after_s <= AT_ONCE_S and not driven else CodesBack.ON_A_DRIVE
    said = (
        later("{after_s:.0f} s", after_s=after_s) if after_s < 120 else later("{after_s:.0f} min", after_s=after_s / 60)
    )
    places = {"back": ", ".join(back), "said": said}
    told = (
        later("{back} came back {said} after clearing, on a drive.", **places)
        if driven
        else later("{back} came back {said} after clearing.", **places)
    )
    return (ScanEntry(Scan.CODES_BACK, when), NoteEntry.of_message(told))
