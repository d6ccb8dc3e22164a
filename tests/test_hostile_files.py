"""What a careless or hostile person puts where a file is due: pipes, devices, folders, links, a full disk, odd line ends."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from sagen.artifacts.atomic import atomic_write, read_small_text, write_whole
from sagen.casework import fault_log
from sagen.cli import main
from sagen.files import load_sheet, read_capture, write_capture, write_sheet
from sagen.files.cards import read_rows
from sagen.files.circuits import load_toml
from sagen.files.csv_dialect import lines_of
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError, SagenError, SheetError
from sagen.model.sheet import Sheet

READERS = (load_sheet, read_rows, lambda path: load_toml(path, "job"), lambda path: read_small_text(path, "text"))


def sagen(*arguments, seconds=30):
    return subprocess.run(
        [sys.executable, "-m", "sagen", *map(str, arguments)],
        capture_output=True,
        text=True,
        timeout=seconds,
        check=False,
    )


@pytest.mark.parametrize("reader", READERS)
@pytest.mark.parametrize("kind", ["pipe", "zero", "random", "folder", "huge", "gone", "bytes", "nul"])
def test_no_small_text_is_read_from_what_is_no_plain_file(reader, kind, tmp_path):
    pipe, huge, odd = tmp_path / "pipe.toml", tmp_path / "huge.toml", tmp_path / "bytes.toml"
    os.mkfifo(pipe)
    with huge.open("wb") as stream:
        stream.truncate(1 << 34)
    odd.write_bytes(b"\xff\xfe\x00\x01" * 40)
    where = {
        "pipe": pipe, "zero": Path("/dev/zero"), "random": Path("/dev/urandom"), "folder": tmp_path, "huge": huge,
        "gone": tmp_path / "gone.toml", "bytes": odd, "nul": Path("a\0b.toml"),
    }[kind]  # fmt: skip
    with pytest.raises(SheetError) as told:
        reader(where)
    assert "\n" not in str(told.value)
    assert len(str(told.value)) < 200


def test_every_verb_refuses_a_pipe_a_device_and_the_root_at_once(tmp_path, capsys):
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    capture = tmp_path / "a.csv"
    capture.write_text("Time (s),CH1 (V)\n" + "\n".join(f"{k / 1000:.4f},{k % 7}" for k in range(500)))
    for arguments in (
        ("reason", pipe), ("reason", "/dev/zero"), ("reason", "/"), ("simulate", pipe, "--faults"), ("examine", pipe),
        ("examine", "/"), ("examine", "--sheet", pipe, capture), ("examine", "--sheet", "/dev/zero", capture),
    ):  # fmt: skip
        status = main([str(argument) for argument in arguments])
        told = capsys.readouterr()
        assert status == 1, arguments
        said = (told.out + told.err).strip()
        assert "unexpected" not in said, said


ROWS = "\n".join(f"{k / 20_000:.6f},{0.1 if (k * 90 / 20_000) % 1 < 0.5 else 5.0}" for k in range(4_000))
HEAD = "Time (s),CH1 (V)\n"


@pytest.mark.sampled(1)
@pytest.mark.parametrize(
    "preamble",
    [
        "",
        "made by\x0cX\nsecond\n",
        "note\u2028more\n",
        "note\x85more\n",
        '"a quoted\nline break",x\n',
        "a\x0bb\x1cc\n",
        "\n\n\n",
        '"""\n',
    ],
)
@pytest.mark.parametrize("times", [1, 40])
def test_no_row_of_a_table_is_lost_whatever_stands_before_it(preamble, times, tmp_path):
    """Both ways of reading: the short one and, forty times as long, the one for long tables."""
    path = tmp_path / "a.csv"
    rows = "\n".join([ROWS] if times == 1 else [f"{k / 20_000:.6f},{k % 11}" for k in range(4_000 * times)])
    path.write_text(preamble + HEAD + rows + "\n", encoding="utf-8")
    capture = read_capture(path)
    assert capture.samples == 4_000 * times
    assert capture.channels[0].raw[0] == pytest.approx(0.1 if times == 1 else 0.0)


def test_a_line_ends_where_files_end_lines():
    assert lines_of("a\r\nb\rc\nd\x0ce\u2028f\x85g") == ["a", "b", "c", "d\x0ce\u2028f\x85g"]
    assert lines_of("a\n") == ["a"]
    assert lines_of("") == []


def made(samples=500) -> Capture:
    return Capture("a", 10_000.0, (Channel("CH1", np.arange(samples, dtype=np.float32) % 5, "V"),))


@pytest.mark.parametrize("suffix", [".csv", ".wav", ".npz", ".mf4"])
def test_on_a_full_disk_what_was_there_stays(suffix, tmp_path, monkeypatch):
    """The disk is full from the moment that the passing file is synced: the usual place where it shows."""
    path = tmp_path / f"out{suffix}"
    path.write_bytes(b"precious")

    def full(_handle):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("sagen.artifacts.atomic.os.fsync", full)
    with pytest.raises(CaptureFileError, match="No space left"):
        write_capture(path, made())
    assert path.read_bytes() == b"precious"
    assert [this_path.name for this_path in tmp_path.iterdir()] == [path.name], "nothing is left behind"


def test_a_real_full_disk_of_a_few_blocks(tmp_path):
    """/dev/full is the system's own disk that is always full: writing through a link to it is refused, and it stays."""
    path = tmp_path / "out.csv"
    path.symlink_to("/dev/full")
    with pytest.raises(CaptureFileError, match="no plain file"):
        write_capture(path, made())
    assert path.is_symlink()


def test_nothing_is_written_through_a_link(tmp_path):
    target = tmp_path / "other.txt"
    target.write_text("somebody else's")
    link = tmp_path / "out.csv"
    link.symlink_to(target)
    write_capture(link, made())
    assert target.read_text() == "somebody else's"
    assert not link.is_symlink()
    write_sheet(tmp_path / "b.sheet.toml", Sheet())
    write_whole(tmp_path / "c.bin", b"1234")
    assert (tmp_path / "c.bin").read_bytes() == b"1234"


def test_a_writer_that_fails_leaves_what_was_there(tmp_path):
    path = tmp_path / "out.csv"
    path.write_text("precious")

    def fails():
        with atomic_write(path) as passing:
            passing.write_text("half")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fails()
    assert path.read_text() == "precious"
    assert len(list(tmp_path.iterdir())) == 1


@pytest.mark.long
def test_converting_never_overwrites_a_sheet_that_says_something_else(tmp_path, make_csv):
    source = make_csv("a.csv")
    (tmp_path / "b.sheet.toml").write_text('[conditions]\nstate = "running"\n')
    done = sagen("convert", source, "-o", tmp_path / "b.csv")
    assert done.returncode == 1
    assert "says something else" in done.stderr
    assert not (tmp_path / "b.csv").exists()
    assert "running" in (tmp_path / "b.sheet.toml").read_text()
    (tmp_path / "b.sheet.toml").unlink()
    for _ in range(2):
        assert sagen("convert", source, "-o", tmp_path / "b.csv").returncode == 0, "its own sheet is no stranger"


def test_a_name_that_no_file_can_have_is_refused_in_a_sentence(tmp_path):
    for name in ("x" * 300 + ".csv", "a\0b.csv"):
        with pytest.raises(SagenError) as told:
            read_capture(tmp_path / name)
        assert len(str(told.value)) < 400


@pytest.mark.parametrize(
    "name",
    [
        "=cmd|'/c calc'!A0",
        "+1+1",
        "-2",
        "@SUM(A1)",
        "a,b",
        'say "no"',
        "two\nlines",
        " blank ",
        "a;b",
        "mV (mV)",
        "'quoted",
        "Ω µ",
    ],
)
def test_names_are_kept_through_csv_and_no_spreadsheet_takes_one_for_a_formula(name, tmp_path):
    """Python's own csv module and pandas read the same name; none begins as a formula does."""
    import csv

    capture = Capture(
        "a", 10_000.0, tuple(Channel(item, np.arange(400, dtype=np.float32) % 5, "V") for item in (name, "B"))
    )
    path = tmp_path / "a.csv"
    write_capture(path, capture)
    with path.open(newline="") as stream:
        head = next(csv.reader(stream))
    assert len(head) == 3
    assert not head[1].startswith(("=", "+", "-", "@"))
    again = read_capture(path)
    assert again.channels[0].column == name
    assert again.channels[1].column == "B"


@pytest.mark.parametrize(
    "line",
    [
        "cylinders = " + "9" * 4_400,
        "cylinders = nan",
        "cylinders = -3",
        "cylinders = 1e300",
        "bore_mm = inf",
        "x = [" + "[" * 5_000,
    ],
)
def test_numbers_beyond_reason_in_a_sheet_are_refused_in_a_sentence(line, tmp_path):
    path = tmp_path / "a.sheet.toml"
    path.write_text(f"[engine]\n{line}\n")
    with pytest.raises(SheetError) as told:
        load_sheet(path)
    assert len(str(told.value)) < 240


@pytest.mark.parametrize(
    "line",
    [
        "factor = 1e308",
        "factor = -1e9",
        "factor = 1e-300",
        "factor = inf",
        "shunt_ohm = 1e300",
        "pull_up = 1e308",
        "nominal = nan",
    ],
)
def test_no_number_of_a_channel_is_beyond_reason(line, tmp_path):
    path = tmp_path / "a.sheet.toml"
    path.write_text(f'[[channel]]\ncolumn = "A"\nrole = "crank"\n{line}\n')
    with pytest.raises(SheetError):
        load_sheet(path)


NEW_LOG = """
import sys, time
from pathlib import Path
from sagen.store.opening import open_log
while not Path(sys.argv[2]).exists():
    time.sleep(0.001)
log = open_log(Path(sys.argv[1]))
log.add_job("made at once")
log.close()
"""


@pytest.mark.long
def test_several_processes_make_a_new_log_at_once(tmp_path):
    """One upgrade, and everybody's job is there once."""
    from sagen.store.opening import open_log

    folder, go = tmp_path / "log", tmp_path / "go"
    made = [
        subprocess.Popen([sys.executable, "-c", NEW_LOG, folder, go], stderr=subprocess.PIPE, text=True)
        for _ in range(3)
    ]
    go.touch()
    said = [item.communicate(timeout=60)[1] for item in made]
    assert [item.returncode for item in made] == [0, 0, 0], said
    log = open_log(folder)
    assert len(log.jobs()) == 3
    log.close()


def test_a_report_for_support_holds_versions_and_places_but_no_names(tmp_path, monkeypatch):
    import logging
    import zipfile

    monkeypatch.setattr(fault_log, "log_file", lambda: tmp_path / "state" / "sagen.log")
    (tmp_path / "state").mkdir()
    handler = logging.FileHandler(tmp_path / "state" / "sagen.log", encoding="utf-8")
    logger = logging.getLogger("sagen")
    logger.addHandler(handler)
    try:
        try:
            raise ValueError("column 'Mr. Lindqvist-Rao' of /home/otto/kunden/fell.csv, otto@example.org")
        except ValueError as error:
            fault_log.note(error)
    finally:
        logger.removeHandler(handler)
        handler.close()
    fault_log.save_report(tmp_path / "r.zip")
    with zipfile.ZipFile(tmp_path / "r.zip") as zipped:
        told = zipped.read("sagen.log").decode()
        versions = zipped.read("versions.txt").decode()
    for name in ("Lindqvist", "otto", "kunden", "fell.csv", "example.org"):
        assert name not in told
    assert "test_hostile_files.py, line" in told
    assert "ValueError" in told
    assert f"numpy {np.__version__}" in versions
    with pytest.raises(SagenError, match="cannot be written"):
        fault_log.save_report(tmp_path / "no" / "r.zip")


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("rows", [60, 30_000])
def test_a_value_that_no_recorder_gives_is_told_by_its_line_and_warns_nobody(tmp_path, rows):
    path = tmp_path / "big.csv"
    path.write_text(
        "Time (s),A (V)\n" + "".join(f"{k * 1e-4:.6f},{'1e39' if k == 30 else '1.5'}\n" for k in range(rows))
    )
    with pytest.raises(CaptureFileError, match="line 32"):
        read_capture(path)
