"""A knock job's captures judged together: which sensor is weak, silent, off pitch, or held down by its circuit.

Unequal while unplugged: the sensor or its own harness. Equal unplugged and unequal plugged: the circuit loads it. Open
alone passes no sensor.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sagen.kinds.piezo.rules import before_plugging, strange_ring
from sagen.model.finding import Finding
from sagen.model.trail import CaptureEntry
from sagen.model.vocabulary import Connection, FindingKind
from sagen.signal.context import grade
from sagen.signal.limits import limits
from sagen.signal.pairs import Interval, mean_of
from sagen.signal.strikes import StrikeSet
from sagen.signal.tap_fit import SensorKey, Source, TapFit, fit_taps, height_under, lowest_load, module_load, source_of
from sagen.signal.tapped import SOURCE_SPREAD, USUAL_SOURCE_OHM, Tapped, knock_band, loaded_share

_RING, _LIMIT = limits("ring_mismatch"), limits("tap_verdict")
REAL_LOAD_OHM = 20_000.0  #: the heaviest load under which a sensor must still speak: common practice


@dataclass(frozen=True)
class Blame:
    """One thing that is wrong with a sensor: `ratio` against the others, `frequency_hz` of a strange ring."""

    sensor: int
    kind: FindingKind
    ratio: Interval | None = None
    frequency_hz: float | None = None
    other_hz: float | None = None
    connection: str = ""
    places: int = 1
    sure: bool = True  #: False where the other one of two may be it as well


@dataclass(frozen=True)
class Gap:
    """What is missing before sensor, place and circuit can be told apart: a slug, and how many strikes it wants."""

    what: str
    strikes: int = 6
    place: str = ""


@dataclass(frozen=True)
class TapVerdict:
    """All that the strikes of a job say."""

    fit: TapFit
    relative: tuple[
        Interval, ...
    ]  #: each sensor's own height: of two against the taller, of more against the middle one
    rings: tuple[Interval, ...]
    sources: tuple[Source | None, ...]
    lowest_ohm: tuple[float | None, ...]
    module_ohm: tuple[float | None, ...]
    blames: tuple[Blame, ...]
    gaps: tuple[Gap, ...]
    band: tuple[float, float, float] | None = None  #: where the first mode of the bore is estimated to lie, Hz

    @property
    def sensors(self) -> tuple[SensorKey, ...]:
        return self.fit.sensors

    def findings(self) -> tuple[Finding, ...]:
        """What is wrong, as findings on the sensors' own channels, gravest first."""
        return tuple(self._finding(blame) for blame in self.blames)

    def _finding(self, blame: Blame) -> Finding:
        ratio, fields = blame.ratio, {}
        if blame.kind == FindingKind.NO_SIGNAL:
            fields = {"held": "middle", "level_v": 0.0}
        elif blame.kind == FindingKind.RING_MISMATCH:
            fields = {"frequency_hz": round(blame.frequency_hz, 1), "ratio": round(ratio.value, 4)}
        else:
            fields = {"ratio": round(ratio.value, 4)}
        facts = {
            "low": ratio.low, "high": ratio.high, "strikes": ratio.count, "sensors": len(self.sensors), "reference": False,
            "connection": str(blame.connection), "places": blame.places, "unit": "V", "sure": blame.sure,
            "other_hz": blame.other_hz,
        }  # fmt: skip
        if blame.kind == FindingKind.NO_SIGNAL:
            facts["strikes"] = int(self.fit.offered[blame.sensor].sum())
        severity = (
            0.95
            if blame.kind == FindingKind.NO_SIGNAL
            else grade(1 - min(ratio.value, 1 / max(ratio.value, 1e-9)), 0.6)
        )
        return Finding(blame.kind, self.sensors[blame.sensor].column, severity, fields, facts)

    def shows(self, sensor: int, connections: Sequence[str]) -> frozenset[FindingKind]:
        """What strikes under some connections show of one sensor."""
        blames = [blame for blame in self.blames if blame.sensor == sensor]
        found: set[FindingKind] = set()
        for this_blame in blames:
            own = this_blame.kind in (FindingKind.WEAK_STRIKE, FindingKind.RING_MISMATCH)
            silent = this_blame.kind == FindingKind.NO_SIGNAL
            if own or silent or this_blame.connection in connections:
                found.add(this_blame.kind)
            if this_blame.kind == FindingKind.LOADED_DOWN and this_blame.connection in connections:
                found.add(FindingKind.WEAK_STRIKE)
        return frozenset(found)

    def gravest(self, bank: int | None = None) -> int | None:
        """The sensor with which most is wrong, of a bank where one is asked for; None where nothing is."""
        named = {sensor.bank for sensor in self.sensors}
        own = [
            blame
            for blame in self.blames
            if bank is None or bank not in named or self.sensors[blame.sensor].bank == bank
        ]
        return own[0].sensor if own else None

    def passes(self, sensor: int) -> bool:
        """Whether a sensor spoke under a load as it must, and nothing is wrong with it."""
        loaded = [
            at for at, load in enumerate(self.fit.loads) if load.connection in (Connection.LOADED, Connection.PLUGGED)
        ]
        spoke = any(self.fit.struck(sensor, at) and not self.fit.silent(sensor, at) for at in loaded)
        return spoke and len(self.sensors) > 1 and all(blame.sensor != sensor for blame in self.blames)


def tapped_of(entry: CaptureEntry) -> Tapped | None:
    """The strikes that a trail keeps of a capture; None where there are none."""
    if entry.strikes is None:
        return None
    strikes = StrikeSet.of(entry.strikes)
    rows = {item.column: item for item in entry.sheet.channel}
    if any(column not in rows for column in strikes.columns):
        return None  # a row of the log that was changed by another hand
    return Tapped(strikes, entry.sheet, tuple(rows[column] for column in strikes.columns))


def same_pair(tapped: Tapped, pattern: Tapped) -> bool:
    """Whether a known-good capture is of the same sensors before they were plugged in."""
    return before_plugging(tapped.connection(0), pattern.connection(0))


def judge_taps(captures: Sequence[Tapped], good: Sequence[Tapped] = ()) -> TapVerdict | None:
    """Judge the captures of one job together; None where no strike is in them. `good` are captures of sensors known to
    be good on the same block.

    Parameters
    ----------
    captures : sequence of Tapped
        of one job
    good : sequence of Tapped
        known to be good, on the same block

    References
    ----------
    A factorial experiment in logarithms (sensor, place, load): Box, Hunter and Hunter, Statistics for Experimenters (1978). From memory.
    """
    fit = fit_taps(captures, good)
    if fit is None:
        return None
    own = [at for at, load in enumerate(fit.loads) if not load.plugged]
    plugged = [at for at, load in enumerate(fit.loads) if load.plugged]
    rings = tuple(mean_of(fit.ring_hz[:, index], fit.ring_u[:, index], 0.0) for index in range(len(fit.sensors)))
    sources = tuple(source_of(fit, index) for index in range(len(fit.sensors)))
    blames = [*_silent(fit, own, plugged), *_weak(fit, own, plugged, bool(good))]
    dead = {blame.sensor for blame in blames if blame.kind == FindingKind.NO_SIGNAL}
    blames += [item for item in _loaded(fit, own, plugged) if item.sensor not in dead]
    blames += _odd_rings(fit, rings, captures, dead)
    return TapVerdict(
        fit, tuple(_relative(fit, index, own or plugged) for index in range(len(fit.sensors))), rings, sources,
        *_loads(fit, sources), tuple(sorted(blames, key=lambda blame: blame.ratio.value if blame.ratio else 1.0)), _gaps(fit),
        knock_band(bore) if (bore := _bore(captures)) else None,
    )  # fmt: skip


# heights -------------------------------------------------------------------------------------


def _against(fit: TapFit, sensor: int, load: int) -> tuple[float, float] | None:
    """Logarithm of a sensor's height against the middle one of the others under one load, and its uncertainty."""
    others = [
        index
        for index in range(len(fit.sensors))
        if index != sensor and fit.struck(index, load) and not fit.silent(index, load)
    ]
    if not others or not fit.struck(sensor, load):
        return None
    middle = _middle(fit, others, load)
    return fit.contrast({(sensor, load): 1.0, **{(item, load): -1.0 / len(middle) for item in middle}})


def _interval(value: float, spread: float, count: int) -> Interval:
    low, high = value - 1.96 * spread, value + 1.96 * spread
    return Interval(float(np.exp(value)), float(np.exp(low)), float(np.exp(high)), count)


def _over_all(fit: TapFit, sensor: int, loads: list[int]) -> tuple[float, float] | None:
    """The same over several loads together."""
    sums: dict[tuple[int, int], float] = {}
    known = [this_load for this_load in loads if _against(fit, sensor, this_load) is not None]
    for load in known:
        others = [
            index for index in range(len(fit.sensors))
            if index != sensor and fit.struck(index, load) and not fit.silent(index, load)
        ]  # fmt: skip
        sums[sensor, load] = 1.0 / len(known)
        for item in _middle(fit, others, load):
            sums[item, load] = -1.0 / len(_middle(fit, others, load)) / len(known)
    return fit.contrast(sums) if known else _under_unlike_loads(fit, sensor)


def _under_unlike_loads(fit: TapFit, sensor: int) -> tuple[float, float] | None:
    """The same of sensors that never stood under one load: brought to one by what such sensors usually are inside, which
    leaves it less sure. None where a load is not known."""
    known = [at for at, this_load in enumerate(fit.loads) if this_load.known and not this_load.plugged]
    own = next((item for item in known if fit.struck(sensor, item) and not fit.silent(sensor, item)), None)
    others = [
        (index, load) for load in known for index in range(len(fit.sensors))
        if index != sensor and fit.struck(index, load) and not fit.silent(index, load)
    ]  # fmt: skip
    if own is None or not others:
        return None
    other, load = others[len(others) // 2]
    value, spread = fit.contrast({(sensor, own): 1.0, (other, load): -1.0})
    ohms = np.array([fit.loads[own].ohm, fit.loads[load].ohm])
    usual, low, high = (
        float(np.subtract(*np.log(loaded_share(ohms, USUAL_SOURCE_OHM * np.exp(SOURCE_SPREAD * item)))))
        for item in (0, -1, 1)
    )
    return value - usual, float(np.hypot(spread, 0.5 * abs(high - low)))


def _middle(fit: TapFit, sensors: list[int], load: int, before: int | None = None) -> list[int]:
    """The middle one of some sensors, or the middle two: by height, or by what plugging in does to it."""

    def height(number: int) -> float:
        return fit.effect[number, load] - (fit.effect[number, before] if before is not None else 0.0)

    ranked = sorted(sensors, key=height)
    return ranked[(len(ranked) - 1) // 2 : len(ranked) // 2 + 1]


def _relative(fit: TapFit, sensor: int, loads: list[int]) -> Interval:
    """A sensor's own height, over those loads under which it is the sensor that is compared: of two against the taller
    one, of more against the middle one."""
    count = int(fit.strikes[sensor, loads].sum())
    told = _over_all(fit, sensor, loads)
    if told is None:
        silent = loads and all(fit.silent(sensor, load) for load in loads)
        return Interval(0.0, 0.0, 0.05, count) if silent else Interval(1.0, float("nan"), float("nan"), count)
    value, spread = told
    if len(fit.sensors) == 2 and value > 0:
        return Interval(1.0, float(np.exp(-1.96 * spread)), float(np.exp(1.96 * spread)), count)
    return _interval(value, spread, count)


def _places(fit: TapFit, sensor: int, loads: list[int]) -> int:
    return max(1, int((fit.strikes[sensor, loads].sum(axis=0) > 0).sum()))


def _weak(fit: TapFit, own: list[int], plugged: list[int], known_good: bool):
    """Sensors lower than the others under the loads that are not the module's, all together or one of them for sure;
    plugged in only where nothing else is known of them."""
    for sensor in range(len(fit.sensors)):
        struck = [item for item in own if fit.struck(sensor, item)] or [
            item for item in plugged if fit.struck(sensor, item)
        ]
        struck = [item for item in struck if not fit.silent(sensor, item)]
        several = known_good or _places(fit, sensor, struck) > 1
        limit = np.log(_LIMIT.several_places if several else _LIMIT.one_place)
        told = _over_all(fit, sensor, struck)
        loads, sure = struck, 1.0
        if told is None:
            continue
        if told[0] >= limit or told[0] + told[1] >= np.log(_LIMIT.upper):
            # Under one load alone it may still be lower: a source of too many ohms speaks when open.
            loads = [min(struck, key=lambda item: (_against(fit, sensor, item) or (0.0, 0.0))[0])]
            told, sure = _against(fit, sensor, loads[0]), _LIMIT.loaded_surely
        else:
            # Where only some of the loads take it down, those are named.
            low = [item for item in struck if (_against(fit, sensor, item) or (0.0, 0.0))[0] < limit]
            loads = low if low and len(low) < len(struck) else struck
            told = _over_all(fit, sensor, loads)
        if told is None or told[0] >= limit or told[0] + sure * told[1] >= np.log(_LIMIT.upper):
            continue
        yield Blame(
            sensor, FindingKind.WEAK_STRIKE, _interval(*told, int(fit.strikes[sensor, loads].sum())),
            connection=fit.loads[loads[0]].connection if len(loads) == 1 else "",
            places=_places(fit, sensor, loads), sure=bool(own),
        )  # fmt: skip


def _silent(fit: TapFit, own: list[int], plugged: list[int]):
    for sensor in range(len(fit.sensors)):
        offered = [item for item in (*own, *plugged) if fit.offered[sensor, item].sum()]
        quiet = [item for item in offered if fit.silent(sensor, item)]
        heard = [item for item in offered if item not in quiet]
        if quiet and not heard:
            yield Blame(
                sensor, FindingKind.NO_SIGNAL, Interval(0.0, 0.0, 0.05), connection=fit.loads[quiet[-1]].connection
            )
        elif quiet and all(item in plugged for item in quiet):
            yield Blame(sensor, FindingKind.LOADED_DOWN, Interval(0.0, 0.0, 0.05), connection=Connection.PLUGGED)
        elif quiet:
            yield Blame(
                sensor, FindingKind.WEAK_STRIKE, Interval(0.0, 0.0, 0.05), connection=fit.loads[quiet[-1]].connection
            )


def _loaded(fit: TapFit, own: list[int], plugged: list[int]):
    """Sensors that plugging in takes down by more than it does the others."""
    for sensor in range(len(fit.sensors)):
        load = next((item for item in plugged if fit.struck(sensor, item) and not fit.silent(sensor, item)), None)
        told = [found for before in own if load is not None and (found := _taken_down(fit, sensor, load, before))]
        if not told:
            continue
        value, spread = min(told, key=lambda item: item[1])  # the same place before and after tells most
        if value < np.log(_LIMIT.several_places) and value + _LIMIT.loaded_surely * spread < np.log(_LIMIT.upper):
            yield Blame(
                sensor, FindingKind.LOADED_DOWN, _interval(value, spread, int(fit.strikes[sensor, load].sum())),
                connection=Connection.PLUGGED, places=_places(fit, sensor, [load]),
            )  # fmt: skip


def _taken_down(fit: TapFit, sensor: int, load: int, before: int) -> tuple[float, float] | None:
    """What plugging in does to a sensor against what it does to the middle one of the others, as a logarithm."""
    heard = [
        index for index in range(len(fit.sensors))
        if all(fit.struck(index, at) and not fit.silent(index, at) for at in (load, before))
    ]  # fmt: skip
    others = [item for item in heard if item != sensor]
    if sensor not in heard or not others:
        return None
    weights = {(sensor, load): 1.0, (sensor, before): -1.0}
    middle = _middle(fit, others, load, before)
    for each in middle:
        weights |= {(each, load): -1.0 / len(middle), (each, before): 1.0 / len(middle)}
    return fit.contrast(weights)


def _bore(captures: Sequence[Tapped]) -> float | None:
    return next((capture.sheet.engine.bore_mm for capture in captures if capture.sheet.engine.bore_mm), None)


# rings ---------------------------------------------------------------------------------------


def _odd_rings(fit: TapFit, rings: tuple[Interval, ...], captures: Sequence[Tapped], dead: set[int]):
    heard = [index for index, ring in enumerate(rings) if ring.known and index not in dead]
    for_all = {item: rings[item].value for item in heard}
    odd = strange_ring(for_all, _bore(captures))
    if odd is None:
        return
    sensor, other, by = odd
    apart = mean_of(
        fit.ring_hz[:, sensor] - fit.ring_hz[:, other], np.hypot(fit.ring_u[:, sensor], fit.ring_u[:, other]),
        0.0008 * rings[other].value,
    )  # fmt: skip
    if apart.known and abs(apart.value) >= _RING.apart * rings[other].value:
        ratio = rings[sensor].value / rings[other].value
        yield Blame(
            sensor, FindingKind.RING_MISMATCH, Interval(ratio, ratio, ratio, apart.count), rings[sensor].value,
            rings[other].value, sure=by != "lower",
        )  # fmt: skip


# loads ---------------------------------------------------------------------------------------


def _loads(fit: TapFit, sources: tuple[Source | None, ...]):
    """The lowest load under which each sensor still speaks as it must, and the ohms that each sees when plugged in."""
    speaks = [float(height_under(source, REAL_LOAD_OHM)) for source in sources if source is not None]
    least = _LIMIT.one_place * float(np.median(speaks)) if speaks else np.nan
    lowest = tuple(lowest_load(source, least) if source is not None else None for source in sources)
    module = tuple(module_load(fit, at, source) if source is not None else None for at, source in enumerate(sources))
    return lowest, module


# what is missing -----------------------------------------------------------------------------


def _gaps(fit: TapFit) -> tuple[Gap, ...]:
    """What is still to be done, first things first."""
    out: list[Gap] = []
    least = int(_LIMIT.fewest_strikes)
    connections = {load.connection for load in fit.loads}
    if len(fit.sensors) == 1:
        out.append(Gap("twin"))
    if fit.one_by_one:
        out.append(Gap("sound"))
    by_place = fit.strikes.max(axis=(0, 1))
    named = [index for index, place in enumerate(fit.places) if place]
    few = [index for index in range(len(fit.places)) if by_place[index] < least]
    out += [Gap("more", least - int(by_place[item]), fit.places[item]) for item in few]
    if len(named) < 2:
        out.append(Gap("place" if named else "second_place"))
    if Connection.LOADED not in connections:
        out.append(Gap("load"))
    if Connection.UNPLUGGED not in connections and Connection.LOADED not in connections:
        out.append(Gap("unplugged"))
    if Connection.PLUGGED not in connections:
        out.append(Gap("plugged"))
    return tuple(out)
