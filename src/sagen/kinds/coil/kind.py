"""The kind `reluctance`."""

from __future__ import annotations

from sagen.kinds.coil.part import CoilPart
from sagen.kinds.coil.reading import CoilReading, read_coil
from sagen.kinds.coil.rules import RULES
from sagen.kinds.protocol import Kind
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind


class Coil(Kind):
    """A coil that makes its own voltage."""

    slug = SensorKind.RELUCTANCE
    material = "copper"
    form = None
    not_by_hand = tr(
        "A coil makes its volts from speed: a hand is too slow to count with, and a coil that is fed burns. "
        "Measure its ohms, ohms to its case, and its volts while cranking instead."
    )
    #: without a known-good capture a coil's weakness hardly shows
    needs_pattern = frozenset({FindingKind.TIMING_OFFSET, FindingKind.WEAK_AMPLITUDE})
    rules = RULES
    part = CoilPart()

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> CoilReading:
        return read_coil(capture, channel, sheet)

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        return Point.SIGNAL, Point.GROUND, Point.SENSOR, Point.SIGNAL_WIRE, Point.GROUND_WIRE

    def height_setting(self, spec: CircuitSpec) -> str:
        return tr("±5 V while cranking, ±50 V with the engine running; a coil's height grows with speed")
