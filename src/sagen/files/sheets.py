"""Sheets on disk: `NAME.sheet.toml` beside `NAME.csv`."""

from __future__ import annotations

import tomllib
from pathlib import Path

from sagen.artifacts.atomic import read_small_text, write_whole
from sagen.files.wheels import with_wheel_names
from sagen.model.errors import CaptureFileError, SheetError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.sheet import Sheet
from sagen.model.text import as_utf8

#: loaded when it is first asked: its import takes longer than most of what is done without it
tomlkit = lazy("tomlkit")


def sheet_path(capture_path: str | Path) -> Path:
    """Where a capture's own sheet lies.

    >>> sheet_path("captures/a.csv").name
    'a.sheet.toml'
    """
    path = Path(capture_path)
    return path.parent / (path.stem + ".sheet.toml")


def parse_sheet(text: str, *, where: str) -> Sheet:
    """Raises SheetError with the name in `where` and what is wrong."""
    try:
        data = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # numbers of thousands of digits, too
        raise SheetError(tr("{where}: not well-formed TOML: {error}", where=where, error=str(error)[:120])) from None
    return Sheet.from_data(with_wheel_names(data), where=where)


def load_sheet(path: str | Path) -> Sheet:
    """Read a sheet file; raises SheetError."""
    text = read_small_text(path, "sheet")
    return parse_sheet(text, where=Path(path).name)


def read_sheet(capture_path: str | Path) -> Sheet | None:
    """The sheet that lies beside a capture, or None where there is none; raises SheetError."""
    path = sheet_path(capture_path)
    try:
        there = path.is_file()
    except OSError:  # the capture's name is so long that no sheet's fits behind it
        there = False
    return load_sheet(path) if there else None


def sheet_text(sheet: Sheet) -> str:
    """The sheet as TOML, with only what differs from the defaults."""
    return tomlkit.dumps(sheet.model_dump(exclude_defaults=True, exclude_none=True, mode="json"))


def write_sheet(path: str | Path, sheet: Sheet) -> None:
    """Write `sheet` to `path`; raises SheetError when the disk refuses."""
    try:
        write_whole(Path(path), as_utf8(sheet_text(sheet)).encode())
    except CaptureFileError as error:
        raise SheetError(str(error)) from None
