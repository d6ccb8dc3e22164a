"""What is printed of a job."""

from __future__ import annotations

from sagen.casework.open_capture import OpenCapture
from sagen.casework.words import entry_text
from sagen.model.job import Job
from sagen.model.trail import CodeEntry, ComplaintEntry, NoteEntry, ProofEntry, RepairEntry
from sagen.report.printed import FindingPage


def finding_of_job(job: Job, opened: OpenCapture, weighed) -> FindingPage:
    """The printed finding's contents from what is open."""
    return FindingPage(
        examination=opened.examination,
        scene=opened.strip,
        suspects=weighed.suspects,
        checks=weighed.checks,
        machine=job.machine,
        owner=job.owner,
        complaint="; ".join(entry_text(one) for one in job.records(ComplaintEntry)),
        codes=tuple(one.code for one in job.records(CodeEntry)),
        notes=tuple(entry_text(one) for kind in (NoteEntry, RepairEntry, ProofEntry) for one in job.records(kind)),
    )
