"""A known-good capture on the shelf."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import PatternSource, Role, word


@dataclass(frozen=True)
class Pattern:
    """A known-good capture: of which kind of machine (a card's title) and circuit, in which state and at which speed, and
    where it is from. `token` is the capture's on the shelf; speeds in rpm of the circuit's own shaft."""

    name: str
    token: str
    sheet: Sheet
    source: PatternSource
    card: str = ""
    circuit: str = ""
    rpm: float | None = None
    id: int = 0
    created: datetime | None = None
    by: str = ""  #: who kept it

    def __post_init__(self):
        object.__setattr__(self, "source", word(PatternSource, self.source, "source"))

    @property
    def roles(self) -> frozenset[Role]:
        """The roles of its sensors."""
        return frozenset(item.role for item in self.sheet.channel if item.role not in RAILS)

    def as_data(self) -> dict:
        """Plain data, as the shelf keeps it."""
        return {
            "name": self.name, "token": self.token, "sheet": self.sheet.model_dump(mode="json", exclude_none=True),
            "source": str(self.source), "card": self.card, "circuit": self.circuit, "rpm": self.rpm,
            "by": self.by,
        }  # fmt: skip

    @classmethod
    def from_data(cls, data: dict, *, id: int = 0, created: datetime | None = None) -> Pattern:
        """From plain data; raises ValueError, TypeError, KeyError or SheetError for what makes no sense."""
        sheet = Sheet.from_data(data["sheet"], where=tr("stored sheet"))
        rpm = data.get("rpm")
        return cls(
            str(data["name"]), str(data["token"]), sheet, data["source"], str(data.get("card", "")),
            str(data.get("circuit", "")), float(rpm) if rpm is not None else None, id, created,
            str(data.get("by", "")),
        )  # fmt: skip


RAILS = (Role.SUPPLY, Role.GROUND, Role.OTHER)


def fits(pattern: Pattern, sheet: Sheet, card: str, circuit: str) -> bool:
    """Whether a pattern is of the circuit and state that a capture's sheet is of. Without a card, a wheel and a kind of
    sensor alike are asked for."""
    if pattern.sheet.conditions.state != sheet.conditions.state:
        return False
    if pattern.sheet.conditions.connection != sheet.conditions.connection:
        return False
    mine = {(item.role, item.sensor, item.wheel, item.bank) for item in sheet.channel if item.role not in RAILS}
    theirs = {
        (item.role, item.sensor, item.wheel, item.bank) for item in pattern.sheet.channel if item.role not in RAILS
    }
    if card and pattern.card == card and pattern.circuit == circuit:
        # A circuit without a name is the only one of its job: there the kind of sensor must be the same, and no wheel another.
        own, of = ({(role, sensor, bank): wheel for role, sensor, wheel, bank in rows} for rows in (mine, theirs))
        if circuit:
            return {item[0] for item in mine} <= {their[0] for their in theirs}
        if mine and all(
            place in of and (None in (wheel, of[place]) or wheel == of[place]) for place, wheel in own.items()
        ):
            return True
    alike = {(role, sensor, wheel) for role, sensor, wheel, _ in theirs}
    return (
        bool(mine)
        and card == pattern.card
        and all(wheel and (role, sensor, wheel) in alike for role, sensor, wheel, _ in mine)
    )
