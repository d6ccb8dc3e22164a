"""A reading judged against what is published of a machine: rows of its card."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise

from sagen.meter.judge import Accuracy, Verdict, judge
from sagen.meter.limits import TableRow, between_rows
from sagen.model.errors import SagenError
from sagen.model.language import joined_or, titled, tr
from sagen.model.machine_card import CardCircuit, Published, Wire
from sagen.model.quantities import TEMPERATURE
from sagen.model.vocabulary import CardQuantity, Judged, Point, SensorKind, State, WireIs

#: other words for what the far lead of a meter lies on
TO_BODY = frozenset({"body", "earth", tr("battery negative"), "ground", "minus", "-"})
#: where volts are measured, and which wire, by what it carries
POINT_OF_WIRE = {
    WireIs.SUPPLY: Point.SUPPLY,
    WireIs.SIGNAL: Point.SIGNAL,
    WireIs.GROUND: Point.GROUND,
    WireIs.SHIELD: Point.SHIELD,
}
WIRE_POINT = {WireIs.SUPPLY: Point.SUPPLY_WIRE, WireIs.SIGNAL: Point.SIGNAL_WIRE, WireIs.GROUND: Point.GROUND_WIRE}
MATERIAL = {SensorKind.RELUCTANCE: "copper"}


@dataclass(frozen=True)
class RowLimits:
    """A row's limits at a temperature; `note` says where they were not published for it."""

    low: float
    high: float
    note: str = ""
    slope: float = 0.0  #: share of the limits a kelvin


def limits_at(row: Published, temperature: float | None) -> RowLimits | None:
    """The limits of a row at a temperature (degC); None where they depend on one that is not known.

    Between two rows of a table they are taken as `between_rows` has it. Beyond its ends the nearest row is taken, and that said.

    Parameters
    ----------
    row : Published
    temperature : float or None
        the part's, degC
    """
    if not row.over:
        return RowLimits(-math.inf if row.low is None else row.low, math.inf if row.high is None else row.high)
    if temperature is None:
        return None
    first, last = row.over[0], row.over[-1]
    if temperature <= first[0] or temperature >= last[0]:
        end = first if temperature <= first[0] else last
        beyond = temperature not in (first[0], last[0])
        note = tr("the table ends at {end}: its row there is taken", end=TEMPERATURE.said(end[0])) if beyond else ""
        return RowLimits(end[1], end[2], note)
    (cold, *at_cold), (warm, *at_warm) = next(
        pair for pair in pairwise(row.over) if pair[0][0] <= temperature <= pair[1][0]
    )
    found = between_rows(
        TableRow(cold, *at_cold), TableRow(warm, *at_warm), temperature, ohms=row.quantity == CardQuantity.OHM
    )
    return RowLimits(found.low, found.high, "", found.slope)


@dataclass(frozen=True)
class RowVerdict:
    """A reading against one row: what it came to, in words, and the row."""

    row: Published
    judged: Judged
    probability: float
    text: str
    low: float = -math.inf
    high: float = math.inf


def against(
    row: Published,
    value: float,
    *,
    temperature: float | None = None,
    leads: float = 0.0,
    accuracy: Accuracy | None = None,
    digit: float | None = None,
    material: str = "none",
) -> RowVerdict:
    """Judge a reading in the row's unit. `temperature` (degC) is the part's; `leads` (ohm) are taken off ohms.

    Raises
    ------
    SagenError
        for figures that make no sense together.

    Parameters
    ----------
    row : Published
    value : float
        in the row's unit
    temperature : float or None
        degC
    leads : float
        ohm
    accuracy : Accuracy or None
        the meter's; nothing is said of its doubt where None
    digit : float or None
        one count of the last digit, in the row's unit
    material : str
        of what the ohms are of: which temperature coefficient applies

    References
    ----------
    JCGM 106:2012, 7. From memory.
    """
    limits = limits_at(row, temperature)
    if limits is None:
        cold, warm = row.over[0][0], row.over[-1][0]
        return RowVerdict(
            row,
            Judged.TOO_CLOSE,
            0.5,
            tr(
                "Published from {cold} to {warm}: state the part's temperature.",
                cold=TEMPERATURE.said(cold),
                warm=TEMPERATURE.said(warm),
            ),
        )
    ohms = row.quantity == CardQuantity.OHM
    done: Verdict = judge(
        value, str(row.quantity), limits.low, limits.high, at=20.0 if row.at is None or row.over else row.at,
        temperature=temperature if ohms and not row.over and row.at is not None else None,
        material=material if ohms else "none", leads=leads if ohms else 0.0, accuracy=accuracy, digit=digit,
        slope=limits.slope,
    )  # fmt: skip
    maker = tr(" (maker {maker})", maker=row.maker) if row.maker else ""
    note = f" {titled(limits.note)}." if limits.note else ""
    # What is taken beyond a table's end is no published limit: it cannot condemn a part.
    judged = Judged(done.verdict) if not limits.note or done.verdict == Judged.INSIDE else Judged.TOO_CLOSE
    return RowVerdict(
        row, judged, done.probability_inside, f"{done.text.rstrip('.')}{maker}.{note}", limits.low, limits.high
    )


def against_rows(rows: Iterable[Published], value: float, **how) -> RowVerdict | None:
    """Judge a reading against rows of which each is for another maker: inside where any holds it, and said of which;
    None without rows. Other arguments as `against`.

    Parameters
    ----------
    rows : iterable of Published
        each for another maker
    value : float
        in the rows' unit
    """
    found = [against(row, value, **how) for row in rows]
    if not found:
        return None
    order = {Judged.INSIDE: 0, Judged.TOO_CLOSE: 1, Judged.OUTSIDE: 2}
    best = min(found, key=lambda item: (order[item.judged], -item.probability))
    makers = [item.row.maker for item in found if item.judged == Judged.INSIDE and item.row.maker]
    others = [item.row.maker for item in found if item.judged == Judged.OUTSIDE and item.row.maker]
    if len(found) > 1 and makers:
        more = tr(" Fits {makers}", makers=joined_or(makers)) + (
            tr(", not {others}.", others=joined_or(others)) if others else "."
        )
        return RowVerdict(best.row, best.judged, best.probability, best.text + more, best.low, best.high)
    return best


def rows_for(circuit: CardCircuit, point: Point, state: State, *, ohms: bool) -> tuple[Published, ...]:
    """The rows of a card's circuit that speak of a reading at a point in a state.

    Parameters
    ----------
    circuit : CardCircuit
    point : Point
    state : State
    ohms : bool
        rows in ohm instead of V
    """
    quantity = CardQuantity.OHM if ohms else CardQuantity.VOLT
    return tuple(
        item for item in circuit.published
        if item.quantity == quantity and not item.when and item.state in (None, state) and point_of(item, circuit) == point
    )  # fmt: skip


def point_of(row: Published, circuit: CardCircuit) -> Point | None:
    """Which probe point of the model a row speaks of; None for any other pair of points.

    Parameters
    ----------
    row : Published
        pins or names of two points
    circuit : CardCircuit
        with its wires
    """
    alone = len(row.between) == 1  # then it is the wire that is meant, not what the other lead lies on
    wires = [
        _wire(name, circuit) for name in row.between if alone or name.lower() not in TO_BODY or _pin(name, circuit)
    ]
    to_body = not alone and any(name.lower() in TO_BODY for name in row.between)
    if any(wire is None for wire in wires):
        return None
    if row.quantity == CardQuantity.OHM:
        if len(wires) == 2 and wires[0] == wires[1]:
            return WIRE_POINT.get(wires[0].carries)
        carried = {wire.carries for wire in wires} | ({WireIs.GROUND} if to_body else set())
        return Point.SENSOR if len(row.between) == 2 and WireIs.SUPPLY not in carried and len(carried) == 2 else None
    far = [wire for wire in wires if wire.carries != WireIs.GROUND]
    if len(far) > 1:
        return None
    chosen = far[0] if far else (wires[0] if wires else None)
    return POINT_OF_WIRE.get(chosen.carries) if chosen else None


def _pin(name: str, circuit: CardCircuit) -> bool:
    return any(name in (item.sensor_pin, item.module_pin) for item in circuit.wire)


def _wire(name: str, circuit: CardCircuit) -> Wire | None:
    """The wire that a name means: a pin at either end, else what it carries."""
    pin = next((item for item in circuit.wire if name in (item.sensor_pin, item.module_pin)), None)
    return pin or next((item for item in circuit.wire if item.carries == name.lower()), None)


def material_of(circuit: CardCircuit) -> str:
    """What the sensor's ohms follow with the temperature.

    Parameters
    ----------
    circuit : CardCircuit
        with its kind of sensor
    """
    return MATERIAL.get(circuit.sensor, "none")


__all__ = [
    "RowLimits",
    "RowVerdict",
    "SagenError",
    "against",
    "against_rows",
    "limits_at",
    "material_of",
    "point_of",
    "rows_for",
]
