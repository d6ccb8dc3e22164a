"""The stand-in: one simulated machine behind a recorder, a meter and a module."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from sagen.instruments.protocols import Block, LiveValue, MeterValue
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.machine.simulated import SimulatedMachine
from sagen.model.capture import Capture, Channel, GrowingCapture
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import Point, Role, State
from sagen.signal.edges import find_edges

SFREQ, TAPPED_SFREQ = 40_000.0, 200_000.0
#: s that a recording in each state takes
SECONDS = {State.WIGGLE: 8.0, State.CRANKING: 4.0}
BLOCK = 4096  #: samples
#: what the module watches to show a speed: s, Hz
WATCHED_S, WATCHED_HZ = 2.0, 25_000.0


@dataclass
class StandIn:
    """Instruments clipped to a simulated machine. Each recording is another one of the same machine."""

    machine: SimulatedMachine

    @property
    def meter(self) -> StandIn:
        return self

    @property
    def module(self) -> StandIn:
        return self

    def read(self, point: Point, state: State) -> MeterValue:
        found = read(self.machine, point, state)
        return MeterValue(Point(point), State(state), found.quantity, found.value, found.over_range)

    def live(self, name: str) -> LiveValue:
        if name not in _LIVE:
            raise SagenError(unknown_name(tr("live value"), name, _LIVE))
        return _LIVE[name](self.machine)

    def recorder(self, state: State) -> StandInRecorder:
        seconds = SECONDS.get(State(state), 3.0)
        sfreq = SFREQ if self.machine.part.turns else TAPPED_SFREQ
        capture, sheet = record(
            self.machine, state, seconds=seconds, sfreq=sfreq, cylinders=self.machine.cylinders,
            name=f"stand-in-{state}.csv",
        )  # fmt: skip
        return StandInRecorder(capture, sheet)


def shown_rpm(machine: SimulatedMachine, state: str) -> float:
    """Speed of the engine, or of a speed sensor's wheel, as the module shows it, rpm.

    The module sees a rise and a fall where the signal passes its input's upper and lower level; what stays on one
    side of either is no pulse to it, and without pulses it shows 0.
    """
    capture, _ = record(machine.copy(), state, seconds=WATCHED_S, sfreq=WATCHED_HZ, cylinders=machine.cylinders)
    volts = capture.channels[0].raw
    lower, upper = machine.part.input_levels(machine.values)
    falls = find_edges(volts, lower=min(lower, upper - 1e-6), upper=upper).falls / WATCHED_HZ
    if len(falls) < 3:
        return 0.0
    teeth = np.count_nonzero(machine.teeth.there)
    pulses_a_second = (len(falls) - 1) / (falls[-1] - falls[0])
    turns_a_pulse = (2.0 if machine.spec.role == Role.CAM else 1.0) / max(teeth, 1)
    return float(60.0 * pulses_a_second * turns_a_pulse)


_LIVE = {
    "rpm_cranking": lambda machine: LiveValue("rpm_cranking", shown_rpm(machine, State.CRANKING), "rpm"),
    "rpm_running": lambda machine: LiveValue("rpm_running", shown_rpm(machine, State.RUNNING), "rpm"),
}


@dataclass
class StandInRecorder:
    """Gives a recording of the simulated machine in blocks."""

    taken: Capture
    described: Sheet

    @property
    def sfreq(self) -> float:
        return self.taken.sfreq

    def channels(self) -> tuple[Channel, ...]:
        return tuple(replace(channel, raw=channel.raw[:0]) for channel in self.taken.channels)

    def sheet(self) -> Sheet:
        return self.described

    def blocks(self) -> Iterator[Block]:
        for start in range(0, self.taken.samples, BLOCK):
            yield Block(np.stack([channel.raw[start : start + BLOCK] for channel in self.taken.channels]))


def recorded(recorder, name: str) -> Capture:
    """The whole of one recording, gathered from its blocks."""
    growing = GrowingCapture(name, recorder.sfreq, recorder.channels())
    for block in recorder.blocks():
        growing.append(block.raw)
    return growing.capture()
