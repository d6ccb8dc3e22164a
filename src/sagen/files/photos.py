"""Photos on their way in: JPEG and PNG, scaled, turned upright, and stripped of everything but the picture."""

from __future__ import annotations

import io
from pathlib import Path

from sagen.model.errors import CaptureFileError
from sagen.model.language import tr
from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
PIL = lazy("PIL")
Image = lazy("PIL.Image")
ImageDraw = lazy("PIL.ImageDraw")
ImageFont = lazy("PIL.ImageFont")
ImageOps = lazy("PIL.ImageOps")

MOST_BYTES, MOST_PIXELS = 40 << 20, 80_000_000
LONGEST = 1600  #: px of the longer side as kept
QUALITY = 86
PHOTO_FILES = (".jpg", ".jpeg", ".png")


def read_photo(path: str | Path) -> bytes:
    """A photo file as it is kept; raises CaptureFileError for what is none."""
    path = Path(path)
    try:
        if not path.is_file() or path.stat().st_size > MOST_BYTES:
            raise CaptureFileError(tr("{name}: is no file, or larger than a photo can be (40 MiB)", name=path.name))
        return stripped(path.read_bytes(), path.name)
    except OSError as error:
        raise CaptureFileError(
            tr("{name}: cannot be opened: {strerror}", name=path.name, strerror=error.strerror or error)
        ) from None


def stripped(data: bytes, name: str = "photo") -> bytes:
    """A JPEG of the picture alone: upright, scaled to 1600 px, without place, time, camera or words inside.

    Raises
    ------
    CaptureFileError
        for what is no JPEG or PNG, or has more pixels than any camera's.
    """
    try:
        with Image.open(io.BytesIO(data), formats=("JPEG", "PNG")) as picture:
            if picture.width * picture.height > MOST_PIXELS:
                raise CaptureFileError(
                    tr(
                        "{name}: {width} x {height} px are more than a photo has",
                        name=name,
                        width=picture.width,
                        height=picture.height,
                    )
                )
            upright = ImageOps.exif_transpose(picture)
            upright.thumbnail((LONGEST, LONGEST))
            plain = Image.new("RGB", upright.size, "white")
            mask = upright.convert("RGBA")
            plain.paste(mask, mask=mask.getchannel("A"))
    except (PIL.UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise CaptureFileError(
            tr("{name}: is no JPEG or PNG that can be read ({error})", name=name, error=str(error)[:80])
        ) from None
    out = io.BytesIO()
    plain.save(out, "JPEG", quality=QUALITY)
    return out.getvalue()


def with_arrow(data: bytes, arrow: tuple[float, ...], words: str = "") -> bytes:
    """The photo with an arrow (from x, y to x, y, shares of width and height) and words at its tail drawn on it."""
    if not arrow and not words:
        return data
    with Image.open(io.BytesIO(data), formats=("JPEG",)) as picture:
        drawn = picture.convert("RGB")
    draw = ImageDraw.Draw(drawn)
    wide, tall = drawn.size
    thick = max(4, wide // 160)
    at = (0.03 * wide, 0.03 * tall)
    if arrow:
        tail, tip = (arrow[0] * wide, arrow[1] * tall), (arrow[2] * wide, arrow[3] * tall)
        at = tail
        for colour, more in (("white", thick), ("#d55e00", 0)):
            draw.line([tail, tip], fill=colour, width=thick + more)
            draw.polygon(_head(tail, tip, 4.5 * thick + more), fill=colour)
    if words:
        font = ImageFont.load_default(max(18, wide // 32))
        box = draw.textbbox(at, words, font=font)
        shift = (min(0.0, wide - box[2] - 8), min(0.0, tall - box[3] - 8))
        at = (max(4.0, at[0] + shift[0]), max(4.0, at[1] + shift[1]))
        draw.rectangle(
            [item + more for item, more in zip(draw.textbbox(at, words, font=font), (-5, -4, 5, 4), strict=True)],
            fill="white",
        )
        draw.text(at, words, fill="#1b2328", font=font)
    out = io.BytesIO()
    drawn.save(out, "JPEG", quality=QUALITY)
    return out.getvalue()


def _head(tail: tuple[float, float], tip: tuple[float, float], size: float) -> list[tuple[float, float]]:
    """The triangle at an arrow's tip."""
    away = (tip[0] - tail[0], tip[1] - tail[1])
    length = max((away[0] ** 2 + away[1] ** 2) ** 0.5, 1e-6)
    along = (away[0] / length, away[1] / length)
    across = (-along[1], along[0])
    back = (tip[0] - size * along[0], tip[1] - size * along[1])
    side = 0.55 * size
    return [
        tip,
        (back[0] + side * across[0], back[1] + side * across[1]),
        (back[0] - side * across[0], back[1] - side * across[1]),
    ]
