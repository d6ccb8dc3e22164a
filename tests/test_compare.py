"""A capture beside a known-good one: every edge, level and slope against what arithmetic and SciPy say."""

import base64
import csv
import json
import re
from xml.etree import ElementTree

import numpy as np
import pytest
from scipy import signal
from scipy.signal import lfilter
from tests.test_cli import sagen

from conftest import square_teeth
from sagen.casework.patterns import compared_words
from sagen.files import write_capture, write_sheet
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.language import speak
from sagen.model.sheet import Sheet
from sagen.model.wheel import Wheel
from sagen.signal.cam_difference import turns_alike

SFREQ = 50_000.0
RPM = 200.0
VANES = ((30.0, 90.0), (210.0, 250.0), (400.0, 500.0), (620.0, 650.0))  #: low from and to, crank degrees of the cycle


def turned(seconds=4.0, rpm=RPM, phase=0.3):
    """Crank degrees of an even shaft."""
    return 360.0 * (rpm / 60.0 * np.arange(round(seconds * SFREQ)) / SFREQ + phase)


def cam(angle, vanes=VANES, late=0.0, low=0.1, high=5.0, tau=0.0, noise=0.01, seed=1):
    place = (angle - late) % 720.0
    level = np.where(np.any([(place >= a) & (place < b) for a, b in vanes], axis=0), low, high)
    if tau:
        a = np.exp(-1.0 / (tau * SFREQ))
        level = lfilter([1 - a], [1, -a], level, zi=[a * level[0]])[0]
    return level + np.random.default_rng(seed).normal(0, noise, len(angle))


def crank(angle, slots=60, gone=(59, 60), noise=0.01, seed=2):
    slot = (angle % 360.0) / 360.0 * slots
    tooth = (slot % 1.0 < 0.5) & ~np.isin(np.floor(slot).astype(int) + 1, gone)
    return np.where(tooth, 0.1, 5.0) + np.random.default_rng(seed).normal(0, noise, len(angle))


def row(column, role, **more):
    return {"column": column, "role": role, "sensor": "hall", "pull_up": 5.0, **more}


def capture(name="here.csv", **columns):
    return Capture(name, SFREQ, tuple(Channel(key, np.asarray(v, np.float32)) for key, v in columns.items()))


def sheet(*rows, state="cranking", cylinders=4):
    data = {"engine": {"cylinders": cylinders}, "conditions": {"state": state}, "channel": list(rows)}
    return Sheet.from_data(data, where="test")


BOTH = (row("A", "crank", wheel="60-2"), row("B", "cam"))


def pair(late=0.0, vanes=VANES, phase=0.7, rpm=230.0, **how):
    good, here = turned(), turned(rpm=rpm, phase=phase)
    first = capture("good.csv", A=crank(good), B=cam(good))
    return capture(A=crank(here, seed=5), B=cam(here, vanes, late, seed=6, **how)), (first, sheet(*BOTH))


def compared(found):
    return {item.sheet.column: item.comparison for item in found.channels}


def kinds(found):
    return [str(item.kind) for item in found.findings]


# edges ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("late", [-14.0, -2.8, 0.0, 1.5, 2.8, 9.0])
def test_every_edge_is_so_many_degrees_late(late):
    """Against the angle by which the cam was drawn late; its falls and rises at the degrees of VANES."""
    here, good = pair(late)
    found = examine(here, sheet(*BOTH), reference=good)
    difference = compared(found)["B"].cam
    assert found.fit == "same state"
    assert difference.offset == pytest.approx(late, abs=0.1)
    assert len(difference.edges) == 8
    # The crank's angle is counted from its first tooth in either turn of the cycle: all edges are off by the same.
    drawn = np.array([angle for vane in VANES for angle in vane])
    seen = np.array([edge.good_deg for edge in difference.edges])
    assert min(np.ptp(seen - np.sort((drawn + turn) % 720.0)) for turn in (0.0, 360.0)) < 0.5
    for edge in difference.edges:
        assert edge.difference == pytest.approx(late, abs=0.25)
        assert 0.01 < edge.u < 0.3
    # Told from 2.5 degrees on, and always with its interval.
    assert ("timing_offset" in kinds(found)) == (abs(late) >= 2.5)
    row = found.as_row()["channels"][1]["comparison"]
    assert row["offset_low"] <= late + 0.1
    assert row["offset_high"] >= late - 0.1


def test_the_shift_is_that_of_a_cross_correlation_over_angle():
    here, good = pair(8.0, rpm=RPM, phase=0.3)
    angle = turned()
    grid = np.arange(720.0, angle[-1] - 720.0, 0.25)
    mine, theirs = (np.interp(grid, angle, item.channel("B").values()) for item in (here, good[0]))
    lags = signal.correlation_lags(len(grid), len(grid))
    best = lags[signal.correlate(mine - mine.mean(), theirs - theirs.mean()).argmax()] * 0.25
    found = examine(here, sheet(*BOTH), reference=good)
    assert compared(found)["B"].cam.offset == pytest.approx(best, abs=0.3)


def test_one_vane_out_of_place_is_that_vane_and_no_timing():
    bent = (*VANES[:2], (406.0, 506.0), VANES[3])
    here, good = pair(vanes=bent)
    found = examine(here, sheet(*BOTH), reference=good)
    assert kinds(found) == ["odd_tooth"]
    moved = compared(found)["B"].cam.moved
    assert [edge.difference for edge in moved] == pytest.approx([6.0, 6.0], abs=0.3)
    assert moved[1].edge == moved[0].edge + 1
    assert "6.0° of the crank late while the others agree" in found.findings[0].text


@pytest.mark.parametrize(("vanes", "shape"), [
    (tuple((720.0 - b, 720.0 - a) for a, b in VANES), "mirrored"), (((10.0, 200.0), (300.0, 340.0), (420.0, 700.0)), "other"),
])  # fmt: skip
def test_another_cam_wheel_is_said_to_be_one(vanes, shape):
    here, good = pair(vanes=vanes)
    found = examine(here, sheet(*BOTH), reference=good)
    assert compared(found)["B"].cam.shape == shape
    assert kinds(found) == ["wrong_pattern"]


def test_a_wheel_whose_gaps_return_counts_its_cycle_from_either():
    # 60-2-2 with gaps opposite one another looks the same after half a turn.
    assert turns_alike(Wheel(60, 2, (29, 30))) == (0.0, 180.0, 360.0, 540.0)
    assert turns_alike(Wheel(60, 2)) == (0.0, 360.0)
    rows = (row("A", "crank", wheel="60: 29-30, 59-60"), row("B", "cam"))
    good, here = turned(phase=0.1), turned(phase=0.7)
    gone = (29, 30, 59, 60)
    first = capture("good.csv", A=crank(good, gone=gone), B=cam(good))
    second = capture(A=crank(here, gone=gone), B=cam(here, late=11.0))
    found = examine(second, sheet(*rows), reference=(first, sheet(*rows)))
    assert compared(found)["B"].cam.offset == pytest.approx(11.0, abs=0.2)


# channels -------------------------------------------------------------------------------------------------------


def test_channels_are_matched_by_role_and_pattern_and_never_by_name():
    other = ((100.0, 160.0), (300.0, 420.0), (600.0, 640.0))
    good, here = turned(), turned(phase=0.8)
    first = capture("good.csv", A=crank(good), B=cam(good), C=cam(good, other))
    # The same names, in another order: A is a cam now, and the cams lie the other way round.
    second = capture(A=cam(here, other, late=4.0), B=crank(here), C=cam(here))
    rows = (row("A", "cam"), row("B", "crank", wheel="60-2"), row("C", "cam"))
    firsts = (row("A", "crank", wheel="60-2"), row("B", "cam"), row("C", "cam"))
    found = examine(second, sheet(*rows), reference=(first, sheet(*firsts)))
    assert compared(found)["A"].other == "C"
    assert compared(found)["C"].other == "B"
    assert compared(found)["A"].cam.offset == pytest.approx(4.0, abs=0.2)
    assert compared(found)["C"].cam.offset == pytest.approx(0.0, abs=0.2)
    assert any("matched by their pattern" in note for note in found.notes)


# levels and slopes ----------------------------------------------------------------------------------------------


def test_levels_that_are_within_their_limits_but_not_those_of_the_good_one():
    for how, kind in (({"low": 0.6}, "low_not_pulled_down"), ({"high": 4.2}, "high_not_reached")):
        here, good = pair(**how)
        found = examine(here, sheet(*BOTH), reference=good)
        assert kinds(found) == [kind]
        assert "known-good" in found.findings[0].text
    here, good = pair(low=0.25, high=4.8)
    assert kinds(examine(here, sheet(*BOTH), reference=good)) == []


@pytest.mark.parametrize("tau", [40e-6, 100e-6])
def test_a_rise_is_that_of_ieee_181(tau):
    """IEEE Std 181-2011, 5.3.4: from 10 to 90 % of the swing; of an exponential that is ln 9 time constants."""
    here, good = pair(tau=tau)
    found = examine(here, sheet(*BOTH), reference=good)
    rise = compared(found)["B"].rise_us
    assert rise.here == pytest.approx(np.log(9.0) * tau * 1e6, rel=0.08)
    assert rise.good < 25.0
    assert kinds(found) == ["high_not_reached"]


# whether it is fit ----------------------------------------------------------------------------------------------


def test_an_unfit_known_good_capture_is_said_and_weighs_nothing():
    here, good = pair(12.0)
    first, first_sheet = good
    angle = turned()
    cases = {
        "the same capture": ((here, sheet(*BOTH)), sheet(*BOTH)),
        "recorded running": ((first, sheet(*BOTH, state="running")), sheet(*BOTH)),
        "another engine": ((first, sheet(*BOTH, cylinders=6)), sheet(*BOTH)),
        "another wheel, 36-1": (
            (capture("good.csv", A=crank(angle, 36, (36,))), sheet(row("A", "crank", wheel="36-1"))), sheet(*BOTH),
        ),
        "too short": ((capture("good.csv", **{c.column: c.raw[:12_000] for c in first.channels}), first_sheet), sheet(*BOTH)),
        "shows a fault itself": (
            (capture("good.csv", A=crank(angle, gone=(21, 59, 60)), B=cam(angle)), first_sheet), sheet(*BOTH),
        ),
    }  # fmt: skip
    for why, (reference, own) in cases.items():
        found = examine(here, own, reference=reference)
        assert found.fit.startswith("unfit"), why
        assert why in found.fit
        assert "timing_offset" not in kinds(found)
        assert any("was not compared" in note for note in found.notes)


def test_at_another_speed_a_phaser_is_no_belt():
    good, here = turned(rpm=800.0, seconds=3.0), turned(rpm=2_000.0, seconds=2.0)
    first = capture("good.csv", A=crank(good), B=cam(good))
    second = capture(A=crank(here), B=cam(here, late=18.0))
    running = sheet(*BOTH, state="running")
    found = examine(second, running, reference=(first, running))
    assert found.fit == "other rpm"
    assert compared(found)["B"].cam.offset == pytest.approx(18.0, abs=0.5)
    assert kinds(found) == []


def test_what_is_wrong_in_both_is_said_to_be():
    rows = (row("A", "crank", wheel="60-2"),)
    good, here = (square_teeth(seconds=3.0, sfreq=SFREQ, lost=(31,), phase=phase) for phase in (0.1, 0.6))
    found = examine(capture(A=here), sheet(*rows), reference=(capture("good.csv", A=good), sheet(*rows)))
    assert any("good.csv shows the same" in note for note in found.notes)


# the command line -----------------------------------------------------------------------------------------------


@pytest.fixture
def files(tmp_path):
    here, good = pair(7.5)
    for name, item in (("here", here), ("good", good[0])):
        write_capture(tmp_path / f"{name}.csv", item)
        write_sheet(tmp_path / f"{name}.sheet.toml", sheet(*BOTH))
    return tmp_path


def test_compare_prints_and_writes_what_it_found(files):
    done = sagen("compare", files / "here.csv", files / "good.csv", "--json")
    assert done.returncode == 0
    told = json.loads(done.stdout)
    assert told["good"] == [{"with": "good.csv", "fit": "same state"}]
    own = told["channels"][1]["comparison"]
    assert own["with"] == "good.csv"
    assert own["offset_low"] < 7.5 < own["offset_high"] or abs(own["offset_deg"] - 7.5) < 0.1
    assert set(own["edges"][0]) == {"edge", "good_deg", "here_deg", "difference", "u"}
    assert set(own["low"]) == {"good", "here", "u"}
    plain = sagen("compare", files / "here.csv", files / "good.csv")
    assert "7.5° of the crank late" in plain.stdout
    assert sagen("compare", files / "here.csv", files / "good.csv", "-o", files / "edges.csv").returncode == 0
    with (files / "edges.csv").open() as stream:
        rows = list(csv.reader(stream))
    assert len(rows) == 9
    assert float(rows[1][4]) == pytest.approx(7.5, abs=0.2)
    assert sagen("compare", files / "here.csv", files / "good.csv", "-o", files / "page.html").returncode == 0
    page = (files / "page.html").read_text()
    assert "8 of 8 edges differ by more than chance." in page
    assert [page.count(f"<th>{head}</th>") for head in ("Edge", "Good", "Here", "Off", "±")] == [1] * 5
    pictures = [base64.b64decode(found).decode() for found in re.findall(r"svg\+xml;base64,([^\"]+)", page)]
    beside = [picture for picture in pictures if "here less the other" in picture]
    assert ["7.5° late" in picture for picture in beside] == [False, True]
    for picture in pictures:
        ElementTree.fromstring(picture)
    missing = sagen("compare", files / "here.csv", files / "none.csv")
    assert missing.returncode == 1
    assert "none.csv: there is no such file" in missing.stderr


def test_a_page_of_several_known_good_ones_draws_between_what_sound_ones_lie(files):
    others = [files / f"sound{k}.csv" for k in range(3)]
    for k, path in enumerate(others):
        angle = turned(rpm=RPM + 3 * k, phase=0.1 * k)
        write_capture(path, capture(A=crank(angle, seed=70 + k), B=cam(angle, late=0.3 * k - 0.3, seed=80 + k)))
    done = sagen("compare", files / "here.csv", files / "good.csv", *others, "-o", files / "page.html")
    assert done.returncode == 0, done.stderr
    page = (files / "page.html").read_text()
    drawn = [base64.b64decode(found).decode() for found in re.findall(r"svg\+xml;base64,([^\"]+)", page)]
    assert sum("95 % of sound ones (4)" in picture for picture in drawn) == 2
    assert all(path.name in page for path in others)


def test_examine_has_the_comparison_of_the_contract(files):
    text = (files / "here.sheet.toml").read_text()
    (files / "here.sheet.toml").write_text('reference = "good.csv"\n' + text)
    told = json.loads(sagen("examine", files / "here.csv", "--json").stdout)
    assert [channel["comparison"]["fit"] for channel in told["channels"]] == ["same state", "same state"]
    assert told["channels"][0]["comparison"]["alike"] > 0.99
    assert "comparison" not in json.loads(sagen("examine", files / "good.csv", "--json").stdout)["channels"][0]


def test_what_is_beyond_an_envelope_is_kept_as_figures_and_said_in_any_language():
    kept = {"column": "CH1", "captures": 4, "beyond": [{"measure": "low", "tooth": 0, "size": 0.31, "chance": 1 / 400}]}
    again = json.loads(json.dumps(kept))
    assert compared_words(again) == (
        "CH1: beyond the envelope of 4 known-good captures: the low level is 0.31 V higher. A sound one is as far off anywhere once in 400."
    )
    try:
        speak("de")
        assert "0,31" in compared_words(again)
        assert "envelope" not in compared_words(again)
    finally:
        speak("en")
    assert compared_words("as an older log has it") == "as an older log has it"
    assert compared_words({"beyond": [{"x": 1}]}) == "A comparison that makes no sense."
