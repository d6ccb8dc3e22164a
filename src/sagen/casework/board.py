"""The picture board: what a recorder would show of this circuit now, sound and with each leading suspect, side by side.

Who has a screen that exports nothing, or somebody else's video, presses the picture that looks like theirs. That is evidence of an eye
that is right in four presses of five: what each kind of picture is taken for is in `reason/knowledge/board.toml`."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from sagen.casework.command import Command, go_on
from sagen.kinds import examine
from sagen.kinds.kind import kind_of
from sagen.machine.faults import break_machine, possible
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import ABOUT_CAPTURE, NOTHING_FOUND, Capability, Role, State, can
from sagen.reason.facts import SOUND, title_of
from sagen.reason.recording_likelihood import finding_label

PICTURES = 6  #: on a board, the sound one among them
RATE, SECONDS = 40_000.0, 1.2
TURNS_SHOWN = 1.15  #: of the crankshaft: the reference gap stands in sight, and teeth do not run together
CAM_TURNS = 4.2
LEVELS = 255  #: a recorder of 8 bits
MARGIN = 0.15  #: of the height, above and below what is shown
#: where the slider begins: a fault that a customer would bring
USUAL_SEVERITY = 0.7
STATES = (State.CRANKING, State.RUNNING)


@dataclass(frozen=True)
class BoardPicture:
    """One picture: the signal as a screen shows it, and what the reader finds in the whole recording."""

    fault: str  #: a slug, `sound` for none
    title: str
    severity: float
    time_s: np.ndarray  #: shape (points,)
    volts: np.ndarray  #: the same shape, in steps of 8 bits
    low: float  #: V, of the screen all pictures share
    high: float
    label: str  #: what kind of picture it is: the gravest finding in it, `none` where there is none


@dataclass(frozen=True)
class DrawBoard(Command):
    """Draw the pictures of some fault modes and of a sound circuit, in an order of their own by the seed."""

    spec: CircuitSpec
    faults: tuple[str, ...]
    state: State = State.CRANKING
    seed: int = 1

    @property
    def doing(self) -> str:
        return tr("Drawing the pictures")

    def perform(self, log=None, progress=go_on) -> tuple[BoardPicture, ...]:
        return draw_board(self.spec, self.faults, self.state, self.seed, progress=progress)


@dataclass(frozen=True)
class RedrawPicture(Command):
    """Draw one picture anew, with its fault worse or less so."""

    spec: CircuitSpec
    fault: str
    severity: float
    low: float  #: V, of the screen that the board's pictures share
    high: float
    state: State = State.CRANKING
    seed: int = 1

    def perform(self, log=None, progress=go_on) -> BoardPicture:
        picture = draw_picture(self.spec, self.fault, self.severity, self.state, self.seed)
        return on_screen(picture, self.low, self.high)


def on_board(spec: CircuitSpec, by_fault: dict[str, float]) -> tuple[str, ...]:
    """The fault modes that a board shows: the likeliest that a recording can show, most likely first.

    Parameters
    ----------
    spec : CircuitSpec
    by_fault : dict
        probability of each fault mode
    """
    here = {mode.slug for mode in possible(spec)}
    likely = sorted((item for item in by_fault if item in here), key=by_fault.get, reverse=True)
    return tuple(likely[: 3 * PICTURES])


def draw_board(
    spec: CircuitSpec, faults: tuple[str, ...], state: State = State.CRANKING, seed: int = 1, *, progress=go_on
) -> tuple[BoardPicture, ...]:
    """The pictures of a board: one of a sound circuit, and of the fault modes those that look unlike it and one another.

    Parameters
    ----------
    spec : CircuitSpec
    faults : tuple of str
        slugs, most likely first
    state : State
        how the machine stands; one of `STATES`
    seed : int
        of the machine and of the order

    Raises
    ------
    SagenError
        for a knock sensor, whose rings are told apart by figures and not by eye, and for a state that is not drawn
    """
    if not can(spec.sensor, Capability.TURNS):
        raise SagenError(tr("the rings of a knock sensor are told apart by their figures: tap it and record"))
    if state not in STATES:
        raise SagenError(tr("a board is of an engine that is cranked or runs"))
    drawn = [draw_picture(spec, SOUND, 0.0, state, seed)]
    height = float(np.ptp(drawn[0].volts))
    for at, fault in enumerate(faults):
        progress(at / max(len(faults), 1))
        if len(drawn) >= PICTURES:
            break
        picture = draw_picture(spec, fault, USUAL_SEVERITY, state, seed)
        if all(unlike(picture, other, height) for other in drawn):
            drawn.append(picture)
    low, high = min(item.low for item in drawn), max(item.high for item in drawn)
    room = MARGIN * max(high - low, 0.1)
    order = np.random.default_rng(seed).permutation(len(drawn))
    return tuple(on_screen(drawn[at], low - room, high + room) for at in order)


def draw_picture(spec: CircuitSpec, fault: str, severity: float, state: State, seed: int = 1) -> BoardPicture:
    """The picture of one fault mode.

    Parameters
    ----------
    spec : CircuitSpec
    fault : str
        its slug, or `sound`
    severity : float
        0 to 1
    state : State
    seed : int
        of the machine; the same for every picture of a board
    """
    part = kind_of(spec.sensor).part
    machine = break_machine(spec, part, [] if fault == SOUND else [(fault, severity)], seed)
    where = State.ROLLING if spec.role == Role.SPEED else state
    capture, sheet = record(machine, where, seconds=SECONDS, sfreq=RATE, name="board.csv")
    signal = capture.channels[0]
    # What an eye sees is the signal; of a rail it sees what that does to it.
    found = [item for item in examine(capture, sheet).findings if item.kind not in ABOUT_CAPTURE]
    grave = [item for item in found if item.channel == signal.column] or found
    rpm = machine.crank_rpm if state == State.CRANKING else 800.0
    shown_s = min((CAM_TURNS if spec.role == Role.CAM else TURNS_SHOWN) * 60.0 / max(float(rpm), 60.0), SECONDS)
    begins = grave[0].fields.get("start_s", 0.0) - 0.5 * shown_s if grave else 0.0
    at = int(min(max(begins, 0.0), SECONDS - shown_s) * RATE)
    volts = signal.raw[at : at + int(shown_s * RATE)].astype(float) * signal.scale + signal.offset
    # An eye tells which shape it is; the figures of the picture are not theirs.
    label = finding_label(grave[0].kind, grave[0].fields) if grave else NOTHING_FOUND
    title = tr("sound") if fault == SOUND else title_of(fault)
    # Single spikes go over the edge of the screen; they do not press the wave flat.
    low, high = np.quantile(volts, [0.01, 0.99])
    return BoardPicture(fault, title, severity, np.arange(len(volts)) / RATE, volts, float(low), float(high), label)


def on_screen(picture: BoardPicture, low: float, high: float) -> BoardPicture:
    """The picture on a screen from `low` to `high` V, in steps of 8 bits."""
    step = (high - low) / LEVELS
    volts = low + np.round((np.clip(picture.volts, low, high) - low) / step) * step
    return replace(picture, volts=volts, low=low, high=high)


def unlike(one: BoardPicture, other: BoardPicture, height: float) -> bool:
    """Whether an eye tells two pictures apart: by what is found in them, or by a level that differs by an eighth of
    the sound one's height.

    Parameters
    ----------
    one, other : BoardPicture
    height : float
        V, of the sound one
    """
    if one.label != other.label:
        return True
    levels = [abs(np.quantile(one.volts, q) - np.quantile(other.volts, q)) for q in (0.05, 0.95)]
    return bool(max(levels) > 0.12 * height)
