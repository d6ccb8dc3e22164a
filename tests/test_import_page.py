"""Bringing a capture in: what is asked, what is shown of it meanwhile, and what bad answers and bad files do."""

import pytest

from conftest import settle, spin, told
from sagen.casework.examination import Incoming, read_incoming
from sagen.casework.import_answers import first_look
from sagen.kinds import KINDS
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry


@pytest.fixture
def brought(desk, make_csv):
    """A window with a capture on its import page."""

    def bring(**teeth):
        window = desk()
        window.workspace.add_job("Brindle 2", "", 4, told())
        window.workspace.bring_in([make_csv(**teeth)])
        settle(window)
        return window, window.page("incoming")

    return bring


def test_the_sheet_beside_the_file_fills_the_answers(brought):
    _, page = brought(lost=(9,))
    assert page.wheel.text() == "60-2"
    assert page.role.currentData() == "crank"
    assert "wheel 60-2" in page.told.text()
    assert page.accept.isEnabled()


def test_a_file_without_a_sheet_is_asked_about(brought):
    _, page = brought(sheet=False)
    assert page.wheel.text() == ""
    assert page.accept.isEnabled()
    # Found from the data alone.
    assert "wheel 60-2" in page.told.text()


@pytest.mark.sampled(1)
@pytest.mark.parametrize(("wheel", "said"), [("sixty", "is not of the form"), ("60-60", "60-60"), ("1-1", "1-1")])
def test_a_nonsense_wheel_is_named_and_holds_the_capture_back(brought, wheel, said):
    window, page = brought(sheet=False)
    page.wheel.setText(wheel)
    page._answered()
    settle(window)
    assert not page.accept.isEnabled()
    assert said in page.told.text()
    page._keep()
    assert not window.workspace.job.of(CaptureEntry)
    page.wheel.setText("60-2")
    page._answered()
    assert page.accept.isEnabled()
    settle(window)
    assert "wheel 60-2" in page.told.text()


def test_fields_fit_the_role_and_the_sensor(brought):
    window, page = brought(sheet=False)
    asked = {}
    for kind in KINDS:
        page.sensor.setCurrentIndex(page.sensor.findData(kind))
        assert page.right.isRowVisible(page.polarity) == (kind == "reluctance")
        asked[str(kind)] = page.extra_name.text() if page.right.isRowVisible(page.extra) else None
    # Common practice: an open collector needs its pull-up to be judged, a current loop the resistor that it flows through; a coil needs neither; what stands across a knock sensor is stated.
    assert asked == {"hall": "Pull-up", "reluctance": None, "current": "Resistor", "piezo": "Load"}
    page.role.setCurrentIndex(page.role.findData("supply"))
    assert not page.wheel.isEnabled()
    assert page.extra_name.text() == "Nominal"
    settle(window)


def test_of_quick_answers_the_last_is_shown(brought):
    window, page = brought(sheet=False)
    for wheel in ("58", "36-1", "60-2"):
        page.wheel.setText(wheel)
        page._answered()
    settle(window)
    assert "wheel 60-2" in page.told.text()
    assert page.sheet().channel[0].wheel == "60-2"


def test_a_look_at_a_capture_that_was_left_is_not_shown(brought, make_csv):
    window, page = brought(lost=(9,))
    old = page.incoming
    first, strip = first_look(old, page.sheet())
    window.workspace.leave_incoming()
    window.workspace.bring_in([make_csv("other.csv", lost=(20,), seconds=1.0)])
    settle(window)
    told, shown = page.told.text(), page.preview.strip
    page._previewed(old, first, strip)
    assert page.told.text() == told
    assert page.preview.strip is shown


def test_a_known_good_file_is_read_beside_the_work_and_can_be_left_out(brought, make_csv):
    window, page = brought(lost=(9,))
    good = make_csv("good.csv", rpm=260.0)
    page.use_good(good)
    assert page.incoming.reference is None
    settle(window)
    assert page.incoming.reference[0].name == "good.csv"
    assert page.good.text().startswith("good.csv")
    page._choose_good()
    assert page.incoming.reference is None


def test_a_bad_known_good_file_is_told_and_the_capture_stays(brought, tmp_path):
    window, page = brought(lost=(9,))
    bad = tmp_path / "bad.csv"
    bad.write_text("nothing,here\nat,all\n")
    page.use_good(bad)
    settle(window)
    assert page.problem.text().startswith("bad.csv: ")
    assert page.good.text() == "Choose a file"
    assert page.accept.isEnabled()
    page._keep()
    settle(window)
    assert [entry.record.name for entry in window.workspace.job.of(CaptureEntry)] == ["a.csv"]


def test_a_good_file_for_a_capture_that_was_left_changes_nothing(brought, make_csv):
    window, page = brought(lost=(9,))
    page.use_good(make_csv("good.csv", rpm=260.0))
    page.incoming = Incoming(page.incoming.path, page.incoming.capture, page.incoming.sheet)
    settle(window)
    assert page.incoming.reference is None


@pytest.mark.long
def test_only_the_first_part_of_a_long_capture_is_looked_at(make_csv):
    incoming = read_incoming(make_csv(seconds=12.0))
    sheet = Sheet.from_data({"channel": [{"column": "CH1", "role": "crank", "sensor": "hall"}]})
    first, strip = first_look(incoming, sheet)
    # 400 000 of 600 000 samples are examined, all of them are drawn.
    assert first.channels[0].reading.samples == 400_000
    assert strip.samples == 600_000
    assert len(strip.lanes[0].pyramid.raw) == 600_000


def test_a_broken_sheet_beside_a_sound_file_is_told_and_asked_for(desk, make_csv):
    path = make_csv()
    path.with_name("a.sheet.toml").write_text('[[channel]]\ncolumn = "CH1"\nrole = "crnk"\n')
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, told())
    window.workspace.bring_in([path])
    settle(window)
    page = window.page("incoming")
    assert "crnk" in page.problem.text()
    assert page.accept.isEnabled()
    spin()
