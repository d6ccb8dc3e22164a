"""Findings of knock sensors: who answers a tap too weakly, at another pitch, or not at all.

A tap is answered by all sensors of a block together, so each is judged against the others, never by its own height.
One place alone cannot part a weak sensor from a tap that fell nearer to the other one; so the limit leaves room for
that, and the sentence says what to tap next.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import Connection, FindingKind, State
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.pairs import Interval, ring_difference
from sagen.signal.reading import StrikeReading
from sagen.signal.rule import rule
from sagen.signal.tapped import SOURCE_SPREAD, USUAL_SOURCE_OHM, Tapped, knock_band, loaded_share

_WEAK, _RING, _NOISE, _SAMPLES = (
    limits("weak_strike"),
    limits("ring_mismatch"),
    limits("knock_noise"),
    limits("knock_samples"),
)

#: states in which what a knock sensor shows is the engine, not a tap
NOT_TAPPED = frozenset({State.RUNNING, State.ROLLING, State.START})


def _sensor(reading: StrikeReading, context: Context) -> tuple[Tapped, int] | None:
    """The strikes and which of their sensors this channel is; None where there is nothing to judge."""
    tapped = context.tapped
    if tapped is None or context.state in NOT_TAPPED:
        return None
    return tapped, tapped.strikes.columns.index(reading.column)


def _marks(tapped: Tapped, sensor: int) -> tuple[Span, ...]:
    """Where the strikes are, for the picture."""
    strikes = tapped.strikes
    return tuple(Span(float(item), float(item + strikes.window_s)) for item in strikes.time_s[:40])


@rule(FindingKind.UNDERSAMPLED, on=StrikeReading)
def undersampled(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Too few samples for one cycle of the ring: it may be another frequency folded down.

    Parameters
    ----------
    reading : StrikeReading
        Hz and V
    context : Context
        the sheet's state

    References
    ----------
    Two samples a period are the least: Shannon, Proc. IRE 37 (1949). From memory.
    """
    found = _sensor(reading, context)
    slow = reading.sfreq < _SAMPLES.least_hz
    if found is None or (not slow and (not len(found[0].strikes) or found[0].strikes.silent[found[1]])):
        return
    ring = found[0].rings[found[1]]
    cycle = reading.sfreq / ring.value if ring.known else np.nan
    if not slow and not (ring.known and cycle < _SAMPLES.a_cycle):
        return
    wanted = _SAMPLES.good_hz if slow or not ring.known else max(_SAMPLES.good_hz, _SAMPLES.good_a_cycle * ring.value)
    beyond = _SAMPLES.a_cycle - cycle if np.isfinite(cycle) else 1.0
    yield Finding(
        FindingKind.UNDERSAMPLED, reading.column, grade(max(beyond, 0.5), _SAMPLES.plain),
        facts={"samples_a_cycle": float(cycle) if np.isfinite(cycle) else None, "sfreq": reading.sfreq,
               "rate_hz": float(f"{wanted:.1g}")},
    )  # fmt: skip


@rule(FindingKind.CLIPPED, on=StrikeReading)
def clipped(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Strikes that the recorder's range cut off; they are left out."""
    found = _sensor(reading, context)
    if found is None:
        return
    strikes = found[0].strikes
    cut = strikes.answers.saturated[:, found[1]]
    if not cut.any():
        return
    tallest = float(np.nanmax(strikes.answers.height[cut, found[1]]))
    yield Finding(
        FindingKind.CLIPPED, reading.column, grade(float(cut.mean()), 1.0),
        facts={"cut": int(cut.sum()), "strikes": len(strikes), "level": tallest, "unit": reading.unit, "scale": 2.5 * tallest},
        spans=tuple(Span(float(item), float(item + strikes.window_s)) for item in strikes.time_s[cut][:40]),
    )  # fmt: skip


@rule(FindingKind.NO_SIGNAL, on=StrikeReading)
def silent(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """No answer to taps that another sensor heard; or nothing heard at all where somebody struck."""
    found = _sensor(reading, context)
    if found is None:
        return
    tapped, sensor = found
    strikes = tapped.strikes
    stated = context.state == State.STRIKE
    # A recording that is too slow for a ring shows none: nothing follows from that.
    nothing = not len(strikes) and stated and reading.sfreq >= _SAMPLES.least_hz
    if not nothing and not strikes.silent[sensor]:
        return
    level = float(strikes.answers.height[:, sensor].max(initial=0.0)) if len(strikes) else float(strikes.floor[sensor])
    yield Finding(
        FindingKind.NO_SIGNAL, reading.column, 0.5 if nothing else 0.95,
        {"held": "middle", "level_v": round(level, 4)},
        {"strikes": len(strikes), "unit": reading.unit, "floor": float(strikes.floor[sensor]),
         "connection": _said(tapped.connection(sensor))},
        _marks(tapped, sensor),
    )  # fmt: skip


def _said(connection: Connection | None) -> str:
    return str(connection or "")


@rule(FindingKind.NOISE, on=StrikeReading)
def noisy(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Noise or hum in which this sensor's rings drown."""
    found = _sensor(reading, context)
    if found is None or not len(found[0].strikes):
        return
    tapped, sensor = found
    strikes = tapped.strikes
    heights = strikes.answers.height[strikes.answers.heard[:, sensor], sensor]
    usual = (
        float(np.median(heights)) if len(heights) else float(np.nanmedian(np.nanmax(strikes.answers.height, axis=1)))
    )
    floor, hum = float(strikes.floor[sensor]), float(strikes.hum[sensor])
    loud, humming = floor / usual - _NOISE.floor_share, hum / usual - _NOISE.hum_share
    # A slow drift is no hum, and what all channels carry alike is the recorder's or the lead's.
    others = [index for index in range(len(strikes.columns)) if index != sensor]
    alone = not others or floor > 2 * float(np.median(strikes.floor[others]))
    hums_alone = bool(others) and hum > 3 * float(np.median(strikes.hum[others]))
    if (loud > 0 and alone) or (humming > 0 and hums_alone):
        yield Finding(
            FindingKind.NOISE, reading.column, grade(max(loud, humming if hums_alone else 0.0), _NOISE.plain),
            {"level_v": round(max(floor, 0.5 * hum if hums_alone else 0.0), 4)},
            {"floor": floor, "hum": hum, "usual": usual, "unit": reading.unit},
        )  # fmt: skip


def _relative(tapped: Tapped, sensor: int) -> Interval:
    """How tall a sensor answers against the others, what unlike loads do to it taken off."""
    told = tapped.against_others[sensor]
    loads = tapped.loads()
    others = np.delete(loads, sensor)
    if not told.known or not np.isfinite(np.where(np.isinf(loads), 1.0, loads)).all() or np.ptp(1 / loads) == 0:
        return told
    # Heights under unlike loads can only be compared by what such sensors usually are inside.
    usual = np.log(loaded_share(loads, USUAL_SOURCE_OHM))
    off = usual[sensor] - float(np.median(np.delete(usual, sensor)))
    sources = USUAL_SOURCE_OHM * np.exp(SOURCE_SPREAD * np.array([-1.0, 1.0]))
    by_source = [
        np.log(loaded_share(loads[sensor], source)) - np.median(np.log(loaded_share(others, source)))
        for source in sources
    ]
    reach = np.exp(abs(by_source[1] - by_source[0]))
    return Interval(
        told.value / np.exp(off), told.low / np.exp(off) / reach, told.high / np.exp(off) * reach, told.count
    )


def _judged(tapped: Tapped, sensor: int, pattern: Tapped | None) -> tuple[Interval, Interval | None]:
    """A sensor's relative height, and the same divided by that of the known-good capture, where there is one."""
    told = _relative(tapped, sensor)
    theirs = _twin(tapped, sensor, pattern)
    if not told.known or theirs is None:
        return told, None
    good = _relative(pattern, theirs)
    if not good.known:
        return told, None
    reach = float(np.exp(np.hypot(np.log(told.high / told.value), np.log(good.high / good.value))))
    ratio = told.value / good.value
    return told, Interval(ratio, ratio / reach, ratio * reach, min(told.count, good.count))


def _twin(tapped: Tapped, sensor: int, pattern: Tapped | None) -> int | None:
    """The same sensor in the known-good capture: by name, else by its place."""
    if pattern is None or len(pattern.strikes) == 0:
        return None
    columns = pattern.strikes.columns
    name = tapped.strikes.columns[sensor]
    if name in columns:
        return columns.index(name)
    return sensor if len(columns) == len(tapped.strikes.columns) else None


def _loaded(tapped: Tapped, sensor: int, pattern: Tapped | None) -> bool:
    """Whether the known-good capture is of the same sensors before they were plugged in."""
    theirs = _twin(tapped, sensor, pattern)
    return theirs is not None and before_plugging(tapped.connection(sensor), pattern.connection(theirs))


def before_plugging(connection: Connection | None, theirs: Connection | None) -> bool:
    """Whether a known-good capture must be of the same sensors, not yet plugged in: it is then what shows whether the
    circuit holds one of them down.

    Parameters
    ----------
    connection, theirs : Connection or None
        of this capture, and of the known-good one
    """
    return connection == Connection.PLUGGED and theirs in (Connection.UNPLUGGED, Connection.LOADED)


def _weak(tapped: Tapped, sensor: int, pattern: Tapped | None) -> tuple[Interval, float] | None:
    """A height below what is left to the place of the tap, and the limit; None where it is tall enough."""
    told, against = _judged(tapped, sensor, pattern)
    judged, limit = (against, _WEAK.ratio_reference) if against is not None else (told, _WEAK.ratio)
    if not judged.known or judged.value >= limit or judged.high >= _WEAK.margin * limit:
        return None
    return judged, limit


@rule(FindingKind.WEAK_STRIKE, on=StrikeReading, silenced_by=(FindingKind.NO_SIGNAL, FindingKind.LOADED_DOWN))
def weak_strike(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Answers clearly lower than the others do."""
    found = _sensor(reading, context)
    weak = _weak(*found, context.pattern_tapped) if found else None
    if weak is None:
        return
    judged, limit = weak
    tapped, sensor = found
    yield Finding(
        FindingKind.WEAK_STRIKE, reading.column, grade(limit - judged.value, _WEAK.plain),
        {"ratio": round(judged.value, 4)},
        {"low": judged.low, "high": judged.high, "strikes": judged.count, "limit": limit,
         "sensors": len(tapped.strikes.columns), "place": tapped.sheet.conditions.place,
         "connection": _said(tapped.connection(sensor)), "reference": limit == _WEAK.ratio_reference},
        _marks(tapped, sensor),
    )  # fmt: skip


@rule(FindingKind.LOADED_DOWN, on=StrikeReading, silenced_by=(FindingKind.NO_SIGNAL,))
def loaded_down(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Like the others while unplugged, lower once plugged in: the circuit holds it down."""
    found = _sensor(reading, context)
    if found is None or not _loaded(*found, context.pattern_tapped):
        return
    weak = _weak(*found, context.pattern_tapped)
    if weak is None:
        return
    judged, limit = weak
    yield Finding(
        FindingKind.LOADED_DOWN, reading.column, grade(limit - judged.value, _WEAK.plain),
        {"ratio": round(judged.value, 4)},
        {"low": judged.low, "high": judged.high, "strikes": judged.count}, _marks(*found),
    )  # fmt: skip


@rule(FindingKind.RING_MISMATCH, on=StrikeReading, silenced_by=(FindingKind.NO_SIGNAL, FindingKind.UNDERSAMPLED))
def ring_mismatch(reading: StrikeReading, context: Context) -> Iterator[Finding]:
    """Rings at another frequency than the others do.

    Parameters
    ----------
    reading : StrikeReading
        Hz
    context : Context
        with the known-good capture

    References
    ----------
    Intervals of a difference by JCGM 100:2008, 5.1.2.
    """
    found = _sensor(reading, context)
    if found is None:
        return
    tapped, sensor = found
    odd = odd_ring(tapped, context.pattern_tapped)
    if odd is None or odd[0] != sensor:
        return
    _, other, apart, sure = odd
    ring, theirs = tapped.rings[sensor], tapped.rings[other]
    yield Finding(
        FindingKind.RING_MISMATCH, reading.column, grade(abs(apart.value) / theirs.value - _RING.apart, _RING.plain),
        {"frequency_hz": round(ring.value, 1), "ratio": round(ring.value / theirs.value, 4)},
        {"other_hz": theirs.value, "low": apart.low, "high": apart.high, "difference": apart.value, "other": tapped.strikes.columns[other],
         "strikes": apart.count, "odd_by": sure, "band": list(knock_band(tapped.sheet.engine.bore_mm)) if tapped.sheet.engine.bore_mm else None},
        _marks(tapped, sensor),
    )  # fmt: skip


def odd_ring(tapped: Tapped, pattern: Tapped | None = None) -> tuple[int, int, Interval, str] | None:
    """The sensor whose ring differs from the others': which, the one it is compared with, the difference, and by what
    it is the odd one; None where all ring alike.

    Parameters
    ----------
    tapped : Tapped
        strikes of some sensors, rings in Hz
    pattern : Tapped or None
        the known-good ones

    Returns
    -------
    sensor, other, difference, told : int, int, Interval, str
    """
    strikes = tapped.strikes
    rings = tapped.rings
    least = max(1.0, _RING.read_share * len(strikes))
    heard = {
        index: ring.value
        for index, ring in enumerate(rings)
        if ring.known and ring.count >= least and not strikes.silent[index]
    }
    good = None
    if pattern is not None and len(pattern.strikes):
        twins = {item: _twin(tapped, item, pattern) for item in heard}
        if None not in twins.values():
            good = {key: pattern.rings[twin].value for key, twin in twins.items()}
    odd = strange_ring(heard, tapped.sheet.engine.bore_mm, good)
    if odd is None:
        return None
    candidate, other, by = odd
    apart = ring_difference(strikes, candidate, other)
    limit = _RING.apart * heard[other]
    clear = max(apart.low, -apart.high, 0.0)  # how far the interval stays away from no difference
    if not apart.known or abs(apart.value) < limit or clear < 0.5 * limit:
        return None
    return candidate, other, apart, by


def strange_ring(
    hertz: dict[int, float], bore_mm: float | None, good: dict[int, float] | None = None
) -> tuple[int, int, str] | None:
    """Whose ring is the strange one, which one it is told against, and by what: by the known-good capture, by the
    others, by the knock band of the bore, or, of two of which nothing more is known, the lower one, since damage and a
    loose bolt lower a ring. None for fewer than two.

    Parameters
    ----------
    hertz : dict
        sensor to its ring, Hz
    bore_mm : float or None
        mm; the first circumferential mode of a chamber (Draper 1935, from memory)
    good : dict or None
        the known-good rings, Hz
    """
    if len(hertz) < 2:
        return None
    values = np.array(list(hertz.values()))
    by, strange = "lower", {key: -value for key, value in hertz.items()}
    if good is not None and np.isfinite(list(good.values())).all():
        by, strange = "reference", {key: abs(np.log(value / good[key])) for key, value in hertz.items()}
    elif len(hertz) > 2:
        by, strange = "others", {key: abs(np.log(value / np.median(values))) for key, value in hertz.items()}
    elif bore_mm:
        low, usual, high = knock_band(bore_mm)
        inside = (values > 0.9 * low) & (values < 1.1 * high)
        if inside.any() and not inside.all():
            by, strange = "band", {key: abs(np.log(value / usual)) for key, value in hertz.items()}
    odd = max(strange, key=strange.get)
    other = min((item for item in hertz if item != odd), key=lambda item: abs(hertz[item] - float(np.median(values))))
    return odd, other, by


RULES = (undersampled, clipped, silent, noisy, loaded_down, weak_strike, ring_mismatch)
