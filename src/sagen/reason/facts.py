"""The knowledge files as frozen records that check themselves."""

from __future__ import annotations

import tomllib
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files

import numpy as np

from sagen.machine.faults import FAULTS
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import KnowledgeError, unknown_name
from sagen.model.words import CAUSES

SOUND = "nothing wrong in this circuit"


def cause_of(fault: str) -> str:
    return "none" if fault == SOUND else FAULTS[fault].cause


@dataclass(frozen=True)
class Prior:
    """How common a fault mode is, and what to do about it."""

    name: str
    weight: float
    part: str
    do: str
    crank: float | None = (
        None  #: the weight in a job about the crank sensor without a correlation code or a cam beside it
    )

    def __post_init__(self):
        if self.name != SOUND and self.name not in FAULTS:
            raise KnowledgeError(f"priors.toml: {unknown_name('fault', self.name, FAULTS)}")
        if not self.weight > 0:
            raise KnowledgeError(f"priors.toml, fault '{self.name}': weight {self.weight} is not above 0")


@dataclass(frozen=True)
class Share:
    """How often machines with a fault of each cause show something."""

    name: str
    seen: str
    other: float
    by_cause: dict[str, float]

    def __post_init__(self):
        for cause, value in (*self.by_cause.items(), ("other", self.other)):
            if cause != "other" and cause not in CAUSES:
                raise KnowledgeError(f"evidence.toml, {self.name}: {unknown_name('cause', cause, CAUSES)}")
            probability(f"evidence.toml, {self.name}, {cause}", value)

    def of(self, fault: str) -> float:
        return self.by_cause.get(cause_of(fault), self.other)


@dataclass(frozen=True)
class CheckFacts:
    """One row of checks.toml."""

    name: str
    kind: str
    text: str
    point: str
    state: str
    gear: str
    minutes: float
    expect: str
    cautions: tuple[str, ...] = ()
    access: float = 0.0
    price: float = 0.0
    part: str = ""
    sensors: tuple[str, ...] = ()
    roles: tuple[str, ...] = ()
    outcome: dict[str, dict[str, float]] = field(default_factory=dict)

    @property
    def total_minutes(self) -> float:
        return self.minutes + self.access

    def fits(self, spec: CircuitSpec) -> bool:
        return (not self.sensors or spec.sensor in self.sensors) and (not self.roles or spec.role in self.roles)


@dataclass(frozen=True)
class Knowledge:
    priors: dict[str, Prior]
    codes: dict[str, Share]
    complaints: dict[str, Share]
    parts: dict[str, tuple[str, ...]]
    origins: dict[str, float]
    elsewhere: dict[str, dict]
    checks: tuple[CheckFacts, ...]
    #: CIRCUIT.STATE -> fault -> how often each set of findings came out
    seen: dict[str, dict[str, Counter]]

    def weights(self, faults: Iterable[str], role: str, *, correlated: bool = False) -> np.ndarray:
        """How common fault modes are in a circuit of a role, adding up to 1; `correlated`: with a correlation code."""
        crank = role == "crank" and not correlated
        rows = [self.priors[one] for one in faults]
        weight = np.array([one.crank if crank and one.crank is not None else one.weight for one in rows])
        return weight / weight.sum() if len(weight) else weight


def probability(where: str, value: float) -> None:
    if not 0 <= value <= 1:
        raise KnowledgeError(f"{where}: {value} is not a probability")


@cache
def knowledge() -> Knowledge:
    """The shipped knowledge, read once; raises KnowledgeError with file and row."""
    evidence = _load("evidence.toml")
    priors = {name: Prior(name, **row) for name, row in _load("priors.toml")["fault"].items()}
    missing = [one for one in (SOUND, *FAULTS) if one not in priors]
    if missing:
        raise KnowledgeError(f"priors.toml: no row for '{missing[0]}'")
    parts = {name: tuple(row["causes"]) for name, row in evidence["part"].items()}
    origins = {name: float(row["bad"]) for name, row in evidence["origin"].items()}
    return Knowledge(
        priors, _shares(evidence["code"]), _shares(evidence["complaint"]), parts, origins, evidence["elsewhere"],
        _checks(parts), {key: {name: Counter(row) for name, row in table.items()} for key, table in _load("seen.toml").items()},
    )  # fmt: skip


def _shares(table: dict) -> dict[str, Share]:
    out = {}
    for name, row in table.items():
        row = dict(row)
        out[name] = Share(name, row.pop("seen"), row.pop("other"), row)
    return out


def _checks(parts: dict) -> tuple[CheckFacts, ...]:
    data = _load("checks.toml")
    cautions, ready = data["caution"], []
    for row in data["check"]:
        for outcome in row.get("outcome", {}).values():
            for name, share in outcome.items():
                if name != "other" and name not in FAULTS:
                    raise KnowledgeError(f"checks.toml, check '{row['name']}': {unknown_name('fault', name, FAULTS)}")
                probability(f"checks.toml, check '{row['name']}', {name}", share)
        if row.get("part") and row["part"] not in parts:
            raise KnowledgeError(f"checks.toml, check '{row['name']}': {unknown_name('part', row['part'], parts)}")
        told = tuple(cautions[one] for one in row.get("cautions", ()))
        lists = {key: tuple(row[key]) for key in ("sensors", "roles") if key in row}
        ready.append(CheckFacts(**{**row, **lists, "cautions": told}))
    return tuple(ready)


def _load(name: str) -> dict:
    try:
        return tomllib.loads(files("sagen.reason.knowledge").joinpath(name).read_text(encoding="utf-8"))
    except (OSError, tomllib.TOMLDecodeError) as error:
        raise KnowledgeError(f"{name}: {error}") from error
