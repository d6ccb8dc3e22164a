"""Nasty but sound: shafts that stop, start and rock, driven by torques rather than by a formula for their speed; and probes
that are set wrongly. Common practice, no published source, unless a line says otherwise."""

from functools import cache
from typing import ClassVar

import numpy as np
import pytest
from scipy.signal import butter, lfilter
from tests.conftest import square_teeth

from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.signal.interruptions import comes_to_rest

SFREQ = 50_000.0


@cache
def cranked(seed: int, cylinders: int, *, again: bool = False, off: bool = True, seconds: float = 4.0) -> np.ndarray:
    """Turns of a shaft under starter, friction and compression (polytropic, exponent 1.3), integrated step by step."""
    rng = np.random.default_rng(seed)
    step = 25 / SFREQ
    steps = int(seconds / step)
    inertia, speed, angle = 0.18, 0.0, float(rng.uniform(0, 4 * np.pi))
    idle, friction = rng.uniform(160, 260) * np.pi / 30, rng.uniform(20, 45)
    height = rng.uniform(6, 19) * 4 / cylinders
    dead_centres = np.arange(cylinders) * 4 * np.pi / cylinders
    until = seconds * rng.uniform(0.5, 0.75) if off else np.inf
    course = np.empty(steps)
    for at in range(steps):
        time = at * step
        away = (angle - dead_centres) % (4 * np.pi)
        away = np.where(away > 2 * np.pi, away - 4 * np.pi, away)
        pressing = np.where(np.abs(away) < np.pi, np.sin(away) / (1.25 - np.cos(away)) ** 1.3, 0.0).sum() * height
        starter = (
            (friction + 60) * (1 - 0.6 * speed / idle)
            if 0.15 < time < until or (again and time > 0.8 * seconds)
            else 0.0
        )
        speed += (starter + pressing - friction * np.tanh(20 * speed)) / inertia * step
        if not starter and abs(speed) < 0.05 and abs(pressing) < friction:
            speed = 0.0
        angle += speed * step
        course[at] = angle
    return np.interp(np.arange(int(seconds * SFREQ)) / SFREQ, np.arange(steps) * step, course) / (2 * np.pi)


def seen(turns: np.ndarray, slots: int, missing: int, seed: int = 0) -> np.ndarray:
    place = (turns % 1.0) * slots
    tooth = (place % 1.0 < 0.5) & (place < slots - missing)
    return (np.where(tooth, 0.12, 4.95) + np.random.default_rng(seed).normal(0, 0.012, len(turns))).astype(np.float32)


def told(volts: np.ndarray, wheel: str, cylinders: int = 4, **row):
    sheet = Sheet.from_data(
        {
            "engine": {"cylinders": cylinders}, "conditions": {"state": "cranking"},
            "channel": [{"column": "CH1", "role": "crank", "sensor": "hall", "wheel": wheel, **row}],
        }
    )  # fmt: skip
    return examine(Capture("nasty.csv", SFREQ, (Channel("CH1", volts),)), sheet)


@pytest.mark.sampled(1)
@pytest.mark.parametrize("wheel", ["60-2", "36-1", "24-1", "12-1"])
@pytest.mark.parametrize("cylinders", [3, 4, 6, 8])
def test_a_shaft_that_stops_and_starts_again_is_no_dropout(wheel, cylinders):
    slots, missing = (int(word) for word in wheel.split("-"))
    for again in (False, True):
        turns = cranked(cylinders + 10 * again, cylinders, again=again)
        done = told(seen(turns, slots, missing), wheel, cylinders, pull_up=5.0)
        assert not done.findings
        # What is told of the silence is what was checked, and only where the teeth do not come again.
        assert any("came to rest" in note for note in done.notes) != again


@pytest.mark.parametrize("wheel", ["60-2", "36-1", "12-1"])
def test_a_signal_that_is_lost_while_it_turns_is_still_one(wheel):
    slots, missing = (int(word) for word in wheel.split("-"))
    for seed, cylinders in ((1, 4), (2, 6), (3, 3)):
        rng = np.random.default_rng(seed)
        volts = seen(cranked(seed, cylinders, off=False), slots, missing)
        start = int(len(volts) * rng.uniform(0.35, 0.5))
        length = int(SFREQ * rng.uniform(0.15, 0.4))
        volts[start : start + length] = 4.95
        lost = [finding for finding in told(volts, wheel, cylinders, pull_up=5.0).findings if finding.kind == "dropout"]
        assert lost
        assert lost[0].fields["start_s"] == pytest.approx(start / SFREQ, abs=0.08)
        assert "do not slow down" in lost[0].text


def test_rest_is_where_the_square_of_the_speed_leads():
    # Under a steady torque v^2 falls in a line over the angle (energy); ten teeth from 100 teeth a second.
    class Turned:
        anchors = np.empty(0, int)
        lost: ClassVar[dict] = {}

    squares = 100.0**2 * (1 - np.arange(0, 10.5, 0.5)[1::2] / 10.0)
    Turned.times = np.concatenate([np.arange(30) * 0.01, 0.29 + np.cumsum(1 / np.sqrt(squares))])
    Turned.spans = np.ones(len(Turned.times) - 1, int)
    Turned.ratio = np.ones(len(Turned.times) - 1)
    last = len(Turned.times) - 1
    assert comes_to_rest(Turned, last)
    assert not comes_to_rest(Turned, 25)
    assert not comes_to_rest(Turned, last - 6)
    Turned.times = -Turned.times[::-1]
    Turned.spans = Turned.spans[::-1]
    assert comes_to_rest(Turned, -1, after=True)


# probes ----------------------------------------------------------------------------------------------------------------

TEETH = square_teeth(seconds=3.0)


@pytest.mark.parametrize("stated", [{"pull_up": 5.0}, {}])
def test_ac_coupling_is_said_and_the_timing_is_read(stated):
    coupled = lfilter(*butter(1, 2.0 / (SFREQ / 2), "high"), TEETH).astype(np.float32)
    for volts in (TEETH - TEETH.mean(), coupled):
        done = told(volts, "60-2", **stated)
        assert not done.findings
        assert "set DC and record again" in done.notes[0].replace("Set", "set")
        assert done.channels[0].as_row()["wheel"] == {"slots": 60, "missing": 2}
        # A level that is the probe's speaks for no fault.
        from sagen.casework.examination import capture_entry

        pieces = case_of([capture_entry(done)], circuit_of_sheet(done.sheet)).trail
        assert pieces[0].levels == ()


@pytest.mark.parametrize(
    ("times", "stated", "factor"),
    [(10, 5.0, 0.1), (10, None, 0.1), (100, 5.0, 0.01), (20, 5.0, 0.05), (2.0, 12.0, 0.5)],
)
def test_an_impossible_scale_is_told_with_the_factor_that_fits(times, stated, factor):
    tall = TEETH * times * (12.0 / 5.0 if stated == 12.0 else 1.0)
    done = told(tall.astype(np.float32), "60-2", **({"pull_up": stated} if stated else {}))
    assert not done.findings
    assert f"a probe factor of {factor:g} would fit" in done.notes[0]
    right = told(tall.astype(np.float32), "60-2", factor=factor, **({"pull_up": stated} if stated else {}))
    assert not right.notes
    assert not right.findings


def test_crossed_leads_are_said_and_true_levels_are_still_judged():
    done = told(-TEETH, "60-2", pull_up=5.0)
    assert "crossed" in done.notes[0]
    held = told((0.5 * TEETH).astype(np.float32), "60-2", pull_up=5.0)
    assert [finding.kind for finding in held.findings] == ["high_not_reached"]
    assert not held.notes
    twelve = told((2.4 * TEETH).astype(np.float32), "60-2")
    assert not twelve.notes


def test_no_text_asks_to_record_what_was_recorded():
    volts = seen(cranked(1, 4, off=False), 60, 2)
    volts[80_000:95_000] = 4.95
    alone = next(finding for finding in told(volts, "60-2", pull_up=5.0).findings if finding.kind == "dropout")
    assert "feed and return together" in alone.sure
    rng = np.random.default_rng(2)
    feed, back = (level + rng.normal(0, 0.01, len(volts)).astype(np.float32) for level in (12.1, 0.03))
    rows = [
        {"column": "CH1", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0},
        {"column": "CH2", "role": "supply", "nominal": 12.4}, {"column": "CH3", "role": "ground"},
    ]  # fmt: skip
    sheet = Sheet.from_data({"conditions": {"state": "cranking"}, "channel": rows})
    channels = tuple(Channel(f"CH{at + 1}", item.astype(np.float32)) for at, item in enumerate((volts, feed, back)))
    watched = examine(Capture("rails.csv", SFREQ, channels), sheet)
    lost = next(finding for finding in watched.findings if finding.kind == "dropout")
    assert "feed and return together" not in lost.sure.lower()
    assert "held" in lost.sure
