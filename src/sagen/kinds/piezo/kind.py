"""The kind `piezo`."""

from __future__ import annotations

from sagen.kinds.piezo.part import PiezoPart
from sagen.kinds.piezo.rules import RULES
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind
from sagen.signal.levels import state_levels
from sagen.signal.reading import StrikeReading
from sagen.signal.rule import Rule


LOOKED_AT = 1 << 13  #: samples that show where the line rests


class Piezo:
    """An element that answers to a tap."""

    slug = SensorKind.PIEZO
    rotating, fed, pulled_up, crossable, ohms_tell = False, False, False, False, True
    material = "none"
    form = None
    needs_pattern = frozenset({FindingKind.TIMING_OFFSET})
    rules: tuple[Rule, ...] = RULES
    part = PiezoPart()

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> StrikeReading:
        return StrikeReading(sheet, channel.unit, capture.sfreq, capture.samples, state_levels(channel, LOOKED_AT))

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        return Point.SIGNAL, Point.GROUND, Point.SENSOR, Point.SIGNAL_WIRE, Point.GROUND_WIRE

    def height_setting(self, spec: CircuitSpec) -> str:
        return "±5 V, with the module or 20 to 50 kilohm across it"

    def stated(self, spec: CircuitSpec) -> dict:
        return {}
