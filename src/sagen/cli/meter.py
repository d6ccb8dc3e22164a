"""`sagen meter VALUE UNIT`: one reading judged; several values are a set of like parts."""

from __future__ import annotations

import argparse
import json
import sys


def add(verbs) -> None:
    parser = verbs.add_parser("meter", help="judge one meter reading against its limits")
    parser.add_argument(
        "value", type=_number, nargs="+", metavar="VALUE",
        help="as the meter shows it; noughts at its end count; two to eight are a set of like parts",
    )  # fmt: skip
    parser.add_argument("unit", metavar="UNIT", help="ohm, kohm, Mohm, V, mV, A or mA")
    parser.add_argument(
        "--limits",
        nargs=2,
        metavar=("LOW", "HIGH"),
        help="in the same unit, or with one of their own: 2000ohm",
    )
    parser.add_argument("--at", type=float, default=20.0, metavar="C", help="temperature that the limits are for")
    parser.add_argument("--temperature", type=float, metavar="C", help="temperature of the part")
    parser.add_argument("--material", default="copper", help="copper or none")
    parser.add_argument("--leads", type=float, default=0.0, metavar="OHM")
    parser.add_argument("--accuracy", metavar='"0.8%% + 3 x 0.1"')
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def _number(text: str) -> str:
    """A number as it was typed; what is none is wrong usage."""
    try:
        float(text.replace(",", "."))
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text} is not a number") from None
    return text


def run(arguments) -> int:
    from sagen.meter import Accuracy, judge, limit_of, stored_accuracy, typed_digit

    if len(arguments.value) > 1:
        return _set(arguments)
    if arguments.limits is None:
        print("sagen meter: give --limits LOW HIGH, or the other readings of the set", file=sys.stderr)
        return 2
    value = float(arguments.value[0].replace(",", "."))
    accuracy = Accuracy.parse(arguments.accuracy) if arguments.accuracy else stored_accuracy()
    low, high = (limit_of(one, arguments.unit) for one in arguments.limits)
    verdict = judge(
        value, arguments.unit, low, high, at=arguments.at, temperature=arguments.temperature,
        material=arguments.material, leads=arguments.leads, accuracy=accuracy, digit=typed_digit(arguments.value[0]),
    )  # fmt: skip
    print(json.dumps(verdict.as_row(), ensure_ascii=False) if arguments.json else f"{verdict.verdict}: {verdict.text}")
    return 0


def _set(arguments) -> int:
    from sagen.meter import Accuracy, limit_of, stored_accuracy, typed_digit
    from sagen.meter.sets import compare_set

    accuracy = Accuracy.parse(arguments.accuracy) if arguments.accuracy else stored_accuracy()
    values = [float(one.replace(",", ".")) - arguments.leads for one in arguments.value]
    limits = tuple(limit_of(one, arguments.unit) for one in arguments.limits) if arguments.limits else None
    digit = max(typed_digit(one) for one in arguments.value)
    verdict = compare_set(values, arguments.unit, limits, accuracy=accuracy, digit=digit)
    print(json.dumps(verdict.as_row(), ensure_ascii=False) if arguments.json else f"{verdict.verdict}: {verdict.text}")
    return 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    else:
        print(f"sagen meter: {message}", file=sys.stderr)
