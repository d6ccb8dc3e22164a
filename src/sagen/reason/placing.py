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
from sagen.reason.scales import EDGE, TAIL, WIDER, density, share_below
from sagen.reason.world import World

#: severities that are tried along a stretch, widths of a reading over which it must move the reading, from which on more is no better,
#: and the share of particles that it must fit
TRIED, LEAST_SPAN, MOST_SPAN, FITS_AT_LEAST = 5, 4.0, 40.0, 0.02


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

    def placed(self, cube: np.ndarray) -> Placed:
        """How dense severities are that are put where they fit, at these particles.

        Parameters
        ----------
        cube : ndarray, shape (particles, columns)
        """
        place, low, high = cube[:, self.column], self.low[:, None], self.high[:, None]
        fits, width = self.width > 0.0, np.maximum(self.width, NARROWEST)
        inside = sum(
            part * (share_below((high - self.at) / (wide * width)) - share_below((low - self.at) / (wide * width)))
            for part, wide in ((1 - TAIL, 1.0), (TAIL, WIDER))
        )
        about = np.where(fits & (place > low) & (place < high), density(place, self.at, width), 0.0)
        outside = np.clip(np.where(fits, 1.0 - inside, 1.0), 0.0, 1.0)
        with np.errstate(divide="ignore"):
            return Placed(self.column, np.log(about), np.log(outside))


class Placed(NamedTuple):
    """The same for every proposal that some particles are counted against: what is only the severity's own."""

    column: int  #: of the severity in the cube
    about: np.ndarray  #: logarithm of the density where it is put where it fits, shape (stretches, particles)
    #: logarithm of the share that falls outside and stays where it was, shape (stretches, particles)
    outside: np.ndarray

    def beside(self, more: Placed) -> Placed:
        """With those of further particles."""
        return Placed(self.column, np.hstack([self.about, more.about]), np.hstack([self.outside, more.outside]))


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
    if like is None:
        ending = [k for k in computed if 1.0 in all_faults()[rows[k][0][0]].ends.values()]
        stretches = [(k, 0.0, 1.0 - END_SHARE if k in ending else 1.0) for k in computed]
        stretches += [(k, 1.0 - END_SHARE, 1.0) for k in ending]
        reading = None
    else:
        stretches = [(k, low, high) for k in computed for low, high in zip(like[k].low, like[k].high, strict=True)]
        reading = np.concatenate([like[k].reading for k in computed])
    # All stretches of all histories are asked together: few arrays that are large cost less than many that are small.
    sets, low, high = map(np.array, zip(*stretches, strict=True))
    asked = _Asked([histories[k] for k in sets], pieces, generations, world, values, drawn, sets, reading)
    chosen, at, width = _crossing(asked, low, high)
    worth_it = (width > 0.0).mean(axis=1) >= (FITS_AT_LEAST if like is None else 0.0)
    for k in computed:
        own = (sets == k) & worth_it
        if own.any():
            column = world.places.column[f"severity.{rows[k][0][1]}"]
            out[k] = Fit(column, low[own], high[own], chosen[own], at[own], width[own])
    return out


class _Asked:
    """What some histories, one a stretch, show at severities that are tried."""

    def __init__(
        self, histories, pieces, generations, world: World, values: Values, drawn: Drawn, sets: np.ndarray, reading
    ):
        wanted = set(range(len(pieces))) if reading is None else {values.piece[number] for number in reading}
        self.at = np.array([number for number, piece in enumerate(values.piece) if piece in wanted])
        self.here, self.width = values.here[self.at], values.width[self.at]
        # What stands in a recording is worked out with all the rest of it.
        self.dear = np.array([2.0 if values.piece.count(values.piece[number]) > 1 else 1.0 for number in self.at])
        self.particles = drawn.cube.shape[1]
        self._histories, self._generations, self._world = histories, generations, world
        self._drawn, self._sets, self.reading = drawn, sets.tolist(), reading
        self._pieces = [piece for number, piece in enumerate(pieces) if number in wanted]

    def __call__(self, tried: np.ndarray) -> np.ndarray:
        """Shape (readings, tried, stretches, particles), of `tried`, shape (tried, stretches, particles)."""
        times, several = len(tried), len(self._histories)
        everyone = self._drawn._replace(set_of=np.tile(self._sets, times), severity=tried.reshape(-1, self.particles))
        found = foreseen(self._histories * times, self._pieces, self._generations, self._world, everyone).shown
        return found.reshape(len(found), times, several, self.particles)


def _crossing(asked: _Asked, low: np.ndarray, high: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of each stretch which reading it is, shape (stretches,), where it passes what was read, and the standard deviation of that, both
    shape (stretches, particles)."""
    reading = asked.reading
    tries = np.linspace(low + EDGE, high - EDGE, TRIED)[:, :, None] * np.ones(asked.particles)
    seen = asked(tries)  # (readings, tried, stretches, particles)
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
    below = np.clip(below, 1, TRIED - 1) - 1
    pick = np.swapaxes(tries, 0, 1), curve
    (at_low, seen_low), (at_high, seen_high) = (
        [np.take_along_axis(item, (below + beside)[:, None], 1)[:, 0] for item in pick] for beside in (0, 1)
    )
    # Once more between those two, and it is near enough.
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
    """A straight line between two places, read backwards: the curves are steps, and what follows a parabola overshoots."""
    rise = np.where(seen_high == seen_low, 1.0, seen_high - seen_low)
    return at_low + np.clip((wanted - seen_low) / rise, 0.0, 1.0) * (at_high - at_low)
