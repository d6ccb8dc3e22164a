"""`sagen stand-in CIRCUIT.toml`: a simulated recorder and meter on 127.0.0.1."""

from __future__ import annotations

import time

from sagen.cli import port_number, share, whole
from sagen.files.circuits import read_circuit
from sagen.instruments.served import MISBEHAVIOURS, Bench, StandInServers
from sagen.kinds import broken
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="CIRCUIT.toml")
    parser.add_argument("--fault", action="append", default=[], metavar="NAME")
    parser.add_argument("--severity", type=share, default=0.8)
    parser.add_argument("--recorder", type=port_number, metavar="PORT", help=tr("0: any free one"))
    parser.add_argument("--meter", type=port_number, metavar="PORT", help=tr("the same for the meter"))
    parser.add_argument("--seed", type=whole, default=1)
    parser.add_argument(
        "--misbehave",
        action="append",
        default=[],
        metavar="HOW",
        help=tr("late garbled cut wrong_length silent identity gaps vanish"),
    )
    parser.set_defaults(run=run)


def run(arguments) -> int:
    for item in arguments.misbehave:
        if item not in MISBEHAVIOURS:
            raise SagenError(unknown_name("misbehaviour", item, MISBEHAVIOURS))
    engine, spec = read_circuit(arguments.file)
    machine = broken(spec, [(name, arguments.severity) for name in arguments.fault], arguments.seed)
    machine.cylinders = engine.cylinders or 4
    served = StandInServers(Bench(machine, misbehave=frozenset(arguments.misbehave)))
    wanted = {"recorder": arguments.recorder, "meter": arguments.meter}
    if all(port is None for port in wanted.values()):
        wanted = {"recorder": 0, "meter": 0}
    for kind, port in wanted.items():
        if port is not None:
            print(tr("{kind} tcp://127.0.0.1:{kind_2}", kind=kind, kind_2=served.serve(kind, port)), flush=True)
    print("ready", flush=True)
    try:
        while True:
            time.sleep(1.0)
    except KeyboardInterrupt:
        return 0
    finally:
        served.close()
