"""One rotating channel, ready for the Turns and Wheel lenses and the table of teeth."""

from __future__ import annotations

from dataclasses import dataclass, field

from sagen.kinds import Examination
from sagen.model.language import tr
from sagen.signal.matching import twins
from sagen.signal.per_tooth import ToothTable, tooth_table, turn_rows
from sagen.signal.reading import RotatingReading

#: what the lenses can show of a tooth
MEASURES = {"phase_error": "place", "size": "size"}


@dataclass(frozen=True)
class TurnDrawing:
    """What the lenses draw of a channel."""

    reading: RotatingReading
    table: ToothTable | None
    pattern: RotatingReading | None = None
    #: tooth number -> label of the finding that names it
    teeth: dict[int, str] = field(default_factory=dict)
    #: (start_s, end_s, label) of findings that lie in time
    stretches: tuple[tuple[float, float, str], ...] = ()
    #: what Turns draws, by measure
    turned: dict[str, tuple] = field(default_factory=dict)

    def rows(self, what: str):
        """What Turns draws of a measure; None where there is nothing."""
        return self.turned.get(what)


def draw_turns(done: Examination, column: str, reference_done: Examination | None = None) -> TurnDrawing | None:
    """What the lenses show of a channel of an examined capture; None where it has no rotating reading."""
    result = next((channel for channel in done.channels if channel.sheet.column == column), None)
    if result is None or result.reading is None:
        return None
    pattern = None
    if reference_done is not None:
        own = tuple(channel.reading for channel in done.channels if channel.reading)
        theirs = tuple(channel.reading for channel in reference_done.channels if channel.reading)
        matched, _ = twins(own, theirs, done.cams, reference_done.cams)
        pattern = matched.get(column)
    teeth, stretches = {}, []
    for index, finding in enumerate(done.findings, start=1):
        if finding.channel != column:
            continue
        if "tooth" in finding.fields:
            teeth[int(finding.fields["tooth"])] = f"{index}"
        elif "start_s" in finding.fields:
            stretches.append((finding.fields["start_s"], finding.fields["end_s"], f"{index}"))
    turned = {what: turn_rows(result.reading, what) for what in MEASURES}
    return TurnDrawing(result.reading, tooth_table(result.reading, pattern), pattern, teeth, tuple(stretches), turned)


def in_words(what: str, value: float, reading: RotatingReading) -> str:
    """A deviation as it would be said aloud."""
    if value != value:
        return tr("no tooth seen")
    if what == "phase_error":
        return tr(
            "{value:.1f} % of a pitch {value_2}", value=abs(value), value_2=tr("late") if value >= 0 else tr("early")
        )
    return tr(
        "{value:.1f} % {value_2} than the median",
        value=abs(value),
        value_2=reading.size_more if value >= 0 else reading.size_less,
    )
