"""Made-up captures for studies, drawn without regard to how the reader works.

The generator shares no code with `sagen.machine` or `sagen.signal`: speed is stepped through the angle
from a torque-like ripple with uneven cylinders, teeth are profiles of their own, coils give the slope of
a flux bump, the recorder has an offset, a bandwidth and eight bits or none. A kind is a row of `KINDS`:
what is drawn, and the finding that a technician would want from it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet

GAPPED = ((60, 2), (36, 1), (36, 2), (48, 2), (24, 1), (30, 2), (54, 3), (58, 2), (90, 2), (40, 1))
TWO_LOST = tuple(item for item in GAPPED if item[1] > 1)
EVEN = (29, 43, 48, 52, 96)


@dataclass
class Draw:
    """What one capture is made of; every field may be changed by a kind before it is rendered."""

    rng: np.random.Generator
    slots: int = 60
    missing: int = 2
    cylinders: int = 4
    rpm: float = 200.0
    ripple: float = 0.15
    course: str = "steady"
    seconds: float = 2.5
    state: str = "cranking"
    role: str = "crank"
    sensor: str = "hall"
    pull_up: float = 5.0
    low: float = 0.2
    high: float = 4.95
    duty: float = 0.5
    per_tooth: float = 20.0  #: samples a tooth at top speed
    noise: float = 0.01  #: share of the swing
    bits: int = 0
    polarity: str = "falling"
    declared: bool = True
    lost: tuple[int, ...] = ()
    shift: dict[int, float] = field(default_factory=dict)  #: pitches
    tall: dict[int, float] = field(default_factory=dict)
    wide: dict[int, float] = field(default_factory=dict)
    swing_once: float = 0.0  #: height or duty once a turn
    jitter: float = 0.0  #: pitches, each tooth anew
    missed: float = 0.0  #: share of teeth not seen, each turn anew
    coil_gain: float = 1.0  #: V of peak at 200 teeth a second
    gap: tuple[float, float] | None = None  #: s, no signal
    gap_level: str = "high"
    cams: tuple[dict, ...] = ()
    rails: dict | None = None
    flat: float | None = None
    spikes: float = 0.0  #: a second
    spike_size: float = 0.8
    clip: float | None = None
    hum: float = 0.0
    sfreq: float | None = None


@dataclass(frozen=True)
class MadeUp:
    """One drawn capture, its sheet, the known-good capture where there is one, and what is true of it."""

    capture: Capture
    sheet: Sheet
    truth: str  #: the finding that should come out, "" for none
    wanted: dict = field(default_factory=dict)  #: field -> value, or (value, tolerance)
    allowed: tuple[str, ...] = ()  #: findings that may stand beside it
    reference: tuple[Capture, Sheet] | None = None


def shaft(rng, seconds: float, rpm: float, cylinders: int, ripple: float, course: str):
    """Time (s), angle (turns) and speed (turns a second) on a grid of 1440 steps a turn."""
    per_turn = 1440
    turns = np.arange(0, int(seconds * rpm / 60 * 2.2 + 4) * per_turn) / per_turn
    phase = rng.uniform(0, 1)
    strength = 1 + rng.normal(0, 0.08, cylinders)
    fire = (turns / 2 + phase) * cylinders
    which = np.floor(fire).astype(int) % cylinders
    within = fire % 1
    wave = np.cos(2 * np.pi * within) + 0.25 * np.cos(4 * np.pi * within + 0.6)
    speed = rpm / 60 * (1 + ripple * wave / 1.15 * strength[which])
    if course == "slowing":
        speed *= np.linspace(1.0, rng.uniform(0.35, 0.6), len(turns))
    elif course == "rising":
        speed *= np.linspace(1.0, rng.uniform(1.5, 2.2), len(turns))
    elif course == "from rest":
        speed *= np.sqrt(np.clip(turns / rng.uniform(0.4, 1.0), 1e-4, 1.0))
    elif course == "revving":
        speed *= 1 + 2.0 * np.exp(-((turns - turns[-1] * 0.3) ** 2) / (2 * (turns[-1] * 0.08) ** 2))
    kernel = np.hanning(41)
    speed = np.convolve(np.pad(speed, 20, mode="edge"), kernel / kernel.sum(), "valid")
    time = np.concatenate([[0.0], np.cumsum(1 / (per_turn * 0.5 * (speed[1:] + speed[:-1])))])
    return time, turns, speed


def render(d: Draw) -> tuple[Capture, Sheet]:
    """The capture and sheet of a draw."""
    rng = d.rng
    time, turns, speed = shaft(rng, d.seconds + 1.0, d.rpm, d.cylinders, d.ripple, d.course)
    top = d.slots * d.rpm / 60 * {"rising": 2.0, "revving": 3.0}.get(d.course, 1.15)
    sfreq = d.sfreq or float(np.clip(top * d.per_tooth, 200, 400_000))
    rest = d.course == "from rest"
    start = 0.0 if rest else float(rng.uniform(0, 0.3))
    grid = start + np.arange(int(d.seconds * sfreq)) / sfreq
    first = 0.0 if rest else float(rng.uniform(0, 1))
    angle, rate = np.interp(grid, time, turns) + first, np.interp(grid, time, speed)
    if rest:
        # The engine stands for a while before the starter bites.
        still = int(rng.uniform(0.1, 0.4) * sfreq)
        angle = np.concatenate([np.full(still, angle[0]), angle])
        rate = np.concatenate([np.zeros(still), rate])
    now = np.arange(len(angle)) / sfreq
    columns = [("A", "V", _signal(d, angle, rate, now, sfreq))]
    tables = [{"column": "A", "role": d.role, "sensor": d.sensor}]
    if d.declared:
        tables[0]["wheel"] = f"{d.slots}-{d.missing}" if d.missing else str(d.slots)
    tables[0] |= {"hall": {"pull_up": d.pull_up}, "reluctance": {"polarity": "falling"}}.get(
        d.sensor, {"shunt_ohm": 100.0}
    )
    for index, cam in enumerate(d.cams):
        columns.append((f"CAM{index + 1}", "V", _cam(d, cam, angle, now, sfreq)))
        tables.append({"column": f"CAM{index + 1}", "role": "cam", "sensor": "hall", "pull_up": 5.0})
    if d.rails is not None:
        for name, level in (("supply", d.rails.get("nominal", 12.4)), ("ground", 0.03)):
            columns.append((name.upper(), "V", _rail(d, name, level, now, sfreq)))
            tables.append({"column": name.upper(), "role": name} | ({"nominal": level} if name == "supply" else {}))
    channels = tuple(Channel(name, values.astype(np.float32), unit) for name, unit, values in columns)
    sheet = {"engine": {"cylinders": d.cylinders}, "conditions": {"state": d.state}, "channel": tables}
    return Capture("drawn", sfreq, channels), Sheet.from_data(sheet)


def _signal(d: Draw, angle, rate, now, sfreq) -> np.ndarray:
    rng = d.rng
    place = angle * d.slots
    index = np.floor(place).astype(int)
    slot = index % d.slots
    many = int(index.max()) + 2
    shift = np.zeros(d.slots)
    tall, wide, there = np.ones(d.slots), np.ones(d.slots), np.ones(d.slots, bool)
    for number, by in d.shift.items():
        shift[number - 1] = by
    for number, by in d.tall.items():
        tall[number - 1] = by
    for number, by in d.wide.items():
        wide[number - 1] = by
    there[d.slots - d.missing :] = False
    there[[item - 1 for item in d.lost]] = False
    once = d.swing_once * np.cos(2 * np.pi * (np.arange(d.slots) / d.slots - rng.uniform()))
    moved = shift[np.arange(many) % d.slots] + d.jitter * rng.normal(size=many)
    seen = there[np.arange(many) % d.slots] & (rng.uniform(size=many) >= d.missed)
    within = place - index - 0.5 - np.clip(moved, -0.45, 0.45)[index]
    present = seen[index]
    if d.sensor == "reluctance":
        size = tall * (1 + once)
        width = d.duty * 0.42
        bump = -within / width * np.exp(0.5 - 0.5 * (within / width) ** 2)
        volts = d.coil_gain * rate * d.slots / 200.0 * bump * size[slot] * present
        if d.polarity == "rising":
            volts = -volts
        swing = 2 * d.coil_gain * max(float(np.median(rate[rate > 0])) * d.slots / 200.0, 1e-3)
    else:
        half = 0.5 * d.duty * wide[slot] * (1 + once[slot] / max(d.duty, 0.1))
        inside = (np.abs(within) < half) & present
        volts = np.where(inside, d.low, d.high).astype(float)
        swing = d.high - d.low
        volts = _slow(volts, 1 - np.exp(-1 / (sfreq * rng.uniform(2e-6, 25e-6))))
    if d.flat is not None:
        volts = np.full(len(now), d.flat)
    if d.gap is not None:
        off = (now >= d.gap[0]) & (now < d.gap[1])
        volts = np.where(off, 0.0 if d.sensor == "reluctance" else d.high if d.gap_level == "high" else d.low, volts)
    volts = volts + rng.normal(0, d.noise * swing, len(volts)) + rng.normal(0, 0.01 if d.sensor == "hall" else 0.0)
    if d.hum:
        volts = volts + d.hum * np.sin(2 * np.pi * 50 * now + rng.uniform(0, 6))
    volts = _spiked(d, volts, now, sfreq, d.spike_size * swing)
    if d.clip is not None:
        volts = np.clip(volts, -d.clip, d.clip)
    if d.bits:
        span = 1.25 * max(np.abs(volts).max(), d.pull_up if d.sensor == "hall" else 0)
        step = 2 * span / 2**d.bits
        volts = np.round(volts / step) * step
    return volts


def _spiked(d: Draw, volts, now, sfreq, size) -> np.ndarray:
    """Short bursts at random times: an ignition system nearby."""
    for at in np.sort(d.rng.uniform(0, now[-1], d.rng.poisson(d.spikes * now[-1]))):
        length = max(2, int(d.rng.uniform(60e-6, 250e-6) * sfreq))
        first = int(at * sfreq)
        sign = d.rng.choice([-1, 1])
        ring = sign * size * np.exp(-np.arange(length) / (length / 2.5)) * np.cos(np.arange(length) * 1.1)
        part = volts[first : first + length]
        part += ring[: len(part)]
    return volts


def _cam(d: Draw, cam: dict, angle, now, sfreq) -> np.ndarray:
    """A cam's windows (crank degrees of 720), shifted, wandering or moved by a phaser."""
    rng = d.rng
    late = np.full(len(now), cam.get("offset", 0.0))
    if cam.get("wander"):
        cycles = int(angle.max() / 2) + 3
        late = late + np.interp(angle / 2, np.arange(cycles), rng.normal(0, cam["wander"], cycles))
    if cam.get("phaser"):
        late = late + cam["phaser"] / (1 + np.exp(-(now - 0.5 * now[-1]) / 0.08))
    at = (angle * 360.0 + cam.get("parity", 0.0) - late) % 720.0
    low = np.zeros(len(now), bool)
    for first, last in cam["windows"]:
        low |= (at >= first) & (at < last)
    volts = _slow(np.where(low, 0.15, 4.9), 0.6)
    if d.gap is not None and cam.get("lost"):
        volts = np.where((now >= d.gap[0]) & (now < d.gap[1]), 4.9, volts)
    return volts + rng.normal(0, 0.04, len(now))


def _rail(d: Draw, name: str, level: float, now, sfreq) -> np.ndarray:
    rails, rng = d.rails, d.rng
    volts = np.full(len(now), level)
    if name == "supply" and d.state == "cranking" and level > 8:
        volts = volts - 2.2 * (1 - np.exp(-now / 0.05)) + 0.4 * np.sin(2 * np.pi * 6 * now)
    for start, end, to in rails.get(name, ()):
        volts = np.where((now >= start) & (now < end), to, volts)
    volts = volts + rng.normal(0, 0.008 * max(level, 1.0), len(now))
    if rails.get("ignition") and name == "ground":
        volts = _spiked(replace(d, spikes=25.0), volts, now, sfreq, 1.5)
    return volts


def _slow(volts: np.ndarray, lag: float) -> np.ndarray:
    """A first-order lag, written as a short convolution."""
    length = int(np.clip(6 / lag, 1, 200))
    kernel = lag * (1 - lag) ** np.arange(length)
    return np.convolve(np.pad(volts, (length - 1, 0), mode="edge"), kernel / kernel.sum(), "valid")


# Kinds ----------------------------------------------------------------------------------------------


def _base(rng, wheels=GAPPED, **over) -> Draw:
    slots, missing = wheels[rng.integers(len(wheels))]
    pull_up = float(rng.choice([5.0, 5.0, 8.0, 12.0]))
    d = Draw(
        rng, slots, missing, int(rng.integers(3, 9)), float(rng.uniform(130, 320)), float(rng.uniform(0.03, 0.25)),
        seconds=float(rng.uniform(1.8, 3.5)), pull_up=pull_up, low=float(rng.uniform(0.02, 0.45)),
        high=pull_up * float(rng.uniform(0.95, 1.0)), duty=float(rng.uniform(0.32, 0.68)),
        per_tooth=float(rng.choice([6.5, 8, 12, 25, 80])), noise=float(rng.uniform(0.002, 0.02)),
        bits=int(rng.choice([0, 8])),
    )  # fmt: skip
    return replace(d, **over)


def _coil(rng, **over) -> Draw:
    d = _base(rng, sensor="reluctance", duty=0.5)
    usual = {"per_tooth": float(rng.choice([10, 16, 40])), "coil_gain": float(rng.uniform(0.8, 6.0))}
    return replace(d, **{**usual, **over})


def _running(d: Draw, rpm=None) -> Draw:
    return replace(d, state="running", rpm=rpm or float(d.rng.uniform(650, 2500)), ripple=d.ripple * 0.2, seconds=1.6)


def _speed(rng, sensor: str, **over) -> Draw:
    rpm = float(rng.uniform(60, 600))
    d = replace(
        _base(rng), slots=int(rng.choice(EVEN)), missing=0, role="speed", sensor=sensor, state="rolling", rpm=rpm,
        ripple=0.005, seconds=float(max(2.5, 400 / rpm)), duty=0.5, per_tooth=float(rng.choice([10, 20, 50])),
    )  # fmt: skip
    if sensor == "current":
        d = replace(d, low=0.7 * float(rng.uniform(0.92, 1.08)), high=1.4 * float(rng.uniform(0.92, 1.08)))
    return replace(d, **{"coil_gain": float(rng.uniform(0.8, 4.0)), **over})


def _tooth(d: Draw) -> int:
    return int(d.rng.integers(3, d.slots - d.missing - 2, endpoint=True))


def _windows(rng) -> tuple[tuple[float, float], ...]:
    """Uneven windows of a cam, crank degrees of 720."""
    starts = np.sort(rng.choice(np.arange(0, 720, 60), int(rng.integers(2, 6)), replace=False)) + rng.uniform(0, 15)
    return tuple((float(a), float(a + rng.uniform(18, 42))) for a in starts)


def _one(kind: Callable) -> Callable:
    """Most kinds give a draw, a finding and what its fields should be."""

    def make(rng) -> MadeUp:
        d, truth, *rest = kind(rng)
        capture, sheet = render(d)
        return MadeUp(capture, sheet, truth, *rest)

    return make


def _with_good(make: Callable) -> Callable:
    """Kinds with a known-good capture: the same circuit, drawn sound, at another speed."""

    def pair(rng) -> MadeUp:
        good, bad, truth, *rest = make(rng)
        reference, capture = render(good), render(bad)
        return MadeUp(*capture, truth, *rest, reference=reference)

    return pair


def _lost(rng, **over):
    d = replace(_base(rng, TWO_LOST), **over)
    n = _tooth(d)
    return (
        replace(d, lost=(n,)),
        "extra_gap",
        {"tooth": n, "angle_deg": ((n - 1) * 360 / d.slots, 0.1), "repeats": True},
    )


def _lost_between(first: float, last: float):
    def kind(rng):
        d = _base(rng, TWO_LOST)
        teeth = d.slots - d.missing
        n = int(rng.integers(max(3, round(first * teeth)), min(round(last * teeth), teeth - 2), endpoint=True))
        return replace(d, lost=(n,)), "extra_gap", {"tooth": n, "repeats": True}

    return kind


def _lost_coil(rng):
    d = _coil(rng)
    d = replace(d, slots=60, missing=2)
    n = _tooth(d)
    return replace(d, lost=(n,)), "extra_gap", {"tooth": n, "repeats": True}


def _odd(rng, d: Draw, field_name: str, value: float):
    n = _tooth(d)
    return replace(d, **{field_name: {n: value}}), "odd_tooth", {"tooth": n, "repeats": True}


def _with_cam(rng, *cams: dict, **over) -> Draw:
    d = _base(rng, ((60, 2), (36, 1), (58, 2)), cams=cams, per_tooth=float(rng.choice([10, 25, 60])), seconds=3.5)
    return replace(d, cylinders=int(rng.choice([4, 6])), **over)


def _cam_pair(rng, *, bad: dict, count: int = 1, running: bool = False):
    windows = [_windows(rng) for _ in range(count)]
    good = _with_cam(rng, *({"windows": window, "parity": float(rng.choice([0, 360]))} for window in windows))
    second = replace(good, rpm=good.rpm * 1.1, cams=tuple({"windows": window} for window in windows))
    if running:
        good, second = _running(good, 800.0), _running(second, 1500.0)
        good, second = replace(good, seconds=2.5), replace(second, seconds=2.5)
    cams = list(second.cams)
    cams[-1] = {**cams[-1], **bad}
    return good, replace(second, cams=tuple(cams))


def _offset(rng, size: float):
    good, bad = _cam_pair(rng, bad={"offset": size})
    return good, bad, "timing_offset", {"offset_deg": (size, 0.8)}


def _gap_times(rng, d: Draw) -> tuple[float, float]:
    start = float(rng.uniform(0.5, 0.8))
    pitch = 60 / (d.rpm * d.slots)
    return start, start + float(rng.uniform(14, 60)) * pitch


def _dropout(rng, d: Draw, **extra):
    gap = _gap_times(rng, d)
    pitch = 60 / (d.rpm * d.slots) * (d.missing + 2.6)
    wanted = {"start_s": (gap[0], pitch), "end_s": (gap[1], pitch)}
    return replace(d, gap=gap, gap_level=str(rng.choice(["high", "low"])), **extra), "dropout", wanted


def _short(rng):
    d = _base(rng)
    return replace(d, seconds=float(rng.uniform(0.5, 1.4)) * 60 / d.rpm, course="steady"), "too_short"


def _railed(rng, **rails) -> Draw:
    return replace(_base(rng, per_tooth=25.0), rails={"nominal": 12.4, "ignition": True, **rails})


def _supply_loss(rng, drop: bool):
    d = _railed(rng)
    gap = _gap_times(rng, d)
    d = replace(d, rails={**d.rails, "supply": ((*gap, float(rng.uniform(0.0, 4.0))),)})
    wanted = {"start_s": (gap[0], 0.01), "end_s": (gap[1], 0.01)}
    return (replace(d, gap=gap) if drop else d), "supply_loss", wanted, ("dropout",) if drop else ()


def _lift(rng, drop: bool):
    d = _railed(rng)
    gap = _gap_times(rng, d)
    d = replace(d, rails={**d.rails, "ground": ((*gap, float(rng.uniform(0.7, 5.0))),)})
    wanted = {"start_s": (gap[0], 0.01), "end_s": (gap[1], 0.01)}
    return (replace(d, gap=gap) if drop else d), "ground_lift", wanted, ("dropout",) if drop else ()


def _wrong(rng):
    d = _base(rng)
    other = GAPPED[(GAPPED.index((d.slots, d.missing)) + 1 + int(rng.integers(len(GAPPED) - 1))) % len(GAPPED)]
    capture, sheet = render(d)
    table = sheet.channel[0].model_copy(update={"wheel": f"{other[0]}-{other[1]}"})
    sheet = sheet.model_copy(update={"channel": (table,)})
    return MadeUp(capture, sheet, "wrong_pattern", {"slots": d.slots, "missing": d.missing})


def _clipped_coil(rng):
    d = _coil(rng)
    peak = d.coil_gain * d.rpm / 60 * d.slots / 200.0
    return replace(d, clip=peak * float(rng.uniform(0.35, 0.7)), bits=0), "clipped"


def _clipped_hall(rng):
    d = _base(rng)
    return replace(d, clip=d.pull_up * float(rng.uniform(0.45, 0.75)), bits=0, noise=0.01), "clipped"


def _turned_down(rng, d: Draw):
    """A coil far from its wheel, with a sound one as the known-good capture."""
    return d, replace(d, coil_gain=d.coil_gain * float(rng.uniform(0.15, 0.35)), rpm=d.rpm * 1.1), "weak_amplitude"


def _remains(rng):
    d = _base(rng)
    high = d.pull_up * float(rng.uniform(0.12, 0.2))
    return (
        replace(d, low=0.1 * high, high=high, noise=float(rng.uniform(0.06, 0.14)), per_tooth=80.0, bits=0),
        "high_not_reached",
        {},
        ("noise",),
    )


def _levels(low: tuple[float, float] | None, high: tuple[float, float] | None, **over):
    def kind(rng):
        d = replace(_base(rng), **over)
        if high:
            top = d.pull_up * float(rng.uniform(*high))
            return replace(d, high=top, low=min(d.low, 0.1 * top)), "high_not_reached", {"level_v": (top, 0.15)}
        bottom = d.pull_up * float(rng.uniform(*low))
        return replace(d, low=bottom), "low_not_pulled_down", {"level_v": (bottom, 0.15)}

    return kind


def _flat(held: str):
    def kind(rng):
        d = _base(rng)
        level = {"high": d.high, "low": d.low, "middle": float(rng.uniform(0.3, 0.6)) * d.pull_up}[held]
        return replace(d, flat=level), "no_signal", {"held": held, "level_v": (level, 0.1)}

    return kind


def _sound(make: Callable[[np.random.Generator], Draw]) -> Callable:
    return _one(lambda rng: (make(rng), ""))


def _sound_pair(rng, running: bool, bad: dict):
    good, bad_draw = _cam_pair(rng, bad=bad, running=running)
    return good, bad_draw, ""


def _later(rng, **over) -> Draw:
    """Known-good pair that differs only in speed and start."""
    return replace(_base(rng), **over)


KINDS: dict[str, Callable[[np.random.Generator], MadeUp]] = {
    "sound": _sound(_base),
    "sound slowing": _sound(lambda r: _base(r, course="slowing")),
    "sound from rest": _sound(lambda r: _base(r, course="from rest")),
    "sound rising": _sound(lambda r: _base(r, course="rising")),
    "sound running": _sound(lambda r: _running(_base(r))),
    "sound revving": _sound(lambda r: replace(_running(_base(r), 900.0), course="revving")),
    "sound undeclared": _sound(lambda r: _base(r, declared=False)),
    "sound coarse wheel": _sound(lambda r: _base(r, ((12, 1), (18, 1), (20, 2)))),
    "sound strong ripple": _sound(lambda r: _base(r, ripple=0.25)),
    "sound coil": _sound(_coil),
    "sound coil from rest": _sound(lambda r: _coil(r, course="from rest")),
    "sound coil revving": _sound(lambda r: replace(_running(_coil(r), 900.0), course="revving")),
    "sound coil undeclared": _sound(lambda r: _coil(r, declared=False)),
    "sound speed hall": _sound(lambda r: _speed(r, "hall")),
    "sound speed coil": _sound(lambda r: _speed(r, "reluctance")),
    "sound speed current": _sound(lambda r: _speed(r, "current")),
    "sound speed undeclared": _sound(lambda r: _speed(r, "current", declared=False)),
    "sound with cam": _sound(lambda r: _with_cam(r, {"windows": _windows(r)})),
    "sound cam pair": _with_good(lambda r: _sound_pair(r, False, {})),
    "sound cam phaser": _with_good(lambda r: _sound_pair(r, True, {"phaser": float(r.uniform(12, 40))})),
    "sound rails": _sound(_railed),
    "sound 5 V rail": _sound(lambda r: replace(_railed(r), rails={"nominal": 5.0, "ignition": True})),
    "lost tooth": _one(_lost),
    "lost first third": _one(_lost_between(0.0, 0.33)),
    "lost last third": _one(_lost_between(0.67, 1.0)),
    "lost slowing": _one(lambda r: _lost(r, course="slowing")),
    "lost from rest": _one(lambda r: _lost(r, course="from rest")),
    "lost rising": _one(lambda r: _lost(r, course="rising")),
    "lost undeclared": _one(lambda r: _lost(r, declared=False)),
    "lost running": _one(lambda r: (lambda k: (_running(k[0]), *k[1:]))(_lost(r))),
    "lost coil": _one(_lost_coil),
    "odd early or late": _one(lambda r: _odd(r, _base(r), "shift", float(r.choice([-1, 1]) * r.uniform(0.12, 0.25)))),
    "odd wide": _one(lambda r: _odd(r, _base(r), "wide", float(r.choice([0.55, 1.4])))),
    "odd low coil": _one(lambda r: _odd(r, _coil(r), "tall", float(r.uniform(0.45, 0.7)))),
    "odd late coil": _one(lambda r: _odd(r, _coil(r), "shift", float(r.choice([-1, 1]) * r.uniform(0.12, 0.2)))),
    "runout coil": _one(lambda r: (_coil(r, swing_once=float(r.uniform(0.2, 0.5))), "runout")),
    "runout hall": _one(lambda r: (_base(r, swing_once=float(r.uniform(0.1, 0.2)), duty=0.5), "runout")),
    "runout speed": _one(lambda r: (_speed(r, "reluctance", swing_once=float(r.uniform(0.25, 0.5))), "runout")),
    "erratic gap": _one(lambda r: (_base(r, jitter=float(r.uniform(0.1, 0.2)), duty=0.5), "erratic")),
    "erratic missed": _one(lambda r: (_base(r, missed=float(r.uniform(0.06, 0.15))), "erratic")),
    "erratic coil": _one(lambda r: (_coil(r, jitter=float(r.uniform(0.1, 0.16))), "erratic")),
    "dropout": _one(lambda r: _dropout(r, _base(r))),
    "dropout running": _one(lambda r: _dropout(r, _running(_base(r)))),
    "dropout coil": _one(lambda r: _dropout(r, _coil(r))),
    "dropout speed": _one(lambda r: _dropout(r, _speed(r, "current"))),
    "supply loss": _one(lambda r: _supply_loss(r, False)),
    "supply loss and dropout": _one(lambda r: _supply_loss(r, True)),
    "ground lift": _one(lambda r: _lift(r, False)),
    "ground lift and dropout": _one(lambda r: _lift(r, True)),
    "crossed coil": _one(lambda r: (_coil(r, polarity="rising"), "reversed_polarity")),
    "wrong wheel": _wrong,
    "quarter": _one(_levels(None, (0.15, 0.5))),
    "quarter slowing": _one(_levels(None, (0.15, 0.5), course="slowing")),
    "lifted": _one(_levels((0.35, 0.8), None)),
    "lifted slowing": _one(_levels((0.35, 0.8), None, course="slowing")),
    "remains in noise": _one(_remains),
    "flat high": _one(_flat("high")),
    "flat low": _one(_flat("low")),
    "flat middle": _one(_flat("middle")),
    "flat coil": _one(lambda r: (_coil(r, flat=0.0), "no_signal", {"held": "low"})),
    "weak coil": _one(lambda r: (_coil(r, coil_gain=float(r.uniform(0.04, 0.12)), noise=0.02), "weak_amplitude")),
    "weak coil pair": _with_good(lambda r: _turned_down(r, _coil(r))),
    "weak current": _one(lambda r: (replace(_speed(r, "current"), low=0.7, high=0.7 + float(r.uniform(0.12, 0.28))), "weak_amplitude")),
    "cam late": _with_good(lambda r: _offset(r, float(r.uniform(6, 24)))),
    "cam early": _with_good(lambda r: _offset(r, -float(r.uniform(6, 24)))),
    "second cam late": _with_good(lambda r: (*_cam_pair(r, bad={"offset": 15.0}, count=2), "timing_offset", {"offset_deg": (15.0, 0.8), "channel": "CAM2"})),
    "cam wanders": _with_good(lambda r: (*_cam_pair(r, bad={"wander": float(r.uniform(3, 6))}), "timing_scatter")),
    "spikes": _one(lambda r: (_base(r, spikes=float(r.uniform(15, 40)), spike_size=0.95, per_tooth=80.0), "noise")),
    "undersampled": _one(lambda r: (_base(r, per_tooth=float(r.uniform(2.2, 3.0)), duty=0.5), "undersampled")),
    "clipped coil": _one(_clipped_coil),
    "clipped hall": _one(_clipped_hall),
    "too short": _one(_short),
}  # fmt: skip


def draw(kind: str, seed: int) -> MadeUp:
    """A capture of one kind, everything else drawn from `seed`."""
    return KINDS[kind](np.random.default_rng([seed, *kind.encode()]))
