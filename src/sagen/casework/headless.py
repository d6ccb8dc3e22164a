"""Captures and job files by themselves, without a log: what the command line does with them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from sagen.casework.diagnosis import Diagnosis
from sagen.casework.examination import build_pyramids, capture_entry, kept_name, read_pair, with_captures_read
from sagen.casework.hearing import with_sound
from sagen.casework.lessons import ShopLessons
from sagen.casework.open_capture import opened_capture
from sagen.casework.paper import pages_of_job
from sagen.casework.shop import LearnFromShop
from sagen.casework.weigh_job import weigh_job
from sagen.casework.weighing import weigh_records
from sagen.files.jobs import read_job
from sagen.kinds import Examination, examine
from sagen.kinds.piezo.verdict import TapVerdict, judge_taps, same_pair
from sagen.kinds.piezo.words import gap_notes, verdict_row
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.finding import Suspect
from sagen.model.finding_words import OPEN_ALONE
from sagen.model.job import Entry, Job
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.trail import CircuitEntry
from sagen.model.vocabulary import Role, SensorKind
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.reason.checks import next_checks
from sagen.reason.history import Case
from sagen.reason.posterior import Posterior
from sagen.reason.weights import weigh
from sagen.report.printed import FindingPage
from sagen.signal.tapped import Tapped

#: loaded when a log is named: most of what is examined or weighed needs none
opening, places = lazy("sagen.store.opening"), lazy("sagen.store.places")


@dataclass(frozen=True)
class ExaminedFile:
    """A capture file, what it shows, and whom that makes suspect."""

    examination: Examination
    suspects: tuple[Suspect, ...]
    case: Case
    posterior: Posterior


def examined_file(path: str | Path, sheet_file: str | Path | None = None) -> ExaminedFile:
    """Examine one capture with its sheet and known-good capture, and weigh what it shows; raises SagenError."""
    capture, sheet, reference = read_pair(path, sheet_file)
    done = examine(capture, sheet, reference=reference)
    entry = replace(capture_entry(done, kept_name(reference)), cadence=None)
    case = case_of([entry], circuit_of_sheet(done.sheet, done.findings))
    suspects, posterior = weigh(case)
    return ExaminedFile(done, suspects, case, posterior)


def page_of_file(path: str | Path, sheet_file: str | Path | None = None):
    """The printed finding of one capture file; raises SagenError."""
    found = examined_file(path, sheet_file)
    opened = opened_capture(None, None, found.examination, build_pyramids(found.examination.capture))
    checks = next_checks(found.case, found.posterior)
    return FindingPage(found.examination, opened.strip, found.suspects, checks, beside=opened.beside)


@dataclass(frozen=True)
class StruckFiles:
    """The captures of one knock job judged together."""

    verdict: TapVerdict
    suspects: tuple[Suspect, ...]
    notes: tuple[str, ...]
    failed: tuple[tuple[str, str], ...] = ()  #: files that could not be read, and why

    def as_row(self) -> dict:
        """All of it as the command line prints it."""
        row = verdict_row(self.verdict)
        row |= {"suspects": [suspect.as_row() for suspect in self.suspects], "notes": list(self.notes)}
        return row | ({"errors": [{"capture": a, "error": b} for a, b in self.failed]} if self.failed else {})


def struck_files(paths: Sequence[str | Path], sounds: Sequence[str | Path] = ()) -> StruckFiles:
    """Judge the captures of one knock job together, the known-good ones that their sheets name among them; a file that
    cannot be read is told and left out. `sounds` are those of the taps, one for each capture in their order.

    Raises
    ------
    SagenError
        where none can be read, or no strike is in them.
    """
    if sounds and len(sounds) != len(paths):
        raise SagenError(
            tr(
                "{sounds} sounds for {captures} captures: one for each, in their order",
                sounds=len(sounds),
                captures=len(paths),
            )
        )
    entries, tapped, good, notes, failed = [], [], [], [], []
    for at, path in enumerate(paths):
        try:
            capture, sheet, reference = read_pair(path)
            done = examine(capture, sheet, reference=reference)
            if done.tapped is None:
                raise SagenError(tr("no channel of its sheet is a knock sensor's"))
            if sounds:
                done = replace(done, tapped=replace(done.tapped, strikes=with_sound(done.tapped.strikes, sounds[at])))
        except SagenError as error:
            failed.append((str(path), str(error)))
            continue
        entries.append(capture_entry(done, kept_name(reference)))
        tapped.append(done.tapped)
        notes += [f"{Path(path).name}: {note}" for note in done.notes if OPEN_ALONE not in note]
        if reference is not None and done.pattern_tapped is not None:
            (tapped if same_pair(done.tapped, done.pattern_tapped) else good).append(done.pattern_tapped)
    if failed and not entries:
        raise SagenError("; ".join(f"{path}: {why}" for path, why in failed[:3]))
    verdict = judge_taps(_once(tapped), _once(good))
    if verdict is None:
        raise SagenError(
            tr(
                "{paths}: no strike stands above the noise in any of them",
                paths=", ".join(Path(this_path).name for this_path in paths[:4]),
            )
        )
    gravest = verdict.gravest()
    bank = verdict.sensors[gravest].bank if gravest is not None else None
    spec = CircuitSpec(role=Role.KNOCK, sensor=SensorKind.PIEZO, bank=bank)
    suspects, _ = weigh(case_of(entries, spec))
    return StruckFiles(verdict, suspects, (*notes, *gap_notes(verdict)), tuple(failed))


def _once(captures: list[Tapped]) -> list[Tapped]:
    """Captures without those that stand twice: a known-good one is often given as a file as well."""
    seen, out = set(), []
    for capture in captures:
        key = (capture.strikes.columns, capture.strikes.time_s.tobytes(), capture.strikes.answers.height.tobytes())
        if key not in seen:
            seen.add(key)
            out.append(capture)
    return out


@dataclass(frozen=True)
class WeighedFile:
    """A job file weighed; rows of a job of several circuits name theirs."""

    diagnosis: Diagnosis
    #: what the diagnosis tells beside the suspects, with what was noticed while the file was read
    notes: tuple[str, ...]

    def as_row(self, most_checks: int) -> dict:
        """All of it as the command line prints it."""
        return {
            "suspects": [suspect.as_row() for suspect in self.diagnosis.suspects],
            "next": [check.as_row() for check in self.diagnosis.checks[:most_checks]],
            "notes": list(self.notes),
            **self.diagnosis.as_row(),
        }


def record_of_log(name: str) -> ShopLessons:
    """What the jobs of a log taught, by the log's folder or URL; raises SagenError."""
    log = opening.open_log(places.existing_place(name))
    try:
        return LearnFromShop(None).perform(log)
    finally:
        log.close()


def weighed_file(path: str | Path, record: ShopLessons | None = None) -> WeighedFile:
    """Weigh one job file, its captures read and examined, with a shop's own record where one is given; raises SagenError
    naming what is wrong and where."""
    job = read_job(path)
    records = with_captures_read(job.trail, job.folder, job.circuit, job.engine.cylinders, job.circuits)
    circuits = job.circuits or {"": job.circuit}
    told = weigh_records(
        records, circuits, job.gear, job.strategy, job.access, job.opened, record, first=len(job.trail) - job.entries
    )
    counted = (
        []
        if record is None
        else [tr("the shop's own record weighs in: {values}", values=record.said(next(iter(circuits.values()))))]
    )
    return WeighedFile(told, (*counted, *told.notes, *job.notes))


def pages_of_job_file(path: str | Path) -> dict:
    """The three pages of a job file; raises SagenError."""
    job = read_job(path)
    records = with_captures_read(job.trail, job.folder, job.circuit, job.engine.cylinders, job.circuits)
    if not job.circuits:
        records = (CircuitEntry(job.circuit), *records)
    now = datetime.now()
    entries = tuple(Entry(number, now, record) for number, record in enumerate(records, start=1))
    whole = Job(0, now, Path(path).stem, "", job.engine.cylinders, entries)
    return pages_of_job(whole, weigh_job(whole, job.gear, job.strategy))
