"""The decision while it is open: fit what failed, more of the set, or all of it.

Each part may bring the machine back; how likely is a beta distribution from common practice (`knowledge/decision.toml`),
moved by what was measured of the part, by its origin, and by what came back to this shop (conjugate counts: Gelman et
al., Bayesian Data Analysis, 2.4). A choice costs its parts, its waiting, and the chance of opening everything again.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from sagen.model.errors import KnowledgeError, SagenError
from sagen.model.language import titled, tr
from sagen.model.sheet import first_fault
from sagen.model.vocabulary import Origin

DRAWS = 4000  #: of the chances, for the interval
MOST_PARTS = 8
Share = Annotated[float, Field(gt=0, lt=1)]
Odds = Annotated[float, Field(gt=0, le=20)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class _Returns(_Table):
    comes_back: Share
    counts_as: Annotated[float, Field(gt=0, le=1000)]


class _Measured(_Table):
    tall: Share
    under_a_load: Odds
    lower: Odds
    open_only: Odds
    not_measured: Odds


class _Facts(_Table):
    new: dict[Origin, _Returns]
    stays: _Returns
    measured: _Measured


def parse_facts(text: str, where: str) -> _Facts:
    """The table of chances; raises KnowledgeError with file and what is wrong."""
    try:
        facts = _Facts.model_validate(tomllib.loads(text))
    except ValidationError as error:
        raise KnowledgeError(f"{where}: {first_fault(error, _Facts)}") from None
    except tomllib.TOMLDecodeError as error:
        raise KnowledgeError(f"{where}: {error}") from None
    missing = [origin for origin in Origin if origin not in facts.new]
    if missing:
        raise KnowledgeError(f"{where}: [new] says nothing of {missing[0]}")
    return facts


@cache
def decision_facts() -> _Facts:
    text = files("sagen.reason.knowledge").joinpath("decision.toml").read_text(encoding="utf-8")
    return parse_facts(text, "decision.toml")


@dataclass(frozen=True)
class PartState:
    """One part of the set as it is now. `ratio` is its height against the others, `loaded` whether that was under a
    load; None where it was not measured."""

    name: str
    failed: bool = False
    ratio: float | None = None
    loaded: bool = False


@dataclass(frozen=True)
class WhileOpen:
    """What is known when the engine is open. Money in one currency; a figure that was not stated is None."""

    parts: tuple[PartState, ...]
    part_price: float
    labour_again: float  #: what it would cost to get here once more, in and out
    labour_each: float = 0.0  #: to change one more while it is open
    origin: Origin = Origin.ORIGINAL  #: of the parts that would go in
    wait_days: float = 0.0  #: until the parts that are not at hand have come
    at_hand: int = 0  #: how many are at hand now
    day_cost: float | None = None  #: what a day of standing costs whoever needs the machine
    #: fitted and come back by origin, as this shop has seen
    record: Mapping[Origin, tuple[int, int]] = field(default_factory=dict)

    def __post_init__(self):
        if not 1 <= len(self.parts) <= MOST_PARTS:
            raise SagenError(tr("a set is of one to {most_parts} parts", most_parts=MOST_PARTS))
        if not any(part.failed for part in self.parts):
            raise SagenError(tr("say which part failed: without one there is nothing to decide"))
        money = (self.part_price, self.labour_again, self.labour_each, self.wait_days, self.day_cost or 0.0)
        if not all(0 <= item < 1e9 for item in money):
            raise SagenError(tr("prices, labour and days are not below zero, and not beyond a thousand million"))
        for name, (fitted, back) in self.record.items():
            if not 0 <= back <= fitted:
                raise SagenError(
                    tr("of {fitted} {name} parts {back} cannot have come back", fitted=fitted, name=name, back=back)
                )


@dataclass(frozen=True)
class Choice:
    """One way to close it again: its expected cost, and between which ends that lies in nine of ten such jobs' chances."""

    name: str
    fitted: tuple[str, ...]
    cost: float
    low: float
    high: float
    comes_back: float  #: chance that any of the set brings it back
    waits_days: float

    def as_data(self) -> dict:
        return {
            "name": self.name, "fitted": list(self.fitted), "cost": round(self.cost, 2), "low": round(self.low, 2),
            "high": round(self.high, 2), "comes_back": round(self.comes_back, 4), "waits_days": self.waits_days,
        }  # fmt: skip


@dataclass(frozen=True)
class Decision:
    """All choices, cheapest first, and where the two leading ones break even."""

    given: WhileOpen
    choices: tuple[Choice, ...]
    chances: tuple[tuple[str, float], ...]  #: of each part, as it stands in the cheapest choice
    break_even_labour: float | None  #: cost of getting here again from which on fitting all is the cheaper
    sure: float  #: share of the draws in which the cheapest stays it

    @property
    def best(self) -> Choice:
        return self.choices[0]


def decide(given: WhileOpen) -> Decision:
    """Weigh the choices.

    Parameters
    ----------
    given : WhileOpen
        probabilities, minutes and prices

    References
    ----------
    Least expected cost: Raiffa and Schlaifer, Applied Statistical Decision Theory (1961). From memory.
    """
    rng = np.random.default_rng(20)
    failed = [at for at, part in enumerate(given.parts) if part.failed]
    rest = [at for at, part in enumerate(given.parts) if not part.failed]
    new = _new_chance(given)
    drawn_new = rng.beta(*new, (DRAWS, len(given.parts)))
    drawn_old = np.stack([rng.beta(*_old_chance(part), DRAWS) for part in given.parts], axis=1)
    ways = _ways(given, failed, rest)
    costs, backs = [], []
    for _, fitted in ways:
        chance = np.where(np.isin(np.arange(len(given.parts)), fitted), drawn_new, drawn_old)
        any_back = 1 - np.prod(1 - chance, axis=1)
        costs.append(_now(given, len(fitted)) + any_back * _again(given))
        backs.append(any_back)
    order = np.argsort([float(cost.mean()) for cost in costs])
    choices = tuple(
        Choice(
            ways[at][0], tuple(given.parts[way].name for way in ways[at][1]), float(costs[at].mean()),
            *(float(item) for item in np.quantile(costs[at], [0.05, 0.95])), float(backs[at].mean()),
            _waits(given, len(ways[at][1])),
        )
        for at in order
    )  # fmt: skip
    best = int(order[0])
    chances = [
        (part.name, float(drawn_new[:, at].mean() if at in ways[best][1] else drawn_old[:, at].mean()))
        for at, part in enumerate(given.parts)
    ]
    sure = float(np.mean(np.argmin(np.stack(costs), axis=0) == best)) if len(costs) > 1 else 1.0
    return Decision(given, choices, tuple(chances), _break_even(given, ways, backs), sure)


def _ways(given: WhileOpen, failed: list[int], rest: list[int]) -> list[tuple[str, list[int]]]:
    """The choices: what failed; that and the lowest of the others; the set."""
    ways = [(tr("fit one") if len(failed) == 1 else tr("fit the {failed} that failed", failed=len(failed)), failed)]
    if len(given.parts) == 2 and rest:
        ways.append((tr("fit both"), failed + rest))
    elif rest:
        lowest = min(rest, key=lambda at: given.parts[at].ratio if given.parts[at].ratio is not None else 0.5)
        if len(rest) > 1:
            ways.append((tr("fit {failed}", failed=len(failed) + 1), sorted([*failed, lowest])))
        ways.append((tr("fit the set"), failed + rest))
    return ways


def _now(given: WhileOpen, count: int) -> float:
    return count * (given.part_price + given.labour_each) + _waits(given, count) * (given.day_cost or 0.0)


def _waits(given: WhileOpen, count: int) -> float:
    return given.wait_days if count > given.at_hand else 0.0


def _again(given: WhileOpen) -> float:
    """What one come-back costs: in and out, a part, and the days until it is there."""
    return given.labour_again + given.part_price + given.labour_each + given.wait_days * (given.day_cost or 0.0)


def _new_chance(given: WhileOpen) -> tuple[float, float]:
    fact = decision_facts().new[given.origin]
    fitted, back = given.record.get(given.origin, (0, 0))
    return fact.comes_back * fact.counts_as + back, (1 - fact.comes_back) * fact.counts_as + fitted - back


def _old_chance(part: PartState) -> tuple[float, float]:
    facts = decision_facts()
    odds = facts.stays.comes_back / (1 - facts.stays.comes_back)
    if part.ratio is None:
        odds *= facts.measured.not_measured
    elif not part.loaded:
        odds *= facts.measured.open_only
    else:
        odds *= facts.measured.under_a_load if part.ratio >= facts.measured.tall else facts.measured.lower
    share = odds / (1 + odds)
    return share * facts.stays.counts_as, (1 - share) * facts.stays.counts_as


def _break_even(given: WhileOpen, ways: Sequence[tuple[str, list[int]]], backs: list[np.ndarray]) -> float | None:
    """Cost of getting here again at which fitting all costs as much as fitting only what failed; None where it never
    does."""
    if len(ways) < 2:
        return None
    fewer = float(backs[0].mean() - backs[-1].mean())
    more = _now(given, len(ways[-1][1])) - _now(given, len(ways[0][1]))
    if fewer <= 0:
        return None
    return max(more / fewer - (_again(given) - given.labour_again), 0.0)


def said(decision: Decision) -> str:
    """The decision in words.

    Parameters
    ----------
    decision : Decision
        minutes and money by choice
    """
    best, given = decision.best, decision.given
    one = tr(
        "{name}: {cost:,.0f} expected ({low:,.0f} to {high:,.0f}), {comes_back:.0f} % come back.",
        name=titled(best.name),
        cost=best.cost,
        low=best.low,
        high=best.high,
        comes_back=100 * best.comes_back,
    )
    if len(decision.choices) == 1:
        return one
    other = decision.choices[1]
    text = tr(
        "{one} {name}: {cost:,.0f} ({low:,.0f} to {high:,.0f}), {comes_back:.0f} %.",
        one=one,
        name=titled(other.name),
        cost=other.cost,
        low=other.low,
        high=other.high,
        comes_back=100 * other.comes_back,
    )
    if decision.sure < 0.8:
        text += tr(" The two are close: what is not known of the parts may turn it.")
    if decision.break_even_labour is not None:
        text += tr(
            " Fitting them all pays from {break_even_labour:,.0f} for getting here again; it is {labour_again:,.0f}.",
            break_even_labour=decision.break_even_labour,
            labour_again=given.labour_again,
        )
    if given.day_cost is None and given.wait_days:
        days = tr("a day") if given.wait_days == 1 else tr("{wait_days:g} days", wait_days=given.wait_days)
        text += tr(" Waiting {days} is not counted: what a day costs was not stated.", days=days)
    return text


# replace now, or one more check ------------------------------------------------------------------------

#: as many cases as the share of right calls at a probability is known from (benchmarks/RESULTS.md)
CALLS_SEEN = 40.0
MINUTES_A_COME_BACK = 240.0  #: the job done again, where neither money nor more is stated


@dataclass(frozen=True)
class Costs:
    """What the job's time and mistakes cost; None where neither the job nor the shop states it."""

    hour: float | None = None
    come_back: float | None = None
    day: float | None = None
    part_price: float | None = None
    lead_days: float | None = None

    def over(self, shop: Costs) -> Costs:
        """These, with the shop's where this job states none.

        Parameters
        ----------
        shop : Costs
            the shop's usual ones; minutes and money
        """
        return Costs(*(own if own is not None else usual for own, usual in zip(self._all(), shop._all(), strict=True)))

    def _all(self) -> tuple:
        return self.hour, self.come_back, self.day, self.part_price, self.lead_days


@dataclass(frozen=True)
class Way:
    """One way on: its expected cost, between which ends that lies with what is not known of the calls, and how likely the
    repair is the wrong one."""

    name: str
    cost: float
    low: float
    high: float
    wrong: float
    at: int | None = None  #: which of the checks comes first; None of a repair at once


@dataclass(frozen=True)
class ReplaceOrCheck:
    """Both ways, the cheaper first, in money where the hour's cost is known, else in minutes."""

    ways: tuple[Way, ...]
    unit: str
    missing: tuple[str, ...] = ()  #: what is not counted since nobody stated it

    @property
    def not_counted(self) -> str:
        """What is not counted, in a sentence; "" where nothing is left out."""
        return tr("Not counted, since not stated: {missing}.", missing=", ".join(self.missing)) if self.missing else ""

    @property
    def text(self) -> str:
        """The comparison in words."""
        unit = f" {self.unit}" if self.unit else ""
        told = [
            tr(
                "{name}: {cost:,.0f}{unit} expected ({low:,.0f} to {high:,.0f}), wrong in {wrong}",
                name=titled(way.name),
                cost=way.cost,
                unit=unit,
                low=way.low,
                high=way.high,
                wrong=_percent(way.wrong),
            )
            for way in self.ways
        ]
        return f"{'; '.join(told)}. {self.not_counted}".rstrip()


def replace_or_check(
    share: float,
    fit_minutes: float,
    checks: Sequence[tuple[str, float, float]],
    costs: Costs,
    origin: Origin = Origin.ORIGINAL,
) -> ReplaceOrCheck:
    """Fitting what leads now, against each check first and then fitting what leads.

    Parameters
    ----------
    share : float
        probability of the cause that the part would cure
    fit_minutes : float
        to get at the part and fit it
    checks : sequence of (name, minutes, chance of a wrong repair afterwards)
    costs : Costs
    origin : Origin
        of the part: a new one may be bad from the box

    References
    ----------
    Value of sample information: Raiffa and Schlaifer, Applied Statistical Decision Theory (1961). From memory.
    """
    rng = np.random.default_rng(7)
    bad = decision_facts().new[origin].comes_back
    rate = costs.hour / 60 if costs.hour is not None else 1.0
    back = costs.come_back
    if back is None:
        back = MINUTES_A_COME_BACK * rate + (costs.part_price or 0.0)
    price = (costs.part_price or 0.0) if costs.hour is not None else 0.0
    wait = (costs.day or 0.0) * (costs.lead_days or 0.0) if costs.hour is not None else 0.0
    fitting = fit_minutes * rate + price + wait

    def way(name: str, first: float, wrong: float, at: int | None = None) -> Way:
        wrong = min(max(1 - (1 - wrong) * (1 - bad), 1e-6), 1 - 1e-6)
        drawn = rng.beta(wrong * CALLS_SEEN, (1 - wrong) * CALLS_SEEN, DRAWS)
        costs_of = first * rate + fitting + drawn * back
        low, high = np.quantile(costs_of, [0.05, 0.95])
        return Way(name, float(first * rate + fitting + wrong * back), float(low), float(high), wrong, at)

    ways = [
        way(tr("replace now"), 0.0, 1 - share),
        *(way(tr("first {name}", name=name), minutes, after, at) for at, (name, minutes, after) in enumerate(checks)),
    ]
    missing = [
        name
        for name, value in ((tr("what the hour costs"), costs.hour), (tr("the part's price"), costs.part_price))
        if value is None
    ]
    missing += [tr("what a day of standing costs")] if costs.day is None and costs.lead_days else []
    unit = "" if costs.hour is not None else "minutes"
    return ReplaceOrCheck(tuple(sorted(ways, key=lambda way: way.cost)), unit, tuple(missing))


def _percent(share: float) -> str:
    return tr("{share:.0f} %", share=100 * share)
