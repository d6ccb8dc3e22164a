"""The live bench in the real window: an intermittent fault from the stand-in to the proven repair by keys alone, the module's
codes, probe mode with nobody at the keyboard, the sensor in the hand, and what happens when an instrument goes away."""

from __future__ import annotations

import io
import wave
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from conftest import demo_log, settle, spin
from sagen.casework.examination import Incoming, read_incoming
from sagen.desk import ear
from sagen.desk.at_hand import InstrumentsForm
from sagen.desk.forms.events import EventsForm
from sagen.desk.pages.module_page import ClearForm
from sagen.desk.probe_parts import said
from sagen.files.long_record import LongRecord
from sagen.instruments import wired_called
from sagen.kinds import broken
from sagen.machine.record import record
from sagen.model.capture import Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import CaptureEntry, CodeEntry, InspectionEntry, NoteEntry, ReadingEntry, ScanEntry
from sagen.model.vocabulary import Role, State
from sagen.store.opening import open_log
from test_by_hand import KEY, Keys, in_dialog, mark_steps_by_keys, mend_by_keys

ALT = Qt.KeyboardModifier.AltModifier


def at(desk, machine):
    window = desk(demo_log, demo=True)
    window.activateWindow()
    one = next(job for job in window.workspace.log.jobs() if machine in job.machine)
    window.workspace.open_job(one.id)
    settle(window)
    return window


def until(condition, tries=1500, each=20):
    for _ in range(tries):
        if condition():
            return
        spin(each)
    raise AssertionError("it did not come about in time")


def live_until(window, hand, condition):
    """Start by key, wait, and keep by key; answers the import page."""
    page = window.page("live")
    hand.press(KEY.Key_Space, target=page.strip)
    until(lambda: page.live is not None and condition(page))
    return page


def keep(window, hand, page):
    hand.press(KEY.Key_K, ALT, page.strip)
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    settle(window)
    hand.press(KEY.Key_Return, target=window.page("incoming").wheel)
    settle(window)


@pytest.mark.long
def test_an_intermittent_fault_from_the_live_stand_in_to_the_proof_by_keys_alone(desk, monkeypatch):
    monkeypatch.setattr("sagen.casework.live.PIECE_S", 2.0)
    window = at(desk, "Dunlin")
    hand = Keys(window)
    hand.control(KEY.Key_I)
    page = window.page("live")
    assert window.stack.currentWidget() is page
    assert "belts" in page.caution.text()
    hand.choose(page.state, State.WIGGLE)
    page.strip.setFocus()
    page = live_until(window, hand, lambda page: len(page.live.hunter.found) >= 3 and page.verdict is not None)
    # Feed and return are said to be so, one after the other; the second time they are remembered.
    for channel, role in (("CH2", Role.SUPPLY), ("CH3", Role.GROUND)):
        hand.choose(page.controls.channel, channel)
        hand.choose(page.controls.role, role)
        page.controls.role.activated.emit(page.controls.role.currentIndex())
    assert [item.role for item in page.live.sheet.channel] == [Role.CRANK, Role.SUPPLY, Role.GROUND]
    known = len(page.live.hunter.found)
    hand.press(KEY.Key_3, ALT, page.strip)
    page.controls.words.setText("moved plug")
    hand.press(KEY.Key_M, ALT, page.strip)
    until(lambda: len(page.live.hunter.found) > known + 2)
    assert "lost" in page.ear.played
    assert "back" in page.ear.played
    assert page.live.marks["moved plug"]
    keep(window, hand, page)
    job = window.workspace.job
    [capture] = job.records(CaptureEntry)
    assert {str(finding.kind) for finding in capture.findings} & {"dropout", "supply_loss"}
    assert any("signal lost" in this_record.text for this_record in job.records(NoteEntry))

    # The stand-in's fault: a wire that breaks when it is moved.
    assert window.workspace.last_weighed.suspects[0].cause == "wiring"

    mend_by_keys(window, hand, "harness", "Wire broken inside the boot, renewed")
    hand.control(KEY.Key_I)
    page = window.page("live")
    assert page.state.currentData() == State.WIGGLE
    page.strip.setFocus()
    page = live_until(window, hand, lambda page: page.live.seconds > 3.5 and page.verdict is not None)
    assert not page.live.hunter.found
    keep(window, hand, page)
    [row] = window.workspace.job.standing_now.again
    assert row.sound, [finding.text for finding in row.after.findings]
    mark_steps_by_keys(window, hand)
    assert window.workspace.job.stage == "proven"


@pytest.mark.long
def test_trigger_hold_ranges_and_a_figure_that_makes_no_sense(desk):
    window = at(desk, "Plover")
    window.show_with_job("live")
    page = window.page("live")
    page.start()
    figures = set()
    until(lambda: figures.add(page.figures.text()) or (page.live is not None and page.live.seconds > 3.5))
    # Counted down from three before the starter is asked for.
    assert {"Crank in 3", "Crank in 2", "Crank in 1", "Crank now"} <= figures
    page.controls.kind.setCurrentIndex(page.controls.kind.findData("rise"))
    page.controls.level.setText("0.5")
    page.controls.level.editingFinished.emit()
    until(lambda: page.live.fired)
    start, end = page.live.shown_from(0.2)
    assert page.live.fired[-1] >= start
    assert end - start == pytest.approx(0.2 * page.live.sfreq)
    page.controls.level.setText("many")
    page.controls.level.editingFinished.emit()
    assert "no figure" in page.said.text()
    page.hold_button.setChecked(True)
    held = page.strip.view()
    spin(300)
    assert page.strip.view() == held
    page.controls.range.setCurrentIndex(page.controls.range.findData(5.0))
    assert page.strip.strip().lanes[0].top == pytest.approx(5.25)
    page.stop()
    until(lambda: not page.live.running)
    settle(window)
    assert window.page("live").live.samples


def test_a_recorder_that_goes_away_is_told_and_what_was_recorded_stays(desk, monkeypatch):
    from sagen.casework import recording

    monkeypatch.setattr(recording.Recording.run, "__defaults__", (np.inf, 0.5))
    window = at(desk, "Fell")
    window.show_with_job("live")
    page = window.page("live")
    page.start()
    until(lambda: page.live is not None and page.live.seconds > 1.0)
    kept = page.live
    wired = page.recording.wired
    wired.ends.pop(0)()  # the stand-in's servers end
    kept.recorder.link._resource.close()
    until(lambda: not kept.running)
    spin(300)
    assert kept.samples > kept.sfreq
    assert any(item.kind == "gone" for item in kept.happened)
    assert kept.capture().samples == kept.samples
    settle(window)


@pytest.mark.long
def test_codes_come_into_the_job_are_cleared_after_a_question_and_come_back(desk, monkeypatch):
    window = at(desk, "Fell")
    hand = Keys(window)
    hand.press(KEY.Key_T, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier, window)
    page = window.page("module")
    before = len(window.workspace.job.records(CodeEntry))
    hand.press(KEY.Key_R, ALT, page)
    until(lambda: "onto the trail" in page.said.text() or "trail" in page.said.text())
    settle(window)
    codes = window.workspace.job.records(CodeEntry)[before:]
    assert {(code.code, str(code.status)) for code in codes} == {("P0335", "stored"), ("P0335", "pending")}
    hand.press(KEY.Key_R, ALT, page)
    settle(window)
    assert len(window.workspace.job.records(CodeEntry)) == before + 2, "what stands is not entered again"

    monkeypatch.setattr(ClearForm, "exec", lambda self: 0)
    page.clear()
    settle(window)
    assert page.cleared is None, "nothing is cleared without a yes"
    monkeypatch.setattr(ClearForm, "exec", lambda self: 1)
    page.clear()
    until(lambda: page.cleared is not None)
    page.read()
    until(lambda: any(this_record.scan == "codes_back" for this_record in window.workspace.job.records(ScanEntry)))
    assert any("came back" in this_record.text for this_record in window.workspace.job.records(NoteEntry))
    page.state.setCurrentIndex(page.state.findData(State.CRANKING))
    page.keep_speed()
    until(lambda: any(this_record.scan == "rpm_cranking" for this_record in window.workspace.job.records(ScanEntry)))
    settle(window)


@pytest.mark.long
def test_probe_mode_takes_a_whole_sequence_with_nobody_at_the_keyboard(desk, monkeypatch):
    monkeypatch.setattr("sagen.desk.probe.SHOWN_MS", 60)
    monkeypatch.setattr("sagen.meter.steady.HOLD_S", 0.25)
    window = at(desk, "Dunlin")
    window.commands.run("instruments.probe")
    probing = window.probing
    until(lambda: probing.steps and probing.at == len(probing.steps), tries=4000)
    taken = window.workspace.job.records(ReadingEntry)
    points = {(str(item.point), str(item.state)) for item in taken}
    assert {
        ("supply", "key_on"),
        ("ground", "key_on"),
        ("signal", "key_on_unplugged"),
        ("signal", "metal_near"),
        ("signal", "metal_away"),
    } <= points
    assert all(item.judged is not None for item in taken)
    assert "readings are on the trail" in probing.where.text()
    probing.close()
    settle(window)


@pytest.mark.long
def test_probe_mode_without_a_meter_by_keypad_and_a_foot_switch_of_ones_own(desk):
    window = at(desk, "Dunlin")
    window.ports.instruments.stand_in = ""
    window.settings.setValue("probe/take", "F9")
    window.commands.run("instruments.probe")
    probing = window.probing
    until(lambda: probing.steps)
    spin(50)
    assert "No meter" in probing.source.text()
    assert probing.value.font().pointSizeF() >= 59
    hand = Keys(probing)
    hand.press(KEY.Key_4, target=probing.line)
    hand.press(KEY.Key_Period, target=probing.line)
    hand.press(KEY.Key_9, target=probing.line)
    hand.press(KEY.Key_F9, target=probing.line)
    until(lambda: window.workspace.job.records(ReadingEntry))
    assert window.workspace.job.records(ReadingEntry)[-1].value == pytest.approx(4.9)
    assert probing.verdict.text().startswith("Inside")
    until(lambda: probing.at == 1)
    hand.press(KEY.Key_X, target=probing.line)
    hand.press(KEY.Key_Return, target=probing.line)
    assert "no reading" in probing.verdict.text()
    hand.press(KEY.Key_PageDown, target=probing.line)
    assert probing.at == 2
    hand.press(KEY.Key_PageUp, target=probing.line)
    assert probing.at == 1
    hand.press(KEY.Key_Escape, target=probing.line)
    settle(window)
    assert len(window.workspace.job.records(ReadingEntry)) == 1


def test_a_reading_stands_large_in_the_unit_that_is_read_aloud():
    assert said(0.031, "volts", False) == "31 mV"
    assert said(4.982, "volts", False) == "4.98 V"
    assert said(871.0, "ohms", False) == "871 Ω"
    assert said(12_400.0, "ohms", False) == "12.4 kΩ"
    assert said(4e7, "ohms", True) == "OL"


@pytest.mark.long
def test_a_sensor_in_the_hand_is_counted_and_a_coil_is_refused_with_why(desk):
    window = at(desk, "Dunlin")
    window.show_with_job("tester")
    page = window.page("tester")
    assert not page.card.isHidden()
    assert "fire coils" in page.harness_caution.text()
    page.keep(False)
    assert "State how many" in page.said.text()
    page.counted.setValue(0)
    hand = Keys(window)
    hand.press(KEY.Key_O, ALT, page)
    settle(window)
    [one] = window.workspace.job.records(InspectionEntry)
    assert (one.check, one.outcome) == ("sensor_in_the_hand", "counts_none")
    assert window.workspace.last_weighed.suspects[0].cause == "sensor"
    page.counted.setValue(12)
    page.keep(True)
    settle(window)
    assert len(window.workspace.job.records(InspectionEntry)) == 1, "a new part says nothing of what was wrong"
    assert "new part" in window.workspace.job.records(NoteEntry)[-1].text.lower()
    page.pulsed(False)
    settle(window)
    assert window.workspace.job.records(InspectionEntry)[-1].outcome == "not_counted"
    page.count_button.setChecked(True)
    until(lambda: page.counted.value() > 20)
    page.count_button.setChecked(False)
    settle(window)
    coil = next(job for job in window.workspace.log.jobs() if "Plover" in job.machine)
    window.workspace.open_job(coil.id)
    settle(window)
    page.show_job()
    assert page.card.isHidden()
    assert "volts from speed" in page.why.text()


@pytest.mark.long
def test_a_capture_that_is_still_being_written_is_waited_for_and_comes_with_the_last_answers(desk, make_csv, tmp_path):
    window = at(desk, "Fell")
    [last] = window.workspace.job.records(CaptureEntry)
    source = make_csv("source.csv", sheet=False).read_bytes().replace(b"CH1", last.sheet.channel[0].column.encode())
    folder = tmp_path / "watched"
    folder.mkdir()
    (folder / "old.csv").write_bytes(source)
    window.ports.watched.watch("captures", str(folder))
    target = folder / "new.csv"
    target.write_bytes(source[: len(source) // 2])
    spin(300)
    target.write_bytes(source)
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    settle(window)
    page = window.page("incoming")
    assert page.incoming.path.name == "new.csv"
    assert page.incoming.capture.samples == 100_000
    assert page.wheel.text() == last.sheet.channel[0].wheel
    assert QApplication.focusWidget() is page.accept or page.accept.isDefault()


def test_tones_are_what_they_say_and_silence_says_why(app, monkeypatch):
    """Each tone's strongest line against its own pitch (numpy's FFT)."""
    for name, (pitches, each) in ear.TONES.items():
        with wave.open(io.BytesIO(ear.tone(name, 0.5))) as file:
            samples = np.frombuffer(file.readframes(file.getnframes()), "<i2")
        assert np.abs(samples).max() <= 15_001
        part = samples[: int(each * ear.RATE)]
        line = np.argmax(np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 16))) * ear.RATE / (1 << 16)
        assert line == pytest.approx(pitches[0], rel=0.03)
    monkeypatch.setattr(ear.shutil, "which", lambda name: None)
    silent = ear.Ear()
    silent.say("lost")
    assert "alsa-utils" in silent.why
    monkeypatch.setattr(ear.shutil, "which", lambda name: "/bin/false" if name == "aplay" else None)
    broken = ear.Ear()
    told = []
    broken.silent.connect(told.append)
    broken.say("lost")
    until(lambda: told)
    assert "says" in told[0]
    broken.close()


def test_instruments_are_stated_by_address_and_a_wrong_one_is_said_in_words(desk):
    window = at(desk, "Fell")

    def state(form):
        form.lines[0].setText("tcp://127.0.0.1:1")
        form.ok.click()

    wrong = in_dialog(state, InstrumentsForm)
    window.commands.run("instruments.choose")
    assert not wrong
    assert window.ports.instruments.addresses.recorder == "tcp://127.0.0.1:1"
    window.show_with_job("live")
    page = window.page("live")
    page.start()
    until(lambda: "nothing answers there" in page.said.text())
    assert page.start_button.isEnabled()


@pytest.mark.long
def test_events_of_a_capture_on_the_bench_jump_to_their_place_and_go_on_the_trail(desk):
    window = at(desk, "Ostrel")
    machine = broken(
        CircuitSpec(role="crank", sensor="hall", supply=5.0, pull_up=5.0, wheel="30-1"),
        [("wire_breaks_when_wiggled", 0.8)],
        3,
    )
    capture, sheet = record(machine, "wiggle", seconds=8.0, sfreq=20_000.0)
    window.workspace.keep_incoming(Incoming(Path("moved.csv"), capture, sheet), sheet)
    until(lambda: window.workspace.opened is not None)
    settle(window)

    def jump(form):
        assert "signal lost" in " ".join(form.found.said)
        form.table.setCurrentCell(1, 0)
        form._jump()

    wrong = in_dialog(jump, EventsForm)
    window.commands.run("captures.hunt_events")
    until(lambda: window.page("capture").view.view.span < 4.0)
    assert not wrong
    settle(window)

    wrong = in_dialog(lambda form: form.ok.click(), EventsForm)
    window.commands.run("captures.hunt_events")
    until(lambda: len(window.workspace.job.records(NoteEntry)) > 1)
    assert not wrong
    assert window.workspace.job.records(NoteEntry)[-1].text.startswith("simulated.csv")
    settle(window)


@pytest.fixture
def crashed(tmp_path):
    """A log with a recording that a process begun at 07:15 left behind."""
    log = demo_log()
    job = next(job for job in log.jobs() if "Fell" in job.machine)
    lease = log.captures.begin_record("20261124-071500-000001-cranking.record", {"job": job.id, "machine": job.machine})
    left = LongRecord(lease.path, "live-cranking.npz", 10_000.0, (Channel("CH1", np.empty(0, np.int16), "V", 1e-3),))
    left.append(np.full((1, 4_000), 2_500, np.int16))
    left.close()
    lease.let_go()  # as the kernel does when the process dies
    yield log
    log.close()


def test_a_recording_that_a_crash_left_is_offered_on_its_own_job_and_kept_once(desk, crashed):
    place = crashed.database.place
    folder = crashed.captures.record_folder / "20261124-071500-000001-cranking.record"
    window = desk(lambda _: open_log(place), demo=True)
    settle(window)
    [fell] = [job for job in window.workspace.log.jobs() if "Fell" in job.machine]
    other = next(job for job in window.workspace.log.jobs() if job.id != fell.id)
    page = window.page("live")
    window.workspace.open_job(other.id)
    settle(window)
    window.show_with_job("live")
    assert "07:15" not in page.said.text(), "of another job it is not"
    window.workspace.open_job(fell.id)
    settle(window)
    window.show_with_job("live")
    assert "07:15" in page.said.text()
    assert page.keep_button.isEnabled()
    page.keep()
    page.keep()
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    assert window.page("incoming").incoming.capture.samples == 4_000
    window.page("incoming").accept.click()
    settle(window)
    kept = window.workspace.job.records(CaptureEntry)[-1]
    assert kept.name == "live-cranking.npz"
    assert not folder.exists()
    assert not window.workspace.imports.busy
    assert window.workspace.left == []


@pytest.mark.long
def test_a_second_window_leaves_a_running_recording_alone(desk):
    log = demo_log()
    place = log.database.place
    log.close()
    first = desk(lambda _: open_log(place), demo=True)
    first.workspace.open_job(next(job.id for job in first.workspace.log.jobs() if "Fell" in job.machine))
    settle(first)
    first.show_with_job("live")
    first.page("live").start()
    until(lambda: first.page("live").live is not None and first.page("live").live.seconds > 0.5)
    second = desk(lambda _: open_log(place), demo=True)
    second.workspace.open_job(first.workspace.job.id)
    settle(second)
    second.show_with_job("live")
    assert second.workspace.left == []
    assert not second.page("live").keep_button.isEnabled()
    before = first.page("live").live.seconds
    until(lambda: first.page("live").live.seconds > before + 0.5)
    first.page("live").stop()
    until(lambda: not first.page("live").live.running)
    assert first.page("live").live.capture().samples == first.page("live").live.samples


def started(window):
    """A recording of a job that runs."""
    window.show_with_job("live")
    page = window.page("live")
    page.start()
    until(lambda: page.live is not None and page.live.seconds > 1.0)
    return page


def test_a_recording_goes_on_while_another_job_is_open_and_is_in_sight_everywhere(desk):
    window = at(desk, "Fell")
    page = started(window)
    recording, own = page.recording, window.workspace.job.id
    other = next(job for job in window.workspace.log.jobs() if "Ostrel" in job.machine)
    window.workspace.open_job(other.id, open_capture=True)
    settle(window)
    assert page.recording is None
    assert page.figures.text() == ""
    chip = window.header.recording
    for name in ("log", "shelf", "plan", "live"):
        window.show_page(name)
        assert chip.isVisible()
        assert chip.open.text().startswith("Recording 0:0")
        assert "Fell" in chip.open.text()
    before = recording.seconds
    until(lambda: recording.seconds > before + 0.5)
    assert recording.running
    chip.stop.click()
    until(lambda: not recording.running)
    settle(window)
    assert "Recorded, not kept" in chip.open.text()
    chip.open.click()
    settle(window)
    assert window.workspace.job.id == own
    assert window.stack.currentWidget() is page
    assert page.recording is recording
    page.start()
    assert "not kept yet" in page.said.text(), "a new one throws nothing away"
    samples = recording.live.samples
    page.keep()
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    window.page("incoming").accept.click()
    settle(window)
    kept = window.workspace.log.job(own).records(CaptureEntry)[-1]
    assert window.workspace.log.captures.get(kept.token).samples == samples
    assert not chip.isVisible()


def test_a_recording_that_runs_when_the_window_closes_is_kept(desk):
    window = at(desk, "Fell")
    own, place = window.workspace.job.id, window.workspace.log.database.place
    before = len(window.workspace.job.records(CaptureEntry))
    page = started(window)
    recording = page.recording
    window.workspace.open_job(next(job.id for job in window.workspace.log.jobs() if "Ostrel" in job.machine))
    spin(300)
    window.close()
    until(lambda: not window.isVisible())
    log = open_log(place)
    captures = log.job(own).records(CaptureEntry)
    assert len(captures) == before + 1
    assert log.captures.get(captures[-1].token).samples == recording.live.samples
    assert log.captures.left_records() == []
    log.close()


@pytest.mark.long
def test_two_recordings_of_one_name_are_kept_each_for_itself(desk):
    window = at(desk, "Fell")
    page = started(window)
    page.stop()
    until(lambda: not page.live.running)
    first = page.recording
    page.keep()
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    window.page("incoming").cancel.click()  # left: it waits
    settle(window)
    other = next(job for job in window.workspace.log.jobs() if "Ostrel" in job.machine)
    window.workspace.open_job(other.id)
    settle(window)
    page = started(window)
    second = page.recording
    page.stop()
    until(lambda: not page.live.running)
    assert first.live.name == second.live.name
    window.workspace.bring_recording_in(first)
    until(lambda: window.stack.currentWidget() is window.page("incoming"))
    window.page("incoming").accept.click()
    settle(window)
    assert not first.lease.path.exists()
    assert second.lease.path.exists()
    assert window.workspace.recordings == [second]
    log = window.workspace.log
    kept = log.job(first.job).records(CaptureEntry)[-1]
    assert log.captures.get(kept.token).samples == first.live.samples


@pytest.mark.long
def test_changing_the_state_of_a_capture_keeps_what_its_sheet_states(desk, make_csv):
    window = at(desk, "Ostrel")
    path = make_csv("cam.csv")
    sheet = path.with_name("cam.sheet.toml")
    told = sheet.read_text().replace('role = "crank"', 'role = "cam"\nbank = 2\nfactor = 2.0')
    sheet.write_text(told.replace("cylinders = 4", "cylinders = 6\nbanks = 2"))
    window.workspace.bring_in([path])
    settle(window)
    page = window.page("incoming")
    page.state.setCurrentIndex(page.state.findData(State.RUNNING))
    made = page.sheet()
    assert (made.channel[0].bank, made.channel[0].factor, made.engine.banks) == (2, 2.0, 2)
    assert made.conditions.state == State.RUNNING
    page.cancel.click()
    settle(window)


@pytest.mark.long
def test_the_stand_ins_share_one_machine(desk):
    window = at(desk, "Dunlin")
    wired = wired_called("stand-in", window.workspace.job)
    try:
        modules = wired.modules(State.RUNNING)
        assert modules.live("rpm").value > 500
        modules.close()
        meter = wired.meter()
        assert meter.read("supply", "key_on").value == pytest.approx(5.0, abs=0.3)
        meter.close()
        recorder = wired.recorder(State.RUNNING)
        assert len(recorder.channels()) == 3
        recorder.close()
    finally:
        wired.close()


@pytest.mark.long
def test_what_is_being_kept_when_the_window_closes_is_kept(desk, make_csv):
    window = at(desk, "Ostrel")
    job_id, log = window.workspace.job.id, window.workspace.log
    path = make_csv("late.csv")
    incoming = read_incoming(path)
    window.workspace.keep_incoming(incoming, incoming.sheet)
    window.close()
    assert window.isVisible(), "it says so first"
    assert "Closing as soon as" in window.message.text.text()
    until(lambda: not window.isVisible())
    kept = open_log(log.database.place).job(job_id)
    assert [this_record.name for this_record in kept.records(CaptureEntry)] == ["late.csv"]
