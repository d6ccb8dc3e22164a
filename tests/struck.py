"""Taps by another hand: modes of a block and of sensors excited by a short pulse, recorded by ordinary recorders. None of
the project's own model is used; SciPy does the filtering."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.signal import bilinear, fftconvolve, lfilter

from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet


@dataclass
class Struck:
    """How a set is struck and recorded; volts, seconds, Hz, ohms."""

    seed: int = 0
    gains: tuple[float, ...] = (1.0, 1.0)
    hertz: tuple[float, ...] = (6_870.0, 6_840.0)
    sfreq: float = 200_000.0
    seconds: float = 3.0
    taps: tuple[float, ...] | None = None
    strength: float = 1.4
    varies: float = 0.35  #: of the logarithm
    noise: float = 0.006
    hum: float = 0.0
    drift: float = 0.0
    hash_rate: float = 0.0
    bits: int = 0
    reach: float = 5.0  #: end of the recorder's range
    bounce: float = 0.0  #: height of a second touch 28 ms later
    cut: float | None = None
    offset: float = 0.0
    zeta: float = 0.021
    pulse_s: float = 50e-6  #: how long the tool touches; 0: it rings at once
    loads: tuple[float | None, ...] | None = None  #: ohms across each, through 1.2 nF
    at: np.ndarray = field(default_factory=lambda: np.empty(0))
    hard: np.ndarray = field(default_factory=lambda: np.empty(0))

    def capture(self) -> Capture:
        rng = np.random.default_rng(self.seed)
        count = int(self.seconds * self.sfreq)
        times = np.arange(count) / self.sfreq
        if self.taps is None:
            first = np.arange(0.12, self.seconds - 0.06, 0.38)
            self.at = first + rng.uniform(-0.03, 0.03, len(first))
        else:
            self.at = np.array(self.taps, float)
        self.hard = self.strength * np.exp(np.clip(rng.normal(0, self.varies, len(self.at)), -0.69, 0.69))
        block = [(2_150.0, 0.05, 0.18), (3_900.0, 0.045, 0.12), (11_200.0, 0.035, 0.07)]
        touches = [(when, hard) for when, hard in zip(self.at, self.hard, strict=True)]
        touches += [(when + 0.028, hard * self.bounce) for when, hard in touches] if self.bounce else []
        crackles = rng.uniform(0, self.seconds, rng.poisson(self.hash_rate * self.seconds))
        out = []
        for index, (gain, hertz) in enumerate(zip(self.gains, self.hertz, strict=True)):
            volts = np.zeros(count)
            for when, hard in touches:
                begin = int(np.ceil(when * self.sfreq))
                since = (np.arange(int(0.03 * self.sfreq)) + begin) / self.sfreq - when
                wave = _mode(since, hertz, self.zeta)
                for own, zeta, share in block:
                    wave += share * _mode(since, own, zeta)
                length = max(int(self.pulse_s * self.sfreq), 1)
                pulse = np.sin(np.pi * (np.arange(length) + 0.5) / length)
                wave = fftconvolve(wave, pulse)[: len(since)]
                length = min(len(wave), count - begin)
                volts[begin : begin + max(length, 0)] += hard * gain * (wave / np.abs(wave).max())[: max(length, 0)]
            load = self.loads[index] if self.loads else None
            if load is not None:
                volts = lfilter(*bilinear([load * 1.2e-9, 0.0], [load * 1.2e-9, 1.0], self.sfreq), volts)
            volts += (
                self.hum * np.sin(2 * np.pi * 50 * times + rng.uniform(0, 6)) + self.drift * (times / self.seconds) ** 2
            )
            volts += self.offset + rng.normal(0, self.noise, count)
            for when in crackles:
                length = max(2, int(rng.uniform(20e-6, 110e-6) * self.sfreq))
                steps = np.arange(length)
                spike = (
                    rng.uniform(0.3, 1.8) * np.exp(-steps / (length / 3)) * np.cos(1.1 * steps) * rng.choice([-1, 1])
                )
                begin = int(when * self.sfreq)
                volts[begin : begin + length] += spike[: len(volts[begin : begin + length])]
            if self.cut is not None:
                volts = np.clip(volts, -self.cut, self.cut)
            if self.bits:
                step = 2 * self.reach / 2**self.bits
                volts = np.clip(np.round(volts / step) * step, -self.reach, self.reach)
            out.append(Channel(f"CH{index + 1}", volts.astype(np.float32)))
        return Capture(f"struck-{self.seed}.csv", self.sfreq, tuple(out))


def _mode(since: np.ndarray, hertz: float, zeta: float) -> np.ndarray:
    omega = 2 * np.pi * hertz
    return np.exp(-zeta * omega * since) * np.sin(omega * np.sqrt(1 - zeta**2) * since)


def sheet_of(
    sensors: int = 2, *, loads: tuple[float | None, ...] | None = None, engine: dict | None = None, **conditions
) -> Sheet:
    """The sheet of such a capture."""
    rows = []
    for index in range(sensors):
        load = {"load_ohm": loads[index]} if loads and loads[index] else {}
        rows.append({"column": f"CH{index + 1}", "role": "knock", "sensor": "piezo", "bank": index + 1, **load})
    return Sheet.from_data({"engine": engine or {}, "conditions": {"state": "strike", **conditions}, "channel": rows})
