"""Pictures of screens and prints by a hand of its own, and how `sagen.files.picture` reads them:
`python -m benchmarks.pictures [FIRST_SEED] [SEEDS] [KIND ...]`.

A signal of known volts is drawn on a made-up screen (grid, frame, letters in other colours), saved, resent, printed or
photographed from the side. Corners and axes are given, as a person would press them.
"""

from __future__ import annotations

import io
import sys
from dataclasses import dataclass
from multiprocessing import Pool

import numpy as np
from PIL import Image, ImageDraw, ImageFilter

from sagen.files.picture import Reading, read_picture
from sagen.model.errors import SagenError

UP = 3  #: drawn so many times larger, and made smaller smoothly


@dataclass(frozen=True)
class Drawn:
    """A picture, where its plot lies in it (TL, TR, BR, BL), its axes, and the volts at any time (s)."""

    image: Image.Image
    corners: tuple[tuple[float, float], ...]
    axes: tuple[float, float, float, float]
    time: np.ndarray
    volts: np.ndarray
    edges: np.ndarray  #: s of the crossings of the middle
    low: float
    high: float
    readable: bool = True


def _signal(rng, teeth):
    """A toothed wheel's square over `teeth` pitches, or a coil's wave."""
    fine = 20_000
    t = np.linspace(0, 1, fine)
    place = t * teeth + rng.uniform(0, 1)
    place = place + 0.15 * np.sin(2 * np.pi * place / teeth * 2)
    gap = rng.integers(4, max(6, int(teeth) - 4))
    inside = (place % 1.0 < rng.uniform(0.42, 0.58)) & ~np.isin(np.floor(place), [gap, gap + 1])
    low, high = rng.uniform(0.0, 0.4), rng.choice([4.9, 5.1, 11.8])
    if rng.random() < 0.3:
        wave = np.sin(2 * np.pi * place) * ~np.isin(np.floor(place), [gap, gap + 1])
        return t, high * 0.5 * wave, -0.5 * high, 0.5 * high
    return t, np.where(inside, low, high), low, high


def _middle(low, high):
    """Off the zero of a coil, at which its gap lies."""
    return low + 0.62 * (high - low)


def _screen(rng, *, width=None, height=None, teeth=None, dark=True, line=None):
    width, height = width or int(rng.integers(620, 1100)), height or int(rng.integers(340, 560))
    teeth = teeth or rng.uniform(8, width / 24)
    t, volts, low, high = _signal(rng, teeth)
    span = (high - low) * rng.uniform(1.15, 1.5)
    v0 = low - rng.uniform(0.08, 0.15) * span
    v1 = v0 + span * 1.1
    left, top = int(rng.integers(30, 90)), int(rng.integers(24, 70))
    full = (width + left + int(rng.integers(20, 120)), height + top + int(rng.integers(40, 90)))
    ink, paper, grid = (
        (rng.choice([[250, 220, 40], [60, 230, 240], [90, 240, 110], [255, 120, 200]]), (10, 12, 18), (52, 56, 62)) if dark
        else ((20, 20, 24), (246, 246, 242), (205, 207, 210))
    )  # fmt: skip
    image = Image.new("RGB", (full[0] * UP, full[1] * UP), tuple(int(x) + (6 if dark else -8) for x in paper))
    draw = ImageDraw.Draw(image)
    box = [left * UP, top * UP, (left + width) * UP, (top + height) * UP]
    draw.rectangle(box, fill=paper)
    for k in range(11):
        x = box[0] + (box[2] - box[0]) * k / 10
        draw.line([x, box[1], x, box[3]], fill=grid, width=UP)
    for k in range(9):
        y = box[1] + (box[3] - box[1]) * k / 8
        draw.line([box[0], y, box[2], y], fill=grid, width=UP)
    x = box[0] + t * (box[2] - box[0])
    y = box[3] - (volts - v0) / (v1 - v0) * (box[3] - box[1])
    wide = line or rng.uniform(1.6, 3.2)
    draw.line(
        np.column_stack([x, y]).ravel().tolist(),
        fill=tuple(int(c) for c in ink),
        width=max(1, round(wide * UP)),
        joint="curve",
    )
    for words, at in (
        ("AUTO", (box[0], box[3] + 8 * UP)),
        ("5.00 ms", (box[0] + 200 * UP, box[3] + 8 * UP)),
        ("A", (8, box[1])),
    ):
        draw.text(at, words, fill=(200, 200, 205) if dark else (90, 90, 95), font_size=14 * UP)
    image = image.resize(full, Image.Resampling.LANCZOS)
    corners = ((left, top), (left + width, top), (left + width, top + height), (left, top + height))
    t1 = float(rng.choice([0.02, 0.05, 0.2, 1.0]))
    edges = np.flatnonzero((volts[1:] > _middle(low, high)) != (volts[:-1] > _middle(low, high)))
    return Drawn(image, corners, (0.0, t1, v0, v1), t * t1, volts, t[edges] * t1, low, high)


def _with(drawn: Drawn, image, corners=None, readable=True) -> Drawn:
    return Drawn(
        image,
        corners or drawn.corners,
        drawn.axes,
        drawn.time,
        drawn.volts,
        drawn.edges,
        drawn.low,
        drawn.high,
        readable,
    )


def screenshot(rng):
    return _screen(rng)


def resent(rng):
    """Made smaller or larger and pressed hard, as messengers do."""
    drawn = _screen(rng)
    share = rng.uniform(0.8, 1.2)
    size = tuple(round(x * share) for x in drawn.image.size)
    data = io.BytesIO()
    drawn.image.resize(size, Image.Resampling.BILINEAR).save(data, "JPEG", quality=int(rng.integers(35, 70)))
    corners = tuple((x * size[0] / drawn.image.size[0], y * size[1] / drawn.image.size[1]) for x, y in drawn.corners)
    return _with(drawn, Image.open(io.BytesIO(data.getvalue())).convert("RGB"), corners)


def printed(rng):
    """Black on paper, a little uneven."""
    drawn = _screen(rng, dark=False, line=rng.uniform(1.2, 2.4))
    pixels = np.asarray(drawn.image, np.float32)
    shade = np.linspace(rng.uniform(0.86, 1), rng.uniform(0.86, 1), pixels.shape[1])[None, :, None]
    return _with(drawn, _image(pixels * shade + rng.normal(0, 3, pixels.shape)))


def _image(pixels):
    return Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8))


def _turned(rng, drawn, most):
    """Seen from the side: corners moved by up to a share of the size."""
    width, height = drawn.image.size
    old = np.array([(0, 0), (width, 0), (width, height), (0, height)], float)
    new = old + rng.uniform(0, most, (4, 2)) * [width, height] * [[1, 1], [-1, 1], [-1, -1], [1, -1]]
    forth, back = _homography(old, new), _homography(new, old)
    image = drawn.image.transform(
        (width, height), Image.Transform.PERSPECTIVE, (back / back[2, 2]).ravel()[:8], Image.Resampling.BICUBIC
    )
    at = np.column_stack([drawn.corners, np.ones(4)]) @ forth.T
    return image, tuple((x / w, y / w) for x, y, w in at)


def _homography(a, b):
    rows = []
    for (x, y), (u, v) in zip(a, b, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    return np.linalg.svd(np.array(rows))[2][-1].reshape(3, 3)


def photo(rng, most=0.03):
    """From in front of the screen, soft, noisy, lit unevenly, corners pressed a pixel off."""
    drawn = _screen(rng)
    image, corners = _turned(rng, drawn, most)
    pixels = np.asarray(image.filter(ImageFilter.GaussianBlur(rng.uniform(0.5, 1.1))), np.float32)
    y, x = np.mgrid[: pixels.shape[0], : pixels.shape[1]]
    light = 1 + rng.uniform(-0.25, 0.25) * (x / x.max() - 0.5) + rng.uniform(-0.25, 0.25) * (y / y.max() - 0.5)
    pixels = pixels * light[..., None] + rng.uniform(4, 22) + rng.normal(0, rng.uniform(3, 8), pixels.shape)
    data = io.BytesIO()
    _image(pixels).save(data, "JPEG", quality=85)
    corners = tuple((float(a + rng.normal(0, 0.7)), float(b + rng.normal(0, 0.7))) for a, b in corners)
    return _with(drawn, Image.open(io.BytesIO(data.getvalue())).convert("RGB"), corners)


def tilted(rng):
    return photo(rng, 0.14)


def dense(rng):
    """More teeth than pixels can hold."""
    return _with(drawn := _screen(rng, teeth=rng.uniform(170, 260), width=700), drawn.image, readable=False)


def washed_out(rng):
    """A photo out of focus and blown out by the sun."""
    drawn = _screen(rng)
    pixels = np.asarray(drawn.image.filter(ImageFilter.GaussianBlur(7)), np.float32)
    return _with(drawn, _image(0.12 * pixels + 205 + rng.normal(0, 9, pixels.shape)), readable=False)


def words_only(rng):
    """A page of text where a plot should be."""
    drawn = _screen(rng)
    image = Image.new("RGB", drawn.image.size, (250, 250, 248))
    draw = ImageDraw.Draw(image)
    for row in range(8, image.size[1], 18):
        draw.text(
            (10, row),
            " ".join("".join(rng.choice(list("abcdefghiklmnoprstuvw"), rng.integers(2, 9))) for _ in range(30)),
            fill=(20, 20, 20),
            font_size=14,
        )
    return _with(drawn, image, readable=False)


KINDS = {
    "screenshot": screenshot, "resent": resent, "printed": printed, "photo": photo, "tilted": tilted, "dense": dense,
    "washed out": washed_out, "words only": words_only,
}  # fmt: skip


def drawn(name: str, seed: int) -> Drawn:
    return KINDS[name](np.random.default_rng([seed, sum(map(ord, name))]))


def judged(job: tuple[str, int]) -> dict:
    """One picture drawn and read: whether it was answered, and how well."""
    name, seed = job
    told = drawn(name, seed)
    row = {"kind": name, "seed": seed, "readable": told.readable, "answered": False, "good": False, "why": ""}
    try:
        reading = read_picture(np.asarray(told.image), told.corners, told.axes)
    except SagenError as error:
        return row | {"why": str(error)}
    return row | {"answered": True} | _measured(told, reading)


def _measured(told: Drawn, reading: Reading) -> dict:
    trace = reading.traces[0]
    seen = np.isfinite(trace.volts)
    true = np.interp(reading.time, told.time, told.volts)
    up = trace.volts[seen] > _middle(told.low, told.high)
    at = np.flatnonzero(up[1:] != up[:-1])
    division = (told.axes[1] - told.axes[0]) / 10
    # What lies at the very edge of the plot is nobody's.
    read, known = (
        item[(item > 0.1 * division) & (item < 9.9 * division)] for item in (reading.time[seen][at], told.edges)
    )
    apart = np.abs(read[:, None] - known[None, :])
    near = apart.min(axis=1) < 0.1 * division if apart.size else np.array([False])
    missing = apart.min(axis=0) > 0.1 * division if apart.size else np.array([True])
    full = told.axes[3] - told.axes[2]
    low, high = np.quantile(trace.volts[seen], [0.04, 0.96])
    level = max(abs(low - np.quantile(true, 0.04)), abs(high - np.quantile(true, 0.96))) / full
    within = float(np.mean(np.abs(trace.volts[seen] - true[seen]) < 2 * trace.sigma[seen]))
    good = bool(near.mean() >= 0.98 and missing.mean() <= 0.02 and level <= 0.02)
    return {"good": good, "near": near.mean(), "missing": missing.mean(), "level": level, "within": within}


def main(words: list[str]) -> None:
    first, count = int(words[0]) if words else 1, int(words[1]) if len(words) > 1 else 8
    kinds = words[2:] or list(KINDS)
    with Pool(2) as pool:
        rows = pool.map(judged, [(name, seed) for name in kinds for seed in range(first, first + count)], chunksize=2)
    for name in kinds:
        own = [row for row in rows if row["kind"] == name]
        told = [row for row in own if row["answered"]]
        wrong = [row for row in told if not row["good"]]
        line = (
            f"{name}: answered {len(told)} of {len(own)}, good {sum(row['good'] for row in told)}, wrong {len(wrong)}"
        )
        if told:
            line += f"; level {np.median([row['level'] for row in told]):.4f}, within two sigmas {np.mean([row['within'] for row in told]):.2f}"
        print(line)
        for row in wrong[:3]:
            print(
                "   wrong",
                row["seed"],
                {key: round(float(row[key]), 3) for key in ("near", "missing", "level", "within")},
            )
        for row in [item for item in own if not item["answered"] and item["readable"]][:3]:
            print("   refused", row["seed"], row["why"][:110])


if __name__ == "__main__":
    main(sys.argv[1:])
