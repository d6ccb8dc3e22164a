"""Findings from the levels of a signal, and from what kind of capture it is.

Limits are common practice (no published source): a switching sensor pulls down to about half a volt;
its high level is the pull-up but for what the recorder loads it; a two-wire current sensor has about 7
and 14 mA; a coil's height grows with speed.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.signal.context import MOST_SPANS, Context, grade
from sagen.signal.reading import RotatingReading

LOW_LIMIT_V = 0.8
LOW_LIMIT_SHARE = 0.12
HIGH_LIMIT_SHARE = 0.8
#: a pull-up to the battery sags with it while the starter turns
HIGH_LIMIT_CRANKING = 0.62
BATTERY_PULL_UP_V = 9.0
LEAST_FLAT_S = 0.15  #: a flat line shorter than this proves nothing
FEWEST_SAMPLES_A_TOOTH = 4.0
GOOD_SAMPLES_A_TOOTH = 20
FEWEST_TURNS = 2.0
CLIPPED_SHARE = 0.02
RESTS_SHARE = 0.9  #: of the pull-up: above it a level without noise is the pull-up itself
#: least height of a sound coil, V from peak to peak for each tooth a second, and its bounds
COIL_V_S, COIL_LEAST_V, COIL_MOST_V = 0.0035, 0.12, 1.5
WEAK_AGAINST_PATTERN = 0.55
WEAK_CURRENT = 0.65  #: share of the usual 7 mA between the two levels


def undersampled(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if not reading.switching or len(reading.edges) < 12:
        return
    least = reading.samples_a_tooth
    pitch = float(np.median(np.diff(reading.falls))) * reading.sfreq if len(reading.falls) > 4 else np.inf
    if min(least, pitch - 0.6) >= FEWEST_SAMPLES_A_TOOTH:
        return
    seen = min(least, pitch)
    wanted = reading.sfreq * GOOD_SAMPLES_A_TOOTH / max(seen, 1.0)
    wanted = float(f"{wanted:.1g}")
    yield Finding(
        "undersampled", reading.column, grade(FEWEST_SAMPLES_A_TOOTH - seen, 3.0),
        f"Only {seen:.1f} samples from tooth to tooth at top speed: teeth cannot be told apart for certain, and what "
        f"looks like a fault may be the sampling. {GOOD_SAMPLES_A_TOOTH} a tooth are good.",
        {}, (), f"Record again with at least {_rate(wanted)}.",
    )  # fmt: skip


def _rate(hertz: float) -> str:
    return f"{hertz / 1e6:g} MS/s" if hertz >= 1e6 else f"{hertz / 1e3:g} kS/s"


def clipped(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Samples pile up at the end of the recorder's range, where the waveform would have gone on."""
    share, level = reading.piled
    if reading.kind == "hall" and (level >= RESTS_SHARE * reading.expected or level <= LOW_LIMIT_V):
        return  # a switching sensor rests on its two levels
    if share < CLIPPED_SHARE:
        return
    range_v = 1.3 * max(reading.expected if reading.kind == "hall" else abs(level) * 1.6, abs(level))
    yield Finding(
        "clipped", reading.column, grade(share, 0.3),
        f"The recorder's range ends at {level:.2f} {reading.unit}: {100 * share:.0f} % of the samples lie exactly there, "
        "so heights and levels beyond it are unknown.",
        {}, (), f"Record again with a height scale of at least ±{float(f'{range_v:.1g}'):g} {reading.unit}, "
        "or with a probe of a higher factor.",
    )  # fmt: skip


def too_short(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    seconds = reading.samples / reading.sfreq
    if not context.turning or context.has(reading, "undersampled"):
        return
    if not reading.switching:
        if seconds < LEAST_FLAT_S:
            yield _short(reading, f"{1000 * seconds:.0f} ms of a line without pulses prove nothing.", 2.0)
        return
    declared = reading.sheet.declared_wheel
    wheel = reading.wheel or declared
    if wheel is None or len(reading.teeth.times) < 2:
        return
    if not (reading.wheel and len(reading.teeth.anchors) >= 3):
        wheel = declared or wheel
    turn_s = float(np.median(np.diff(reading.teeth.times))) * wheel.slots
    turns = float(reading.teeth.times[-1] - reading.teeth.times[0]) / turn_s
    if turns >= FEWEST_TURNS:
        return
    if len(reading.teeth.times) < 5 and seconds > FEWEST_TURNS * turn_s:
        return  # it stands still, or stops
    yield _short(
        reading,
        f"Only {turns:.1f} turns of the wheel are in it: whether something repeats every turn cannot be said.",
        float(f"{max(6 * turn_s, 0.5):.2g}"),
    )


def _short(reading: RotatingReading, text: str, wanted_s: float) -> Finding:
    return Finding(
        "too_short", reading.column, 0.7, text, {}, (), f"Record at least {wanted_s:g} s: six turns or more."
    )


def no_signal(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if reading.switching or not context.turning or context.has(reading, "too_short"):
        return
    level = reading.levels.middle
    held, where = _HELD[reading.kind](level, reading, context)
    yield Finding(
        "no_signal", reading.column, 1.0,
        f"Flat at {level:.2f} {reading.unit} for the whole {reading.samples / reading.sfreq:.3g} s while the shaft "
        f"should turn: {where}.",
        {"held": held, "level_v": round(level, 3)}, (Span(0.0, reading.samples / reading.sfreq),),
        "Make sure that the engine turned during the recording and that the probe sat on the signal wire.",
    )  # fmt: skip


def _held_switch(level: float, reading: RotatingReading, context: Context) -> tuple[str, str]:
    if level >= _high_limit(reading, context):
        return "high", f"held high, near the pull-up of {reading.expected:g} V"
    if level <= max(LOW_LIMIT_V, LOW_LIMIT_SHARE * reading.expected):
        return "low", "held low, near ground"
    return "middle", f"hanging between ground and the pull-up of {reading.expected:g} V"


def _held_coil(level: float, reading: RotatingReading, context: Context) -> tuple[str, str]:
    if abs(level) < 0.35:
        return "low", "the coil makes no voltage"
    return "middle", "only the module's bias stands on the wire, the coil adds nothing"


def _held_current(level: float, reading: RotatingReading, context: Context) -> tuple[str, str]:
    milliamp = 14.0 * level / reading.expected
    if milliamp < 3.5:
        return "low", f"{milliamp:.1f} mA, no sensor draws so little: open circuit or no feed"
    if milliamp < 10.5:
        return "low", f"held at {milliamp:.1f} mA, the lower of the two states"
    return "high", f"held at {milliamp:.1f} mA, the upper of the two states or beyond"


_HELD = {"hall": _held_switch, "reluctance": _held_coil, "current": _held_current}


def low_not_pulled_down(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if reading.kind != "hall" or not reading.switching:
        return
    low, limit = reading.levels.low, max(LOW_LIMIT_V, LOW_LIMIT_SHARE * reading.expected)
    if low <= limit:
        return
    yield Finding(
        "low_not_pulled_down", reading.column, grade(low - limit, 0.4 * reading.expected),
        f"Switches, but comes down only to {low:.2f} V; a sound sensor pulls to about 0.5 V or less. "
        f"{len(reading.falls)} pulses look alike in this.",
        {"level_v": round(low, 3)}, (),
        "Measure the sensor's return against battery negative while cranking: if it stays below "
        "0.1 V, the sensor itself does not pull down.",
    )  # fmt: skip


def high_not_reached(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if reading.kind != "hall" or not reading.switching or context.has(reading, "clipped"):
        return
    high, limit = reading.levels.high, _high_limit(reading, context)
    if high >= limit:
        return
    yield Finding(
        "high_not_reached", reading.column, grade(limit - high, 0.5 * reading.expected),
        f"Switches, but rises only to {high:.2f} V, {100 * high / reading.expected:.0f} % of the "
        f"{reading.expected:g} V pull-up: something holds the line down.",
        {"level_v": round(high, 3)}, (),
        "Unplug the sensor with the key on: if the harness side now shows the full pull-up, the sensor "
        "loads it; if not, the wire or the module does.",
    )  # fmt: skip


def _high_limit(reading: RotatingReading, context: Context) -> float:
    cranking = context.cranking and reading.expected >= BATTERY_PULL_UP_V
    return (HIGH_LIMIT_CRANKING if cranking else HIGH_LIMIT_SHARE) * reading.expected


def weak_coil(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if reading.kind != "reluctance" or not reading.switching or len(reading.teeth.times) < 5:
        return
    height, rate = float(np.median(reading.heights)), 1 / float(np.median(np.diff(reading.teeth.times)))
    limit = float(np.clip(COIL_V_S * rate, COIL_LEAST_V, COIL_MOST_V))
    against = f"at {rate:.0f} teeth a second at least {limit:.2g} V is usual"
    pattern = context.pattern(reading)
    if pattern is not None and len(pattern.heights) > 4:
        theirs = float(np.median(pattern.heights)) * float(np.median(np.diff(pattern.teeth.times))) * rate
        limit = WEAK_AGAINST_PATTERN * theirs
        against = f"the known-good capture gives {theirs:.2f} V for this speed"
    if height < limit:
        yield _weak(reading, height, limit, against)


def weak_current(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    if reading.kind != "current" or not reading.switching:
        return
    milliamp = 14.0 / reading.expected
    swing = reading.levels.swing
    if swing * milliamp < WEAK_CURRENT * 7.0:
        against = (
            f"its levels are {reading.levels.low * milliamp:.1f} and {reading.levels.high * milliamp:.1f} mA "
            "where about 7 and 14 mA are usual"
        )
        yield _weak(reading, swing, WEAK_CURRENT * 0.5 * reading.expected, against)


def _weak(reading: RotatingReading, height: float, limit: float, against: str) -> Finding:
    return Finding(
        "weak_amplitude", reading.column, grade(limit - height, limit),
        f"The signal swings by only {height:.3g} {reading.unit} from peak to peak; {against}.",
        {"level_v": round(height, 4)}, (),
        "Check the gap to the wheel, then the sensor's resistance against the maker's value at its temperature.",
    )  # fmt: skip


def noise(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Pulses too narrow for teeth that cross both thresholds, or a disturbance near to doing so."""
    if not reading.switching or context.has(reading, "undersampled"):
        return
    false_edges = _extra_pulses(reading)
    count, teeth = len(false_edges), max(1, len(reading.falls))
    # A rail that moves takes the levels with it, and where teeth wander some pulses are too short for a slow
    # output to reach its level: neither is a disturbance of the signal.
    moved = any(one.kind in ("ground_lift", "supply_loss") for one in context.found)
    near = 0 if moved or reading.teeth.wanders else reading.near_misses
    swing = reading.levels.swing
    loud = not moved and reading.levels.noise > max(0.085 * swing, 2 * reading.levels.step) and reading.smoothing == 1
    many = count >= 3 and count >= 0.004 * teeth
    nearly = near >= 4 and near >= 0.004 * teeth
    if not (loud or many or nearly):
        return
    level = reading.levels.noise * 3 if loud else swing * (0.7 if many else 0.35)
    half = 0.2 * float(np.median(np.diff(reading.falls))) if len(reading.falls) > 2 else 1e-4
    what = []
    if count:
        what.append(f"{count} pulses too narrow to be teeth lie between {teeth} teeth")
    if near:
        what.append(f"{near} disturbances come near to making false edges")
    if loud:
        what.append(f"noise of ±{level:.2f} {reading.unit} rides on the signal")
    yield Finding(
        "noise", reading.column, grade((count + 0.3 * near) / teeth, 0.3), "; ".join(what).capitalize() + ".",
        {"level_v": round(float(level), 3)},
        tuple(Span(max(0.0, float(t) - half), float(t) + half) for t in false_edges[:MOST_SPANS]),
        "Move the harness away from ignition and alternator leads, check the shield's ground, and capture again.",
    )  # fmt: skip


def _extra_pulses(reading: RotatingReading) -> np.ndarray:
    """Narrow pulses (s) without which the teeth are even; where one is lacking then, it was a tooth."""
    teeth, at = reading.teeth, reading.false_edges
    if len(teeth.times) < 3 or not len(at):
        return at
    space = np.clip(np.searchsorted(teeth.times, at, "right") - 1, 0, len(teeth.ratio) - 1)
    missing = reading.wheel.missing if reading.wheel else 0
    ratio = teeth.ratio[space]
    if teeth.wanders:
        return at[:0]  # what is narrow here is two teeth close together
    even = (np.abs(ratio - 1) < 0.35) | (np.abs(ratio - missing - 1) < 0.5)
    return at[even] if reading.sheet.role != "cam" else at


def expected_bands(reading: RotatingReading, state: str) -> tuple[tuple[float, float, str], ...]:
    """Where the levels of a sound circuit lie: low end, high end (in the reading's unit), name."""
    if reading.kind == "reluctance":
        return ()
    if reading.kind == "current":
        half = 0.5 * reading.expected
        return ((0.85 * reading.expected, 1.15 * reading.expected, "14 mA"), (0.85 * half, 1.15 * half, "7 mA"))
    context = Context(state)
    return (
        (_high_limit(reading, context), 1.06 * reading.expected, "expected high"),
        (-0.04 * reading.expected, max(LOW_LIMIT_V, LOW_LIMIT_SHARE * reading.expected), "expected low"),
    )
