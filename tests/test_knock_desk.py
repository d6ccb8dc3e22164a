"""The knock desk in the real window: the Rings lens, the guide, the decision, and the taps before and after."""

import json

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from tests.struck import Struck, sheet_of

from conftest import settle, spin
from sagen.casework.demo import _tapped
from sagen.casework.examination import capture_entry
from sagen.desk.app import demo_log
from sagen.desk.forms.checks import CaptureForm, LookForm
from sagen.desk.forms.decision import DecisionForm
from sagen.desk.lenses.rings import ALL, MEAN, SPANS_MS, RingsView
from sagen.desk.lenses.tap_guide import TapGuide
from sagen.files import sheet_path, write_capture, write_sheet
from sagen.kinds import examine
from sagen.model.trail import DecisionEntry, RepairEntry
from sagen.model.vocabulary import Connection, EntryKind, Origin
from sagen.report.rings import ring_scene

CURLEW = "Halyard Curlew 2.9 six"


@pytest.fixture
def knock(desk):
    window = desk(demo_log, demo=True)
    job = next(this_job.id for this_job in window.workspace.log.jobs() if this_job.machine == CURLEW)
    window.workspace.open_job(job, open_capture=True)
    settle(window)
    return window


def painted(widget) -> np.ndarray:
    image = widget.grab().toImage()
    return np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1, 4)[:, :, :3].copy()


def test_a_capture_of_taps_opens_in_rings_and_others_do_not(knock):
    page = knock.page("capture")
    assert page.lens == "rings"
    assert page.bar.lenses["turns"].isHidden()
    assert page.bar.lenses["wheel"].isHidden()
    assert "struck at rear" in page.about.whole()
    assert "27 kilohm" in page.about.whole()
    assert "All taps of this job together, CH1" in page.findings.words()
    jobs = {job.machine: job.id for job in knock.workspace.log.jobs()}
    knock.workspace.open_job(jobs["Plover Dray 4"], open_capture=True)
    settle(knock)
    assert page.lens == "strip"
    assert page.bar.lenses["rings"].isHidden()
    assert not page.bar.lenses["turns"].isHidden()


@pytest.mark.long
def test_keys_choose_strikes_zoom_and_read_time_height_and_frequency(knock):
    page = knock.page("capture")
    view = page.rings
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_M)
    assert view.shown == MEAN
    QTest.keyClick(view, Qt.Key.Key_Right)
    assert view.shown == 0
    assert page.bar.strikes.currentData() == 0
    QTest.keyClick(view, Qt.Key.Key_Up)
    assert view.span_ms == SPANS_MS[2]
    QTest.keyClick(view, Qt.Key.Key_Home)
    assert view.span_ms == SPANS_MS[-1]
    panel = view._waves_panel(view._areas()[0])
    y = int(panel.rect.center().y())
    for time in (1.0, 1.2):
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(round(panel.x(time)), y))
    apart = view.cursors["B"] - view.cursors["A"]
    assert apart == pytest.approx(0.2, abs=0.03)
    assert f"1/dt {1000 / apart:,.0f} Hz" in page.figures.whole()
    assert "CH1" in page.figures.whole()
    # What the cursor reads is the sample itself.
    scene = view.scene
    at = int(np.searchsorted(scene.times_ms, view.cursors["A"]))
    assert f"CH1 {scene.waves[0, 0, at]:+.3f} V" in page.figures.whole()
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert not view.cursors
    page.jump_to(0)
    assert isinstance(view.shown, int)


def test_the_waves_are_the_captures_own_samples():
    made = Struck(3, offset=1.0)
    done = examine(made.capture(), sheet_of(2))
    scene = ring_scene(done.capture, done.tapped)
    begin = round(float(done.tapped.strikes.time_s[1]) * made.sfreq)
    zero = int(np.searchsorted(scene.times_ms, 0.0))
    raw = done.capture.channels[0].raw[begin : begin + 300] - 1.0
    np.testing.assert_allclose(scene.waves[0, 1, zero : zero + 300], raw, atol=0.02)
    # The mean as if struck alike keeps the ratio of the sensors.
    weak = examine(Struck(3, gains=(1.0, 0.5)).capture(), sheet_of(2))
    means = [ring_scene(weak.capture, weak.tapped).mean_and_band(value)[0] for value in (0, 1)]
    assert np.abs(means[1]).max() / np.abs(means[0]).max() == pytest.approx(0.5, rel=0.05)
    peak = scene.hertz[int(scene.spectra[0].argmax())]
    assert peak == pytest.approx(6_870.0, rel=0.03)


@pytest.mark.long
@pytest.mark.sampled(1)
@pytest.mark.parametrize("strikes", [0, 1, 60])
def test_one_strike_and_sixty_are_drawn(app, strikes):
    taps = tuple(0.1 + 0.25 * np.arange(strikes))
    made = Struck(4, taps=taps, seconds=max(0.4, 0.3 + 0.25 * strikes), sfreq=1e5)
    done = examine(made.capture(), sheet_of(2))
    view = RingsView()
    view.resize(720, 480)
    view.show_scene(ring_scene(done.capture, done.tapped))
    for which in (ALL, MEAN, *([0] if strikes else [])):
        view.show_strikes(which)
        assert len(np.unique(painted(view).reshape(-1, 3), axis=0)) > 3
    assert bool(view.figures()) is False


@pytest.mark.long
def test_the_guide_follows_what_comes_in(knock, tmp_path):
    page = knock.page("capture")
    before = [gap.what for gap in page.taps.now.gaps]
    assert before == ["plugged"]
    capture, sheet = _tapped("more.csv", "front", Connection.PLUGGED, 8).make()
    write_capture(tmp_path / "more.csv", capture)
    write_sheet(sheet_path(tmp_path / "more.csv"), sheet)
    knock.bring_in([str(tmp_path / "more.csv")])
    settle(knock)
    incoming = knock.page("incoming")
    assert incoming.place.currentText() == "front"
    assert incoming.connection.currentData() == Connection.PLUGGED
    assert "answers" in incoming.told.text()
    incoming._keep()
    settle(knock)
    assert page.taps.now.gaps == ()
    guide = TapGuide(page.taps.now)
    guide.resize(640, 140)
    assert painted(guide).std() > 1


@pytest.mark.long
def test_a_set_brought_in_without_a_sheet_is_asked_of_once(knock, tmp_path):
    capture, _ = _tapped("bare.csv", "rear", Connection.LOADED, 9).make()
    write_capture(tmp_path / "bare.csv", capture)
    knock.bring_in([str(tmp_path / "bare.csv")])
    settle(knock)
    page = knock.page("incoming")
    page.connection.setCurrentIndex(page.connection.findData(Connection.LOADED))
    page.place.setEditText("rear")
    page.extra.setText("27000")
    page.bank.setText("1")
    sheet = page.sheet()
    assert [item.role for item in sheet.channel] == ["knock", "knock"]
    assert [item.load_ohm for item in sheet.channel] == [27_000.0, 27_000.0]
    assert sheet.conditions.place == "rear"
    page.bank.setText("many")
    settle(knock)
    assert not page.accept.isEnabled()
    page.bank.setText("")
    page._keep()
    settle(knock)
    # The next capture is mostly taken likewise.
    knock.bring_in([str(tmp_path / "bare.csv")])
    settle(knock)
    assert page.place.currentText() == "rear"
    assert page.connection.currentData() == Connection.LOADED


@pytest.mark.long
def test_the_decision_answers_as_it_is_typed_and_is_kept_and_printed(knock, monkeypatch):
    form = DecisionForm(knock.workspace.last_weighed.taps, {Origin.ORIGINAL: (5, 0)}, knock)
    assert [box.isChecked() for box in form.failed] == [True, False]
    assert "Still needed" in form.told.text()
    assert form.problem()
    form.price.setText("80")
    form.hours.setText("3,5")
    form.rate.setText("90")
    assert form.origin.currentData() == Origin.UNKNOWN
    form.origin.setCurrentIndex(form.origin.findData(Origin.ORIGINAL))
    assert form.problem() == ""
    assert "5 of this origin fitted, 0 came back" in form.shop.text()
    assert form.choice.count() == 2
    form.price.setText("-4")
    assert "below zero" in form.told.text()
    form.price.setText("abc")
    assert form.problem()
    form.price.setText("80")
    for box in form.failed:
        box.setChecked(False)
    assert "failed" in form.told.text()
    form.failed[0].setChecked(True)

    def answer(self):
        self.price.setText("80")
        self.hours.setText("3.5")
        self.rate.setText("90")
        return 1

    monkeypatch.setattr(DecisionForm, "exec", answer)
    knock.commands.run("entries.add", EntryKind.DECISION)
    settle(knock)
    entry = knock.workspace.job.entries[-1]
    assert isinstance(entry.record, DecisionEntry)
    assert entry.record.choice in ("fit one", "fit both")
    json.dumps(entry.record.choices)
    knock.commands.run("jobs.show_report")
    settle(knock)
    html = knock.page("report").html
    assert "Decided while it was open" in html
    assert "All taps together" in html
    assert "Strikes answered" in html


@pytest.mark.long
def test_before_and_after_stand_side_by_side_on_screen_and_paper(knock):
    log, job = knock.workspace.log, knock.workspace.job.id

    def put(made):
        capture, sheet = made.make()
        done = examine(capture, sheet)
        log.add_capture(job, done.capture, capture_entry(done))

    put(_tapped("plugged-before.csv", "front", Connection.PLUGGED, 5))
    log.add_entry(job, RepairEntry("sensor", "original"))
    put(_tapped("plugged-after.csv", "front", Connection.PLUGGED, 6, ()))
    knock.workspace.open_job(job, open_capture=True)
    settle(knock)
    page = knock.page("capture")
    spin(50)
    assert page.taps.repaired
    assert page.taps.before.blames
    knock.commands.run("jobs.show_report")
    settle(knock)
    html = knock.page("report").html
    assert "Before and after the repair, plugged in" in html


@pytest.mark.long
def test_a_tap_check_offers_file_stand_in_and_reading_by_eye(knock, monkeypatch):

    card = next(
        check for check in knock.suspects.card.checks if check.check.slug == "light_tap_plugged_beside_its_twin"
    )
    seen = {}

    def look(self):
        seen["eye"] = self.eye.isHidden()
        seen["guide"] = bool(self.findChildren(TapGuide))
        self.by_eye = True
        return 1

    def tell(self):
        self.outcome.setCurrentIndex(self.outcome.findData("weak"))
        return 1

    monkeypatch.setattr(CaptureForm, "exec", look)
    monkeypatch.setattr(LookForm, "exec", tell)
    knock.commands.run("captures.do_check", card)
    settle(knock)
    assert seen == {"eye": False, "guide": True}
    assert knock.workspace.job.entries[-1].record.outcome == "weak"
    assert not [check for check in knock.suspects.card.checks if check.check.slug == card.check.slug]
