"""The pages of a whole job: for the customer, for the next technician, and the parts and work list. One set of templates,
HTML and PDF; a job prints without any capture. Everything that a person or a file said is escaped by the template engine."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from sagen import __version__
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.text import as_utf8
from sagen.report.printed import in_language

#: loaded when it is first asked: its import takes longer than most of what is done without it
jinja2 = lazy("jinja2")


class PageKind(StrEnum):
    """Which page."""

    CUSTOMER = "customer"
    TECHNICIAN = "technician"
    WORK = "work"


TITLES = {
    PageKind.CUSTOMER: tr("What was found and done"), PageKind.TECHNICIAN: tr("For the next technician"),
    PageKind.WORK: tr("Parts and work"),
}  # fmt: skip


@dataclass(frozen=True)
class Row:
    """A line of a table: its cells, and how it is to be taken ("sound", "bad", "": neither)."""

    cells: tuple[str, ...]
    mark: str = ""


@dataclass(frozen=True)
class Picture:
    """A picture in the page, as a data URI, with words under it."""

    uri: str
    words: str = ""


@dataclass(frozen=True)
class CircuitPart:
    """One circuit: what it is, its wires, where it sits and what is published of it."""

    title: str
    lines: tuple[str, ...] = ()
    wires: tuple[Row, ...] = ()
    published: tuple[Row, ...] = ()


@dataclass(frozen=True)
class JobSheet:
    """Everything that goes on the pages, in words."""

    machine: str
    owner: str = ""
    number: int = 0
    workshop: str = ""
    stage: str = ""
    complaint: str = ""
    codes: tuple[str, ...] = ()
    verdict: str = ""  #: what was found, in one sentence
    everyday: str = ""  #: the same in everyday words
    why: tuple[str, ...] = ()
    done: tuple[str, ...] = ()
    proved: tuple[str, ...] = ()
    owed: tuple[str, ...] = ()
    cost: tuple[Row, ...] = ()
    otherwise: tuple[str, ...] = ()  #: what happens if the cheap part is fitted, or nothing is done
    seen: tuple[Row, ...] = ()
    readings: tuple[Row, ...] = ()
    captures: tuple[Row, ...] = ()
    again: tuple[Row, ...] = ()
    suspects: tuple[Row, ...] = ()
    ruled_out: tuple[Row, ...] = ()
    changed: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    circuits: tuple[CircuitPart, ...] = ()
    steps: tuple[Row, ...] = ()
    parts: tuple[Row, ...] = ()
    offers: tuple[Row, ...] = ()
    advice: str = ""  #: whether it is good enough to repair, or what is owed
    warnings: tuple[str, ...] = ()  #: what must not be done now, and what does not fit
    next: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()
    pictures: tuple[Picture, ...] = ()
    photos: tuple[Picture, ...] = ()
    made: datetime = field(default_factory=datetime.now)


def data_uri(data: bytes, kind: str) -> str:
    """A picture that stands in the page itself."""
    return f"data:{kind};base64,{base64.b64encode(data).decode()}"


def render_job(sheet: JobSheet, kind: PageKind) -> str:
    """One of the pages as self-contained HTML."""
    environment = in_language(jinja2.Environment(
        loader=jinja2.PackageLoader("sagen.report", ""), autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True,
        lstrip_blocks=True,
    ))  # fmt: skip
    template = environment.get_template(f"{kind}.html")
    return as_utf8(template.render(job=sheet, title=TITLES[kind], version=__version__))
