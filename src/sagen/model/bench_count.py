"""What it comes to when a sensor in the hand counts steel that passes before it."""

from __future__ import annotations

from sagen.model.language import later, said_now, tr
from sagen.model.trail import InspectionEntry, NoteEntry, Record

IN_THE_HAND = "sensor_in_the_hand"
#: fewer passes show nothing of a sensor that misses some
LEAST_PASSES, MOST_PASSES = 3, 200
_BY = {"eye": later("by eye, a lamp diode"), "meter": later("by meter"), "recorder": later("by recorder")}
WAYS = {way: said_now(kept) for way, kept in _BY.items()}


def bench_records(passes: int, counted: int, *, way: str, new_part: bool) -> tuple[Record, ...]:
    """What a count comes to. A part that is not fitted yet says nothing of this machine's fault: it is only told.

    Raises
    ------
    ValueError
        for counts that make no sense.
    """
    if not LEAST_PASSES <= passes <= MOST_PASSES:
        raise ValueError(
            tr(
                "{passes} passes: at least {least_passes} are needed, at most {most_passes} can be",
                passes=passes,
                least_passes=LEAST_PASSES,
                most_passes=MOST_PASSES,
            )
        )
    if not 0 <= counted <= 10 * passes:
        raise ValueError(tr("{counted} counted of {passes} passes makes no sense", counted=counted, passes=passes))
    part = later("New part before it is fitted") if new_part else later("The part of this machine")
    seen = [later("{counted} counted of {passes} passes", counted=counted, passes=passes), *([_BY[way]] if way else [])]
    note = NoteEntry.of_message(later("{part}, in the hand: {seen}.", part=part, seen=seen))
    if new_part:
        return (note,)
    outcome = "" if counted == passes else "counts_none" if counted == 0 else "misses_some"
    return (InspectionEntry(IN_THE_HAND, outcome), note)
