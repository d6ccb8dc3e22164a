"""How hard taps were, by their sound: taps of `tests.struck` heard by a phone of its own making (modes of a block, a room, a voice)."""

import json
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.sounds import speech
from PySide6.QtWidgets import QFileDialog
from scipy.io import wavfile
from scipy.signal import fftconvolve
from tests.struck import Struck, sheet_of
from tests.test_cli import sagen

from conftest import settle
from sagen.casework.captures import Keep
from sagen.casework.examination import Incoming
from sagen.casework.hearing import with_sound
from sagen.files import sheet_path, write_capture, write_sheet
from sagen.kinds import examine
from sagen.kinds.piezo.verdict import judge_taps
from sagen.model.errors import SagenError
from sagen.model.trail import CaptureEntry
from sagen.signal.strikes import StrikeSet
from sagen.signal.tap_sound import hear_taps, strengths_of

SFREQ = 16_000


def sound_of(at, hard, seed=0, *, begins=1.3, talk=0.0, clock=0.0, noise=0.01, first=0):
    """A phone beside the engine: each tap rings three modes of the block and the room, over hum and hiss. `begins`: how much earlier the
    phone was started, s; `clock`: how much faster it runs; `first`: taps before that number were missed."""
    rng = np.random.default_rng([seed, 77])
    count = int((at[-1] + begins + 1.0) * SFREQ)
    out = np.zeros(count)
    for when, hardness in list(zip(at, hard, strict=True))[first:]:
        since = np.arange(int(0.08 * SFREQ)) / SFREQ
        modes = ((1_400, 0.6, 0.012), (2_900, 1.0, 0.006), (5_200, 0.5, 0.003))
        wave = sum(
            a * np.sin(2 * np.pi * hz * since + rng.uniform(0, 6)) * np.exp(-since / dies) for hz, a, dies in modes
        )
        begin = int((when * (1 + clock) + begins) * SFREQ)
        out[begin : begin + len(wave)] += hardness * np.exp(rng.normal(0, 0.08)) * wave
    room = np.arange(int(0.35 * SFREQ)) / SFREQ
    tail = rng.normal(0, 0.03, len(room)) * np.exp(-6.9 * room / 0.35)
    tail[0] = 1.0
    out = fftconvolve(out, tail)[:count]
    times = np.arange(count) / SFREQ
    out += 0.3 * np.sin(2 * np.pi * 100 * times) + rng.normal(0, noise, count)
    if talk:
        voice = speech(rng, count / SFREQ + 1)[:count]
        out += talk * voice / np.abs(voice).max()
    return 0.1 * out


def struck(seed=0, gain=1.0, bank=1, strength=1.4, **told):
    """One sensor that is tapped, and its taps as they are found."""
    hand = Struck(seed=seed, gains=(gain,), hertz=(6_870.0,), strength=strength)
    capture, sheet = hand.capture(), sheet_of(1, connection="unplugged", place="front")
    sheet = sheet.model_copy(update={"channel": tuple(row.model_copy(update={"bank": bank}) for row in sheet.channel)})
    return hand, capture, sheet, examine(capture, sheet).tapped


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize(
    "told", [{}, {"begins": 0.2, "clock": 4e-4}, {"talk": 0.15}, {"noise": 0.05}, {"first": 1}], ids=str
)
def test_strengths_are_those_of_the_taps(seed, told):
    """The hand is known by arithmetic: a tap twice as hard sounds twice as loud (common practice, no published source)."""
    hand, _, _, tapped = struck(seed)
    found = strengths_of(tapped.strikes, hear_taps(sound_of(hand.at, hand.hard, seed, **told), SFREQ))
    known = np.isfinite(found)
    assert known.sum() >= 0.8 * len(hand.at)
    assert len(found) == len(hand.at)
    off = (found - np.log(hand.hard))[known]
    assert np.std(off) < 0.16
    assert np.corrcoef(found[known], np.log(hand.hard)[known])[0, 1] > 0.85


@pytest.mark.sampled(3)
@pytest.mark.parametrize("seed", range(5))
def test_of_sensors_struck_one_after_the_other_the_weak_one_is_found_and_a_light_hand_is_not_blamed(seed):
    def judged(gain, strength, heard):
        both = [struck(seed, 1.0, 1, 1.4), struck(seed + 50, gain, 2, strength)]
        rows = []
        for hand, _, _, tapped in both:
            strikes = tapped.strikes
            if heard:
                taps = hear_taps(sound_of(hand.at, hand.hard, seed), SFREQ)
                strikes = replace(strikes, strength=strengths_of(strikes, taps))
            rows.append(replace(tapped, strikes=strikes))
        return judge_taps(rows)

    assert [blame.sensor for blame in judged(0.5, 1.4, True).blames] == [1]
    assert [blame.sensor for blame in judged(0.5, 2.4, True).blames] == [1]  # a hard hand does not hide it
    assert not judged(1.0, 0.7, True).blames
    # Without the sound nothing tells a light hand from a weak sensor: the interval of their ratio holds both, and it is asked for.
    plain = judged(1.0, 0.7, False)
    assert plain.relative[1].low < 0.5 < 1.0 < plain.relative[1].high
    assert "sound" in [gap.what for gap in plain.gaps]
    assert "sound" not in [gap.what for gap in judged(1.0, 0.7, True).gaps]


def test_sensors_that_answered_the_same_taps_need_no_sound():
    hand = Struck(seed=3, gains=(0.5, 1.0))
    capture, sheet = hand.capture(), sheet_of(2, connection="unplugged", place="front")
    tapped = examine(capture, sheet).tapped
    heard = replace(
        tapped,
        strikes=replace(
            tapped.strikes, strength=strengths_of(tapped.strikes, hear_taps(sound_of(hand.at, hand.hard), SFREQ))
        ),
    )
    plain, told = judge_taps([tapped]), judge_taps([heard])
    assert "sound" not in [gap.what for gap in plain.gaps]
    assert told.relative[0].value == pytest.approx(plain.relative[0].value, rel=0.03)


def _others(hand):
    return sound_of(np.cumsum(np.full(9, 0.29)), np.ones(9))


@pytest.mark.parametrize(("make", "said"), [
    (lambda hand: np.zeros(3 * SFREQ), "silent"), (lambda hand: np.random.default_rng(1).normal(0, 0.1, 3 * SFREQ), "no tap is heard"),
    (lambda hand: np.full(3 * SFREQ, np.nan), "silent"), (_others, "strikes are found in the sound"),
    (lambda hand: 0.2 * np.sin(2 * np.pi * 1_000 * np.arange(3 * SFREQ) / SFREQ), "no tap is heard"),
])  # fmt: skip
def test_what_is_no_sound_of_these_taps_is_refused(make, said):
    hand, _, _, tapped = struck(1)
    with pytest.raises(SagenError, match=said):
        strengths_of(tapped.strikes, hear_taps(make(hand), SFREQ))


def test_a_tap_that_was_cut_off_says_nothing():
    hand, _, _, tapped = struck(2)
    sound = sound_of(hand.at, hand.hard)
    loudest = np.abs(sound).max()
    found = strengths_of(tapped.strikes, hear_taps(np.clip(sound, -0.5 * loudest, 0.5 * loudest), SFREQ))
    assert np.isnan(found[np.argmax(hand.hard)])
    assert np.isfinite(found[np.argmin(hand.hard)])
    with pytest.raises(SagenError, match="every tap is cut off"):
        strengths_of(tapped.strikes, hear_taps(np.clip(sound, -0.05 * loudest, 0.05 * loudest), SFREQ))


def test_a_slow_sound_is_refused():
    with pytest.raises(SagenError, match="samples a second"):
        hear_taps(np.random.default_rng(1).normal(0, 1, 8_000), 4_000)


def test_strengths_are_kept_and_read_again():
    hand, _, _, tapped = struck(4)
    strikes = replace(
        tapped.strikes, strength=strengths_of(tapped.strikes, hear_taps(sound_of(hand.at, hand.hard), SFREQ))
    )
    again = StrikeSet.of(json.loads(json.dumps(strikes.as_data())))
    assert again.strength == pytest.approx(strikes.strength)
    assert StrikeSet.of(tapped.strikes.as_data()).strength is None
    shown = [row["strength"] for row in strikes.rows()]
    assert np.argmax(shown) == np.argmax(hand.hard)


def test_the_command_takes_one_sound_for_each_capture(tmp_path):
    names, sounds = [], []
    for at, gain in enumerate((1.0, 0.5)):
        hand, capture, sheet, _ = struck(7 + at, gain, at + 1)
        path = tmp_path / f"bank{at + 1}.csv"
        write_capture(path, capture)
        write_sheet(sheet_path(path), sheet)
        wavfile.write(tmp_path / f"bank{at + 1}.wav", SFREQ, sound_of(hand.at, hand.hard, at).astype(np.float32))
        names.append(path.name)
        sounds.append(f"bank{at + 1}.wav")
    run = sagen("strikes", *names, "--sound", *sounds, "--json", cwd=tmp_path)
    row = json.loads(run.stdout)
    assert [(item["column"], item["kind"]) for item in row["verdict"]] == [("CH1", "weak_strike")]
    assert row["sensors"][1]["bank"] == 2
    assert row["verdict"][0]["text"]
    run = sagen("strikes", *names, "--sound", sounds[0], "--json", cwd=tmp_path)
    assert "1 sounds for 2 captures" in json.loads(run.stdout)["error"]
    run = sagen("strikes", *names, "--sound", sounds[0], names[0], cwd=tmp_path)
    assert names[0] in run.stderr
    assert "Traceback" not in run.stderr


def test_in_the_window_the_sound_is_kept_with_the_capture_and_undone(desk, tmp_path, monkeypatch):
    hand, capture, sheet, tapped = struck(5)
    wavfile.write(tmp_path / "taps.wav", SFREQ, sound_of(hand.at, hand.hard).astype(np.float32))
    window = desk()
    window.workspace.add_job("Harrow 6", "", 4, [])
    settle(window)
    window.commands.run("captures.hear_taps")
    assert "Open a capture of taps first" in window.message.text.text()
    job = window.workspace.job
    window.workspace.submit(
        Keep(job.id, Incoming(None, capture), sheet), lambda kept: window.workspace.open_job(job.id, open_capture=True)
    )
    settle(window)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "taps.wav"), ""))
    window.commands.run("captures.hear_taps")
    settle(window)
    [entry] = window.workspace.job.of(CaptureEntry)
    expected = with_sound(tapped.strikes, tmp_path / "taps.wav").strength
    assert StrikeSet.of(entry.record.strikes).strength == pytest.approx(expected, nan_ok=True)
    assert f"Heard: {len(expected)} of {len(expected)} strikes" in window.message.text.text()
    window.workspace.undo()
    settle(window)
    assert StrikeSet.of(window.workspace.job.of(CaptureEntry)[0].record.strikes).strength is None
