"""How a struck sensor rings: damped sines under noise, and how surely their frequency is known.

A burst is modes of the sensor and of the block it is bolted to, each ringing down by itself, on a slow baseline. All
bursts of one sensor share their modes, so these are found first of all bursts together (ESPRIT: Roy and Kailath 1989,
IEEE Trans. ASSP 37(7), on the covariance summed over bursts); then the strongest mode is fitted to each burst by least
squares with everything linear beside it (Gauss-Newton with variable projection: Golub and Pereyra 1973, SIAM J. Numer.
Anal. 10). Averaging whole blocks of samples leaves a damped sine a damped sine, so a fast recording costs no more.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.signal.limits import limits

_LIMIT = limits("ring")


@dataclass(frozen=True)
class Rings:
    """The strongest mode of each burst; every array of shape (bursts,), NaN where it cannot be read."""

    hz: np.ndarray
    hz_u: np.ndarray  #: standard uncertainty, Hz
    decay_s: np.ndarray  #: time in which the ring falls by e
    decay_u: np.ndarray  #: s
    height: np.ndarray  #: of this mode at the burst's first sample, in the samples' unit

    @classmethod
    def unread(cls, bursts: int) -> Rings:
        return cls(*(np.full(bursts, np.nan) for _ in range(5)))


def spectrum(bursts: np.ndarray, sfreq: float, padded: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies (Hz) and the root of the power that bursts of shape (bursts, samples) hold there on average, in the
    samples' unit; slow movement is taken off first and the samples are padded to at least `padded`.

    Parameters
    ----------
    bursts : ndarray, shape (bursts, samples)
        V, each beginning at its strike
    sfreq : float
        samples a second
    padded : int
        samples

    Returns
    -------
    frequencies, amplitude : ndarray, shape (bins,)
        Hz, and V; periodograms under a Hann window, averaged (Welch 1967, from memory)
    """
    length = bursts.shape[1]
    shown = (steady(bursts) if length > 8 else bursts) * np.hanning(length)
    size = max(length, padded)
    power = (np.abs(np.fft.rfft(shown, size, axis=1)) ** 2).mean(axis=0)
    return np.fft.rfftfreq(size, 1 / sfreq), 4 * np.sqrt(power) / length


def _coarse(bursts: np.ndarray, sfreq: float) -> tuple[float, float]:
    """The strongest frequency, to a bin, and the one below which nearly all of the power lies; NaN where the bursts are
    too short."""
    if bursts.shape[1] < _LIMIT.fewest_samples or not len(bursts):
        return float("nan"), float("nan")
    hertz, height = spectrum(bursts, sfreq)
    power = np.where(hertz < _LIMIT.least_hz, 0.0, height**2)
    if not power.any():
        return float("nan"), float("nan")
    below = np.cumsum(power) / float(power.sum())
    return float(hertz[int(power.argmax())]), float(hertz[int(np.searchsorted(below, _LIMIT.most_power))])


@dataclass(frozen=True)
class Modes:
    """What all bursts of one sensor ring with, strongest first."""

    poles: np.ndarray  #: decay (1/s) + 1j * angular frequency (rad/s)
    share: np.ndarray  #: energy against the strongest one's
    block: int = 1  #: samples that are averaged into one

    @property
    def hz(self) -> np.ndarray:
        return self.poles.imag / (2 * np.pi)

    def near(self, hz: float) -> int | None:
        """The strongest mode within a hair of a frequency.

        Parameters
        ----------
        hz : float
            Hz

        Returns
        -------
        int or None
            its index, strongest first
        """
        found = np.flatnonzero(np.abs(self.hz / hz - 1) < _LIMIT.same_mode)
        return int(found[0]) if len(found) else None


def find_modes(bursts: np.ndarray, sfreq: float) -> Modes:
    """The modes of one sensor's bursts, shape (bursts, samples), Hz; none where they are too short or too few a cycle.

    Parameters
    ----------
    bursts : ndarray, shape (bursts, samples)
        V, each beginning at its strike
    sfreq : float
        samples a second

    Returns
    -------
    Modes
        Hz, decay in 1/s and share of each, the strongest first

    References
    ----------
    Roy and Kailath, IEEE Trans. ASSP 37(7), 1989 (ESPRIT). From memory.
    """
    none = Modes(np.empty(0, complex), np.empty(0))
    tallest = np.argsort(-np.abs(bursts).max(axis=1))[: int(_LIMIT.most_bursts)]
    about, top = _coarse(bursts[tallest[: int(_LIMIT.coarse_bursts)]], sfreq)
    if not np.isfinite(about) or about * _LIMIT.least_cycle > sfreq:
        return none
    block = max(1, int(sfreq / (max(about, top) * _LIMIT.samples_a_cycle)))
    if bursts.shape[1] // block < _LIMIT.fewest_samples:
        return none
    return Modes(*_modes(_thinned(bursts[tallest], block), block / sfreq), block)


def fit_rings(bursts: np.ndarray, sfreq: float, modes: Modes | None = None, which: int = 0) -> Rings:
    """One mode of each burst, the strongest unless another is asked for.

    Parameters
    ----------
    bursts : (bursts, samples) float
        what followed each strike, one sensor's, its resting level taken off
    sfreq : float
        Hz
    modes : Modes
        as found of the same bursts

    References
    ----------
    Golub and Pereyra, SIAM J. Numer. Anal. 10, 1973 (variable projection). From memory.
    """
    modes = find_modes(bursts, sfreq) if modes is None else modes
    if not len(modes.poles):
        return Rings.unread(len(bursts))
    step = modes.block / sfreq
    order = [which, *(index for index in range(len(modes.poles)) if index != which)]
    fit = _Fit(_thinned(bursts, modes.block), step, modes.poles[order])
    return fit.rings(_first_of_block(fit.poles_now(), step, modes.block))


def _thinned(bursts: np.ndarray, block: int) -> np.ndarray:
    length = bursts.shape[1] // block
    return bursts[:, : length * block].reshape(len(bursts), length, block).mean(axis=2)


def _first_of_block(pole: np.ndarray, step: float, block: int) -> np.ndarray:
    """How tall a damped sine was at a block's first sample against what the block's mean shows."""
    within = np.exp(-pole[:, None] * (step / block) * np.arange(block))
    return 1 / np.abs(within.mean(axis=1))


def _baseline(length: int) -> np.ndarray:
    """Constant, slope and bend over a burst, shape (length, 3)."""
    return np.polynomial.legendre.legvander(np.linspace(-1, 1, length), 2)


def steady(bursts: np.ndarray) -> np.ndarray:
    """Bursts without what a constant, a slope and a bend explain.

    Parameters
    ----------
    bursts : ndarray, shape (bursts, samples)
        V

    Returns
    -------
    ndarray, shape as given
        V; a polynomial of second degree taken off by least squares
    """
    slow = _baseline(bursts.shape[1])
    return bursts - bursts @ np.linalg.pinv(slow).T @ slow.T


def _modes(bursts: np.ndarray, step: float) -> tuple[np.ndarray, np.ndarray]:
    """Modes that all bursts share, strongest first: poles, and energies against the strongest."""
    length = bursts.shape[1]
    slow, rest = _baseline(length), steady(bursts)
    order = min(int(_LIMIT.most_order), length // 3)
    hankel = np.lib.stride_tricks.sliding_window_view(rest, order, axis=1).reshape(-1, order)
    strength, vectors = np.linalg.eigh(hankel.T @ hankel)
    strength, vectors = strength[::-1], vectors[:, ::-1]
    noise = float(np.median(strength[order // 2 :]))
    above = int(np.count_nonzero(strength > max(_LIMIT.above_noise * noise, 1e-9 * strength[0])))
    rank = int(np.clip(above + above % 2, 2, min(_LIMIT.most_modes * 2, order - 1)))
    shifted = np.linalg.lstsq(vectors[:-1, :rank], vectors[1:, :rank], rcond=None)[0]
    roots = np.linalg.eigvals(shifted)
    roots = roots[(roots.imag > 1e-6) & (np.abs(roots) > 1e-6)]
    poles = -np.log(roots.conj()) / step
    hertz = poles.imag / (2 * np.pi)
    fit = (hertz > _LIMIT.least_hz) & (hertz < _LIMIT.most_share / step)
    fit &= (poles.real > -0.02 * poles.imag) & (poles.real < _LIMIT.most_damping * poles.imag)
    poles = poles[fit]
    if not len(poles):
        return poles, np.empty(0)
    design = np.hstack([_waves(np.maximum(poles.real, 1.0) + 1j * poles.imag, length, step)[0], slow])
    found = np.linalg.lstsq(design, bursts.T, rcond=None)[0]
    many = len(poles)
    # The energy of a damped sine is its height squared over twice its decay.
    heights = (found[:many] ** 2 + found[many : 2 * many] ** 2).sum(axis=1)
    energy = heights / np.maximum(poles.real, 1.0)
    # A soft tap rings the block more than the sensor: outside the band of knock sensors a mode counts for less.
    hertz = poles.imag / (2 * np.pi)
    kept = energy > _LIMIT.least_energy * energy.max()
    poles, energy, hertz = poles[kept], energy[kept], hertz[kept]
    energy = energy * np.where((hertz > _LIMIT.band_low_hz) & (hertz < _LIMIT.band_high_hz), 1.0, _LIMIT.outside_band)
    order = np.argsort(-energy)
    return poles[order], energy[order] / energy.max(initial=1e-300)


def _waves(poles: np.ndarray, length: int, step: float) -> tuple[np.ndarray, np.ndarray]:
    """Cosines, then sines of modes, and the times, shapes (length, 2 * modes) and (length,)."""
    times = step * np.arange(length)
    wave = np.exp(-np.outer(times, poles))
    return np.hstack([wave.real, -wave.imag]), times


class _Fit:
    """The strongest mode of every burst, fitted beside the others as they were found of all bursts together.

    What the others and the baseline explain is projected out beforehand, of the samples and of the mode's own slopes:
    the fit and its covariance are then those of the whole (Frisch and Waugh 1933, Econometrica 1).
    """

    def __init__(self, bursts: np.ndarray, step: float, poles: np.ndarray):
        self.step = step
        self.count, self.length = bursts.shape
        beside = [_waves(poles[1:], self.length, step)[0]] if len(poles) > 1 else []
        self.beside, _ = np.linalg.qr(np.hstack([*beside, _baseline(self.length)]))
        self.bursts = bursts - bursts @ self.beside @ self.beside.T
        self.decay = np.full(self.count, max(float(poles[0].real), 1.0))
        self.omega = np.full(self.count, float(poles[0].imag))
        self.first = self.decay[0], self.omega[0]
        for _ in range(int(_LIMIT.rounds)):
            self._refine()

    def poles_now(self) -> np.ndarray:
        return self.decay + 1j * self.omega

    def _left(self, waves: np.ndarray) -> np.ndarray:
        """What the other modes do not explain of waves, shape (bursts, waves, length)."""
        return waves - waves @ self.beside @ self.beside.T

    def _slopes(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Slopes by decay, frequency, cosine and sine, shape (bursts, 4, length); the residual; cosine and sine."""
        times = self.step * np.arange(self.length)
        wave = np.exp(-self.poles_now()[:, None] * times)
        own = np.stack([wave.real, -wave.imag], axis=1)
        left = self._left(own)
        gram = left @ left.transpose(0, 2, 1)
        linear = np.linalg.solve(_firm(gram), left @ self.bursts[:, :, None])
        residual = self.bursts - (linear.transpose(0, 2, 1) @ left)[:, 0]
        cosine, sine = linear[:, 0], linear[:, 1]
        by_decay = -times * (cosine * own[:, 0] + sine * own[:, 1])
        by_omega = times * (sine * own[:, 0] - cosine * own[:, 1])
        slopes = np.concatenate([self._left(np.stack([by_decay, by_omega], axis=1)), left], axis=1)
        return slopes, residual, cosine[:, 0], sine[:, 0]

    def _refine(self) -> None:
        slopes, residual, _, _ = self._slopes()
        moved = np.linalg.solve(_firm(slopes @ slopes.transpose(0, 2, 1)), slopes @ residual[:, :, None])[:, :, 0]
        self.decay = np.clip(self.decay + moved[:, 0], 0.2 * self.first[0], 5 * self.first[0])
        self.omega = np.clip(self.omega + moved[:, 1], 0.9 * self.first[1], 1.1 * self.first[1])

    def rings(self, gain: np.ndarray) -> Rings:
        slopes, residual, cosine, sine = self._slopes()
        spare = max(self.length - 4 - self.beside.shape[1], 1)
        variance = (residual**2).sum(axis=1) / spare
        inverse = np.linalg.inv(_firm(slopes @ slopes.transpose(0, 2, 1)))
        spread = np.sqrt(variance[:, None] * np.abs(np.einsum("bii->bi", inverse)))
        height = np.hypot(cosine, sine) * gain
        read = (height > 0) & (np.abs(self.omega / self.first[1] - 1) < 0.099)
        hertz = np.where(read, self.omega / (2 * np.pi), np.nan)
        return Rings(
            hertz, spread[:, 1] / (2 * np.pi), np.where(read, 1 / self.decay, np.nan), spread[:, 0] / self.decay**2, height
        )  # fmt: skip


def _firm(gram: np.ndarray) -> np.ndarray:
    """Square matrices, shape (n, k, k), kept from being singular by a hair of their own diagonal."""
    size = np.einsum("nii->ni", gram)
    return gram + np.einsum("ni,ij->nij", 1e-11 * size + 1e-300, np.eye(gram.shape[1]))
