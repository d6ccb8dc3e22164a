"""The switching sensor and its pull-up in the simulated machine."""

from __future__ import annotations

from sagen.machine.network import Network
from sagen.machine.part import SensorPart
from sagen.machine.record import record_powered
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.values import Values

BATTERY_PULL_UP_V = 8.0  #: a pull-up of as many volts or more hangs on the battery
RETURN_SHARE = 0.12  #: of the sensor's own resistance: a return of as much shows in its levels


class HallPart(SensorPart):
    """An open collector that conducts while a tooth stands before it."""

    name = "switching sensor"
    fed = True

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        values = machine.values
        if values.pull_up_v >= BATTERY_PULL_UP_V:
            # A pull-up to the battery follows it; what it falls short of the battery is the module's own.
            net.resistor("battery", "module_signal", values.pull_up_ohm)
        else:
            net.voltage("pull_up", "module_signal", "module_ground", values.pull_up_ohm)
        net.resistor("module_signal", "module_ground", values.input_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        values = machine.values
        net.resistor("sensor_supply", "sensor_ground", values.sensor_ohm)
        net.resistor("sensor_signal", "sensor_ground", values.on_ohm if conducting else values.off_ohm)

    def record(self, machine, state, times, turns, speed, sfreq):
        return record_powered(machine, state, times, turns, speed, sfreq)

    def described(self, machine: SimulatedMachine) -> dict:
        return {"pull_up": round(float(machine.spec.pull_up or machine.values.pull_up_v), 2)}

    def line_ohm(self, values: Values) -> float:
        return values.pull_up_ohm

    def load_input(self, values: Values, severity: float, heavy_ohm: float) -> None:
        values.input_ohm = heavy_ohm

    def return_scale(self, values: Values) -> tuple[float, float]:
        # Its own current shows a few ohms as tens of millivolts.
        return 0.08, RETURN_SHARE * values.sensor_ohm

    def spike_v(self, values: Values) -> float:
        return values.pull_up_v

    def whine_v(self, values: Values) -> float:
        return values.pull_up_v
