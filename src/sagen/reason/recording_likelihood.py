"""What recordings of one machine tell, finding by finding, each counting on what the earlier ones told.

Whether a machine's recordings show a finding is one thing that is not known of the machine; a second recording mostly
repeats the first. So every kind of finding is kept as two sums, "this machine shows it" and "it does not", and a
recording moves both. Beside them stands a machine outside the model, of which any picture may come: no picture speaks
for or against anything by more than that leaves.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

import numpy as np

from sagen.kinds.kind import kind_of
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    ABOUT_RAILS,
    NOTHING_FOUND,
    TURNING,
    Capability,
    FindingKind,
    SensorKind,
    State,
)
from sagen.reason.circuits import Circuits
from sagen.reason.particle_set import ParticleSet

if TYPE_CHECKING:
    from sagen.reason.facts import PressedShares

#: how often any finding is made of a machine outside the model; and how much of what is made of a machine that does not
#: have it is made by mistake, anew in each recording
OUTSIDE_SHARE, FALSE_ALARM = 0.12, 0.5
LEAST_SHARE, MOST_SHARE = 0.002, 0.985  #: nothing is quite impossible, nothing quite sure
MIDDLING = 0.12  #: share of flat lines that are read as held elsewhere than they are
STRIKES = frozenset({FindingKind.WEAK_STRIKE, FindingKind.RING_MISMATCH, FindingKind.LOADED_DOWN})
#: states in which a reader says that a line is flat
_FLAT_TOLD = TURNING | {State.STRIKE, State.UNPLUGGED, State.LOADED, State.KEY_ON}


#: of presses on a picture board, the share that are slips of any kind; and where the kind on the screen is not on the board, how often
#: "none of them" is said. Judgement, no published source
SLIPS, SAYS_NONE = 0.02, 0.6
#: what a press counts that follows another of the same screen, as a power of its likelihood: who errs often errs so again. Judgement
ONCE_MORE = 0.2
#: the gravest first: what a picture is of, where a machine shows several
OF_PICTURE = (
    FindingKind.NO_SIGNAL, FindingKind.WRONG_PATTERN, FindingKind.DROPOUT, FindingKind.ERRATIC, FindingKind.EXTRA_GAP,
    FindingKind.LOW_NOT_PULLED_DOWN, FindingKind.HIGH_NOT_REACHED, FindingKind.WEAK_AMPLITUDE, FindingKind.REVERSED_POLARITY,
    FindingKind.NOISE, FindingKind.ODD_TOOTH, FindingKind.RUNOUT, FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT,
)  # fmt: skip


def finding_label(kind: str, fields: dict) -> str:
    """A finding as it is told: its kind, for a flat line with where it is held.

    Parameters
    ----------
    kind : str
        of the finding
    fields : dict
        its numbers and words
    """
    return f"{kind}:{fields['held']}" if kind == FindingKind.NO_SIGNAL and "held" in fields else str(kind)


def label_kind(label: str) -> str:
    """The kind of finding of a label.

    Parameters
    ----------
    label : str
        as `finding_label` makes it
    """
    return label.partition(":")[0]


@cache
def readable(sensor: SensorKind) -> tuple[FindingKind, ...]:
    """The findings that a recording of a kind of sensor can hold."""
    kind = kind_of(sensor)
    out = []
    for finding_kind in FindingKind:
        if finding_kind in ABOUT_CAPTURE or (finding_kind in STRIKES and kind.has(Capability.TURNS)):
            continue
        if not kind.has(Capability.TURNS) and finding_kind not in STRIKES | {FindingKind.NO_SIGNAL, FindingKind.NOISE}:
            continue
        if finding_kind in (FindingKind.LOW_NOT_PULLED_DOWN, FindingKind.HIGH_NOT_REACHED) and not kind.has(
            Capability.SWITCHES
        ):
            continue
        if finding_kind == FindingKind.WEAK_AMPLITUDE and kind.has(Capability.SWITCHES):
            continue
        if finding_kind == FindingKind.REVERSED_POLARITY and not kind.polar:
            continue
        if finding_kind == FindingKind.SUPPLY_LOSS and not kind.has(Capability.FEED):
            continue
        out.append(finding_kind)
    return tuple(out)


def seen_next(share: np.ndarray, told: Iterable[bool], other: float, slip: float) -> np.ndarray:
    """How likely a finding is in the next recording of machines that show it with `share`, after those before it, each of
    which did or did not hold it.

    Parameters
    ----------
    share : ndarray, shape (...,)
        share of recordings in which it shows, 0 to 1
    told : iterable of bool
        whether each earlier recording of the epoch held it
    other : float
        share of recordings in which a machine with no fault of that finding shows it
    slip : float
        chance that a recording is misjudged

    Returns
    -------
    ndarray, shape of `share`

    References
    ----------
    Two hypotheses of a finding (it shows, it does not) in sequence: Wald, Sequential Analysis (1947). From memory.
    """
    shows, alarm = np.clip(share, LEAST_SHARE, MOST_SHARE), FALSE_ALARM * other
    not_so = 1 - shows
    for seen in told:
        shows, not_so = shows * ((1 - slip) if seen else slip), not_so * (alarm if seen else 1 - alarm)
    return (shows * (1 - slip) + not_so * alarm) / (shows + not_so)


def _likely_press(table: PressedShares, shown: tuple[str, ...], chosen: tuple[str, ...]) -> np.ndarray:
    """How likely a press is for each kind of picture that may be on the screen, shape (kinds,); `shown` and `chosen` as
    `RecordingLikelihood.pressed` has them."""
    names = tuple(dict.fromkeys(shown))
    pulls = np.zeros((len(table.labels), len(names)))
    for at, name in enumerate(names):
        if name in table.labels:
            pulls[:, at] = table.shares[:, table.labels.index(name)]
    there = pulls.sum(axis=1, keepdims=True)
    none = SAYS_NONE * (1.0 - there)
    pulls = np.divide(pulls, there, out=np.full_like(pulls, 1.0 / len(names)), where=there > 0) * (1.0 - none)
    told = pulls[:, [names.index(item) for item in chosen]].mean(axis=1) if chosen else none[:, 0]
    return (1.0 - SLIPS) * told + SLIPS / (len(names) + 1)


@dataclass
class _Kind:
    """What the recordings so far told of one kind of finding."""

    share: np.ndarray  #: of machines that show it, before any recording, shape (rows, particles)
    #: how likely the recordings so far are of one that shows it, of one that does not, and of either
    so: float | np.ndarray = 1.0
    not_so: float = 1.0
    likely: float | np.ndarray = 1.0

    def after(self, so: float | np.ndarray, not_so: float) -> _Kind:
        """After one more recording, which is so likely of one that shows it and of one that does not."""
        so, not_so = self.so * so, self.not_so * not_so
        return _Kind(self.share, so, not_so, not_so + (so - not_so) * self.share)


class RecordingLikelihood:
    """What the recordings of one stretch of a job have told so far, for every particle of a crowd."""

    def __init__(self):
        self._pressed: dict[str, tuple[dict[str, np.ndarray], dict[str, float]]] = {}
        self._kinds: dict[tuple, _Kind] = {}
        self._outside: dict[tuple, tuple[float, float]] = {}
        self._inside: np.ndarray | float = 1.0  #: how likely the recordings so far are of machines of the model
        self._total: np.ndarray | float = 1.0

    def told(
        self, particle_set: ParticleSet, found: frozenset[str], state: str, unseen: frozenset[str] | None, end: str
    ) -> np.ndarray | None:
        """How likely this recording is after those before it, shape (rows, particles).

        Parameters
        ----------
        found : frozenset of labels
        unseen : frozenset of kinds, or None
            what this recording could not have shown; None: only what was found is told at all
        """
        kinds = {label_kind(item) for item in found}
        asked = [
            item
            for item in readable(particle_set.spec.sensor)
            if (item in kinds if unseen is None else item not in unseen)
        ]
        if state not in _FLAT_TOLD:
            asked = [item for item in asked if item != FindingKind.NO_SIGNAL or item in kinds]
        flat = FindingKind.NO_SIGNAL in kinds
        moved = False
        for kind in asked:
            if flat and kind not in ABOUT_RAILS and kind != FindingKind.NO_SIGNAL and kind not in kinds:
                continue  # a flat line shows no teeth
            held = next((item.partition(":")[2] for item in found if label_kind(item) == kind), "")
            self._move(particle_set, kind, kind in kinds, held, state, end)
            moved = True
        if not moved:
            return None
        facts = particle_set.facts
        outside = float(np.prod([shows + not_so for shows, not_so in self._outside.values()]))
        total = (1 - facts.picture.outside) * self._inside + facts.picture.outside * outside
        gained = total / self._total
        self._total = total
        return gained

    def pressed(
        self, particle_set: ParticleSet, shown: tuple[str, ...], chosen: tuple[str, ...], state: str
    ) -> np.ndarray | None:
        """How likely it is that of the pictures of a board those are pressed that were, after the presses before in the same state.

        What an eye sees on the screen is one kind of picture; which one is not known of the machine, and presses differ by what
        is taken for what.

        Parameters
        ----------
        shown, chosen : tuple of str
            kinds of picture; two that were chosen: it lies between them; none: none of them looks like it
        state : str
            by name

        Returns
        -------
        ndarray, shape (rows, particles), or None where nothing is known of such pictures

        References
        ----------
        Shares among what is offered: Luce, Individual Choice Behavior (1959). From memory.
        """
        table = particle_set.facts.pressed.get(particle_set.spec.sensor)
        if table is None:
            return None
        likely = dict(zip(table.labels, _likely_press(table, shown, chosen), strict=True))
        if state in self._pressed:
            (on_screen, before), power = self._pressed[state], ONCE_MORE
        else:
            on_screen, power = self._on_screen(particle_set, table.labels, state), 1.0
            before = dict.fromkeys(on_screen, 1.0)
        after = {label: told * likely[label] ** power for label, told in before.items()}
        self._pressed[state] = (on_screen, after)
        now, then = (sum(on_screen[label] * share for label, share in told.items()) for told in (after, before))
        return now / then

    def _on_screen(self, particle_set: ParticleSet, labels: tuple[str, ...], state: str) -> dict[str, np.ndarray]:
        """How likely the gravest thing in a picture of a machine is each of some kinds, arrays of shape (rows, particles) whose sum is 1."""
        end, left, out = "sensor", np.ones(particle_set.shape), {}
        for kind in OF_PICTURE:
            mine = [label for label in labels if label_kind(label) == kind]
            if not mine or kind not in readable(particle_set.spec.sensor):
                continue
            told = self._kinds.get((kind, state), self._kinds.get((kind, "")))
            share = _share(particle_set, kind, state, end) if told is None else told.share * told.so / told.likely
            here, left = left * share, left * (1.0 - share)
            held = [_held(particle_set, label.partition(":")[2], state, end) if ":" in label else 1.0 for label in mine]
            total = sum(held)
            out |= {label: here * part / total for label, part in zip(mine, held, strict=True)}
        out[NOTHING_FOUND] = left
        outside = particle_set.facts.picture.outside
        return {label: (1.0 - outside) * share + outside / len(out) for label, share in out.items()}

    def _move(self, particle_set: ParticleSet, kind: FindingKind, seen: bool, held: str, state: str, end: str) -> None:
        shape = particle_set.facts.shapes[kind]
        # Where the state matters, what one state showed says little of another.
        particular = (
            shape.by_state or kind in ABOUT_RAILS or state == State.WIGGLE or particle_set.circuits.shown_by_state(kind)
        )
        key = (kind, state if particular else "")
        slip, alarm = particle_set.facts.picture.slip, FALSE_ALARM * shape.other
        if key not in self._kinds:
            share = np.clip(_share(particle_set, kind, state, end), LEAST_SHARE, MOST_SHARE)
            self._kinds[key], self._outside[key] = _Kind(share), (OUTSIDE_SHARE, 1 - OUTSIDE_SHARE)
        if seen:
            place = _held(particle_set, held, state, end) if kind == FindingKind.NO_SIGNAL and held else 1.0
            now = ((1 - slip) * place, alarm * (1 / 3 if held else 1.0))
        else:
            now = (slip, 1 - alarm)
        before = self._kinds[key]
        after = self._kinds[key] = before.after(*now)
        self._inside = self._inside * (after.likely / before.likely)
        shows, not_so = self._outside[key]
        average = (0.9 * (1 / 3 if held else 1.0), 0.1) if seen else (0.1, 0.9)
        self._outside[key] = (shows * average[0], not_so * average[1])


def _held(particle_set: ParticleSet, held: str, state: str, end: str) -> np.ndarray:
    """Where a flat line is held, given that it is flat, shape (rows, particles)."""
    shown = particle_set.circuits.shown(state, end)
    flat = {
        label.partition(":")[2]: share for label, share in shown.items() if label_kind(label) == FindingKind.NO_SIGNAL
    }
    total = sum(flat.values()) + 1e-3
    here = flat.get(held, np.zeros(particle_set.circuits.shape)) / total
    return particle_set.of_rows((1 - MIDDLING) * here + MIDDLING / 3)


def _share(particle_set: ParticleSet, kind: FindingKind, state: str, end: str) -> np.ndarray:
    """How likely a finding is in such a recording, shape (rows, particles)."""
    circuits = particle_set.circuits
    silent, level = by_level(circuits, FindingKind.NO_SIGNAL, state, end), by_level(circuits, kind, state, end)
    if kind in ABOUT_RAILS or kind == FindingKind.NO_SIGNAL or kind in STRIKES:
        silent = None

    def together(shape: float | np.ndarray, at: int | slice) -> float | np.ndarray:
        if silent is not None:
            # What never switches has no teeth to be irregular.
            shape = shape + (SILENT_SHARE - shape) * silent[at]
        return shape if level is None else 1 - (1 - level[at]) * (1 - shape)

    # Most rows are as any machine of their circuit: only what a fault mode makes of itself is worked out row by row.
    out = particle_set.of_rows(circuits.each(together(particle_set.facts.shapes[kind].other, slice(None))))
    louder = [
        (index, together(shape, particle_set.circuit_of(index))) for index, shape in particle_set.louder(kind, state)
    ]
    if louder:
        out = out.copy() if not out.flags.writeable else out
        for index, share in louder:
            out[index] = share
    return out


#: how often a line that never switches shows what only teeth can
SILENT_SHARE = 0.01


def by_level(circuits: Circuits, kind: str, state: str, end: str = "sensor") -> np.ndarray | None:
    """How likely the levels of a recording make a kind of finding, shape (circuits, particles); None where they decide none of it.

    Parameters
    ----------
    circuits : Circuits
    kind, state, end : str
        by name; `end` is where the recorder was clipped to
    """

    def work_out() -> np.ndarray | None:
        shown = circuits.shown(state, end)
        shares = [share for label, share in shown.items() if label_kind(label) == kind]
        return np.clip(sum(shares), 0.0, 1.0) if shares else None

    return circuits.once(("by level", kind, state, end), work_out)
