"""The sound of taps: how hard each strike of a knock capture was, from a phone or laptop that stood beside the engine.

A sensor's height alone does not say how hard the tap was. Where two sensors answered the same tap that falls out; where they were
tapped one after the other, the sound tells it. Sound and capture are laid over each other by their first strike.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.signal.limits import limits
from sagen.signal.strikes import StrikeSet

#: loaded when it is first asked
scipy = lazy("scipy")

_LIMIT = limits("tap_sound")
HOP_S = 0.001


@dataclass(frozen=True)
class TapsHeard:
    """Taps in a sound, oldest first."""

    time_s: np.ndarray  #: of their onsets, shape (taps,)
    #: natural logarithm of the sound's pressure over the first milliseconds, any unit, NaN where it was cut off
    loud: np.ndarray

    def __len__(self) -> int:
        return len(self.time_s)


def hear_taps(samples: np.ndarray, sfreq: float) -> TapsHeard:
    """Find the taps in a sound: what begins at once, stands far above what is always there, and is over soon.

    Parameters
    ----------
    samples : ndarray, shape (n,)
        sound, any unit
    sfreq : float
        samples a second

    Raises
    ------
    SagenError
        for silence, for a sound without taps, and for one that is sampled too slowly to hold any.
    """
    if sfreq < _LIMIT.slowest_hz:
        raise SagenError(
            tr("the sound has {rate:g} samples a second: {least:g} are needed", rate=sfreq, least=_LIMIT.slowest_hz)
        )
    sound = np.asarray(samples, dtype=np.float64)
    hop = max(1, round(HOP_S * sfreq))
    if len(sound) < 50 * hop or not np.isfinite(sound).all() or not np.ptp(sound) > 0:
        raise SagenError(tr("the sound is silent"))
    sos = scipy.signal.butter(4, _LIMIT.lowest_hz, "highpass", fs=sfreq, output="sos")
    clear = scipy.signal.sosfilt(sos, sound)
    power = np.square(clear[: len(clear) // hop * hop]).reshape(-1, hop).mean(axis=1)
    before = _mean_before(power)
    floor = max(float(np.median(power)), 1e-12 * float(power.max()))
    loud = (power > _LIMIT.over_noise * floor) & (power > _LIMIT.over_before * before)
    loud &= power > _LIMIT.least_share**2 * power.max()
    apart, length = round(_LIMIT.apart_s / HOP_S), round(_LIMIT.length_s / HOP_S)
    late = slice(round(_LIMIT.late_from_s / HOP_S), round(_LIMIT.late_to_s / HOP_S))
    last, onsets = -apart, []
    for at in np.flatnonzero(loud):
        if at - last < apart:
            continue
        peak = power[at : at + length].max()
        rest = power[at + late.start : at + late.stop]
        if len(rest) and np.median(rest) > _LIMIT.dies_to * peak:
            continue  # a voice or a wheel that turns goes on
        onsets.append(int(at))
        last = at
    if not onsets:
        raise SagenError(tr("no tap is heard: hold it near the engine, and tap again"))
    energy = np.array([power[at : at + length].sum() - len(power[at : at + length]) * floor for at in onsets])
    return TapsHeard(
        np.array(onsets) * hop / sfreq,
        np.where(_cut_off(sound, onsets, length, hop), np.nan, 0.5 * np.log(np.maximum(energy, 1e-30))),
    )


def _mean_before(power: np.ndarray) -> np.ndarray:
    """The mean of what stood from two to eight hops before each, shape of `power`."""
    total = np.concatenate([[0.0], np.cumsum(power)])
    at = np.arange(len(power))
    first, stop = np.maximum(at - 8, 0), np.maximum(at - 1, 1)
    return (total[stop] - total[first]) / np.maximum(stop - first, 1)


def _cut_off(sound: np.ndarray, onsets: list[int], length: int, hop: int) -> np.ndarray:
    """Whether a tap stands at the end of the recorder's range for several samples."""
    top = 0.999 * np.abs(sound).max()
    return np.array([np.sum(np.abs(sound[at * hop : (at + length) * hop]) >= top) >= _LIMIT.flat for at in onsets])


def strengths_of(strikes: StrikeSet, heard: TapsHeard) -> np.ndarray:
    """How hard each strike was by its sound, natural logarithm in the sound's own unit, shape (strikes,); NaN where it was not heard
    or cut off.

    Parameters
    ----------
    strikes : StrikeSet
    heard : TapsHeard
        recorded at the same time; its clock may begin at any time

    Raises
    ------
    SagenError
        where the taps do not follow one another as those of the capture do.
    """
    if not len(strikes):
        raise SagenError(tr("no strike stands in the capture"))
    best: tuple[int, float, np.ndarray] | None = None
    few = int(_LIMIT.first_few)
    # By the first strike of both; where either missed the first, by one of the next.
    for behind in sorted(((i, j) for i in range(min(few, len(heard))) for j in range(min(few, len(strikes)))), key=sum):
        offset = heard.time_s[behind[0]] - strikes.time_s[behind[1]]
        due = strikes.time_s + offset
        nearest = np.abs(heard.time_s[None, :] - due[:, None]).argmin(axis=1)
        room = _LIMIT.match_s + _LIMIT.drift * np.abs(strikes.time_s - strikes.time_s[behind[1]])
        off = np.abs(heard.time_s[nearest] - due)
        which = np.where(off <= room, nearest, -1)
        fits = int(np.sum(which >= 0))
        apart = -float(np.mean(off[which >= 0]))  # of those that fit as many, the one that fits better
        if best is None or (fits, apart) > best[:2]:
            best = (fits, apart, which)
    fits, _, which = best
    if fits < max(_LIMIT.least_fits * len(strikes), min(2, len(strikes), len(heard))) or (fits == 1 and len(heard) > 1):
        raise SagenError(
            tr(
                "{fits} of {strikes} strikes are found in the sound: start both before the first tap, and let them run to the last",
                fits=fits,
                strikes=len(strikes),
            )
        )
    strength = np.where(which >= 0, heard.loud[np.maximum(which, 0)], np.nan)
    if not np.isfinite(strength).any():
        raise SagenError(tr("every tap is cut off in the sound: record it from farther away, or at a lower level"))
    return strength
