"""Text tables as recorders write them: every dialect, and every way to be broken."""

import numpy as np
import pytest

from sagen.files import read_capture, write_capture
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError

N = 40


def rows(line):
    return "\n".join(line(i) for i in range(N)) + "\n"


def put(tmp_path, content, name="a.csv"):
    path = tmp_path / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return path


DIALECTS = {
    "comma, units in names": ("Time (ms),CH1 (V)\n" + rows(lambda i: f"{i * 0.02:.3f},{i}"), 50_000, "CH1", 1),
    "millivolts": ("Time (s),CH1 (mV)\n" + rows(lambda i: f"{i / 1000},{i * 1000}"), 1000, "CH1", 1),
    "semicolon, decimal comma, units row": (
        "Recorder\nDate;1.2.2026\n\nZeit;Kanal A\n(us);(V)\n\n" + rows(lambda i: f"{i * 20};{i},0"), 50_000, "Kanal A", 1,
    ),
    "tab": ("t\tA\n" + rows(lambda i: f"{i * 0.1:.1f}\t{i}"), 10, "A", 1),
    "interval above, in us": ("Sample interval: 20 us\nCH1\n" + rows(lambda i: f"{i}"), 50_000, "CH1", 1),
    "rate above, index column": ("Sampling rate;50 kHz\nIndex;A\n" + rows(lambda i: f"{i};{i}"), 50_000, "A", 1),
    "sequence and increment": ("Increment,0.00002\nX,CH1\nSequence,Volt\n" + rows(lambda i: f"{i},{i}"), 50_000, "CH1", 1),
    "blanks between": (rows(lambda i: f"{i * 0.001:.3f} {i}"), 1000, "CH2", 1),
    "quoted decimal commas": ('"Time","CH1"\n' + rows(lambda i: f'"0,{i:03d}","{i},0"'), 1000, "CH1", 1),
    "delimiter at line ends": ("Time,CH1,\n" + rows(lambda i: f"{i * 0.001:.3f},{i},"), 1000, "CH1", 1),
    "exponents": ("Time,CH1\n" + rows(lambda i: f"{i * 1e-3:.6E},{i:.3E}"), 1000, "CH1", 1),
    "utf-16": (("Time;CH1\ns;V\n" + rows(lambda i: f"{i * 0.001:.3f};{i}")).encode("utf-16"), 1000, "CH1", 1),
    "byte-order mark": (b"\xef\xbb\xbf" + ("Time,CH1\n" + rows(lambda i: f"{i / 1000},{i}")).encode(), 1000, "CH1", 1),
}  # fmt: skip


@pytest.mark.parametrize("case", DIALECTS)
def test_reads_dialect(tmp_path, case):
    content, sfreq, column, _ = DIALECTS[case]
    capture = read_capture(put(tmp_path, content))
    assert capture.sfreq == pytest.approx(sfreq, rel=1e-6)
    assert [channel.column for channel in capture.channels] == [column]
    np.testing.assert_allclose(capture.channels[0].values(), np.arange(N), rtol=1e-5, atol=1e-6)


def test_over_range_marks_become_the_extremes(tmp_path):
    text = "Time,CH1\n" + rows(lambda i: f"{i / 1000},{'OL' if i > 35 else '-∞' if i == 3 else i}")
    channel = read_capture(put(tmp_path, text)).channels[0]
    assert channel.over_range == 5
    assert channel.raw.max() == 35
    assert channel.raw[3] == 0


BROKEN = {
    "no such": (None, "no such file"),
    "empty": ("", "empty"),
    "prose": ("hello\nworld\n", "no table of numbers"),
    "binary": (bytes(range(8)) * 50, "not a capture in a format"),
    "word among numbers": ("Time,A\n" + rows(lambda i: f"{i / 1000},{'abc' if i == 17 else i}"), "line 19: 'abc'"),
    "a value too many": ("Time,A\n" + rows(lambda i: f"{i / 1000},{i}" + ",9" * (i == 9)), "line 11: 3 values where 2"),
    "time runs back": (
        "Time,A\n" + rows(lambda i: f"{(i if i != 20 else 3) / 1000},{i}"),
        "line 22: time runs backwards",
    ),
    "no time at all": (rows(lambda i: f"{i % 3}"), "neither the time"),
    "only time": ("Time\n" + rows(lambda i: f"{i / 1000}"), "only one column"),
    "time stands still": ("Time,A\n" + rows(lambda i: f"0.0,{i}"), "stands still"),
    "too few": ("Time,A\n0,1\n1,2\n2,3\n", "only 3 samples"),
    "hole": ("Time,A\n" + rows(lambda i: f"{i / 1000 + (i > 20)},{i}"), "line 23: the recording has a hole"),
    "endless line": ("1," * 100_000, "longer than"),
    "too many columns": (rows(lambda i: ",".join(["1"] * 100)), "100 columns"),
}


@pytest.mark.parametrize("case", BROKEN)
def test_says_what_is_wrong_and_where(tmp_path, case):
    content, said = BROKEN[case]
    path = put(tmp_path, content) if content is not None else tmp_path / "gone.csv"
    with pytest.raises(CaptureFileError, match=said):
        read_capture(path)


def test_last_line_cut_off_is_left_out_with_a_note(tmp_path):
    capture = read_capture(put(tmp_path, "Time,CH1\n" + rows(lambda i: f"{i / 1000},{i}") + "0.04,"))
    assert capture.samples == N
    assert "incomplete" in capture.said[0]


def test_uneven_samples_are_laid_on_a_grid(tmp_path):
    times = np.arange(200) / 1000 + np.random.default_rng(0).uniform(-3e-4, 3e-4, 200)
    text = "Time,A\n" + "\n".join(f"{t - times[0]:.6f},{2 * (t - times[0]):.6f}" for t in times)
    capture = read_capture(put(tmp_path, text))
    assert "evenly" in capture.said[0]
    grid = np.arange(capture.samples) / capture.sfreq
    np.testing.assert_allclose(capture.channels[0].values(), 2 * grid, atol=1e-4)


def test_round_trip(tmp_path):
    rng = np.random.default_rng(1)
    channels = tuple(Channel(name, rng.normal(size=500).astype(np.float32), "V") for name in ("A", "B"))
    write_capture(tmp_path / "b.csv", Capture("b", 12_500.0, channels))
    back = read_capture(tmp_path / "b.csv")
    assert back.sfreq == pytest.approx(12_500.0)
    for channel, other in zip(channels, back.channels, strict=True):
        np.testing.assert_allclose(channel.raw, other.raw, rtol=1e-5)


def test_refuses_to_write_an_unknown_format(tmp_path):
    with pytest.raises(CaptureFileError, match=r"\.xyz"):
        write_capture(tmp_path / "a.xyz", Capture("a", 1.0, ()))


def test_time_whose_digits_run_out_is_still_even(tmp_path):
    # Six significant digits: past 1 s neighbouring samples of 1 us bear the same time.
    text = "Time,A\n" + "\n".join(f"{0.99 + i * 1e-6:.6g},{i % 7}" for i in range(30_000))
    capture = read_capture(put(tmp_path, text))
    assert capture.samples == 30_000
    assert capture.sfreq == pytest.approx(1e6, rel=1e-3)
    assert capture.said == ()
