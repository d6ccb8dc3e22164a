"""Photos on their way in: JPEG and PNG, scaled, turned upright, and stripped of everything but the picture."""

from __future__ import annotations

import io
from pathlib import Path

from sagen.model.errors import CaptureFileError

MOST_BYTES, MOST_PIXELS = 40 << 20, 80_000_000
LONGEST = 1600  #: px of the longer side as kept
QUALITY = 86
PHOTO_FILES = (".jpg", ".jpeg", ".png")


def read_photo(path: str | Path) -> bytes:
    """A photo file as it is kept; raises CaptureFileError for what is none."""
    path = Path(path)
    try:
        if not path.is_file() or path.stat().st_size > MOST_BYTES:
            raise CaptureFileError(f"{path.name}: is no file, or larger than a photo can be (40 MiB)")
        return stripped(path.read_bytes(), path.name)
    except OSError as error:
        raise CaptureFileError(f"{path.name}: cannot be opened: {error.strerror or error}") from None


def stripped(data: bytes, name: str = "photo") -> bytes:
    """A JPEG of the picture alone: upright, scaled to 1600 px, without place, time, camera or words inside.

    Raises
    ------
    CaptureFileError
        for what is no JPEG or PNG, or has more pixels than any camera's.
    """
    from PIL import Image, ImageOps, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(data), formats=("JPEG", "PNG")) as picture:
            if picture.width * picture.height > MOST_PIXELS:
                raise CaptureFileError(f"{name}: {picture.width} x {picture.height} px are more than a photo has")
            upright = ImageOps.exif_transpose(picture)
            upright.thumbnail((LONGEST, LONGEST))
            plain = Image.new("RGB", upright.size, "white")
            mask = upright.convert("RGBA")
            plain.paste(mask, mask=mask.getchannel("A"))
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise CaptureFileError(f"{name}: is no JPEG or PNG that can be read ({str(error)[:80]})") from None
    out = io.BytesIO()
    plain.save(out, "JPEG", quality=QUALITY)
    return out.getvalue()
