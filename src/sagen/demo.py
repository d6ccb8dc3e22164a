"""The demo jobs: a made-up workshop and made-up machines, recorded from the simulated machine."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from sagen.machine.circuit import HallCircuit
from sagen.machine.record import ToothedWheel, record_hall
from sagen.machine.shaft import Shaft
from sagen.model.capture import Capture
from sagen.model.sheet import Sheet
from sagen.model.wheel import Wheel
from sagen.signal.examine import examine
from sagen.store.log import JobLog

WORKSHOP = "Quernstone Lane Garage"


@dataclass(frozen=True)
class DemoCapture:
    """One recording of a demo job."""

    name: str
    shaft: Shaft
    wheel: ToothedWheel
    circuit: HallCircuit
    state: str = "cranking"
    seconds: float = 2.4
    sfreq: float = 40_000.0
    seed: int = 1

    def make(self) -> tuple[Capture, Sheet]:
        capture = record_hall(
            self.name, shaft=self.shaft, wheel=self.wheel, circuit=self.circuit,
            seconds=self.seconds, sfreq=self.sfreq, seed=self.seed,
        )  # fmt: skip
        channel = {
            "column": "CH1", "role": "crank", "sensor": "hall",
            "wheel": str(self.wheel.wheel), "pull_up": self.circuit.pull_up,
        }  # fmt: skip
        sheet = {
            "engine": {"cylinders": self.shaft.cylinders},
            "conditions": {"state": self.state},
            "channel": [channel],
        }
        return capture, Sheet.from_data(sheet)


@dataclass(frozen=True)
class DemoJob:
    machine: str
    owner: str
    cylinders: int
    #: (kind, data) or a DemoCapture, oldest first
    trail: tuple = field(default=())


_FELL = ToothedWheel(Wheel(44, 2), 0.48)
_FELL_SHAFT = Shaft(218, 205, 4, 0.22, 0.02, start_deg=131)
_COURIER = ToothedWheel(Wheel(32, 1), 0.5)
_COURIER_SHAFT = Shaft(187, 196, 6, 0.16, 0.01, start_deg=40)
_DRAKE = ToothedWheel(Wheel(52, 2), 0.52)

JOBS = (
    DemoJob(
        "Ostrel Heron 3 twin", "Fenwick Allotments", 2,
        (
            ("complaint", {"text": "lamp_only"}),
            ("note", {"text": "Came in on its own wheels. Nothing measured yet."}),
        ),
    ),
    DemoJob(
        "Velmora Courier 2.6", "Pell & Daughters Bakery", 6,
        (
            ("complaint", {"text": "long_crank"}),
            ("code", {"code": "P0335", "meaning": "crankshaft position sensor, circuit"}),
            ("note", {"text": "Sensor changed last month by the owner, part from a parcel without a name. No better."}),
            DemoCapture("courier-cranking.csv", _COURIER_SHAFT, _COURIER, HallCircuit(12.0, 3_300, leak_ohm=1_180), seed=3),
        ),
    ),
    DemoJob(
        "Quillaby Drake 1.4", "Ms. Oduya", 3,
        (
            ("complaint", {"text": "no_start"}),
            ("code", {"code": "P0335", "meaning": "crankshaft position sensor, circuit"}),
            DemoCapture("drake-cranking.csv", Shaft(240, 240, 3, 0.24), _DRAKE, HallCircuit(8.0, 1_800, dead="open"), seed=5),
            ("note", {"text": "Return at the plug reads 7.4 V, key on: green crust in the body earth behind the battery tray."}),
            ("repair", {"text": "Earth eyelet cleaned, crimped anew and sealed."}),
            DemoCapture("drake-after-repair.csv", Shaft(236, 244, 3, 0.24, start_deg=20), _DRAKE, HallCircuit(8.0, 1_800), seed=6),
            ("proof", {"text": "Codes cleared, driven 14 km as the complaint was, none came back."}),
        ),
    ),
    DemoJob(
        "Tarnbeck Fell 1.8", "Mr. Lindqvist-Rao", 4,
        (
            ("complaint", {"text": "no_start"}),
            ("code", {"code": "P0336", "meaning": "crankshaft position sensor, range or performance"}),
            ("note", {"text": "Timing belt done 300 km ago elsewhere; a pry mark on the pulley guard."}),
            DemoCapture("fell-cranking.csv", _FELL_SHAFT, ToothedWheel(_FELL.wheel, _FELL.duty, (17,)), HallCircuit(5.0), seed=2),
        ),
    ),
)  # fmt: skip


def make_demo_log(folder: Path | None = None, progress: Callable[[float], bool] | None = None) -> JobLog:
    """A new job log with the demo jobs, in `folder` or in a passing one that is removed at exit."""
    if folder is None:
        folder = Path(tempfile.mkdtemp(prefix="sagen-demo-"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
    log = JobLog(folder)
    for index, demo in enumerate(JOBS):
        if progress:
            progress(index / len(JOBS))
        job = log.add_job(demo.machine, owner=demo.owner, cylinders=demo.cylinders)
        for step in demo.trail:
            if isinstance(step, DemoCapture):
                capture, sheet = step.make()
                log.add_capture(job.id, capture, examine(capture, sheet).as_data(sheet))
            else:
                log.add_entry(job.id, *step)
    log.forget_steps()
    return log
