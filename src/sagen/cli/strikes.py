"""`sagen strikes FILE...`: the captures of one knock job together; the place of the tap cancels."""

from __future__ import annotations

import json
import sys

from sagen.casework.headless import struck_files
from sagen.kinds.piezo.words import share_words
from sagen.model.language import tr, worded
from sagen.model.words import surely


def arguments(parser) -> None:
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument(
        "--sound", nargs="+", default=[], metavar="WAV",
        help=tr("the sound of the taps of each FILE, in their order: how hard each was struck"),
    )  # fmt: skip
    parser.add_argument("--json", action="store_true", help=tr("one object"))
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    found = struck_files(arguments.files, arguments.sound)
    if arguments.json:
        print(json.dumps(found.as_row(), ensure_ascii=False))
    else:
        _print_plain(found)
    for path, why in found.failed:
        print(tr("{path}\n  cannot be read: {why}", path=path, why=why), file=sys.stderr)
    return 1 if found.failed else 0


def _print_plain(found) -> None:
    verdict = found.verdict
    for at, sensor in enumerate(verdict.sensors):
        bank = tr(", bank {bank}", bank=sensor.bank) if sensor.bank else ""
        ring, source = verdict.rings[at], verdict.sources[at]
        parts = [tr("height {at} of the set", at=share_words(verdict.relative[at]))]
        parts += [tr("ring {value:,.0f} Hz", value=ring.value)] if ring.known else []
        parts += [tr("source {value:.0f} kilohm", value=source.ohm.value / 1000)] if source else []
        print(f"{sensor.column}{bank}: {', '.join(parts)}")
    if verdict.band:
        low, _, high = verdict.band
        print(tr("First mode of this bore, estimated: {low:,.0f} to {high:,.0f} Hz", low=low, high=high))
    for finding in verdict.findings():
        print(f"  {finding.channel} {finding.kind}: {finding.text}")
    if not verdict.blames:
        print(tr("  nothing wrong was found"))
    for note in found.notes:
        print(tr("  to do: {note}", note=note))
    told = [
        f"{suspect.title} ({worded(suspect.cause)}) {surely(suspect.probability)}" for suspect in found.suspects[:3]
    ]
    print(tr("  suspects: {told}", told=", ".join(told)))


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"captures": arguments.files, "error": message}))
    print(tr("sagen strikes: {message_}", message_=message), file=sys.stderr)
