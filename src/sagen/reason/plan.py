"""The order of steps that share set-ups: what is paid once to open a place is paid for all that is done there.

With one thing to be found and independent costs the best order goes by probability over cost (Heckerman, Breese, Rommelse,
CACM 38(3), 1995). With set-ups it does not: opening a place is a step of its own that finds nothing and must come before
those behind it. That is sequencing under an out-tree of precedences, for which taking the block of best ratio first is
optimal (Horn, SIAM J. Appl. Math. 23, 1972).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass

MOST_BLOCK = 12  #: steps of one place that are looked at together


@dataclass(frozen=True)
class Step:
    """Something that can be done: how likely it ends the search (or what it is worth), its own cost, and the place that
    has to be open for it ("": none)."""

    worth: float
    cost: float
    place: str = ""


@dataclass(frozen=True)
class Block:
    """Steps that are taken together, by their places in the row, with what opening costs and all of it is worth."""

    steps: tuple[int, ...]
    worth: float
    cost: float

    @property
    def ratio(self) -> float:
        return self.worth / max(self.cost, 1e-12)


#: what a step is still worth after others were taken
After = Callable[[int, tuple[int, ...]], float]


def best_order(
    steps: Sequence[Step], set_ups: Mapping[str, float], opened: Collection[str] = (), *, after: After | None = None
) -> list[int]:
    """Indices of the steps in the order to take them.

    Parameters
    ----------
    steps : sequence of Step
    set_ups : mapping
        what it costs to open each place; paid once
    opened : collection
        places that are open already
    after : callable
        what a step is worth once others were taken, `after(step, taken in this block)`; its own worth where None
    """
    left, open_places, order = set(range(len(steps))), set(opened), []
    while left:
        block = next_block(steps, set_ups, open_places, left, after=after)
        order += block.steps
        left -= set(block.steps)
        open_places |= {steps[step].place for step in block.steps}
    return order


def next_block(
    steps: Sequence[Step],
    set_ups: Mapping[str, float],
    opened: Collection[str],
    left: Collection[int],
    *,
    after: After | None = None,
) -> Block:
    """What to take next: the steps that are worth most for what they cost together, opening included.

    Parameters
    ----------
    steps : sequence of Step
        minutes, probability of ending the search, and place of each
    set_ups : mapping
        place to the minutes that opening it takes
    opened : collection of str
        places that are open
    left : collection of int
        steps that are still to be taken
    after : After or None
        which steps must come before which

    Returns
    -------
    Block
        Horn, SIAM J. Appl. Math. 23 (1972), from memory: the initial set of steps with the largest ratio
    """
    best: Block | None = None
    closed: dict[str, list[int]] = {}
    for item in sorted(left):
        step = steps[item]
        if step.place and step.place not in opened and set_ups.get(step.place, 0.0) > 0:
            closed.setdefault(step.place, []).append(item)
            continue
        alone = Block((item,), step.worth, step.cost)
        if best is None or alone.ratio > best.ratio:
            best = alone
    for place, some in closed.items():
        found = _opening(steps, some, set_ups[place], after)
        if best is None or found.ratio > best.ratio:
            best = found
    return best


def _opening(steps: Sequence[Step], some: list[int], set_up: float, after: After | None) -> Block:
    """The best block behind one opening: steps are added by their own ratio as long as the whole gains by it."""
    order = sorted(some, key=lambda item: -Block((item,), steps[item].worth, steps[item].cost).ratio)
    best = None
    taken, worth, cost = (), 0.0, set_up
    for each in order[:MOST_BLOCK]:
        more = after(each, taken) if after is not None and taken else steps[each].worth
        taken, worth, cost = (*taken, each), worth + more, cost + steps[each].cost
        now = Block(taken, worth, cost)
        if best is None or now.ratio > best.ratio * (1 + 1e-12):
            best = now
    return best


def expected_cost(order: Sequence[int], steps: Sequence[Step], set_ups: Mapping[str, float], opened=()) -> float:
    """What taking steps in an order costs until one of them ends the search, opening places as they are needed.

    Parameters
    ----------
    order : sequence of int
        steps by index
    steps : sequence of Step
    set_ups : mapping
        place to minutes
    opened : collection of str
        places that are open

    Returns
    -------
    float
        minutes

    References
    ----------
    Heckerman, Breese and Rommelse, CACM 38(3), 1995. From memory.
    """
    left, total, open_places = 1.0, 0.0, set(opened)
    for item in order:
        step = steps[item]
        if step.place and step.place not in open_places:
            total += left * set_ups.get(step.place, 0.0)
            open_places.add(step.place)
        total += left * step.cost
        left -= step.worth
    return total
