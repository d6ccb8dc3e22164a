"""Which wheel a row of teeth is of: declared, or found from where its gap returns.

The wheel is found by counting: the reference gap returns after the same number of slots each turn.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from sagen.model.wheel import MOST_SLOTS, Wheel
from sagen.signal.fold import Laid, explain, pattern, sensible
from sagen.signal.limits import limits
from sagen.signal.slots import (
    UNKNOWN,
    WANDERS,
    Teeth,
    broken,
    lengths,
    lost_teeth,
    pace_around,
    pitch_ratio,
    slots_passed,
    spread,
    still_beyond,
    whole_turns,
)

_LIMIT = limits("wheel")
NONE = np.empty(0)
STRAYS, MISSED = 0.35, 0.6  #: how far the logarithm of a space strays where teeth are missed; what each one costs
#: logarithm of how much longer than the wheel's longest space one is in which teeth did not come, and how many such there may be
LOST_BEYOND, MOST_LOSSES = 0.5, 12
MOST_SHIFT = 6  #: by how many teeth a turn may hold more or fewer than the wheel has
LONG = 1.5  #: a space this many times its neighbours' may be a gap
CONFIRMED = 0.7  #: share of the turns in which a declared wheel's gap must be where it belongs
RETURNS = 0.5  #: share of the long spaces that must return after a turn for a wheel to be found
ALIKE = 0.65  #: two gaps may be one another's turn when their lengths' logarithms differ by less
SLOW_GAP = 1.6  #: how much longer than a standstill beside like spaces one has to be against the pace: a gap in a slow compression is none
SHORTER, LONGER = 0.75, 2.4  #: how far a gap's length may be off: ripple makes it shorter, lost teeth longer


def read_teeth(times: np.ndarray, declared: Wheel | None = None, breaks: np.ndarray = NONE) -> Teeth:
    """Find the wheel and number the teeth.

    Parameters
    ----------
    times : np.ndarray [shape=(n,)]
        one edge a tooth, s (or any measure that climbs with the turning), climbing
    declared : Wheel or None
        what the sheet says: believed until the teeth disprove it
    breaks : np.ndarray
        times at which nothing was recorded: no slots are counted across them

    Returns
    -------
    Teeth
        with `wheel` None when no gap returns and none is declared.
    """
    spaces = np.diff(times)
    if len(spaces) < 3:
        return Teeth(times, np.ones(len(spaces)), np.ones(len(spaces), int))
    ratio = broken(pitch_ratio(spaces), times, breaks)
    still = still_beyond(declared)
    counted = _counted(times, ratio, still, declared, breaks)
    return counted if counted is not None else _by_slots(times, ratio, still, declared)


def _counted(
    times: np.ndarray, ratio: np.ndarray, still: float, declared: Wheel | None, breaks: np.ndarray
) -> Teeth | None:
    """The teeth numbered by counting them from gap to gap; None where their count does not return."""
    row = _Row(times, ratio, np.arange(len(times)), still)
    segment = row.segment()
    borders = np.flatnonzero(np.diff(segment)) + 1
    starts, stops = np.concatenate([[0], borders]), np.concatenate([borders, [len(times)]])
    longest = int(np.argmax(stops - starts))
    part = slice(int(starts[longest]), int(stops[longest]) - 1)
    laid = explain(ratio[part], np.diff(times)[part], declared)
    if laid is None and len(starts) > 1:
        # An engine that nearly stalls in a compression cuts the row into turns, but as many teeth pass in each.
        holes = np.flatnonzero(ratio >= UNKNOWN) + 1
        begin, end = np.concatenate([[0], holes]), np.concatenate([holes, [len(times)]])
        longest = int(np.argmax(end - begin))
        whole = slice(int(begin[longest]), int(end[longest]) - 1)
        laid = explain(ratio[whole], np.diff(times)[whole], declared)
        if laid is not None:
            starts, stops, part = begin, end, whole
    returned = laid is not None
    if not returned:
        if declared is None or not declared.missing:
            return None
        # Teeth that are missed or doubled here and there: the stated wheel, followed from gap to gap.
        laid = Laid(declared, np.array(pattern(declared)), -1)
    if laid.extra is not None:
        return _without_extra(times, ratio, still, declared, laid, part.start, breaks)
    slot, anchors, phase, even = np.zeros(len(times), np.int64), [], np.full(len(times), -1, np.int64), [0, 0]
    doubled: list[int] = []
    for first, last in zip(starts, stops, strict=True):
        marks = _marks(
            ratio[first : last - 1], laid, laid.first if first == part.start and returned else None, follow=not returned
        )
        if marks is None:
            slot[first:last] = slot[first - 1] + 1 + np.arange(last - first) if first else np.arange(last - first)
            continue
        if returned:
            doubled += [first + item for item in _doubled(np.diff(times)[first : last - 1], marks, laid)]
        slot[first:last], good = _dealt(ratio[first : last - 1], marks, laid)
        # Each stretch begins with a turn of its own.
        if first:
            slot[first:last] += (slot[first - 1] // laid.wheel.slots + 2) * laid.wheel.slots
        phase[first:last] = 0
        anchors.append(first + marks[(marks > 0) & (marks < last - first)])
        even = [even[0] + good, even[1] + max(len(marks) - 1, 0)]
    if doubled and len(doubled) < 0.7 * max(even[1], 1):
        return _without(times, np.isin(np.arange(len(times)), doubled), declared, breaks)
    anchors = np.concatenate(anchors) if anchors else np.empty(0, np.int64)
    least = 1.2 if returned else SHORTER * (laid.wheel.missing + 1)
    alike = float(np.mean(ratio[anchors - 1] > least)) if len(anchors) else 1.0
    if returned and even[1] and even[0] < (1 - _LIMIT.slips) * even[1]:
        return None
    if not returned and (len(anchors) < 3 or alike < CONFIRMED):
        return None
    row = replace(row, slot=slot)
    if declared is not None and not declared.missing and laid.wheel.slots == declared.slots:
        # An even wheel has no reference gap: teeth are counted from the one behind the space that is too long.
        return _numbered(row, _Fit(np.maximum(phase, 0), np.empty(0, np.int64), alike), declared)
    return _numbered(row, _Fit(phase, anchors, alike), laid.wheel)


def _without_extra(times, ratio, still, declared, laid: Laid, start: int, breaks: np.ndarray) -> Teeth:
    """The row without the pulse too many of every turn."""
    place = (np.arange(len(times)) - start - laid.first) % (laid.count + 1)
    extra = place == laid.extra
    return _without(times, extra, declared, breaks) if extra.any() else _by_slots(times, ratio, still, declared)


def _without(times: np.ndarray, extra: np.ndarray, declared: Wheel | None, breaks: np.ndarray) -> Teeth:
    """The row read again without the pulses that are no teeth, which are kept beside it."""
    again = read_teeth(times[~extra], declared, breaks)
    return replace(again, between=np.sort(np.concatenate([again.between, times[extra]])))


def _marks(ratio: np.ndarray, laid: Laid, first: int | None, *, follow: bool = False) -> np.ndarray | None:
    """Which teeth of a stretch are tooth 1, gaps before and behind the stretch not among them; None where the stretch is too
    short to tell. Where teeth did not come for a while the count begins anew behind them."""
    plain = _marks_between(ratio, laid, first, follow=follow)
    lost = np.flatnonzero(lengths(ratio) > np.log(laid.spans.max()) + LOST_BEYOND)
    # What comes again after whole turns is the reference gap, which a deep compression makes as long.
    apart = np.abs(lost[:, None] - lost)
    lost = lost[~((apart > 0) & (apart % laid.count == 0)).any(axis=1)]
    if follow or not len(lost) or len(lost) > MOST_LOSSES:
        return plain
    begins, ends = np.concatenate([[0], lost + 1]), np.concatenate([lost, [len(ratio)]])
    found = []
    for begin, end in zip(begins, ends, strict=True):
        if end - begin < laid.count:
            continue  # teeth are counted on from what stands before
        # Where tooth 1 lay in the folded row is of the row before or behind the loss: each part tells by itself.
        marks = _marks_between(ratio[begin:end], laid, None)
        if marks is not None:
            least = -laid.count if not begin else -1
            found.append(begin + marks[(marks > least) & (marks <= end - begin - (end < len(ratio)))])
    joined = np.concatenate(found) if found else np.empty(0, np.int64)
    # Two counts that meet too closely are none: the row is then followed as a whole.
    if len(joined) < 2 or np.diff(joined).min(initial=laid.count) < 1:
        return plain
    return joined


def _marks_between(ratio: np.ndarray, laid: Laid, first: int | None, *, follow: bool = False) -> np.ndarray | None:
    """Which teeth are tooth 1 where all teeth come, or are missed or doubled here and there."""
    count, spans = laid.count, np.log(laid.spans.astype(float))
    logs = lengths(ratio)
    if len(logs) < 2:
        return None
    if first is None and len(logs) < 2 * count:
        # In a short stretch the shaft's own slowing at either end is no gap.
        logs[:2] = logs[-2:] = 0.0
    # A turn lies between two gaps: both ends tell where it is.
    turn = np.concatenate([spans[-1:], spans])
    weights = turn - spans.mean()
    # How well a turn that begins at each tooth lies on the wheel; turns that reach over the ends count what is seen.
    padded = np.concatenate([np.zeros(count + 1), logs, np.zeros(count)])
    fits = np.correlate(padded, weights, "valid")  # entry k: a turn that begins at tooth k - count
    whole = float(weights @ turn)
    if follow:
        return _best_chain(logs, fits / max(whole, 1e-9), laid)
    if first is None:
        votes = np.bincount(np.arange(len(fits)) % count, fits, minlength=count)
        first = int(votes.argmax())
        if votes[first] < 0.4 * whole:
            return None
    turns = np.arange(first % count, len(fits), count)
    if len(turns) < 2:
        return None
    near = min(3, max(1, count // 4))
    around = fits[np.clip(turns[:, None] + np.arange(-near, near + 1), 0, len(fits) - 1)]
    # Another count of teeth in a turn shifts all that follow: only then is each turn looked for anew.
    if (around.max(axis=1) > around[:, near] + 0.3 * whole).any():
        turns = _followed(fits, count, whole)
    marks = turns - count
    return marks[(marks > -count) & (marks <= len(logs))]


def _best_chain(logs: np.ndarray, fits: np.ndarray, laid: Laid) -> np.ndarray | None:
    """The likeliest row of turns where teeth are missed or doubled here and there: dynamic programming over which teeth
    are tooth 1, each by the space before it, and how many more or fewer teeth than the wheel has lie between two."""
    count, gap = laid.count, np.log(float(laid.spans[-1]))
    shift = _most_shift(count)
    if len(logs) < count + shift + 2:
        return None
    if laid.wheel.others:
        gain = 6.0 * fits[count : count + len(logs) + 1]
    else:
        gain = np.concatenate([[0.0], np.clip((logs**2 - (logs - gap) ** 2) / (2 * STRAYS**2), -3.0, 3.0)])
    back = count + np.arange(shift, -shift - 1, -1)
    cost = MISSED * np.abs(back - count)
    best, before = gain.copy(), np.full(len(gain), -1)
    for index in range(count - shift, len(gain)):
        there = index - back
        score = np.where(there >= 0, best[np.maximum(there, 0)], -np.inf) - cost
        chosen = int(np.argmax(score))
        if score[chosen] > -np.inf and (score[chosen] > 0 or index > count + shift):
            best[index] += score[chosen]
            before[index] = there[chosen]
    last = len(gain) - count - shift + int(np.argmax(best[len(gain) - count - shift :]))
    chain = [last]
    while before[chain[-1]] >= 0:
        chain.append(int(before[chain[-1]]))
    return np.array(chain[::-1]) if len(chain) >= 3 else None


def _most_shift(count: int) -> int:
    """By how many teeth a turn may hold more or fewer, so that the next one still lies ahead."""
    return min(MOST_SHIFT, max(1, count // 4), count - 1)


def _followed(fits: np.ndarray, count: int, whole: float) -> np.ndarray:
    """Turn for turn: the next one begins where it fits best, as many teeth on as the wheel has or a few more or less."""
    best = int(np.argmax(fits))
    shift = _most_shift(count)
    offsets = np.arange(-shift, shift + 1)
    cost = 0.12 * whole * np.abs(offsets)
    out = [best]
    for way in (1, -1):
        now = best
        while True:
            there = now + way * (count + offsets)
            inside = (there >= 0) & (there < len(fits))
            if not inside.any() or not 0 <= now + way * count < len(fits):
                break
            gain = np.where(inside, fits[np.clip(there, 0, len(fits) - 1)] - cost, -np.inf)
            now = int(there[int(np.argmax(gain))])
            out.append(now)
    return np.array(sorted(out))


def _doubled(spaces: np.ndarray, marks: np.ndarray, laid: Laid) -> list[int]:
    """In turns with one tooth more than the wheel has, the tooth without which the two spaces beside it are one."""
    found = []
    for begin, end in itertools.pairwise(marks):
        if end - begin != laid.count + 1 or begin < 1 or end >= len(spaces):
            continue
        inside = spaces[begin - 1 : end + 1]
        pitch = float(np.median(inside))
        shorter = np.minimum(inside[:-1], inside[1:])
        both = inside[:-1] + inside[1:]
        fits = np.where((both > 0.6 * pitch) & (both < 1.5 * pitch), shorter, np.inf)
        if np.isfinite(fits.min()) and fits.min() < 0.75 * pitch:
            found.append(int(begin + np.argmin(fits)))
    return found


def _dealt(ratio: np.ndarray, marks: np.ndarray, laid: Laid) -> tuple[np.ndarray, int]:
    """The slot of every tooth of a stretch, whole turns at the marks, and how many turns hold the wheel's own count."""
    slots, count = laid.wheel.slots, laid.count
    turned = int(laid.spans.sum())
    along = np.concatenate([[0], np.cumsum(laid.spans)])
    teeth = len(ratio) + 1
    slot = np.zeros(teeth, np.int64)
    alone = np.maximum(1, np.round(np.minimum(ratio, 1e6)).astype(np.int64))
    # Before the first mark and behind the last one teeth are counted on the wheel.
    first = int(marks[0])
    head = np.arange(max(0, min(first, teeth)))
    behind = head - first
    slot[: len(head)] = turned * (behind // count) + along[behind % count]
    # Every tooth behind the last mark before it, on the wheel; only turns that hold another count are dealt out anew.
    at = np.arange(max(first, 0), teeth)
    lasts = np.diff(marks)
    good = int((lasts == count).sum())
    # Between two marks lies one turn, or more where teeth did not come and no gap was seen.
    passed = np.ones(len(lasts), np.int64)
    for index in np.flatnonzero((lasts != count) & (marks[:-1] >= 0) & (marks[1:] <= len(ratio))):
        passed[index] = max(1, round(float(alone[marks[index] : marks[index + 1]].sum()) / turned))
    before = turned * np.concatenate([[0], np.cumsum(passed)])
    turn = np.searchsorted(marks, at, "right") - 1
    steps = at - marks[turn]
    slot[at] = before[turn] + turned * (steps // count) + along[steps % count]
    for index in np.flatnonzero((lasts != count) & (marks[:-1] >= 0) & (marks[1:] <= len(ratio))):
        begin, end = int(marks[index]), int(marks[index + 1])
        inside = np.concatenate([[0], np.cumsum(alone[begin : end - 1])])
        whole, due = inside[-1] + alone[end - 1], passed[index] * turned
        place = inside if whole == due else np.round(inside * (due / whole)).astype(np.int64)
        slot[begin:end] = before[index] + place
    slot = np.maximum.accumulate(slot)
    return slot - slot[0] + (slot[0] % slots), good


def _by_slots(times: np.ndarray, ratio: np.ndarray, still: float, declared: Wheel | None) -> Teeth:
    """The teeth numbered by counting slots, each space by its own length: where teeth are missed here and there."""
    # Two ways to count slots: each space by itself, and held to the row; the wheel shows which is right.
    alone = np.concatenate([[0], np.cumsum(np.maximum(1, np.round(np.minimum(ratio, 1e6)).astype(np.int64)))])
    rows = tuple(_Row(times, ratio, slot, still) for slot in (alone, slots_passed(ratio)))
    wanders = spread(ratio) > WANDERS
    fit = None
    if declared and declared.missing:
        row, fit = _best_fit(rows, declared, chained=wanders)
        if fit.confirmed >= CONFIRMED:
            return _numbered(row, fit, declared)
    # Teeth that wander meet their like by chance: then the sheet is the better witness.
    found = None if wanders and declared else _find_wheel(rows)
    if found and not sensible(found, declared):
        found = None
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
        return np.concatenate([[0], np.cumsum(self.stands)])

    @cached_property
    def stands(self) -> np.ndarray:
        """Spaces in which the shaft stood, or nothing was seen of it, shape (n - 1,): far longer than their neighbours,
        or, where it rocked before and behind, than the pace around them."""
        spaces = np.diff(self.times)
        return (self.ratio >= self.still) | (spaces >= SLOW_GAP * self.still * pace_around(spaces))


@dataclass(frozen=True)
class _Fit:
    """A wheel laid on a row of teeth."""

    phase: np.ndarray  #: slot (mod slots) of tooth 1 for every tooth; -1 where its stretch shows no gap
    anchors: np.ndarray  #: entries that are tooth 1 behind a gap
    confirmed: float  #: share of the turns whose gap is where it belongs


def _best_fit(rows: tuple[_Row, ...], wheel: Wheel, *, chained: bool = False) -> tuple[_Row, _Fit]:
    """The best of several fits: slots as counted, with likely gaps taken for the wheel's own, and, where
    those half succeed or the teeth wander, with slots dealt out anew between the gaps."""
    tried = [(item, _fit(item, wheel)) for row in rows for item in (row, row.with_gaps(wheel.missing))]
    best = max(tried, key=lambda both: both[1].confirmed)
    if best[1].confirmed < CONFIRMED and (chained or best[1].confirmed > 0.25):
        best = max(best, *(_chained(row, wheel) for row in rows), key=lambda both: both[1].confirmed)
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
    for index in range(int(segment[-1]) + 1):
        own = gap[(segment[gap] == index) & (segment[gap + 1] == index)]
        first, last = np.searchsorted(segment, index), np.searchsorted(segment, index, "right") - 1
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
    for index in range(1, len(gap)):
        turns = (at[index] - at[:index]) / wheel.slots
        fits = np.abs(turns - 1) < 0.09
        if fits.any():
            best = int(np.argmax(np.where(fits, score[:index] - 4 * np.abs(turns - 1), -np.inf)))
            score[index] += score[best]
            before[index] = best
    chain = [int(score.argmax())]
    while before[chain[-1]] >= 0:
        chain.append(int(before[chain[-1]]))
    chain = np.array(chain[::-1])
    turns = (row.slot[-1] - row.slot[0]) // wheel.slots
    if len(chain) < 3 or abs(float(np.median(np.diff(at[chain]))) - wheel.slots) > 1.0:
        return none
    anchors = gap[chain] + 1
    slot = row.slot.copy()
    for this_index, (first, last) in enumerate(itertools.pairwise(anchors)):
        inside = row.slot[first : last + 1] - row.slot[first]
        slot[first : last + 1] = np.round(inside * wheel.slots / inside[-1]) + (this_index + 1) * wheel.slots
    slot[: anchors[0]] = row.slot[: anchors[0]] - row.slot[anchors[0]] + wheel.slots
    slot[anchors[-1] :] = row.slot[anchors[-1] :] - row.slot[anchors[-1]] + slot[anchors[-1]]
    fit = _Fit(np.zeros(len(row.times), np.int64), anchors, len(chain) / max(turns, len(chain)))
    return replace(row, slot=slot), fit


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
    for item in tried:
        there = np.minimum(np.searchsorted(at, at + item), len(at) - 1)
        room = at + item < end
        alike = (at[there] == at + item) & (np.abs(np.log(ratio / ratio[there])) < ALIKE)
        # One more in the count keeps a single chance meeting, far apart, from being taken for a turn.
        met = np.count_nonzero(alike & room)
        scores[int(item)] = met / (np.count_nonzero(room) + 0.5) if met > 1 or len(at) < 4 else 0.0
    best = max(scores.values(), default=0.0)
    return min((key for key, score in scores.items() if score >= 0.85 * best), default=0), best


def _wheel_of_count(row: _Row, long: np.ndarray, count: int) -> Wheel | None:
    """The wheel whose gaps return every `count` teeth: each place's length is its median over the turns."""
    place = long % count
    votes = np.bincount(place, minlength=count)
    turns = max(1, len(row.ratio) // count)
    often = np.flatnonzero(votes >= max(2, 0.5 * min(turns, int(votes.max()))))
    if not len(often):
        return None
    length = {int(item): float(np.exp(np.median(np.log(row.ratio[long[place == item]])))) for item in often}
    spans = {key: max(2, round(value)) for key, value in length.items()}
    reference = max(length, key=length.get)
    rest = count + sum(span - 1 for place, span in spans.items() if place != reference)
    return _rounder(rest, length[reference])


def _rounder(rest: int, gap: float) -> Wheel:
    """The wheel whose slots, all but the reference gap's own, are `rest`, with a gap measured as so many pitches.

    Where compression leaves the gap between two whole numbers, a count of slots that divides a turn evenly
    is the likelier: wheels are made in sixes and fours (common practice, no published source).
    """
    nearest = max(2, round(gap))
    tried = [item for item in (nearest, nearest + 1, nearest - 1) if item >= 2 and abs(item - gap) < 0.8]
    even = [item for item in tried if (rest + item - 1) % 6 == 0] or [
        item for item in tried if (rest + item - 1) % 4 == 0
    ]
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
    broken = np.concatenate([[0], np.cumsum(row.stands & (np.diff(fit.phase) != 0))])
    turn = turn + broken
    turn = turn - (turn[fit.anchors[0]] if len(fit.anchors) else 0)
    teeth = Teeth(row.times, row.ratio, spans, wheel, number, turn, fit.anchors, alike=fit.confirmed)
    lost = lost_teeth(teeth)
    whole, places = whole_turns(teeth, lost)
    return Teeth(
        row.times, row.ratio, spans, wheel, number, turn, fit.anchors, whole, places, lost, fit.confirmed
    )  # fmt: skip
