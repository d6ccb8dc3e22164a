"""`sagen compare CAPTURE GOOD...`: a capture beside known-good ones, edge by edge and level by level."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

from sagen.artifacts.atomic import write_whole
from sagen.casework.compared import ComparedFile, compared_files
from sagen.casework.paper import write_report
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="CAPTURE")
    parser.add_argument(
        "good", nargs="+", metavar="GOOD", help=tr("several known-good captures are taken as their envelope")
    )
    parser.add_argument("--sheet", metavar="SHEET.toml", help=tr("in place of NAME.sheet.toml beside the capture"))
    parser.add_argument("--json", action="store_true")
    parser.add_argument("-o", "--output", metavar="OUT.pdf|.html|.csv")
    parser.set_defaults(run=run)


def run(arguments) -> int:
    found = compared_files(arguments.file, arguments.good, arguments.sheet)
    if arguments.output:
        out = Path(arguments.output)
        if out.suffix.lower() == ".csv":
            write_whole(out, _table(found).encode())
        else:
            write_report(out, found.page())
    if arguments.json:
        print(json.dumps(found.as_row(), ensure_ascii=False))
    elif not arguments.output:
        _print_plain(found)
    return 0


def _table(found: ComparedFile) -> str:
    """The edges as CSV, crank degrees."""
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\n")
    out.writerow(("column", "edge", "good (deg)", "here (deg)", "difference (deg)", "standard uncertainty (deg)"))
    for column, edge, *angles in found.edge_rows():
        out.writerow((column, edge, *(f"{item:.3f}" for item in angles)))
    return text.getvalue()


def _print_plain(found: ComparedFile) -> None:
    for name, fit in found.fits:
        print(f"{name}: {tr(fit)}")
    for channel in found.examination.channels:
        compared = channel.comparison
        if compared is None:
            continue
        print(
            tr(
                "  {column} ({role}) with {other}: {text}",
                column=channel.sheet.column,
                role=channel.sheet.role,
                other=compared.other,
                text=compared.text,
            )
        )
        if compared.cam is not None and compared.cam.edges:
            print(tr("    edge   good °   here °   difference °   ±2 u"))
            for edge in compared.cam.edges:
                print(
                    tr(
                        "    {edge:4d} {good_deg:8.1f} {here_deg:8.1f} {difference:+14.2f} {u:6.2f}",
                        edge=edge.edge,
                        good_deg=edge.good_deg,
                        here_deg=edge.here_deg,
                        difference=edge.difference,
                        u=2 * edge.u,
                    )
                )
        for name, measured, unit in (
            ("rise 10 to 90 %", compared.rise_us, "µs"), (tr("share low"), compared.duty, ""), ("height", compared.v_per_rpm, tr("V per rpm")),
        ):  # fmt: skip
            if measured is not None:
                print(f"    {name}: {measured.here:.4g} {unit}, known-good {measured.good:.4g} {unit}".rstrip())
    for finding in found.examination.findings:
        print(f"  {finding.kind}: {finding.text}")
    for words in (*found.envelope, *(tr("note: {note}", note=note) for note in found.examination.notes)):
        print(f"  {words}")
