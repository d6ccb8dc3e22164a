"""Findings from cam against crank. Limits are common practice (no published source)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from sagen.model.finding import Finding, Span
from sagen.signal.cam import CamTrack, shift_between
from sagen.signal.context import Context, grade
from sagen.signal.reading import RotatingReading

OFFSET_DEG = 3.0
SCATTER_DEG = 1.3
LOST_EDGE_DEG = 14.0  #: an edge farther than this from where it is due did not come
MOST_LOSSES = 12
FEWEST_CYCLES = 2.4  #: in a capture of six turns three cycles begin
MOVES_DEG = 5.0  #: a cam that travels farther than this, smoothly, is driven by a phaser


def _coarse(reading: RotatingReading) -> float:
    """A coil crosses slowly at cranking speed, so the place of a cam's few teeth is known that much worse."""
    return 2.0 if reading.kind == "reluctance" else 1.0


def travel(track: CamTrack, context: Context) -> float:
    """How far a running engine's phaser moves the cam, degrees; 0 while cranking, where it is locked."""
    if context.state in ("cranking", "key_on"):
        return 0.0
    by_cycle, _ = track.by_cycle()
    if len(by_cycle) < 6:
        return 0.0
    calm = np.median(np.lib.stride_tricks.sliding_window_view(by_cycle, 3), axis=1)
    wide = float(np.quantile(calm, 0.97) - np.quantile(calm, 0.03))
    back_and_forth = float(np.abs(np.diff(calm)).sum())
    # A phaser goes somewhere and holds; a slack chain wanders to and fro.
    return wide if wide > MOVES_DEG and back_and_forth < 2.6 * wide else 0.0


def scatter(track: CamTrack, context: Context) -> float:
    """Standard deviation of the edges about where they should be, degrees, a phaser's travel left out."""
    by_cycle, within = track.by_cycle()
    if len(by_cycle) < 3:
        return 0.0
    # A cycle of which most edges are lost, or seen in the wrong place, says nothing of the rest.
    by_cycle = by_cycle[np.abs(by_cycle - np.median(by_cycle)) < max(15.0, 2 * travel(track, context))]
    if len(by_cycle) < 3:
        return 0.0
    if travel(track, context):
        moves = 1.4826 * float(np.median(np.abs(np.diff(by_cycle)))) / np.sqrt(2)
        within = min(within, 1.4826 * float(np.median(np.abs(track.phase_error - np.interp(
            track.angle, track.angle[0] + 720.0 * (np.arange(len(by_cycle)) + 0.5), by_cycle)))))  # fmt: skip
    else:
        moves = float(np.std(by_cycle, ddof=1))
    return float(np.hypot(moves, within))


def cam_dropout(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    """Windows of a cam that do not come though the crank turns on: every edge of the cycle has its crank angle."""
    track = context.cams.get(reading.column)
    crank = next((one for one in context.readings if one.sheet.role == "crank" and one.wheel), None)
    if track is None or crank is None or len(track.template) < 2:
        return
    for start, end, lost in lost_edges(track, crank):
        yield Finding(
            "dropout", reading.column, float(np.clip(0.4 + 0.1 * lost, 0.5, 1.0)),
            f"The cam's signal stops at {start:.4f} s for {1000 * (end - start):.0f} ms ({lost} edges of its cycle do not come) "
            "while the crank turns on.",
            {"start_s": round(start, 5), "end_s": round(end, 5)}, (Span(start, end),),
            "Record signal, feed and return together for a long time and wiggle plug and harness.",
        )  # fmt: skip


def lost_edges(track: CamTrack, crank: RotatingReading) -> list[tuple[float, float, int]]:
    """Stretches (s) in which two or more edges in a row did not come where the cycle has them, and how many."""
    first, last = float(track.angle[0]), crank_angle_end(crank)
    cycles = np.arange(np.floor((first - 720) / 720), np.ceil(last / 720) + 1)
    due = np.sort((track.template + 720.0 * cycles[:, None]).ravel())
    due = due[(due > first - 1) & (due < last - LOST_EDGE_DEG)]
    place = np.clip(np.searchsorted(track.angle, due), 1, len(track.angle) - 1)
    away = np.minimum(np.abs(track.angle[place] - due), np.abs(track.angle[place - 1] - due))
    # A cam that has moved or wanders is late, not lost.
    lost = away > max(
        LOST_EDGE_DEG,
        4 * float(np.median(np.abs(track.phase_error))) + float(np.ptp(np.quantile(track.phase_error, [0.05, 0.95]))),
    )
    edges = np.diff(np.concatenate([[0], lost.astype(int), [0]]))
    found = []
    for start, end in zip(np.flatnonzero(edges == 1), np.flatnonzero(edges == -1), strict=True):
        if end - start < 2:
            continue
        before = np.searchsorted(track.angle, due[start]) - 1
        after = np.searchsorted(track.angle, due[end - 1])
        began = float(track.time[before]) if before >= 0 else 0.0
        ended = float(track.time[after]) if after < len(track.time) else float(crank.teeth.times[-1])
        found.append((began, ended, int(end - start)))
    return found[:MOST_LOSSES]


def crank_angle_end(crank: RotatingReading) -> float:
    """Crank degrees at the last tooth seen."""
    return float(crank.teeth.angle_deg()[-1])


def timing_scatter(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    track = context.cams.get(reading.column)
    if track is None or track.cycles < FEWEST_CYCLES or context.has(reading, "weak_amplitude", "undersampled"):
        return
    if context.has(reading, "dropout"):
        # Edges that belong to a lost window, or to none, do not tell how the others stray.
        near = np.abs(track.phase_error) < 12.0
        track = replace(
            track,
            time=track.time[near],
            angle=track.angle[near],
            rising=track.rising[near],
            phase_error=track.phase_error[near],
        )
        if len(track.angle) < 6:
            return
    size = scatter(track, context)
    limit = max(SCATTER_DEG * _coarse(reading), 0.6 * track.step_deg)
    if size < limit:
        return
    low, high = np.quantile(track.phase_error, [0.02, 0.98])
    yield Finding(
        "timing_scatter", reading.column, grade(size - limit, 3 * limit),
        f"The cam's edges wander against the crank by {high - low:.1f}° of the crank (standard deviation {size:.1f}°) "
        f"over {track.cycles:.0f} cycles, not to one side: chain or belt has play.",
        {"scatter_deg": round(size, 2)}, (),
        "Check the tensioner and the chain's length; compare with the other bank.",
    )  # fmt: skip


def timing_offset(reading: RotatingReading, context: Context) -> Iterator[Finding]:
    here, good = context.cams.get(reading.column), context.pattern_cams.get(reading.column)
    if here is None or good is None or context.has(reading, "weak_amplitude", "undersampled"):
        return  # a weak coil's crossings lie where the noise has them
    shift = shift_between(here, good)
    if shift is None:
        return
    offset = shift[0]
    moved = travel(here, context)
    if moved:
        # Of a moving cam the place nearest to the known-good one counts: only what never gets there has jumped.
        low, high = np.quantile(here.phase_error, [0.05, 0.95])
        reach = np.array([low, high]) + offset
        offset = 0.0 if reach[0] <= OFFSET_DEG and reach[1] >= -OFFSET_DEG else float(reach[np.abs(reach).argmin()])
    unsure = 4.0 * scatter(here, context) / np.sqrt(max(here.cycles, 1.0))
    if abs(offset) < max(
        OFFSET_DEG * _coarse(reading), here.step_deg, unsure if context.has(reading, "timing_scatter") else 0.0
    ):
        return
    teeth = round(abs(offset) * context.sprocket / 360.0, 1) if context.sprocket else None
    belt = (
        f" That is {teeth:g} teeth of the {context.sprocket}-tooth crank sprocket."
        if teeth is not None
        else f" One tooth of an N-tooth crank sprocket is 360/N: {abs(offset):.0f}° would be one of {360 / abs(offset):.0f}."
    )
    others = [
        other for name, track in context.cams.items()
        if name != reading.column and name in context.pattern_cams
        and (other := shift_between(track, context.pattern_cams[name])) is not None
    ]  # fmt: skip
    beside = ""
    if others:
        on_time = all(abs(one[0]) < OFFSET_DEG for one in others)
        beside = " The other cam is where it should be." if on_time else " The other cam has moved as well."
    yield Finding(
        "timing_offset", reading.column, grade(abs(offset) - OFFSET_DEG, 12.0),
        f"All {len(here.template)} cam edges come {abs(offset):.1f}° of the crank {'late' if offset > 0 else 'early'} "
        f"against the known-good capture, steadily over {here.cycles:.0f} cycles.{belt}{beside}",
        {"offset_deg": round(offset, 2), "belt_teeth": teeth}, (),
        "Set the engine to its timing marks and look before anything else: cranking on may bend valves.",
    )  # fmt: skip
