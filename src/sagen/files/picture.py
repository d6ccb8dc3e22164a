"""A picture of a screen or a print as a capture: its plot laid square, each trace followed, and what was read drawn again.

The corners and axes are a person's. A trace is the ink of one colour; the path through it is the shortest one from left to right
on which moving along ink costs nothing (dynamic programming, as seam and boundary tracers do). What was read is drawn again over
the picture: where more than a fifth of the ink is not accounted for, nothing is answered.
"""

from __future__ import annotations

import csv
import sys
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np

from sagen.artifacts.atomic import atomic_write
from sagen.files.csv_table import SIGMA
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.lazy import lazy

#: loaded when it is first asked
scipy = lazy("scipy")
Image = lazy("PIL.Image")
ImageOps = lazy("PIL.ImageOps")
_whole_only = threading.Lock()

MOST_PIXELS, MOST_SIDE = 60_000_000, 16_000
LEAST_SIDE, MOST_PLOT = 60, 3000  #: px of the plot; larger ones are made smaller
SAMPLES_A_PIXEL = 2
UNEXPLAINED = 0.2  #: of the ink
LEAST_TOOTH, SMALL_TOOTH = 6.0, 11.0  #: px from tooth to tooth: nothing is answered, or more doubt
LEAST_CONTRAST = 0.09  #: of full white; fainter is no trace
LEAST_CHROMA = 0.12
MOST_TRACES = 6
FILLED, MOST_FILLED = 0.3, 0.05  #: how far from the usual ground an area is that is no ground, and of the plot
COVERS = 0.55  #: of the columns that a trace must be seen in
STEEP = 3  #: px of a column that a flat may climb


class Ink(NamedTuple):
    """How much of a trace's colour each pixel holds, 0 to 1, shape (h, w), and what the colour is called."""

    amount: np.ndarray
    name: str


@dataclass(frozen=True)
class Trace:
    """One trace: V (or shares of the height) at each time, NaN where nothing could be read, with the standard uncertainty."""

    name: str
    volts: np.ndarray
    sigma: np.ndarray
    unexplained: float
    pixels_a_tooth: float  #: inf where there are none

    @property
    def blank(self) -> float:
        """The share that could not be read."""
        return float(np.mean(~np.isfinite(self.volts)))


@dataclass(frozen=True)
class Reading:
    """What was read of a picture; times in s (or shares of the width), shape (n,)."""

    time: np.ndarray
    traces: tuple[Trace, ...]


def read_picture(
    pixels: np.ndarray, corners: Sequence[tuple[float, float]], axes: tuple[float, float, float, float] | None,
    *, trace: int | None = None,
) -> Reading:  # fmt: skip
    """Follow the traces of a plot.

    Parameters
    ----------
    pixels : ndarray of uint8, shape (height, width, 3)
    corners : four (x, y)
        of the plot, in pixels: top left, top right, bottom right, bottom left
    axes : (t0, t1, v0, v1) or None
        s at the left and right edge, V at the bottom and top edge; None: shares of width and height
    trace : int or None
        only this one, from 1, the one with the most ink first

    Raises
    ------
    SagenError
        where corners or axes make no sense, where no trace is found, and where what was read does not account for the ink.
    """
    height, width = pixels.shape[:2]
    if height * width > MOST_PIXELS or max(height, width) > MOST_SIDE:
        raise SagenError(
            tr(
                "the picture has {width} x {height} pixels: more than can be read; cut it to the screen",
                width=width,
                height=height,
            )
        )
    t0, t1, v0, v1 = axes or (0.0, 1.0, 0.0, 1.0)
    if not all(np.isfinite([t0, t1, v0, v1])) or not t1 > t0 or v1 == v0:
        raise SagenError(
            tr("axes: time at the right edge must be later than at the left one, and the volts must differ")
        )
    plot = _laid_square(pixels, np.asarray(corners, float))
    inks = _inks(plot)
    if not inks:
        raise SagenError(
            tr("no trace runs through the plot: nothing of one colour goes from its left to its right edge")
        )
    if trace is not None:
        if not 1 <= trace <= len(inks):
            raise SagenError(
                tr(
                    "trace {trace}: {inks} {inks_2} seen",
                    trace=trace,
                    inks=len(inks),
                    inks_2=tr("is") if len(inks) == 1 else tr("are"),
                )
            )
        inks = inks[trace - 1 : trace]
    count = plot.shape[1] * SAMPLES_A_PIXEL
    time = t0 + (np.arange(count) + 0.5) / count * (t1 - t0)
    return Reading(time, tuple(_followed(ink, count, v0, v1) for ink in inks))


# laid square --------------------------------------------------------------------------------------------------


def homography(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The projective map that brings four points to four others, shape (3, 3) (direct linear transform: Hartley and Zisserman,
    Multiple View Geometry, 4.1, from memory).

    Parameters
    ----------
    source, target : ndarray, shape (4, 2)
    """
    rows = []
    for (x, y), (u, v) in zip(source, target, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    return np.linalg.svd(np.array(rows))[2][-1].reshape(3, 3)


def _laid_square(pixels: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """The plot alone, seen from the front, shape (h, w, 3), 0 to 1."""
    if corners.shape != (4, 2) or not np.isfinite(corners).all():
        raise SagenError(tr("corners: four points x,y: top left, top right, bottom right, bottom left"))
    around = np.roll(corners, -1, axis=0) - corners
    turns = around[:, 0] * np.roll(around, -1, axis=0)[:, 1] - around[:, 1] * np.roll(around, -1, axis=0)[:, 0]
    if not (turns > 0).all():
        raise SagenError(tr("corners: they do not go round a plot: top left, top right, bottom right, bottom left"))
    height, width = pixels.shape[:2]
    if (corners < -2).any() or (corners > [width + 2, height + 2]).any():
        raise SagenError(
            tr("corners: they lie outside the picture, which has {width} x {height} pixels", width=width, height=height)
        )
    top, right, bottom, left = np.hypot(*around.T)
    wide, high = (top + bottom) / 2, (left + right) / 2
    if min(wide, high) < LEAST_SIDE:
        raise SagenError(
            tr(
                "the plot has only {wide:.0f} x {high:.0f} pixels: take the picture from nearer by",
                wide=wide,
                high=high,
            )
        )
    share = min(1.0, MOST_PLOT / max(wide, high))
    wide, high = round(wide * share), round(high * share)
    matrix = homography(np.array([(0, 0), (wide, 0), (wide, high), (0, high)], float), corners)
    y, x = np.mgrid[:high, :wide] + 0.5
    u, v, w = (matrix @ np.stack([x.ravel(), y.ravel(), np.ones(x.size)])).reshape(3, high, wide)
    at = np.stack([v / w - 0.5, u / w - 0.5])
    return np.stack(
        [scipy.ndimage.map_coordinates(pixels[..., k].astype(np.float32), at, order=1, mode="nearest") for k in range(3)],
        axis=-1,
    ) / 255.0  # fmt: skip


# ink ----------------------------------------------------------------------------------------------------------


def _inks(plot: np.ndarray) -> list[Ink]:
    """The traces' colours, most ink first; a trace without colour is one that is darker or brighter than all else."""
    ndimage = scipy.ndimage
    tile = max(4, min(plot.shape[:2]) // 40)
    high, wide = (plot.shape[0] // tile * tile, plot.shape[1] // tile * tile)
    blocks = plot[:high, :wide].reshape(high // tile, tile, wide // tile, tile, 3)
    ground = np.median(blocks, axis=(1, 3))
    ground = ndimage.median_filter(ground, size=(9, 9, 1), mode="nearest")
    filled = np.abs(ground - np.median(ground, axis=(0, 1))).max(axis=-1) > FILLED
    # Glare goes from edge to edge, or lies anywhere small; teeth too close to be told apart fill a block.
    if (filled & (filled.mean(axis=0) < 0.95)).mean() > MOST_FILLED:
        raise SagenError(
            tr("the trace fills an area instead of drawing a line: record less time on the screen, or from nearer by")
        )
    rows = np.clip((np.arange(plot.shape[0]) + 0.5) / tile - 0.5, 0, ground.shape[0] - 1)
    columns = np.clip((np.arange(plot.shape[1]) + 0.5) / tile - 0.5, 0, ground.shape[1] - 1)
    at = np.meshgrid(rows, columns, indexing="ij")
    ground = np.stack([ndimage.map_coordinates(ground[..., k], at, order=1, mode="nearest") for k in range(3)], axis=-1)
    off = plot - ground
    paper = bool(np.median(ground) > 0.5)
    if paper:
        off = -off  # dark ink
    strength = off.max(axis=-1)
    noise = 1.4826 * float(np.median(np.abs(strength - np.median(strength))))
    chroma = off.max(axis=-1) - off.min(axis=-1)
    found = _coloured(off, strength, chroma, noise, paper)
    if not found:
        found = _plain(strength, noise, "dark" if paper else "bright")
    kept = [ink for ink in found if np.mean(ink.amount.max(axis=0) > 0.5) >= COVERS]
    return sorted(kept, key=lambda ink: -float(ink.amount.sum()))[:MOST_TRACES]


#: names of hues by their middle, degrees
_HUES = (
    (0, "red"),
    (30, "orange"),
    (58, "yellow"),
    (120, "green"),
    (180, "cyan"),
    (225, "blue"),
    (280, "violet"),
    (322, "pink"),
    (360, "red"),
)


def _coloured(off: np.ndarray, strength: np.ndarray, chroma: np.ndarray, noise: float, paper: bool) -> list[Ink]:
    least = max(LEAST_CHROMA, 4 * noise)
    vivid = chroma > least
    if vivid.mean() < 2e-4:
        return []
    angle = (
        np.degrees(np.arctan2(np.sqrt(3) * (off[..., 1] - off[..., 2]), 2 * off[..., 0] - off[..., 1] - off[..., 2]))
        % 360.0
    )
    counts = np.histogram(angle[vivid], 36, (0, 360), weights=chroma[vivid])[0]
    smooth = scipy.ndimage.gaussian_filter1d(counts, 1.0, mode="wrap")
    peaks = [
        k
        for k in range(36)
        if smooth[k] >= max(smooth[k - 1], smooth[(k + 1) % 36]) and smooth[k] > 0.06 * smooth.max()
    ]
    found = []
    for peak in peaks:
        hue = 10.0 * peak + 5.0
        own = vivid & (np.abs((angle - hue + 180) % 360 - 180) < 25.0)
        if own.sum() < 0.3 * off.shape[1]:
            continue
        strong = float(np.quantile(strength[own], 0.9))
        if strong < LEAST_CONTRAST:
            continue
        # A gate of colour, which pictures hold coarsely, and within it the brightness, which they hold finely.
        # Thin legs lose their colour first: what is bright and hangs on what is coloured is of the same trace.
        seed = own & (chroma > 0.4 * np.quantile(chroma[own], 0.9))
        gate = scipy.ndimage.binary_propagation(seed, np.ones((3, 3)), mask=seed | (strength > 0.3 * strong))
        gate = scipy.ndimage.binary_dilation(gate, iterations=1)
        # What an ink takes from paper has the hue opposite to its own.
        own_hue = (hue + 180.0) % 360.0 if paper else hue
        name = min(_HUES, key=lambda item: abs(item[0] - own_hue))[1]
        found.append(Ink(np.where(gate, np.clip((strength - 0.25 * strong) / (0.6 * strong), 0, 1), 0.0), name))
    return found


def _plain(strength: np.ndarray, noise: float, name: str) -> list[Ink]:
    strong = float(np.quantile(strength, 0.995))
    if strong < max(LEAST_CONTRAST, 6 * noise):
        return []
    return [Ink(np.clip((strength - 0.5 * strong) / (0.4 * strong), 0, 1), name)]


# the path -----------------------------------------------------------------------------------------------------

#: what a px costs on ink, off it up or down, and off it to the right: a blank is crossed, a tooth is not left out
ALONG, OFF_INK, ACROSS = 0.003, 1.0, 6.0


def _path(ink: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows at which the cheapest path comes into each column and goes on from it, shape (w,) each."""
    # Half a px beside a thin line is still on it.
    bare = 1.0 - np.clip(1.8 * scipy.ndimage.maximum_filter(ink, size=(1, 3)), 0.0, 1.0)
    cost, across = ALONG + OFF_INK * bare, ALONG + ACROSS * bare
    high, wide = ink.shape
    best = np.zeros(high)
    came = np.empty((wide, high), np.int32)
    rows = np.arange(high)
    for x in range(wide):
        best = best + across[:, x]
        run = np.cumsum(cost[:, x])
        # Down: best[y] + run[y'] - run[y]; up the same from below. The argument of each running minimum is where it came from.
        down, from_above = _running(best - run, rows)
        down = down + run
        up, from_below = _running((best + run)[::-1], rows)
        up, from_below = up[::-1] - run + cost[:, x], high - 1 - from_below[::-1]
        came[x] = np.where(down <= up, from_above, from_below)
        best = np.minimum(down, up)
    leaves, enters = np.empty(wide, np.int32), np.empty(wide, np.int32)
    y = int(best.argmin())
    for x in range(wide - 1, -1, -1):
        leaves[x] = y
        y = enters[x] = came[x, y]
    return enters, leaves


def _running(values: np.ndarray, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The running minimum and where it stands."""
    least = np.minimum.accumulate(values)
    return least, np.maximum.accumulate(np.where(values <= least, rows, 0))


def _line_width(ink: np.ndarray, enters: np.ndarray, leaves: np.ndarray, steep: np.ndarray) -> float:
    """How thick the trace is drawn, px: the ink of a column around its flats, or of a row around its legs, whichever is less."""
    reach, told = np.arange(-12, 13), []
    flat = np.flatnonzero(~steep)
    if len(flat) > 8:
        rows = np.clip(((enters + leaves) // 2)[flat][:, None] + reach, 0, ink.shape[0] - 1)
        told.append(float(np.median(ink[rows, flat[:, None]].sum(axis=1))))
    legs = np.flatnonzero(np.abs(leaves - enters) > 8)
    if len(legs) > 2:
        columns = np.clip(legs[:, None] + reach, 0, ink.shape[1] - 1)
        told.append(float(np.median(ink[((enters + leaves) // 2)[legs][:, None], columns].sum(axis=1))))
    return float(np.clip(min(told, default=2.0), 1.0, 24.0))


def _followed(ink: Ink, count: int, v0: float, v1: float) -> Trace:
    amount, high = ink.amount, len(ink.amount)
    enters, leaves = _path(amount)
    steep = np.abs(leaves - enters) > STEEP
    middle = (enters + leaves) // 2
    thick = _line_width(amount, enters, leaves, steep)
    if thick > 14:
        raise SagenError(
            tr(
                "the {name} trace is a band {thick:.0f} pixels thick, not a line: it is out of focus or too dense",
                name=ink.name,
                thick=thick,
            )
        )
    crest = _crests(enters, leaves, steep, thick)
    x, y, sure = _points(amount, enters, leaves, steep, crest, thick)
    unexplained = _not_redrawn(amount, enters, leaves, thick)
    if unexplained > UNEXPLAINED:
        raise SagenError(
            tr(
                "what was read of the {name} trace leaves {unexplained:.0f} % of its ink unexplained: it is not to "
                "be relied on",
                name=ink.name,
                unexplained=100 * unexplained,
            )
        )
    grid = (np.arange(count) + 0.5) / SAMPLES_A_PIXEL
    row = np.interp(grid, x, y)
    tooth = _pixels_a_tooth(row, grid)
    if tooth < LEAST_TOOTH:
        raise SagenError(
            tr(
                "only {tooth:.1f} pixels from tooth to tooth: {least_tooth:g} are needed; record less time, or from "
                "nearer by",
                tooth=tooth,
                least_tooth=LEAST_TOOTH,
            )
        )
    near = _near_ink(amount, middle, thick) | steep | (crest != 0)
    gone = scipy.ndimage.binary_dilation(scipy.ndimage.binary_opening(~near, np.ones(2)), iterations=1)
    if gone.mean() > 1 - COVERS:
        raise SagenError(
            tr(
                "the {name} trace is seen in {mean:.0f} % of the plot's width only",
                name=ink.name,
                mean=100 * (1 - gone.mean()),
            )
        )
    scale = (v0 - v1) / high
    volts = v1 + row * scale
    doubt = (0.45 + 0.12 * thick) * (1.6 if tooth < SMALL_TOOTH else 1.0)
    reach = 2 * SAMPLES_A_PIXEL + 1
    climb = scipy.ndimage.maximum_filter1d(row, reach) - scipy.ndimage.minimum_filter1d(row, reach)
    pixels = np.hypot(doubt * np.interp(grid, x, np.where(sure, 1.0, 1.8)), 0.6 * climb)
    blank = np.repeat(gone, SAMPLES_A_PIXEL)[:count]
    return Trace(
        ink.name, np.where(blank, np.nan, volts), np.where(blank, np.nan, pixels * abs(scale)), unexplained, tooth
    )


def _points(amount, enters, leaves, steep, crest, thick) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The trace as points: on flats where the ink of a column lies, on steep parts where the ink of a row does, on narrow
    crests half a line below their outer face; and whether a point is known as well as a flat's."""
    high, wide = amount.shape
    half = max(2, round(thick))
    offsets = np.arange(-half, half + 1)
    flat = ~scipy.ndimage.binary_dilation(steep, iterations=max(1, round(thick / 2)))
    xs, ys, sure = [], [], []
    for x in range(wide):
        if not steep[x]:
            y = (enters[x] + leaves[x]) // 2
            if crest[x]:
                middle = _outer_face(amount[:, x], y, crest[x], half) - crest[x] * (thick / 2)
            else:
                rows = np.clip(y + offsets, 0, high - 1)
                weight = amount[rows, x]
                total = float(weight.sum())
                middle = float((rows * weight).sum() / total) + 0.5 if total > 0.2 and flat[x] else y + 0.5
            xs.append([x + 0.5])
            ys.append([middle])
            sure.append([bool(flat[x])])
            continue
        step = 1 if leaves[x] > enters[x] else -1
        trim = min(round(thick / 2), abs(int(leaves[x]) - int(enters[x])) // 2 - 1)
        rows = np.arange(enters[x] + step * trim, leaves[x] - step * trim, step)
        columns = np.clip(x + offsets, 0, wide - 1)
        weight = amount[rows[:, None], columns[None, :]]
        total = weight.sum(axis=1)
        at = np.where(total > 0.2, (weight * columns).sum(axis=1) / np.maximum(total, 1e-9), x) + 0.5
        xs.append(scipy.ndimage.median_filter(at, size=5, mode="nearest").tolist())
        ys.append((rows + 0.5).tolist())
        sure.append([True] * len(rows))
    x, y = np.concatenate(xs), np.concatenate(ys)
    # Beside a leg a flat's column may come to lie behind it.
    x = np.maximum.accumulate(x + 1e-7 * np.arange(len(x)))
    return x, y, np.concatenate(sure)


def _crests(enters: np.ndarray, leaves: np.ndarray, steep: np.ndarray, thick: float) -> np.ndarray:
    """Columns of narrow crests: -1 of those that lie above their legs in the picture, 1 below, 0 for any other, shape (w,)."""
    out = np.zeros(len(steep), np.int8)
    at = np.flatnonzero(steep)
    way = np.sign(leaves[at] - enters[at])
    for left, right, before, behind in zip(at[:-1], at[1:], way[:-1], way[1:], strict=True):
        if before != behind and 1 < right - left <= 4 * thick + 2:
            out[left + 1 : right] = before
    return out


def _outer_face(column: np.ndarray, y: int, side: int, reach: int) -> float:
    """Where the ink beyond row `y` ends above (`side` -1) or below it (1): the path cuts a crest short between its legs."""
    ahead = column[y::side][: 12 * reach] > 0.5
    begins = int(ahead.argmax())
    ends = begins + int((~ahead[begins:]).argmax()) if ahead.any() and not ahead[begins:].all() else begins
    return y + side * max(ends - 1, 0) + 0.5 + 0.5 * side


def _not_redrawn(amount: np.ndarray, enters: np.ndarray, leaves: np.ndarray, thick: float) -> float:
    """The share of the ink that lies farther from what was read than its line is thick."""
    drawn = np.zeros(amount.shape, bool)
    for x, (a, b) in enumerate(zip(np.minimum(enters, leaves), np.maximum(enters, leaves), strict=True)):
        drawn[a : b + 1, x] = True
    drawn = scipy.ndimage.binary_dilation(drawn, np.ones((3, 3)), iterations=max(2, round(0.75 * thick + 1)))
    inked = amount > 0.5
    return float(np.mean(~drawn[inked])) if inked.any() else 1.0


def _near_ink(amount: np.ndarray, middle: np.ndarray, thick: float) -> np.ndarray:
    rows = np.clip(middle[:, None] + np.arange(-round(thick) - 1, round(thick) + 2), 0, amount.shape[0] - 1)
    return amount[rows, np.arange(amount.shape[1])[:, None]].max(axis=1) > 0.3


def _pixels_a_tooth(row: np.ndarray, grid: np.ndarray) -> float:
    """From one climb through the middle to the next, px: the median."""
    low, high = np.quantile(row, [0.03, 0.97])
    if high - low < 8:
        return float("inf")
    state = np.where(row > low + 0.65 * (high - low), 1, np.where(row < low + 0.35 * (high - low), -1, 0))
    known = np.flatnonzero(state)
    climbs = grid[known[1:]][(state[known[1:]] > 0) & (state[known[:-1]] < 0)]
    return float(np.median(np.diff(climbs))) if len(climbs) > 2 else float("inf")


# files --------------------------------------------------------------------------------------------------------


def open_picture(path: str | Path) -> np.ndarray:
    """The pixels of a picture as a person sees it, shape (height, width, 3), uint8.

    Raises
    ------
    SagenError
        for what is no picture, or one that is too large.
    """
    try:
        with _whole_only, Image.open(path) as image:
            # What prints pages lets Pillow fill up pictures that were cut: what is missing is no ink.
            sys.modules["PIL.ImageFile"].LOAD_TRUNCATED_IMAGES = False
            width, height = image.size
            if width * height > MOST_PIXELS or max(width, height) > MOST_SIDE:
                raise SagenError(
                    tr(
                        "the picture has {width} x {height} pixels: more than can be read; cut it to the screen",
                        width=width,
                        height=height,
                    )
                )
            return np.asarray(ImageOps.exif_transpose(image).convert("RGB"))
    except (OSError, ValueError, SyntaxError, EOFError, Image.DecompressionBombError) as error:
        if isinstance(error, FileNotFoundError):
            raise SagenError(tr("there is no such file")) from None
        if isinstance(error, PermissionError | IsADirectoryError):
            raise SagenError(tr("cannot be opened: {strerror}", strerror=error.strerror or error)) from None
        raise SagenError(tr("it is no picture that can be read, or a broken one")) from None


def write_reading(path: str | Path, reading: Reading, *, stated: bool) -> None:
    """Write what was read as a table: time, then each trace with its uncertainty beside it, blank where nothing could be read.

    Parameters
    ----------
    stated : bool
        whether the axes were: else times and volts are shares of the plot's width and height

    Raises
    ------
    CaptureFileError
        when the disk refuses; what was there stays.
    """
    seconds, volts = ("s", "V") if stated else ("width", "height")
    head = [f"Time ({seconds})"]
    for number in range(1, len(reading.traces) + 1):
        head += [f"trace {number} ({volts})", f"trace {number}{SIGMA} ({volts})"]
    with atomic_write(Path(path)) as passing, passing.open("w", encoding="utf-8", newline="") as stream:
        rows = csv.writer(stream, lineterminator="\n")
        rows.writerow(head)
        columns = [reading.time, *(item for trace in reading.traces for item in (trace.volts, trace.sigma))]
        for row in zip(*columns, strict=True):
            rows.writerow([f"{row[0]:.9g}", *("" if not np.isfinite(item) else f"{item:.6g}" for item in row[1:])])


def proposed_corners(pixels: np.ndarray) -> tuple[tuple[float, float], ...]:
    """Where the plot may lie, for a person to confirm: the largest upright box whose ground is one colour; the whole picture
    where there is none. Never to be taken unseen."""
    grey = pixels.astype(np.float32).mean(axis=2)
    tile = max(2, min(grey.shape) // 120)
    high, wide = (side // tile * tile for side in grey.shape)
    blocks = np.median(grey[:high, :wide].reshape(high // tile, tile, wide // tile, tile), axis=(1, 3))
    middle = float(
        np.median(blocks[len(blocks) // 4 : -len(blocks) // 4, blocks.shape[1] // 4 : -blocks.shape[1] // 4])
    )
    alike = scipy.ndimage.binary_closing(np.abs(blocks - middle) < 12, np.ones((3, 3)))
    rows, columns = np.flatnonzero(alike.mean(axis=1) > 0.5), np.flatnonzero(alike.mean(axis=0) > 0.5)
    if len(rows) < 2 or len(columns) < 2:
        return ((0.0, 0.0), (float(wide), 0.0), (float(wide), float(high)), (0.0, float(high)))
    left, right, top, bottom = columns[0] * tile, (columns[-1] + 1) * tile, rows[0] * tile, (rows[-1] + 1) * tile
    return (
        (float(left), float(top)),
        (float(right), float(top)),
        (float(right), float(bottom)),
        (float(left), float(bottom)),
    )
