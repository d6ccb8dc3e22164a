"""A channel beside the known-good one, over the angle: both waves, their difference with its band, and every edge."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from sagen.kinds import Examination
from sagen.kinds.examine import ChannelResult
from sagen.model.language import figure, tr
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import Role
from sagen.model.words import EXPECTED
from sagen.report.turn_drawing import TurnDrawing
from sagen.signal.cam import CYCLE
from sagen.signal.cam_difference import turn_between
from sagen.signal.envelope import wave_band
from sagen.signal.per_tooth import ToothTable, waves_over_angle
from sagen.signal.reading import RotatingReading

STEPS_A_DEGREE = 3
MOST_TURNS = 24
SIGMAS = 2.0  #: how wide the band is: 95 % of turns that differ by chance


@dataclass(frozen=True)
class BesideEdge:
    """One edge or tooth in both captures, degrees of the crank (of a cam's cycle) or of the wheel."""

    number: int
    good_deg: float
    here_deg: float
    u: float  #: standard uncertainty of the difference

    @property
    def difference(self) -> float:
        return self.here_deg - self.good_deg

    @property
    def plain(self) -> bool:
        """Whether chance hardly explains it."""
        return abs(self.difference) > max(4 * self.u, 0.5)

    @property
    def words(self) -> str:
        """By how much it is off, as it is said."""
        if not self.plain:
            return tr("{difference:.1f}° ± {u:.1f}°", difference=abs(self.difference), u=2 * self.u)
        return tr(
            "{difference:.1f}° {difference_2}",
            difference=abs(self.difference),
            difference_2=tr("late") if self.difference > 0 else tr("early"),
        )

    def row(self) -> tuple[str, str, str, str, str]:
        """Its number, where it is in the known-good one and here, how far it is off, and within what that is known (two standard
        uncertainties)."""
        return (
            str(self.number), degrees(self.good_deg), degrees(self.here_deg), degrees(self.difference, "+.2f"),
            degrees(2 * self.u, ".2f"),
        )  # fmt: skip


def degrees(value: float, form: str = ".1f") -> str:
    """Degrees with a real minus, and no nought below nought."""
    return f"{figure(round(value, 2) + 0.0, form)}°".replace("-", "\u2212")


#: the heads of a table of edges, behind what they are
EDGE_HEADS = (tr("Good"), tr("Here"), tr("Off"), "±")


@dataclass(frozen=True)
class BesideScene:
    """Both waves on one grid of degrees, in `unit`; NaN where either was not recorded."""

    column: str
    unit: str
    degrees: np.ndarray
    here: np.ndarray
    good: np.ndarray
    band: np.ndarray  #: by how much they may differ by chance
    edges: tuple[BesideEdge, ...]
    what: str  #: what an edge is: "edge" or "tooth"
    good_name: str
    #: between what 95 % of new sound ones lie, and of how many known-good captures that was learnt; None of fewer than two
    sound: tuple[np.ndarray, np.ndarray] | None = None
    sound_of: int = 0

    @property
    def good_words(self) -> str:
        """What the other one is: a known-good capture, or what the model expects."""
        return self.good_name if self.good_name == EXPECTED else tr("known-good: {good_name}", good_name=self.good_name)

    @property
    def span(self) -> float:
        """Degrees of the whole picture."""
        return float(self.degrees[-1] + self.degrees[1])

    def around(self, edge: BesideEdge) -> tuple[float, float]:
        """Degrees between which an edge is near enough to see by how much it is off."""
        wide = min(self.span, max(6 * abs(edge.difference), 24.0 if self.what == "tooth" else 90.0))
        return edge.good_deg - wide / 2, edge.good_deg + wide / 2

    @property
    def difference(self) -> np.ndarray:
        return self.here - self.good

    @property
    def worst(self) -> int | None:
        """The edge that differs most for its uncertainty; None where none does plainly."""
        plain = [k for k, edge in enumerate(self.edges) if edge.plain]
        return max(plain, key=lambda k: abs(self.edges[k].difference)) if plain else None


def beside_scene(
    done: Examination, good: Examination, column: str, drawing: TurnDrawing, among: Sequence[Examination] = ()
) -> BesideScene | None:
    """The scene of a channel; None where it has no twin, or angles are not known.

    Parameters
    ----------
    done, good : Examination
        the capture, and the known-good one by itself
    column : str
        the channel's
    drawing : TurnDrawing
        its teeth, with its twin
    among : sequence of Examination
        further known-good ones of the kind: with `good` they tell how far sound ones lie apart
    """
    pattern, reading = drawing.pattern, drawing.reading
    if pattern is None:
        return None
    cam = _cam_scene(done, good, column, pattern, among)
    if cam is not None:
        return cam
    if reading.wheel is None or reading.wheel != pattern.wheel or reading.sheet.role == Role.CAM:
        return None
    span = 360.0
    pair = (_laid(done, column, reading, span, 0.0), _laid(good, pattern.column, pattern, span, 0.0))
    edges = (
        _teeth(drawing.table, reading.teeth.turns_seen)
        if drawing.table is not None and drawing.table.has_pattern
        else ()
    )
    others = []
    for other in among:
        twin = _twin(other, reading.sheet)
        if twin is not None and twin.reading.wheel == reading.wheel:
            others.append(_laid(other, twin.sheet.column, twin.reading, span, 0.0))
    return _with_sound(_scene(done, column, pair, span, edges, "tooth", good.capture.name), pair[1], others)


def _twin(other: Examination, sheet: ChannelSheet) -> ChannelResult | None:
    """The channel of another examination that is of the same sensor, and was read by its angle."""
    alike = (
        item for item in other.channels
        if item.sheet.role == sheet.role and item.sheet.bank in (None, sheet.bank)
    )  # fmt: skip
    return next((item for item in alike if isinstance(item.reading, RotatingReading) and item.reading.wheel), None)


def _with_sound(scene: BesideScene | None, good: np.ndarray, others: list[np.ndarray]) -> BesideScene | None:
    """The scene with the band of sound ones, where there are several."""
    means = [rows.mean(axis=0) for rows in (good, *others) if len(rows)]
    if scene is None or len(means) < 2:
        return scene
    return replace(scene, sound=wave_band(np.array(means)), sound_of=len(means))


def _cam_scene(
    done: Examination, good: Examination, column: str, pattern: RotatingReading, among: Sequence[Examination]
) -> BesideScene | None:
    channel = next(item for item in done.channels if item.sheet.column == column)
    difference = channel.comparison.cam if channel.comparison is not None else None
    here, there = done.cams.get(column), good.cams.get(pattern.column)
    if difference is None or here is None or there is None or difference.shape:
        return None
    cranks = [_crank(one) for one in (done, good)]
    if None in cranks:
        return None
    turn = turn_between(here, there)
    pair = (_laid(done, column, cranks[0], CYCLE, turn), _laid(good, pattern.column, cranks[1], CYCLE, 0.0))
    edges = tuple(BesideEdge(item.edge, item.good_deg, item.here_deg, item.u) for item in difference.edges)
    others = []
    for other in among:
        column_there = next(
            (name for name, cam in other.cams.items() if len(cam.template) == len(there.template)), None
        )
        crank = _crank(other)
        if crank is not None and column_there is not None and len(other.cams) == 1:
            turned = turn_between(other.cams[column_there], there)
            others.append(_laid(other, column_there, crank, CYCLE, turned))
    return _with_sound(_scene(done, column, pair, CYCLE, edges, "edge", good.capture.name), pair[1], others)


def _crank(done: Examination) -> RotatingReading | None:
    return next((item.reading for item in done.channels if item.reading and item.sheet.role == Role.CRANK), None)


def _laid(done: Examination, column: str, clock: RotatingReading, span: float, begin: float) -> np.ndarray:
    """The channel's rows over the angle of a shaft, one a turn or cycle, shape (rows, steps), its unit."""
    channel, slots = done.capture.channel(column), clock.wheel.slots
    rows = waves_over_angle(
        channel.raw, clock.teeth, done.capture.sfreq, span=slots * span / 360.0, steps=round(span * STEPS_A_DEGREE),
        begin=slots * begin / 360.0, most=MOST_TURNS,
    )  # fmt: skip
    return rows * channel.scale + channel.offset


def _scene(done, column, pair, span, edges, what, name) -> BesideScene | None:
    if not all(len(item) for item in pair):
        return None
    here, good = (item.mean(axis=0) for item in pair)
    spread = [item.std(axis=0) * np.sqrt(1 + 1 / len(item)) for item in pair]
    # An edge is known to one step of the grid: what it climbs within that is no difference.
    step = np.maximum(
        *(np.maximum(np.abs(np.diff(x, append=x[:1])), np.abs(np.diff(x, prepend=x[-1:]))) for x in (here, good))
    )
    band = SIGMAS * np.hypot(*spread) + step
    return BesideScene(
        column, done.capture.channel(column).unit, np.arange(round(span * STEPS_A_DEGREE)) / STEPS_A_DEGREE, here, good, band,
        edges, what, name,
    )  # fmt: skip


def _teeth(table: ToothTable, turns: float) -> tuple[BesideEdge, ...]:
    """Teeth by their place, from percent of a pitch to degrees of the wheel."""
    pitch = float(np.median(np.diff(table.angle_deg))) if len(table.angle_deg) > 1 else 0.0
    against = table.phase_error_against * pitch / 100
    doubt = np.hypot(table.wander, table.wander) * pitch / 100 / np.sqrt(max(float(turns), 1.0))
    good = table.angle_deg + table.phase_error * pitch / 100 - against
    return tuple(
        BesideEdge(int(number), float(at), float(at + off), float(u))
        for number, at, off, u in zip(table.number, good, against, doubt, strict=True)
        if np.isfinite(off)
    )
