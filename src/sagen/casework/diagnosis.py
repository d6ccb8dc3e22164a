"""What a trail amounts to, said once for everybody who shows it: what must not be done now, whether it is good enough to
repair, what does not fit, and how far the job has come."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from sagen.casework.job_sheet import owed_words
from sagen.casework.words import check_words
from sagen.model.language import as_typed, figure, lowered, titled, tr, worded
from sagen.model.proof import Stage, Standing, standing
from sagen.model.trail import InspectionEntry, ReadingEntry, Record, RepairEntry
from sagen.model.vocabulary import Cause, Quantity
from sagen.model.words import POINTS, STATES
from sagen.reason.checks import Advice, NextCheck
from sagen.reason.history import Case
from sagen.reason.suspects import Suspect
from sagen.reason.words import PROOF_OWED

#: what must not be done while the timing is in doubt, and why
NOT_TURNED = ("crank", "run", "drive")
WHY_NOT_TURNED = tr(
    "Do not crank, run or drive it as it stands: belt, chain or key may be off, and valves and pistons may meet. "
    "Turn it by hand, gently, to its marks first, until they are seen to agree."
)
#: readings of one place and state that differ by more do not fit one another: volts, and times of ohms
APART_V, APART_OHM = 0.5, 2.0
STAGES = {Stage.FOUND: "found", Stage.CAME_BACK: "came_back"}


@dataclass(frozen=True)
class Diagnosis:
    """A case as it stands, worked out once, of one trail: card, panes, plan, papers, JSON and practice only show it."""

    suspects: tuple[Suspect, ...] = ()
    checks: tuple[NextCheck, ...] = ()  #: what is next, and why, the most worth while first
    advice: Advice = field(default_factory=lambda: Advice(False, ""))  #: good enough to repair or not, and what is owed
    do_not: tuple[str, ...] = ()
    why_not: str = ""
    ready: bool = False  #: good enough to repair
    misfit: tuple[tuple[int, str], ...] = ()  #: entries of the trail, from 1, that do not fit what came later, and why
    together: tuple[str, ...] = ()  #: what codes mean together, and readings that no fault explains
    stage: str = "open"
    owed: tuple[str, ...] = ()  #: what is still owed of the proof
    pieces: int = 0  #: how many pieces of evidence count
    cases: tuple[tuple[str, Case], ...] = ()  #: by circuit, what was weighed

    @property
    def warnings(self) -> tuple[str, ...]:
        """What must not be done now, and what does not fit, in sentences."""
        return (*((self.why_not,) if self.why_not else ()), *(text for _, text in self.misfit))

    @property
    def notes(self) -> tuple[str, ...]:
        """All of it that is told in sentences beside the suspects."""
        return (*self.warnings, *self.together)

    def as_row(self) -> dict:
        return {
            "do_not": list(self.do_not), "repair": {"ready": self.ready, "text": self.advice.text},
            "misfit": [{"entry": number, "text": text} for number, text in self.misfit], "stage": self.stage,
        }  # fmt: skip


def diagnosis(
    records: Sequence[Record],
    suspects: tuple[Suspect, ...],
    checks: tuple[NextCheck, ...],
    advice: Advice,
    *,
    timing_in_doubt: bool,
    together: tuple[str, ...] = (),
    cases: tuple[tuple[str, Case], ...] = (),
    pieces: int = 0,
    first: int = 0,
) -> Diagnosis:
    """The diagnosis of a trail, from what was inferred of it.

    Parameters
    ----------
    records : sequence of Record
        the whole trail
    suspects, checks, advice, together, cases, pieces
        as the fields of `Diagnosis`
    timing_in_doubt : bool
        whether belt, chain or key may be off; see `reason.checks.timing_in_doubt`
    first : int
        records before those that a person counts as entries
    """
    lead = next(iter(suspects), None)
    now = standing(records)
    repaired = now.stage in (Stage.REPAIRED, Stage.PROVEN)
    ready = advice.enough and lead is not None and lead.cause != Cause.NONE and not repaired
    return Diagnosis(
        suspects, checks, _with_what_is_owed(advice, now), NOT_TURNED if timing_in_doubt else (),
        WHY_NOT_TURNED if timing_in_doubt else "", ready,
        tuple((number - first, text) for number, text in misfits(records) if number > first), together,
        stage_of(now), owed_words(now), pieces, cases,
    )  # fmt: skip


def stage_of(now: Standing) -> str:
    """How far a job has come, as the command line says it."""
    return STAGES.get(now.stage, str(now.stage))


def _with_what_is_owed(said: Advice, now: Standing) -> Advice:
    """After a repair the advice says what is owed of the proof by now, not all that ever was."""
    if not now.repairs or PROOF_OWED not in said.text:
        return said
    owed = owed_words(now)
    left = (
        tr("Still owed: {owed}.", owed="; ".join(owed))
        if owed
        else tr("Nothing is owed any more: print the customer's page and close the job.")
    )
    return replace(said, text=said.text.replace(PROOF_OWED, left))


def misfits(records: Sequence[Record]) -> list[tuple[int, str]]:
    """Readings that a later one of the same place and state contradicts, by their number in the trail from 1: the earlier was
    mistaken, or it comes and goes. A repair between them explains it."""
    found = []
    for at, record in enumerate(records):
        if isinstance(record, InspectionEntry):
            found += [(at + 1, text) for text in _seen_otherwise(record, records[at + 1 :])]
        if not isinstance(record, ReadingEntry):
            continue
        for later in records[at + 1 :]:
            if isinstance(later, RepairEntry):
                break
            if isinstance(later, ReadingEntry) and _same_place(record, later) and _apart(record, later):
                where = f"{POINTS[record.point]}, {lowered(STATES[record.state])}"
                found.append((
                    at + 1,
                    tr("{where}: {record} does not fit {later} that was read later: one of them was mistaken, or it " "comes and goes. Read it again.", where=where, record=_shown(record), later=_shown(later)),
                ))  # fmt: skip
                break
    return found


def _seen_otherwise(record: InspectionEntry, later: Sequence[Record]) -> list[str]:
    """What a look that was taken once more says against the first, if it does; a repair between them explains it."""
    for other in later:
        if isinstance(other, RepairEntry):
            break
        again = isinstance(other, InspectionEntry) and other.again and other.check == record.check
        if again and other.circuit == record.circuit and other.outcome != record.outcome:
            first, second = ((worded(item.outcome) or tr("as expected")) for item in (record, other))
            name = check_words(record.check)
            return [
                tr(
                    "{name}: {first} does not fit {second} that was seen later: one of them was misjudged, "
                    "or it comes and goes. Have somebody else look.",
                    name=titled(name),
                    first=first,
                    second=second,
                )
            ]
    return []


def _same_place(one: ReadingEntry, other: ReadingEntry) -> bool:
    return (one.reading, one.point, one.state, one.circuit) == (other.reading, other.point, other.state, other.circuit)


def _apart(one: ReadingEntry, other: ReadingEntry) -> bool:
    if one.reading == Quantity.OHMS:
        low, high = sorted((abs(one.value), abs(other.value)))
        return high > APART_OHM * max(low, 0.5)
    return abs(one.value - other.value) > max(APART_V, 0.15 * max(abs(one.value), abs(other.value)))


def _shown(record: ReadingEntry) -> str:
    return f"{as_typed(record.shown) or figure(record.value, 'g')} {'V' if record.reading != Quantity.OHMS else 'ohm'}"
