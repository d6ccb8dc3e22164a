"""A photo of the trail read as a capture: where its plot may lie, what its traces are, and the capture that comes of it."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np

from sagen.casework.examination import Incoming, build_pyramids
from sagen.files.arrays import capture_at, picture_note
from sagen.files.picture import Reading, open_picture, proposed_corners, read_picture
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.typed import typed_figure
from sagen.model.units import SAMPLED, seconds_of, unit_of

Corners = tuple[tuple[float, float], ...]
_FIGURE = re.compile(r"^\s*([-+−]?[0-9]+(?:[.,][0-9]+)?|[-+−]?[.,][0-9]+)\s*([a-zA-Zµμ]*)\s*$")


class Picture(NamedTuple):
    """A photo's pixels, shape (height, width, 3), and where its plot may lie: a proposal that a person confirms."""

    pixels: np.ndarray
    corners: Corners


def opened_picture(data: bytes) -> Picture:
    """A photo's pixels with the corners proposed; raises SagenError for what is no picture."""
    pixels = open_picture(io.BytesIO(data))
    return Picture(pixels, proposed_corners(pixels))


def typed_time(text: str) -> float:
    """Seconds from a figure as it is typed: "20 ms", "0.1"; raises SagenError."""
    value, unit = _typed(text, tr("a time, as 20 ms"))
    factor = seconds_of(unit) if unit else 1.0
    if factor is None:
        raise SagenError(tr("'{text}' is no time: state it in s, ms or us", text=text))
    return value * factor


def typed_volts(text: str) -> float:
    """Volts from a figure as it is typed: "-2", "500 mV"; raises SagenError."""
    value, unit = _typed(text, tr("volts, as 5 or 500 mV"))
    found = unit_of(unit or "V", SAMPLED)
    if found is None or found.si != "V":
        raise SagenError(tr("'{text}' is no voltage: state it in V or mV", text=text))
    return value * found.factor


def _typed(text: str, what: str) -> tuple[float, str]:
    found = _FIGURE.match(text)
    if found is None:
        raise SagenError(
            tr("type {what}", what=what)
            if not text.strip()
            else tr("'{text}' is not {what}", text=text[:30], what=what)
        )
    try:
        return typed_figure(found[1].replace("−", "-")), found[2]
    except ValueError as error:  # more digits than a figure holds
        raise SagenError(str(error)) from None


def read_plot(
    picture: Picture, corners: Sequence[tuple[float, float]], axes: tuple[float, float, float, float]
) -> Reading:
    """Follow the traces between the corners; see `files.picture.read_picture`."""
    return read_picture(picture.pixels, corners, axes)


def reading_words(reading: Reading) -> str:
    """What was read, a sentence a trace."""
    return " ".join(
        tr(
            "{name}: known to about ± {sigma:.2g} V, {blank:.0f} % blank, {unexplained:.0f} % of its ink unexplained.",
            name=titled(trace.name),
            sigma=2 * float(np.nanmedian(trace.sigma)),
            blank=100 * trace.blank,
            unexplained=100 * trace.unexplained,
        )
        for trace in reading.traces
    )


def incoming_of(name: str, reading: Reading) -> Incoming:
    """The capture of what was read, marked as from a picture; what is blank in any trace was not recorded.

    Raises
    ------
    SagenError
        where too little of it could be read.
    """
    there = np.isfinite([trace.volts for trace in reading.traces]).all(axis=0)
    rows = [
        (tr("trace {k}", k=k), trace.volts[there].astype(np.float32), "V") for k, trace in enumerate(reading.traces, 1)
    ]
    notes = [
        picture_note(column, 2 * float(np.nanmedian(trace.sigma)), unit)
        for (column, _, unit), trace in zip(rows, reading.traces, strict=True)
    ]
    name = tr("{name} (from a picture)", name=name)
    capture = capture_at(name, reading.time[there], rows, notes=notes)
    return Incoming(Path(name), capture, pyramids=build_pyramids(capture))
