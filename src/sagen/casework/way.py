"""The way of a job from what came in to its papers: how far each stage is, in a few words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sagen.casework.diagnosis import Diagnosis
from sagen.casework.words import entry_text
from sagen.model.language import lowered, tr, trn
from sagen.model.proof import Stage, standing
from sagen.model.trail import (
    BoardEntry,
    CaptureEntry,
    CodeEntry,
    ComplaintEntry,
    FindingEntry,
    ReadingEntry,
    Record,
    ValueEntry,
)
from sagen.model.vocabulary import Cause, Leg
from sagen.model.words import CAUSES, PARTS, surely


@dataclass(frozen=True)
class Reached:
    """How far a stage is."""

    leg: Leg
    said: str
    done: bool = False


def way_of(records: Sequence[Record], found: Diagnosis) -> tuple[Reached, ...]:
    """Every stage of a job with what is known of it.

    Parameters
    ----------
    records : sequence of Record
        the trail
    found : Diagnosis
        of that trail
    """
    now = standing(records)
    told = [record.code for record in records if isinstance(record, CodeEntry)]
    told += [entry_text(record).split("\n")[0] for record in records if isinstance(record, ComplaintEntry)]
    recorded = sum(isinstance(record, CaptureEntry | FindingEntry | BoardEntry) for record in records)
    read = sum(isinstance(record, ReadingEntry | ValueEntry) for record in records)
    counts = [
        trn("{count} recording", "{count} recordings", recorded) if recorded else "",
        trn("{count} reading", "{count} readings", read) if read else "",
    ]
    lead = next(iter(found.suspects), None)
    named = tr("not known yet")
    if lead is not None and lead.cause == Cause.NONE:
        named = tr("nothing found, {probability}", probability=surely(lead.probability))
    elif lead is not None:
        named = f"{lowered(CAUSES[lead.cause])}, {surely(lead.probability)}"
    mended = [lowered(PARTS[repair.part]) for repair in now.repairs]
    owed = tr("{owed} owed", owed=len(now.owed)) if now.owed else tr("nothing owed yet")
    proven = {Stage.PROVEN: tr("proven"), Stage.CAME_BACK: tr("came back")}.get(now.stage, owed)
    return (
        Reached(Leg.CAME_IN, _one_of(told) or tr("not told yet"), bool(told)),
        Reached(Leg.MEASURED, ", ".join(filter(None, counts)) or tr("nothing yet"), bool(recorded or read)),
        Reached(Leg.FOUND, named, found.ready or bool(mended)),
        Reached(Leg.DONE, _one_of(mended[::-1]) or tr("nothing yet"), bool(mended)),
        Reached(Leg.PROVEN, proven, now.stage == Stage.PROVEN),
        Reached(Leg.PAPERS, tr("three pages"), False),
    )  # fmt: skip


def _one_of(words: Sequence[str]) -> str:
    """The first, and how many there are beside it; "" of none."""
    return words[0] + (tr(" and {words} more", words=len(words) - 1) if words[1:] else "") if words else ""
