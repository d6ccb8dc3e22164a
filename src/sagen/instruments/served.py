"""The stand-ins on the wire: a simulated machine behind a recorder and a meter that speak SCPI on 127.0.0.1.

They speak what the shipped profiles say, and misbehave on request, so that everything that can go wrong on a bench can be
tried without one: late, garbled, cut off in the middle of a block, wrong length, silent, another identity, gaps.
"""

from __future__ import annotations

import itertools
import socketserver
import threading
import time
from abc import ABC, abstractmethod
from dataclasses import dataclass, field

import numpy as np

from sagen.instruments.profile import Profile, shipped_profile
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.machine.simulated import SimulatedMachine
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import METER_STATES, OHM_POINTS, RECORDED_STATES, Point, State
from sagen.signal.trigger import Trigger, TriggerKind

#: how a stand-in may misbehave
MISBEHAVIOURS = ("late", "garbled", "cut", "wrong_length", "silent", "identity", "gaps", "vanish")
SILENT_AFTER = 40  #: answers of a stand-in that falls silent
PIECE_S = 2.0  #: s of the machine that are simulated at once
COUNTS = 30_000  #: of an int16, for the largest value of a channel
MOST_BEHIND_S = 4.0  #: what a slow reader may be behind before samples are lost


@dataclass
class Bench:
    """One machine, its state, and what the recorder has given of it."""

    machine: SimulatedMachine
    rate: float = 40_000.0
    state: State = State.CRANKING
    point: Point = Point.SIGNAL
    misbehave: frozenset[str] = frozenset()
    fast: bool = False  #: gives blocks as fast as they are asked, not as time passes
    lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self):
        self.rng = np.random.default_rng(11)
        self.names, self.scales = (), ()
        self.begin()

    def begin(self) -> None:
        """A recording begins: nothing given yet."""
        self.started, self.given, self.made = time.monotonic(), 0, 0
        self.waiting: list[np.ndarray] = []
        if not self.names:
            self._more()

    def _more(self) -> None:
        """Some more seconds of the machine, as counts."""
        machine = self.machine.copy()
        machine.rng = np.random.default_rng([5, self.made])
        capture, _ = record(machine, self.state, seconds=PIECE_S, sfreq=self.rate, cylinders=machine.cylinders)
        volts = np.stack([channel.values() for channel in capture.channels])
        if not self.names:
            self.names = tuple(channel.column for channel in capture.channels)
            self.scales = tuple(max(float(np.abs(row).max()) * 1.3, 1.0) / COUNTS for row in volts)
        volts = volts[:, whole_turns(volts[0], self.rate)]
        counts = np.clip(np.round(volts / np.array(self.scales)[:, None]), -32_768, 32_767).astype("<i2")
        self.waiting.append(counts)
        self.made += counts.shape[1]

    def set_range(self, at: int, volts: float) -> None:
        """The largest value of a channel from now on; what goes beyond stands at the end of the range."""
        scales = list(self.scales)
        scales[at] = volts / COUNTS
        self.scales = tuple(scales)
        self.begin()

    @property
    def due(self) -> int:
        """Samples that the clock asks for by now."""
        return int((time.monotonic() - self.started) * self.rate)

    def position(self) -> int:
        """Which sample the next block begins with; what nobody fetched in time is gone."""
        if not self.fast and self.due - self.given > MOST_BEHIND_S * self.rate:
            self.drop(int(self.due - self.given - self.rate))
        return self.given

    def next_block(self, most: int = 1 << 15) -> np.ndarray:
        """The counts that have come since the last block, shape (channels, n)."""
        count = most if self.fast else int(min(max(self.due - self.given, 0), most))
        while self.made - self.given < count:
            self._more()
        return self._take(count)

    def _take(self, count: int) -> np.ndarray:
        rows, left = [], count
        while left:
            piece = self.waiting[0]
            rows.append(piece[:, :left])
            if piece.shape[1] > left:
                self.waiting[0] = piece[:, left:]
            else:
                self.waiting.pop(0)
            left -= rows[-1].shape[1]
        self.given += count
        return np.concatenate(rows, axis=1) if rows else np.empty((len(self.names), 0), "<i2")

    def drop(self, count: int) -> None:
        """Samples that nobody fetched in time are gone."""
        while self.made - self.given < count:
            self._more()
        self._take(count)


def whole_turns(row: np.ndarray, rate: float) -> slice:
    """The part of a piece from its first reference gap to its last, so that pieces laid end to end go on as one shaft; all
    of it where no pulse is seen."""
    low, high = np.percentile(row, [1, 99])
    falls = np.array(Trigger(TriggerKind.FALL, 0.5 * (low + high), rate, 0.15 * (high - low)).feed(row))
    if len(falls) < 4:
        return slice(None)
    times = np.diff(falls) / np.median(np.diff(falls))
    after_gap = falls[1:][(times > 1.5) & (times < 4.5)]
    ends = after_gap if len(after_gap) > 1 else falls
    return slice(int(ends[0]), int(ends[-1]))


class _Server(socketserver.ThreadingTCPServer):
    allow_reuse_address, daemon_threads = True, True

    def __init__(self, port: int, handler, bench: Bench):
        self.bench = bench
        self.answers = itertools.count(1)
        super().__init__(("127.0.0.1", port), handler)

    @property
    def port(self) -> int:
        return self.server_address[1]

    def handle_error(self, request, client_address) -> None:
        """A client that goes away is no error of ours."""


class _Handler(socketserver.StreamRequestHandler, ABC):
    profile: Profile

    def handle(self) -> None:
        for raw in self.rfile:
            if len(raw) > 4096:
                return
            line = raw.decode("ascii", "replace").strip()
            answer = self.answer(line)
            if answer is not None and not self._send(answer):
                return

    @abstractmethod
    def answer(self, line: str) -> bytes | None:
        """What is sent back to a line; None for nothing."""

    def _send(self, answer: bytes) -> bool:
        """Send an answer, as well behaved as the bench is; False where the line is closed after it."""
        bad, number = self.server.bench.misbehave, next(self.server.answers)
        turn = number % 9 == 0
        if "silent" in bad and number > SILENT_AFTER:
            return True
        if "late" in bad and turn:
            time.sleep(0.25)
        block = answer.startswith(b"#")
        if block and turn:
            if "garbled" in bad:
                answer = b"\x00?!" + answer[3:]
            elif "wrong_length" in bad:
                answer = b"#14" + answer[answer.index(b"#") + 2 :]
            elif "cut" in bad:
                self.wfile.write(answer[: len(answer) // 2])
                return False
            elif "vanish" in bad and number % 18 == 0:
                return False
        self.wfile.write(answer + b"\n")
        return True


class _Recorder(_Handler):
    profile = shipped_profile("stream")

    def answer(self, line: str) -> bytes | None:
        bench, ask, do = self.server.bench, self.profile.ask, self.profile.do
        with bench.lock:
            if line == "*IDN?":
                other = "identity" in bench.misbehave
                return b"OTHER,THING,0,1" if other else f"{self.profile.identity} 4,STAND-IN,1".encode()
            plain = {
                ask.channels: lambda: ",".join(bench.names),
                ask.rate: lambda: f"{bench.rate:g}",
                ask.position: lambda: f"{bench.position()}",
            }
            if line in plain:
                return plain[line]().encode()
            if line == ask.block:
                counts = bench.next_block()
                if "gaps" in bench.misbehave and next(self.server.answers) % 7 == 0:
                    bench.drop(500)
                return block_of(counts.T.tobytes())
            for name, form in (("scale", ask.scale), ("offset", ask.offset), ("unit", ask.unit)):
                for at, channel in enumerate(bench.names):
                    if line == form.format(channel=channel):
                        return {"scale": f"{bench.scales[at]:.9g}", "offset": "0", "unit": "V"}[name].encode()
            self._told(line, bench, do)
            return None

    def _told(self, line: str, bench: Bench, do) -> None:
        word, _, value = line.rpartition(" ")
        if line == do.start:
            bench.begin()
        elif do.rate.startswith(word) and word and value.replace(".", "").replace("e+", "").isdigit():
            rate = float(value)
            if 100 <= rate <= 2e6:
                bench.rate, bench.names = rate, ()
                bench.begin()
        elif (
            (parts := line.split(" ")) and len(parts) == 3 and do.range.startswith(parts[0]) and parts[1] in bench.names
        ):
            if value.replace(".", "").isdigit() and 0.05 <= float(value) <= 200:
                bench.set_range(bench.names.index(parts[1]), float(value))
        elif (
            do.state.startswith(word) and word and value in {str(recorded_state) for recorded_state in RECORDED_STATES}
        ):
            bench.state, bench.names = State(value), ()
            bench.begin()


class _Meter(_Handler):
    profile = shipped_profile("meter")

    def answer(self, line: str) -> bytes | None:
        bench, ask, do = self.server.bench, self.profile.ask, self.profile.do
        with bench.lock:
            if line == "*IDN?":
                return f"{self.profile.identity},STAND-IN,1".encode()
            if line in (ask.volts, ask.ohms):
                return self._reading(bench, ohms=line == ask.ohms)
            word, _, value = line.rpartition(" ")
            if do.point.startswith(word) and word and value in {str(point) for point in Point}:
                bench.point = Point(value)
            elif do.state.startswith(word) and word and value in {str(meter_state) for meter_state in METER_STATES}:
                bench.state = State(value)
            return None

    def _reading(self, bench: Bench, *, ohms: bool) -> bytes:
        if ohms != (bench.point in OHM_POINTS):
            return f"{self.profile.over_range:g}".encode()
        try:
            found = read(bench.machine, bench.point, bench.state)
        except SagenError:
            return f"{self.profile.over_range:g}".encode()
        if found.over_range:
            return f"{self.profile.over_range:g}".encode()
        spread = 1 + 2e-4 * bench.rng.normal()
        return f"{found.value * spread:.6g}".encode()


def block_of(data: bytes) -> bytes:
    """Data as a definite block (IEEE 488.2)."""
    length = str(len(data)).encode()
    return b"#" + str(len(length)).encode() + length + data


@dataclass
class StandInServers:
    """The servers of one machine; `close` ends them."""

    bench: Bench
    servers: list[_Server] = field(default_factory=list)

    def serve(self, kind: str, port: int = 0) -> int:
        """Serve a `recorder` or a `meter` on a port, 0 for any; answers the port. Raises SagenError where it is taken."""
        try:
            server = _Server(port, {"recorder": _Recorder, "meter": _Meter}[kind], self.bench)
        except OSError as error:
            raise SagenError(
                tr("port {port} of 127.0.0.1 cannot be used: {strerror}", port=port, strerror=error.strerror or error)
            ) from None
        threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
        self.servers.append(server)
        return server.port

    def close(self) -> None:
        for server in self.servers:
            server.shutdown()
            server.server_close()
        self.servers.clear()
