"""A capture's sheet: what each channel is and under which conditions it was taken."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, field_validator

from sagen.model.errors import SheetError, unknown_name
from sagen.model.language import tr
from sagen.model.vocabulary import CAPTURE_STATES, Connection, Role, SensorKind, State, word
from sagen.model.wheel import Wheel


def one_of(kind, among: Iterable | None = None) -> BeforeValidator:
    """A word of a closed set, or of a part of one; what it is not is told with the nearest."""

    def check(value: object) -> object:
        try:
            return word(kind, value, "", among)
        except ValueError as error:
            raise ValueError(str(error).removeprefix(": ")) from None

    return BeforeValidator(check)


Positive = Annotated[float, Field(gt=0, allow_inf_nan=False)]


def _not_zero(value: float) -> float:
    if abs(value) < 1e-9:
        raise ValueError(tr("must not be zero"))
    return value


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class EngineSheet(_Table):
    cylinders: Annotated[int, Field(ge=1, le=24)] | None = None
    banks: Annotated[int, Field(ge=1, le=4)] | None = None
    #: teeth of the crank's belt or chain sprocket: turns a cam's shift into teeth
    sprocket: Annotated[int, Field(ge=8, le=120)] | None = None
    bore_mm: Annotated[Positive, Field(ge=20, le=400)] | None = None


class Conditions(_Table):
    state: Annotated[State, one_of(State, CAPTURE_STATES)] = State.CRANKING
    #: where on the signal wire the probe sat
    end: Literal["sensor", "module"] = "sensor"
    #: knock: whether the sensors were unplugged, under a load, or plugged into the module; None: not stated
    connection: Annotated[Connection, one_of(Connection)] | None = None
    #: knock: where it was struck, in free words
    place: Annotated[str, Field(min_length=1, max_length=60)] | None = None


class ChannelSheet(_Table):
    """One `[[channel]]` table. Voltages in volts, `shunt_ohm` in ohms."""

    column: Annotated[str, Field(min_length=1, max_length=200)]
    role: Annotated[Role, one_of(Role)] = Role.OTHER
    sensor: Annotated[SensorKind, one_of(SensorKind)] | None = None
    wheel: str | None = None
    pull_up: Annotated[Positive, Field(le=60)] | None = None
    shunt_ohm: Annotated[Positive, Field(ge=1e-6, le=1e6)] | None = None
    nominal: Annotated[Positive, Field(le=1000)] | None = None
    polarity: Literal["falling", "rising"] | None = None
    #: knock: what stands across the sensor besides the recorder
    load_ohm: Annotated[Positive, Field(le=1e9)] | None = None
    bank: Annotated[int, Field(ge=1, le=8)] | None = None
    factor: Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False), AfterValidator(_not_zero)] = 1.0

    @field_validator("column", "wheel", mode="before")
    @classmethod
    def _number_as_text(cls, value: object) -> object:
        # `column = 1` and `wheel = 48` mean the text; a person writes them without quotes.
        return str(value) if isinstance(value, int) and not isinstance(value, bool) else value

    @field_validator("wheel")
    @classmethod
    def _wheel_form(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                Wheel.parse(value)
            except SheetError as error:
                raise ValueError(str(error)) from None
        return value

    @property
    def declared_wheel(self) -> Wheel | None:
        return Wheel.parse(self.wheel) if self.wheel else None


class Sheet(_Table):
    reference: str | None = None
    engine: EngineSheet = EngineSheet()
    conditions: Conditions = Conditions()
    channel: tuple[ChannelSheet, ...] = ()

    def of(self, column: str) -> ChannelSheet | None:
        """The table of the channel named `column`, or None."""
        return next((item for item in self.channel if item.column == column), None)

    @classmethod
    def from_data(cls, data: dict, *, where: str = "sheet") -> Sheet:
        """Check a parsed TOML document.

        Raises
        ------
        SheetError
            names the file, the key and, for an unknown key, the nearest known one.
        """
        try:
            sheet = cls.model_validate(data)
        except ValidationError as error:
            raise SheetError(f"{where}: {_first_fault(error)}") from None
        columns = [item.column for item in sheet.channel]
        twice = next((name for name in columns if columns.count(name) > 1), None)
        if twice is not None:
            raise SheetError(tr("{where}: channel '{twice}' stands twice", where=where, twice=twice))
        return sheet


_TABLES = {"engine": EngineSheet, "conditions": Conditions, "channel": ChannelSheet}


def _first_fault(error: ValidationError) -> str:
    faults = error.errors(include_url=False)
    place = next((fault for fault in faults if fault["type"] == "extra_forbidden"), faults[0])["loc"]
    inside = f"in [{place[0]}], " if len(place) > 1 and place[0] in _TABLES else ""
    return inside + first_fault(error, _TABLES.get(str(place[0]), Sheet) if len(place) > 1 else Sheet)


def first_fault(error: ValidationError, table: type[BaseModel]) -> str:
    """The first thing wrong with a table, in words; an unknown key or value with the nearest known one."""
    faults = error.errors(include_url=False)
    # A misspelt key explains the one that is missing.
    fault = next((this_fault for this_fault in faults if this_fault["type"] == "extra_forbidden"), faults[0])
    place = [str(part) for part in fault["loc"]]
    if fault["type"] == "extra_forbidden":
        return unknown_name("key", place[-1], table.model_fields)
    if fault["type"] == "literal_error":
        known = [this_word.strip("'\" ") for this_word in fault["ctx"]["expected"].replace(" or ", ",").split(",")]
        return f"{'.'.join(place)}: {unknown_name('value', fault['input'], known)}"
    if fault["type"] == "missing":
        return tr("{place} is missing", place=".".join(place))
    said = fault["msg"].removeprefix("Value error, ")
    found = "" if str(fault["input"]) in said else tr(" (found {input})", input=repr(fault["input"])[:80])
    return f"{'.'.join(place)}: {said}{found}"
