"""The sound of cranking: how fast the shaft turns, and whether every cylinder compresses alike.

A starter labours over each compression: loudness swings once a stroke. The envelope of several bands is followed at that
rhythm (order tracking), laid out over the strokes of one working cycle, and each place of the cycle compared with the others.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.signal.limits import limits

#: loaded when it is first asked
scipy = lazy("scipy")

_LIMIT = limits("cranking_sound")
#: Hz: rumble, gears, puffs, hiss; a loud whine fills one of them, not all
BANDS = ((40.0, 160.0), (160.0, 500.0), (500.0, 1500.0), (1500.0, 4000.0))
ENVELOPE_HZ = 400.0
STEPS = 24  #: of the angle grid, a stroke
FASTEST_READ = 16_000.0  #: Hz; more tells nothing of a rhythm
MOST_CYLINDERS = 16


@dataclass(frozen=True)
class Heard:
    """The mean speed with its 95 % interval, and the places of the firing order that hardly compress, counted from the first
    stroke that is heard."""

    rpm: float
    rpm_low: float
    rpm_high: float
    weak: tuple[int, ...]
    strokes: int

    @property
    def even(self) -> bool:
        return not self.weak

    def as_row(self) -> dict:
        return {
            "rpm": round(self.rpm, 1), "rpm_low": round(self.rpm_low, 1), "rpm_high": round(self.rpm_high, 1),
            "even": self.even, "weak": list(self.weak),
        }  # fmt: skip


def listen(samples: np.ndarray, sfreq: float, cylinders: int) -> Heard:
    """Hear how an engine cranks.

    Parameters
    ----------
    samples : ndarray, shape (n,)
        sound, any unit
    sfreq : float
        samples a second
    cylinders : int
        of a four-stroke engine: half as many compressions a turn

    Returns
    -------
    Heard

    Raises
    ------
    SagenError
        for silence, for what has no steady rhythm of compressions, and for too short a stretch.

    References
    ----------
    Order tracking of an envelope: Fyfe and Munck, Mech. Syst. Signal Process. 11(2), 1997. From memory.
    """
    if not 1 <= cylinders <= MOST_CYLINDERS:
        raise SagenError(
            tr(
                "{cylinders} cylinders: from 1 to {most_cylinders} can be heard",
                cylinders=cylinders,
                most_cylinders=MOST_CYLINDERS,
            )
        )
    if len(samples) < _LIMIT.least_s * sfreq:
        raise SagenError(
            tr(
                "only {samples:.1f} s of sound: {least_s:g} s of cranking are needed",
                samples=len(samples) / sfreq,
                least_s=_LIMIT.least_s,
            )
        )
    level = float(np.sqrt(np.mean(np.square(samples - samples.mean(), dtype=np.float64))))
    if not level > 0 or not np.isfinite(level):
        raise SagenError(tr("the sound is silent"))
    envelopes = _envelopes(samples, sfreq)
    rhythm = _rhythm(envelopes, cylinders)
    phase, keep = _followed(envelopes, rhythm)
    return _judged(envelopes, phase, keep, cylinders)


def _envelopes(samples: np.ndarray, sfreq: float) -> np.ndarray:
    """Loudness of each band, slow changes taken off, shape (bands, m) at `ENVELOPE_HZ`."""
    signal = scipy.signal
    thin = max(1, int(sfreq / FASTEST_READ))
    sound = samples.astype(np.float64) - samples.mean()
    if thin > 1:
        sound, sfreq = signal.decimate(sound, thin, ftype="fir"), sfreq / thin
    rows = []
    hop = sfreq / ENVELOPE_HZ
    count = int(len(sound) / hop) - 1
    edges = np.round(np.arange(count + 1) * hop).astype(np.int64)
    for low, high in BANDS:
        if low > 0.4 * sfreq:
            continue
        top = min(high, 0.45 * sfreq)
        band = signal.sosfilt(signal.butter(3, (low, top), "bandpass", fs=sfreq, output="sos"), sound)
        power = np.add.reduceat(band**2, edges[:-1])[:count] / hop
        power = signal.sosfiltfilt(signal.butter(2, _LIMIT.smooth_hz, fs=ENVELOPE_HZ, output="sos"), power)
        # As an ear has it (Stevens's power law, exponent about 0.3 of the power, from memory): a pause is no abyss.
        loud = (np.maximum(power, 0.0) / max(float(power.mean()), 1e-30)) ** 0.3
        rows.append(
            signal.sosfiltfilt(signal.butter(2, _LIMIT.slow_hz, "highpass", fs=ENVELOPE_HZ, output="sos"), loud)
        )
    return np.array(rows)


def _rhythm(envelopes: np.ndarray, cylinders: int) -> float:
    """How often a compression comes, Hz: the fundamental whose harmonics hold most of the envelopes' power."""
    count = envelopes.shape[1]
    length = min(count, int(_LIMIT.segment_s * ENVELOPE_HZ))
    starts = np.arange(0, count - length + 1, max(length // 2, 1))
    padded = 1 << int(np.ceil(np.log2(8 * length)))
    power = np.zeros(padded // 2 + 1)
    for row in envelopes:
        windows = np.lib.stride_tricks.sliding_window_view(row, length)[starts] * np.hanning(length)
        own = (np.abs(np.fft.rfft(windows, padded, axis=1)) ** 2).mean(axis=0)
        power += own / own.sum()
    hertz = np.fft.rfftfreq(padded, 1 / ENVELOPE_HZ)
    amplitude = np.sqrt(power)
    strokes = cylinders / 2 / 60
    tried = np.linspace(_LIMIT.slowest_rpm * strokes, _LIMIT.fastest_rpm * strokes, 2000)
    score = sum(weight * np.interp(tried * n, hertz, amplitude) for n, weight in ((1, 1.0), (2, 0.5), (3, 0.3)))
    found = float(tried[int(score.argmax())])
    if found < _LIMIT.usual_rpm * strokes:
        # One cylinder that is hardly heard puts the rhythm of the whole cycle above that of the strokes.
        times = [n for n in (2, 3, cylinders) if n > 1 and found * n <= _LIMIT.fastest_rpm * strokes]
        best = max(times, key=lambda n: np.interp(found * n, hertz, amplitude), default=1)
        if np.interp(found * best, hertz, amplitude) > _LIMIT.strokes_in_a_cycle * np.interp(found, hertz, amplitude):
            found *= best
    return found


def _followed(envelopes: np.ndarray, rhythm: float) -> tuple[np.ndarray, slice]:
    """The phase of the strokes (in strokes) at each sample of the envelopes, and the stretch without the filter's ends."""
    signal = scipy.signal
    sos = signal.butter(2, (0.72 * rhythm, 1.35 * rhythm), "bandpass", fs=ENVELOPE_HZ, output="sos")
    rows = signal.hilbert(signal.sosfiltfilt(sos, envelopes, axis=1), axis=1)
    # Bands swing at times of their own: each is turned to the strongest before they are added.
    lead = rows[int(np.argmax(np.mean(np.abs(rows) ** 2, axis=1)))]
    turned = np.array([row * np.exp(-1j * np.angle(np.vdot(lead, row))) for row in rows])
    phase = np.unwrap(np.angle(turned.sum(axis=0))) / (2 * np.pi)
    end = int(ENVELOPE_HZ / rhythm)
    keep = slice(end, len(phase) - end)
    if keep.stop - keep.start < _LIMIT.fewest_strokes * ENVELOPE_HZ / rhythm:
        raise SagenError(tr("too few compressions are heard: let it crank for some seconds"))
    phase = np.maximum.accumulate(phase)
    return phase, keep


def _judged(envelopes: np.ndarray, phase: np.ndarray, keep: slice, cylinders: int) -> Heard:
    time = np.arange(keep.start, keep.stop) / ENVELOPE_HZ
    strokes = phase[keep] - phase[keep][0]
    count = int(strokes[-1])
    marks = np.interp(np.arange(count + 1), strokes, time)
    lasts = np.diff(marks)
    uneven = 1.4826 * float(np.median(np.abs(lasts / np.median(lasts) - 1)))
    # Laid over each other by their phase: what a stroke looks like, and how much of all that swings it explains.
    grid = np.arange(count * STEPS) / STEPS
    laid = np.array([np.interp(np.interp(grid, strokes, time), time, row[keep]) for row in envelopes])
    laid = laid.reshape(len(laid), count, STEPS)
    alike = _alike(laid, cylinders)
    strays = float(np.std(lasts) / np.mean(lasts)) if count > 1 else 1.0
    if (
        count < _LIMIT.fewest_strokes or alike < _LIMIT.least_alike
        or uneven > _LIMIT.most_uneven or strays > _LIMIT.most_uneven
    ):  # fmt: skip
        raise SagenError(
            tr("no steady rhythm of compressions is heard: hold it beside the engine, and let nobody talk")
        )
    # Beside a stroke that is hardly heard the count may slip: what lasts far longer or shorter than the others is left out.
    told = lasts[np.abs(lasts / np.median(lasts) - 1) < _LIMIT.slipped]
    rpm = 60 / float(told.mean()) / (cylinders / 2)
    spread = float(np.std(told) / np.sqrt(len(told)) / np.mean(told))
    half = max(_LIMIT.least_doubt, 2 * spread)
    weak = _weak(laid, cylinders)
    return Heard(rpm, rpm * (1 - half), rpm * (1 + half), weak, count)


def _alike(laid: np.ndarray, cylinders: int) -> float:
    """How well the strokes of the odd cycles foretell those of the even ones: the largest correlation of a band."""
    count = laid.shape[1] // (2 * cylinders) * 2 * cylinders
    if not count:
        return 0.0
    cycles = laid[:, :count].reshape(len(laid), -1, 2, cylinders * STEPS).mean(axis=1)
    each = [np.corrcoef(first, second)[0, 1] for first, second in cycles]
    return float(np.nanmax(each)) if np.isfinite(each).any() else 0.0


def _weak(laid: np.ndarray, cylinders: int) -> tuple[int, ...]:
    """Places of the firing order whose strokes swing far less than the others', from 1."""
    count = laid.shape[1] // cylinders * cylinders
    cycles = count // cylinders
    if cylinders < 2 or cycles < _LIMIT.fewest_cycles:
        return ()
    found: list[tuple[float, tuple[int, ...]]] = []
    for band in laid[:, :count]:
        # The usual stroke by the median, so that a weak one does not count; then how much of it is in each.
        shape = np.median(band, axis=0)
        shape = shape - shape.mean()
        power = float(shape @ shape)
        if not power > 0:
            continue
        size = ((band - band.mean(axis=1, keepdims=True)) @ shape / power).reshape(cycles, cylinders)
        place = np.median(size, axis=0)
        error = 1.4826 * np.median(np.abs(size - place), axis=0) / np.sqrt(cycles) * 1.25
        usual = float(np.median(place)) if cylinders > 2 else float(place.max())
        low = (place < _LIMIT.weak_share * usual) & (usual - place > _LIMIT.sigmas * np.hypot(error, error.mean()))
        sureness = usual / max(float(error.mean()), 1e-9)
        found.append((sureness, tuple(int(k) + 1 for k in np.flatnonzero(low))))
    if not found:
        return ()
    weak = max(found)[1]
    return weak if len(weak) <= cylinders // 2 else ()
