"""A reading judged as it is entered: by the card where it publishes something of it, else by the model of the circuit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sagen.kinds.kind import kind_of
from sagen.meter import Accuracy, judge, stored_accuracy, typed_digit
from sagen.meter.published import RowVerdict, against_rows, material_of, rows_for
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.language import joined_or, tr
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.quantities import TEMPERATURE
from sagen.model.trail import ReadingEntry, ValueEntry
from sagen.model.vocabulary import Judged, Point
from sagen.model.words import QUANTITIES, said_range
from sagen.reason.words import usual_bands
from sagen.reason.world import world_of

BY_CARD, BY_MODEL, PUBLISHED = tr("the card"), tr("the model"), tr("the published ohms")


def card_circuit(card: MachineCard | None, name: str, spec: CircuitSpec | None = None) -> CardCircuit | None:
    """The card's circuit of a name; without a name, the only one of the role and bank."""
    if card is None:
        return None
    if name and (found := card.of(name)) is not None:
        return found
    alike = [
        item for item in card.circuit if spec is not None and item.role == spec.role and spec.bank in (None, item.bank)
    ]
    return alike[0] if len(alike) == 1 else None


def judged_reading(entry: ReadingEntry, spec: CircuitSpec, card: MachineCard | None = None) -> ReadingEntry:
    """The entry with what it was against its limits; as it is where nothing is known of such a reading."""
    verdict = reading_verdict(entry, spec, card)
    if verdict is None:
        return entry
    judged, by, _ = verdict
    return replace(entry, judged=judged, against=by)


def reading_verdict(
    entry: ReadingEntry, spec: CircuitSpec, card: MachineCard | None = None
) -> tuple[Judged, str, str] | None:
    """What a reading is against its limits, by what, and in words; None where nothing is known of it."""
    circuit = card_circuit(card, entry.circuit, spec)
    how = _how(entry)
    if circuit is not None:
        rows = rows_for(circuit, entry.point, entry.state, ohms=entry.ohms)
        try:
            found = against_rows(rows, entry.value, material=material_of(circuit), **how) if rows else None
        except SagenError:
            found = None
        if found is not None:
            return found.judged, BY_CARD, found.text
    if entry.ohms and entry.point == Point.SENSOR:
        if not spec.ohms:
            return None
        said = judge(
            entry.value, "ohm", *spec.ohms, temperature=entry.temperature_c, leads=entry.leads_ohm,
            material=kind_of(spec.sensor).material, accuracy=how["accuracy"], digit=how["digit"],
        )  # fmt: skip
        return Judged(said.verdict), PUBLISHED, said.text
    limits = model_limits(spec, entry.point, entry.state, ohms=entry.ohms)
    if limits is None:
        return None
    said = _against_bands(entry, limits, how)
    return said, BY_MODEL, ""


def _how(entry: ReadingEntry | ValueEntry) -> dict:
    """Temperature, leads, accuracy and last digit of a reading, as the judge takes them."""
    shown = entry.shown.split(" ")[0] if entry.shown else ""
    digit = None
    if shown and shown.replace(",", "").replace(".", "").replace("-", "").isdigit():
        unit = entry.shown.rpartition(" ")[2]
        digit = typed_digit(shown) * {"mV": 1e-3, "kΩ": 1e3, "MΩ": 1e6, "mA": 1.0}.get(unit, 1.0)
    accuracy = Accuracy.parse(entry.accuracy) if entry.accuracy else stored_accuracy()
    return {"temperature": entry.temperature_c, "leads": entry.leads_ohm, "accuracy": accuracy, "digit": digit}


def model_limits(spec: CircuitSpec, point: str, state: str, *, ohms: bool) -> list[tuple[float, float]] | None:
    """Where nearly all sound circuits read, as bands (a signal at rest has two levels); None where it cannot be read."""
    drawn = world_of(spec).expected(point, state, ohms=ohms)
    return None if drawn is None else usual_bands(drawn, ohms)


def _against_bands(entry: ReadingEntry, bands: list[tuple[float, float]], how: dict) -> Judged:
    """Inside, outside or too close, by the model: it knows the usual, not this machine, so that only what lies well
    beyond is called outside."""
    value = max(entry.value - (entry.leads_ohm if entry.ohms else 0.0), 0.0) if entry.ohms else entry.value
    error = 2 * (how["accuracy"] or Accuracy()).standard(value, how["digit"] or 0.01)
    for low, high in bands:
        if low - error <= value <= high + error:
            return Judged.INSIDE
    # By the nearest level that this machine's designs have, not by how far these lie apart: a signal that rests at 5 or at
    # 12 V rests at neither with 0.06.
    least = 1.0 if entry.ohms else 0.05
    near = any(abs(value - edge) <= max(ROOM * abs(edge), least) for band in bands for edge in band)
    return Judged.TOO_CLOSE if near else Judged.OUTSIDE


ROOM = 0.15  #: share of a level that a sound machine of another design may lie beyond it


def judged_value(entry: ValueEntry, card: MachineCard) -> tuple[ValueEntry, RowVerdict | None]:
    """A reading by the card with what it was against its rows."""
    circuit = card.of(entry.circuit)
    rows = [
        item for item in (circuit.published if circuit else ())
        if item.between == entry.between and item.quantity == entry.quantity and item.state in (None, entry.state)
        and item.when == entry.when
    ]  # fmt: skip
    if not rows:
        return entry, None
    found = against_rows(rows, entry.value, material=material_of(circuit), **_how(entry))
    return replace(entry, judged=found.judged, against=BY_CARD), found


def published_limits(row: Published) -> str:
    """A row's limits in words."""
    unit = QUANTITIES[row.quantity]
    if row.over:
        (cold, *_), (warm, *_) = row.over[0], row.over[-1]
        return tr("by temperature, {cold} to {warm}", cold=TEMPERATURE.said(cold), warm=TEMPERATURE.said(warm))
    if row.low is None:
        return tr("at most {high:g} {unit}", high=row.high, unit=unit)
    if row.high is None:
        return tr("at least {low:g} {unit}", low=row.low, unit=unit)
    return tr("{low:g} to {high:g} {unit}", low=row.low, high=row.high, unit=unit)


def published_words(rows: Sequence[Published]) -> str:
    """What rows publish, in a sentence."""
    told = [
        published_limits(row)
        + (tr(" at {at}", at=TEMPERATURE.said(row.at)) if row.at is not None else "")
        + (f" ({row.maker})" if row.maker else "")
        for row in rows
    ]
    return tr("{told}, by the card.", told=joined_or(told))


def expected_reading(
    spec: CircuitSpec, card: MachineCard | None, name: str, point: str, state: str, *, ohms: bool
) -> str:
    """What a sound circuit reads at a point, in words, and by what: the card where it says, else the model."""
    circuit = card_circuit(card, name, spec)
    rows = rows_for(circuit, Point(point), state, ohms=ohms) if circuit is not None else ()
    if rows:
        return published_words(rows)
    if ohms and point == Point.SENSOR:
        return (
            tr("{it} at {at}, as published.", it=said_range(*spec.ohms, True), at=TEMPERATURE.said(20.0))
            if spec.ohms
            else ""
        )
    bands = model_limits(spec, point, state, ohms=ohms)
    if bands is None:
        return ""
    return tr("{bands}, by the model.", bands=joined_or(said_range(low, high, ohms) for low, high in bands))
