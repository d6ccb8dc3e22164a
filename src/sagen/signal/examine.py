"""The whole reading of a capture: every channel, then every rule."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from sagen.model.capture import Capture
from sagen.model.errors import SheetError, unknown_name
from sagen.model.finding import Finding
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.signal.compare import Comparison, compare
from sagen.signal.hall import read_hall
from sagen.signal.levels import Levels, state_levels
from sagen.signal.reading import Reading
from sagen.signal.rules import RULES, Context

#: a reader for every sensor kind; a new kind is a new row
READERS: dict[str, Callable[..., Reading]] = {"hall": read_hall}
#: roles of a rotating sensor; the others are only measured
ROTATING = ("crank", "cam", "speed")


@dataclass(frozen=True)
class ChannelResult:
    """One channel's part of an examination; `reading` is None for channels that are only measured."""

    sheet: ChannelSheet
    unit: str
    levels: Levels
    reading: Reading | None = None
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
    notes: tuple[str, ...] = ()

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
        }


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
    patterns = _patterns(reference)
    results = []
    for index, one in enumerate(sheet.channel):
        if not tell(index / len(sheet.channel)):
            raise Stopped
        results.append(_channel_result(capture, one, patterns))
    readings = tuple(one.reading for one in results if one.reading)
    findings = []
    for result in results:
        if result.reading is None:
            continue
        pattern = patterns.get(result.sheet.role)
        lost = frozenset(n for n, share in pattern.teeth.lost.items() if share > 0.5) if pattern else frozenset()
        context = Context(sheet.conditions.state, readings, lost)
        for rule in RULES:
            findings += rule(result.reading, context)
    tell(1.0)
    findings.sort(key=lambda one: -one.severity)
    return Examination(capture.name, tuple(results), tuple(findings), capture.notes)


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


def _patterns(reference: tuple[Capture, Sheet] | None) -> dict[str, Reading]:
    """Readings of the known-good capture by role."""
    if reference is None:
        return {}
    capture, sheet = reference
    results = [_channel_result(capture, one, {}) for one in complete_sheet(capture, sheet).channel]
    return {one.sheet.role: one.reading for one in results if one.reading and one.reading.switching}


def _channel_result(capture: Capture, sheet: ChannelSheet, patterns: dict[str, Reading]) -> ChannelResult:
    channel = capture.channel(sheet.column)
    if sheet.factor != 1.0:
        # A probe factor scales what the recorder wrote, its offset included.
        from dataclasses import replace

        channel = replace(channel, scale=channel.scale * sheet.factor, offset=channel.offset * sheet.factor)
    reader = READERS.get(sheet.sensor or "hall") if sheet.role in ROTATING else None
    if reader is None:
        return ChannelResult(sheet, channel.unit, state_levels(channel))
    pattern = patterns.get(sheet.role)
    if pattern is not None and sheet.wheel is None and pattern.wheel is not None:
        sheet = sheet.model_copy(update={"wheel": str(pattern.wheel)})
    reading = reader(capture, channel, sheet)
    comparison = compare(reading, pattern) if pattern is not None and reading.switching else None
    return ChannelResult(sheet, channel.unit, reading.levels, reading, comparison)
