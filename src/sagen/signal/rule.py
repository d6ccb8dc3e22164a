"""What a rule is: a judgement on one reading that says what it needs and what silences it.

Rules are put in order by what they declare, not by where they stand: a rule comes after those whose findings silence
it or which it otherwise listens to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from sagen.model.errors import SagenError
from sagen.model.finding import Finding
from sagen.model.vocabulary import FindingKind
from sagen.signal.context import Context
from sagen.signal.reading import ChannelReading, RotatingReading

Judgement = Callable[[RotatingReading, Context], Iterator[Finding]]


@dataclass(frozen=True)
class Rule:
    """One rule of a finding.

    `on` is the type of reading that it judges, `needs` are attributes of the reading that must be true (`switching`,
    `wheel`, `unsmoothed`); findings of `silenced_by` on the same channel silence it, those of `hears` only have to be
    settled before it is asked.
    """

    finding: FindingKind
    judge: Judgement
    on: type[ChannelReading] = RotatingReading
    needs: tuple[str, ...] = ()
    silenced_by: frozenset[FindingKind] = frozenset()
    hears: frozenset[FindingKind] = frozenset()

    def __call__(self, reading: ChannelReading, context: Context) -> Iterator[Finding]:
        """The findings of this rule on one channel; none where it does not apply."""
        if not isinstance(reading, self.on) or not all(getattr(reading, need) for need in self.needs):
            return
        if context.has(reading, *self.silenced_by):
            return
        yield from self.judge(reading, context)


def rule(
    finding: FindingKind,
    *,
    on: type[ChannelReading] = RotatingReading,
    needs: Iterable[str] = (),
    silenced_by: Iterable[FindingKind] = (),
    hears: Iterable[FindingKind] = (),
) -> Callable[[Judgement], Rule]:
    """Declare a function a rule.

    Parameters
    ----------
    finding : FindingKind
        what it finds
    on : type
        the kind of reading it judges
    needs : iterable of str
        what of the context it cannot do without
    silenced_by, hears : iterable of FindingKind
        findings that make it needless, or that it must know of
    """

    def declare(judge: Judgement) -> Rule:
        return Rule(finding, judge, on, tuple(needs), frozenset(silenced_by), frozenset(hears))

    return declare


def in_order(rules: Iterable[Rule]) -> tuple[Rule, ...]:
    """Rules so that each comes after all that can silence it or that it hears; else in the order given.

    Raises
    ------
    SagenError
        when rules wait for one another in a circle.

    Parameters
    ----------
    rules : iterable of Rule
        in the order in which they were written

    References
    ----------
    Kahn, CACM 5(11), 1962: topological order. From memory.
    """
    waiting, ready = list(rules), []
    while waiting:
        left = {item.finding for item in waiting}
        free = next(
            (item for item in waiting if not (item.silenced_by | item.hears) & (left - {item.finding})),
            None,
        )
        if free is None:
            raise SagenError(f"rules wait for one another: {', '.join(sorted(left))}")
        ready.append(free)
        waiting.remove(free)
    return tuple(ready)
