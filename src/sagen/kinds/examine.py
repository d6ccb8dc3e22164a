"""The whole reading of a capture: every channel by its kind, then every rule."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cache, cached_property

import numpy as np

from sagen.kinds.kind import KINDS, kind_of
from sagen.kinds.seen import as_seen
from sagen.model.capture import Capture
from sagen.model.finding import Cadence, Finding
from sagen.model.finding_words import probe_note, rest_note, tap_notes
from sagen.model.language import lowered, tr
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.model.vocabulary import ABOUT_CAPTURE, ROTATING_ROLES, Capability, FindingKind, Role, SensorKind, State
from sagen.model.words import FINDING_TITLES
from sagen.signal import rules_cam, rules_capture, rules_line, rules_wheel
from sagen.signal.cadence import cadence
from sagen.signal.cam import CamTrack, track
from sagen.signal.cam_difference import CamDifference, Measured, cam_difference, turns_alike
from sagen.signal.catalogue import usual_name
from sagen.signal.compare import Comparison, compare, rise_us
from sagen.signal.context import Context
from sagen.signal.interruptions import ends_early
from sagen.signal.levels import Levels, state_levels
from sagen.signal.limits import limits
from sagen.signal.matching import UNFIT, fit_of, twins
from sagen.signal.pairs import pairs_of
from sagen.signal.peak_pairs import in_time_order
from sagen.signal.probe_factors import apply_probe_factors
from sagen.signal.rails import RAIL_RULES, Rail, off_at_first, rail_levels, read_rail
from sagen.signal.reading import ChannelReading, RotatingReading, StrikeReading
from sagen.signal.repeats import equal_gaps, own_pattern
from sagen.signal.rule import Rule, in_order
from sagen.signal.strikes import find_strikes
from sagen.signal.tapped import Tapped

Pair = tuple[Capture, Sheet]
_LIMIT, _LIMIT_GAP = limits("swapped"), limits("extra_gap")


@cache
def all_rules() -> tuple[Rule, ...]:
    """Every rule, those of the kinds among them, in the order that their declarations ask for."""
    own = [rule for kind in KINDS.values() for rule in kind.rules]
    return in_order([*rules_capture.RULES, *rules_line.RULES, *own, *rules_wheel.RULES, *rules_cam.RULES])


@dataclass(frozen=True)
class ChannelResult:
    """One channel's part of an examination; `reading` is None for what does not rotate."""

    sheet: ChannelSheet
    unit: str
    levels: Levels
    reading: RotatingReading | None = None
    strikes: StrikeReading | None = None
    rail: Rail | None = None
    comparison: Comparison | None = None

    def as_row(self) -> dict:
        """The channel as the command line prints it."""
        reading = self.reading
        wheel = reading.wheel if reading else None
        return {
            "column": self.sheet.column,
            "role": str(self.sheet.role),
            "low": round(self.levels.low, 4),
            "high": round(self.levels.high, 4),
            "unit": self.unit,
            "speed_rpm": reading.speed_range() if reading else None,
            "wheel": {"slots": wheel.slots, "missing": wheel.missing} if wheel else None,
            **({"probe": reading.probe.kind} if reading and reading.probe else {}),
            **({"rise_s": reading.rise_s} if reading and reading.rise_s is not None else {}),
        }


@dataclass(frozen=True)
class Examination:
    """A capture as read. `capture` and `sheet` are in true units: what is drawn and printed is drawn of them."""

    capture: Capture
    sheet: Sheet
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]
    cams: dict[str, CamTrack] = field(default_factory=dict)
    cadence: Cadence | None = None  #: how the starter turns the engine, where it was cranking
    tapped: Tapped | None = None  #: how knock sensors answered taps; None where there are none
    pattern_tapped: Tapped | None = None  #: the known-good capture's likewise
    #: how fit the known-good capture is: "same state", "other rpm", or "unfit: " and why; "" where there is none
    fit: str = ""
    good: Examination | None = None  #: the known-good capture as it was read by itself
    remarks: tuple[str, ...] = ()  #: what was noticed while it was read, beside what the file's reader noted

    @property
    def compared_with(self) -> str:
        """The name of the known-good capture; "" where there is none."""
        return self.good.capture.name if self.good is not None else ""

    @property
    def notes(self) -> tuple[str, ...]:
        probes = (
            probe_note(channel.sheet.column, channel.reading.probe)
            for channel in self.channels
            if channel.reading and channel.reading.probe
        )
        lost = {finding.channel for finding in self.findings if finding.kind == FindingKind.DROPOUT}
        ended = (
            rest_note(channel.sheet.column, float(channel.reading.teeth.times[-1]))
            for channel in self.channels
            if channel.reading and channel.sheet.column not in lost and ends_early(channel.reading)
        )
        begun = (
            tr(
                "On {column} the feed comes {off:.2f} s after the record began: what lies before was recorded with "
                "the key off",
                column=channel.sheet.column,
                off=off,
            )
            for channel in self.channels
            if channel.rail is not None
            and channel.sheet.role == Role.SUPPLY
            and (off := off_at_first(channel.rail)) > 0
        )
        patterns = (
            told
            for channel in self.channels
            if channel.reading is not None and (told := _pattern_note(channel.reading))
        )
        told = (
            *self.capture.said,
            *self.remarks,
            *begun,
            *patterns,
            *probes,
            *ended,
            *(tap_notes(self.tapped, self.findings) if self.tapped else ()),
        )
        return tuple(dict.fromkeys(told))  # a capture of the log was noted on when it came in, and is again

    @property
    def compared(self) -> tuple[str, ...]:
        """Each channel against the known-good capture, in words."""
        return tuple(channel.comparison.text for channel in self.channels if channel.comparison)

    def _compared_row(self, channel: ChannelResult) -> dict:
        """The comparison of one channel, where there is a known-good capture."""
        if not self.fit or channel.reading is None:
            return {}
        own = channel.comparison.as_row() if channel.comparison is not None else {}
        return {"comparison": {"with": self.compared_with, "fit": self.fit, **own}}

    def as_row(self) -> dict:
        row = {
            "capture": self.capture.name,
            "channels": [{**channel.as_row(), **self._compared_row(channel)} for channel in self.channels],
            "findings": [finding.as_row() for finding in self.findings],
        }
        if self.tapped is not None:
            row["strikes"] = self.tapped.strikes.rows()
            row["pairs"] = [item.as_row() for item in pairs_of(self.tapped.strikes)]
        return row


def _pattern_note(reading: RotatingReading) -> str:
    """What a wheel that nobody stated may be, where its pattern repeats without being one that everybody knows."""
    wheel = equal_gaps(reading)
    if wheel is not None:
        return tr(
            "{column} shows gaps alike that come in every turn, as a {wheel} wheel has them: no wheel was "
            "stated, and none of them is taken for a lost tooth. State the wheel",
            column=reading.column,
            wheel=usual_name(wheel),
        )
    count = own_pattern(reading)
    if count is not None:
        return tr(
            "{column} shows uneven spaces that come again after {count} teeth: that is this wheel's own pattern. "
            "State the wheel, or lay a known-good capture under it, to have each tooth judged",
            column=reading.column,
            count=count,
        )
    return ""


class Stopped(Exception):
    """The user stopped the work."""


def examine(
    capture: Capture,
    sheet: Sheet | None = None,
    *,
    reference: Pair | Examination | None = None,
    progress: Callable[[float], bool] | None = None,
) -> Examination:
    """Read a capture down to the tooth and say what it shows.

    Parameters
    ----------
    capture : Capture
    sheet : Sheet or None
        without one, the first channel is taken for a crank sensor's signal
    reference : (Capture, Sheet), Examination or None
        a known-good capture of the same circuit, or what it was examined to
    progress : callable
        told the share done, 0 to 1; answers False to stop

    Raises
    ------
    SheetError
        when the sheet names a channel that the capture does not have.
    Stopped
        when `progress` says so.
    """
    capture, sheet = apply_probe_factors(in_time_order(capture, sheet), sheet)
    tell = progress or (lambda share: True)
    own = examine(*reference) if isinstance(reference, tuple) else reference
    good = _good_one(own) if own is not None else None
    joined = capture.joined()
    found, fit = _read_beside(joined, sheet, good, lambda share: tell(0.9 * share))
    sheet, results, readings, notes = found.sheet, found.results, found.readings, list(found.notes)
    cams = _cams(readings)
    context = Context(
        sheet.conditions.state, readings, sheet.engine.cylinders, sheet.engine.sprocket, cams=cams,
        tapped=_tapped(capture, sheet, results),
        rails=frozenset(result.sheet.role for result in results if result.rail is not None),
    )  # fmt: skip
    if fit.startswith(UNFIT):
        notes.append(
            tr(
                "The known-good capture {name} was not compared: {unfit}",
                name=good.capture.name,
                unfit=fit.removeprefix(UNFIT),
            )
        )
    elif good is not None:
        matched, told = twins(readings, good.switching, cams, good.cams)
        notes += told
        context.twins, context.like_speed = matched, fit != "other rpm"
        context.pattern_cams = {
            name: good.cams[twin.column] for name, twin in matched.items() if twin.column in good.cams
        }
        context.cam_differences = _cam_differences(readings, cams, matched, good)
        context.rises = _rises(joined, readings, matched, good)
        context.pattern_tapped = _tapped(good.whole, good.sheet, good.results)
    for this_result in results:
        if this_result.rail is not None:
            context.found += RAIL_RULES[this_result.sheet.role](this_result.rail, context)
    for reading in (*readings, *(result.strikes for result in results if result.strikes)):
        for rule in all_rules():
            context.found += rule(reading, context)
    results = [_compared(result, context) for result in results]
    if not tell(1.0):
        raise Stopped
    findings = sorted(context.found, key=lambda item: -item.severity)
    cranks = (
        this_reading for this_reading in readings if this_reading.sheet.role == Role.CRANK and this_reading.switching
    )
    cranking = context.state == State.CRANKING
    heard = next((told for crank in cranks if (told := cadence(crank))), None) if cranking else None
    notes += _in_both(findings, readings, good) if good is not None else ()
    return Examination(
        capture, sheet, tuple(results), tuple(findings), cams, heard, context.tapped, context.pattern_tapped,
        fit, own, tuple(notes),
    )  # fmt: skip


def _read_channels(
    capture: Capture, sheet: Sheet, patterns: tuple[RotatingReading, ...], tell: Callable[[float], bool]
) -> list[ChannelResult]:
    results: list[ChannelResult] = []
    for index, item in enumerate(sheet.channel):
        if not tell(index / len(sheet.channel)):
            raise Stopped
        results.append(_channel_result(capture, item, patterns))
    return results


def _swapped(capture: Capture, sheet: Sheet, results: list[ChannelResult]) -> tuple[Sheet, str] | None:
    """The sheet with the crank and another channel the other way round, and what to say of it, where the crank's wheel is
    plainly on the other's lead; None where they lie as stated.

    Parameters
    ----------
    sheet : Sheet
        as it was stated, before kinds of sensor were seen
    """
    cranks = [result for result in results if result.sheet.role == Role.CRANK and result.reading]
    if len(cranks) != 1 or len(sheet.channel) < 2:
        return None
    (crank,) = cranks
    wanted, teeth = crank.sheet.declared_wheel, crank.reading.teeth
    silent = not crank.reading.switching
    as_stated = wanted is not None and teeth.wheel == wanted and teeth.alike >= _LIMIT.as_stated
    if not silent and (wanted is None or (as_stated and len(teeth.anchors) >= _LIMIT.fewest_gaps)):
        return None
    for other in results:
        if other is crank or other.sheet.role == Role.KNOCK:
            continue
        if not silent:
            # As many teeth as a crank's wheel has leave no doubt which is which.
            few = other.reading is None or not other.reading.switching
            if few or len(other.reading.edges) < _LIMIT.times_as_many * max(len(crank.reading.edges), 1):
                continue
        names = {crank.sheet.column: other.sheet.column, other.sheet.column: crank.sheet.column}
        rows = tuple(
            item.model_copy(update={"column": names[item.column]}) if item.column in names else item
            for item in sheet.channel
        )
        turned = sheet.model_copy(update={"channel": rows})
        seen, _ = as_seen(capture, turned)
        found = _channel_result(capture, next(row for row in seen.channel if row.role == Role.CRANK), ()).reading
        if found is None or not found.switching or found.teeth.alike < _LIMIT.as_stated:
            continue
        gaps = found.wheel is not None and found.wheel.missing and len(found.teeth.anchors) >= _LIMIT.fewest_gaps
        if found.wheel != wanted if wanted is not None else not gaps:
            continue
        named = usual_name(found.wheel) + (tr(" wheel that is stated for the crank") if wanted else tr(" wheel"))
        return turned, (
            tr(
                "{column} and {column_2} are the other way round: the {named} passes on {column_2}. Read so; the "
                "sheet or the leads are swapped",
                column=crank.sheet.column,
                column_2=other.sheet.column,
                named=named,
            )
        )
    return None


def _tapped(capture: Capture, sheet: Sheet, results: list[ChannelResult]) -> Tapped | None:
    """The strikes in all knock channels together; None where there are none such."""
    rows = tuple(result.sheet for result in results if result.strikes is not None)
    if not rows:
        return None
    strikes = find_strikes([capture.channel(row.column) for row in rows], capture.sfreq)
    return Tapped(strikes, sheet, rows)


def _cams(readings: tuple[RotatingReading, ...]) -> dict[str, CamTrack]:
    """Every cam channel placed on the crank, where there is a crank to place it on."""
    crank = next(
        (reading for reading in readings if reading.sheet.role == Role.CRANK and reading.wheel and reading.switching),
        None,
    )
    tracks = (
        {reading.column: track(reading, crank) for reading in readings if reading.sheet.role == Role.CAM}
        if crank
        else {}
    )
    return {name: this_track for name, this_track in tracks.items() if this_track is not None}


@dataclass(frozen=True)
class _Read:
    """A capture's channels as they were read, under the sheet that they show."""

    capture: Capture
    sheet: Sheet
    results: list[ChannelResult]
    notes: tuple[str, ...]
    whole: Capture | None = None  #: with its holes, of a known-good one
    faults: tuple[Finding, ...] = ()  #: what it shows wrong, where it was judged

    @property
    def readings(self) -> tuple[RotatingReading, ...]:
        return tuple(result.reading for result in self.results if result.reading)

    @property
    def switching(self) -> tuple[RotatingReading, ...]:
        return tuple(reading for reading in self.readings if reading.switching)

    def own_faults(self, readings: tuple[RotatingReading, ...]) -> list[str]:
        """What it shows wrong, in words, but for teeth that are not seen here either: those the wheel may lack by design."""
        lost = {
            number
            for reading in readings
            for number, share in reading.teeth.lost.items()
            if share > _LIMIT_GAP.share_of_turns
        }
        return [
            lowered(FINDING_TITLES[item.kind]) for item in self.faults
            if not (item.kind == FindingKind.EXTRA_GAP and item.fields.get("tooth") in lost)
        ]  # fmt: skip

    @cached_property
    def cams(self) -> dict[str, CamTrack]:
        return _cams(self.readings)


def _read_in(
    capture: Capture, stated: Sheet, patterns: tuple[RotatingReading, ...], tell: Callable[[float], bool]
) -> _Read:
    """Read every channel, as the kind that it shows and under the role that it has."""
    sheet, notes = as_seen(capture, stated)
    results = _read_channels(capture, sheet, patterns, tell)
    swapped = _swapped(capture, stated, results)
    if swapped is not None:
        sheet, note = swapped
        sheet, notes = as_seen(capture, sheet)
        notes = (note, *notes)
        results = _read_channels(capture, sheet, patterns, tell)
    return _Read(capture, sheet, results, notes)


def _read_beside(
    capture: Capture, stated: Sheet, good: _Read | None, tell: Callable[[float], bool]
) -> tuple[_Read, str]:
    """Read every channel, with the wheels of a known-good capture where none is stated, and how fit that one is; "" where there
    is none. What is unfit lends no wheel."""
    patterns = good.switching if good is not None else ()
    found = _read_in(capture, stated, patterns, tell)
    if good is None:
        return found, ""
    faults = good.own_faults(found.readings)
    fit = fit_of(capture, found.sheet, found.readings, good.capture, good.sheet, good.readings, faults)
    return (_read_in(capture, stated, (), tell) if patterns and fit.startswith(UNFIT) else found), fit


def _good_one(done: Examination) -> _Read:
    """A known-good capture, with what it shows wrong itself."""
    grave = [
        item for item in done.findings
        if item.kind not in ABOUT_CAPTURE and item.kind not in (FindingKind.WEAK_STRIKE, FindingKind.RING_MISMATCH, FindingKind.LOADED_DOWN)
    ]  # fmt: skip
    return _Read(done.capture.joined(), done.sheet, list(done.channels), (), done.capture, tuple(grave))


def _in_both(findings: list[Finding], readings: tuple[RotatingReading, ...], good: _Read) -> tuple[str, ...]:
    """What is wrong here and in the known-good capture alike."""
    here = {(item.kind, item.fields.get("tooth")) for item in findings}
    told = [item for item in good.faults if (item.kind, item.fields.get("tooth")) in here]
    # A tooth that is lost in both is no finding here: the wheel may be so.
    if not good.own_faults(readings):
        told += [item for item in good.faults if item.kind == FindingKind.EXTRA_GAP and item not in told]
    return tuple(
        tr(
            "{channel}: the known-good capture {name} shows the same ({kind})",
            channel=item.channel,
            name=good.capture.name,
            kind=lowered(FINDING_TITLES[item.kind]),
        )
        for item in told
    )


def _cam_differences(
    readings: tuple[RotatingReading, ...], cams: dict[str, CamTrack], matched: dict[str, RotatingReading], good: _Read
) -> dict[str, CamDifference]:
    crank = next((item for item in readings if item.sheet.role == Role.CRANK and item.wheel is not None), None)
    turns = turns_alike(crank.wheel) if crank is not None else (0.0, 360.0)
    found = {}
    for column, here in cams.items():
        twin = matched.get(column)
        there = good.cams.get(twin.column) if twin is not None else None
        difference = cam_difference(here, there, turns) if there is not None else None
        if difference is not None:
            found[column] = difference
    return found


def _rises(
    capture: Capture, readings: tuple[RotatingReading, ...], matched: dict[str, RotatingReading], good: _Read
) -> dict[str, Measured]:
    """How long switching lines take to rise, here and in the known-good capture."""
    found = {}
    for reading in readings:
        twin = matched.get(reading.column)
        if twin is None or not (reading.both_ends and twin.both_ends and reading.switching and twin.switching):
            continue
        here = rise_us(capture.channel(reading.column), reading, capture.sfreq)
        there = rise_us(good.capture.channel(twin.column), twin, good.capture.sfreq)
        if here is not None and there is not None:
            found[reading.column] = Measured(there[0], here[0], float(np.hypot(here[1], there[1])))
    return found


def _channel_result(capture: Capture, sheet: ChannelSheet, patterns: tuple[RotatingReading, ...]) -> ChannelResult:
    channel = capture.channel(sheet.column)
    if sheet.role in RAIL_RULES:
        rail = read_rail(channel, sheet, capture.sfreq)
        return ChannelResult(sheet, channel.unit, rail_levels(rail), rail=rail)
    kind = _kind_of_channel(sheet)
    if kind is None:
        return ChannelResult(sheet, channel.unit, state_levels(channel))
    if kind.has(Capability.TURNS) and sheet.wheel is None and sheet.role != Role.CAM:
        pattern = next(
            (this_pattern for this_pattern in patterns if this_pattern.sheet.role == sheet.role and this_pattern.wheel),
            None,
        )
        if pattern is not None:
            sheet = sheet.model_copy(update={"wheel": str(pattern.wheel)})
    reading: ChannelReading = kind.read(capture, channel, sheet)
    if isinstance(reading, RotatingReading):
        return ChannelResult(sheet, channel.unit, reading.levels, reading)
    return ChannelResult(sheet, channel.unit, reading.levels, strikes=reading)


def _kind_of_channel(sheet: ChannelSheet):
    """The kind by which a channel is read; None where it is only measured."""
    if sheet.role in ROTATING_ROLES:
        kind = kind_of(sheet.sensor or SensorKind.HALL)
        return kind if kind.has(Capability.TURNS) else None
    if sheet.role == Role.KNOCK:
        kind = kind_of(sheet.sensor or SensorKind.PIEZO)
        return None if kind.has(Capability.TURNS) else kind
    return None


def _compared(result: ChannelResult, context: Context) -> ChannelResult:
    reading = result.reading
    pattern = context.pattern(reading) if reading is not None and reading.switching else None
    if pattern is None:
        return result
    found = compare(reading, pattern, context.cam_differences.get(reading.column))
    if found is not None and reading.column in context.rises:
        found = replace(found, rise_us=context.rises[reading.column])
    return replace(result, comparison=found)
