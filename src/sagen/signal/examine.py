"""The whole reading of a capture: every channel, then every rule."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace

from sagen.model.capture import Capture
from sagen.model.errors import SheetError, unknown_name
from sagen.model.finding import Finding
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.signal import rules_cam, rules_level, rules_wheel
from sagen.signal.cadence import Cadence, cadence
from sagen.signal.cam import CamTrack, track
from sagen.signal.coil import read_coil
from sagen.signal.compare import Comparison, compare
from sagen.signal.context import Context, Rule, twin
from sagen.signal.hall import read_current, read_hall
from sagen.signal.levels import Levels, state_levels
from sagen.signal.rails import RAIL_RULES, Rail, read_rail
from sagen.signal.reading import RotatingReading

#: a reader for every sensor kind; a new kind is a new row
READERS: dict[str, Callable[..., RotatingReading]] = {
    "hall": read_hall,
    "reluctance": read_coil,
    "current": read_current,
}
#: roles of a rotating sensor; the others are only measured
ROTATING = ("crank", "cam", "speed")
#: asked in this order: what makes a capture unfit comes first, so that later rules can hold back
RULES: tuple[Rule, ...] = (
    rules_level.undersampled, rules_level.clipped, rules_level.too_short,
    rules_level.no_signal, rules_level.low_not_pulled_down, rules_level.high_not_reached,
    rules_level.weak_coil, rules_level.weak_current, rules_level.noise,
    rules_wheel.wrong_pattern, rules_wheel.reversed_polarity, rules_wheel.extra_gap,
    rules_wheel.erratic,
    rules_wheel.dropout, rules_wheel.odd_tooth, rules_wheel.runout,
    rules_cam.cam_dropout,
    rules_cam.timing_scatter, rules_cam.timing_offset,
)  # fmt: skip


@dataclass(frozen=True)
class ChannelResult:
    """One channel's part of an examination; `reading` is None for channels that are only measured."""

    sheet: ChannelSheet
    unit: str
    levels: Levels
    reading: RotatingReading | None = None
    rail: Rail | None = None
    comparison: Comparison | None = None

    def as_row(self) -> dict:
        """The channel as the command line prints it."""
        reading = self.reading
        wheel = reading.wheel if reading else None
        return {
            "column": self.sheet.column,
            "role": self.sheet.role,
            "low": round(self.levels.low, 4),
            "high": round(self.levels.high, 4),
            "unit": self.unit,
            "speed_rpm": reading.speed_range() if reading else None,
            "wheel": {"slots": wheel.slots, "missing": wheel.missing} if wheel else None,
        }


@dataclass(frozen=True)
class Examination:
    capture: str
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]
    cams: dict[str, CamTrack] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    cadence: Cadence | None = None  #: how the starter turns the engine, where it was cranking

    def as_row(self) -> dict:
        return {
            "capture": self.capture,
            "channels": [one.as_row() for one in self.channels],
            "findings": [one.as_row() for one in self.findings],
        }

    def as_data(self, sheet: Sheet) -> dict:
        """What the trail keeps of an examined capture."""
        return {
            "sheet": sheet.model_dump(mode="json", exclude_none=True),
            "findings": [one.as_data() for one in self.findings],
            "channels": [one.as_row() for one in self.channels],
            "compared": [one.comparison.text for one in self.channels if one.comparison],
        } | ({"cadence": asdict(self.cadence)} if self.cadence else {})


class Stopped(Exception):
    """The user stopped the work."""


def examine(
    capture: Capture,
    sheet: Sheet | None = None,
    *,
    reference: tuple[Capture, Sheet] | None = None,
    progress: Callable[[float], bool] | None = None,
) -> Examination:
    """Read a capture down to the tooth and say what it shows.

    Parameters
    ----------
    capture : Capture
    sheet : Sheet or None
        without one, the first channel is taken for a crank sensor's signal
    reference : (Capture, Sheet) or None
        a known-good capture of the same circuit
    progress : callable
        told the share done, 0 to 1; answers False to stop

    Raises
    ------
    SheetError
        when the sheet names a channel that the capture does not have.
    Stopped
        when `progress` says so.
    """
    sheet = complete_sheet(capture, sheet)
    tell = progress or (lambda share: True)
    good = _read_channels(*reference, (), lambda share: True) if reference else []
    patterns = tuple(one.reading for one in good if one.reading and one.reading.switching)
    results = _read_channels(capture, sheet, patterns, lambda share: tell(0.9 * share))
    readings = tuple(one.reading for one in results if one.reading)
    cams = _cams(readings)
    context = Context(
        sheet.conditions.state, readings, sheet.engine.cylinders, sheet.engine.sprocket, patterns, cams,
        _pattern_cams(readings, patterns),
    )  # fmt: skip
    for one in results:
        if one.rail is not None:
            context.found += RAIL_RULES[one.sheet.role](one.rail, context)
    for reading in readings:
        for rule in RULES:
            context.found += rule(reading, context)
    results = [_compared(one, context) for one in results]
    tell(1.0)
    findings = sorted(context.found, key=lambda one: -one.severity)
    cranks = (one for one in readings if one.sheet.role == "crank" and one.switching)
    heard = next((told for one in cranks if (told := cadence(one))), None) if context.state == "cranking" else None
    return Examination(capture.name, tuple(results), tuple(findings), cams, capture.notes, heard)


def _read_channels(
    capture: Capture, sheet: Sheet, patterns: tuple[RotatingReading, ...], tell: Callable[[float], bool]
) -> list[ChannelResult]:
    results: list[ChannelResult] = []
    described = complete_sheet(capture, sheet).channel
    for index, one in enumerate(described):
        if not tell(index / len(described)):
            raise Stopped
        results.append(_channel_result(capture, one, patterns))
    return results


def _cams(readings: tuple[RotatingReading, ...]) -> dict[str, CamTrack]:
    """Every cam channel placed on the crank, where there is a crank to place it on."""
    crank = next((one for one in readings if one.sheet.role == "crank" and one.wheel and one.switching), None)
    tracks = {one.column: track(one, crank) for one in readings if one.sheet.role == "cam"} if crank else {}
    return {name: one for name, one in tracks.items() if one is not None}


def _pattern_cams(readings: tuple[RotatingReading, ...], patterns: tuple[RotatingReading, ...]) -> dict[str, CamTrack]:
    """The known-good capture's cam tracks, under the names that the cams have in this one."""
    tracks, named = _cams(patterns), {}
    for one in readings:
        other = twin(one, readings, patterns) if one.sheet.role == "cam" else None
        if other is not None and other.column in tracks:
            named[one.column] = tracks[other.column]
    return named


def complete_sheet(capture: Capture, sheet: Sheet | None) -> Sheet:
    """The sheet with a row for the capture's channels; raises SheetError for one that is not there."""
    if sheet is None or not sheet.channel:
        first = ChannelSheet(column=capture.channels[0].column, role="crank", sensor="hall")
        rest = tuple(ChannelSheet(column=one.column) for one in capture.channels[1:])
        return (sheet or Sheet()).model_copy(update={"channel": (first, *rest)})
    columns = [one.column for one in capture.channels]
    for one in sheet.channel:
        if capture.channel(one.column) is None:
            raise SheetError(f"{capture.name}: {unknown_name('channel', one.column, columns)}")
    return sheet


def _channel_result(capture: Capture, sheet: ChannelSheet, patterns: tuple[RotatingReading, ...]) -> ChannelResult:
    channel = capture.channel(sheet.column)
    if sheet.factor != 1.0:
        # A probe factor scales what the recorder wrote, its offset included.
        channel = replace(channel, scale=channel.scale * sheet.factor, offset=channel.offset * sheet.factor)
    if sheet.role in RAIL_RULES:
        rail = read_rail(channel, sheet, capture.sfreq)
        return ChannelResult(sheet, channel.unit, rail.levels, rail=rail)
    reader = READERS.get(sheet.sensor or "hall") if sheet.role in ROTATING else None
    if reader is None:
        return ChannelResult(sheet, channel.unit, state_levels(channel))
    if sheet.wheel is None and sheet.role != "cam":
        pattern = next((one for one in patterns if one.sheet.role == sheet.role and one.wheel), None)
        if pattern is not None:
            sheet = sheet.model_copy(update={"wheel": str(pattern.wheel)})
    reading = reader(capture, channel, sheet)
    return ChannelResult(sheet, channel.unit, reading.levels, reading)


def _compared(result: ChannelResult, context: Context) -> ChannelResult:
    reading = result.reading
    pattern = context.pattern(reading) if reading is not None and reading.switching else None
    return replace(result, comparison=compare(reading, pattern)) if pattern is not None else result
