"""What a two-wire current sensor's channel shows. 7 and 14 mA are its two levels (common practice)."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.model.language import later
from sagen.signal.limits import limits
from sagen.signal.reading import Band
from sagen.signal.two_state import TwoStateReading

HIGH_A = 0.014  #: A, the upper of the two levels; the lower is half of it
_LIMIT = limits("current")


@dataclass(frozen=True)
class CurrentReading(TwoStateReading):
    """A signal of two currents; `expected` is the upper one."""

    @property
    def milliamp(self) -> float:
        """Milliamperes for one unit of the channel."""
        return 1000 * HIGH_A / self.expected

    def held(self, cranking: bool) -> tuple[str, dict]:
        now = self.milliamp * self.levels.middle
        if now < _LIMIT.least_ma:
            return "low", later("{now:.1f} mA, no sensor draws so little: open circuit or no feed", now=now)
        if now < _LIMIT.between_ma:
            return "low", later("held at {now:.1f} mA, the lower of the two states", now=now)
        return "high", later("held at {now:.1f} mA, the upper of the two states or beyond", now=now)

    def bands(self, cranking: bool) -> tuple[Band, ...]:
        low, high = 1 - _LIMIT.band, 1 + _LIMIT.band
        return tuple(
            (low * level, high * level, name)
            for level, name in ((self.expected, "14 mA"), (0.5 * self.expected, "7 mA"))
        )
