"""Sounds of cranking by a hand of its own, and how `signal/cranking_sound.py` hears them: `python -m benchmarks.sounds [SEEDS]`.

A starter's whine whose pitch and loudness follow the shaft, a puff and a knock of gears with every compression, a room that
echoes, hiss, and somebody who talks. What it draws is common practice, no published source.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, fftconvolve, lfilter, sosfilt

from sagen.model.errors import SagenError
from sagen.signal.cranking_sound import Heard, listen

SFREQ = 16_000


@dataclass(frozen=True)
class Sound:
    """Samples, cylinders, the mean rpm (None: no cranking is heard), and which places of the firing order are weak."""

    samples: np.ndarray
    cylinders: int
    rpm: float | None
    weak: tuple[int, ...] = ()


def _band(rng, count, low, high):
    return sosfilt(butter(2, (low, high), "bandpass", fs=SFREQ, output="sos"), rng.normal(0, 1, count))


def _room(rng, samples):
    """Echoes that die within 0.1 to 0.5 s."""
    lasts = rng.uniform(0.1, 0.5)
    t = np.arange(int(lasts * SFREQ)) / SFREQ
    tail = rng.normal(0, 1, len(t)) * np.exp(-6.9 * t / lasts) * rng.uniform(0.02, 0.06)
    tail[0] += 1.0
    return fftconvolve(samples, tail)[: len(samples)]


def speech(rng, seconds):
    """Somebody talks: voiced stretches of two to seven a second, uneven, of three formants, with pauses."""
    count = int(seconds * SFREQ)
    loud, at = np.zeros(count), 0.0
    while at < seconds:
        lasts = rng.uniform(0.07, 0.3)
        part = slice(int(at * SFREQ), min(int((at + lasts) * SFREQ), count))
        size = part.stop - part.start
        if size > 8:
            loud[part] = np.hanning(size) * rng.uniform(0.3, 1.0)
        at += lasts + (rng.uniform(0.3, 1.0) if rng.random() < 0.15 else rng.uniform(0.02, 0.12))
    pitch = rng.uniform(90, 210) * (1 + 0.1 * np.cumsum(rng.normal(0, 1, count)) / np.sqrt(SFREQ))
    pulses = np.diff(np.floor(np.cumsum(pitch) / SFREQ), prepend=0.0)
    voice = sum(
        _resonance(pulses, hertz) for hertz in (rng.uniform(300, 800), rng.uniform(900, 2000), rng.uniform(2200, 3000))
    )
    return voice / (np.abs(voice).max() + 1e-9) * loud


def _resonance(pulses, hertz, wide=90.0):
    r = np.exp(-np.pi * wide / SFREQ)
    return lfilter([1 - r], [1, -2 * r * np.cos(2 * np.pi * hertz / SFREQ), r * r], pulses)


def cranking(rng, weak=(), cylinders=None, seconds=None):
    """A shaft that a starter turns, as a phone beside it hears it."""
    cylinders = cylinders or int(rng.choice([3, 4, 4, 4, 6]))
    seconds = seconds or rng.uniform(4, 9)
    step = 1 / 2000
    rpm, depth = rng.uniform(120, 300), rng.uniform(0.08, 0.22)
    strong = np.ones(cylinders)
    strong *= rng.uniform(0.93, 1.07, cylinders)
    for place in weak:
        strong[place] = rng.uniform(0.0, 0.2)
    steps, slow = int(seconds / step), rng.uniform(0.9, 1.0)
    turns, speed = np.zeros(steps), np.zeros(steps)
    at, offset = 0.0, rng.uniform(0, 2)
    for k in range(steps):
        stroke = (at + offset) * cylinders / 2
        load = strong[int(np.floor(stroke)) % cylinders] * np.cos(2 * np.pi * (stroke % 1.0))
        now = rpm / 60 * (1 - (1 - slow) * k / steps) * (1 + depth * load)
        at += now * step
        turns[k], speed[k] = at, now
    t = np.arange(int(seconds * SFREQ)) / SFREQ
    turns, speed = (np.interp(t, np.arange(steps) * step, item) for item in (turns, speed))
    whine_at = rng.uniform(60, 160)  # teeth of the starter's gears a turn of the crank
    phase = 2 * np.pi * whine_at * turns
    whine = (
        sum(rng.uniform(0.2, 1.0) / n * np.sin(n * phase + rng.uniform(0, 6)) for n in (1, 2, 3)) * speed / speed.mean()
    )
    stroke = (turns + offset) * cylinders / 2
    strength = strong[np.floor(stroke).astype(int) % cylinders]
    puff = strength * np.exp(-0.5 * (((stroke % 1.0) - rng.uniform(0.3, 0.7)) / rng.uniform(0.06, 0.16)) ** 2)
    rumble = _band(rng, len(t), 60, 400) * puff
    hiss = _band(rng, len(t), 800, 4000) * puff
    made = (
        rng.uniform(0.1, 0.6) * whine
        + rng.uniform(0.6, 1.4) * rumble / rumble.std()
        + rng.uniform(0.2, 0.8) * hiss / hiss.std()
    )
    made = _room(rng, made)
    made = made / made.std() + rng.uniform(0.05, 0.5) * _band(rng, len(t), 50, 6000) * 3
    if rng.random() < 0.4:
        talk = speech(rng, seconds)
        made = made + rng.uniform(0.1, 0.5) * talk / (talk.std() + 1e-9)
    mean = 60 * (turns[-1] - turns[0]) / (t[-1] - t[0])
    first = int(np.floor(stroke[0])) % cylinders
    return Sound(
        (0.2 * made / np.abs(made).max()).astype(np.float32),
        cylinders,
        mean,
        tuple((place - first) % cylinders for place in weak),
    )


def one_weak(rng):
    cylinders = int(rng.choice([3, 4, 4, 6]))
    return cranking(rng, (int(rng.integers(cylinders)),), cylinders)


def talk_only(rng):
    made = _room(rng, speech(rng, rng.uniform(4, 9)))
    return Sound((0.3 * made / np.abs(made).max()).astype(np.float32), 4, None)


def silence(rng):
    return Sound((rng.uniform(0, 0.01) * rng.normal(0, 1, int(5 * SFREQ))).astype(np.float32), 4, None)


def hum_and_fan(rng):
    t = np.arange(int(6 * SFREQ)) / SFREQ
    made = np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 150 * t) + 0.3 * _band(rng, len(t), 100, 3000)
    return Sound((0.1 * made).astype(np.float32), 4, None)


KINDS = {"even": cranking, "one weak": one_weak, "talk": talk_only, "silence": silence, "hum and fan": hum_and_fan}


def drawn(name: str, seed: int) -> Sound:
    return KINDS[name](np.random.default_rng([seed, sum(map(ord, name))]))


def heard(sound: Sound) -> Heard | None:
    """What was heard; None where it was refused."""
    try:
        return listen(sound.samples, SFREQ, sound.cylinders)
    except SagenError:
        return None


def main(words: list[str]) -> None:
    first, count = int(words[0]) if words else 1, int(words[1]) if len(words) > 1 else 25
    for name in KINDS:
        pairs = [(sound, heard(sound)) for sound in (drawn(name, seed) for seed in range(first, first + count))]
        if pairs[0][0].rpm is None:
            print(f"{name}: refused {np.mean([told is None for _, told in pairs]):.2f}")
            continue
        near = [told is not None and abs(told.rpm / sound.rpm - 1) <= 0.02 for sound, told in pairs]
        held = [told is not None and told.rpm_low <= sound.rpm <= told.rpm_high for sound, told in pairs]
        right = [told is not None and len(told.weak) == len(sound.weak) for sound, told in pairs]
        print(
            f"{name}: answered {np.mean([told is not None for _, told in pairs]):.2f}, rpm within 2 % {np.mean(near):.2f}, in its "
            f"interval {np.mean(held):.2f}, evenness right {np.mean(right):.2f}"
        )


if __name__ == "__main__":
    main(sys.argv[1:])
