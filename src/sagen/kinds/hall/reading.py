"""What a switching sensor's channel shows, and where its levels should lie."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from sagen.model.language import later, tr
from sagen.signal.levels import Levels
from sagen.signal.limits import limits
from sagen.signal.reading import Band, ProbeDoubt
from sagen.signal.two_state import TwoStateReading

_LIMIT = limits("hall")


#: V that modules regulate a sensor's supply to, beside 5 (common practice, no published source)
REGULATED = (3.3, 8.0)


def likely_pull_up(levels: Levels) -> float:
    """The pull-up where the sheet names none: a regulated one where the level lies on it, else 5 V, or 12 V for what lies above.

    Parameters
    ----------
    levels : Levels
        V

    References
    ----------
    Regulated supplies of sensors are 3.3, 5 or 8 V, else the battery's: common practice, no published source.
    """
    for regulated in REGULATED:
        if abs(levels.high / regulated - 1) < _LIMIT.usual_v:
            return regulated
    return 5.0 if levels.high <= _LIMIT.most_of_five_v else 12.0


#: factors that would put right what a probe set otherwise shows too tall
FACTORS = (0.5, 0.2, 0.1, 0.05, 0.01, 0.001)


@dataclass(frozen=True)
class HallReading(TwoStateReading):
    """A switching output under a pull-up."""

    @cached_property
    def probe(self) -> ProbeDoubt | None:
        """Why the levels are the probe's rather than the circuit's; None where nothing speaks for that."""
        low, high, swing = self.levels.low, self.levels.high, self.levels.swing
        if not self.switching or swing <= 0:
            return None
        if low < -max(_LIMIT.below_ground_v, _LIMIT.below_ground * swing):
            # No output goes below ground by volts: the mean was taken off, or the leads are crossed.
            return ProbeDoubt("crossed" if high < _LIMIT.crossed * swing else "ac_coupled")
        # Where no pull-up is stated, either of the usual ones may be what the scale hides.
        usual = (self.expected,) if self.sheet.pull_up else (5.0, 12.0)
        if high > _LIMIT.beyond_pull_up * max(usual):
            fits = (
                this_factor
                for this_factor in FACTORS
                for volts in usual
                if abs(high * this_factor / volts - 1) < _LIMIT.factor_fits
            )
            factor = next(fits, None)
            return ProbeDoubt("factor", factor) if factor is not None else None
        return None

    @property
    def levels_true(self) -> bool:
        """Whether the levels are the circuit's own."""
        return self.probe is None

    @property
    def low_limit(self) -> float:
        """Highest sound low level, V."""
        return max(_LIMIT.low_v, _LIMIT.low_share * self.expected)

    def high_limit(self, cranking: bool) -> float:
        """Lowest sound high level, V: a pull-up to the battery sags with it while the starter turns.

        Parameters
        ----------
        cranking : bool
            whether the starter loads the battery
        """
        sags = cranking and self.expected >= _LIMIT.battery_pull_up_v
        return (_LIMIT.high_share_cranking if sags else _LIMIT.high_share) * self.expected

    def held(self, cranking: bool) -> tuple[str, dict]:
        level = self.levels.middle
        if level >= self.high_limit(cranking):
            near = self.sheet.pull_up is not None and abs(level / self.expected - 1) < _LIMIT.near_pull_up
            if near:
                return "high", later("held high, near the pull-up of {expected:g} V", expected=self.expected)
            return "high", later("held high")
        if level <= self.low_limit:
            return "low", later("held low, near ground")
        if self.sheet.pull_up is None:
            return "middle", later("hanging between ground and the pull-up")
        return "middle", later("hanging between ground and the pull-up of {expected:g} V", expected=self.expected)

    def bands(self, cranking: bool) -> tuple[Band, ...]:
        top, bottom = _LIMIT.band_above * self.expected, -_LIMIT.band_below * self.expected
        return (
            (self.high_limit(cranking), top, tr("expected high")),
            (bottom, self.low_limit, tr("expected low")),
        )

    def rests_at(self, level: float) -> bool:
        return level >= _LIMIT.rests_share * self.expected or level <= _LIMIT.low_v

    @property
    def height_scale(self) -> float:
        return 1.3 * max(self.expected, abs(self.piled[1]))
