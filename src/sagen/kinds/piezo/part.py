"""The piezo element and the module's load in the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.knock import CONNECTIONS, record_taps
from sagen.machine.network import Network
from sagen.machine.record import signal_table
from sagen.machine.simulated import SensorPart, SimulatedMachine, Tap, smooth
from sagen.machine.values import Values
from sagen.model.language import tr
from sagen.model.vocabulary import Connection, SensorKind, State

LINE_OHM = 4_000.0  #: what a load on a knock sensor's wire is compared with


#: a sensor this much lower than its twin is weak, or as good as silent; load for tapping, and the least of a sound module
WEAK_RATIO, SILENT_RATIO, TAP_LOAD_OHM, LEAST_LOAD_OHM = 0.75, 0.05, 22_000.0, 8_000.0


class PiezoPart(SensorPart):
    """A piezo element with its built-in resistor."""

    name = tr("piezo sensor")
    kind = SensorKind.PIEZO
    by_state = frozenset({"weak_strike", "loaded_down", "no_signal"})
    ohms_field = "piezo_ohm"

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        # Some modules hold the wire up to see whether it is parted; none is the plain circuit.
        net.resistor("module_signal", "module_return", machine.values.load_ohm)
        net.voltage("bias", "module_signal", "module_ground", machine.values.bias_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        net.resistor("sensor_signal", "sensor_ground", machine.values.piezo_ohm)

    def shown(self, circuit, state, node, ends):
        # Heights are told against a sound twin of this machine under the same load.
        ratio, alone = (self._height(circuit.machine, this_state) for this_state in (state, State.UNPLUGGED))
        weak = smooth(WEAK_RATIO - ratio, 0.06)
        loaded = smooth(WEAK_RATIO - ratio / np.maximum(alone, 1e-6), 0.06)
        return {"weak_strike": weak, "loaded_down": loaded, "no_signal:middle": smooth(SILENT_RATIO - ratio, 0.02)}

    def _height(self, machine: SimulatedMachine, state: str) -> np.ndarray:
        """Height of a tap's answer against that of a sound sensor whose wires are sound."""
        values, usual = machine.values, Values()
        omega = 2 * np.pi * usual.piezo_hz
        if state in (State.UNPLUGGED, State.LOADED):
            load = TAP_LOAD_OHM if state == State.LOADED else values.recorder_ohm
            series = 0.0
        else:
            shunt = 1 / values.load_ohm + 1 / values.leak_ohm
            load, series = 1 / shunt, values.signal_wire_ohm + values.signal_pin_ohm + values.ground_wire_ohm
        path = series + load
        total = 1 / (1 / values.piezo_ohm + 1 / path)
        reactance = 1 / (omega * values.piezo_f)
        sound_load = TAP_LOAD_OHM if state == State.LOADED else np.maximum(load, LEAST_LOAD_OHM)
        sound = 1 / np.hypot(1.0, reactance / sound_load)
        return values.piezo_v / usual.piezo_v * (load / path) / np.hypot(1.0, reactance / total) / sound

    def record(self, machine, state, times, turns, speed, sfreq):
        if machine.tap is None:
            machine.tap = Tap()
        columns = record_taps(machine, state, times, sfreq)
        loaded = CONNECTIONS.get(State(state), machine.tap.connection) == Connection.LOADED
        load = {"load_ohm": machine.tap.load_ohm} if loaded else {}
        return columns, [signal_table(machine) | {"bank": bank + 1} | load for bank in range(len(columns))]

    def described(self, machine: SimulatedMachine) -> dict:
        return {}

    def conditions(self, machine: SimulatedMachine, state: str) -> dict:
        tap = machine.tap or Tap()
        connection = CONNECTIONS.get(State(state), tap.connection)
        return tap.stated | {"state": State.STRIKE, "connection": str(connection)}

    def line_ohm(self, values: Values) -> float:
        return LINE_OHM

    def spike_v(self, values: Values) -> float:
        return values.coil_v

    def whine_v(self, values: Values) -> float:
        return 0.3
