"""Strikes of a whole job together: what is the sensor's, what the place's, what the load's.

The logarithm of a height is how hard it was struck, plus the way from the place to the sensor, plus what the sensor
gives under its load. Strengths are known to vary and are taken as drawn (a mixed model); ways differ between sensors
by what is usual on a block, so that every further place makes the sensor's own part surer. Solved by least squares with
weights that let a stray tap go (Huber 1964, Ann. Math. Statist. 35); a strike whose sound was heard is known to be as hard as that
says; strengths are eliminated strike by strike (Schur
complement), so that a job of thousands of strikes costs no more than one of ten.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from sagen.model.vocabulary import Connection
from sagen.signal.limits import limits
from sagen.signal.pairs import Interval, log_heights
from sagen.signal.tapped import SOURCE_SPREAD, USUAL_SOURCE_OHM, Tapped, loaded_share

_LIMIT, _SOUND = limits("tap_fit"), limits("tap_sound")


@dataclass(frozen=True, order=True)
class Load:
    """Under what sensors were struck: the connection ("" where nothing is said), and its ohms where they are known."""

    connection: str
    ohm: float = float("nan")

    def __post_init__(self):
        # All that is unknown is one and the same, which NaN is not.
        object.__setattr__(self, "ohm", -1.0 if np.isnan(self.ohm) else float(self.ohm))

    @property
    def known(self) -> bool:
        return self.ohm > 0

    @property
    def plugged(self) -> bool:
        return self.connection == Connection.PLUGGED


@dataclass(frozen=True)
class SensorKey:
    """One sensor of the set: its column, and its bank where the sheets state it."""

    column: str
    bank: int | None = None


@dataclass(frozen=True)
class Source:
    """What a sensor is inside, from its heights under different loads."""

    ohm: Interval  #: at its ring
    series_ohm: float  #: the part of it that is a resistance in its wires
    open_v: Interval  #: of the usual strike


@dataclass(frozen=True)
class TapFit:
    """The parts that heights are made of, all as logarithms; `covariance` is of `effect` raveled."""

    sensors: tuple[SensorKey, ...]
    loads: tuple[Load, ...]
    places: tuple[str, ...]
    effect: np.ndarray  #: (sensors, loads), NaN where a sensor was not struck under a load
    covariance: np.ndarray
    path: np.ndarray  #: (places, sensors), around 0
    strength: float  #: of the usual strike
    strikes: np.ndarray  #: (sensors, loads, places), how many were heard
    offered: np.ndarray  #: the same, how many another sensor heard
    ring_hz: np.ndarray  #: (strikes, sensors)
    ring_u: np.ndarray
    points: tuple[Point, ...] = ()
    spread: float = 0.0  #: how far strikes of one kind scatter
    one_by_one: bool = False  #: no strike was answered by two sensors, and of some nobody knows how hard they were

    def silent(self, sensor: int, load: int) -> bool:
        """Whether a sensor answered hardly any strike under a load.

        Parameters
        ----------
        sensor, load : int
            rows of the fit, from 0
        """
        offered = self.offered[sensor, load].sum()
        return bool(offered and self.strikes[sensor, load].sum() < _LIMIT.silent_share * offered)

    def struck(self, sensor: int, load: int) -> bool:
        return bool(np.isfinite(self.effect[sensor, load]))

    def contrast(self, weights: dict[tuple[int, int], float]) -> tuple[float, float]:
        """A sum of effects with weights by (sensor, load): value and standard uncertainty.

        Parameters
        ----------
        weights : dict of (int, int) to float
            by sensor and load

        Returns
        -------
        value, uncertainty : float
            in logarithms of height

        References
        ----------
        JCGM 100:2008, 5.2.2: with covariances.
        """
        vector = np.zeros(self.effect.size)
        for (sensor, load), weight in weights.items():
            vector[sensor * len(self.loads) + load] += weight
        known = np.nan_to_num(self.effect).ravel()
        return float(vector @ known), float(np.sqrt(max(vector @ self.covariance @ vector, 0.0)))


@dataclass(frozen=True)
class Point:
    """One answer, for the picture: which sensor, load and place, its height in V and how it was weighted."""

    sensor: int
    load: int
    place: int
    height: float
    capture: int
    weight: float = 1.0


def sensors_of(captures: Sequence[Tapped]) -> tuple[SensorKey, ...]:
    """The sensors of a set. Where every channel of every capture states another bank it is the bank that names the
    sensor, else the column.

    Parameters
    ----------
    captures : sequence of Tapped
        of one job
    """
    banked = all(_by_bank(capture) for capture in captures)
    found: dict[object, SensorKey] = {}
    for this_capture in captures:
        for row in this_capture.channels:
            found.setdefault(row.bank if banked else row.column, SensorKey(row.column, row.bank))
    return tuple(found.values())


def _by_bank(tapped: Tapped) -> bool:
    banks = [channel.bank for channel in tapped.channels]
    return None not in banks and len(set(banks)) == len(banks)


@dataclass
class _Rows:
    """All answers as columns."""

    log: list = field(default_factory=list)
    spread: list = field(default_factory=list)
    strike: list = field(default_factory=list)
    sensor: list = field(default_factory=list)
    load: list = field(default_factory=list)
    place: list = field(default_factory=list)
    capture: list = field(default_factory=list)
    good: list = field(default_factory=list)


def fit_taps(captures: Sequence[Tapped], good: Sequence[Tapped] = ()) -> TapFit | None:
    """Take heights apart into sensor, place and load.

    Parameters
    ----------
    captures : of the sensors to be judged
    good : of sensors known to be good in the same places of the same block: they tell the ways

    Returns
    -------
    TapFit or None
        None where no strike is in them

    References
    ----------
    Huber, Ann. Math. Statist. 35 (1964), for weights that let a stray tap go. From memory.
    """
    captures = [capture for capture in captures if len(capture.strikes)]
    if not captures:
        return None
    sensors = sensors_of(captures)
    banked = all(_by_bank(capture) for capture in captures)
    names = [this_sensor.bank if banked else this_sensor.column for this_sensor in sensors]
    loads, places = _loads_of(captures), _places_of([*captures, *good])
    rows, rings, sounds = _Rows(), [], []
    shape = (len(sensors), len(loads), len(places))
    heard, offered = np.zeros(shape, int), np.zeros(shape, int)
    first = 0
    for number, tapped in enumerate([*captures, *good]):
        own = number < len(captures)
        where = [_index(names, row.bank if banked else row.column, at) for at, row in enumerate(tapped.channels)]
        place = places.index(tapped.place or "")
        logs, spread = log_heights(tapped.strikes)
        hertz = np.full((2, len(logs), len(sensors)), np.nan)
        for at, sensor in enumerate(where):
            if sensor is None:
                continue
            # What a silent sensor picks up of its neighbour is no answer.
            known = np.isfinite(logs[:, at]) & ~tapped.strikes.silent[at]
            load = loads.index(_load(tapped, at)) if own else 0
            if own:
                heard[sensor, load, place] += int((tapped.strikes.answers.good[:, at] & known).sum())
                fair = ~tapped.strikes.answers.saturated[:, at]
                offered[sensor, load, place] += int(fair.sum())
                hertz[0, :, sensor], hertz[1, :, sensor] = (
                    np.where(known, tapped.strikes.answers.ring_hz[:, at], np.nan),
                    tapped.strikes.answers.ring_u[:, at],
                )
            count = int(known.sum())
            rows.log.append(logs[known, at])
            rows.spread.append(spread[known, at])
            rows.strike.append(first + np.flatnonzero(known))
            for name, value in (
                ("sensor", sensor),
                ("load", load),
                ("place", place),
                ("capture", number),
                ("good", not own),
            ):
                getattr(rows, name).append(np.full(count, value))
        first += len(logs)
        sound = tapped.strikes.strength
        sounds.append(np.full(len(logs), np.nan) if sound is None else sound)
        if own:
            rings.append(hertz)
    columns = {name: np.concatenate(getattr(rows, name)) for name in _Rows.__dataclass_fields__}
    if not len(columns["log"]):
        return None
    ring = np.concatenate(rings, axis=1)
    return _solved(columns, sensors, loads, places, np.concatenate(sounds), heard, offered, ring)


def _index(names: list, name: object, at: int) -> int | None:
    if name in names:
        return names.index(name)
    return at if at < len(names) else None


def _load(tapped: Tapped, sensor: int) -> Load:
    connection = tapped.connection(sensor)
    return Load(str(connection or ""), float(tapped.loads()[sensor]))


def _loads_of(captures: Sequence[Tapped]) -> list[Load]:
    found = {_load(capture, sensor) for capture in captures for sensor in range(len(capture.channels))}
    order = [Connection.UNPLUGGED, Connection.LOADED, "", Connection.PLUGGED]
    return sorted(found, key=lambda item: (order.index(item.connection), -item.ohm))


def _places_of(captures: Sequence[Tapped]) -> list[str]:
    return list(dict.fromkeys(capture.place or "" for capture in captures))


def _solved(columns, sensors, loads, places, sound, heard, offered, ring) -> TapFit:
    """The fit; `sound`, shape (strikes,), is how hard each was by its sound, NaN where it was not heard."""
    many, spans, strikes = len(sensors), len(loads), len(sound)
    cells = many * spans
    # What a sensor gives under a load: the sensor's part, the load's, and what is particular to both, which is little
    # for a load that is clipped on and may be much for the module's.
    parts = np.zeros((cells, many + spans + cells))
    at = np.arange(cells)
    parts[at, at // spans] = parts[at, many + at % spans] = parts[at, many + spans + at] = 1.0
    inner = parts.shape[1]
    # Those, the ways, how hard the hand was in each capture, and one height of all that are known to be good.
    ways, hands = inner + len(places) * many, int(columns["capture"].max()) + 1
    width = ways + hands + 1
    log, good = columns["log"], columns["good"]
    rows = np.arange(len(log))
    design = np.zeros((len(log), width))
    design[:, :inner] = parts[columns["sensor"] * spans + columns["load"]] * ~good[:, None]
    design[rows, np.where(good, width - 1, inner + columns["place"] * many + columns["sensor"])] = 1.0
    design[rows, inner + columns["place"] * many + columns["sensor"]] = 1.0
    # A hand strikes one capture harder than the next: sensors that never answered the same strike are hardly compared by height alone.
    alone = np.array([len(set(columns["sensor"][columns["capture"] == capture])) == 1 for capture in range(hands)])
    design[rows, ways + columns["capture"]] = alone[columns["capture"]] & ~np.isfinite(sound[columns["strike"]])
    told = np.isfinite(sound)
    if told.any():
        # What the sound says of a strike is taken off beforehand, and only what is left of it is drawn.
        log = log - np.where(told, sound - np.median(sound[told]), 0.0)[columns["strike"]]
    centre = float(np.median(log))
    prior = np.full(width, 1 / _LIMIT.broad**2)
    own = np.array([_LIMIT.module_spread if load.plugged else _LIMIT.load_spread for load in loads])
    prior[many + spans : inner] = np.tile(1 / own**2, many)
    prior_way = slice(inner, ways)
    prior[prior_way] = 1 / _LIMIT.path_spread**2
    prior[ways : width - 1] = 1 / _LIMIT.hand_spread**2
    extra, varies, weight = _LIMIT.scatter, _LIMIT.strength_spread, np.ones(len(log))
    for _ in range(int(_LIMIT.rounds)):
        each = weight / (columns["spread"] ** 2 + extra**2)
        spreads = np.where(told, _SOUND.spread, varies)
        solved, inverse, strength = _mixed(design, log - centre, each, columns["strike"], strikes, prior, spreads)
        left = log - centre - design @ solved - strength[columns["strike"]]
        # One sensor alone always fits its own strike: only strikes that several answered show scatter.
        shared = np.bincount(columns["strike"], minlength=strikes)[columns["strike"]] > 1
        if shared.sum() > 3:
            scale = 1.4826 * float(np.median(np.abs(left[shared]))) * np.sqrt(2.0)
            extra = float(np.clip(scale, _LIMIT.least_scatter, _LIMIT.most_scatter))
        away = np.abs(left) / np.hypot(columns["spread"], extra)
        weight = np.minimum(1.0, _LIMIT.huber / np.maximum(away, 1e-9))
        # Where places differ by more than is usual, a way is less sure than was thought.
        way = solved[prior_way] ** 2 + np.diag(inverse)[prior_way]
        seen = np.isin(np.arange(len(way)), np.unique(columns["place"] * many + columns["sensor"]))
        spread = float(np.clip(np.sqrt(np.mean(way[seen])), _LIMIT.path_spread, _LIMIT.most_path))
        prior[prior_way] = 1 / spread**2
        used = np.setdiff1d(columns["strike"], np.flatnonzero(told))
        if len(used) > 3:
            varies = float(np.clip(np.std(strength[used]), _LIMIT.least_strength, _LIMIT.most_strength))
    struck = np.zeros(cells, bool)
    struck[np.unique((columns["sensor"] * spans + columns["load"])[~good])] = True
    effect = np.where(struck, parts @ solved[:inner], np.nan).reshape(many, spans)
    points = tuple(
        Point(int(a), int(b), int(c), float(np.exp(d)), int(e), float(f))
        for a, b, c, d, e, f, g in zip(
            columns["sensor"],
            columns["load"],
            columns["place"],
            columns["log"],
            columns["capture"],
            weight,
            good,
            strict=True,
        )
        if not g
    )
    return TapFit(
        sensors, tuple(loads), tuple(places), effect, parts @ inverse[:inner, :inner] @ parts.T,
        solved[prior_way].reshape(len(places), many), centre, heard, offered, ring[0], ring[1], points, extra,
        many > 1 and bool(alone.all()) and not told.all(),
    )  # fmt: skip


def _mixed(design, log, each, strike, strikes, prior, varies):
    """Effects, their covariance and each strike's strength, strengths eliminated."""
    weighted = design * each[:, None]
    total = np.bincount(strike, each, strikes) + 1 / varies**2
    tied = np.zeros((strikes, design.shape[1]))
    np.add.at(tied, strike, weighted)
    heights = np.bincount(strike, each * log, strikes)
    normal = design.T @ weighted - tied.T @ (tied / total[:, None]) + np.diag(prior)
    right = weighted.T @ log - tied.T @ (heights / total)
    inverse = np.linalg.inv(normal)
    solved = inverse @ right
    return solved, inverse, (heights - tied @ solved) / total


# what a sensor is inside ---------------------------------------------------------------------


def source_of(fit: TapFit, sensor: int) -> Source | None:
    """Impedance and open voltage of a sensor, from its heights under two or more known loads; None with fewer.

    Every pair of a capacitive and a series ohm on a grid is weighed by how well it explains the heights (Bayes' rule);
    the interval holds 95 %.

    Parameters
    ----------
    fit : TapFit
        heights in V by sensor and load
    sensor : int
        from 0

    Returns
    -------
    Source or None
        ohm and V, with 95 % credible intervals
    """
    known = [at for at, load in enumerate(fit.loads) if load.known and fit.struck(sensor, at)]
    if len({fit.loads[at].ohm for at in known}) < 2:
        return None
    places = [sensor * len(fit.loads) + at for at in known]
    heights = fit.effect[sensor, known]
    covariance = fit.covariance[np.ix_(places, places)] + 1e-8 * np.eye(len(known))
    weight = np.linalg.inv(covariance)
    loads = np.array([fit.loads[at].ohm for at in known])
    inside = np.geomspace(_LIMIT.least_ohm, _LIMIT.most_ohm, 121)
    series = np.concatenate([[0.0], np.geomspace(500.0, 200_000.0, 40)])
    ohms, wires = np.meshgrid(inside, series, indexing="ij")
    shares = np.log(loaded_share(loads[:, None, None], ohms, wires))
    left = heights[:, None, None] - shares
    # The open height is linear: its best value and its spread follow from what is left.
    total = weight.sum()
    level = np.einsum("ij,jab->ab", weight, left) / total
    off = left - level
    misfit = np.einsum("iab,ij,jab->ab", off, weight, off)
    doubt = np.log(ohms / USUAL_SOURCE_OHM) ** 2 / SOURCE_SPREAD**2 + np.where(wires > 0, _LIMIT.series_doubt, 0.0)
    chance = np.exp(-0.5 * (misfit - misfit.min() + doubt))
    chance /= chance.sum()
    size = np.hypot(ohms, wires)
    low, middle, high = _quantiles(size.ravel(), chance.ravel(), (0.025, 0.5, 0.975))
    mean = float((chance * level).sum())
    reach = 1.96 * float(np.sqrt((chance * (level - mean) ** 2).sum() + 1 / total))
    volts = np.exp(fit.strength + mean)
    count = int(fit.strikes[sensor, known].sum())
    return Source(
        Interval(middle, low, high, count), float((chance * wires).sum()),
        Interval(float(volts), float(volts * np.exp(-reach)), float(volts * np.exp(reach)), count),
    )  # fmt: skip


def _quantiles(values: np.ndarray, chance: np.ndarray, shares: tuple[float, ...]) -> list[float]:
    order = np.argsort(values)
    below = np.cumsum(chance[order])
    return [float(values[order][min(int(np.searchsorted(below, share)), len(values) - 1)]) for share in shares]


def height_under(source: Source, load_ohm: float | np.ndarray) -> np.ndarray:
    """Predicted volts of the usual strike under a load.

    Parameters
    ----------
    source : Source
        open voltage (V) behind ohms
    load_ohm : float or ndarray
        ohm, inf where nothing is connected

    Returns
    -------
    float or ndarray
        V, shape of `load_ohm`

    References
    ----------
    Voltage divider of a capacitive source: Horowitz and Hill, The Art of Electronics (2015), 1.7. From memory.
    """
    capacitive = np.sqrt(max(source.ohm.value**2 - source.series_ohm**2, 1.0))
    return source.open_v.value * loaded_share(load_ohm, capacitive, source.series_ohm)


def lowest_load(source: Source, least_v: float) -> float | None:
    """The lowest ohms under which a sensor still gives so many volts; None where it does not even when open.

    Parameters
    ----------
    source : Source
        open voltage (V) behind ohms
    least_v : float
        V
    """
    loads = np.geomspace(500.0, 1e6, 400)
    enough = np.flatnonzero(height_under(source, loads) >= least_v)
    return float(loads[enough[0]]) if len(enough) else None


def module_load(fit: TapFit, sensor: int, source: Source) -> float | None:
    """The ohms that a plugged sensor sees, from its height there; None where that is not below open.

    Parameters
    ----------
    fit : TapFit
        heights in V, one of its loads the module's
    sensor : int
        from 0
    source : Source
        of that sensor
    """
    plugged = next((at for at, load in enumerate(fit.loads) if load.plugged and fit.struck(sensor, at)), None)
    if plugged is None:
        return None
    volts = float(np.exp(fit.strength + fit.effect[sensor, plugged]))
    loads = np.geomspace(50.0, 1e7, 800)
    heights = height_under(source, loads)
    return float(loads[int(np.argmin(np.abs(heights - volts)))]) if volts < 0.98 * heights[-1] else None
