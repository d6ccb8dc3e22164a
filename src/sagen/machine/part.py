"""What a kind of sensor puts into the simulated machine: its branch of the network, what a recorder and a meter see of
it, and how faults that every circuit can have come out in it. Each kind in `kinds/` has its own."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING

import numpy as np

from sagen.model.vocabulary import State

if TYPE_CHECKING:
    from sagen.machine.network import Network
    from sagen.machine.simulated import SimulatedMachine
    from sagen.machine.values import Values


def smooth(beyond: float | np.ndarray, width: float | np.ndarray) -> np.ndarray:
    """Probability that something is found which lies `beyond` a limit that is `width` wide: a logistic step."""
    return 0.5 * (1.0 + np.tanh(0.5 * np.clip(beyond / width, -60, 60)))


#: volts by node while a tooth stands before the sensor, and while none does
Ends = tuple[dict[str, np.ndarray], dict[str, np.ndarray]]


class SensorPart(ABC):
    """The sensor and the module's input as a part of the circuit."""

    name: str  #: in sentences
    fed: bool = False  #: whether a feed reaches the sensor
    #: findings that one state shows and another does not, because what stands across the sensor is another
    by_state: frozenset[str] = frozenset()
    turns: bool = True  #: whether it reads what turns; else it is struck
    own_return: bool = True  #: whether it has a return wire of its own
    ohms_field: str | None = None  #: the value of `Values` that a meter reads across the sensor; None: it says nothing
    ohms_by_temperature: bool = False  #: whether that is copper

    # the network ----------------------------------------------------------------------------

    @abstractmethod
    def input(self, net: Network, machine: SimulatedMachine) -> None:
        """Hang the module's input on the signal wire."""

    @abstractmethod
    def sensor(self, net: Network, machine: SimulatedMachine, conducting: bool) -> None:
        """Hang the sensor on its plug."""

    def power_node(self) -> str:
        """The node below a fed sensor: what stands between it and the feed decides whether the sensor works."""
        return "sensor_ground"

    # recorder -------------------------------------------------------------------------------

    @abstractmethod
    def record(
        self,
        machine: SimulatedMachine,
        state: str,
        times: np.ndarray,
        turns: np.ndarray,
        speed: np.ndarray,
        sfreq: float,
    ) -> tuple[list[np.ndarray], list[dict]]:
        """Volts of every channel, and the row of the sheet that describes it."""

    @abstractmethod
    def described(self, machine: SimulatedMachine) -> dict:
        """What the sheet says of the signal's channel beside role, sensor and wheel."""

    def conditions(self, machine: SimulatedMachine, state: str) -> dict:
        """What the sheet of a recording in a state says of how it was taken."""
        return {"state": {State.METAL_NEAR: State.KEY_ON, State.METAL_AWAY: State.KEY_ON}.get(State(state), state)}

    def input_levels(self, values: Values) -> tuple[float, float]:
        """Below and above which the module's input sees a low and a high, V."""
        return values.threshold_v - 0.5 * values.hysteresis_v, values.threshold_v + 0.5 * values.hysteresis_v

    def shown(self, machine: SimulatedMachine, state: str, node: str, ends: Ends) -> dict[str, np.ndarray]:
        """How likely the circuit's levels alone make each finding of a recording with the probe at a node: labels of
        findings and probabilities, of one machine or of all that its arrays hold; `ends` are the volts of every node
        between which a turning shaft switches them."""
        return {}

    # faults that come out differently --------------------------------------------------------

    @abstractmethod
    def line_ohm(self, values: Values) -> float:
        """The resistance that feeds the signal wire: what a load has to be compared with."""

    def load_input(self, values: Values, ohm: float) -> None:
        """Let the module's input hold the wire down through so many ohms."""
        values.load_ohm = ohm

    def least_return_ohm(self, values: Values) -> float:
        """The resistance in the return from which on it is worth a thought."""
        return 100.0

    @abstractmethod
    def spike_v(self, values: Values) -> float:
        """How tall ignition spikes are on the signal, V."""

    @abstractmethod
    def whine_v(self, values: Values) -> float:
        """How far the signal swings that an alternator's ripple is compared with, V."""
