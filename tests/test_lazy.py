"""Packages that are imported when they are first used."""

import subprocess
import sys


def told(code):
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=True).stdout


def test_the_bus_comes_without_what_it_only_records_with_and_that_comes_when_it_is_asked():
    said = told(
        "import sys\nfrom sagen.instruments.module_can import can\nfrom sagen.files.binary import asammdf\n"
        "can.Message\nprint('asammdf' in sys.modules, 'pandas' in sys.modules)\nprint(asammdf.MDF.__name__)"
    )
    assert said.split() == ["False", "False", "MDF"]
