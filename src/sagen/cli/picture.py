"""`sagen picture IMAGE --corners ... --axes ... -o OUT.csv`: a photo or screenshot of a screen as a capture."""

from __future__ import annotations

import argparse
import json

import numpy as np

from sagen.cli import say_what_failed, whole
from sagen.files.picture import open_picture, proposed_corners, read_picture, write_reading
from sagen.model.errors import SagenError
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="IMAGE")
    parser.add_argument(
        "--corners", type=_corners, metavar='"x,y x,y x,y x,y"',
        help=tr("of the plot, in pixels: top left, top right, bottom right, bottom left"),
    )  # fmt: skip
    parser.add_argument(
        "--axes", type=_axes, metavar='"t0 t1 v0 v1"',
        help=tr("s at the left and right edge, V at the bottom and top edge; without them shares of width and height are " "written"),
    )  # fmt: skip
    parser.add_argument("--trace", type=whole, metavar="N", help=tr("only this one, the one with the most ink being 1"))
    parser.add_argument("-o", "--output", required=True, metavar="OUT.csv")
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def _numbers(text: str, count: int, what: str) -> list[float]:
    try:
        values = [float(item) for item in text.replace(",", " ").split()]
    except ValueError:
        values = []
    if len(values) != count or not np.isfinite(values).all():
        raise argparse.ArgumentTypeError(
            tr("{what}, {count} numbers, not '{text}'", what=what, count=count, text=text[:60])
        )
    return values


def _corners(text: str) -> tuple[tuple[float, float], ...]:
    values = _numbers(text, 8, tr("four points x,y"))
    return tuple(zip(values[::2], values[1::2], strict=True))


def _axes(text: str) -> tuple[float, ...]:
    return tuple(_numbers(text, 4, "t0 t1 v0 v1"))


def run(arguments) -> int:
    pixels = open_picture(arguments.file)
    if arguments.corners is None:
        told = " ".join(f"{x:.0f},{y:.0f}" for x, y in proposed_corners(pixels))
        raise SagenError(
            tr('say where the plot lies; it may be --corners "{told}": look before you take that', told=told)
        )
    reading = read_picture(pixels, arguments.corners, arguments.axes, trace=arguments.trace)
    write_reading(arguments.output, reading, stated=arguments.axes is not None)
    rows = [
        {
            "trace": number, "colour": trace.name, "samples": int(np.isfinite(trace.volts).sum()),
            "blank": round(trace.blank, 4), "sigma": round(float(np.nanmedian(trace.sigma)), 6),
            "unexplained": round(trace.unexplained, 4),
            "pixels_a_tooth": round(trace.pixels_a_tooth, 1) if np.isfinite(trace.pixels_a_tooth) else None,
        }
        for number, trace in enumerate(reading.traces, start=1)
    ]  # fmt: skip
    if arguments.json:
        print(json.dumps({"picture": arguments.file, "capture": arguments.output, "traces": rows}))
        return 0
    unit = "V" if arguments.axes else tr("of the height")
    for row in rows:
        print(
            tr(
                "{output}: trace {trace} ({colour}): {samples} samples, known to about {sigma:.2g} {unit}, "
                "{blank:.0f} % blank, {unexplained:.0f} % of the ink unexplained",
                output=arguments.output,
                trace=row["trace"],
                colour=row["colour"],
                samples=row["samples"],
                sigma=2 * row["sigma"],
                unit=unit,
                blank=100 * row["blank"],
                unexplained=100 * row["unexplained"],
            )
        )
    return 0


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"picture": arguments.file, "error": message}))
    else:
        say_what_failed(arguments, message)
