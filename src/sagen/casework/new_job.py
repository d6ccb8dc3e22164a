"""What a new job's trail begins with: what was said, the machine's card, and the circuits that it is about."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from sagen.casework.card_filling import circuits_to_state
from sagen.codes import known_meaning
from sagen.files.jobs import likely_sensor
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.machine_card import MachineCard
from sagen.model.trail import CardEntry, CircuitEntry, CodeEntry, NoteEntry, Record
from sagen.model.vocabulary import Position, Role


class Spot(NamedTuple):
    """Where a sensor sits on an engine that is seen from above."""

    role: Role
    bank: int | None = None  #: of an engine with two
    position: Position | None = None

    @property
    def words(self) -> str:
        """What it is called on the picture; its bank stands beside it."""
        return {
            (Role.CRANK, None): tr("Crank"), (Role.CAM, None): tr("Cam"), (Role.CAM, Position.INTAKE): tr("Cam, intake"),
            (Role.CAM, Position.EXHAUST): tr("Cam, exhaust"), (Role.KNOCK, None): tr("Knock"), (Role.SPEED, None): tr("Speed"),
        }[self.role, self.position]  # fmt: skip

    @property
    def name(self) -> str:
        """What its circuit is called in a job of several, in English as files have it."""
        return " ".join(str(item) for item in (self.role, self.bank, self.position) if item is not None)

    def is_of(self, role: str, bank: int | None, position: str | None) -> bool:
        """Whether this is where something is said to be; what was not said may be anything."""
        return self.role == role and bank in (None, self.bank or 1) and position in (None, self.position)


#: spots of each bank, front first, and those that an engine has once
OF_BANK = ((Role.CAM, None), (Role.CAM, Position.INTAKE), (Role.CAM, Position.EXHAUST), (Role.KNOCK, None))
OF_ENGINE = (Spot(Role.CRANK), Spot(Role.SPEED))


def spots(banks: int) -> tuple[Spot, ...]:
    """All spots of an engine.

    Parameters
    ----------
    banks : int
        1 or 2
    """
    each = range(1, banks + 1) if banks > 1 else (None,)
    return (*(Spot(role, bank, position) for bank in each for role, position in OF_BANK), *OF_ENGINE)


def spots_of_codes(codes: Iterable[str], banks: int) -> set[Spot]:
    """Where codes point; one that leaves it open which of several points at the first.

    Parameters
    ----------
    codes : iterable of str
        what is no code points nowhere
    banks : int
        1 or 2
    """
    found: set[Spot] = set()
    for code in codes:
        told = known_meaning(code)
        if told is not None:
            here = [spot for spot in spots(banks) if spot.is_of(told.role, told.bank, told.position)]
            found.update(here[:1])
    return found


@dataclass(frozen=True)
class FirstTold:
    """What is known when a job begins."""

    said: tuple[Record, ...]  #: complaint, codes, what was changed before
    card: MachineCard | None = None
    pressed: tuple[Spot, ...] = ()  #: the circuits, as pressed on the picture
    wires: int | None = None  #: at the plug, where they were counted

    def records(self) -> list[Record]:
        """The entries of the trail."""
        told = [*self.said, *([CardEntry(self.card.as_data())] if self.card is not None else [])]
        if not self.pressed:
            return [*told, *(circuits_to_state(told, self.card) if self.card is not None else [])]
        codes = [item for item in self.said if isinstance(item, CodeEntry)]
        notes: list[NoteEntry] = []
        # What names no circuit speaks of the first: that is where a code points.
        coded = spots_of_codes((item.code for item in codes), 2 if any(spot.bank for spot in self.pressed) else 1)
        for spot in sorted(self.pressed, key=lambda spot: spot not in coded):
            name, spec = self._of_card(spot)
            if spec is None:
                stated = CircuitSpec(role=spot.role, bank=spot.bank, position=spot.position, wires=self.wires)
                spec, note = likely_sensor(stated, codes)
                notes = notes or [NoteEntry.of_message(note)]
            told.append(CircuitEntry(spec, circuit=name if len(self.pressed) > 1 else ""))
        return [*told, *notes]

    def _of_card(self, spot: Spot) -> tuple[str, CircuitSpec | None]:
        """The circuit's name, and how the card has it; None where it has none."""
        for item in self.card.circuit if self.card is not None else ():
            if item.spec is not None and spot.is_of(item.role, item.bank, item.position):
                return item.name, item.spec
        return spot.name, None


def banks_of(card: MachineCard | None, codes: Sequence[str]) -> int:
    """How many banks an engine has by its card and its codes; 1 where neither says so."""
    stated = [item.bank or 1 for item in card.circuit] if card is not None else []
    for code in codes:
        told = known_meaning(code)
        if told is not None:
            stated.append(told.bank or 1)
    return min(max([getattr(card, "banks", None) or 1, *stated]), 2)
