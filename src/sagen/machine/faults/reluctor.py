"""Fault modes of the reluctor."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import FED, NOT_CAM, ROTATING, TIMED, TURNING_ROLES, between, fault
from sagen.machine.simulated import SimulatedMachine, Teeth
from sagen.model.vocabulary import Cause, Role
from sagen.model.wheel import Wheel


def _any_tooth(machine: SimulatedMachine) -> int:
    """A tooth that stands away from the gaps: its neighbours are there on both sides."""
    there, slots = machine.teeth.there, machine.wheel.slots
    around = np.all([np.roll(there, k) for k in range(-2, 3)], axis=0) if slots > 8 else there
    return int(machine.rng.choice(np.flatnonzero(around)))


def _window(machine: SimulatedMachine, begin: float, end: float) -> None:
    """One window of a cam's wheel, begun and ended so many crank degrees later."""
    if machine.windows:
        which = int(machine.rng.integers(len(machine.windows)))
        first, last = machine.windows[which]
        now = ((first + begin, last + end),) if last + end > first + begin else ()
        machine.windows = (*machine.windows[:which], *now, *machine.windows[which + 1 :])


@fault("tooth_missing", Cause.RELUCTOR, "a tooth has broken off", ROTATING, TURNING_ROLES)
def tooth_missing(machine: SimulatedMachine, severity: float) -> None:
    """One tooth, or one of a cam's windows, is not there. Sizes: common practice, no published source."""
    if len(machine.windows) > 1:
        _window(machine, 720.0, 0.0)
    machine.teeth.there[_any_tooth(machine)] = False


@fault("tooth_chipped", Cause.RELUCTOR, "part of a tooth is gone", ROTATING, TURNING_ROLES)
def tooth_chipped(machine: SimulatedMachine, severity: float) -> None:
    """One tooth .78 to .56 times as tall and .07 to .12 of a pitch out of place; a cam's window 4 to 9 degrees shorter.
    Sizes: common practice, no published source."""
    _window(machine, between(4.0, 9.0, severity), 0.0)
    tooth = _any_tooth(machine)
    machine.teeth.tall[tooth] *= between(0.78, 0.56, severity)
    machine.teeth.shift[tooth] += between(0.07, 0.12, severity)


@fault("tooth_bent", Cause.RELUCTOR, "a tooth stands out of its place", ROTATING, NOT_CAM)
def tooth_bent(machine: SimulatedMachine, severity: float) -> None:
    """One tooth .1 to .25 of a pitch early or late. Sizes: common practice, no published source."""
    machine.teeth.shift[_any_tooth(machine)] += float(machine.rng.choice([-1, 1])) * between(0.1, 0.25, severity)


@fault("debris_between_teeth", Cause.RELUCTOR, "something magnetic bridges two teeth", ROTATING, TURNING_ROLES)
def debris_between_teeth(machine: SimulatedMachine, severity: float) -> None:
    """One tooth 1.3 to 1.8 times as wide and .08 to .15 of a pitch late; a cam's window 5 to 12 degrees longer. Sizes:
    common practice, no published source."""
    _window(machine, 0.0, between(5.0, 12.0, severity))
    tooth = _any_tooth(machine)
    machine.teeth.wide[tooth] *= between(1.3, 1.8, severity)
    machine.teeth.shift[tooth] += between(0.08, 0.15, severity)


@fault("wheel_runs_out", Cause.RELUCTOR, "the wheel does not run true", ROTATING, NOT_CAM)
def wheel_runs_out(machine: SimulatedMachine, severity: float) -> None:
    """The gap swings by .22 to .42 of a pitch once a turn. Sizes: common practice, no published source."""
    machine.runout += between(0.22, 0.42, severity)


@fault("magnet_lost", Cause.RELUCTOR, "a magnet of an encoder ring has lost its strength", FED, NOT_CAM)
def magnet_lost(machine: SimulatedMachine, severity: float) -> None:
    """One magnet of an encoder ring gives .3 to .05 of its field. Sizes: common practice, no published source."""
    machine.teeth.tall[_any_tooth(machine)] = between(0.3, 0.05, severity)


@fault("wrong_wheel", Cause.RELUCTOR, "a wheel with another count of teeth is fitted", ROTATING, NOT_CAM)
def wrong_wheel(machine: SimulatedMachine, severity: float) -> None:
    """A sound wheel of another count of teeth or another gap is on the shaft. Sizes: common practice, no published
    source."""
    other = Wheel(36, 1) if machine.wheel.missing and machine.wheel.slots != 36 else Wheel(60, 2)
    if machine.spec.role == Role.SPEED:
        other = Wheel(52) if machine.wheel.slots != 52 else Wheel(43)
    machine.wheel, machine.teeth = other, Teeth.sound(other)


@fault("wheel_slipped_on_its_shaft", Cause.RELUCTOR, "the whole wheel has turned against its shaft", ROTATING, TIMED)
def wheel_slipped_on_its_shaft(machine: SimulatedMachine, severity: float) -> None:
    """The cam's edges 7 to 30 crank degrees early or late; every tooth stays in its place on the wheel. Sizes: common
    practice, no published source."""
    machine.cam_late += between(7.0, 30.0, severity) * float(machine.rng.choice([-1, 1]))


@fault("cam_vane_damaged", Cause.RELUCTOR, "a vane of the cam's wheel is bent or gone", ROTATING, (Role.CAM,))
def cam_vane_damaged(machine: SimulatedMachine, severity: float) -> None:
    """One of a cam's windows 6 to 25 crank degrees early or late, the others where they were. Sizes: common practice,
    no published source."""
    which = int(machine.rng.integers(len(machine.windows)))
    start, end = machine.windows[which]
    moved = between(6.0, 25.0, severity) * float(machine.rng.choice([-1, 1]))
    machine.windows = (*machine.windows[:which], (start + moved, end + moved), *machine.windows[which + 1 :])


@fault(
    "cam_wheel_wrong", Cause.RELUCTOR, "another cam wheel is fitted, or the right one the wrong way round", ROTATING, (Role.CAM,),
    title="wrong cam wheel, or fitted upside down",
)  # fmt: skip
def cam_wheel_wrong(machine: SimulatedMachine, severity: float) -> None:
    """The cam's windows come in the opposite order, as of a wheel that was put on upside down. Sizes: common practice,
    no published source."""
    whole = 720.0
    machine.windows = tuple(
        sorted(((whole - end) % whole, (whole - end) % whole + end - start) for start, end in machine.windows)
    )
