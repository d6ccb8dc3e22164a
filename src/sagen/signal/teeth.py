"""Teeth and turns from edge times: reference gap, tooth numbers, shaft angle and speed.

The wheel is found by counting, not by measuring: the reference gap returns after the same number of
teeth each turn, whatever the engine does to the speed in between. Only then are the spaces averaged
over the turns, place by place, to say how many slots each one spans.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from sagen.model.wheel import Wheel
from sagen.signal.edges import running_median

LONG = 1.5  #: a space this many times its neighbours' may be a gap
LIKE = 0.45  #: two gaps are alike when the logarithms of their lengths differ by less
MOST_LOST = 6  #: so many teeth may be gone from a turn before the wheel is no longer recognised
STILL = 8.0  #: a space beyond this many pitches is a standstill or an interruption, not a gap


@dataclass(frozen=True)
class Teeth:
    """One edge a tooth, numbered where the wheel's reference gap was found.

    All arrays have one entry a tooth but `spans`, which has one a space between teeth.
    """

    times: np.ndarray  #: s, the tooth's edge
    ratio: np.ndarray  #: length of the space after each tooth, in pitches of its neighbours; shape (n - 1,)
    spans: np.ndarray  #: slots from each tooth to the next, int; 0 across an interruption; shape (n - 1,)
    wheel: Wheel | None = None
    number: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: 1..slots, 0 where unknown
    turn: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: turn counted from the first gap
    anchors: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: which entries are tooth 1 after a gap
    whole: np.ndarray = field(
        default_factory=lambda: np.empty((0, 0), int)
    )  #: entries of each complete turn, a row each
    lost: dict[int, float] = field(default_factory=dict)  #: tooth number -> share of turns without it
    alike: float = 0.0  #: share of long spaces that return after one turn, 0 to 1

    @property
    def turns_seen(self) -> float:
        """Turns of the shaft in the capture, where the wheel is known."""
        return float(self.spans.sum()) / self.wheel.slots if self.wheel else 0.0

    def angle_deg(self) -> np.ndarray:
        """Angle of every tooth in degrees of the wheel's shaft, climbing from tooth 1 of turn 0."""
        pitch = self.wheel.pitch_deg if self.wheel else 0.0
        slots = self.wheel.slots if self.wheel else 1
        return (self.turn * slots + self.number - 1) * pitch

    def speed_rpm(self) -> np.ndarray:
        """Speed of the wheel's shaft from each tooth to the next, shape (n - 1,); NaN across interruptions."""
        if self.wheel is None:
            return np.full(max(len(self.times) - 1, 0), np.nan)
        spans = np.where(self.spans > 0, self.spans, np.nan)
        return 60.0 * spans / (self.wheel.slots * np.diff(self.times))


def read_teeth(times: np.ndarray, declared: Wheel | None = None) -> Teeth:
    """Find the wheel and number the teeth.

    Parameters
    ----------
    times : np.ndarray [shape=(n,)]
        one edge a tooth, s, climbing
    declared : Wheel or None
        what the sheet says; it decides only where the data leave a choice

    Returns
    -------
    Teeth
        with `wheel` None when no gap returns and none is declared.
    """
    spaces = np.diff(times)
    if len(spaces) < 3:
        return Teeth(times, np.ones(len(spaces)), np.ones(len(spaces), int))
    ratio = pitch_ratio(spaces)
    plain = Teeth(times, ratio, _rounded(ratio))
    long = (ratio >= LONG) & (ratio < max(STILL, 2 * (declared.missing + 2) if declared else 0))
    count, alike = _teeth_a_turn(ratio, long, declared)
    if count:
        return _numbered(plain, count, alike, long, declared)
    if declared is None:
        return plain
    if declared.missing == 0:
        return _even(plain, declared)
    return _single_gap(plain, long, declared)


def pitch_ratio(spaces: np.ndarray) -> np.ndarray:
    """Each space in units of the pitch around it, shape as given.

    The pitch is taken from the four nearest spaces on both sides (so that a steady change of speed
    cancels), after spaces that are whole multiples have been cut down to one pitch.
    """
    rough = running_median(spaces, 9)
    single = spaces / np.maximum(1, np.round(spaces / rough))
    for _ in range(2):
        around = _neighbours(single, 2)
        pitch = 0.5 * (around[1] + around[2])
        single = spaces / np.maximum(1, np.round(spaces / pitch))
    return spaces / pitch


def _neighbours(values: np.ndarray, reach: int) -> np.ndarray:
    """The `reach` values on both sides of each one, without it, sorted; shape (2 * reach, n)."""
    padded = np.pad(values, reach, mode="reflect" if len(values) > reach else "edge")
    columns = [padded[i : i + len(values)] for i in range(2 * reach + 1) if i != reach]
    return np.sort(np.stack(columns), axis=0)


def _rounded(ratio: np.ndarray) -> np.ndarray:
    spans = np.maximum(1, np.round(ratio)).astype(int)
    spans[ratio >= 3 * STILL] = 0
    return spans


def _teeth_a_turn(ratio: np.ndarray, long: np.ndarray, declared: Wheel | None) -> tuple[int, float]:
    """After how many teeth the long spaces return, and the share of them that do; (0, 0) if they do not."""
    at = np.flatnonzero(long)
    if len(at) < 2:
        return 0, 0.0
    apart = np.concatenate([at[step:] - at[:-step] for step in range(1, min(8, len(at)))])
    tried, often = np.unique(apart, return_counts=True)
    tried = tried[np.argsort(-often, kind="stable")][:24]
    if declared and declared.missing:
        expected = declared.slots - declared.missing
        tried = np.union1d(tried, np.arange(max(1, expected - MOST_LOST), expected + 1))
    scores = {int(one): _returning(ratio, long, int(one)) for one in tried if one < len(ratio)}
    if not scores:
        return 0, 0.0
    best = max(scores.values())
    if best < 0.3:
        return 0, 0.0
    if declared and declared.missing:
        # The declared count is believed unless another explains the long spaces clearly better.
        # Odd cylinder counts breathe anew only every second turn, so twice a count may look better than it.
        expected = declared.slots - declared.missing
        leader = max(scores, key=lambda one: (scores[one], -one))
        near = {one: score for one, score in scores.items() if expected - MOST_LOST <= one <= expected}
        for one in sorted(near, key=lambda one: (-near[one], -one)):
            if leader % one == 0:
                ease = 0.1 if one == expected else 0.3
            else:
                ease = 0.75 if one == expected else 0.9
            if near[one] >= ease * best:
                return one, near[one]
    count = min(one for one, score in scores.items() if score >= 0.85 * best)
    return count, scores[count]


def _returning(ratio: np.ndarray, long: np.ndarray, count: int) -> float:
    """Share of the long spaces that meet one alike `count` teeth later."""
    here, there = long[:-count], long[count:]
    either = np.count_nonzero(here | there)
    if not either:
        return 0.0
    both = here & there
    alike = np.abs(np.log(ratio[:-count][both] / ratio[count:][both])) < 0.75
    # One more in the count keeps a single chance meeting, far apart, from being taken for a turn.
    return float(np.count_nonzero(alike)) / (either + 0.5)


def _numbered(plain: Teeth, count: int, alike: float, long: np.ndarray, declared: Wheel | None) -> Teeth:
    """Number all teeth, given that the gaps return every `count` teeth."""
    log_ratio = np.log(plain.ratio)
    gaps = _chain_heads(log_ratio, long, count, declared)
    turns = gaps[:-1][np.diff(gaps) == count]
    # A row a turn: the entry of tooth 1 up to the last tooth before the next gap.
    whole = turns[:, None] + 1 + np.arange(count)
    profile = np.median(log_ratio[whole], axis=0) if len(whole) else None
    if profile is None:
        return _single_gap(plain, long, declared) if declared else plain
    wheel, spans_of_turn = _slots(profile, declared)
    spans = plain.spans.copy()
    spans[whole] = spans_of_turn
    spans[gaps] = spans_of_turn[-1]
    found = Wheel(wheel.slots, int(spans_of_turn[-1]) - 1)
    return _with_numbers(plain, spans, gaps + 1, whole, found, declared, alike)


def _chain_heads(log_ratio: np.ndarray, long: np.ndarray, count: int, declared: Wheel | None) -> np.ndarray:
    """Spaces that are the reference gap: of the classes of gaps that return, the one that fits best.

    A class is a set of spaces `count` teeth apart in unbroken sequence. The reference is the longest
    space, or, where a wheel is declared, the one nearest to its gap.
    """
    at = np.flatnonzero(long)
    order = np.lexsort((at, at % count))
    sorted_at = at[order]
    new = np.concatenate([[True], (np.diff(sorted_at) != count)])
    chain = np.cumsum(new) - 1
    length = np.bincount(chain)
    mean = np.bincount(chain, log_ratio[sorted_at]) / length
    first = sorted_at[new]
    if declared and declared.missing:
        off = np.abs(mean - np.log(declared.missing + 1))
        nearest = off[length > 1].min(initial=np.inf)
        # A lost tooth beside the gap makes it longer than declared, never shorter.
        fits = off <= nearest + 0.15 if nearest < LIKE else mean >= mean[length > 1].max(initial=0) - 0.3
    else:
        fits = mean >= mean[length > 1].max(initial=0.0) - 0.3
    chosen: list[np.ndarray] = []
    for index in np.lexsort((first, -length * fits)):
        if not fits[index] or length[index] < 2:
            break
        own = sorted_at[chain == index]
        # Chains that were broken by a lost or false edge follow one another; they never interleave.
        if all(own[-1] < other[0] - count // 2 or own[0] > other[-1] + count // 2 for other in chosen):
            chosen.append(own)
    return np.sort(np.concatenate(chosen)) if chosen else np.empty(0, int)


def _slots(profile: np.ndarray, declared: Wheel | None) -> tuple[Wheel, np.ndarray]:
    """How many slots each space of one turn spans. The last space of `profile` is the reference gap.

    Without a declared wheel each is rounded by itself. With one, the slots of a turn are known, and
    those beyond one a space are dealt out where the logarithm of the measured length gains most.
    """
    rounded = np.maximum(1, np.round(np.exp(profile))).astype(int)
    extra = declared.slots - len(profile) if declared and declared.missing else -1
    if not (declared and declared.missing <= extra <= declared.missing + MOST_LOST):
        if rounded[-1] < 2:
            rounded[-1] = 2
        return Wheel(int(rounded.sum()), int(rounded[-1]) - 1), rounded
    spans = np.ones(len(profile), int)
    for _ in range(extra):
        gain = (profile - np.log(spans)) ** 2 - (profile - np.log(spans + 1)) ** 2
        spans[int(np.argmax(gain))] += 1
    if spans[-1] < 2:
        return Wheel(int(rounded.sum()), max(1, int(rounded[-1]) - 1)), np.maximum(rounded, 1)
    if np.abs(profile - np.log(spans)).max() > 2 * LIKE:
        return Wheel(int(rounded.sum()), int(rounded[-1]) - 1), rounded
    return Wheel(declared.slots, int(spans[-1]) - 1), spans


def _with_numbers(
    plain: Teeth,
    spans: np.ndarray,
    anchors: np.ndarray,
    whole: np.ndarray,
    found: Wheel,
    declared: Wheel | None,
    alike: float,
) -> Teeth:
    """Number every tooth from the nearest gap, and say which numbers are missing how often."""
    slot = np.concatenate([[0], np.cumsum(spans)])
    entries = np.arange(len(plain.times))
    left = np.clip(np.searchsorted(anchors, entries, "right") - 1, 0, len(anchors) - 1)
    right = np.clip(left + 1, 0, len(anchors) - 1)
    from_left = slot - slot[anchors[left]]
    from_right = slot - slot[anchors[right]]
    nearest_left = (np.abs(from_left) <= np.abs(from_right)) | (right == left)
    offset = np.where(nearest_left, from_left, from_right)
    number = offset % found.slots + 1
    # Turns by time: whole turns between gaps, even if a few were lost in an interruption.
    laps = np.maximum(1, np.round(np.diff(slot[anchors]) / found.slots)).astype(int)
    turn_of_anchor = np.concatenate([[0], np.cumsum(laps)])
    turn = np.where(nearest_left, turn_of_anchor[left], turn_of_anchor[right]) + offset // found.slots
    missing = declared.missing if declared and declared.missing and declared.slots == found.slots else found.missing
    wheel = Wheel(found.slots, min(missing, found.missing))
    lost = _lost(number, spans, wheel)
    return Teeth(plain.times, plain.ratio, spans, wheel, number, turn, anchors, whole, lost, alike)


def _lost(number: np.ndarray, spans: np.ndarray, wheel: Wheel) -> dict[int, float]:
    """Tooth numbers that are skipped, with the share of their turns in which they are."""
    teeth = wheel.slots - wheel.missing
    seen = np.bincount(number[number <= teeth], minlength=teeth + 1)
    skipped = np.zeros(teeth + 1, int)
    # A longer space is an interruption, not a lost tooth.
    spans = np.where(spans > wheel.missing + 1 + MOST_LOST, 0, spans)
    for step in range(1, int(spans.max(initial=1))):
        over = number[:-1][spans > step] + step
        over = np.where(over > wheel.slots, over - wheel.slots, over)
        skipped += np.bincount(over[over <= teeth], minlength=teeth + 1)
    share = skipped / np.maximum(1, seen + skipped)
    return {int(one): float(share[one]) for one in np.flatnonzero(skipped)}


def _even(plain: Teeth, declared: Wheel) -> Teeth:
    """An even wheel has no first tooth: counting starts with the first one recorded."""
    slot = np.concatenate([[0], np.cumsum(plain.spans)])
    wheel = Wheel(declared.slots)
    starts = np.arange(0, len(plain.times) - wheel.slots + 1, wheel.slots)
    whole = starts[:, None] + np.arange(wheel.slots)
    # Only turns in which no tooth was skipped can be laid over one another.
    unbroken = slot[whole[:, -1]] - slot[whole[:, 0]] == wheel.slots - 1 if len(whole) else np.empty(0, bool)
    whole = whole[unbroken & (slot[whole[:, 0]] % wheel.slots == 0)] if len(whole) else np.empty((0, 0), int)
    return Teeth(plain.times, plain.ratio, plain.spans, wheel, slot % wheel.slots + 1, slot // wheel.slots, whole=whole)


def _single_gap(plain: Teeth, long: np.ndarray, declared: Wheel) -> Teeth:
    """Less than two turns: the space nearest to the declared gap is the reference, if one is."""
    at = np.flatnonzero(long)
    inner = at[(at >= 2) & (at < len(long) - 2)]
    if not len(inner):
        return Teeth(plain.times, plain.ratio, plain.spans, None)
    off = np.abs(np.log(plain.ratio[inner] / (declared.missing + 1)))
    if off.min() > LIKE:
        return plain
    gap = int(inner[off.argmin()])
    spans = plain.spans.copy()
    # At either end of the record the pitch is known from one side only; a start from rest is no gap.
    spans[:3] = np.where(spans[:3] > 0, 1, spans[:3])
    spans[-3:] = np.where(spans[-3:] > 0, 1, spans[-3:])
    spans[gap] = declared.missing + 1
    if spans.sum() > 2.5 * declared.slots:
        return plain
    return _with_numbers(plain, spans, np.array([gap + 1]), np.empty((0, 0), int), declared, declared, 0.0)
