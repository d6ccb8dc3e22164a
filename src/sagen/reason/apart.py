"""While it is apart: change all of a set, or only what failed."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.model.errors import SagenError


@dataclass(frozen=True)
class Apart:
    """What both ways cost. Money in one currency, hours of labour, chances from 0 to 1.

    `comes_back` is the chance that one more of the set fails before the machine would be apart anyway.
    """

    parts: int
    failed: int
    part_price: float
    hours_in: float  #: to get in and out again
    hours_each: float  #: to change one part once it is open
    rate: float  #: an hour of labour
    comes_back: float
    wait_days: float = 0.0  #: lead time of the parts that are not at hand
    day_cost: float = 0.0  #: what a day of standing costs

    def __post_init__(self):
        if not 1 <= self.failed <= self.parts:
            raise SagenError("of a set at least one and at most all have failed")
        if not 0 <= self.comes_back <= 1:
            raise SagenError("a chance lies between 0 and 1")
        if min(self.part_price, self.hours_in, self.hours_each, self.rate, self.wait_days, self.day_cost) < 0:
            raise SagenError("prices, hours and days cannot be negative")

    def all_of_them(self) -> float:
        """Expected cost of changing the whole set now."""
        waiting = self.wait_days * self.day_cost if self.parts > self.failed else 0.0
        return self.parts * (self.part_price + self.hours_each * self.rate) + self.hours_in * self.rate + waiting

    def only_failed(self) -> float:
        """Expected cost of changing what failed, and opening it again when another one goes."""
        one = self.part_price + self.hours_each * self.rate
        again = self.comes_back * (one + self.hours_in * self.rate) if self.parts > self.failed else 0.0
        return self.failed * one + self.hours_in * self.rate + again

    def text(self) -> str:
        everything, failed = self.all_of_them(), self.only_failed()
        better = "Changing all of them" if everything < failed else "Changing only what failed"
        other = self.parts - self.failed
        one = self.part_price + self.hours_each * self.rate
        even = min((other * one + self.wait_days * self.day_cost) / max(one + self.hours_in * self.rate, 1e-9), 1.0)
        return (
            f"{better} is the cheaper: {everything:.0f} for all {self.parts}, {failed:.0f} for {self.failed}, the chance of coming "
            f"back included. The two are even at a chance of {100 * even:.0f} %."
        )
