"""What the Strip draws of an examined capture."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from sagen.model.language import tr
from sagen.model.vocabulary import STARTING, Role
from sagen.model.words import CHANNELS, FINDING_TITLES
from sagen.report.scene import MARGIN, Lane, Marked, Strip, Underlay
from sagen.signal.cam_difference import turn_between
from sagen.signal.per_tooth import wave_over_turn

if TYPE_CHECKING:
    from sagen.kinds import Examination
    from sagen.report.turn_drawing import TurnDrawing
    from sagen.signal.pyramid import Pyramid

WAVE_STEPS = 1440


def strip_scene(
    done: Examination,
    pyramids: Mapping[str, Pyramid],
    *,
    drawings: Mapping[str, TurnDrawing] | None = None,
) -> Strip:
    """What the Strip draws of an examined capture: described channels first, in the sheet's order.

    Parameters
    ----------
    pyramids : by column, of the capture's raw samples
    """
    lanes, places, names = [], {}, channel_names(done)
    cranking = done.sheet.conditions.state in STARTING
    for result in done.channels:
        channel = done.capture.channel(result.sheet.column)
        bands = result.reading.bands(cranking) if result.reading else ()
        pyramid = pyramids[channel.column]
        seen = [channel.scale * extreme + channel.offset for extreme in pyramid.extremes()]
        low = min([*seen, *(band[0] for band in bands), 0.0])
        high = max([*seen, *(band[1] for band in bands)])
        margin = MARGIN * (high - low) or 0.5
        places[result.sheet.column] = len(lanes)
        drawing = (drawings or {}).get(result.sheet.column)
        under = pattern_of(done, result, drawing) if done.good is not None and drawing else None
        lanes.append(
            Lane(
                names[channel.column], result.sheet.role, channel.unit, pyramid, channel.scale, channel.offset,
                low - margin, high + margin, bands, result.reading, under, channel.column,
            )
        )  # fmt: skip
    marks = []
    for index, finding in enumerate(done.findings, start=1):
        spans = tuple((span.start_s, span.end_s) for span in finding.spans)
        label = f"{index}  {FINDING_TITLES.get(finding.kind, finding.kind)}"
        if "tooth" in finding.fields:
            label += tr(": tooth {tooth}", tooth=finding.fields["tooth"])
        marks.append(Marked(label, places.get(finding.channel, 0), spans))
    sfreq = done.capture.sfreq
    holes = tuple(((first - 0.5) / sfreq, (stop - 0.5) / sfreq) for first, stop in done.capture.holes)
    return Strip(sfreq, done.capture.samples, tuple(lanes), tuple(marks), holes=holes)


def channel_names(done: Examination) -> dict[str, str]:
    """What each channel is called, by column; numbered where several are the same."""
    many = Counter(channel.sheet.role for channel in done.channels)
    seen: Counter = Counter()
    names = {}
    for this_channel in done.channels:
        role = this_channel.sheet.role
        seen[role] += 1
        names[this_channel.sheet.column] = CHANNELS[role] + (f" {seen[role]}" if many[role] > 1 else "")
    return names


def pattern_of(done: Examination, result, drawing: TurnDrawing) -> Underlay | None:
    """The known-good capture's same channel in this one's unit, over the angle of the shaft."""
    if drawing.pattern is None or result.reading is None:
        return None
    if result.reading.wheel is not None and drawing.pattern.wheel == result.reading.wheel:
        return _tooth_underlay(result, drawing, done.good)
    return _cam_underlay(done, result, drawing, done.good)


def _tooth_underlay(result, drawing: TurnDrawing, good: Examination) -> Underlay | None:
    channel = good.capture.channel(drawing.pattern.column)
    wave = wave_over_turn(channel.raw, drawing.pattern)
    if wave is None:
        return None
    values = wave * channel.scale + channel.offset
    speeds = [item.speed_range() for item in (result.reading, drawing.pattern)]
    if result.reading.grows_with_speed and all(speeds):
        values = values * speeds[0]["median"] / speeds[1]["median"]
    return Underlay(result.reading, values)


def _cam_underlay(done: Examination, result, drawing: TurnDrawing, known_good: Examination) -> Underlay | None:
    """Where the known-good cam's edges lie over two turns of this capture's crank."""
    here = done.cams.get(result.sheet.column)
    good = known_good.cams.get(drawing.pattern.column)
    crank = next(
        (channel.reading for channel in done.channels if channel.sheet.role == Role.CRANK and channel.reading), None
    )
    if here is None or good is None or crank is None or crank.wheel is None or len(good.template) < 2:
        return None
    grid = np.arange(WAVE_STEPS) * 720.0 / WAVE_STEPS
    # The state after the last edge before each step, carried round the cycle.
    before = np.searchsorted(good.template, grid, "right") - 1
    high = good.template_rising[before]
    levels = drawing.pattern.levels
    return Underlay(crank, np.where(high, levels.high, levels.low), 2, turn_between(here, good) / 360.0)
