"""The demo jobs: a made-up workshop and made-up machines, recorded from the simulated machine."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from sagen.machine.faults import broken, possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.machine.simulated import SimulatedMachine
from sagen.model.capture import Capture
from sagen.model.circuit import CircuitSpec
from sagen.model.job import Job
from sagen.model.sheet import Sheet
from sagen.reason.facts import cause_of, knowledge
from sagen.reason.jobs import part_of
from sagen.reason.log_case import circuit_of_job
from sagen.signal.examine import examine
from sagen.store.log import JobLog

WORKSHOP = "Quernstone Lane Garage"


@dataclass(frozen=True)
class DemoCapture:
    """One recording of a demo job, made by the simulated machine."""

    name: str
    spec: CircuitSpec
    faults: tuple[tuple[str, float], ...] = ()
    state: str = "cranking"
    cylinders: int = 4
    seconds: float = 2.4
    sfreq: float = 40_000.0
    seed: int = 1
    good_seed: int | None = None  #: compared with a sound machine of this seed

    def make(self) -> tuple[Capture, Sheet]:
        machine = broken(self.spec, self.faults, self.seed)
        return record(
            machine, self.state, seconds=self.seconds, sfreq=self.sfreq, cylinders=self.cylinders, name=self.name
        )

    def make_good(self) -> tuple[Capture, Sheet] | None:
        if self.good_seed is None:
            return None
        good = DemoCapture(
            f"good-{self.name}", self.spec, (), self.state, self.cylinders, self.seconds, self.sfreq, self.good_seed
        )
        return good.make()


@dataclass(frozen=True)
class DemoJob:
    machine: str
    owner: str
    cylinders: int
    #: (kind, data) or a DemoCapture, oldest first
    trail: tuple = field(default=())


_FELL = CircuitSpec(role="crank", sensor="hall", supply=5.0, pull_up=5.0, wheel="44-2")
_COURIER = CircuitSpec(
    role="crank", sensor="hall", supply=12.0, pull_up=12.0, wheel="32-1", values={"pull_up_ohm": 3_300}
)
_DRAKE = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=8.0, wheel="52-2", values={"pull_up_ohm": 1_800})
_PLOVER = CircuitSpec(role="crank", sensor="reluctance", wheel="34-1", ohms=(610.0, 740.0))
_SKERRY = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="3")
_MARLIN = CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="46")

JOBS = (
    DemoJob(
        "Ostrel Heron 3 twin", "Fenwick Allotments", 2,
        (
            ("complaint", {"text": "lamp_only"}),
            ("note", {"text": "Came in on its own wheels. Nothing measured yet."}),
        ),
    ),
    DemoJob(
        "Marrick Marlin estate", "Halloran Rural Post", 4,
        (
            ("complaint", {"text": "no_speed_display"}),
            ("code", {"code": "P0500"}),
            DemoCapture("marlin-rolling.csv", _MARLIN, (("wheel runs out", 0.7),), "rolling", seconds=4.0, sfreq=20_000.0, seed=11),
        ),
    ),
    DemoJob(
        "Skerry Lantern 2.2", "Brightwater Taxis", 4,
        (
            ("complaint", {"text": "runs_rough"}),
            ("code", {"code": "P0016"}),
            ("note", {"text": "Chain noise for a week; oil was low when it came in."}),
            DemoCapture("lantern-cam.csv", _SKERRY, (("belt or chain off", 0.2),), seconds=3.0, seed=7, good_seed=21),
        ),
    ),
    DemoJob(
        "Plover Dray 4", "Tanner's Yard", 4,
        (
            ("complaint", {"text": "stalls"}),
            ("code", {"code": "P0336"}),
            DemoCapture("dray-idle.csv", _PLOVER, (("tooth chipped", 0.9),), "running", seconds=1.6, seed=9, good_seed=22),
        ),
    ),
    DemoJob(
        "Velmora Courier 2.6", "Pell & Daughters Bakery", 6,
        (
            ("complaint", {"text": "long_crank"}),
            ("code", {"code": "P0335"}),
            ("replaced", {"part": "sensor", "origin": "unknown", "text": "By the owner, from a parcel without a name. No better."}),
            DemoCapture("courier-cranking.csv", _COURIER, (("signal wire leaking", 0.6),), cylinders=6, seed=3),
        ),
    ),
    DemoJob(
        "Quillaby Drake 1.4", "Ms. Oduya", 3,
        (
            ("complaint", {"text": "no_start"}),
            ("code", {"code": "P0335"}),
            DemoCapture("drake-cranking.csv", _DRAKE, (("return open", 1.0),), cylinders=3, seed=5),
            ("note", {"text": "Green crust in the body earth behind the battery tray."}),
            ("repair", {"text": "Earth eyelet cleaned, crimped anew and sealed.", "part": "ground"}),
            DemoCapture("drake-after-repair.csv", _DRAKE, (), cylinders=3, seed=6),
            ("proof", {"text": "Codes cleared, driven 14 km as the complaint was, none came back."}),
        ),
    ),
    DemoJob(
        "Tarnbeck Fell 1.8", "Mr. Lindqvist-Rao", 4,
        (
            ("complaint", {"text": "no_start"}),
            ("code", {"code": "P0336"}),
            ("note", {"text": "Timing belt done 300 km ago elsewhere; a pry mark on the pulley guard."}),
            DemoCapture("fell-cranking.csv", _FELL, (("tooth missing", 0.7),), seed=2),
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
                good = step.make_good()
                data = examine(capture, sheet, reference=good).as_data(sheet)
                if good is not None:
                    kept = good[1].model_dump(mode="json", exclude_none=True)
                    data["reference"] = {"name": good[0].name, "token": log.shelf.put(good[0]), "sheet": kept}
                log.add_capture(job.id, capture, data)
            else:
                log.add_entry(job.id, *step)
    log.forget_steps()
    return log


# The stand-in: what the demo's instruments are clipped to ----------------------------------------------


def faults_of(job: Job, spec: CircuitSpec) -> tuple[tuple[str, float], ...]:
    """What is wrong with the machine that stands in for a job's own.

    A demo job's machine has the fault that its capture was made with, any other job's one drawn by how common
    they are, always the same for the same job. Once the part that it lies in has been changed it is gone.
    """
    told = next((one for one in JOBS if one.machine == job.machine), None)
    made = next((one for one in told.trail if isinstance(one, DemoCapture)), None) if told else None
    if made is not None:
        faults = made.faults
    else:
        rng = np.random.default_rng([job.id, 41])
        names = [one.name for one in possible(spec)]
        faults = ((str(rng.choice(names, p=knowledge().weights(names, spec.role))), float(rng.uniform(0.4, 1.0))),)
    parts = knowledge().parts
    mended = {cause for one in job.of("repair") for cause in parts.get(part_of(one.data.get("part", "")), ())}
    return tuple(one for one in faults if cause_of(one[0]) not in mended)


def stand_in(job: Job) -> SimulatedMachine:
    """The simulated machine that stands in for a job's own."""
    spec = circuit_of_job(job)
    known = {one.name for one in possible(spec)}
    machine = broken(spec, [one for one in faults_of(job, spec) if one[0] in known], 200 + job.id)
    machine.cylinders = job.cylinders or 4
    return machine


def meter_on_stand_in(job: Job, point: str, state: str) -> tuple[float, str]:
    """What a meter shows there, and whether that is "volts" or "ohms"; raises SagenError where nothing can be read."""
    reading = read(stand_in(job), point, state)
    return reading.value, reading.quantity


def recorder_on_stand_in(job: Job, state: str) -> tuple[Capture, Sheet]:
    """What a recorder takes there in a state."""
    machine = stand_in(job)
    # Each recording is another one of the same machine.
    machine.rng = np.random.default_rng([job.id, len(job.entries), 5])
    seconds = {"wiggle": 8.0, "cranking": 4.0}.get(state, 3.0)
    return record(
        machine, state, seconds=seconds, sfreq=40_000.0, cylinders=machine.cylinders, name=f"stand-in-{state}.csv"
    )
