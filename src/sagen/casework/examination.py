"""File, sheet and known-good capture to an examination: the one place where they meet."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType

import numpy as np

from sagen.files import load_sheet, read_capture, read_sheet, sheet_path
from sagen.files.jobs import StoredForm
from sagen.files.long_record import is_long, long_pyramids
from sagen.kinds import Examination, Pair, examine, kind_of
from sagen.model.capture import Capture
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import CaptureFileError, SagenError, SheetError
from sagen.model.language import later, tr
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CaptureFile,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    DamagedEntry,
    KeptReference,
    NewerEntry,
    Record,
)
from sagen.model.vocabulary import Capability, State
from sagen.signal.probe_factors import apply_probe_factors
from sagen.signal.pyramid import Pyramid
from sagen.store.codecs import decode

Progress = Callable[[float], bool]
MOST_KEPT = 120_000_000  #: samples of all channels that a trail keeps of one capture


@dataclass(frozen=True)
class Incoming:
    """A capture file on its way in: read, not yet kept. `problem` says what is wrong with what lies beside it."""

    path: Path
    capture: Capture
    sheet: Sheet | None = None
    reference: Pair | None = None
    problem: str = ""
    pyramids: dict[str, Pyramid] = field(default_factory=dict)
    recording: str = ""  #: the identity of the recording that it is; "" for a file


def read_pair(path: str | Path, sheet_file: str | Path | None = None) -> tuple[Capture, Sheet | None, Pair | None]:
    """A capture, its sheet, and the known-good capture that the sheet names.

    The sheet is the one given, else the one beside the capture; a known-good capture is looked for beside the sheet
    that names it.

    Raises
    ------
    SagenError
        for any of the files that cannot be read.
    """
    path = Path(path)
    sheet = load_sheet(sheet_file) if sheet_file else read_sheet(path)
    capture = read_capture(path)
    return capture, sheet, reference_of(sheet, Path(sheet_file) if sheet_file else sheet_path(path))


def reference_of(sheet: Sheet | None, sheet_file: Path) -> Pair | None:
    """The known-good capture that a sheet names, with its own sheet, else with this one; None where it names none."""
    if sheet is None or not sheet.reference:
        return None
    path = sheet_file.parent / sheet.reference
    if not _within(path, sheet_file.parent):
        # A stranger's sheet could have the program tell what stands in any other file.
        raise SheetError(
            tr(
                "known-good capture '{reference}': only one that lies beside its sheet is read",
                reference=sheet.reference[:60],
            )
        )
    try:
        return read_capture(path), read_sheet(path) or sheet
    except CaptureFileError as error:
        raise CaptureFileError(
            tr("known-good capture '{reference}': {error}", reference=sheet.reference, error=error)
        ) from None
    except SheetError as error:
        raise SheetError(
            tr("known-good capture '{reference}': {error}", reference=sheet.reference, error=error)
        ) from None


def _within(path: Path, folder: Path) -> bool:
    """Whether a path, its links followed, stays within a folder."""
    try:
        return path.resolve().is_relative_to(folder.resolve())
    except (OSError, ValueError, RuntimeError):
        return False


def read_incoming(path: Path) -> Incoming:
    """Read a capture and what lies beside it; what is wrong with its sheet is told, since the samples are sound."""
    capture = read_capture(path)
    sheet, reference, problem = None, None, ""
    try:
        sheet = read_sheet(path)
        reference = reference_of(sheet, sheet_path(path))
    except SagenError as error:
        problem = str(error)
    pyramids = long_pyramids(path, capture) if is_long(path) else build_pyramids(capture)
    return Incoming(path, capture, sheet, reference, problem, pyramids)


def in_sight(incoming: Incoming, start_s: float, end_s: float) -> Incoming:
    """A capture that is too long to be kept whole, cut to what is in sight, at most `MOST_KEPT` samples; others as they
    are. The whole stays where it lies."""
    capture = incoming.capture
    most = MOST_KEPT // max(len(capture.channels), 1)
    if capture.samples <= most:
        return incoming
    first = int(np.clip(start_s * capture.sfreq, 0, capture.samples - 1))
    stop = int(min(max(end_s * capture.sfreq, first + 64), first + most, capture.samples))
    holes = tuple((max(a, first) - first, min(b, stop) - first) for a, b in capture.holes if a < stop and b > first)
    note = later(
        "kept from {first:.3f} to {stop:.3f} s of {seconds:.0f} s; the whole lies in {path}",
        first=first / capture.sfreq,
        stop=stop / capture.sfreq,
        seconds=capture.seconds,
        path=str(incoming.path),
    )
    channels = tuple(replace(channel, raw=np.array(channel.raw[first:stop])) for channel in capture.channels)
    cut = replace(capture, channels=channels, holes=holes, notes=(*capture.notes, note))
    return replace(incoming, capture=cut, pyramids=build_pyramids(cut))


def build_pyramids(capture: Capture) -> dict[str, Pyramid]:
    """What draws each channel quickly, by column."""
    return {channel.column: Pyramid(channel.raw) for channel in capture.channels}


def capture_entry(examination: Examination, reference: KeptReference | None = None) -> CaptureEntry:
    """What a trail keeps of an examined capture."""
    return CaptureEntry(
        name=examination.capture.name,
        sheet=examination.sheet,
        findings=examination.findings,
        channels=tuple(channel.as_row() for channel in examination.channels),
        cadence=examination.cadence,
        strikes=examination.tapped.strikes.as_data() if examination.tapped else None,
        reference=reference,
    )


def kept_name(pair: Pair | None, token: str = "") -> KeptReference | None:
    """How a trail names the known-good capture that another one was examined against."""
    if pair is None:
        return None
    capture, sheet = apply_probe_factors(*pair)
    return KeptReference(capture.name, token, sheet)


def stated_sheet(capture: Capture, spec: CircuitSpec, cylinders: int | None) -> Sheet:
    """The sheet of a capture that has none, from what its job states."""
    kind = kind_of(spec.sensor)
    told = {"role": spec.role, "sensor": spec.sensor} | kind.stated(spec)
    told |= {"wheel": spec.wheel} if spec.wheel and kind.has(Capability.TURNS) else {}
    # A set that is struck is recorded together; of what turns the first channel is the sensor's.
    own = capture.channels[:1] if kind.has(Capability.TURNS) else capture.channels
    rows = [{"column": item.column, **told} for item in own]
    state = {} if kind.has(Capability.TURNS) else {"conditions": {"state": State.STRIKE}}
    return Sheet.from_data({"channel": rows, "engine": {"cylinders": cylinders} if cylinders else {}, **state})


def with_captures_read(
    records: tuple[Record, ...],
    folder: Path,
    spec: CircuitSpec,
    cylinders: int | None,
    circuits: Mapping[str, CircuitSpec] = MappingProxyType({}),
) -> tuple[Record, ...]:
    """A job file's trail with the captures that it names read and examined; raises SagenError naming the entry."""
    ready: list[Record] = []
    first = next((index for index, record in enumerate(records) if _of_the_trail(record)), 0)
    for index, this_record in enumerate(records):
        if isinstance(this_record, StoredForm):
            stored = decode(this_record.stored, this_record.version, this_record.json or this_record.data)
            if isinstance(stored, DamagedEntry | NewerEntry):
                why = (
                    stored.why
                    if isinstance(stored, DamagedEntry)
                    else tr("of a kind or version that is not known here")
                )
                raise SagenError(
                    tr(
                        "trail entry {index}: record '{stored}': {why}",
                        index=index - first + 1,
                        stored=this_record.stored[:40],
                        why=why,
                    )
                )
            ready.append(stored)
            continue
        if not isinstance(this_record, CaptureFile):
            ready.append(this_record)
            continue
        try:
            sheet_file = folder / this_record.sheet if this_record.sheet else None
            capture, sheet, reference = read_pair(folder / this_record.capture, sheet_file)
            own = circuits.get(this_record.circuit, spec)
            done = examine(capture, sheet or stated_sheet(capture, own, cylinders), reference=reference)
        except SagenError as error:
            said = str(error) if _within(folder / this_record.capture, folder) else _QUOTED.sub("...", str(error))
            raise SagenError(tr("trail entry {index}: {said}", index=index - first + 1, said=said)) from None
        ready.append(replace(capture_entry(done, kept_name(reference)), circuit=this_record.circuit))
    return tuple(ready)


#: what a file elsewhere holds is none of a job file's that somebody else wrote
_QUOTED = re.compile(r"'[^']*'")


def _of_the_trail(record: Record) -> bool:
    """Whether a record stands in the file's trail, not among its codes and complaints."""
    return not isinstance(record, CodeEntry | ComplaintEntry | CircuitEntry)


__all__ = [
    "Incoming", "Pair", "build_pyramids", "capture_entry", "kept_name", "read_incoming", "read_pair", "reference_of",
    "stated_sheet", "with_captures_read",
]  # fmt: skip
