"""The knowledge files, checked when they are loaded: nothing that the program does not know the word for gets in.

`priors.toml`, `evidence.toml`, `checks.toml` and `seen.toml` ship with the program; a person's own files lie in
`knowledge/` of the user's configuration folder, and extensions hand theirs to `extend_knowledge`. All may hold the
tables `[fault.X]`, `[caution]`, `[[check]]` and `["CIRCUIT.STATE"]`, and go through the same check.
"""

from __future__ import annotations

import threading
import tomllib
from collections import Counter
from collections.abc import Iterable
from importlib.resources import files
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from sagen.machine.faults import all_faults
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import KnowledgeError, unknown_name
from sagen.model.extensions import load_extensions
from sagen.model.sheet import first_fault, one_of
from sagen.model.vocabulary import (
    CAPTURE_STATES,
    CIRCUIT_ROLES,
    Cause,
    CheckKind,
    CodeKind,
    Complaint,
    FindingKind,
    Gear,
    Origin,
    Part,
    Point,
    Role,
    SensorKind,
    State,
)

SOUND = "sound"  #: the slug of "nothing wrong in this circuit"
#: kinds of failure that several codes together tell of
CODES_TOGETHER = ("several",)

Probability = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]
Positive = Annotated[float, Field(gt=0, allow_inf_nan=False)]
Words = Annotated[str, Field(min_length=3)]


def cause_of(fault: str) -> Cause:
    """The cause that a fault mode belongs to; that of a sound circuit is `none`."""
    return Cause.NONE if fault == SOUND else all_faults()[fault].cause


def title_of(fault: str) -> str:
    """A fault mode as it is said and written."""
    return "nothing wrong in this circuit" if fault == SOUND else all_faults()[fault].title


class _Row(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Prior(_Row):
    """How common a fault mode is, and what to do about it; `crank` is the weight in a job about the crank sensor
    without a correlation code or a cam beside it."""

    weight: Positive
    part: Annotated[Part, one_of(Part)] | None = None
    do: Words
    crank: Positive | None = None

    @field_validator("part", mode="before")
    @classmethod
    def _none(cls, value: object) -> object:
        return None if value == "" else value


class Share(_Row):
    """How often machines with a fault of each cause show something."""

    seen: Words
    other: Probability
    by_cause: dict[Annotated[Cause, one_of(Cause)], Probability] = Field(default_factory=dict)

    def of(self, fault: str) -> float:
        return self.by_cause.get(cause_of(fault), self.other)


class CheckFacts(_Row):
    """One thing that a technician can do next."""

    slug: Annotated[str, Field(pattern=r"^[a-z0-9_]+$")]
    name: Words
    kind: Annotated[CheckKind, one_of(CheckKind)]
    text: Words
    point: Annotated[Point, one_of(Point)]
    state: Annotated[State, one_of(State)]
    gear: Annotated[Gear, one_of(Gear)]
    minutes: Positive
    expect: Words
    cautions: tuple[str, ...] = ()
    access: Annotated[float, Field(ge=0)] = 0.0
    price: Annotated[float, Field(ge=0)] = 0.0
    part: Annotated[Part, one_of(Part)] | None = None
    sensors: tuple[Annotated[SensorKind, one_of(SensorKind)], ...] = ()
    roles: tuple[Annotated[Role, one_of(Role, CIRCUIT_ROLES)], ...] = ()
    outcome: dict[str, dict[str, Probability]] = Field(default_factory=dict)

    @field_validator("outcome")
    @classmethod
    def _faults(cls, value: dict) -> dict:
        for name, row in value.items():
            if "other" not in row:
                raise ValueError(f"'{name}' says nothing of fault modes not named: 'other' is missing")
            for fault in row:
                if fault != "other" and fault not in all_faults():
                    raise ValueError(unknown_name("fault", fault, all_faults()))
        for fault in {one for row in value.values() for one in row}:
            shares = sum(row.get(fault, row["other"]) for row in value.values())
            if shares > 1 + 1e-9:
                raise ValueError(f"the outcomes of '{fault}' add up to {shares:g}: only one of them can come true")
        return value

    @property
    def total_minutes(self) -> float:
        return self.minutes + self.access

    def fits(self, spec: CircuitSpec) -> bool:
        return (not self.sensors or spec.sensor in self.sensors) and (not self.roles or spec.role in self.roles)


class Elsewhere(_Row):
    """How often a finding that was read elsewhere comes with each fault mode, also by the state it was read in."""

    other: Probability
    by_fault: dict[str, Probability] = Field(default_factory=dict)
    by_state: dict[Annotated[State, one_of(State)], dict[str, Probability]] = Field(default_factory=dict)

    def of(self, fault: str, state: str) -> float:
        row = self.by_state.get(state) if state else None
        if row is not None:
            return row.get(fault, row.get("other", self.other))
        return self.by_fault.get(fault, self.other)


class Knowledge:
    """Everything that the files say, ready to be asked."""

    def __init__(
        self,
        priors: dict[str, Prior],
        codes: dict[str, Share],
        complaints: dict[str, Share],
        parts: dict[Part, tuple[Cause, ...]],
        origins: dict[Origin, float],
        elsewhere: dict[str, Elsewhere],
        checks: tuple[CheckFacts, ...],
        seen: dict[str, dict[str, Counter]],
    ):
        self.priors, self.codes, self.complaints = priors, codes, complaints
        self.parts, self.origins, self.elsewhere = parts, origins, elsewhere
        self.checks = checks
        #: CIRCUIT.STATE -> fault -> how often each set of findings came out
        self.seen = seen

    def check(self, name: str) -> CheckFacts | None:
        """The check of a slug, or of the name that older files use; None where there is none."""
        return next((one for one in self.checks if name in (one.slug, one.name)), None)

    def weights(self, faults: Iterable[str], role: str, *, correlated: bool = False) -> np.ndarray:
        """How common fault modes are in a circuit of a role, adding up to 1; `correlated`: with a correlation code."""
        crank = role == Role.CRANK and not correlated
        rows = [self.priors[one] for one in faults]
        weight = np.array([one.crank if crank and one.crank is not None else one.weight for one in rows])
        return weight / weight.sum() if len(weight) else weight


_LOCK = threading.RLock()
_ADDED: list[tuple[str, str]] = []
_KNOWN: list[Knowledge] = []


def extend_knowledge(text: str, where: str) -> None:
    """Add the tables of a TOML text to what is known; they are checked when knowledge is next asked for."""
    with _LOCK:
        _ADDED.append((where, text))
        _KNOWN.clear()


def knowledge() -> Knowledge:
    """All knowledge, read once; raises KnowledgeError with file and row."""
    with _LOCK:
        if not _KNOWN:
            load_extensions()
            _KNOWN.append(load_knowledge({name: _shipped(name) for name in SHIPPED}, [*_ADDED, *_own_files()]))
        return _KNOWN[0]


SHIPPED = ("priors.toml", "evidence.toml", "checks.toml", "seen.toml")


def load_knowledge(texts: dict[str, str], more: Iterable[tuple[str, str]] = ()) -> Knowledge:
    """Knowledge from the texts of the four files, by name, and from others (name, text).

    Raises
    ------
    KnowledgeError
        with the file, the table, and the nearest known word; also where a fault mode has no prior, or no counted row
        in a table of a circuit that can have it.
    """
    sources = [(name, _parsed(name, text)) for name, text in (*texts.items(), *more)]
    evidence_file, evidence = next((one for one in sources if one[0] == "evidence.toml"), ("evidence.toml", {}))
    _only(evidence_file, evidence, ("code", "complaint", "part", "origin", "elsewhere"))
    cautions: dict[str, str] = {}
    for where, data in sources:
        if where != evidence_file:
            _only(where, {key: None for key in data if "." not in key}, ("fault", "caution", "check"))
            cautions |= _cautions(where, data.get("caution", {}))
    priors, checks, seen = {}, [], {}
    for where, data in sources:
        if where == evidence_file:
            continue
        for name, row in _table(where, data, "fault").items():
            _known(where, f"[fault.{name}]", "fault", name, (SOUND, *all_faults()))
            priors[name] = _row(where, f"[fault.{name}]", Prior, row)
        rows = data.get("check", [])
        if not isinstance(rows, list):
            raise KnowledgeError(f"{where}: a check is written [[check]], with two brackets")
        for row in rows:
            checks.append(_check(where, row, cautions))
        for key, table in data.items():
            if "." in key:
                _counted(where, key, table, seen.setdefault(key, {}))
    _complete(priors, checks, seen)
    return Knowledge(
        priors,
        _shares(evidence_file, evidence, "code", (*CodeKind, *CODES_TOGETHER)),
        _shares(evidence_file, evidence, "complaint", Complaint),
        {Part(name): causes for name, causes in _parts(evidence_file, evidence)},
        {Origin(name): bad for name, bad in _origins(evidence_file, evidence)},
        _elsewhere(evidence_file, evidence),
        tuple(checks),
        seen,
    )


# reading ------------------------------------------------------------------------------------


def _shipped(name: str) -> str:
    try:
        return files("sagen.reason.knowledge").joinpath(name).read_text(encoding="utf-8")
    except OSError as error:
        raise KnowledgeError(f"{name}: {error}") from error


def _own_files() -> list[tuple[str, str]]:
    """The user's own knowledge files, by name."""
    from pathlib import Path

    import platformdirs

    folder = Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "knowledge"
    found = []
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        try:
            if path.is_file() and path.stat().st_size < 1 << 20:
                found.append((str(path), path.read_text(encoding="utf-8")))
        except (OSError, UnicodeDecodeError) as error:
            raise KnowledgeError(f"{path} cannot be read: {error}") from None
    return found


def _parsed(where: str, text: str) -> dict:
    try:
        return tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise KnowledgeError(f"{where}: {error}") from None


# checking -----------------------------------------------------------------------------------


def _known(where: str, table: str, what: str, name: str, known: Iterable[str]) -> None:
    if name not in set(known):
        raise KnowledgeError(f"{where}, {table}: {unknown_name(what, name, list(known))}")


def _only(where: str, data: dict, known: tuple[str, ...]) -> None:
    for key in data:
        if key not in known:
            raise KnowledgeError(f"{where}: {unknown_name('table', key, known)}")


def _table(where: str, data: dict, key: str) -> dict:
    table = data.get(key, {})
    if not isinstance(table, dict) or not all(isinstance(row, dict) for row in table.values()):
        raise KnowledgeError(f"{where}: [{key}] holds tables only, written [{key}.NAME]")
    return table


def _row(where: str, table: str, model: type[BaseModel], row: object):
    try:
        return model.model_validate(row)
    except ValidationError as error:
        raise KnowledgeError(f"{where}, {table}: {first_fault(error, model)}") from None


def _cautions(where: str, table: object) -> dict[str, str]:
    if not isinstance(table, dict) or not all(isinstance(one, str) and one for one in table.values()):
        raise KnowledgeError(f"{where}: [caution] holds sentences only")
    return table


def _check(where: str, row: object, cautions: dict[str, str]) -> CheckFacts:
    named = row.get("name", row.get("slug", "?")) if isinstance(row, dict) else "?"
    table = f"check '{named}'"
    if not isinstance(row, dict):
        raise KnowledgeError(f"{where}, {table}: a check is a table, written [[check]]")
    names = row.get("cautions", [])
    if not isinstance(names, list):
        raise KnowledgeError(f"{where}, {table}: cautions must be a list of names")
    for one in names:
        _known(where, table, "caution", str(one), cautions)
    made = _row(where, table, CheckFacts, {**row, "cautions": tuple(cautions[str(one)] for one in names)})
    if made.kind == CheckKind.LOOK and not made.outcome:
        raise KnowledgeError(f"{where}, {table}: a look needs at least one outcome")
    if made.kind == CheckKind.SWAP and made.part is None:
        raise KnowledgeError(f"{where}, {table}: a swap needs the part that is exchanged")
    return made


def _shares(where: str, data: dict, key: str, known) -> dict[str, Share]:
    out = {}
    for name, row in _table(where, data, key).items():
        _known(where, f"[{key}.{name}]", key, name, known)
        causes = {cause: share for cause, share in row.items() if cause not in ("seen", "other")}
        for cause in causes:
            _known(where, f"[{key}.{name}]", "cause", cause, Cause)
        told = {one: row[one] for one in ("seen", "other") if one in row}
        out[name] = _row(where, f"[{key}.{name}]", Share, {**told, "by_cause": causes})
    for name in known:
        if name not in out:
            raise KnowledgeError(f"{where}: there is no table [{key}.{name}]")
    return out


def _parts(where: str, data: dict):
    for name, row in _table(where, data, "part").items():
        _known(where, f"[part.{name}]", "part", name, Part)
        for cause in row.get("causes", ()):
            _known(where, f"[part.{name}]", "cause", cause, Cause)
        if set(row) != {"causes"}:
            raise KnowledgeError(f"{where}, [part.{name}]: needs causes, and nothing else")
        yield name, tuple(Cause(cause) for cause in row["causes"])


def _origins(where: str, data: dict):
    for name, row in _table(where, data, "origin").items():
        _known(where, f"[origin.{name}]", "origin", name, Origin)
        bad = row.get("bad")
        if set(row) != {"bad"} or not isinstance(bad, float) or not 0 <= bad <= 1:
            raise KnowledgeError(f"{where}, [origin.{name}]: needs bad, a probability, and nothing else")
        yield name, bad


def _elsewhere(where: str, data: dict) -> dict[str, Elsewhere]:
    out = {}
    for name, row in _table(where, data, "elsewhere").items():
        table = f"[elsewhere.{name}]"
        _known(where, table, "finding", name, FindingKind)
        by_state = {key: value for key, value in row.items() if isinstance(value, dict)}
        by_fault = {key: value for key, value in row.items() if key not in by_state and key != "other"}
        for state in by_state:
            _known(where, table, "state", state, State)
        for fault in (*by_fault, *(one for states in by_state.values() for one in states if one != "other")):
            _known(where, table, "fault", fault, all_faults())
        told = {"other": row["other"]} if "other" in row else {}
        out[name] = _row(where, table, Elsewhere, {**told, "by_fault": by_fault, "by_state": by_state})
    return out


def _counted(where: str, key: str, table: object, into: dict[str, Counter]) -> None:
    """One table of counted captures."""
    role, _, rest = key.partition(".")
    sensor, _, state = rest.partition(".")
    _known(where, f'["{key}"]', "role", role, CIRCUIT_ROLES)
    _known(where, f'["{key}"]', "sensor", sensor, SensorKind)
    _known(where, f'["{key}"]', "state", state, CAPTURE_STATES)
    if not isinstance(table, dict):
        raise KnowledgeError(f'{where}: ["{key}"] is not a table')
    for fault, row in table.items():
        _known(where, f'["{key}"]', "fault", fault, (SOUND, *all_faults()))
        if not isinstance(row, dict) or not row:
            raise KnowledgeError(f'{where}, ["{key}"] {fault}: nothing was counted')
        for found, times in row.items():
            for one in filter(None, found.split("+")):
                _known(where, f'["{key}"] {fault}', "finding", one.split(":")[0], FindingKind)
            if isinstance(times, bool) or not isinstance(times, int) or times < 1:
                raise KnowledgeError(f'{where}, ["{key}"] {fault}: {times!r} is not how often it was counted')
        into[fault] = Counter(row)


def _complete(priors: dict, checks: list[CheckFacts], seen: dict[str, dict[str, Counter]]) -> None:
    """Every fault mode has a prior, and a row in each table of a circuit that can have it; names are unique."""
    for fault in (SOUND, *all_faults()):
        if fault not in priors:
            raise KnowledgeError(f"priors.toml: there is no row [fault.{fault}]")
    for key, table in seen.items():
        role, sensor, _ = key.split(".")
        able = [one.slug for one in all_faults().values() if sensor in one.kinds and role in one.roles]
        for fault in (SOUND, *able):
            if fault not in table:
                raise KnowledgeError(f'seen.toml, ["{key}"]: there is no counted row for {fault}')
    slugs = [one.slug for one in checks]
    twice = next((one for one in slugs if slugs.count(one) > 1), None)
    if twice is not None:
        raise KnowledgeError(f"checks.toml: the check {twice} stands twice")
