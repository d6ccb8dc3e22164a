"""The waveform as SVG, with expected levels as bands and findings marked."""

from __future__ import annotations

from dataclasses import dataclass
from xml.sax.saxutils import escape

import numpy as np

from sagen.model.capture import Channel
from sagen.signal.axis import nice_step
from sagen.signal.pyramid import Pyramid

INK, GRID, WAVE, MARK, BAND = "#1b2328", "#d5dbde", "#0072b2", "#d55e00", "#009e73"
LEFT, RIGHT, TOP, BOTTOM = 46, 8, 22, 26


@dataclass(frozen=True)
class Mark:
    """A stretch to mark, s, with its name."""

    start_s: float
    end_s: float
    label: str


def waveform_svg(
    channel: Channel,
    sfreq: float,
    *,
    start_s: float,
    end_s: float,
    marks: tuple[Mark, ...] = (),
    bands: tuple[tuple[float, float, str], ...] = (),
    width: int = 700,
    height: int = 190,
) -> str:
    """One channel from start_s to end_s as an SVG picture of width x height points.

    `bands` are expected levels: low end, high end (in the channel's unit) and a name.
    """
    inner = width - LEFT - RIGHT
    tall = height - TOP - BOTTOM
    low, high = Pyramid(channel.raw).view(start_s * sfreq, end_s * sfreq, inner * 2)
    low, high = low * channel.scale + channel.offset, high * channel.scale + channel.offset
    shown = np.isfinite(low)
    bottom = min(float(low[shown].min(initial=0.0)), 0.0, *(one[0] for one in bands))
    top = max(float(high[shown].max(initial=1.0)), *(one[1] for one in bands), bottom + 1e-3)
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
            f'<text x="{LEFT - 5}" y="{y(value) + 3:.1f}" text-anchor="end" fill="{INK}">{value + 0.0:g}</text>'
        )
    step = nice_step(end_s - start_s, 8)
    for value in np.arange(np.ceil(start_s / step), end_s / step) * step:
        parts.append(
            f'<line x1="{x(value):.1f}" x2="{x(value):.1f}" y1="{TOP}" y2="{height - BOTTOM}" stroke="{GRID}"/>'
            f'<text x="{x(value):.1f}" y="{height - BOTTOM + 12}" text-anchor="middle" fill="{INK}">{value:.6g}</text>'
        )
    parts.append(f'<text x="{LEFT - 5}" y="{TOP - 8}" text-anchor="end" fill="{INK}">{escape(channel.unit)}</text>')
    parts.append(f'<text x="{width - RIGHT}" y="{height - 3}" text-anchor="end" fill="{INK}">s</text>')
    for mark in marks:
        first, last = max(x(mark.start_s), LEFT), min(x(mark.end_s), width - RIGHT)
        if last < LEFT or first > width - RIGHT:
            continue
        parts.append(
            f'<rect x="{first:.1f}" y="{TOP}" width="{max(last - first, 1.5):.1f}" height="{tall}" fill="{MARK}" '
            f'fill-opacity="0.22" stroke="{MARK}" stroke-dasharray="3 2" stroke-width="0.7"/>'
        )
        if mark.label:
            anchor = "end" if first > width * 0.75 else "start"
            parts.append(
                f'<text x="{first:.1f}" y="{TOP - 8}" text-anchor="{anchor}" font-weight="bold" fill="{MARK}">'
                f"{escape(mark.label)}</text>"
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
