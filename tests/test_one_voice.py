"""Card, suspects, papers, job file and command line say the same of one trail, and nothing that the trail does not hold.

Random trails go through every renderer. What is compared is the product's own words: no published source.
"""

import json
import re
from html import unescape

import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from tests.test_cli import sagen
from tests.test_whole_job import CAMS
from tests.trails import trails

from conftest import settle
from sagen.casework.headless import weighed_file
from sagen.casework.job_sheet import job_sheet
from sagen.casework.job_toml import job_toml
from sagen.casework.probing import probe_steps
from sagen.casework.way import way_of
from sagen.casework.weigh_job import weigh_job
from sagen.desk.panes.suspects import SuspectsPane
from sagen.model.circuit import CircuitSpec
from sagen.model.job import Entry, Job
from sagen.model.trail import CaptureEntry, CircuitEntry, CodeEntry, InspectionEntry, ReadingEntry, RepairEntry
from sagen.model.vocabulary import Leg
from sagen.model.words import CAUSES, surely
from sagen.reason.askable import SHAFT_TURNS, excluded_by
from sagen.reason.facts import knowledge
from sagen.report.job_pages import PageKind, render_job

# A trail is weighed for every example: what fails is told as it is, not made smaller for minutes.
few = settings(
    deadline=None, phases=(Phase.explicit, Phase.reuse, Phase.generate),
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)  # fmt: skip


def job_of(trail):
    return Job(1, None, "Brindle 2", "", 4, tuple(Entry(at + 1, None, record) for at, record in enumerate(trail)))


def text_of(sheet, page):
    """The words of a page, without its markup."""
    body = render_job(sheet, page).partition("<body")[2]
    return " ".join(unescape(re.sub(r"<[^>]+>", " ", body)).split())


def percentages(text):
    return set(re.findall(r"\d+ %", text))


@pytest.fixture(scope="module")
def pane(app):
    made = SuspectsPane()
    yield made
    made.deleteLater()


@few
@given(trails)
def test_window_and_papers_say_what_the_diagnosis_says(pane, trail):
    job = job_of(trail)
    weighed = weigh_job(job)
    found = weighed.diagnosis
    sheet = job_sheet(job, weighed)
    technician, work, customer = (text_of(sheet, PageKind(page)) for page in ("technician", "work", "customer"))
    pane.show_weighed(weighed.suspects, weighed.checks, found.advice, weighed.notes)
    beside = f"{pane.headline.text()} {pane.advice.text()} {pane.others.text()}"
    for told in (technician, beside):
        assert (found.why_not in told) == bool(found.why_not) or not found.why_not
        for _, text in found.misfit:
            assert text in told
    assert "100 %" not in technician + work + customer + beside
    if not found.suspects:
        return
    lead = found.suspects[0]
    # What is said of the lead in words is the figure that stands beside it.
    said = re.search(r"at (\d+ %)", found.advice.headline)
    assert said is None or said[1] == surely(lead.probability)
    assert surely(lead.probability) in percentages(technician)
    # At once, not when the bar has come to rest.
    assert [row.bar.probability for row in pane.rows if row.isVisibleTo(pane)] == [
        float(item.probability) for item in found.suspects if item.probability >= 0.01
    ][:6]
    assert (pane.rows[0].bar.cause, pane.rows[0].bar.fault) == (
        lead.cause,
        f"{lead.circuit}: {lead.title}" if lead.circuit else lead.title,
    )
    # What is named as shown is never said to be ruled out.
    named = {CAUSES[item.cause] for item in found.suspects if item.probability >= 0.01}
    assert not any(set(row.cells[0].split(", ")) & named for row in sheet.ruled_out)
    ruled_out = beside.partition("All but ruled out: ")[2]
    assert not any(CAUSES[item.cause].lower() in ruled_out for item in found.suspects if item.probability >= 0.01)
    # Nothing is told a customer as likely that is less likely than not, nor that he may go on where the engine may be lost.
    if not any(isinstance(record, RepairEntry) for record in trail):
        assert lead.probability >= 0.5 or "This is likely" not in customer
        assert (
            lead.probability >= 0.5
            or "How we know" not in customer
            or "not found yet" in customer
            or lead.cause == "none"
        )
        assert "Before and after" not in customer
    else:
        assert "Nothing done" not in customer
    assert found.stage == "proven" or bool(found.do_not) == ("must not be started" in customer)
    # The page for the customer asks for one more check only where the diagnosis does.
    if found.ready:
        assert "one more check" not in customer
    if found.checks:
        assert found.checks[0].text in technician
        assert found.checks[0].check.name.lower() in pane.card.title.text().lower()


def test_the_figure_in_words_is_that_of_the_bar_where_circuits_share(pane):
    fed = [
        reading for name in ("cam 1", "cam 2") for reading in (dead(name, "supply", 0.04), dead(name, "ground", 0.02))
    ]
    weighed = weigh_job(job_of([*CAMS, CodeEntry("P0340"), CodeEntry("P0345"), *fed]))
    lead = weighed.suspects[0]
    assert lead.cause == "supply"
    assert percentages(weighed.diagnosis.advice.text) == {surely(lead.probability)}


def dead(name, point, value):
    return ReadingEntry("volts", point, "key_on", value, circuit=name)


@few
@given(trails, st.booleans())
def test_papers_hold_only_what_was_seen_and_done(trail, twice):
    trail = trail * 2 if twice else trail
    job = job_of(trail)
    sheet = job_sheet(job, weigh_job(job))
    repairs = [record for record in trail if isinstance(record, RepairEntry)]
    assert len(sheet.done) == len(repairs)
    if not repairs:
        assert sheet.again == () or all("not taken again" in row.cells for row in sheet.again)
        assert "taken out" not in sheet.verdict
        assert not sheet.proved
        assert not sheet.owed
    if sheet.stage == "proven":
        assert repairs
        assert not sheet.owed
    assert len(sheet.captures) == sum(isinstance(record, CaptureEntry) for record in trail)


@few
@given(trails.map(lambda trail: [item for item in trail if not isinstance(item, CaptureEntry)]).filter(bool))
def test_a_trail_as_a_file_says_the_same_to_the_digit(tmp_path, trail):
    job = job_of(trail)
    path = tmp_path / "job.toml"
    path.write_text(job_toml(job))
    here, there = weigh_job(job).diagnosis, weighed_file(path).diagnosis
    # Circuits and card stand at the head of a file, so that an entry may have another number there.
    assert [text for _, text in there.misfit] == [text for _, text in here.misfit]
    assert {**there.as_row(), "misfit": ()} == {**here.as_row(), "misfit": ()}
    assert [item.as_row() for item in there.checks] == [item.as_row() for item in here.checks]
    assert [(item.cause, float(item.probability)) for item in there.suspects] == [
        (item.cause, float(item.probability)) for item in here.suspects
    ]
    assert there.notes == here.notes


def test_the_command_line_says_what_the_file_weighs_to(tmp_path):
    path = tmp_path / "job.toml"
    path.write_text(job_toml(job_of([CodeEntry("P0016"), InspectionEntry("timing_marks", "off")])))
    found = weighed_file(path).diagnosis
    row = json.loads(sagen("reason", path, "--json").stdout)
    assert row["do_not"] == list(found.do_not) != []
    assert row["repair"] == {"ready": found.ready, "text": found.advice.text}
    assert [item["check"] for item in row["next"]] == [item.check.name for item in found.checks[: len(row["next"])]]
    assert found.why_not in row["notes"]
    plain = sagen("reason", path).stdout
    assert found.why_not in plain
    assert found.advice.text in plain


@few
@given(trails)
def test_the_rules_hold_for_every_sort_of_trail(trail):
    weighed = weigh_job(job_of(trail))
    found = weighed.diagnosis
    # What the advice holds back no sum would do at once.
    assert weighed.ways is None or found.advice.enough or weighed.ways.ways[0].at is not None
    offered = [(item.check.slug, item.circuit) for item in found.checks]
    assert len(set(offered)) == len(offered)
    if found.do_not:
        assert found.why_not
        assert not [item.check.slug for item in found.checks if item.check.state in SHAFT_TURNS]
    # The badge of the stage has the figure of the bar.
    badge = next(item.said for item in way_of(trail, found) if item.leg == Leg.FOUND)
    assert not found.suspects or surely(found.suspects[0].probability) in badge
    # Nothing is open, so nothing is asked.
    assert not (found.stage == "proven" and found.checks)
    assert not found.ready or found.suspects[0].probability > 0.5
    assert sum(item.probability for item in found.suspects) < 1 + 1e-9
    for name, case in found.cases:
        steps = probe_steps(case.spec, None, name, turning=not found.do_not)
        assert not found.do_not or not [step.where for step in steps if step.state in SHAFT_TURNS]
        gone = excluded_by(case, knowledge())
        here = {item.check.slug for item in found.checks if item.circuit in ("", name) and not item.again}
        assert not gone & here


def test_with_the_timing_in_doubt_no_page_asks_to_crank_without_saying_so(desk):
    window = desk()
    window.workspace.add_job(
        "Brindle 2", "", 4, [CodeEntry("P0016"), CircuitEntry(CircuitSpec(role="cam", sensor="hall"))]
    )
    settle(window)
    window.workspace.add(InspectionEntry("timing_marks", "off"))
    settle(window)
    why = window.workspace.last_weighed.diagnosis.why_not
    assert why.startswith("Do not crank")
    window.show_with_job("live")
    assert window.page("live").caution.text().startswith(why)
    page = window.navigation.show_circuit()
    settle(window)
    for state, said in (("cranking", True), ("key_on", False)):
        page.aim("signal", state)
        settle(window)
        assert (why in page.entry.expect.text()) == said
    probe = window.commands.run("instruments.probe")
    settle(window)
    assert probe.steps
    assert why in probe.mind.text()
    assert not [step.where for step in probe.steps if step.state in SHAFT_TURNS]
    probe.close()
    settle(window)
