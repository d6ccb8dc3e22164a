"""How bad a fault must be for a machine to show what was read: readings rise or fall with it, so that each machine has a severity of
its own at which it fits, and hardly one of few that are drawn at random lies there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from sagen.machine.faults import all_faults
from sagen.reason.evidence import Evidence
from sagen.reason.history import FaultHistory
from sagen.reason.likelihood import Drawn, Values, foreseen
from sagen.reason.particle_set import END_SHARE
from sagen.reason.world import World

#: severities that are tried along either stretch of a fault, how often a place is then sought nearer, widths of a reading over which it must move the
#: reading, and from which on more is no better
TRIED, REFINED, LEAST_SPAN, MOST_SPAN = (4, 3), (2, 1), 4.0, 40.0
EDGE = 1e-9  #: how near to its border a place in the cube may lie


class Fit(NamedTuple):
    """Where along its severity each particle shows what was read: once while the fault grows, and once beyond, where it has come to
    its end."""

    column: int  #: of the severity in the cube
    low: np.ndarray  #: where each stretch begins and ends, shape (stretches,)
    high: np.ndarray
    reading: np.ndarray  #: which of the precise values, shape (stretches,)
    at: np.ndarray  #: place in the cube, shape (stretches, particles)
    width: (
        np.ndarray
    )  #: standard deviation there, as the reading is uncertain; 0 where nothing fits, shape (stretches, particles)

    def beside(self, more: Fit) -> Fit:
        """With those of further particles."""
        return self._replace(at=np.hstack([self.at, more.at]), width=np.hstack([self.width, more.width]))

    def stretch(self, place: np.ndarray) -> np.ndarray:
        """In which stretch each place lies, shape (stretches, particles)."""
        return (place >= self.low[:, None]) & (place < self.high[:, None])


def fitted(
    histories: Sequence[FaultHistory],
    pieces: Sequence[tuple[int, Evidence]],
    generations,
    world: World,
    values: Values,
    drawn: Drawn,
    like: Sequence[Fit | None] | None = None,
) -> list[Fit | None]:
    """Of each history where its first fault fits the reading that it moves most; None where no reading tells of it.

    Parameters
    ----------
    histories : sequence of FaultHistory
    pieces, generations, world
        as `log_likelihoods` has them
    values : Values
        the precise values in the pieces
    drawn : Drawn
        the particles, a set for each history
    like : sequence of Fit or None
        of other particles of these histories: by the same readings
    """
    rows = [history.now for history in histories]
    out: list[Fit | None] = [None] * len(rows)
    computed = [k for k, row in enumerate(rows) if row and all_faults()[row[0][0]].computed]
    if like is not None:
        computed = [k for k in computed if like[k] is not None]
    if not computed or not len(values.here):
        return out
    ending = [k for k in computed if 1.0 in all_faults()[rows[k][0][0]].ends.values()]
    found: dict[int, list] = {k: [] for k in computed}
    grown = {k: 1.0 - END_SHARE if k in ending else 1.0 for k in computed}
    stretches = (
        (computed, np.zeros(len(computed)), np.array([grown[k] for k in computed])),
        (ending, np.full(len(ending), 1.0 - END_SHARE), np.ones(len(ending))),
    )
    for number, (asked, low, high) in enumerate(stretches):
        if asked:
            reading = None if like is None else np.array([like[k].reading[number] for k in asked])
            those = _Asked([histories[k] for k in asked], pieces, generations, world, values, drawn, asked, reading)
            for k, begin, end, *told in zip(asked, low, high, *_crossing(those, low, high, number), strict=True):
                found[k].append((begin, end, *told))
    for k, told in found.items():
        low, high, reading, at, width = (np.array(item) for item in zip(*told, strict=True))
        if width.any() or like is not None:
            out[k] = Fit(world.places.column[f"severity.{rows[k][0][1]}"], low, high, reading, at, width)
    return out


class _Asked:
    """What some histories show at severities that are tried."""

    def __init__(
        self, histories, pieces, generations, world: World, values: Values, drawn: Drawn, sets: list[int], reading
    ):
        wanted = set(range(len(pieces))) if reading is None else {values.piece[number] for number in reading}
        self.at = np.array([number for number, piece in enumerate(values.piece) if piece in wanted])
        self.here, self.width = values.here[self.at], values.width[self.at]
        # What stands in a recording is worked out with all the rest of it.
        self.dear = np.array([2.0 if values.piece.count(values.piece[number]) > 1 else 1.0 for number in self.at])
        self.particles = drawn.cube.shape[1]
        self._histories, self._generations, self._world = histories, generations, world
        self._drawn, self._sets, self.reading = drawn, sets, reading
        self._pieces = [piece for number, piece in enumerate(pieces) if number in wanted]

    def __call__(self, tried: np.ndarray) -> np.ndarray:
        """Shape (readings, tried, histories, particles), of `tried`, shape (tried, histories, particles): all severities of all
        histories at once, since few arrays that are large cost less than many that are small."""
        times, several = len(tried), len(self._histories)
        everyone = self._drawn._replace(set_of=np.tile(self._sets, times), severity=tried.reshape(-1, self.particles))
        found = foreseen(self._histories * times, self._pieces, self._generations, self._world, everyone).shown
        return found.reshape(len(found), times, several, self.particles)


def _crossing(asked: _Asked, low: np.ndarray, high: np.ndarray, stretch: int):
    """Which reading it is, shape (histories,), where it passes what was read, and the standard deviation of that, both shape
    (histories, particles)."""
    tried, reading = TRIED[stretch], asked.reading
    tries = np.linspace(low + EDGE, high - EDGE, tried)[:, :, None] * np.ones(asked.particles)
    seen = asked(tries)  # (readings, tried, histories, particles)
    least, last, here = seen[:, 0], seen[:, -1], asked.here[:, None, None]
    span = np.abs(last - least) / asked.width[:, None, None]
    between = (np.minimum(least, last) < here) & (here < np.maximum(least, last)) & (span > LEAST_SPAN)
    if reading is None:
        told = np.where(between, np.minimum(span, MOST_SPAN), 0.0).sum(axis=2)
        chosen = (told / asked.dear[:, None]).argmax(axis=0)
    else:
        chosen = np.searchsorted(asked.at, reading)
    each = np.arange(len(chosen))
    curve, fits, wanted = seen[chosen, :, each], between[chosen, each], asked.here[chosen][:, None]
    # Of what falls the mirror image rises: the last severity at which the reading is not yet reached, and a straight line on from it.
    mirrored = np.where(curve[:, -1] > curve[:, 0], 1.0, -1.0)
    below = (mirrored[:, None] * curve < (mirrored * wanted)[:, None]).sum(axis=1)
    below = np.clip(below, 1, tried - 1) - 1
    pick = np.swapaxes(tries, 0, 1), curve
    (at_low, seen_low), (at_high, seen_high) = (
        [np.take_along_axis(item, (below + beside)[:, None], 1)[:, 0] for item in pick] for beside in (0, 1)
    )
    for _ in range(REFINED[stretch]):
        at = _along(at_low, at_high, seen_low, seen_high, wanted)
        seen = asked(at[None])[chosen, 0, each]
        under = mirrored * seen < mirrored * wanted
        at_low, seen_low = np.where(under, at, at_low), np.where(under, seen, seen_low)
        at_high, seen_high = np.where(under, at_high, at), np.where(under, seen_high, seen)
    at = _along(at_low, at_high, seen_low, seen_high, wanted)
    rise = np.maximum(np.abs(seen_high - seen_low), EDGE)
    width = asked.width[chosen][:, None] * (at_high - at_low) / rise
    width = np.clip(width, NARROWEST, (high - low)[:, None] / WIDEST)
    return asked.at[chosen], at, np.where(fits, width, 0.0)


#: the least width about a place, and the greatest as a part of the stretch
NARROWEST, WIDEST = 1e-5, 4.0


def _along(at_low, at_high, seen_low, seen_high, wanted) -> np.ndarray:
    """A straight line between two places, read backwards."""
    rise = np.where(seen_high == seen_low, 1.0, seen_high - seen_low)
    return at_low + np.clip((wanted - seen_low) / rise, 0.0, 1.0) * (at_high - at_low)
