"""One door in and out for open formats.

`read_capture(path)` looks at the content, not the name; a format is one row of `CAPTURES`.
"""

from sagen.files.format_registry import CAPTURES, Format, can_be_written, read_capture, register_format, write_capture
from sagen.files.sheets import load_sheet, read_sheet, sheet_path, write_sheet

__all__ = [
    "CAPTURES",
    "Format",
    "can_be_written",
    "load_sheet",
    "read_capture",
    "read_sheet",
    "register_format",
    "sheet_path",
    "write_capture",
    "write_sheet",
]
