"""`sagen meter VALUE UNIT`: one reading judged."""

from __future__ import annotations

import json
import sys


def add(verbs) -> None:
    parser = verbs.add_parser("meter", help="judge one meter reading against its limits")
    parser.add_argument("value", type=float, metavar="VALUE")
    parser.add_argument("unit", metavar="UNIT", help="ohm, kohm, Mohm, V, mV, A or mA")
    parser.add_argument("--limits", nargs=2, type=float, required=True, metavar=("LOW", "HIGH"))
    parser.add_argument("--at", type=float, default=20.0, metavar="C", help="temperature that the limits are for")
    parser.add_argument("--temperature", type=float, metavar="C", help="temperature of the part")
    parser.add_argument("--material", default="copper", help="copper or none")
    parser.add_argument("--leads", type=float, default=0.0, metavar="OHM")
    parser.add_argument("--accuracy", metavar='"0.8%% + 3 x 0.1"')
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    from sagen.meter import Accuracy, judge

    accuracy = Accuracy.parse(arguments.accuracy) if arguments.accuracy else None
    verdict = judge(
        arguments.value, arguments.unit, *arguments.limits, at=arguments.at, temperature=arguments.temperature,
        material=arguments.material, leads=arguments.leads, accuracy=accuracy,
    )  # fmt: skip
    print(json.dumps(verdict.as_row(), ensure_ascii=False) if arguments.json else f"{verdict.verdict}: {verdict.text}")
    return 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    else:
        print(f"sagen meter: {message}", file=sys.stderr)
