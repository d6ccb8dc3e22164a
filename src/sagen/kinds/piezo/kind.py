"""The kind `piezo`."""

from __future__ import annotations

from sagen.kinds.piezo.part import PiezoPart
from sagen.kinds.piezo.rules import RULES
from sagen.kinds.protocol import FormField, Kind
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Point, SensorKind, State
from sagen.signal.levels import state_levels
from sagen.signal.reading import StrikeReading
from sagen.signal.rule import Rule

LOOKED_AT = 1 << 13  #: samples that show where the line rests


class Piezo(Kind):
    """An element that answers to a tap."""

    slug = SensorKind.PIEZO
    material = "none"
    form = FormField("load_ohm", tr("Load"), tr("ohms across it, or empty for none"), "ω")
    not_by_hand = tr("A knock sensor counts nothing: it rings when it is struck. Tap it and record the ring instead.")
    needs_pattern = frozenset({FindingKind.TIMING_OFFSET})
    rules: tuple[Rule, ...] = RULES
    part = PiezoPart()

    def read(self, capture: Capture, channel: Channel, sheet: ChannelSheet) -> StrikeReading:
        return StrikeReading(sheet, channel.unit, capture.sfreq, capture.samples, state_levels(channel, LOOKED_AT))

    def points(self, spec: CircuitSpec) -> tuple[Point, ...]:
        return Point.SIGNAL, Point.GROUND, Point.SENSOR, Point.SIGNAL_WIRE, Point.GROUND_WIRE

    def height_setting(self, spec: CircuitSpec) -> str:
        return tr("±5 V, with the module or 20 to 50 kilohm across it")

    def own_settings(self, spec: CircuitSpec, state: State) -> tuple[tuple[str, str], ...]:
        how = {
            State.UNPLUGGED: tr("unplugged at the upper connectors, a channel across each sensor's own pins"),
            State.LOADED: tr("unplugged, a channel and 20 to 50 kilohm across each sensor's own pins, alike on all"),
        }.get(state, tr("plugged in, beside the sealed pins, ground at battery negative"))
        return (
            (tr("Probes"), tr("all sensors of the set at once: {how}", how=how)),
            (tr("Height"), tr("±5 V to begin with; no strike may run into its end, and none stay below a tenth of it")),
            (tr("Rate"), tr("200 kS/s a channel or faster, 100 at least")),
            (tr("Length"), tr("10 s or longer: six taps or more, half a second apart, all at one place")),
        )
