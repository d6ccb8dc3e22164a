"""Captures laid over one another, and the two ends of a wire: commands."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from sagen.casework.captures import stored_pyramids
from sagen.casework.command import Command, go_on
from sagen.casework.examination import Pair
from sagen.casework.open_capture import OpenCapture, opened_capture
from sagen.casework.patterns import beyond_envelope, compared_words, known_good_ones
from sagen.kinds import Examination, build, examine
from sagen.machine.record import record as simulate
from sagen.model.capture import Capture
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, InspectionEntry, KeptReference
from sagen.model.vocabulary import Role, State
from sagen.model.words import EXPECTED, said_ohms
from sagen.reason.case import circuit_of_sheet
from sagen.reason.facts import knowledge
from sagen.signal.both_ends import BothEnds, Source, both_ends
from sagen.signal.matching import UNFIT
from sagen.signal.reading import RotatingReading

# both ends of the wire -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Laid:
    """A capture with another one laid under it, and what the comparison came to."""

    opened: OpenCapture
    said: tuple[str, ...]


@dataclass(frozen=True)
class LayUnder(Command):
    """Lay another capture under one of the trail: a known-good one, or an earlier one of the job. Nothing is written."""

    job: Job
    entry: Entry
    under: KeptReference

    @property
    def doing(self) -> str:
        return tr("Laying {name} under it", name=self.under.name)

    def perform(self, log, progress=go_on) -> Laid:
        record: CaptureEntry = self.entry.record
        among = known_good_ones(log, self.job, record.sheet)
        good = among.get(self.under.token) or (log.capture(self.under.token), self.under.sheet)
        done = examine(log.capture(record.token), record.sheet, reference=good, progress=progress)
        # What was found when it came in stays; what only this comparison shows is told beside it.
        known = {(item.kind, item.channel, item.fields.get("tooth")) for item in record.findings}
        more = tuple(item for item in done.findings if (item.kind, item.channel, item.fields.get("tooth")) not in known)
        done = replace(done, findings=(*record.findings, *more))
        others = [item for token, item in among.items() if token not in (self.under.token, record.token)]
        opened = opened_capture(self.job_id, self.entry, done, stored_pyramids(log, record.token, done.capture), others)
        unfit = (
            (
                tr(
                    "{name} is not fit to compare with: {unfit}.",
                    name=self.under.name,
                    unfit=done.fit.removeprefix(UNFIT),
                ),
            )
            if done.fit.startswith(UNFIT)
            else ()
        )
        beyond = [compared_words(item) for item in beyond_envelope(done, list(among.values()))]
        return Laid(opened, (*unfit, *(item.text for item in more), *done.compared, *beyond))


def _seen_beside(command: LayModelUnder | LayOtherBankUnder, log, good: Pair, progress) -> OpenCapture:
    """The capture of a command with another one under it that is only looked at: its findings stay as they were."""
    record: CaptureEntry = command.entry.record
    done = examine(log.capture(record.token), record.sheet, reference=good, progress=progress)
    done = replace(done, findings=record.findings)
    pyramids = stored_pyramids(log, record.token, done.capture)
    return opened_capture(command.job_id, command.entry, done, pyramids)


#: states in which the model can record what a sound circuit would show
MODELLED = (State.CRANKING, State.RUNNING, State.ROLLING)


def modelled_by(sheet: Sheet) -> str:
    """The column of the channel whose sound pattern the model knows: of a stated wheel, in a state that it can record; "" where
    there is none. A cam's windows are its maker's own."""
    if sheet.conditions.state not in MODELLED:
        return ""
    known = (
        item for item in sheet.channel if item.role in (Role.CRANK, Role.SPEED) and item.declared_wheel is not None
    )
    return next((item.column for item in known), "")


@dataclass(frozen=True)
class LayModelUnder(Command):
    """Lay what the model expects of a sound circuit under a capture of the trail. Nothing is written, and no finding follows: its
    levels are usual ones, not this machine's."""

    job: Job
    entry: Entry

    @property
    def doing(self) -> str:
        return tr("Recording what the model expects")

    def perform(self, log, progress=go_on) -> Laid:
        record: CaptureEntry = self.entry.record
        column = modelled_by(record.sheet)
        if not column:
            raise SagenError(tr("the model knows no sound pattern of this: state the wheel, and how the machine stood"))
        here = log.capture(record.token)
        own = [item for item in record.sheet.channel if item.column == column or item.role == Role.SUPPLY]
        good = simulate(
            build(circuit_of_sheet(record.sheet.model_copy(update={"channel": tuple(own)})), plain=True), record.sheet.conditions.state, seconds=MODEL_S, sfreq=min(here.sfreq, MODEL_HZ),
            cylinders=record.sheet.engine.cylinders or 4, name=EXPECTED,
        )  # fmt: skip
        said = tr("What the model expects of a sound one lies under it: its pattern counts, its levels are usual ones.")
        return Laid(_seen_beside(self, log, good, progress), (said,))


OTHER_BANK = tr("the other bank")


def banks_of(sheet: Sheet) -> dict[str, str]:
    """Columns of the two sensors of a role that stand in bank 1 and bank 2, each by the other's; {} where a sheet states none, or
    several of one bank."""
    of: dict[tuple[Role, int], list[str]] = {}
    for item in sheet.channel:
        if item.bank in (1, 2):
            of.setdefault((item.role, item.bank), []).append(item.column)
    return {
        columns[0]: of[role, 3 - bank][0]
        for (role, bank), columns in of.items()
        if len(columns) == len(of.get((role, 3 - bank), ())) == 1
    }


@dataclass(frozen=True)
class LayOtherBankUnder(Command):
    """Lay each bank's sensor of a capture under its twin of the other bank. Nothing is written, and no finding follows: how far
    banks stand apart is the engine's own."""

    job: Job
    entry: Entry

    @property
    def doing(self) -> str:
        return tr("Laying the other bank under it")

    def perform(self, log, progress=go_on) -> Laid:
        record: CaptureEntry = self.entry.record
        twins = banks_of(record.sheet)
        if not twins:
            raise SagenError(
                tr("of no role this capture has one sensor in bank 1 and one in bank 2: state their banks first")
            )
        here = log.capture(record.token)
        # Some turns later, or it would be the same samples twice.
        first = here.samples // 8
        channels = []
        for column in (channel.column for channel in here.channels):
            twin = here.channel(twins.get(column, column))
            channels.append(replace(twin, column=column, raw=twin.raw[first:]))
        told = {item.column: item for item in record.sheet.channel}
        rows = tuple(
            told[twins.get(item.column, item.column)].model_copy(update={"column": item.column, "bank": item.bank})
            for item in record.sheet.channel
        )
        good = (Capture(OTHER_BANK, here.sfreq, tuple(channels)), record.sheet.model_copy(update={"channel": rows}))
        opened = _seen_beside(self, log, good, progress)
        said = tr("The other bank lies under it; how far banks stand apart is the engine's own.")
        return Laid(opened, (said, *opened.examination.compared))


#: how much the model records, s, and at how many samples a second at most
MODEL_S, MODEL_HZ = 3.0, 50_000.0


@dataclass(frozen=True)
class EndsCompared:
    """Both ends of a wire compared, in words, and the answer to the check of that name."""

    ends: BothEnds
    said: tuple[str, ...]
    answer: InspectionEntry


@dataclass(frozen=True)
class CompareEnds(Command):
    """Compare a capture at the sensor with one at the module: two of the trail, or two channels of one."""

    job: Job
    sensor: Entry
    module: Entry
    pull_up_ohm: float | None = None  #: or the coil's load; None: as it usually is

    @property
    def doing(self) -> str:
        return tr("Comparing both ends")

    def perform(self, log, progress=go_on) -> EndsCompared:
        here, there = (self._read(log, item) for item in (self.sensor, self.module))
        pair = (here, here) if self.sensor.id == self.module.id else (here, there)
        first, second = self._channels(*pair)
        source = self._source(first[0])
        ends = both_ends(first[0], second[0], (first[1], second[1]), source)
        outcome = "" if ends.same else "differ"
        check = knowledge().check("both_ends_of_the_signal_wire")
        circuit = self.sensor.record.circuit
        return EndsCompared(ends, ends_words(ends), InspectionEntry(check.slug, outcome, circuit=circuit))

    def _read(self, log, entry: Entry) -> Examination:
        return examine(log.capture(entry.record.token), entry.record.sheet)

    def _channels(self, here: Examination, there: Examination):
        mine = [
            (channel.reading, here.capture.channel(channel.sheet.column))
            for channel in here.channels
            if channel.reading
        ]
        theirs = [
            (channel.reading, there.capture.channel(channel.sheet.column))
            for channel in there.channels
            if channel.reading
        ]
        if here is there:
            if len(mine) < 2:
                raise SagenError(tr("one capture of both ends needs two channels of the same signal"))
            return mine[0], mine[1]
        if not mine or not theirs:
            raise SagenError(tr("both captures need a channel that reads a turning wheel"))
        return mine[0], theirs[0]

    def _source(self, reading: RotatingReading) -> Source | None:
        coil = reading.strength is not None
        if self.pull_up_ohm is not None:
            return Source(
                0.97 * self.pull_up_ohm, 1.03 * self.pull_up_ohm, None if coil else reading.sheet.pull_up, True
            )
        usual = knowledge().world["load_ohm" if coil else "pull_up_ohm"].at(np.array([0.1, 0.9]))
        return Source(float(usual[0]), float(usual[1]), None if coil else reading.sheet.pull_up)


def ends_words(ends: BothEnds) -> tuple[str, ...]:
    """What comparing both ends came to."""
    said = [
        tr("The same picture at both ends: the wire is sound as far as this tells.")
        if ends.same
        else tr("The two ends differ: the wire, or a contact of it.")
    ]
    said.append(
        tr(
            "The low level is {value:+.0f} mV at the module ({low:+.0f} to {high:+.0f}), the high level "
            "{value_2:+.0f} mV.",
            value=1e3 * ends.low_v.value,
            low=1e3 * ends.low_v.low,
            high=1e3 * ends.low_v.high,
            value_2=1e3 * ends.high_v.value,
        )
    )
    if ends.ohm is not None:
        stated = (
            "" if ends.source.stated else tr(" The module's own resistance was not stated: taken as it usually is.")
        )
        said.append(
            tr(
                "That is {value} in the wire ({low} to {high}).{stated}",
                value=said_ohms(max(ends.ohm.value, 0.0)),
                low=said_ohms(max(ends.ohm.low, 0.0)),
                high=said_ohms(max(ends.ohm.high, 0.0)),
                stated=stated,
            )
        )
    if ends.edges:
        said.append(tr("{missing} of {edges} edges do not reach the module.", missing=ends.missing, edges=ends.edges))
    if ends.tau_s is not None:
        said.append(
            tr(
                "Edges are slower at the module by a time constant of {value:.0f} µs ({low:.0f} to {high:.0f}).",
                value=1e6 * ends.tau_s.value,
                low=1e6 * ends.tau_s.low,
                high=1e6 * ends.tau_s.high,
            )
        )
    return tuple(said)
