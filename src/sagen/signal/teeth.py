"""Teeth and turns from edge times: reference gap, tooth numbers, shaft angle and speed.

Every edge is first given a slot: how many pitches have passed since the first one, with the pitch taken
from its neighbours so that the engine may breathe, speed up or start from rest, and with the rounding
held to the row of teeth as a whole so that one tooth out of place does not shift all that follow. The
wheel is then found by counting: the reference gap returns after the same number of slots each turn.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.model.wheel import MOST_SLOTS, Wheel
from sagen.signal.edges import median_of_five

LONG = 1.5  #: a space this many times its neighbours' may be a gap
MOST_LOST = 6  #: more teeth gone in a row than this is an interruption
STILL = 8.0  #: a space beyond this many pitches is a standstill or an interruption, not a gap
WIDE_REACH, WANDERS = 6, 0.1
HOLD = 8  #: teeth on each side that the rounding to slots is held to
CONFIRMED = 0.7  #: share of the turns in which a declared wheel's gap must be where it belongs
RETURNS = 0.5  #: share of the long spaces that must return after a turn for a wheel to be found
ALIKE = 0.65  #: two gaps may be one another's turn when their lengths' logarithms differ by less
SHORTER, LONGER = 0.75, 2.4  #: how far a gap's length may be off: ripple makes it shorter, lost teeth longer
UNSEEN = np.iinfo(np.int64).max  #: in `Teeth.whole`: this tooth was not seen in this turn


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
    #: entries of each turn, a row each, the teeth that the wheel has in order; UNSEEN where one was not seen
    whole: np.ndarray = field(default_factory=lambda: np.empty((0, 0), int))
    places: np.ndarray = field(default_factory=lambda: np.empty(0, int))  #: tooth number of each column of `whole`
    lost: dict[int, float] = field(default_factory=dict)  #: tooth number -> share of turns without it
    alike: float = 0.0  #: share of the turns in which the reference gap was where it belongs, 0 to 1: how sure

    @property
    def wanders(self) -> bool:
        """Whether the teeth stray from even spacing by more than an engine's breathing makes them."""
        return spread(self.ratio) > WANDERS

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
        one edge a tooth, s (or any measure that climbs with the turning), climbing
    declared : Wheel or None
        what the sheet says: believed where its gap shows up in `CONFIRMED` of the turns or more, else
        the data decide alone

    Returns
    -------
    Teeth
        with `wheel` None when no gap returns and none is declared.
    """
    spaces = np.diff(times)
    if len(spaces) < 3:
        return Teeth(times, np.ones(len(spaces)), np.ones(len(spaces), int))
    ratio = pitch_ratio(spaces)
    still = max(STILL, 2.0 * (declared.missing + 2) if declared else 0)
    # Two ways to count slots: each space by itself, and held to the row; the wheel shows which is right.
    alone = np.concatenate([[0], np.cumsum(np.maximum(1, np.round(np.minimum(ratio, 1e6)).astype(np.int64)))])
    rows = tuple(_Row(times, ratio, slot, still) for slot in (alone, slots_passed(ratio)))
    wanders = spread(ratio) > WANDERS
    fit = None
    if declared and declared.missing:
        row, fit = _best_fit(rows, declared, chained=wanders)
        better = _plainly_another(rows, row, declared, fit) if fit.confirmed >= CONFIRMED else None
        if better:
            return _numbered(*better)
        if fit.confirmed >= CONFIRMED:
            part = None if declared.others else _part_of_turn(row, declared, fit)
            return _numbered(row, *((_fit(row, part), part) if part else (fit, declared)))
    # Teeth that wander meet their like by chance: then the sheet is the better witness.
    found = None if wanders and declared else _find_wheel(rows)
    if found and not (declared and not declared.missing and found.slots == declared.slots):
        return _numbered(*_best_fit(rows, found), found)
    if declared and not declared.missing:
        return _numbered(*_even(rows, declared, found))
    if fit is not None and fit.confirmed >= 0.3:
        return _numbered(row, fit, declared)
    return Teeth(times, ratio, rows[int(wanders)].spans())


@dataclass(frozen=True)
class _Row:
    """A row of teeth before a wheel is laid on it."""

    times: np.ndarray
    ratio: np.ndarray
    slot: np.ndarray  #: pitches passed since the first tooth
    still: float

    def spans(self) -> np.ndarray:
        spans = np.maximum(1, np.diff(self.slot))
        spans[self.ratio >= 3 * self.still] = 0
        return spans

    def with_gaps(self, missing: int) -> _Row:
        """The row with every space that may be a gap of so many missing teeth taken for one: where the
        engine breathes strongly, the pitch beside a gap says little of the pitch within it."""
        length = missing + 1
        may_be = (self.ratio > SHORTER * length) & (self.ratio < length / SHORTER)
        spans = np.where(may_be, length, np.diff(self.slot))
        return replace(self, slot=np.concatenate([[0], np.cumsum(spans)]))

    def segment(self) -> np.ndarray:
        """Which unbroken stretch each tooth belongs to: across an interruption slots cannot be counted."""
        return np.concatenate([[0], np.cumsum(self.ratio >= self.still)])


@dataclass(frozen=True)
class _Fit:
    """A wheel laid on a row of teeth."""

    phase: np.ndarray  #: slot (mod slots) of tooth 1 for every tooth; -1 where its stretch shows no gap
    anchors: np.ndarray  #: entries that are tooth 1 behind a gap
    confirmed: float  #: share of the turns whose gap is where it belongs


def pitch_ratio(spaces: np.ndarray) -> np.ndarray:
    """Each space in units of the pitch around it, shape as given.

    The pitch is taken from the two nearest spaces on both sides (so that a steady change of speed
    cancels), after spaces that are whole multiples have been cut down to one pitch. Where the teeth
    wander from space to space, six on each side are needed for it.
    """
    rough = median_of_five(spaces)
    single = spaces / np.maximum(1, np.round(spaces / rough))
    for reach in (2, 2):
        pitch = _pitch_around(single, reach)
        single = spaces / np.maximum(1, np.round(spaces / pitch))
    if len(spaces) > 4 * WIDE_REACH and np.median(np.abs(np.log(single / pitch))) > WANDERS:
        pitch = _pitch_around(single, WIDE_REACH)
        single = spaces / np.maximum(1, np.round(spaces / pitch))
        pitch = _pitch_around(single, WIDE_REACH)
    return spaces / pitch


def _pitch_around(single: np.ndarray, reach: int) -> np.ndarray:
    """Mean of the middle half of the `reach` spaces on both sides of each one, itself left out."""
    padded = np.pad(single, reach, mode="reflect" if len(single) > reach else "edge")
    columns = [padded[i : i + len(single)] for i in range(2 * reach + 1) if i != reach]
    if reach == 2:
        a, b, c, d = columns
        return 0.5 * (a + b + c + d - np.maximum(np.maximum(a, b), np.maximum(c, d)) - np.minimum(np.minimum(a, b), np.minimum(c, d)))  # fmt: skip
    return np.sort(np.stack(columns), axis=0)[reach // 2 : 2 * reach - reach // 2].mean(axis=0)


def spread(ratio: np.ndarray) -> float:
    """How far spaces stray from even: the median of the logarithm of their length in pitches."""
    return float(np.median(np.abs(np.log(np.maximum(ratio, 1e-3))))) if len(ratio) > 3 else 0.0


def slots_passed(ratio: np.ndarray) -> np.ndarray:
    """Pitches passed since the first tooth, int, shape (n + 1,).

    The running sum of the spaces (in pitches) is rounded against its own mean fraction over the teeth
    around, so that a tooth out of place moves only itself.
    """
    passed = np.concatenate([[0.0], np.cumsum(np.minimum(ratio, 1e6))])
    wheel = np.exp(2j * np.pi * passed)
    total = np.cumsum(np.pad(wheel, (HOLD + 1, HOLD), mode="edge"))
    around = total[2 * HOLD + 1 :] - total[: -2 * HOLD - 1]
    drift = np.unwrap(np.angle(around)) / (2 * np.pi)
    slot = np.round(passed - drift).astype(np.int64)
    return np.maximum.accumulate(slot - slot[0])


def _best_fit(rows: tuple[_Row, ...], wheel: Wheel, *, chained: bool = False) -> tuple[_Row, _Fit]:
    """The best of several fits: slots as counted, with likely gaps taken for the wheel's own, and, where
    those half succeed or the teeth wander, with slots dealt out anew between the gaps."""
    tried = [(one, _fit(one, wheel)) for row in rows for one in (row, row.with_gaps(wheel.missing))]
    best = max(tried, key=lambda both: both[1].confirmed)
    if best[1].confirmed < CONFIRMED and (chained or best[1].confirmed > 0.25):
        best = max(best, *(_chained(one, wheel) for one in rows), key=lambda both: both[1].confirmed)
    return best


def _fit(row: _Row, wheel: Wheel) -> _Fit:
    """Lay a wheel with a gap on the row: in each unbroken stretch, the phase that most of its gaps share."""
    length = wheel.missing + 1
    gap = np.flatnonzero((row.ratio >= SHORTER * length) & (row.ratio < min(LONGER * length, row.still)))
    gap = gap[(gap >= 1) & (gap < len(row.ratio) - 1)]
    segment = row.segment()
    phase = np.full(len(row.times), -1, np.int64)
    anchors, hits, expected = [np.empty(0, np.int64)], 0, 0
    at = row.slot[gap + 1] % wheel.slots
    for one in range(int(segment[-1]) + 1):
        own = gap[(segment[gap] == one) & (segment[gap + 1] == one)]
        first, last = np.searchsorted(segment, one), np.searchsorted(segment, one, "right") - 1
        turns = (row.slot[last] - row.slot[first]) // wheel.slots
        if not len(own):
            expected += turns
            continue
        phases = at[np.searchsorted(gap, own)]
        votes = np.bincount(phases, minlength=wheel.slots).astype(float)
        off = np.bincount(phases, np.abs(np.log(row.ratio[own] / length)), minlength=wheel.slots)
        alone = votes.copy()
        for other in wheel.others:
            # Where the wheel has several gaps, the reference is the one that has the others at their places.
            if (other + 1) not in wheel.others:
                votes += 0.5 * np.roll(alone, -other)
        # Of phases seen equally often the one whose gap has the declared length is the reference.
        best = int(np.argmax(votes - off))
        phase[first : last + 1] = best
        anchors.append(own[phases == best] + 1)
        hits += int(alone[best])
        expected += max(turns, int(alone[best]))
    return _Fit(phase, np.concatenate(anchors), hits / expected if expected else 0.0)


def _chained(row: _Row, wheel: Wheel) -> tuple[_Row, _Fit]:
    """Lay a declared wheel on teeth that wander so much that slots are miscounted: the longest chain of
    gaps about a turn apart, between which the slots are dealt out anew. Only where a turn then has, in
    the median, the declared number of slots to within one."""
    length = wheel.missing + 1
    gap = np.flatnonzero((row.ratio >= 0.6 * length) & (row.ratio < min(LONGER * length, row.still)))[:1500]
    at = row.slot[gap + 1]
    none = row, _Fit(np.full(len(row.times), -1, np.int64), np.empty(0, np.int64), 0.0)
    if len(gap) < 3:
        return none
    weight = 1.0 - 0.8 * np.abs(np.log(row.ratio[gap] / length))
    score, before = weight.copy(), np.full(len(gap), -1)
    for one in range(1, len(gap)):
        turns = (at[one] - at[:one]) / wheel.slots
        fits = np.abs(turns - 1) < 0.09
        if fits.any():
            best = int(np.argmax(np.where(fits, score[:one] - 4 * np.abs(turns - 1), -np.inf)))
            score[one] += score[best]
            before[one] = best
    chain = [int(score.argmax())]
    while before[chain[-1]] >= 0:
        chain.append(int(before[chain[-1]]))
    chain = np.array(chain[::-1])
    turns = (row.slot[-1] - row.slot[0]) // wheel.slots
    if len(chain) < 3 or abs(float(np.median(np.diff(at[chain]))) - wheel.slots) > 1.0:
        return none
    anchors = gap[chain] + 1
    slot = row.slot.copy()
    for one, (first, last) in enumerate(itertools.pairwise(anchors)):
        inside = row.slot[first : last + 1] - row.slot[first]
        slot[first : last + 1] = np.round(inside * wheel.slots / inside[-1]) + (one + 1) * wheel.slots
    slot[: anchors[0]] = row.slot[: anchors[0]] - row.slot[anchors[0]] + wheel.slots
    slot[anchors[-1] :] = row.slot[anchors[-1] :] - row.slot[anchors[-1]] + slot[anchors[-1]]
    fit = _Fit(np.zeros(len(row.times), np.int64), anchors, len(chain) / max(turns, len(chain)))
    return replace(row, slot=slot), fit


def _plainly_another(rows: tuple[_Row, ...], row: _Row, declared: Wheel, fit: _Fit) -> tuple | None:
    """Another wheel than the declared one, with the row it lies on and its fit, that explains all the gaps, where the declared one leaves many: in a
    short capture the gaps of a 24-1 wheel fall in with those of a 36-1 wheel every third turn."""
    gaps = np.count_nonzero((row.ratio >= LONG) & (row.ratio < row.still))
    if declared.others or gaps < 1.3 * len(fit.anchors):
        return None
    found = _find_wheel(rows)
    if found is None or not found.missing or (declared.missing == 1 and 2 * found.slots == declared.slots):
        return None
    on, other = _best_fit(rows, found)
    return (on, other, found) if other.confirmed > 0.9 and len(other.anchors) >= 0.9 * gaps else None


def _part_of_turn(row: _Row, declared: Wheel, fit: _Fit) -> Wheel | None:
    """A wheel of half or a third of the slots, where the same gap stands there in every part of the turn.

    Half a wheel with one tooth missing looks like the whole one with the tooth opposite its gap lost too; a lost
    tooth is far the likelier (common practice, no published source).
    """
    if len(fit.anchors) < 3:
        return None
    for parts in (3, 4) if declared.missing == 1 else (2, 3, 4):
        if declared.slots % parts == 0 and declared.slots // parts > 2 * declared.missing + 2:
            smaller = Wheel(declared.slots // parts, declared.missing)
            other = _fit(row, smaller)
            if other.confirmed > 0.9 and len(other.anchors) > (parts - 0.5) * (len(fit.anchors) - 1):
                return smaller
    return None


def _find_wheel(rows: tuple[_Row, ...]) -> Wheel | None:
    """The wheel from the data alone: after how many teeth, or slots, the long spaces return.

    Teeth are counted first: their number does not depend on how a gap is rounded. Where single teeth
    are missed here and there, slots still count up.
    """
    row = rows[-1]
    long = np.flatnonzero((row.ratio >= LONG) & (row.ratio < row.still))
    long = long[(long >= 2) & (long < len(row.ratio) - 2)][:4000]
    if len(long) < 2:
        return None
    by_teeth = _period(row.ratio[long], long, len(row.ratio))
    by_slots = _period(row.ratio[long], row.slot[long + 1], row.slot[-1])
    if max(by_teeth[1], by_slots[1]) < RETURNS:
        return None
    if by_teeth[1] >= by_slots[1] - 0.1:
        return _wheel_of_count(row, long, by_teeth[0])
    slots = by_slots[0]
    return _with_longest(row.ratio[long], row.slot[long + 1] % slots, slots)


def _period(ratio: np.ndarray, at: np.ndarray, end: int) -> tuple[int, float]:
    """The smallest distance after which the long spaces at `at` return, and the share that do."""
    apart = np.concatenate([at[step:] - at[:-step] for step in range(1, min(10, len(at)))])
    apart = apart[(apart > 2) & (apart <= MOST_SLOTS)]
    tried, often = np.unique(apart, return_counts=True)
    tried = tried[np.argsort(-often, kind="stable")][:40]
    scores = {}
    for one in tried:
        there = np.minimum(np.searchsorted(at, at + one), len(at) - 1)
        room = at + one < end
        alike = (at[there] == at + one) & (np.abs(np.log(ratio / ratio[there])) < ALIKE)
        # One more in the count keeps a single chance meeting, far apart, from being taken for a turn.
        met = np.count_nonzero(alike & room)
        scores[int(one)] = met / (np.count_nonzero(room) + 0.5) if met > 1 or len(at) < 4 else 0.0
    best = max(scores.values(), default=0.0)
    return min((one for one, score in scores.items() if score >= 0.85 * best), default=0), best


def _wheel_of_count(row: _Row, long: np.ndarray, count: int) -> Wheel | None:
    """The wheel whose gaps return every `count` teeth: each place's length is its median over the turns."""
    place = long % count
    votes = np.bincount(place, minlength=count)
    turns = max(1, len(row.ratio) // count)
    often = np.flatnonzero(votes >= max(2, 0.5 * min(turns, int(votes.max()))))
    if not len(often):
        return None
    length = {int(one): float(np.exp(np.median(np.log(row.ratio[long[place == one]])))) for one in often}
    spans = {one: max(2, round(value)) for one, value in length.items()}
    reference = max(length, key=length.get)
    rest = count + sum(one - 1 for place, one in spans.items() if place != reference)
    return _rounder(rest, length[reference])


def _rounder(rest: int, gap: float) -> Wheel:
    """The wheel whose slots, all but the reference gap's own, are `rest`, with a gap measured as so many pitches.

    Where compression leaves the gap between two whole numbers, a count of slots that divides a turn evenly
    is the likelier: wheels are made in sixes and fours (common practice, no published source).
    """
    nearest = max(2, round(gap))
    tried = [one for one in (nearest, nearest + 1, nearest - 1) if one >= 2 and abs(one - gap) < 0.8]
    even = [one for one in tried if (rest + one - 1) % 6 == 0] or [one for one in tried if (rest + one - 1) % 4 == 0]
    chosen = nearest if abs(nearest - gap) < 0.2 or nearest in even or not even else even[0]
    return Wheel(min(MOST_SLOTS, rest + chosen - 1), chosen - 1)


def _with_longest(ratio: np.ndarray, phase: np.ndarray, slots: int) -> Wheel | None:
    votes = np.bincount(phase, minlength=slots)
    length = np.bincount(phase, np.log(ratio), minlength=slots) / np.maximum(votes, 1)
    often = votes >= max(2, 0.6 * votes.max())
    if not often.any():
        return None
    # The reference is the longest of the gaps that return.
    gap = round(float(np.exp(length[often].max())))
    return Wheel(slots, int(np.clip(gap - 1, 1, slots - 1)))


def _even(rows: tuple[_Row, ...], declared: Wheel, found: Wheel | None) -> tuple[_Row, _Fit, Wheel]:
    """An even wheel has no first tooth: counting starts with the first one recorded, or, where a tooth is
    lost every turn, behind that."""
    none = np.empty(0, np.int64)
    if found is not None:
        row, lost = _best_fit(rows, found)
        return row, _Fit(np.where(lost.phase < 0, 0, lost.phase), none, lost.confirmed), declared
    return rows[0], _Fit(np.zeros(len(rows[0].times), np.int64), none, 1.0), declared


def _numbered(row: _Row, fit: _Fit, wheel: Wheel) -> Teeth:
    """Number all teeth, and say which numbers are missing how often."""
    spans, known = row.spans(), fit.phase >= 0
    behind = row.slot - np.maximum(fit.phase, 0)
    number = np.where(known, behind % wheel.slots + 1, 0)
    turn = behind // wheel.slots
    # A turn that begins anew behind an interruption is another turn.
    broken = np.concatenate([[0], np.cumsum((row.ratio >= row.still) & (np.diff(fit.phase) != 0))])
    turn = turn + broken
    turn = turn - (turn[fit.anchors[0]] if len(fit.anchors) else 0)
    teeth = Teeth(row.times, row.ratio, spans, wheel, number, turn, fit.anchors, alike=fit.confirmed)
    lost = _lost(teeth)
    whole, places = _whole_turns(teeth, lost)
    return Teeth(
        row.times, row.ratio, spans, wheel, number, turn, fit.anchors, whole, places, lost, fit.confirmed
    )  # fmt: skip


def _lost(teeth: Teeth) -> dict[int, float]:
    """Tooth numbers that are skipped, with the share of their turns in which they are."""
    wheel, number, spans = teeth.wheel, teeth.number, teeth.spans
    last = wheel.slots - wheel.missing
    real = (number >= 1) & (number <= last)
    seen = np.bincount(number[real], minlength=last + 1)
    skipped = np.zeros(last + 1, int)
    # A longer space is an interruption, not a lost tooth.
    spans = np.where((spans > wheel.missing + 1 + MOST_LOST) | (number[:-1] == 0), 0, spans)
    for step in range(1, int(spans.max(initial=1))):
        over = number[:-1][spans > step] + step
        over = np.where(over > wheel.slots, over - wheel.slots, over)
        skipped += np.bincount(over[over <= last], minlength=last + 1)
    share = skipped / np.maximum(1, seen + skipped)
    return {int(one): float(share[one]) for one in np.flatnonzero(skipped) if int(one) not in wheel.others}


def _whole_turns(teeth: Teeth, lost: dict[int, float]) -> tuple[np.ndarray, np.ndarray]:
    """A row a turn with the entries of its teeth, and which tooth each column is. Turns less than 80 %
    seen are left out."""
    wheel = teeth.wheel
    places = np.array(
        [n for n in range(1, wheel.slots - wheel.missing + 1) if lost.get(n, 0.0) <= 0.5 and n not in wheel.others], int
    )
    column = np.full(wheel.slots + 1, -1)
    column[places] = np.arange(len(places))
    there = np.flatnonzero(column[teeth.number] >= 0)
    if not len(there) or not len(places):
        return np.empty((0, 0), int), places
    turn = teeth.turn[there] - teeth.turn[there].min()
    if turn[-1] > 4 * len(there):
        return np.empty((0, 0), int), places
    rows = np.full((int(turn.max()) + 1, len(places)), UNSEEN)
    rows[turn, column[teeth.number[there]]] = there
    return rows[(rows != UNSEEN).mean(axis=1) > 0.8], places
