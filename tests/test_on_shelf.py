"""The shelf finds known-good captures by the wheel's pattern: without a card, in another state, of another machine."""

from dataclasses import replace
from types import SimpleNamespace

import pytest

from conftest import demo_log, full_jobs, settle, square_teeth
from sagen.casework.laid_over import LayModelUnder, modelled_by
from sagen.casework.patterns import on_shelf
from sagen.casework.shelf import LookAtPattern
from sagen.desk.app import own_log
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.pattern import Pattern, fits
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry

SFREQ = 50_000.0


def sheet(wheel="60-2", state="cranking", cylinders=4, sensor="hall", role="crank"):
    row = (
        {"column": "CH1", "role": role, "pull_up": 5.0}
        | ({"wheel": wheel} if wheel else {})
        | ({"sensor": sensor} if sensor else {})
    )
    return Sheet.from_data({"engine": {"cylinders": cylinders}, "conditions": {"state": state}, "channel": [row]})


def wave(slots=60, missing=2):
    return Capture("here.csv", SFREQ, (Channel("CH1", square_teeth(slots=slots, missing=missing)),))


class Shelf:
    """A log whose shelf holds these."""

    def __init__(self, *patterns):
        self.shelf = self
        self.rows = [(k, item) for k, item in enumerate(patterns, 1)]

    def patterns(self):
        return self.rows


def pattern(name, given, card="Brindle 2", circuit="crank", number=1):
    return Pattern(name, name, given, "after_repair", card, circuit, 200.0, number)


JOB = Job(1, None, "brindle 2", "", 4, ())


def test_the_best_fit_comes_first_and_what_differs_is_said():
    log = Shelf(
        pattern("other machine", sheet(), card="Dunnock 3"), pattern("running", sheet(state="running")), pattern("twin", sheet()),
        pattern("six", sheet(cylinders=6), card="Dunnock 3"),
    )  # fmt: skip
    found = on_shelf(log, JOB, examine(wave(), sheet()))
    assert [item.pattern.name for item in found] == ["twin", "running", "other machine", "six"]
    assert found[0].differs == ()  # the machine's name in other letters is the same machine
    assert any("running" in word for word in found[1].differs)
    assert found[2].differs == ("of Dunnock 3",)
    assert "6 cylinders" in found[3].differs


@pytest.mark.parametrize("wheel", ["60-2", None])
def test_a_wheel_that_was_not_stated_is_found_by_what_is_seen(wheel):
    log = Shelf(pattern("good", sheet(), card=""), pattern("another wheel", sheet("36-1"), card=""))
    found = on_shelf(log, Job(1, None, "", "", 4, ()), examine(wave(), sheet(wheel)))
    assert [item.pattern.name for item in found] == ["good"]
    assert "machine not stated" in found[0].differs


def test_another_wheel_or_another_sensor_is_never_offered():
    log = Shelf(
        pattern("36-1", sheet("36-1")), pattern("cam", sheet("4", role="cam")), pattern("speed", sheet("48", role="speed")),
    )  # fmt: skip
    assert on_shelf(log, JOB, examine(wave(), sheet())) == []


def test_the_window_offers_them_where_none_lies_under_it(desk, tmp_path):
    window = desk(own_log(tmp_path / "log"))
    log = window.workspace.log
    token = log.captures.put(wave())
    log.shelf.keep_pattern(Pattern("good.csv", token, sheet(), "after_repair", "Dunnock 3", "crank", 200.0))
    here = wave()
    from sagen.casework.import_answers import Incoming

    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    window.workspace.keep_incoming(Incoming(tmp_path / "here.csv", here, sheet()), sheet(), from_shelf=False)
    settle(window)
    shelf = window.navigation.show_page("shelf")
    settle(window)
    for words, rows in (("60-2 dunnock", 1), ("DUNNOCK cranking", 1), ("36-1", 0), ("", 1)):
        shelf.search.setText(words)
        assert shelf.patterns.rowCount() == rows, words
    assert shelf.view.look is None
    shelf.patterns.selectRow(0)
    settle(window)
    assert shelf.view.isVisible()
    assert "good.csv" in shelf.view.look.said
    assert "wheel 60-2" in shelf.view.accessibleDescription()
    window.navigation.back_to_job()
    page = window.page("capture")
    assert [item.pattern.name for item in page.bar.menu.offers] == ["good.csv"]
    assert "One known-good capture on the shelf has this pattern" in page.findings.words()
    page.bar.menu._offer()
    under = next(action.menu() for action in page.bar.menu.actions() if action.text() == "Lay under it")
    under.actions()[0].trigger()
    settle(window)
    assert page.opened.beside
    assert "on the shelf" not in page.findings.words()
    assert full_jobs(log)["Brindle 2"].entries


def test_a_look_at_a_known_good_one_shows_a_turn_or_two_with_its_levels_and_its_gaps():
    """Levels and gaps as `square_teeth` makes them, by arithmetic."""
    capture = wave()
    made = replace(pattern("good.csv", sheet()), by="Ivo")
    look = LookAtPattern(None, made).perform(SimpleNamespace(capture=lambda token: capture))
    (lane,) = look.lanes
    assert (lane.name, lane.unit) == ("crankshaft", "V")
    assert (lane.least, lane.most) == (pytest.approx(0.1, abs=0.06), pytest.approx(5.0, abs=0.06))
    # Half of all columns and more hold a tooth; of a turn and a half at 200 rpm at least one gap stays high throughout.
    still = "".join(
        "h" if low > 4.0 else "l" if high < 1.0 else "e" for low, high in zip(lane.low, lane.high, strict=True)
    )
    assert max(map(len, still.replace("l", "e").split("e"))) > 2 * max(
        len(item) for item in still.replace("e", "h").split("h")
    )
    assert "by Ivo" in look.said
    assert Pattern.from_data(made.as_data()).by == "Ivo"
    assert Pattern.from_data({key: value for key, value in made.as_data().items() if key != "by"}).by == ""


def test_a_known_good_one_of_the_only_circuit_of_its_machine_fits_without_a_name():
    cam = sheet(wheel=None, role="cam")
    kept = pattern("cam", cam, circuit="")
    assert fits(kept, cam, "Brindle 2", "")
    assert not fits(kept, cam, "Dunnock 3", "")
    assert not fits(kept, sheet(wheel=None, role="cam", sensor="reluctance"), "Brindle 2", "")
    assert not fits(pattern("wheel", sheet(), circuit=""), sheet(wheel="36-1"), "Brindle 2", "")


def test_what_the_model_expects_lies_under_a_capture_and_adds_no_finding():
    log = demo_log()
    job = full_jobs(log)["Tarnbeck Fell 1.8"]
    entry = next(item for item in job.entries if isinstance(item.record, CaptureEntry))
    laid = LayModelUnder(job.id, job, entry).perform(log)
    done = laid.opened.examination
    assert tuple(done.findings) == tuple(entry.record.findings)
    crank = next(item.sheet.column for item in done.channels if item.sheet.role == "crank")
    assert laid.opened.beside[crank].good_words == "what the model expects of a sound one"
    # The tooth that is gone here is there in what is expected.
    assert 34 in laid.opened.drawings[crank].reading.teeth.lost
    assert not laid.opened.drawings[crank].pattern.teeth.lost
    cam = Sheet.from_data(
        {"conditions": {"state": "cranking"}, "channel": [{"column": "A", "role": "cam", "wheel": "4"}]}
    )
    assert modelled_by(cam) == ""
    unknown = Sheet.from_data({"conditions": {"state": "cranking"}, "channel": [{"column": "A", "role": "crank"}]})
    assert modelled_by(unknown) == ""
    with pytest.raises(SagenError, match="state the wheel"):
        LayModelUnder(job.id, job, replace(entry, record=replace(entry.record, sheet=unknown))).perform(log)
