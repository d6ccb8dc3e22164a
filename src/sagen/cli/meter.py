"""`sagen meter VALUE UNIT`: one reading judged; several values are a set of like parts."""

from __future__ import annotations

import argparse
import json
import math
import sys

from sagen.cli import number
from sagen.meter import Accuracy, Limits, judge, limit_of, stored_accuracy, table_of, tolerance_of, typed_digit
from sagen.meter.sets import compare_set
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.typed import typed_reading


def arguments(parser) -> None:
    parser.add_argument(
        "value", type=_reading, nargs="+", metavar="VALUE",
        help=tr("as the meter shows it; noughts at its end count; OL is a reading; two to eight are a set of like parts"),
    )  # fmt: skip
    parser.add_argument("unit", metavar="UNIT", help=tr("ohm, kohm, Mohm (or Ω), V, mV, A or mA"))
    parser.add_argument(
        "--limits",
        nargs=2,
        metavar=("LOW", "HIGH"),
        help=tr("in the same unit, or with one of their own: 2000ohm"),
    )
    parser.add_argument("--least", metavar="LOW", help=tr("a limit below only"))
    parser.add_argument("--most", metavar="HIGH", help=tr("a limit above only: 50mV"))
    parser.add_argument("--nominal", metavar="VALUE", help="with --tolerance")
    parser.add_argument("--tolerance", metavar="10%")
    parser.add_argument("--table", metavar='"20:2500 80:320"', help=tr("by temperature (degC), as a thermistor has it"))
    parser.add_argument("--at", type=number, default=20.0, metavar="C", help=tr("temperature that the limits are for"))
    parser.add_argument("--temperature", type=number, metavar="C", help=tr("temperature of the part"))
    parser.add_argument("--material", default="copper", help=tr("copper or none"))
    parser.add_argument(
        "--leads", type=number, default=0.0, metavar="OHM", help=tr("their own resistance, in ohm whatever the unit")
    )
    parser.add_argument("--accuracy", metavar='"0.8% + 3 x 0.1"')
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def _reading(text: str) -> str:
    """A reading as it was typed; what is none is wrong usage."""
    try:
        typed_reading(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(tr("{error}; over range is typed as OL", error=error)) from None
    return text


def run(arguments) -> int:
    texts, unit = arguments.value, arguments.unit
    limits = _limits(arguments)
    if limits is None and len(texts) == 1:
        print(
            tr(
                "sagen meter: say what it is judged by: --limits LOW HIGH, --least, --most, --nominal with "
                "--tolerance, --table, or the other readings of the set"
            ),
            file=sys.stderr,
        )
        return 2
    digits = [typed_digit(text) for text in texts if math.isfinite(typed_reading(text))]
    accuracy = Accuracy.parse(arguments.accuracy) if arguments.accuracy else stored_accuracy()
    at = limits.at(arguments.temperature) if limits is not None else None
    by_table = limits is not None and bool(limits.table)
    how = {
        "at": arguments.at, "leads": arguments.leads, "accuracy": accuracy, "digit": max(digits, default=None),
        # A table is of the temperature already.
        "temperature": None if by_table else arguments.temperature,
        "material": "none" if by_table else arguments.material, "slope": at.slope if at is not None else 0.0,
    }  # fmt: skip
    if len(texts) > 1:
        done = compare_set(
            [typed_reading(text) for text in texts], unit, (at.low, at.high) if at is not None else None, **how
        )
    else:
        done = judge(typed_reading(texts[0]), unit, at.low, at.high, **how)
    row = done.as_row()
    if at is not None and at.note:
        row["text"] += f" {titled(at.note)}."
    print(json.dumps(row, ensure_ascii=False, allow_nan=False) if arguments.json else f"{done.verdict}: {row['text']}")
    return 0


def _limits(arguments) -> Limits | None:
    """What was published, however it was stated; None where nothing was."""
    unit = arguments.unit
    stated = {
        "--limits": arguments.limits, "--least or --most": arguments.least or arguments.most, "--nominal": arguments.nominal,
        "--table": arguments.table,
    }  # fmt: skip
    given = [name for name, value in stated.items() if value is not None]
    tolerance = tolerance_of(arguments.tolerance) if arguments.tolerance is not None else None
    if len(given) > 1:
        raise SagenError(tr("limits were stated twice, by {given} and by {given_2}", given=given[0], given_2=given[1]))
    if tolerance is not None and given not in (["--nominal"], ["--table"]):
        raise SagenError(tr("--tolerance goes with --nominal or --table"))
    if arguments.limits is not None:
        return Limits(*(limit_of(limit, unit) for limit in arguments.limits))
    if arguments.nominal is not None:
        if tolerance is None:
            raise SagenError(tr("--nominal needs --tolerance, as 10%"))
        nominal = limit_of(arguments.nominal, unit)
        return Limits(*sorted((nominal * (1 - tolerance), nominal * (1 + tolerance))))
    if arguments.table is not None:
        return table_of(arguments.table, unit, tolerance)
    if given:
        low = limit_of(arguments.least, unit) if arguments.least is not None else -math.inf
        return Limits(low, limit_of(arguments.most, unit) if arguments.most is not None else math.inf)
    return None


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    else:
        print(tr("sagen meter: {message_}", message_=message), file=sys.stderr)
