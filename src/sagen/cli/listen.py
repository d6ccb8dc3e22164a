"""`sagen listen FILE.wav --cylinders N`: how fast an engine cranks and whether it does so evenly, by its sound."""

from __future__ import annotations

import json

import numpy as np

from sagen.cli import say_what_failed
from sagen.files import read_capture
from sagen.signal.cranking_sound import Heard, listen

MOST_S = 120.0  #: of a file: nobody cranks longer


def arguments(parser) -> None:
    parser.add_argument("file", metavar="FILE.wav")
    parser.add_argument("--cylinders", type=int, required=True, metavar="N", help="of a four-stroke engine")
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    capture = read_capture(arguments.file)
    count = min(capture.samples, int(MOST_S * capture.sfreq))
    heard = listen(
        np.mean([channel.values(0, count) for channel in capture.channels], axis=0), capture.sfreq, arguments.cylinders
    )
    print(json.dumps(heard.as_row()) if arguments.json else words(heard))
    return 0


def words(heard: Heard) -> str:
    """What was heard, in a sentence or two."""
    told = f"It cranks at {heard.rpm:.0f} rpm ({heard.rpm_low:.0f} to {heard.rpm_high:.0f}), over {heard.strokes} compressions."
    if heard.even:
        return f"{told} They sound alike."
    places = ", ".join(str(place) for place in heard.weak)
    return (
        f"{told} In every cycle the compression at place {places} of the firing order, counted from the first one heard, is hardly "
        "there: measure compression before a sensor is blamed."
    )


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"file": arguments.file, "error": message}))
    else:
        say_what_failed(arguments, message)
