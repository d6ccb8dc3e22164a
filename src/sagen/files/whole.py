"""Files that are written whole or not at all."""

from __future__ import annotations

import os
import uuid
from pathlib import Path

from sagen.model.errors import CaptureFileError


def save_whole(path: Path, data: bytes) -> None:
    """Write a file under a passing name and rename it, so that no half of it is left behind and what was there stays
    until the new one is whole. Raises CaptureFileError when the disk refuses."""
    passing = path.with_name(f".{path.name[:80]}.{uuid.uuid4().hex[:8]}.part")
    try:
        with passing.open("wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        passing.replace(path)
    except OSError as error:
        passing.unlink(missing_ok=True)
        raise CaptureFileError(f"{path} cannot be written: {error.strerror or error}") from None
