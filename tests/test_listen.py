"""The sound of cranking: made by a hand of its own (`benchmarks.sounds`), and one whose speed is known by arithmetic."""

import json

import numpy as np
import pytest
from benchmarks import sounds
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog
from scipy.io import wavfile
from tests.test_cli import sagen

from conftest import settle
from sagen.casework.hearing import heard_in
from sagen.desk.forms.checks import LookForm
from sagen.desk.forms.job import CylindersForm
from sagen.model.errors import SagenError
from sagen.model.trail import CodeEntry, ComplaintEntry, InspectionEntry
from sagen.model.vocabulary import Cause
from sagen.signal.cranking_sound import listen

SEED = 9_001


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", range(SEED, SEED + 12))
def test_an_even_engine_is_heard_at_its_speed_and_not_blamed(seed):
    sound = sounds.drawn("even", seed)
    told = sounds.heard(sound)
    assert abs(told.rpm / sound.rpm - 1) < 0.02
    assert told.rpm_low <= sound.rpm <= told.rpm_high
    assert told.even


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", range(SEED, SEED + 12))
def test_a_cylinder_that_does_not_compress_is_heard(seed):
    sound = sounds.drawn("one weak", seed)
    told = sounds.heard(sound)
    assert abs(told.rpm / sound.rpm - 1) < 0.02
    assert len(told.weak) == 1


@pytest.mark.sampled(2)
@pytest.mark.parametrize("name", ["talk", "silence", "hum and fan"])
@pytest.mark.parametrize("seed", [SEED, SEED + 1, SEED + 2])
def test_what_is_no_cranking_is_refused(name, seed):
    sound = sounds.drawn(name, seed)
    with pytest.raises(SagenError):
        listen(sound.samples, sounds.SFREQ, sound.cylinders)


@pytest.mark.parametrize(("cylinders", "strokes_hz"), [(4, 7.0), (6, 10.0), (3, 5.0)])
def test_the_speed_is_that_of_the_strokes(cylinders, strokes_hz):
    """A four-stroke engine compresses once in two turns with each cylinder: rpm = 60 x strokes / (cylinders / 2)."""
    t = np.arange(8 * 16_000) / 16_000
    noise = np.random.default_rng(1).normal(0, 1, len(t))
    told = listen(noise * (1 + 0.8 * np.cos(2 * np.pi * strokes_hz * t)), 16_000, cylinders)
    assert told.rpm == pytest.approx(60 * strokes_hz / (cylinders / 2), rel=0.01)
    assert told.even


def test_the_command_says_what_it_hears_and_what_it_cannot(tmp_path):
    sound = sounds.drawn("one weak", SEED)
    path = tmp_path / "crank.wav"
    wavfile.write(path, sounds.SFREQ, np.column_stack([sound.samples, 0.5 * sound.samples]))
    done = sagen("listen", path, "--cylinders", sound.cylinders, "--json")
    told = json.loads(done.stdout)
    assert set(told) == {"rpm", "rpm_low", "rpm_high", "even", "weak"}
    assert told["rpm"] == pytest.approx(sound.rpm, rel=0.02)
    assert not told["even"]
    assert "hardly there" in sagen("listen", path, "--cylinders", sound.cylinders).stdout
    wavfile.write(path, sounds.SFREQ, np.zeros(80_000, np.int16))
    done = sagen("listen", path, "--cylinders", "4", "--json")
    assert done.returncode == 1
    assert "silent" in json.loads(done.stdout)["error"]
    wavfile.write(path, sounds.SFREQ, sound.samples[:4_000])
    assert "2 s of cranking" in sagen("listen", path, "--cylinders", "4").stderr
    assert sagen("listen", path, "--cylinders", "99", "--json").returncode == 1


def sound_file(path, sound):
    wavfile.write(path, sounds.SFREQ, sound.samples)
    return path


def test_what_is_heard_answers_the_question_to_the_starter(tmp_path):
    even, weak = sounds.drawn("even", SEED), sounds.drawn("one weak", SEED)
    assert heard_in(sound_file(tmp_path / "a.wav", even), even.cylinders).outcome == ""
    told = heard_in(sound_file(tmp_path / "b.wav", weak), weak.cylinders)
    assert told.outcome == "uneven"
    assert f"{told.heard.rpm:.0f} rpm" in told.short
    # Common practice, no published source: a sound starter turns an engine at well over a hundred turns a minute.
    t = np.arange(10 * 16_000) / 16_000
    slow = np.random.default_rng(1).normal(0, 0.1, len(t)) * (1 + 0.8 * np.cos(2 * np.pi * 3.0 * t))
    wavfile.write(tmp_path / "c.wav", 16_000, slow.astype(np.float32))
    assert heard_in(tmp_path / "c.wav", 4).outcome == "slow"


def test_a_sound_is_heard_from_the_live_page_and_weighs(desk, tmp_path, monkeypatch):
    sound = sounds.drawn("one weak", SEED)
    path = sound_file(tmp_path / "b.wav", sound)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    window = desk()
    window.workspace.add_job("Brindle 2", "", None, [ComplaintEntry("no_start"), CodeEntry("P0335")])
    settle(window)
    before = window.workspace.last_weighed
    page = window.navigation.show_with_job("live")
    said = []

    def cylinders():
        form = QApplication.activeModalWidget()
        assert isinstance(form, CylindersForm)
        form.ok.click()
        said.append(form.message.text())  # nothing is preselected
        form.count.setCurrentIndex(form.count.findData(sound.cylinders))
        QTest.keyClick(form, Qt.Key.Key_Return)

    def answer():
        form = QApplication.activeModalWidget()
        if not isinstance(form, LookForm):
            QTimer.singleShot(50, answer)
            return
        said.append(form.outcome.currentData())
        QTest.keyClick(form, Qt.Key.Key_Return)

    QTimer.singleShot(50, cylinders)
    QTimer.singleShot(200, answer)
    page.controls.sound.click()
    settle(window)
    assert said == ["How many cylinders?", "uneven"]
    (entry,) = window.workspace.job.records(InspectionEntry)
    assert (entry.check, entry.outcome) == ("ask_the_starter", "uneven")
    assert "rpm" in entry.seen
    share = [
        sum(item.probability for item in weighed.suspects if item.cause == Cause.ENGINE)
        for weighed in (before, window.workspace.last_weighed)
    ]
    assert share[1] > 3 * share[0]
    # What is no cranking is told, and asks nothing.
    sound_file(path, sounds.drawn("silence", SEED))
    QTimer.singleShot(50, cylinders)
    page.controls.sound.click()
    settle(window)
    assert window.message.isVisible()
    assert len(window.workspace.job.records(InspectionEntry)) == 1
