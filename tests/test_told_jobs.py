"""Forty jobs as a technician tells them at the end: the cause where the work ended leads, and nothing silly or dangerous is asked.

Common practice, no published source; the jobs are in `data/told_jobs.toml`, their machines are made up.
"""

import tomllib
from pathlib import Path

import pytest

from sagen.casework.headless import weighed_file
from sagen.reason.checks import ONCE_MORE
from sagen.reason.facts import knowledge

JOBS = tomllib.loads((Path(__file__).parent / "data" / "told_jobs.toml").read_text(encoding="utf-8"))["job"]
#: what a check does, by what its row says, and a word of the caution that must stand at it
MUST_SAY = [
    (lambda row: row["moves_shaft"], "belts"),
    (lambda row: row["moves_shaft"] and row["state"] in ("cranking", "start"), "neutral or park"),
    (lambda row: row["state"] == "metal_near", "coils and injectors"),
    (lambda row: row["kind"] == "capture", "battery negative"),
    (lambda row: row["state"] in ("running", "wiggle"), "exhaust burn"),
    (lambda row: "heat gun" in row["text"].lower(), "no fuel and no plastic"),
    (lambda row: row["kind"] == "swap", "brittle"),
]


def slug(row):
    return knowledge().check(row["check"]).slug


@pytest.mark.sampled(4)
@pytest.mark.parametrize("job", JOBS, ids=[f"{number:02}" for number in range(len(JOBS))])
def test_the_cause_leads_and_nothing_silly_or_dangerous_is_asked(job, tmp_path):
    path = tmp_path / "job.toml"
    path.write_text(job["text"], encoding="utf-8")
    told = weighed_file(path).as_row(8)
    assert told["suspects"][0]["cause"] in job["cause"], told["suspects"][:3]
    first = [row for row in told["next"][:3] if not row["text"].startswith(ONCE_MORE)]
    assert not {slug(row) for row in first} & set(job["never"])
    if job.get("first"):
        assert {slug(row) for row in first} & set(job["first"])
    for row in told["next"]:
        for does, word in MUST_SAY:
            assert not does(row) or any(word in caution for caution in row["cautions"]), (row["check"], word)
        assert not (row["moves_shaft"] and "crank" in told["do_not"]), row["check"]
    if told["repair"]["ready"]:
        assert told["suspects"][0]["probability"] >= 0.6


def test_there_are_forty_of_many_ends():
    assert len(JOBS) == 40
    assert {cause for job in JOBS for cause in job["cause"]} >= {
        "sensor", "air_gap", "reluctor", "wiring", "supply", "ground", "module", "timing", "engine", "interference", "none",
    }  # fmt: skip
