"""Asks a job log for the shop's own record."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from sagen.casework.command import Command
from sagen.casework.lessons import ShopLessons, lessons_of
from sagen.model.errors import SagenError
from sagen.model.language import tr

if TYPE_CHECKING:
    from sagen.store.log import JobLog

MOST_JOBS = 3000  #: newest first


@dataclass(frozen=True)
class LearnFromShop(Command):
    """The lessons of the newest jobs of the log; those that were drawn before, of jobs that did not change, are kept."""

    before: ShopLessons | None = None

    @property
    def doing(self) -> str:
        return "" if self.before else tr("Looking through the shop's own jobs")

    def perform(self, log: JobLog, progress=lambda share: True) -> ShopLessons:
        known = self.before.by_job if self.before else {}
        signs = log.repaired_jobs(MOST_JOBS)
        out = {}
        for at, (job_id, sign) in enumerate(signs.items()):
            if not progress(at / len(signs)):
                break
            if job_id in known and known[job_id][0] == sign:
                out[job_id] = known[job_id]
                continue
            try:
                out[job_id] = (sign, lessons_of(log.job(job_id).records()))
            except SagenError:
                continue  # deleted meanwhile, or of a circuit that makes no sense
        return ShopLessons(out)
