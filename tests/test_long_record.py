"""Long records: what NumPy itself reads of them, a writer that is killed in the middle, a full disk, and the cut that is kept."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from sagen.casework import examination
from sagen.casework.examination import in_sight, read_incoming
from sagen.files import long_record, read_capture
from sagen.files.long_record import LongRecord, long_pyramids, read_long
from sagen.meter.steady import HOLD_S, Steady
from sagen.model.capture import Channel
from sagen.model.errors import CaptureFileError, StoreError
from sagen.signal.pyramid import Pyramid

CHANNELS = tuple(Channel(name, np.empty(0, np.int16), "V", 0.001) for name in ("A", "B"))
WRITER = """
import sys, numpy as np
from sagen.files.long_record import LongRecord
from sagen.model.capture import Channel
channels = tuple(Channel(name, np.empty(0, np.int16), "V", 0.001) for name in ("A", "B"))
for number in range(100_000):
    folder = sys.argv[1] + f"/{number}.record"
    record = LongRecord(folder, "killed", 10_000.0, channels)
    first = np.arange(700, dtype=np.int64)
    print(folder, flush=True)
    for block in range(100_000):
        record.append(np.stack([first + 700 * block, -first]).astype(np.int16))
        print(record.samples, flush=True)
"""


@pytest.mark.sampled(1)
@pytest.mark.parametrize("block", [1, 15, 16, 700, 5_000])
def test_what_was_written_is_what_numpy_reads_and_draws(tmp_path, block):
    rng = np.random.default_rng(block)
    samples = rng.integers(-9_000, 9_000, (2, 20_000 if block > 1 else 300)).astype(np.int16)
    record = LongRecord(tmp_path / "a.record", "long", 50_000.0, CHANNELS)
    samples[:, 60:80] = 0
    record.append(samples[:, :60])
    record.skip(20)
    for start in range(80, samples.shape[1], block):
        record.append(samples[:, start : start + block])
    record.close()
    for at in range(2):
        assert np.array_equal(np.load(tmp_path / "a.record" / f"{at}.npy"), samples[at])
    capture = read_capture(tmp_path / "a.record")
    assert not is_mapped(capture)
    assert capture.holes == ((60, 80),)
    drawn, plain = long_pyramids(tmp_path / "a.record", capture)["A"], Pyramid(samples[0])
    for start, stop, columns in ((0, 200, 50), (0, samples.shape[1] // 16 * 16, 20)):
        for mine, theirs in zip(drawn.view(start, stop, columns), plain.view(start, stop, columns), strict=True):
            inside = np.isfinite(mine)
            assert inside.sum() >= columns - 2
            assert np.array_equal(mine[inside], theirs[inside])


def is_mapped(capture):
    raw = capture.channels[0].raw
    return isinstance(raw, np.memmap) or isinstance(raw.base, np.memmap)


def test_a_record_that_is_cut_while_it_is_open_stays_as_it_was_read_and_a_huge_one_is_mapped(tmp_path, monkeypatch):
    samples = np.arange(4096, dtype=np.int16).reshape(2, 2048)
    record = LongRecord(tmp_path / "a.record", "long", 50_000.0, CHANNELS)
    record.append(samples)
    record.close()
    capture = read_capture(tmp_path / "a.record")
    with (tmp_path / "a.record" / "1.npy").open("r+b") as cut:
        cut.truncate(200)
    assert np.array_equal(capture.channels[1].raw, samples[1])
    with pytest.raises(CaptureFileError, match="no record that can be read"):
        read_capture(tmp_path / "a.record")
    with (tmp_path / "a.record" / "1.npy").open("r+b") as whole:
        whole.seek(200)
        whole.write(samples[1].tobytes()[200 - 128 :])
    monkeypatch.setattr(long_record, "MOST_READ", 1000)
    assert is_mapped(read_capture(tmp_path / "a.record"))


#: two hundred in the long campaign
KILLS = int(os.environ.get("SAGEN_KILLS", "30"))


@pytest.mark.long
def test_a_recorder_killed_again_and_again_loses_at_most_the_block_being_written(tmp_path):
    """SIGKILL at a random moment; everything that was said to be written is there, and NumPy reads it."""
    rng = random.Random(5)
    killed = 0
    for round_ in range(KILLS):
        folder = tmp_path / str(round_)
        folder.mkdir()
        # One interpreter start costs far more than a kill: a fork of this process stands in for a new one.
        read_end, write_end = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(read_end)
            os.dup2(write_end, 1)
            sys.stdout = os.fdopen(1, "w")
            sys.argv = ["writer", str(folder)]
            try:
                exec(WRITER, {"__name__": "writer"})
            finally:
                os._exit(1)
        os.close(write_end)
        with os.fdopen(read_end) as said:
            path = said.readline().strip()
            said.readline()
            time.sleep(rng.uniform(0, 0.012))
            os.kill(child, signal.SIGKILL)
            told = [int(line) for line in said.read().splitlines() if line.isdigit()]
        os.waitpid(child, 0)
        whole = told[-2] if len(told) > 1 else 700
        capture = read_long(path)
        assert capture.samples >= whole
        assert capture.samples % 700 == 0
        expected = np.arange(capture.samples).astype(np.int16)
        assert np.array_equal(capture.channels[0].raw, expected)
        assert all(level[1].size for level in long_pyramids(path, capture)["A"].levels)
        killed += 1
    assert killed == KILLS


def test_a_full_disk_is_said_and_what_was_written_before_stays(tmp_path, monkeypatch):
    record = LongRecord(tmp_path / "a.record", "long", 1_000.0, CHANNELS)
    record.append(np.ones((2, 64), np.int16))

    def full(self, values):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("sagen.files.long_record._Column.append", full)
    with pytest.raises(StoreError, match="No space left"):
        record.append(np.ones((2, 64), np.int16))
    assert read_long(tmp_path / "a.record").samples == 64
    with pytest.raises(StoreError, match="cannot be written"):
        LongRecord(tmp_path / "a.record", "again", 1_000.0, CHANNELS)


@pytest.mark.parametrize(
    ("about", "samples"),
    [
        ("{", b""),
        ('{"name": "x", "sfreq": 1, "notes": [], "channels": [{"column": "A"}]}', b"\x93NUMPY\x01\x00"),
        ("[]", b""),
        ("[" * 100_000, b""),
    ],
)
def test_a_record_that_is_none_is_refused_in_a_sentence(tmp_path, about, samples):
    folder = tmp_path / "bad.record"
    folder.mkdir()
    (folder / "capture.json").write_text(about)
    (folder / "0.npy").write_bytes(samples)
    with pytest.raises(CaptureFileError, match="no record that can be read"):
        read_capture(folder)


def test_of_a_record_too_long_for_a_trail_what_is_in_sight_is_kept(tmp_path, monkeypatch):
    monkeypatch.setattr(examination, "MOST_KEPT", 2_000)
    record = LongRecord(tmp_path / "a.record", "long", 1_000.0, CHANNELS)
    record.append(np.stack([np.arange(4_100), np.arange(4_100)]).astype(np.int16))
    record.skip(100)
    record.append(np.stack([np.arange(4_200, 9_000), np.arange(4_200, 9_000)]).astype(np.int16))
    record.close()
    incoming = read_incoming(tmp_path / "a.record")
    cut = in_sight(incoming, 4.0, 4.5)
    assert cut.capture.samples == 500
    assert cut.capture.channels[0].raw[0] == 4_000
    assert cut.capture.holes == ((100, 200),)
    assert "a.record" in cut.capture.said[-1]
    assert in_sight(incoming, 0.0, 9.0).capture.samples == 1_000, "never more than a trail keeps"


@pytest.mark.long
def test_it_opens_through_the_command_line(tmp_path):
    record = LongRecord(tmp_path / "a.record", "long", 10_000.0, CHANNELS)
    time_s = np.arange(30_000) / 10_000
    record.append(np.stack([np.where(time_s * 90 % 1 < 0.5, 200, 4_900), np.full(30_000, 12_000)]).astype(np.int16))
    record.close()
    done = subprocess.run(
        [sys.executable, "-m", "sagen", "examine", "--json", str(tmp_path / "a.record")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    [row] = [json.loads(line) for line in done.stdout.splitlines()]
    assert [item["column"] for item in row["channels"]] == ["A", "B"]


# the meter's steady reading ---------------------------------------------------------------------------------------


def fed(steady, values, every=0.1):
    return [taken for k, value in enumerate(values) if (taken := steady.feed(value, k * every)) is not None]


def test_a_reading_is_taken_once_it_has_been_steady_for_its_time():
    assert fed(Steady(), [4.98] * 7) == []
    assert fed(Steady(), [4.98] * 9) == [pytest.approx(4.98)]
    assert HOLD_S == 0.7


def test_a_reading_that_moves_is_never_taken():
    rng = np.random.default_rng(1)
    assert fed(Steady(), 2.5 + rng.uniform(-1, 1, 200)) == []
    assert fed(Steady(), np.linspace(0, 12, 60)) == []


def test_the_next_one_is_taken_only_after_this_one_was_left():
    still = [4.98] * 30
    assert len(fed(Steady(), still)) == 1
    assert len(fed(Steady(), [*still, *[0.4, 2.0, 0.03], *[0.03] * 12])) == 2


def test_small_noise_of_a_meter_does_not_hold_it_up():
    rng = np.random.default_rng(2)
    [taken] = fed(Steady("ohms"), 870.0 + rng.normal(0, 0.6, 14))
    assert taken == pytest.approx(870.0, abs=2.0)


def test_a_hole_takes_no_place_on_the_disk_and_a_disk_that_refuses_it_is_told(tmp_path, monkeypatch):
    """Half a billion samples that were not recorded: the file is as long as they would be, its blocks on the disk are not."""
    record = LongRecord(tmp_path / "a.record", "long", 1e6, CHANNELS[:1])
    record.append(np.ones((1, 100), np.int16))
    monkeypatch.setattr(record, "_levels", [])
    monkeypatch.setattr(record, "_columns", record._columns[:1])
    with record._written():
        record._columns[0].skip(500_000_000)
        record._columns[0].commit()
    said = (tmp_path / "a.record" / "0.npy").stat()
    assert said.st_size > 1e9
    assert said.st_blocks * 512 < 1e6
    monkeypatch.setattr(
        Path, "write_text", lambda *_, **__: (_ for _ in ()).throw(OSError(28, "No space left on device"))
    )
    with pytest.raises(StoreError, match="takes no more: No space left"):
        record.skip(10)
