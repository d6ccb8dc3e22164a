"""What a kind of sensor has to say of itself."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from sagen.machine.simulated import SensorPart
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind, State
from sagen.signal.reading import ChannelReading
from sagen.signal.rule import Rule


@dataclass(frozen=True)
class FormField:
    """A number that the import sheet asks for: key of the sheet, label, hint, and the unit that may stand behind it."""

    key: str
    label: str
    hint: str
    unit: str


class Kind(Protocol):
    """One kind of sensor: how it is read, judged, simulated, recorded and asked about."""

    slug: SensorKind
    rotating: bool  #: whether it reads a turning wheel
    fed: bool  #: whether a feed reaches it
    pulled_up: bool  #: whether the module lifts its signal wire
    crossable: bool  #: whether its two wires can be swapped, so that its polarity means something
    ohms_tell: bool  #: whether ohms across it mean something without a published value
    material: str  #: of what a meter reads across it: a key of `meter.judge.MATERIALS`
    form: FormField | None
    #: findings that show only against a known-good capture
    needs_pattern: frozenset[FindingKind]
    rules: tuple[Rule, ...]  #: beside the rules that all share
    part: SensorPart

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> ChannelReading:
        """Read one channel in true units."""

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        """Where a probe can go on such a circuit."""

    def height_setting(self, spec: CircuitSpec) -> str:
        """The height scale to set on a recorder, in words."""

    def own_settings(self, spec: CircuitSpec, state: State) -> tuple[tuple[str, str], ...]:
        """All that is to be set on a recorder, by name, of a kind that is not recorded as what turns is; else ()."""

    def stated(self, spec: CircuitSpec) -> dict:
        """What a circuit's description says of its signal's channel, as a row of a sheet."""
