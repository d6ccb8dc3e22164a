"""`sagen listen FILE.wav --cylinders N`: how fast an engine cranks and whether it does so evenly, by its sound."""

from __future__ import annotations

import json

from sagen.casework.hearing import heard_in, words
from sagen.cli import say_what_failed, whole
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="FILE.wav")
    parser.add_argument("--cylinders", type=whole, required=True, metavar="N", help=tr("of a four-stroke engine"))
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    heard = heard_in(arguments.file, arguments.cylinders).heard
    print(json.dumps(heard.as_row()) if arguments.json else words(heard))
    return 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"file": arguments.file, "error": message}))
    else:
        say_what_failed(arguments, message)
