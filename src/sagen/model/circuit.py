"""One sensor with its wires, supply, module input and wheel, as a job states it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, field_validator

from sagen.model.errors import SheetError
from sagen.model.language import tr
from sagen.model.sheet import one_of
from sagen.model.vocabulary import CIRCUIT_ROLES, Position, Role, SensorKind
from sagen.model.wheel import Wheel

Positive = Annotated[float, Field(gt=0, allow_inf_nan=False)]


def _ordered(value: tuple[float, float]) -> tuple[float, float]:
    if not 0 < value[0] < value[1]:
        raise ValueError(tr("two ohms, the lower one first"))
    return value


#: values of the model by the names that older circuit files have for them
RENAMED = {"touch_ohm": "short_to_feed_ohm"}


class CircuitSpec(BaseModel):
    """`[circuit]` of a job or of a circuit file. Volts and ohms."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    role: Annotated[Role, one_of(Role, CIRCUIT_ROLES)] = Role.CRANK
    sensor: Annotated[SensorKind, one_of(SensorKind)] = SensorKind.HALL
    bank: Annotated[int, Field(ge=1, le=4)] | None = None
    position: Annotated[Position, one_of(Position)] | None = None
    #: which of several sensors of its role: the second crank sensor is 2
    number: Annotated[int, Field(ge=1, le=8)] | None = None
    supply: Annotated[Positive, Field(le=60)] | None = None
    pull_up: Annotated[Positive, Field(le=60)] | None = None
    wires: Literal[2, 3] | None = None
    #: knock: how many sensors listen to one block
    sensors: Annotated[int, Field(ge=1, le=4)] | None = None
    wheel: str | None = None
    ohms: Annotated[tuple[float, float], AfterValidator(_ordered)] | None = None
    values: dict[str, object] = Field(default_factory=dict)

    @field_validator("values", mode="before")
    @classmethod
    def _todays_names(cls, value: object) -> object:
        """Values of the model that circuits of older files call otherwise."""
        return {RENAMED.get(name, name): number for name, number in value.items()} if isinstance(value, dict) else value

    @field_validator("wheel", mode="before")
    @classmethod
    def _wheel_text(cls, value: object) -> object:
        if value is None:
            return None
        text = str(value)
        try:
            Wheel.parse(text)
        except SheetError as error:
            raise ValueError(str(error)) from None
        return text

    @property
    def declared_wheel(self) -> Wheel | None:
        return Wheel.parse(self.wheel) if self.wheel else None

    @property
    def supply_v(self) -> float:
        """Stated feed; 12 V where a powered sensor states none."""
        return self.supply or 12.0

    @property
    def regulated(self) -> bool:
        """Whether the feed is the module's own regulated one rather than the battery's."""
        return self.supply_v < 9.0
