"""The recordings of a workspace: each belongs to a job, goes on whatever is on the screen, and ends kept or discarded by a
person, never by the way."""

from __future__ import annotations

import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime

from sagen.artifacts.leases import Lease
from sagen.casework.events import Hunted
from sagen.casework.examination import MOST_KEPT, Incoming
from sagen.casework.live import Live, Verdict, sheet_for
from sagen.files.long_record import SUFFIX, long_pyramids, read_long
from sagen.instruments.module_can import CanModules
from sagen.instruments.wired import Wired
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import later, tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import CIRCUIT_ROLES, State
from sagen.model.words import STATES_KEPT
from sagen.report.turn_drawing import TurnDrawing, draw_turns
from sagen.store.log import JobLog

TEMPERATURE_S = 5.0  #: between two askings of the module
#: recordings are named by when they began, and for what
NAME = "%Y%m%d-%H%M%S-%f"


@dataclass(frozen=True)
class LiveLook:
    """What a look at a running recording shows; None for what there is not yet, or was not asked for."""

    verdict: Verdict | None
    drawing: TurnDrawing | None
    hunted: Hunted | None


@dataclass(eq=False)
class Recording:
    """One recording of this process: running, or ended and not on a trail yet."""

    job: int
    machine: str
    state: State
    live: Live
    lease: Lease
    wired: Wired
    stated: Sheet | None = None  #: what was known of its channels when it began
    began: datetime = field(default_factory=datetime.now)
    bringing_in: bool = False  #: it is on its way onto the trail
    _modules: CanModules | None = None
    _ask_again: float = 0.0  #: when the module is asked next
    _closing: threading.Lock = field(default_factory=threading.Lock)
    _closed: bool = False

    @property
    def identity(self) -> str:
        return self.lease.path.name

    @property
    def running(self) -> bool:
        return self.live.running

    @property
    def seconds(self) -> float:
        return self.live.seconds

    def stop(self) -> None:
        """End it, and let the instruments go; what came is on the disk."""
        self.live.stop()
        with self._closing:
            if self._closed:
                return
            self._closed = True
            self.live.recorder.close()
            for end in (self._modules, self.wired):
                if end is not None:
                    end.close()

    def look(self, *, drawn: bool, last: bool) -> LiveLook:
        """What the last seconds show, off the owner's thread; `drawn`: with a drawing of the turns, `last`: the events too,
        though none is new."""
        live, drawing = self.live, None
        verdict = live.verdict()
        if drawn and verdict is not None and verdict.done is not None:
            read = [channel.sheet.column for channel in verdict.done.channels if channel.reading is not None]
            drawing = draw_turns(verdict.done, read[0]) if read else None
        self._ask_temperature()
        new = live.hunt()
        return LiveLook(verdict, drawing, live.hunted() if new or last else None)

    def _ask_temperature(self) -> None:
        """The coolant's temperature from the module, every few seconds, where one answers."""
        with self._closing:
            if self._closed or time.monotonic() < self._ask_again:
                return
            self._ask_again = time.monotonic() + TEMPERATURE_S
            try:
                if self._modules is None:
                    self._modules = self.wired.modules()
                self.live.warm(self._modules.live("coolant").value)
            except SagenError:
                self._ask_again = time.monotonic() + 12 * TEMPERATURE_S  # a recording goes without a module, too

    def restate(self) -> None:
        """Write beside it what it is now known to be; raises SagenError where the disk takes nothing."""
        self.lease.restate(_meant(self.job, self.machine, self.state, self.live.sheet))

    def incoming(self) -> Incoming:
        """It as it is brought in, off the owner's thread; raises SagenError where nothing was recorded."""
        self.stop()
        self.live.hunt()
        capture = self.live.capture()
        path = self.lease.path
        return Incoming(path, capture, self.live.sheet, pyramids=long_pyramids(path, capture), recording=self.identity)

    def events_told(self) -> dict | None:
        """What its events go with, as a message; None where there was none."""
        self.live.hunt()
        found = self.live.hunted()
        began = later("Live, {state}, {seconds:.0f} s", state=STATES_KEPT[self.state], seconds=self.seconds)
        return found.note(began) if found.events else None

    def kept(self, incoming: Incoming) -> None:
        """It lies on a trail."""
        _end(self.lease, incoming)

    def discard(self) -> None:
        """It is wanted no more: stopped, and gone. Off the owner's thread."""
        self.stop()
        self.lease.discard()

    @property
    def told(self) -> bool:
        """Whether it is known what its channels are, so that it can be kept without asking."""
        sheet = self.live.sheet
        return sheet is not None and any(channel.role in CIRCUIT_ROLES for channel in sheet.channel)


@dataclass(frozen=True)
class LeftRecording:
    """A recording whose process ended before it was kept, held here from now on."""

    lease: Lease
    job: int | None
    machine: str = ""
    sheet: Sheet | None = None

    @property
    def identity(self) -> str:
        return self.lease.path.name

    @property
    def began(self) -> str:
        """As in "14:03"; "" where its name tells none."""
        try:
            return f"{datetime.strptime(self.identity[:22], NAME[:-3] + '-%f'):%H:%M}"
        except ValueError:
            return ""

    def incoming(self) -> Incoming:
        """It as it is brought in, off the owner's thread; raises CaptureFileError where it holds nothing."""
        capture = read_long(self.lease.path)
        path = self.lease.path
        return Incoming(path, capture, self.sheet, pyramids=long_pyramids(path, capture), recording=self.identity)

    def kept(self, incoming: Incoming) -> None:
        """It lies on a trail."""
        _end(self.lease, incoming)

    def discard(self) -> None:
        """It is wanted no more."""
        self.lease.discard()


def opened_recorder(
    log: JobLog,
    job: Job,
    state: State,
    wired: Wired,
    ranges: dict[str, float] | None = None,
    sheet: Sheet | None = None,
) -> Recording:
    """A recording of a job, begun, its folder leased; called off the owner's thread.

    Parameters
    ----------
    wired : Wired
        closed where the recorder cannot be opened
    ranges : dict
        volts by column
    sheet : Sheet
        what is known of the channels; else as the job's last capture of the same columns has it

    Raises
    ------
    SagenError
        where the recorder does not answer, or the disk takes nothing.
    """
    recorder = lease = None
    try:
        recorder = wired.recorder(state, ranges=ranges)
        columns = tuple(channel.column for channel in recorder.channels())
        known = sheet or sheet_for(job, columns, str(state))
        lease = log.captures.begin_record(
            f"{datetime.now():{NAME}}-{state}{SUFFIX}", _meant(job.id, job.machine, state, known)
        )
        live = Live(recorder, f"live-{state}.npz", known, folder=lease.path)
        live.start()
    except SagenError:
        if recorder is not None:
            recorder.close()
        wired.close()
        if lease is not None:
            lease.discard()
        raise
    return Recording(job.id, job.machine, state, live, lease, wired, known)


def _meant(job: int, machine: str, state: State, sheet: Sheet | None) -> dict:
    """What is written beside a recording: whose it is, and what is known of its channels."""
    return {
        "job": job, "machine": machine, "state": str(state),
        "sheet": sheet.model_dump(mode="json", exclude_none=True) if sheet is not None else None,
    }  # fmt: skip


def left_recordings(log: JobLog) -> list[LeftRecording]:
    """The recordings that dead processes left in a log; called off the owner's thread. Empty ones are removed."""
    found, jobs = [], {job.id for job in log.jobs()}
    for lease in log.captures.left_records():
        meant, sheet = lease.meant, None
        try:
            read_long(lease.path)
        except SagenError:
            lease.discard()  # it had not got as far as a first sample
            continue
        with suppress(SagenError, TypeError):
            sheet = Sheet.from_data(meant["sheet"], where=tr("the recording's sheet")) if meant.get("sheet") else None
        job = meant.get("job")  # of one that was deleted meanwhile it is nobody's: any job may take it
        found.append(LeftRecording(lease, job if job in jobs else None, str(meant.get("machine", "")), sheet))
    return found


def _end(lease: Lease, incoming: Incoming) -> None:
    """Of a recording that its trail holds whole the folder goes; a longer one stays, in nobody's hands."""
    if incoming.capture.samples * len(incoming.capture.channels) <= MOST_KEPT:
        lease.discard()
    else:
        lease.commit()
