"""Pieces of evidence: one class a kind, each telling how likely it is for every particle of a crowd. Why, in words, is
`words.py`."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.machine.faults import all_faults
from sagen.machine.simulated import smooth
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    ABOUT_RAILS,
    ABOUT_TIMING,
    ENGINE_ROLES,
    TURNING,
    Capability,
    CodeKind,
    Complaint,
    FindingKind,
    Point,
    Quantity,
    Role,
    State,
)
from sagen.reason.circuits import Circuits
from sagen.reason.facts import SIZED, SOUND, Knowledge, Share
from sagen.reason.particle_set import ParticleSet
from sagen.reason.recording_likelihood import RecordingLikelihood, finding_label, label_kind
from sagen.reason.scales import LEAST, SLIP, SLIP_WIDTH, bell, density, on_scale, spread_on_scale

#: states in which a recording of a wheel tells something
TELLING = TURNING | {State.WIGGLE}
#: how much the size of a finding's number may speak for or against a fault mode at most: the laws are coarse; and below what a
#: number is none
LEAST_SIZE, LEAST_NUMBER, LEAST_LEVEL_V = 0.05, 1e-6, 0.05
#: of what is slipped or misjudged, how much is so again when it is taken once more: the wrong pin twice, a machine that is
#: unlike what is thought; and how many widths readings that agree may lie apart. Judgement, no published source
SAME_SLIP, AGREES = 0.4, 4.0
MISJUDGED = 0.06  #: of twenty looks one is misjudged, and now and then the outcome is entered wrongly
CERTAIN = 0.003  #: of what was seen and is certain, still this much is not so
#: how engines differ in cranking speed beyond what is drawn (logarithm), and how well a swing is known
SPEED_SPREAD, SWING_SPREAD = 0.12, 0.015
#: share of cadences that nothing in a crowd explains
CADENCE_OUTSIDE, CADENCE_DENSITY = 0.03, 1.0


@dataclass(frozen=True)
class Evidence(ABC):
    """Base of all kinds. `source` says where on the trail it stands."""

    source: str = ""

    #: what is told at the complaint's own words and codes counts less the more of it there is
    told: bool = field(default=False, init=False, repr=False)
    #: what recordings of one machine tell counts on those before it: `recording_likelihood`
    of_recordings: ClassVar[bool] = False
    #: the record of the trail that this was made of, so that a reason leads back to it; None where it was made of several
    record: object = field(default=None, init=False, repr=False, compare=False)

    @property
    def about_timing(self) -> bool:
        """Whether this asks how cam and crank stand to one another, so that timing parts are in question."""
        return False

    @property
    def engine_ran(self) -> bool:
        """Whether this was told or taken of an engine that runs."""
        return getattr(self, "state", None) == State.RUNNING

    def foreseen(self, particle_set: ParticleSet) -> Iterable[tuple[float, np.ndarray, float]]:
        """The precise values in this: each as it is, as every particle has it, shape (rows, particles), and its standard
        uncertainty, all on one scale."""
        return ()

    @abstractmethod
    def likelihood(
        self, particle_set: ParticleSet, pictures: RecordingLikelihood, facts: Knowledge
    ) -> np.ndarray | None:
        """Probability (or density) for every particle, shape (rows, particles) or (rows, 1); None where this says
        nothing. `pictures` holds what earlier recordings of the same machine have told.

        Parameters
        ----------
        particle_set : ParticleSet
            the machines that it is weighed on
        pictures : RecordingLikelihood
            of the epoch
        facts : Knowledge

        Returns
        -------
        ndarray, shape (rows, particles) or (rows, 1)
            0 to 1, or a density on the scale of comparison

        References
        ----------
        Pieces are independent once the machine is known: Pearl, Probabilistic Reasoning in Intelligent Systems (1988). From memory.
        """


def told_of(particle_set: ParticleSet, share: Share) -> np.ndarray:
    """How often machines are brought in with this told of them: with a fault that does its circuit no harm as seldom as
    sound ones, shape (rows, particles) or (rows, 1).

    Parameters
    ----------
    particle_set : ParticleSet
    share : Share
        by which share of machines with a harm it is told
    """
    shares, sound = particle_set.by_row(share.of), share.of(SOUND)
    grows = np.array([[any(all_faults()[fault].ends for fault, _ in row)] for row in particle_set.rows])
    if not grows.any():
        return shares
    harm = np.where(grows, np.maximum(harmed(particle_set), LEAST_HARM), 1.0)
    return harm * shares + (1 - harm) * np.minimum(shares, sound)


#: of contacts and leaks that do no harm as they are read, so many do at other times
LEAST_HARM = 0.08


@dataclass(frozen=True)
class Code(Evidence):
    """A trouble code's kind of failure; `kind` is a CodeKind or, of several sensors at once, "several"."""

    code: str = ""
    kind: CodeKind | str = ""
    pending: bool = False  #: only stored as pending: seen once, not yet confirmed

    told = True

    @property
    def about_timing(self):
        return self.kind == CodeKind.CORRELATION

    def likelihood(self, particle_set, pictures, facts):
        shares = told_of(particle_set, facts.codes[self.kind])
        return np.sqrt(shares) if self.pending else shares


@dataclass(frozen=True)
class Complained(Evidence):
    name: Complaint | str = ""

    told = True

    @property
    def engine_ran(self):
        return self.name in {*OF_RUNNING, Complaint.LONG_CRANK}

    def likelihood(self, particle_set, pictures, facts):
        return told_of(particle_set, facts.complaints[self.name])


#: complaints of an engine that runs: its starter turned it
OF_RUNNING = frozenset({Complaint.RUNS_ROUGH, Complaint.NO_POWER, Complaint.LAMP_ONLY})
#: how often an engine is said to run, or stands as running in the record, whose shaft is not turned. Judgement
STANDS = 0.02


def ran(particle_set: ParticleSet) -> np.ndarray | float:
    """How likely each machine's engine runs as far as its shaft must turn for that, shape (rows, 1); 1 for a wheel of the road.

    Parameters
    ----------
    particle_set : ParticleSet
    """
    if particle_set.spec.role not in ENGINE_ROLES:
        return 1.0
    return np.where(particle_set.value("turns"), 1.0, STANDS)


@dataclass(frozen=True)
class Comes(Evidence):
    """When the complaint comes: hot, cold, wet, revved, over bumps, always."""

    when: str = ""

    told = True

    def likelihood(self, particle_set, pictures, facts):
        return particle_set.by_row(lambda fault: facts.comes[self.when].of(fault))


@dataclass(frozen=True)
class MeterReading(Evidence):
    """A meter reading; ohms brought to 20 degC with the leads taken off. `spread` is its standard uncertainty, in V or,
    of ohms, in decades. `again` where it was taken once more to be sure; `times`: how often, gathered by `gathered`."""

    point: Point | str = ""
    state: State | str = ""
    value: float = 0.0
    ohms: bool = False
    spread: float = 0.0
    again: bool = False
    times: int = 1

    @property
    def quantity(self) -> Quantity:
        return Quantity.OHMS if self.ohms else Quantity.VOLTS

    def foreseen(self, particle_set):
        predicted = particle_set.circuits.reading(self.point, self.state, self.ohms)
        if predicted is not None:
            width = spread_on_scale(self.value, self.ohms, self.spread)
            yield float(on_scale(self.value, self.ohms)), particle_set.of_rows(on_scale(predicted, self.ohms)), width

    def likelihood(self, particle_set, pictures, facts):
        circuits = particle_set.circuits
        predicted = circuits.reading(self.point, self.state, self.ohms)
        if predicted is None:
            return None
        here = float(on_scale(self.value, self.ohms))
        width = spread_on_scale(self.value, self.ohms, self.spread)
        own = density(here, on_scale(predicted, self.ohms), width)
        if self.point in WIRES and self.value <= GOOD_WIRE_OHM:
            bad = (predicted > GOOD_WIRE_OHM) & (predicted < ONE_STRAND_MOST)
            own = np.where(bad, (1 - ONE_STRAND) * own + ONE_STRAND / GOOD_WIRE_SPAN, own)
        slips = LEAST
        if not self.ohms:
            others = [
                bell(here, on_scale(other_volt, self.ohms), max(width, SLIP_WIDTH))
                for other_volt in circuits.other_volts(self.point, self.state)
            ]
            if others:
                slips = LEAST + np.mean(others, axis=0)
        slip = SLIP if self.times == 1 else SLIP * SAME_SLIP
        return particle_set.of_rows((1 - slip) * own + slip * slips)


#: ohm points along a wire; a wire up to so many ohm is called good, on the scale of ohms from none to there; of wires and contacts
#: that drop volts under load, up to so many ohm, this share reads good without one: a strand carries a meter's milliampere
#: (common practice, no published source; the share is judgement)
WIRES = frozenset({Point.SUPPLY_WIRE, Point.SIGNAL_WIRE, Point.GROUND_WIRE})
GOOD_WIRE_OHM = 1.5
GOOD_WIRE_SPAN = float(on_scale(GOOD_WIRE_OHM, True) - on_scale(0.0, True))
ONE_STRAND, ONE_STRAND_MOST = 0.25, 3_000.0


@dataclass(frozen=True)
class Captured(Evidence):
    """What a capture showed, and what it could not have shown."""

    of_recordings: ClassVar[bool] = True
    found: frozenset[str] = frozenset()
    state: State | str = State.CRANKING
    unseen: frozenset[str] = frozenset()
    end: str = "sensor"
    levels: tuple[tuple[str, float], ...] = ()  #: what it measured besides: "low", "high", "supply", "ground", in V
    places: int = 1  #: knock: at how many places it was struck
    sizes: tuple[tuple[str, str, float], ...] = ()  #: numbers of its findings: which finding, which field, how large

    @property
    def about_timing(self):
        return not self.unseen >= ABOUT_TIMING

    def foreseen(self, particle_set):
        for here, predicted, width in levels_foreseen(particle_set.circuits, self.levels, self.state, self.end):
            yield here, particle_set.of_rows(predicted), width

    def likelihood(self, particle_set, pictures, facts):
        if self.state not in TELLING and kind_of(particle_set.spec.sensor).has(Capability.TURNS):
            return None  # a wheel that stands still tells nothing of motion
        told = pictures.told(particle_set, self.found, self.state, self.unseen, self.end)
        if told is None:
            return None
        return told * of_levels(particle_set, self.levels, self.state, self.end) * of_sizes(particle_set, self.sizes)


def of_sizes(particle_set: ParticleSet, sizes: Iterable[tuple[str, str, float]]) -> np.ndarray | float:
    """How likely the numbers of findings are as large as they are, shape (rows, 1), against what is usual of all fault modes that
    make them; 1 where none of them tells.

    Parameters
    ----------
    sizes : iterable of (finding, field, value)
        values > 0, in the field's unit
    """
    out: np.ndarray | float = 1.0
    for finding, field_name, value in sizes:
        table = particle_set.facts.sizes.get((finding, field_name))
        if table is None:
            continue
        shape = particle_set.facts.shapes[finding]
        made = {fault: shape.of(fault, "") * table.density(fault, value) for fault in shape.by_fault}
        usual = sum(made.values()) / max(sum(shape.by_fault.values()), 1e-9)
        # Of two faults the one that makes the finding more often made it this large.
        share = particle_set.by_row(lambda fault, shape=shape: shape.of(fault, ""))
        here = particle_set.by_row(
            lambda fault, shape=shape, table=table, value=value: shape.of(fault, "") * table.density(fault, value)
        )
        out = out * np.clip(here / np.maximum(share, 1e-12) / max(usual, 1e-12), LEAST_SIZE, 1 / LEAST_SIZE)
    return out


def sizes_told(kind: FindingKind, fields: Mapping) -> list[tuple[str, str, float]]:
    """The numbers of a finding whose size tells something.

    Parameters
    ----------
    kind : FindingKind
    fields : mapping
        the finding's figures by name

    Returns
    -------
    list of (finding, field, value)
        values > 0
    """
    told = dict(fields)
    if (
        "length_s" not in told
        and isinstance(told.get("start_s"), int | float)
        and isinstance(told.get("end_s"), int | float)
    ):
        told["length_s"] = told["end_s"] - told["start_s"]
    values = ((name, told.get(name)) for name in SIZED)
    # A rail that is quite gone is as low as a recorder can tell, and no decades lower.
    least = {"level_v": LEAST_LEVEL_V}
    sized = [
        (str(kind), name, max(abs(float(value)), least.get(name, 0.0)))
        for name, value in values
        if isinstance(value, int | float) and not isinstance(value, bool)
    ]
    return [row for row in sized if row[2] > LEAST_NUMBER]


def of_levels(
    particle_set: ParticleSet, levels: Iterable[tuple[str, float]], state: str, end: str
) -> np.ndarray | float:
    """How likely the levels of a recording are, shape (rows, particles); 1 where the circuit does not decide them.

    Parameters
    ----------
    levels : iterable of (name, V)
        "low" and "high" of the signal, "supply", "ground"
    end : str
        where the probe sat, "sensor" or "module"
    """
    told = 1.0
    for here, predicted, width in levels_foreseen(particle_set.circuits, levels, state, end):
        told = told * ((1 - LEVEL_OUTSIDE) * density(here, predicted, width) + LEVEL_OUTSIDE * LEAST)
    return particle_set.of_rows(told) if isinstance(told, np.ndarray) else told


def levels_foreseen(
    circuits: Circuits, levels: Iterable[tuple[str, float]], state: str, end: str
) -> Iterable[tuple[float, np.ndarray, float]]:
    """Levels of a recording as they are, as every particle of the circuits has them and how far they stray, on the scale of volts.

    Parameters
    ----------
    levels, state, end
        as `of_levels` has them

    Yields
    ------
    here, predicted, width : float, ndarray of shape (circuits, particles), float
    """
    for name, volts in levels:
        predicted = circuits.level(name, state, end)
        if predicted is not None:
            width = np.hypot(spread_on_scale(volts, False), LEVEL_WIDTH)
            yield float(on_scale(volts, False)), on_scale(predicted, False), float(width)


#: how far a level of a recording strays from the circuit's own: ripple, sag and the reader's estimate; and how often it
#: is another thing altogether
LEVEL_WIDTH, LEVEL_OUTSIDE = 0.07, 0.06


#: share of the speed from which a beat is heard (common practice, no published source)
UNEVEN = 0.045


@dataclass(frozen=True)
class Cranked(Evidence):
    """How the starter turned the engine while a capture was taken."""

    rpm: float = 0.0
    uneven: float | None = None  #: share of the speed, once in two turns; None where too little was seen

    def foreseen(self, particle_set):
        yield float(np.log(self.rpm)), np.log(particle_set.value("crank_rpm")), SPEED_SPREAD

    def likelihood(self, particle_set, pictures, facts):
        value = particle_set.circuits.value
        speed = density(np.log(self.rpm), np.log(value("crank_rpm")), SPEED_SPREAD)
        swing = 1.0 if self.uneven is None else density(self.uneven, value("uneven"), SWING_SPREAD) / 40.0
        inside = np.where(value("turns"), speed * swing, 0.0)
        outside = CADENCE_OUTSIDE * CADENCE_DENSITY * (1.0 if self.uneven is None else 0.3)
        return particle_set.of_rows((1 - CADENCE_OUTSIDE) * inside + outside)


def usual_state(role: Role) -> State:
    """How a machine stands for a recording of which nobody said it.

    Parameters
    ----------
    role : Role
        of the circuit
    """
    return {Role.SPEED: State.ROLLING, Role.KNOCK: State.KEY_ON}.get(role, State.CRANKING)


@dataclass(frozen=True)
class ReadElsewhere(Evidence):
    """A finding that somebody read with other means; `finding` is its label."""

    of_recordings: ClassVar[bool] = True
    finding: str = ""
    kind: FindingKind | str = ""
    state: State | str = ""
    levels: tuple[tuple[str, float], ...] = ()  #: what it says of the levels, in V, as `Captured` has them
    sizes: tuple[tuple[str, str, float], ...] = ()  #: its numbers, as `Captured` has them

    @property
    def about_timing(self):
        return self.kind in ABOUT_TIMING

    def likelihood(self, particle_set, pictures, facts):
        state = self.state or usual_state(particle_set.spec.role)
        told = pictures.told(particle_set, frozenset({self.finding}), state, None, "sensor")
        if told is None:
            return None
        return told * of_levels(particle_set, self.levels, state, "sensor") * of_sizes(particle_set, self.sizes)


@dataclass(frozen=True)
class Pressed(Evidence):
    """What was pressed on a picture board; see `BoardEntry`."""

    of_recordings: ClassVar[bool] = True
    shown: tuple[str, ...] = ()
    chosen: tuple[str, ...] = ()
    state: State | str = ""

    def likelihood(self, particle_set, pictures, facts):
        state = self.state or usual_state(particle_set.spec.role)
        return pictures.pressed(particle_set, self.shown, self.chosen, state)


@dataclass(frozen=True)
class Inspected(Evidence):
    """What a check by eye or hand came to: one of its outcomes, or "" for as expected. `again` where it was looked at once
    more to be sure; `more` are the outcomes of those looks, gathered with the first by `gathered`."""

    check: str = ""
    outcome: str = ""
    certain: bool = False
    again: bool = False
    more: tuple[str, ...] = ()

    def likelihood(self, particle_set, pictures, facts):
        check = facts.check(self.check)
        if check is None or not check.outcome:
            return None
        shares = outcome_shares(check, particle_set)
        names = [*check.outcome, ""]
        if self.outcome not in names:
            return None
        told = [names.index(outcome) for outcome in (self.outcome, *self.more) if outcome in names]
        if len(told) == 1:
            return softened(shares, self.certain)[told[0]]
        if _coming(check, particle_set) is not None:  # what comes and goes may well be seen once and not again
            return np.prod([softened(shares, self.certain)[at] for at in told], axis=0)
        # What is there stays there: looks differ by what is misjudged alone, and part of that is misjudged each time.
        wrong = (CERTAIN if self.certain else MISJUDGED) * np.array([SAME_SLIP, 1 - SAME_SLIP])
        seen = (1 - wrong[1]) * np.eye(len(names)) + wrong[1] / len(names)
        apart = np.prod([seen[at] for at in told], axis=0)
        alike = wrong[0] / len(names) if len(set(told)) == 1 else 0.0
        return np.tensordot((1 - wrong[0]) * apart + alike, shares, axes=1)


def gathered(pieces: Iterable[Evidence]) -> list[Evidence]:
    """The pieces of one epoch; what was looked at or read again stands with the first of its kind, but for readings that do
    not agree: of those either may be a slip.

    Parameters
    ----------
    pieces : iterable of Evidence
        of one epoch
    """
    out: list[Evidence] = []
    for piece in sorted(pieces, key=lambda item: getattr(item, "again", False)):
        first = next((item for item in out if _confirms(piece, item)), None) if getattr(piece, "again", False) else None
        if first is None:
            out.append(piece)
        else:
            out[out.index(first)] = _with(first, piece)
    return out


def _confirms(piece: Evidence, first: Evidence) -> bool:
    """Whether a piece that was taken again is of the same place as another, and as far as it is a reading agrees with it."""
    if isinstance(piece, Inspected):
        return isinstance(first, Inspected) and first.check == piece.check
    if not isinstance(first, MeterReading) or (first.point, first.state, first.ohms) != (
        piece.point,
        piece.state,
        piece.ohms,
    ):
        return False
    apart = abs(float(on_scale(first.value, first.ohms)) - float(on_scale(piece.value, piece.ohms)))
    return apart <= AGREES * spread_on_scale(first.value, first.ohms, max(first.spread, piece.spread))


def _with(first: Evidence, piece: Evidence) -> Evidence:
    """A piece with what confirms it."""
    if isinstance(first, Inspected):
        return replace(first, more=(*first.more, piece.outcome), certain=first.certain or piece.certain)
    mean = (first.times * first.value + piece.value) / (first.times + 1)
    return replace(first, value=mean, times=first.times + 1)


@dataclass(frozen=True)
class Seen(Evidence):
    """Something that was looked at in free words: a part, what was seen of it, and whether that is certain."""

    thing: str = ""
    words: str = ""
    bad: bool = True
    certain: bool = False

    def likelihood(self, particle_set, pictures, facts):
        looked_at = facts.inspected.get(self.thing)
        if looked_at is None:
            return None
        missed = CERTAIN if self.certain else SEEN_ELSEWHERE
        with_fault, without = (SEEN_OF_FAULT, missed) if self.bad else (1 - SEEN_OF_FAULT, 1 - missed)
        through = self.bad and bool(looked_at.parted) and bool(PARTED.search(self.words))
        if not through:
            return particle_set.by_row(lambda fault: with_fault if fault in looked_at.faults else without)
        # A wire that is through is open, or touches what it lies on: at the end of the scale. Few machines that run have one
        # such wire that does no harm.
        without *= THROUGH_AND_HARMLESS
        shares = np.full(particle_set.shape, without)
        for index, row in enumerate(particle_set.rows):
            for fault, slot in row:
                if fault in looked_at.parted:
                    ended = particle_set.severity(fault, slot) >= 1.0
                    shares[index] = np.maximum(
                        shares[index], np.where(ended, with_fault, NOT_PARTED * with_fault + without)
                    )
                elif fault in looked_at.faults:
                    shares[index] = np.maximum(shares[index], NOT_PARTED * with_fault + without)
        return shares


#: words for a wire that is through
PARTED = re.compile(r"\b(through|cut|severed|parted|in two|torn|snapped|broken|broke|hanging loose)\b", re.IGNORECASE)
THROUGH_AND_HARMLESS = 0.25
NOT_PARTED = 0.06  #: of those who say so, how many saw one that still holds by a strand
#: how often something wrong is seen where the fault is, and where it is not
SEEN_OF_FAULT, SEEN_ELSEWHERE = 0.65, 0.08


@dataclass(frozen=True)
class Scanned(Evidence):
    """What the module itself shows: "rpm_cranking" with a speed, 0 for none, or "codes_back" with when."""

    what: str = ""
    value: float | str = 0.0

    def likelihood(self, particle_set, pictures, facts):
        if self.what == "rpm_cranking":
            unseen = pulses_unseen(particle_set)
            if not self.value:
                return np.clip(unseen, SCAN_SLIP, 1 - SCAN_SLIP)
            speed = density(np.log(float(self.value)), np.log(particle_set.value("crank_rpm")), SPEED_SPREAD)
            speed = (1 - CADENCE_OUTSIDE) * speed + CADENCE_OUTSIDE * CADENCE_DENSITY
            return np.clip(1 - unseen, SCAN_SLIP, 1 - SCAN_SLIP) * speed
        shares = particle_set.by_row(lambda fault: facts.codes_back[str(self.value)].of(fault))
        steady = np.broadcast_to(shares, particle_set.shape).copy()
        for index, row in enumerate(particle_set.rows):
            for fault, slot in row:
                if fault in facts.comings:
                    # What hardly ever shows does not bring the code back either.
                    shows = particle_set.shows(index, fault, slot, State.RUNNING)
                    later = 1 - AT_ONCE * shows
                    by_value = {
                        "at once": AT_ONCE * shows,
                        "on a drive": later * (1 - (1 - shows) ** DRIVE),
                        "never": later * (1 - shows) ** DRIVE,
                    }
                    steady[index] = np.clip(by_value[str(self.value)], SCAN_SLIP, 1 - SCAN_SLIP)
        return steady


#: of what shows in every recording, how often its code is back at once; and as how many recordings a drive counts. That a code which
#: is back on a drive only comes and goes is common practice, no published source; the figures are judgement
AT_ONCE, DRIVE = 0.75, 3.0
SCAN_SLIP = 0.04  #: a tester that shows no speed in time, or one carried over


def harmed(particle_set: ParticleSet) -> np.ndarray:
    """How likely the module has something to complain of in the circuit as it stands.

    Parameters
    ----------
    particle_set : ParticleSet
        of some rows

    Returns
    -------
    ndarray, shape (rows, particles) or (rows, 1)
        0 to 1
    """
    if kind_of(particle_set.spec.sensor).has(Capability.TURNS):
        return np.clip(pulses_unseen(particle_set), 0.0, 1.0)
    levels = particle_set.circuits.shown(State.KEY_ON, "module")
    sound = np.ones(particle_set.circuits.shape)
    for share in levels.values():
        sound = sound * (1 - np.clip(share, 0, 1))
    return particle_set.of_rows(1 - sound)


def pulses_unseen(particle_set: ParticleSet) -> np.ndarray:
    """How likely it is that no pulse reaches the module while the starter turns.

    Parameters
    ----------
    particle_set : ParticleSet
        of some rows

    Returns
    -------
    ndarray, shape (rows, particles)
        0 to 1
    """
    return particle_set.once("pulses unseen", lambda: _pulses_unseen(particle_set))


def _pulses_unseen(particle_set: ParticleSet) -> np.ndarray:
    state = State.ROLLING if particle_set.spec.role == Role.SPEED else State.CRANKING
    levels = particle_set.circuits.shown(state, "module")
    flat = sum(share for label, share in levels.items() if label_kind(label) == FindingKind.NO_SIGNAL)
    poor = np.maximum(levels.get("low_not_pulled_down", 0.0), levels.get("high_not_reached", 0.0))
    poor = np.maximum(poor, levels.get("weak_amplitude", 0.0))
    reaches = (1 - np.clip(flat, 0, 1)) * (1 - 0.5 * poor)
    return 1 - particle_set.of_rows(reaches) * (1 - _deaf(particle_set))


def _deaf(particle_set: ParticleSet) -> np.ndarray:
    """How often a module's input does not see a sound signal, shape (rows, 1)."""
    return particle_set.by_row(lambda fault: 0.6 if fault == "input_threshold_shifted" else 0.0)


@dataclass(frozen=True)
class Stayed(Evidence):
    """After a repair: whether the complaint is still there."""

    stayed: bool = True

    def likelihood(self, particle_set, pictures, facts):
        def of(fault: str) -> float:
            if fault == SOUND:
                return STAYS_SOUND
            return STAYS_COMING if fault in facts.comings else STAYS_FAULTY

        there = particle_set.by_row(of)
        return there if self.stayed else 1 - there

    @property
    def never_was(self) -> float:
        """How much likelier this is than `likelihood` has it where the circuit was sound before the repair as well."""
        if self.stayed:
            return STAYS_ELSEWHERE / STAYS_SOUND
        return (1 - STAYS_ELSEWHERE) / (1 - STAYS_SOUND)


#: how often a complaint is still there: with the circuit mended, with a fault that comes and goes, with one that stays, and where the
#: circuit was sound all along and the complaint comes from elsewhere. Common practice, no published source
STAYS_SOUND, STAYS_COMING, STAYS_FAULTY, STAYS_ELSEWHERE = 0.12, 0.7, 0.93, 0.7


# looks ------------------------------------------------------------------------------------------------------


def outcome_shares(check, particle_set: ParticleSet) -> np.ndarray:
    """How likely each outcome of a look is for every particle, the last one being "as expected"; shape (outcomes,
    rows, particles or 1). What the circuit itself decides is computed, the rest is the check's own table.

    Parameters
    ----------
    check : CheckFacts
    particle_set : ParticleSet

    Returns
    -------
    ndarray, shape (outcomes, rows, particles or 1)
        adding up to 1 over the outcomes
    """
    computed = COMPUTED.get(check.slug)
    if computed is not None:
        # How it is done differs: what the circuit decides is hardly ever more certain than the look itself.
        shares = np.clip(computed(particle_set, tuple(check.outcome)), DONE_OTHERWISE, 1 - DONE_OTHERWISE)
    else:
        shares = np.array(
            [particle_set.by_row(lambda fault, row=row: row.get(fault, row["other"])) for row in check.outcome.values()]
        )
        coming = _coming(check, particle_set)
        if coming is not None:
            shares = shares * coming
    shares = np.clip(shares, 0.0, 1.0)
    shares = shares / np.maximum(shares.sum(axis=0), 1.0)
    rest = np.maximum(1.0 - shares.sum(axis=0), 0.0)
    return np.concatenate([shares, rest[None]])


def _coming(check, particle_set: ParticleSet) -> np.ndarray | None:
    """Of faults that come and go, whether they do while one watches; None where the check waits for none."""
    named = {fault for row in check.outcome.values() for fault in row if fault in particle_set.facts.comings}
    if not named:
        return None
    out = np.ones(particle_set.shape)
    for index, row in enumerate(particle_set.rows):
        for fault, slot in row:
            if fault in named:
                shows = particle_set.shows(index, fault, slot, check.state)
                longer = max(check.minutes * 60.0 / particle_set.facts.picture.seconds / 3.0, 1.0)
                out[index] = 1 - (1 - shows) ** longer
    return out


def softened(shares: np.ndarray, certain: bool = False) -> np.ndarray:
    """Shares of outcomes with those that were misjudged: any outcome then, one as likely as the other.

    Parameters
    ----------
    shares : ndarray, shape (outcomes, ...)
        adding up to 1 over the outcomes
    certain : bool
        whether nobody can misjudge it

    Returns
    -------
    ndarray, shape of `shares`

    References
    ----------
    A share of answers that tells nothing: the gross error model of Huber, Ann. Math. Statist. 35 (1964). From memory.
    """
    wrong = CERTAIN if certain else MISJUDGED
    return (1 - wrong) * shares + wrong / len(shares)


def _loaded_line(particle_set: ParticleSet, outcomes: tuple[str, ...]) -> np.ndarray:
    """2.2 kilohm from the unplugged signal wire to ground: does it fall to a small part of what it was?"""
    open_volts = particle_set.reading(Point.SIGNAL, State.KEY_ON_UNPLUGGED)
    ahead = particle_set.value("pull_up_ohm") + particle_set.value("signal_wire_ohm")
    left = LOAD_OHM / (LOAD_OHM + ahead)
    falls = smooth(COLLAPSED - left, 0.04) * (open_volts > 0.3)
    dead = smooth(0.12 - open_volts / 5.0, 0.02)
    return np.array([np.broadcast_to(np.maximum(falls, dead), particle_set.shape)])


def _wire_alone(particle_set: ParticleSet, outcomes: tuple[str, ...]) -> np.ndarray:
    """The signal wire unplugged at both ends: a path to ground or to the feed below a megohm."""
    found = {"to_ground": particle_set.value("leak_ohm"), "to_feed": particle_set.value("short_to_feed_ohm")}
    return np.array([smooth(np.log10(PATH_OHM / found[outcome]), 0.15) for outcome in outcomes])


def _pulsed(particle_set: ParticleSet, outcomes: tuple[str, ...]) -> np.ndarray:
    """220 ohm from the unplugged signal wire to ground, now and then: does the module's input see it go low and come back?"""
    circuits = particle_set.circuits
    low, high = circuits.input_levels()
    at_rest, held = circuits.pulsed(None), circuits.pulsed(PULSE_OHM)
    switches = smooth(at_rest - high, 0.1) * smooth(low - held, 0.1)
    counted = particle_set.of_rows(switches) * (1 - _deaf(particle_set))
    return np.array([np.broadcast_to(1 - counted, particle_set.shape)])


#: what is hung on the unplugged line, the share of itself that it then falls below, what counts as a path, and what pulses it
LOAD_OHM, COLLAPSED, PATH_OHM, PULSE_OHM = 2_200.0, 0.16, 3e5, 220.0
#: share of looks that come out otherwise than the circuit would have it: another load, another pin, a module that sleeps
DONE_OTHERWISE = 0.08
#: looks whose outcome the circuit decides
COMPUTED = {
    "load_the_unplugged_signal_wire": _loaded_line,
    "unplug_the_module_measure_wire_to_ground": _wire_alone,
    "pulse_the_signal_wire": _pulsed,
}


# captures ----------------------------------------------------------------------------------------------------

BEFORE_S = 0.02  #: a signal may be lost so much sooner than the rail is past its limit


def comes_again(figures: Mapping) -> bool:
    """Whether a finding tells of several stretches: what it is about went and came back."""
    return figures.get("stretches", 1) > 1


def _stopped_by_a_rail(findings: Sequence[tuple[FindingKind, Mapping]]) -> bool:
    """Whether each loss of the signal came while feed or return was off: then the rail tells, and the signal says no more."""

    def spans(wanted: Collection[FindingKind]) -> list[tuple[float, float]]:
        of = (fields for kind, fields in findings if kind in wanted)
        return [(x["start_s"], x["end_s"]) for x in of if None not in (x.get("start_s"), x.get("end_s"))]

    rails, lost = spans(ABOUT_RAILS), spans((FindingKind.DROPOUT,))
    return bool(lost) and all(any(a - BEFORE_S <= start and start <= b for a, b in rails) for start, _ in lost)


def captured(
    findings: Iterable[tuple[FindingKind, dict]],
    state: State,
    roles: set[Role],
    *,
    needs_pattern: frozenset[FindingKind] = frozenset(),
    source: str = "",
    end: str = "sensor",
    levels: Iterable[tuple[str, float]] = (),
) -> Captured | None:
    """The evidence in a capture's findings; None where the capture is not fit to judge by.

    Parameters
    ----------
    findings : iterable of (kind, fields)
    roles : set
        the roles of its channels: without a feed channel a loss of the feed cannot show
    needs_pattern : frozenset
        what shows only against a known-good capture, of one that was read without
    end : str
        at which end of the wire the probe sat, "sensor" or "module"
    levels : iterable of (name, V)
        levels that it measured; see `Captured`
    """
    findings = list(findings)
    by_rail = _stopped_by_a_rail(findings)
    # A rail that goes and comes again is not dead: that the signal comes and goes with it is told, though how long it does is not.
    returns = any(kind in ABOUT_RAILS and comes_again(fields) for kind, fields in findings)
    if by_rail and not returns:
        findings = [item for item in findings if item[0] != FindingKind.DROPOUT]
    found = frozenset(finding_label(kind, fields) for kind, fields in findings if kind not in ABOUT_CAPTURE)
    unfit = (FindingKind.UNDERSAMPLED, FindingKind.TOO_SHORT)
    if any(kind in unfit for kind, _ in findings) and not found:
        return None
    unseen: set[str] = set(needs_pattern) | ({FindingKind.DROPOUT} if by_rail and not returns else set())
    if Role.SUPPLY not in roles:
        unseen.add(FindingKind.SUPPLY_LOSS)
    if Role.GROUND not in roles:
        unseen.add(FindingKind.GROUND_LIFT)
    if not (Role.CAM in roles and Role.CRANK in roles):
        unseen |= ABOUT_TIMING
    # Many findings of one kind in a recording are of one fault: how large it is usually counts, once.
    numbers: dict[tuple[str, str], list[float]] = {}
    for kind, fields in findings:
        if kind == FindingKind.DROPOUT and by_rail:
            continue
        for finding, name, value in sizes_told(kind, fields):
            numbers.setdefault((finding, name), []).append(value)
    sizes = tuple(sorted((*key, float(np.median(values))) for key, values in numbers.items()))
    # A recorder that was cut off at its range measured no level.
    cut = any(kind == FindingKind.CLIPPED for kind, _ in findings)
    measured = () if cut else tuple(levels)
    return Captured(source, found, state, frozenset(unseen) - found, end or "sensor", measured, sizes=sizes)
