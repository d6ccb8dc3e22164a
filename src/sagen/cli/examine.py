"""`sagen examine FILE...`: what captures show."""

from __future__ import annotations

import json
import sys

from sagen.casework.headless import examined_file
from sagen.cli import in_a_sentence
from sagen.model.words import surely
from sagen.signal.catalogue import usual_name


def arguments(parser) -> None:
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument("--sheet", metavar="SHEET.toml", help="in place of NAME.sheet.toml beside each file")
    parser.add_argument("--json", action="store_true", help="one object a line and a file")
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
            print(row if arguments.json else f"{name}\n  cannot be read: {said}")
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
        parts = [f"low {row['low']:.2f} {row['unit']}, high {row['high']:.2f} {row['unit']}"]
        if row["wheel"] and channel.reading:
            parts.append(f"wheel {usual_name(channel.reading.wheel)}")
        if speed:
            parts.append(f"{speed['median']:.0f} rpm ({speed['min']:.0f} to {speed['max']:.0f})")
        print(f"  {channel.sheet.column} ({channel.sheet.role}): {'; '.join(parts)}")
        if channel.comparison:
            print(f"    {channel.comparison.text}")
    if not examination.findings:
        print("  nothing wrong was found")
    for finding in examination.findings:
        print(f"  {finding.kind}: {finding.text}")
        if finding.sure:
            print(f"    to be sure: {finding.sure}")
    for note in examination.notes:
        print(f"  note: {note}")
    told = [f"{suspect.title} ({suspect.cause}) {surely(suspect.probability)}" for suspect in suspects[:3]]
    print(f"  suspects: {', '.join(told)}")
