"""Where a capture and its sheet meet: rows for every channel, and values in true units. Nothing later knows of probe
factors."""

from __future__ import annotations

from dataclasses import replace

from sagen.model.capture import Capture
from sagen.model.errors import SheetError, unknown_name
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.model.vocabulary import Role


def complete_sheet(capture: Capture, sheet: Sheet | None) -> Sheet:
    """The sheet with a row for the capture's channels; raises SheetError for one that is not there.

    Parameters
    ----------
    capture : Capture
        its channels by name
    sheet : Sheet or None
        what was told of some of them
    """
    if sheet is None or not sheet.channel:
        first = ChannelSheet(column=capture.channels[0].column, role=Role.CRANK)
        rest = tuple(ChannelSheet(column=channel.column) for channel in capture.channels[1:])
        return (sheet or Sheet()).model_copy(update={"channel": (first, *rest)})
    columns = [channel.column for channel in capture.channels]
    for item in sheet.channel:
        if capture.channel(item.column) is None:
            raise SheetError(f"{capture.name}: {unknown_name('channel', item.column, columns)}")
    return sheet


def apply_probe_factors(capture: Capture, sheet: Sheet | None) -> tuple[Capture, Sheet]:
    """The capture with its probe factors applied, and its complete sheet without them.

    A probe factor scales what the recorder wrote, its offset included. Applied to what is true already it changes
    nothing. Raises SheetError for a channel that the capture does not have.

    Parameters
    ----------
    capture : Capture
        raw samples as the recorder wrote them
    sheet : Sheet or None
        with the factor (10 for 10:1) of each channel
    """
    sheet = complete_sheet(capture, sheet)
    factors = {item.column: item.factor for item in sheet.channel if item.factor != 1.0}
    if not factors:
        return capture, sheet
    channels = tuple(
        replace(channel, scale=channel.scale * factors[channel.column], offset=channel.offset * factors[channel.column])
        if channel.column in factors
        else channel
        for channel in capture.channels
    )
    rows = tuple(item.model_copy(update={"factor": 1.0}) for item in sheet.channel)
    return replace(capture, channels=channels), sheet.model_copy(update={"channel": rows})
