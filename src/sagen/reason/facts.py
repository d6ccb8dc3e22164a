"""The knowledge files as frozen records that check themselves."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from sagen.model.errors import KnowledgeError, unknown_name
from sagen.model.words import CAUSES


@dataclass(frozen=True)
class Picture:
    name: str
    seen: str
    unseen: str
    background: float

    def __post_init__(self):
        _probability(f"picture {self.name}", self.background)


@dataclass(frozen=True)
class FaultMode:
    name: str
    cause: str
    prior: float
    shows: dict[str, float]
    do: str
    says: dict[str, str]

    def __post_init__(self):
        if self.cause not in CAUSES:
            raise KnowledgeError(f"fault '{self.name}': {unknown_name('cause', self.cause, CAUSES)}")
        if not self.prior > 0:
            raise KnowledgeError(f"fault '{self.name}': prior {self.prior} is not above 0")
        for picture, share in self.shows.items():
            _probability(f"fault '{self.name}', {picture}", share)


@dataclass(frozen=True)
class CodeKind:
    name: str
    seen: str
    other: float
    by_cause: dict[str, float]

    def likelihood(self, cause: str) -> float:
        return self.by_cause.get(cause, self.other)


@dataclass(frozen=True)
class Check:
    name: str
    text: str
    point: str
    state: str
    gear: str
    minutes: float
    expect: str
    cautions: tuple[str, ...]
    outcome: dict[str, dict[str, float]]

    def likelihood(self, outcome: str | None, fault: str) -> float:
        """Probability of an outcome under a fault mode; None is "as expected"."""
        named = {one: table.get(fault, table["other"]) for one, table in self.outcome.items()}
        if outcome is not None:
            return named[outcome]
        return max(0.0, 1.0 - sum(named.values()))


@dataclass(frozen=True)
class Knowledge:
    pictures: dict[str, Picture]
    faults: tuple[FaultMode, ...]
    codes: dict[str, CodeKind]
    checks: tuple[Check, ...]


def _probability(where: str, value: float) -> None:
    if not 0 <= value <= 1:
        raise KnowledgeError(f"{where}: {value} is not a probability")


@cache
def knowledge() -> Knowledge:
    """The shipped knowledge, read once; raises KnowledgeError with file and row."""
    faults, checks = _load("faults.toml"), _load("checks.toml")
    pictures = {name: Picture(name, **row) for name, row in faults["picture"].items()}
    modes = tuple(FaultMode(**{"says": {}, **row}) for row in faults["fault"])
    for mode in modes:
        for picture in (*mode.shows, *mode.says):
            if picture not in pictures:
                raise KnowledgeError(f"faults.toml, fault '{mode.name}': {unknown_name('picture', picture, pictures)}")
    codes = {}
    for name, row in faults["code"].items():
        row = dict(row)
        codes[name] = CodeKind(name, row.pop("seen"), row.pop("other"), row)
    names = {mode.name for mode in modes}
    cautions = checks["caution"]
    ready = []
    for row in checks["check"]:
        for table in row["outcome"].values():
            for fault in table:
                if fault != "other" and fault not in names:
                    raise KnowledgeError(f"checks.toml, check '{row['name']}': {unknown_name('fault', fault, names)}")
        told = tuple(cautions[one] for one in row["cautions"])
        ready.append(Check(**{**row, "cautions": told}))
    return Knowledge(pictures, modes, codes, tuple(ready))


def _load(name: str) -> dict:
    try:
        return tomllib.loads(files("sagen.reason.knowledge").joinpath(name).read_text(encoding="utf-8"))
    except (OSError, tomllib.TOMLDecodeError) as error:
        raise KnowledgeError(f"{name}: {error}") from error
