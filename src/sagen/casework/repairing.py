"""What a repair of the open job would most likely be: of what leads, with the part that is at hand for it."""

from __future__ import annotations

from collections.abc import Sequence

from sagen.casework.diagnosis import Diagnosis
from sagen.model.trail import PartEntry, Record, RepairEntry
from sagen.model.vocabulary import Cause, LineState, Origin
from sagen.reason.facts import knowledge

#: states of a part line from which the part is on its way or there
COMING = (LineState.ORDERED, LineState.CAME)


def likely_repair(records: Sequence[Record], found: Diagnosis) -> RepairEntry | None:
    """The repair that the form opens with; None where nothing leads or the leading fault has no part.

    Parameters
    ----------
    records : sequence of Record
        the trail
    found : Diagnosis
        of that trail
    """
    lead = next(iter(found.suspects), None)
    prior = knowledge().priors.get(lead.fault) if lead is not None and lead.cause != Cause.NONE else None
    if prior is None or prior.part is None:
        return None
    part = prior.part
    lines = [item for item in records if isinstance(item, PartEntry) and item.part == part and item.state in COMING]
    if not lines:
        return RepairEntry(part, origin=Origin.UNKNOWN)
    line = lines[-1]
    return RepairEntry(part, origin=line.origin, text=" ".join(filter(None, (line.name, line.maker, line.number))))
