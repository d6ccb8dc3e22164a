"""Sheets on disk: `NAME.sheet.toml` beside `NAME.csv`."""

from __future__ import annotations

import tomllib
from pathlib import Path

from sagen.files.wheels import with_wheel_names
from sagen.model.errors import SheetError
from sagen.model.sheet import Sheet

LARGEST_SHEET = 1 << 20


def sheet_path(capture_path: str | Path) -> Path:
    """Where a capture's own sheet lies.

    >>> sheet_path("captures/a.csv").name
    'a.sheet.toml'
    """
    path = Path(capture_path)
    return path.with_name(path.stem + ".sheet.toml")


def parse_sheet(text: str, *, where: str) -> Sheet:
    """Raises SheetError with the name in `where` and what is wrong."""
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise SheetError(f"{where}: not well-formed TOML: {error}") from None
    return Sheet.from_data(with_wheel_names(data), where=where)


def load_sheet(path: str | Path) -> Sheet:
    """Read a sheet file; raises SheetError."""
    path = Path(path)
    try:
        if path.stat().st_size > LARGEST_SHEET:
            raise SheetError(f"{path.name}: larger than a sheet can be (1 MiB)")
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise SheetError(f"{path.name}: cannot be opened: {error.strerror or error}") from None
    except UnicodeDecodeError:
        raise SheetError(f"{path.name}: not UTF-8 text") from None
    return parse_sheet(text, where=path.name)


def read_sheet(capture_path: str | Path) -> Sheet | None:
    """The sheet that lies beside a capture, or None where there is none; raises SheetError."""
    path = sheet_path(capture_path)
    return load_sheet(path) if path.is_file() else None


def sheet_text(sheet: Sheet) -> str:
    """The sheet as TOML, with only what differs from the defaults."""
    import tomlkit

    return tomlkit.dumps(sheet.model_dump(exclude_defaults=True, exclude_none=True, mode="json"))


def write_sheet(path: str | Path, sheet: Sheet) -> None:
    """Write `sheet` to `path`; raises SheetError when the disk refuses."""
    path = Path(path)
    try:
        path.write_text(sheet_text(sheet), encoding="utf-8")
    except OSError as error:
        raise SheetError(f"{path.name} cannot be written: {error.strerror or error}") from None
