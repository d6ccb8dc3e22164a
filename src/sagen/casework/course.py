"""The course: lessons as data, each a kind of machine to practise on, and cases that a teacher hands over as a file."""

from __future__ import annotations

import base64
import binascii
import json
import tomllib
import zlib
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from sagen.artifacts.atomic import write_whole
from sagen.codes.lookup import meaning
from sagen.files.circuits import load_toml
from sagen.machine.faults import possible
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.proof import Stage, standing
from sagen.model.sheet import first_fault
from sagen.model.text import as_utf8
from sagen.model.trail import CircuitEntry, CodeEntry, ComplaintEntry, Record, ReplacedEntry
from sagen.model.vocabulary import CodeKind, Complaint, Part
from sagen.reason.facts import SOUND

#: loaded when a case is written
tomlkit = lazy("tomlkit")

#: the circuits that machines to practise on are drawn of
FAMILIES = {
    "crank hall": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "crank coil": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0)),
    "cam hall": CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="4"),
    "speed current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
    "speed hall": CircuitSpec(role="speed", sensor="hall", supply=12.0, pull_up=5.0, wheel="48"),
}
Share = Annotated[float, Field(ge=0, le=1)]
#: a case is a page of text
MOST_BYTES = 65_536


class Lesson(BaseModel):
    """One row of the course."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    slug: Annotated[str, Field(pattern=r"^[a-z0-9_]{1,40}$")]
    title: Annotated[str, Field(min_length=1, max_length=60), AfterValidator(tr)]
    family: str
    faults: Annotated[tuple[tuple[str, ...], ...], Field(min_length=1)]
    sizes: tuple[Share, Share]
    history: Share = 0.0
    bad_part: Share = 0.0
    looks: Annotated[str, AfterValidator(tr)]


def parse_course(text: str, where: str) -> tuple[Lesson, ...]:
    """The lessons of a table; raises SagenError with what is wrong."""
    try:
        lessons = tuple(Lesson(**row) for row in tomllib.loads(text)["lesson"])
    except (ValueError, KeyError, TypeError) as error:
        raise SagenError(f"{where}: {str(error)[:200]}") from None
    for lesson in lessons:
        if lesson.family not in FAMILIES:
            raise SagenError(
                tr("{where}: {slug}: there is no family {family}", where=where, slug=lesson.slug, family=lesson.family)
            )
        there = {SOUND, *(item.slug for item in possible(FAMILIES[lesson.family]))}
        unknown = [item for some in lesson.faults for item in some if item not in there]
        if unknown:
            raise SagenError(
                tr(
                    "{where}: {slug}: a circuit of this kind has no fault {unknown}",
                    where=where,
                    slug=lesson.slug,
                    unknown=unknown[0],
                )
            )
    return lessons


@cache
def course() -> dict[str, Lesson]:
    """The shipped lessons by slug, in their order."""
    text = files("sagen.casework").joinpath("course.toml").read_text(encoding="utf-8")
    return {item.slug: item for item in parse_course(text, "course.toml")}


class PracticeCase(BaseModel):
    """A machine that a teacher made of a proven job: no name of a person, machine or shop is in it."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    circuit: CircuitSpec
    faults: dict[str, Share]
    complaint: Complaint | None = None
    codes: tuple[CodeKind, ...] = ()
    changed_before: tuple[Part, ...] = ()

    @model_validator(mode="after")
    def _possible(self):
        there = {item.slug for item in possible(self.circuit)}
        unknown = [item for item in self.faults if item not in there]
        if unknown:
            raise ValueError(tr("a circuit of this kind has no fault {unknown}", unknown=unknown[0][:40]))
        return self

    @property
    def letters(self) -> str:
        """The case as the note of its job keeps it: packed, not secret."""
        data = self.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
        packed = zlib.compress(json.dumps(data, separators=(",", ":")).encode(), 9)
        return base64.b32encode(packed).decode().rstrip("=")


def case_in(letters: str) -> PracticeCase:
    """The case of a note; raises SagenError for what is none."""
    try:
        packed = base64.b32decode(letters + "=" * (-len(letters) % 8))
        text = zlib.decompressobj().decompress(packed, MOST_BYTES)
        return PracticeCase(**json.loads(text))
    except (ValueError, TypeError, binascii.Error, zlib.error, RecursionError) as error:
        raise SagenError(tr("this practice job cannot be read: {error}", error=str(error)[:120])) from None


def read_case(path: str | Path) -> PracticeCase:
    """A teacher's case; raises SagenError with file and what is wrong."""
    path = Path(path)
    if path.is_file() and path.stat().st_size > MOST_BYTES:
        raise SagenError(tr("{name}: far too large for a case", name=path.name))
    data = load_toml(path, "case")
    try:
        return PracticeCase(**data)
    except ValidationError as error:
        raise SagenError(f"{path.name}: {first_fault(error, PracticeCase)}") from None
    except TypeError as error:
        raise SagenError(f"{path.name}: {str(error)[:120]}") from None


@dataclass(frozen=True)
class Taught:
    """What a proven job can teach: the fault that its repair cured, and how grave it is taken to be."""

    fault: str
    severity: float


def case_of_job(job: Job, taught: Taught) -> PracticeCase:
    """A case of a proven job.

    Parameters
    ----------
    job : Job
    taught : Taught
        the fault mode that it was

    Raises
    ------
    SagenError
        for a job that is not proven, or that states no circuit.
    """
    records = job.records()
    if standing(records).stage != Stage.PROVEN:
        raise SagenError(tr("only of a proven job is it known what was wrong: prove the repair first (Ctrl+E)"))
    stated = job.records(CircuitEntry)
    if not stated:
        raise SagenError(tr("state the circuit of this job first: a case is a machine that can be measured"))
    if taught.fault == SOUND:
        raise SagenError(tr("nothing was wrong with it: there is no fault to hide"))
    return PracticeCase(
        circuit=stated[-1].spec, faults={taught.fault: round(taught.severity, 2)},
        complaint=next((item.complaint for item in job.records(ComplaintEntry) if item.complaint), None),
        codes=tuple(dict.fromkeys(_code_kinds(records))),
        changed_before=tuple(dict.fromkeys(item.part for item in job.records(ReplacedEntry))),
    )  # fmt: skip


def _code_kinds(records: Iterable[Record]) -> Iterable[CodeKind]:
    for record in records:
        if isinstance(record, CodeEntry):
            if record.says:
                yield record.says
                continue
            try:
                yield meaning(record.code).kind
            except SagenError:
                continue


def write_case(path: str | Path, case: PracticeCase) -> None:
    """Write a case as TOML, whole or not at all."""
    data = case.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    write_whole(
        Path(path),
        as_utf8("# A machine to practise on. Opening it tells what is wrong.\n" + tomlkit.dumps(data)).encode(),
    )
