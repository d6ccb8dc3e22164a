"""`sagen module codes | clear | live`: an engine's module over CAN, or the stand-in's."""

from __future__ import annotations

import json
import sys

from sagen.cli import share
from sagen.files.circuits import read_circuit
from sagen.instruments import obd
from sagen.instruments.module_can import CanModules, open_bus
from sagen.instruments.module_stand_in import ModuleStandIn, code_of_circuit
from sagen.kinds import broken
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import State, word


def arguments(parser) -> None:
    parser.add_argument("what", choices=("codes", "clear", "live"))
    parser.add_argument("--interface", default="socketcan")
    parser.add_argument("--channel", default="can0")
    parser.add_argument("--stand-in", metavar="CIRCUIT.toml", help=tr("a simulated machine's module in place of a bus"))
    parser.add_argument("--fault", action="append", default=[], metavar="NAME")
    parser.add_argument("--severity", type=share, default=0.8)
    parser.add_argument("--state", default="key_on", help=tr("of the stand-in: key_on cranking running"))
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    stand_in = None
    if arguments.stand_in:
        stand_in = _stand_in(arguments)
        modules = stand_in.connect()
    else:
        modules = CanModules(open_bus(arguments.interface, arguments.channel))
    try:
        if arguments.what == "live":
            values = []
            for name in obd.ITEMS:
                try:
                    values.append(modules.live(name))
                except SagenError as error:
                    if not values and name == "rpm":
                        raise
                    print(f"{name}: {error}", file=sys.stderr)
            row = {value.name: round(value.value, 2) for value in values}
            print(
                json.dumps({"live": row})
                if arguments.json
                else "\n".join(
                    tr("{name}: {value:g} {unit}", name=value.name, value=value.value, unit=value.unit)
                    for value in values
                )
            )
            return 0
        if arguments.what == "clear":
            cleared = modules.clear()
            print(
                json.dumps({"cleared": list(cleared)})
                if arguments.json
                else tr("cleared: {cleared}", cleared=", ".join(cleared))
            )
            return 0
        for this_code in modules.codes():
            codes = [{"code": code, "status": str(status)} for code, status in this_code.codes]
            row = {"module": this_code.module, "codes": codes, "freeze_frame": this_code.frozen}
            told = ", ".join(f"{code} ({status})" for code, status in this_code.codes) or tr("no codes")
            print(json.dumps(row) if arguments.json else f"{this_code.module}: {told}")
        for what, why in modules.refused.items():
            print(f"{what}: {why}", file=sys.stderr)
        return 0
    finally:
        modules.close()
        if stand_in is not None:
            stand_in.close()


def _stand_in(arguments):
    engine, spec = read_circuit(arguments.stand_in)
    machine = broken(spec, [(name, arguments.severity) for name in arguments.fault], 1)
    machine.cylinders = engine.cylinders or 4
    try:
        state = word(State, arguments.state, "state", (State.KEY_ON, State.CRANKING, State.RUNNING))
    except ValueError as error:
        raise SagenError(str(error)) from None
    return ModuleStandIn(machine, state, stays=(code_of_circuit(spec),) if arguments.fault else ())


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    print(tr("sagen module: {message_}", message_=message), file=sys.stderr)
