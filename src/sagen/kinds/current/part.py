"""The two-wire current sensor and the module's shunt in the simulated machine."""

from __future__ import annotations

from sagen.machine.faults import between
from sagen.machine.network import Network
from sagen.machine.part import SensorPart
from sagen.machine.record import record_powered
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.values import Values


class CurrentPart(SensorPart):
    """A sensor that draws one current or the other from its feed, through the module's shunt."""

    name = "two-wire current sensor"
    fed, own_return = True, False

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        net.resistor("module_signal", "module_ground", machine.values.shunt_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        net.current("draw", "sensor_signal", "sensor_supply")

    def power_node(self) -> str:
        return "sensor_signal"

    def unpowered(self, sources: dict[str, float]) -> None:
        sources["draw"] = 0.0

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

    def load_input(self, values: Values, severity: float, heavy_ohm: float) -> None:
        values.shunt_ohm *= between(0.6, 0.15, severity)

    def spike_v(self, values: Values) -> float:
        return 1.4

    def whine_v(self, values: Values) -> float:
        return 0.7
