"""A lane of a scene as SVG, with expected levels as bands and findings marked."""

from __future__ import annotations

from html import escape

import numpy as np

from sagen.model.language import figure
from sagen.report.scene import Lane, Strip
from sagen.signal.axis import nice_step

INK, GRID, WAVE, MARK, BAND = "#1b2328", "#d5dbde", "#0072b2", "#d55e00", "#009e73"
LEFT, RIGHT, TOP, BOTTOM = 46, 8, 22, 26
MOST_MARKS = 60
#: a mark that is longer than this share of the capture would only tint the picture
LONGEST_MARK = 0.5


def lane_svg(strip: Strip, lane: Lane, *, start_s: float, end_s: float, width: int = 700, height: int = 190) -> str:
    """One lane from start_s to end_s as an SVG picture of width x height points."""
    inner = width - LEFT - RIGHT
    tall = height - TOP - BOTTOM
    low, high = strip.columns(lane, start_s, end_s, inner * 2)
    shown = np.isfinite(low)
    bands, unit = lane.bands, lane.unit
    bottom = min(float(low[shown].min(initial=0.0)), 0.0, *(band[0] for band in bands))
    top = max(float(high[shown].max(initial=1.0)), *(band[1] for band in bands), bottom + 1e-3)
    bottom, top = bottom - 0.06 * (top - bottom), top + 0.06 * (top - bottom)

    def x(time: float) -> float:
        return LEFT + inner * (time - start_s) / (end_s - start_s)

    def y(value: float) -> float:
        return TOP + tall * (top - value) / (top - bottom)

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
        f'font-family="B612, sans-serif" font-size="9">'
    ]
    for first, last, _ in bands:
        parts.append(
            f'<rect x="{LEFT}" y="{y(last):.1f}" width="{inner}" height="{y(first) - y(last):.1f}" fill="{BAND}" '
            f'fill-opacity="0.13"/>'
        )
    step = nice_step(top - bottom, 5)
    for value in np.arange(np.ceil(bottom / step), top / step) * step:
        parts.append(
            f'<line x1="{LEFT}" x2="{width - RIGHT}" y1="{y(value):.1f}" y2="{y(value):.1f}" stroke="{GRID}"/>'
            f'<text x="{LEFT - 5}" y="{y(value) + 3:.1f}" text-anchor="end" fill="{INK}">{figure(value + 0.0, "g")}</text>'
        )
    step = nice_step(end_s - start_s, 8)
    for value in np.arange(np.ceil(start_s / step), end_s / step) * step:
        parts.append(
            f'<line x1="{x(value):.1f}" x2="{x(value):.1f}" y1="{TOP}" y2="{height - BOTTOM}" stroke="{GRID}"/>'
            f'<text x="{x(value):.1f}" y="{height - BOTTOM + 12}" text-anchor="middle" fill="{INK}">{value:.6g}</text>'
        )
    parts.append(f'<text x="{LEFT - 5}" y="{TOP - 8}" text-anchor="end" fill="{INK}">{escape(unit)}</text>')
    parts.append(f'<text x="{width - RIGHT}" y="{height - 3}" text-anchor="end" fill="{INK}">s</text>')
    for label, span in _marks(strip, lane):
        first, last = max(x(span[0]), LEFT), min(x(span[1]), width - RIGHT)
        if last < LEFT or first > width - RIGHT:
            continue
        parts.append(
            f'<rect x="{first:.1f}" y="{TOP}" width="{max(last - first, 1.5):.1f}" height="{tall}" fill="{MARK}" '
            f'fill-opacity="0.22" stroke="{MARK}" stroke-dasharray="3 2" stroke-width="0.7"/>'
        )
        if label:
            anchor = "end" if first > width * 0.75 else "start"
            parts.append(
                f'<text x="{first:.1f}" y="{TOP - 8}" text-anchor="{anchor}" font-weight="bold" fill="{MARK}">'
                f"{escape(label)}</text>"
            )
    columns = LEFT + np.arange(inner * 2) / 2
    steps = [
        f"M{c:.1f} {y(h):.1f}V{y(lo):.1f}" for c, lo, h in zip(columns[shown], low[shown], high[shown], strict=True)
    ]
    parts.append(f'<path d="{"".join(steps)}" stroke="{WAVE}" stroke-width="0.9" fill="none"/>')
    for first, last, name in bands:
        place = f'x="{width - RIGHT - 3}" y="{(y(first) + y(last)) / 2 + 3:.1f}" text-anchor="end"'
        # A white rim under the letters keeps them legible on the waveform.
        parts.append(f'<text {place} stroke="white" stroke-width="3">{escape(name)}</text>')
        parts.append(f'<text {place} fill="#00664b">{escape(name)}</text>')
    parts.append("</svg>")
    return "".join(parts)


def _marks(strip: Strip, lane: Lane) -> list[tuple[str, tuple[float, float]]]:
    """The stretches to mark in a lane; the first of each finding bears its name."""
    own = [mark for mark in strip.marks if strip.lanes[mark.lane] is lane]
    return [
        (mark.label if index == 0 else "", span)
        for mark in own
        for index, span in enumerate(mark.spans[:MOST_MARKS])
        if span[1] - span[0] < LONGEST_MARK * strip.seconds
    ]
