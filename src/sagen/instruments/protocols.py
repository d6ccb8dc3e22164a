"""What a recorder, a meter and a module have to do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from sagen.model.capture import Channel
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import Point, Quantity, State


@dataclass(frozen=True)
class Block:
    """Samples of every channel since the last block, shape (channels, n), in the channels' raw units."""

    raw: np.ndarray


@dataclass(frozen=True)
class MeterValue:
    """One value of a meter: V or ohm."""

    point: Point
    state: State
    quantity: Quantity
    value: float
    over_range: bool = False


@dataclass(frozen=True)
class LiveValue:
    """What a module shows of itself."""

    name: str
    value: float
    unit: str


class Recorder(Protocol):
    """A recorder that gives blocks as they come."""

    sfreq: float  #: Hz

    def channels(self) -> tuple[Channel, ...]:
        """What each channel is, without samples."""

    def sheet(self) -> Sheet | None:
        """What is known of the channels and of how they are taken; None where nothing is."""

    def blocks(self) -> Iterator[Block]:
        """The blocks of one recording, to its end; raises SagenError when the instrument is gone."""


class Meter(Protocol):
    """A meter that gives one value."""

    def read(self, point: Point, state: State) -> MeterValue:
        """A value at a point in a state; raises SagenError where nothing can be read."""


class Module(Protocol):
    """An engine's module."""

    def live(self, name: str) -> LiveValue:
        """A live value: `rpm_cranking`; raises SagenError for one that it does not have."""


class Instruments(Protocol):
    """What is on the bench for a job."""

    meter: Meter
    module: Module

    def recorder(self, state: State) -> Recorder:
        """A recorder set for a state."""
