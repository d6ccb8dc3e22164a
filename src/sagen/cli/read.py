"""`sagen read --from tcp://HOST:PORT --point signal --state key_on`: one reading of a meter."""

from __future__ import annotations

import json
import sys

from sagen.instruments.profile import read_profile
from sagen.instruments.scpi import ScpiMeter
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import METER_STATES, Point, Quantity, State, word
from sagen.model.words import said_ohms, said_volts


def arguments(parser) -> None:
    parser.add_argument("--from", dest="file", required=True, metavar="ADDRESS")
    parser.add_argument("--point", required=True)
    parser.add_argument("--state", default="key_on")
    parser.add_argument("--profile", metavar="PROFILE.toml")
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    try:
        point, state = word(Point, arguments.point, "point"), word(State, arguments.state, "state", METER_STATES)
    except ValueError as error:
        raise SagenError(str(error)) from None
    meter = ScpiMeter(arguments.file, read_profile(arguments.profile) if arguments.profile else None)
    try:
        found = meter.read(point, state)
    finally:
        meter.close()
    row = {"point": str(found.point), "state": str(found.state), "quantity": str(found.quantity), "value": found.value}
    if found.over_range:
        row["over_range"] = True
    said = said_volts(found.value) if found.quantity == Quantity.VOLTS else said_ohms(found.value)
    print(
        json.dumps(row)
        if arguments.json
        else tr("{said} at {point}, {state}", said=said, point=found.point, state=found.state)
    )
    return 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"from": arguments.file, "error": message}))
    print(tr("sagen read: {message_}", message_=message), file=sys.stderr)
