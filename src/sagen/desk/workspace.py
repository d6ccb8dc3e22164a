"""What is open: the log, the job on the desk and what its evidence amounts to. Widgets listen to its signals."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from sagen.desk.work import Request, Work
from sagen.model.errors import SagenError
from sagen.model.finding import Finding
from sagen.model.job import Entry, Job

if TYPE_CHECKING:
    from sagen.model.capture import Capture
    from sagen.model.finding import Suspect
    from sagen.model.sheet import Sheet
    from sagen.reason.checks import Advice, NextCheck
    from sagen.signal.examine import Examination
    from sagen.store.log import JobLog


@dataclass(frozen=True)
class Weighed:
    """The suspects and checks of the job as its standing evidence has them."""

    suspects: tuple[Suspect, ...] = ()
    checks: tuple[NextCheck, ...] = ()
    pieces: int = 0  #: how many pieces of evidence count
    advice: Advice | None = None
    odd: tuple[str, ...] = ()  #: what codes mean together, and readings that no fault explains


@dataclass(frozen=True)
class OpenCapture:
    """A capture on the bench with everything that is drawn of it."""

    capture: Capture
    sheet: Sheet
    examination: Examination
    pyramids: dict[str, object]
    entry: Entry | None = None
    #: the known-good capture, its sheet and its examination
    reference: tuple | None = None
    #: what is drawn of it, worked out off the interface thread: the strip, and a look at each channel
    ready: dict[str, object] = field(default_factory=dict)


@dataclass
class Incoming:
    """A capture file on its way in: read, not yet kept."""

    path: Path
    capture: Capture
    sheet: Sheet | None
    reference: tuple | None = None
    problem: str = ""
    pyramids: dict[str, object] = field(default_factory=dict)


class Workspace(QObject):
    """The model behind the window. Every change of the log goes through here and is announced."""

    log_opened = Signal()
    jobs_changed = Signal(list)
    job_changed = Signal(object)  #: Job or None
    weighed = Signal(object)  #: Weighed
    capture_opened = Signal(object)  #: OpenCapture
    incoming = Signal(object)  #: Incoming
    failed = Signal(str)
    said = Signal(str)  #: something done that the user should know of
    working = Signal(str, float)  #: what is being done and how far; share 1 when done

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.work = Work(self)
        self.log: JobLog | None = None
        self.job: Job | None = None
        self.opened: OpenCapture | None = None
        self.last_weighed = Weighed()
        self.demo = False
        self.gear: tuple[str, ...] = ("meter", "scope")
        self.strategy = "most"
        self._opening: Request | None = None
        self._weighing: Request | None = None

    # the log ------------------------------------------------------------------------------

    def open_log(self, make: Callable[[Request], JobLog]) -> None:
        """Open the log that `make` gives, off the interface thread."""

        def opened(log: JobLog) -> None:
            self.log = log
            self._tell("", 1.0)
            self.log_opened.emit()
            jobs = self.refresh_jobs()
            if jobs:
                self.open_job(jobs[0].id, open_capture=True)
            else:
                self.job_changed.emit(None)

        self._tell("Opening the job log", 0.0)
        self.work.ask(make, done=opened, failed=self._failed, progress=lambda x: self._tell("Opening the job log", x))

    def refresh_jobs(self) -> list[Job]:
        jobs = self._safely(self.log.jobs) or []
        self.jobs_changed.emit(jobs)
        return jobs

    def close(self) -> None:
        self.work.finish()
        if self.log is not None:
            self.log.close()

    # the job ------------------------------------------------------------------------------

    def open_job(self, job_id: int, *, open_capture: bool = False) -> None:
        job = self._safely(lambda: self.log.job(job_id))
        if job is None:
            return
        self.job, self.opened = job, None
        self._announce()
        captures = job.of("capture")
        if open_capture and captures:
            self.open_entry(captures[-1])

    def add_job(self, machine: str, owner: str, cylinders: int | None, complaint: str, codes: list[str]) -> None:
        job = self._safely(lambda: self.log.add_job(machine, owner=owner, cylinders=cylinders))
        if job is None:
            return
        self.job, self.opened = job, None
        if complaint:
            self._safely(lambda: self.log.add_entry(job.id, "complaint", {"text": complaint}))
        for code in codes:
            self._safely(lambda code=code: self.log.add_entry(job.id, "code", with_meaning(code)))
        self.refresh_jobs()
        self.reload()

    def reload(self) -> None:
        """Read the job again and weigh its evidence anew."""
        if self.job is not None:
            self.job = self._safely(lambda: self.log.job(self.job.id)) or self.job
        self._announce()

    def add(self, kind: str, data: dict) -> None:
        self._safely(lambda: self.log.add_entry(self.job.id, kind, data))
        self.reload()

    def correct(self, entry: Entry, data: dict) -> None:
        self._safely(lambda: self.log.correct(entry.id, data))
        self.reload()

    def withdraw(self, entry: Entry, withdrawn: bool) -> None:
        self._safely(lambda: self.log.withdraw(entry.id, withdrawn))
        self.reload()

    def undo(self) -> None:
        if self.log:
            self._safely(self.log.undo)
            self.reload()

    def redo(self) -> None:
        if self.log:
            self._safely(self.log.redo)
            self.reload()

    def _announce(self) -> None:
        self.job_changed.emit(self.job)
        self.reweigh()

    def reweigh(self) -> None:
        """Weigh the job's standing evidence anew, off the interface thread; a newer asking drops an older answer."""
        if self._weighing is not None:
            self._weighing.stop()
        job, gear, strategy = self.job, self.gear, self.strategy
        if job is None:
            self._weighed_is(Weighed())
            return
        # First the trail and the bench are painted, undisturbed; and of quick changes only the last is weighed.
        self._weighing = self.work.ask(
            lambda request: Weighed() if request.pause(0.08) else weigh_job(job, gear, strategy),
            done=self._weighed_is,
            failed=self.failed.emit,
        )

    def _weighed_is(self, weighed: Weighed) -> None:
        self.last_weighed = weighed
        self.weighed.emit(weighed)

    # captures -----------------------------------------------------------------------------

    def bring_in(self, path: str | Path) -> Request:
        """Read a capture file; `incoming` follows, or `failed` with what is wrong and where."""
        path = Path(path)
        self._tell(f"Reading {path.name}", 0.0)

        def failed(message: str) -> None:
            self._failed(f"{path.name}: {message}")

        def came(incoming: Incoming) -> None:
            self._tell("", 1.0)
            self.incoming.emit(incoming)

        return self.work.ask(lambda request: read_incoming(path), done=came, failed=failed)

    def record_stand_in(self, state: str) -> None:
        """Record from the demo's simulated machine; `incoming` follows as for a file."""
        job = self.job
        self._tell("Recording from the stand-in", 0.0)

        def work(_request: Request) -> Incoming:
            from sagen.demo import recorder_on_stand_in

            capture, sheet = recorder_on_stand_in(job, state)
            return Incoming(Path(capture.name), capture, sheet, pyramids=build_pyramids(capture))

        def came(incoming: Incoming) -> None:
            self._tell("", 1.0)
            self.incoming.emit(incoming)

        self.work.ask(work, done=came, failed=self._failed)

    def keep(self, incoming: Incoming, sheet: Sheet) -> None:
        """Examine a capture under its sheet, keep it on the trail and open it on the bench."""
        log, job_id = self.log, self.job.id
        self._tell(f"Examining {incoming.capture.name}", 0.0)

        def work(request: Request) -> OpenCapture:
            from sagen.signal.examine import complete_sheet, examine

            complete = complete_sheet(incoming.capture, sheet)
            examination = examine(incoming.capture, complete, reference=incoming.reference, progress=request.tell)
            data = examination.as_data(complete)
            if incoming.reference is not None:
                good, good_sheet = incoming.reference
                data["reference"] = {
                    "name": good.name, "token": log.shelf.put(good),
                    "sheet": complete_sheet(good, good_sheet).model_dump(mode="json", exclude_none=True),
                }  # fmt: skip
            entry = log.add_capture(job_id, incoming.capture, data)
            keep_pyramids(log, entry.data["token"], incoming.capture, incoming.pyramids)
            good = with_examination(incoming.reference)
            return prepared(OpenCapture(incoming.capture, complete, examination, dict(incoming.pyramids), entry, good))

        self._open_when_done(work)

    def open_entry(self, entry: Entry) -> None:
        """Put a capture of the trail on the bench."""
        log = self.log
        self._tell(f"Opening {entry.data['name']}", 0.0)

        def work(request: Request) -> OpenCapture:
            from sagen.model.sheet import Sheet
            from sagen.signal.examine import examine

            capture = log.capture(entry.data["token"])
            sheet = Sheet.from_data(entry.data["sheet"], where="stored sheet")
            good = kept_reference(log, entry.data)
            examination = examine(capture, sheet, reference=good, progress=request.tell)
            # What was found when the capture came in stays; a newer reader must not rewrite the record.
            kept = tuple(Finding.from_data(one) for one in entry.data["findings"])
            from dataclasses import replace

            pyramids = stored_pyramids(log, entry.data["token"], capture)
            opened = OpenCapture(
                capture, sheet, replace(examination, findings=kept), pyramids, entry, with_examination(good)
            )
            return prepared(opened)

        self._open_when_done(work)

    def export(self, path: Path) -> None:
        """Write the open capture, with its sheet beside it."""
        opened = self.opened
        self._tell(f"Writing {path.name}", 0.0)

        def work(_request: Request) -> Path:
            from sagen.files import sheet_path, write_capture, write_sheet

            write_capture(path, opened.capture)
            write_sheet(sheet_path(path), opened.sheet)
            return path

        def done(written: Path) -> None:
            self._tell("", 1.0)
            self.said.emit(f"Written: {written}, with its sheet beside it.")

        self.work.ask(work, done=done, failed=self._failed)

    def _open_when_done(self, work: Callable[[Request], OpenCapture]) -> None:
        if self._opening is not None:
            self._opening.stop()

        def done(opened: OpenCapture) -> None:
            self._tell("", 1.0)
            self.opened = opened
            self.reload()
            # After the trail has painted: it and the bench each take a while, and together too long.
            QTimer.singleShot(15, self, lambda: self.capture_opened.emit(opened) if self.opened is opened else None)

        def progress(share: float) -> None:
            self._tell("Examining the capture", share)

        self._opening = self.work.ask(work, done=done, failed=self._failed, progress=progress)

    def stop_work(self) -> None:
        """The user pressed stop."""
        if self._opening is not None:
            self._opening.stop()
        self._tell("", 1.0)

    # --------------------------------------------------------------------------------------

    def _safely(self, action: Callable):
        try:
            return action()
        except SagenError as error:
            self.failed.emit(str(error))
            return None

    def _failed(self, message: str) -> None:
        self._tell("", 1.0)
        self.failed.emit(message)

    def _tell(self, what: str, share: float) -> None:
        self.working.emit(what, share)


def with_meaning(code: str) -> dict:
    """A code's entry, with what a generic code means."""
    from sagen.codes import meaning

    found = meaning(code)
    return {"code": code, "meaning": found.text} if found else {"code": code}


def weigh_job(job: Job, gear: tuple[str, ...] = ("meter", "scope"), strategy: str = "most") -> Weighed:
    """Weigh everything that stands on a job's trail."""
    from sagen.codes.lookup import beside
    from sagen.reason.checks import advice, next_checks
    from sagen.reason.log_case import case_of_job
    from sagen.reason.weigh import weigh

    case = case_of_job(job, gear, strategy)
    if not case.trail:
        return Weighed()
    suspects, posterior = weigh(case)
    checks = next_checks(case, posterior)
    together = tuple(beside([one.data["code"] for one in job.of("code") if not one.data.get("kind")]))
    return Weighed(suspects, checks, len(posterior.used), advice(case, posterior), together + posterior.odd)


def read_incoming(path: Path) -> Incoming:
    """Read a capture, the sheet beside it and the known-good capture it names."""
    from sagen.files import read_capture, read_sheet

    capture = read_capture(path)
    incoming = Incoming(path, capture, None, pyramids=build_pyramids(capture))
    try:
        incoming.sheet = read_sheet(path)
        if incoming.sheet and incoming.sheet.reference:
            other = path.parent / incoming.sheet.reference
            incoming.reference = (read_capture(other), read_sheet(other) or incoming.sheet)
    except SagenError as error:
        # The samples are sound; the user is asked what the sheet should have said.
        incoming.problem = str(error)
    return incoming


def prepared(opened: OpenCapture) -> OpenCapture:
    """Work out all that is drawn of a capture, so that the interface thread only has to paint."""
    from sagen.desk.capture_page import strip_of
    from sagen.desk.lens import look_at

    columns = [one.sheet.column for one in opened.examination.channels if one.reading is not None]
    opened.ready["looks"] = {one: look_at(opened, one) for one in columns}
    opened.ready["strip"] = strip_of(opened)
    for one in opened.examination.channels:
        if one.reading is not None:
            one.reading.speed_range()
    return opened


def kept_reference(log: JobLog, data: dict) -> tuple | None:
    """The known-good capture that an entry was examined against, with its sheet."""
    from sagen.model.sheet import Sheet

    kept = data.get("reference")
    if not kept:
        return None
    return log.capture(kept["token"]), Sheet.from_data(kept["sheet"], where="stored sheet")


def with_examination(reference: tuple | None) -> tuple | None:
    """A known-good capture with its sheet and what it shows itself."""
    from sagen.signal.examine import examine

    return (*reference, examine(*reference)) if reference is not None else None


def stored_pyramids(log: JobLog, token: str, capture: Capture) -> dict[str, object]:
    """The pyramids kept beside a capture; built, and kept, where there are none."""
    from sagen.signal.pyramid import Pyramid

    kept = log.shelf.get_pyramids(token, len(capture.channels))
    try:
        if kept is not None:
            return {
                one.column: Pyramid.unpacked(one.raw, *packed)
                for one, packed in zip(capture.channels, kept, strict=True)
            }
    except ValueError:
        pass
    pyramids = build_pyramids(capture)
    keep_pyramids(log, token, capture, pyramids)
    return pyramids


def keep_pyramids(log: JobLog, token: str, capture: Capture, pyramids: dict[str, object]) -> None:
    log.shelf.put_pyramids(token, [pyramids[one.column].packed() for one in capture.channels])


def build_pyramids(capture: Capture) -> dict[str, object]:
    from sagen.signal.pyramid import Pyramid

    return {one.column: Pyramid(one.raw) for one in capture.channels}
