"""Captures and job files by themselves, without a log: what the command line does with them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from sagen.casework.examination import build_pyramids, capture_entry, kept_name, read_pair, with_captures_read
from sagen.codes.lookup import beside, unknown_codes
from sagen.files.jobs import read_job
from sagen.kinds import Examination, Pair, examine
from sagen.model.finding import Suspect
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.reason.checks import Advice, NextCheck, advice, next_checks
from sagen.reason.weigh import Case, Posterior, weigh


@dataclass(frozen=True)
class ExaminedFile:
    """A capture file, what it shows, and whom that makes suspect."""

    examination: Examination
    suspects: tuple[Suspect, ...]
    case: Case
    posterior: Posterior
    reference: Pair | None


def examined_file(path: str | Path, sheet_file: str | Path | None = None) -> ExaminedFile:
    """Examine one capture with its sheet and known-good capture, and weigh what it shows; raises SagenError."""
    capture, sheet, reference = read_pair(path, sheet_file)
    done = examine(capture, sheet, reference=reference)
    entry = replace(capture_entry(done, kept_name(reference)), cadence=None)
    case = case_of([entry], circuit_of_sheet(done.sheet, done.findings))
    suspects, posterior = weigh(case)
    return ExaminedFile(done, suspects, case, posterior, reference)


def page_of_file(path: str | Path, sheet_file: str | Path | None = None):
    """The printed finding of one capture file; raises SagenError."""
    from sagen.casework.open_capture import opened_capture
    from sagen.report.printed import FindingPage

    found = examined_file(path, sheet_file)
    opened = opened_capture(None, None, found.examination, build_pyramids(found.examination.capture), found.reference)
    checks = next_checks(found.case, found.posterior)
    return FindingPage(found.examination, opened.strip, found.suspects, checks)


@dataclass(frozen=True)
class WeighedFile:
    """A job file weighed."""

    suspects: tuple[Suspect, ...]
    checks: tuple[NextCheck, ...]
    advice: Advice
    odd: tuple[str, ...]  #: what codes mean together, and readings that no fault explains


def weighed_file(path: str | Path) -> WeighedFile:
    """Weigh one job file, its captures read and examined; raises SagenError naming what is wrong and where."""
    job = read_job(path)
    records = with_captures_read(job.trail, job.folder, job.circuit, job.engine.cylinders)
    case = case_of(records, job.circuit, job.gear, job.strategy, job.access, job.opened)
    suspects, posterior = weigh(case)
    checks = next_checks(case, posterior)
    odd = (*job.notes, *unknown_codes(job.codes), *beside(list(job.codes)), *posterior.odd)
    return WeighedFile(suspects, checks, advice(case, posterior, checks), odd)
