"""Light taps on a block, and what the knock sensors bolted to it make of them.

A tap rings the block's own modes and every sensor's; the way from the place of the tap to a sensor makes it taller or
lower. What a sensor gives goes through its capacitance into whatever stands across it: open, a load, or the module.
"""

from __future__ import annotations

import zlib

import numpy as np

from sagen.machine.simulated import SimulatedMachine, build_machine
from sagen.model.lazy import lazy
from sagen.model.vocabulary import Connection, State

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

#: modes of a block beside the sensors': Hz, share of critical damping, height against the ring
BODY = ((1_950.0, 0.035, 0.16), (3_450.0, 0.03, 0.12), (9_700.0, 0.018, 0.1))
#: places by name: 1 is at the first sensor, -1 at the last; what that does to a way, and what else does, as logarithms
NEARER = {"front": 1.0, "left": 1.0, "middle": 0.0, "between": 0.0, "rear": -1.0, "back": -1.0, "right": -1.0}
REACH, PATH_SPREAD = 0.1, 0.04
SPACING_S, FIRST_S = 0.33, 0.11
HASH_S = 60e-6
#: taps by hand: standard deviation of their logarithm, and how far apart the hardest and the lightest may be
STRENGTH, MOST_APART = 0.35, 4.0
#: connections by the state in which a meter or a check speaks of them
CONNECTIONS = {
    State.UNPLUGGED: Connection.UNPLUGGED, State.LOADED: Connection.LOADED, State.KEY_ON: Connection.PLUGGED,
}  # fmt: skip


def sensor_set(machine: SimulatedMachine) -> list[SimulatedMachine]:
    """The machine's own sensor and its twins, in the order of their banks: the twins are sound, and the same ones in
    every recording.

    Parameters
    ----------
    machine : SimulatedMachine
        of a knock sensor's circuit
    """
    own = max((machine.spec.bank or 1) - 1, 0)
    count = max(machine.tap.sensors, own + 1)
    others = [build_machine(machine.spec, machine.part, machine.seed + 7919 * (index + 1)) for index in range(count)]
    return [machine if index == own else other for index, other in enumerate(others)]


def ways(place: str, sensors: int) -> np.ndarray:
    """How much of a tap at a place reaches each sensor, shape (sensors,), around 1; always the same for a place.

    Parameters
    ----------
    place : str
        where on the engine the tap is
    sensors : int
        how many sensors the set has
    """
    words = place.casefold().split()
    rng = np.random.default_rng(zlib.crc32(" ".join(words).encode()))
    where = next((NEARER[word] for word in words if word in NEARER), float(rng.uniform(-1, 1)))
    along = np.linspace(1, -1, sensors) if sensors > 1 else np.zeros(1)
    return np.exp(where * REACH * along + rng.normal(0, PATH_SPREAD, 8)[:sensors])


def strengths(rng: np.random.Generator, count: int) -> np.ndarray:
    """How hard each of some taps is, around 1, the hardest at most four times the lightest.

    Parameters
    ----------
    rng : numpy.random.Generator
    count : int
        taps

    Returns
    -------
    ndarray, shape (count,)
    """
    reach = 0.5 * np.log(MOST_APART)
    return np.exp(np.clip(rng.normal(0, STRENGTH, count), -reach, reach))


def record_taps(machine: SimulatedMachine, state: str, times: np.ndarray, sfreq: float) -> list[np.ndarray]:
    """Volts of every sensor of the set, in the order of their banks.

    Parameters
    ----------
    machine : SimulatedMachine
        with a knock sensor or a set of them
    state : str
        what is connected meanwhile
    times : ndarray, shape (n,)
        s, even
    sfreq : float
        samples a second

    Returns
    -------
    list of ndarray, shape (n,)
        V
    """
    rng, tap = machine.rng, machine.tap
    struck = state in (State.STRIKE, *CONNECTIONS)
    many = max(int((times[-1] - FIRST_S) / SPACING_S) + 1, 1) if struck and times[-1] > FIRST_S else 0
    at = FIRST_S + SPACING_S * np.arange(many) + rng.uniform(-0.04, 0.04, many)
    hard = strengths(rng, many)
    members = sensor_set(machine)
    way = ways(tap.place, len(members))
    body = 1 + 0.3 * np.random.default_rng(zlib.crc32(tap.place.encode()) + 1).normal(size=(len(members), len(BODY)))
    connection = CONNECTIONS.get(State(state), tap.connection)
    out = []
    for index, member in enumerate(members):
        open_v = _rung(member, times, at, hard * way[index], body[index])
        out.append(_loaded(member, open_v, connection, tap.load_ohm, sfreq) + _around(member, times, rng))
    return out


def _rung(
    machine: SimulatedMachine, times: np.ndarray, at: np.ndarray, hard: np.ndarray, body: np.ndarray
) -> np.ndarray:
    """Open volts of one element."""
    values = machine.values
    modes = [(values.piezo_hz, values.piezo_zeta, 1.0)]
    modes += [(hz, zeta, height * share) for (hz, zeta, height), share in zip(BODY, body, strict=True)]
    volts = np.zeros(len(times))
    for when, strength in zip(at, hard, strict=True):
        first = int(np.searchsorted(times, when))
        since = times[first : first + int(0.025 / max(times[1] - times[0], 1e-9))] - when
        for hz, zeta, height in modes:
            omega = 2 * np.pi * hz
            volts[first : first + len(since)] += (
                values.piezo_v * strength * height * np.exp(-zeta * omega * since)
                * np.sin(omega * np.sqrt(1 - zeta**2) * since)
            )  # fmt: skip
    return volts


def _loaded(
    machine: SimulatedMachine, volts: np.ndarray, connection: Connection, load_ohm: float, sfreq: float
) -> np.ndarray:
    """The open volts through the element's capacitance into what stands across it, as a recorder at the plug sees them."""
    values = machine.values
    after, series, stray = values.recorder_ohm, 0.0, values.recorder_f
    if connection == Connection.LOADED:
        after = 1 / (1 / after + 1 / load_ohm)
    elif connection == Connection.PLUGGED:
        far = values.signal_wire_ohm + values.load_ohm + values.ground_wire_ohm
        after = 1 / (1 / after + 1 / far + 1 / values.leak_ohm)
        series = values.signal_pin_ohm + values.ground_pin_ohm
        stray += values.wire_f
    across = 1 / (1 / values.piezo_ohm + 1 / (series + after))
    rc = across * (values.piezo_f + stray)
    share = values.piezo_f / (values.piezo_f + stray) * after / (series + after)
    zeros, poles = scipy.signal.bilinear([rc, 0.0], [rc, 1.0], sfreq)
    return share * scipy.signal.lfilter(zeros, poles, volts)


def _around(machine: SimulatedMachine, times: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Noise of the recorder; through an open shield hum of the mains and hash as well."""
    out = rng.normal(0, 0.3 * machine.noise_v, len(times))
    if machine.values.shield_ohm < 1e4:
        return out
    out += 0.6 * machine.values.piezo_v * np.sin(2 * np.pi * 50.0 * times + rng.uniform(0, 6))
    sfreq = 1 / (times[1] - times[0])
    length = max(2, int(HASH_S * sfreq))
    for when in rng.uniform(0, times[-1], rng.poisson(12 * times[-1])):
        first = int(when * sfreq)
        burst = (
            0.5 * machine.values.piezo_v * np.exp(-np.arange(length) / (length / 3)) * np.cos(1.3 * np.arange(length))
        )
        out[first : first + length] += burst[: len(out[first : first + length])]
    return out
