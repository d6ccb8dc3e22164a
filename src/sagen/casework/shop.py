"""The shop's own record: how many parts it fitted, and how many of them came back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import pairwise

from sagen.casework.requests import Request
from sagen.model.proof import standing
from sagen.model.trail import Record, RepairEntry
from sagen.model.vocabulary import Origin, Part, ProofStep, Role
from sagen.reason.case import circuit_of

MOST_JOBS = 3000  #: newest first


def fitted_and_back(records: Iterable[Record], part: Part = Part.SENSOR) -> tuple[Counter, Counter]:
    """Of one job: parts fitted by origin, and those that did not hold: fitted again, or the complaint or its code back."""
    records = list(records)
    fitted, back = Counter(), Counter()
    at = [k for k, one in enumerate(records) if isinstance(one, RepairEntry) and one.part == part]
    for k, following in pairwise([*at, len(records)]):
        origin = records[k].origin
        fitted[origin] += 1
        nearest = next((j for j in range(k + 1, following) if isinstance(records[j], RepairEntry)), following)
        then = standing(records[k:nearest])
        refitted = following < len(records) and ProofStep.STAYED_AWAY not in then.done
        if refitted or then.came_back:
            back[origin] += 1
    return fitted, back


@dataclass(frozen=True)
class ShopRecord:
    """Fitted and come back, by origin."""

    job_id: int | None
    by_origin: dict[Origin, tuple[int, int]] = field(default_factory=dict)


@dataclass(frozen=True)
class AskShop(Request):
    """What became of the sensors of a role that this shop fitted."""

    role: Role = Role.KNOCK

    @property
    def doing(self) -> str:
        return "Looking through the shop's own jobs"

    def perform(self, log, progress=lambda share: True) -> ShopRecord:
        fitted, back = Counter(), Counter()
        jobs = list(log.jobs())[:MOST_JOBS]
        for at, summary in enumerate(jobs):
            if not progress(at / max(len(jobs), 1)):
                break
            records = log.job(summary.id).records()
            if circuit_of(records).role == self.role:
                some, came = fitted_and_back(records)
                fitted, back = fitted + some, back + came
        return ShopRecord(self.job_id, {one: (fitted[one], back[one]) for one in fitted})
