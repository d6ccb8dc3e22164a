"""The knowledge files, checked when they are loaded: nothing that the program does not know the word for gets in.

`priors.toml`, `evidence.toml`, `checks.toml`, `shapes.toml`, `world.toml` and `board.toml` ship with the program; a person's own
files lie in `knowledge/` of the user's configuration folder, and extensions hand theirs to `extend_knowledge`. All may
hold the tables `[fault.X]`, `[caution]`, `[[check]]`, `[shape.X]` and `[comes_and_goes]`, and go through the same check.
"""

from __future__ import annotations

import math
import threading
import tomllib
from collections.abc import Iterable
from enum import StrEnum
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

import numpy as np
import platformdirs
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from sagen.kinds.kind import KINDS, kind_of, what_is_missing
from sagen.machine.faults import all_faults
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import KnowledgeError, unknown_name
from sagen.model.extensions import load_extensions
from sagen.model.language import Kept, later, said_now, tr
from sagen.model.sheet import first_fault, one_of
from sagen.model.vocabulary import (
    ABOUT_CAPTURE,
    CIRCUIT_ROLES,
    NOTHING_FOUND,
    Capability,
    Cause,
    CheckKind,
    CodeKind,
    CodesBack,
    Complaint,
    FindingKind,
    Gear,
    Occasion,
    Origin,
    Part,
    Place,
    Point,
    Role,
    State,
    can,
)

SOUND = "sound"  #: the slug of "nothing wrong in this circuit"
#: kinds of failure that several codes together tell of
CODES_TOGETHER = ("several",)

Probability = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]
Positive = Annotated[float, Field(gt=0, allow_inf_nan=False)]
#: words of a table, in the language that is spoken
Words = Annotated[str, Field(min_length=3), AfterValidator(tr)]


def cause_of(fault: str) -> Cause:
    """The cause that a fault mode belongs to; that of a sound circuit is `none`.

    Parameters
    ----------
    fault : str
        slug of a fault mode
    """
    return Cause.NONE if fault == SOUND else all_faults()[fault].cause


def title_of(fault: str) -> str:
    """A fault mode as it is said and written.

    Parameters
    ----------
    fault : str
        slug of a fault mode
    """
    return said_now(kept_title_of(fault))


def kept_title_of(fault: str) -> Kept:
    """The same, for a reader of any language."""
    return later("nothing wrong in this circuit") if fault == SOUND else later(all_faults()[fault].title)


class _Row(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Prior(_Row):
    """How common a fault mode is, and what to do about it; `crank` is the weight in a job about the crank sensor
    without a correlation code or a cam beside it; `by_work` is how many times commoner it is where its part was worked on;
    `begins_with` names the checks with which its repair begins."""

    weight: Positive
    part: Annotated[Part, one_of(Part)] | None = None
    do: Words
    crank: Positive | None = None
    by_work: Positive = 1.0
    begins_with: tuple[str, ...] = ()

    @field_validator("part", mode="before")
    @classmethod
    def _none(cls, value: object) -> object:
        return None if value == "" else value


class Share(_Row):
    """How often machines with a fault of each cause, or with a fault mode of its own row, show something."""

    seen: Words
    other: Probability
    by_cause: dict[Annotated[Cause, one_of(Cause)], Probability] = Field(default_factory=dict)
    by_fault: dict[str, Probability] = Field(default_factory=dict)

    def of(self, fault: str) -> float:
        return self.by_fault.get(fault, self.by_cause.get(cause_of(fault), self.other))


class Need(StrEnum):
    """What a check needs beside its gear."""

    RUNS = "runs"  #: the engine runs, or nobody knows that it does not
    WHEEL_GAP = "wheel_gap"  #: the wheel has a reference gap
    NO_WHEEL_GAP = "no_wheel_gap"
    PUBLISHED = "published"  #: ohms are published for the sensor
    CODE = "code"
    NO_SCOPE = "no_scope"
    BATTERY_FEED = "battery_feed"
    OWN_FEED = "own_feed"  #: the feed is the module's own, shared with other sensors
    REPAIRED = "repaired"  #: a part was changed in this job
    WEAK_SEEN = "weak_seen"  #: one sensor answered a tap more weakly than another


class Known(StrEnum):
    """What may be known of a case so that some checks are never asked; `askable.KNOWN` tells whether it is."""

    ENGINE_RUNS = "engine_runs"  #: it came in running, or was recorded so
    STARTER_STILL = "starter_still"  #: the starter does not turn it
    FEED_DEAD = "feed_dead"
    FEED_GOOD = "feed_good"
    FEED_GOOD_UNDER_LOAD = "feed_good_under_load"
    RETURN_GOOD_UNDER_LOAD = "return_good_under_load"
    RAILS_HELD = "rails_held"  #: while the signal was lost
    PULL_UP_GONE = "pull_up_gone"  #: nothing on the unplugged wire where a pull-up is stated
    PULL_UP_THERE = "pull_up_there"  #: all of a stated one
    ENDS_ALIKE = "ends_alike"  #: the signal at both ends of its wire
    WIRE_SEEN_THROUGH = "wire_seen_through"  #: for certain
    COIL_OPEN = "coil_open"
    BACK_AT_ONCE = "back_at_once"  #: a cleared code


class Never(_Row):
    """Checks that are never asked once something is known, and why."""

    known: Annotated[Known, one_of(Known)]
    checks: tuple[str, ...]
    why: Words


class LookedAt(NamedTuple):
    """The fault modes that something wrong at a thing would be, and those that a wire is which somebody saw through."""

    faults: tuple[str, ...]
    parted: tuple[str, ...] = ()


class Stakes(_Row):
    """What time and mistakes cost; see checks.toml."""

    minutes_a_bit: Positive
    wrong_repair: Positive
    come_back: Positive
    price_minutes: Positive
    scope_set_up: Annotated[float, Field(ge=0)]
    each_check: Annotated[float, Field(ge=0)]
    patience: Positive
    enough: Probability
    never_below: Probability
    outweighs: Positive
    outweighs_from: Probability
    survives: Probability
    sound_after_repair: Probability
    sound_for_now: Probability
    sound_elsewhere: Probability
    nothing_shows: Probability

    def must_save(self, p: float) -> float:
        """How many times what it takes a check must be foreseen to save to come before a repair of what is so likely.

        Parameters
        ----------
        p : float
            probability of the leading cause
        """
        return self.outweighs if p >= self.outweighs_from else 1.0


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
    place: Annotated[Place, one_of(Place)] | None = None
    needs: tuple[Annotated[Need, one_of(Need)], ...] = ()
    was: tuple[str, ...] = ()
    price: Annotated[float, Field(ge=0)] = 0.0
    part: Annotated[Part, one_of(Part)] | None = None
    sensor_can: tuple[Annotated[Capability, one_of(Capability)], ...] = ()
    roles: tuple[Annotated[Role, one_of(Role, CIRCUIT_ROLES)], ...] = ()
    outcome: dict[str, dict[str, Probability]] = Field(default_factory=dict)
    english: str = ""  #: the name as the table has it

    @model_validator(mode="before")
    @classmethod
    def _known_by_its_english_name(cls, data: dict) -> dict:
        """Files and older logs may name a check in English, whatever is spoken here."""
        return {**data, "english": data["name"]} if isinstance(data, dict) and "name" in data else data

    @property
    def kept_name(self) -> Kept:
        """The name, for a reader of any language."""
        return later(self.english)

    @field_validator("outcome")
    @classmethod
    def _faults(cls, value: dict) -> dict:
        for name, row in value.items():
            if "other" not in row:
                raise ValueError(tr("'{name}' says nothing of fault modes not named: 'other' is missing", name=name))
            for fault in row:
                if fault != "other" and fault not in all_faults():
                    raise ValueError(unknown_name("fault", fault, all_faults()))
        for fault in {item for row in value.values() for item in row}:
            shares = sum(row.get(fault, row["other"]) for row in value.values())
            if shares > 1 + 1e-9:
                raise ValueError(
                    tr(
                        "the outcomes of '{fault}' add up to {shares:g}: only one of them can come true",
                        fault=fault,
                        shares=shares,
                    )
                )
        return value

    def said(self, spec: CircuitSpec) -> str:
        """What to do, naming only the wires that a circuit has.

        Parameters
        ----------
        spec : CircuitSpec
            kind of sensor and its wires
        """
        return self.text.replace("{wires}", _wires(spec))

    def fits(self, spec: CircuitSpec) -> bool:
        return can(spec.sensor, *self.sensor_can) and (not self.roles or spec.role in self.roles)


def _wires(spec: CircuitSpec) -> str:
    part = kind_of(spec.sensor).part
    named = [tr("signal"), *([tr("feed")] if part.fed else []), *([tr("return")] if part.own_return else [])]
    return named[0] if len(named) == 1 else tr("{named} and {named_2}", named=", ".join(named[:-1]), named_2=named[-1])


class Shape(_Row):
    """How often a finding is made in the shape of a recording under each fault mode, also by state."""

    other: Probability
    by_fault: dict[str, Probability] = Field(default_factory=dict)
    by_state: dict[Annotated[State, one_of(State)], dict[str, Probability]] = Field(default_factory=dict)

    def of(self, fault: str, state: str) -> float:
        plain = self.by_fault.get(fault, self.other)
        return self.by_state.get(state, {}).get(fault, plain)

    def spoken_of(self) -> set[str]:
        """The fault modes that it names anywhere."""
        return set(self.by_fault) | {item for row in self.by_state.values() for item in row}


#: numbers of findings whose size tells something: those of a file, and how long a signal was lost
SIZED = ("offset_deg", "belt_teeth", "scatter_deg", "share", "depth", "length_s", "level_v")


class Size(_Row):
    """How large a number of a finding is under each fault mode: its middle, and how many times more or less is usual (the middle
    two thirds); `other` for those not named."""

    other: tuple[Positive, Positive]
    by_fault: dict[str, tuple[Positive, Positive]] = Field(default_factory=dict)

    def density(self, fault: str, value: float) -> float:
        """Density over the logarithm of a value.

        Parameters
        ----------
        fault : str
            slug
        value : float
            > 0, in the field's unit

        Returns
        -------
        float
            of a log-normal law; 1 / unit of the natural logarithm
        """
        middle, times = self.by_fault.get(fault, self.other)
        width = math.log(times)
        return math.exp(-0.5 * (math.log(value / middle) / width) ** 2) / (width * math.sqrt(2 * math.pi))


class Picture(_Row):
    """What is thought of recordings as such; see shapes.toml."""

    outside: Probability
    slip: Probability
    seconds: Positive


class PressedShares(NamedTuple):
    """What kind of picture is pressed for each that is on the screen; see board.toml."""

    labels: tuple[str, ...]  #: kinds of picture
    shares: np.ndarray  #: shape (on the screen, on the board), rows whose sum is 1


class Comings(_Row):
    """How often in a minute a fault that comes and goes shows: from the machine that hardly does to the one that always
    does; `times` in some states."""

    few: Positive
    many: Positive
    times: dict[Annotated[State, one_of(State)], Positive] = Field(default_factory=dict)


class Applies(_Row):
    """A caution by what a check does: all that is given must fit."""

    caution: str
    states: tuple[Annotated[State, one_of(State)], ...] = ()
    kinds: tuple[Annotated[CheckKind, one_of(CheckKind)], ...] = ()
    gears: tuple[Annotated[Gear, one_of(Gear)], ...] = ()
    slugs: tuple[str, ...] = ()

    def to(self, check: CheckFacts) -> bool:
        """Whether it applies to a check.

        Parameters
        ----------
        check : CheckFacts
            one row of the checks
        """
        asked = (
            (self.states, check.state),
            (self.kinds, check.kind),
            (self.gears, check.gear),
            (self.slugs, check.slug),
        )
        return all(not some or own in some for some, own in asked)


class Range(_Row):
    """Where a value that is not known may lie."""

    where: tuple[tuple[Probability, float, float], ...]
    scale: Literal["log", "linear"]
    reason: Annotated[str, Field(min_length=3)]
    sensor_can: tuple[Annotated[Capability, one_of(Capability)], ...] = ()
    part: Annotated[Part, one_of(Part)] | None = None

    @field_validator("where")
    @classmethod
    def _shares(cls, value: tuple) -> tuple:
        if not value or abs(sum(item[0] for item in value) - 1.0) > 1e-9:
            raise ValueError(tr("the shares of its ranges do not add up to 1"))
        if any(low > high for _, low, high in value):
            raise ValueError(tr("a range is written low first"))
        return value

    def at(self, place: np.ndarray) -> np.ndarray:
        """Values for places from 0 to 1, shape as they are."""
        if len(self.where) == 1:
            (_, low, high), within = self.where[0], place
        else:
            shares = np.array([item[0] for item in self.where])
            begins = np.concatenate([[0.0], np.cumsum(shares)[:-1]])
            which = np.clip(np.searchsorted(begins, place, "right") - 1, 0, len(shares) - 1)
            within = np.clip((place - begins[which]) / np.maximum(shares[which], 1e-12), 0.0, 1.0)
            low, high = (np.array([item[k] for item in self.where])[which] for k in (1, 2))
        return low * np.exp(np.log(high / low) * within) if self.scale == "log" else low + (high - low) * within


class Knowledge:
    """Everything that the files say, ready to be asked."""

    def __init__(
        self,
        priors: dict[str, Prior],
        codes: dict[str, Share],
        complaints: dict[str, Share],
        comes: dict[str, Share],
        codes_back: dict[str, Share],
        parts: dict[Part, tuple[Cause, ...]],
        origins: dict[Origin, float],
        checks: tuple[CheckFacts, ...],
        shapes: dict[str, Shape],
        comings: dict[str, Comings],
        picture: Picture,
        world: dict[str, Range],
        inspected: dict[str, LookedAt],
        stakes: Stakes,
        places: dict[Place, float],
        orders: dict[Role, tuple[str, ...]],
        cautions: dict[str, str],
        never: tuple[Never, ...],
        sizes: dict[tuple[str, str], Size],
        pressed: dict[str, PressedShares],
    ):
        self.priors, self.codes, self.complaints = priors, codes, complaints
        self.comes, self.codes_back = comes, codes_back
        self.parts, self.origins = parts, origins
        self.checks = checks
        self.shapes, self.comings, self.picture = shapes, comings, picture
        #: value of the circuit -> where it may lie
        self.world = world
        #: what can be looked at in free words -> the fault modes that something wrong there would be
        self.inspected = inspected
        self.stakes, self.places = stakes, places
        self.never = never
        #: finding and its field -> how large that is under each fault mode
        self.sizes = sizes
        #: by role, the checks that are done one after the other whatever each would save
        self.orders = orders
        self.cautions = cautions  #: sentences by name
        #: by kind of sensor, what an eye takes the pictures of a board for
        self.pressed = pressed
        self._louder: dict[tuple[str, str], dict[str, float]] = {}

    def louder(self, finding: str, state: str) -> dict[str, float]:
        """By fault mode, how often it makes a finding in the shape of a recording; of those only that do so more often than any.

        Parameters
        ----------
        finding : str
            its label
        state : str
            by name
        """
        key = (finding, str(state))
        if key not in self._louder:
            shape = self.shapes[finding]
            shares = {fault: shape.of(fault, state) for fault in shape.spoken_of()}
            self._louder[key] = {fault: share for fault, share in shares.items() if share > shape.other}
        return self._louder[key]

    def check(self, name: str) -> CheckFacts | None:
        """The check of a slug, or of the name that older files use; None where there is none.

        Parameters
        ----------
        name : str
            slug, or an older name
        """
        return next(
            (check for check in self.checks if name in (check.slug, check.name, check.english, *check.was)), None
        )

    def cured_by(self, part: Part) -> frozenset[str]:
        """The fault modes that leave with a part, or are put right at it.

        Parameters
        ----------
        part : Part
            what is changed or mended
        """
        causes = self.parts.get(part, ())
        return frozenset(
            fault for fault, prior in self.priors.items()
            if fault != SOUND and (cause_of(fault) in causes or prior.part == part)
        )  # fmt: skip

    def weights(self, faults: Iterable[str], role: str, *, correlated: bool = False) -> np.ndarray:
        """How common fault modes are in a circuit of a role, adding up to 1; `correlated`: with a correlation code.

        Parameters
        ----------
        faults : iterable of str
            slugs
        role : str
            of the circuit
        correlated : bool
            see above

        Returns
        -------
        ndarray, shape (faults,)
        """
        crank = role == Role.CRANK and not correlated
        rows = [self.priors[fault] for fault in faults]
        weight = np.array([row.crank if crank and row.crank is not None else row.weight for row in rows])
        return weight / weight.sum() if len(weight) else weight


_LOCK = threading.RLock()
_ADDED: list[tuple[str, str]] = []
_KNOWN: list[Knowledge] = []


def extend_knowledge(text: str, where: str) -> None:
    """Add the tables of a TOML text to what is known; they are checked when knowledge is next asked for.

    Parameters
    ----------
    text : str
        TOML
    where : str
        the file that an error names
    """
    with _LOCK:
        _ADDED.append((where, text))
        _KNOWN.clear()


def knowledge() -> Knowledge:
    """All knowledge, read once; raises KnowledgeError with file and row."""
    with _LOCK:
        if not _KNOWN:
            load_extensions()
            missing = what_is_missing(KINDS, KINDS, all_faults().values())
            if missing:
                raise KnowledgeError(f"kinds of sensor: {'; '.join(missing)}")
            _KNOWN.append(load_knowledge({name: _shipped(name) for name in SHIPPED}, [*_ADDED, *_own_files()]))
        return _KNOWN[0]


SHIPPED = ("priors.toml", "evidence.toml", "checks.toml", "shapes.toml", "world.toml", "board.toml")


def load_knowledge(texts: dict[str, str], more: Iterable[tuple[str, str]] = ()) -> Knowledge:
    """Knowledge from the texts of the shipped files, by name, and from others (name, text).

    Raises
    ------
    KnowledgeError
        with the file, the table, and the nearest known word; also where a fault mode has no prior, or nothing
        would ever tell of it.

    Parameters
    ----------
    texts : dict
        file name to TOML text
    more : iterable of (str, str)
        file name and TOML text of those that were added
    """
    sources = [(name, _parsed(name, text)) for name, text in (*texts.items(), *more)]
    evidence_file, evidence = next((item for item in sources if item[0] == "evidence.toml"), ("evidence.toml", {}))
    _only(evidence_file, evidence, ("code", "complaint", "comes", "codes_back", "part", "origin", "looked"))
    world_file, world_data = next((item for item in sources if item[0] == "world.toml"), ("world.toml", {}))
    _only(world_file, world_data, ("value",))
    rows = _Tables([item for item in sources if item[0] not in (evidence_file, world_file)])
    _complete(rows.priors, rows.checks, rows.shapes, rows.comings)
    return Knowledge(
        rows.priors,
        _shares(evidence_file, evidence, "code", (*CodeKind, *CODES_TOGETHER)),
        _shares(evidence_file, evidence, "complaint", Complaint),
        _shares(evidence_file, evidence, "comes", Occasion),
        _shares(evidence_file, evidence, "codes_back", CodesBack),
        {Part(name): causes for name, causes in _parts(evidence_file, evidence)},
        {Origin(name): bad for name, bad in _origins(evidence_file, evidence)},
        tuple(rows.checks),
        rows.shapes,
        rows.comings,
        rows.picture,
        _rows(world_file, world_data, "value", Range),
        {name: _inspected(evidence_file, name, row) for name, row in _table(evidence_file, evidence, "looked").items()},
        rows.stakes,
        rows.places,
        {name: _checks_named(where, name, row, rows.checks) for name, (where, row) in rows.orders.items()},
        rows.cautions,
        tuple(rows.never),
        rows.sizes,
        rows.pressed,
    )


class _Tables:
    """The tables that any knowledge file may hold, of all of them; what stands in a later file goes over an earlier one."""

    TABLES = (
        "fault",
        "caution",
        "applies",
        "check",
        "shape",
        "comes_and_goes",
        "picture",
        "place",
        "stakes",
        "order",
        "never",
        "size",
        "pressed",
    )

    def __init__(self, sources: list[tuple[str, dict]]):
        self.priors: dict[str, Prior] = {}
        self.cautions: dict[str, str] = {}
        self.checks: list[CheckFacts] = []
        self.shapes: dict[str, Shape] = {}
        self.comings: dict[str, Comings] = {}
        self.places: dict[Place, float] = {}
        self.orders: dict[Role, tuple[str, object]] = {}
        self.never: list[Never] = []
        self.sizes: dict[tuple[str, str], Size] = {}
        self.pressed: dict[str, PressedShares] = {}
        for where, data in sources:
            _only(where, data, self.TABLES)
            self.cautions |= _cautions(where, data.get("caution", {}))
        # A caution may stand in a later file than the row that applies it, and both may than the check.
        applies = [item for where, data in sources for item in self._applies(where, data)]
        for where, data in sources:
            self._add(where, data, applies)
        for where, data in sources:
            self.never += self._never(where, data)
        self.picture = self._only_one(sources, "shapes.toml", "picture", Picture)
        self.stakes = self._only_one(sources, "checks.toml", "stakes", Stakes)
        missing = next((place for place in Place if place not in self.places), None)
        if missing is not None:
            raise KnowledgeError(f"checks.toml, [place]: there is no {missing}")

    def _applies(self, where: str, data: dict) -> list[Applies]:
        found = []
        for row in data.get("applies", []):
            named = row.get("caution", "?") if isinstance(row, dict) else "?"
            found.append(_row(where, f"[[applies]] {named}", Applies, row))
            _known("checks.toml", "[[applies]]", "caution", found[-1].caution, self.cautions)
        return found

    def _never(self, where: str, data: dict) -> list[Never]:
        found = []
        for row in data.get("never", []):
            found.append(
                _row(where, f"[[never]] {row.get('known', '?') if isinstance(row, dict) else '?'}", Never, row)
            )
            for slug in found[-1].checks:
                _known(where, "[[never]]", "check", slug, [check.slug for check in self.checks])
        return found

    def _add(self, where: str, data: dict, applies: list[Applies]) -> None:
        faults = _table(where, data, "fault")
        for name in faults:
            _known(where, f"[fault.{name}]", "fault", name, (SOUND, *all_faults()))
        self.priors |= _rows(where, data, "fault", Prior)
        rows = data.get("check", [])
        if not isinstance(rows, list):
            raise KnowledgeError(f"{where}: a check is written [[check]], with two brackets")
        self.checks += [_check(where, row, self.cautions, applies) for row in rows]
        for name, row in _table(where, data, "shape").items():
            self.shapes[name] = _shape(where, name, row, self.shapes.get(name))
        for name, fields in _table(where, data, "size").items():
            self.sizes |= _sizes(where, name, fields)
        self.pressed |= {name: _pressed(where, name, rows) for name, rows in _table(where, data, "pressed").items()}
        self.comings |= _comings(where, data.get("comes_and_goes", {}))
        self.places |= dict(_place_minutes(where, data.get("place", {})))
        self.orders |= {name: (where, row) for name, row in _orders(where, data.get("order", {}))}

    def _only_one(self, sources: list[tuple[str, dict]], home: str, name: str, model: type[BaseModel]):
        """The row of a table that stands once, of the last file that has it."""
        found = [_row(where, f"[{name}]", model, data[name]) for where, data in sources if name in data]
        if not found:
            raise KnowledgeError(f"{home}: there is no table [{name}]")
        return found[-1]


# reading ------------------------------------------------------------------------------------


def _shipped(name: str) -> str:
    try:
        return files("sagen.reason.knowledge").joinpath(name).read_text(encoding="utf-8")
    except OSError as error:
        raise KnowledgeError(f"{name}: {error}") from error


def _own_files() -> list[tuple[str, str]]:
    """The user's own knowledge files, by name."""
    folder = Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "knowledge"
    found = []
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        try:
            if path.is_file() and path.stat().st_size < 1 << 20:
                found.append((str(path), path.read_text(encoding="utf-8")))
        except (OSError, UnicodeDecodeError) as error:
            raise KnowledgeError(tr("{own} cannot be read: {error}", own=path, error=error)) from None
    return found


def _parsed(where: str, text: str) -> dict:
    try:
        return tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # numbers of thousands of digits, too
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


def _rows(where: str, data: dict, key: str, model: type[BaseModel]) -> dict:
    return {name: _row(where, f"[{key}.{name}]", model, row) for name, row in _table(where, data, key).items()}


def _cautions(where: str, table: object) -> dict[str, str]:
    if not isinstance(table, dict) or not all(isinstance(item, str) and item for item in table.values()):
        raise KnowledgeError(f"{where}: [caution] holds sentences only")
    return {name: tr(sentence) for name, sentence in table.items()}


def _check(where: str, row: object, cautions: dict[str, str], applies: list[Applies]) -> CheckFacts:
    named = row.get("name", row.get("slug", "?")) if isinstance(row, dict) else "?"
    table = tr("check '{named}'", named=named)
    if not isinstance(row, dict):
        raise KnowledgeError(f"{where}, {table}: a check is a table, written [[check]]")
    names = row.get("cautions", [])
    if not isinstance(names, list):
        raise KnowledgeError(f"{where}, {table}: cautions must be a list of names")
    for this_name in names:
        _known(where, table, "caution", str(this_name), cautions)
    made = _row(where, table, CheckFacts, {**row, "cautions": tuple(cautions[str(name)] for name in names)})
    own = [cautions[item.caution] for item in applies if item.to(made)]
    made = made.model_copy(update={"cautions": tuple(dict.fromkeys((*own, *made.cautions)))})
    if made.kind == CheckKind.LOOK and not made.outcome:
        raise KnowledgeError(f"{where}, {table}: a look needs at least one outcome")
    if made.kind == CheckKind.SWAP and made.part is None:
        raise KnowledgeError(f"{where}, {table}: a swap needs the part that is exchanged")
    return made


def _place_minutes(where: str, table: object):
    if not isinstance(table, dict):
        raise KnowledgeError(f"{where}: [place] is not a table")
    for name, minutes in table.items():
        _known(where, "[place]", "place", name, Place)
        if isinstance(minutes, bool) or not isinstance(minutes, int | float) or not 0 <= minutes <= 10_000:
            raise KnowledgeError(f"{where}, [place] {name}: {minutes!r} is not a number of minutes")
        yield Place(name), float(minutes)


def _orders(where: str, table: object):
    if not isinstance(table, dict):
        raise KnowledgeError(f"{where}: [order] is not a table")
    for name, row in table.items():
        _known(where, "[order]", "role", name, CIRCUIT_ROLES)
        if not isinstance(row, list) or not all(isinstance(item, str) for item in row):
            raise KnowledgeError(f"{where}, [order] {name}: not a list of checks")
        yield Role(name), tuple(row)


def _checks_named(where: str, name: str, row: tuple[str, ...], checks: list[CheckFacts]) -> tuple[str, ...]:
    for item in row:
        _known(where, f"[order] {name}", "check", item, [check.slug for check in checks])
    return row


def _shares(where: str, data: dict, key: str, known) -> dict[str, Share]:
    out = {}
    for name, row in _table(where, data, key).items():
        _known(where, f"[{key}.{name}]", key, name, known)
        shares = {this_key: share for this_key, share in row.items() if this_key not in ("seen", "other")}
        causes = {this_key: share for this_key, share in shares.items() if this_key in set(Cause)}
        modes = {this_key: share for this_key, share in shares.items() if this_key not in causes}
        for mode in modes:
            _known(where, f"[{key}.{name}]", "cause or fault", mode, (*Cause, *all_faults()))
        told = {this_name: row[this_name] for this_name in ("seen", "other") if this_name in row}
        out[name] = _row(where, f"[{key}.{name}]", Share, {**told, "by_cause": causes, "by_fault": modes})
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


def _inspected(where: str, name: str, row: dict) -> LookedAt:
    if (
        "faults" not in row
        or not set(row) <= set(LookedAt._fields)
        or not all(isinstance(x, list) for x in row.values())
    ):
        raise KnowledgeError(f"{where}, [looked.{name}]: needs faults, may have parted, and nothing else")
    for fault in (*row["faults"], *row.get("parted", ())):
        _known(where, f"[looked.{name}]", "fault", str(fault), all_faults())
    return LookedAt(tuple(row["faults"]), tuple(row.get("parted", ())))


def _shape(where: str, name: str, row: dict, known: Shape | None) -> Shape:
    """One table of shares; a later file adds to an earlier one's."""
    table = f"[shape.{name}]"
    _known(where, table, "finding", name, FindingKind)
    by_state = {key: value for key, value in row.items() if isinstance(value, dict)}
    by_fault = {key: value for key, value in row.items() if key not in by_state and key != "other"}
    for state in by_state:
        _known(where, table, "state", state, State)
    for fault in (*by_fault, *(this_state for states in by_state.values() for this_state in states)):
        _known(where, table, "fault", fault, all_faults())
    told = {"other": row["other"]} if "other" in row else ({"other": known.other} if known else {})
    if known:
        by_fault = {**known.by_fault, **by_fault}
        by_state = {**known.by_state, **by_state}
    return _row(where, table, Shape, {**told, "by_fault": by_fault, "by_state": by_state})


def _sizes(where: str, finding: str, fields: dict) -> dict[tuple[str, str], Size]:
    _known(where, f"[size.{finding}]", "finding", finding, FindingKind)
    found = {}
    for field, row in fields.items():
        table = f"[size.{finding}.{field}]"
        _known(where, table, "field", field, SIZED)
        if not isinstance(row, dict):
            raise KnowledgeError(f"{where}, {table}: is a table of fault modes")
        by_fault = {key: value for key, value in row.items() if key != "other"}
        for fault in by_fault:
            _known(where, table, "fault", fault, all_faults())
        told = {"other": row["other"]} if "other" in row else {}
        found[finding, field] = _row(where, table, Size, {**told, "by_fault": by_fault})
    return found


def _pressed(where: str, sensor: str, rows: dict) -> PressedShares:
    """One table of presses: a row for each kind of picture, of which every cell is one as well."""
    table = f"[pressed.{sensor}]"
    _known(where, table, "kind of sensor", sensor, KINDS)
    for label in rows:
        _known(where, table, "kind of picture", label.partition(":")[0], (NOTHING_FOUND, *FindingKind))
    labels, shares = tuple(rows), np.zeros((len(rows), len(rows)))
    for at, (label, row) in enumerate(rows.items()):
        if not isinstance(row, dict):
            raise KnowledgeError(f"{where}, {table}: {label} is a table of shares")
        for other, share in row.items():
            _known(where, f"{table} {label}", "kind of picture", other, labels)
            if isinstance(share, bool) or not isinstance(share, int | float) or not 0 <= share <= 1:
                raise KnowledgeError(f"{where}, {table} {label}: {other} is no share from 0 to 1")
            shares[at, labels.index(other)] = share
        if not shares[at].sum() > 0:
            raise KnowledgeError(f"{where}, {table}: {label} is taken for nothing")
    return PressedShares(labels, shares / shares.sum(axis=1, keepdims=True))


def _comings(where: str, table: object) -> dict[str, Comings]:
    if not isinstance(table, dict):
        raise KnowledgeError(f"{where}: [comes_and_goes] is not a table")
    states = {key: value for key, value in table.items() if isinstance(value, dict)}
    out = {}
    for state, row in states.items():
        _known(where, "[comes_and_goes]", "state", state, State)
        for fault in row:
            _known(where, f"[comes_and_goes.{state}]", "fault", fault, [item for item in table if item not in states])
    for fault, pair in table.items():
        if fault in states:
            continue
        _known(where, "[comes_and_goes]", "fault", fault, all_faults())
        if not isinstance(pair, list) or len(pair) != 2:
            raise KnowledgeError(f"{where}, [comes_and_goes] {fault}: needs two numbers, few and many")
        times = {state: row[fault] for state, row in states.items() if fault in row}
        out[fault] = _row(
            where, f"[comes_and_goes] {fault}", Comings, {"few": pair[0], "many": pair[1], "times": times}
        )
    return out


def _complete(priors: dict, checks: list[CheckFacts], shapes: dict[str, Shape], comings: dict[str, Comings]) -> None:
    """Every fault mode has a prior and something that tells of it; every finding has a table; names are unique."""
    named = {item for shape in shapes.values() for item in shape.spoken_of()} | set(comings)
    named |= {fault for check in checks for row in check.outcome.values() for fault in row}
    for fault in (SOUND, *all_faults()):
        if fault not in priors:
            raise KnowledgeError(f"priors.toml: there is no row [fault.{fault}]")
        if fault != SOUND and not all_faults()[fault].computed and fault not in named:
            raise KnowledgeError(f"shapes.toml: nothing would ever tell of {fault}: no shape and no check names it")
    for kind in FindingKind:
        if kind not in ABOUT_CAPTURE and kind not in shapes:
            raise KnowledgeError(f"shapes.toml: there is no table [shape.{kind}]")
    slugs = [check.slug for check in checks]
    twice = next((slug for slug in slugs if slugs.count(slug) > 1), None)
    if twice is not None:
        raise KnowledgeError(f"checks.toml: the check {twice} stands twice")
    for fault, prior in priors.items():
        for slug in prior.begins_with:
            _known("priors.toml", f"[fault.{fault}] begins_with", "check", slug, slugs)
