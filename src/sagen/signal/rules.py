"""From a reading to findings: one function a rule, each a row of `RULES`.

Limits are common practice (no published source): a switching sensor pulls down to about half a
volt; its high level is the pull-up but for what the recorder loads it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.words import TURNING
from sagen.signal.reading import Reading

LOW_LIMIT_V = 0.8
LOW_LIMIT_SHARE = 0.12
HIGH_LIMIT_SHARE = 0.8
#: a pull-up to the battery sags with it while the starter turns
HIGH_LIMIT_CRANKING = 0.58
BATTERY_PULL_UP_V = 9.0
GAP_IN_TURNS = 0.5
MOST_SPANS = 400


@dataclass(frozen=True)
class Context:
    """What a rule may look at beside its own channel."""

    state: str
    readings: tuple[Reading, ...]
    #: tooth numbers that the known-good capture lacks as well
    lost_in_reference: frozenset[int] = frozenset()

    @property
    def turning(self) -> bool:
        return self.state in TURNING


def no_signal(reading: Reading, context: Context) -> Iterator[Finding]:
    if reading.switching or not context.turning:
        return
    level = reading.levels.middle if not reading.switching else reading.levels.low
    held = _held(level, reading.expected, _high_limit(reading, context))
    where = {
        "high": f"near the pull-up of {reading.expected:g} V",
        "low": "near ground",
        "middle": f"between ground and the pull-up of {reading.expected:g} V",
    }[held]
    yield Finding(
        "no_signal",
        reading.column,
        1.0,
        f"Flat at {level:.2f} V for the whole {reading.samples / reading.sfreq:.3g} s while the shaft "
        f"should turn: held {held}, {where}.",
        {"held": held, "level_v": round(level, 3)},
        (Span(0.0, reading.samples / reading.sfreq),),
        "Make sure that the engine turned during the recording and that the probe sat on the signal wire.",
    )


def low_not_pulled_down(reading: Reading, context: Context) -> Iterator[Finding]:
    low, limit = reading.levels.low, max(LOW_LIMIT_V, LOW_LIMIT_SHARE * reading.expected)
    if not reading.switching or low <= limit:
        return
    yield Finding(
        "low_not_pulled_down",
        reading.column,
        _grade(low - limit, 0.4 * reading.expected),
        f"Switches, but comes down only to {low:.2f} V; a sound sensor pulls to about 0.5 V or less. "
        f"{len(reading.falls)} pulses look alike in this.",
        {"level_v": round(low, 3)},
        sure="Measure the sensor's return against battery negative while cranking: if it stays below "
        "0.1 V, the sensor itself does not pull down.",
    )


def high_not_reached(reading: Reading, context: Context) -> Iterator[Finding]:
    high, limit = reading.levels.high, _high_limit(reading, context)
    if not reading.switching or high >= limit:
        return
    yield Finding(
        "high_not_reached",
        reading.column,
        _grade(limit - high, 0.5 * reading.expected),
        f"Switches, but rises only to {high:.2f} V, {100 * high / reading.expected:.0f} % of the "
        f"{reading.expected:g} V pull-up: something holds the line down.",
        {"level_v": round(high, 3)},
        sure="Unplug the sensor with the key on: if the harness side now shows the full pull-up, the sensor "
        "loads it; if not, the wire or the module does.",
    )


def extra_gap(reading: Reading, context: Context) -> Iterator[Finding]:
    teeth = reading.teeth
    if not reading.switching or teeth.wheel is None:
        return
    wheel = teeth.wheel
    turns = len(teeth.anchors)
    plain = [n for n, share in sorted(teeth.lost.items()) if share >= GAP_IN_TURNS]
    for group in _neighbours(n for n in plain if n not in context.lost_in_reference):
        number = group[0]
        spans = _spans_over(teeth, number)
        repeats = len(spans) >= 2
        if not repeats and turns > 1:
            continue
        share = teeth.lost[number]
        angle = (number - 1) * wheel.pitch_deg
        gap = float(np.median(teeth.ratio[spans])) if len(spans) else 0.0
        many = f"Teeth {group[0]} to {group[-1]} are" if len(group) > 1 else f"Tooth {number} is"
        beside = number in (1, wheel.slots - wheel.missing)
        twin = not beside and len(group) == wheel.missing
        yield Finding(
            "extra_gap",
            reading.column,
            float(np.clip(share if repeats else 0.4, 0, 1)),
            f"{many} missing in {len(spans)} of {max(turns, len(spans))} turns, {angle:.0f}° after the "
            f"reference gap: the space there is {gap:.2f} pitches long, the spaces beside it are even."
            + (
                " It lies next to the reference gap, so it may be the tooth on the gap's other side."
                if beside
                else " Both gaps are equally long: this one could as well be the reference gap, and what is missing "
                f"then starts at tooth {wheel.slots - 2 * wheel.missing - number + 2}."
                if twin
                else ""
            ),
            {"tooth": int(number), "angle_deg": round(angle, 2), "repeats": repeats},
            tuple(Span(float(teeth.times[i]), float(teeth.times[i + 1])) for i in spans[:MOST_SPANS]),
            "Turn the engine by hand and look at that tooth through the sensor's hole; "
            "on a magnet ring use a viewing card."
            if repeats
            else "Record at least three turns: one gap seen once may be an interruption.",
        )


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


def _high_limit(reading: Reading, context: Context) -> float:
    cranking = context.state in ("cranking", "start") and reading.expected >= BATTERY_PULL_UP_V
    return (HIGH_LIMIT_CRANKING if cranking else HIGH_LIMIT_SHARE) * reading.expected


def _held(level: float, expected: float, high_limit: float) -> str:
    if level >= high_limit:
        return "high"
    return "low" if level <= max(LOW_LIMIT_V, LOW_LIMIT_SHARE * expected) else "middle"


def _grade(beyond: float, plain: float) -> float:
    """Severity from how far a value lies beyond its limit; `plain` is where it is beyond doubt."""
    return float(np.clip(0.4 + 0.6 * beyond / plain, 0.4, 1.0))


Rule = Callable[[Reading, Context], Iterator[Finding]]
RULES: tuple[Rule, ...] = (no_signal, low_not_pulled_down, high_not_reached, extra_gap)


def expected_bands(reading: Reading, state: str) -> tuple[tuple[float, float, str], ...]:
    """Where the two levels of a sound circuit lie: low end, high end (in the reading's unit), name."""
    context = Context(state, ())
    return (
        (_high_limit(reading, context), 1.06 * reading.expected, "expected high"),
        (-0.04 * reading.expected, max(LOW_LIMIT_V, LOW_LIMIT_SHARE * reading.expected), "expected low"),
    )
