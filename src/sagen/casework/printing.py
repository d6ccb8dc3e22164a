"""Pages of a job or a capture, as commands."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.casework.command import Command, go_on
from sagen.casework.open_capture import OpenCapture
from sagen.casework.paper import finding_of_job, pages_of_job
from sagen.casework.weigh_job import Weighed
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.report.printed import render_html, render_pdf


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
        return tr("Making the page")

    def perform(self, log=None, progress=go_on) -> Printed:
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
        return tr("Making the printed finding")

    def perform(self, log=None, progress=go_on) -> Printed:
        if self.opened.job_id not in (None, self.job.id):
            raise SagenError(tr("the capture on the bench is of another job"))
        html = render_html(finding_of_job(self.job, self.opened, self.weighed))
        return Printed(self.job.id, html, render_pdf(html), file_name(self.job.machine))


def file_name(title: str) -> str:
    """A job's title as a file name, without suffix: at most 80 letters, and no more bytes than a disk takes."""
    plain = "".join(item if item.isalnum() else "-" for item in title).strip("-")[:80]
    return plain.encode()[:200].decode(errors="ignore") or "finding"
