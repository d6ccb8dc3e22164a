"""The coil and the module's input in the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.network import Network, Transfer
from sagen.machine.record import (
    CRANK_TABLE,
    cam_lateness,
    crank_beside,
    disturbed,
    parted,
    signal_table,
    spans,
    tooth_place,
    with_open,
)
from sagen.machine.simulated import SensorPart, SimulatedMachine, smooth
from sagen.machine.solve import copper, solve
from sagen.machine.values import Values
from sagen.model.lazy import lazy
from sagen.model.vocabulary import STARTING, Role, SensorKind

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

ARMS_V = 0.8  #: what a coil's input takes for a tooth


#: peak to peak at 200 teeth a second below which a coil is as good as still, or weak; and the least bias: common practice
LEAST_HEIGHT_V, WEAK_HEIGHT_V, LEAST_BIAS_V = 0.06, 0.7, 0.35


class CoilPart(SensorPart):
    """A coil in series with its own resistance; the input watches it through a bias and a load."""

    name = "coil"
    kind = SensorKind.RELUCTANCE
    ohms_field = "coil_ohm"
    ohms_by_temperature = True

    def input(self, net: Network, machine: SimulatedMachine) -> None:
        values = machine.values
        net.resistor("module_signal", "module_return", values.load_ohm)
        net.voltage("bias", "module_signal", "module_ground", values.bias_ohm)
        net.voltage("return_bias", "module_return", "module_ground", values.return_bias_ohm)

    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        net.voltage("coil", "sensor_signal", "sensor_ground", copper(machine, machine.values.coil_ohm))

    def shown(self, circuit, state, node, ends):
        machine = circuit.machine
        values = machine.values
        net = circuit.network(state, conducting=False, instrument=(node, values.recorder_ohm))
        at_rest = dict.fromkeys(("battery", "lift", "pull_up", "bias", "return_bias"), 0.0)
        gain = np.abs(net.volts(at_rest | {"coil": 1.0})[node])
        rpm = machine.crank_rpm if state in STARTING else np.float64(machine.idle_rpm)
        height = 2.0 * values.coil_v * machine.field_strength * gain * np.where(machine.turns, 1.0, 0.0) * rpm / 200.0
        flat = smooth(np.log10(LEAST_HEIGHT_V / np.maximum(height, 1e-9)), 0.12)
        rest = ends[0][node]
        bottom = smooth(LEAST_BIAS_V - rest, 0.08)
        return {
            "no_signal:low": flat * bottom,
            "no_signal:middle": flat * (1 - bottom),
            "weak_amplitude": (1 - flat) * smooth(np.log10(WEAK_HEIGHT_V / np.maximum(height, 1e-9)), 0.1),
        }

    def record(self, machine, state, times, turns, speed, sfreq):
        return record_coil(machine, state, times, turns, speed, sfreq)

    def described(self, machine: SimulatedMachine) -> dict:
        return {"polarity": "falling"}

    def input_levels(self, values: Values) -> tuple[float, float]:
        # It arms on a rise of a few tenths of a volt and counts where the signal falls through zero.
        whole = Values()
        arms = ARMS_V * values.threshold_v / whole.threshold_v
        return -0.1 * arms * values.hysteresis_v / whole.hysteresis_v, arms

    def line_ohm(self, values: Values) -> float:
        return values.coil_ohm

    def spike_v(self, values: Values) -> float:
        return values.coil_v

    def whine_v(self, values: Values) -> float:
        return values.coil_v


def coil_emf(machine: SimulatedMachine, turns: np.ndarray, speed: np.ndarray) -> np.ndarray:
    """Open volts of a coil: the slope of the flux as teeth pass, in proportion to speed (Faraday).

    Parameters
    ----------
    machine : SimulatedMachine
    turns, speed : ndarray, shape (n,)
        turns of the wheel's shaft, turns a second

    Returns
    -------
    ndarray, shape (n,)
        V

    References
    ----------
    Faraday's law of induction: Feynman, Leighton and Sands, Lectures on Physics II (1964), 17-1. From memory.
    """
    within, strength = tooth_place(machine, turns)
    width = 0.21
    bump = -within / width * np.exp(0.5 - 0.5 * (within / width) ** 2)
    volts = machine.values.coil_v * speed * machine.wheel.slots / 200.0 * strength * bump
    return -volts if machine.reversed else volts


def coil_response(machine: SimulatedMachine, load_ohm: float, farads: float) -> tuple[np.ndarray, np.ndarray]:
    """Numerator and denominator in s of load volts over open volts: R and L in series, load and C across it.

    Parameters
    ----------
    machine : SimulatedMachine
    load_ohm : float
        ohm across the coil's ends
    farads : float
        F across them

    Returns
    -------
    numerator, denominator : ndarray
        powers of s, falling

    References
    ----------
    Series RL with a capacitance across its load, second order: Oppenheim and Willsky, Signals and Systems (1997), 6.5. From memory.
    """
    values = machine.values
    ohm, henry = copper(machine, values.coil_ohm), values.coil_h
    return np.array([1.0]), np.array([henry * farads, henry / load_ohm + ohm * farads, 1.0 + ohm / load_ohm])


def record_coil(machine: SimulatedMachine, state: str, times, turns, speed, sfreq):
    values = machine.values
    if machine.spec.role == Role.CAM:
        # A cam's wheel turns at half the crank's speed, late by what belt and phaser make of it.
        emf = coil_emf(machine, (turns - cam_lateness(machine, turns, times) / 360.0) / 2, speed / 2)
    else:
        emf = coil_emf(machine, turns, speed)
    for start, end in spans(machine.drops, len(times)):
        emf[start:end] = 0.0
    probe = ("plug_signal", values.recorder_ohm)
    solved = solve(machine, state, conducting=False, instrument=probe)
    transfer: Transfer = solved.transfer
    still = float(solved.volts("plug_signal"))
    gain = float(transfer.matrix[transfer.place["plug_signal"], transfer.names.index("coil")])
    load = max(solved.network.resistance("plug_signal", "0"), 1.0)
    farads = values.input_f + values.wire_f + values.recorder_f
    top, bottom = coil_response(machine, max(load, values.coil_ohm * 1.01), farads)
    zeros, poles = scipy.signal.bilinear(top * bottom[-1], bottom, sfreq)
    volts = still + gain * scipy.signal.lfilter(zeros, poles, emf)
    for cause, stretches in parted(machine, state, len(times)).items():
        still_there = solve(with_open(machine, cause), state, conducting=False, instrument=probe).volts("plug_signal")
        for start, end in stretches:
            volts[start:end] = still_there
    if state in STARTING:
        volts = volts + values.crank_a * machine.crank_sag * values.strap_ohm
    swing = float(np.abs(volts - still).max())
    volts = (
        volts
        + disturbed(machine, state, times, sfreq)
        + machine.rng.normal(0, 0.25 * machine.noise_v + 0.003 * swing, len(times))
    )
    if machine.spec.role == Role.CAM:
        return [volts, crank_beside(machine, turns)], [signal_table(machine), dict(CRANK_TABLE)]
    return [volts], [signal_table(machine)]
