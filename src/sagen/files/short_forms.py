"""Entries of a job file that are written otherwise than they are kept: what a sensor in the hand counted, what was taken apart,
a photo by its name, a pressure, the battery's volts, and published values."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from sagen.model.bench_count import bench_records
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SheetError, unknown_name
from sagen.model.language import tr
from sagen.model.machine_card import MachineCard
from sagen.model.trail import CardEntry, InspectionEntry, PhotoEntry, Record, StepEntry, ValueEntry
from sagen.model.typed import typed_figure
from sagen.model.vocabulary import CardQuantity, Quantity, StepKind

BATTERY = "battery"
#: kPa a unit (BIPM SI brochure, table 8, and NIST SP 811, B.8, from memory)
KILOPASCAL = {"kpa": 1.0, "psi": 6.894757, "bar": 100.0, "mpa": 1000.0, "pa": 0.001}
_PRESSURE = re.compile(r"^\s*(-?[0-9]+(?:[.,][0-9]+)?)\s*([a-zA-Z]+)\s*$")
PARTS = ("new", "own")


def _bench(row: Mapping) -> Record:
    if row["bench"] != "counts":
        raise ValueError(tr("bench: {it}", it=unknown_name("value", str(row["bench"]), ["counts"])))
    for key in ("pulses", "passes"):
        if isinstance(row.get(key), bool) or not isinstance(row.get(key), int):
            raise ValueError(tr("{key}: how many there were, a whole number", key=key))
    part = row.get("part")
    if part not in PARTS:
        raise ValueError(tr("part: {it}: of which sensor it was", it=unknown_name("value", str(part), PARTS)))
    made = bench_records(row["passes"], row["pulses"], way="", new_part=part == "new")
    # The note beside an answer says the same in words.
    return next((item for item in made if isinstance(item, InspectionEntry)), made[0])


def _apart(row: Mapping) -> Record:
    named = {key: row[key] for key in ("size", "owes", "place", "back") if key in row}
    return StepEntry.of({"step": row.get("step", StepKind.APART), "what": row["apart"], **named})


def _photo(row: Mapping) -> Record:
    name = row["photo"]
    if not isinstance(name, str) or not name.strip():
        raise ValueError(tr("photo: names no file"))
    caption = row.get("caption", "")
    if not isinstance(caption, str):
        raise ValueError(tr("caption: {caption} is not text", caption=repr(caption)))
    return PhotoEntry("", caption or name)


def _pressure(row: Mapping) -> Record:
    told, at = row["pressure"], row.get("at", "pressure")
    if isinstance(told, str):
        found = _PRESSURE.match(told)
        unit = found[2].lower() if found else ""
        if unit not in KILOPASCAL:
            raise ValueError(
                tr("pressure: '{told}' is no number of {kilopascal}", told=told[:40], kilopascal=", ".join(KILOPASCAL))
            )
        told = typed_figure(found[1]) * KILOPASCAL[unit]
    data = {"between": (at,) if isinstance(at, str) else at, "quantity": CardQuantity.KILOPASCAL, "value": told}
    return ValueEntry.of(data | ({"state": row["state"]} if "state" in row else {}))


def _battery(row: Mapping) -> Record:
    if row["reading"] != Quantity.VOLTS:
        raise ValueError(
            tr("reading: {it}: a battery has volts", it=unknown_name("value", str(row["reading"]), [Quantity.VOLTS]))
        )
    named = {key: row[key] for key in ("state", "accuracy") if key in row}
    return ValueEntry.of({"between": (BATTERY,), "quantity": CardQuantity.VOLT, "value": row.get("value"), **named})


#: by first key: the other keys that it may have, and what makes the record of it
SHORT: dict[str, tuple[tuple[str, ...], Callable[[Mapping], Record]]] = {
    "bench": (("pulses", "passes", "part"), _bench),
    "apart": (("step", "size", "owes", "place", "back"), _apart),
    "photo": (("caption",), _photo),
    "pressure": (("at", "state"), _pressure),
}


def of_battery(row: Mapping) -> bool:
    """Whether a `reading` is of the battery, which is no point of a sensor's circuit."""
    return "reading" in row and row.get("point") == BATTERY


def record_of(kind: str, row: Mapping) -> Record:
    """The record of a row whose first key is `kind`; raises ValueError with what is wrong."""
    return _battery(row) if kind == "reading" else SHORT[kind][1](row)


def card_of(rows: object, circuits: Mapping[str, CircuitSpec], where: str) -> tuple[CardEntry, dict[str, CircuitSpec]]:
    """`[[published]]` as the card of a machine that nobody named, and the circuits with the published ohms of their sensors
    where the file states none; rows are as on a card, and may name their `circuit`.

    Raises
    ------
    SheetError
        for a row that makes no sense, or names no circuit of the file.
    """
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise SheetError(tr("{where}: published must be tables, written [[published]]", where=where))
    of: dict[str, list[dict]] = {name: [] for name in circuits}
    for number, row in enumerate(rows, start=1):
        name = row.get("circuit", next(iter(circuits)))
        if name not in of:
            raise SheetError(
                tr(
                    "{where}: published {number}: {it}",
                    where=where,
                    number=number,
                    it=unknown_name("circuit", str(name), circuits),
                )
            )
        of[name].append({key: value for key, value in row.items() if key != "circuit"})
    tables = [
        {"name": name or str(spec.role), "role": spec.role, "sensor": spec.sensor, "published": of[name]}
        for name, spec in circuits.items()
    ]
    card = MachineCard.from_data({"model": "not stated", "circuit": tables}, where)
    told = {
        name: spec.model_copy(update={"ohms": own.ohms}) if spec.ohms is None and own.ohms is not None else spec
        for (name, spec), own in zip(circuits.items(), card.circuit, strict=True)
    }
    return CardEntry(card.as_data()), told
