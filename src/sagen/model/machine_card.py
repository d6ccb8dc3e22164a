"""What is known of one kind of machine: its circuits with wires, pins, place, published values and relearn.

A card is checked when it is made. It is exchanged as a TOML file (`files/cards.py`) and kept on the shelf; a job keeps
the card as it was when it was put on its trail.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SheetError
from sagen.model.language import tr, worded
from sagen.model.sheet import first_fault, one_of
from sagen.model.vocabulary import (
    CIRCUIT_ROLES,
    CardQuantity,
    Place,
    Position,
    RelearnKind,
    Role,
    SensorKind,
    State,
    WireIs,
)
from sagen.model.words import card_points

MOST_CIRCUITS, MOST_WIRES, MOST_ROWS = 60, 16, 200
Short = Annotated[str, Field(max_length=120)]
Name = Annotated[str, Field(min_length=1, max_length=60), AfterValidator(lambda text: text.strip())]
Words = Annotated[str, Field(max_length=2000)]
#: finite and no larger than any meter shows
Figure = Annotated[float, Field(ge=-1e12, le=1e12, allow_inf_nan=False)]
Minutes = Annotated[float, Field(ge=0, le=100_000, allow_inf_nan=False)]
Degrees = Annotated[float, Field(ge=-60, le=250, allow_inf_nan=False)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Wire(_Table):
    """One wire of a circuit, from the sensor's plug to the module's."""

    carries: Annotated[WireIs, one_of(WireIs)] = WireIs.OTHER
    colour: Short = ""
    sensor_pin: Annotated[str, Field(max_length=20)] = ""
    module_pin: Annotated[str, Field(max_length=20)] = ""
    #: names of circuits that hang on the same wire
    shared_with: tuple[Name, ...] = ()
    fuse: Short = ""
    fuse_place: Short = ""

    @property
    def called(self) -> str:
        """Pin and colour, as "pin 2, green"; "" where neither is known."""
        return ", ".join(
            [
                *([tr("pin {sensor_pin}", sensor_pin=self.sensor_pin)] if self.sensor_pin else []),
                *([self.colour] if self.colour else []),
            ]
        )


class Published(_Table):
    """One published value: between which points, in which state, from `low` to `high` at a temperature; or a table over
    temperature, rows of (degC, low, high)."""

    between: Annotated[tuple[Name, ...], Field(min_length=1, max_length=2)]
    state: Annotated[State, one_of(State)] | None = None
    when: Short = ""  #: what a state does not say: "closed", "at 5000 rpm"
    quantity: Annotated[CardQuantity, one_of(CardQuantity)] = CardQuantity.OHM
    low: Figure | None = None
    high: Figure | None = None
    at: Degrees | None = None
    over: tuple[tuple[Degrees, Figure, Figure], ...] = ()
    maker: Short = ""  #: for which maker of the part; "" for all

    @model_validator(mode="after")
    def _limits(self) -> Published:
        if self.over:
            if self.low is not None or self.high is not None:
                raise ValueError(tr("either low and high, or a table over temperature"))
            degrees = [item[0] for item in self.over]
            if len(self.over) < 2 or any(b <= a for a, b in pairwise(degrees)):
                raise ValueError(tr("over: two rows at least, the temperatures climbing"))
            if any(low > high for _, low, high in self.over):
                raise ValueError(tr("over: the lower limit first"))
        elif self.low is None and self.high is None:
            raise ValueError(tr("low, high or both are missing"))
        elif self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(tr("low is above high"))
        return self

    @property
    def where(self) -> str:
        """Between which points, and in which state, in words."""
        place = card_points(self.between)
        state = worded(str(self.state)) if self.state else ""
        return ", ".join(
            item
            for item in (
                tr("between {place}", place=place) if len(self.between) == 2 else tr("at {place}", place=place),
                state,
                self.when,
            )
            if item
        )


class RelearnStep(_Table):
    """One step of a driven relearn: at a speed for so many minutes."""

    text: Short = ""
    speed_kmh: Annotated[float, Field(ge=0, le=400)] | None = None
    rpm: Annotated[float, Field(ge=0, le=20_000)] | None = None
    minutes: Annotated[float, Field(gt=0, le=600)]


class Relearn(_Table):
    """What has to be taught again after a part was changed."""

    kind: Annotated[RelearnKind, one_of(RelearnKind)] = RelearnKind.NONE
    text: Words = ""
    cycles: Annotated[int, Field(ge=1, le=100)] | None = None  #: key cycles
    minutes: Minutes | None = None  #: of idling
    steps: tuple[RelearnStep, ...] = ()


class CardCircuit(_Table):
    """One circuit of the machine. `role` is `other` for what is no speed, position or knock sensor."""

    name: Name
    role: Annotated[Role, one_of(Role, (*CIRCUIT_ROLES, Role.OTHER))] = Role.OTHER
    sensor: Annotated[SensorKind, one_of(SensorKind)] | None = None
    bank: Annotated[int, Field(ge=1, le=4)] | None = None
    position: Annotated[Position, one_of(Position)] | None = None
    number: Annotated[int, Field(ge=1, le=4)] | None = None
    supply: Annotated[float, Field(gt=0, le=60)] | None = None
    pull_up: Annotated[float, Field(gt=0, le=60)] | None = None
    wheel: Annotated[str, Field(max_length=80)] | None = None
    polarity: Literal["falling", "rising"] | None = None
    place: Words = ""
    photo: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$|^$")] = ""
    #: from which side the plug's face is drawn, and its rows of pins as seen from there
    face: Literal["harness", "sensor"] = "harness"
    pins: tuple[tuple[Annotated[str, Field(max_length=20)], ...], ...] = ()
    torque_nm: Annotated[float, Field(gt=0, le=2000)] | None = None
    relearn: Relearn | None = None
    access: dict[Annotated[Place, one_of(Place)], Minutes] = Field(default_factory=dict)
    wire: Annotated[tuple[Wire, ...], Field(max_length=MOST_WIRES)] = ()
    published: Annotated[tuple[Published, ...], Field(max_length=MOST_ROWS)] = ()

    @model_validator(mode="after")
    def _whole(self) -> CardCircuit:
        if self.wheel is not None and self.spec is None and self.role in CIRCUIT_ROLES:
            raise ValueError(tr("wheel '{wheel}' is none", wheel=self.wheel))
        pins = [item.sensor_pin for item in self.wire if item.sensor_pin]
        twice = next((pin for pin in pins if pins.count(pin) > 1), None)
        if twice is not None:
            raise ValueError(tr("pin {twice} stands twice", twice=twice))
        return self

    def wire_of(self, carries: str) -> Wire | None:
        """The wire that carries something; None where the card has none."""
        return next((item for item in self.wire if item.carries == carries), None)

    @property
    def shown_pins(self) -> tuple[tuple[str, ...], ...]:
        """The rows of the plug's face as seen from the side that it is drawn from; one row of the wires' pins where
        nothing is stated."""
        return self.pins or (tuple(item.sensor_pin for item in self.wire if item.sensor_pin),)

    def seen_from(self, side: str) -> tuple[tuple[str, ...], ...]:
        """The plug's face from either side: from the other one it is mirrored."""
        return self.shown_pins if side == self.face else tuple(row[::-1] for row in self.shown_pins)

    @property
    def ohms(self) -> tuple[float, float] | None:
        """The published ohms across the sensor at 20 degC, of whichever makers together; None where there are none."""
        signal = {item.sensor_pin for item in self.wire if item.carries in (WireIs.SIGNAL, WireIs.GROUND, WireIs.COIL)} | {
            "signal", "ground", "coil",
        }  # fmt: skip
        rows = [
            item for item in self.published
            if item.quantity == CardQuantity.OHM and item.low and item.high and item.at in (None, 20.0)
            and len(item.between) == 2 and set(item.between) <= signal and item.low < item.high
        ]  # fmt: skip
        return (min(row.low for row in rows), max(row.high for row in rows)) if rows else None

    @property
    def spec(self) -> CircuitSpec | None:
        """The circuit as the model knows it; None for one that it does not know, or whose kind of sensor is not stated."""
        if self.role not in CIRCUIT_ROLES or self.sensor is None:
            return None
        wires = sum(item.carries in (WireIs.SUPPLY, WireIs.SIGNAL, WireIs.GROUND, WireIs.COIL) for item in self.wire)
        try:
            return CircuitSpec(
                role=self.role, sensor=self.sensor, bank=self.bank, position=self.position, supply=self.supply,
                pull_up=self.pull_up, wheel=self.wheel, wires=wires if wires in (2, 3) else None,
                ohms=self.ohms,
            )  # fmt: skip
        except ValidationError:
            return None


class CardCode(_Table):
    """A code of this machine alone: a blink number, or the maker's five digits."""

    code: Annotated[str, Field(min_length=1, max_length=20)]
    circuit: Name
    means: Short = ""


class MachineCard(_Table):
    """One kind of machine."""

    make: Short = ""
    model: Name
    engine: Short = ""
    years: Short = ""
    volts: Literal[6, 12, 24, 48] = 12
    cylinders: Annotated[int, Field(ge=1, le=24)] | None = None
    banks: Annotated[int, Field(ge=1, le=4)] | None = None
    firing: tuple[Annotated[int, Field(ge=1, le=24)], ...] = ()
    bore_mm: Annotated[float, Field(ge=20, le=400)] | None = None
    note: Words = ""
    access: dict[Annotated[Place, one_of(Place)], Minutes] = Field(default_factory=dict)
    code: Annotated[tuple[CardCode, ...], Field(max_length=MOST_ROWS)] = ()
    circuit: Annotated[tuple[CardCircuit, ...], Field(max_length=MOST_CIRCUITS)] = ()

    @model_validator(mode="after")
    def _whole(self) -> MachineCard:
        names = [item.name for item in self.circuit]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(tr("circuit '{twice}' stands twice", twice=twice))
        for each in self.code:
            if each.circuit not in names:
                raise ValueError(
                    tr(
                        "code {code} is of circuit '{circuit}', which is not on the card",
                        code=each.code,
                        circuit=each.circuit,
                    )
                )
        for circuit in self.circuit:
            for wire in circuit.wire:
                for other in wire.shared_with:
                    if other not in names:
                        raise ValueError(
                            tr(
                                "'{name}' shares a wire with '{other}', which is not on the card",
                                name=circuit.name,
                                other=other,
                            )
                        )
        if self.firing and (self.cylinders is None or sorted(self.firing) != list(range(1, self.cylinders + 1))):
            raise ValueError(tr("firing: names each cylinder once, and the cylinders are stated"))
        return self

    @property
    def title(self) -> str:
        """Make, model and engine in one line."""
        return " ".join(item for item in (self.make, self.model, self.engine) if item)

    def of(self, name: str) -> CardCircuit | None:
        """The circuit of a name; None where there is none."""
        return next((item for item in self.circuit if item.name == name), None)

    def minutes(self, circuit: str = "") -> dict[str, float]:
        """Minutes to get at each place: the circuit's own over the machine's."""
        own = self.of(circuit)
        return {str(key): value for key, value in {**self.access, **(own.access if own else {})}.items()}

    def circuit_of_code(self, code: str) -> CardCode | None:
        """What the card says of a code; None where it has none such."""
        plain = code.strip().upper()
        return next((item for item in self.code if item.code.strip().upper() == plain), None)

    def shares(self, carries: str) -> tuple[frozenset[str], ...]:
        """Which circuits hang together on one wire of a sort: the feed, or the return."""
        groups: list[set[str]] = []
        for item in self.circuit:
            wire = item.wire_of(carries)
            if wire is None or not wire.shared_with:
                continue
            here = {item.name, *wire.shared_with}
            apart = [group for group in groups if not group & here]
            groups = [*apart, here.union(*(group for group in groups if group & here))]
        return tuple(frozenset(group) for group in groups)

    def as_data(self) -> dict:
        """Plain data, as the file and the log keep it; what is not known is left out."""
        data = self.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
        return {"model": self.model} | data

    @classmethod
    def from_data(cls, data: object, where: str = "card") -> MachineCard:
        """Check plain data; raises SheetError naming the table, the key, and the nearest known one."""
        if not isinstance(data, dict):
            raise SheetError(tr("{where}: is no card", where=where))
        try:
            return cls.model_validate(data)
        except ValidationError as error:
            raise SheetError(f"{where}: {_fault(error)}") from None


_TABLES = {
    "circuit": CardCircuit, "wire": Wire, "published": Published, "relearn": Relearn, "steps": RelearnStep,
    "code": CardCode,
}  # fmt: skip


def _fault(error: ValidationError) -> str:
    """The first thing wrong, with the table that it is in, counted from one."""
    faults = error.errors(include_url=False)
    place = next((this_fault for this_fault in faults if this_fault["type"] == "extra_forbidden"), faults[0])["loc"]
    inside, table = "", MachineCard
    for at, part in enumerate(place[:-1]):
        if part in _TABLES:
            table = _TABLES[part]
            number = place[at + 1] if at + 1 < len(place) else None
            inside += f"{part} {number + 1}, " if isinstance(number, int) else f"{part}, "
    fault = next((this_fault for this_fault in faults if this_fault["type"] == "extra_forbidden"), faults[0])
    named = next((str(item) for item in reversed(fault["loc"]) if isinstance(item, str)), "")
    if fault["type"] in ("extra_forbidden", "literal_error", "missing"):
        said = first_fault(error, table)
    else:
        found = fault["input"]
        shown = tr(" (found {found})", found=repr(found)[:60]) if not isinstance(found, dict | list | tuple) else ""
        said = fault["msg"].removeprefix("Value error, ")
        said = f"{named}: {said}{shown if 'did you mean' not in said else ''}" if named not in _TABLES else said
    return (tr("in {inside}: ", inside=inside.removesuffix(", ")) if inside else "") + said
