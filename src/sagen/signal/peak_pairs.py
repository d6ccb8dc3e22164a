"""Exports that hold the least and the most of each interval instead of samples: recognised, and put in the order of time.

A recorder that thins its memory out for a file often keeps, of each interval, the smallest and the largest sample, and
writes one after the other. Taken for samples, such a pair makes every edge, and all noise, a spike.
"""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.language import later
from sagen.model.sheet import Sheet

LOOKED_AT = 1 << 14  #: samples that are looked at first: what is no such export is seldom looked at further
FEWEST_WIDE = 12  #: pairs that an edge lies in; that all of them climb by chance has a probability of 2**-12
WIDE = 0.25  #: of the swing: a pair as wide holds an edge


def _order(raw: np.ndarray) -> tuple[int, int, int] | None:
    """Where the pairs begin (0 or 1), +1 where the least comes first or -1, and how many of them hold an edge; None where
    these are no pairs."""
    for begin in (0, 1):
        first, second = raw[begin:-1:2], raw[begin + 1 :: 2]
        count = min(len(first), len(second))
        step = second[:count].astype(np.float64) - first[:count]
        for sign in (1, -1):
            if count and (sign * step).min() >= 0:
                return begin, sign, int(np.count_nonzero(np.abs(step) > WIDE * (float(raw.max()) - float(raw.min()))))
    return None


def _found(channels: tuple[Channel, ...], samples: int | None) -> tuple[int, int] | None:
    """Where pairs begin and which comes first, the same in every channel that moves; None where they are no pairs."""
    told, wide = set(), 0
    for channel in channels:
        raw = channel.raw[:samples]
        if raw.min() == raw.max():
            continue
        order = _order(raw)
        if order is None:
            return None
        told.add(order[:2])
        wide += order[2]
    return told.pop() if len(told) == 1 and wide >= FEWEST_WIDE else None


#: a column of the least values, and what stands in its place in the name of the column of the largest
_LEAST = re.compile(r"(?<![a-z])(minimum|min|least|low)(?![a-z])", re.I)
_MOST = {"minimum": "maximum", "min": "max", "least": "most", "low": "high"}


def _side_by_side(capture: Capture, sheet: Sheet | None) -> Capture:
    """Columns of least and largest values put into one channel each, two samples an interval; itself where there are none.
    It bears the name that the sheet knows, else that of the first column."""
    named = {channel.column for channel in sheet.channel} if sheet is not None else set()
    most_of: dict[str, Channel] = {}
    for channel in capture.channels:
        other = _LEAST.sub(lambda found: _MOST[found[0].lower()], channel.column)
        most = next((item for item in capture.channels if item.column.lower() == other.lower()), None)
        if other == channel.column or most is None or most.unit != channel.unit:
            continue
        if (channel.raw * channel.scale + channel.offset <= most.raw * most.scale + most.offset).all():
            most_of[channel.column] = most
    if not most_of:
        return capture
    gone = {most.column for most in most_of.values()}
    channels = []
    for channel in capture.channels:
        most = most_of.get(channel.column)
        if most is not None:
            pair = [item.raw.astype(np.float64) * item.scale + item.offset for item in (channel, most)]
            name = most.column if most.column in named and channel.column not in named else channel.column
            channels.append(Channel(name, np.column_stack(pair).ravel().astype(np.float32), channel.unit))
        elif channel.column not in gone:
            channels.append(replace(channel, raw=np.repeat(channel.raw, 2)))
    return replace(capture, channels=tuple(channels), sfreq=2 * capture.sfreq)


def in_time_order(capture: Capture, sheet: Sheet | None = None) -> Capture:
    """The capture with the two values of each interval in the order in which they most likely came: falling where the
    neighbours fall, climbing where they climb. Itself where it holds plain samples.

    Parameters
    ----------
    capture : Capture
        raw samples, shape (n,), of each channel; one with holes is left as it is. The pairs may stand one after the other
        in a channel, or in two columns, as "A min" and "A max"
    sheet : Sheet or None
        which of two columns it knows

    Returns
    -------
    Capture
        each channel by itself in the order of time, and a note of what the file holds
    """
    if not capture.holes:
        capture = _side_by_side(capture, sheet)
    if capture.holes or capture.samples < 4 * FEWEST_WIDE or _found(capture.channels, LOOKED_AT) is None:
        return capture
    found = _found(capture.channels, None)
    if found is None:
        return capture
    begin, sign = found
    width = 2.0 / capture.sfreq
    note = later(
        "the file holds the least and the most of each {width:.4g} µs, not samples: it is read as an envelope, "
        "and no edge is known closer than that",
        width=1e6 * float(width),
    )
    channels = tuple(replace(channel, raw=_laid_out(channel.raw, begin, sign)) for channel in capture.channels)
    return replace(capture, channels=channels, notes=(*capture.notes, note))


def _laid_out(raw: np.ndarray, begin: int, sign: int) -> np.ndarray:
    out = raw.copy()
    count = (len(raw) - begin) // 2
    pairs = out[begin : begin + 2 * count].reshape(count, 2)
    middle = pairs.astype(np.float64).mean(axis=1)
    around = np.pad(middle, 1, "edge")
    climbs = around[2:] >= around[:-2]
    turned = climbs != (sign > 0)
    pairs[turned] = pairs[turned][:, ::-1]
    return out
