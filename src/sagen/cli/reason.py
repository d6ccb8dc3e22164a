"""`sagen reason JOB.toml...`: suspects and the next best check."""

from __future__ import annotations

import json
import sys

from sagen.casework.headless import record_of_log, weighed_file
from sagen.cli import in_a_sentence
from sagen.model.language import tr, worded
from sagen.model.words import estimate_text, strength

MOST_CHECKS = 12


def arguments(parser) -> None:
    parser.add_argument("files", nargs="*", metavar="JOB.toml")
    parser.add_argument("--stdin", action="store_true", help=tr("read one job path a line from standard input"))
    parser.add_argument("--json", action="store_true", help=tr("one object a line and a file"))
    parser.set_defaults(run=run)


def run(arguments) -> int:
    if bool(arguments.files) == arguments.stdin:
        print(tr("sagen reason: name job files, or give --stdin and their paths a line each"), file=sys.stderr)
        return 2
    # A log that is named weighs in with its own jobs; none is looked for otherwise.
    record = record_of_log(arguments.log) if arguments.log else None
    failed = False
    paths = (line.rstrip("\r\n") for line in sys.stdin) if arguments.stdin else arguments.files
    for name in paths:
        if not name:
            continue
        try:
            found = weighed_file(name, record)
        except Exception as error:
            failed = True
            said = in_a_sentence(error)
            print(
                json.dumps({"job": name, "error": said})
                if arguments.json or arguments.stdin
                else tr("{name}\n  cannot be read: {said}", name=name, said=said),
                flush=True,
            )
            continue
        if arguments.json or arguments.stdin:
            print(json.dumps({"job": name, **found.as_row(MOST_CHECKS)}, ensure_ascii=False))
        else:
            _print_plain(name, found)
        sys.stdout.flush()
    return 1 if failed else 0


def _print_plain(name: str, found) -> None:
    print(name)
    for suspect in found.diagnosis.suspects[:5]:
        print(
            tr(
                "  {probability:5.1f} %  {cause}: {title}{circuit}",
                probability=min(100 * suspect.probability, 99.0),
                cause=worded(suspect.cause),
                title=suspect.title,
                circuit=f" ({suspect.circuit})" if suspect.circuit else "",
            )
        )
        if suspect.estimate is not None:
            print(f"           {estimate_text(suspect.estimate)}")
        for reason in suspect.reasons[:3]:
            print(f"           {strength(reason.bits)}: {reason.text}")
    for note in found.notes:
        print(tr("  note: {note}", note=note))
    print(f"  {found.diagnosis.advice.text}")
    for check in found.diagnosis.checks[:3]:
        print(
            tr(
                "  next: {circuit}{name} ({total_minutes:.0f} min). {why} Sound: {expect}",
                circuit=f"{check.circuit}: " if check.circuit else "",
                name=check.name,
                total_minutes=check.total_minutes,
                why=check.why,
                expect=check.expect,
            )
        )
