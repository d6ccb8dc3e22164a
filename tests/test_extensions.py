"""What is added to the house is one file: a toy of each kind, brought by an entry point from a folder of its own."""

import json
import os
import subprocess
import sys

import pytest

TOYS = {
    "toy_format": '''
import numpy as np
from sagen.files.format_registry import Format, register_format
from sagen.model.capture import Capture, Channel

def read(path):
    """Tally marks: a line a sample, as many strokes as volts."""
    lines = path.read_text().splitlines()[1:]
    return Capture(path.name, 1000.0, (Channel("strokes", np.array([len(one) for one in lines], np.float32)),))

register_format(Format("tally", (".tally",), lambda head: head.startswith(b"TALLY"), read))
''',
    "toy_fault": """
from sagen.machine.faults import fault
from sagen.reason.facts import extend_knowledge

@fault("magpie_in_the_loom", "wiring", "The signal wire is pulled out by a bird.", computed=True)
def magpie(machine, severity):
    machine.values.signal_wire_ohm = 1e9

extend_knowledge('[fault.magpie_in_the_loom]\\nweight = 5000.0\\npart = "harness"\\ndo = "Take the nest out of the loom."\\n[shape.dropout]\\nmagpie_in_the_loom = 0.4\\n', "toy_fault")
""",
    "toy_check": '''
from sagen.reason.facts import extend_knowledge
extend_knowledge("""
[[check]]
slug = "listen_for_birds"
name = "listen for birds"
kind = "look"
text = "Listen at the loom with the key off."
point = "signal"
state = "unplugged"
gear = "eyes"
minutes = 0.2
expect = "Silence."
[check.outcome.chirping]
sensor_dead = 0.9
other = 0.01
""", "toy_check")
''',
    "toy_page": """
from PySide6.QtWidgets import QVBoxLayout
from sagen.desk.actions import Action
from sagen.desk.theme.plain import Label
from sagen.desk.pages import Page, register_page

class ToyPage(Page):
    name, title = "toy", "Toy page"

    def __init__(self):
        super().__init__()
        self.pressed = 0
        QVBoxLayout(self).addWidget(Label("A page from outside"))

    def press(self):
        self.pressed += 1

    shortcuts = (Action("Ctrl+T", "press the toy", press),)

register_page("toy", ToyPage)
""",
    "toy_instrument": """
import numpy as np
from sagen.instruments import Block, MeterValue, register_instruments
from sagen.model.capture import Channel

class Toy:
    sfreq = 500.0

    def __init__(self, job):
        self.meter = self

    def recorder(self, state):
        return self

    def channels(self):
        return (Channel("toy", np.zeros(0, np.float32)),)

    def sheet(self):
        return None

    def blocks(self):
        for start in range(0, 100, 10):
            yield Block(np.arange(start, start + 10, dtype=np.float32)[np.newaxis])

    def read(self, point, state):
        return MeterValue(point, state, "volts", 4.2)

register_instruments("toy", Toy)
""",
}

TOLD = """
import json, sys, tempfile
from pathlib import Path
from sagen.files import read_capture
from sagen.instruments import all_instruments, instruments_called
from sagen.instruments.stand_in import recorded
from sagen.kinds import broken
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.model.circuit import CircuitSpec
from sagen.model.extensions import load_extensions
from sagen.model.trail import CodeEntry, InspectionEntry
from sagen.reason.case import case_of
from sagen.reason.checks import next_checks
from sagen.reason.facts import knowledge
from sagen.reason.weights import infer, weigh

told = {"loaded": sorted(load_extensions())}
spec = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")

if "toy_format" in sys.argv:
    Path("a.tally").write_text("TALLY\\n" + "|||\\n\\n" * 50)
    capture = read_capture("a.tally")
    told["format"] = [capture.channels[0].column, capture.samples, float(capture.channels[0].values().max())]
if "toy_fault" in sys.argv:
    told["possible"] = "magpie_in_the_loom" in [one.slug for one in possible(spec)]
    sick = broken(spec, [("magpie in the loom", 0.8)], 3)
    told["reads"] = read(sick, "signal", "key_on_unplugged").value
    suspects, _ = weigh(case_of((CodeEntry("P0335"),), spec))
    told["suspect"] = [suspects[0].fault, suspects[0].advice, str(suspects[0].cause)]
if "toy_check" in sys.argv:
    def dead(outcome):
        suspects, _ = weigh(case_of((CodeEntry("P0335"), InspectionEntry("listen_for_birds", outcome)), spec))
        return {one.cause: one.probability for one in suspects}["sensor"]
    told["sensor"] = [dead("chirping"), dead("")]
    case = case_of((CodeEntry("P0335"),), spec, ("eyes", "meter"))
    told["checks"] = [one.check.slug for one in next_checks(case, infer(case))]
if "toy_instrument" in sys.argv:
    told["instruments"] = all_instruments()
    toy = instruments_called("toy", None)
    capture = recorded(toy.recorder("running"), "toy.csv")
    told["recorded"] = [capture.sfreq, capture.samples, float(capture.channels[0].values()[-1])]
    told["meter"] = toy.meter.read("signal", "key_on").value
if "toy_page" in sys.argv:
    from PySide6.QtCore import QEventLoop, QSettings, Qt, QTimer
    from PySide6.QtTest import QTest
    from sagen.desk.app import make_application, make_window, own_log
    app = make_application()
    window = make_window(QSettings("s.ini", QSettings.Format.IniFormat))
    window.show()
    window.workspace.open_log(own_log(Path(tempfile.mkdtemp())))
    def spin(n):
        loop = QEventLoop(); QTimer.singleShot(n, loop.quit); loop.exec()
    for _ in range(300):
        spin(20)
        if window.workspace.idle and window.header.more_button.menu():
            break
    offered = window.header.more_button.menu().actions()[-1]
    offered.trigger()
    page = window.page("toy")
    told["shown"] = [window.stack.currentWidget() is page, offered.text()]
    QTest.keyClick(window, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    told["pressed"] = page.pressed
    told["keys"] = "press the toy" in window.commands.run("view.keys_dialog").told()
    window.close()
print(json.dumps(told))
"""


@pytest.fixture
def with_toys(tmp_path):
    """Install toys as a package that is only a folder on the path, and answer what a fresh Sagen tells of them."""

    def tell(*names):
        info = tmp_path / "toys-1.0.dist-info"
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: toys\nVersion: 1.0\n")
        (info / "entry_points.txt").write_text("[sagen.extensions]\n" + "".join(f"{name} = {name}\n" for name in names))
        for this_name in names:
            (tmp_path / f"{this_name}.py").write_text(TOYS.get(this_name, "raise RuntimeError('a toy that breaks')"))
        home = {"XDG_CONFIG_HOME": str(tmp_path / "config"), "XDG_STATE_HOME": str(tmp_path / "state")}
        done = subprocess.run(
            [sys.executable, "-c", TOLD, *names], cwd=tmp_path, capture_output=True, text=True, timeout=100,
            env={**os.environ, **home, "PYTHONPATH": str(tmp_path)},
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout.splitlines()[-1])

    return tell


def test_a_file_format_is_one_file(with_toys):
    assert with_toys("toy_format")["format"] == ["strokes", 100, 3.0]


def test_a_fault_mode_is_one_file_with_what_is_known_of_it(with_toys):
    told = with_toys("toy_fault")
    assert told["possible"]
    assert told["reads"] < 0.5
    assert told["suspect"] == ["magpie_in_the_loom", "Take the nest out of the loom.", "wiring"]


@pytest.mark.long
def test_a_check_is_one_file(with_toys):
    told = with_toys("toy_check")
    chirping, silent = told["sensor"]
    assert chirping > 0.6 > 0.5 > silent
    assert "listen_for_birds" in told["checks"]


@pytest.mark.long
def test_a_page_is_one_file_with_its_keys(with_toys):
    told = with_toys("toy_page")
    assert (told["shown"], told["pressed"], told["keys"]) == ([True, "Toy"], 1, True)


def test_an_instrument_is_one_file(with_toys):
    told = with_toys("toy_instrument")
    assert set(told["instruments"]) >= {"toy"}
    assert (told["recorded"], told["meter"]) == ([500.0, 100, 99.0], 4.2)


def test_an_extension_that_breaks_leaves_the_rest_whole(with_toys):
    told = with_toys("toy_broken", "toy_format")
    assert told["loaded"] == ["toy_format"]
    assert told["format"][0] == "strokes"
