"""The same signal at both ends of its wire: what the wire adds, loses and delays.

Of a switching sensor the module's pull-up feeds a current I = (pull-up - low level) / its resistance through the wire while
the output conducts; what the module's end stays higher is I times the wire's resistance (Ohm's law). Of a coil the module's
load and the wire divide: R = load (V at the sensor / V at the module - 1). A slower edge at one end is a time constant more,
its 10 to 90 % rise over ln 9 (IEEE Std 181-2011, 5.3.4, of a single time constant).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading

_LIMIT = limits("both_ends")
LN9 = math.log(9.0)


@dataclass(frozen=True)
class Measured:
    """A quantity with the ends between which it lies in nineteen of twenty such measurements."""

    value: float
    low: float
    high: float

    @property
    def plain(self) -> bool:
        """Whether it differs from none at all."""
        return self.low > 0 or self.high < 0


@dataclass(frozen=True)
class Source:
    """What stands across the wire at the module: the pull-up's volts and ohms (switching), or the load's ohms (coil). The
    ohms lie between `low` and `high`; `stated` where they were stated rather than taken as usual."""

    low: float
    high: float
    volts: float | None = None
    stated: bool = False

    @property
    def middle(self) -> float:
        return math.sqrt(self.low * self.high)


@dataclass(frozen=True)
class BothEnds:
    """How the two ends differ: module less sensor."""

    low_v: Measured
    high_v: Measured
    missing: int  #: edges of the sensor's end that the module's does not have
    edges: int  #: edges of the sensor's end that were compared
    ohm: Measured | None  #: of the wire; None where it cannot be told
    tau_s: Measured | None  #: time constant that the module's end has more; None where no edge was resolved
    source: Source | None = None

    @property
    def same(self) -> bool:
        """Whether the wire is sound as far as this tells."""
        poor = self.ohm is not None and self.ohm.low > _LIMIT.sound_ohm
        lost = self.missing > _LIMIT.missing * max(self.edges, 1)
        slow = self.tau_s is not None and self.tau_s.low > _LIMIT.sound_tau_s
        swing = abs(self.low_v.value) + abs(self.high_v.value)
        return not (poor or lost or slow or (self.ohm is None and swing > _LIMIT.sound_v))


def both_ends(
    sensor: RotatingReading, module: RotatingReading, channels: tuple[Channel, Channel], source: Source | None
) -> BothEnds:
    """Compare a signal at the sensor with the same at the module's pin, recorded at once or one after the other.

    Parameters
    ----------
    sensor, module : RotatingReading
        the two ends as read
    channels : (Channel, Channel)
        the samples that they were read from
    source : Source or None
        what stands across the wire at the module; None where nobody knows

    References
    ----------
    Rise of a single time constant: ln 9 of it from 10 to 90 % (IEEE Std 181-2011, 5.3.4).
    """
    low = _difference(module.levels.low, sensor.levels.low, module, sensor)
    high = _difference(module.levels.high, sensor.levels.high, module, sensor)
    edges, missing = _edges(sensor, module)
    ohm = _of_coil(sensor, module, source) if sensor.strength is not None else _of_switch(low, module, source)
    slower = None
    if sensor.strength is None:
        taus = [_time_constant(item, channel) for item, channel in zip((sensor, module), channels, strict=True)]
        slower = _less(taus[1], taus[0]) if all(taus) else None
    return BothEnds(low, high, missing, edges, ohm, slower, source)


def _difference(number: float, other: float, here: RotatingReading, there: RotatingReading) -> Measured:
    """A difference of two levels; each is the median of many samples, and no better than the recorder's step."""
    error = math.hypot(*(_level_error(reading) for reading in (here, there)))
    value = number - other
    return Measured(value, value - 2 * error, value + 2 * error)


def _level_error(reading: RotatingReading) -> float:
    levels = reading.levels
    many = math.sqrt(max(reading.samples / 4, 1.0))
    return math.hypot(levels.step / math.sqrt(12), 1.25 * levels.noise / many, _LIMIT.offset_v)


def _edges(sensor: RotatingReading, module: RotatingReading) -> tuple[int, int]:
    """Edges compared and missing. Recorded at once they are matched in time; else the turns are compared, each by how
    many teeth it shows."""
    here, there = sensor.teeth, module.teeth
    if abs(sensor.seconds - module.seconds) < 1e-6 and _at_once(here.times, there.times):
        pitch = float(np.median(np.diff(here.times)))
        at = np.searchsorted(there.times, here.times)
        near = np.minimum(
            np.abs(here.times - there.times[np.clip(at, 0, len(there.times) - 1)]),
            np.abs(here.times - there.times[np.clip(at - 1, 0, len(there.times) - 1)]),
        )
        return len(here.times), int(np.count_nonzero(near > 0.4 * pitch))
    if here.wheel is None or there.wheel is None or there.turns_seen < 1 or here.turns_seen < 1:
        return 0, 0
    a_turn = len(here.times) / here.turns_seen, len(there.times) / there.turns_seen
    missing = max(0.0, a_turn[0] - a_turn[1]) * there.turns_seen
    return round(a_turn[0] * there.turns_seen), round(missing) if missing > 1 else 0


def _at_once(here: np.ndarray, there: np.ndarray) -> bool:
    """Whether most edges of one stand within a tenth of a pitch of one of the other."""
    if len(here) < 8 or len(there) < 2:
        return False
    at = np.clip(np.searchsorted(there, here), 1, len(there) - 1)
    near = np.minimum(np.abs(here - there[at]), np.abs(here - there[at - 1]))
    return float(np.median(near)) < 0.1 * float(np.median(np.diff(here)))


def _of_switch(low: Measured, module: RotatingReading, source: Source | None) -> Measured | None:
    if source is None:
        return None
    volts = source.volts if source.volts is not None else module.levels.high
    over = volts - module.levels.low
    if over <= _LIMIT.least_over_v:
        return None
    return Measured(
        low.value / over * source.middle,
        min(low.low / over * source.low, low.low / over * source.high),
        max(low.high / over * source.high, low.high / over * source.low),
    )


def _of_coil(sensor: RotatingReading, module: RotatingReading, source: Source | None) -> Measured | None:
    """A coil's height grows with its speed: the heights are compared as volts for each tooth a second."""
    if source is None:
        return None
    here, there = sensor.strength, module.strength
    if len(here) < 8 or len(there) < 8 or np.median(there) <= 0:
        return None
    ratio = float(np.median(here) / np.median(there))
    spread = math.hypot(
        *(1.25 * float(np.std(np.log(np.maximum(item, 1e-9)))) / math.sqrt(len(item)) for item in (here, there))
    )
    ends = [source.low, source.high]
    few, many = ratio * math.exp(-2 * spread) - 1, ratio * math.exp(2 * spread) - 1
    return Measured((ratio - 1) * source.middle, min(few * end for end in ends), max(many * end for end in ends))


def _time_constant(reading: RotatingReading, channel: Channel) -> tuple[float, float] | None:
    """Time constant of the rising edges in s and its standard error, from the 10 to 90 % rise of many edges laid over each
    other (equivalent-time sampling); None where the samples are too coarse for it."""
    rises = np.asarray(reading.rises, float)
    rises = rises[np.isfinite(rises)]
    levels = reading.levels
    if len(rises) < 8 or levels.swing <= 0:
        return None
    step = 1.0 / reading.sfreq
    reach = 24
    middle = np.round(rises / step).astype(int)
    middle = middle[(middle > reach) & (middle < reading.samples - 3 * reach)][:2000]
    if len(middle) < 8:
        return None
    offset = np.arange(-reach, 3 * reach)
    raw = channel.values()
    values = (raw[middle[:, None] + offset] - levels.low) / levels.swing
    when = (
        (middle[:, None] + offset) * step - rises[: len(middle), None][: len(middle)]
        if len(rises) == len(middle)
        else None
    )
    if when is None:
        kept = rises[(np.round(rises / step) > reach) & (np.round(rises / step) < reading.samples - 3 * reach)][:2000]
        when = (middle[:, None] + offset) * step - kept[:, None]
    order = np.argsort(when, axis=None)
    when, values = when.ravel()[order], values.ravel()[order]
    up = (values > 0.15) & (values < 0.9) & (when > -reach * step)
    if np.count_nonzero(up) < 12:
        # Hardly any sample lies on an edge: it is faster than the sampling.
        return 0.0, step / LN9
    # On the rise of one time constant -ln(1 - y) climbs by 1 / tau a second.
    design = np.column_stack([np.ones(np.count_nonzero(up)), when[up]])
    target = -np.log1p(-values[up])
    fit, *_ = np.linalg.lstsq(design, target, rcond=None)
    if fit[1] <= 0:
        return 0.0, step / LN9
    tau = 1.0 / float(fit[1])
    left = target - design @ fit
    error = float(np.sqrt(np.mean(left**2) / max(np.sum((when[up] - when[up].mean()) ** 2), 1e-30))) * tau**2
    return tau, max(error, 0.05 * step)


def _less(item: tuple[float, float], other: tuple[float, float]) -> Measured:
    value, error = item[0] - other[0], math.hypot(item[1], other[1])
    return Measured(value, value - 2 * error, value + 2 * error)
