"""`sagen strikes FILE...`: the captures of one knock job together; the place of the tap cancels."""

from __future__ import annotations

import json
import sys

from sagen.casework.headless import struck_files
from sagen.kinds.piezo.words import share_words
from sagen.model.words import surely


def arguments(parser) -> None:
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument("--json", action="store_true", help="one object")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    found = struck_files(arguments.files)
    if arguments.json:
        print(json.dumps(found.as_row(), ensure_ascii=False))
    else:
        _print_plain(found)
    for path, why in found.failed:
        print(f"{path}\n  cannot be read: {why}", file=sys.stderr)
    return 1 if found.failed else 0


def _print_plain(found) -> None:
    verdict = found.verdict
    for at, sensor in enumerate(verdict.sensors):
        bank = f", bank {sensor.bank}" if sensor.bank else ""
        ring, source = verdict.rings[at], verdict.sources[at]
        parts = [f"height {share_words(verdict.relative[at])} of the set"]
        parts += [f"ring {ring.value:,.0f} Hz"] if ring.known else []
        parts += [f"source {source.ohm.value / 1000:.0f} kilohm"] if source else []
        print(f"{sensor.column}{bank}: {', '.join(parts)}")
    if verdict.band:
        low, _, high = verdict.band
        print(f"First mode of this bore, estimated: {low:,.0f} to {high:,.0f} Hz")
    for finding in verdict.findings():
        print(f"  {finding.channel} {finding.kind}: {finding.text}")
    if not verdict.blames:
        print("  nothing wrong was found")
    for note in found.notes:
        print(f"  to do: {note}")
    told = [f"{suspect.title} ({suspect.cause}) {surely(suspect.probability)}" for suspect in found.suspects[:3]]
    print(f"  suspects: {', '.join(told)}")


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"captures": arguments.files, "error": message}))
    print(f"sagen strikes: {message}", file=sys.stderr)
