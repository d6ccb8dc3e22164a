"""The demo jobs: a made-up workshop and made-up machines, recorded from the simulated machine."""

from __future__ import annotations

import atexit
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from importlib.resources import files
from pathlib import Path

import numpy as np

from sagen.artifacts.folders import make_passing
from sagen.casework.examination import capture_entry, kept_name
from sagen.casework.shelf import KeepAsGood
from sagen.instruments import register_instruments, register_wired
from sagen.instruments.stand_in import StandIn
from sagen.instruments.wired import Wired, wired_stand_in
from sagen.kinds import broken, examine
from sagen.machine.faults import fault_called, possible
from sagen.machine.record import record
from sagen.machine.simulated import SimulatedMachine, Tap
from sagen.model.capture import Capture
from sagen.model.circuit import CircuitSpec
from sagen.model.job import Job
from sagen.model.machine_card import MachineCard
from sagen.model.proof import Stage
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CardEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    CostsEntry,
    NoteEntry,
    PartEntry,
    ProofEntry,
    ReadingEntry,
    Record,
    RepairEntry,
    ReplacedEntry,
    SeenEntry,
)
from sagen.model.vocabulary import Connection, Role
from sagen.reason.case import circuit_of
from sagen.reason.facts import knowledge
from sagen.store.log import JobLog
from sagen.store.opening import open_log

STAND_IN = "stand-in"  #: the name of the simulated instruments


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
    tap: Tap | None = None  #: how the set was struck
    bore_mm: float | None = None
    again: int = 0  #: which recording of the same machine this is

    def make(self) -> tuple[Capture, Sheet]:
        machine = broken(self.spec, self.faults, self.seed)
        machine.tap = self.tap
        if self.again:
            machine.rng = np.random.default_rng([self.seed, self.again])
        capture, sheet = self._recorded(machine)
        if self.bore_mm:
            sheet = sheet.model_copy(update={"engine": sheet.engine.model_copy(update={"bore_mm": self.bore_mm})})
        return capture, sheet

    def _recorded(self, machine) -> tuple[Capture, Sheet]:
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
    #: records and DemoCaptures, oldest first
    trail: tuple[Record | DemoCapture, ...] = field(default=())
    faults: tuple[tuple[str, float], ...] = ()  #: of the machine that stands in for it, where no capture tells


_FELL = CircuitSpec(role="crank", sensor="hall", supply=5.0, pull_up=5.0, wheel="44-2")
_COURIER = CircuitSpec(
    role="crank", sensor="hall", supply=12.0, pull_up=12.0, wheel="32-1", values={"pull_up_ohm": 3_300}
)
_DRAKE = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=8.0, wheel="52-2", values={"pull_up_ohm": 1_800})
_PLOVER = CircuitSpec(role="crank", sensor="reluctance", wheel="34-1", ohms=(610.0, 740.0))
_SKERRY = CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="3")
_HALYARD = CircuitSpec(
    role="knock", sensor="piezo", bank=1, ohms=(150_000.0, 185_000.0), values={"piezo_hz": 7_350.0, "piezo_v": 1.25}
)
_WEAK = (("element cracked", 0.35),)


def _tapped(name: str, place: str, connection: Connection, again: int, faults=_WEAK) -> DemoCapture:
    return DemoCapture(
        name, _HALYARD, faults, "strike", 6, seconds=2.7, sfreq=200_000.0, seed=17,
        tap=Tap(place, connection, 27_000.0), bore_mm=81.0, again=again,
    )  # fmt: skip


_DUNLIN = CircuitSpec(role="crank", sensor="hall", supply=5.0, pull_up=5.0, wheel="30-1")
_MARLIN = CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="46")

_TERN = CircuitSpec(role="cam", sensor="hall", bank=1, supply=12.0, pull_up=5.0)


def demo_card(name: str) -> MachineCard:
    """One of the shipped cards of made-up machines."""
    text = files("sagen.casework.demo_cards").joinpath(f"{name}.toml").read_text(encoding="utf-8")
    return MachineCard.from_data(tomllib.loads(text), f"{name}.toml")


def _card(name: str) -> CardEntry:
    return CardEntry(demo_card(name).as_data())


CARDS = ("curlew", "drake", "tern")

JOBS = (
    DemoJob(
        "Halyard Curlew 2.9 six", "Brackenridge Lime Works", 6,
        (
            ComplaintEntry("no_power", when=("hot",)),
            CodeEntry("P0325"),
            _card("curlew"),
            CircuitEntry(_HALYARD),
            NoteEntry("Intake manifold has to come off to get at them: three hours in and out, hoses brittle."),
            _tapped("curlew-open-front.csv", "front", Connection.UNPLUGGED, 1),
            _tapped("curlew-open-rear.csv", "rear", Connection.UNPLUGGED, 2),
            _tapped("curlew-27k-rear.csv", "rear", Connection.LOADED, 3),
        ),
    ),
    DemoJob(
        "Orrin Tern 1.8 V4", "Vesper Lane Couriers", 4,
        (
            ComplaintEntry("long_crank", when=("always",)),
            CodeEntry("P0340"),
            CodeEntry("P0345"),
            _card("tern"),
            CircuitEntry(_TERN, circuit="cam 1"),
            CircuitEntry(_TERN.model_copy(update={"bank": 2}), circuit="cam 2"),
            CostsEntry(hour=64.0, come_back=310.0, day=45.0),
            ReplacedEntry("sensor", "aftermarket", "Cam sensor of bank 1, elsewhere, two weeks ago. No change.", circuit="cam 1"),
            ReadingEntry("volts", "supply", "key_on", 0.04, shown="0.04 V", judged="outside", against="the model", circuit="cam 1"),
            ReadingEntry("volts", "ground", "key_on", 0.021, shown="21 mV", judged="inside", against="the model", circuit="cam 1"),
            ReadingEntry("volts", "supply", "key_on", 0.03, shown="0.03 V", judged="outside", against="the model", circuit="cam 2"),
            PartEntry("cam sensor, bank 1", "sensor", maker="Oskelund", source="Harbour Road Spares", origin="original", price=68.5, lead_days=1.0, state="offer"),
            PartEntry("cam sensor, bank 1", "sensor", source="by mail, no name", price=17.9, lead_days=16.0, state="offer"),
            SeenEntry("Heater hose rubs on the rear head's bracket", "quote", "it will leak within the year"),
        ),
    ),
    DemoJob(
        "Ostrel Heron 3 twin", "Fenwick Allotments", 2,
        (
            ComplaintEntry("lamp_only"),
            NoteEntry("Came in on its own wheels. Nothing measured yet."),
        ),
    ),
    DemoJob(
        "Wexcombe Dunlin 1.6", "Saltmarsh Deliveries", 4,
        (
            ComplaintEntry("stalls"),
            CodeEntry("P0335"),
            CircuitEntry(_DUNLIN),
            NoteEntry("Dies over the level crossing, starts again at once. Nothing to see when it stands still."),
        ),
        (("wire breaks when wiggled", 0.8),),
    ),
    DemoJob(
        "Marrick Marlin estate", "Halloran Rural Post", 4,
        (
            ComplaintEntry("no_speed_display"),
            CodeEntry("P0500"),
            DemoCapture("marlin-rolling.csv", _MARLIN, (("wheel runs out", 0.7),), "rolling", seconds=4.0, sfreq=20_000.0, seed=11),
        ),
    ),
    DemoJob(
        "Skerry Lantern 2.2", "Brightwater Taxis", 4,
        (
            ComplaintEntry("runs_rough"),
            CodeEntry("P0016"),
            NoteEntry("Chain noise for a week; oil was low when it came in."),
            DemoCapture("lantern-cam.csv", _SKERRY, (("belt or chain off", 0.2),), seconds=3.0, seed=7, good_seed=21),
        ),
    ),
    DemoJob(
        "Plover Dray 4", "Tanner's Yard", 4,
        (
            ComplaintEntry("stalls"),
            CodeEntry("P0336"),
            DemoCapture("dray-idle.csv", _PLOVER, (("tooth chipped", 0.9),), "running", seconds=1.6, seed=9, good_seed=22),
        ),
    ),
    DemoJob(
        "Velmora Courier 2.6", "Pell & Daughters Bakery", 6,
        (
            ComplaintEntry("long_crank"),
            CodeEntry("P0335"),
            ReplacedEntry("sensor", "unknown", "By the owner, from a parcel without a name. No better."),
            DemoCapture("courier-cranking.csv", _COURIER, (("signal wire leaking", 0.6),), cylinders=6, seed=3),
        ),
    ),
    DemoJob(
        "Quillaby Drake 1.4", "Ms. Oduya", 3,
        (
            ComplaintEntry("no_start"),
            CodeEntry("P0335"),
            _card("drake"),
            DemoCapture("drake-cranking.csv", _DRAKE, (("return open", 1.0),), cylinders=3, seed=5),
            NoteEntry("Green crust in the body earth behind the battery tray."),
            RepairEntry("ground", text="Earth eyelet cleaned, crimped anew and sealed."),
            DemoCapture("drake-after-repair.csv", _DRAKE, (), cylinders=3, seed=6),
            ProofEntry(("cleared", "driven", "stayed_away"), "Codes cleared, driven 14 km as the complaint was, none came back."),
        ),
    ),
    DemoJob(
        "Tarnbeck Fell 1.8", "Mr. Lindqvist-Rao", 4,
        (
            ComplaintEntry("no_start"),
            CodeEntry("P0336"),
            NoteEntry("Timing belt done 300 km ago elsewhere; a pry mark on the pulley guard."),
            DemoCapture("fell-cranking.csv", _FELL, (("tooth missing", 0.7),), seed=2),
        ),
    ),
)  # fmt: skip


def make_demo_log(folder: Path | None = None, progress: Callable[[float], bool] | None = None) -> JobLog:
    """A new job log with the demo jobs, in `folder` or in a passing one that is removed at exit."""
    if folder is None:
        lease = make_passing("demo")
        folder = lease.path
        atexit.register(lease.discard)
    log = open_log(folder)
    for index, demo in enumerate(JOBS):
        if progress:
            progress(index / len(JOBS))
        job = log.add_job(demo.machine, owner=demo.owner, cylinders=demo.cylinders)
        for step in demo.trail:
            if isinstance(step, DemoCapture):
                capture, sheet = step.make()
                good = step.make_good()
                token = log.captures.put(good[0]) if good else ""
                done = examine(capture, sheet, reference=good)
                log.add_capture(job.id, done.capture, capture_entry(done, kept_name(good, token)))
            else:
                log.add_entry(job.id, step)
    for name in CARDS:
        log.shelf.keep_card(demo_card(name))
    _keep_patterns(log)
    log.forget_steps()
    return log


def _keep_patterns(log: JobLog) -> None:
    """The recordings after a proven repair are known-good ones for the next machine of the kind."""
    for summary in log.jobs():
        if summary.stage == Stage.PROVEN:
            job = log.job(summary.id)
            KeepAsGood(job.id, job, job.of(CaptureEntry)[-1]).perform(log)


# The stand-in: what the demo's instruments are clipped to ----------------------------------------------


def faults_of(job: Job, spec: CircuitSpec) -> tuple[tuple[str, float], ...]:
    """What is wrong with the machine that stands in for a job's own.

    A demo job's machine has the fault that its capture was made with, any other job's one drawn by how common
    they are, always the same for the same job. Once the part that it lies in has been changed it is gone.
    """
    told = next((this_job for this_job in JOBS if this_job.machine == job.machine), None)
    made = next((item for item in told.trail if isinstance(item, DemoCapture)), None) if told else None
    if told is not None and told.faults:
        faults = tuple((fault_called(name).slug, severity) for name, severity in told.faults)
    elif made is not None:
        faults = tuple((fault_called(name).slug, severity) for name, severity in made.faults)
    else:
        rng = np.random.default_rng([job.id, 41])
        slugs = [item.slug for item in possible(spec)]
        drawn = str(rng.choice(slugs, p=knowledge().weights(slugs, spec.role)))
        faults = ((drawn, float(rng.uniform(0.4, 1.0))),)
    mended = frozenset().union(
        *(knowledge().cured_by(record.part) for record in job.records(RepairEntry) if record.part is not None)
    )
    return tuple(fault for fault in faults if fault[0] not in mended)


def machine_of(job: Job) -> tuple[SimulatedMachine, bool]:
    """The simulated machine that stands in for a job's own, and whether anything is wrong with it."""
    spec = circuit_of(job.records())
    able = {item.slug for item in possible(spec)}
    faults = [item for item in faults_of(job, spec) if item[0] in able]
    machine = broken(spec, faults, 200 + job.id)
    machine.cylinders = job.cylinders or 4
    if spec.role == Role.KNOCK:
        # A careful hand taps at another place the next time.
        taken = sum(1 for this_record in job.records(CaptureEntry) if this_record.strikes is not None)
        machine.tap = Tap(("front", "rear")[taken % 2], sensors=spec.sensors or 2)
    # Each recording is another one of the same machine.
    machine.rng = np.random.default_rng([job.id, len(job.entries), 5])
    return machine, bool(faults)


def stand_in(job: Job) -> StandIn:
    """The simulated instruments of a job's own machine."""
    return StandIn(machine_of(job)[0])


def wired_to(job: Job) -> Wired:
    """The same machine behind instruments on the wire."""
    machine, faulty = machine_of(job)
    return wired_stand_in(machine, faulty=faulty)


register_instruments(STAND_IN, stand_in)
register_wired(STAND_IN, wired_to)
