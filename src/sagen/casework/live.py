"""A live session: an instrument's stream kept, drawn, judged and hunted while it comes.

The verdict is the reader's own (`kinds.examine`) on the last seconds, so that it says what `sagen examine` says of the same
samples. Everything may be asked from any thread.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from sagen.casework.events import OVERLAP_S, Event, Hunted, Hunter, told_of
from sagen.casework.examination import stated_sheet
from sagen.casework.recording import Happened, Recording
from sagen.kinds import Examination, examine
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry
from sagen.model.vocabulary import Role, State
from sagen.model.wheel import Wheel
from sagen.reason.several import circuits_of
from sagen.signal.live_buffer import RingPyramid
from sagen.signal.trigger import Trigger, TriggerKind, Watch

WINDOW_S = 3.0  #: the last seconds that a verdict is of
MOST_WINDOW = 1_000_000  #: samples a channel
SKIPPED_AT_ONCE = 1 << 18
PIECE_S = 4.0  #: of the event hunter, live
TEMPERATURE = re.compile(r"(-?\d{1,3}(?:[.,]\d)?) ?(?:°C|C|degC)")  #: a mark that tells a temperature
FALLEN = 0.6  #: share of a rail's usual volts below which it has fallen


@dataclass(frozen=True)
class Verdict:
    """What the last seconds show."""

    done: Examination | None
    until_s: float
    said: str
    rpm: float | None = None
    levels: tuple[tuple[str, float, float], ...] = ()  #: column, low, high
    duty: float | None = None
    lost: bool = False  #: the signal is gone, or a rail is down

    @property
    def line(self) -> str:
        """The live line of figures."""
        parts = [tr("{rpm:,.0f} rpm", rpm=self.rpm)] if self.rpm is not None else []
        parts += [
            tr("{column} {low:.2f} to {high:.2f} V", column=column, low=low, high=high)
            for column, low, high in self.levels[:2]
        ]
        parts += [tr("{duty:.0f} % low", duty=100 * self.duty)] if self.duty is not None else []
        return "   ".join(parts)


def verdict_of(capture: Capture, sheet: Sheet | None, until_s: float) -> Verdict:
    """What a window shows: the whole-file reader on the same samples."""
    try:
        done = examine(capture, sheet)
    except SagenError as error:
        return Verdict(None, until_s, str(error))
    reading = next((channel.reading for channel in done.channels if channel.reading is not None), None)
    speed = reading.speed_range() if reading is not None else None
    levels = tuple(
        (channel.sheet.column, channel.levels.low, channel.levels.high)
        for channel in done.channels
        if channel.unit == "V"
    )
    duty = None
    if reading is not None and reading.both_ends and len(reading.teeth.times) > 8:
        share = reading.low_share()
        duty = float(np.nanmedian(share[np.isfinite(share)])) if np.isfinite(share).any() else None
    grave = [finding for finding in done.findings if finding.severity >= 0.2]
    said = grave[0].text if grave else tr("Nothing wrong is seen in the last seconds.")
    said += tr(" And {grave} more.", grave=len(grave) - 1) if len(grave) > 1 else ""
    lost = any(str(finding.kind) in ("no_signal", "dropout", "supply_loss", "ground_lift") for finding in done.findings)
    return Verdict(done, until_s, said, speed["median"] if speed else None, levels, duty, lost)


def sheet_for(job: Job | None, columns: tuple[str, ...], state: str | None = None) -> Sheet | None:
    """The answers of the job's last capture of the same columns; else what its circuit states; None where neither says
    anything. `state`: how the machine stands now, where that is known."""
    if job is None:
        return None
    for entry in reversed(job.of(CaptureEntry)):
        if {item.column for item in entry.record.sheet.channel} <= set(columns):
            return _in_state(entry.record.sheet, state)
    spec = next(iter(circuits_of(job.records()).values()))
    empty = Capture("live", 1.0, tuple(Channel(column, np.empty(0, np.int16), "V") for column in columns))
    return _in_state(stated_sheet(empty, spec, job.cylinders), state)


def _in_state(sheet: Sheet, state: str | None) -> Sheet:
    if state is None:
        return sheet
    return sheet.model_copy(update={"conditions": sheet.conditions.model_copy(update={"state": State(state)})})


def with_role(sheet: Sheet | None, column: str, role: Role, stated: Sheet | None = None) -> Sheet:
    """A sheet in which a channel has a role. A circuit's own keeps what `stated` says of the sensor; raises SheetError where
    what is left describes no circuit."""
    data = sheet.model_dump(exclude_none=True) if sheet is not None else {"channel": []}
    rows = [datum for datum in data["channel"] if datum["column"] != column]
    known = next((item for item in (stated or sheet).channel if item.role == role), None) if (stated or sheet) else None
    row = known.model_dump(exclude_none=True) if known is not None else {}
    if role != Role.OTHER:
        rows.append(row | {"column": column, "role": str(role)})
    return Sheet.from_data(data | {"channel": rows}, where="live")


@dataclass
class Live:
    """One session: `start`, `stop`, and what may be asked meanwhile."""

    recorder: object
    name: str = "live"
    sheet: Sheet | None = None
    happened: list[Happened] = field(default_factory=list)
    marks: dict[str, list[float]] = field(default_factory=dict)
    told: Callable[[Happened], None] = lambda item: None
    keep: bool = True  #: everything is kept as it comes; else only the last minutes
    folder: Path | None = None  #: where it is kept on disk; None: in memory

    def __post_init__(self):
        self.sfreq = self.recorder.sfreq
        self.channels: tuple[Channel, ...] = tuple(self.recorder.channels())
        self.rings = tuple(RingPyramid(channel.raw.dtype) for channel in self.channels)
        self.trigger: Trigger | None = None
        self.trigger_channel = 0
        self.fired: list[int] = []
        self.times_fired = 0
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self.recording: Recording | None = None
        self.problem = ""
        self.heard: list[tuple[float, str, bool]] = []  #: when a signal or rail was lost (True) or came back
        self._watches: dict[int, tuple[str, Watch]] = {}
        self.hunter, self._hunted_until = Hunter(self.sheet), 0.0
        self._speeds: list[tuple[float, float]] = []
        self._temperatures: list[tuple[float, float]] = []
        self._wheels: dict[str, Wheel] = {}

    @property
    def samples(self) -> int:
        return self.rings[0].samples

    @property
    def seconds(self) -> float:
        return self.samples / self.sfreq

    @property
    def running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def start(self, seconds: float = np.inf) -> None:
        """Begin; blocks come in a thread of their own."""
        self.recording = Recording(self.name, self.recorder, self._tell, self.take, self.skip, self.keep, self.folder)

        def run() -> None:
            try:
                self.recording.run(seconds)
            except SagenError as error:
                self.problem = str(error)
                self._tell(Happened(self.seconds, "gone", str(error)))

        self._thread = threading.Thread(target=run, name="recorder", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """End the recording; what came is kept."""
        self.recorder.stop()
        if self._thread is not None:
            self._thread.join(3.0)

    def describe(self, sheet: Sheet) -> None:
        """What the channels are, from now on."""
        with self._lock:
            self.sheet, self.hunter.sheet, self._watches = sheet, sheet, {}

    def mark(self, words: str) -> None:
        """Set a mark now: "moved plug", "loaded"."""
        degrees = TEMPERATURE.fullmatch(words.strip())
        if degrees:
            self.warm(float(degrees[1].replace(",", ".")))
            return
        with self._lock:
            self.marks.setdefault(words, []).append(self.seconds)

    def warm(self, celsius: float) -> None:
        """A temperature now, degC: from the module, or spoken as a mark ("82 C")."""
        with self._lock:
            self._temperatures.append((self.seconds, celsius))

    def set_trigger(self, channel: int, trigger: Trigger | None) -> None:
        """Wait for something on a channel; None: run freely."""
        with self._lock:
            if trigger is not None:
                trigger._seen = self.samples
            self.trigger_channel, self.trigger, self.fired, self.times_fired = channel, trigger, [], 0

    def take(self, raw: np.ndarray) -> None:
        """A block, shape (channels, n), as it came."""
        with self._lock:
            for ring, row in zip(self.rings, raw, strict=True):
                ring.append(row)
            if self.trigger is not None:
                new = self.trigger.feed(raw[self.trigger_channel])
                self.times_fired += len(new)
                self.fired = [*self.fired, *new][-200:]

            for at, (name, watch) in self._watches.items():
                self.heard += [((watch.begun + when) / self.sfreq, name, lost) for when, lost in watch.feed(raw[at])]

    def skip(self, count: int) -> None:
        """So many samples were not recorded: nothing is watched or waited for in them."""
        with self._lock:
            for ring in self.rings:
                for first in range(0, count, SKIPPED_AT_ONCE):
                    ring.append(np.zeros(min(SKIPPED_AT_ONCE, count - first), ring.dtype))
            if self.trigger is not None:
                self.trigger.skip(count)
            for _, watch in self._watches.values():
                watch.skip(count)

    def listen(self, verdict: Verdict) -> None:
        """From a verdict on, say at once when what it saw is lost and when it is back; where it is known how it looks."""
        if self._watches or verdict.done is None:
            return
        watches = {}
        for this_channel in verdict.done.channels:
            at = next(k for k, other in enumerate(self.channels) if other.column == this_channel.sheet.column)
            channel, low, high = self.channels[at], this_channel.levels.low, this_channel.levels.high
            rail = this_channel.sheet.role == Role.SUPPLY
            if not rail and (this_channel.reading is None or len(this_channel.reading.teeth.times) < 8):
                continue
            middle = FALLEN * high if rail else 0.5 * (low + high)
            wide = 0.05 * abs(high) if rail else 0.15 * (high - low)
            level = (middle - channel.offset) / channel.scale
            watches[at] = (this_channel.sheet.column, Watch(level, self.sfreq, abs(wide / channel.scale), rail=rail))
        with self._lock:
            for _, watch in watches.values():
                watch.begun = self.samples
            self._watches = watches

    def _tell(self, happened: Happened) -> None:
        self.happened.append(happened)
        self.told(happened)

    def window(self, seconds: float = WINDOW_S) -> Capture:
        """The last seconds as a capture."""
        with self._lock:
            end = self.samples
            first = max(0, end - int(min(seconds * self.sfreq, MOST_WINDOW)))
            rows = [ring.taken(first, end) for ring in self.rings]
        return self._part(rows, first)

    def _part(self, rows: list[np.ndarray], first: int) -> Capture:
        """Rows of samples from sample `first` of the stream on, with the stretches of them in which nothing was recorded."""
        last = first + len(rows[0])
        holes = self.recording.holes if self.recording is not None else []
        inside = tuple(
            (max(start - first, 0), min(stop, last) - first) for start, stop in holes if start < last and stop > first
        )
        channels = tuple(replace(channel, raw=row) for channel, row in zip(self.channels, rows, strict=True))
        return Capture(self.name, self.sfreq, channels, holes=inside)

    def hunt(self) -> tuple[Event, ...]:
        """Look for events in what has come since the last time, once that is long enough; answers the new ones."""
        until = self.seconds
        if until - self._hunted_until < PIECE_S:
            return ()
        with self._lock:
            first = int(max(self._hunted_until * self.sfreq, self.rings[0].oldest))
            rows = [ring.taken(first, int(until * self.sfreq)) for ring in self.rings]
        part = self._part(rows, first)
        self._hunted_until = until - OVERLAP_S
        try:
            return self.hunter.take(part, first / self.sfreq, until - OVERLAP_S)
        except SagenError:
            return ()  # the verdict says what is wrong with these samples

    def hunted(self) -> Hunted:
        """The events so far, and what they go with."""
        grid = np.linspace(0, self.seconds, 400)
        found = {}
        for name, seen in (("rpm", self._speeds), ("temperature", self._temperatures)):
            if len(seen) > 3:
                times, values = np.array(seen).T
                found[name] = np.interp(grid, times, values)
        return told_of(tuple(self.hunter.found), self.seconds, found, self.marks)

    def wheel_of(self, column: str) -> Wheel | None:
        """The wheel that a channel reads: as stated, else as the last verdict found it; None where neither knows."""
        stated = self.sheet.of(column) if self.sheet is not None else None
        return (stated.declared_wheel if stated is not None else None) or self._wheels.get(column)

    def view(self, channel: int, start: float, stop: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
        """What is drawn of a channel between two samples, in counts."""
        with self._lock:
            return self.rings[channel].view(start, stop, columns)

    def highest(self, channel: int) -> float:
        """The highest that a channel was seen at in the last seconds, in its unit."""
        _, high = self.view(channel, max(0, self.samples - WINDOW_S * self.sfreq), max(self.samples, 1), 1)
        return float(high[0]) * self.channels[channel].scale + self.channels[channel].offset

    def verdict(self) -> Verdict | None:
        """What the last seconds show; None before there is anything."""
        if self.samples < 64:
            return None
        found = verdict_of(self.window(), self.sheet, self.seconds)
        if found.rpm is not None:
            self._speeds.append((found.until_s, found.rpm))
        if found.done is not None:
            self._wheels |= {
                result.sheet.column: result.reading.wheel
                for result in found.done.channels
                if result.reading is not None and result.reading.wheel is not None
            }
        return found

    def shown_from(self, span: float, pre: float = 0.3) -> tuple[float, float]:
        """The stretch (samples) that a picture of `span` seconds shows now: the latest, or around what fired last."""
        width = span * self.sfreq
        with self._lock:
            due = [at for at in self.fired if at + (1 - pre) * width <= self.samples]
            if self.trigger is not None and due:
                return due[-1] - pre * width, due[-1] + (1 - pre) * width
            return self.samples - width, float(self.samples)

    def capture(self) -> Capture:
        """Everything that was kept so far."""
        return self.recording.capture() if self.recording is not None and self.keep else self.window(60.0)


def live_trigger(live: Live, at: int, kind: TriggerKind, figure: float) -> Trigger:
    """A trigger on a channel of a session. A level is taken as it is; pulses are counted at half of what is seen.

    Raises
    ------
    SagenError
        for a speed on a channel whose wheel is neither stated nor found yet.
    """
    channel = live.channels[at]
    low, high = live.view(at, max(0, live.samples - 2 * live.sfreq), max(live.samples, 1), 1)
    middle, wide = float(low[0] + high[0]) / 2, float(high[0] - low[0])
    pulses_a_second = 0.0
    if kind in (TriggerKind.MISSING, TriggerKind.RPM):
        level, hysteresis = middle, 0.15 * wide
    else:
        level, hysteresis = (figure - channel.offset) / channel.scale, 0.02 * wide
    if kind == TriggerKind.RPM:
        wheel = live.wheel_of(channel.column)
        if wheel is None:
            raise SagenError(
                tr(
                    "What wheel {column} reads is not known yet: state it, and a speed can be waited for.",
                    column=channel.column,
                )
            )
        # Of the spaces between pulses the usual one counts: a pitch of the wheel, whatever its gaps.
        pulses_a_second = figure / 60.0 * wheel.slots
    return Trigger(kind, level, live.sfreq, max(hysteresis, 0.0), times=figure, pulses_a_second=pulses_a_second)
