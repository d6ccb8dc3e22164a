"""Coils, current sensors, cams, feed and return: facts of the trade and arithmetic on waveforms written out here."""

import numpy as np
import pytest

from conftest import square_teeth
from sagen.kinds import examine
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet

SFREQ = 50_000.0


def coil_teeth(
    *,
    slots=60,
    missing=2,
    rpm=200.0,
    seconds=3.0,
    gain=0.006,
    low_tooth=None,
    runout=0.0,
    turned=False,
    ripple=0.0,
    noise=0.005,
    phase=0.3,
):
    """Volts of a coil before a toothed wheel, float32: one sine a tooth, its height in proportion to speed.

    The tooth's centre is where it crosses from positive to negative (Faraday: the flux is largest there and
    its slope changes sign).
    """
    time = np.arange(round(seconds * SFREQ)) / SFREQ
    turns = rpm / 60 * time
    speed = rpm * (1 + ripple * np.cos(4 * np.pi * turns))
    turns = turns + ripple / (4 * np.pi) * np.sin(4 * np.pi * turns) + phase
    place = (turns % 1.0) * slots
    number = np.floor(place).astype(int) + 1
    height = gain * speed * (1 + runout * np.cos(2 * np.pi * turns))
    height = np.where(number == low_tooth, 0.5 * height, height)
    volts = height * np.sin(2 * np.pi * place) * (number <= slots - missing)
    volts = (-volts if turned else volts) + np.random.default_rng(0).normal(0, noise, len(time))
    return volts.astype(np.float32)


def cam_windows(windows, *, rpm=200.0, seconds=3.0, late_deg=0.0, phase=0.3, wander=0.0):
    """Volts of a cam's switching sensor, low within `windows` (crank degrees of 720)."""
    time = np.arange(round(seconds * SFREQ)) / SFREQ
    turns = rpm / 60 * time + phase
    cycle = np.floor(turns / 2).astype(int)
    drift = wander * np.random.default_rng(3).normal(size=cycle.max() + 1)[cycle]
    angle = (turns * 360 - late_deg - drift) % 720
    low = np.any([(angle >= first) & (angle < last) for first, last in windows], axis=0)
    return (np.where(low, 0.1, 4.9) + np.random.default_rng(1).normal(0, 0.01, len(time))).astype(np.float32)


WINDOWS = ((30, 70), (210, 235), (390, 450), (600, 640))
CRANK = {"role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}
COIL = {"role": "crank", "sensor": "reluctance", "wheel": "60-2", "polarity": "falling"}
CAM = {"role": "cam", "sensor": "hall", "pull_up": 5.0}


def look(channels, *, state="cranking", reference=None, **engine):
    """Examine {column: (volts, sheet row)}; `reference` is of the same form."""

    def pair(rows):
        tables = [{"column": name, **row} for name, (_, row) in rows.items()]
        sheet = {"conditions": {"state": state}, "channel": tables, "engine": engine}
        capture = Capture("a", SFREQ, tuple(Channel(name, volts) for name, (volts, _) in rows.items()))
        return capture, Sheet.from_data(sheet)

    return examine(*pair(channels), reference=pair(reference) if reference else None)


def found(examination):
    return {finding.kind: finding for finding in examination.findings}


def test_coil_height_grows_with_speed_and_is_no_fault():
    # Common practice, no published source; Faraday's law makes the height proportional to speed.
    for rpm in (80.0, 250.0, 2500.0):
        result = look({"A": (coil_teeth(rpm=rpm, ripple=0.2), COIL)}, state="running")
        assert found(result) == {}, rpm
        row = result.channels[0].as_row()
        assert row["high"] == pytest.approx(0.006 * rpm, rel=0.12)
        assert row["wheel"] == {"slots": 60, "missing": 2}


def test_one_low_tooth_of_a_coil_is_chipped():
    result = found(look({"A": (coil_teeth(low_tooth=23, ripple=0.15), COIL)}))
    assert list(result) == ["odd_tooth"]
    assert result["odd_tooth"].fields == {"tooth": 23, "angle_deg": 132.0, "repeats": True}
    assert "50 % lower" in result["odd_tooth"].text


def test_runout_depth_is_the_modulation_depth():
    # (largest - smallest) / (largest + smallest) of an amplitude that swings by 30 % is 0.30.
    result = found(look({"A": (coil_teeth(runout=0.3, seconds=4), COIL)}))
    assert list(result) == ["runout"]
    assert result["runout"].fields["depth"] == pytest.approx(0.30, abs=0.03)


def test_crossed_wires_show_the_gap_the_wrong_way_round():
    assert found(look({"A": (coil_teeth(), COIL)})) == {}
    assert list(found(look({"A": (coil_teeth(turned=True), COIL)}))) == ["reversed_polarity"]
    assert found(look({"A": (coil_teeth(turned=True), {**COIL, "polarity": "rising"})})) == {}


def test_weak_coil_is_judged_against_the_known_good_at_its_own_speed():
    weak, good = coil_teeth(gain=0.002, rpm=400.0), coil_teeth(gain=0.006, rpm=200.0)
    result = found(look({"A": (weak, COIL)}, reference={"A": (good, COIL)}))
    assert list(result) == ["weak_amplitude"]
    # 2 x 0.006 V a rpm x 400 rpm is what the good one would give.
    assert "4.8" in result["weak_amplitude"].text
    fast = look({"A": (coil_teeth(gain=0.006, rpm=400.0), COIL)}, reference={"A": (good, COIL)})
    assert found(fast) == {}


def test_current_sensor_is_judged_by_seven_and_fourteen_milliamps():
    # Common practice, no published source: about 7 and 14 mA, here across 50 ohm.
    row = {"role": "speed", "sensor": "current", "wheel": "48", "shunt_ohm": 50.0}
    teeth = {"slots": 48, "missing": 0, "rpm": 120.0, "seconds": 4.0, "noise": 0.002}
    assert found(look({"A": (square_teeth(low=0.35, high=0.70, **teeth), row)}, state="rolling")) == {}
    weak = found(look({"A": (square_teeth(low=0.35, high=0.45, **teeth), row)}, state="rolling"))
    assert list(weak) == ["weak_amplitude"]
    assert "7.0 and 9.0 mA" in weak["weak_amplitude"].text
    dead = found(look({"A": (np.zeros(100_000, np.float32), row)}, state="rolling"))
    assert dead["no_signal"].fields["held"] == "low"
    assert "open circuit" in dead["no_signal"].text


@pytest.mark.parametrize("teeth", [1, -1, 2])
def test_jumped_belt_is_so_many_teeth_of_the_crank_sprocket(teeth):
    # Arithmetic of the trade: one tooth of an N-tooth crank sprocket is 360/N crank degrees.
    late = teeth * 360 / 24
    good = {
        "A": (square_teeth(seconds=3.0, rpm=260.0, phase=0.8), CRANK),
        "C": (cam_windows(WINDOWS, rpm=260.0, phase=0.8), CAM),
    }
    bad = {"A": (square_teeth(seconds=3.0), CRANK), "C": (cam_windows(WINDOWS, late_deg=late), CAM)}
    result = found(look(bad, reference=good, sprocket=24))
    assert list(result) == ["timing_offset"]
    assert result["timing_offset"].fields == {"offset_deg": pytest.approx(late, abs=0.4), "belt_teeth": abs(teeth)}
    assert found(look({**good}, reference=good)) == {}


def test_cam_edges_lie_at_their_crank_degrees():
    result = look({"A": (square_teeth(seconds=3.0), CRANK), "C": (cam_windows(WINDOWS), CAM)})
    # phase 0.3 of a turn: the crank's tooth 1 of the first turn stands at 0 or 360 of the cam's cycle.
    template = result.cams["C"].template
    expected = np.sort(np.ravel(WINDOWS))
    apart = [np.abs((template[:, None] - expected - turn + 360) % 720 - 360).min(axis=0).max() for turn in (0.0, 360.0)]
    assert min(apart) < 0.3


def test_wandering_cam_is_scatter_and_not_a_jump():
    bad = {"A": (square_teeth(seconds=4.0), CRANK), "C": (cam_windows(WINDOWS, wander=4.0, seconds=4.0), CAM)}
    good = {"A": (square_teeth(seconds=4.0), CRANK), "C": (cam_windows(WINDOWS, seconds=4.0), CAM)}
    result = found(look(bad, reference=good))
    assert list(result) == ["timing_scatter"]
    assert result["timing_scatter"].fields["scatter_deg"] == pytest.approx(4.0, rel=0.5)


def test_supply_goes_first_and_the_dropout_says_so():
    volts, time = square_teeth(seconds=3.0), np.arange(150_000) / SFREQ
    away = (time >= 1.31) & (time < 1.62)
    feed = np.where((time >= 1.30) & (time < 1.62), 1.5, 10.4).astype(np.float32)
    ground = np.full(150_000, 0.03, np.float32)
    ground[::2500] = 4.0  # ignition spikes on a good return are not a lift: common practice
    rows = {
        "A": (np.where(away, 4.9, volts).astype(np.float32), CRANK),
        "F": (feed, {"role": "supply", "nominal": 12.4}),
        "G": (ground, {"role": "ground"}),
    }
    result = found(look(rows))
    assert set(result) == {"supply_loss", "dropout"}
    assert result["supply_loss"].fields == {
        "start_s": pytest.approx(1.30, abs=0.002), "end_s": pytest.approx(1.62, abs=0.002), "level_v": pytest.approx(1.5, abs=0.05),
    }  # fmt: skip
    assert result["dropout"].fields["start_s"] == pytest.approx(1.31, abs=0.006)
    assert "supply fell" in result["dropout"].text
    assert "before" in result["dropout"].text


def test_return_that_rises_is_a_lift():
    ground = np.where((np.arange(150_000) // 30_000) % 2, 0.9, 0.04).astype(np.float32)
    rows = {"A": (square_teeth(seconds=3.0), CRANK), "G": (ground, {"role": "ground"})}
    lifts = [finding for finding in look(rows).findings if finding.kind == "ground_lift"]
    assert sorted(lift.fields["start_s"] for lift in lifts) == pytest.approx([0.6, 1.8], abs=0.002)


def test_wrong_wheel_is_named():
    result = found(look({"A": (square_teeth(slots=36, missing=1, seconds=3), CRANK)}))
    assert list(result) == ["wrong_pattern"]
    assert result["wrong_pattern"].fields == {"slots": 36, "missing": 1}


def test_unfit_captures_say_what_to_set_instead():
    slow = square_teeth(rpm=260.0)[::62]  # 50 kHz / 62 over 260 teeth a second: three samples a tooth
    coarse = examine(
        Capture("a", SFREQ / 62, (Channel("A", slow),)),
        Sheet.from_data({"channel": [{"column": "A", **CRANK}]}),
    )
    assert "undersampled" in found(coarse)
    assert "kS/s" in found(coarse)["undersampled"].sure
    clipped = found(look({"A": (np.clip(coil_teeth(noise=0.02), -0.7, 0.7), COIL)}))
    assert list(clipped) == ["clipped"]
    short = found(look({"A": (square_teeth(seconds=0.35), CRANK)}))
    assert list(short) == ["too_short"]
    assert "Record at least" in short["too_short"].sure


def test_irregular_teeth_that_do_not_repeat_are_erratic():
    rng = np.random.default_rng(4)
    time = np.arange(150_000) / SFREQ
    turns = 200 / 60 * time + 0.3
    index = np.floor(turns * 60).astype(int)
    moved = rng.normal(0, 0.14, index.max() + 1)[index]
    inside = np.abs(turns * 60 - index - 0.5 - moved) < 0.25
    volts = np.where(inside & (index % 60 < 58), 0.1, 5.0).astype(np.float32)
    result = found(look({"A": (volts, CRANK)}))
    assert list(result) == ["erratic"]
    # A normal scatter of 0.14 pitch puts 28 % of teeth more than 0.15 pitch off (scipy.stats.norm).
    assert result["erratic"].fields["share"] == pytest.approx(0.28, abs=0.15)


def test_wheel_with_several_gaps_by_its_name_in_the_catalogue():
    from sagen.files.sheets import parse_sheet

    # 36 slots with 14-15, 17-18 and 35-36 left out: by design, so no finding; losing one more is one.
    gone = (14, 15, 17, 18)
    text = '[[channel]]\ncolumn = "A"\nrole = "crank"\nsensor = "hall"\nwheel = "36-2-2-2"\npull_up = 5.0'
    sheet = parse_sheet(text, where="a.sheet.toml")
    for lost, expected in (((), None), ((25,), 25)):
        volts = square_teeth(slots=36, missing=2, lost=(*gone, *lost), seconds=3.0, ripple=0.1)
        result = examine(Capture("a", SFREQ, (Channel("A", volts),)), sheet)
        assert [finding.fields.get("tooth") for finding in result.findings] == ([expected] if expected else [])
        assert result.channels[0].as_row()["wheel"] == {"slots": 36, "missing": 2}


def test_catalogue_errors_name_file_and_line():
    from sagen.files.wheels import catalogue, parse_catalogue
    from sagen.model.errors import SheetError

    assert str(catalogue()["60-2-2"]) == "60: 29, 30, 59, 60"
    with pytest.raises(SheetError, match=r"mine\.txt, line 2: wheel '36: 17'"):
        parse_catalogue("a = 60-2\nb = 36: 17\n", where="mine.txt")
