"""Cam against crank: every cam edge in crank degrees over the 720 of a working cycle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sagen.signal.deviation import medians_of
from sagen.signal.reading import RotatingReading
from sagen.signal.slots import Teeth

CYCLE = 720.0
FAR = 60.0  #: degrees: a cam farther off than this is not the same cam
BESIDE_REST = 8  #: teeth of the crank
APART = 20.0  #: degrees: edges closer than this, of one direction, are the same edge in other cycles
STRANGE = 30.0  #: degrees from its cycle's others: no edge of the cam
NARROWEST = 2.5  #: degrees of the crank: no cam's window or gap is so narrow


def half_way(angle: np.ndarray | float) -> np.ndarray | float:
    """Degrees brought to within half a cycle either way.

    Parameters
    ----------
    angle : ndarray of any shape, or float
        degrees

    Returns
    -------
    as given
        -180 to 180

    References
    ----------
    Mardia and Jupp, Directional Statistics (2000), section 2. From memory.
    """
    return (angle + CYCLE / 2) % CYCLE - CYCLE / 2


@dataclass(frozen=True)
class CamTrack:
    """A cam's edges over the crank's angle.

    Angles are in crank degrees from tooth 1 of the first turn; `template` holds where each edge of one
    cycle usually lies (0 to 720, climbing), `phase_error` by how much each edge seen comes after its own.
    """

    column: str
    time: np.ndarray  #: s, shape (n,)
    angle: np.ndarray  #: crank degrees, shape (n,)
    rising: np.ndarray  #: bool, shape (n,)
    template: np.ndarray  #: shape (k,)
    template_rising: np.ndarray  #: bool, shape (k,)
    phase_error: np.ndarray  #: crank degrees, shape (n,)
    step_deg: float  #: crank degrees that pass from one sample to the next at top speed
    referenced: bool  #: whether the crank's wheel has a reference, so that angles compare across captures

    @property
    def cycles(self) -> float:
        return float(self.angle[-1] - self.angle[0]) / CYCLE

    def by_cycle(self) -> tuple[np.ndarray, np.ndarray]:
        """Mean phase_errors of each cycle's edges and how far the edges stray about it (1 sigma), degrees. An edge
        farther from its place than a cam can wander within one cycle is a disturbance's and left out."""
        which = np.floor((self.angle - self.angle[0]) / CYCLE).astype(int)
        middle = medians_of(self.phase_error, which)
        own = np.abs(self.phase_error - middle[which]) < STRANGE
        which, late = which[own], self.phase_error[own]
        count = np.bincount(which)
        mean = np.bincount(which, late) / np.maximum(count, 1)
        rest = late - mean[which]
        usual = 1.4826 * float(np.median(np.abs(rest)))
        rest = rest[np.abs(rest) <= max(4 * usual, 3.0)]
        freedom = max(len(rest) - np.count_nonzero(count), 1)
        return mean[count > 0], float(np.sqrt((rest**2).sum() / freedom))


def crank_angle(teeth: Teeth, at: np.ndarray) -> np.ndarray:
    """Crank angle in degrees at each time of `at`, climbing over the turns; NaN where it is not known.

    Between teeth the angle is the cubic that has the speed of its neighbours on both sides, so that a
    reference gap of three pitches in a breathing turn does not bend it.

    Parameters
    ----------
    teeth : Teeth
        with a wheel
    at : np.ndarray [shape=(n,)], s

    References
    ----------
    Computed order tracking: Fyfe and Munck, Mech. Syst. Signal Process. 11(2), 1997. From memory.
    """
    angle, times = teeth.angle_deg(), teeth.times
    index = np.searchsorted(times, at, "right") - 1
    inside = (index >= 1) & (index < len(times) - 2)
    index = np.clip(index, 1, max(len(times) - 3, 1))
    wide = np.diff(times)
    speed = np.diff(angle) / wide
    tangent = np.empty(len(times))
    tangent[1:-1] = (speed[:-1] * wide[1:] + speed[1:] * wide[:-1]) / (wide[:-1] + wide[1:])
    tangent[0], tangent[-1] = speed[0], speed[-1]
    h = wide[index]
    u = (at - times[index]) / h
    out = (
        angle[index] * (1 + 2 * u) * (1 - u) ** 2
        + angle[index + 1] * u**2 * (3 - 2 * u)
        + h * (tangent[index] * u * (1 - u) ** 2 + tangent[index + 1] * u**2 * (u - 1))
    )
    climbing = (angle[index + 1] > angle[index]) & (teeth.spans[index] > 0)
    return np.where(inside & climbing, out, np.nan)


def track(cam: RotatingReading, crank: RotatingReading) -> CamTrack | None:
    """Place a cam's edges on the crank; None where either gives too little to go by.

    Parameters
    ----------
    cam, crank : RotatingReading
        two channels of one capture, their edges in samples of one clock

    Returns
    -------
    CamTrack or None
        its edges on the crank's cycle of 720 degrees
    """
    if crank.wheel is None or not crank.switching or not cam.switching or len(crank.teeth.times) < 8:
        return None
    times, rising = cam.cam_edges()
    angle = crank_angle(crank.teeth, times)
    # Across a rest, or a loss of the crank's own signal, nobody counts its turns: the longest stretch is read.
    first, last = judged_stretch(crank)
    known = np.isfinite(angle) & (times >= first) & (times <= last)
    times, rising, angle = times[known], rising[known], angle[known]
    if rising.any():
        window = _windows(angle)
        times, rising, angle = times[window], rising[window], angle[window]
    if len(angle) < 3 or angle[-1] - angle[0] < 1.3 * CYCLE:
        return None
    # Two ways to the cycle: edges counted through it (a phaser may move them all), and edges gathered at
    # their angles (some may be lost). The one that explains more of the edges is believed.
    template, template_rising, late = max(
        _template(angle, rising), _gathered(angle, rising), key=lambda item: _explained(angle, item)
    )
    if not len(template):
        return None
    speed = crank.teeth.speed_rpm()
    step = float(np.nanquantile(speed, 0.98)) * 6.0 / crank.sfreq
    referenced = bool(len(crank.teeth.anchors))
    return CamTrack(cam.column, times, angle, rising, template, template_rising, late, step, referenced)


def judged_stretch(crank: RotatingReading) -> tuple[float, float]:
    """The crank's longest stretch without its first and last teeth where it rested or crept before or behind: there it
    rocks, or its speed between two teeth is not known.

    Parameters
    ----------
    crank : RotatingReading
        times in s

    Returns
    -------
    first, last : float
        s
    """
    first, last = crank.teeth.longest_stretch()
    times = crank.teeth.times
    begin, end = np.searchsorted(times, [first, last])
    pitch = float(np.median(np.diff(times)))
    if begin > 0 or first > 8 * pitch:
        first = times[min(begin + BESIDE_REST, end)]
    if end < len(times) - 1 or crank.seconds - last > 8 * pitch:
        last = times[max(end - BESIDE_REST, begin)]
    return float(first), float(last)


def _windows(angle: np.ndarray) -> np.ndarray:
    """Which edges are a window's: a pulse of less than `NARROWEST` is a spike, and both its edges go."""
    kept = np.ones(len(angle), bool)
    for at in np.flatnonzero(np.diff(angle) < NARROWEST):
        if kept[at] and kept[at + 1]:
            kept[at : at + 2] = False
    return kept


def _template(angle: np.ndarray, rising: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where the edges of one cycle lie, their directions, and how late each edge seen is against that.

    It starts from the stretch of edges that returns best after 720 degrees.
    """
    count = round(len(angle) / ((angle[-1] - angle[0]) / CYCLE + 1 / max(len(angle), 1)))
    for edges in (count, count - 1, count + 1):
        if not 1 <= edges < len(angle):
            continue
        returns = np.abs(angle[edges:] - angle[:-edges] - CYCLE)
        returns = np.where(rising[edges:] == rising[:-edges], returns, CYCLE)
        if np.median(returns) > 25:
            continue
        window = np.convolve(np.minimum(returns, 90.0), np.ones(min(edges, len(returns))), "valid")
        first = int(window.argmin())
        template = angle[first : first + edges] % CYCLE
        up = rising[first : first + edges]
        cycle = np.floor((angle - angle[0]) / CYCLE).astype(int)
        start = int(cycle[first])
        for _ in range(3):
            # What a phaser moves is the cycle's, not the edge's: it is taken off before an edge's place is refined.
            late = _followed(angle, rising, template, up, cycle, start)
            late = late - _by_cycle(late, cycle)[cycle]
            own = _nearest(angle, rising, template, up)
            template = (
                template
                + [float(np.median(late[own == index])) if (own == index).any() else 0.0 for index in range(edges)]
            ) % CYCLE
        late = _followed(angle, rising, template, up, cycle, start)
        middle = float(np.median(late))
        order = np.argsort((template + middle) % CYCLE)
        return ((template + middle) % CYCLE)[order], up[order], late - middle
    return np.empty(0), np.empty(0, bool), np.empty(0)


def _gathered(angle: np.ndarray, rising: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Edges gathered where they lie in the cycle; a place seen in less than half the cycles does not count."""
    cycles = (angle[-1] - angle[0]) / CYCLE
    places, ups = [], []
    for up in (False, True):
        at = np.sort(angle[rising == up] % CYCLE)
        if not len(at):
            continue
        apart = np.diff(np.append(at, at[0] + CYCLE))
        if apart.max() < APART:
            continue
        start = int(apart.argmax()) + 1
        at = np.concatenate([at[start:], at[:start] + CYCLE])
        for group in np.split(at, np.flatnonzero(np.diff(at) > APART) + 1):
            if len(group) >= max(2, 0.5 * cycles):
                places.append(float(np.median(group)) % CYCLE)
                ups.append(up)
    template, up = np.array(places), np.array(ups, bool)
    if not len(template):
        return template, up, np.empty(0)
    order = np.argsort(template)
    template, up = template[order], up[order]
    return template, up, _lateness(angle, rising, template, up)


def _explained(angle: np.ndarray, found: tuple[np.ndarray, np.ndarray, np.ndarray]) -> float:
    """Share of the edges that lie near their place, each cycle's own shift left out."""
    template, _, late = found
    if not len(template):
        return 0.0
    cycle = np.floor((angle - angle[0]) / CYCLE).astype(int)
    return float(np.mean(np.abs(late - medians_of(late, cycle)[cycle]) < 10.0))


def _by_cycle(late: np.ndarray, cycle: np.ndarray) -> np.ndarray:
    return np.bincount(cycle, late) / np.maximum(np.bincount(cycle), 1)


def _followed(angle, rising, template, up, cycle: np.ndarray, start: int) -> np.ndarray:
    """Lateness of every edge, each cycle matched where the one before it was: a phaser may carry an edge
    farther than half way to the next, but not within one cycle."""
    late = _lateness(angle, rising, template, up)
    by_cycle = _by_cycle(late, cycle)
    if np.ptp(by_cycle) < 12.0 and np.quantile(np.abs(late), 0.99) < 12.0:
        return late
    borders = np.searchsorted(cycle, np.arange(cycle[-1] + 2))
    for cycles in (range(start, cycle[-1] + 1), range(start - 1, -1, -1)):
        offset = 0.0
        for this_cycle in cycles:
            part = slice(borders[this_cycle], borders[this_cycle + 1])
            if part.start < part.stop:
                late[part] = _lateness(angle[part] - offset, rising[part], template, up) + offset
                offset = float(np.median(late[part]))
    return late


def _apart(angle: np.ndarray, rising: np.ndarray, template: np.ndarray, up: np.ndarray) -> np.ndarray:
    """Signed distance of every edge from every template edge of its direction, shape (n, k), degrees."""
    apart = half_way(angle[:, None] - template)
    return np.where(rising[:, None] == up, apart, CYCLE)


def _nearest(angle, rising, template, up) -> np.ndarray:
    return np.abs(_apart(angle, rising, template, up)).argmin(axis=1)


def _lateness(angle, rising, template, up) -> np.ndarray:
    apart = _apart(angle, rising, template, up)
    return np.take_along_axis(apart, np.abs(apart).argmin(axis=1)[:, None], axis=1)[:, 0]
