"""The starter's cadence from a capture, against speeds written out here; and what it says of starter and compression."""

import numpy as np
import pytest

from sagen.casework.examination import capture_entry
from sagen.files.circuits import write_circuit
from sagen.kinds import broken, examine
from sagen.machine.record import record
from sagen.model.capture import Capture, Channel
from sagen.model.circuit import CircuitSpec
from sagen.model.sheet import Sheet
from sagen.reason.askable import turned_poorly
from sagen.reason.case import cranked_piece
from sagen.reason.evidence import Cranked
from sagen.reason.facts import SOUND, knowledge
from sagen.reason.history import Case
from sagen.reason.weights import infer
from sagen.reason.words import reason
from sagen.reason.world import world_of
from sagen.store.codecs import decode, encode

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")


def cranked(
    *, rpm=190.0, ripple=0.12, uneven=0.0, drift=0.0, seconds=4.0, cylinders=4, state="cranking", sfreq=40_000.0
):
    """A crank channel whose speed is rpm (1 + ripple at the firings + uneven once in two turns + a drift)."""
    time = np.arange(int(seconds * sfreq)) / sfreq
    turns = rpm / 60 * (time + 0.5 * drift / seconds * time**2)
    phase = 2 * np.pi * turns
    order = cylinders / 2
    angle = turns + (ripple / order * np.sin(order * phase) + uneven / 0.5 * np.sin(0.5 * phase + 0.7)) / (2 * np.pi)
    place = ((angle + 0.3) % 1.0) * 60
    low = (place % 1.0 < 0.5) & (place < 58)
    volts = (np.where(low, 0.2, 4.9) + np.random.default_rng(1).normal(0, 0.01, len(time))).astype(np.float32)
    row = {"column": "A", "role": "crank", "sensor": "hall", "pull_up": 5.0, "wheel": "60-2"}
    sheet = Sheet.from_data({"engine": {"cylinders": cylinders}, "conditions": {"state": state}, "channel": [row]})
    return examine(Capture("a", sfreq, (Channel("A", volts),)), sheet)


@pytest.mark.parametrize("rpm", [90.0, 190.0, 310.0])
@pytest.mark.parametrize("cylinders", [3, 4, 6, 8])
def test_speed_is_the_mean_speed_whatever_compression_does(rpm, cylinders):
    heard = cranked(rpm=rpm, cylinders=cylinders, seconds=5.0).cadence
    assert heard.rpm == pytest.approx(rpm, rel=0.03)
    assert heard.uneven < 0.012


@pytest.mark.parametrize("uneven", [0.03, 0.08, 0.16])
@pytest.mark.parametrize("ripple", [0.05, 0.2])
def test_one_weak_cylinder_is_the_swing_once_in_two_turns(uneven, ripple):
    # A four-stroke cylinder compresses once in two turns: half an order of the crankshaft.
    heard = cranked(uneven=uneven, ripple=ripple, seconds=5.0).cadence
    assert heard.uneven == pytest.approx(uneven, rel=0.12, abs=0.003)


@pytest.mark.parametrize("drift", [-0.3, -0.1, 0.2])
def test_a_battery_that_tires_is_not_a_cylinder(drift):
    assert cranked(drift=drift, seconds=5.0).cadence.uneven < 0.015


def test_a_short_record_tells_speed_but_no_beat():
    heard = cranked(rpm=120.0, seconds=1.7).cadence
    assert heard.rpm == pytest.approx(120.0, rel=0.05)
    assert heard.uneven is None
    assert cranked(rpm=60.0, seconds=1.0).cadence is None


@pytest.mark.parametrize("state", ["running", "key_on"])
def test_only_the_starter_has_a_cadence(state):
    assert cranked(state=state).cadence is None


def test_it_is_kept_with_the_capture_and_comes_back_as_evidence():
    done = cranked(uneven=0.1)
    kept = decode(*encode(capture_entry(done))).cadence
    piece = cranked_piece(kept, "a.csv")
    assert (piece.rpm, piece.uneven) == (done.cadence.rpm, done.cadence.uneven)
    assert cranked_piece(None) is None
    # The contract's row is as it was: the cadence is not in it.
    assert "cadence" not in done.as_row()


@pytest.mark.parametrize(("rpm", "uneven", "lead"), [
    (78.0, 0.01, "cranks_slowly"), (195.0, 0.14, "cranks_unevenly"), (200.0, 0.008, SOUND),
])  # fmt: skip
def test_it_speaks_for_the_starter_the_cylinder_or_neither(rpm, uneven, lead):
    likely = {item: likelihood(Cranked("", rpm, uneven), item) for item in (SOUND, "cranks_slowly", "cranks_unevenly")}
    assert max(likely, key=likely.get) == lead
    others = sorted(likely.values())
    assert others[-1] > 2.5 * others[-2]


def likelihood(piece, fault):
    """The mean likelihood of a piece under a fault mode."""
    world = world_of(SPEC)
    found = np.broadcast_to(piece.likelihood(world.singles(), None, knowledge()), world.singles().shape)
    return float(found[world.faults.index(fault)].mean())


def test_a_slow_diesel_is_not_condemned():
    # Engines differ: 150 rpm is slow for one and sound for another, so it moves the suspects only a little.
    piece = Cranked("", 150.0, None)
    assert 0.05 < likelihood(piece, "cranks_slowly") / likelihood(piece, SOUND) < 4


def test_words_say_speed_and_beat():
    world = world_of(SPEC)
    assert reason(Cranked("", 87.4, None), SOUND, world) == "The starter turns the engine at 87 rpm."
    assert reason(Cranked("", 190.0, 0.11), SOUND, world).endswith("with a beat of 11 % once in two turns.")
    assert reason(Cranked("", 190.0, 0.01), SOUND, world).endswith("evenly.")


@pytest.mark.parametrize("uneven", [0.02, 0.04, 0.05, 0.11])
def test_a_beat_that_is_told_is_listened_to(uneven):
    # What the words call even is not asked about, and what they call a beat is.
    piece = Cranked("", 210.0, uneven)
    assert ("with a beat" in reason(piece, SOUND, world_of(SPEC))) == turned_poorly(Case(SPEC, (piece,)))


@pytest.mark.parametrize("fault", ["cranks_slowly", "cranks_unevenly"])
def test_a_simulated_machine_with_a_poor_starter_is_led_there_by_its_capture(fault):
    found = 0
    for seed in range(6):
        capture, sheet = record(broken(SPEC, [(fault, 0.7)], seed), "cranking", seconds=4.0, sfreq=20_000.0)
        done = examine(capture, sheet)
        assert done.cadence is not None
        piece = Cranked("", done.cadence.rpm, done.cadence.uneven)
        posterior = infer(Case(SPEC, (piece,)))
        found += posterior.by_fault()[fault] > 3 * infer(Case(SPEC, ())).by_fault()[fault]
    assert found >= 5


def test_the_command_line_weighs_it(tmp_path, capsys):
    from sagen.cli import main

    write_circuit(tmp_path / "c.toml", SPEC, 4)
    out = tmp_path / "slow.csv"
    assert main(["simulate", str(tmp_path / "c.toml"), "--fault", "cranks slowly", "--severity", "0.8",
                 "--seconds", "4", "-o", str(out)]) == 0  # fmt: skip
    (tmp_path / "job.toml").write_text(
        'complaints = ["no_start"]\n[circuit]\nrole = "crank"\nsensor = "hall"\nsupply = 12.0\npull_up = 5.0\n'
        'wheel = "60-2"\n[[trail]]\ncapture = "slow.csv"\n'
    )
    capsys.readouterr()
    assert main(["reason", str(tmp_path / "job.toml")]) == 0
    told = capsys.readouterr().out
    assert "cranks slowly" in told
