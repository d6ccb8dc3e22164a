"""Pieces of evidence: one class a kind, each telling how likely it is under every hypothesis, and in words why."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field

from sagen.reason.facts import SOUND, Knowledge, cause_of
from sagen.reason.finding_sets import ABOUT_CAPTURE, ABOUT_TIMING
from sagen.reason.likelihood import LikelihoodModel

STATES_SAID = {
    "key_on": "key on", "key_on_unplugged": "key on, unplugged", "cranking": "while cranking", "running": "while running", "wiggle": "while it is moved",
    "metal_near": "steel at the tip", "metal_away": "clear of metal", "unplugged": "unplugged",
}  # fmt: skip


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

    @abstractmethod
    def words(self, fault: str, model: LikelihoodModel, facts: Knowledge) -> str:
        """Why this speaks for or against a fault mode, as a technician would say it."""


@dataclass(frozen=True)
class Code(Evidence):
    """A trouble code's kind of failure."""

    code: str = ""
    kind: str = ""

    @property
    def key(self):
        return ("code",)

    @property
    def about_timing(self):
        return self.kind == "correlation"

    def likelihood(self, faults, model, facts):
        return max(facts.codes[self.kind].of(one) for one in faults)

    def words(self, fault, model, facts):
        return f"{facts.codes[self.kind].seen} ({self.code})."


@dataclass(frozen=True)
class Complaint(Evidence):
    name: str = ""

    @property
    def key(self):
        return ("complaint",)

    def likelihood(self, faults, model, facts):
        return max(facts.complaints[self.name].of(one) for one in faults)

    def words(self, fault, model, facts):
        return f"{facts.complaints[self.name].seen}."


@dataclass(frozen=True)
class Reading(Evidence):
    """A meter reading; ohms brought to 20 degC with the leads taken off."""

    point: str = ""
    state: str = ""
    value: float = 0.0
    ohms: bool = False
    spread: float = 0.0

    @property
    def key(self):
        return ("reading", self.point, self.state)

    def likelihood(self, faults, model, facts):
        return model.reading_likelihood(self.point, self.state, self.value, self.ohms, faults, self.spread)

    def words(self, fault, model, facts):
        unit = "ohm" if self.ohms else "V"
        where = f"{self.point.replace('_', ' ')}, {STATES_SAID.get(self.state, self.state)}"
        said = f"{where[0].upper()}{where[1:]}: {self.value:.3g} {unit}"
        sound, here = model.expected(self.point, self.state), model.expected(self.point, self.state, fault)
        if sound is None or here is None:
            return said + "."
        said += f"; a sound circuit shows {_range(sound, unit)}"
        return said + (f", with {fault} {_range(here, unit)}." if fault != SOUND else ".")


@dataclass(frozen=True)
class Captured(Evidence):
    """What a capture showed, and what it could not have shown."""

    found: frozenset[str] = frozenset()
    state: str = "cranking"
    unseen: frozenset[str] = frozenset()

    @property
    def key(self):
        return ("capture", self.state)

    @property
    def about_timing(self):
        return not self.unseen >= ABOUT_TIMING

    def likelihood(self, faults, model, facts):
        if self.state in ("key_on", "strike"):
            return None
        return model.capture_likelihood(self.found, self.state, self.unseen, faults)

    def words(self, fault, model, facts):
        from sagen.model.words import FINDING_TITLES

        name = f"{self.source}: " if self.source else ""
        if not self.found:
            return f"{name}nothing wrong in the recording."
        told = ", ".join(
            FINDING_TITLES.get(one.split(":")[0], one).lower() + (f" ({one.split(':')[1]})" if ":" in one else "")
            for one in sorted(self.found)
        )
        return f"{name}{told}."


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

    def words(self, fault, model, facts):
        beat = ""
        if self.uneven is not None:
            beat = f", with a beat of {100 * self.uneven:.0f} % once in two turns" if self.uneven > 0.03 else ", evenly"
        return f"The starter turns the engine at {self.rpm:.0f} rpm{beat}."


@dataclass(frozen=True)
class ReadElsewhere(Evidence):
    """A finding that somebody read with other means."""

    finding: str = ""
    kind: str = ""
    state: str = ""

    @property
    def key(self):
        return ("elsewhere", self.kind, self.state)

    @property
    def about_timing(self):
        return self.kind in ABOUT_TIMING

    def likelihood(self, faults, model, facts):
        table = facts.elsewhere.get(self.kind)
        if table is not None:
            row = table.get(self.state, table) if isinstance(table.get(self.state), dict) else table
            return max(
                row.get(one, row.get("other", 0.03)) if one != SOUND else row.get("other", 0.03) for one in faults
            )
        return max(
            model.share_seen(self.finding, self.state or ("rolling" if model.spec.role == "speed" else "cranking"), one)
            for one in faults
        )

    def words(self, fault, model, facts):
        from sagen.model.words import FINDING_TITLES

        return f"Read elsewhere: {FINDING_TITLES.get(self.kind, self.kind.replace('_', ' ')).lower()}."


@dataclass(frozen=True)
class Looked(Evidence):
    """What a check by eye or hand came to: one of its outcomes, or "as expected"."""

    check: str = ""
    outcome: str = ""

    @property
    def key(self):
        return ("look", self.check)

    def likelihood(self, faults, model, facts):
        check = next((one for one in facts.checks if one.name == self.check), None)
        if check is None or not check.outcome:
            return None
        shares = {name: max(row.get(one, row["other"]) for one in faults) for name, row in check.outcome.items()}
        if self.outcome in shares:
            return shares[self.outcome]
        return max(0.005, 1.0 - sum(shares.values()))

    def words(self, fault, model, facts):
        return f"{self.check[0].upper()}{self.check[1:]}: {self.outcome.replace('_', ' ') if self.outcome else 'as expected'}."


#: what shows only against a known-good capture: of a switching or current sensor, and of a coil
NEEDS_PATTERN = (frozenset({"timing_offset"}), frozenset({"timing_offset", "weak_amplitude"}))


def captured(
    findings, state: str, roles: set[str], *, referenced: bool, coil: bool = False, source: str = ""
) -> Captured | None:
    """The evidence in a capture's findings; None where the capture is not fit to judge by.

    Parameters
    ----------
    findings : iterable of (kind, fields)
    roles : set
        the roles of its channels: without a feed channel a loss of the feed cannot show
    referenced, coil : bool
        whether it was read against a known-good capture, without which a coil's weakness hardly shows
    """
    from sagen.reason.finding_sets import finding_label

    found = frozenset(finding_label(kind, fields) for kind, fields in findings if kind not in ABOUT_CAPTURE)
    if any(kind in ("undersampled", "too_short") for kind, _ in findings) and not found:
        return None
    unseen = set()
    if "supply" not in roles:
        unseen.add("supply_loss")
    if "ground" not in roles:
        unseen.add("ground_lift")
    if not ("cam" in roles and "crank" in roles):
        unseen |= ABOUT_TIMING
    unseen |= NEEDS_PATTERN[coil] if not referenced else set()
    return Captured(source, found, state, frozenset(unseen) - found)


def _range(values: tuple[float, float, float], unit: str) -> str:
    low, middle, high = values
    if unit == "ohm" and middle > 1e6:
        return "no path"
    if high - low < 0.06 * abs(middle) + 0.03:
        return f"about {middle:.3g} {unit}"
    return f"{low:.3g} to {high:.3g} {unit}"


__all__ = [
    "Captured",
    "Code",
    "Complaint",
    "Cranked",
    "Evidence",
    "Looked",
    "ReadElsewhere",
    "Reading",
    "captured",
    "cause_of",
]
