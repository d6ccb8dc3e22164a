"""What is printed of a job."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from sagen.artifacts.atomic import write_whole
from sagen.casework.examination import build_pyramids
from sagen.casework.job_sheet import job_sheet
from sagen.casework.open_capture import OpenCapture, opened_capture
from sagen.casework.taps import JobTaps, before_and_after
from sagen.casework.words import entry_text
from sagen.files.photos import with_arrow
from sagen.kinds import examine
from sagen.kinds.piezo.words import gap_words, load_words, share_words
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.model.text import as_utf8
from sagen.model.trail import (
    CaptureEntry,
    CodeEntry,
    ComplaintEntry,
    DecisionEntry,
    NoteEntry,
    PhotoEntry,
    ProofEntry,
    RepairEntry,
)
from sagen.report.job_pages import PageKind, Picture, data_uri, render_job
from sagen.report.plot import lane_svg
from sagen.report.printed import FindingPage, TapsPart, render_html, render_pdf
from sagen.report.rings import sensor_name


def finding_of_job(job: Job, opened: OpenCapture, weighed) -> FindingPage:
    """The printed finding's contents from what is open."""
    return FindingPage(
        examination=opened.examination,
        scene=opened.strip,
        suspects=weighed.suspects,
        checks=weighed.checks,
        beside=opened.beside,
        warnings=weighed.diagnosis.warnings,
        machine=job.machine,
        owner=job.owner,
        complaint="; ".join(entry_text(record) for record in job.records(ComplaintEntry)),
        codes=tuple(record.code for record in job.records(CodeEntry)),
        taps=taps_part(weighed.taps, job.records(DecisionEntry)),
        notes=tuple(
            entry_text(record) for kind in (NoteEntry, RepairEntry, ProofEntry) for record in job.records(kind)
        ),
    )


def taps_part(taps: JobTaps, decisions) -> TapsPart | None:
    """What is printed of the taps of a job; None where there are none and nothing was decided."""
    decided = entry_text(decisions[-1]).replace("\n", ". ") if decisions else ""
    verdict = taps.shown
    if verdict is None:
        return TapsPart((), (), decision=decided) if decided else None
    rows = []
    for at, key in enumerate(verdict.sensors):
        source, lowest, ring = verdict.sources[at], verdict.lowest_ohm[at], verdict.rings[at]
        rows.append((
            sensor_name(key.column, key.bank),
            share_words(verdict.relative[at]),
            tr("{value:,.0f} Hz", value=ring.value) if ring.known else tr("not read"),
            tr("{value:.0f} kΩ ({low:.0f} to {high:.0f})", value=source.ohm.value / 1000, low=source.ohm.low / 1000, high=source.ohm.high / 1000) if source else tr("not measured"),
            tr("{lowest:.0f} kΩ", lowest=lowest / 1000) if lowest else tr("not known"),
        ))  # fmt: skip
    found = tuple(f"{finding.channel}: {finding.text}" for finding in verdict.findings()) or (
        tr("Nothing wrong with any of the sensors."),
    )
    connection, pairs = before_and_after(taps)
    sides = tuple(
        (pair.name, _percent(pair.before), _percent(pair.after), _hertz(pair.ring_before), _hertz(pair.ring_after))
        for pair in pairs
    )
    missing = tuple(gap_words(gap) for gap in verdict.gaps)
    return TapsPart(tuple(rows), found, missing, load_words(connection) if pairs else "", sides, decided)


def _percent(share: float | None) -> str:
    return tr("not taken") if share is None else tr("{share:.0f} %", share=100 * share)


def _hertz(value: float | None) -> str:
    return tr("not read") if value is None else tr("{value:,.0f} Hz", value=value)


def write_report(path: Path, page: FindingPage) -> None:
    """Write the report as the suffix of `path` says, .html or .pdf; raises SagenError for another suffix or a disk that
    refuses."""
    write_page(path, render_html(page))


def write_page(path: Path, html: str) -> None:
    """Write a page as the suffix of `path` says, .html or .pdf; raises as `write_report`."""
    suffix = path.suffix.lower()
    if suffix not in (".html", ".pdf"):
        raise SagenError(tr("a report is written as .html or .pdf, not '{suffix}'", suffix=path.suffix))
    write_whole(path, html.encode() if suffix == ".html" else render_pdf(html))


MOST_PICTURES = 6  #: recordings whose pictures are printed


def pages_of_job(job: Job, weighed, log=None, *, workshop: str = "") -> dict[PageKind, str]:
    """The three pages of a job as HTML, with its photos and the pictures of its recordings where a log keeps them."""
    sheet = job_sheet(
        job, weighed, workshop=workshop, photos=_photo_uris(job, log), pictures=_pictures(job, log) if log else ()
    )
    return {page_kind: render_job(sheet, page_kind) for page_kind in PageKind}


def _photo_uris(job: Job, log) -> dict[str, str]:
    out = {}
    for record in job.records(PhotoEntry):
        try:
            out[record.token] = data_uri(
                with_arrow(log.captures.photo(record.token), record.arrow, record.words), "image/jpeg"
            )
        except (SagenError, AttributeError):
            continue  # a photo that is gone keeps no page from being printed
    return out


def _pictures(job: Job, log) -> list[Picture]:
    """The first sensor's channel of each recording, those before and after a repair under one another: both begin at a
    tooth 1, so that they lie in step."""
    pictures = []
    for entry in job.of(CaptureEntry)[-MOST_PICTURES:]:
        record = entry.record
        try:
            capture = log.capture(record.token)
            done = replace(examine(capture, record.sheet), findings=record.findings)
        except SagenError:
            continue
        opened = opened_capture(job.id, entry, done, build_pyramids(done.capture))
        lane = next(
            (this_lane for this_lane in opened.strip.lanes if done.sheet.of(this_lane.column) is not None), None
        )
        if lane is None:
            continue
        start, end = _from_tooth_one(done, lane.column)
        svg = lane_svg(opened.strip, lane, start_s=start, end_s=end)
        pictures.append(Picture(data_uri(as_utf8(svg).encode(), "image/svg+xml"), f"{record.name}: {lane.name}"))
    return pictures


def _from_tooth_one(done, column: str) -> tuple[float, float]:
    """Two turns from a tooth 1 on; the whole of what has no teeth."""
    reading = next((channel.reading for channel in done.channels if channel.sheet.column == column), None)
    if reading is None or len(reading.teeth.anchors) < 3:
        return 0.0, done.capture.seconds
    anchors = reading.teeth.anchors
    at = len(anchors) // 2
    first, last = reading.teeth.times[anchors[at - 1]], reading.teeth.times[anchors[min(at + 1, len(anchors) - 1)]]
    return float(first), float(last)
