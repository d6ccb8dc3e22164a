"""Feed and return beside the signal: when the one falls and the other rises."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from sagen.model.capture import Channel
from sagen.model.finding import Finding, Span
from sagen.model.sheet import ChannelSheet
from sagen.model.vocabulary import FindingKind, Role
from sagen.signal.context import Context, grade
from sagen.signal.levels import Levels, state_levels
from sagen.signal.limits import limits
from sagen.signal.runs import runs_of

_SUPPLY, _GROUND, _EVENTS = limits("supply_loss"), limits("ground_lift"), limits("rail_events")


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
    that ignition spikes (a few percent of the time) do not count while a lift that lasts does.

    Parameters
    ----------
    channel : Channel
        raw samples, shape (n,)
    sheet : ChannelSheet
        its role: feed or return
    sfreq : float
        samples a second

    Returns
    -------
    Rail
        V a block, shape (blocks,)
    """
    size = max(4, round(_EVENTS.block_s * sfreq))
    size = min(size, max(1, len(channel.raw) // 8))
    count = len(channel.raw) // size
    # At high rates a few dozen samples tell a block's level as well as all of them.
    stride = max(1, size // 64)
    part = channel.raw[: count * size].reshape(count, size)[:, ::stride].astype(np.float32)
    blocks = np.median(part, axis=1).astype(np.float64) * channel.scale + channel.offset
    seconds = len(channel.raw) / sfreq
    return Rail(sheet, channel.unit, state_levels(channel), blocks, size / sfreq, seconds, channel, sfreq)


def rail_levels(rail: Rail) -> Levels:
    """A rail's levels as its feed or return holds them: between a twentieth and nineteen twentieths of a level a millisecond.
    Spikes, which are interference, are none of it.

    Parameters
    ----------
    rail : Rail
        a level a block, V
    """
    low, high = (float(item) for item in np.quantile(rail.blocks, [0.05, 0.95]))
    return replace(rail.levels, low=low, high=high)


Stretch = tuple[float, float, float]  #: start and end, s, and the level within it


def off_at_first(rail: Rail) -> float:
    """Until when (s) a feed had not come yet, in a record that was begun before the key was on; 0 where it was there.

    Parameters
    ----------
    rail : Rail
        a level a block, V
    """
    usual = float(np.quantile(rail.blocks, _SUPPLY.usual_quantile))
    there = np.flatnonzero(rail.blocks > _EVENTS.key_off * usual)
    if usual <= 0 or not len(there) or there[0] < _EVENTS.least_blocks:
        return 0.0
    return float(there[0] * rail.block_s)


def supply_loss(rail: Rail, context: Context) -> Iterator[Finding]:
    """The feed falls."""
    nominal = rail.sheet.nominal or _likely_nominal(rail)
    kind = "regulated" if nominal < _SUPPLY.regulated_v else "cranking" if context.cranking else "battery"
    limit = getattr(_SUPPLY, f"fallen_{kind}") * nominal
    begins = off_at_first(rail)
    events = [
        (start, end, level) for start, end, level in _events(rail, -1.0, limit) if begins == 0.0 or start > begins
    ]
    for stretches in _told(events):
        level = min(stretch[2] for stretch in stretches)
        yield _finding(
            rail, FindingKind.SUPPLY_LOSS, grade(limit - level, _SUPPLY.plain * limit), stretches, level,
            {"nominal": nominal, "limit": limit},
        )  # fmt: skip


def ground_lift(rail: Rail, context: Context) -> Iterator[Finding]:
    """The return rises."""
    limit = _GROUND.lift_cranking_v if context.cranking else _GROUND.lift_v
    for stretches in _told(_events(rail, 1.0, limit)):
        level = max(stretch[2] for stretch in stretches)
        yield _finding(rail, FindingKind.GROUND_LIFT, grade(level - limit, _GROUND.plain_v), stretches, level, {})


def _told(events: list[Stretch]) -> list[list[Stretch]]:
    """Stretches a finding each, or, where they are many, all in one."""
    return [events] if len(events) > _EVENTS.told_apart else [[event] for event in events]


def _finding(rail: Rail, kind: FindingKind, severity: float, stretches: list[Stretch], level: float, facts: dict):
    start, end = float(stretches[0][0]), float(stretches[-1][1])
    # Of many stretches the span from the first to the last is no length: how long one of them lasts is.
    facts = facts | (
        {"off_s": round(float(np.median([item[1] - item[0] for item in stretches])), 5)} if len(stretches) > 1 else {}
    )
    whole = end - start >= _EVENTS.whole_share * rail.seconds and len(stretches) == 1
    return Finding(
        kind, rail.sheet.column, severity,
        {"start_s": round(start, 5), "end_s": round(end, 5), "level_v": round(level, 3)},
        {"whole": whole, "stretches": len(stretches), **facts}, tuple(Span(stretch[0], stretch[1]) for stretch in stretches),
    )  # fmt: skip


def _likely_nominal(rail: Rail) -> float:
    top = float(np.quantile(rail.blocks, _SUPPLY.usual_quantile))
    return 5.0 if top < _SUPPLY.least_battery_v else 12.4 if top < _SUPPLY.most_twelve_v else 24.8


def _events(rail: Rail, sign: float, limit: float) -> list[Stretch]:
    """Stretches in which the rail lies above `limit` (`sign` 1) or below it (-1): start and end in s, and the
    typical level within."""
    starts, ends = runs_of(sign * rail.blocks > sign * limit)
    if not len(starts):
        return []
    join = max(1, round(_EVENTS.join_s / rail.block_s))
    first = np.concatenate([[True], starts[1:] - ends[:-1] > join])
    starts, ends = starts[first], ends[np.concatenate([np.flatnonzero(first)[1:] - 1, [len(ends) - 1]])]
    # One or two blocks beyond are a spike that a median let through.
    lasting = ends - starts >= _EVENTS.least_blocks
    starts, ends = starts[lasting], ends[lasting]
    if len(starts) > _EVENTS.most:
        longest = np.sort(np.argsort(ends - starts)[-_EVENTS.most :])
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
RAIL_RULES = {Role.SUPPLY: supply_loss, Role.GROUND: ground_lift}
