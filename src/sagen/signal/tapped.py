"""A capture of taps: how the sensors answered, beside what its sheet says of place, connection and loads."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from sagen.model.sheet import ChannelSheet, Sheet
from sagen.model.vocabulary import Connection
from sagen.signal.pairs import Interval, against_others, own_ring
from sagen.signal.strikes import StrikeSet

#: Draper's first circumferential mode: the first root of J1' (`scipy.special.jnp_zeros(1, 1)`); f = 1.841 c / (pi B).
#: C. S. Draper, J. Aeronaut. Sci. 5 (1938)
FIRST_ROOT = 1.8411837813406593
#: m/s, speed of sound in burnt gas of 2000 to 2800 K (products of a stoichiometric hydrocarbon flame)
SOUND_M_S = (858.0, 960.0, 1021.0)
#: ohm at the ring, of a sensor of which nothing is known, and the standard deviation of its logarithm
USUAL_SOURCE_OHM, SOURCE_SPREAD = 20_000.0, 0.7


@dataclass(frozen=True)
class Tapped:
    """The strikes of one capture and how it was taken; `channels` in the order of `strikes.columns`."""

    strikes: StrikeSet
    sheet: Sheet
    channels: tuple[ChannelSheet, ...]

    @cached_property
    def rings(self) -> tuple[Interval, ...]:
        """Each sensor's ring over all strikes, Hz."""
        return tuple(own_ring(self.strikes, index) for index in range(len(self.channels)))

    @cached_property
    def against_others(self) -> tuple[Interval, ...]:
        """How tall each sensor answers against the middle one of the others."""
        return tuple(against_others(self.strikes, index) for index in range(len(self.channels)))

    @property
    def place(self) -> str | None:
        place = self.sheet.conditions.place
        return " ".join(place.split()).casefold() if place else None

    def connection(self, sensor: int) -> Connection | None:
        """How one sensor stood; a stated load is one even where nothing else is said.

        Parameters
        ----------
        sensor : int
            its number in the capture, from 0
        """
        stated = self.sheet.conditions.connection
        if self.channels[sensor].load_ohm is not None and stated != Connection.PLUGGED:
            return Connection.LOADED
        return stated

    def loads(self) -> np.ndarray:
        """Ohms that stand across each sensor, infinite where it is open, NaN where the module does or nothing is said."""
        out = []
        for index, channel in enumerate(self.channels):
            unknown = np.inf if self.connection(index) == Connection.UNPLUGGED else np.nan
            out.append(
                channel.load_ohm if self.connection(index) == Connection.LOADED and channel.load_ohm else unknown
            )
        return np.array(out)


def loaded_share(
    load_ohm: np.ndarray, source_ohm: np.ndarray | float, series_ohm: np.ndarray | float = 0.0
) -> np.ndarray:
    """Height under a load against the open height, of a source that is a capacitor of so many ohms at its ring behind a
    resistance: R / |R + Rs - jX|, the high-pass of `scipy.signal.freqs([RC, 0], [RC, 1])` at one frequency.

    Parameters
    ----------
    load_ohm : ndarray
        ohm, > 0
    source_ohm : ndarray or float
        reactance of the capacitor at its ring, ohm
    series_ohm : ndarray or float
        ohm

    Returns
    -------
    ndarray
        0 to 1, shape broadcast

    References
    ----------
    Voltage divider of a capacitive source: Horowitz and Hill, The Art of Electronics (2015), 1.7. From memory.
    """
    load = np.asarray(load_ohm, dtype=float)
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = np.where(np.isinf(load), 0.0, 1 / load)
    return 1 / np.hypot(1 + series_ohm * inverse, source_ohm * inverse)


def knock_band(bore_mm: float) -> tuple[float, float, float]:
    """Lowest, likeliest and highest frequency (Hz) of the first circumferential mode for a bore: an estimate, since the
    temperature of the burnt gas is not known.

    Parameters
    ----------
    bore_mm : float
        mm

    References
    ----------
    Draper, J. Aeronaut. Sci. 5 (1938). From memory.
    """
    low, usual, high = (FIRST_ROOT * c / (np.pi * bore_mm / 1000) for c in SOUND_M_S)
    return float(low), float(usual), float(high)
