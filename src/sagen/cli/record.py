"""`sagen record --from tcp://HOST:PORT --seconds S -o OUT.npz`: stream from a recorder that a profile describes."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from sagen.casework.events import hunt
from sagen.casework.recording import Happened, Recording
from sagen.cli import positive
from sagen.files import write_capture
from sagen.files.long_record import SUFFIX
from sagen.instruments.profile import read_profile
from sagen.instruments.scpi import ScpiRecorder
from sagen.model.errors import SagenError


def arguments(parser) -> None:
    parser.add_argument(
        "--from", dest="file", required=True, metavar="ADDRESS", help="tcp://HOST:PORT, serial:///dev/NAME"
    )
    parser.add_argument("--seconds", type=positive, required=True)
    parser.add_argument("--rate", type=positive, help="samples a second, where the instrument can be told")
    parser.add_argument("--state", help="told to a stand-in: cranking, running ...")
    parser.add_argument("--profile", metavar="PROFILE.toml", help="in place of the one found by the instrument's name")
    parser.add_argument(
        "--patience", type=positive, default=10.0, metavar="S", help="how long an instrument may be gone"
    )
    parser.add_argument(
        "-o", "--output", required=True, metavar="OUT.npz", help="NAME.record is a folder that grows on disk, for hours"
    )
    parser.add_argument("--json", action="store_true", help="an object a line and an event")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    output = Path(arguments.output)
    if not output.parent.is_dir():
        raise SagenError(f"{output.parent} is no folder")
    profile = read_profile(arguments.profile) if arguments.profile else None
    recorder = ScpiRecorder(arguments.file, profile, arguments.rate, arguments.state)

    def told(happened: Happened) -> None:
        print(
            json.dumps(happened.as_row())
            if arguments.json
            else f"{happened.at_s:9.3f} s  {happened.kind}: {happened.said}",
            flush=True,
        )

    long = output.suffix == SUFFIX
    if long and output.exists():
        raise SagenError(f"{output} is there already")
    recording = Recording(output.name, recorder, told, folder=output if long else None)
    try:
        capture = recording.run(arguments.seconds, arguments.patience)
    finally:
        recorder.close()
    if not long:
        write_capture(output, capture)
    for item in hunt(capture):
        print(
            json.dumps(item.as_row()) if arguments.json else f"{item.start_s:9.3f} s  {item.kind}: {item.text}",
            flush=True,
        )
    if not arguments.json:
        print(f"written: {output}", file=sys.stderr)
    return 1 if recording.gone else 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"from": arguments.file, "error": message}))
    print(f"sagen record: {message}", file=sys.stderr)
