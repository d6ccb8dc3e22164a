"""A knock job's captures together: sensor against place against load, against least squares, robust regression and the
high-pass of a loaded source; what is still missing; the same taps before and after."""

import json
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.struck import Struck, sheet_of
from tests.test_cli import sagen

from sagen.casework.examination import capture_entry
from sagen.casework.lessons import fitted_and_back
from sagen.casework.taps import before_and_after, job_taps
from sagen.files import sheet_path, write_capture, write_sheet
from sagen.kinds import broken, examine
from sagen.kinds.piezo.verdict import judge_taps, tapped_of
from sagen.kinds.piezo.words import gap_words, verdict_row
from sagen.machine.knock import MOST_APART, strengths, ways
from sagen.machine.record import record
from sagen.machine.simulated import Tap
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import RepairEntry, StayedEntry
from sagen.model.vocabulary import Connection, FindingKind, Origin, State
from sagen.reason.case import case_of
from sagen.reason.weights import weigh
from sagen.signal.strikes import Answers, StrikeSet
from sagen.signal.tap_fit import fit_taps, height_under, lowest_load, source_of
from sagen.signal.tapped import Tapped, loaded_share

KNOCK = CircuitSpec(role="knock", sensor="piezo", bank=1)
FRONT, REAR = np.array([1.25, 1.0]), np.array([1.0, 1.25])


def answered(heights, *, place=None, connection=None, loads=None, hertz=None, noise=0.004) -> Tapped:
    """Strikes of which only the heights matter, shape (strikes, sensors)."""
    heights = np.asarray(heights, float)
    shape = heights.shape
    hertz = np.broadcast_to(hertz if hertz is not None else 6_500.0, shape).astype(float)
    full = np.ones(shape)
    answers = Answers(
        full, np.maximum(heights, 1e-4), heights, 2 * heights, heights**2 * 1e-4, noise * full, heights > 5 * noise,
        np.zeros(shape, bool), hertz, 0.5 * full, 1e-3 * full, 1e-5 * full,
    )  # fmt: skip
    strikes = StrikeSet(
        tuple(f"CH{at + 1}" for at in range(shape[1])), "V", 2e5, 0.3 * np.arange(shape[0]), ((),) * shape[0], answers,
        np.full(shape[1], noise), np.zeros(shape[1]), 0.004,
    )  # fmt: skip
    told = {"place": place, "connection": connection}
    sheet = sheet_of(shape[1], loads=loads, **{key: value for key, value in told.items() if value})
    return Tapped(strikes, sheet, sheet.channel)


def taps(seed, gain, count=8, scatter=0.01, strength=1.2):
    """Heights of taps by hand that sensors answer with these gains."""
    rng = np.random.default_rng(seed)
    hard = strength * np.exp(rng.normal(0, 0.35, count))
    return hard[:, None] * np.asarray(gain) * np.exp(rng.normal(0, scatter, (count, len(gain))))


# the two-way fit -------------------------------------------------------------------------------------------------------


def test_relative_height_is_that_of_ordinary_least_squares():
    # With even counts the sensor's part is what numpy.linalg.lstsq gives for log h = strike + place x sensor, averaged
    # over the places.
    own = np.array([0.6, 1.0])
    captures = [answered(taps(1, own * FRONT), place="front"), answered(taps(2, own * REAR), place="rear")]
    fit = fit_taps(captures)
    logs = [np.log(capture.strikes.answers.height) for capture in captures]
    by_place = []
    for part in logs:
        many = len(part)
        design = np.zeros((2 * many, many + 1))
        design[np.arange(2 * many), np.repeat(np.arange(many), 2)] = 1.0
        design[::2, -1] = 1.0
        by_place.append(np.linalg.lstsq(design, part.ravel(), rcond=None)[0][-1])
    value, spread = fit.contrast({(0, 0): 1.0, (1, 0): -1.0})
    assert value == pytest.approx(np.mean(by_place), abs=0.02)
    assert np.exp(value) == pytest.approx(0.6, rel=0.03)
    assert 0.1 < spread < 0.4  # two places: what ways differ by is not averaged away


def test_a_missed_tap_moves_the_fit_no_more_than_a_robust_regression():
    heights = taps(3, [0.6, 1.0], 12)
    heights[4, 0] *= 0.25  # one sensor hardly felt this one
    fit = fit_taps([answered(heights, place="front")])
    logs = np.log(heights)
    many = len(logs)
    design = np.zeros((2 * many, many + 1))
    design[np.arange(2 * many), np.repeat(np.arange(many), 2)] = 1.0
    design[::2, -1] = 1.0
    import statsmodels.api as sm  # takes a second, which no other test needs

    # Every strike has its own column, so a robust fit of the differences is the comparison: statsmodels' RLM, Huber.
    robust = sm.RLM(logs[:, 0] - logs[:, 1], np.ones(many), M=sm.robust.norms.HuberT()).fit().params[0]
    value, _ = fit.contrast({(0, 0): 1.0, (1, 0): -1.0})
    plain = np.mean(logs[:, 0] - logs[:, 1])
    assert abs(value - robust) < 0.05
    assert abs(value - np.log(0.6)) < 0.5 * abs(plain - np.log(0.6))


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.3, 0.62), st.booleans())
def test_the_right_one_is_blamed_whatever_the_place(seed, weak, first):
    own = np.array([weak, 1.0]) if first else np.array([1.0, weak])
    captures = [
        answered(taps(seed, own * FRONT), place="front", connection="unplugged"),
        answered(taps(seed + 1, own * REAR), place="rear", connection="unplugged"),
    ]
    for order in (captures, captures[::-1]):
        verdict = judge_taps(order)
        assert [(blame.sensor, blame.kind) for blame in verdict.blames] == [
            (0 if first else 1, FindingKind.WEAK_STRIKE)
        ]
        bad = verdict.blames[0]
        assert bad.ratio.low < weak < bad.ratio.high
        assert bad.places == 2


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from(["both", "same", "one"]))
def test_sound_pairs_are_clean_also_a_quarter_nearer(seed, how):
    own = np.exp(np.random.default_rng(seed).normal(0, 0.03, 2))
    captures = [answered(taps(seed, own * FRONT), place="front", connection="unplugged")]
    if how != "one":
        captures.append(
            answered(
                taps(seed + 1, own * (REAR if how == "both" else FRONT)),
                place="rear",
                connection="loaded",
                loads=(22e3, 22e3),
            )
        )
    verdict = judge_taps(captures)
    assert not verdict.blames
    assert verdict.passes(0) == (how != "one")


def test_more_places_make_it_surer():
    own, rng, spreads = np.array([0.7, 1.0]), np.random.default_rng(5), []
    for many in (1, 2, 4, 8):
        captures = [answered(taps(at, own * np.exp(rng.normal(0, 0.15, 2))), place=f"place {at}") for at in range(many)]
        _, spread = fit_taps(captures).contrast({(0, 0): 1.0, (1, 0): -1.0})
        spreads.append(spread)
    assert spreads == sorted(spreads, reverse=True)
    assert spreads[-1] < 0.45 * spreads[0]


def test_known_good_sensors_tell_the_ways():
    skew = np.array([1.5, 1.0])
    own = answered(taps(1, skew * [0.7, 1.0]), place="front")
    assert not judge_taps([own]).blames  # 1.05: the place hides it
    good = answered(taps(2, skew), place="front")
    verdict = judge_taps([own], [good])
    assert [(blame.sensor, blame.kind) for blame in verdict.blames] == [(0, FindingKind.WEAK_STRIKE)]
    assert verdict.blames[0].ratio.value == pytest.approx(0.7, rel=0.06)


def test_one_dead_one_of_four_and_all_sound():
    four = np.array([1.0, 0.9, 1.1, 0.95])
    assert not judge_taps([answered(taps(1, four), place="a"), answered(taps(2, four[::-1]), place="b")]).blames
    dead = four * [1, 1, 0, 1]
    verdict = judge_taps([answered(taps(1, dead), place="a", connection="loaded", loads=(22e3,) * 4)])
    assert [(blame.sensor, blame.kind) for blame in verdict.blames] == [(2, FindingKind.NO_SIGNAL)]
    assert verdict.passes(0)
    assert not verdict.passes(2)
    assert verdict.relative[2].high <= 0.05


# loads -----------------------------------------------------------------------------------------------------------------


def loaded(seed, ohm, source=(19_000.0, 19_000.0), own=(1.0, 1.0), connection="loaded", varies=0.05):
    rng = np.random.default_rng(seed)
    share = np.array([float(loaded_share(ohm, item)) for item in source])
    hard = 1.2 * np.exp(rng.normal(0, varies, 8))
    heights = hard[:, None] * share * own * np.exp(rng.normal(0, 0.01, (8, 2)))
    loads = (ohm, ohm) if np.isfinite(ohm) and connection == "loaded" else None
    return answered(heights, place="front", connection=connection, loads=loads)


def test_source_impedance_over_loads():
    # Truth: the high-pass R / sqrt(R^2 + X^2), `scipy.signal.freqs([RC, 0], [RC, 1])` at the ring.
    captures = [loaded(1, np.inf, connection="unplugged"), loaded(2, 20e3), loaded(3, 50e3), loaded(4, 10e3)]
    fit = fit_taps(captures)
    for sensor in (0, 1):
        source = source_of(fit, sensor)
        assert source.ohm.low < 19_000 < source.ohm.high
        assert source.ohm.value == pytest.approx(19_000, rel=0.2)
        assert source.open_v.low < 1.2 < source.open_v.high
        assert height_under(source, 50e3) / height_under(source, 1e9) == pytest.approx(
            loaded_share(50e3, 19_000), rel=0.08
        )
        assert 2_000 < lowest_load(source, 0.6 * source.open_v.value) < 30_000
        assert lowest_load(source, 2 * source.open_v.value) is None
    assert source_of(fit_taps(captures[:1]), 0) is None


def test_taps_that_vary_four_to_one_leave_the_source_less_sure():
    even = source_of(fit_taps([loaded(1, np.inf, connection="unplugged"), loaded(2, 20e3)]), 0)
    uneven = source_of(
        fit_taps([loaded(1, np.inf, connection="unplugged", varies=0.4), loaded(2, 20e3, varies=0.4)]), 0
    )
    assert uneven.ohm.high / uneven.ohm.low > 1.5 * even.ohm.high / even.ohm.low


def test_equal_unplugged_and_unequal_plugged_is_the_circuit():
    plugged = loaded(3, 470e3, own=(1.0, 0.4), connection="plugged")
    verdict = judge_taps([loaded(1, np.inf, connection="unplugged"), loaded(2, 20e3), plugged])
    assert [(blame.sensor, blame.kind) for blame in verdict.blames] == [(1, FindingKind.LOADED_DOWN)]
    assert verdict.blames[0].ratio.value == pytest.approx(0.4, rel=0.05)
    assert verdict.passes(0)
    # Unequal before it was plugged in as well: the sensor's own.
    weak = judge_taps([loaded(1, np.inf, own=(1.0, 0.4), connection="unplugged"), plugged])
    assert [(blame.sensor, blame.kind) for blame in weak.blames] == [(1, FindingKind.WEAK_STRIKE)]
    # Silent only when plugged in.
    silent = loaded(5, 470e3, own=(1.0, 0.0), connection="plugged")
    held = judge_taps([loaded(1, np.inf, connection="unplugged"), silent])
    assert [(blame.sensor, blame.kind) for blame in held.blames] == [(1, FindingKind.LOADED_DOWN)]


def test_a_sensor_that_speaks_only_when_open_does_not_pass():
    # Two sensors alike when open; one has ten times the impedance inside and goes down under 20 kilohm.
    source = (19_000.0, 150_000.0)
    verdict = judge_taps([loaded(1, np.inf, source, connection="unplugged"), loaded(2, 20e3, source)])
    assert [(blame.sensor, blame.kind, blame.connection) for blame in verdict.blames] == [
        (1, FindingKind.WEAK_STRIKE, "loaded")
    ]
    alone = judge_taps([loaded(1, np.inf, source, connection="unplugged")])
    assert not alone.blames
    assert not alone.passes(0)


def test_sensors_under_unlike_loads_are_compared_and_less_surely():
    heights = taps(1, [float(loaded_share(20e3, 19_000.0)), 1.0])
    like = judge_taps([answered(taps(1, [1.0, 1.0]), place="front", connection="unplugged")])
    unlike = judge_taps([answered(heights, place="front", connection="unplugged", loads=(20e3, None))])
    assert not unlike.blames
    told = unlike.relative[0]
    assert told.low < 1.0 < told.high
    assert told.high / told.low > like.relative[0].high / like.relative[0].low
    weak = judge_taps([answered(heights * [0.25, 1.0], place="front", connection="unplugged", loads=(20e3, None))])
    assert [(blame.sensor, blame.kind) for blame in weak.blames] == [(0, FindingKind.WEAK_STRIKE)]


# what is missing, and words --------------------------------------------------------------------------------------------


def test_the_guide_asks_for_what_is_missing_until_nothing_is():
    own = np.array([1.0, 1.0])
    steps = [
        answered(taps(1, own, 2), place="front", connection="unplugged"),
        answered(taps(2, own, 8), place="front", connection="unplugged"),
        answered(taps(3, own, 8), place="rear", connection="unplugged"),
        answered(taps(4, own, 8), place="rear", connection="loaded", loads=(22e3, 22e3)),
        answered(taps(5, own, 8), place="rear", connection="plugged"),
    ]
    missing = [[this_gap.what for this_gap in judge_taps(steps[:count]).gaps] for count in range(1, len(steps) + 1)]
    assert missing[0][0] == "more"
    assert missing[1][:2] == ["place", "load"]
    assert missing[2] == ["load", "plugged"]
    assert missing[3] == ["plugged"]
    assert missing[4] == []
    for step in range(len(steps) - 1):
        for gap in judge_taps(steps[: step + 1]).gaps:
            assert len(gap_words(gap)) > 20
    unsaid = judge_taps([answered(taps(6, own))])
    assert "second_place" in [this_gap.what for this_gap in unsaid.gaps]
    assert next(iter(judge_taps([answered(taps(6, [1.0]))]).gaps)).what == "twin"


def test_the_row_of_the_contract():
    verdict = judge_taps(
        [answered(taps(1, [0.6, 1.0] * FRONT), place="front"), answered(taps(2, [0.6, 1.0] * REAR), place="rear")]
    )
    row = json.loads(json.dumps(verdict_row(verdict)))
    first = row["sensors"][0]
    assert (first["column"], first["bank"]) == ("CH1", 1)
    assert first["low"] < first["relative_height"] < first["high"]
    assert first["source_ohm"] is None
    assert set(row["places"]) == {"front", "rear"}
    assert row["verdict"][0]["kind"] == "weak_strike"
    assert "not where the tap fell" in row["verdict"][0]["text"]


def test_sensors_swapped_at_the_recorder_are_known_by_their_bank():
    straight = answered(taps(1, [0.6, 1.0]), place="front")
    crossed = answered(taps(2, [1.0, 0.6]), place="rear")
    rows = tuple(channel.model_copy(update={"bank": 3 - channel.bank}) for channel in crossed.channels)
    verdict = judge_taps([straight, replace(crossed, channels=rows)])
    assert [blame.sensor for blame in verdict.blames] == [0]
    assert verdict.relative[0].value == pytest.approx(0.6, rel=0.04)


# the simulated machine, the job and the command line -------------------------------------------------------------------


def taken(fault, place, connection, seed=5, severity=0.7, sensors=2):
    machine = broken(KNOCK, [(fault, severity)] if fault else [], seed)
    machine.tap = Tap(place, connection, 22_000.0, sensors)
    machine.rng = np.random.default_rng([seed, len(place), list(Connection).index(connection)])
    return record(machine, "strike", seconds=1.8, sfreq=100_000.0)


SET = (("front", Connection.UNPLUGGED), ("rear", Connection.LOADED), ("front", Connection.PLUGGED))
CAUSES = {
    "": {"none"}, "piezo_weak": {"sensor", "air_gap"}, "element_cracked": {"sensor", "air_gap"}, "piezo_detuned": {"sensor", "air_gap"},
    "torque_wrong": {"sensor", "air_gap"}, "element_leaking": {"sensor"}, "input_loads_the_line": {"wiring", "module", "ground"},
    "signal_wire_leaking": {"wiring", "module", "ground"},
}  # fmt: skip


@pytest.mark.sampled(1)
@pytest.mark.parametrize("fault", CAUSES)
def test_each_fault_of_the_simulated_set_is_found_and_weighed(fault, tmp_path):
    for seed in (5,):
        names = []
        for index, (place, connection) in enumerate(SET):
            capture, sheet = taken(fault, place, connection, seed, 1.0 if fault == "element_leaking" else 0.7)
            path = tmp_path / f"{seed}-{index}.csv"
            write_capture(path, capture)
            write_sheet(sheet_path(path), sheet)
            names.append(path)
        done = sagen("strikes", *names, "--json")
        row = json.loads(done.stdout)
        assert done.returncode == 0
        blamed = {item["column"] for item in row["verdict"]}
        assert blamed == ({"CH1"} if fault else set()), (fault, seed, row["verdict"])
        assert row["suspects"][0]["cause"] in CAUSES[fault], (fault, row["suspects"][:2])


@pytest.mark.long
def test_strikes_tells_what_cannot_be_read_and_goes_on(tmp_path):
    capture, sheet = taken("", "front", Connection.UNPLUGGED)
    good, bad, wheel = tmp_path / "good.csv", tmp_path / "bad.csv", tmp_path / "wheel.csv"
    write_capture(good, capture)
    write_sheet(sheet_path(good), sheet)
    bad.write_text("no numbers here\n")
    write_capture(wheel, capture)
    done = sagen("strikes", good, bad, wheel, "--json")
    row = json.loads(done.stdout)
    assert done.returncode == 1
    assert [item["capture"] for item in row["errors"]] == [str(bad), str(wheel)]
    assert len(row["sensors"]) == 2
    only = sagen("strikes", bad, "--json")
    assert only.returncode == 1
    assert "error" in json.loads(only.stdout)
    plain = sagen("strikes", good)
    assert "to do: tap from a second place" in plain.stdout
    written = sheet_path(good).read_text().replace("[engine]", "[engine]\nbore_mm = 86.0")
    sheet_path(good).write_text(written if "bore_mm" in written else "[engine]\nbore_mm = 86.0\n" + written)
    # 86 mm: 5846 Hz at 2000 K and 6961 Hz at 2800 K (Draper's first mode; speeds of sound by cantera).
    low, _, high = json.loads(sagen("strikes", good, "--json").stdout)["knock_band_hz"]
    assert (low, high) == pytest.approx((5846, 6961), rel=0.001)


@pytest.mark.long
def test_simulate_writes_the_whole_set(tmp_path):
    circuit = tmp_path / "c.toml"
    circuit.write_text('[circuit]\nrole = "knock"\nsensor = "piezo"\nbank = 2\nsensors = 4\n')
    out = tmp_path / "o.csv"
    done = sagen("simulate", circuit, "--place", "valley, left", "--load", "47000", "--fault", "piezo weak", "-o", out)
    assert done.returncode == 0, done.stderr
    sheet = sheet_path(out).read_text()
    assert sheet.count('role = "knock"') == 4
    assert 'place = "valley, left"' in sheet
    assert 'connection = "loaded"' in sheet
    row = json.loads(sagen("examine", out, "--json").stdout)
    assert {item["channel"] for item in row["findings"]} == {"CH2"}
    for load, said in (("open", "unplugged"), ("plugged", "plugged")):
        assert sagen("simulate", circuit, "--load", load, "-o", out).returncode == 0
        assert f'connection = "{said}"' in sheet_path(out).read_text()
    for wrong in ("-3", "much", "nan", "0"):
        told = sagen("simulate", circuit, f"--load={wrong}", "-o", out)
        assert told.returncode == 1
        assert "--load" in told.stderr


def test_taps_by_hand_vary_no_more_than_four_to_one_and_ways_belong_to_places():
    hard = strengths(np.random.default_rng(1), 4_000)
    assert hard.max() / hard.min() <= MOST_APART + 1e-9
    np.testing.assert_array_equal(ways("Rear  left", 3), ways("rear left", 3))
    assert not np.allclose(ways("front", 2), ways("rear", 2))
    assert ways("front", 2)[0] > ways("front", 2)[1]


def entries_of(fault, *taps_taken):
    out = []
    for place, connection in taps_taken:
        capture, sheet = taken(fault, place, connection)
        out.append(capture_entry(examine(capture, sheet)))
    return out


def test_the_same_taps_before_and_after_stand_side_by_side():
    before = entries_of("piezo_weak", *SET)
    after = entries_of("", SET[0], SET[2])
    told = job_taps([*before, RepairEntry("sensor", "original"), *after])
    assert told.before.blames
    assert not told.now.blames
    connection, rows = before_and_after(told)
    assert connection == "plugged"
    assert rows[0].before < 0.5 < 0.7 < rows[0].after
    assert rows[0].ring_after == pytest.approx(rows[0].ring_before, rel=0.02)
    assert before_and_after(job_taps(before)) == ("", ())
    # What was only tapped open before cannot be set beside what was only tapped plugged in.
    apart = job_taps([before[0], RepairEntry("sensor", "original"), after[1]])
    assert before_and_after(apart) == ("", ())


def test_a_job_weighs_its_taps_together_not_one_by_one():
    # Tapped near the sound sensor only, the first capture alone blames the other one; all of them together do not.
    skew = Struck(1, gains=(1.0, 0.6)).capture(), sheet_of(2, place="front", connection="loaded", loads=(22e3, 22e3))
    back = Struck(2, gains=(0.6, 1.0)).capture(), sheet_of(2, place="rear", connection="loaded", loads=(22e3, 22e3))
    one, other = (capture_entry(examine(*pair)) for pair in (skew, back))
    assert one.findings
    assert other.findings
    spec = CircuitSpec(role="knock", sensor="piezo")
    alone = weigh(case_of([one], spec))[1].by_cause()
    together = weigh(case_of([one, other], spec))[1].by_cause()
    assert alone["sensor"] > 2 * together["sensor"]
    assert together["none"] > 0.5
    states = [piece.state for piece in case_of([one, other], spec).trail]
    assert states == [State.LOADED]
    assert tapped_of(one).place == "front"


@pytest.mark.long
def test_a_job_file_names_its_taps_with_and_without_sheets(tmp_path):
    for name, place, connection in (("a.csv", "front", Connection.UNPLUGGED), ("b.csv", "rear", Connection.LOADED)):
        capture, sheet = taken("piezo_weak", place, connection)
        write_capture(tmp_path / name, capture)
        write_sheet(sheet_path(tmp_path / name), sheet)
    write_capture(tmp_path / "bare.csv", capture)
    job = tmp_path / "job.toml"
    head = 'codes = ["P0325"]\n[circuit]\nrole = "knock"\nsensor = "piezo"\n'
    tables = "".join(f'[[trail]]\ncapture = "{name}"\n' for name in ("a.csv", "b.csv"))
    job.write_text(head + tables)
    row = json.loads(sagen("reason", job, "--json").stdout)
    assert row["suspects"][0]["cause"] in ("sensor", "air_gap")
    assert row["suspects"][0]["probability"] > 0.6
    told = [item["check"] for item in row["next"]]
    assert "light tap, unplugged, beside its twin" not in told
    assert "tap from another place" not in told
    job.write_text(head + '[[trail]]\ncapture = "bare.csv"\n')
    bare = json.loads(sagen("reason", job, "--json").stdout)
    assert bare["suspects"][0]["cause"] in ("sensor", "air_gap")


def test_the_shops_own_record():
    records = [
        RepairEntry("sensor", "aftermarket"), StayedEntry(True), RepairEntry("sensor", "original"), StayedEntry(False),
        RepairEntry("harness"), RepairEntry("sensor", "original"), RepairEntry("sensor", "original"),
    ]  # fmt: skip
    fitted, back = fitted_and_back(records)
    assert fitted == {Origin.AFTERMARKET: 1, Origin.ORIGINAL: 3}
    assert back == {Origin.AFTERMARKET: 1, Origin.ORIGINAL: 1}
