"""The kind `hall`."""

from __future__ import annotations

from sagen.kinds.hall.part import HallPart
from sagen.kinds.hall.reading import HallReading, likely_pull_up
from sagen.kinds.hall.rules import RULES
from sagen.kinds.protocol import FormField, Kind
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind
from sagen.signal.levels import state_levels
from sagen.signal.two_state import read_two_state


class Hall(Kind):
    """A switching output with a pull-up in the module."""

    slug = SensorKind.HALL
    material = "copper"
    form = FormField("pull_up", tr("Pull-up"), tr("volts, or empty to guess"), "v")
    not_by_hand = ""
    needs_pattern = frozenset({FindingKind.TIMING_OFFSET})
    rules = RULES
    part = HallPart()

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> HallReading:
        levels = state_levels(channel)
        expected = sheet.pull_up or likely_pull_up(levels)
        return read_two_state(capture, channel, sheet, levels, expected, HallReading)

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        sensor = (Point.SENSOR,) if spec.ohms else ()
        return (
            Point.SUPPLY, Point.SIGNAL, Point.GROUND, *sensor, Point.SUPPLY_WIRE, Point.SIGNAL_WIRE, Point.GROUND_WIRE,
        )  # fmt: skip

    def height_setting(self, spec: CircuitSpec) -> str:
        return tr("±{pull_up:g} V, so that the remains of a square can be seen", pull_up=2 * (spec.pull_up or 5.0))

    def stated(self, spec: CircuitSpec) -> dict:
        return {"pull_up": spec.pull_up} if spec.pull_up else {}
