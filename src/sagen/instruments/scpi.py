"""Recorders and meters that are asked in lines of text and answer in lines and IEEE 488.2 blocks, over PyVISA.

TCP sockets, serial lines and USB go through the same door (pyvisa-py). Whatever goes wrong on the wire is an
`InstrumentGone` or a `Garbled` with what and where; what had come until then is kept by whoever asked.
"""

from __future__ import annotations

import re
import select
import socket
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass

import numpy as np

from sagen.instruments.profile import Profile, profile_for
from sagen.instruments.protocols import Block, MeterValue
from sagen.model.capture import Channel
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import OHM_POINTS, Point, Quantity, State

#: loaded when it is first asked: its import takes longer than most of what is done without it
pyvisa = lazy("pyvisa")

MOST_BLOCK = 64 << 20  #: bytes of one block
MOST_LINE = 4096
SLOWEST = 20_000.0  #: bytes a second: a block that comes more slowly is given up
SMALL_PIECE = (
    64  #: bytes that are read at once from what is no socket, so that the time limit is looked at between them
)
CHUNK = 1 << 18  #: bytes read at once
#: a hole is at most so much longer than the time that passed, in all, and by a share
CLOCK_SLACK_S, SLACK = 1.0, 1.25
WRAPS = (16, 24, 31, 32, 48, 63)  #: bits of counters that wrap
PACE_S = 0.025  #: a stream that is caught up with is asked no more often: many small blocks cost more than few


class InstrumentGone(SagenError):
    """The instrument cannot be reached, or stopped answering."""


class GaveNothing(InstrumentGone):
    """It answers, and has no samples."""


class Garbled(SagenError):
    """The instrument answered what makes no sense."""


def resource_name(address: str) -> str:
    """The VISA resource of an address: `tcp://host:port`, `serial:///dev/ttyUSB0`, or a resource as it is.

    >>> resource_name("tcp://127.0.0.1:5025")
    'TCPIP::127.0.0.1::5025::SOCKET'

    Raises
    ------
    SagenError
        for what is neither.
    """
    if match := re.fullmatch(r"tcp://([A-Za-z0-9.\-]+|\[[0-9a-fA-F:]+\]):(\d{1,5})", address):
        if not 0 < int(match[2]) < 65536:
            raise SagenError(tr("{address}: there is no port {match}", address=address, match=match[2]))
        return f"TCPIP::{match[1].strip('[]')}::{match[2]}::SOCKET"
    if match := re.fullmatch(r"serial://(/dev/[A-Za-z0-9/._\-]+)", address):
        return f"ASRL{match[1]}::INSTR"
    if re.fullmatch(r"(TCPIP|USB|ASRL|GPIB)[A-Za-z0-9:.\-/_]*", address):
        return address
    raise SagenError(
        tr("'{address}' is no address: tcp://HOST:PORT, serial:///dev/NAME, or a VISA resource", address=address[:60])
    )


#: what a recorder says of itself, all together, s: one that drips each answer is no recorder
LONGEST_SET_UP_S = 5.0


class Link:
    """One open line to an instrument."""

    def __init__(self, address: str, timeout_s: float = 2.0):
        self.address, self.timeout_s = address, timeout_s
        self.until = np.inf  #: by when all answers must have ended, on the monotonic clock
        self._resource = None
        self.open()

    def open(self) -> None:
        """Open it, or open it anew; raises InstrumentGone."""
        self.close()
        name = resource_name(self.address)
        try:
            if match := re.fullmatch(r"TCPIP::(.+)::(\d+)::SOCKET", name):
                # A refused connection is told here; the library would tell it with the first question.
                socket.create_connection((match[1], int(match[2])), self.timeout_s).close()
            self._resource = _manager().open_resource(
                name, open_timeout=round(1000 * self.timeout_s), timeout=round(1000 * self.timeout_s)
            )
            self._resource.read_termination = self._resource.write_termination = "\n"
            self._resource.chunk_size = CHUNK
            with suppress(AttributeError, KeyError):
                # The backend takes 4 kB at a time from a socket; a stream of megabytes would cost half a core.
                _manager().visalib.sessions[self._resource.session].max_recv_size = CHUNK
        except Exception as error:  # pyvisa, its backend and the system each have their own
            self._resource = None
            raise InstrumentGone(
                tr("{address}: nothing answers there ({error})", address=self.address, error=_plain(error))
            ) from None

    def close(self) -> None:
        if self._resource is not None:
            with suppress(Exception):  # a line that is gone cannot be closed any better
                self._resource.close()
            self._resource = None

    def tell(self, line: str) -> None:
        """Send a line."""
        self._do(lambda: self._resource.write(line), line)

    def ask(self, line: str) -> str:
        """Send a line and read one back."""

        def both() -> bytes:
            self._resource.write(line)
            return self._read(until=b"\n")

        try:
            answer = self._do(both, line).decode("ascii").strip()
        except UnicodeDecodeError:
            answer = "\0"
        if not answer.isprintable():
            raise Garbled(tr("{address}: the answer to {line} is no line of text", address=self.address, line=line))
        return answer

    def ask_number(self, line: str) -> float:
        """Send a line and read a number back."""
        answer = self.ask(line)
        try:
            value = float(answer)
        except ValueError:
            value = np.nan
        if not np.isfinite(value):
            raise Garbled(
                tr(
                    "{address}: the answer to {line} is '{answer}', not a number",
                    address=self.address,
                    line=line,
                    answer=answer[:40],
                )
            )
        return value

    def ask_block(self, line: str) -> bytes:
        """Send a line and read a definite block back: # digits length bytes (IEEE 488.2-1992, 8.7.9, from memory)."""

        def both() -> bytes:
            self._resource.write(line)
            head = self._read(2)
            if head[:1] != b"#" or not head[1:2].isdigit() or head[1:2] == b"0":
                raise Garbled(
                    tr(
                        "{address}: the answer to {line} begins with {head}, not with a block",
                        address=self.address,
                        line=line,
                        head=repr(head),
                    )
                )
            length = self._read(int(head[1:2]))
            if not length.isdigit() or int(length) > MOST_BLOCK:
                raise Garbled(
                    tr(
                        "{address}: a block of {length} bytes makes no sense",
                        address=self.address,
                        length=repr(length[:12]),
                    )
                )
            data = self._read(int(length))
            if self._read(1) != b"\n":
                raise Garbled(
                    tr(
                        "{address}: a block of {length} bytes does not end where it says",
                        address=self.address,
                        length=int(length),
                    )
                )
            return data

        return self._do(both, line)

    def _read(self, count: int = 0, until: bytes = b"") -> bytes:
        """So many bytes, or all up to the end of a line, within one time limit for the whole answer: an instrument that drips
        or never ends its line holds nobody up, and fills no memory."""
        began, out = time.monotonic(), bytearray()
        while len(out) < count or (until and not out.endswith(until)):
            # A long block may take its time, but no byte may be later than the slowest line would bring it.
            deadline = min(began + self.timeout_s + len(out) / SLOWEST, self.until)
            if time.monotonic() > deadline:
                raise InstrumentGone(tr("{address}: the answer did not end in time", address=self.address))
            if until and len(out) > MOST_LINE:
                raise Garbled(
                    tr(
                        "{address}: a line that does not end within {most_line} bytes",
                        address=self.address,
                        most_line=MOST_LINE,
                    )
                )
            # Nor may nothing come for long: of a block whose end was lost no byte is left to come.
            out += self._some(1 if until else count - len(out), min(deadline, time.monotonic() + self.timeout_s))
        return bytes(out)

    def _some(self, most: int, deadline: float) -> bytes:
        """At least one byte, at most so many."""
        library = self._resource.visalib
        session = library.sessions.get(self._resource.session)
        waiting = getattr(session, "_pending_buffer", None)
        if isinstance(waiting, bytearray) and hasattr(session.interface, "recv"):
            # The library waits for all that is asked for however slowly it comes, and takes small pieces from a socket.
            if not waiting:
                ready, _, _ = select.select([session.interface], [], [], max(deadline - time.monotonic(), 0.0))
                came = session.interface.recv(CHUNK) if ready else None
                if came is None:
                    raise InstrumentGone(tr("{address}: it took too long", address=self.address))
                if not came:
                    raise InstrumentGone(tr("{address}: the connection is lost", address=self.address))
                waiting += came
            out = bytes(waiting[:most])
            del waiting[:most]
            return out
        # Samples hold every byte: with the line's end switched on the library would stop at each that looks like it.
        with self._resource.read_termination_context(""):
            return self._resource.read_bytes(min(most, SMALL_PIECE))

    def _do(self, action, line: str):
        if self._resource is None:
            raise InstrumentGone(tr("{address}: the line is closed", address=self.address))
        try:
            return action()
        except InstrumentGone as error:
            why = str(error).removeprefix(f"{self.address}: ")
            raise InstrumentGone(
                tr("{address}: no answer to {line} ({why})", address=self.address, line=line, why=why)
            ) from None
        except SagenError:
            raise
        except Exception as error:  # pyvisa, its backend and the system each have their own
            raise InstrumentGone(
                tr("{address}: no answer to {line} ({error})", address=self.address, line=line, error=_plain(error))
            ) from None


_MANAGER: list = []


def _manager():
    if not _MANAGER:
        _MANAGER.append(pyvisa.ResourceManager("@py"))
    return _MANAGER[0]


def _plain(error: Exception) -> str:
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    if "VI_ERROR_TMO" in text:
        return tr("it took too long")
    if "refused" in text.lower() or "VI_ERROR_RSRC_NFOUND" in text:
        return "refused"
    if "CONN_LOST" in text or "reset" in text.lower() or "pipe" in text.lower():
        return tr("the connection is lost")
    return text[:80]


def identify(link: Link) -> str:
    """What an instrument calls itself (IEEE 488.2, *IDN?)."""
    return link.ask("*IDN?")


@dataclass(frozen=True)
class Lost:
    """The recorder went away, or came back: since which sample, and how many were lost (None: not known yet)."""

    at: int
    missing: int | None
    said: str


@dataclass(frozen=True)
class Step:
    """What a block's place in the stream says: samples missing before it, and how many of its own were given before."""

    missing: int = 0
    repeated: int = 0
    said: str = ""


@dataclass
class SampleCount:
    """Where a stream stands: what its recorder counts, held against the clock.

    A recorder tells which sample its next block begins with. A place ahead of what came is a hole; but no hole is longer than
    the time that passed. A place behind it after an outage is a counter that began anew: then the clock says how much is
    missing. Otherwise the block was given before, or the counter wrapped at a power of two.
    """

    sfreq: float  #: Hz
    clock: Callable[[], float] = time.monotonic
    at: int = 0  #: samples of the stream so far, holes among them
    interrupted: bool = False  #: the line was lost since the last block
    _base: int = 0  #: what is added to the recorder's own count
    _since: float | None = None  #: s, when the last block came
    _beyond: float = 0.0  #: samples of holes that no time passed for

    def take(self, told: int | None, came: int) -> Step:
        """A block of `came` samples that begins with sample `told` by the recorder's count; None where it tells none."""
        now, was = self.clock(), self.interrupted
        first, passed = self._since is None, max(now - (self._since or now), 0.0)
        self._since, self.interrupted = now, False
        by_clock = max(round(passed * self.sfreq) - came, 0)
        if told is None:
            return self._of_clock(by_clock) if was else Step()
        if first:
            self._base = self.at - told
        ahead = told + self._base - self.at
        if ahead == 0:
            return Step()
        if ahead > 0:
            beyond = max(ahead - passed * self.sfreq * SLACK, 0.0)
            if self._beyond + beyond <= CLOCK_SLACK_S * self.sfreq:
                self._beyond += beyond
                return Step(ahead, 0, tr("{ahead} samples were not recorded", ahead=ahead))
            if was:
                return self._rebased(told, by_clock)
            self._base = self.at - told
            return Step(
                0,
                0,
                tr(
                    "its count jumped {ahead} samples ahead within {passed:.1f} s, which cannot be: it is not followed",
                    ahead=ahead,
                    passed=passed,
                ),
            )
        if was:
            return self._rebased(told, by_clock)
        turn = next((1 << bits for bits in WRAPS if -ahead > (1 << bits) // 2 and (ahead + (1 << bits)) == 0), 0)
        if turn:
            self._base += turn
            return Step()
        if -ahead <= came:
            return Step(0, -ahead, tr("{ahead} samples came twice and were left out", ahead=-ahead))
        self._base = self.at - told
        return Step(
            0, 0, tr("its count went back by {ahead} samples: whether any were lost there is not known", ahead=-ahead)
        )

    def _rebased(self, told: int, missing: int) -> Step:
        self._base = self.at + missing - told
        return self._of_clock(missing)

    @staticmethod
    def _of_clock(missing: int) -> Step:
        return Step(
            missing,
            0,
            tr("about {missing} samples were not recorded, by the clock: it began to count anew", missing=missing)
            if missing
            else "",
        )


class ScpiRecorder:
    """A recorder behind a profile. `blocks` streams until it is told to stop, and reconnects by itself."""

    def __init__(
        self,
        address: str,
        profile: Profile | None = None,
        rate: float | None = None,
        state: State | None = None,
        ranges: Mapping[str, float] | None = None,
    ):
        self.link = Link(address, profile.timeout_s if profile else 2.0)
        self.link.until = time.monotonic() + LONGEST_SET_UP_S
        self.profile = profile or profile_for(identify(self.link), ("stream", "single"))
        if profile is not None and profile.identity.lower() not in identify(self.link).lower():
            raise SagenError(
                tr(
                    "{address}: another instrument answers there than the profile '{name}' is for",
                    address=address,
                    name=profile.name,
                )
            )
        self.link.timeout_s = self.profile.timeout_s
        self._rate, self._state, self._ranges = rate, state, dict(ranges or {})
        self.sfreq, self._channels = 0.0, ()
        self._set_up()
        self.link.until = np.inf
        self.stopped = False

    def _set_up(self) -> None:
        ask, do, link = self.profile.ask, self.profile.do, self.link
        if do.state and self._state:
            link.tell(do.state.format(state=self._state))
        if do.rate and self._rate:
            link.tell(do.rate.format(rate=f"{self._rate:g}"))
        names = [word.strip() for word in link.ask(ask.channels).split(",") if word.strip()]
        if not 1 <= len(names) <= 16:
            raise Garbled(tr("{address}: it names {names} channels", address=link.address, names=len(names)))
        self.sfreq = link.ask_number(ask.rate)
        if not 0 < self.sfreq <= 1e9:
            raise Garbled(
                tr("{address}: a rate of {sfreq:g} Hz makes no sense", address=link.address, sfreq=self.sfreq)
            )
        for name, volts in self._ranges.items():
            # A range is set before a recording begins: counts of one record have one scale.
            if do.range and name in names and volts > 0:
                link.tell(do.range.format(channel=name, volts=f"{volts:g}"))
        dtype = np.int8 if self.profile.block.type == "int8" else np.int16
        self._channels = tuple(
            Channel(
                name[:60], np.empty(0, np.int16 if dtype == np.int16 else np.int8),
                link.ask(ask.unit.format(channel=name)) if ask.unit else "V",
                link.ask_number(ask.scale.format(channel=name)) if ask.scale else 1.0,
                link.ask_number(ask.offset.format(channel=name)) if ask.offset else 0.0,
            )
            for name in names
        )  # fmt: skip

    def channels(self) -> tuple[Channel, ...]:
        return self._channels

    def sheet(self) -> Sheet | None:
        return None

    def stop(self) -> None:
        """End the recording after the block that is being read."""
        self.stopped = True

    def blocks(self, seconds: float = np.inf, *, patience_s: float = 10.0) -> Iterator[Block | Lost]:
        """Blocks as they come, of at most so many seconds. Where the instrument goes away it is tried again for
        `patience_s`; what was lost meanwhile is told between the blocks.

        Raises
        ------
        InstrumentGone
            when it does not come back.
        """
        self.stopped = False
        if self.profile.mode == "single":
            yield from self._shot(seconds)
            return
        most = np.inf if np.isinf(seconds) else round(seconds * self.sfreq)
        self.link.tell(self.profile.do.start)
        count = SampleCount(self.sfreq)
        garbled, last = 0, time.monotonic()
        while count.at < most and not self.stopped:
            try:
                told = int(self.link.ask_number(self.profile.ask.position)) if self.profile.ask.position else None
                raw = self._samples(self.link.ask_block(self.profile.ask.block))
                garbled, self.link.until = 0, np.inf
                if raw.shape[1]:
                    last = time.monotonic()
                elif time.monotonic() - last > patience_s:
                    raise GaveNothing(
                        tr(
                            "{address}: it answers, and gave no sample for {patience_s:g} s",
                            address=self.link.address,
                            patience_s=patience_s,
                        )
                    )
            except GaveNothing:
                raise
            except Garbled as error:
                garbled += 1
                if garbled > 5 or time.monotonic() - last > patience_s:
                    raise InstrumentGone(
                        tr("{error}; given up after {garbled} such answers", error=error, garbled=garbled)
                    ) from None
                yield Lost(count.at, None, str(error))
                self._again(patience_s, last)
                count.interrupted = True
                continue
            except InstrumentGone as error:
                # Patience is counted from the last sample: one that answers to its name and hangs up in each block is gone.
                if time.monotonic() - last > patience_s:
                    raise InstrumentGone(
                        tr("{error}; no sample for {patience_s:g} s", error=error, patience_s=patience_s)
                    ) from None
                yield Lost(count.at, None, str(error))
                self._again(patience_s, last)
                count.interrupted = True
                continue
            step = count.take(told, raw.shape[1])
            if step.said:
                missing = int(min(step.missing, most - count.at))
                yield Lost(count.at, missing or None, step.said)
                count.at += missing
            raw = raw[:, step.repeated :]
            came = raw.shape[1]
            raw = raw[:, : int(min(came, most - count.at))]
            count.at += raw.shape[1]
            if raw.shape[1]:
                yield Block(raw)
            if count.at < most and came / self.sfreq < PACE_S:
                time.sleep(PACE_S - came / self.sfreq)
        if self.profile.do.stop:
            with suppress(InstrumentGone):  # what it recorded is here; that it does not hear the end harms nothing
                self.link.tell(self.profile.do.stop)

    def _again(self, patience_s: float, last: float) -> None:
        """Open the line anew, as often as it takes within `patience_s`; the instrument goes on with its stream. What is asked
        until its next sample must be answered while there is patience, counted from the `last` one."""
        self.link.until = last + patience_s + 2 * self.link.timeout_s
        until = time.monotonic() + patience_s
        while True:
            try:
                self.link.open()
                identity = identify(self.link)
                if self.profile.identity.lower() not in identity.lower():
                    raise SagenError(
                        tr(
                            "{address}: another instrument answers there now: {identity}",
                            address=self.link.address,
                            identity=identity[:60],
                        )
                    )
                return
            except (InstrumentGone, Garbled) as error:
                if self.stopped:
                    return
                if time.monotonic() > until:
                    raise InstrumentGone(
                        tr("{error}; it did not come back in {patience_s:g} s", error=error, patience_s=patience_s)
                    ) from None
                time.sleep(0.2)

    def _shot(self, seconds: float) -> Iterator[Block]:
        """One single shot."""
        link, profile = self.link, self.profile
        link.tell(profile.do.start.format(seconds=f"{seconds if np.isfinite(seconds) else 1.0:g}"))
        until = time.monotonic() + max(10.0, 3 * (seconds if np.isfinite(seconds) else 1.0))
        while link.ask_number(profile.ask.ready) < 1:
            if time.monotonic() > until or self.stopped:
                raise InstrumentGone(tr("{address}: the shot was not taken in time", address=link.address))
            time.sleep(0.02)
        if profile.block.layout != "channel":
            yield Block(self._samples(link.ask_block(profile.ask.block)))
            return
        rows = [
            np.frombuffer(link.ask_block(profile.ask.block.format(channel=channel.column)), profile.block.dtype)
            for channel in self._channels
        ]
        length = min(len(row) for row in rows)
        yield Block(np.stack([row[:length] for row in rows]).astype(self._channels[0].raw.dtype))

    def _samples(self, data: bytes) -> np.ndarray:
        """A block's bytes as samples, shape (channels, n)."""
        count, form = len(self._channels), self.profile.block
        values = np.frombuffer(data, form.dtype) if len(data) % np.dtype(form.dtype).itemsize == 0 else None
        if values is None or len(values) % count:
            raise Garbled(
                tr(
                    "{address}: a block of {data} bytes does not hold {count} channels evenly",
                    address=self.link.address,
                    data=len(data),
                    count=count,
                )
            )
        rows = values.reshape(-1, count).T if form.layout == "interleaved" else values.reshape(count, -1)
        return np.ascontiguousarray(rows, dtype=self._channels[0].raw.dtype)

    def close(self) -> None:
        self.link.close()


class ScpiMeter:
    """A meter behind a profile; `rate`: readings a second, where it can be told."""

    def __init__(self, address: str, profile: Profile | None = None, rate: float | None = None):
        self.link = Link(address, profile.timeout_s if profile else 2.0)
        self.profile = profile or profile_for(identify(self.link), ("meter",))
        if rate is not None and self.profile.do.rate:
            self.link.tell(self.profile.do.rate.format(rate=f"{rate:g}"))

    def read(self, point: Point, state: State) -> MeterValue:
        """A value at a point in a state; raises SagenError where nothing comes."""
        point, state = Point(point), State(state)
        do, ask = self.profile.do, self.profile.ask
        if do.state:
            self.link.tell(do.state.format(state=state))
        if do.point:
            self.link.tell(do.point.format(point=point))
        ohms = point in OHM_POINTS
        value = self.link.ask_number(ask.ohms if ohms else ask.volts)
        over = abs(value) >= self.profile.over_range
        quantity = Quantity.OHMS if ohms else Quantity.VOLTS
        return MeterValue(point, state, quantity, 4e7 if over and ohms else value, over)

    def close(self) -> None:
        self.link.close()
