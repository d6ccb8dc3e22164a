"""A switching sensor's signal circuit, solved as the divider that it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class HallCircuit:
    """Pull-up in the module, open-collector output in the sensor; ohms and volts.

    What fails is a value here and nothing else: a leak to ground, resistance in the return, an
    output that no longer conducts well.
    """

    pull_up: float = 5.0
    pull_up_ohm: float = 2_200.0
    on_ohm: float = 45.0
    leak_ohm: float = 1e9  #: signal wire to ground
    return_ohm: float = 0.2
    recorder_ohm: float = 1e6
    lag_s: float = 8e-6  #: pull-up times the capacitance on the wire
    dead: str | None = None  #: "open": output never conducts; "short": it always does

    def levels(self) -> tuple[float, float]:
        """Volts on the signal wire with the output conducting and not."""
        shunt = 1 / (1 / self.leak_ohm + 1 / self.recorder_ohm)
        off = self.pull_up * shunt / (shunt + self.pull_up_ohm)
        through = 1 / (1 / (self.on_ohm + self.return_ohm) + 1 / shunt)
        return self.pull_up * through / (through + self.pull_up_ohm), off

    def signal(self, tooth: np.ndarray, sfreq: float) -> np.ndarray:
        """Volts at the signal pin while `tooth` (bool, shape (n,)) says where a tooth is before the tip."""
        low, high = self.levels()
        if self.dead:
            return np.full(len(tooth), high if self.dead == "open" else low)
        volts = np.where(tooth, low, high)
        from scipy.signal import lfilter

        decay = float(np.exp(-1.0 / (sfreq * self.lag_s)))
        filtered, _ = lfilter([1 - decay], [1, -decay], volts, zi=[decay * volts[0]])
        return filtered
