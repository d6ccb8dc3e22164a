"""Captures brought in, examined and kept, opened, written, and searched for events: commands."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from sagen.casework.command import Command, WritingCommand, go_on
from sagen.casework.events import Hunted, hunted
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
from sagen.casework.patterns import beyond_envelope, circuit_name, fitting_patterns, known_good_ones
from sagen.files import sheet_path, write_capture, write_sheet
from sagen.files.budget import wanted_while
from sagen.kinds import Examination, examine
from sagen.model.capture import Capture
from sagen.model.errors import SagenError
from sagen.model.job import Entry, Job
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry
from sagen.signal.probe_factors import apply_probe_factors
from sagen.signal.pyramid import Pyramid

if TYPE_CHECKING:
    from sagen.store.log import JobLog


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
        return tr("Reading {name}", name=self.path.name)

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
class Keep(WritingCommand):
    """Examine a capture under its sheet and keep it on a job's trail. Its samples are stored before they are examined: where
    the program ends in between, `FinishKeeping` goes on."""

    incoming: Incoming
    sheet: Sheet
    from_shelf: bool = True  #: lay a known-good capture of the same circuit under it, where the shelf has one

    @property
    def doing(self) -> str:
        return tr("Examining {name}", name=self.incoming.capture.name)

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
            done, record = self._examined(log, progress)
            log.captures.restate(stored, done.capture)
            entry = log.add_entry(self.job_id, replace(record, token=stored, name=done.capture.name))
        except Exception:
            log.captures.remove(stored)
            raise
        pyramids = self.incoming.pyramids or build_pyramids(done.capture)
        keep_pyramids(log, stored, done.capture, pyramids)
        opened = opened_capture(self.job_id, entry, done, pyramids)
        return Kept(self.job_id, entry, opened, log.job(self.job_id))

    def _examined(self, log: JobLog, progress: Progress) -> tuple[Examination, CaptureEntry]:
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
            among = known_good_ones(log, job, done.sheet)
            record = replace(record, compared=beyond_envelope(done, list(among.values())))
        return done, record


@dataclass(frozen=True)
class FinishKeeping(WritingCommand):
    """Captures that were being kept when the program ended, onto their trails; answers what to tell."""

    @property
    def doing(self) -> str:
        return tr("Keeping what was being kept")

    def perform(self, log, progress=go_on) -> str:
        told = []
        for token, meant in list(log.unfinished.items()):
            try:
                job = log.job(meant["job"])
                sheet = Sheet.from_data(meant["sheet"], where=tr("the stored sheet"))
                incoming = Incoming(Path(token), log.capture(token), sheet)
                name = (
                    Keep(job.id, incoming, sheet, bool(meant["from_shelf"]))
                    ._kept(log, token, progress)
                    .opened.capture.name
                )
                told.append(
                    tr(
                        "{name} was being kept when the program ended: it is on the trail of {machine} now.",
                        name=name,
                        machine=job.machine,
                    )
                )
            except (SagenError, KeyError, TypeError) as error:
                told.append(
                    tr(
                        "A capture that was being kept when the program ended could not be: {error}.",
                        error=str(error)[:120],
                    )
                )
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
        return tr("Opening {name}", name=self.entry.record.name)

    def perform(self, log, progress=go_on) -> OpenCapture:
        record: CaptureEntry = self.entry.record
        capture, good = log.capture(record.token), None
        if record.reference is not None:
            good = (log.capture(record.reference.token), record.reference.sheet)
        done = examine(capture, record.sheet, reference=good, progress=progress)
        # What was found when the capture came in stays; a newer reader must not rewrite the record.
        done = replace(done, findings=record.findings)
        pyramids = stored_pyramids(log, record.token, done.capture)
        return opened_capture(self.job_id, self.entry, done, pyramids)


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
        return tr("Writing {name}", name=self.path.name)

    def perform(self, log=None, progress=go_on) -> Exported:
        write_capture(self.path, self.opened.capture)
        write_sheet(sheet_path(self.path), self.opened.sheet)
        return Exported(self.job_id, self.path)


@dataclass(frozen=True)
class HuntEvents(Command):
    """Hunt for everything that came and went in a capture on the bench."""

    opened: OpenCapture

    @property
    def doing(self) -> str:
        return tr("Looking for events in {name}", name=self.opened.capture.name)

    def perform(self, log=None, progress=go_on) -> Hunted:
        return hunted(self.opened.capture, self.opened.sheet, progress=progress)
