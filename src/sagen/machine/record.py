"""What a recorder sees when it is clipped to the simulated machine."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.machine.circuit import HallCircuit
from sagen.machine.shaft import Shaft
from sagen.model.capture import Capture, Channel
from sagen.model.wheel import Wheel


@dataclass(frozen=True)
class ToothedWheel:
    """Teeth of `duty` pitch each, the last `missing` left out; `lost` tooth numbers are broken off."""

    wheel: Wheel
    duty: float = 0.5
    lost: tuple[int, ...] = ()

    def tooth(self, angle_deg: np.ndarray) -> np.ndarray:
        """Whether a tooth stands before the sensor at each angle (degrees of the wheel's shaft)."""
        slot = np.mod(angle_deg, 360.0) / self.wheel.pitch_deg
        index = np.floor(slot).astype(int)
        gone = np.zeros(self.wheel.slots + 1, bool)
        gone[self.wheel.slots - self.wheel.missing :] = True
        gone[[one - 1 for one in self.lost]] = True
        return (slot - index < self.duty) & ~gone[index]


def record_hall(
    name: str,
    *,
    shaft: Shaft,
    wheel: ToothedWheel,
    circuit: HallCircuit,
    seconds: float = 2.0,
    sfreq: float = 50_000.0,
    noise_v: float = 0.015,
    step_v: float = 0.02,
    seed: int = 1,
    column: str = "CH1",
) -> Capture:
    """Record the signal pin of a switching sensor.

    Parameters
    ----------
    seconds : float > 0
    sfreq : float > 0, Hz
    noise_v : float >= 0
        standard deviation, V
    step_v : float >= 0
        the recorder's resolution, V
    seed : int
        every draw comes from it

    Returns
    -------
    Capture
        one channel, V.
    """
    times = np.arange(round(seconds * sfreq)) / sfreq
    volts = circuit.signal(wheel.tooth(shaft.angle_deg(times)), sfreq)
    volts += np.random.default_rng(seed).normal(0.0, noise_v, len(volts))
    if step_v:
        volts = np.round(volts / step_v) * step_v
    return Capture(name, sfreq, (Channel(column, volts.astype(np.float32)),))
