"""The mains on a line: alone, or beside a sensor's own wave."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.limits import limits

_LIMIT = limits("hum")
FAST = 256  #: samples


def is_hum(channel: Channel, sfreq: float) -> bool:
    """Whether a wave is the mains': one frequency, of a network, that no starter holds so steadily.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,), with scale to its unit
    sfreq : float
        samples a second

    References
    ----------
    Networks of 50 and 60 Hz and how little they stray: EN 50160, 4.2.1. From memory.
    """
    most = int(min(len(channel.raw), _LIMIT.s * sfreq))
    stride = max(most // (1 << 15), 1)
    part = channel.raw[:most:stride].astype(np.float64)
    part -= part.mean()
    if len(part) * stride / sfreq < _LIMIT.least_s:
        return False
    hertz, power = _spectrum(part, sfreq / stride)
    peak = int(power.argmax())
    close = np.abs(hertz - hertz[peak]) <= 2.5 * hertz[1]
    # Between the lines of the spectrum the peak is known to a small part of their distance: a wheel that is rolled hardly ever
    # turns out as many teeth to within that.
    at = hertz[peak] + _beside_peak(power, peak) * hertz[1]
    near = min(abs(at - mains) for mains in (50.0, 60.0)) <= max(_LIMIT.own_hz, _LIMIT.of_line * hertz[1])
    return bool(near and power[close].sum() > _LIMIT.share * power.sum())


def _beside_peak(power: np.ndarray, peak: int) -> float:
    """How far the top lies beside the highest line, in lines: a parabola through the logarithms of three."""
    if not 0 < peak < len(power) - 1:
        return 0.0
    below, top, above = np.log(np.maximum(power[peak - 1 : peak + 2], 1e-300))
    return float(0.5 * (below - above) / min(below - 2 * top + above, -1e-12))


def _spectrum(part: np.ndarray, sfreq: float) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies, Hz, and the power at each under a Hann window. A count with large prime factors takes a transform many times
    as long: the last few samples are left out for one without."""
    part = part[: len(part) - len(part) % FAST] if len(part) > 16 * FAST else part
    return np.fft.rfftfreq(len(part), 1 / sfreq), np.abs(np.fft.rfft(part * np.hanning(len(part)))) ** 2


@dataclass(frozen=True)
class MainsWave:
    """A steady wave at the mains' frequency."""

    hertz: float
    volts: float  #: amplitude, in the channel's unit
    wave: np.ndarray  #: shape (n,), on the scale of the channel's raw samples

    def taken_off(self, channel: Channel) -> Channel:
        """The channel without it.

        Parameters
        ----------
        channel : Channel
            the one it was found in, shape (n,)
        """
        return replace(channel, raw=(channel.raw - self.wave).astype(np.float32))


def mains_wave(channel: Channel, sfreq: float) -> MainsWave | None:
    """The wave of the mains that a channel carries beside whatever else; None where no line stands out there, or the
    recording is too short or too long to hold one.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    sfreq : float
        samples a second

    Returns
    -------
    MainsWave or None
        by least squares of a sine at the frequency that explains most (Cramer-Rao: a line is known to far less than 1 / T)

    References
    ----------
    Rife and Boorstyn, IEEE Trans. Inf. Theory 20(5), 1974: the frequency of one tone. From memory.
    """
    n = len(channel.raw)
    if not _LIMIT.beside_s * sfreq <= n <= _LIMIT.beside_samples or sfreq < _LIMIT.rate_hz:
        return None
    stride = max(n >> 16, 1)
    part = channel.raw[::stride].astype(np.float64)
    part -= part.mean()
    hertz, power = _spectrum(part, sfreq / stride)
    best = None
    for mains in (50.0, 60.0):
        about = np.abs(hertz - mains)
        line, beside = about <= max(_LIMIT.hz, 1.5 * hertz[1]), (about > 3.0) & (about < 12.0)
        if line.any() and power[line].max() > _LIMIT.stands_out * power[beside].mean():
            best = max(best or (0.0, 0.0), (float(power[line].max()), float(hertz[line][power[line].argmax()])))
    if best is None:
        return None
    t, raw = np.arange(n) / sfreq, channel.raw.astype(np.float64)
    raw -= raw.mean()
    tried = best[1] + np.linspace(-0.75, 0.75, 13) * hertz[1]
    size = np.array([abs(np.vdot(np.exp(2j * np.pi * each * t[::stride]), part)) for each in tried])
    # Between three of them by a parabola: over the whole recording a hundredth of a hertz is seen.
    peak = int(np.clip(size.argmax(), 1, len(size) - 2))
    below, top, above = size[peak - 1 : peak + 2]
    at = tried[peak] + 0.5 * (below - above) / min(below - 2 * top + above, -1e-12) * (tried[1] - tried[0])
    share = 2.0 / n * np.vdot(np.exp(2j * np.pi * at * t), raw)
    wave = np.real(share * np.exp(2j * np.pi * at * t))
    return MainsWave(float(at), float(abs(share) * abs(channel.scale)), wave)
