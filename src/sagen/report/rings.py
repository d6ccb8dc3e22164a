"""Strikes laid over each other from their onset, ready to be drawn: waves, spectra, and what each answer measured."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from sagen.model.capture import Capture
from sagen.model.language import tr
from sagen.signal.ring import spectrum
from sagen.signal.strikes import StrikeSet
from sagen.signal.tapped import Tapped

BEFORE_MS, AFTER_MS = 0.3, 7.0
MOST_STRIKES = 80
SPECTRUM_HZ = 20_000.0
PADDED = 4096


@dataclass(frozen=True)
class RingScene:
    """One capture's strikes. `waves` are volts from the resting level, shape (sensors, strikes, samples)."""

    columns: tuple[str, ...]
    names: tuple[str, ...]
    unit: str
    strikes: StrikeSet
    times_ms: np.ndarray
    waves: np.ndarray
    hertz: np.ndarray
    spectra: np.ndarray  #: (sensors, frequencies), of the tallest 1
    band: tuple[float, float, float] | None = None  #: where this bore is estimated to knock, Hz

    def mean_and_band(self, sensor: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Mean wave over the strikes, each scaled to the usual strength, and its 10th and 90th hundredth."""
        return self._means[sensor]

    @cached_property
    def _means(self) -> list[tuple[np.ndarray, np.ndarray, np.ndarray]]:
        return [self._mean_and_band(index) for index in range(len(self.columns))]

    @cached_property
    def tallest(self) -> tuple[float, float]:
        """Greatest volts of any strike, and of the mean with its band."""
        means = max((float(np.abs(item).max(initial=0.0)) for some in self._means for item in some), default=0.0)
        return float(np.abs(self.waves).max(initial=0.0)), means

    def _mean_and_band(self, sensor: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        good = self.strikes.answers.good[: self.waves.shape[1], sensor]
        waves = self.waves[sensor, good] if good.any() else self.waves[sensor]
        # How hard each was struck falls out: every strike is scaled by the sensors' common height.
        heights = self.strikes.answers.height[: self.waves.shape[1]]
        strength = np.exp(np.nanmean(np.log(np.where(heights > 0, heights, np.nan)), axis=1))
        scale = np.nanmedian(strength) / np.where(np.isfinite(strength), strength, np.nanmedian(strength))
        scaled = waves * (scale[good] if good.any() else scale)[:, None]
        low, high = np.quantile(scaled, [0.1, 0.9], axis=0)
        return scaled.mean(axis=0), low, high

    def values_at(self, time_ms: float, strike: int | None) -> tuple[float, ...]:
        """Volts of every sensor at a time: of one strike, or of the mean."""
        at = int(np.clip(np.searchsorted(self.times_ms, time_ms), 0, len(self.times_ms) - 1))
        if strike is not None:
            return tuple(float(wave) for wave in self.waves[:, strike, at])
        return tuple(float(self.mean_and_band(index)[0][at]) for index in range(len(self.columns)))


def sensor_name(column: str, bank: int | None) -> str:
    """A knock sensor as it is called in pictures and lists."""
    return tr("{column}, bank {bank}", column=column, bank=bank) if bank else column


def ring_scene(capture: Capture, tapped: Tapped, band: tuple[float, float, float] | None = None) -> RingScene:
    """What the Rings lens draws of a capture in true units."""
    strikes = tapped.strikes
    sfreq, count = strikes.sfreq, min(len(strikes), MOST_STRIKES)
    before, after = round(BEFORE_MS / 1000 * sfreq), round(AFTER_MS / 1000 * sfreq)
    offsets = np.arange(-before, after)
    samples = capture.samples
    begin = np.round(strikes.time_s[:count] * sfreq).astype(np.int64)
    index = begin[:, None] + offsets
    inside = (index >= 0) & (index < samples)
    index = np.clip(index, 0, max(samples - 1, 0))
    waves = np.empty((len(strikes.columns), count, len(offsets)), np.float32)
    for at, column in enumerate(strikes.columns):
        channel = capture.channel(column)
        volts = channel.raw[index].astype(np.float64) * channel.scale
        quiet = np.where(inside[:, : max(before - 2, 1)], volts[:, : max(before - 2, 1)], np.nan)
        rest = np.nanmedian(quiet, axis=1, keepdims=True) if count else np.zeros((0, 1))
        waves[at] = np.where(inside, volts - np.nan_to_num(rest), 0.0)
    hertz, spectra = np.empty(0), np.zeros((len(strikes.columns), 0))
    if count:
        parts = []
        for at in range(len(strikes.columns)):
            hertz, height = spectrum(waves[at, :, before:].astype(np.float64), sfreq, PADDED)
            parts.append(height)
        spectra = np.stack(parts)
        seen = (hertz > 500.0) & (hertz < SPECTRUM_HZ)
        hertz, spectra = hertz[seen], spectra[:, seen] / max(float(spectra[:, seen].max(initial=0.0)), 1e-12)
    names = tuple(sensor_name(this_channel.column, this_channel.bank) for this_channel in tapped.channels)
    return RingScene(strikes.columns, names, strikes.unit, strikes, offsets / sfreq * 1000, waves, hertz, spectra, band)
