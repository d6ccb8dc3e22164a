"""The Beside lens: both waves over the angle, their difference, and edges that agree with the comparison."""

from types import SimpleNamespace
from unittest.mock import patch

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from conftest import demo_log, full_jobs, settle, spin
from sagen.casework.examination import build_pyramids
from sagen.casework.laid_over import LayOtherBankUnder, banks_of
from sagen.casework.open_capture import opened_capture
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.job import Entry, Job
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry
from sagen.report.beside import BesideEdge
from sagen.signal.envelope import wave_band

SFREQ = 50_000.0


def cam_pair(late_deg, rpm=(220.0, 205.0)):
    """Crank 60-2 and a cam of two windows, the second capture's cam `late_deg` of the crank late: known by arithmetic."""
    made = []
    for speed, late in zip(rpm, (0.0, late_deg), strict=True):
        turns = speed / 60 * np.arange(round(4 * SFREQ)) / SFREQ + 0.13
        place = turns % 1.0 * 60
        crank = np.where((place % 1.0 < 0.5) & (place < 58), 0.1, 5.0)
        cam = (turns - late / 360) / 2 % 1.0
        cam = np.where(((cam > 0.1) & (cam < 0.3)) | ((cam > 0.55) & (cam < 0.6)), 0.1, 5.0)
        noise = np.random.default_rng(int(speed)).normal(0, 0.01, (2, len(turns)))
        rows = [
            Channel(name, (wave + off).astype(np.float32), "V")
            for name, wave, off in zip("AB", (crank, cam), noise, strict=True)
        ]
        made.append(Capture(f"{speed:g}.csv", SFREQ, tuple(rows)))
    sheet = Sheet.from_data({
        "conditions": {"state": "cranking"},
        "channel": [
            {"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0},
            {"column": "B", "role": "cam", "sensor": "hall", "pull_up": 5.0},
        ],
    })  # fmt: skip
    return (made[0], sheet), (made[1], sheet)


def opened(late):
    good, here = cam_pair(late)
    done = examine(*here, reference=good)
    return opened_capture(None, None, done, build_pyramids(done.capture))


@pytest.mark.parametrize("late", [12.0, -7.5])
def test_edges_and_waves_show_the_shift_that_was_made(late):
    scene = opened(late).beside["B"]
    assert (scene.what, scene.unit, scene.good_name) == ("edge", "V", "220.csv")
    assert len(scene.edges) == 4
    assert [edge.difference for edge in scene.edges] == pytest.approx([late] * 4, abs=0.3)
    assert scene.worst is not None
    # Between where an edge is in the good one and here the waves differ by the swing, and nowhere else.
    assert np.abs(scene.difference).max() == pytest.approx(4.9, abs=0.1)
    beyond = np.abs(scene.difference) > scene.band
    assert beyond.mean() * 720 == pytest.approx(4 * abs(late), rel=0.15)
    crank = opened(late).beside["A"]
    assert crank.what == "tooth"
    assert crank.worst is None
    assert np.mean(np.abs(crank.difference) > crank.band) < 0.02


def test_nothing_lies_beside_a_capture_without_a_known_good_one():
    _, here = cam_pair(0.0)
    done = examine(*here)
    assert opened_capture(None, None, done, build_pyramids(done.capture)).beside == {}


def test_an_edge_is_plainly_off_only_beyond_its_doubt():
    assert BesideEdge(1, 10.0, 12.0, 0.1).plain
    assert not BesideEdge(1, 10.0, 10.4, 0.01).plain  # a grid step is no difference
    assert not BesideEdge(1, 10.0, 12.0, 0.9).plain


def test_the_lens_opens_at_the_worst_edge_and_steps_by_keys(desk):
    window = desk(demo_log, demo=True)
    job = full_jobs(window.workspace.log)["Skerry Lantern 2.2"]
    window.workspace.open_job(job.id, open_capture=True)
    settle(window)
    page = window.page("capture")
    button = page.bar.lenses["beside"]
    assert button.isVisible()
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    spin()
    view = page.good.view
    assert page.column == "CH1"
    worst = view.scene.edges[view.edge]
    assert worst.difference == pytest.approx(16.5, abs=0.4)
    assert view.first < worst.good_deg < worst.here_deg < view.last
    assert page.good.table.rowCount() == len(view.scene.edges) == 6
    assert page.good.table.currentRow() == view.edge
    page.step_finding(1)
    assert page.good.table.currentRow() == view.edge != view.scene.worst
    wide = view.last - view.first
    QTest.keyClick(view, Qt.Key.Key_Up)
    assert view.last - view.first < wide
    QTest.keyClick(view, Qt.Key.Key_Home)
    assert (view.first, view.last) == (0.0, view.span)
    assert page.good.text().split("\n")[0].split("\t") == ["Edge", "Good", "Here", "Off", "±"]
    # By how far they are off, by a key; by its head the other way round, and in order again.
    QTest.keyClick(view, Qt.Key.Key_S)
    off = [abs(view.scene.edges[k].difference) for k in page.good.order]
    assert off == sorted(off, reverse=True)
    assert page.good.table.chosen() == view.edge
    page.good.table.horizontalHeader().sectionClicked.emit(3)
    assert [abs(view.scene.edges[k].difference) for k in page.good.order] == off[::-1]
    QTest.keyClick(view, Qt.Key.Key_S)
    assert page.good.order == list(range(6))
    # A capture without a known-good one has no such lens.
    other = next(item for name, item in full_jobs(window.workspace.log).items() if name == "Velmora Courier 2.6")
    window.workspace.open_job(other.id, open_capture=True)
    settle(window)
    assert not button.isVisible()
    assert page.lens != "beside"


def test_sound_ones_lie_within_their_band_and_one_that_is_late_does_not():
    good, here = cam_pair(9.0)
    among = [
        examine(*cam_pair(late, (190.0 + 7 * k, 200.0 + 11 * k))[1]) for k, late in enumerate((0.4, -0.5, 0.2, -0.3))
    ]
    done = examine(*here, reference=good)
    late = opened_capture(None, None, done, build_pyramids(done.capture), among).beside["B"]
    assert late.sound_of == 5
    sound = cam_pair(0.1, (220.0, 231.0))[1]
    done = examine(*sound, reference=good)
    kept = opened_capture(None, None, done, build_pyramids(done.capture), among).beside["B"]
    outside = [float(((item.here < item.sound[0]) | (item.here > item.sound[1])).mean()) for item in (kept, late)]
    assert outside[0] < 0.05
    # Four edges, nine degrees each, of a cycle of 720.
    assert outside[1] == pytest.approx(4 * 9 / 720, abs=0.02)
    wheel = opened_capture(None, None, done, build_pyramids(done.capture), among).beside["A"]
    assert wheel.sound_of == 5
    assert opened(9.0).beside["B"].sound is None


def test_a_band_holds_what_it_says_of_new_ones():
    """Against draws of the normal law by numpy: of new waves 95 % of all points lie within."""
    rng = np.random.default_rng(5)
    shares = []
    for _ in range(60):
        rows = rng.normal(2.0, 0.2, (4, 400))
        low, high = wave_band(rows)
        new = rng.normal(2.0, 0.2, 400)
        shares.append(float(((new >= low) & (new <= high)).mean()))
    assert np.mean(shares) == pytest.approx(0.95, abs=0.025)


def test_the_other_bank_lies_under_each():
    """Two cams of one engine, the second's windows 30 degrees of the crank later: known by arithmetic."""
    first, second = cam_pair(30.0, (220.0, 220.0))
    capture = Capture("v.csv", SFREQ, (*first[0].channels, Channel("C", second[0].channels[1].raw, "V")))
    row = {"role": "cam", "sensor": "hall", "pull_up": 5.0}
    sheet = Sheet.from_data({
        "conditions": {"state": "cranking"},
        "channel": [
            {"column": "A", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0},
            {"column": "B", "bank": 1, **row}, {"column": "C", "bank": 2, **row},
        ],
    })  # fmt: skip
    assert banks_of(sheet) == {"B": "C", "C": "B"}
    assert banks_of(first[1]) == {}
    log = SimpleNamespace(capture=lambda token: capture)
    entry = Entry(1, None, CaptureEntry("v.csv", sheet, token="x"))
    laid = LayOtherBankUnder(1, Job(1, None, "Brindle 2", "", 6, (entry,)), entry)
    with patch("sagen.casework.laid_over.stored_pyramids", lambda log, token, capture: build_pyramids(capture)):
        done = laid.perform(log)
    assert done.opened.examination.findings == ()
    by = {
        name: np.median([edge.difference for edge in scene.edges])
        for name, scene in done.opened.beside.items()
        if name != "A"
    }
    assert by["B"] == pytest.approx(-30.0, abs=0.4)
    assert by["C"] == pytest.approx(30.0, abs=0.4)
