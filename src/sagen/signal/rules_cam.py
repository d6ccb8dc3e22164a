"""Findings from cam against crank."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.model.vocabulary import ENGINE_RUNS, FindingKind, State
from sagen.signal.cam import CamTrack, judged_stretch
from sagen.signal.cam_difference import CamDifference, EdgeDifference
from sagen.signal.cam_slip import slip_of
from sagen.signal.context import Context, grade
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading
from sagen.signal.rule import rule
from sagen.signal.runs import runs_of

_OFFSET, _SCATTER, _LOST, _TRAVEL, _VANE, _COMPARED, _GAP = (
    limits("timing_offset"), limits("timing_scatter"), limits("cam_dropout"), limits("cam_travel"), limits("cam_vane"),
    limits("compared"), limits("extra_gap"),
)  # fmt: skip

#: states in which the oil of a phaser has no pressure yet, and its pin holds it (common practice, no published source)
PHASER_RESTS = (State.CRANKING, State.KEY_ON)

#: edges on either side of one that tell where a moving cam stands
NEIGHBOURS = 2


def travel(track: CamTrack, context: Context) -> float:
    """How far a running engine's phaser moves the cam, degrees; 0 while cranking, where it is locked.

    Parameters
    ----------
    track : CamTrack
        edges on the crank, degrees
    context : Context
        tells the state
    """
    if context.state in PHASER_RESTS:
        return 0.0
    by_cycle, _ = track.by_cycle()
    if len(by_cycle) < _TRAVEL.fewest_cycles:
        return 0.0
    calm = np.median(np.lib.stride_tricks.sliding_window_view(by_cycle, 3), axis=1)
    wide = float(np.quantile(calm, 1 - _TRAVEL.tail) - np.quantile(calm, _TRAVEL.tail))
    back_and_forth = float(np.abs(np.diff(calm)).sum())
    # A phaser goes somewhere and holds; a slack chain wanders to and fro.
    return wide if wide > _TRAVEL.least_deg and back_and_forth < _TRAVEL.to_and_fro * wide else 0.0


def scatter(track: CamTrack, context: Context) -> float:
    """Standard deviation of the edges about where they should be, degrees, a phaser's travel left out.

    Parameters
    ----------
    track : CamTrack
        edges on the crank, degrees
    context : Context
        tells the state

    Returns
    -------
    float
        crank degrees: that of the cycles' means and that within a cycle, added in squares
    """
    by_cycle, within = track.by_cycle()
    if len(by_cycle) < _SCATTER.fewest_means:
        return 0.0
    # A cycle of which most edges are lost, or seen in the wrong place, says nothing of the rest.
    by_cycle = by_cycle[np.abs(by_cycle - np.median(by_cycle)) < max(_SCATTER.strange_deg, 2 * travel(track, context))]
    if len(by_cycle) < _SCATTER.fewest_means:
        return 0.0
    if travel(track, context):
        moves = 1.4826 * float(np.median(np.abs(np.diff(by_cycle)))) / np.sqrt(2)
        within = min(within, 1.4826 * float(np.median(np.abs(track.phase_error - np.interp(
            track.angle, track.angle[0] + 720.0 * (np.arange(len(by_cycle)) + 0.5), by_cycle)))))  # fmt: skip
    else:
        moves = float(np.std(by_cycle, ddof=1))
    return float(np.hypot(moves, within))


def _scatter_limit(track: CamTrack, reading: RotatingReading) -> float:
    return max(_SCATTER.least_deg * reading.cam_coarse, _SCATTER.steps * track.step_deg)


@rule(FindingKind.DROPOUT)
def cam_dropout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Windows of a cam that do not come though the crank turns on: every edge of the cycle has its crank angle.

    Parameters
    ----------
    reading : RotatingReading
        a cam's
    context : Context
        the capture's other readings, its state and its known-good one
    """
    track = context.cams.get(reading.column)
    crank = context.crank
    if track is None or crank is None or len(track.template) < _LOST.least_template or reading.wheel is not None:
        return  # like teeth are judged as those of any wheel
    for start, end, lost in lost_edges(track, crank):
        severity = float(np.clip(_LOST.severity_base + _LOST.severity_step * lost, _LOST.severity_least, 1.0))
        yield Finding(
            FindingKind.DROPOUT, reading.column, severity,
            {"start_s": round(start, 5), "end_s": round(end, 5)}, {"edges": lost}, (Span(start, end),),
        )  # fmt: skip


def lost_edges(track: CamTrack, crank: RotatingReading) -> list[tuple[float, float, int]]:
    """Stretches (s) in which two or more edges in a row did not come where the cycle has them, and how many.

    Parameters
    ----------
    track : CamTrack
        the cam's edges on the crank
    crank : RotatingReading
        turns on meanwhile

    Returns
    -------
    list of (float, float, int)
        s, s and edges
    """
    first, last = float(track.angle[0]), crank_angle_end(crank)
    cycles = np.arange(np.floor((first - 720) / 720), np.ceil(last / 720) + 1)
    due = np.sort((track.template + 720.0 * cycles[:, None]).ravel())
    # A phaser moves all edges of a while: each is due where its neighbours came.
    calm = _calm(track.phase_error)
    due = due + np.interp(due, track.angle - track.phase_error, calm)
    due = due[(due > first - 1) & (due < last - _LOST.edge_deg)]
    place = np.clip(np.searchsorted(track.angle, due), 1, len(track.angle) - 1)
    away = np.minimum(np.abs(track.angle[place] - due), np.abs(track.angle[place - 1] - due))
    # A cam that has moved or wanders is late, not lost.
    stray = track.phase_error - calm
    wander = float(np.median(np.abs(stray)))
    spread = float(np.ptp(np.quantile(stray, [_LOST.tail, 1 - _LOST.tail])))
    lost = away > max(_LOST.edge_deg, _LOST.wander * wander + spread)
    found = []
    for start, end in zip(*runs_of(lost), strict=True):
        if end - start < _LOST.fewest_edges:
            continue
        before = np.searchsorted(track.angle, due[start]) - 1
        after = np.searchsorted(track.angle, due[end - 1])
        began = float(track.time[before]) if before >= 0 else 0.0
        ended = float(track.time[after]) if after < len(track.time) else judged_stretch(crank)[1]
        found.append((began, ended, int(end - start)))
    return found[: _LOST.most]


def _calm(phase_error: np.ndarray) -> np.ndarray:
    """How late the edges around each one come, shape (n,): single strays left out."""
    padded = np.pad(phase_error, NEIGHBOURS, "edge")
    return np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * NEIGHBOURS + 1), axis=1)


def crank_angle_end(crank: RotatingReading) -> float:
    """Crank degrees at the last tooth by which a cam is judged.

    Parameters
    ----------
    crank : RotatingReading
        its wheel known; times in s

    Returns
    -------
    float
        degrees
    """
    last = np.searchsorted(crank.teeth.times, judged_stretch(crank)[1])
    return float(crank.teeth.angle_deg()[last])


@rule(
    FindingKind.TIMING_SCATTER,
    silenced_by=(FindingKind.WEAK_AMPLITUDE, FindingKind.UNDERSAMPLED),
    hears=(FindingKind.DROPOUT,),
)
def timing_scatter(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Cam edges wander against the crank."""
    track = context.cams.get(reading.column)
    if track is None or track.cycles < _SCATTER.fewest_cycles:
        return
    if context.has(reading, FindingKind.DROPOUT):
        # Edges that belong to a lost window, or to none, do not tell how the others stray.
        near = np.abs(track.phase_error) < _SCATTER.near_deg
        # Where a line falls away or comes back it makes an edge that is none of the cam's.
        ends = [
            end
            for item in context.found
            if item.kind == FindingKind.DROPOUT and item.channel == reading.column
            for span in item.spans
            for end in (span.start_s, span.end_s)
        ]
        if ends:
            near &= np.abs(track.time[:, None] - np.array(ends)).min(axis=1) > _SCATTER.at_an_end_s
        track = replace(
            track,
            time=track.time[near],
            angle=track.angle[near],
            rising=track.rising[near],
            phase_error=track.phase_error[near],
        )
        if len(track.angle) < _SCATTER.fewest_edges:
            return
    size = scatter(track, context)
    limit = _scatter_limit(track, reading)
    if size < limit:
        return
    low, high = np.quantile(track.phase_error, [_SCATTER.tail, 1 - _SCATTER.tail])
    yield Finding(
        FindingKind.TIMING_SCATTER, reading.column, grade(size - limit, 3 * limit),
        {"scatter_deg": round(size, 2)}, {"wide_deg": float(high - low), "cycles": track.cycles},
    )  # fmt: skip


@rule(
    FindingKind.TIMING_OFFSET,
    silenced_by=(FindingKind.WEAK_AMPLITUDE, FindingKind.UNDERSAMPLED),
    hears=(FindingKind.TIMING_SCATTER,),
)
def timing_offset(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Cam edges early or late against the crank, steadily, or from one moment on. A weak coil's crossings lie where the noise has them."""
    here, found = context.cams.get(reading.column), context.cam_differences.get(reading.column)
    if here is None:
        return
    slip = slip_of(here, locked=context.state in PHASER_RESTS)
    if slip is not None:
        yield Finding(
            FindingKind.TIMING_OFFSET, reading.column, grade(abs(slip.degrees) - _COMPARED.timing_deg, _OFFSET.plain_deg),
            {"offset_deg": round(slip.degrees, 2), "belt_teeth": _sprocket_teeth(slip.degrees, context)},
            {"sprocket": context.sprocket, "slipped_s": slip.after_s}, (Span(slip.before_s, slip.after_s),),
        )  # fmt: skip
        return
    if found is None or found.shape:
        return
    offset = found.offset
    if travel(here, context):
        # Of a moving cam the place nearest to the known-good one counts: only what never gets there has jumped.
        reach = np.quantile(here.phase_error, [_OFFSET.tail, 1 - _OFFSET.tail]) + offset
        there = reach[0] <= _OFFSET.least_deg and reach[1] >= -_OFFSET.least_deg
        offset = 0.0 if there else float(reach[np.abs(reach).argmin()])
    if not context.like_speed and context.state in ENGINE_RUNS:
        return  # at another speed a phaser holds another angle: told, and no fault by itself
    wanders = context.has(reading, FindingKind.TIMING_SCATTER)
    unsure = _OFFSET.sigmas * scatter(here, context) / np.sqrt(max(here.cycles, 1.0)) if wanders else 0.0
    if abs(offset) < max(_COMPARED.timing_deg * reading.cam_coarse, here.step_deg, unsure, _COMPARED.sigmas * found.u):
        return
    others = [item for name, item in context.cam_differences.items() if name != reading.column and not item.shape]
    on_time = all(abs(item.offset) < _COMPARED.timing_deg for item in others) if others else None
    yield Finding(
        FindingKind.TIMING_OFFSET, reading.column, grade(abs(offset) - _COMPARED.timing_deg, _OFFSET.plain_deg),
        {"offset_deg": round(offset, 2), "belt_teeth": _sprocket_teeth(offset, context)},
        {
            "edges": len(here.template), "cycles": here.cycles, "sprocket": context.sprocket,
            "others_on_time": on_time, "u": found.u,
        },
    )  # fmt: skip


def _sprocket_teeth(offset: float, context: Context) -> float | None:
    return round(abs(offset) * context.sprocket / 360.0, 1) if context.sprocket else None


def _loses_edges(reading: RotatingReading, context: Context) -> bool:
    """Whether edges of the cam's own cycle do not come at times: what is left then is no other cam."""
    track, crank = context.cams.get(reading.column), context.crank
    return track is not None and crank is not None and bool(lost_edges(track, crank))


@rule(FindingKind.ODD_TOOTH, silenced_by=(FindingKind.WEAK_AMPLITUDE, FindingKind.UNDERSAMPLED))
def cam_edge(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Few edges of a cam away from the known-good one's while the others agree: a vane bent, or a tooth."""
    found = context.cam_differences.get(reading.column)
    if found is None or found.shape or len(found.edges) < _VANE.fewest_edges or _loses_edges(reading, context):
        return
    here = context.cams[reading.column]
    if scatter(here, context) >= _scatter_limit(here, reading):
        return  # of a cam that wanders each edge lies elsewhere in each cycle
    moved = _moved(found, reading)
    if not moved or not _one_vane(moved, found.offset, len(found.edges)):
        return
    worst = max(moved, key=lambda item: abs(item.difference - found.offset))
    size = worst.difference - found.offset
    yield Finding(
        FindingKind.ODD_TOOTH, reading.column, grade(abs(size) - _COMPARED.edge_deg, _VANE.plain_deg),
        {"tooth": worst.edge, "angle_deg": round(worst.good_deg, 2), "repeats": True},
        {"measure": "cam_edge", "size": size, "turns": 0, "edges": [item.edge for item in moved], "of": len(found.edges)},
    )  # fmt: skip


def _moved(found: CamDifference, reading: RotatingReading) -> list[EdgeDifference]:
    """Edges that lie elsewhere than the others of this cam, by more than such sensors place them."""
    limit = _COMPARED.edge_deg * reading.cam_coarse
    return [item for item in found.moved if abs(item.difference - found.offset) > limit]


def _one_vane(moved: list[EdgeDifference], offset: float, edges: int) -> bool:
    """Whether edges that moved are few, or two that follow one another, and not far: those of one vane, or of one gap."""
    if any(abs(item.difference - offset) > _VANE.most_deg for item in moved):
        return False
    beside = len(moved) == 2 and (moved[1].edge - moved[0].edge) % edges in (1, edges - 1)
    return len(moved) <= _VANE.most_share * edges or (beside and edges > 2)


@rule(FindingKind.WRONG_PATTERN, silenced_by=(FindingKind.UNDERSAMPLED,))
def cam_pattern(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """A cam's edges are not those of the known-good one at all: another wheel, or fitted the wrong way round."""
    found = context.cam_differences.get(reading.column)
    here = context.cams.get(reading.column)
    if found is None or here is None or here.cycles < _VANE.fewest_cycles or travel(here, context):
        return
    # A cam that wanders has no pattern, and where the crank shows two gaps nobody knows from which of them it counts.
    two_gaps = context.crank is not None and any(
        share >= _GAP.share_of_turns for share in context.crank.teeth.lost.values()
    )
    if two_gaps or scatter(here, context) >= _scatter_limit(here, reading) or _loses_edges(reading, context):
        return
    moved = _moved(found, reading)
    shape = found.shape or ("other" if moved and not _one_vane(moved, found.offset, len(found.edges)) else "")
    if shape:
        yield Finding(
            FindingKind.WRONG_PATTERN, reading.column, _VANE.severity, {"slots": None, "missing": 0},
            {"declared": "", "shape": shape, "edges": len(here.template)},
        )  # fmt: skip


RULES = (cam_dropout, timing_scatter, timing_offset, cam_edge, cam_pattern)
