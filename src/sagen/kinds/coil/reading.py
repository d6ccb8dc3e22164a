"""Reading a coil's channel: lobes, the sharp crossing at each tooth, heights against speed."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from sagen.kinds.coil.spikes import spikes
from sagen.model.capture import Capture, Channel
from sagen.model.language import later
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import Role
from sagen.signal.edges import Edges, find_edges, median_of_five
from sagen.signal.hum import is_hum, mains_wave
from sagen.signal.levels import (
    Levels,
    interpolated,
    noise_of,
    piled_up,
    sample_runs,
    smoothed,
    state_levels,
    unpredicted_noise,
)
from sagen.signal.limits import limits
from sagen.signal.reading import Band, RotatingReading
from sagen.signal.slots import Teeth, pitch_ratio, spread
from sagen.signal.wheel_search import read_teeth

#: crossings that tell which of the two kinds is the tooth's centre
TELLING = 12_000
#: a lobe lower than this share of the tallest of its neighbours is disturbance
LOBE_SHARE = 0.22
#: of the usual height, and of the usual product of a half-wave's height and length: what has neither is no tooth
LEAST_HEIGHT, LEAST_FLUX = 0.06, 0.3
NARROW = 0.2  #: a half-wave this much shorter than its neighbours is a spike
CALM = 5.0  #: lobes start this many standard deviations of the noise away from the middle
FEWEST_LOBES = 6
#: how much wider the gap must be at one kind of crossing than at the other to tell them apart
SHARPER = 1.15
FEW = 0.012  #: third differences of more than this share of the swing may be the wave's own
FINER, MOST_INTERPOLATED = 8, 2_000_000
#: steps of the recorder, and standard deviations, that the noise of a line at rest reaches at most; how many times as tall the least
#: stud must be
NOISE_STEPS, NOISE_PEAK, APART = 3.5, 8.0, 4.0
MOST_LOOKED_AT = 4096  #: half-waves: of studs there are few
REGULAR = 0.33  #: teeth stray less than this from even (median, logarithm); noise strays by 0.6


_LIMIT, _HUM = limits("coil"), limits("hum")


@dataclass(frozen=True)
class CoilReading(RotatingReading):
    """An alternating signal whose height grows with speed; only one of its crossings is the tooth's centre."""

    #: peak-to-peak height at each tooth, in `unit`
    heights: np.ndarray = field(default_factory=lambda: np.empty(0))
    falling: bool = True  #: whether the tooth's centre is the falling crossing
    polarity_sure: bool = False  #: whether that was seen, not assumed

    size_name = "height"
    size_more, size_less = "taller", "lower"
    size_in_words = "height"
    cam_coarse = _LIMIT.cam_coarse
    place_coarse = _LIMIT.place_coarse
    grows_with_speed = True

    @cached_property
    def size(self) -> np.ndarray:
        """Height at each tooth over the speed there, relative to the median: a coil's height grows with speed."""
        teeth = self.teeth
        if len(teeth.times) < 5:
            return np.full(len(teeth.times), np.nan)
        pitch = np.diff(teeth.times) / np.maximum(teeth.spans, 1)
        around = np.empty(len(teeth.times))
        around[1:-1] = 0.5 * (pitch[1:] + pitch[:-1])
        around[0], around[-1] = pitch[0], pitch[-1]
        # Over a gap the mean speed says little of the speed at its ends.
        beside = np.flatnonzero(teeth.spans > 1)
        around[beside] = pitch[np.maximum(beside - 1, 0)]
        around[np.minimum(beside + 1, len(around) - 1)] = pitch[np.minimum(beside + 1, len(pitch) - 1)]
        ratio = self.heights * around
        return ratio / np.median(ratio)

    @property
    def strength(self) -> np.ndarray:
        spaces, spans = np.diff(self.teeth.times), self.teeth.spans
        single = spans == 1
        return (self.heights[:-1] * spaces)[single]

    def measures(self) -> dict[str, np.ndarray]:
        return {"phase_error": self.phase_error, "height": self.size}

    def held(self, cranking: bool) -> tuple[str, dict]:
        if abs(self.levels.middle) < _LIMIT.no_bias_v:
            return "low", later("the coil makes no voltage")
        return "middle", later("only the module's bias stands on the wire, the coil adds nothing")

    def bands(self, cranking: bool) -> tuple[Band, ...]:
        return ()

    @property
    def relative_noise(self) -> float:
        return float(self.levels.noise) / max(float(np.median(self.heights)), 1e-12)

    @property
    def cut_away(self) -> bool:
        return self.piled[0] > _LIMIT.cut_away

    def cam_edges(self) -> tuple[np.ndarray, np.ndarray]:
        # The sharp crossing is the tooth; the other one only lies somewhere between teeth.
        return self.falls, np.zeros(len(self.falls), bool)


@dataclass(frozen=True)
class Lobes:
    """Alternating half-waves. One entry a crossing from one to the next."""

    at: np.ndarray  #: samples, where the signal crosses its middle
    rising: np.ndarray
    height: np.ndarray  #: peak to peak of the two half-waves that the crossing parts, raw units
    false: np.ndarray  #: samples, where half-waves too narrow for a tooth began

    def of(self, falling: bool) -> tuple[np.ndarray, np.ndarray]:
        """Places (samples) and heights of one kind of crossing.

        Parameters
        ----------
        falling : bool
            the crossing that goes down

        Returns
        -------
        places, heights : ndarray, shape (crossings,)
            samples, and raw units
        """
        chosen = self.rising != falling
        return self.at[chosen], self.height[chosen]

    def off(self, joints: tuple[tuple[int, int], ...]) -> Lobes:
        """Without the crossings between two stretches put end to end.

        Parameters
        ----------
        joints : tuple of (int, int)
            samples between which nothing was recorded
        """
        if not joints:
            return self
        kept = np.isin(self.at, Edges(self.at, self.rising).off(joints).at)
        return Lobes(self.at[kept], self.rising[kept], self.height[kept], self.false)

    def middle_part(self, most: int) -> Lobes:
        """At most `most` crossings from the middle of the record; itself where it has no more.

        Parameters
        ----------
        most : int
            crossings
        """
        if len(self.at) <= most:
            return self
        first = (len(self.at) - most) // 2
        part = slice(first, first + most)
        return Lobes(self.at[part], self.rising[part], self.height[part], self.false)


NO_LOBES = Lobes(np.empty(0), np.empty(0, bool), np.empty(0), np.empty(0))


def read_coil(capture: Capture, channel: Channel, sheet: ChannelSheet) -> CoilReading:
    """Read one coil channel.

    The tooth's centre is the crossing at which the reference gap spans a whole number of pitches; the
    other crossing falls anywhere within the gap. An even wheel has no gap: there the steeper one counts.

    Parameters
    ----------
    capture : Capture
        the clock, the holes and the other channels
    channel : Channel
        raw samples, shape (n,)
    sheet : ChannelSheet
        what was told of it
    """
    given, plain, hum = capture, channel, mains_wave(channel, capture.sfreq)
    seen, humming = _seen(capture, channel), (0.0, 0.0)
    if hum is not None:
        calm = _seen(capture, hum.taken_off(channel))
        # Teeth that pass fifty times a second make such a line themselves: then nothing regular is left without it.
        taller = calm.height > 0.5 * seen.height
        if taller and calm.spread < min(REGULAR, seen.spread) and hum.volts > _HUM.of_teeth * calm.height:
            seen, plain, humming = calm, hum.taken_off(channel), (hum.hertz, hum.volts)
    capture, channel, levels, lobes, width = seen.capture, seen.channel, seen.levels, seen.lobes, seen.width
    # Studs of a cam come unevenly; what is as tall as theirs is no noise. Hum alone comes as regularly as teeth do.
    studs = sheet.role == Role.CAM and sheet.wheel is None and seen.stands_out
    if not (studs or seen.spread < REGULAR) or is_hum(plain, given.sfreq):
        empty = Teeth(np.empty(0), np.empty(0), np.empty(0, int))
        return CoilReading(
            sheet, channel.unit, given.sfreq, given.span, levels, 0.0, False,
            Edges(np.empty(0), np.empty(0, bool)), empty,
        )  # fmt: skip
    part = lobes.middle_part(TELLING)
    rows = {
        value: read_teeth(capture.time_of(part.of(value)[0]), sheet.declared_wheel, capture.breaks)
        for value in (True, False)
    }
    falling, sure = _of_studs(channel, part, sheet) if studs else sharp_crossing(channel, part, rows, sheet)
    at, height = lobes.of(falling)
    teeth = rows[falling] if part is lobes else read_teeth(capture.time_of(at), sheet.declared_wheel, capture.breaks)
    other, _ = lobes.of(not falling)
    times = capture.time_of(at)
    if len(teeth.between):
        own = ~np.isin(times, teeth.between)
        at, height, times = at[own], height[own], times[own]
    sharp = capture.time_of(spikes(channel.raw, lobes.at, lobes.height))
    false_edges, pitch = capture.time_of(lobes.false), float(np.median(np.diff(times))) if len(times) > 1 else 0.0
    after = np.searchsorted(other, at, "right")
    between = np.append(capture.time_of(other), np.nan)[np.minimum(after, len(other))]
    scale = abs(channel.scale)
    # Crests and troughs lie about the middle of both, wherever the wave rests most of the time.
    crests = np.quantile(sample_runs(channel.raw).astype(np.float64), [0.005, 0.995])
    middle = float(crests.mean()) * channel.scale + channel.offset
    shown = Levels(
        levels.low if width > 1 else middle - float(np.median(height)) * scale / 2,
        levels.high if width > 1 else middle + float(np.median(height)) * scale / 2,
        seen.noise * scale, levels.step, levels.between, levels.parted,
    )  # fmt: skip
    return CoilReading(
        sheet, channel.unit, given.sfreq, given.span, shown, 0.0, True,
        Edges(capture.time_of(lobes.at) * given.sfreq, lobes.rising),
        teeth, times, between, smoothing=width,
        false_edges=np.union1d(false_edges[~_near(false_edges, sharp, 0.25 * pitch)], sharp), sparks=sharp, heights=height * scale, falling=falling, polarity_sure=sure,
        piled=seen.piled, hum=humming,
    )  # fmt: skip


@dataclass(frozen=True)
class _Seen:
    """The half-waves of a channel, and what was done to it to see them."""

    capture: Capture
    channel: Channel
    levels: Levels
    piled: tuple[float, float]
    noise: float  #: standard deviation, raw units
    lobes: Lobes
    width: int  #: samples averaged

    @cached_property
    def spread(self) -> float:
        """How far the half-waves stray from even (median, logarithm); infinite where there are too few."""
        return _spread(self.lobes) if len(self.lobes.at) >= FEWEST_LOBES else np.inf

    @property
    def stands_out(self) -> bool:
        """Whether there are half-waves that no noise of this kind makes."""
        tall = float(np.median(self.lobes.height)) if len(self.lobes.at) >= FEWEST_LOBES else 0.0
        return tall > _LIMIT.beyond_noise * self.noise

    @property
    def height(self) -> float:
        """The usual height, peak to peak, in the channel's unit."""
        return float(np.median(self.lobes.height)) * abs(self.channel.scale) if len(self.lobes.at) else 0.0


def _seen(capture: Capture, channel: Channel) -> _Seen:
    """Find the half-waves of a channel, between its samples or under an average where that is needed."""
    levels, piled = state_levels(channel), piled_up(channel, two_state=False)
    # What the range cut off leaves too little to tell noise by; its own height is far above any.
    noise = (
        0.012 * levels.swing / abs(channel.scale)
        if piled[0] > 0.05
        else noise_of(sample_runs(channel.raw).astype(float))
    )
    if noise > FEW * levels.swing / abs(channel.scale) and capture.samples <= MOST_INTERPOLATED:
        calm = unpredicted_noise(sample_runs(channel.raw).astype(float))
        if calm < 0.5 * noise:
            # What looks like noise is a wave of few samples: between them it is known as well.
            noise, channel = calm, interpolated(channel, FINER)
            joints = tuple((FINER * begin, FINER * out) for begin, out in capture.joints)
            capture = replace(capture, sfreq=FINER * capture.sfreq, channels=(channel,), joints=joints)
    lobes = find_lobes(channel, levels, noise).off(capture.joints)
    if len(lobes.at) < FEWEST_LOBES and capture.samples > 4000:
        # Remains in noise: look again under a moving average.
        calm = smoothed(channel, 25)
        under = find_lobes(calm, state_levels(calm), 1.4 * noise / np.sqrt(25)).off(capture.joints)
        if len(under.at) >= FEWEST_LOBES and _spread(under) < REGULAR:
            return _Seen(capture, calm, levels, piled, noise, under, 25)
    return _Seen(capture, channel, levels, piled, noise, lobes, 1)


def _half_waves(raw: np.ndarray, middle: float, reach: float) -> tuple[Edges, np.ndarray]:
    """Crossings of the middle with a hysteresis, and the height of each half-wave between two of them, raw units; the ends of
    the record are half-seen and left out."""
    edges = find_edges(raw, lower=middle - reach, upper=middle + reach, middle=middle)
    if len(edges) < 3:
        return edges, np.empty(0)
    starts = np.floor(edges.at).astype(int)
    tall = np.maximum.reduceat(raw, starts)[:-1] - middle
    deep = middle - np.minimum.reduceat(raw, starts)[:-1]
    return edges, np.where(edges.rising[:-1], tall, deep).astype(np.float64)


def _wide(raw: np.ndarray, middle: float, edges: Edges, height: np.ndarray) -> np.ndarray:
    """How many samples of each half-wave lie beyond half of its height."""
    starts = np.floor(edges.at).astype(int)
    part = raw[starts[0] : starts[-1]]
    beyond = np.abs(part - middle) > np.repeat(height / 2, np.diff(starts))
    return np.add.reduceat(beyond, starts[:-1] - starts[0])


def _above_the_noise(height: np.ndarray, noise: float) -> float:
    """A height that parts half-waves from those of the noise, where none lie between; 0.0 where that is not plain.

    Heights that grow with speed leave no such gap.

    Parameters
    ----------
    height : ndarray, shape (half-waves,)
        raw units
    noise : float
        what noise reaches at most, raw units
    """
    rows = np.sort(height)
    low = np.flatnonzero(rows[:-1] <= noise)
    if not len(low) or len(rows) - low[-1] - 1 < FEWEST_LOBES:
        return 0.0
    last, first = rows[low[-1]], rows[low[-1] + 1]
    return float(np.sqrt(max(last, 1e-12) * first)) if first >= APART * max(last, 1e-12) else 0.0


def find_lobes(channel: Channel, levels: Levels, noise: float) -> Lobes:
    """The half-waves of an alternating signal whose height may grow a hundredfold with speed.

    Crossings are taken with a hysteresis just above the noise; then lobes that are low against their
    neighbours are dropped, and where two of one sign meet, their crossing goes.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    levels : Levels
        in its unit
    noise : float
        standard deviation, in its unit

    Returns
    -------
    Lobes
        crossings in samples, heights in the channel's unit
    """
    raw = channel.raw
    sampled = sample_runs(raw).astype(np.float64)
    middle = float(np.mean(np.clip(sampled, *np.quantile(sampled, [0.0005, 0.9995]))))
    swing = float(np.quantile(np.abs(sampled - middle), 0.995))
    step = levels.step / abs(channel.scale)
    reach = max(CALM * noise, 0.015 * swing, 1.5 * step, 1e-9)
    edges, height = _half_waves(raw, middle, reach)
    apart = _above_the_noise(height, max(NOISE_STEPS * step, NOISE_PEAK * noise))
    if apart > reach:
        # Studs stand far apart: what the line does while it rests would part their half-waves anywhere.
        edges, height = _half_waves(raw, middle, apart)
    if len(edges) < 3:
        return NO_LOBES
    lasts = np.diff(edges.at)
    keep = height >= LOBE_SHARE * _tallest_near(height)
    if keep.any():
        # A tooth's flux is the same at any speed: the height falls as the half-wave grows longer. What is far less is hum.
        flux = height * lasts
        tall_enough = height >= LEAST_HEIGHT * np.quantile(height[keep], 0.8)
        keep &= tall_enough | (flux >= LEAST_FLUX * np.quantile(flux[keep], 0.8))
    # Of studs that stand alone one half-wave holds the rest to the next stud: each is measured by those of its own sign.
    usual = median_of_five(lasts)
    for sign in (0, 1):
        usual[sign::2] = np.minimum(usual[sign::2], median_of_five(lasts[sign::2]))
    narrow = keep & (lasts < NARROW * usual)
    if narrow.any() and len(lasts) <= MOST_LOOKED_AT:
        # Where the line rests between studs a half-wave begins anywhere in the rest: what stands out of it is measured then.
        wide = _wide(raw, middle, edges, height)
        narrow &= wide < NARROW * np.median(wide[keep])
    kept = np.flatnonzero(keep & ~narrow)
    if len(kept) < 2:
        return NO_LOBES
    sign = edges.rising[kept]
    turns = np.flatnonzero(sign[1:] != sign[:-1])
    first, second = kept[turns], kept[turns + 1]
    # Where small lobes lay between, the crossing next to the later one is as good as any.
    return Lobes(edges.at[second], edges.rising[second], height[first] + height[second], edges.at[:-1][narrow])


def sharp_crossing(channel: Channel, lobes: Lobes, rows: dict[bool, Teeth], sheet: ChannelSheet) -> tuple[bool, bool]:
    """Whether the tooth's centre is the falling crossing, and whether that is certain.

    At a tooth's centre half-waves of like height lie close on both sides, beside the reference gap too. The
    other crossing has the gap on one side of it there. An even wheel has no gap: nothing is certain.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    lobes : Lobes
    rows : dict
        the teeth by either crossing, False for the rising one
    sheet : ChannelSheet
        may state the polarity

    Returns
    -------
    falling, certain : bool
    """
    assumed = sheet.polarity != "rising"
    # Teeth that wander leave neither crossing at its place, unless the gaps return all the same.
    wander = any(teeth.wanders for teeth in rows.values())
    if wander and min(teeth.alike for teeth in rows.values()) < 0.95:
        return assumed, False
    beside = {}
    for falling, teeth in rows.items():
        if teeth.wheel is None or not len(teeth.anchors) or len(teeth.times) < 12:
            return _by_gap_length(rows, assumed)
        if len(teeth.between):
            return assumed, False
        beside[falling] = _half_waves_beside(channel.raw, *lobes.of(falling), teeth.anchors)
    if max(beside.values()) > 0.2 and max(beside.values()) > (5.0 if wander else 1.6) * min(beside.values()):
        return beside[True] > beside[False], True
    if wander:
        return assumed, False
    return _by_gap_length(rows, assumed)


def _of_studs(channel: Channel, lobes: Lobes, sheet: ChannelSheet) -> tuple[bool, bool]:
    """The same for studs that stand alone: the wave dives through its middle as a stud passes, and rests between two of them."""
    beside = {}
    reach = max(round(0.3 * float(np.quantile(np.diff(lobes.at), 0.25))), 1) if len(lobes.at) > 2 else 1
    for falling in (True, False):
        at, height = lobes.of(falling)
        here = np.clip(np.round(at).astype(int), 0, len(channel.raw) - 1)
        sides = [channel.raw[np.clip(here + side, 0, len(channel.raw) - 1)] for side in (-reach, 0, reach)]
        before, middle, after = (values.astype(np.float64) for values in sides)
        least = np.minimum(np.abs(before - middle), np.abs(after - middle))
        beside[falling] = float(np.median(least / np.maximum(0.5 * height, 1e-12))) if len(at) else 0.0
    if max(beside.values()) < _LIMIT.steeper * min(beside.values()):
        return sheet.polarity != "rising", False
    return beside[True] > beside[False], True


def _half_waves_beside(raw: np.ndarray, at: np.ndarray, height: np.ndarray, anchors: np.ndarray) -> float:
    """The least of the signal a quarter pitch before and after the crossings on both sides of each gap, in half
    heights, from the signal at the crossing; the median over the turns. The kind that is not the tooth has one of
    the two within the gap, where the signal lies flat."""
    anchors = anchors[(anchors >= 2) & (anchors < len(at) - 1)]
    if not len(anchors):
        return 0.0
    least = np.inf
    for end, quarter in (
        (anchors, 0.25 * (at[anchors + 1] - at[anchors])),
        (anchors - 1, 0.25 * (at[anchors - 1] - at[anchors - 2])),
    ):
        before, here, after = (
            raw[np.clip(np.round(at[end] + side * quarter).astype(int), 0, len(raw) - 1)].astype(np.float64)
            for side in (-1, 0, 1)
        )
        half = np.maximum(0.5 * height[end], 1e-12)
        least = np.minimum(least, np.minimum(np.abs(before - here), np.abs(after - here)) / half)
    return float(np.median(least))


def _by_gap_length(rows: dict[bool, Teeth], assumed: bool) -> tuple[bool, bool]:
    """The sharp crossing shows the longer gap; the other one has part of it on either side."""
    widest = {}
    for falling, teeth in rows.items():
        if len(teeth.ratio) < 4:
            return assumed, False
        top = np.sort(teeth.ratio)[-max(1, len(teeth.anchors) or len(teeth.times) // 60) :]
        widest[falling] = float(np.median(top)) if teeth.alike >= 0.5 or len(teeth.anchors) else 1.0
    if max(widest.values()) >= 1.6 and max(widest.values()) >= SHARPER * min(widest.values()):
        return widest[True] > widest[False], True
    return assumed, False


def _near(times: np.ndarray, others: np.ndarray, within: float) -> np.ndarray:
    """Which times (s) lie within so many seconds of any of the others."""
    if not len(others):
        return np.zeros(len(times), bool)
    place = np.searchsorted(others, times)
    before, behind = others[np.maximum(place - 1, 0)], others[np.minimum(place, len(others) - 1)]
    return np.minimum(np.abs(times - before), np.abs(behind - times)) <= within


def _tallest_near(height: np.ndarray) -> np.ndarray:
    """The lesser of the tallest lobes before and after each one: a lone spike raises only one of them."""
    most = height
    for step in (1, 2, 4):
        most = np.maximum(most, np.concatenate([most[step:], np.zeros(min(step, len(most)))])[: len(most)])
    # `most` reaches over the eight lobes that start at each place.
    after = np.concatenate([most[1:], most[-1:]])
    before = np.concatenate([np.full(min(8, len(most)), most[0]), most[:-8]])[: len(most)]
    return np.minimum(np.maximum(before, height * (np.arange(len(height)) < 8)), after)


def _spread(lobes: Lobes) -> float:
    """How far the half-waves of the more regular kind stray from even, as a logarithm; noise strays by 0.6."""
    found = [spread(pitch_ratio(np.diff(at))) for at, _ in (lobes.of(True), lobes.of(False)) if len(at) >= 8]
    return float(min(found, default=np.inf))
