"""Pieces of evidence: one class a kind, each telling how likely it is under every hypothesis. Why, in words, is
`words.py`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import dataclass, field

from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    ABOUT_TIMING,
    CodeKind,
    Complaint,
    FindingKind,
    Point,
    Role,
    State,
)
from sagen.reason.facts import Knowledge
from sagen.reason.finding_sets import finding_label
from sagen.reason.likelihood import LikelihoodModel


@dataclass(frozen=True)
class Evidence(ABC):
    """Base of all kinds. `source` says where on the trail it stands."""

    source: str = ""

    #: pieces with the same key repeat one another and count less each time
    key: tuple = field(default=(), init=False, repr=False)

    @property
    def about_timing(self) -> bool:
        """Whether this asks how cam and crank stand to one another, so that timing parts are in question."""
        return False

    @abstractmethod
    def likelihood(self, faults: tuple[str, ...], model: LikelihoodModel, facts: Knowledge) -> float | None:
        """Probability (or density) under fault modes; None where this says nothing."""


@dataclass(frozen=True)
class Code(Evidence):
    """A trouble code's kind of failure; `kind` is a CodeKind or, of several sensors at once, "several"."""

    code: str = ""
    kind: CodeKind | str = ""

    @property
    def key(self):
        return ("code",)

    @property
    def about_timing(self):
        return self.kind == CodeKind.CORRELATION

    def likelihood(self, faults, model, facts):
        return max(facts.codes[self.kind].of(one) for one in faults)


@dataclass(frozen=True)
class Complained(Evidence):
    name: Complaint | str = ""

    @property
    def key(self):
        return ("complaint",)

    def likelihood(self, faults, model, facts):
        return max(facts.complaints[self.name].of(one) for one in faults)


@dataclass(frozen=True)
class MeterReading(Evidence):
    """A meter reading; ohms brought to 20 degC with the leads taken off."""

    point: Point | str = ""
    state: State | str = ""
    value: float = 0.0
    ohms: bool = False
    spread: float = 0.0

    @property
    def key(self):
        return ("reading", self.point, self.state)

    def likelihood(self, faults, model, facts):
        return model.reading_likelihood(self.point, self.state, self.value, self.ohms, faults, self.spread)


@dataclass(frozen=True)
class Captured(Evidence):
    """What a capture showed, and what it could not have shown."""

    found: frozenset[str] = frozenset()
    state: State | str = State.CRANKING
    unseen: frozenset[str] = frozenset()

    @property
    def key(self):
        return ("capture", self.state)

    @property
    def about_timing(self):
        return not self.unseen >= ABOUT_TIMING

    def likelihood(self, faults, model, facts):
        if self.state in (State.KEY_ON, State.STRIKE):
            return None
        return model.capture_likelihood(self.found, self.state, self.unseen, faults)


@dataclass(frozen=True)
class Cranked(Evidence):
    """How the starter turned the engine while a capture was taken."""

    rpm: float = 0.0
    uneven: float | None = None  #: share of the speed, once in two turns; None where too little was seen

    @property
    def key(self):
        return ("cranked",)

    def likelihood(self, faults, model, facts):
        return model.cadence_likelihood(self.rpm, self.uneven, faults)


@dataclass(frozen=True)
class ReadElsewhere(Evidence):
    """A finding that somebody read with other means; `finding` is its label in the counted tables."""

    finding: str = ""
    kind: FindingKind | str = ""
    state: State | str = ""

    @property
    def key(self):
        return ("elsewhere", self.kind, self.state)

    @property
    def about_timing(self):
        return self.kind in ABOUT_TIMING

    def likelihood(self, faults, model, facts):
        table = facts.elsewhere.get(self.kind)
        if table is not None:
            return max(table.of(one, self.state) for one in faults)
        return max(
            model.share_seen(
                self.finding, self.state or (State.ROLLING if model.spec.role == Role.SPEED else State.CRANKING), one
            )
            for one in faults
        )


@dataclass(frozen=True)
class Inspected(Evidence):
    """What a check by eye or hand came to: one of its outcomes, or "" for as expected."""

    check: str = ""
    outcome: str = ""

    @property
    def key(self):
        return ("look", self.check)

    def likelihood(self, faults, model, facts):
        check = facts.check(self.check)
        if check is None or not check.outcome:
            return None
        shares = {name: max(row.get(one, row["other"]) for one in faults) for name, row in check.outcome.items()}
        if self.outcome in shares:
            return shares[self.outcome]
        return max(0.005, 1.0 - sum(shares.values()))


def captured(
    findings: Iterable[tuple[FindingKind, dict]],
    state: State,
    roles: set[Role],
    *,
    needs_pattern: frozenset[FindingKind] = frozenset(),
    source: str = "",
) -> Captured | None:
    """The evidence in a capture's findings; None where the capture is not fit to judge by.

    Parameters
    ----------
    findings : iterable of (kind, fields)
    roles : set
        the roles of its channels: without a feed channel a loss of the feed cannot show
    needs_pattern : frozenset
        what shows only against a known-good capture, of one that was read without
    """
    findings = list(findings)
    found = frozenset(finding_label(kind, fields) for kind, fields in findings if kind not in ABOUT_CAPTURE)
    unfit = (FindingKind.UNDERSAMPLED, FindingKind.TOO_SHORT)
    if any(kind in unfit for kind, _ in findings) and not found:
        return None
    unseen: set[str] = set(needs_pattern)
    if Role.SUPPLY not in roles:
        unseen.add(FindingKind.SUPPLY_LOSS)
    if Role.GROUND not in roles:
        unseen.add(FindingKind.GROUND_LIFT)
    if not (Role.CAM in roles and Role.CRANK in roles):
        unseen |= ABOUT_TIMING
    return Captured(source, found, state, frozenset(unseen) - found)
