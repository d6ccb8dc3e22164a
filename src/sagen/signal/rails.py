"""Feed and return beside the signal: when the one falls and the other rises."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from sagen.model.capture import Channel
from sagen.model.finding import Finding, Span
from sagen.model.sheet import ChannelSheet
from sagen.signal.context import Context, grade
from sagen.signal.levels import Levels, state_levels

BLOCK_S = 1.0e-3  #: what is shorter than a few of these is a spike, not a fall or a lift
JOIN_S = 8.0e-3  #: two stretches closer than this are one
MOST_EVENTS = 12
#: a good return stays below 0.1 V (common practice); while the starter turns its current lifts the block
LIFT_V, LIFT_CRANKING_V = 0.2, 0.35
#: share of its nominal below which a regulated feed, a battery at rest, and one under the starter has fallen
FALLEN = {"regulated": 0.85, "battery": 0.8, "cranking": 0.58}
REGULATED_V = 9.0


@dataclass(frozen=True)
class Rail:
    """A supply or ground channel: `blocks` is a level a millisecond, spikes left out."""

    sheet: ChannelSheet
    unit: str
    levels: Levels
    blocks: np.ndarray
    block_s: float
    seconds: float
    channel: Channel
    sfreq: float


def read_rail(channel: Channel, sheet: ChannelSheet, sfreq: float) -> Rail:
    """Reduce a rail to a level a block. Within a block a quantile towards the sound side is taken, so
    that ignition spikes (a few percent of the time) do not count while a lift that lasts does."""
    size = max(4, round(BLOCK_S * sfreq))
    size = min(size, max(1, len(channel.raw) // 8))
    count = len(channel.raw) // size
    # At high rates a few dozen samples tell a block's level as well as all of them.
    stride = max(1, size // 64)
    part = channel.raw[: count * size].reshape(count, size)[:, ::stride].astype(np.float32)
    blocks = np.median(part, axis=1).astype(np.float64) * channel.scale + channel.offset
    seconds = len(channel.raw) / sfreq
    return Rail(sheet, channel.unit, state_levels(channel), blocks, size / sfreq, seconds, channel, sfreq)


def supply_loss(rail: Rail, context: Context) -> Iterator[Finding]:
    nominal = rail.sheet.nominal or _likely_nominal(rail)
    kind = "regulated" if nominal < REGULATED_V else "cranking" if context.cranking else "battery"
    limit = FALLEN[kind] * nominal
    for start, end, level in _events(rail, -1.0, limit):
        whole = end - start >= 0.98 * rail.seconds
        when = "for the whole recording" if whole else f"from {start:.4f} s to {end:.4f} s"
        yield Finding(
            "supply_loss", rail.sheet.column, grade(limit - level, 0.5 * limit),
            f"The feed falls to {level:.2f} V {when} ({1000 * (end - start):.0f} ms); {nominal:g} V is nominal, "
            f"and below {limit:.1f} V the sensor cannot be relied on.",
            {"start_s": round(start, 5), "end_s": round(end, 5), "level_v": round(level, 3)}, (Span(start, end),),
            "Measure the feed at fuse, relay and plug under load, and see who else shares it.",
        )  # fmt: skip


def ground_lift(rail: Rail, context: Context) -> Iterator[Finding]:
    limit = LIFT_CRANKING_V if context.cranking else LIFT_V
    for start, end, level in _events(rail, 1.0, limit):
        whole = end - start >= 0.98 * rail.seconds
        when = "for the whole recording" if whole else f"from {start:.4f} s to {end:.4f} s"
        yield Finding(
            "ground_lift", rail.sheet.column, grade(level - limit, 1.0),
            f"The return rises to {level:.2f} V above battery negative {when} ({1000 * (end - start):.0f} ms); "
            "a good one stays below 0.1 V.",
            {"start_s": round(start, 5), "end_s": round(end, 5), "level_v": round(level, 3)}, (Span(start, end),),
            "Measure the drop along the return under load, from plug to battery negative, while wiggling the harness.",
        )  # fmt: skip


def _likely_nominal(rail: Rail) -> float:
    top = float(np.quantile(rail.blocks, 0.9))
    return 5.0 if top < 6.5 else 12.4 if top < 16 else 24.8


def _events(rail: Rail, sign: float, limit: float) -> list[tuple[float, float, float]]:
    """Stretches in which the rail lies above `limit` (`sign` 1) or below it (-1): start and end in s, and the
    typical level within."""
    beyond = sign * rail.blocks > sign * limit
    edges = np.diff(np.concatenate([[0], beyond.view(np.int8), [0]]))
    starts, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    if not len(starts):
        return []
    join = max(1, round(JOIN_S / rail.block_s))
    first = np.concatenate([[True], starts[1:] - ends[:-1] > join])
    starts, ends = starts[first], ends[np.concatenate([np.flatnonzero(first)[1:] - 1, [len(ends) - 1]])]
    # One or two blocks beyond are a spike that a median let through.
    lasting = ends - starts >= 3
    starts, ends = starts[lasting], ends[lasting]
    if len(starts) > MOST_EVENTS:
        longest = np.sort(np.argsort(ends - starts)[-MOST_EVENTS:])
        starts, ends = starts[longest], ends[longest]
    return [
        (_to_the_sample(rail, start, sign, limit, False), _to_the_sample(rail, end, sign, limit, True),
         float(np.median(rail.blocks[start:end])))
        for start, end in zip(starts, ends, strict=True)
    ]  # fmt: skip


def _to_the_sample(rail: Rail, block: int, sign: float, limit: float, leaves: bool) -> float:
    """When (s) the rail passes `limit` around the start of `block`: by how many samples of the two blocks that meet
    there lie on either side, so that a spike moves it by its own width only."""
    if block in (0, len(rail.blocks)):
        return 0.0 if block == 0 else rail.seconds
    size = round(rail.block_s * rail.sfreq)
    first = (block - 1) * size
    volts = rail.channel.raw[first : first + 2 * size] * rail.channel.scale + rail.channel.offset
    before = np.count_nonzero((sign * volts > sign * limit) == leaves)
    return (first + before) / rail.sfreq


#: rules for each role of a rail
RAIL_RULES = {"supply": supply_loss, "ground": ground_lift}
