"""`sagen simulate CIRCUIT.toml`: what a recorder or a meter would see on the simulated machine."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from sagen.cli import positive, share, whole
from sagen.files import sheet_path, write_capture, write_sheet
from sagen.files.circuits import read_circuit
from sagen.kinds import broken
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import MOST_SAMPLES, record
from sagen.machine.simulated import Tap
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.vocabulary import RECORDED_STATES, Connection, Quantity, Role, State


def arguments(parser) -> None:
    parser.add_argument("circuit", metavar="CIRCUIT.toml")
    parser.add_argument("--fault", action="append", default=[], metavar="NAME", help=tr("may be given several times"))
    parser.add_argument("--severity", type=share, default=0.7, metavar="0..1")
    parser.add_argument(
        "--state", default=None, help=tr("cranking, rolling or strike where not given; key_on for a meter")
    )
    parser.add_argument("--seconds", type=positive, default=2.0)
    parser.add_argument("--rate", type=positive, default=None, metavar="HZ", help=tr("50000; knock 200000"))
    parser.add_argument("--seed", type=whole, default=1)
    parser.add_argument("-o", "--output", metavar="OUT.csv")
    parser.add_argument("--place", default="front", metavar="WORDS", help=tr("knock: where the block is struck"))
    parser.add_argument(
        "--load", default="plugged", metavar="OHM", help=tr("knock: ohms across each sensor, 'open', or 'plugged'")
    )
    parser.add_argument("--meter", metavar="POINT")
    parser.add_argument("--faults", action="store_true", help=tr("list the fault modes that the circuit can have"))
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    engine, spec = read_circuit(arguments.circuit)
    if arguments.faults:
        return _list_faults(spec, arguments.json)
    machine = broken(spec, [(name, arguments.severity) for name in arguments.fault], arguments.seed)
    machine.cylinders = engine.cylinders or 4
    if arguments.meter:
        return _read_meter(machine, arguments.meter, arguments.state, arguments.json)
    if not arguments.output:
        print(tr("sagen simulate: give -o OUT.csv, --meter POINT or --faults"), file=sys.stderr)
        return 2
    return _record(machine, arguments)


def _list_faults(spec, as_json: bool) -> int:
    for item in possible(spec):
        # What lies along its scale has names of its own: a wire of high resistance is open in the end.
        for title in (item.title, *(name.replace("_", " ") for name in item.ends)):
            row = {"fault": title, "cause": str(item.cause), "changes": item.changes}
            print(json.dumps(row) if as_json else f"{title} ({item.cause}): {item.changes}")
    return 0


def _read_meter(machine, point: str, state: str | None, as_json: bool) -> int:
    reading = read(machine, point, state or State.KEY_ON)
    unit = "V" if reading.quantity == Quantity.VOLTS else "ohm"
    over = tr(" (over range)") if reading.over_range else ""
    plain = tr(
        "{value:.4g} {unit} at {point}, {state}{over}",
        value=reading.value,
        unit=unit,
        point=reading.point,
        state=reading.state,
        over=over,
    )
    print(json.dumps(reading.as_row()) if as_json else plain)
    return 0


def _record(machine, arguments) -> int:
    usual = {Role.SPEED: State.ROLLING, Role.KNOCK: State.STRIKE}
    state = arguments.state or usual.get(machine.spec.role, State.CRANKING)
    if state not in RECORDED_STATES:
        raise SagenError(unknown_name("state", state, RECORDED_STATES))
    rate = arguments.rate or (200_000.0 if machine.spec.role == Role.KNOCK else 50_000.0)
    if arguments.seconds * rate > MOST_SAMPLES:
        raise SagenError(
            tr(
                "{seconds:g} s at {rate:g} Hz are more than {most_samples:,} samples",
                seconds=arguments.seconds,
                rate=rate,
                most_samples=MOST_SAMPLES,
            )
        )
    if machine.spec.role == Role.KNOCK:
        machine.tap = _tap(arguments, machine)
    output = Path(arguments.output)
    capture, sheet = record(
        machine, state, seconds=arguments.seconds, sfreq=rate, cylinders=machine.cylinders, name=output.name
    )
    write_capture(output, capture)
    write_sheet(sheet_path(output), sheet)
    return 0


def _tap(arguments, machine):
    named = {"open": Connection.UNPLUGGED, "unplugged": Connection.UNPLUGGED, "plugged": Connection.PLUGGED}
    place, sensors = " ".join(arguments.place.split())[:60] or "front", machine.spec.sensors or 2
    if arguments.load in named:
        return Tap(place, named[arguments.load], sensors=sensors)
    try:
        ohm = float(arguments.load)
    except ValueError:
        ohm = -1.0
    if not 1.0 <= ohm <= 1e9:
        raise SagenError(
            tr(
                "--load: '{load}' is neither 1 to 1e9 ohm nor one of {named}",
                load=arguments.load[:40],
                named=", ".join(named),
            )
        )
    return Tap(place, Connection.LOADED, ohm, sensors)


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"circuit": arguments.circuit, "error": message}))
    print(tr("sagen simulate: {message_}", message_=message), file=sys.stderr)
