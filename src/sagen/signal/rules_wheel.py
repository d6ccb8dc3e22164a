"""Findings that the wheel, the gap and the sensor's own signal give: what repeats, and what does not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from math import comb

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import FindingKind, Role, State
from sagen.model.wheel import Wheel
from sagen.signal.between import at_pace, bridged, elsewhere, missed_teeth, pulses_between, slowness
from sagen.signal.catalogue import usual_name
from sagen.signal.context import MOST_SPANS, Context, grade
from sagen.signal.deviation import irregular_teeth, medians_of, swing_once_a_turn, without_orders
from sagen.signal.interruptions import interruptions
from sagen.signal.limits import limits
from sagen.signal.measures import LEAST, breathing, measures
from sagen.signal.outliers import engine_orders, outstanding
from sagen.signal.reading import RotatingReading
from sagen.signal.repeats import equal_gaps, own_pattern
from sagen.signal.rule import rule
from sagen.signal.runs import runs_of
from sagen.signal.slots import Teeth

_GAP, _ODD, _RUNOUT = limits("extra_gap"), limits("odd_tooth"), limits("runout")
_BETWEEN, _ERRATIC, _DROPOUT, _PATTERN = (
    limits("between"),
    limits("erratic"),
    limits("dropout"),
    limits("wrong_pattern"),
)


def _few_turns_by_hand(reading: RotatingReading, context: Context) -> bool:
    """Whether a spanner turned the shaft, and not far: a rest between two pulls looks like a gap, wherever it falls."""
    return context.by_hand(reading) and len(reading.teeth.anchors) < _PATTERN.turns_by_hand


# a tooth that is not there ------------------------------------------------------------------


@rule(
    FindingKind.EXTRA_GAP,
    needs=("switching", "wheel"),
    silenced_by=(FindingKind.WRONG_PATTERN, FindingKind.UNDERSAMPLED),
    hears=(FindingKind.TOO_SHORT,),
)
def extra_gap(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """A tooth is missing where there should be one, every turn."""
    if reading.cut_away or _few_turns_by_hand(reading, context) or context.has(reading, FindingKind.TOO_SHORT):
        return
    if equal_gaps(reading) is not None:
        return  # nobody stated the wheel: gaps alike in every turn are more likely its own
    teeth, wheel = reading.teeth, reading.wheel
    turns = len(teeth.anchors)
    plain = [n for n, share in sorted(teeth.lost.items()) if share >= _GAP.share_of_turns]
    known = {*context.lost_in_pattern(reading), *bridged(reading)}
    for group in _neighbours(n for n in plain if n not in known):
        number = group[0]
        spans = _spans_over(teeth, number)
        repeats = len(spans) >= 2
        if not repeats and (turns > 1 or context.has(reading, FindingKind.TOO_SHORT)):
            continue
        share = teeth.lost[number]
        if _by_chance(teeth, group, share, turns) or (teeth.wanders and share < _GAP.share_where_teeth_wander):
            continue
        pitches = float(np.median(teeth.ratio[spans])) if len(spans) else 0.0
        beside = _beside_reference(wheel, number)
        least = (
            wheel.missing + _GAP.beside_reference + _GAP.beside_breathing * breathing(reading)
            if beside
            else _GAP.least_pitches
        )
        if beside and slowness(reading)[number] > _BETWEEN.stalls and pitches < wheel.missing + 2 + len(group):
            continue  # the shaft nearly stalls there: a long space is no lost tooth
        if pitches < least:
            continue  # an even space, or the reference gap itself, that strong ripple counted as one more
        angle = (number - 1) * wheel.pitch_deg
        yield Finding(
            FindingKind.EXTRA_GAP, reading.column, float(np.clip(share if repeats else _GAP.seen_once, 0, 1)),
            {"tooth": int(number), "angle_deg": round(angle, 2), "repeats": repeats},
            {
                "last_tooth": int(group[-1]), "seen": len(spans), "turns": max(turns, len(spans)), "pitches": pitches,
                "even_wheel": not wheel.missing, "beside_reference": beside, **_what_else(wheel, group),
            },
            tuple(Span(float(teeth.times[i]), float(teeth.times[i + 1])) for i in spans[:MOST_SPANS]),
        )  # fmt: skip


def _beside_reference(wheel: Wheel, number: int) -> bool:
    return bool(wheel.missing) and number in (1, wheel.slots - wheel.missing)


def _what_else(wheel: Wheel, group: list[int]) -> dict:
    """What one capture cannot tell about teeth missing like a reference gap."""
    if not wheel.missing or _beside_reference(wheel, group[0]) or len(group) != wheel.missing:
        return {}
    other = wheel.slots - 2 * wheel.missing - group[0] + 2
    return {"half_wheel": f"{wheel.slots // 2}-{wheel.missing}"} if other == group[0] else {"other_tooth": other}


def _by_chance(teeth: Teeth, group: list[int], share: float, turns: int) -> bool:
    """Whether teeth missed here and there would make one be missed so often: the binomial tail, over all places."""
    usual = [item for n, item in teeth.lost.items() if n not in group]
    missed = sum(usual) / max(1, teeth.wheel.slots - teeth.wheel.missing - len(group))
    times = max(1, turns)
    tail = sum(
        comb(times, k) * missed**k * (1 - missed) ** (times - k) for k in range(round(share * times), times + 1)
    )  # fmt: skip
    return times > 1 and tail * teeth.wheel.slots > _GAP.by_chance


def _spans_over(teeth: Teeth, number: int) -> np.ndarray:
    """The spaces (entries) that skip tooth `number`."""
    before = (number - 1 - teeth.number[:-1]) % teeth.wheel.slots
    return np.flatnonzero((teeth.spans > 1) & (before < teeth.spans - 1))


def _neighbours(numbers) -> Iterator[list[int]]:
    """Consecutive numbers grouped together."""
    group: list[int] = []
    for number in numbers:
        if group and number != group[-1] + 1:
            yield group
            group = []
        group.append(number)
    if group:
        yield group


# a tooth that differs -----------------------------------------------------------------------


@rule(
    FindingKind.ODD_TOOTH,
    needs=("wheel", "unsmoothed"),
    silenced_by=(
        FindingKind.WRONG_PATTERN, FindingKind.UNDERSAMPLED, FindingKind.TOO_SHORT, FindingKind.ERRATIC,
    ),
)  # fmt: skip
def odd_tooth(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """One tooth early, late, low or misshapen, every turn."""
    wheel = reading.wheel
    odd: dict[int, tuple[float, str, float, float, int, int]] = {}
    slow = slowness(reading)
    for name, (errors, least) in measures(reading, context).items():
        if errors.turns < _ODD.fewest_turns:
            continue
        limit = least * np.where(_beside_gap(errors.number), _ODD.beside_gap, 1.0)
        if name.startswith("phase_error"):
            limit = np.maximum(limit, _ripple_error(reading, context))
        limit = limit * np.maximum(1.0, slow[errors.number] / _BETWEEN.stalls) ** 2
        # A cam turns once while every cylinder fires.
        cycles = 2 if reading.sheet.role == Role.CAM else 1
        orders = engine_orders(wheel.slots, (context.cylinders or 4) * cycles)
        for place, size, surprise in outstanding(
            errors, limit, LEAST[name].sure, wheel.slots, orders, spread=name.startswith("phase_error")
        ):
            number = int(errors.number[place])
            seen, turns = errors.turns_with(place, float(size))
            if seen < _ODD.share_of_turns * turns:
                continue  # one or two turns make the median of a few: it is an event, not the wheel
            weight = abs(size) / least
            if number not in odd or weight > odd[number][0]:
                odd[number] = (weight, name, float(size), float(surprise), seen, turns)
    between = pulses_between(reading)
    said: list[int] = _under_sparks(reading, between)
    said_odd = 0
    for number, times in between.items():
        said.append(number)
        seen = len(times)
        yield Finding(
            FindingKind.ODD_TOOTH, reading.column, _ODD.severity_between,
            {"tooth": number, "angle_deg": round((number - 1) * wheel.pitch_deg, 2), "repeats": True},
            {
                "measure": "between", "size": 1.0, "turns": max(len(reading.teeth.anchors), seen), "seen": seen,
                "next": number % (wheel.slots - wheel.missing) + 1, "even_wheel": not wheel.missing,
            },
            _at_times(reading, times),
        )  # fmt: skip
    for number in () if _few_turns_by_hand(reading, context) else bridged(reading):
        # The tooth before is as wide as two, and the one that is not seen makes its neighbours look moved.
        said += [number - 2, number - 1, number, number + 1, number + 2]
        spans = np.flatnonzero((reading.teeth.spans == 2) & (reading.teeth.number[:-1] % wheel.slots + 1 == number))
        yield Finding(
            FindingKind.ODD_TOOTH, reading.column, _ODD.severity_between,
            {"tooth": number, "angle_deg": round((number - 1) * wheel.pitch_deg, 2), "repeats": True},
            {
                "measure": "bridged", "size": 1.0, "turns": max(len(reading.teeth.anchors), len(spans)),
                "seen": len(spans), "before": (number - 2) % wheel.slots + 1, "even_wheel": not wheel.missing,
            },
            tuple(Span(float(reading.teeth.times[k]), float(reading.teeth.times[k + 1])) for k in spans[:MOST_SPANS]),
        )  # fmt: skip
    for found in _opening(reading, context):
        said += [(found.fields["tooth"] - 1 + k) % wheel.slots + 1 for k in (-2, -1, 0, 1, 2)]
        yield found
    for found in _sectors(reading, context):
        said += [(found.fields["tooth"] - 1 + k) % wheel.slots + 1 for k in range(-1, found.facts["teeth"] + 1)]
        yield found
    for number, (weight, name, size, surprise, seen, turns) in sorted(odd.items(), key=lambda item: -item[1][0])[
        : _ODD.most_looked_at
    ]:
        # A tooth out of place shows on the spaces either side of it; its neighbours are not odd for that.
        if said_odd == _ODD.most_said or any(abs(number - item) <= 2 for item in said):
            continue
        said.append(number)
        said_odd += 1
        severity = float(np.clip(_ODD.severity_base + _ODD.severity_step * weight, _ODD.severity_least, 1.0))
        yield Finding(
            FindingKind.ODD_TOOTH, reading.column, severity,
            {"tooth": number, "angle_deg": round((number - 1) * wheel.pitch_deg, 2), "repeats": True},
            {
                "measure": name, "size": size, "turns": turns, "seen": seen, "surprise": surprise,
                "even_wheel": not wheel.missing,
            },
            _spans_at(reading, number),
        )  # fmt: skip


def _under_sparks(reading: RotatingReading, between: dict[int, np.ndarray]) -> list[int]:
    """Numbers of teeth on which a spark, or another pulse that is none of the wheel's, falls in many turns: what they show is
    that."""
    teeth = reading.teeth
    at = elsewhere(np.union1d(reading.sparks, reading.false_edges), between)
    if not len(at) or not len(teeth.anchors) or not len(teeth.number):
        return []
    behind = np.searchsorted(teeth.times, at, "right") - 1
    number = teeth.number[np.clip(behind, 0, len(teeth.number) - 1)]
    seen = np.bincount(number[number > 0])
    return [int(item) for item in np.flatnonzero(seen >= _ODD.at_a_tooth * len(teeth.anchors))]


def _opening(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """A tooth that goes out of its place as the wheel gains speed: a ring that is split opens so."""
    known, teeth = measures(reading, context).get("phase_error"), reading.teeth
    if known is None or len(known[0].values) != len(teeth.whole) or known[0].turns < 3 * _ODD.fewest_turns:
        return
    errors, least = known
    seen = teeth.whole < len(teeth.times)
    at = np.where(seen, teeth.times[np.minimum(teeth.whole, len(teeth.times) - 1)], np.nan)
    lasts = np.nanmax(at, axis=1) - np.nanmin(at, axis=1)
    order = np.argsort(lasts)
    third = len(order) // 3
    fast, slow = order[:third], order[-third:]
    times_faster = float(np.median(lasts[slow]) / np.median(lasts[fast]))
    if times_faster < _ODD.opens_times_faster:
        return
    at_speed = replace(errors, values=errors.values[fast], by_place=np.nanmedian(errors.values[fast], axis=0))
    at_rest = np.nanmedian(errors.values[slow], axis=0)
    limit = least * np.where(_beside_gap(errors.number), _ODD.beside_gap, 1.0)
    limit = np.maximum(limit, _ripple_error(reading, context))
    orders = engine_orders(reading.wheel.slots, context.cylinders or 4)
    for place, size, surprise in outstanding(
        at_speed, limit, LEAST["phase_error"].sure, reading.wheel.slots, orders, spread=True
    ):
        before = float(at_rest[place] * np.sign(size))
        seen, turns = at_speed.turns_with(place, float(size))
        if before > _ODD.opens_from * abs(size) or seen < _ODD.share_of_turns * turns:
            continue
        number = int(errors.number[place])
        pitches = reading.wheel.slots
        yield Finding(
            FindingKind.ODD_TOOTH, reading.column,
            float(np.clip(_ODD.severity_base + _ODD.severity_step * abs(size) / least, _ODD.severity_least, 1.0)),
            {"tooth": number, "angle_deg": round((number - 1) * reading.wheel.pitch_deg, 2), "repeats": True},
            {
                "measure": "phase_error", "size": float(size), "turns": turns, "seen": seen, "surprise": float(surprise),
                "even_wheel": not reading.wheel.missing, "slow_size": max(before, 0.0),
                "slow_rpm": 60 * (1 - 1 / pitches) / float(np.median(lasts[slow])),
                "fast_rpm": 60 * (1 - 1 / pitches) / float(np.median(lasts[fast])),
            },
            _spans_at(reading, number),
        )  # fmt: skip
        return


def _sectors(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Several teeth side by side that are taller or lower than the rest, every turn: something lies on the wheel there."""
    known = measures(reading, context).get(reading.size_name) if reading.grows_with_speed else None
    if known is None or known[0].turns < _ODD.fewest_turns:
        return
    errors, slots = known[0], reading.wheel.slots
    usual = float(np.median(errors.by_place))
    # What swings once a turn is the wheel's centre, not a part of its rim.
    _, rest = without_orders(errors, slots, (1,))
    off = rest / usual
    beside = _beside_gap(errors.number)
    for sign in (1, -1):
        out = (sign * off > _ODD.sector_least) & ~beside
        if out.all() or not out.any():
            continue
        # Begin the round at a place that is not out, so that no run is cut in two.
        first = int(np.flatnonzero(~out)[0])
        for begin, end in zip(*runs_of(np.roll(out, -first)), strict=True):
            count = int(end - begin)
            if not _ODD.sector_teeth <= count <= _ODD.sector_most * slots:
                continue
            places = (np.arange(begin, end) + first) % len(off)
            size = float(np.median(off[places]))
            each = np.nanmedian(errors.values[:, places], axis=1) / usual - 1.0
            each = each[np.isfinite(each)]
            seen = int(np.count_nonzero(sign * each > 0.5 * _ODD.sector_least))
            if seen < _ODD.share_of_turns * max(len(each), 1):
                continue
            numbers = errors.number[places]
            number = int(numbers[0])
            yield Finding(
                FindingKind.ODD_TOOTH, reading.column,
                float(np.clip(_ODD.severity_base + abs(size), _ODD.severity_least, 1.0)),
                {"tooth": number, "angle_deg": round((number - 1) * reading.wheel.pitch_deg, 2), "repeats": True},
                {
                    "measure": "height", "size": size, "turns": len(each), "seen": seen, "last_tooth": int(numbers[-1]),
                    "teeth": count, "surprise": 6.0, "even_wheel": not reading.wheel.missing,
                },
                _spans_at(reading, int(numbers[count // 2])),
            )  # fmt: skip


def _beside_gap(number: np.ndarray) -> np.ndarray:
    """Teeth next to a gap: their field and their spacing differ on a sound wheel too."""
    after = np.roll(number, -1) - number != 1
    return after | np.roll(after, 1)


def _at_times(reading: RotatingReading, times: np.ndarray) -> tuple[Span, ...]:
    """A quarter of a pitch either side of each of these times."""
    reach = 0.25 * float(np.median(np.diff(reading.teeth.times)))
    return tuple(Span(max(0.0, float(time) - reach), float(time) + reach) for time in times[:MOST_SPANS])


def _spans_at(reading: RotatingReading, number: int) -> tuple[Span, ...]:
    teeth = reading.teeth
    at = np.flatnonzero(teeth.number == number)[:MOST_SPANS]
    return _around(teeth, at)


def _around(teeth: Teeth, at: np.ndarray) -> tuple[Span, ...]:
    """Half a pitch either side of each of these teeth."""
    half = 0.5 * float(np.median(np.diff(teeth.times)))
    return tuple(Span(max(0.0, float(teeth.times[i]) - half), float(teeth.times[i]) + half) for i in at)


@rule(
    FindingKind.RUNOUT,
    needs=("wheel",),
    silenced_by=(FindingKind.WRONG_PATTERN, FindingKind.UNDERSAMPLED, FindingKind.CLIPPED),
)
def runout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Height or duty swings once a turn."""
    wheel = reading.wheel
    if wheel.slots < _RUNOUT.fewest_slots:
        return
    for name, (errors, _) in measures(reading, context).items():
        if name != reading.size_name or errors.turns < _RUNOUT.fewest_turns:
            continue
        amplitude, explained = swing_once_a_turn(errors, wheel.slots)
        least = _RUNOUT.least_height if reading.grows_with_speed else _RUNOUT.least_width
        noise = errors.scatter / np.sqrt(errors.values.size / 2)
        if amplitude < max(least, _RUNOUT.sigmas * noise) or explained < _RUNOUT.explained:
            continue
        middle = float(np.median(errors.by_place))
        usual = middle if reading.grows_with_speed else max(min(middle, 1 - middle), _RUNOUT.least_duty)
        yield Finding(
            FindingKind.RUNOUT, reading.column, grade(amplitude - least, 3 * least),
            {"depth": round(float(amplitude / usual), 3)},
            {"what": reading.size_in_words, "turns": errors.turns},
        )  # fmt: skip


# what does not repeat -----------------------------------------------------------------------


@rule(
    FindingKind.ERRATIC,
    needs=("switching", "unsmoothed"),
    silenced_by=(FindingKind.WRONG_PATTERN, FindingKind.UNDERSAMPLED, FindingKind.NOISE),
    hears=(FindingKind.CLIPPED, FindingKind.WEAK_AMPLITUDE),
)
def erratic(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Irregular, and not tied to the wheel's position."""
    teeth = reading.teeth
    if len(teeth.times) < _ERRATIC.fewest_teeth or reading.cut_away or context.by_hand(reading):
        return
    if teeth.wheel is None and (reading.sheet.role == Role.CAM or own_pattern(reading) is not None):
        return
    if context.has(reading, FindingKind.WEAK_AMPLITUDE) and reading.relative_noise > _ERRATIC.lost_in_noise:
        return  # a signal so low that teeth drown in its noise: that is said by its height
    # Both ends of a tooth tell of its place; their mean halves what the sampling adds.
    error = reading.phase_error_middle
    limit = _ERRATIC.pitches + _ERRATIC.samples / reading.samples_a_tooth + _ripple_error(reading, context)
    known_places = measures(reading, context).get(reading.place_measure)
    if known_places is not None:
        usual = np.zeros(teeth.wheel.slots + 1)
        usual[known_places[0].number] = known_places[0].by_place
        error = error - usual[teeth.number]
    known = np.isfinite(error)
    if teeth.wheel is None or not len(teeth.anchors):
        # Without a known wheel a gap is not told from a fault: only single spaces are judged.
        known[1:] &= teeth.spans == 1
        known[:-1] &= teeth.spans == 1
    irregular = known & irregular_teeth(np.where(known, error, 0.0), np.full(len(error), limit))
    irregular |= known & _sizes_wander(reading, context)
    stray, pace = missed_teeth(reading), at_pace(reading)
    irregular &= pace
    stray = stray[pace[stray]]
    # A tooth beside a stray gap is not counted a second time.
    irregular[np.clip(np.concatenate([stray + k for k in (-1, 0, 1, 2)]), 0, len(irregular) - 1)] = False
    total = max(int(known.sum()), 1)
    # Where teeth are missed as well, short pulses too many are the sensor's own.
    doubled = len(reading.false_edges) if not context.has(reading, FindingKind.NOISE) and len(stray) else 0
    gone = _lost_again_and_again(reading, context)
    many = np.count_nonzero(irregular) + len(stray) + doubled + gone
    share = many / (total + gone)
    if share < _ERRATIC.share or many < _ERRATIC.fewest_irregular:
        return
    at = np.union1d(np.flatnonzero(irregular), stray).astype(int)[:MOST_SPANS]
    yield Finding(
        FindingKind.ERRATIC, reading.column, grade(share - _ERRATIC.share, _ERRATIC.plain),
        {"share": round(float(min(share, 1.0)), 3)},
        {"share_seen": share, "teeth": total, "missed": len(stray), "doubled": doubled}, _around(teeth, at),
    )  # fmt: skip


def _lost_again_and_again(reading: RotatingReading, context: Context) -> int:
    """Teeth that did not come in the many losses of a signal that comes and goes all the time; 0 where losses are few, or somebody
    moves the harness."""
    if context.state == State.WIGGLE or reading.wheel is None:
        return 0
    ratio, gap = reading.teeth.ratio, reading.wheel.missing + 1
    if (
        np.count_nonzero((ratio > _DROPOUT.smooth_pitches) & (np.abs(ratio - gap) > _DROPOUT.like_gap))
        < _ERRATIC.fewest_losses
    ):
        return 0
    losses = interruptions(reading, 0.0, context.cranking)
    if len(losses) < _ERRATIC.fewest_losses:
        return 0
    pitch = float(np.median(np.diff(reading.teeth.times)))
    return round(sum(item.end - item.start for item in losses) / pitch)


def _sizes_wander(reading: RotatingReading, context: Context) -> np.ndarray:
    """Teeth whose height for their speed strays from that tooth's usual one, each turn's own level left out (a drift
    is not wandering); none where it is so few that a spike or a gap explains them, and of no sensor whose height is
    its two levels."""
    none, teeth = np.zeros(len(reading.teeth.times), bool), reading.teeth
    known = measures(reading, context).get(reading.size_name) if reading.grows_with_speed else None
    if known is None or context.has(reading, FindingKind.CLIPPED) or reading.wheel.slots < _ERRATIC.height_slots:
        return none
    errors = known[0]
    usual = np.full(teeth.wheel.slots + 1, np.nan)
    usual[errors.number] = errors.by_place
    off = reading.size / usual[teeth.number]
    turn = teeth.turn - teeth.turn.min()
    counted = np.isfinite(off)
    seen = np.flatnonzero(counted)
    off[seen] /= medians_of(off[seen], turn[seen])[turn[seen]]
    # What noise does to two peaks grows as the signal weakens; that is no wandering either.
    limit = _ERRATIC.height_strays + _ERRATIC.height_noise * reading.relative_noise
    strays = counted & (np.abs(np.log(np.maximum(np.nan_to_num(off, nan=1.0), 1e-6))) > limit)
    return strays if strays.sum() >= _ERRATIC.height_share * max(counted.sum(), 1) else none


def _ripple_error(reading: RotatingReading, context: Context) -> float:
    """What compression leaves of a tooth's phase error on a coarse wheel: the cubic's error for a wave of
    2 / cylinders turns, r (2 pi / n)^3 / 6 for n teeth a wave and a ripple r."""
    slots = reading.wheel.slots if reading.wheel else _ERRATIC.unknown_slots
    turns = 1 if reading.sheet.role == Role.CAM else 2  # of its own shaft a cycle
    per_wave = turns * slots / (context.cylinders or _ERRATIC.unknown_cylinders)
    cubic = (2 * np.pi / max(per_wave, _ERRATIC.least_per_wave)) ** 3 / 6
    return min(_ERRATIC.ripple_most, _ERRATIC.ripple_factor * breathing(reading) * cubic)


@rule(
    FindingKind.DROPOUT,
    needs=("switching",),
    silenced_by=(FindingKind.UNDERSAMPLED,),
    hears=(FindingKind.ERRATIC,),
)
def dropout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """The signal stops while the shaft turns, and may come back."""
    teeth = reading.teeth
    if context.state in (State.KEY_ON, State.STRIKE) or len(teeth.times) < _DROPOUT.fewest_teeth:
        return
    if context.by_hand(reading):
        return
    if reading.column in context.cams and reading.wheel is None:
        return  # a cam beside a crank has a rule of its own
    # Where teeth are missed here and there, only what is far longer is a loss of its own.
    beyond = _DROPOUT.beyond_where_erratic if context.has(reading, FindingKind.ERRATIC) else 0.0
    pitch = float(np.median(np.diff(teeth.times)))
    # Beside a crank a cam is lost only where the crank turns.
    crank = context.crank if reading.sheet.role == Role.CAM else None
    turned = crank.teeth.longest_stretch() if crank is not None else (0.0, np.inf)
    for interruption in interruptions(reading, beyond, context.cranking):
        start, end = interruption.start, interruption.end
        if start < turned[0] or end > turned[1] or _where_a_level_jumps(reading, start, end):
            continue
        lost = (end - start) / pitch
        severity = float(np.clip(_DROPOUT.severity + lost / _DROPOUT.severity_pitches, _DROPOUT.severity, 1.0))
        yield Finding(
            FindingKind.DROPOUT, reading.column, severity,
            {"start_s": round(start, 5), "end_s": round(end, 5)},
            {"teeth": lost, "back": interruption.back, "from_rest": interruption.from_rest,
             "watched": sorted(str(role) for role in context.rails), "rails": context.rails_around(start, end, pitch)},
            (Span(start, end),),
        )  # fmt: skip


def _where_a_level_jumps(reading: RotatingReading, start: float, end: float) -> bool:
    """Whether a short loss lies where a level goes to another place, which the thresholds follow a moment later."""
    track = reading.track if reading.moves else None
    if track is None or end - start > 2 * track.block_s:
        return False
    last = len(track.low) - 1
    before, after = (int(np.clip(at / track.block_s + side, 0, last)) for at, side in ((start, -2), (end, 2)))
    moved = max(abs(track.low[after] - track.low[before]), abs(track.high[after] - track.high[before]))
    return bool(moved > _DROPOUT.level_jumps * reading.levels.swing)


# another wheel ------------------------------------------------------------------------------


@rule(FindingKind.WRONG_PATTERN, needs=("switching",), silenced_by=(FindingKind.UNDERSAMPLED,))
def wrong_pattern(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """A sound wheel, but not the one expected."""
    teeth, declared, wheel = reading.teeth, reading.sheet.declared_wheel, reading.wheel
    if declared is None or _few_turns_by_hand(reading, context):
        return
    if wheel is None:
        if len(teeth.times) < _PATTERN.even_turns * declared.slots:
            return
        plain = np.mean(np.abs(np.log(np.maximum(teeth.ratio, 1e-3))) < _PATTERN.even_pitches)
        if declared.missing and plain > _PATTERN.even_share:
            yield _wrong(reading, None, 0, {"teeth": len(teeth.times)})
        return
    if len(teeth.anchors) < _PATTERN.fewest_turns or teeth.alike < _PATTERN.confirmed:
        return
    gone = {number for number, share in teeth.lost.items() if share >= _PATTERN.always} | set(wheel.others)
    if declared.others and wheel.slots == declared.slots and wheel != declared and len(gone) != len(declared.others):
        # Fewer or more gaps than stated, each in every turn: another wheel, and no lost tooth.
        seen = Wheel(wheel.slots, wheel.missing, tuple(sorted(gone)))
        yield _wrong(reading, wheel.slots, wheel.missing, {"wheel": usual_name(seen), "turns": len(teeth.anchors)})
        return
    if wheel.slots != declared.slots or (declared.missing and wheel.missing != declared.missing):
        yield _wrong(reading, wheel.slots, wheel.missing, {"wheel": str(wheel), "turns": len(teeth.anchors)})


def _wrong(reading: RotatingReading, slots: int | None, missing: int, facts: dict) -> Finding:
    declared = str(reading.sheet.declared_wheel)
    return Finding(
        FindingKind.WRONG_PATTERN, reading.column, _PATTERN.severity, {"slots": slots, "missing": missing},
        {"declared": declared, **facts},
    )  # fmt: skip


RULES = (wrong_pattern, extra_gap, erratic, dropout, odd_tooth, runout)
