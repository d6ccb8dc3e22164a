"""What once went wrong in the real world and may not again: pulled sticks, hostile names, probe factors, files lost
on their way through a child process."""

import re
import struct
import subprocess
import sys
import wave
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QAbstractItemModel, Qt
from PySide6.QtWidgets import QAbstractItemView, QLabel, QMessageBox, QTextBrowser, QTextEdit, QToolTip, QWidget

from conftest import demo_log, drop, settle, spin, square_teeth, told
from sagen.casework.captures import Keep, OpenEntry
from sagen.casework.examination import read_incoming, read_pair
from sagen.casework.open_capture import opened_capture
from sagen.casework.paper import finding_of_job
from sagen.casework.printing import Print
from sagen.casework.weigh_job import Weighed, weigh_job
from sagen.files import read_capture
from sagen.files.jobs import read_job
from sagen.files.sandbox import packed, unpacked
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SagenError
from sagen.reason.case import case_of
from sagen.reason.checks import next_checks
from sagen.reason.weights import infer
from sagen.report.plot import lane_svg
from sagen.report.printed import render_html
from sagen.report.strip_scene import strip_scene
from sagen.store.opening import open_log

# true units -------------------------------------------------------------------------------------------------------


@pytest.fixture
def ten_times(tmp_path):
    """A capture taken through a x10 probe, with its sheet: what is 5 V stands in the file as 0.5 V."""
    volts = 0.1 * square_teeth(lost=(31,))
    path = tmp_path / "x10.csv"
    rows = np.column_stack([np.arange(len(volts)) / 50_000.0, volts])
    np.savetxt(path, rows, delimiter=",", header="Time (s),CH1 (V)", comments="", fmt="%.7g")
    path.with_name("x10.sheet.toml").write_text(
        '[conditions]\nstate = "cranking"\n[[channel]]\ncolumn = "CH1"\nrole = "crank"\nsensor = "hall"\n'
        'wheel = "60-2"\npull_up = 5.0\nfactor = 10\n'
    )
    return path


def test_a_x10_probe_prints_at_5_volts(ten_times, tmp_path):
    log = open_log(tmp_path / "log")
    job = log.add_job("Brindle 2")
    incoming = read_incoming(ten_times)
    kept = Keep(job.id, incoming, incoming.sheet).perform(log)
    for opened in (kept.opened, OpenEntry(job.id, kept.entry).perform(log)):
        [lane] = opened.strip.lanes
        low, high = opened.strip.columns(lane, 0.0, 2.0, 400)
        assert float(np.nanmax(high)) == pytest.approx(5.0, abs=0.1)
        assert 4.9 < lane.top < 6.5
        assert float(np.nanmin(low)) == pytest.approx(0.1, abs=0.1)
        page = finding_of_job(log.job(job.id), opened, Weighed(job.id))
        assert page.scene is opened.strip
        assert "CH1" in render_html(page)
        # The picture's waveform reaches as high as its own axis says 5 V would be.
        svg = lane_svg(page.scene, lane, start_s=0.0, end_s=2.0)
        ticks = re.findall(r'y="([\d.]+)" text-anchor="end" fill="[^"]+">([\d.]+)</text>', svg)
        slope, zero = np.polyfit([float(value) for _, value in ticks], [float(y) - 3 for y, _ in ticks], 1)
        tops = [float(match) for match in re.findall(r"M[\d.]+ ([\d.]+)V", svg)]
        assert (min(tops) - zero) / slope == pytest.approx(5.0, abs=0.15)
    assert opened.examination.channels[0].as_row()["high"] == pytest.approx(5.0, abs=0.1)
    log.close()


def test_printing_refuses_the_capture_of_another_job(ten_times, tmp_path):
    log = open_log(tmp_path / "log")
    one, other = log.add_job("Brindle 2"), log.add_job("Tallow Ten")
    incoming = read_incoming(ten_times)
    opened = Keep(one.id, incoming, incoming.sheet).perform(log).opened
    with pytest.raises(SagenError, match="another job"):
        Print(other.id, log.job(other.id), opened, weigh_job(log.job(other.id))).perform(log)
    log.close()


# files ------------------------------------------------------------------------------------------------------------


def test_what_a_meter_marked_over_range_comes_through_the_child_reader(tmp_path):
    raw = np.arange(20, dtype=np.int16)
    packed(tmp_path, Capture("a", 1e3, (Channel("A", raw, "V", 0.1, 0.2, 7), Channel("B", raw)), ("a note",)))
    back = unpacked(tmp_path)
    assert [channel.over_range for channel in back.channels] == [7, 0]
    assert (back.channels[0].scale, back.channels[0].offset, back.notes) == (0.1, 0.2, ("a note",))


def test_the_strategy_of_a_job_file_orders_its_checks(tmp_path):
    def checks(strategy):
        path = tmp_path / f"{strategy}.toml"
        path.write_text(
            f'codes = ["P0335"]\ngear = ["meter", "scope"]\nstrategy = "{strategy}"\n[circuit]\nrole = "crank"\n'
            'sensor = "hall"\nsupply = 12\npull_up = 5\nwheel = "60-2"\n'
        )
        job = read_job(path)
        case = case_of(job.trail, job.circuit, job.gear, job.strategy)
        return [str(next_check.check.gear) for next_check in next_checks(case, infer(case))]

    meter, scope = checks("meter"), checks("scope")
    assert meter != scope
    assert np.mean([index for index, gear in enumerate(meter) if gear == "scope"]) > np.mean(
        [index for index, gear in enumerate(scope) if gear == "scope"]
    )


def test_the_known_good_file_is_looked_for_beside_the_sheet_that_names_it(make_csv, tmp_path):
    make_csv("good.csv", rpm=260.0)
    path = make_csv("bad.csv", lost=(9,))
    sheets = tmp_path / "sheets"
    sheets.mkdir()
    for name in ("good.csv", "good.sheet.toml"):
        (tmp_path / name).rename(sheets / name)
    sheet = sheets / "bad.toml"
    sheet.write_text('reference = "good.csv"\n' + path.with_name("bad.sheet.toml").read_text())
    _, _, reference = read_pair(path, sheet)
    assert reference[0].name == "good.csv"
    path.with_name("bad.sheet.toml").write_text(sheet.read_text())
    with pytest.raises(SagenError, match=r"known-good capture 'good.csv'"):
        read_pair(path)


PULLED = """
import sys
from sagen.files import read_capture
capture = read_capture(sys.argv[1])
open(sys.argv[1], "r+b").truncate(4096)
print(float(capture.channels[0].values().sum()))
"""


@pytest.mark.sampled(1)
@pytest.mark.parametrize("suffix", ["wav", "npy", "csv"])
def test_a_stick_pulled_after_reading_kills_nothing(tmp_path, suffix):
    volts = square_teeth(seconds=4.0)
    path = tmp_path / f"stick.{suffix}"
    if suffix == "wav":
        with wave.open(str(path), "wb") as file:
            file.setnchannels(1)
            file.setsampwidth(2)
            file.setframerate(50_000)
            file.writeframes((6000 * volts).astype("<i2").tobytes())
    elif suffix == "npy":
        np.save(path, np.asfortranarray(np.column_stack([np.arange(len(volts)) / 50_000.0, volts])))
    else:
        np.savetxt(path, np.column_stack([np.arange(len(volts)) / 50_000.0, volts]), delimiter=",", header="t,CH1")
    done = subprocess.run([sys.executable, "-c", PULLED, str(path)], capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, (done.returncode, done.stderr)
    assert float(done.stdout) != 0.0


def test_a_wav_that_says_more_than_it_holds_is_told_or_read_as_far_as_it_goes(tmp_path):
    path = tmp_path / "cut.wav"
    with wave.open(str(path), "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(50_000)
        file.writeframes(np.arange(9000, dtype="<i2").tobytes())
    whole = path.read_bytes()
    path.write_bytes(whole[:40] + struct.pack("<I", 1 << 31) + whole[44:6000])
    try:
        capture = read_capture(path)
    except SagenError as error:
        assert "cut.wav" in str(error)
    else:
        assert capture.samples <= 3000


# words are never markup ---------------------------------------------------------------------------------------------

EVIL = "<img src=/dev/zero><b>bold</b>"


def rich(widget):
    """What of a widget Qt would read as markup."""
    if isinstance(widget, QLabel) and widget.textFormat() != Qt.TextFormat.PlainText:
        yield f"label {widget.text()!r}"
    if isinstance(widget, QTextBrowser) or (isinstance(widget, QTextEdit) and widget.acceptRichText()):
        yield f"{type(widget).__name__}"
    for tip in (widget.toolTip(), widget.statusTip(), widget.whatsThis()):
        if "<img" in tip or "<b>" in tip:
            yield f"tip {tip!r}"
    if isinstance(widget, QAbstractItemView) and isinstance(widget.model(), QAbstractItemModel):
        model = widget.model()
        for row in range(min(model.rowCount(), 200)):
            tip = model.index(row, 0).data(Qt.ItemDataRole.ToolTipRole)
            if tip and ("<img" in str(tip) or "<b>" in str(tip)):
                yield f"item tip {tip!r}"


def test_the_search_for_markup_finds_some(app):
    label, box = QLabel("<b>a</b>"), QTextBrowser()
    label.setToolTip(EVIL)
    assert len(list(rich(label))) == 2
    assert list(rich(box))


@pytest.mark.long
def test_no_text_of_a_file_or_a_person_is_markup_on_any_page(desk, tmp_path):
    window = desk()
    window.workspace.add_job(EVIL, EVIL, 4, told("no_start", "P0335"))
    settle(window)
    volts = square_teeth(lost=(12,))
    path = tmp_path / "<b>evil</b>.csv".replace("/", "\u2215")
    rows = np.column_stack([np.arange(len(volts)) / 50_000.0, volts, volts])
    np.savetxt(path, rows, delimiter=",", header=f"Time (s),{EVIL} (V),CH2 (V)", comments="", fmt="%.6g")
    drop(window, path)
    settle(window)
    page = window.page("incoming")
    assert EVIL in " ".join(str(answer) for answer in page.answers)
    page.wheel.setText("60-2")
    page._answered()
    settle(window)
    page.accept.click()
    settle(window)
    from sagen.model.trail import NoteEntry

    window.workspace.add(NoteEntry(EVIL))
    window.message.say(f"{EVIL}: cannot be read")
    settle(window)
    for command in ("jobs.show_log", "view.show_circuit", "jobs.show_report"):
        window.commands.run(command)
        settle(window)
    for lens in ("turns", "wheel", "strip"):
        window.page("capture").show_lens(lens)
        spin(30)
    window.commands.run("view.keys_dialog")
    from sagen.desk.forms.entries import FORMS
    from sagen.desk.forms.job import JobForm

    forms = [JobForm(window), *(form(parent=window) for form in FORMS.values())]
    widgets = [window, *window.findChildren(QWidget), *(item for form in forms for item in form.findChildren(QWidget))]
    assert len(widgets) > 150
    assert [item for widget in widgets for item in rich(widget)] == []
    assert not QToolTip.isVisible()
    assert not window.findChildren(QMessageBox)


def test_no_source_of_the_desk_asks_for_rich_text():
    import sagen.desk

    for file in Path(sagen.desk.__file__).parent.rglob("*.py"):
        text = file.read_text()
        if file.parent.name == "help":
            text = text.replace("QTextBrowser", "")  # shows the guide, which ships with the program, and nothing else
        assert "RichText" not in text.replace("mightBeRichText", ""), file
        assert not re.search(r"\bQLabel\(|setHtml|QMessageBox|QTextBrowser", text), file


# a heap of files ----------------------------------------------------------------------------------------------------


@pytest.mark.long
def test_of_eight_files_dropped_together_none_is_lost(desk, make_csv, tmp_path):
    from PySide6.QtCore import QMimeData, QPointF, QUrl
    from PySide6.QtGui import QDropEvent

    window = desk()
    window.workspace.add_job("Brindle 2", "", 4, told("no_start"))
    settle(window)
    bad = [tmp_path / "broken.csv", tmp_path / "empty.csv"]
    bad[0].write_text("no,thing\nat,all\n")
    bad[1].write_text("")
    sound = [make_csv(f"{number}.csv", lost=(10 + number,), seconds=1.0) for number in range(6)]
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(item)) for item in (bad[0], *sound[:3], bad[1], *sound[3:])])
    window.dropEvent(
        QDropEvent(QPointF(600, 400), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    )  # fmt: skip
    page = window.page("incoming")
    seen = []
    for _ in range(6):
        for _ in range(400):
            shown = page.incoming.path.name if page.incoming is not None else None
            if window.stack.currentWidget() is page and shown not in (None, *seen) and page.accept.isEnabled():
                break
            spin(10)
        seen.append(page.incoming.path.name)
        # What is kept meanwhile does not turn the page away under the questions.
        page.accept.click()
        spin(5)
    settle(window, 1000)
    assert seen == [item.name for item in sound]
    names = [entry.record.name for entry in window.workspace.job.entries if entry.kind == "capture"]
    assert names == [item.name for item in sound]
    said = window.message.text.text()
    assert said.startswith("6 of 8 kept; 2 could not be read: ")
    assert "broken.csv" in said
    assert "empty.csv" in said


@pytest.mark.long
def test_a_late_list_of_jobs_turns_no_page(desk):
    window = desk(demo_log, demo=True)
    window.navigation.show_circuit()
    window.workspace.list_jobs()
    settle(window)
    assert window.stack.currentWidget() is window.page("circuit")


def test_known_good_scene_is_in_true_units_too(ten_times, tmp_path):
    capture, sheet, _ = read_pair(ten_times)
    from sagen.casework.examination import build_pyramids
    from sagen.kinds import examine

    done = examine(capture, sheet, reference=(capture, sheet))
    opened = opened_capture(None, None, done, build_pyramids(capture))
    assert done.good.sheet.channel[0].factor == 1.0
    scene = strip_scene(done, build_pyramids(capture), drawings=opened.drawings)
    assert float(np.nanmax(scene.lanes[0].pattern.wave)) == pytest.approx(5.0, abs=0.3)
