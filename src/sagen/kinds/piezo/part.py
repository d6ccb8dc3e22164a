"""The piezo element and the module's load in the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.network import Network
from sagen.machine.part import SensorPart
from sagen.machine.record import signal_table
from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import solve
from sagen.machine.values import Values
from sagen.model.vocabulary import State

LINE_OHM = 4_000.0  #: what a load on a knock sensor's wire is compared with


class PiezoPart(SensorPart):
    """A piezo element with its built-in resistor."""

    name = "piezo sensor"
    ohms_field = "piezo_ohm"

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        net.resistor("module_signal", "module_ground", machine.values.load_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        net.resistor("sensor_signal", "sensor_ground", machine.values.piezo_ohm)

    def record(self, machine, state, times, turns, speed, sfreq):
        return record_piezo(machine, state, times, turns, speed, sfreq)

    def described(self, machine: SimulatedMachine) -> dict:
        return {}

    def line_ohm(self, values: Values) -> float:
        return LINE_OHM

    def spike_v(self, values: Values) -> float:
        return values.coil_v

    def whine_v(self, values: Values) -> float:
        return 0.3


def strike_charge(machine: SimulatedMachine, times: np.ndarray, at: tuple[float, ...]) -> np.ndarray:
    """Open volts of a piezo element rung by taps: a damped oscillation at its own frequency."""
    values = machine.values
    omega, decay = 2 * np.pi * values.piezo_hz, 2 * np.pi * values.piezo_hz * values.piezo_zeta
    volts = np.zeros(len(times))
    for when in at:
        since = times - when
        after = since >= 0
        volts[after] += (
            values.piezo_v
            * np.exp(-decay * since[after])
            * np.sin(omega * np.sqrt(1 - values.piezo_zeta**2) * since[after])
        )
    return volts


def record_piezo(machine: SimulatedMachine, state: str, times, turns, speed, sfreq):
    from scipy.signal import bilinear, lfilter

    values = machine.values
    taps = tuple(np.arange(0.1, times[-1], 0.35)) if state == State.STRIKE else ()
    net = solve(machine, state, conducting=False, instrument=("plug_signal", values.recorder_ohm)).network
    load = net.resistance("sensor_signal", "sensor_ground") if state != State.KEY_ON_UNPLUGGED else values.recorder_ohm
    rc = load * (values.piezo_f + values.wire_f)
    divided = values.piezo_f / (values.piezo_f + values.wire_f)
    zeros, poles = bilinear([rc, 0.0], [rc, 1.0], sfreq)
    volts = divided * lfilter(zeros, poles, strike_charge(machine, times, taps))
    return [volts + machine.rng.normal(0, 0.3 * machine.noise_v, len(times))], [signal_table(machine)]
