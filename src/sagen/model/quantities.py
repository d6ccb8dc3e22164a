"""Quantities as a person reads and types them, in the units that were chosen. Files, logs and what programs read hold degrees
Celsius, newton metres, millimetres and kilometres an hour. As with the language it is settled once, when this module is first
imported."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.model.choice import Choice
from sagen.model.language import figure, tr
from sagen.model.typed import typed_figure


@dataclass(frozen=True)
class Unit:
    """A unit: its sign, and what a value that is kept is in it."""

    sign: str
    times: float = 1.0
    plus: float = 0.0
    digits: int | None = None  #: behind the point, so that what is shown comes back as it was kept; None: as it is
    spelled: tuple[str, ...] = ()  #: how it is typed besides


class Quantity:
    """What is measured in one of several units, the first of which is kept; `unit` is the one that is shown."""

    def __init__(self, choice: Choice, units: dict[str, Unit]):
        self.choice, self.units = choice, units
        self.use(choice.chosen())

    def use(self, key: str) -> None:
        """Show it in a unit from here on.

        Parameters
        ----------
        key : str
            of `units`
        """
        self.unit = self.units[key]

    @property
    def sign(self) -> str:
        """The sign of the unit that is shown."""
        return self.unit.sign

    def shown(self, kept: float) -> float:
        """A value in the unit that is shown.

        Parameters
        ----------
        kept : float
            in the unit that is kept
        """
        unit = self.unit
        return kept if unit.digits is None else round(kept * unit.times + unit.plus, unit.digits)

    def said(self, kept: float) -> str:
        """A value with its unit, as "20 °C".

        Parameters
        ----------
        kept : float
            in the unit that is kept
        """
        return f"{figure(self.shown(kept), 'g')} {self.sign}"

    def typed(self, text: str, what: str) -> float:
        """A value as it was typed, in the unit that is kept; a unit behind it counts, else it is in the one that is shown.

        Parameters
        ----------
        text : str
        what : str
            named where it is none

        Raises
        ------
        ValueError
            in words, for what is no number
        """
        clean, unit = text.strip(), self.unit
        ends = ((word, other) for other in self.units.values() for word in (other.sign, *other.spelled))
        for word, other in sorted(ends, key=lambda end: -len(end[0])):
            if clean.lower().endswith(word.lower()):
                clean, unit = clean[: -len(word)].strip(), other
                break
        value = typed_figure(clean, tr("{what}, {unit}", what=what, unit=unit.sign))
        return value if unit.digits is None else round((value - unit.plus) / unit.times, 2)


#: what is chosen: the unit of temperatures, and that of all else
DEGREES, MEASURES = Choice("temperature", ("C", "F"), "C"), Choice("measures", ("metric", "inch"), "metric")
# Factors: NIST SP 811, B.8 and B.9 (inch, mile and degree are exact).
TEMPERATURE = Quantity(DEGREES, {"C": Unit("°C", spelled=("° C", "C")), "F": Unit("°F", 1.8, 32.0, 1, ("° F", "F"))})
TORQUE = Quantity(
    MEASURES,
    {
        "metric": Unit("Nm", spelled=("N·m", "N m")),
        "inch": Unit("lbf·ft", 1 / 1.355818, 0.0, 3, ("lbf ft", "lb·ft", "lb ft", "ft·lbf", "ft lb", "lb-ft", "ft-lb")),
    },
)
LENGTH = Quantity(MEASURES, {"metric": Unit("mm"), "inch": Unit("in", 1 / 25.4, 0.0, 4, ("inch", '"'))})
ROAD_SPEED = Quantity(MEASURES, {"metric": Unit("km/h", spelled=("kmh",)), "inch": Unit("mph", 1 / 1.609344, 0.0, 1)})
IN_UNITS = (TEMPERATURE, TORQUE, LENGTH, ROAD_SPEED)


def use_kept() -> None:
    """Show everything as it is kept: what programs read is the same whatever was chosen."""
    for quantity in IN_UNITS:
        quantity.unit = next(iter(quantity.units.values()))
