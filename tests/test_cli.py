"""The command-line contract, to the letter: in this process but for one."""

import io
import json
import subprocess
import sys
from contextlib import chdir, redirect_stderr, redirect_stdout
from pathlib import Path
from types import SimpleNamespace

import pypdfium2
import pytest

from conftest import demo_log
from sagen.cli import main
from sagen.files import read_capture


def sagen(*arguments, cwd=None):
    """What the command does: its exit status and what it prints."""
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err), chdir(cwd or "."):
        try:
            status = main([str(argument) for argument in arguments])
        except SystemExit as error:
            status = error.code
    return SimpleNamespace(returncode=status, stdout=out.getvalue(), stderr=err.getvalue())


def test_the_installed_command_is_the_same_one(make_csv):
    path = make_csv(lost=(31,))
    command = [str(Path(sys.executable).with_name("sagen")), "examine", str(path), "--json"]
    done = subprocess.run(command, capture_output=True, text=True, timeout=100)
    inside = sagen("examine", path, "--json")
    assert (done.returncode, done.stdout, done.stderr) == (inside.returncode, inside.stdout, inside.stderr)


def test_examine_json_to_the_letter(make_csv):
    path = make_csv(lost=(31,), ripple=0.2)
    done = sagen("examine", path, "--json")
    assert done.returncode == 0
    assert done.stderr == ""
    [line] = done.stdout.splitlines()
    row = json.loads(line)
    assert list(row) == ["capture", "channels", "findings", "suspects"]
    assert row["capture"] == str(path)
    [channel] = row["channels"]
    assert list(channel) == ["column", "role", "low", "high", "unit", "speed_rpm", "wheel"]
    assert (channel["column"], channel["role"], channel["unit"]) == ("CH1", "crank", "V")
    assert channel["wheel"] == {"slots": 60, "missing": 2}
    assert set(channel["speed_rpm"]) == {"min", "median", "max"}
    [finding] = row["findings"]
    assert list(finding) == ["kind", "channel", "tooth", "angle_deg", "repeats", "severity", "text"]
    assert (finding["kind"], finding["tooth"], finding["angle_deg"], finding["repeats"]) == (
        "extra_gap",
        31,
        180.0,
        True,
    )
    assert 0 <= finding["severity"] <= 1
    first = row["suspects"][0]
    assert (first["cause"], first["fault"]) == ("reluctor", "tooth missing")
    # One picture alone: readers see a gap that is not there now and then.
    assert first["probability"] > 0.75
    probabilities = [item["probability"] for item in row["suspects"]]
    assert probabilities == sorted(probabilities, reverse=True)


def test_one_bad_file_does_not_stop_the_others(make_csv, tmp_path):
    good, other = make_csv("good.csv"), make_csv("other.csv", low=2.9)
    bad = tmp_path / "bad.csv"
    bad.write_text("no numbers here\n")
    done = sagen("examine", good, bad, tmp_path / "gone.csv", other, "--json")
    assert done.returncode == 1
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert [set(row) == {"capture", "error"} for row in rows] == [False, True, True, False]
    assert "no table of numbers" in rows[1]["error"]
    assert rows[0]["findings"] == []
    assert [row["kind"] for row in rows[3]["findings"]] == ["low_not_pulled_down"]


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("pullup = 5.0", "in [channel], unknown key 'pullup'; did you mean 'pull_up'?"),
        ('colour = "red"', "unknown key 'colour'"),
        ("factor = 0", "must not be zero"),
        ("pull_up = -3", "greater than 0"),
        ("nominal = nan", "finite"),
        ("= 3", "not well-formed TOML"),
    ],
)
def test_a_wrong_sheet_names_the_key(make_csv, line, said):
    path = make_csv(sheet=False, seconds=0.2)
    sheet = path.with_name("a.sheet.toml")
    sheet.write_text(f'[[channel]]\ncolumn = "CH1"\nrole = "crank"\nsensor = "hall"\n{line}\n')
    done = sagen("examine", path, "--json")
    assert done.returncode == 1
    assert said in json.loads(done.stdout)["error"]
    assert "Traceback" not in done.stderr


def test_sheet_by_option_and_reference(make_csv):
    make_csv("good.csv", rpm=260.0)
    path = make_csv("a.csv", sheet=False, lost=(9,))
    sheet = path.with_name("other.toml")
    sheet.write_text(
        'reference = "good.csv"\n[[channel]]\ncolumn = "CH1"\nrole = "crank"\nsensor = "hall"\npull_up = 5\n'
    )
    row = json.loads(sagen("examine", path, "--sheet", sheet, "--json").stdout)
    assert [item["tooth"] for item in row["findings"]] == [9]
    plain = sagen("examine", path, "--sheet", sheet).stdout
    assert "differing at tooth 9" in plain
    sheet.write_text('reference = "gone.csv"\n[[channel]]\ncolumn = "CH1"\n')
    assert (
        "known-good capture 'gone.csv'"
        in json.loads(sagen("examine", path, "--sheet", sheet, "--json").stdout)["error"]
    )


@pytest.mark.parametrize("wrong", [["examine"], ["examine", "--colour"], ["nonsense"]])
def test_wrong_usage_is_2(wrong):
    done = sagen(*wrong)
    assert done.returncode == 2
    assert "usage" in done.stderr


def test_report_is_one_or_two_pages_and_says_it_all(make_csv, tmp_path):
    path = make_csv(lost=(31,))
    assert sagen("report", path, "-o", tmp_path / "a.pdf").returncode == 0
    document = pypdfium2.PdfDocument(tmp_path / "a.pdf")
    assert 1 <= len(document) <= 2
    text = " ".join(page.get_textpage().get_text_range() for page in document).replace("\r\n", " ")
    for said in ("tooth 31 is not seen", "Reluctor: tooth missing", "What to do next", "Mind:", "60-2", "0.10 V"):
        assert said in text
    assert sagen("report", path, "-o", tmp_path / "a.html").returncode == 0
    html = (tmp_path / "a.html").read_text()
    assert "tooth 31 is not seen" in html
    assert "http" not in html.replace("http://www.w3.org/2000/svg", "")
    refused = sagen("report", path, "-o", tmp_path / "no" / "a.pdf")
    assert refused.returncode == 1
    assert "cannot be written" in refused.stderr


@pytest.mark.sampled(1)
@pytest.mark.parametrize("verb", ["examine", "reason", "convert", "report", "simulate"])
def test_something_unforeseen_is_one_sentence_and_the_next_file_is_read(verb, make_csv, capsys, monkeypatch, tmp_path):
    first, second = make_csv("first.csv"), make_csv("second.csv")
    real = read_capture

    def read(path):
        if "first" in str(path):
            raise ZeroDivisionError("seven")
        return real(path)

    for where in (
        "casework.examination.read_capture",
        "casework.headless.read_job",
        "cli.convert.read_capture",
        "cli.simulate.read_circuit",
    ):
        monkeypatch.setattr(f"sagen.{where}", read)
    out = ["-o", str(tmp_path / "o.csv")] if verb != "report" else ["-o", str(tmp_path / "o.pdf")]
    several = verb in ("examine", "reason")
    status = main([verb, str(first), *([str(second)] if verb == "examine" else []), *([] if several else out)])
    told = capsys.readouterr()
    assert status == 1
    assert "something unexpected went wrong (ZeroDivisionError: seven)" in told.out + told.err
    assert "Traceback" not in told.out + told.err
    if verb == "examine":
        assert "wheel 60-2" in told.out


def test_a_reader_of_the_output_that_goes_away_is_no_failure(monkeypatch):
    def gone(arguments):
        raise BrokenPipeError

    told = io.StringIO()
    monkeypatch.setattr("sagen.cli.meter.run", gone)
    monkeypatch.setattr("sys.stderr", told)
    assert main(["meter", "700", "ohm", "--limits", "600", "800"]) == 0
    assert told.closed  # nothing was said, nor can the interpreter say anything on its way out


@pytest.mark.parametrize("wheel", ["2-1", "720-719"])
def test_a_wheel_of_one_tooth_is_read_to_an_end(wheel, make_csv):
    path = make_csv(wheel=wheel, seconds=0.4)
    assert sagen("examine", path, "--json").returncode == 0


def test_flags_of_the_log_may_stand_before_its_words():
    log = demo_log()
    place, first = log.database.place.folder, log.jobs()[0].id
    log.close()
    told = sagen("--log", place, "log", "show", "--json", first)
    assert told.returncode == 0
    assert json.loads(told.stdout)["job"]


def test_examining_brings_in_nothing_of_the_log(make_csv):
    asked = (
        "import sys; from sagen.cli import main; main(['examine', sys.argv[1], '--json']);"
        "heavy = ('sqlalchemy', 'alembic', 'PySide6', 'weasyprint', 'asammdf', 'pandas');"
        "sys.exit(', '.join(name for name in heavy if name in sys.modules))"
    )
    done = subprocess.run([sys.executable, "-c", asked, str(make_csv())], capture_output=True, text=True, timeout=100)
    assert done.stderr.strip() == ""
    assert json.loads(done.stdout)["findings"] == []
