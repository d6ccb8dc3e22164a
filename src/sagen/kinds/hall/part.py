"""The switching sensor and its pull-up in the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.network import Network
from sagen.machine.record import record_powered
from sagen.machine.simulated import SensorPart, SimulatedMachine, smooth
from sagen.machine.solve import ABSENT, either
from sagen.machine.values import Values
from sagen.model.language import tr
from sagen.model.vocabulary import STARTING, SensorKind
from sagen.signal.limits import limits

#: shares of the pull-up below which a line is flat, or held low: common practice; the rest are the reader's own limits
LEAST_SWING, HELD_LOW = 0.05, 0.16
_LIMIT = limits("hall")
BATTERY_PULL_UP_V = 8.0  #: a pull-up of as many volts or more hangs on the battery
RETURN_SHARE = 0.007  #: of the sensor's own resistance: a return of as much shows in its levels


class HallPart(SensorPart):
    """An open collector that conducts while a tooth stands before it."""

    name = tr("switching sensor")
    kind = SensorKind.HALL

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        values = machine.values
        # A pull-up to the battery follows it; what it falls short of the battery is the module's own.
        to_battery = values.pull_up_v >= BATTERY_PULL_UP_V
        net.resistor("battery", "module_signal", either(to_battery, values.pull_up_ohm, ABSENT))
        net.voltage("pull_up", "module_signal", "module_ground", either(to_battery, ABSENT, values.pull_up_ohm))
        net.resistor("module_signal", "module_ground", values.input_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        values = machine.values
        net.resistor("sensor_supply", "sensor_ground", values.sensor_ohm)
        net.voltage("low", "sensor_signal", "sensor_ground", either(conducting, values.on_ohm, values.off_ohm))

    def shown(self, circuit, state, node, ends):
        machine = circuit.machine
        values = machine.values
        low, high = ends[0][node], ends[1][node]
        expected = either(values.pull_up_v >= BATTERY_PULL_UP_V, values.battery_v, values.pull_up_v)
        # A pull-up to the battery sags with it while the starter turns.
        sags = (values.pull_up_v >= BATTERY_PULL_UP_V) & (state in STARTING)
        holds = either(sags, _LIMIT.high_share_cranking, _LIMIT.high_share)
        swing = np.abs(high - low)
        flat = smooth(LEAST_SWING - swing / expected, 0.012)
        at_top, at_bottom = smooth(high / expected - holds, 0.05), smooth(HELD_LOW - high / expected, 0.03)
        switching = 1.0 - flat
        # A weak pull-up charges the wire too slowly for the next tooth.
        rpm = machine.crank_rpm if state in STARTING else machine.idle_rpm
        farads = values.input_f + values.wire_f + values.recorder_f
        has = 30.0 / (rpm * max(machine.wheel.slots, 1))
        reached = 1.0 - np.exp(-has / (values.pull_up_ohm * farads))
        slowly = smooth(_LIMIT.high_share - reached, 0.05)
        return {
            "no_signal:high": flat * at_top,
            "no_signal:low": flat * at_bottom,
            "no_signal:middle": flat * (1 - at_top) * (1 - at_bottom),
            "low_not_pulled_down": switching
            * smooth(low - np.maximum(_LIMIT.low_v, _LIMIT.low_share * expected), 0.03 * expected),
            "high_not_reached": switching * np.maximum(smooth(holds - high / expected, 0.04), slowly),
        }

    def record(self, machine, state, times, turns, speed, sfreq):
        return record_powered(machine, state, times, turns, speed, sfreq)

    def described(self, machine: SimulatedMachine) -> dict:
        return {"pull_up": round(float(machine.spec.pull_up or machine.values.pull_up_v), 2)}

    def line_ohm(self, values: Values) -> float:
        return values.pull_up_ohm

    def load_input(self, values: Values, ohm: float) -> None:
        values.input_ohm = ohm

    def least_return_ohm(self, values: Values) -> float:
        # Its own current shows a few ohms as tens of millivolts.
        return RETURN_SHARE * values.sensor_ohm

    def spike_v(self, values: Values) -> float:
        return values.pull_up_v

    def whine_v(self, values: Values) -> float:
        return values.pull_up_v
