"""`sagen report FILE -o OUT.pdf`: the printed finding of one capture."""

from __future__ import annotations

from pathlib import Path


def add(verbs) -> None:
    parser = verbs.add_parser("report", help="examine one capture and print the finding as HTML and PDF")
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--sheet", metavar="SHEET.toml")
    parser.add_argument("-o", "--output", required=True, metavar="OUT.pdf|OUT.html")
    parser.set_defaults(run=run)


def run(arguments) -> int:
    from sagen.casework.headless import page_of_file
    from sagen.casework.paper import write_report

    write_report(Path(arguments.output), page_of_file(arguments.file, arguments.sheet))
    return 0
