"""`sagen report FILE -o OUT.pdf`: the printed finding of one capture, or a page of a whole job file."""

from __future__ import annotations

from pathlib import Path


def add(verbs) -> None:
    parser = verbs.add_parser("report", help="print the finding of a capture, or a page of a job, as HTML or PDF")
    parser.add_argument("file", metavar="FILE", help="a capture, or a job file (.toml)")
    parser.add_argument("--sheet", metavar="SHEET.toml")
    parser.add_argument(
        "--page", choices=("customer", "technician", "work"), default="technician", help="of a job file"
    )
    parser.add_argument("-o", "--output", required=True, metavar="OUT.pdf|OUT.html")
    parser.set_defaults(run=run)


def run(arguments) -> int:
    from sagen.casework.paper import write_page, write_report

    if Path(arguments.file).suffix.lower() == ".toml":
        from sagen.casework.headless import pages_of_job_file

        write_page(Path(arguments.output), pages_of_job_file(arguments.file)[arguments.page])
        return 0
    from sagen.casework.headless import page_of_file

    write_report(Path(arguments.output), page_of_file(arguments.file, arguments.sheet))
    return 0
