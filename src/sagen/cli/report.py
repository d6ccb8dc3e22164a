"""`sagen report FILE -o OUT.pdf`: the printed finding of one capture, or a page of a whole job file."""

from __future__ import annotations

from pathlib import Path

from sagen.casework.headless import page_of_file, pages_of_job_file
from sagen.casework.paper import write_page, write_report
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="FILE", help=tr("a capture, or a job file (.toml)"))
    parser.add_argument("--sheet", metavar="SHEET.toml")
    parser.add_argument(
        "--page", choices=("customer", "technician", "work"), default="technician", help=tr("of a job file")
    )
    parser.add_argument("-o", "--output", required=True, metavar="OUT.pdf|OUT.html")
    parser.set_defaults(run=run)


def run(arguments) -> int:
    if Path(arguments.file).suffix.lower() == ".toml":
        write_page(Path(arguments.output), pages_of_job_file(arguments.file)[arguments.page])
        return 0
    write_report(Path(arguments.output), page_of_file(arguments.file, arguments.sheet))
    return 0
