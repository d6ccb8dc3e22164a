"""A meter's reading that stays where it is long enough to be taken."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

HOLD_S = 0.7
#: what a steady reading may stray by: a share of it, and in the least V or ohm (common practice, no published source)
SHARE, LEAST = 0.01, {"volts": 0.02, "ohms": 0.5}
FEWEST = 3  #: readings within the time


@dataclass
class Steady:
    """Takes readings as they come and answers the one that held for `HOLD_S`, once; it answers again only after the
    reading has left that place."""

    quantity: str = "volts"
    _last: deque = field(default_factory=deque)
    _taken: float | None = None

    def feed(self, value: float, at_s: float) -> float | None:
        """A reading at a time (s); the mean of those that held, or None.

        Parameters
        ----------
        value : float
            the reading, in its unit
        at_s : float
            s, by a clock that never goes back
        """
        self._last.append((at_s, value))
        while len(self._last) > 2 and at_s - self._last[1][0] >= HOLD_S:
            self._last.popleft()
        values = [item for _, item in self._last]
        room = max(LEAST[self.quantity], SHARE * abs(value))
        if self._taken is not None:
            if abs(value - self._taken) <= 2 * room:
                return None
            self._taken = None
            self._last = deque([(at_s, value)])
            return None
        if at_s - self._last[0][0] < HOLD_S or len(values) < FEWEST or max(values) - min(values) > room:
            return None
        self._taken = sum(values) / len(values)
        return self._taken
