"""What the engine's modules said, as records of a job: codes, the speed while cranking, and codes that came back."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.codes import lookup
from sagen.instruments.module_can import ModuleCodes
from sagen.instruments.protocols import LiveValue
from sagen.model.job import Job
from sagen.model.language import tr
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
            records.append(
                NoteEntry(tr("Module {module}, {frozen}.", module=module.module, frozen=frame_words(module.frozen)))
            )
    return tuple(records)


def frame_words(frozen: dict[str, float]) -> str:
    """A freeze frame in words."""
    units = {"rpm": tr("rpm"), "speed": "km/h", "coolant": tr("°C coolant"), "intake": tr("°C intake")}
    return tr("as the code was set: ") + ", ".join(
        tr("{value:g} {name}", value=value, name=units[name]) for name, value in frozen.items()
    )


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
    said = tr("{after_s:.0f} s", after_s=after_s) if after_s < 120 else tr("{after_s:.0f} min", after_s=after_s / 60)
    return (
        ScanEntry(Scan.CODES_BACK, when),
        NoteEntry(
            tr(
                "{back} came back {said} after clearing{driven}.",
                back=", ".join(back),
                said=said,
                driven=tr(", on a drive") if driven else "",
            )
        ),
    )
