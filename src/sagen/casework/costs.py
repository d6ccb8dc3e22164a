"""What time, parts and mistakes cost in a job: as it states them, else as the shop has them."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

import platformdirs

from sagen.artifacts.atomic import write_whole
from sagen.model.errors import SagenError, unknown_name
from sagen.model.finding import Suspect
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.text import as_utf8
from sagen.model.trail import CostsEntry, PartEntry, Record
from sagen.model.vocabulary import Cause, CheckKind, LineState, Part, Place
from sagen.reason.checks import NextCheck
from sagen.reason.decide import Costs, ReplaceOrCheck, replace_or_check
from sagen.reason.facts import knowledge

#: loaded when it is first asked: its import takes longer than most of what is done without it
tomlkit = lazy("tomlkit")

KEYS = ("hour", "come_back", "day", "part_price", "lead_days")
FIT_MINUTES = 20.0  #: to fit a part that can be reached, tools at hand (common practice, no published source)
#: where a part is fitted
FITTED_AT = {
    Part.SENSOR: Place.SENSOR, Part.SEAT: Place.SENSOR, Part.WHEEL: Place.WHEEL, Part.MODULE: Place.MODULE,
    Part.TIMING: Place.TIMING, Part.SUPPLY: Place.FUSE, Part.HARNESS: Place.PLUG, Part.GROUND: Place.PLUG,
}  # fmt: skip


def shop_file() -> Path:
    """Where the shop's own costs stand."""
    return Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "shop.toml"


def shop_costs() -> Costs:
    """The shop's costs; all unknown where it states none. Raises SagenError for a file that makes no sense."""
    path = shop_file()
    if not path.is_file():
        return Costs()
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise SagenError(f"{path}: {error}") from None
    _check(data, f"{path}: ")
    return Costs(**data)


def _check(data: dict, where: str) -> None:
    for key, value in data.items():
        if key not in KEYS:
            raise SagenError(f"{where}{unknown_name('key', key, KEYS)}")
        if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e9:
            raise SagenError(tr("{where}{key} is not an amount", where=where, key=key.replace("_", " ")))


def keep_shop_costs(costs: Costs) -> None:
    """Make these the shop's; raises SagenError for what is no amount, and when the disk refuses."""
    path = shop_file()
    data = {key: getattr(costs, key) for key in KEYS if getattr(costs, key) is not None}
    _check(data, "")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SagenError(
            tr("{parent} cannot be made: {strerror}", parent=path.parent, strerror=error.strerror or error)
        ) from None
    write_whole(path, as_utf8(tomlkit.dumps(data)).encode())


def costs_of(records: Iterable[Record]) -> Costs:
    """A job's costs over the shop's; the price and lead time are those of its chosen part line where it has one."""
    records = list(records)
    stated = next((record for record in reversed(records) if isinstance(record, CostsEntry)), CostsEntry())
    lines = [
        record
        for record in records
        if isinstance(record, PartEntry) and record.state not in (LineState.SENT_BACK, LineState.OFFER)
    ]
    line = lines[-1] if lines else None
    own = Costs(
        stated.hour, stated.come_back, stated.day,
        line.price if line is not None and line.price is not None else stated.part_price,
        line.lead_days if line is not None and line.lead_days is not None else stated.lead_days,
    )  # fmt: skip
    return own.over(shop_costs())


#: checks that are set against repairing now
MOST_FIRST = 3


def now_or_first(
    suspects: tuple[Suspect, ...],
    checks: tuple[NextCheck, ...],
    costs: Costs,
    access: dict[str, float],
    opened: Iterable[str],
) -> ReplaceOrCheck | None:
    """Replacing what leads against the checks that pay; None where nothing leads that a part would cure."""
    lead = suspects[0] if suspects else None
    if lead is None or lead.cause == Cause.NONE:
        return None
    facts = knowledge()
    part = facts.priors[lead.fault].part if lead.fault in facts.priors else None
    if part is None:
        return None
    # Where a call can be made, what a check takes away is foreseen too high: counted as the advice counts it.
    overstated = facts.stakes.must_save(lead.probability)
    place = FITTED_AT.get(part)
    reach = 0.0 if place is None or place in set(opened) else float(access.get(str(place), facts.places[place]))
    paying = [
        check for check in checks if check.pays and check.circuit == lead.circuit and check.check.kind != CheckKind.SWAP
    ][:MOST_FIRST]

    def wrong(check: NextCheck) -> float:
        # In expectation no check makes a repair worse: what the answer leaves is a share of what is wrong now.
        taken = max(0.0, 1 - check.wrong_after / max(check.wrong_now, 1e-9))
        return (1 - lead.probability) * (1 - taken / overstated)

    rows = [(check.name, check.total_minutes, wrong(check)) for check in paying]
    ways = replace_or_check(lead.probability, reach + FIT_MINUTES, rows, costs)
    best = next((way.at for way in ways.ways if way.at is not None), 0)
    if best == 0:
        return ways
    # The plan begins with what is quick; on its own it decides little, and what decides comes after it. It is counted so, and no way
    # stands above the plan's own that the plan takes later anyhow.
    first, then = paying[0], paying[best]
    opens = first.access if first.check.place == then.check.place else 0.0
    both = tr("{name}, then {other}", name=first.name, other=then.name)
    planned = (both, first.total_minutes + then.total_minutes - opens, rows[best][2])
    ways = replace_or_check(lead.probability, reach + FIT_MINUTES, [planned, *rows[1:]], costs)
    least = next(way.cost for way in ways.ways if way.at == 0)
    return replace(ways, ways=tuple(way for way in ways.ways if not way.at or (way.cost > least and way.at != best)))


def offers(records: Iterable[Record], costs: Costs) -> tuple[tuple[PartEntry, float | None], ...]:
    """Part lines that are offers of the same thing, cheapest in all first: with what waiting for each costs; None where
    its price or a day's cost is not stated."""
    rows = []
    for record in records:
        if isinstance(record, PartEntry) and record.state in (LineState.OFFER, LineState.WANTED):
            wait = (
                (record.lead_days or 0.0) * costs.day
                if costs.day is not None
                else (0.0 if not record.lead_days else None)
            )
            total = record.price * record.count + wait if record.price is not None and wait is not None else None
            rows.append((record, total))
    return tuple(sorted(rows, key=lambda row: (row[1] is None, row[1] or 0.0)))
