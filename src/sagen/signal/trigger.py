"""When a live picture is to stand still: a level is crossed, a pulse is missing, a rail dips, a speed is reached.

A trigger is fed blocks and answers the sample at which it fires, the same whatever the blocks are."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np


class TriggerKind(StrEnum):
    """What a trigger waits for."""

    RISE = "rise"
    FALL = "fall"
    MISSING = "missing"  #: no pulse for `times` usual pulses
    DIP = "dip"  #: below the level for at least `HOLD_S`
    RPM = "rpm"  #: so many pulses a second passed upwards


HOLD_S = 0.0005
USUAL = 9  #: spaces between pulses of which the median is usual


def _begins(there: np.ndarray) -> np.ndarray:
    """The places at which something begins; where it is there from the start, the first."""
    return np.flatnonzero(np.concatenate([there[:1], there[1:] & ~there[:-1]]))


@dataclass
class Trigger:
    """One trigger on one channel. `level` in raw counts; `hysteresis` on either side of it."""

    kind: TriggerKind
    level: float
    sfreq: float
    hysteresis: float = 0.0
    times: float = 3.0
    pulses_a_second: float = 0.0
    passed: tuple = ()  #: where the last block passed the level, upwards and downwards
    _seen: int = 0
    _high: bool | None = None
    _falls: list[int] = field(default_factory=list)
    _low_since: int | None = None
    _fired_gap: bool = False
    _fast: bool = False

    def feed(self, raw: np.ndarray) -> list[int]:
        """The samples (counted from the first ever fed) at which it fires in a block.

        Parameters
        ----------
        raw : ndarray, shape (n,)
            samples as they came

        Returns
        -------
        list of int
            indices

        References
        ----------
        Two thresholds: Schmitt, J. Sci. Instrum. 15 (1938). From memory.
        """
        rises, falls = self.passed = self._crossings(raw)
        fired = {
            TriggerKind.RISE: lambda: list(rises), TriggerKind.FALL: lambda: list(falls),
            TriggerKind.MISSING: lambda: self._missing(falls, self._seen + len(raw)),
            TriggerKind.DIP: lambda: self._dips(rises, falls, self._seen + len(raw)),
            TriggerKind.RPM: lambda: self._speed(falls),
        }[self.kind]()  # fmt: skip
        self._seen += len(raw)
        return [int(at) for at in fired]

    def skip(self, count: int) -> None:
        """So many samples were not recorded: counting of pulses begins anew behind them."""
        self._seen += count
        self._high, self._falls, self._low_since, self._fired_gap = None, [], None, False

    def _crossings(self, raw: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where the signal passes upwards and downwards, with hysteresis."""
        if not len(raw):
            return np.empty(0, int), np.empty(0, int)
        high, low = self.level + self.hysteresis, self.level - self.hysteresis
        if np.issubdtype(raw.dtype, np.integer):
            # Whole numbers compare four times as fast with whole numbers.
            ends = np.iinfo(raw.dtype)
            high = int(np.clip(np.floor(high), ends.min, ends.max))
            low = int(np.clip(np.ceil(low), ends.min, ends.max))
        above, below = _begins(raw > high), _begins(raw < low)
        at = np.concatenate([above, below])
        values = np.concatenate([np.ones(len(above), bool), np.zeros(len(below), bool)])
        order = np.argsort(at, kind="stable")
        at, values = at[order], values[order]
        if not len(at):
            return at, at
        before = np.concatenate([[values[0] if self._high is None else self._high], values[:-1]])
        change = values != before
        self._high = bool(values[-1])
        at = at + self._seen
        return at[change & values], at[change & ~values]

    def _missing(self, falls: np.ndarray, end: int) -> list[int]:
        fired = []
        for fall in [*falls, None]:
            if len(self._falls) > 3 and not self._fired_gap:
                due = self._falls[-1] + self.times * float(np.median(np.diff(self._falls)))
                if (end if fall is None else fall) > due:
                    fired.append(int(np.ceil(due)))
                    self._fired_gap = True
            if fall is not None:
                self._falls = [*self._falls[-USUAL:], int(fall)]
                self._fired_gap = False
        return fired

    def _dips(self, rises: np.ndarray, falls: np.ndarray, end: int) -> list[int]:
        fired, hold = [], int(HOLD_S * self.sfreq)
        passed = sorted([(int(rise), True) for rise in rises] + [(int(fall), False) for fall in falls])
        for at, up in [*passed, (end, True)]:
            if self._low_since is not None and at - self._low_since >= hold:
                fired.append(self._low_since + hold)
                self._low_since = None
            if up and at != end:
                self._low_since = None
            elif not up:
                self._low_since = at
        return fired

    def _speed(self, falls: np.ndarray) -> list[int]:
        fired = []
        for fall in falls:
            self._falls = [*self._falls[-USUAL:], int(fall)]
            if len(self._falls) > 3:
                fast = self.sfreq / float(np.median(np.diff(self._falls))) >= self.pulses_a_second
                if fast and not self._fast:
                    fired.append(int(fall))
                self._fast = fast
        return fired


LOST_TIMES = 6.0  #: usual spaces between pulses without one: more than any wheel's own gap


class Watch:
    """Says at once when a signal is lost or a rail falls, and when it is back, for whoever moves a harness and does not look.

    `level` and `hysteresis` in raw counts; a rail is lost below its level, a signal when pulses stay away.
    """

    def __init__(self, level: float, sfreq: float, hysteresis: float, *, rail: bool = False):
        kind = TriggerKind.DIP if rail else TriggerKind.MISSING
        self._trigger, self._rail = Trigger(kind, level, sfreq, hysteresis, times=LOST_TIMES), rail
        self.lost = False
        self.begun = 0  #: the sample of the stream at which it was set

    def skip(self, count: int) -> None:
        """So many samples were not recorded: nothing was lost in them, nor did anything come back."""
        self._trigger.skip(count)

    def feed(self, raw: np.ndarray) -> list[tuple[int, bool]]:
        """What happened in a block: the sample from the first ever fed, and whether it was lost then or is back.

        Parameters
        ----------
        raw : ndarray, shape (n,)
            samples as they came

        Returns
        -------
        list of (int, bool)
            index, and True where it was lost
        """
        lost = [(item, True) for item in self._trigger.feed(raw)]
        rises, falls = self._trigger.passed
        back = [(int(rise), False) for rise in (rises if self._rail else falls)]
        out = []
        for at, gone in sorted([*lost, *back]):
            if gone != self.lost:
                self.lost = gone
                out.append((at, gone))
        return out
