"""How far a job has come: from its trail alone, entry by entry.

open -> finding -> repaired (owed: ...) -> proven; what comes back re-opens it. A repair makes everything owed anew. A job
is proven only when what was abnormal was measured again and is sound, the codes are cleared, and it stayed away.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from dataclasses import dataclass, field
from enum import StrEnum

from sagen.model.language import tr
from sagen.model.trail import (
    CaptureEntry,
    CardEntry,
    CodeEntry,
    FindingEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ScanEntry,
    StayedEntry,
    ValueEntry,
)
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    CodesBack,
    Judged,
    Part,
    ProofStep,
    RelearnKind,
    Scan,
)


class Stage(StrEnum):
    """How far a job has come, as the log shows it."""

    OPEN = "open"
    FOUND = "finding"
    REPAIRED = "repaired"
    PROVEN = "proven"
    CAME_BACK = tr("came back")


@dataclass(frozen=True)
class Again:
    """One measurement that was abnormal before the repair, and what came of taking it again: None where it was not."""

    before: Record
    after: Record | None = None

    @property
    def sound(self) -> bool | None:
        """Whether it is sound now; None where it was not taken again, or is too close to say."""
        return None if self.after is None else sound(self.after)


@dataclass(frozen=True)
class Standing:
    """What a trail says of the proof."""

    stage: Stage = Stage.OPEN
    again: tuple[Again, ...] = ()
    owed: tuple[ProofStep, ...] = ()
    done: frozenset[ProofStep] = frozenset()
    failed: frozenset[ProofStep] = frozenset()
    repairs: tuple[RepairEntry, ...] = ()
    relearn: dict = field(default_factory=dict)  #: of the repaired circuits: name -> the card's relearn
    came_back: bool = False  #: since the last repair


def sound(record: Record) -> bool | None:
    """Whether a measurement shows nothing wrong; None where it cannot tell."""
    if isinstance(record, CaptureEntry):
        grave = [finding for finding in record.findings if finding.kind not in ABOUT_CAPTURE]
        return not grave if grave or len(grave) == len(record.findings) else None
    if isinstance(record, ReadingEntry | ValueEntry):
        return {Judged.INSIDE: True, Judged.OUTSIDE: False}.get(record.judged)
    if isinstance(record, FindingEntry):
        return record.finding is None
    return None


def same_measurement(record: Record) -> Hashable:
    """What makes a later measurement the same one taken again; None for what is no measurement."""
    if isinstance(record, CaptureEntry):
        roles = tuple(
            sorted({str(item.role) for item in record.sheet.channel if item.role not in ("supply", "ground", "other")})
        )
        given = record.sheet.conditions
        return ("capture", record.circuit, str(given.state), str(given.connection or ""), roles)
    if isinstance(record, ReadingEntry):
        return ("reading", record.circuit, record.reading, record.point, record.state)
    if isinstance(record, ValueEntry):
        return ("value", record.circuit, record.between, record.quantity, record.state, record.when)
    if isinstance(record, FindingEntry):
        return ("capture", record.circuit, str(record.state or ""), "", ())
    return None


#: after a change of these the module may have to be taught anew
TAUGHT = frozenset({Part.SENSOR, Part.WHEEL, Part.MODULE, Part.TIMING})


def standing(records: Iterable[Record]) -> Standing:
    """How far a job has come."""
    records = list(records)
    card = next((record for record in reversed(records) if isinstance(record, CardEntry)), None)
    abnormal: dict[Hashable, Again] = {}
    repairs: list[RepairEntry] = []
    codes = False
    done, failed, came_back = set(), set(), False
    for this_record in records:
        codes |= isinstance(this_record, CodeEntry)
        if isinstance(this_record, RepairEntry):
            # What the last repair did not cure is still to be measured.
            done, failed, came_back = set(), set(), False
            abnormal = {key: Again(_worst(row)) for key, row in abnormal.items()}
            repairs.append(this_record)
            continue
        key = same_measurement(this_record)
        if key is not None:
            fits = _like(key, abnormal)
            if repairs and fits is not None:
                abnormal[fits] = Again(abnormal[fits].before, this_record)
            elif sound(this_record) is False:
                abnormal.setdefault(key, Again(this_record))
        elif isinstance(this_record, ProofEntry):
            done = (done | set(this_record.done)) - set(this_record.failed)
            failed = (failed | set(this_record.failed)) - set(this_record.done)
            if this_record.drive.get("came") is not None:
                (failed if this_record.drive["came"] else done).add(ProofStep.DRIVEN)
                (done if this_record.drive["came"] else failed).discard(ProofStep.DRIVEN)
        elif isinstance(this_record, ScanEntry) and this_record.scan == Scan.CODES_BACK and repairs:
            done.add(ProofStep.CLEARED)
            if this_record.value == CodesBack.NEVER:
                done.add(ProofStep.STAYED_AWAY)
            else:
                failed.add(ProofStep.READ_NOW if this_record.value == CodesBack.AT_ONCE else ProofStep.READ_AFTER)
        elif isinstance(this_record, StayedEntry) and repairs:
            (failed if this_record.stayed else done).add(ProofStep.STAYED_AWAY)
            (done if this_record.stayed else failed).discard(ProofStep.STAYED_AWAY)
        came_back = bool(repairs) and bool(
            failed & {ProofStep.READ_NOW, ProofStep.READ_AFTER, ProofStep.STAYED_AWAY, ProofStep.DRIVEN}
        )
    again = tuple(abnormal.values())
    if not repairs:
        return Standing(Stage.FOUND if again else Stage.OPEN, again)
    relearn = _relearn(card, repairs)
    owed = _owed(again, done, codes, relearn, failed)
    proven = (
        not came_back and not failed and not {ProofStep.MEASURED, ProofStep.CLEARED, ProofStep.STAYED_AWAY} & set(owed)
    )
    stage = Stage.CAME_BACK if came_back else Stage.PROVEN if proven else Stage.REPAIRED
    return Standing(stage, again, owed, frozenset(done), frozenset(failed), tuple(repairs), relearn, came_back)


def _worst(row: Again) -> Record:
    """What is to be measured again after the next repair: the later reading where that is still abnormal."""
    return row.after if row.after is not None and sound(row.after) is False else row.before


def _like(key: Hashable, abnormal: dict[Hashable, Again]) -> Hashable | None:
    """The abnormal measurement that a later one repeats; a recording read elsewhere is repeated by any of its state."""
    if key in abnormal:
        return key
    if key[0] == "capture":
        return next(
            (item for item in abnormal if item[0] == "capture" and item[1] == key[1] and (not item[4] or not key[4]) and item[2] in ("", key[2])),
            None,
        )  # fmt: skip
    return None


def _relearn(card: CardEntry | None, repairs: list[RepairEntry]) -> dict:
    """The relearn that the card asks for after these repairs, by circuit."""
    if card is None or not any(repair.part in TAUGHT for repair in repairs):
        return {}
    named = {repair.circuit for repair in repairs if repair.circuit}
    circuits = [item for item in card.machine.circuit if item.name in named or not named]
    return {
        circuit.name: circuit.relearn
        for circuit in circuits
        if circuit.relearn and circuit.relearn.kind != RelearnKind.NONE
    }


def _owed(again, done: set, codes: bool, relearn: dict, failed: set) -> tuple[ProofStep, ...]:
    """What is still owed, in the order in which it is done."""
    owed = set(ProofStep) - done
    if again and all(item.sound for item in again):
        owed.discard(ProofStep.MEASURED)
    elif again:
        owed.add(ProofStep.MEASURED)  # a tick does not stand for a measurement that was not taken
    if not codes:
        owed -= {ProofStep.CLEARED, ProofStep.READ_NOW, ProofStep.READ_AFTER}
    if not relearn:
        owed.discard(ProofStep.RELEARN)
    if ProofStep.STAYED_AWAY in done:
        owed -= {ProofStep.READ_NOW, ProofStep.READ_AFTER}
    return tuple(proof_step for proof_step in ProofStep if proof_step in owed | failed)
