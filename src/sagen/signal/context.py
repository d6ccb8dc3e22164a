"""What a rule may look at beside its own channel, and how severity is graded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from sagen.model.finding import Finding
from sagen.model.vocabulary import ENGINE_ROLES, STARTING, TURNING, FindingKind, Role, State
from sagen.signal.cam import CamTrack
from sagen.signal.cam_difference import CamDifference, Measured
from sagen.signal.limits import limits
from sagen.signal.reading import ChannelReading, RotatingReading
from sagen.signal.tapped import Tapped

_LIMIT = limits("context")
MOST_SPANS = _LIMIT.most_spans


@dataclass
class Context:
    """The capture around one channel. `found` grows as rules fire, so that later rules see it."""

    state: State
    readings: tuple[RotatingReading, ...] = ()
    cylinders: int | None = None
    sprocket: int | None = None  #: teeth of the crank's belt or chain sprocket
    #: readings of the known-good capture, by the column that each stands for here
    twins: Mapping[str, RotatingReading] = field(default_factory=dict)
    #: whether speed and state are those of the known-good capture
    like_speed: bool = True
    #: cam channels over the crank's angle, by column; the known-good capture's under the same names
    cams: dict[str, CamTrack] = field(default_factory=dict)
    pattern_cams: dict[str, CamTrack] = field(default_factory=dict)
    #: each cam against the known-good one's, edge by edge, by column
    cam_differences: dict[str, CamDifference] = field(default_factory=dict)
    #: 10 to 90 % rise of switching lines in both captures, microseconds, by column
    rises: dict[str, Measured] = field(default_factory=dict)
    #: how knock sensors answered taps; the known-good capture's likewise
    tapped: Tapped | None = None
    pattern_tapped: Tapped | None = None
    #: the rails that were recorded beside the signals
    rails: frozenset[Role] = frozenset()
    found: list[Finding] = field(default_factory=list)
    #: what several rules ask of a channel, worked out once
    memo: dict[str, object] = field(default_factory=dict)

    @property
    def turning(self) -> bool:
        return self.state in TURNING

    @property
    def cranking(self) -> bool:
        return self.state in STARTING

    def by_hand(self, reading: RotatingReading) -> bool:
        """Whether the shaft hardly turns, or by hand: slower than any starter turns it, and by fits and starts. Where it
        rests and where a tooth is due nobody knows then.

        Parameters
        ----------
        reading : RotatingReading
            teeth with their times in s
        """
        speed = reading.speed_range()
        return (
            reading.sheet.role in ENGINE_ROLES
            and self.turning
            and speed is not None
            and speed["median"] * (2.0 if reading.sheet.role == Role.CAM else 1.0) < _LIMIT.hand_rpm
            and speed["max"] > _LIMIT.fits_and_starts * max(speed["min"], 1e-9)
        )

    @property
    def crank(self) -> RotatingReading | None:
        """The crank sensor of the capture, where its wheel is known."""
        return next(
            (
                reading
                for reading in self.readings
                if reading.sheet.role == Role.CRANK and reading.wheel and reading.switching
            ),
            None,
        )

    def has(self, reading: ChannelReading, *kinds: FindingKind) -> bool:
        return any(item.kind in kinds and item.channel == reading.column for item in self.found)

    def pattern(self, reading: RotatingReading) -> RotatingReading | None:
        """The same channel of the known-good capture; see `matching.twins`.

        Parameters
        ----------
        reading : RotatingReading
            one of this capture's
        """
        return self.twins.get(reading.column)

    def lost_in_pattern(self, reading: RotatingReading) -> frozenset[int]:
        """Tooth numbers that the known-good capture lacks as well."""
        pattern = self.pattern(reading)
        lost = pattern.teeth.lost.items() if pattern else ()
        return frozenset(number for number, share in lost if share > _LIMIT.lost_in_pattern)

    def rails_around(self, start_s: float, end_s: float, tooth_s: float) -> list[dict]:
        """What feed and return did around a loss of signal, and by how many seconds before it (None: within a tooth).

        Parameters
        ----------
        start_s, end_s : float
            s from the capture's beginning: where the signal went and where it came back
        tooth_s : float
            s from tooth to tooth, below which nothing is told to be before the loss

        Returns
        -------
        list of dict
            a row for each rail that moved: channel, kind, and ahead_s, the s by which it came first
        """
        found, reach = [], _LIMIT.rail_reach_s
        for item in self.found:
            if item.kind not in (FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT):
                continue
            if item.fields["start_s"] > end_s + reach or item.fields["end_s"] < start_s - reach:
                continue
            # The signal went somewhere between its last tooth and the next one due.
            ahead = start_s + 0.5 * tooth_s - item.fields["start_s"]
            apart = abs(ahead) > _LIMIT.same_tooth * tooth_s
            found.append({"channel": item.channel, "kind": str(item.kind), "ahead_s": ahead if apart else None})
        return found


def grade(beyond: float, plain: float) -> float:
    """Severity from how far a value lies beyond its limit; `plain` is where it is beyond doubt.

    Parameters
    ----------
    beyond : float
        size of what was found less its limit, any unit
    plain : float
        the size beyond the limit at which nobody doubts it, same unit, > 0

    Returns
    -------
    float
        from the least severity at the limit to 1 where it is plain
    """
    least = _LIMIT.least_severity
    return float(np.clip(least + (1 - least) * beyond / plain, least, 1.0))
