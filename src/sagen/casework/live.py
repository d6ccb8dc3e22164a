"""A live session: an instrument's stream kept, drawn, judged and hunted while it comes.

The verdict is the reader's own (`kinds.examine`) on the last seconds, so that it says what `sagen examine` says of the same
samples. Everything may be asked from any thread.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.casework.recording import Happened, Recording
from sagen.kinds import Examination, examine
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SagenError
from sagen.model.sheet import Sheet
from sagen.signal.live_buffer import RingPyramid
from sagen.signal.trigger import Trigger

WINDOW_S = 3.0  #: the last seconds that a verdict is of
MOST_WINDOW = 3_000_000  #: samples a channel


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
        parts = [f"{self.rpm:,.0f} rpm"] if self.rpm is not None else []
        parts += [f"{column} {low:.2f} to {high:.2f} V" for column, low, high in self.levels[:3]]
        parts += [f"{100 * self.duty:.0f} % low"] if self.duty is not None else []
        return "   ".join(parts)


def verdict_of(capture: Capture, sheet: Sheet | None, until_s: float) -> Verdict:
    """What a window shows: the whole-file reader on the same samples."""
    try:
        done = examine(capture, sheet)
    except SagenError as error:
        return Verdict(None, until_s, str(error))
    reading = next((one.reading for one in done.channels if one.reading is not None), None)
    speed = reading.speed_range() if reading is not None else None
    levels = tuple((one.sheet.column, one.levels.low, one.levels.high) for one in done.channels if one.unit == "V")
    duty = None
    if reading is not None and reading.both_ends and len(reading.teeth.times) > 8:
        share = reading.low_share()
        duty = float(np.nanmedian(share[np.isfinite(share)])) if np.isfinite(share).any() else None
    grave = [one for one in done.findings if one.severity >= 0.2]
    said = " ".join(one.text for one in grave[:2]) or "Nothing wrong is seen in the last seconds."
    lost = any(str(one.kind) in ("no_signal", "dropout", "supply_loss", "ground_lift") for one in done.findings)
    return Verdict(done, until_s, said, speed["median"] if speed else None, levels, duty, lost)


@dataclass
class Live:
    """One session: `start`, `stop`, and what may be asked meanwhile."""

    recorder: object
    name: str = "live"
    sheet: Sheet | None = None
    happened: list[Happened] = field(default_factory=list)
    marks: dict[str, list[float]] = field(default_factory=dict)
    told: Callable[[Happened], None] = lambda one: None
    keep: bool = True  #: everything is kept as it comes; else only the last minutes

    def __post_init__(self):
        self.sfreq = self.recorder.sfreq
        self.channels: tuple[Channel, ...] = tuple(self.recorder.channels())
        self.rings = tuple(RingPyramid(one.raw.dtype) for one in self.channels)
        self.trigger: Trigger | None = None
        self.trigger_channel = 0
        self.fired: list[int] = []
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self.recording: Recording | None = None
        self.problem = ""
        self._begun = time.monotonic()

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
        self.recording = Recording(self.name, self.recorder, self._tell, self.take, keep=self.keep)

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

    def mark(self, words: str) -> None:
        """Set a mark now: "moved plug", "loaded"."""
        with self._lock:
            self.marks.setdefault(words, []).append(self.seconds)

    def set_trigger(self, channel: int, trigger: Trigger | None) -> None:
        """Wait for something on a channel; None: run freely."""
        with self._lock:
            if trigger is not None:
                trigger._seen = self.samples
            self.trigger_channel, self.trigger, self.fired = channel, trigger, []

    def take(self, raw: np.ndarray) -> None:
        """A block, shape (channels, n), as it came."""
        with self._lock:
            for ring, row in zip(self.rings, raw, strict=True):
                ring.append(row)
            if self.trigger is not None:
                self.fired = [*self.fired, *self.trigger.feed(raw[self.trigger_channel])][-200:]

    def _tell(self, one: Happened) -> None:
        self.happened.append(one)
        self.told(one)

    def window(self, seconds: float = WINDOW_S) -> Capture:
        """The last seconds as a capture."""
        with self._lock:
            end = self.samples
            first = max(0, end - int(min(seconds * self.sfreq, MOST_WINDOW)))
            rows = [ring.raw(first, end) for ring in self.rings]
        channels = tuple(replace(one, raw=row) for one, row in zip(self.channels, rows, strict=True))
        return Capture(self.name, self.sfreq, channels)

    def view(self, channel: int, start: float, stop: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
        """What is drawn of a channel between two samples, in counts."""
        with self._lock:
            return self.rings[channel].view(start, stop, columns)

    def verdict(self) -> Verdict | None:
        """What the last seconds show; None before there is anything."""
        if self.samples < 64:
            return None
        return verdict_of(self.window(), self.sheet, self.seconds)

    def shown_from(self, span: float, pre: float = 0.3) -> tuple[float, float]:
        """The stretch (samples) that a picture of `span` seconds shows now: the latest, or around what fired last."""
        width = span * self.sfreq
        with self._lock:
            due = [one for one in self.fired if one + (1 - pre) * width <= self.samples]
            if self.trigger is not None and due:
                return due[-1] - pre * width, due[-1] + (1 - pre) * width
            return self.samples - width, float(self.samples)

    def capture(self) -> Capture:
        """Everything that was kept so far."""
        return self.recording.capture() if self.recording is not None and self.keep else self.window(60.0)
