"""The mains on a line that carries nothing else."""

from __future__ import annotations

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.limits import limits

_LIMIT = limits("hum")


def is_hum(channel: Channel, sfreq: float) -> bool:
    """Whether a wave is the mains': one frequency, of a network, that no starter holds so steadily.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,), with scale to its unit
    sfreq : float
        samples a second
    """
    most = int(min(len(channel.raw), _LIMIT.s * sfreq))
    part = channel.raw[:most].astype(np.float64)
    stride = max(most // (1 << 15), 1)
    part = part[::stride] - part.mean()
    if len(part) * stride / sfreq < _LIMIT.least_s:
        return False
    power = np.abs(np.fft.rfft(part * np.hanning(len(part)))) ** 2
    hertz = np.fft.rfftfreq(len(part), stride / sfreq)
    peak = int(power.argmax())
    close = np.abs(hertz - hertz[peak]) <= 2.5 * hertz[1]
    near = min(abs(hertz[peak] - mains) for mains in (50.0, 60.0)) <= max(_LIMIT.hz, hertz[1])
    return bool(near and power[close].sum() > _LIMIT.share * power.sum())
