"""Screen to samples: pictures drawn by a hand of its own (`benchmarks.pictures`), and what is refused.

Homography against Pillow's own perspective transform; levels and edges against the signal that was drawn.
"""

import json

import numpy as np
import pytest
from benchmarks import pictures
from PIL import Image, ImageDraw, ImageFile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from tests.test_cli import sagen

from conftest import settle
from sagen.casework import from_picture
from sagen.files import read_capture
from sagen.files.picture import Reading, homography, open_picture, read_picture, write_reading
from sagen.model.errors import SagenError
from sagen.model.trail import CaptureEntry, PhotoEntry

SEED = 8_001


@pytest.mark.sampled(2)
@pytest.mark.parametrize("name", ["screenshot", "resent", "printed", "photo", "tilted"])
@pytest.mark.parametrize("seed", [SEED, SEED + 1])
def test_a_picture_is_read_to_its_edges_and_levels(name, seed):
    told = pictures.judged((name, seed))
    assert told["answered"], told["why"]
    assert told["near"] >= 0.98
    assert told["missing"] <= 0.05
    assert told["level"] <= 0.02
    assert told["within"] >= 0.85


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", ["dense", "washed out", "words only"])
@pytest.mark.parametrize("seed", [SEED, SEED + 1])
def test_what_cannot_be_read_is_refused_in_a_sentence(name, seed):
    told = pictures.judged((name, seed))
    assert not told["answered"]
    assert told["why"]


def test_four_points_go_where_four_points_go():
    source = np.array([(0, 0), (100, 0), (100, 50), (0, 50)], float)
    target = np.array([(12, 8), (90, 15), (99, 60), (3, 52)], float)
    matrix = homography(source, target)
    u, v, w = matrix @ np.column_stack([source, np.ones(4)]).T
    np.testing.assert_allclose(np.column_stack([u / w, v / w]), target, atol=1e-8)
    # The same map in Pillow: a white dot of the target comes to lie where the source's corner is.
    image = Image.new("L", (120, 80))
    image.paste(255, (88, 13, 93, 18))
    back = (matrix / matrix[2, 2]).ravel()[:8]
    moved = np.asarray(image.transform((120, 80), Image.Transform.PERSPECTIVE, tuple(back), Image.Resampling.BILINEAR))
    y, x = np.unravel_index(moved.argmax(), moved.shape)
    assert abs(x - 100) <= 3
    assert abs(y - 0) <= 3


@pytest.mark.parametrize("ground", ["white", "black"])
@pytest.mark.parametrize("ink", ["red", "blue", "green", "cyan"])
def test_a_trace_is_called_by_its_own_colour_on_paper_and_on_a_dark_screen(ground, ink):
    # CSS Color Module Level 4, 6.1: the named colours, as Pillow draws them.
    image = Image.new("RGB", (500, 300), ground)
    time = np.linspace(0, 1, 460)
    rows = 150 - 90 * np.sin(2 * np.pi * 3 * time)
    ImageDraw.Draw(image).line(list(zip((20 + 460 * time).tolist(), rows.tolist(), strict=True)), fill=ink, width=3)
    reading = read_picture(np.asarray(image), [(20, 20), (480, 20), (480, 280), (20, 280)], (0.0, 1.0, -1.0, 1.0))
    assert [trace.name for trace in reading.traces] == [ink]


def test_what_is_hidden_stays_blank():
    told = pictures.drawn("screenshot", SEED + 2)
    pixels = np.asarray(told.image).copy()
    (left, top), (right, bottom) = told.corners[0], told.corners[2]
    begin, end = round(left + 0.4 * (right - left)), round(left + 0.52 * (right - left))
    pixels[int(top) : int(bottom), begin:end] = 245  # the sun on the screen
    reading = read_picture(pixels, told.corners, told.axes)
    span = told.axes[1] - told.axes[0]
    inside = (reading.time > told.axes[0] + 0.43 * span) & (reading.time < told.axes[0] + 0.49 * span)
    assert np.isnan(reading.traces[0].volts[inside]).mean() > 0.9
    assert reading.traces[0].blank < 0.3


@pytest.mark.parametrize(
    ("corners", "axes", "said"),
    [
        ("10,10 20,10 20,20 10,20", "0 1 0 5", "only 10 x 10"),
        ("10,10 10,300 300,300 300,10", "0 1 0 5", "do not go round"),
        ("-90,10 300,10 300,300 10,300", "0 1 0 5", "outside the picture"),
        ("10,10 300,10 300,300 10,300", "1 0 0 5", "axes"),
        ("10,10 300,10 300,300 10,300", "0 1 5 5", "axes"),
    ],
)
def test_corners_and_axes_that_make_no_sense_are_refused(tmp_path, corners, axes, said):
    pictures.drawn("screenshot", SEED).image.save(tmp_path / "a.png")
    done = sagen(
        "picture", tmp_path / "a.png", f"--corners={corners}", "--axes", axes, "-o", tmp_path / "a.csv", "--json"
    )
    assert done.returncode == 1
    assert said in json.loads(done.stdout)["error"]
    assert not (tmp_path / "a.csv").exists()


def test_the_command_writes_a_capture_with_its_uncertainty_that_is_read_as_one_from_a_picture(tmp_path):
    told = pictures.drawn("photo", SEED)
    told.image.save(tmp_path / "a.png")
    corners, axes = " ".join(f"{x},{y}" for x, y in told.corners), " ".join(map(str, told.axes))
    done = sagen(
        "picture", tmp_path / "a.png", "--corners", corners, "--axes", axes, "-o", tmp_path / "a.csv", "--json"
    )
    (trace,) = json.loads(done.stdout)["traces"]
    assert 0 < trace["sigma"] < 0.1 * (told.high - told.low)
    head = (tmp_path / "a.csv").read_text().split("\n")[0]
    assert head == "Time (s),trace 1 (V),trace 1 sigma (V)"
    capture = read_capture(tmp_path / "a.csv")
    assert [channel.column for channel in capture.channels] == ["trace 1"]
    assert any("from a picture" in note for note in capture.said)
    rows = (tmp_path / "a.csv").read_text().split("\n")
    for k in range(200, 260):
        time, *_ = rows[k].split(",")
        rows[k] = f"{time},,"
    (tmp_path / "b.csv").write_text("\n".join(rows))
    blank = read_capture(tmp_path / "b.csv")
    assert len(blank.holes) == 1
    assert any("blank" in note for note in blank.said)
    # Without corners they are proposed, and nothing is written.
    done = sagen("picture", tmp_path / "a.png", "-o", tmp_path / "c.csv")
    assert done.returncode == 1
    assert "--corners" in done.stderr
    assert not (tmp_path / "c.csv").exists()


def test_what_is_no_picture_or_too_large_is_refused_before_it_is_unpacked(tmp_path, monkeypatch):
    (tmp_path / "words.png").write_text("no picture")
    with pytest.raises(SagenError, match="no picture"):
        open_picture(tmp_path / "words.png")
    whole = tmp_path / "whole.png"
    pictures.drawn("screenshot", SEED).image.save(whole)
    (tmp_path / "cut.png").write_bytes(whole.read_bytes()[: whole.stat().st_size // 3])
    monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", True)  # as what prints pages leaves it
    with pytest.raises(SagenError):
        open_picture(tmp_path / "cut.png")
    Image.new("1", (20_000, 4_000)).save(tmp_path / "large.png")
    with pytest.raises(SagenError, match="20000 x 4000"):
        open_picture(tmp_path / "large.png")


# in the window --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("text", "value"), [("20 ms", 0.02), ("0.1", 0.1), ("1,5 us", 1.5e-6), ("250µs", 2.5e-4)])
def test_times_are_understood_as_they_are_typed(text, value):
    assert from_picture.typed_time(text) == pytest.approx(value)


@pytest.mark.parametrize(("text", "value"), [("-2", -2.0), ("500 mV", 0.5), ("1,5V", 1.5), ("−3 V", -3.0)])
def test_volts_are_understood_as_they_are_typed(text, value):
    assert from_picture.typed_volts(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "five", "5 furlong", "1 2", "20 V"])
def test_what_is_no_time_is_said(text):
    with pytest.raises(SagenError):
        from_picture.typed_time(text)


def test_a_picture_is_read_from_drop_to_finding_by_keys(desk, tmp_path):
    told = pictures.drawn("screenshot", SEED)
    told.image.save(tmp_path / "screen.png")
    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, [])
    settle(window)
    window.workspace.bring_in([tmp_path / "screen.png"])
    settle(window)
    (photo,) = window.workspace.job.of(PhotoEntry)
    page = window.navigation.show_page("photo")
    page.show_entry(photo)
    settle(window)
    page.read_button.click()
    settle(window)
    page = window.page("picture")
    view, fields = page.view, page.fields
    assert len(view.corners) == 4
    # Each corner by keys: Space goes on to the next one, arrows move it.
    view.setFocus()
    for (x, y), proposed in zip(told.corners, list(view.corners), strict=True):
        for off, keys in (
            (x - proposed.x(), (Qt.Key.Key_Left, Qt.Key.Key_Right)),
            (y - proposed.y(), (Qt.Key.Key_Up, Qt.Key.Key_Down)),
        ):
            for count, modifier in (
                (int(abs(off) // 10), Qt.KeyboardModifier.ShiftModifier),
                (round(abs(off) % 10), Qt.KeyboardModifier.NoModifier),
            ):
                for _ in range(count):
                    QTest.keyClick(view, keys[off > 0], modifier)
        QTest.keyClick(view, Qt.Key.Key_Space)
    for key, value in zip(("t0", "t1", "v0", "v1"), told.axes, strict=True):
        fields[key].setText("twenty" if key == "t1" else f"{value:.6g}")
    QTest.keyClick(fields["t1"], Qt.Key.Key_Return)
    assert "twenty" in page.told.text()
    fields["t1"].setText(f"{1000 * told.axes[1]:g} ms")
    QTest.keyClick(fields["t1"], Qt.Key.Key_Return)
    settle(window)
    assert "known to about" in page.told.text()
    assert page.view.lines
    QTest.keyClick(page.take, Qt.Key.Key_Space)
    settle(window)
    incoming = window.page("incoming")
    assert incoming.isVisible()
    QTest.keyClick(incoming.accept, Qt.Key.Key_Space)
    settle(window)
    (entry,) = window.workspace.job.of(CaptureEntry)
    assert "from a picture" in entry.record.name
    # A corner that is moved makes what was read nobody's.
    page.view.held = 0
    QTest.keyClick(view, Qt.Key.Key_Left)
    assert not page.take.isEnabled()


def test_a_picture_that_is_not_there_and_a_place_that_takes_nothing_are_told_plainly(tmp_path):
    missing = sagen("picture", tmp_path / "none.png", "--json", "-o", tmp_path / "a.csv")
    assert json.loads(missing.stdout)["error"] == "there is no such file"
    folder = sagen("picture", tmp_path, "-o", tmp_path / "a.csv")
    assert "cannot be opened" in folder.stderr
    assert "unexpected" not in missing.stdout + folder.stderr
    reading = Reading(np.arange(3.0), ())
    with pytest.raises(SagenError, match="cannot be written"):
        write_reading(tmp_path / "nowhere" / "a.csv", reading, stated=True)
