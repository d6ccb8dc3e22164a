"""Findings that the wheel, the gap and the sensor's own signal give: what repeats, and what does not.

Limits are common practice (no published source) unless a rule says otherwise.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import comb

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.wheel import Wheel
from sagen.signal.context import MOST_SPANS, Context, grade
from sagen.signal.deviation import (
    ToothDeviations,
    by_place,
    irregular_teeth,
    swing_once_a_turn,
    waves,
)
from sagen.signal.reading import RotatingReading

FEWEST_TURNS = 3
SURE_SHARE = 0.85  #: the same, where the teeth wander
LEAST_GAP = 1.4  #: pitches
CUT_AWAY = 0.4  #: share of a coil's samples at the end of the range above which its crossings tell nothing
GAP_IN_TURNS = 0.6  #: share of its turns in which a tooth must be absent
COIL_COARSE = 0.2  #: a coil crosses slowly, between two samples its place is known that much better
IRREGULAR = 0.15  #: pitches
ERRATIC_SHARE = 0.03
HEIGHT_STRAYS, HEIGHT_SHARE = 0.2, 0.1  #: logarithm of a coil's height; share of its teeth that must stray so
RUNOUT_WIDTH, RUNOUT_HEIGHT, RUNOUT_EXPLAINED = 0.05, 0.10, 0.55
STEADY = 2.0  #: the speed beside an interruption must not have fallen by more than this factor


@dataclass(frozen=True)
class Least:
    """What a measure of one tooth must exceed to count.

    `size` in pitches (heights: share of the median), `samples` the same in sample intervals, and `sure` in
    standard errors: a sound 100-tooth wheel strays by 5 once in ten thousand captures. An error that
    sampling bounds strays less far than a normal one, so where `samples` is near its bound `sure` may be less.
    A sampling in step with the wheel errs alike in every turn: `locked` is the standard error in samples that
    it leaves, and `in_step` takes the place of `samples` there, near what rounding to whole samples can do at most.
    """

    size: float
    samples: float
    sure: float
    locked: float
    in_step: float

    def limit(self, errors: ToothDeviations, coarse: float) -> float:
        """The least size that counts, for a sampling of one sample in `coarse` pitches."""
        return max(self.size, (self.in_step if errors.locked else self.samples) * coarse)


LEAST = {
    "phase_error": Least(0.05, 0.75, 5.0, 0.2, 1.35),
    "phase_error_middle": Least(0.05, 0.8, 4.5, 0.1, 1.2),  # both ends of a tooth tell of its place
    "width": Least(0.07, 1.15, 4.0, 0.2, 1.35),  # both ends err, by one sample at most
    "height": Least(0.16, 0.0, 5.0, 0.0, 0.0),
}


def measures(reading: RotatingReading, context: Context) -> dict[str, tuple[ToothDeviations, float]]:
    """What is known of every tooth, lined up by place, with the least size that counts; worked out once."""
    if reading.column not in context.memo:
        context.memo[reading.column] = tooth_measures(reading)
    return context.memo[reading.column]


def tooth_measures(reading: RotatingReading) -> dict[str, tuple[ToothDeviations, float]]:
    """What is known of every tooth, lined up by place, with the least size that counts."""
    teeth, coarse = reading.teeth, 1.0 / reading.samples_a_tooth
    if reading.kind == "reluctance":
        coarse *= COIL_COARSE
        values = {"phase_error": reading.phase_error, "height": height_for_speed(reading)}
    else:
        values = {
            "phase_error": reading.phase_error,
            "phase_error_middle": reading.phase_error_middle,
            "width": reading.low_width,
        }
    found = {}
    for name, value in values.items():
        errors, least = by_place(teeth, value), LEAST[name]
        if errors is not None:
            errors = errors.sampled(least.locked, coarse)
            found[name] = (errors, least.limit(errors, coarse))
    return found


def height_for_speed(reading: RotatingReading) -> np.ndarray:
    """Height at each tooth over the speed there, relative to the median: a coil's height grows with speed."""
    teeth = reading.teeth
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
    ratio = reading.heights * around
    return ratio / np.median(ratio)


def extra_gap(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    teeth = reading.teeth
    if not reading.switching or teeth.wheel is None or context.has(reading, "wrong_pattern", "undersampled"):
        return
    if _cut_away(reading):
        return
    wheel = teeth.wheel
    turns = len(teeth.anchors)
    plain = [n for n, share in sorted(teeth.lost.items()) if share >= GAP_IN_TURNS]
    known = context.lost_in_pattern(reading)
    for group in _neighbours(n for n in plain if n not in known):
        number = group[0]
        spans = _spans_over(teeth, number)
        repeats = len(spans) >= 2
        if not repeats and (turns > 1 or context.has(reading, "too_short")):
            continue
        share = teeth.lost[number]
        if _by_chance(teeth, group, share, turns) or (teeth.wanders and share < SURE_SHARE):
            continue
        angle = (number - 1) * wheel.pitch_deg
        gap = float(np.median(teeth.ratio[spans])) if len(spans) else 0.0
        least = wheel.missing + 1.5 + 1.2 * _breathing(reading) if _beside_reference(wheel, number) else LEAST_GAP
        if gap < least:
            continue  # an even space, or the reference gap itself, that strong ripple counted as one more
        many = f"Teeth {group[0]} to {group[-1]} are" if len(group) > 1 else f"Tooth {number} is"
        even = not wheel.missing
        yield Finding(
            "extra_gap",
            reading.column,
            float(np.clip(share if repeats else 0.4, 0, 1)),
            f"{many} missing in {len(spans)} of {max(turns, len(spans))} turns, "
            f"{'seen on a wheel that should have no gap' if even else f'{angle:.0f}° after the reference gap'}: "
            f"the space there is {gap:.2f} pitches long, the spaces beside it are even."
            + _what_else_it_may_be(wheel, group),
            {"tooth": int(number), "angle_deg": round(angle, 2), "repeats": repeats},
            tuple(Span(float(teeth.times[i]), float(teeth.times[i + 1])) for i in spans[:MOST_SPANS]),
            "Turn the engine by hand and look at that tooth through the sensor's hole; "
            "on a magnet ring use a viewing card."
            if repeats
            else "Record at least three turns: one gap seen once may be an interruption.",
        )


def _cut_away(reading: RotatingReading) -> bool:
    """Whether the recorder's range cut off so much of a coil that its crossings tell nothing."""
    return reading.kind == "reluctance" and reading.piled[0] > CUT_AWAY


def _beside_reference(wheel: Wheel, number: int) -> bool:
    return bool(wheel.missing) and number in (1, wheel.slots - wheel.missing)


def _what_else_it_may_be(wheel: Wheel, group: list[int]) -> str:
    """What one capture cannot tell about teeth missing beside a reference gap or like one."""
    number = group[0]
    if not wheel.missing:
        return " Teeth are counted from the one behind it."
    if _beside_reference(wheel, number):
        return " It lies next to the reference gap, so it may be the tooth on the gap's other side."
    if len(group) != wheel.missing:
        return ""
    other = wheel.slots - 2 * wheel.missing - number + 2
    if other == number:
        return f" It lies opposite the reference gap: a {wheel.slots // 2}-{wheel.missing} wheel would show the same."
    return (
        " Both gaps are equally long: this one could as well be the reference gap, and what is missing then starts "
        f"at tooth {other}."
    )


def _by_chance(teeth, group: list[int], share: float, turns: int) -> bool:
    """Whether teeth missed here and there would make one be missed so often: the binomial tail, over all places."""
    usual = [one for n, one in teeth.lost.items() if n not in group]
    missed = sum(usual) / max(1, teeth.wheel.slots - teeth.wheel.missing - len(group))
    times = max(1, turns)
    tail = sum(
        comb(times, k) * missed**k * (1 - missed) ** (times - k) for k in range(round(share * times), times + 1)
    )  # fmt: skip
    return times > 1 and tail * teeth.wheel.slots > 0.02


def _spans_over(teeth, number: int) -> np.ndarray:
    """The spaces (entries) that skip tooth `number`."""
    before = (number - 1 - teeth.number[:-1]) % teeth.wheel.slots
    return np.flatnonzero((teeth.spans > 1) & (before < teeth.spans - 1))


def _neighbours(numbers) -> Iterator[list[int]]:
    """Consecutive numbers grouped together."""
    group: list[int] = []
    for one in numbers:
        if group and one != group[-1] + 1:
            yield group
            group = []
        group.append(one)
    if group:
        yield group


def odd_tooth(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    wheel = reading.wheel
    if (
        wheel is None
        or reading.smoothing > 1
        or context.has(reading, "wrong_pattern", "undersampled", "too_short", "erratic")
    ):
        return
    odd: dict[int, tuple[float, str, float]] = {}
    for name, (errors, least) in measures(reading, context).items():
        if errors.turns < FEWEST_TURNS:
            continue
        limit = least * np.where(_beside_gap(errors.number, reading), 3.0, 1.0)
        orders = _orders(wheel.slots, context.cylinders)
        for place, size, surprise in outstanding(
            errors, limit, LEAST[name].sure, wheel.slots, orders, spread=name.startswith("phase_error")
        ):
            number = int(errors.number[place])
            weight = abs(size) / least
            if number not in odd or weight > odd[number][0]:
                odd[number] = (weight, odd_words(name, size), surprise)
    said: list[int] = []
    for number, (weight, words, surprise) in sorted(odd.items(), key=lambda one: -one[1][0])[:6]:
        # A tooth out of place shows on the spaces either side of it; its neighbours are not odd for that.
        if len(said) == 3 or any(abs(number - one) <= 2 for one in said):
            continue
        said.append(number)
        turns = len(reading.teeth.whole)
        angle = (number - 1) * wheel.pitch_deg
        yield Finding(
            "odd_tooth", reading.column, float(np.clip(0.25 + 0.12 * weight, 0.3, 1.0)),
            f"Tooth {number}, {angle:.0f}° after the reference gap, {words} in each of {turns} turns "
            f"({surprise:.0f} standard errors beyond the other teeth).",
            {"tooth": number, "angle_deg": round(angle, 2), "repeats": True},
            _spans_at(reading, number),
            "Look at that tooth through the sensor's hole: chipped, bent, or something stuck to it.",
        )  # fmt: skip


def _beside_gap(number: np.ndarray, reading: RotatingReading) -> np.ndarray:
    """Teeth next to a gap: their field and their spacing differ on a sound wheel too."""
    after = np.roll(number, -1) - number != 1
    return after | np.roll(after, 1)


def _orders(slots: int, cylinders: int | None) -> tuple[int, ...]:
    """Waves a turn that an engine's compression or an eccentric wheel makes, as far as the wheel resolves them."""
    firing = [k * (cylinders or 4) // 2 for k in (1, 2) if (k * (cylinders or 4)) % 2 == 0]
    return tuple(sorted({1, 2, *firing} & set(range(1, max(slots // 5, 2) + 1))))


def outstanding(
    errors: ToothDeviations, limit: np.ndarray, sure: float, slots: int, orders: tuple[int, ...], *, spread: bool
) -> Iterator[tuple[int, float, float]]:
    """Places that stray significantly, largest first: place, size, and standard errors beyond the others.

    Each place in turn is fitted together with the waves of `orders` a turn and with the places found before; the
    one that explains most is the odd one. A late tooth makes its neighbours look early by two thirds (the cubic
    through them): with `spread` that whole footprint is fitted. What is left over tells how well it is known.
    """
    value = errors.by_place - np.median(errors.by_place)
    count = len(value)
    footprint = {-2: 1 / 6, -1: -2 / 3, 0: 1.0, 1: -2 / 3, 2: 1 / 6} if spread else {0: 1.0}
    prints = sum(share * np.roll(np.eye(count), offset, axis=0) for offset, share in footprint.items())
    taken = waves(errors.number, slots, orders)
    if count < taken.shape[1] + 4:
        return
    # The spread of a dozen teeth is known worse than that of sixty: about Student's t against the normal law.
    sure *= 1 + max(0.0, 5 / count - 5 / 30)
    for _ in range(3):
        basis = np.linalg.qr(taken)[0]
        free, rest = prints - basis @ (basis.T @ prints), value - basis @ (basis.T @ value)
        room = (free**2).sum(axis=0)  # little is left of a print that the waves can make as well
        size = np.where(room > 0.2, (free * rest[:, None]).sum(axis=0) / np.maximum(room, 0.2), 0.0)
        place = int(np.argmax(size**2 * room / limit**2))
        left = rest - free[:, place] * size[place]
        scatter = 1.4826 * float(np.median(np.abs(left - np.median(left))))
        scatter *= np.sqrt(count / (count - taken.shape[1] - 1))
        error = errors.standard_error(scatter) / min(1.0, float(np.sqrt(room[place])))
        # Rounding to samples mimics the print of a small shift: the tooth itself must stray as far.
        itself = float(left[place] + size[place])
        least = min(abs(itself), abs(float(size[place])))
        if least < max(sure * error, limit[place]):
            return
        yield place, itself, least / error
        taken = np.column_stack([taken, prints[:, place]])


def odd_words(name: str, size: float, than: str = "than the others") -> str:
    """How a tooth differs, for a measure of `LEAST`."""
    percent = f"{abs(100 * size):.0f} %"
    if name.startswith("phase_error"):
        return f"comes {percent} of a pitch {'late' if size > 0 else 'early'}"
    if name == "width":
        return f"holds the signal low {percent} of a pitch {'longer' if size > 0 else 'shorter'} {than}"
    return f"is {percent} {'taller' if size > 0 else 'lower'} {than} for its speed"


def _spans_at(reading: RotatingReading, number: int) -> tuple[Span, ...]:
    teeth = reading.teeth
    at = np.flatnonzero(teeth.number == number)[:MOST_SPANS]
    half = 0.5 * float(np.median(np.diff(teeth.times)))
    return tuple(Span(max(0.0, float(teeth.times[i]) - half), float(teeth.times[i]) + half) for i in at)


def runout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    wheel = reading.wheel
    if wheel is None or wheel.slots < 8 or context.has(reading, "wrong_pattern", "undersampled", "clipped"):
        return
    for name, (errors, _) in measures(reading, context).items():
        if name.startswith("phase_error") or errors.turns < 2:
            continue
        amplitude, explained = swing_once_a_turn(errors, wheel.slots)
        least = RUNOUT_HEIGHT if name == "height" else RUNOUT_WIDTH
        noise = errors.scatter / np.sqrt(errors.values.size / 2)
        if amplitude < max(least, 6 * noise) or explained < RUNOUT_EXPLAINED:
            continue
        middle = float(np.median(errors.by_place))
        depth = amplitude / (middle if name == "height" else max(min(middle, 1 - middle), 0.05))
        what = "height" if name == "height" else "share of each pitch that the signal is low"
        yield Finding(
            "runout", reading.column, grade(amplitude - least, 3 * least),
            f"The {what} swings by ±{100 * depth:.0f} % of its mean once a turn, in all {errors.turns} turns: "
            "wheel or shaft does not run true.",
            {"depth": round(float(depth), 3)}, (),
            "Set a dial gauge on the wheel and turn the engine by hand.",
        )  # fmt: skip


def erratic(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    teeth = reading.teeth
    if not reading.switching or reading.smoothing > 1 or len(teeth.times) < 20:
        return
    if context.has(reading, "wrong_pattern", "undersampled", "noise"):
        return
    if _cut_away(reading):
        return
    if teeth.wheel is None and reading.sheet.role == "cam":
        return
    # Both ends of a tooth tell of its place; their mean halves what the sampling adds.
    late = reading.phase_error_middle
    limit = IRREGULAR + 0.5 / reading.samples_a_tooth + _ripple_error(reading, context)
    errors = measures(reading, context).get("phase_error_middle" if reading.kind != "reluctance" else "phase_error")
    if errors is not None:
        errors = errors[0]
        usual = np.zeros(teeth.wheel.slots + 1)
        usual[errors.number] = errors.by_place
        late = late - usual[teeth.number]
    known = np.isfinite(late)
    if teeth.wheel is None or not len(teeth.anchors):
        # Without a known wheel a gap is not told from a fault: only single spaces are judged.
        known[1:] &= teeth.spans == 1
        known[:-1] &= teeth.spans == 1
    irregular = known & irregular_teeth(np.where(known, late, 0.0), np.full(len(late), limit))
    irregular |= known & _heights_wander(reading, context)
    stray = _stray_gaps(reading)
    # A tooth beside a stray gap is not counted a second time.
    irregular[np.clip(np.concatenate([stray + k for k in (-1, 0, 1, 2)]), 0, len(irregular) - 1)] = False
    total = max(int(known.sum()), 1)
    share = (np.count_nonzero(irregular) + len(stray)) / total
    if share < ERRATIC_SHARE or np.count_nonzero(irregular) + len(stray) < 6:
        return
    at = np.union1d(np.flatnonzero(irregular), stray).astype(int)[:MOST_SPANS]
    half = 0.5 * float(np.median(np.diff(teeth.times)))
    yield Finding(
        "erratic", reading.column, grade(share - ERRATIC_SHARE, 0.3),
        f"{100 * share:.0f} % of {total} teeth come irregularly, at another place each turn: not the wheel, which would "
        "repeat.",
        {"share": round(float(min(share, 1.0)), 3)},
        tuple(Span(max(0.0, float(teeth.times[i]) - half), float(teeth.times[i]) + half) for i in at),
        "Look at the sensor's seat: rust under the flange, a loose bolt, a struck tip; then capture again.",
    )  # fmt: skip


def _heights_wander(reading: RotatingReading, context: Context) -> np.ndarray:
    """A coil's teeth whose height for their speed strays from that tooth's usual one, each turn's own level left
    out (a drift is not wandering); none where it is so few that a spike or a gap explains them."""
    none, teeth = np.zeros(len(reading.teeth.times), bool), reading.teeth
    known = measures(reading, context).get("height")
    if known is None or context.has(reading, "clipped"):
        return none
    errors = known[0]
    usual = np.full(teeth.wheel.slots + 1, np.nan)
    usual[errors.number] = errors.by_place
    off = height_for_speed(reading) / usual[teeth.number]
    turn = teeth.turn - teeth.turn.min()
    counted = np.isfinite(off)
    order = np.flatnonzero(counted)[np.argsort(turn[counted], kind="stable")]
    for entries in np.split(order, np.flatnonzero(np.diff(turn[order])) + 1):
        if len(entries):
            off[entries] /= np.median(off[entries])
    # What noise does to two peaks grows as the signal weakens; that is no wandering either.
    limit = HEIGHT_STRAYS + 5.0 * float(reading.levels.noise) / max(float(np.median(reading.heights)), 1e-12)
    strays = counted & (np.abs(np.log(np.maximum(np.nan_to_num(off, nan=1.0), 1e-6))) > limit)
    return strays if strays.sum() >= HEIGHT_SHARE * max(counted.sum(), 1) else none


def _ripple_error(reading: RotatingReading, context: Context) -> float:
    """What compression leaves of a tooth's phase_errors on a coarse wheel: the cubic's error for a wave of
    2 / cylinders turns, r (2 pi / n)^3 / 6 for n teeth a wave and a ripple r."""
    slots = reading.wheel.slots if reading.wheel else 60
    per_wave = 2 * slots / (context.cylinders or 8)
    return min(0.6, 1.5 * _breathing(reading) * (2 * np.pi / max(per_wave, 2.5)) ** 3 / 6)


def _breathing(reading: RotatingReading) -> float:
    """By what share the speed swings about its middle (5 % to 95 % quantile)."""
    speed = reading.teeth.speed_rpm()
    speed = speed[np.isfinite(speed)]
    if len(speed) < 5:
        return 0.0
    low, high = np.quantile(speed, [0.05, 0.95])
    return float((high - low) / (high + low))


def _stray_gaps(reading: RotatingReading) -> np.ndarray:
    """Entries before a space that skips teeth where the wheel has them, not at the same place each turn."""
    teeth = reading.teeth
    if teeth.wheel is None or not (len(teeth.anchors) or not teeth.wheel.missing):
        return np.empty(0, int)
    skipping = np.flatnonzero((teeth.spans > 1) & (teeth.spans <= 4))
    first = teeth.number[skipping] % teeth.wheel.slots + 1
    usual = np.array([teeth.lost.get(int(one), 0.0) < GAP_IN_TURNS for one in first], bool)
    reference = np.isin(skipping + 1, teeth.anchors) | (first > teeth.wheel.slots - teeth.wheel.missing)
    reference |= np.isin(first, teeth.wheel.others)
    return skipping[usual & ~reference] if len(skipping) else skipping


def dropout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    teeth = reading.teeth
    if not reading.switching or context.state in ("key_on", "strike") or len(teeth.times) < 12:
        return
    if context.has(reading, "undersampled") or reading.column in context.cams:
        return  # a cam beside a crank has a rule of its own
    # Where teeth are missed here and there, only what is far longer is a loss of its own.
    beyond = 10.0 if context.has(reading, "erratic") else 0.0
    for start, end, back in interruptions(reading, beyond):
        pitch = float(np.median(np.diff(teeth.times)))
        lost = (end - start) / pitch
        ending = "comes back at once at full speed" if back else "does not come back"
        yield Finding(
            "dropout", reading.column, float(np.clip(0.5 + lost / 60, 0.5, 1.0)),
            f"The signal stops at {start:.4f} s for {1000 * (end - start):.0f} ms (about {lost:.0f} teeth) while the "
            f"shaft turns steadily, and {ending}.{context.rails_say(start, end, pitch)}",
            {"start_s": round(start, 5), "end_s": round(end, 5)},
            (Span(start, end),),
            "Record signal, feed and return together for a long time and wiggle plug and harness.",
        )  # fmt: skip


def interruptions(reading: RotatingReading, beyond: float = 0.0) -> list[tuple[float, float, bool]]:
    """Stretches (s) in which a turning shaft gave no signal, and whether it came back.

    A shaft that comes to rest slows down before, and one that starts is slow after; neither counts.
    """
    teeth = reading.teeth
    spaces = np.diff(teeth.times)
    wheel = reading.wheel or reading.sheet.declared_wheel
    missing = wheel.missing if wheel else 0
    if reading.sheet.role == "cam" and reading.wheel is None:
        return _cam_interruptions(reading)
    single = spaces[teeth.spans == 1]
    usual = float(np.median(single)) if len(single) else float(np.median(spaces))
    least = max(missing + 1 + 2.5, 4.0) + beyond
    found = []
    for k in np.flatnonzero(teeth.ratio >= least):
        number = int(teeth.number[k]) if len(teeth.number) else 0
        if number and teeth.lost.get(number % reading.wheel.slots + 1, 0.0) > 0.5:
            continue
        before, after = _pitch_near(teeth, k, -1), _pitch_near(teeth, k, 1)
        if not (before and after):
            continue
        beside = max(before, after)
        longer = spaces[k] / beside
        if longer >= least and beside <= STEADY * max(usual, min(before, after)):
            found.append((float(teeth.times[k]), float(teeth.times[k + 1]), True))
    end = reading.samples / reading.sfreq
    rest = end - float(teeth.times[-1])
    last = _pitch_near(teeth, len(spaces), -1)
    if last and rest > max(0.05, (missing + 6) * last) and last <= 1.5 * usual:
        found.append((float(teeth.times[-1]), end, False))
    return found


def _pitch_near(teeth, k: int, side: int) -> float | None:
    """Mean pitch of the four spaces before or after space k."""
    window = slice(max(0, k - 4), k) if side < 0 else slice(k + 1, k + 5)
    spaces, spans = np.diff(teeth.times)[window], teeth.spans[window]
    good = spans > 0
    return float(np.median(spaces[good] / spans[good])) if np.count_nonzero(good) >= 2 else None


def _cam_interruptions(reading: RotatingReading) -> list[tuple[float, float, bool]]:
    """A cam's spaces repeat once a turn; one far longer than the longest usual one is an interruption."""
    spaces = np.diff(reading.teeth.times)
    if len(spaces) < 8:
        return []
    usual = float(np.quantile(spaces, 0.9))
    found = [
        (float(reading.teeth.times[k]), float(reading.teeth.times[k + 1]), True)
        for k in np.flatnonzero(spaces > 3.0 * usual)
    ]
    end = reading.samples / reading.sfreq
    if end - reading.teeth.times[-1] > 3.5 * usual and spaces[-3:].mean() < 1.6 * spaces.mean():
        found.append((float(reading.teeth.times[-1]), end, False))
    return found


def wrong_pattern(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    teeth, declared = reading.teeth, reading.sheet.declared_wheel
    if context.has(reading, "undersampled"):
        return
    if not reading.switching or declared is None:
        return
    wheel = teeth.wheel
    if wheel is None:
        if len(teeth.times) < 2 * declared.slots:
            return
        plain = np.mean(np.abs(np.log(np.maximum(teeth.ratio, 1e-3))) < 0.25)
        if declared.missing and plain > 0.97:
            yield _wrong(reading, declared, f"an even wheel: no gap in {len(teeth.times)} teeth", None, 0)
        return
    if len(teeth.anchors) < FEWEST_TURNS or teeth.alike < 0.6:
        return
    if wheel.slots != declared.slots or (declared.missing and wheel.missing < declared.missing):
        yield _wrong(reading, declared, f"{wheel}, the same in {len(teeth.anchors)} turns", wheel.slots, wheel.missing)


def _wrong(reading: RotatingReading, declared, seen: str, slots: int | None, missing: int) -> Finding:
    return Finding(
        "wrong_pattern", reading.column, 0.9,
        f"The wheel is sound but not the one expected: {declared} is stated, the signal shows {seen}.",
        {"slots": slots, "missing": missing}, (),
        "Compare the part number of wheel, flywheel or bearing with the maker's list for this engine.",
    )  # fmt: skip


def reversed_polarity(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    declared = reading.sheet.polarity
    if reading.kind != "reluctance" or not reading.switching or declared is None or not reading.polarity_sure:
        return
    if reading.falling == (declared == "falling"):
        return
    seen = "falling" if reading.falling else "rising"
    yield Finding(
        "reversed_polarity", reading.column, 0.9,
        f"The sharp crossing at each tooth is {seen}, where {declared} is stated, and the gap shows the wrong way "
        "round: the two wires are crossed.",
        {}, (),
        "Compare wire colours at the plug with the drawing, and make sure the probe's own leads are not swapped.",
    )  # fmt: skip
