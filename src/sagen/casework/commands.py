"""What can be asked of a job log: a frozen request a deed, and a frozen answer that names the job it is of.

`perform` may be called from any thread. A request that `writes` runs to its end once it is begun, unless its own Stop
comes in time; then it says that nothing was kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from sagen.casework.examination import (
    Incoming,
    Pair,
    Progress,
    build_pyramids,
    capture_entry,
    kept_name,
    read_incoming,
)
from sagen.casework.open_capture import OpenCapture, opened_capture
from sagen.casework.taps import NO_TAPS, JobTaps, job_taps
from sagen.codes.lookup import beside, unknown_codes
from sagen.files.budget import wanted_while
from sagen.kinds import Examination, examine
from sagen.model.capture import Capture
from sagen.model.errors import SagenError
from sagen.model.finding import Suspect
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CodeEntry
from sagen.model.vocabulary import CHOSEN_GEAR, Gear, Strategy
from sagen.signal.probe_factors import apply_probe_factors
from sagen.signal.pyramid import Pyramid
from sagen.store.log import JobLog

if TYPE_CHECKING:
    from sagen.casework.events import Hunted
    from sagen.casework.lessons import ShopLessons
    from sagen.reason.checks import Advice
    from sagen.reason.decide import ReplaceOrCheck


def go_on(_share: float) -> bool:
    return True


@dataclass(frozen=True)
class Command:
    """Base of all requests; `job_id` is the job that it is about."""

    job_id: int | None
    writes: ClassVar[bool] = False
    quick: ClassVar[bool] = False  #: takes no time, and is not to wait behind what does

    @property
    def doing(self) -> str:
        """What is being done meanwhile, in words; "" for what takes no time."""
        return ""

    def perform(self, log: JobLog, progress: Progress = go_on):
        """Do it; raises SagenError, or `Stopped` when `progress` says so."""
        raise TypeError(f"{type(self).__name__} does nothing")


# listing and weighing ----------------------------------------------------------------------


@dataclass(frozen=True)
class JobsListed:
    search: str
    jobs: tuple[JobSummary, ...]


@dataclass(frozen=True)
class ListJobs(Command):
    """The jobs of the log, newest first; with `search`, those that hold all its words."""

    search: str = ""
    quick: ClassVar[bool] = True

    def perform(self, log, progress=go_on) -> JobsListed:
        return JobsListed(self.search, tuple(log.jobs(self.search)))


@dataclass(frozen=True)
class Weighed:
    """The suspects and checks of a job as its standing evidence has them."""

    job_id: int | None = None
    suspects: tuple[Suspect, ...] = ()
    checks: tuple = ()
    pieces: int = 0  #: how many pieces of evidence count
    advice: object = None
    odd: tuple[str, ...] = ()  #: what codes mean together, and readings that no fault explains
    taps: JobTaps = NO_TAPS  #: what the taps of a knock job say together
    opened: frozenset = frozenset()  #: places that are open now
    access: Mapping[str, float] = field(default_factory=dict)  #: minutes to get at each place on this machine
    ways: ReplaceOrCheck | None = None  #: replacing what leads now, against one more check
    record: str = ""  #: what of the shop's own record counted, in words; "" where it does not


@dataclass(frozen=True)
class Weigh(Command):
    """Weigh everything that stands on a job's trail."""

    job: Job
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST

    record: ShopLessons | None = None  #: the shop's own jobs, where they are to count

    def perform(self, log=None, progress=go_on) -> Weighed:
        return weigh_job(self.job, self.gear, self.strategy, self.record)


def weigh_job(
    job: Job,
    gear: tuple[Gear, ...] = CHOSEN_GEAR,
    strategy: Strategy = Strategy.MOST,
    record: ShopLessons | None = None,
) -> Weighed:
    """The suspects of a job, and what to check next."""
    from sagen.casework.costs import costs_of, now_or_first
    from sagen.casework.weighing import weigh_records
    from sagen.reason.checks import opened
    from sagen.reason.facts import knowledge
    from sagen.reason.several import circuits_of

    records = job.records()
    circuits = circuits_of(records)
    own = record.but(job.id) if record is not None else None
    told = weigh_records(records, circuits, gear, strategy, record=own)
    if not told.cases:
        return Weighed(job.id)
    codes = [this_record.code for this_record in job.records(CodeEntry) if not this_record.says]
    together = (*unknown_codes(codes), *beside(codes))
    open_now = frozenset().union(*(opened(case, knowledge()) for _, case in told.cases))
    minutes = {str(place): usual for place, usual in knowledge().places.items()}
    for _, case in reversed(told.cases):
        minutes |= case.access
    try:
        ways = now_or_first(told.suspects, told.checks, costs_of(records), minutes, open_now)
    except SagenError as error:
        ways, together = None, (*together, str(error))
    return Weighed(
        job.id, told.suspects, told.checks, told.pieces, _with_what_is_owed(told.advice, job), together + told.odd, job_taps(records), open_now,
        minutes, ways, own.said(next(iter(circuits.values()))) if own is not None else "",
    )  # fmt: skip


def _with_what_is_owed(said: Advice, job: Job) -> Advice:
    """After a repair the advice says what is owed of the proof by now, not all that ever was."""
    from sagen.casework.job_sheet import owed_words
    from sagen.reason.words import PROOF_OWED

    now = job.standing_now
    if not now.repairs or PROOF_OWED not in said.text:
        return said
    owed = owed_words(now)
    left = f"Still owed: {'; '.join(owed)}." if owed else "Nothing is owed any more."
    return replace(said, text=said.text.replace(PROOF_OWED, left))


# captures ----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Brought:
    """A file as read, for the job that was open when it was asked for."""

    job_id: int | None
    incoming: Incoming


@dataclass(frozen=True)
class BringIn(Command):
    """Read a capture file and what lies beside it."""

    path: Path

    @property
    def doing(self) -> str:
        return f"Reading {self.path.name}"

    def perform(self, log=None, progress=go_on) -> Brought:
        with wanted_while(lambda: progress(0.0)):
            return Brought(self.job_id, read_incoming(self.path))


@dataclass(frozen=True)
class Kept:
    """A capture that was kept, ready to be put on the bench of its job."""

    job_id: int
    entry: Entry
    opened: OpenCapture
    job: Job  #: as it is with the capture


@dataclass(frozen=True)
class Keep(Command):
    """Examine a capture under its sheet and keep it on a job's trail. Its samples are stored before they are examined: where
    the program ends in between, `FinishKeeping` goes on."""

    incoming: Incoming
    sheet: Sheet
    from_shelf: bool = True  #: lay a known-good capture of the same circuit under it, where the shelf has one
    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return f"Examining {self.incoming.capture.name}"

    def perform(self, log, progress=go_on) -> Kept:
        # In true units from here on, its sheet too: nothing later takes the probe factors a second time.
        capture, sheet = apply_probe_factors(self.incoming.capture, self.sheet)
        meant = {
            "job": self.job_id,
            "sheet": sheet.model_dump(mode="json", exclude_none=True),
            "from_shelf": self.from_shelf,
        }
        true = replace(self, incoming=replace(self.incoming, capture=capture), sheet=sheet)
        return true._kept(log, log.captures.put(capture, meant), progress)

    def _kept(self, log: JobLog, stored: str, progress: Progress) -> Kept:
        """Go on with samples that are stored; they are freed where nothing comes of them."""
        try:
            done, record, reference = self._examined(log, progress)
            log.captures.restate(stored, done.capture)
            entry = log.add_entry(self.job_id, replace(record, token=stored, name=done.capture.name))
        except Exception:
            log.captures.remove(stored)
            raise
        pyramids = self.incoming.pyramids or build_pyramids(done.capture)
        keep_pyramids(log, stored, done.capture, pyramids)
        opened = opened_capture(self.job_id, entry, done, pyramids, reference)
        return Kept(self.job_id, entry, opened, log.job(self.job_id))

    def _examined(self, log: JobLog, progress: Progress) -> tuple[Examination, CaptureEntry, Pair | None]:
        from sagen.casework.kept import against_envelope, circuit_name, fitting_patterns

        job = log.job(self.job_id)
        incoming, reference, token = self.incoming, self.incoming.reference, ""
        if reference is not None:
            # Kept in true units, as everything on the shelf is.
            token = log.captures.put(_true(reference))
        elif self.from_shelf and (alike := fitting_patterns(log, job, self.sheet)):
            token, reference = alike[0].token, (log.capture(alike[0].token), alike[0].sheet)
        done = examine(incoming.capture, self.sheet, reference=reference, progress=progress)
        record = capture_entry(done, kept_name(reference, token))
        record = replace(record, circuit=circuit_name(job, done.sheet))
        if reference is not None:
            record = replace(record, compared=(*record.compared, *against_envelope(log, job, done)))
        return done, record, reference


@dataclass(frozen=True)
class FinishKeeping(Command):
    """Captures that were being kept when the program ended, onto their trails; answers what to tell."""

    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return "Keeping what was being kept"

    def perform(self, log, progress=go_on) -> str:
        told = []
        for token, meant in list(log.unfinished.items()):
            try:
                job = log.job(meant["job"])
                sheet = Sheet.from_data(meant["sheet"], where="the stored sheet")
                incoming = Incoming(Path(token), log.capture(token), sheet)
                name = (
                    Keep(job.id, incoming, sheet, bool(meant["from_shelf"]))
                    ._kept(log, token, progress)
                    .opened.capture.name
                )
                told.append(f"{name} was being kept when the program ended: it is on the trail of {job.machine} now.")
            except (SagenError, KeyError, TypeError) as error:
                told.append(f"A capture that was being kept when the program ended could not be: {str(error)[:120]}.")
            log.unfinished.pop(token)
        return " ".join(told)


def _true(pair: Pair) -> Capture:
    return apply_probe_factors(*pair)[0]


@dataclass(frozen=True)
class OpenEntry(Command):
    """Put a capture of a trail on the bench."""

    entry: Entry

    @property
    def doing(self) -> str:
        return f"Opening {self.entry.record.name}"

    def perform(self, log, progress=go_on) -> OpenCapture:
        record: CaptureEntry = self.entry.record
        capture, good = log.capture(record.token), None
        if record.reference is not None:
            good = (log.capture(record.reference.token), record.reference.sheet)
        done = examine(capture, record.sheet, reference=good, progress=progress)
        # What was found when the capture came in stays; a newer reader must not rewrite the record.
        done = replace(done, findings=record.findings)
        pyramids = stored_pyramids(log, record.token, done.capture)
        return opened_capture(self.job_id, self.entry, done, pyramids, good)


def stored_pyramids(log: JobLog, token: str, capture: Capture) -> dict[str, Pyramid]:
    """The pyramids kept beside a capture; built, and kept, where there are none."""
    kept = log.captures.get_pyramids(token, len(capture.channels))
    try:
        if kept is not None:
            return {
                channel.column: Pyramid.unpacked(channel.raw, *packed)
                for channel, packed in zip(capture.channels, kept, strict=True)
            }
    except ValueError:
        pass
    pyramids = build_pyramids(capture)
    keep_pyramids(log, token, capture, pyramids)
    return pyramids


def keep_pyramids(log: JobLog, token: str, capture: Capture, pyramids: dict[str, Pyramid]) -> None:
    """Keep what draws a capture quickly beside it."""
    log.captures.put_pyramids(token, [pyramids[channel.column].packed() for channel in capture.channels])


@dataclass(frozen=True)
class Exported:
    job_id: int | None
    path: Path


@dataclass(frozen=True)
class Export(Command):
    """Write a capture with its sheet beside it, in the format that the path's suffix names."""

    opened: OpenCapture
    path: Path

    @property
    def doing(self) -> str:
        return f"Writing {self.path.name}"

    def perform(self, log=None, progress=go_on) -> Exported:
        from sagen.files import sheet_path, write_capture, write_sheet

        write_capture(self.path, self.opened.capture)
        write_sheet(sheet_path(self.path), self.opened.sheet)
        return Exported(self.job_id, self.path)


@dataclass(frozen=True)
class HuntEvents(Command):
    """Hunt for everything that came and went in a capture on the bench."""

    opened: OpenCapture

    @property
    def doing(self) -> str:
        return f"Looking for events in {self.opened.capture.name}"

    def perform(self, log=None, progress=go_on) -> Hunted:
        from sagen.casework.events import hunted

        return hunted(self.opened.capture, self.opened.sheet, progress=progress)


# moving ------------------------------------------------------------------------------------


@dataclass(frozen=True)
class ExportJob(Command):
    """A job as a zip that another log can import."""

    path: Path

    @property
    def doing(self) -> str:
        return f"Exporting to {self.path.name}"

    def perform(self, log, progress=go_on) -> str:
        from sagen.store.moving import export_job

        export_job(log, self.job_id, self.path)
        return f"Exported: {self.path}"


@dataclass(frozen=True)
class ImportJob(Command):
    """A job from a zip, as a new job; answers it."""

    path: Path
    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return f"Importing {self.path.name}"

    def perform(self, log, progress=go_on) -> Job:
        from sagen.store.moving import import_job

        return import_job(log, self.path)


@dataclass(frozen=True)
class BackUp(Command):
    """The whole log as a zip, while it is in use."""

    path: Path

    @property
    def doing(self) -> str:
        return f"Backing up to {self.path.name}"

    def perform(self, log, progress=go_on) -> str:
        from sagen.store.moving import backup

        backup(log, self.path)
        return f"Backed up: {self.path}"


@dataclass(frozen=True)
class CheckLog(Command):
    """What is wrong with the log, in words; what can be put right is."""

    writes: ClassVar[bool] = True

    @property
    def doing(self) -> str:
        return "Checking the log"

    def perform(self, log, progress=go_on) -> str:
        from sagen.store.moving import check

        found = check(log, repair=True)
        if not found:
            return "Nothing is wrong with this log."
        told = "; ".join(f"{item.about}: {item.what}{' (put right)' if item.repaired else ''}" for item in found[:6])
        return told + (f"; and {len(found) - 6} more: `sagen log check` lists them" if len(found) > 6 else "")


# paper -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Printed:
    job_id: int
    html: str
    pdf: bytes
    name: str  #: a file name for it, without suffix


@dataclass(frozen=True)
class PrintJob(Command):
    """Make a page of a whole job, with or without any capture."""

    job: Job
    weighed: Weighed
    page: str = "customer"
    workshop: str = ""

    @property
    def doing(self) -> str:
        return "Making the page"

    def perform(self, log=None, progress=go_on) -> Printed:
        from sagen.casework.paper import pages_of_job
        from sagen.report.printed import render_pdf

        html = pages_of_job(self.job, self.weighed, log, workshop=self.workshop)[self.page]
        return Printed(self.job.id, html, render_pdf(html), f"{file_name(self.job.machine)}-{self.page}")


@dataclass(frozen=True)
class Print(Command):
    """Make the printed finding of a capture on the bench."""

    job: Job
    opened: OpenCapture
    weighed: Weighed

    @property
    def doing(self) -> str:
        return "Making the printed finding"

    def perform(self, log=None, progress=go_on) -> Printed:
        from sagen.casework.paper import finding_of_job
        from sagen.report.printed import render_html, render_pdf

        if self.opened.job_id not in (None, self.job.id):
            raise SagenError("the capture on the bench is of another job")
        html = render_html(finding_of_job(self.job, self.opened, self.weighed))
        return Printed(self.job.id, html, render_pdf(html), file_name(self.job.machine))


def file_name(title: str) -> str:
    """A job's title as a file name, without suffix: at most 80 letters, and no more bytes than a disk takes."""
    plain = "".join(item if item.isalnum() else "-" for item in title).strip("-")[:80]
    return plain.encode()[:200].decode(errors="ignore") or "finding"


__all__ = [
    "BringIn",
    "Brought",
    "Command",
    "Export",
    "Exported",
    "JobsListed",
    "Keep",
    "Kept",
    "ListJobs",
    "OpenEntry",
    "Print",
    "PrintJob",
    "Printed",
    "Weigh",
    "Weighed",
    "weigh_job",
]  # fmt: skip
