"""The printed finding, the pictures in it, what the lenses say, and what is kept on disk."""

import base64
import json
import os
import re
from datetime import datetime
from html import unescape

import numpy as np
import pytest
from lxml import etree
from PySide6.QtGui import QColor

from conftest import square_teeth
from sagen.artifacts.atomic import write_whole
from sagen.casework.paper import write_report
from sagen.desk.lenses.lens import colour_steps, coloured, scale_of
from sagen.desk.theme import theme
from sagen.kinds import build, examine
from sagen.machine.record import record
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError, StoreError
from sagen.model.sheet import Sheet
from sagen.report.plot import lane_svg
from sagen.report.printed import FindingPage, render_html
from sagen.report.scene import Lane, Marked, Strip
from sagen.report.strip_scene import strip_scene
from sagen.report.turn_drawing import in_words
from sagen.signal.pyramid import Pyramid
from sagen.store.captures import CaptureStore

SFREQ = 50_000.0
HOSTILE = '<script>alert("x")</script> & \' {{ 7 * 7 }} {% raw %}'


def case(**over):
    volts = square_teeth(lost=(17,), ripple=0.1)
    row = {"column": "CH1", "role": "crank", "sensor": "hall", "pull_up": 5.0, "wheel": "60-2"}
    sheet = Sheet.from_data({"engine": {"cylinders": 4}, "conditions": {"state": "cranking"}, "channel": [row]})
    capture = Capture("brindle.csv", SFREQ, (Channel("CH1", volts),))
    kept = {"machine": "Brindle 2", "owner": "Tarn Farm", "codes": ("P0336",), "made": datetime(2026, 3, 4, 9, 5)}
    return page_of(capture, sheet, **(kept | over))


def page_of(capture, sheet, **told):
    done = examine(capture, sheet)
    scene = strip_scene(done, {channel.column: Pyramid(channel.raw) for channel in capture.channels})
    return FindingPage(done, scene, (), (), **told)


# the page ---------------------------------------------------------------------------------------------------------


def test_the_page_says_machine_codes_levels_verdict_and_finding():
    html = render_html(case(notes=("Plug cleaned",)))
    words = unescape(re.sub(r"<[^>]+>", " ", html))
    for told in ("Brindle 2", "Tarn Farm", "P0336", "brindle.csv", "60-2", "tooth 17 is not seen", "Plug cleaned",
                 "4 March 2026, 09:05", "4 cylinders", "not stated"):  # fmt: skip
        assert told in words


@pytest.mark.parametrize("field", ["machine", "owner", "complaint", "workshop"])
def test_hostile_words_stay_words(field):
    html = render_html(case(**{field: HOSTILE}))
    assert "<script" not in html
    assert "49" not in re.sub(r"base64,[^\"]*", "", html).split("<body>")[1][:900]
    assert HOSTILE in unescape(html)


def test_nothing_on_the_page_is_fetched():
    html = render_html(case())
    sources = re.findall(r'(?:src|href)="([^"]*)"', html) + re.findall(r"url\(([^)]*)\)", html)
    assert sources
    assert all(source.startswith("data:") for source in sources)


def test_a_sound_capture_is_said_to_show_nothing_wrong():
    sound = case()
    volts = square_teeth()
    capture = Capture("sound.csv", SFREQ, (Channel("CH1", volts),))
    html = render_html(page_of(capture, sound.sheet))
    assert "This capture shows nothing wrong." in html
    assert 'class="verdict sound"' in html


@pytest.mark.parametrize("suffix", [".docx", "", ".htm"])
def test_another_suffix_is_refused(tmp_path, suffix):
    with pytest.raises(SagenError, match="html"):
        write_report(tmp_path / f"a{suffix}", case())
    assert list(tmp_path.iterdir()) == []


def test_a_page_is_whole_or_not_there(tmp_path):
    write_whole(tmp_path / "a.html", b"old")
    (tmp_path / "no").mkdir()
    with pytest.raises(SagenError, match="cannot be written"):
        write_whole(tmp_path / "no", b"new")
    write_whole(tmp_path / "a.html", b"new")
    assert (tmp_path / "a.html").read_bytes() == b"new"
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.html", "no"]


# the pictures ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("raw", [square_teeth(), (1000 * np.sin(np.arange(5000) / 9)).astype(np.int16), np.zeros(40, np.float32)])  # fmt: skip
def test_a_picture_is_sound_svg_and_marks_lie_where_they_belong(raw):
    seconds = len(raw) / SFREQ
    mark = Marked("one & <two>", 0, ((0.25 * seconds, 0.5 * seconds),))
    lane = Lane(
        "A",
        "crank",
        "V",
        Pyramid(raw),
        bottom=float(raw.min()) - 1,
        top=float(raw.max()) + 1,
        bands=((0.0, 0.5, "low"),),
    )
    svg = lane_svg(Strip(SFREQ, len(raw), (lane,), (mark,)), lane, start_s=0.0, end_s=seconds)
    root = etree.fromstring(svg.encode())
    assert root.get("width") == "700"
    assert "one & <two>" in "".join(root.itertext())
    boxes = [(float(item.get("x")), float(item.get("width"))) for item in root.iter("{*}rect")]
    inner = 700 - 46 - 8
    assert any(
        x == pytest.approx(46 + 0.25 * inner, abs=1.5) and wide == pytest.approx(0.25 * inner, abs=2)
        for x, wide in boxes
    )


def test_the_pictures_on_the_page_are_the_captures_own():
    html = render_html(case())
    pictures = re.findall(r'base64,([^"]+)"', html)
    assert len(pictures) == 2  # the whole and a closer look
    for picture in pictures:
        etree.fromstring(base64.b64decode(picture))


# colours and words --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("look", ["light", "dark"])
def test_early_and_late_are_as_far_from_even_in_both_looks(app, look):
    theme.apply(app, look)
    steps = colour_steps(255)
    even = QColor(theme.current().raised).rgb() & 0xFFFFFF
    assert int(steps[127]) & 0xFFFFFF == even
    assert len(np.unique(steps)) > 100
    # Lightness moves one way on each side: no two places of a side are confused.
    light = [QColor.fromRgb(int(step)).lightnessF() for step in steps[::16]]
    half = len(light) // 2
    for side in (light[: half + 1], light[half:]):
        turns = np.sign(np.diff(side))
        assert (turns >= 0).all() or (turns <= 0).all()
    theme.apply(app, "light")


def test_what_is_not_seen_has_its_own_colour(app):
    pixels = coloured(np.array([np.nan, -50.0, 0.0, 50.0]), 20.0, 0xFF123456)
    steps = colour_steps()
    assert list(pixels) == [0xFF123456, steps[0], steps[127], steps[254]]


def test_one_wild_tooth_does_not_take_all_the_colour():
    values = np.random.default_rng(0).normal(0, 2, 4000)
    values[7] = 500.0
    assert scale_of(values) < 20
    assert scale_of(np.full(9, np.nan)) == scale_of(np.zeros(9)) > 0


@pytest.mark.parametrize(("what", "value", "kind", "said"), [
    ("phase_error", 3.26, "hall", "3.3 % of a pitch late"), ("phase_error", -3.0, "hall", "3.0 % of a pitch early"),
    ("size", 12.0, "reluctance", "12.0 % taller than the median"), ("size", -9.0, "hall", "9.0 % narrower than the median"),
    ("phase_error", float("nan"), "hall", "no tooth seen"),
])  # fmt: skip
def test_deviations_are_said_aloud(what, value, kind, said):
    seen = examine(*record(build(CircuitSpec(role="crank", sensor=kind, wheel="60-2"), 1), "cranking", seconds=1.5))
    assert in_words(what, value, seen.channels[0].reading) == said


# on disk ------------------------------------------------------------------------------------------------------------


def capture():
    raw = np.arange(-500, 500, dtype=np.int16)
    return Capture("a", 1e4, (Channel("A", raw, "V", 0.01, 0.2, 3), Channel("B", raw[::-1].copy(), "mA")), ("a note",))


def test_a_capture_comes_back_sample_for_sample(tmp_path):
    shelf = CaptureStore(tmp_path)
    token = shelf.put(capture())
    back = CaptureStore(tmp_path).get(token)
    assert (back.name, back.sfreq, back.notes) == ("a", 1e4, ("a note",))
    for channel, other in zip(back.channels, capture().channels, strict=True):
        np.testing.assert_array_equal(channel.raw, other.raw)
        assert (channel.column, channel.unit, channel.scale, channel.offset, channel.over_range) == (
            other.column, other.unit, other.scale, other.offset, other.over_range)  # fmt: skip
    # A file that is cut while it is open ends nothing: what was opened is here.
    was = back.channels[0].raw.copy()
    for file in (tmp_path / "captures").rglob("0.npy") if (tmp_path / "captures").exists() else tmp_path.rglob("0.npy"):
        os.truncate(file, 200)
    assert np.array_equal(back.channels[0].raw, was)


def test_what_a_crash_left_half_written_is_swept_away(tmp_path):
    store = CaptureStore(tmp_path)
    token = store.put(capture())
    store.commit(token)
    for name in ("0" * 32, "1" * 32):
        lease = store._captures.begin(name)
        lease.part.mkdir()
        (lease.part / "0.npy").write_bytes(b"half")
        lease.let_go()  # as the kernel does when a process dies
    assert CaptureStore(tmp_path).take_over() == {}
    assert [path.name for path in store.folder.iterdir()] == [token]


@pytest.mark.parametrize("harm", ["gone", "cut", "words", "key", "pickle"])
def test_a_damaged_capture_is_one_sentence(tmp_path, harm):
    shelf = CaptureStore(tmp_path)
    token = shelf.put(capture())
    folder = shelf.folder / token
    if harm == "gone":
        (folder / "1.npy").unlink()
    elif harm == "cut":
        (folder / "0.npy").write_bytes((folder / "0.npy").read_bytes()[:150])
    elif harm == "words":
        (folder / "capture.json").write_text("{not json")
    elif harm == "key":
        (folder / "capture.json").write_text(json.dumps({"name": "a", "sfreq": 1.0, "notes": []}))
    else:
        np.save(folder / "0.npy", np.array([{"a": 1}], dtype=object), allow_pickle=True)
    with pytest.raises(StoreError, match="damaged or gone"):
        shelf.get(token)


def test_pyramids_are_only_a_help(tmp_path):
    shelf = CaptureStore(tmp_path)
    token = shelf.put(capture())
    assert shelf.get_pyramids(token, 2) is None
    pyramids = [Pyramid(channel.raw) for channel in capture().channels]
    shelf.put_pyramids(token, [this_pyramid.packed() for this_pyramid in pyramids])
    back = shelf.get_pyramids(token, 2)
    for (values, lengths), pyramid in zip(back, pyramids, strict=True):
        again = Pyramid.unpacked(pyramid.raw, values, lengths)
        for mine, theirs in zip(again.view(0, 1000, 37), pyramid.view(0, 1000, 37), strict=True):
            np.testing.assert_array_equal(mine, theirs)
    # A broken one is as none; a folder that is not there is no error.
    (shelf.folder / token / "1.pyramid").write_bytes(b"\x93NUMPY")
    assert shelf.get_pyramids(token, 2) is None
    shelf.put_pyramids("no such token", [pyramids[0].packed()])


def test_a_folder_that_cannot_be_is_told(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(StoreError, match="cannot be used"):
        CaptureStore(tmp_path / "file" / "log")
