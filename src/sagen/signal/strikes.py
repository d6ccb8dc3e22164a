"""Strikes: light taps found in channels, the same tap paired over them, and how each sensor answered it.

No time is declared. A thinned, differenced copy of each channel finds where something rings: its differences leave hum
and drift behind, and what does not last (ignition hash) or follows too soon on a taller one (a bounce) is no strike of
its own. Only the windows that hold one are then read at the full rate.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields, replace
from functools import cached_property

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.levels import noise_of, sample_runs
from sagen.signal.limits import limits
from sagen.signal.ring import Modes, Rings, find_modes, fit_rings, steady
from sagen.signal.runs import runs_of

LATE_S = (0.0004, 0.001)  #: after the onset, where a ring still stands
_LIMIT, _LIMIT_RING = limits("strike"), limits("ring")


@dataclass(frozen=True)
class Answers:
    """How sensors answered strikes: arrays of shape (strikes, sensors) in V and s, NaN where it cannot be read."""

    onset_s: np.ndarray
    height: np.ndarray  #: largest distance from the resting level
    first_peak: np.ndarray  #: the first crest that is about as tall
    peak_to_peak: np.ndarray
    energy: np.ndarray  #: V²s
    noise: np.ndarray  #: standard deviation before the strike
    heard: np.ndarray  #: bool, whether it stands above that
    saturated: np.ndarray  #: bool, whether the recorder's range cut it off
    ring_hz: np.ndarray
    ring_u: np.ndarray  #: standard uncertainty
    decay_s: np.ndarray
    decay_u: np.ndarray

    @property
    def good(self) -> np.ndarray:
        """Which may be judged: heard, and not cut off."""
        return self.heard & ~self.saturated


@dataclass(frozen=True)
class StrikeSet:
    """All strikes of one capture, oldest first."""

    columns: tuple[str, ...]
    unit: str
    sfreq: float
    time_s: np.ndarray  #: onset at the first sensor that heard it, shape (strikes,)
    bounces: tuple[tuple[float, ...], ...]  #: times of what followed each too soon to be a strike of its own
    answers: Answers
    floor: np.ndarray  #: what each channel shows without a strike, standard deviation, V, shape (sensors,)
    hum: np.ndarray  #: how far its resting level goes up and down, V, shape (sensors,)
    window_s: float = 0.0  #: how long the rings were read from each onset
    hash_s: tuple[float, ...] = ()  #: times of what was too short to be a ring
    #: logarithm of how hard each was struck, by its sound (`tap_sound.py`), in any unit that the job's captures share; shape (strikes,),
    #: NaN where it was not heard; None where no sound was given
    strength: np.ndarray | None = None

    @cached_property
    def silent(self) -> np.ndarray:
        """Which sensors answered none, or next to none, of the strikes that another one heard; shape (sensors,)."""
        if not len(self):
            return np.zeros(len(self.columns), bool)
        answers = self.answers
        heights = np.where(answers.heard, answers.height, 0.0)
        share = heights / np.maximum(heights.max(axis=1, keepdims=True), 1e-12)
        share[answers.saturated] = 1.0
        return np.median(share, axis=0) < _LIMIT.silent_share

    def __len__(self) -> int:
        return len(self.time_s)

    def height_u(self) -> np.ndarray:
        """Standard uncertainty of the logarithm of each height, shape (strikes, sensors): the noise, and what does not
        repeat from one tap to the next."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.hypot(self.answers.noise / np.maximum(self.answers.height, 1e-12), _LIMIT.repeats)

    def rows(self) -> list[dict]:
        """The strikes as the command line prints them."""

        def by_column(values: np.ndarray, known: np.ndarray, digits: int) -> dict:
            shown = zip(self.columns, values, known, strict=True)
            return {name: _digits(value, digits) if ok else None for name, value, ok in shown}

        answers, out = self.answers, []
        for index, at in enumerate(self.time_s):
            unsaturated = ~answers.saturated[index]
            read = answers.good[index] & np.isfinite(answers.ring_hz[index])
            row = {
                "time_s": round(float(at), 7),
                "peaks": by_column(answers.height[index], unsaturated, 4),
                "ring_hz": by_column(answers.ring_hz[index], read, 6),
                "decay_s": by_column(answers.decay_s[index], read, 4),
                "energy_v2s": by_column(answers.energy[index], unsaturated, 4),
                "peak_to_peak": by_column(answers.peak_to_peak[index], unsaturated, 4),
                "first_peak": by_column(answers.first_peak[index], unsaturated, 4),
                "ring_u_hz": by_column(answers.ring_u[index], read, 2),
            }
            if self.strength is not None:
                hard = self.strength[index] - np.nanmedian(self.strength)
                row["strength"] = _digits(float(np.exp(hard)), 4) if np.isfinite(hard) else None
            if self.bounces[index]:
                row["bounces_s"] = [round(bounce, 5) for bounce in self.bounces[index]]
            out.append(row)
        return out

    def as_data(self) -> dict:
        """All of it as plain data that JSON can keep."""
        answers = {field.name: _listed(getattr(self.answers, field.name)) for field in fields(Answers)}
        return {
            "columns": list(self.columns), "unit": self.unit, "sfreq": self.sfreq, "time_s": _listed(self.time_s),
            "bounces": [list(bounce) for bounce in self.bounces], "answers": answers, "floor": _listed(self.floor),
            "hum": _listed(self.hum), "window_s": self.window_s,
            **({} if self.strength is None else {"strength": _listed(self.strength)}),
        }  # fmt: skip

    @classmethod
    def of(cls, data: dict) -> StrikeSet:
        """The strikes that plain data tells of; raises KeyError, TypeError or ValueError for what does not fit."""
        shape = (len(data["time_s"]), len(data["columns"]))
        flags = {"heard", "saturated"}
        answers = {}
        for field in fields(Answers):
            rows = data["answers"][field.name]
            values = np.array([[np.nan if cell is None else cell for cell in row] for row in rows], float).reshape(
                shape
            )
            answers[field.name] = values.astype(bool) if field.name in flags else values
        strength = data.get("strength")
        if strength is not None:
            strength = np.array([np.nan if hard is None else hard for hard in strength], float).reshape(shape[0])
        return cls(
            tuple(str(datum) for datum in data["columns"]), str(data["unit"]), float(data["sfreq"]),
            np.array(data["time_s"], float), tuple(tuple(float(at) for at in datum) for datum in data["bounces"]),
            Answers(**answers), np.array(data["floor"], float), np.array(data["hum"], float), float(data["window_s"]),
            strength=strength,
        )  # fmt: skip


def _listed(values: np.ndarray) -> list:
    """An array as lists, numbers to six digits, None for what is not known."""
    if values.ndim > 1:
        return [_listed(value) for value in values]
    if values.dtype == bool:
        return [bool(value) for value in values]
    return [float(f"{value:.7g}") if np.isfinite(value) else None for value in values]


def _digits(value: float, digits: int) -> float:
    return float(f"{value:.{digits}g}")


def find_strikes(channels: Sequence[Channel], sfreq: float) -> StrikeSet:
    """Every strike in channels that were recorded together.

    Parameters
    ----------
    channels : one or more Channel of the same length
    sfreq : float
        Hz

    References
    ----------
    The instant of arrival: Maeda, Zisin 38 (1985). From memory.
    """
    columns = tuple(channel.column for channel in channels)
    thin = max(1, int(sfreq / _LIMIT.thinned_hz))
    block = max(int(_LIMIT.block_samples), round(_LIMIT.block_s * sfreq / thin))
    found = [_blocks(channel, thin, block) for channel in channels]
    block_s = thin * block / sfreq
    marks = _marks(np.stack([item.score for item in found]), block_s)
    # Slower recordings hold no ring that could be read: that they are too slow is all there is to say.
    starts, bounces = _parted(marks if sfreq >= _LIMIT.read_hz else [])
    unit = channels[0].unit
    floor = np.array([item.floor for item in found])
    hum = np.array([item.hum for item in found])
    steps = np.array([item.step for item in found])
    answers, window = _read(channels, sfreq, starts, bounces, steps, block_s)
    with np.errstate(invalid="ignore"):
        clear = answers.heard & (answers.height > _LIMIT.clear * answers.noise)
        among = np.where(clear.any(axis=1, keepdims=True), clear, answers.heard)
        first = np.nanmin(np.where(among, answers.onset_s, np.inf), axis=1, initial=np.inf)
    hashes = tuple(mark.at for mark in marks if mark.short)
    marked = StrikeSet(columns, unit, sfreq, first, tuple(bounces), answers, floor, hum, window, hashes)
    return without(marked, answers.heard.any(axis=1))


# where something rings ---------------------------------------------------------------------------


@dataclass(frozen=True)
class _Blocks:
    score: np.ndarray  #: energy of each block's differences over that of a quiet one
    floor: float  #: V
    hum: float  #: V
    step: float  #: V


def _blocks(channel: Channel, thin: int, block: int) -> _Blocks:
    """A channel's energy above what hum and drift make, in blocks."""
    scale = abs(channel.scale)
    few = np.empty(-(-len(channel.raw) // thin), np.float32)
    few[:] = channel.raw[::thin]
    energy = _energies(few, block)
    sampled = sample_runs(channel.raw, 1 << 12).astype(np.float64)
    different = np.unique(np.abs(np.diff(sampled)))
    step = float(different[different > 0][0]) if 0 < len(different) < 1 << 10 and different[-1] > 0 else 0.0
    quiet = max(float(np.median(energy)) if len(energy) else 0.0, step**2 / 2, 1e-12)
    # The resting level, stretch by stretch: a ring goes up as far as down.
    long = max(block, round(_LIMIT.rest_s / _LIMIT.block_s) * block)
    rest = few[: len(few) // long * long].reshape(-1, long)[:, :: max(1, long // 16)]
    middles = rest.mean(axis=1) if len(rest) else few[:1]
    low, high = np.quantile(middles, [0.02, 0.98])
    return _Blocks(
        energy / quiet, scale * max(noise_of(sampled), step / np.sqrt(12)), scale * float(high - low), scale * step
    )


def _energies(few: np.ndarray, block: int) -> np.ndarray:
    """Mean square of the differences in each block of samples, a piece that stays in the cache at a time."""
    many = max(len(few) - 1, 0) // block
    out = np.empty(many, np.float32)
    piece = max(1, (1 << 14) // block)
    room = np.empty(piece * block, np.float32)
    for start in range(0, many, piece):
        stop = min(start + piece, many)
        moved = room[: (stop - start) * block]
        first = start * block
        np.subtract(few[first + 1 : first + 1 + len(moved)], few[first : first + len(moved)], out=moved)
        rows = moved.reshape(-1, block)
        out[start:stop] = np.einsum("ij,ij->i", rows, rows)
    return out / block


@dataclass(frozen=True)
class _Mark:
    at: float  #: s
    tall: float  #: amplitude over a quiet block's
    short: bool  #: whether it does not last as a ring does


def _marks(score: np.ndarray, block_s: float) -> list[_Mark]:
    """Where energy begins to stand out in any channel."""
    together = score.max(axis=0, initial=0.0)
    if not len(together):
        return []
    active = together > _LIMIT.still_rings
    starts, ends = runs_of(active)
    if len(starts) > 1:  # one quiet block does not end a ring
        apart = np.concatenate([[True], starts[1:] - ends[:-1] > 1])
        starts, ends = starts[apart], ends[np.concatenate([apart[1:], [True]])]
    tall = np.maximum.reduceat(together, starts) if len(starts) else np.empty(0)
    loud = tall > _LIMIT.begins
    starts, ends, tall = starts[loud], ends[loud], tall[loud]
    lasting = (ends - starts) * block_s >= _LIMIT.least_ring_s - 1e-9
    out = [
        _Mark(block_s * start, float(np.sqrt(high)), True)
        for start, high in zip(starts[~lasting], tall[~lasting], strict=True)
    ]
    order = np.argsort(-tall[lasting], kind="stable")[: int(_LIMIT.most)]
    for index in np.sort(order):
        first, last = starts[lasting][index], ends[lasting][index]
        out += _rises(together[first:last], first, block_s)
    return sorted(out, key=lambda item: item.at)


def _rises(course: np.ndarray, first: int, block_s: float) -> Iterator[_Mark]:
    """The beginning of one ring, and where a second one begins before it has died down."""
    back, ahead = max(3, round(_LIMIT.rise_back_s / block_s)), max(2, round(_LIMIT.least_ring_s / block_s) - 1)
    places = [0]
    if len(course) > back + ahead:
        lowest = np.lib.stride_tricks.sliding_window_view(course[:-ahead], back).min(axis=1)
        after = np.lib.stride_tricks.sliding_window_view(course[back:], ahead).min(axis=1)[: len(lowest)]
        rising = np.flatnonzero(after[: len(lowest)] > _LIMIT.rises * lowest[: len(after)]) + back
        for item in rising:
            if item - places[-1] > 2 * back:
                places.append(int(item))
    for place, end in zip(places, [*places[1:], len(course)], strict=True):
        yield _Mark(block_s * (first + place), float(np.sqrt(course[place:end].max())), False)


def _parted(marks: list[_Mark]) -> tuple[list[float], list[tuple[float, ...]]]:
    """Strikes of their own, and what followed each too soon to be one: a second touch at any height, a bounce that is
    lower than the strike."""
    starts: list[_Mark] = []
    bounces: list[list[float]] = []
    for mark in marks:
        if mark.short:
            continue
        since = mark.at - starts[-1].at if starts else np.inf
        lower = bool(starts) and mark.tall < _LIMIT.bounce_share * starts[-1].tall
        if since < _LIMIT.touch_s or (since < _LIMIT.bounce_s and lower):
            bounces[-1].append(mark.at)
        else:
            starts.append(mark)
            bounces.append([])
    return [start.at for start in starts], [tuple(bounce) for bounce in bounces]


# one strike, one sensor --------------------------------------------------------------------------


def _read(
    channels: Sequence[Channel], sfreq: float, starts: list[float], bounces: list[tuple[float, ...]],
    steps: np.ndarray, block_s: float,
) -> tuple[Answers, float]:  # fmt: skip
    """Every strike at the full rate. The window is as long as the rings last, and ends where a strike is followed."""
    count, many = len(starts), len(channels)
    samples = len(channels[0].raw)
    before = round(_LIMIT.before_s * sfreq)
    longest = round(_LIMIT.longest_s * sfreq)
    begin = np.round(np.array(starts) * sfreq).astype(np.int64).reshape(count)
    nothing = np.full((count, many), np.nan)
    if not count:
        none = np.zeros((0, many), bool)
        return Answers(*(nothing for _ in range(6)), none, none, *(nothing for _ in range(4))), 0.0
    index = begin[:, None] + np.arange(-before, longest)
    inside = (index >= 0) & (index < samples)
    index = np.clip(index, 0, samples - 1)
    followed = np.array([bounce[0] if bounce else np.inf for bounce in bounces])
    nxt = np.minimum(np.append(starts[1:], np.inf), followed)
    whole = np.round(np.minimum(nxt, samples / sfreq) * sfreq).astype(np.int64) - begin - round(2 * block_s * sfreq)
    bursts = [
        _Bursts(channel, channel.raw[index], inside, whole, before, sfreq, float(step), block_s)
        for channel, step in zip(channels, steps, strict=True)
    ]
    rings = _rings_of(bursts, sfreq)
    parts = [burst.answers(begin, ring) for burst, ring in zip(bursts, rings, strict=True)]
    joined = [np.stack([getattr(part, field.name) for part in parts], axis=1) for field in fields(Answers)]
    return Answers(*joined), max(burst.length for burst in bursts) / sfreq


class _Bursts:
    """One sensor's windows around every strike, arrays of shape (strikes, ...)."""

    def __init__(
        self, channel: Channel, raw: np.ndarray, inside: np.ndarray, whole: np.ndarray, before: int, sfreq: float,
        step: float, block_s: float,
    ):  # fmt: skip
        scale = abs(channel.scale)
        self.sfreq, self.before, self.whole = sfreq, before, whole
        margin = max(2, round(1.5 * block_s * sfreq))
        volts = raw.astype(np.float32) * np.float32(scale)
        tail = slice(before + round(_LIMIT.tail_s * sfreq), volts.shape[1])
        rest, self.noise = _resting(volts, inside, before - margin, tail, whole + before)
        tall = raw[np.argsort(-np.abs(volts - rest).max(axis=1))[:4]]
        step = max(step, scale * _step_of(tall))
        self.noise = np.maximum(self.noise, max(step / np.sqrt(12), 1e-9))
        self.away = np.subtract(volts, rest, out=volts)
        if not inside.all():
            self.away[~inside] = 0.0
        end = min(before + round(_LIMIT.tallest_s * sfreq), volts.shape[1])
        look = slice(max(before - margin, 0), end)
        reach = np.minimum(whole + before, end)
        self.near = np.where(np.arange(volts.shape[1])[look] < reach[:, None], self.away[:, look], 0.0)
        size = np.abs(self.near)
        self.tallest = size.max(axis=1)
        self.onset = _onset(size, self.tallest, self.noise, round(_LIMIT.onset_reach_s * sfreq)) + look.start
        self.length = _lasts(self.away, before, self.noise, sfreq, whole)
        late = np.round(self.onset).astype(np.int64)[:, None] + np.arange(*(round(item * sfreq) for item in LATE_S))
        rung = np.take_along_axis(self.away, np.clip(late, 0, volts.shape[1] - 1), axis=1)
        # Ignition hash is tall, but nothing of it is left when a ring still stands.
        lasts = rung.std(axis=1) > np.maximum(_LIMIT.heard_rms * self.noise, _LIMIT.late_share * self.tallest)
        self.heard = (self.tallest > _LIMIT.heard * self.noise) & lasts
        part = raw[:, before - margin : before + self.length]
        self.saturated = _cut_off(part, step / max(scale, 1e-300), self.noise / max(scale, 1e-300))

    def ringing(self) -> tuple[np.ndarray, np.ndarray]:
        """The bursts that may be fitted, from just behind their onset, and which strikes they are of."""
        skip = round(_LIMIT.skip_s * self.sfreq)
        begin = np.ceil(self.onset).astype(np.int64) + skip
        span = max(self.length - skip, 8)
        ends = np.minimum(self.whole + self.before, self.away.shape[1])
        chosen = np.flatnonzero(self.heard & ~self.saturated & (begin + span <= ends))
        return self.away[chosen[:, None], begin[chosen, None] + np.arange(span)], chosen

    def answers(self, begin: np.ndarray, rings: Rings) -> Answers:
        height, top, bottom, first = _heights(self.near, self.sfreq, self.noise / np.maximum(self.tallest, 1e-12))
        span = steady(self.away[:, self.before : self.before + self.length])
        energy = np.maximum((span**2).sum(axis=1) - self.noise**2 * self.length, 0.0) / self.sfreq
        return Answers(
            (begin - self.before + self.onset) / self.sfreq, np.where(self.heard, height, self.tallest), first,
            top - bottom, energy, self.noise, self.heard, self.saturated, rings.hz, rings.hz_u, rings.decay_s,
            rings.decay_u,
        )  # fmt: skip


def _rings_of(bursts: list[_Bursts], sfreq: float) -> list[Rings]:
    """The ring of every burst, sensor by sensor. Where the strongest modes of the sensors differ and there is one that
    is strong in all of them, that one is compared."""
    ready = [burst.ringing() for burst in bursts]
    modes = [find_modes(part, sfreq) if len(part) else Modes(np.empty(0, complex), np.empty(0)) for part, _ in ready]
    out = []
    for (part, chosen), own, which in zip(ready, modes, _compared_mode(modes), strict=True):
        rings = Rings.unread(len(bursts[0].away))
        if len(own.poles):
            read = fit_rings(part, sfreq, own, which)
            for field in fields(Rings):
                getattr(rings, field.name)[chosen] = getattr(read, field.name)
        out.append(rings)
    return out


def _compared_mode(modes: list[Modes]) -> list[int]:
    """Which mode of each sensor is its ring."""
    ringing = [mode for mode in modes if len(mode.poles)]
    if len(ringing) < 2:
        return [0] * len(modes)
    best, most = None, 0.0
    for hz in (hz for item in ringing for hz in item.hz[item.share >= _LIMIT_RING.shared_mode]):
        places = [item.near(hz) for item in ringing]
        if all(place is not None for place in places):
            least = min(float(item.share[place]) for item, place in zip(ringing, places, strict=True))
            if least > most:
                best, most = hz, least
    if best is None or most < _LIMIT_RING.shared_mode:
        return [0] * len(modes)
    return [mode.near(best) or 0 if len(mode.poles) else 0 for mode in modes]


def _resting(
    volts: np.ndarray, inside: np.ndarray, before: int, tail: slice, whole: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """The resting level of each window, shape of `volts`, and the noise about it before the strike, shape (strikes,).

    A cubic through what stood before the strike and what stands after its ring, in a dozen means of each; where
    nothing stands after it, a line carried on.
    """
    count, length = volts.shape
    points = 12
    ahead = before // points
    late = max((tail.stop - tail.start) // points, 1)
    starts = [*(ahead * np.arange(points)), *(tail.start + late * np.arange(points))]
    sizes = [ahead] * points + [late] * points
    means, weight = np.empty((count, 2 * points)), np.empty((count, 2 * points))
    for at, (start, size) in enumerate(zip(starts, sizes, strict=True)):
        part = slice(start, min(start + size, length))
        held = inside[:, part].all(axis=1) if part.stop > part.start else np.zeros(count, bool)
        if at >= points:
            held = held & (part.stop <= whole)
        means[:, at] = volts[:, part].mean(axis=1) if part.stop > part.start else 0.0
        weight[:, at] = held
    centre = np.array(starts) + 0.5 * np.array(sizes)
    scale = 2.0 / length
    design = np.polynomial.legendre.legvander(scale * centre - 1.0, 3)
    level = (weight * means).sum(axis=1) / np.maximum(weight.sum(axis=1), 1.0)
    both = weight[:, points:].sum(axis=1) >= points // 2
    # Bends are only believed where both sides hold them.
    firm = np.where(both, 1e-6, 1e9)[:, None] * np.array([0.0, 0.0, 1.0, 1.0]) + 1e-6
    gram = np.einsum("sp,pi,pj->sij", weight, design, design) + np.einsum("si,ij->sij", firm, np.eye(4))
    right = np.einsum("sp,pi->si", weight * (means - level[:, None]), design)
    solved = np.linalg.solve(gram, right[:, :, None])[:, :, 0]
    solved[weight[:, :points].sum(axis=1) < 3] = 0.0
    curve = np.polynomial.legendre.legvander(scale * np.arange(length) - 1.0, 3).T
    rest = (solved @ curve + level[:, None]).astype(volts.dtype)
    left = np.abs(volts[:, :before] - rest[:, :before]) * inside[:, :before]
    total = np.maximum(inside[:, :before].sum(axis=1), 1)
    middle = np.clip((before - total / 2).astype(int), 0, before - 1)  # those outside are nought and come first
    noise = 1.4826 * np.partition(left, np.unique(middle), axis=1)[np.arange(count), middle]
    spread = np.sqrt(np.einsum("ij,ij->i", left, left) / total)
    return rest, np.maximum(noise, spread / 3)


def _step_of(raw: np.ndarray) -> float:
    """The recorder's step in raw units, from bursts; 0 where values are too many to be steps."""
    different = np.unique(raw)
    if not 3 <= len(different) < raw.size // 2:
        return 0.0
    gaps = np.diff(different.astype(np.float64))
    return float(gaps[gaps > 1e-6 * (float(different[-1]) - float(different[0]))].min(initial=np.inf))


def _onset(size: np.ndarray, tallest: np.ndarray, noise: np.ndarray, reach: int) -> np.ndarray:
    """Where each burst begins, in samples: within `reach` samples before its first crest, the place that parts quiet
    from movement most likely (Akaike's criterion of the two variances: Maeda 1985, Zisin 38; a common picker of arrival
    times). A clear sine that begins at once is placed between two samples by its first rise."""
    rows = np.arange(len(size))
    half = (size >= _LIMIT.onset_crest * tallest[:, None]).argmax(axis=1)
    last = np.clip(half + 1, reach + 1, size.shape[1] - 1)
    window = last[:, None] + np.arange(-reach, 1)
    power = np.cumsum(np.maximum(size[rows[:, None], window], 0.3 * noise[:, None]) ** 2, axis=1)
    count = np.arange(1, reach + 1, dtype=np.float64)
    before, after = power[:, :-1] / count, (power[:, -1:] - power[:, :-1]) / (reach + 1 - count)
    doubt = count * np.log(np.maximum(before, 1e-30)) + (reach + 1 - count) * np.log(np.maximum(after, 1e-30))
    at = window[rows, doubt[:, :-1].argmin(axis=1)] + 1  # the first sample that moves
    at = np.minimum(at, last - 1)
    rise = size[rows, at + 1] - size[rows, at]
    sharp = (rise > 0.5 * size[rows, at]) & (size[rows, at] > _LIMIT.onset_noise * noise)
    return at - np.where(sharp, np.clip(size[rows, at] / np.maximum(rise, 1e-12), 0.0, 1.0), 0.5)


def _heights(
    near: np.ndarray, sfreq: float, noise: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Largest distance, top, bottom and first peak of each burst, between its samples too (band-limited); where the
    noise (a share of the height) would make crests too tall, without what no knock sensor answers."""
    times = max(1, int(np.ceil(_LIMIT.fine_hz / sfreq)))
    faint = noise > _LIMIT.faint
    if times > 1 or faint.any():
        length = near.shape[1]
        taper = np.ones(length)
        last = max(2, length // 6)
        taper[-last:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(last) + 1) / last)
        spectrum = np.fft.rfft(near * taper, axis=1)
        spectrum[np.ix_(faint, np.fft.rfftfreq(length, 1 / sfreq) > _LIMIT.crest_hz)] = 0.0
        near = times * np.fft.irfft(spectrum, length * times, axis=1)[:, : (length - last) * times]
    size = np.abs(near)
    height = size.max(axis=1)
    inner = size[:, 1:-1]
    crest = (inner >= size[:, :-2]) & (inner >= size[:, 2:]) & (inner > _LIMIT.first_share * height[:, None])
    first = inner[np.arange(len(size)), crest.argmax(axis=1)]
    return height, near.max(axis=1), near.min(axis=1), np.where(crest.any(axis=1), first, height)


def _lasts(away: np.ndarray, before: int, noise: np.ndarray, sfreq: float, whole: np.ndarray) -> int:
    """Samples from the strike until its rings have sunk into the noise, the usual strike's."""
    block = max(1, round(0.25e-3 * sfreq))
    after = away[:, before:]
    many = after.shape[1] // block
    pieces = after[:, : many * block].reshape(len(after), many, block)
    power = np.einsum("ijk,ijk->ij", pieces, pieces) / block - (pieces.sum(axis=2) / block) ** 2
    least = np.maximum(_LIMIT.sunk * noise**2, 0.5 * (_LIMIT.sunk_share * np.abs(after).max(axis=1)) ** 2)
    quiet = np.flatnonzero(np.median(power / np.maximum(least, 1e-18)[:, None], axis=0) < 1)
    quiet = quiet[quiet >= 4]
    end = (int(quiet[0]) if len(quiet) else many) * block
    usual = int(np.median(whole)) if len(whole) else end
    return int(np.clip(end, 4 * block, max(4 * block, min(after.shape[1], usual))))


def _cut_off(part: np.ndarray, step: float, noise: np.ndarray) -> np.ndarray:
    """Whether a burst (raw samples) runs flat at its top or bottom: alike samples that end in a jump.

    Three alike are enough, since the crest of a sine that is as flat leaves it by a few steps. Two may be either side of
    a crest; they count where several stand at the very end of what the channel ever shows.
    """
    found = np.zeros(len(part), bool)
    if not part.size:
        return found
    limit = np.maximum(_LIMIT.jump_steps * step, 3 * noise)
    for extreme, whole, sign in ((part.max(axis=1), part.max(), 1.0), (part.min(axis=1), part.min(), -1.0)):
        flat = part == extreme[:, None]
        short: list[int] = []
        for row in np.flatnonzero(flat.sum(axis=1) >= 2):
            starts, stops = runs_of(flat[row])
            long = (stops - starts >= 2) & (starts > 0) & (stops < part.shape[1])
            beside = np.stack([starts[long] - 1, stops[long]])
            fall = sign * (float(extreme[row]) - part[row, beside].astype(np.float64))
            jumps = fall.min(axis=0, initial=np.inf) > limit[row] if fall.size else np.zeros(0, bool)
            found[row] |= bool((jumps & ((stops - starts)[long] >= _LIMIT.flat_samples)).any())
            short += [int(row)] * int(jumps.sum()) if extreme[row] == whole else []
        if len(short) >= _LIMIT.flat_crests:
            found[short] = True
    return found


def without(strikes: StrikeSet, kept: np.ndarray) -> StrikeSet:
    """The strikes of which `kept` (bool, one a strike) is true.

    Parameters
    ----------
    strikes : StrikeSet
        n strikes
    kept : ndarray of bool, shape (n,)
    """
    answers = Answers(*(getattr(strikes.answers, field.name)[kept] for field in fields(Answers)))
    bounces = tuple(bounce for bounce, keep in zip(strikes.bounces, kept, strict=True) if keep)
    strength = None if strikes.strength is None else strikes.strength[kept]
    return replace(strikes, time_s=strikes.time_s[kept], bounces=bounces, answers=answers, strength=strength)
