"""The wheel catalogue as sheets name it: what ships with the program, extended by the user's own file."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import platformdirs

from sagen.model.errors import SheetError
from sagen.model.language import tr
from sagen.model.wheel import Wheel
from sagen.signal.catalogue import parse_catalogue, shipped


def user_file() -> Path:
    """Where the user's own wheels are looked for."""
    return Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "wheels.txt"


@cache
def catalogue() -> dict[str, Wheel]:
    """The shipped wheels and the user's; raises SheetError."""
    found, own = dict(shipped()), user_file()
    try:
        if own.is_file() and own.stat().st_size < 1 << 20:
            found |= parse_catalogue(own.read_text(encoding="utf-8"), where=str(own))
    except (OSError, UnicodeDecodeError) as error:
        raise SheetError(tr("{own} cannot be read: {error}", own=own, error=error)) from None
    return found


def with_wheel_names(data: dict) -> dict:
    """A parsed sheet with names of the catalogue replaced by the wheels they stand for."""
    rows = data.get("channel")
    if not isinstance(rows, list) or not any(
        isinstance(row, dict) and isinstance(row.get("wheel"), str) for row in rows
    ):
        return data
    named = catalogue()
    changed = [
        {**row, "wheel": str(named[row["wheel"]])} if isinstance(row, dict) and isinstance(row.get("wheel"), str) and row["wheel"] in named else row
        for row in rows
    ]  # fmt: skip
    return {**data, "channel": changed}
