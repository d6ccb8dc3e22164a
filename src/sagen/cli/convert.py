"""`sagen convert FILE -o OUT`: a capture in another format."""

from __future__ import annotations

from sagen.files import read_capture, read_sheet, sheet_path, write_capture, write_sheet
from sagen.model.errors import SagenError
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("-o", "--output", required=True, metavar="OUT.csv|OUT.wav|OUT.mf4")
    parser.set_defaults(run=run)


def run(arguments) -> int:
    sheet = read_sheet(arguments.file)
    beside = sheet_path(arguments.output)
    if sheet is not None and beside.exists() and read_sheet(arguments.output) != sheet:
        raise SagenError(
            tr(
                "{name} is there already and says something else: move it, or write under another name",
                name=beside.name,
            )
        )
    write_capture(arguments.output, read_capture(arguments.file))
    if sheet is not None:
        write_sheet(beside, sheet)
    return 0
