"""What is known of every tooth of a channel, lined up by its place on the wheel."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.signal.context import Context
from sagen.signal.deviation import ToothDeviations, by_place
from sagen.signal.limits import all_limits
from sagen.signal.reading import RotatingReading


@dataclass(frozen=True)
class Least:
    """What a measure of one tooth must exceed to count.

    `size` in pitches (heights: share of the median), `samples` the same in sample intervals, and `sure` in
    standard errors: a sound 100-tooth wheel strays by 5 once in ten thousand captures. An error that
    sampling bounds strays less far than a normal one, so where `samples` is near its bound `sure` may be less.
    A sampling in step with the wheel errs alike in every turn: `locked` is the standard error in samples that
    it leaves, and `in_step` takes the place of `samples` there, near what rounding to whole samples can do at most.
    """

    size: float
    samples: float
    sure: float
    locked: float
    in_step: float

    def limit(self, errors: ToothDeviations, coarse: float) -> float:
        """The least size that counts, for a sampling of one sample in `coarse` pitches.

        Parameters
        ----------
        errors : ToothDeviations
            the measure by place
        coarse : float
            pitches from sample to sample

        Returns
        -------
        float
            in the unit of the measure
        """
        return max(self.size, (self.in_step if errors.locked else self.samples) * coarse)


#: by measure, from the tables `least_...` of limits.toml
LEAST = {
    name.removeprefix("least_"): Least(**{key: item.value for key, item in table.items()})
    for name, table in all_limits().items()
    if name.startswith("least_")
}


def measures(reading: RotatingReading, context: Context) -> dict[str, tuple[ToothDeviations, float]]:
    """What is known of every tooth, lined up by place, with the least size that counts; worked out once.

    Parameters
    ----------
    reading : RotatingReading
        a channel whose wheel is known
    context : Context
        the capture's other channels and conditions; keeps what was worked out

    Returns
    -------
    dict
        name of the measure to its deviations by place and the least size that counts, in its unit
    """
    if reading.column not in context.memo:
        context.memo[reading.column] = tooth_measures(reading)
    return context.memo[reading.column]


def tooth_measures(reading: RotatingReading) -> dict[str, tuple[ToothDeviations, float]]:
    """What is known of every tooth, lined up by place, with the least size that counts.

    Parameters
    ----------
    reading : RotatingReading
        its wheel known

    Returns
    -------
    dict of str to (ToothDeviations, float)
        by "late" (pitches), "width" and "height" (shares); the float is in the same unit
    """
    coarse = reading.place_coarse / reading.samples_a_tooth
    found = {}
    for name, value in reading.measures().items():
        errors, least = by_place(reading.teeth, value), LEAST[name]
        if errors is not None:
            errors = errors.sampled(least.locked, coarse)
            found[name] = (errors, least.limit(errors, coarse))
    return found


def breathing(reading: RotatingReading) -> float:
    """By what share the speed swings about its middle (5 % to 95 % quantile).

    Parameters
    ----------
    reading : RotatingReading
        teeth with their times in s
    """
    speed = reading.teeth.speed_rpm()
    speed = speed[np.isfinite(speed)]
    if len(speed) < 5:
        return 0.0
    low, high = np.quantile(speed, [0.05, 0.95])
    return float((high - low) / (high + low))
