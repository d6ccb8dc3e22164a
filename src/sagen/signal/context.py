"""What a rule may look at beside its own channel, and how severity is graded."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from sagen.model.finding import Finding
from sagen.model.words import TURNING
from sagen.signal.cam import CamTrack
from sagen.signal.reading import RotatingReading

MOST_SPANS = 400


@dataclass
class Context:
    """The capture around one channel. `found` grows as rules fire, so that later rules see it."""

    state: str
    readings: tuple[RotatingReading, ...] = ()
    cylinders: int | None = None
    sprocket: int | None = None  #: teeth of the crank's belt or chain sprocket
    #: readings of the known-good capture
    patterns: tuple[RotatingReading, ...] = ()
    #: cam channels over the crank's angle, by column; the known-good capture's under the same names
    cams: dict[str, CamTrack] = field(default_factory=dict)
    pattern_cams: dict[str, CamTrack] = field(default_factory=dict)
    found: list[Finding] = field(default_factory=list)
    #: what several rules ask of a channel, worked out once
    memo: dict[str, object] = field(default_factory=dict)

    @property
    def turning(self) -> bool:
        return self.state in TURNING

    @property
    def cranking(self) -> bool:
        return self.state in ("cranking", "start")

    def has(self, reading: RotatingReading, *kinds: str) -> bool:
        return any(one.kind in kinds and one.channel == reading.column for one in self.found)

    def pattern(self, reading: RotatingReading) -> RotatingReading | None:
        """The same channel of the known-good capture: by name, else by its place among its role."""
        return twin(reading, self.readings, self.patterns)

    def lost_in_pattern(self, reading: RotatingReading) -> frozenset[int]:
        """Tooth numbers that the known-good capture lacks as well."""
        pattern = self.pattern(reading)
        return frozenset(n for n, share in pattern.teeth.lost.items() if share > 0.5) if pattern else frozenset()

    def rails_say(self, start_s: float, end_s: float, tooth_s: float) -> str:
        """What feed and return did around a loss of signal, and which came first, to within one tooth."""
        said = ""
        for one in self.found:
            if one.kind not in ("supply_loss", "ground_lift") or not one.fields["start_s"] <= end_s + 0.02:
                continue
            if one.fields["end_s"] < start_s - 0.02:
                continue
            what = "the supply fell" if one.kind == "supply_loss" else "the return rose"
            # The signal went somewhere between its last tooth and the next one due.
            ahead = start_s + 0.5 * tooth_s - one.fields["start_s"]
            order = "at the same tooth"
            if abs(ahead) > 0.6 * tooth_s:
                order = f"{1000 * abs(ahead):.1f} ms {'before' if ahead > 0 else 'after'} that"
            said += f" On {one.channel} {what} {order}."
        return said


def twin(
    reading: RotatingReading, own: tuple[RotatingReading, ...], others: tuple[RotatingReading, ...]
) -> RotatingReading | None:
    """The channel of another capture that stands for `reading`: same role and name, else same place."""
    alike = [one for one in others if one.sheet.role == reading.sheet.role]
    named = next((one for one in alike if one.column == reading.column), None)
    if named or not alike:
        return named
    place = [one.column for one in own if one.sheet.role == reading.sheet.role].index(reading.column)
    return alike[place] if place < len(alike) else None


def grade(beyond: float, plain: float) -> float:
    """Severity from how far a value lies beyond its limit; `plain` is where it is beyond doubt."""
    return float(np.clip(0.4 + 0.6 * beyond / plain, 0.4, 1.0))


Rule = Callable[[RotatingReading, Context], Iterator[Finding]]
