"""The shop's own record: what was proven shifts how common a fault is taken to be, and no further than was seen."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from conftest import settle, told
from sagen.casework.lessons import ShopLessons, lessons_of
from sagen.casework.shop import LearnFromShop
from sagen.casework.weighing import weigh_records
from sagen.cli import main
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import CircuitEntry, CodeEntry, NoteEntry, ProofEntry, ReadingEntry, RepairEntry
from sagen.model.vocabulary import Cause, Origin, Part, SensorKind
from sagen.reason.facts import SOUND, cause_of, knowledge
from sagen.reason.learned import NOTHING, WORTH, Learned
from sagen.reason.world import world_of
from sagen.store.opening import open_log

HALL = CircuitSpec(role="crank", sensor="hall", wheel="60-2")
PROOF = ProofEntry(("cleared", "stayed_away"))


def repaired(part, origin="original", *, proven=True, spec=HALL):
    """A job in which a part was changed, and what was found again and again proven."""
    low, good = ReadingEntry("volts", "supply", "key_on", 0.2, judged="outside"), ReadingEntry(
        "volts", "supply", "key_on", 12.3, judged="inside"
    )  # fmt: skip
    end = [good, PROOF] if proven else []
    return [*told("no_start", "P0335"), CircuitEntry(spec), low, RepairEntry(part, origin), *end]


def record(*jobs):
    return ShopLessons({number: ((0, 0), lessons_of(job)) for number, job in enumerate(jobs, start=1)})


def test_a_job_teaches_only_what_was_done_and_proven():
    assert lessons_of([*told("no_start"), CircuitEntry(HALL)]) == ()
    [one] = lessons_of(repaired("harness"))
    assert (one.proven, one.cured, one.sensor) == (True, Part.HARNESS, SensorKind.HALL)
    [one] = lessons_of(repaired("sensor", "aftermarket", proven=False))
    assert (one.proven, dict(one.fitted)) == (False, {Origin.AFTERMARKET: 1})
    [one] = lessons_of(repaired(None))
    assert not one.proven, "a repair of nobody knows what teaches nothing"
    cam = CircuitSpec(role="cam", sensor="hall", wheel="4")
    two = [CircuitEntry(HALL, circuit="crank"), CircuitEntry(cam, circuit="cam")]
    trail = [
        item if isinstance(item, ProofEntry) else replace(item, circuit="crank") for item in repaired("harness")[3:]
    ]
    found = {
        str(item.role): item.cured for item in lessons_of([*told("no_start", "P0335"), *two, *trail]) if item.proven
    }
    assert found == {"crank": Part.HARNESS, "cam": None}, "the other circuit was sound"


def test_counts_are_dirichlet_and_beta_as_in_a_textbook():
    facts, world = knowledge(), world_of(HALL)
    shipped = facts.weights(world.faults, "crank")
    learned = Learned({Part.HARNESS: 12.0, Part.SENSOR: 3.0, None: 2.0}, {Origin.AFTERMARKET: (20.0, 5.0)})
    found = learned.weights(facts, world.faults, "crank")
    causes = np.array(["sound" if fault == SOUND else str(cause_of(fault)) for fault in world.faults])
    groups = {"harness": ["wiring", "interference"], "sensor": ["sensor"], "sound": ["sound"]}
    counts = {"harness": 12, "sensor": 3, "sound": 2}
    alpha = [WORTH * shipped[np.isin(causes, names)].sum() for names in groups.values()]
    alpha.append(WORTH - sum(alpha))
    posterior = stats.dirichlet([*(a + counts[name] for a, name in zip(alpha, groups, strict=False)), alpha[-1]]).mean()
    for share, names in zip(posterior, groups.values(), strict=False):
        assert found[np.isin(causes, names)].sum() == pytest.approx(share)
    wiring = np.isin(causes, groups["harness"])
    np.testing.assert_allclose(found[wiring] / found[wiring].sum(), shipped[wiring] / shipped[wiring].sum())
    bad = facts.origins[Origin.AFTERMARKET]
    assert learned.bad(facts, Origin.AFTERMARKET) == pytest.approx(
        stats.beta(WORTH * bad + 5, WORTH * (1 - bad) + 15).mean()
    )
    np.testing.assert_array_equal(NOTHING.weights(facts, world.faults, "crank"), shipped)


def test_what_was_seen_shifts_the_suspects_and_no_more_than_that():
    trail = [*told("no_start", "P0335"), CircuitEntry(HALL)]

    def share(own):
        found = weigh_records(trail, {"": HALL}, record=own).suspects
        return {item.cause: item.probability for item in found}

    none, few, many = share(None), share(record(*[repaired("harness")] * 4)), share(record(*[repaired("harness")] * 40))
    assert none[Cause.WIRING] < few[Cause.WIRING] < many[Cause.WIRING] < 1
    # Forty jobs are worth as much as what ships, not more: of two equal voices none is silenced.
    assert many[Cause.SENSOR] > 0.3 * none[Cause.SENSOR]
    assert (
        share(record(*[repaired("harness", spec=CircuitSpec(role="crank", sensor="reluctance", wheel="60-2"))] * 40))
        == none
    )
    measured = [*trail, ReadingEntry("volts", "supply", "key_on_unplugged", 0.05, accuracy="0.8%+2")]
    [first, *_] = weigh_records(measured, {"": HALL}, record=record(*[repaired("sensor")] * 40)).suspects
    assert first.cause in (Cause.SUPPLY, Cause.WIRING), "a measurement outweighs any record"


def test_parts_that_came_back_make_the_next_one_doubted():
    trail = [*told("no_start", "P0335"), CircuitEntry(HALL), RepairEntry("sensor", "aftermarket"), *told("no_start")]
    bad = [*repaired("sensor", "aftermarket", proven=False), RepairEntry("sensor", "original")]

    def sensor(own):
        return {
            suspect.cause: suspect.probability for suspect in weigh_records(trail, {"": HALL}, record=own).suspects
        }[Cause.SENSOR]

    assert sensor(record(*[bad] * 20)) > 1.5 * sensor(None)


def test_a_job_teaches_nothing_of_itself_and_a_log_is_read_once(tmp_path):
    log = open_log(tmp_path)
    jobs = [log.add_job(f"Tarnbeck {number}") for number in range(4)]
    for job in jobs[:3]:
        for item in repaired("harness"):
            log.add_entry(job.id, item)
    own = LearnFromShop(None).perform(log)
    assert own.of(HALL).cured == {Part.HARNESS: 3.0}
    assert own.but(jobs[0].id).of(HALL).cured == {Part.HARNESS: 2.0}
    assert own.said(HALL) == "3 proven jobs"
    read, real = [], log.job
    log.job = lambda job_id: (read.append(job_id), real(job_id))[1]
    log.add_entry(jobs[1].id, NoteEntry("more"))
    again = LearnFromShop(None, own).perform(log)
    assert read == [jobs[1].id], "only what changed is read again"
    assert again.of(HALL) == own.of(HALL)
    log.close()


@pytest.mark.long
def test_the_record_is_shown_and_switched_off_with_one_key(desk):
    window = desk()
    workspace = window.workspace
    for machine in ("Tarnbeck 1", "Tarnbeck 2"):
        workspace.add_job(machine, "", 4, repaired("harness"))
        settle(window)
    workspace.add_job("Tarnbeck 3", "", 4, [CodeEntry("P0335"), CircuitEntry(HALL)])
    settle(window)
    with_it = [suspect.probability for suspect in workspace.last_weighed.suspects]
    assert window.suspects.record.text() == "Own record: 2 proven jobs"
    window.suspects.record.click()
    settle(window)
    assert window.suspects.record.text() == "Own record: off"
    assert [suspect.probability for suspect in workspace.last_weighed.suspects] != with_it
    window.commands.run("view.toggle_record")
    settle(window)
    assert [suspect.probability for suspect in workspace.last_weighed.suspects] == pytest.approx(with_it)


def test_a_named_log_weighs_in_on_the_command_line(tmp_path, capsys):
    log = open_log(tmp_path / "log")
    for _ in range(3):
        job = log.add_job("Tarnbeck")
        for item in repaired("harness"):
            log.add_entry(job.id, item)
    log.close()
    path = tmp_path / "job.toml"
    path.write_text('codes = ["P0335"]\n[circuit]\nrole = "crank"\nsensor = "hall"\nwheel = "60-2"\n')
    assert main(["reason", str(path)]) == 0
    assert "own record" not in capsys.readouterr().out
    assert main(["--log", str(tmp_path / "log"), "reason", str(path)]) == 0
    assert "the shop's own record weighs in: 3 proven jobs" in capsys.readouterr().out
    assert main(["--log", str(tmp_path / "none"), "reason", str(path)]) == 1
    assert "there is no job log" in capsys.readouterr().err
