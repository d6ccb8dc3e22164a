"""`sagen examine FILE...`: what captures show."""

from __future__ import annotations

import json
import sys

from sagen.casework.headless import examined_file
from sagen.cli import in_a_sentence
from sagen.model.language import tr, worded
from sagen.model.words import surely
from sagen.signal.catalogue import usual_name


def arguments(parser) -> None:
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument("--sheet", metavar="SHEET.toml", help=tr("in place of NAME.sheet.toml beside each file"))
    parser.add_argument("--json", action="store_true", help=tr("one object a line and a file"))
    parser.set_defaults(run=run)


def run(arguments) -> int:
    failed = False
    for name in arguments.files:
        try:
            found = examined_file(name, arguments.sheet)
        except Exception as error:
            failed = True
            said = in_a_sentence(error)
            row = json.dumps({"capture": name, "error": said})
            print(row if arguments.json else tr("{name}\n  cannot be read: {said}", name=name, said=said))
            continue
        if arguments.json:
            suspects = [suspect.as_row() for suspect in found.suspects]
            print(json.dumps({**found.examination.as_row(), "capture": name, "suspects": suspects}, ensure_ascii=False))
        else:
            _print_plain(name, found.examination, found.suspects)
        sys.stdout.flush()
    return 1 if failed else 0


def _print_plain(name: str, examination, suspects) -> None:
    print(name)
    for channel in examination.channels:
        row = channel.as_row()
        speed = row["speed_rpm"]
        parts = [tr("low {low:.2f} {unit}, high {high:.2f} {unit}", low=row["low"], unit=row["unit"], high=row["high"])]
        if row["wheel"] and channel.reading:
            parts.append(tr("wheel {wheel}", wheel=usual_name(channel.reading.wheel)))
        if speed:
            parts.append(
                tr(
                    "{median:.0f} rpm ({min:.0f} to {max:.0f})",
                    median=speed["median"],
                    min=speed["min"],
                    max=speed["max"],
                )
            )
        print(f"  {channel.sheet.column} ({channel.sheet.role}): {'; '.join(parts)}")
        if channel.comparison:
            print(f"    {channel.comparison.text}")
    if not examination.findings:
        print(tr("  nothing wrong was found"))
    for finding in examination.findings:
        print(f"  {finding.kind}: {finding.text}")
        if finding.sure:
            print(tr("    to be sure: {sure}", sure=finding.sure))
    for note in examination.notes:
        print(tr("  note: {note}", note=note))
    told = [f"{suspect.title} ({worded(suspect.cause)}) {surely(suspect.probability)}" for suspect in suspects[:3]]
    print(tr("  suspects: {told}", told=", ".join(told)))
