"""Which wheel a row of teeth is of, told by counting teeth.

However an engine breathes, as many teeth pass from one reference gap to the next in every turn; how long the gap looks
depends on where in a compression it lies. So a row is folded over the count of teeth after which its long spaces
return, and wheels compete to explain the folded turn: the stated one, the stated one with teeth lost or with a pulse too
many, those of the catalogue, and what the folded turn itself suggests. Each is weighed together with the wave that the
engine's compression makes of the speed (a Gaussian process over the engine's cycle, Rasmussen and Williams, Gaussian
Processes for Machine Learning, eq. 2.30), so that a gap that is stretched by the wave counts for what it is.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from sagen.model.wheel import MOST_SLOTS, Wheel
from sagen.signal.catalogue import shipped
from sagen.signal.limits import limits
from sagen.signal.slots import WANDERS, lengths, spread

_LIMIT = limits("wheel")
LONG = 0.3  #: logarithm of the length in pitches from which a space may be more than one
MOST_FOLDED = 6000  #: teeth that are looked at to find the wheel
MANY_LONG, FEWER_FOLDED = 400, 1500  #: where so many spaces are long, fewer teeth tell
FULL = 0.5  #: what a space's logarithm may be off at most, squared: one bad space is not worth more
AMPLITUDES, NOISES = (0.05, 0.2, 0.6, 1.2), (0.02, 0.05, 0.12)
MOST_ORDER = 10.0  #: waves a turn that an engine makes at most
MOST_LOST, MOST_TRIED, FEW_WEIGHED = 3, 16, 6
MOST_IN_A_ROW = 8  #: teeth that one bridge, one dent or one break takes together
FEWEST = 5  #: teeth a turn below which nothing is a row of like teeth


@dataclass(frozen=True)
class Laid:
    """A wheel as it lies on the folded turn.

    `spans` are the slots from each tooth of the turn to the next, from tooth 1 on, shape (teeth seen a turn,); `first` is
    which tooth of the row is a tooth 1; `extra` is the place of a pulse that is no tooth (None: there is none).
    """

    wheel: Wheel
    spans: np.ndarray
    first: int
    extra: int | None = None
    weight: float = 0.0  #: logarithm of its evidence and of how usual it is

    @property
    def count(self) -> int:
        return len(self.spans)


def explain(ratio: np.ndarray, spaces: np.ndarray, declared: Wheel | None) -> Laid | None:
    """The wheel that explains an unbroken row of spaces best; None where no count of teeth returns.

    Parameters
    ----------
    ratio : np.ndarray [shape=(n,)]
        spaces in pitches of their neighbours
    spaces : np.ndarray [shape=(n,)]
        the same in s
    declared : Wheel or None
        what is stated
    """
    logs = lengths(ratio[:MOST_FOLDED])
    returns = _returns(logs)
    if returns is None:
        return None
    count, share = _count(returns, declared)
    if count is None or count < FEWEST:
        return None
    turns = len(logs) // count
    if turns < 1 or len(logs) < count + 2:
        return None
    folded = _folded(logs, count)
    plain = _plainly(folded, declared, count)
    if plain is not None:
        return plain
    cycle = _cycle(np.log(np.maximum(spaces[: len(logs)], 1e-12)), count)
    found = [candidate for candidate in _candidates(folded, count, declared) if sensible(candidate.wheel, declared)]
    if len(found) > FEW_WEIGHED:
        # A look with one height of wave leaves the few that all are tried on.
        rough = [_weighed(item, cycle, AMPLITUDES[1:2]).weight for item in found]
        order = np.argsort(rough)[::-1]
        firsts = {found[k].wheel: k for k in order[::-1]}  # of each wheel at least one
        found = [found[k] for k in {*order[:FEW_WEIGHED].tolist(), *firsts.values()}]
    best = max((_weighed(item, cycle) for item in found), key=lambda item: item.weight, default=None)
    if best is None:
        return None
    # Teeth that wander meet their like by chance: then the sheet is the better witness.
    if declared is not None and best.wheel != declared and share < _LIMIT.returns_wandering and spread(ratio) > WANDERS:
        return None
    parts = count // best.wheel.teeth if best.extra is None and count % best.wheel.teeth == 0 else 1
    single = len(best.spans) // parts
    return replace(best, spans=best.spans[:single], first=best.first % single)


def sensible(wheel: Wheel, declared: Wheel | None) -> bool:
    """Whether anybody makes such a wheel: what is not is never announced.

    Parameters
    ----------
    wheel : Wheel
        what the capture shows
    declared : Wheel or None
        what the sheet states: always sensible
    """
    return (declared is not None and wheel.slots == declared.slots) or _usual(wheel, None) > -_LIMIT.absurd


def _returns(logs: np.ndarray) -> np.ndarray | None:
    """How well the long spaces return after so many teeth, 0 to 1, by count; None where hardly any is long."""
    long = np.where(logs > LONG, logs, 0.0)
    if np.count_nonzero(long) < 2:
        return None
    if np.count_nonzero(long) > MANY_LONG:
        long = long[:FEWER_FOLDED]
    most = min(MOST_SLOTS, len(long) - 2)
    out = np.zeros(most + 1)
    at = np.flatnonzero(long)
    total = np.concatenate([[0.0], np.cumsum(long)])
    for count in np.unique(np.concatenate([at[step:] - at[:-step] for step in range(1, min(24, len(at)))])):
        if not 2 < count <= most:
            continue
        there = at[at + count < len(long)]
        both = np.minimum(long[there], long[there + count]).sum()
        # One long space more in the count keeps a single chance meeting from being taken for a turn.
        either = total[len(long) - count] + total[-1] - total[count] - both + (0.35 if len(there) < 3 else 0.0)
        out[count] = both / max(either, 1e-9)
    return out


def _count(returns: np.ndarray, declared: Wheel | None) -> tuple[int | None, float]:
    """After how many teeth the row returns: the stated wheel's own count, give or take teeth lost every turn, where it
    does so as well as any other; else the least count that does."""
    best = float(returns.max(initial=0.0))
    # Where many spaces are long some return by chance.
    chance = float(returns.mean())
    if best < _LIMIT.beyond_chance * chance:
        return None, 0.0
    if declared is not None and declared.missing:
        teeth = declared.teeth
        own = {count: _own(returns, count) for count in range(teeth - MOST_LOST, teeth + 2) if 2 < count < len(returns)}
        count = max(own, key=lambda item: own[item] + 0.1 * (item == teeth) - 0.06 * abs(teeth - item), default=None)
        if count is not None and own[count] >= max(_LIMIT.returns_stated, _LIMIT.as_well * best):
            return count, own[count]
    if best < _LIMIT.returns:
        return None, 0.0
    return int(np.flatnonzero(returns >= _LIMIT.as_good * best)[0]), best


def _own(returns: np.ndarray, count: int) -> float:
    """How well the row returns after so many teeth, or after twice as many with a gap in either half: an odd number of
    cylinders makes every other turn look alike."""
    once, twice = float(returns[count]), float(returns[2 * count]) if 2 * count < len(returns) else 0.0
    return max(once, 0.8 * twice) if once > _LIMIT.every_other else once


@cache
def pattern(wheel: Wheel) -> tuple[int, ...]:
    """Slots from each tooth of a turn to the next, from tooth 1 on.

    Parameters
    ----------
    wheel : Wheel
        slots and missing teeth

    Returns
    -------
    tuple of int
        one a tooth; they add up to the wheel's slots
    """
    there = [n for n in range(1, wheel.slots + 1) if n not in wheel.gone]
    return tuple(b - a for a, b in zip(there, [*there[1:], there[0] + wheel.slots], strict=True))


def _folded(logs: np.ndarray, count: int) -> np.ndarray:
    """The usual logarithm at each place of the turn."""
    turns = len(logs) // count
    rows = logs[: turns * count].reshape(turns, count)
    rest = logs[turns * count :]
    if turns < 3 and len(rest):
        rows = np.vstack([rows, np.concatenate([rest, np.full(count - len(rest), np.nan)])])
    return np.nanmedian(rows, axis=0)


def _plainly(folded: np.ndarray, declared: Wheel | None, count: int) -> Laid | None:
    """The stated wheel where nothing else is worth a thought: its gaps are as long as they should be, all else even."""
    if declared is None or not declared.missing or count != declared.teeth:
        return None
    spans = np.log(np.array(pattern(declared), float))
    off = np.abs(folded[(np.arange(count)[:, None] + np.arange(count)) % count] - spans)
    first = int(off.max(axis=1).argmin())
    if off[first].max() < _LIMIT.plain:
        return Laid(declared, np.array(pattern(declared)), first, weight=np.inf)
    return None


# candidates ----------------------------------------------------------------------------------------


def _candidates(folded: np.ndarray, count: int, declared: Wheel | None) -> list[Laid]:
    """Wheels that have as many teeth a turn, each where it lies best."""
    found: list[Laid] = []
    wheels = {
        item: _usual(item, declared) for item in (declared, *shipped().values()) if item is not None and item.missing
    }
    for wheel, usual in wheels.items():
        stated = wheel == declared
        for parts in (1, 2) if stated else (1, 2, 3, 4):
            if parts * wheel.teeth == count:
                part = 0.0 if stated else _LIMIT.part_of_turn * (parts > 1)
                found += _placed(folded, wheel, np.tile(pattern(wheel), parts), usual - part, 2)
        lost = wheel.teeth - count
        if 0 < lost <= (MOST_LOST if stated else int(declared is None)):
            found += _with_lost(folded, wheel, lost, usual)
        if stated and MOST_LOST < lost <= MOST_IN_A_ROW:
            found += _with_row_lost(folded, wheel, lost, usual)
        if stated and lost == -1:
            found += _with_extra(folded, wheel, usual)
    known = {item.wheel for item in found}
    # With as many teeth as the stated wheel has, no wheel that nobody lists is thought of, however its gaps look.
    for wheel, spans in _free(folded) if declared is None or count != declared.teeth else ():
        if wheel not in known:
            more = int((spans[:-1] > 1).sum()) * (_LIMIT.lost_tooth + np.log(count))
            found += _placed(folded, wheel, spans, _usual(wheel, declared) - more, 1)
    return found


def _usual(wheel: Wheel, declared: Wheel | None) -> float:
    """How usual a wheel is before the teeth are looked at, a logarithm: the stated one first, then those of the
    catalogue; then those whose slots divide evenly, since wheels are made so (common practice, no published source)."""
    if wheel == declared:
        return 0.0
    if declared is not None and not declared.missing and wheel.slots == declared.slots:
        return -_LIMIT.lost_tooth * wheel.missing  # the stated even wheel with teeth lost
    known = declared is not None and bool(declared.missing) and declared.teeth % wheel.teeth == 0
    other = (_LIMIT.same_count if known else _LIMIT.other_wheel) if declared else 0.0
    if wheel in shipped().values():
        return -other
    regular = wheel.missing <= 3 and wheel.slots <= 120 and (wheel.slots % 6 == 0 or wheel.slots % 4 == 0)
    coarse = _LIMIT.coarse if wheel.slots < (_LIMIT.coarse_slots if declared else _LIMIT.coarse_unstated) else 0.0
    return -(_LIMIT.unlisted if regular else _LIMIT.absurd) - other - coarse


def _cost(folded: np.ndarray, spans: np.ndarray) -> np.ndarray:
    """How badly spans (a row each) lie on the folded turn, by which place of it is tooth 1; shape (rows, places)."""
    count = len(folded)
    kinds, which = np.unique(spans, return_inverse=True)
    which = which.reshape(spans.shape)
    table = np.minimum((folded[:, None] - np.log(kinds)) ** 2, FULL)
    out = np.empty((len(spans), count))
    place = np.arange(count)
    for first in range(count):
        out[:, first] = table[(place + first) % count, which].sum(axis=1)
    return out


def _placed(folded: np.ndarray, wheel: Wheel, spans: np.ndarray, usual: float, most: int) -> list[Laid]:
    cost = _cost(folded, spans[None, :])[0]
    return [Laid(wheel, spans, int(first), weight=usual) for first in np.argsort(cost)[:most]]


def _with_lost(folded: np.ndarray, wheel: Wheel, lost: int, usual: float) -> list[Laid]:
    """The wheel without one to three of its teeth in every turn, one after the other where that explains most. Tooth 1
    itself may be gone: counting then starts in the gap."""
    rows: list[tuple[int, ...]] = [pattern(wheel)]
    for left in range(lost, 0, -1):
        grown = {_without(row, k) for row in rows for k in range(1, len(row))}
        grown = np.array(sorted(grown))
        if left > 1:
            # Judged on what it already explains: the longest spaces.
            rows = [tuple(item) for item in _likeliest(folded, grown)]
        else:
            cost = _cost(folded, grown)
            order = np.argsort(cost, axis=None)[:MOST_TRIED]
            penalty = _LIMIT.lost_tooth * (1 + 0.5 * (lost - 1)) + np.log(len(folded))
            return [
                Laid(wheel, grown[item // len(folded)], int(item % len(folded)), weight=usual - penalty)
                for item in order
            ]
    return []


def _with_row_lost(folded: np.ndarray, wheel: Wheel, lost: int, usual: float) -> list[Laid]:
    """The wheel without so many of its teeth one behind the other in every turn."""
    whole = pattern(wheel)
    rows = np.array([
        (*whole[:k], sum(whole[k : k + lost + 1]), *whole[k + lost + 1 :]) for k in range(len(whole) - lost)
    ])  # fmt: skip
    cost = _cost(folded, rows)
    penalty = 2 * _LIMIT.lost_tooth + np.log(len(folded))
    return [
        Laid(wheel, rows[item // len(folded)], int(item % len(folded)), weight=usual - penalty)
        for item in np.argsort(cost, axis=None)[:MOST_TRIED]
    ]


def _without(row: tuple[int, ...], k: int) -> tuple[int, ...]:
    return (*row[: k - 1], row[k - 1] + row[k], *row[k + 1 :])


def _likeliest(folded: np.ndarray, rows: np.ndarray) -> np.ndarray:
    """Rows that still have teeth too many, whose long spaces are like the folded turn's longest ones."""
    longest = np.sort(folded)[::-1][:4]
    spans = np.log(np.sort(rows, axis=1)[:, ::-1][:, :4].astype(float))
    order = np.argsort(np.abs(spans - longest[: spans.shape[1]]).sum(axis=1), kind="stable")
    return rows[order[:60]]


def _with_extra(folded: np.ndarray, wheel: Wheel, usual: float) -> list[Laid]:
    """The wheel with one pulse too many in every turn: two spaces of the row are one of the wheel's."""
    spans = np.array(pattern(wheel))
    best = []
    for place in range(len(folded)):
        after = (place + 1) % len(folded)
        joined = np.delete(folded, after)
        at = place - (after < place)
        joined[at] = np.logaddexp(folded[place], folded[after])
        cost = _cost(joined, spans[None, :])[0]
        first = int(cost.argmin())
        best.append((float(cost[first]), place, after, first))
    _, _, after, first = min(best)
    first = first + (first >= after)
    penalty = _LIMIT.extra_pulse + np.log(len(folded))
    return [Laid(wheel, spans, first, (after - first) % len(folded), usual - penalty)]


def _free(folded: np.ndarray) -> list[tuple[Wheel, np.ndarray]]:
    """What the folded turn itself suggests: its longest space is the reference gap, by one slot more or less."""
    longest = int(folded.argmax())
    spans = np.maximum(1, np.round(np.exp(folded))).astype(int)
    spans = np.where(folded > 0.45, spans, 1)
    turned = np.roll(spans, -(longest + 1))
    out = []
    for gap in {max(2, turned[-1] + more) for more in (-1, 0, 1)}:
        now = turned.copy()
        now[-1] = gap
        slots = int(now.sum())
        if slots <= MOST_SLOTS and gap - 1 < slots:
            out.append((Wheel(slots, int(gap) - 1), now))
    return out


# evidence ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Cycle:
    """The logarithm of the spaces over one or two counts, each turn's own mean left out."""

    logs: np.ndarray
    turns: int  #: counts that it spans


def _cycle(logs: np.ndarray, count: int) -> _Cycle:
    """Folded over two counts where there are enough of them: an engine's cycle takes two turns."""
    counts = 2 if len(logs) >= 4 * count else 1
    length = counts * count
    kernel = np.ones(length) / length
    if len(logs) > 2 * length:
        mean = np.convolve(logs, kernel, "valid")
        first = (length - 1) // 2
        mean = np.pad(mean, (first, len(logs) - len(mean) - first), mode="edge")
        logs = logs - mean
    whole = len(logs) // length
    rows = logs[: whole * length].reshape(whole, length)
    rows = rows - np.median(rows, axis=1, keepdims=True)
    return _Cycle(np.median(rows, axis=0), counts)


def _weighed(laid: Laid, cycle: _Cycle, amplitudes: tuple[float, ...] = AMPLITUDES) -> Laid:
    """With the evidence of the folded cycle added: how well what the wheel leaves of the spaces is a wave of the engine."""
    logs, spans = cycle.logs, np.roll(_split(laid), laid.first)
    spans = np.tile(spans, cycle.turns)
    left = logs - np.log(spans)
    middle = np.cumsum(spans) - 0.5 * spans
    turns = float(spans.sum()) / laid.wheel.slots
    left = left - np.median(left)
    angle = 2 * np.pi * middle / spans.sum()
    orders = np.arange(1, int(min(MOST_ORDER * turns, len(logs) // 2)) + 1)
    waves = np.concatenate([np.cos(orders[:, None] * angle), np.sin(orders[:, None] * angle)]).T
    slow = 1.0 / (1.0 + (orders / turns / 3.0) ** 1.5)
    design = np.hstack([np.ones((len(left), 1)), waves])
    products, told, energy = design.T @ design, design.T @ left, float(left @ left)
    best = -np.inf
    for amplitude in amplitudes:
        # Of the covariance only as many directions as there are waves are not noise alone.
        size = np.concatenate([[2.0], np.tile(amplitude * slow, 2)])
        values, vectors = np.linalg.eigh(size[:, None] * products * size)
        own = values > 1e-9 * values[-1]
        seen = (vectors.T @ (size * told))[own] ** 2 / values[own]
        rest, more = max(energy - float(seen.sum()), 0.0), len(left) - int(own.sum())
        for noise in NOISES:
            total = values[own] + noise**2
            spread = np.log(total).sum() + more * np.log(noise**2)
            best = max(best, float(-0.5 * (spread + (seen / total).sum() + rest / noise**2)))
    return Laid(laid.wheel, laid.spans, laid.first, laid.extra, laid.weight + best)


def _split(laid: Laid) -> np.ndarray:
    """The spans as the row has them: the one in which a pulse too many lies in two halves."""
    spans = laid.spans.astype(float)
    if laid.extra is None:
        return spans
    half = spans[laid.extra - 1] / 2
    return np.concatenate([spans[: laid.extra - 1], [half, half], spans[laid.extra :]])
