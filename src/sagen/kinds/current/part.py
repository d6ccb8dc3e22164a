"""The two-wire current sensor and the module's shunt in the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.network import Network
from sagen.machine.record import record_powered
from sagen.machine.simulated import SensorPart, SimulatedMachine, smooth
from sagen.machine.values import Values
from sagen.model.language import tr
from sagen.model.vocabulary import SensorKind

#: a step of seven milliamperes across about a hundred ohm is what is looked for: common practice
USUAL_SHUNT_OHM, LEAST_SWING_A, WEAK_SWING_A, LEAST_LEVEL_V = 100.0, 0.0008, 0.0035, 0.35


class CurrentPart(SensorPart):
    """A sensor that draws one current or the other from its feed, through the module's shunt."""

    name = tr("two-wire current sensor")
    kind = SensorKind.CURRENT
    draws_of_its_own = True

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        net.resistor("module_signal", "module_ground", machine.values.shunt_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        net.current("draw", "sensor_signal", "sensor_supply")

    def power_node(self) -> str:
        return "sensor_signal"

    def shown(self, circuit, state, node, ends):
        one, other = ends[0][node], ends[1][node]
        swing = np.abs(one - other) / USUAL_SHUNT_OHM
        flat = smooth(LEAST_SWING_A - swing, 0.0003)
        bottom = smooth(LEAST_LEVEL_V - np.minimum(one, other), 0.15)
        return {
            "no_signal:low": flat * (0.2 + 0.8 * bottom),
            "no_signal:middle": flat * 0.8 * (1 - bottom),
            "weak_amplitude": (1 - flat) * smooth(WEAK_SWING_A - swing, 0.0008),
        }

    def record(self, machine, state, times, turns, speed, sfreq):
        return record_powered(machine, state, times, turns, speed, sfreq)

    def described(self, machine: SimulatedMachine) -> dict:
        return {"shunt_ohm": round(machine.values.shunt_ohm, 1)}

    def input_levels(self, values: Values) -> tuple[float, float]:
        # Midway between 7 and 14 mA through the resistor that is meant to be there; a fault of the input shifts it.
        whole = Values()
        middle = 0.0105 * whole.shunt_ohm * values.threshold_v / whole.threshold_v
        band = 0.0025 * whole.shunt_ohm * values.hysteresis_v / whole.hysteresis_v
        return middle - 0.5 * band, middle + 0.5 * band

    def line_ohm(self, values: Values) -> float:
        return values.shunt_ohm

    def load_input(self, values: Values, ohm: float) -> None:
        # What holds the wire down lies beside the shunt, across which the current is read.
        values.shunt_ohm = values.shunt_ohm * ohm / (values.shunt_ohm + ohm)

    def spike_v(self, values: Values) -> float:
        return 1.4

    def whine_v(self, values: Values) -> float:
        return 0.7
