"""What a kind of sensor has to say of itself."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

from sagen.machine.simulated import SensorPart
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import Capability, FindingKind, Point, SensorKind, State, can
from sagen.signal.reading import ChannelReading
from sagen.signal.rule import Rule


@dataclass(frozen=True)
class FormField:
    """A number that the import sheet asks for: key of the sheet, label, hint, and the unit that may stand behind it."""

    key: str
    label: str
    hint: str
    unit: str


class Kind(ABC):
    """One kind of sensor: how it is read, judged, simulated, recorded and asked about.

    What it does and has stands in `vocabulary.CAPABILITIES`, where data and fault modes ask for it, too.
    """

    slug: SensorKind
    material: str  #: of what a meter reads across it: a key of `meter.judge.MATERIALS`
    form: FormField | None
    #: why it cannot be counted by hand on the bench; "" where it can
    not_by_hand: str
    #: findings that show only against a known-good capture
    needs_pattern: frozenset[FindingKind]
    rules: tuple[Rule, ...]  #: beside the rules that all share
    part: SensorPart

    def has(self, *capabilities: Capability) -> bool:
        """Whether it does and has all of these."""
        return can(self.slug, *capabilities)

    @property
    def polar(self) -> bool:
        """Whether swapping its two wires turns its picture over."""
        return self.has(Capability.TURNS, Capability.GENERATES)

    @abstractmethod
    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> ChannelReading:
        """Read one channel in true units."""

    @abstractmethod
    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        """Where a probe can go on such a circuit."""

    @abstractmethod
    def height_setting(self, spec: CircuitSpec) -> str:
        """The height scale to set on a recorder, in words."""

    def own_settings(self, spec: CircuitSpec, state: State) -> tuple[tuple[str, str], ...]:
        """All that is to be set on a recorder, by name, of a kind that is not recorded as what turns is; else ()."""
        return ()

    def stated(self, spec: CircuitSpec) -> dict:
        """What a circuit's description says of its signal's channel, as a row of a sheet."""
        return {}
