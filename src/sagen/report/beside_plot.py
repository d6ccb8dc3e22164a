"""A channel beside the known-good one as SVG: both waves over the angle, and what parts them, as the Beside lens draws it."""

from __future__ import annotations

from html import escape

import numpy as np

from sagen.model.language import figure, tr
from sagen.report.beside import BesideScene
from sagen.report.plot import BAND, GRID, INK, LEFT, MARK, RIGHT, WAVE
from sagen.signal.axis import nice_step

QUIET = "#5a666d"
TOP, BETWEEN, BOTTOM = 24, 20, 18
WAVES = 0.64  #: of the height
A_PART = 72.0  #: degrees of a turn in which single teeth can be told apart


def beside_svg(scene: BesideScene, *, width: int = 700, height: int = 260) -> str:
    """The picture at the tooth that differs most, or about the end of the turn; of a cam the whole cycle."""
    worst = scene.edges[scene.worst] if scene.worst is not None else None
    first, last = (0.0, scene.span) if scene.what == "edge" else (scene.span - A_PART, scene.span)
    if worst is not None and scene.what == "tooth":
        first, last = scene.around(worst)
    first, last = max(first, 0.0), min(last, scene.span)
    seen = (scene.degrees >= first) & (scene.degrees <= last)
    inner, tall = width - LEFT - RIGHT, height - TOP - BETWEEN - BOTTOM
    split = TOP + WAVES * tall
    rows = [scene.here[seen], scene.good[seen], *(ends[seen] for ends in scene.sound or ())]
    low, high = float(np.nanmin(rows)), float(np.nanmax(rows))
    room = 0.08 * max(high - low, 1e-6)
    most = 1.1 * max(float(np.nanmax(np.abs(scene.difference[seen]))), float(np.nanmax(scene.band[seen])), 1e-6)
    above = _Frame(first, last, LEFT, inner, TOP, split, low - room, high + room)
    below = _Frame(first, last, LEFT, inner, split + BETWEEN, height - BOTTOM, -most, most)
    at = scene.degrees[seen]
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
        f'font-family="B612, sans-serif" font-size="9">',
        above.grid(scene.unit), below.grid(scene.unit, degrees=True),
        below.between(at, -scene.band[seen], scene.band[seen], QUIET, 0.25),
        above.between(at, *(ends[seen] for ends in scene.sound), BAND, 0.2) if scene.sound is not None else "",
        above.line(at, scene.good[seen], BAND, 2.4), above.line(at, scene.here[seen], WAVE, 1.0),
        below.line(at, scene.difference[seen], INK, 0.9),
        _names(scene, width, split + BETWEEN),
    ]  # fmt: skip
    if worst is not None:
        parts.append(_dimension(above, worst))
    return "".join(parts) + "</svg>"


class _Frame:
    """Where degrees and values lie in the picture."""

    def __init__(self, first, last, left, inner, top, bottom, low, high):
        self.first, self.last, self.left, self.inner = first, last, left, inner
        self.top, self.bottom, self.low, self.high = top, bottom, low, high

    def x(self, degree):
        return self.left + self.inner * (degree - self.first) / (self.last - self.first)

    def y(self, value):
        return self.bottom - (self.bottom - self.top) * (value - self.low) / (self.high - self.low)

    def line(self, degrees: np.ndarray, values: np.ndarray, colour: str, wide: float) -> str:
        """A wave; with a gap where either capture recorded nothing."""
        known = np.isfinite(values)
        begins = known & ~np.concatenate([[False], known[:-1]])
        x, y = self.x(degrees[known]), self.y(values[known])
        steps = [f"{'M' if new else 'L'}{a:.1f} {b:.1f}" for new, a, b in zip(begins[known], x, y, strict=True)]
        return f'<path d="{"".join(steps)}" stroke="{colour}" stroke-width="{wide}" fill="none"/>'

    def between(self, degrees: np.ndarray, low: np.ndarray, high: np.ndarray, colour: str, opacity: float) -> str:
        known = np.isfinite(low) & np.isfinite(high)
        x = self.x(degrees[known])
        there = [
            f"{a:.1f},{b:.1f}" for a, b in zip(x, np.clip(self.y(high[known]), self.top, self.bottom), strict=True)
        ]
        back = [f"{a:.1f},{b:.1f}" for a, b in zip(x, np.clip(self.y(low[known]), self.top, self.bottom), strict=True)]
        return f'<polygon points="{" ".join([*there, *back[::-1]])}" fill="{colour}" fill-opacity="{opacity}"/>'

    def grid(self, unit: str, *, degrees: bool = False) -> str:
        parts = []
        step = nice_step(self.high - self.low, 4)
        for value in np.arange(np.ceil(self.low / step), self.high / step) * step:
            y = self.y(value)
            parts.append(
                f'<line x1="{self.left}" x2="{self.left + self.inner}" y1="{y:.1f}" y2="{y:.1f}" stroke="{GRID}"/>'
                f'<text x="{self.left - 5}" y="{y + 3:.1f}" text-anchor="end" fill="{INK}">{value + 0.0:.6g} {escape(unit)}</text>'
            )
        step = nice_step(self.last - self.first, 8)
        for value in np.arange(np.ceil(self.first / step), self.last / step) * step:
            x = self.x(value)
            parts.append(f'<line x1="{x:.1f}" x2="{x:.1f}" y1="{self.top}" y2="{self.bottom}" stroke="{GRID}"/>')
            if degrees:
                parts.append(
                    f'<text x="{x:.1f}" y="{self.bottom + 12}" text-anchor="middle" fill="{INK}">{figure(value + 0.0, "g")}°</text>'
                )
        return "".join(parts)


def _names(scene: BesideScene, width: int, below: float) -> str:
    """What is what, above the waves, and what the lower picture shows."""
    named = [(tr("here"), WAVE, 2), (scene.good_words, BAND, 2)]
    if scene.sound is not None:
        named.insert(1, (tr("95 % of sound ones ({sound_of})", sound_of=scene.sound_of), BAND, 7))
    parts, x = [], float(LEFT)
    for words, colour, wide in named:
        words = words if len(words) < 70 else words[:66] + "\u2026"
        opacity = 0.35 if wide > 2 else 1.0
        parts.append(
            f'<line x1="{x:.0f}" x2="{x + 16:.0f}" y1="11" y2="11" stroke="{colour}" stroke-width="{wide}" stroke-opacity="{opacity}"/>'
            f'<text x="{x + 21:.0f}" y="14" fill="{INK}">{escape(words)}</text>'
        )
        x += 36 + 5.3 * len(words)
    lower = escape(tr("here less the other; grey: what chance explains"))
    parts.append(f'<text x="{LEFT}" y="{below - 5:.0f}" fill="{QUIET}">{lower}</text>')
    return "".join(parts)


def _dimension(frame: _Frame, edge) -> str:
    """From where the edge is in the known-good one to where it is here, with its figure."""
    left, right = sorted((frame.x(edge.good_deg), frame.x(edge.here_deg)))
    y = 0.5 * (frame.top + frame.bottom)
    middle = min(max((left + right) / 2, frame.left + 34), frame.left + frame.inner - 34)
    lines = "".join(f'<line x1="{x:.1f}" x2="{x:.1f}" y1="{y - 9:.1f}" y2="{y + 9:.1f}"/>' for x in (left, right))
    return (
        f'<g stroke="{MARK}" stroke-width="1.4">{lines}<line x1="{left:.1f}" x2="{right:.1f}" y1="{y:.1f}" y2="{y:.1f}"/></g>'
        f'<text x="{middle:.1f}" y="{y - 13:.1f}" text-anchor="middle" font-weight="bold" stroke="white" stroke-width="4">{edge.words}</text>'
        f'<text x="{middle:.1f}" y="{y - 13:.1f}" text-anchor="middle" font-weight="bold" fill="{MARK}">{edge.words}</text>'
    )
