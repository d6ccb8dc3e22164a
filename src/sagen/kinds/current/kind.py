"""The kind `current`."""

from __future__ import annotations

from sagen.kinds.current.part import CurrentPart
from sagen.kinds.current.reading import HIGH_A, CurrentReading
from sagen.kinds.current.rules import RULES
from sagen.kinds.protocol import FormField, Kind
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind
from sagen.signal.levels import state_levels
from sagen.signal.two_state import read_two_state

DEFAULT_SHUNT = 100.0  #: ohm, where the sheet names none


class Current(Kind):
    """Two wires, two current levels."""

    slug = SensorKind.CURRENT
    material = "copper"
    form = FormField("shunt_ohm", tr("Resistor"), tr("ohms, 100 where empty"), "ohm")
    not_by_hand = tr(
        "This sensor tells teeth by its current: it needs a load of about 100 ohms in its return and a recorder "
        "across it. Record it in place instead."
    )
    needs_pattern = frozenset({FindingKind.TIMING_OFFSET})
    rules = RULES
    part = CurrentPart()

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> CurrentReading:
        per_amp = 1.0 if channel.unit == "A" else sheet.shunt_ohm or DEFAULT_SHUNT
        return read_two_state(capture, channel, sheet, state_levels(channel), HIGH_A * per_amp, CurrentReading)

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        sensor = (Point.SENSOR,) if spec.ohms else ()
        return Point.SUPPLY, Point.SIGNAL, *sensor, Point.SUPPLY_WIRE, Point.SIGNAL_WIRE

    def height_setting(self, spec: CircuitSpec) -> str:
        return tr("±2.5 V across {it:g} ohm in the feed", it=spec.values.get("shunt_ohm", DEFAULT_SHUNT))
